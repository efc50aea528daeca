"""Checksums over ranges of which one edge is where people put it and the other one is anywhere: from a single save, or
from saves of different sizes, of which too few are alike for a search over any range.

From one edge the results over all ranges are worked out at once, from prefixes, and looked up among the values that are
stored; where what takes byte after byte ends at the edge, the values are looked up among the prefixes instead, sorted
once for all edges. What is found from all edges is held against the other saves at once. In a single save chance
explains much: only 32 bits and more count, at places where seals usually are.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from functools import partial
from itertools import product
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.bit_order import mirrored
from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.scan import distinct
from faithful_ledger.core.seals.algorithms import Algorithm
from faithful_ledger.core.seals.finder.chosen import HEADS, LEAST_COVERED, TAILS
from faithful_ledger.core.seals.finder.finding import Finding, choice_bits, varied_bits
from faithful_ledger.core.seals.finder.joining import Sorted
from faithful_ledger.core.seals.finder.natural import is_plain
from faithful_ledger.core.seals.finder.numbers import Numbers
from faithful_ledger.core.seals.finder.places import Edge, Place, alike, is_text
from faithful_ledger.core.seals.finder.ranges import Chain, chains
from faithful_ledger.core.seals.finder.rings import Prefixes
from faithful_ledger.core.seals.sums import SUMS

__all__ = ["anchored"]

Array: TypeAlias = np.ndarray[Any, Any]
MOST_PLACES, FEW_PLACES, BESIDE, BESIDE_IN_TEXT = 400, 30, 12, 4  # chance gives many hits where 16 bits are stored
MOST_HITS = 1088  # edges from one anchor
USUAL = 256  # bytes from either end in which a single save's seal is looked for


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
        wanted = name.startswith(named) and kind.bits >= 16 and kind.kind not in ("internet", "folded")
        if wanted and len(contents) > 1 and looking.by_bits[kind.bits]:
            yield from looking.over_sums(name, until)
        if until.over:
            return


class _Wanted:
    """What is stored at each place, as states in front of what comes last, as they are and, behind these, inverted."""

    def __init__(self, states: Array, mask: int) -> None:
        self.states = np.concatenate((states, states ^ mask))
        self._sorted = Sorted(self.states)
        self._low = np.zeros(1 << 16, bool)
        self._low[(self.states & 0xFFFF).astype(np.intp)] = True

    def among(self, results: Array) -> tuple[Array, Array]:
        """Which of many results are stored, and the number of the state that each is."""
        likely = np.flatnonzero(self._low[(results & 0xFFFF).astype(np.intp)])
        hits, which = self._sorted.matches(results[likely])
        return likely[hits], which


class _Way(NamedTuple):
    """One algorithm: how values that are stored become states (`flipped`, XORed with `out`), and what its states are
    over the ranges from some starts to some ends in the save of a number.
    """

    algorithm: Algorithm
    flipped: bool
    out: int
    states: Callable[[int, Array, Array], Array]


class _Pairs(NamedTuple):
    """Ranges, each with the number of a place that has its result, and whether inverted."""

    starts: Array
    ends: Array
    places: Array
    inverted: Array

    def only(self, chosen: Array) -> _Pairs:
        return _Pairs(*(part[chosen] for part in self))

    @staticmethod
    def together(many: Sequence[_Pairs]) -> _Pairs:
        return _Pairs(*map(np.concatenate, zip(*many, strict=True)))


class _Anchored:
    def __init__(self, contents: Sequence[bytes], places: Sequence[Place]) -> None:
        self.contents = contents
        self.number = min(range(len(contents)), key=lambda j: len(contents[j]))
        self.content = contents[self.number]
        self.size = len(self.content)
        self.single = len(contents) == 1
        self.numbers = [Numbers(content) for content in contents]
        self.by_bits: dict[int, list[Place]] = defaultdict(list)
        for place in places:
            known, most = self.by_bits[place.bits], MOST_PLACES if place.bits >= 32 else FEW_PLACES
            if len(known) < most and place.restless and (not self.single or self._is_usual(place)):
                known.append(place)
        self.beside = BESIDE
        self.heads = [head for head in HEADS if head <= self.size // 2]
        self.tails = [self.size - tail for tail in {*TAILS, *range(17)} if tail <= self.size // 2]
        if all(map(is_text, contents)):  # in which ranges begin and end at lines, or beside what is stored
            self.heads, self.tails, self.beside = [0], [self.size], BESIDE_IN_TEXT
        self._stored: dict[tuple[int, int, bool, int], Array] = {}
        self._prefixes: dict[tuple[int, bool, int], Array] = {}
        self._offsets: dict[tuple[int, int], tuple[Array, Array]] = {}

    def _is_usual(self, place: Place) -> bool:
        """Whether a single save may have its seal there: near an end, at a multiple of four, and not a small number."""
        at = place.edge.at(self.size)
        near = at < USUAL or at >= self.size - USUAL
        return place.bits >= 32 and near and not is_plain(place) and (at % 4 == 0 or at >= self.size - 16)

    def stored(self, way: _Way, number: int) -> Array:
        """What is stored at all places of a save, as states in front of what comes last."""
        bits = way.algorithm.bits
        key = number, bits, way.flipped, way.out
        if key not in self._stored:
            values = [place.values[number] & ((1 << bits) - 1) for place in self.by_bits[bits]]
            states = np.array([mirrored(v, bits) if way.flipped else v for v in values], np.uint64)
            self._stored[key] = states ^ way.out
        return self._stored[key]

    def offsets(self, number: int, bits: int) -> tuple[Array, Array]:
        """Where all places begin and end in a save."""
        if (number, bits) not in self._offsets:
            places, size = self.by_bits[bits], len(self.contents[number])
            starts = np.array([place.edge.at(size) for place in places], np.intp)
            self._offsets[number, bits] = starts, starts + np.array([place.size for place in places], np.intp)
        return self._offsets[number, bits]

    def _anchors(self, bits: int) -> tuple[list[int], list[int]]:
        """Where ranges may end, and where they may begin."""
        starts, ends = set(self.heads), set(self.tails)
        for place in self.by_bits[bits][: self.beside]:
            at = place.edge.at(self.size)
            starts.add(at + place.size)
            ends.add(at)
        return sorted(ends, reverse=True), sorted(starts)

    # what takes byte after byte

    def over_chain(self, chain: Chain, until: Deadline) -> Iterator[Finding]:
        ring, bits = chain.ring, chain.ring.bits
        if self.single and bits < 32:
            return
        self._prefixes.clear()  # each chain is looked at once
        prefixes = self.prefixes_of(chain, self.number)
        powers = ring.powers(self.size + 1)
        states = ring.products(powers, prefixes)  # of all bytes up to each end, begun with zero
        ends, starts = self._anchors(bits)
        for algorithm, begin, out in chain.known:
            way = _Way(algorithm, chain.flipped, out, partial(self._chain_states, chain, begin))
            wanted = _Wanted(self.stored(way, self.number), (1 << bits) - 1)
            stored = wanted.states.astype(ring.kind)
            # Begun at s with such a state it is weight^e × (K(e) − B(s)), where B(s) is K(s) − begin × weight^−s.
            begun = ring.minus(prefixes, ring.times(ring.lowered(self.size + 1), begin)) if begin else prefixes
            among_begun, found = Sorted(begun), list[_Pairs]()
            for end in ends:
                if until.over:
                    return
                before = ring.minus(prefixes[end : end + 1], ring.times(stored, ring.power(-end)))
                which, hits = among_begun.matches(before)
                near = hits <= end - LEAST_COVERED
                found.append(self._pairs(bits, hits[near], which[near], end, is_start=False))
            for start in starts:
                if until.over:
                    return
                first = start + LEAST_COVERED
                results = ring.minus(states[first:], ring.times(powers[first:], int(begun[start])))
                hits, which = wanted.among(results)
                found.append(self._pairs(bits, first + hits, which, start, is_start=True))
            yield from self._found(way, _Pairs.together(found))

    def _chain_states(self, chain: Chain, begin: int, number: int, starts: Array, ends: Array) -> Array:
        ring, prefixes = chain.ring, self.prefixes_of(chain, number)
        powers = ring.powers(len(self.contents[number]) + 1)
        states = ring.products(powers[ends], ring.minus(prefixes[ends], prefixes[starts]))
        if not begin:
            return states
        begun = ring.minus(np.zeros(1, ring.kind), ring.times(powers[ends - starts], begin))
        return ring.minus(states, begun)

    def prefixes_of(self, chain: Chain, number: int) -> Array:
        key = id(chain.ring), chain.flipped, number
        if key not in self._prefixes:
            self._prefixes[key] = Prefixes(chain.ring, self.contents[number], flipped=chain.flipped).whole
        return self._prefixes[key]

    # sums

    def over_sums(self, name: str, until: Deadline) -> Iterator[Finding]:
        kind, algorithm = SUMS[name], Algorithm(name)
        way = _Way(algorithm, False, 0, partial(self._sums, name))
        wanted = _Wanted(self.stored(way, self.number), (1 << kind.bits) - 1)
        running, found = self.numbers[self.number].running, list[_Pairs]()
        for anchors, is_start in zip(self._anchors(kind.bits), (False, True), strict=True):
            for anchor in anchors:
                if until.over:
                    return
                edges, results = running.from_edge(name, anchor, is_start=is_start)
                hits, which = wanted.among(results)
                far = np.abs(edges[hits] - anchor) >= LEAST_COVERED
                found.append(self._pairs(kind.bits, edges[hits[far]], which[far], anchor, is_start=is_start))
        yield from self._found(way, _Pairs.together(found))

    def _sums(self, name: str, number: int, starts: Array, ends: Array) -> Array:
        return self.numbers[number].running.plain(name, starts, ends)

    # from results to findings

    def _pairs(self, bits: int, edges: Array, which: Array, anchor: int, *, is_start: bool) -> _Pairs:
        """Ranges of the shortest save from an anchor to edges, or from these to it, that have a state of a number; of
        very many those at the first edges.
        """
        if edges.size > MOST_HITS:
            few = edges <= distinct(edges)[:MOST_HITS][-1]
            edges, which = edges[few], which[few]
        fixed, count = np.full(edges.size, anchor), len(self.by_bits[bits])
        starts, ends = (fixed, edges) if is_start else (edges, fixed)
        pairs = _Pairs(starts, ends, which % count, which >= count)
        at, behind = self.offsets(self.number, bits)
        apart = (pairs.ends <= at[pairs.places]) | (behind[pairs.places] <= pairs.starts)
        return pairs.only(apart & self.numbers[self.number].has_content(pairs.starts, pairs.ends))

    def _found(self, way: _Way, pairs: _Pairs) -> Iterator[Finding]:
        """Ranges of the shortest save with the result that is stored there, their edges counted so that they hold in
        the others as well.
        """
        algorithm, size = way.algorithm, self.size
        is_xor = algorithm.name in SUMS and SUMS[algorithm.name].kind == "xor"
        known = self.by_bits[algorithm.bits]
        at, behind = self.offsets(self.number, algorithm.bits)
        froms = (False,) if alike(self.contents) else (False, True)
        for start_from_end, end_from_end in product(froms, reversed(froms)):
            left = pairs
            for number in range(len(self.contents)):
                if number != self.number and left.starts.size:
                    more = len(self.contents[number]) - size
                    moved = left._replace(
                        starts=left.starts + more * start_from_end, ends=left.ends + more * end_from_end
                    )
                    left = left.only(self._agree(way, moved, number))
            for start, end, which, inverted in zip(*(part.tolist() for part in left), strict=True):
                place = known[which]
                first = Edge(size - start, True) if start_from_end else Edge(start)
                last = Edge(size - end, True) if end_from_end else Edge(end)
                made = replace(algorithm, changed="inverted") if inverted else algorithm
                cost = choice_bits(made, (start, end), (int(at[which]), int(behind[which])), size)
                said = varied_bits(place.values, place.bits) if is_xor else float(place.bits)
                bits = said * len(set(place.values)) - cost
                yield Finding(made, first, last, place.edge, place.size, place.form, bits=bits)

    def _agree(self, way: _Way, pairs: _Pairs, number: int) -> Array:
        """Which of some ranges of another save give what is stored there."""
        bits, size = way.algorithm.bits, len(self.contents[number])
        at, behind = (part[pairs.places] for part in self.offsets(number, bits))
        fits = (pairs.starts >= 0) & (pairs.starts < pairs.ends) & (pairs.ends <= size)
        fits &= (pairs.ends <= at) | (behind <= pairs.starts)
        where = np.flatnonzero(fits)
        states = way.states(number, pairs.starts[where], pairs.ends[where])
        stored, mask = self.stored(way, number)[pairs.places[where]], np.uint64((1 << bits) - 1)
        fits[where] = states == np.where(pairs.inverted[where], stored ^ mask, stored)
        return fits
