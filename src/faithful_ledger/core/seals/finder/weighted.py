"""Sums in which each byte counts as often as its number in the range says, over any range, from what differs between
saves of one size.

Over [s, e) such a sum is Q(e) − Q(s) − (s − 1) × (P(e) − P(s)), where P are the running sums of the bytes and Q those
of the bytes times their offsets. As in ranges.py the ends between two bytes that differ are one class. Between two
classes the steps of P and Q are known, so that s − 1 is what solves a linear congruence, the same one in all saves.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.seals.algorithms import Algorithm, own_bytes
from faithful_ledger.core.seals.finder.finding import (
    Finding,
    edge_bits,
    edges_bits,
    naturalness,
    own_bits,
    place_bits,
    said_bits,
)
from faithful_ledger.core.seals.finder.places import Edge, Place
from faithful_ledger.core.seals.finder.ranges import FILLS, Differences
from faithful_ledger.core.seals.finder.sums import before_change
from faithful_ledger.core.seals.sums import SUMS

__all__ = ["WEIGHTED", "any_weighted"]

Array: TypeAlias = np.ndarray[Any, Any]
WEIGHTED = tuple(name for name, each in SUMS.items() if each.kind == "weighted" and each.first == 1 and each.bits >= 16)
LEAST_CHANGED, MOST_CHANGED = 3, 320  # bytes that differ; each two of these are looked at
LEAST_KNOWN = 12  # bits of where a range begins that a congruence has to say
MOST_BEGINS = 64
TRIED = 12.0
CHANGED = "", "negated", "inverted"


class _Begin(NamedTuple):
    """Where a range begins, and from where to where it may end."""

    start: int
    first_end: int
    last_end: int


def any_weighted(found: Differences, place: Place, name: str) -> Iterator[Finding]:
    """Where such a sum over some range gives what is at a place, in every save. One that begins to count at 0 is the
    same from the byte behind.
    """
    bits = SUMS[name].bits
    spot = place.edge.at(found.size), place.edge.at(found.size) + place.size
    at = found.apart(place, found.at)
    if place.bits != bits or not LEAST_CHANGED <= at.size <= MOST_CHANGED:
        return
    pairs = _Pairs(found, at, bits)
    known: dict[tuple[int, ...], list[_Begin]] = {}
    for changed in CHANGED:
        numbers = [before_change(value, changed, bits) for value in place.values]
        steps = tuple(number - numbers[0] for number in numbers[1:])
        if steps not in known:
            known[steps] = pairs.begins(steps)
        algorithm = Algorithm(name, None, changed)  # type: ignore[arg-type]
        worth = said_bits(algorithm, place.values, bits) * len(set(place.values)) - TRIED
        for begin in known[steps]:
            for own in (None, *FILLS):
                for end, cost in _ends(found.contents[0], spot, begin, numbers[0], bits, own):
                    stored = place_bits(spot, found.size) + own_bits(own)
                    yield Finding(
                        algorithm,
                        Edge(begin.start),
                        Edge(end),
                        place.edge,
                        place.size,
                        place.form,
                        own,
                        bits=worth - cost - stored,
                    )


class _Pairs:
    """Each two classes of ends, with what the sums between them say about where a range of the first one begins."""

    def __init__(self, found: Differences, at: Array, bits: int) -> None:
        self.bits, self.mask = bits, np.uint64((1 << bits) - 1)
        self.first, self.second = np.triu_indices(at.size + 1, 1)
        self.low, self.high = np.concatenate(([0], at + 1)), np.concatenate((at, [found.size]))
        offsets = at.astype(np.uint64)
        first, *others = (np.frombuffer(content, np.uint8)[at].astype(np.uint64) for content in found.contents)
        self.plain = np.array([self._between(other - first) for other in others])
        self.placed = np.array([self._between((other - first) * offsets) for other in others])
        zeros = np.array([_trailing_zeros(steps, bits) for steps in self.plain])
        self.every = np.arange(self.first.size)
        self.clearest = zeros.argmin(axis=0)  # the save that says most about each
        self.shift = zeros[self.clearest, self.every].astype(np.uint64)
        self.is_clear = self.shift + np.uint64(LEAST_KNOWN) <= bits
        self.shift = np.minimum(self.shift, np.uint64(bits - 1))
        self.inverse = _inverse(self.plain[self.clearest, self.every] >> self.shift)

    def _between(self, more: Array) -> Array:
        running = np.concatenate(([np.uint64(0)], np.cumsum(more)))
        between: Array = (running[self.second] - running[self.first]) & self.mask
        return between

    def begins(self, steps: Sequence[int]) -> list[_Begin]:
        """Where ranges begin whose sums differ by these steps from that of the first save."""
        stored = np.array([step % (1 << self.bits) for step in steps], np.uint64)[:, None]
        wanted = (self.placed - stored) & self.mask
        target, within = wanted[self.clearest, self.every], self.mask >> self.shift
        fits = self.is_clear & (target & ((np.uint64(1) << self.shift) - np.uint64(1)) == 0)
        counted = (target >> self.shift) * self.inverse & within  # the start less 1
        lowest = self.low[self.first].astype(np.uint64)
        starts = lowest + ((counted + np.uint64(1) - lowest) & within)
        fits &= starts <= self.high[self.first].astype(np.uint64)
        fits &= (((starts - np.uint64(1)) * self.plain - wanted) & self.mask == 0).all(axis=0)
        return [
            _Begin(int(starts[n]), int(self.low[self.second[n]]), int(self.high[self.second[n]]))
            for n in np.flatnonzero(fits)[:MOST_BEGINS].tolist()
        ]


def _trailing_zeros(numbers: Array, bits: int) -> Array:
    """How many of the lowest bits of each are zero; all of 0."""
    lowest = numbers & (~numbers + np.uint64(1))
    found: Array = np.where(numbers == 0, bits, np.log2(np.maximum(lowest, 1).astype(np.float64))).astype(np.int64)
    return found


def _inverse(odd: Array) -> Array:
    """Of odd numbers modulo 2⁶⁴, by Newton's iteration, each step of which doubles the bits that are right."""
    found = odd.copy()
    for _ in range(5):
        found *= np.uint64(2) - odd * found
    return found


def _ends(
    content: bytes, spot: tuple[int, int], begin: _Begin, number: int, bits: int, own: str | None
) -> Iterator[tuple[int, float]]:
    """The most natural end with which the first save has the right sum, and what choosing both edges costs."""
    low, high = spot
    ends = np.arange(max(begin.first_end, begin.start + 1), begin.last_end + 1)
    ends = ends[(ends <= low) | (begin.start >= high)] if own is None else ends[(ends >= high) & (begin.start <= low)]
    if not ends.size:
        return
    seen = content if own is None else content[:low] + own_bytes(own, high - low) + content[high:]
    if len(seen) != len(content):
        return
    covered = np.frombuffer(seen, np.uint8)[begin.start : int(ends[-1])].astype(np.uint64)
    counted: Array = covered * np.arange(1, covered.size + 1, dtype=np.uint64)
    sums = np.cumsum(counted, dtype=np.uint64) & np.uint64((1 << bits) - 1)
    right = ends[sums[ends - begin.start - 1] == np.uint64(number)]
    if right.size:
        end = int(right[edge_bits(naturalness(right, spot, len(content)), len(content)).argmin()])
        yield end, edges_bits((begin.start, end), spot, len(content))
