"""Numbers in records of one size that change places, as a player sorts what is carried: of all records the one with the
same key, a number that no other record has in common with it.

A record is seen by where the number stands in each snapshot: whole records apart, with the same bytes as far from it in
all of them. That these are a key is seen by the records around, up to where two of them would have the same.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from functools import reduce
from itertools import product
from typing import Literal, NamedTuple

import numpy as np

from faithful_ledger.core.evidence.exact import beginning_with
from faithful_ledger.core.evidence.place import KeyedRecords, Place
from faithful_ledger.core.evidence.reading import Array
from faithful_ledger.core.evidence.sightings import Sighting
from faithful_ledger.core.storage import NUMBERS

__all__ = ["keys_at", "offsets_of", "places_in_records", "set_record", "whole_numbers"]

STORED_AS = ("u16le", "u32le", "u8", "u16be", "u32be")
LARGEST, LARGEST_RECORD = 1 << 20, 64  # bytes of a payload, and of a record
LEAST_SEEN, LEAST_KEYED, MOST_RECORDS = 3, 5, 1024  # snapshots, records with keys, places for records
LEAST_SHORT = 8  # records with keys of one byte, of which a few are different by chance
MOST_HITS, MOST_KEYS = 512, 64  # places of one number, and keys beside them that are looked at
KEYS = (2, 4, 1)  # bytes of a key, the likeliest first
MORE_BITS = 2  # of a key than the longest one among those that are certainly keys
FEW_DOUBLED = 1 / 32  # the share of records with the key of another one, as the mark of an end has
LEAST_SORTED = 12  # records that follow one another by their keys
DIFFERENT_HALVES = 0.8  # the share of keys of four bytes whose halves are keys as well
MOST_DOUBLED = 0.25  # the share of records with the key of another one, as stacks of one thing have
LEAST_SHUFFLED, SHUFFLED = 3, 0.25  # records that are elsewhere, by more or less than the number, and their share
BEHIND, LEAST_SAME, SAME = 1 << 12, 8, 0.6  # bytes behind records; how many of them stay, and which share
MOST_BETWEEN = 16  # empty places in front of a record


class _Found(NamedTuple):
    """Records, the least number of them that a snapshot has, what is known of their keys, and whether these are in
    order.
    """

    records: KeyedRecords
    filled: int
    kept: _Kept
    are_sorted: bool


class _Way(NamedTuple):
    """A record has so many bytes, and its key is so far behind the number, and has so many bytes in an order."""

    size: int
    apart: int
    width: int
    order: Literal["little", "big"]


def set_record(place: Place, in_records: Sequence[Place]) -> None:
    """Let a place that moves be found by the key of its record, where it is one of those found in records."""
    if place.path is not None or place.mask is not None or place.bits_in is not None or place.scale != 1 or place.bias:
        return
    for found in in_records:
        records = found.records
        if found.offsets != place.offsets or records is None or place.stored_as not in STORED_AS:
            continue
        end = records.within + NUMBERS[place.stored_as].least_size
        beside_key = end <= records.key_at or (records.key_at < records.within and end <= records.size)
        if beside_key if records.keys is None else end == records.size:
            place.records, place.how, place.found_by = records, found.how, None


def places_in_records(data: Sequence[Array], seen: Sequence[Sighting]) -> list[Place]:
    """The places of a number that is in another record each time, the likeliest only; none in payloads of more than
    `LARGEST` bytes.
    """
    known = whole_numbers(seen)
    if not known or max(each.size for each in data) > LARGEST:
        return []
    best: tuple[tuple[bool, bool, bool, int, int, int], Place] | None = None
    for name in STORED_AS:
        width = NUMBERS[name].least_size
        offsets = offsets_of(data, known, name, MOST_HITS)
        if not offsets:
            continue
        order: Literal["little", "big"] = "big" if name.endswith("be") else "little"
        for way, ats in _ways(data, offsets, width, order):
            if (found := _records(data, way, ats, width)) is not None:
                is_aligned = way.apart % min(way.width, width) == 0
                likely = 1 if found.kept.are_wide else -KEYS.index(way.width)
                is_unique = not found.kept.has_doubled
                rank = is_unique, is_aligned, found.are_sorted, likely, found.filled, -STORED_AS.index(name)
                if best is None or rank > best[0]:
                    values, records = tuple(map(float, known)), found.records
                    here = Place(ats, name, len(seen), len(seen), values=values, records=records, how=records.words)
                    best = rank, here
    return [best[1]] if best is not None else []


def whole_numbers(seen: Sequence[Sighting]) -> list[int]:
    """What was seen, if these are enough whole numbers, and not all the same; else nothing."""
    numbers = [sighting.number for sighting in seen]
    known = [int(number) for number in numbers if number is not None and number.denominator == 1 and number >= 0]
    return known if len(known) >= max(len(seen), LEAST_SEEN) and len(set(known)) > 1 else []


def offsets_of(data: Sequence[Array], known: Sequence[int], stored_as: str, most: int) -> list[Array]:
    """Where each snapshot has its number, stored so; nothing where one does not fit, is nowhere, or at more offsets
    than are looked at.
    """
    storage = NUMBERS[stored_as]
    if max(known) >> 8 * storage.least_size:
        return []
    found = [
        beginning_with(raw, each, np.flatnonzero(each == raw[0]))
        for each, raw in zip(data, map(storage.encode, known), strict=True)
    ]
    return found if all(0 < each.size <= most for each in found) else []


def _ways(
    data: Sequence[Array], offsets: Sequence[Array], width: int, order: Literal["little", "big"]
) -> Iterator[tuple[_Way, tuple[int, ...]]]:
    """What records may be, with where the number is in each snapshot: not everywhere at the same offset, and of those
    with its key in one only.
    """
    for key, apart in product(KEYS, range(width - LARGEST_RECORD, LARGEST_RECORD)):
        reach = max(apart + key, width) - min(apart, 0)
        if reach > LARGEST_RECORD or -key < apart < width:
            continue
        keys = [keys_at(content, at + apart, key) for content, at in zip(data, offsets, strict=True)]
        common = reduce(np.intersect1d, keys)
        for number in common[common > 0][:MOST_KEYS].tolist():
            groups = [at[each == number].tolist() for at, each in zip(offsets, keys, strict=True)]
            for size in range(max(reach, 2), LARGEST_RECORD + 1):
                for rest in set.intersection(*({at % size for at in group} for group in groups)):
                    found = [[at for at in group if at % size == rest] for group in groups]
                    if all(len(each) == 1 for each in found) and len({each[0] for each in found}) > 1:
                        yield _Way(size, apart, key, order), tuple(each[0] for each in found)


def keys_at(content: Array, starts: Array, width: int) -> Array:
    """The numbers of so many bytes at some offsets; 0 where one is outside."""
    inside = (starts >= 0) & (starts <= content.size - width)
    at = np.where(inside, starts, 0)
    numbers = np.zeros(starts.size, np.int64)
    for number in range(width):
        numbers |= content[at + number].astype(np.int64) << (8 * number)
    return np.where(inside, numbers, 0)


def _records(data: Sequence[Array], way: _Way, ats: tuple[int, ...], width: int) -> _Found | None:
    """The records around a number that are told apart by their keys."""
    size, low = way.size, min(way.apart, 0)
    reach = max(way.apart + way.width, width) - low
    first = min(ats) + low
    most = max(ats) + low
    key = data[0][ats[0] + way.apart : ats[0] + way.apart + way.width].tobytes()
    kept = _Kept(data, first, reach, way.apart - low, way, int.from_bytes(key, way.order))
    if not all(kept.takes(number) for number in range((most - first) // size + 1)):
        return None
    kept.settle()
    while kept.end - kept.begin < MOST_RECORDS and kept.takes(kept.end):
        pass
    while kept.end - kept.begin < MOST_RECORDS and kept.takes(kept.begin - 1):
        pass
    begin, end = kept.taken()
    first_sorted = kept.sorted_from([(at + low - first) // size for at in ats])
    if first_sorted is not None:
        begin = max(begin, first_sorted)
    are_sorted = first_sorted is not None
    filled = min(len(keys) for keys in kept.keys)
    least = LEAST_SHORT if way.width == 1 else LEAST_KEYED
    if filled < least or not (are_sorted or kept.is_shuffled(ats) or _stays_behind(data, first + end * size)):
        return None
    start, to_end = first + begin * size, kept.go_to_end(begin, end)
    records = KeyedRecords(start, size, end - begin, -low, way.apart - low, key, way.order, to_end=to_end)
    return _Found(records, filled, kept, are_sorted)


def _stays_behind(data: Sequence[Array], at: int) -> bool:
    """Whether what is behind some records is at the same offset in all snapshots: else all may have moved, because
    something in front of them takes another size.
    """
    parts = [each[at : at + BEHIND] for each in data]
    size = min(each.size for each in parts)
    here, *others = (each[:size] for each in parts)
    filled = np.logical_or.reduce([each != 0 for each in (here, *others)])
    same = np.logical_and.reduce([here == each for each in others]) & filled
    return int(same.sum()) >= max(LEAST_SAME, SAME * int(filled.sum()))


class _Kept:
    """Records that are taken in one by one, as long as few of a snapshot have the same key, and no other one has that
    of the number.
    """

    def __init__(self, data: Sequence[Array], first: int, reach: int, key_at: int, way: _Way, own: int) -> None:
        self.own = own
        self.data, self.first, self.reach, self.at = data, first, reach, key_at
        self.size, self.width = way.size, way.width
        self.keys: list[Counter[int]] = [Counter() for _ in data]
        self.filled: list[int] = []  # the numbers of records that are not empty in every snapshot
        self.begin = self.end = 0
        self.order = way.order
        self.longest = 64

    @property
    def has_doubled(self) -> bool:
        """Whether two records have the same key, and not only a few of many."""
        return any(keys.total() - len(keys) > FEW_DOUBLED * keys.total() for keys in self.keys)

    @property
    def are_wide(self) -> bool:
        """Whether keys have four bytes, as hashes have, and not two with something else beside them: both halves of
        those that all snapshots have are different ones.
        """
        shared = set.intersection(*map(set, self.keys)) if self.width == 4 else set[int]()
        halves = min(len({key >> 16 for key in shared}), len({key & 0xFFFF for key in shared}))
        return len(shared) >= LEAST_KEYED and halves >= DIFFERENT_HALVES * len(shared)

    def sorted_from(self, own: Sequence[int]) -> int | None:
        """From which number on records are in the order of their keys, around that with the number sought in each
        snapshot, if these are many: what is in front is something else.
        """
        runs = []
        for content, number in zip(self.data, own, strict=True):
            begin = end = number
            while begin > self.begin and 0 < self._key(content, begin - 1) < self._key(content, begin):
                begin -= 1
            while end + 1 < self.end and self._key(content, end) < self._key(content, end + 1):
                end += 1
            runs.append((begin, end + 1 - begin))
        begins, counts = zip(*runs, strict=True)
        return begins[0] if min(counts) >= LEAST_SORTED and len(set(begins)) == 1 else None

    def go_to_end(self, begin: int, end: int) -> bool:
        """Whether records go on to the end of each snapshot, which have several sizes; from `begin` to `end` they are
        known.
        """
        behind = [(content.size - self.first) / self.size for content in self.data]
        if len(set(behind)) == 1 or not all(number.is_integer() for number in behind) or min(behind) > end + 1:
            return False
        for content, count in zip(self.data, behind, strict=True):
            keys = Counter(self._key(content, number) for number in range(begin, int(count)))
            if keys[0] or keys.total() - len(keys) > FEW_DOUBLED * keys.total():
                return False
        return True

    def is_shuffled(self, ats: Sequence[int]) -> bool:
        """Whether others have changed places as well, and not all by as much as the number or not at all."""
        places = [
            {key: number for number in self.filled if (key := self._key(content, number)) and keys[key] == 1}
            for content, keys in zip(self.data, self.keys, strict=True)
        ]
        moved = common = 0
        for at, there in zip(ats[1:], places[1:], strict=True):
            own = (at - ats[0]) // self.size
            by = [there[key] - number for key, number in places[0].items() if key in there]
            moved += sum(each not in (0, own) for each in by)
            common += len(by)
        return moved >= max(LEAST_SHUFFLED, SHUFFLED * common)

    def _key(self, content: Array, number: int) -> int:
        start = self.first + number * self.size + self.at
        return int.from_bytes(content[start : start + self.width].tobytes(), self.order)

    def settle(self) -> None:
        """From now on keys are hardly longer than those there are."""
        self.longest = max(max(each, default=0) for each in self.keys).bit_length() + MORE_BITS

    def takes(self, number: int) -> bool:
        """Take in the record of a number, which is beside those taken in before, if it may be one."""
        start = self.first + number * self.size
        records = [each[start : start + self.reach] for each in self.data]
        if start < 0 or any(each.size < self.reach for each in records):
            return False
        found = [self._key(each, number) for each in self.data]
        for record, key, keys in zip(records, found, self.keys, strict=True):
            if (key == 0 and record.any()) or key.bit_length() > self.longest:
                return False
            doubled = keys.total() - len(keys) + 1 if key in keys else 0
            if key in keys and (key == self.own or self.width == 1 or doubled > MOST_DOUBLED * keys.total()):
                return False
        if any(found) and self.filled and self._gap(number) > MOST_BETWEEN:
            return False
        for key, keys in zip(found, self.keys, strict=True):
            if key:
                keys[key] += 1
        if any(found):
            self.filled.append(number)
        self.begin, self.end = min(self.begin, number), max(self.end, number + 1)
        return True

    def _gap(self, number: int) -> int:
        """How many empty places are between the record of a number and the others."""
        return max(number - max(self.filled), min(self.filled) - number) - 1

    def taken(self) -> tuple[int, int]:
        """From which to which number there are records: in front up to the first that is taken, behind with as many
        empty places.
        """
        return min(self.filled), min(self.end, max(self.filled) + 1 + len(self.filled))
