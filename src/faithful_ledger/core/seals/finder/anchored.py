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
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.bit_order import mirrored
from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.seals.algorithms import Algorithm
from faithful_ledger.core.seals.finder.finding import Finding, choice_bits
from faithful_ledger.core.seals.finder.natural import HEADS, LEAST_COVERED, TAILS, is_plain
from faithful_ledger.core.seals.finder.numbers import Numbers
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
    """What is stored at each place, as states in front of what comes last, as they are and inverted, to be found among
    many results.
    """

    def __init__(self, states: Array, mask: int) -> None:
        self.states, self.mask = states, np.uint64(mask)
        both = np.concatenate((states, states ^ self.mask))
        self.order = np.argsort(both, kind="stable")
        self.sorted = both[self.order]
        self.low = np.zeros(1 << 16, bool)
        self.low[(both & np.uint64(0xFFFF)).astype(np.intp)] = True

    def among(self, results: Array) -> tuple[Array, Array, Array]:
        """Which of the results are stored, the number of the place where each is, and whether it is inverted there."""
        likely = np.flatnonzero(self.low[(results & np.uint64(0xFFFF)).astype(np.intp)])
        first = np.searchsorted(self.sorted, results[likely], "left")
        counts = np.searchsorted(self.sorted, results[likely], "right") - first
        hits, numbers = np.repeat(likely, counts), np.repeat(first, counts)
        numbers += np.arange(numbers.size) - np.repeat(np.cumsum(counts) - counts, counts)
        which = self.order[numbers]
        return hits, which % self.states.size, which >= self.states.size


class _Way(NamedTuple):
    """One algorithm of a chain: the state that it begins with, and what is XORed last."""

    chain: Chain
    begin: int
    out: int


class _Pairs(NamedTuple):
    """Ranges, each with the number of a place that has its result, and whether inverted."""

    starts: Array
    ends: Array
    places: Array
    inverted: Array

    def only(self, chosen: Array) -> _Pairs:
        return _Pairs(*(part[chosen] for part in self))


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
        self._wanted: dict[tuple[int, int, bool, int], _Wanted] = {}
        self._prefixes: dict[tuple[int, bool, int], Array] = {}
        self._offsets: dict[tuple[int, int], tuple[Array, Array]] = {}

    def _is_usual(self, place: Place) -> bool:
        """Whether a single save may have its seal there: near an end, at a multiple of four, and not a small number."""
        at = place.edge.at(self.size)
        near = at < USUAL or at >= self.size - USUAL
        return place.bits >= 32 and near and not is_plain(place) and (at % 4 == 0 or at >= self.size - 16)

    def wanted(self, number: int, bits: int, *, flipped: bool, out: int) -> _Wanted:
        """The values of all places in a save as states in front of what is XORed last."""
        key = number, bits, flipped, out
        if key not in self._wanted:
            values = [place.values[number] for place in self.by_bits[bits]]
            states = np.array([mirrored(v, bits) if flipped else v for v in values], np.uint64) ^ np.uint64(out)
            self._wanted[key] = _Wanted(states, (1 << bits) - 1)
        return self._wanted[key]

    def offsets(self, number: int, bits: int) -> tuple[Array, Array]:
        """Where all places begin and end in a save."""
        if (number, bits) not in self._offsets:
            places, size = self.by_bits[bits], len(self.contents[number])
            starts = np.array([place.edge.at(size) for place in places], np.intp)
            self._offsets[number, bits] = starts, starts + np.array([place.size for place in places], np.intp)
        return self._offsets[number, bits]

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
        self._prefixes.clear()  # each chain is looked at once
        prefixes = self.prefixes_of(chain, self.number)
        powers = ring.powers(self.size + 1)
        states = ring.products(powers, prefixes)  # of all bytes up to each end, begun with zero
        zero = np.zeros(1, np.uint64)
        ways = []
        for algorithm, begin, out in chain.known:
            begun = ring.minus(zero, ring.times(powers, begin)) if begin else None
            wanted = self.wanted(self.number, bits, flipped=chain.flipped, out=out)
            ways.append((algorithm, begun, wanted, _Way(chain, begin, out)))
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
            for algorithm, begun, wanted, way in ways:
                results = ring.minus(plain, begun[lengths]) if begun is not None else plain
                hits, places, inverted = wanted.among(results)
                if hits.size:
                    free = edges[hits]
                    starts, ends = (
                        (np.full(free.size, anchor), free) if is_start else (free, np.full(free.size, anchor))
                    )
                    yield from self._found(algorithm, way, _Pairs(starts, ends, places, inverted))

    def _found(self, algorithm: Algorithm, way: _Way, pairs: _Pairs) -> Iterator[Finding]:
        """Ranges that hold in the shortest save, with edges counted so that they hold in the others as well."""
        size, known = self.size, self.by_bits[algorithm.bits]
        at, behind = self.offsets(self.number, algorithm.bits)
        pairs = pairs.only((pairs.ends <= at[pairs.places]) | (behind[pairs.places] <= pairs.starts))
        froms = (False,) if alike(self.contents) else (False, True)
        for start_from_end, end_from_end in product(froms, reversed(froms)):
            left = pairs
            for number in range(len(self.contents)):
                if number != self.number and left.starts.size:
                    more = len(self.contents[number]) - size
                    moved = left._replace(
                        starts=left.starts + more * start_from_end, ends=left.ends + more * end_from_end
                    )
                    left = left.only(self._agree(way, moved, number, algorithm.bits))
            for start, end, which, inverted in zip(*(part.tolist() for part in left), strict=True):
                place = known[which]
                first = Edge(size - start, True) if start_from_end else Edge(start)
                last = Edge(size - end, True) if end_from_end else Edge(end)
                made = replace(algorithm, changed="inverted") if inverted else algorithm
                cost = choice_bits(made, (start, end), (int(at[which]), int(behind[which])), size)
                bits = place.bits * len(set(place.values)) - cost
                yield Finding(made, first, last, place.edge, place.size, place.form, bits=bits)

    def _agree(self, way: _Way, pairs: _Pairs, number: int, bits: int) -> Array:
        """Which of some ranges of another save give what is stored there."""
        chain, size = way.chain, len(self.contents[number])
        at, behind = (part[pairs.places] for part in self.offsets(number, bits))
        fits = (pairs.starts >= 0) & (pairs.starts < pairs.ends) & (pairs.ends <= size)
        fits &= (pairs.ends <= at) | (behind <= pairs.starts)
        where = np.flatnonzero(fits)
        starts, ends, ring = pairs.starts[where], pairs.ends[where], chain.ring
        prefixes = self.prefixes_of(chain, number)
        powers = ring.powers(size + 1)
        states = ring.products(powers[ends], ring.minus(prefixes[ends], prefixes[starts]))
        if way.begin:
            zero = np.zeros(1, np.uint64)
            states = ring.minus(states, ring.minus(zero, ring.times(powers[ends - starts], way.begin)))
        wanted = self.wanted(number, bits, flipped=chain.flipped, out=way.out)
        stored = wanted.states[pairs.places[where]]
        fits[where] = states == np.where(pairs.inverted[where], stored ^ wanted.mask, stored)
        return fits

    def prefixes_of(self, chain: Chain, number: int) -> Array:
        key = id(chain.ring), chain.flipped, number
        if key not in self._prefixes:
            self._prefixes[key] = Prefixes(chain.ring, self.contents[number], flipped=chain.flipped).whole
        return self._prefixes[key]

    # sums

    def over_sums(self, name: str, until: Deadline) -> Iterator[Finding]:
        kind = SUMS[name]
        running = RunningSums(self.content)
        wanted = self.wanted(self.number, kind.bits, flipped=False, out=0)
        algorithm = Algorithm(name)
        for anchor, is_start in self._anchors(kind.bits):
            if until.over:
                return
            edges, results = running.from_edge(name, anchor, is_start=is_start)
            hits = np.unique(edges[wanted.among(results)[0]])[: MOST_HITS * 16]
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
