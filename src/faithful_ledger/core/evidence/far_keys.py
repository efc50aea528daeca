"""Whole numbers that are XORed with another one anywhere in the same save: a key that a game draws for each save, or
for each player, and under which it hides many numbers.

What a number would be XORed with is known for every offset; it is joined with what stands at every offset, over all
snapshots together.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from math import log2

import numpy as np

from faithful_ledger.core.evidence.content import Content
from faithful_ledger.core.evidence.place import Mask, Place
from faithful_ledger.core.evidence.places import MANY
from faithful_ledger.core.evidence.reading import Array, words_at
from faithful_ledger.core.evidence.sections import in_order, set_sections
from faithful_ledger.core.evidence.sightings import Sighting
from faithful_ledger.core.storage import NUMBERS, WholeNumber

__all__ = ["far_keyed_places", "in_sections"]

LARGEST, LARGEST_SECTIONS = 1 << 20, 1 << 18  # bytes
HIDDEN_IN = ("u32le", "u32be", "u16le", "u16be", "u64le", "u64be")
LARGE, FEW = 256, 2  # from which on fewer distinct numbers are needed
LEAST_EVIDENCE = 10.0  # bits beyond those that chance needs
LEAST_MIXED = 3  # bytes of a key that stays the same that are not zero
MOST = 50


def far_keyed_places(data: Sequence[Array], seen: Sequence[Sighting]) -> list[Place]:
    """Numbers at the same offset of every array, which are cut to the shortest, each with its key at another one; none
    where chance explains some, or in more than `LARGEST` bytes.
    """
    size = min(part.size for part in data)
    numbers = [int(each.number) for each in seen if each.number is not None and each.number.denominator == 1]
    if size > LARGEST or len(numbers) < len(seen) or min(numbers) < 0:
        return []
    if len(set(numbers)) < (FEW if min(numbers) >= LARGE else MANY):
        return []
    cut, found = [part[:size] for part in data], list[Place]()
    for name in HIDDEN_IN:
        storage = NUMBERS[name]
        assert isinstance(storage, WholeNumber)
        if storage.least_size < size and not max(numbers) >> 8 * storage.least_size:
            found += [_place(name, at, key, numbers) for at, key in _pairs(storage, cut, numbers)]
    return found


def _place(stored_as: str, at: int, key: int, numbers: Sequence[int]) -> Place:
    """Where numbers are, with where their keys are."""
    of = len(numbers)
    mask = Mask(by=Place((key,) * of, stored_as, of, of))
    return Place((at,) * of, stored_as, of, of, values=tuple(map(float, numbers)), mask=mask)


def in_sections(contents: Sequence[Content], seen: Sequence[Sighting]) -> list[Place]:
    """The same in saves whose sections change places, for numbers and keys that can be found there again."""
    layout = in_order(contents) if max(content.data.size for content in contents) <= LARGEST_SECTIONS else None
    if layout is None:
        return []
    size, starts = layout
    data = [
        np.concatenate([content.data[at : at + size] for at in each])
        for content, each in zip(contents, starts, strict=True)
    ]
    found = list[Place]()
    for place in far_keyed_places(data, seen):
        assert place.mask is not None
        assert place.mask.by is not None
        for each in (place, place.mask.by):
            section, within = divmod(each.offsets[0], size)
            each.offsets = tuple(own[section] + within for own in starts)
            set_sections(each, contents)
        if place.found_by is not None and place.mask.by.found_by is not None:
            found.append(place)
    return found


def _pairs(storage: WholeNumber, data: Sequence[Array], numbers: Sequence[int]) -> Iterator[tuple[int, int]]:
    """The offsets of numbers, each with that of its key."""
    width, size = storage.least_size, data[0].size
    every = [words_at(storage, part, np.arange(size - width + 1)) for part in data]
    hidden = [words ^ np.uint64(number) for words, number in zip(every, numbers, strict=True)]
    factors = np.random.default_rng(1).integers(1, 1 << 63, len(data), dtype=np.uint64)[:, None] | np.uint64(1)
    wanted, there = ((np.stack(each) * factors).sum(axis=0) for each in (hidden, every))
    order = np.argsort(there, kind="stable")
    low, high = (np.searchsorted(there[order], wanted, side) for side in ("left", "right"))
    found = 0
    for at in np.flatnonzero((high > low) & (hidden[0] != 0)).tolist():
        for key in order[low[at] : high[at]][:MOST].tolist():
            words = [int(each[key]) for each in every]
            is_key = words == [int(each[at]) for each in hidden] and abs(key - at) >= width
            if is_key and _is_unlikely(words, width, size) and _hides(data, at, key, storage):
                yield at, key
                found += 1
                break
        if found == MOST:
            return


def _is_unlikely(keys: Sequence[int], width: int, size: int) -> bool:
    """Whether chance hardly explains a key: one that stays the same is only found once, and may be a common number."""
    distinct = len(set(keys))
    if distinct > 1:
        return 8.0 * width * distinct >= 2 * log2(size) + LEAST_EVIDENCE
    mixed = sum(map(bool, keys[0].to_bytes(width, "big")))
    return mixed >= LEAST_MIXED and 8.0 * width >= log2(size) + LEAST_EVIDENCE


def _hides(data: Sequence[Array], at: int, key: int, storage: WholeNumber) -> bool:
    """Whether what stands at `key` hides what stands at another offset, rather than the other way round: it stands
    more often in the save, as it is what zeros are hidden as, and more numbers are small under it; or it is first.
    """
    of_key, of_number = (_hidden_under(data, offset, storage) for offset in (key, at))
    return of_key > of_number or (of_key == of_number and key < at)


def _hidden_under(data: Sequence[Array], key: int, storage: WholeNumber) -> int:
    """How many large numbers are zero, and how many are small, when they are XORed with what stands at an offset, in
    every array; those of two bytes with the lower half of it.
    """
    found = 0
    for name, bits in (("u16", 8), ("u32", 16)):
        numbers = NUMBERS[name + storage.name[-2:]]
        assert isinstance(numbers, WholeNumber)
        lanes = np.arange(data[0].size - numbers.least_size + 1)
        large, small, zero = (np.ones(lanes.size, bool) for _ in range(3))
        for part in data:
            words = words_at(numbers, part, lanes)
            mask = int(words_at(storage, part, np.array([key]))[0]) & ((1 << 8 * numbers.least_size) - 1)
            plain = words ^ np.uint64(mask)
            large &= words >> np.uint64(bits) != 0
            small &= plain >> np.uint64(bits) == 0
            zero &= plain == 0
        found += int((large & small).sum()) + int((large & zero).sum())
    return found
