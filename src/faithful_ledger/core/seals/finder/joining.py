"""What many numbers have in common with many others: by sorting what is there, and looking up only what may be."""

from __future__ import annotations

from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.scan import distinct

__all__ = ["MIXING", "Sorted", "both", "places_of", "repeated"]

Array: TypeAlias = np.ndarray[Any, Any]
FEW, AT_ONCE = 1 << 16, 1 << 15
MIXING = (0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9, 0xD6E8FEB86659FD93)  # odd, with bits all over


def both(keys: Array, others: Array) -> tuple[Array, Array]:
    """The numbers of the keys that are among others, and of these others, with more that are there twice."""
    chosen: Array = np.arange(others.size)
    if others.size > FEW:  # what is there twice, in one of them or in both
        ordered = np.sort(np.concatenate((keys, others)))
        twice = distinct(ordered[1:][ordered[1:] == ordered[:-1]])
        chosen = places_of(others, twice) if twice.size < FEW else chosen
    return places_of(keys, distinct(others[chosen])), chosen


def places_of(keys: Array, values: Array) -> Array:
    """The numbers of the keys that are one of some values, which are sorted: most are seen by a table not to be. By
    parts, so that the places in it stay near the processor.
    """
    if not values.size:
        return np.zeros(0, np.intp)
    bits = int(values.size).bit_length() + 6
    table, width = np.zeros(1 << bits, bool), 8 * keys.itemsize
    factor, rest = (keys.dtype.type(each) for each in (MIXING[0] >> (64 - width) | 1, width - bits))
    table[values.astype(keys.dtype) * factor >> rest] = True
    parts = []
    for start in range(0, keys.size, AT_ONCE):
        likely = np.flatnonzero(np.take(table, keys[start : start + AT_ONCE] * factor >> rest, mode="clip"))
        if likely.size:
            parts.append(likely + start)
    likely = np.concatenate(parts) if parts else np.zeros(0, np.intp)
    where = np.minimum(np.searchsorted(values, keys[likely]), values.size - 1)
    found: Array = likely[values[where] == keys[likely]]
    return found


class Sorted:
    """Numbers in which others are looked up."""

    def __init__(self, numbers: Array) -> None:
        self.order = np.argsort(numbers, kind="stable")
        self.numbers = numbers[self.order]

    def counted(self, others: Array) -> tuple[Array, Array]:
        """For each of the others where the first that is equal stands among the sorted ones, and how many are."""
        first = np.searchsorted(self.numbers, others, "left")
        return first, np.searchsorted(self.numbers, others, "right") - first

    def pairs(self, first: Array, counts: Array, chosen: Array) -> tuple[Array, Array]:
        """Of what was `counted` every pair of some of the others: their indices, in order, and those of the numbers."""
        each = counts[chosen]
        other = np.repeat(chosen, each)
        within = np.arange(other.size) - np.repeat(np.cumsum(each) - each, each)
        return other, self.order[first[other] + within]

    def matches(self, others: Array) -> tuple[Array, Array]:
        """Every pair of equal ones."""
        first, counts = self.counted(others)
        return self.pairs(first, counts, np.flatnonzero(counts))


def repeated(keys: Array) -> Array:
    """The places of keys that are there more than once."""
    ordered = np.sort(keys)
    twice = distinct(ordered[1:][ordered[1:] == ordered[:-1]])
    if twice.size < max(FEW, keys.size >> 4):
        return places_of(keys, twice)
    order = np.argsort(keys, kind="stable")
    ordered = keys[order]
    same = np.concatenate(([False], ordered[1:] == ordered[:-1], [False]))
    found: Array = order[same[1:] | same[:-1]]
    return found
