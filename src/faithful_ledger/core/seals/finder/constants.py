"""Checksums with a constant of the game's own, over natural ranges of saves that differ in size: what a CRC is XORed
with at its end, or what a sum begins with. Whatever it is, two saves' results differ by what their stored values do.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import replace
from itertools import product
from math import log2
from typing import Any, Literal, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.seals.algorithms import CRC, Algorithm
from faithful_ledger.core.seals.crc import CATALOGUE, Crc
from faithful_ledger.core.seals.finder.chosen import HEADS, LEAST_COVERED, TAILS, Edges
from faithful_ledger.core.seals.finder.finding import Finding, choice_bits, said_bits
from faithful_ledger.core.seals.finder.numbers import Numbers
from faithful_ledger.core.seals.finder.places import Edge, Place, numbered
from faithful_ledger.core.seals.finder.rings import Ranges
from faithful_ledger.core.seals.sums import SUMS
from faithful_ledger.core.storage import WRITTEN

__all__ = ["once_more", "with_constants"]

Array: TypeAlias = np.ndarray[Any, Any]
LEAST_SAVES = 3  # one gives the constant, and one alone would confirm whatever chance finds
LEAST_BITS = 16
MOST_PLACES, MOST_BESIDE = 2000, 40
CONSTANT = 2.0  # bits that it costs to be another constant than the published one
SUMMED = frozenset(("sum", "xor"))
SIGNS: tuple[Literal["", "negated"], ...] = ("", "negated")


def with_constants(
    contents: Sequence[bytes], places: Sequence[Place], until: Deadline, edges: Edges, named: str = ""
) -> Iterator[Finding]:
    """Findings with a constant that is the same in every save, not yet counted; of the algorithms `named` so."""
    if len(contents) < LEAST_SAVES:
        return
    looking = _Constants(contents, places, edges)
    for name, (crc, _) in CATALOGUE.items():
        if until.over:
            return
        if crc.width >= LEAST_BITS and (name.startswith(named) or named == CRC):
            yield from looking.over_crc(crc)
    for name, kind in SUMS.items():
        if until.over:
            return
        if kind.bits >= LEAST_BITS and kind.kind in SUMMED and name.startswith(named):
            yield from looking.over_sum(name)


def once_more(sure: Sequence[Finding], spots: Sequence[Place], content: bytes) -> Iterator[Finding]:
    """What is stored a second time with a constant, as a sum beside the rest to a number: of findings that are `sure`,
    outside of what they cover and where none of them is stored. `content` is the first save.
    """
    wide = [place for place in spots if place.bits >= LEAST_BITS and len(place.values) >= LEAST_SAVES]
    by_place = {(place.edge, place.form): place for place in wide}
    taken = [finding.place_in(content) for finding in sure]
    for finding in sure:
        first = by_place.get((finding.stored, finding.form))
        if first is None or first.bits != finding.algorithm.bits or finding.algorithm.changed:
            continue
        covered = finding.start.at(len(content)), finding.end_in(content)
        for place in wide:
            at = place.edge.at(len(content))
            if place.bits != first.bits or any(
                at < end and start < at + place.size for start, end in (covered, *taken)
            ):
                continue
            for algorithm in _with_constant(finding.algorithm, first, place):
                bits = said_bits(algorithm, place.values, place.bits) * (len(set(place.values)) - 1)
                bits -= CONSTANT + (0.0 if abs(at - first.edge.at(len(content))) == place.size else log2(len(wide)))
                yield replace(finding, algorithm=algorithm, stored=place.edge, form=place.form, own=None, bits=bits)


def _with_constant(algorithm: Algorithm, first: Place, place: Place) -> Iterator[Algorithm]:
    """The algorithm whose results are the values of the place, if those at the first one are results of a sum or CRC
    with this `algorithm`, and the two are a constant apart.
    """
    mask = (1 << place.bits) - 1
    pairs = list(zip(first.values, place.values, strict=True))
    kind = SUMS[algorithm.name].kind if algorithm.name in SUMS else ""
    started = algorithm.start or 0
    known = CATALOGUE[algorithm.name][0] if algorithm.name in CATALOGUE else algorithm.crc
    if kind == "xor" or known is not None:
        apart = {one ^ other for one, other in pairs}
        if len(apart) == 1 and not apart & {0, mask}:
            constant = apart.pop()
            if known is not None:
                yield replace(algorithm, name=CRC, crc=known._replace(xor_out=known.xor_out ^ constant))
            else:
                yield replace(algorithm, start=started ^ constant)
    if kind == "sum":
        apart = {(other - one) & mask for one, other in pairs}
        if len(apart) == 1 and 0 not in apart:
            yield replace(algorithm, start=(started + apart.pop()) & mask)
        together = {(one + other) & mask for one, other in pairs}
        if len(together) == 1 and not together & {0, mask}:
            yield replace(algorithm, start=(started - together.pop()) & mask, changed="negated")


class _Way(NamedTuple):
    """Ranges to look at, the same as offsets in each save, and the places with whose values they are compared."""

    ranges: list[tuple[Edge, Edge]]
    over: list[Ranges]
    places: list[Place]


class _Constants:
    def __init__(self, contents: Sequence[bytes], places: Sequence[Place], edges: Edges) -> None:
        self.contents = contents
        self.sizes = list(map(len, contents))
        self.numbers = [Numbers(content) for content in contents]
        by_bits: dict[int, list[Place]] = defaultdict(list)
        for place in places:
            if place.restless and place.form not in WRITTEN and len(by_bits[place.bits]) < MOST_PLACES:
                by_bits[place.bits].append(place)
        heads, tails = dict.fromkeys((*edges.heads, *HEADS)), dict.fromkeys((*edges.tails, *TAILS))
        self.fixed = [(Edge(head), Edge(tail, True)) for head, tail in product(heads, tails)]
        self.beside_heads, self.beside_tails = list(heads), list(tails)[: len(edges.tails) + 3]
        self.ways = {bits: self._way(known) for bits, known in by_bits.items() if bits >= LEAST_BITS}

    def _way(self, places: list[Place]) -> _Way:
        ranges = dict.fromkeys(self.fixed)
        for place in places[:MOST_BESIDE]:
            ranges |= dict.fromkeys((Edge(head), place.edge) for head in self.beside_heads)
            ranges |= dict.fromkeys((place.edge.moved(place.size), Edge(tail, True)) for tail in self.beside_tails)
        fits = [each for each in ranges if all(self._is_wide(*each, size) for size in self.sizes)]
        nothing, owns = np.zeros(len(fits), np.intp), (None,) * len(fits)
        over = []
        for size in self.sizes:
            spans = np.array([(start.at(size), end.at(size)) for start, end in fits], np.intp).reshape(-1, 2)
            over.append(Ranges(spans[:, 0], spans[:, 1], nothing, nothing, owns))
        return _Way(fits, over, places)

    @staticmethod
    def _is_wide(start: Edge, end: Edge, size: int) -> bool:
        return start.at(size) >= 0 and start.at(size) + LEAST_COVERED <= end.at(size) <= size

    def over_crc(self, crc: Crc) -> Iterator[Finding]:
        if (way := self.ways.get(crc.width)) is None:
            return
        states = np.stack([numbers.crc_states(crc, over) for numbers, over in zip(self.numbers, way.over, strict=True)])
        stored = np.array([[crc.state_of(value) for value in place.values] for place in way.places], np.uint64).T
        known = 0, (1 << crc.width) - 1  # what needs no constant, or only to be inverted
        for number, place in self._agreeing(way, states[1:] ^ states[0], stored[1:] ^ stored[0]):
            constant = crc.finished(int(states[0, number])) ^ place.values[0]
            if constant not in known:
                made = Algorithm(CRC, crc=crc._replace(xor_out=crc.xor_out ^ constant))
                yield self._finding(made, way.ranges[number], place, crc.width)

    def over_sum(self, name: str) -> Iterator[Finding]:
        kind = SUMS[name]
        if (way := self.ways.get(kind.bits)) is None:
            return
        mask = (1 << kind.bits) - 1
        results = np.stack(
            [
                numbers.running.plain(name, over.starts, over.ends)
                for numbers, over in zip(self.numbers, way.over, strict=True)
            ]
        )
        stored = np.array([place.values for place in way.places], np.uint64).T
        is_xor = kind.kind == "xor"
        for changed in SIGNS[:1] if is_xor else SIGNS:
            signed = -stored if changed else stored
            differs = np.bitwise_xor if is_xor else np.subtract
            own, others = (differs(each[1:], each[0]) & np.uint64(mask) for each in (results, signed))
            for number, place in self._agreeing(way, own, others):
                result, value = int(results[0, number]), -place.values[0] if changed else place.values[0]
                constant = (result ^ value if is_xor else value - result) & mask
                if constant not in (0, mask):
                    made = Algorithm(name, start=constant, changed=changed)
                    yield self._finding(made, way.ranges[number], place, said_bits(made, place.values, kind.bits))

    def _agreeing(self, way: _Way, results: Array, stored: Array) -> Iterator[tuple[int, Place]]:
        """The ranges, by their numbers, whose results differ between the saves as the values at a place outside do."""
        of_ranges, of_places = numbered(results), numbered(stored)
        for number in np.flatnonzero(np.isin(of_ranges, of_places)).tolist():
            start, end = way.ranges[number]
            for which in np.flatnonzero(of_places == of_ranges[number]).tolist():
                place = way.places[which]
                at = place.edge.at(self.sizes[0])
                if at + place.size <= start.at(self.sizes[0]) or end.at(self.sizes[0]) <= at:
                    yield number, place

    def _finding(self, made: Algorithm, over: tuple[Edge, Edge], place: Place, said: float) -> Finding:
        size, at = self.sizes[0], place.edge.at(self.sizes[0])
        cost = choice_bits(made, (over[0].at(size), over[1].at(size)), (at, at + place.size), size) + CONSTANT
        bits = said * (len(set(place.values)) - 1) - cost
        return Finding(made, *over, place.edge, place.size, place.form, bits=bits)
