"""Checksums over ranges of which one edge is where people put it and the other one is anywhere: from a single save, or
from saves of different sizes, of which too few are alike for a search over any range.

From one edge the results over all ranges are worked out at once, from prefixes, and looked up among the values that are
stored. In a single save chance explains much: only 32 bits and more count, at places where seals usually are.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import replace
from itertools import product
from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.bit_order import mirrored
from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.seals.algorithms import Algorithm
from faithful_ledger.core.seals.finder.finding import Finding, choice_bits
from faithful_ledger.core.seals.finder.natural import HEADS, LEAST_COVERED, TAILS, Numbers, is_plain
from faithful_ledger.core.seals.finder.places import Edge, Place, alike
from faithful_ledger.core.seals.finder.ranges import Chain, chains
from faithful_ledger.core.seals.finder.rings import Prefixes
from faithful_ledger.core.seals.finder.running import RunningSums
from faithful_ledger.core.seals.sums import SUMS

__all__ = ["anchored"]

Array: TypeAlias = np.ndarray[Any, Any]
MOST_PLACES, FEW_PLACES, BESIDE = 400, 30, 12  # chance gives many hits where 16 bits are stored
USUAL = 256  # bytes from either end in which a single save's seal is looked for
MOST_HITS = 64


def anchored(
    contents: Sequence[bytes], places: Sequence[Place], until: Deadline = NEVER, named: str = ""
) -> Iterator[Finding]:
    """Findings that hold in every save, not yet counted; the commonest algorithms first, or those `named` so."""
    looking = _Anchored(contents, places)
    for chain in chains(named):
        if chain.known and looking.by_bits[chain.ring.bits]:
            yield from looking.over_chain(chain, until)
        if until.over:
            return
    for name, kind in SUMS.items():
        wanted = name.startswith(named) and kind.bits >= 16 and kind.kind != "internet"
        if wanted and len(contents) > 1 and looking.by_bits[kind.bits]:
            yield from looking.over_sums(name, until)
        if until.over:
            return


class _Wanted:
    """Values that are stored, to be found among many results."""

    def __init__(self, values: Array) -> None:
        self.values = np.unique(values)
        self.low = np.zeros(1 << 16, bool)
        self.low[(self.values & np.uint64(0xFFFF)).astype(np.intp)] = True

    def among(self, results: Array) -> list[int]:
        """Which of the results are stored somewhere."""
        likely = np.flatnonzero(self.low[(results & np.uint64(0xFFFF)).astype(np.intp)])
        found: list[int] = likely[np.isin(results[likely], self.values)].tolist()
        return found


class _Anchored:
    def __init__(self, contents: Sequence[bytes], places: Sequence[Place]) -> None:
        self.contents = contents
        self.number = min(range(len(contents)), key=lambda j: len(contents[j]))
        self.content = contents[self.number]
        self.size = len(self.content)
        self.single = len(contents) == 1
        self.numbers = [Numbers(content) for content in contents]
        self.by_bits: dict[int, list[Place]] = defaultdict(list)
        self.by_value: dict[tuple[int, int], list[Place]] = defaultdict(list)
        for place in places:
            known, most = self.by_bits[place.bits], MOST_PLACES if place.bits >= 32 else FEW_PLACES
            if len(known) < most and place.restless and (not self.single or self._is_usual(place)):
                known.append(place)
                self.by_value[place.bits, place.values[self.number]].append(place)
        self.heads = [head for head in HEADS if head <= self.size // 2]
        self.tails = [self.size - tail for tail in {*TAILS, *range(17)} if tail <= self.size // 2]
        self._wanted: dict[tuple[int, bool, int], _Wanted] = {}

    def _is_usual(self, place: Place) -> bool:
        """Whether a single save may have its seal there: near an end, at a multiple of four, and not a small number."""
        at = place.edge.at(self.size)
        near = at < USUAL or at >= self.size - USUAL
        return place.bits >= 32 and near and not is_plain(place) and (at % 4 == 0 or at >= self.size - 16)

    def wanted(self, bits: int, *, flipped: bool, out: int) -> _Wanted:
        """The values of all places as states in front of what is XORed last, as they are and inverted."""
        key = bits, flipped, out
        if key not in self._wanted:
            values = [place.values[self.number] for place in self.by_bits[bits]]
            states = np.array([mirrored(v, bits) if flipped else v for v in values], np.uint64) ^ np.uint64(out)
            self._wanted[key] = _Wanted(np.concatenate((states, states ^ np.uint64((1 << bits) - 1))))
        return self._wanted[key]

    def _anchors(self, bits: int) -> list[tuple[int, bool]]:
        """Where ranges may end, and where they may begin, each with whether it is a beginning."""
        starts, ends = set(self.heads), set(self.tails)
        for place in self.by_bits[bits][:BESIDE]:
            at = place.edge.at(self.size)
            starts.add(at + place.size)
            ends.add(at)
        return [*((end, False) for end in sorted(ends, reverse=True)), *((start, True) for start in sorted(starts))]

    # what takes byte after byte

    def over_chain(self, chain: Chain, until: Deadline) -> Iterator[Finding]:
        ring, bits = chain.ring, chain.ring.bits
        if self.single and bits < 32:
            return
        prefixes = Prefixes(ring, self.content, flipped=chain.flipped).whole
        powers = ring.powers(self.size + 1)
        states = ring.products(powers, prefixes)  # of all bytes up to each end, begun with zero
        zero = np.zeros(1, np.uint64)
        ways = []
        for algorithm, begin, out in chain.known:
            begun = ring.minus(zero, ring.times(powers, begin)) if begin else None
            ways.append((algorithm, begun, self.wanted(bits, flipped=chain.flipped, out=out)))
        for anchor, is_start in self._anchors(bits):
            if until.over:
                return
            if is_start:
                edges = np.arange(anchor + LEAST_COVERED, self.size + 1)
                plain = ring.minus(states[edges], ring.times(powers[edges], int(prefixes[anchor])))
                lengths = edges - anchor
            else:
                edges = np.arange(0, max(anchor - LEAST_COVERED + 1, 0))
                plain = ring.minus(states[anchor : anchor + 1], ring.times(prefixes[edges], ring.power(anchor)))
                lengths = anchor - edges
            for algorithm, begun, wanted in ways:
                results = ring.minus(plain, begun[lengths]) if begun is not None else plain
                hits = edges[wanted.among(results)][: MOST_HITS * (1 + (bits < 32) * 16)]
                yield from self._hits(algorithm, anchor, hits.tolist(), is_start=is_start)

    # sums

    def over_sums(self, name: str, until: Deadline) -> Iterator[Finding]:
        kind = SUMS[name]
        running = RunningSums(self.content)
        wanted = self.wanted(kind.bits, flipped=False, out=0)
        algorithm = Algorithm(name)
        for anchor, is_start in self._anchors(kind.bits):
            if until.over:
                return
            edges, results = running.from_edge(name, anchor, is_start=is_start)
            hits = edges[wanted.among(results)][: MOST_HITS * 16]
            yield from self._hits(algorithm, anchor, hits.tolist(), is_start=is_start)

    # from a hit to a finding

    def _hits(self, algorithm: Algorithm, anchor: int, hits: list[int], *, is_start: bool) -> Iterator[Finding]:
        ours, mask = self.numbers[self.number], (1 << algorithm.bits) - 1
        for free in hits:
            start, end = (anchor, free) if is_start else (free, anchor)
            if end - start < LEAST_COVERED:
                continue
            number = ours.of(algorithm, start, end, 0, 0, None)
            for changed, value in (("", number), ("inverted", ~number & mask)):
                for place in self.by_value.get((algorithm.bits, value), ()):
                    at = place.edge.at(self.size)
                    if end <= at or at + place.size <= start:
                        made = replace(algorithm, changed=changed) if changed else algorithm  # type: ignore[arg-type]
                        yield from self._edges(made, place, start, end)

    def _edges(self, algorithm: Algorithm, place: Place, start: int, end: int) -> Iterator[Finding]:
        """A range that holds in the shortest save, with its edges counted so that it holds in the others as well."""
        at, size = place.edge.at(self.size), self.size
        starts, ends = [Edge(start)], [Edge(end)]
        if not alike(self.contents):
            starts, ends = [*starts, Edge(size - start, True)], [Edge(size - end, True), *ends]
        plain = replace(algorithm, changed="") if algorithm.changed else algorithm
        others = [number for number in range(len(self.contents)) if number != self.number]  # in this one it does
        for first, last in product(starts, ends):
            made = Finding(algorithm, first, last, place.edge, place.size, place.form)
            if all(self._holds(made, plain, place, number) for number in others):
                cost = choice_bits(algorithm, (start, end), (at, at + place.size), size)
                yield replace(made, bits=place.bits * len(set(place.values)) - cost)

    def _holds(self, made: Finding, plain: Algorithm, place: Place, number: int) -> bool:
        size = len(self.contents[number])
        start, end, at = made.spans(size)
        if not 0 <= start < end <= size or not (end <= at or at + place.size <= start):
            return False
        found = self.numbers[number].of(plain, start, end, 0, 0, None)
        mask = (1 << place.bits) - 1
        return place.values[number] == (~found & mask if made.algorithm.changed else found)
