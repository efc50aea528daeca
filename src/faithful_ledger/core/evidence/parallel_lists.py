"""Numbers in a list beside another one that says what each is of, as in `17 4 9 …` and `30 2 12 …`: both change their
order together when a player sorts what is carried.

Such lists are seen by where the number is in each snapshot: as many places further in its list, the other one says the
same. What speaks for it are the others: most that have the same key have the same number as well, wherever they are.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from itertools import chain, islice, product
from typing import Literal, NamedTuple

import numpy as np

from faithful_ledger.core.evidence.moving_records import keys_at, offsets_of, whole_numbers
from faithful_ledger.core.evidence.place import KeyedRecords, Place
from faithful_ledger.core.evidence.reading import Array
from faithful_ledger.core.evidence.sightings import Sighting
from faithful_ledger.core.storage import NUMBERS

__all__ = ["places_in_lists"]

STORED_AS = ("u16le", "u8", "u32le", "u16be", "u32be")
LARGEST, MOST_HITS, MOST_PLACES = 1 << 17, 24, 64  # bytes; places of one number, and of it in all snapshots
KEYS: tuple[tuple[int, Literal["little", "big"]], ...] = ((1, "little"), (2, "little"), (2, "big"))
MOST_KEYS, MOST = 4096, 512  # places at which the key of the number may be; numbers of a list
LEAST_FILLED, LEAST_MOVED = 6, 3  # numbers in each list; and those that are elsewhere in another snapshot
AGREED = 0.5  # the share of the others that stay as many; few change between two copies


class _Lists(NamedTuple):
    """Where the number and its key are in the first snapshot, and how they are stored."""

    at: int
    key_at: int
    width: int
    stored_as: str
    key: int
    order: Literal["little", "big"]

    def number_at(self, content: Array, number: int) -> int:
        """The number in the list that is so many behind the one that was seen; below 0 where there is none."""
        order: Literal["little", "big"] = "big" if self.stored_as.endswith("be") else "little"
        return _number(content, self.at + self.width * number, self.width, order)


def places_in_lists(data: Sequence[Array], seen: Sequence[Sighting]) -> list[Place]:
    """The place of a number that is elsewhere in its list each time, the likeliest only."""
    known = whole_numbers(seen)
    if not known or max(each.size for each in data) > LARGEST:
        return []
    best, found = 0, list[Place]()
    for name in STORED_AS:
        width = NUMBERS[name].least_size
        hits = offsets_of(data, known, name, MOST_HITS)
        if not hits:
            continue
        moved = (
            ats for ats in product(*(each.tolist() for each in hits))
            if len(set(ats)) > 1 and not any((at - ats[0]) % width for at in ats)
        )  # fmt: skip
        for ats, (key, order) in product(islice(moved, MOST_PLACES), KEYS):
            steps = [(at - ats[0]) // width for at in ats]
            likely = _with_one_key(data, steps, key)
            for key_at in _that_differ(data, likely, steps, _Lists(ats[0], 0, width, name, key, order)):
                grown = _Grown(data, _Lists(ats[0], key_at, width, name, key, order), steps)
                agreed = grown.agreed()
                if agreed > best and (records := grown.records()) is not None:
                    values = tuple(map(float, known))
                    place = Place(ats, name, len(seen), len(seen), values=values, records=records, how=records.words)
                    best, found = agreed, [place]
    return found


def _with_one_key(data: Sequence[Array], steps: Sequence[int], width: int) -> Array:
    """Where the first snapshot has what the others have as many keys further on: the same, and not zero."""
    low = max(0, -min(steps) * width)
    high = min(each.size - width - step * width for each, step in zip(data, steps, strict=True))
    if high < low:
        return np.empty(0, np.intp)
    parts = [each[low + step * width : high + step * width + width] for each, step in zip(data, steps, strict=True)]
    same = np.logical_and.reduce([part == parts[0] for part in parts[1:]])
    filled = parts[0] != 0
    if width == 2:
        same, filled = same[:-1] & same[1:], filled[:-1] | filled[1:]
    return np.flatnonzero(same & filled)[:MOST_KEYS] + low


def _that_differ(data: Sequence[Array], likely: Array, steps: Sequence[int], lists: _Lists) -> list[int]:
    """Of the places of a key those where the numbers between the first and the last of the steps have other ones, in
    each snapshot, and none without a key is there. All are looked at together, as there are thousands.
    """
    if max(steps) - min(steps) > MOST:
        return []
    for number, (content, step) in product(range(min(steps), max(steps) + 1), zip(data, steps, strict=True)):
        at = likely + lists.key * number
        inside = (at >= 0) & (at <= content.size - lists.key)
        keys = keys_at(content, at, lists.key)
        is_own = keys == keys_at(data[0], likely, lists.key)
        is_left = (keys == 0) & (lists.number_at(content, number) != 0)
        likely = likely[inside & (is_own == (number == step)) & ~is_left]
        if not likely.size:
            break
    found: list[int] = likely.tolist()
    return found


class _Grown:
    """Both lists as far as they go, number by number; those of the first snapshot are counted from the one that was
    seen. `keys` are where each key is, in each snapshot.
    """

    def __init__(self, data: Sequence[Array], lists: _Lists, steps: Sequence[int]) -> None:
        self.data, self.lists, self.steps = data, lists, steps
        self.first, self.last = min(steps), max(steps)
        self.keys: list[dict[int, int]] = [{} for _ in data]
        self.own = self._key(data[0], 0)

    def agreed(self) -> int:
        """How many of the other numbers are with the same keys in another snapshot; 0 where these are not lists."""
        if not all(map(self._takes, range(self.first, self.last + 1))):
            return 0
        self._grow()
        if min(map(len, self.keys)) < LEAST_FILLED:
            return 0
        agreed = common = moved = 0
        here, *others = zip(self.data, self.keys, strict=True)
        for content, there in others:
            for key in here[1].keys() & there.keys() - {self.own}:
                common += 1
                moved += here[1][key] != there[key]
                agreed += self._count(here[0], here[1][key]) == self._count(content, there[key])
        return agreed if moved >= LEAST_MOVED and agreed >= max(LEAST_FILLED, AGREED * common) else 0

    def records(self) -> KeyedRecords | None:
        """Where they are: from the first key that is in several snapshots to the last one, with as many empty places
        behind that as there may be more. What is in front of the first is a header.
        """
        lists, known = self.lists, Counter(chain.from_iterable(self.keys))
        filled, again = Counter[int](), Counter[int]()
        for key, number in chain.from_iterable(each.items() for each in self.keys):
            filled[number] += 1
            again[number] += known[key] > 1
        inside = range(self.first, self.last + 1)
        listed = [number for number in inside if filled[number] and 2 * again[number] > filled[number]]
        if not listed:
            return None
        begin, end = listed[0], listed[-1] + 1
        while end in inside and end < listed[-1] + len(self.keys[0]) and not filled[end]:
            end += 1
        start, keys_at = lists.at + begin * lists.width, lists.key_at + begin * lists.key
        return KeyedRecords(
            start, lists.width, end - begin, 0, 0, self.own.to_bytes(lists.key, lists.order), lists.order, keys_at
        )

    def _grow(self) -> None:
        """Up to where something else begins, then down, then into the empty places behind."""
        while self._may_grow(self.first, self.last + 1) and self._takes(self.last + 1):
            self.last += 1
            if self._is_empty(self.last - 1) and self._is_alike(self.last):  # behind empty places: not of the lists
                self.last -= 1
                break
        while self.last > max(self.steps) and self._is_empty(self.last):
            self.last -= 1
        while self._may_grow(self.first - 1, self.last) and self._takes(self.first - 1):
            self.first -= 1
            if not any(self._count(each, self.first) for each in self.data):  # nothing of what is said to be there
                break
        while (
            self._may_grow(self.first, self.last + 1) and self._is_empty(self.last + 1) and self._takes(self.last + 1)
        ):
            self.last += 1

    def _may_grow(self, first: int, last: int) -> bool:
        """Whether the lists would still have no bytes in common."""
        lists = self.lists
        keys = lists.key_at + lists.key * first, lists.key_at + lists.key * (last + 1)
        numbers = lists.at + lists.width * first, lists.at + lists.width * (last + 1)
        return last - first <= MOST and (keys[1] <= numbers[0] or numbers[1] <= keys[0])

    def _takes(self, number: int) -> bool:
        """Take in a number with its key, if each snapshot has both, or neither, and no key twice."""
        found = [self._key(each, number) for each in self.data]
        for content, step, key, there in zip(self.data, self.steps, found, self.keys, strict=True):
            count = self._count(content, number)
            if min(key, count) < 0 or (key == self.own) is not (number == step) or key in there or (not key and count):
                return False
        for key, there in zip(found, self.keys, strict=True):
            if key:
                there[key] = number
        return True

    def _is_empty(self, number: int) -> bool:
        return not any(self._key(each, number) for each in self.data)

    def _is_alike(self, number: int) -> bool:
        """Whether the key is the same in all snapshots, as what is not sorted is."""
        return len({self._key(each, number) for each in self.data}) == 1

    def _key(self, content: Array, number: int) -> int:
        return _number(content, self.lists.key_at + self.lists.key * number, self.lists.key, self.lists.order)

    def _count(self, content: Array, number: int) -> int:
        return self.lists.number_at(content, number)


def _number(content: Array, at: int, width: int, order: Literal["little", "big"]) -> int:
    """The number of so many bytes at an offset; below 0 where it is outside."""
    raw = content[at : at + width].tobytes() if at >= 0 else b""
    return int.from_bytes(raw, order) if len(raw) == width else -1
