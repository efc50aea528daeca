"""Numbers in a list beside another one that says what each is of, as in `17 4 9 …` and `30 2 12 …`: both change their
order together when a player sorts what is carried.

Such lists are seen by where the number is in each snapshot: as many places further in its list, the other one says the
same. What speaks for it are the others: most that have the same key have the same number as well, wherever they are.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from itertools import chain, islice, product
from typing import Literal, NamedTuple

import numpy as np

from faithful_ledger.core.evidence.exact import beginning_with
from faithful_ledger.core.evidence.moving_records import whole_numbers
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

    def are_apart(self, first: int, last: int) -> bool:
        """Whether the lists have no bytes in common from one number to another."""
        keys = self.key_at + self.key * first, self.key_at + self.key * (last + 1)
        numbers = self.at + self.width * first, self.at + self.width * (last + 1)
        return keys[1] <= numbers[0] or numbers[1] <= keys[0]


def places_in_lists(data: Sequence[Array], seen: Sequence[Sighting]) -> list[Place]:
    """The place of a number that is elsewhere in its list each time, the likeliest only."""
    known = whole_numbers(seen)
    if not known or max(each.size for each in data) > LARGEST:
        return []
    best: tuple[int, Place] | None = None
    for name in STORED_AS:
        width = NUMBERS[name].least_size
        if max(known) >> 8 * width:
            continue
        hits = [
            beginning_with(raw, each, np.flatnonzero(each == raw[0]))
            for each, raw in zip(data, map(NUMBERS[name].encode, known), strict=True)
        ]
        if not all(0 < each.size <= MOST_HITS for each in hits):
            continue
        moved = (
            ats for ats in product(*(each.tolist() for each in hits))
            if len(set(ats)) > 1 and not any((at - ats[0]) % width for at in ats)
        )  # fmt: skip
        for ats, (key, order) in product(islice(moved, MOST_PLACES), KEYS):
            steps = [(at - ats[0]) // width for at in ats]
            for key_at in _with_one_key(data, steps, key):
                lists = _Lists(ats[0], key_at, width, name, key, order)
                if (found := _agreeing(data, lists, steps)) is not None and (best is None or found[0] > best[0]):
                    agreed, records = found
                    values = tuple(map(float, known))
                    place = Place(ats, name, len(seen), len(seen), values=values, records=records, how=records.words)
                    best = agreed, place
    return [best[1]] if best is not None else []


def _with_one_key(data: Sequence[Array], steps: Sequence[int], width: int) -> Iterator[int]:
    """Where the first snapshot has what the others have as many keys further on: the same, and not zero."""
    low = max(0, -min(steps) * width)
    high = min(each.size - width - step * width for each, step in zip(data, steps, strict=True))
    if high < low:
        return
    parts = [each[low + step * width : high + step * width + width] for each, step in zip(data, steps, strict=True)]
    same = np.logical_and.reduce([part == parts[0] for part in parts[1:]])
    filled = parts[0] != 0
    if width == 2:
        same, filled = same[:-1] & same[1:], filled[:-1] | filled[1:]
    yield from (np.flatnonzero(same & filled)[:MOST_KEYS] + low).tolist()


def _agreeing(data: Sequence[Array], lists: _Lists, steps: Sequence[int]) -> tuple[int, KeyedRecords] | None:
    """How many of the other numbers stay with their keys, and the lists as far as they go; None where they are none."""
    first, last = min(steps), max(steps)
    keys: list[dict[int, int]] = [{} for _ in data]  # where each key is
    own = _number(data[0], lists.key_at, lists.key, lists.order)

    def takes(number: int) -> bool:
        found = [_number(each, lists.key_at + lists.key * number, lists.key, lists.order) for each in data]
        counts = [_count(each, lists, number) for each in data]
        for step, key, count, there in zip(steps, found, counts, keys, strict=True):
            is_empty = key == 0 and not count
            if key is None or count is None or (key == own) is not (number == step) or (key in there and not is_empty):
                return False
            if key == 0 and count:
                return False
        for key, there in zip(found, keys, strict=True):
            if key:
                there[key] = number
        return True

    def is_empty(number: int) -> bool:
        return not any(_number(each, lists.key_at + lists.key * number, lists.key, lists.order) for each in data)

    if not all(map(takes, range(first, last + 1))):
        return None
    while last - first < MOST and lists.are_apart(first, last + 1) and takes(last + 1):
        last += 1
        here = {_number(each, lists.key_at + lists.key * last, lists.key, lists.order) for each in data}
        if len(here) == 1 and here != {0} and is_empty(last - 1):  # behind empty places something else begins
            last -= 1
            break
    while last > max(steps) and is_empty(last):
        last -= 1
    while last - first < MOST and lists.are_apart(first - 1, last) and takes(first - 1):
        first -= 1
        if not any(_count(each, lists, first) for each in data):  # nothing of what is said to be there
            break
    while last - first < MOST and lists.are_apart(first, last + 1) and is_empty(last + 1) and takes(last + 1):
        last += 1
    if min(map(len, keys)) < LEAST_FILLED:
        return None
    agreed = common = moved = 0
    for each, there in zip(data[1:], keys[1:], strict=True):
        for key in keys[0].keys() & there.keys() - {own}:
            common += 1
            moved += keys[0][key] != there[key]
            agreed += _count(data[0], lists, keys[0][key]) == _count(each, lists, there[key])
    if moved < LEAST_MOVED or agreed < max(LEAST_FILLED, AGREED * common):
        return None
    known = Counter(chain.from_iterable(keys))
    again, filled = Counter[int](), Counter[int]()
    for key, number in chain.from_iterable(each.items() for each in keys):
        filled[number] += 1
        again[number] += known[key] > 1
    listed = [n for n, count in filled.items() if first <= n <= last and 2 * again[n] > count]  # else it is a header
    if not listed:
        return None
    begin, end = min(listed), max(listed) + 1
    while end <= last and end < max(listed) + len(keys[0]) and not filled[end]:
        end += 1
    start, keys_at = lists.at + begin * lists.width, lists.key_at + begin * lists.key
    raw = int(own or 0).to_bytes(lists.key, lists.order)
    return agreed, KeyedRecords(start, lists.width, end - begin, 0, 0, raw, lists.order, keys_at)


def _number(content: Array, at: int, width: int, order: Literal["little", "big"]) -> int | None:
    raw = content[at : at + width].tobytes() if at >= 0 else b""
    return int.from_bytes(raw, order) if len(raw) == width else None


def _count(content: Array, lists: _Lists, number: int) -> int | None:
    return _number(
        content,
        lists.at + lists.width * number,
        lists.width,
        "big" if lists.stored_as.endswith("be") else "little",
    )
