"""Checksums over the ranges that people choose: the whole file, what is behind a header, before or behind the seal.

Everything that cannot be searched over any range is looked for here: digests, hashes that mix, sums of eight bits; and
all algorithms where saves differ in size. Hashes that take byte after byte are followed from each natural start to
every end; CRCs are differences of prefixes.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from functools import cached_property, partial
from itertools import chain, islice, product
from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.seals.algorithms import ALGORITHMS, Algorithm, own_bytes
from faithful_ledger.core.seals.crc import CATALOGUE, Crc
from faithful_ledger.core.seals.finder.chosen import LEAST_COVERED, NO_EDGES, OWN, Chosen, Edges, Range, Tries, seen
from faithful_ledger.core.seals.finder.cuts import ALONE, Cut, cuts
from faithful_ledger.core.seals.finder.finding import (
    Finding,
    choice_bits,
    edge_bits,
    naturalness,
    open_ends,
    own_bits,
    said_bits,
    spelled,
)
from faithful_ledger.core.seals.finder.numbers import Numbers, is_plain_sum
from faithful_ledger.core.seals.finder.places import (
    Edge,
    Place,
    alike,
    changed_offsets,
    restless_runs,
)
from faithful_ledger.core.seals.finder.rings import Ranges
from faithful_ledger.core.seals.finder.spelling import changed_results, changes, dashed, in_base64, written_in
from faithful_ledger.core.seals.hashes import DIGESTS, HASHES, Lane
from faithful_ledger.core.seals.sums import SUMS
from faithful_ledger.core.storage import WRITTEN

__all__ = ["SLOW", "all_natural", "is_plain", "natural"]

Array: TypeAlias = np.ndarray[Any, Any]
FOLLOWED = 16
RICH, MUCH = 2.0, 8  # bits that say so for all beside a place, of which so many bytes change
CUT = 4.0  # bits that it costs to leave something out beside it
SLOW = {name for name, each in HASHES.items() if each.step is not None}  # they take byte after byte in Python
MOST_PLACES, MOST_AT_ONCE, MOST_SLOW = 40, 80, 10
SMALL = 1 << 12  # bytes of a save in which more places take no longer than fewer in a large one
MOST_BYTES = 10  # places of a single byte: there are many, and they say little
NEAR_END = 32  # bytes from either end of the file at which digests usually are
MOST_SPELLED, MOST_BESIDE = 4, 4
MOST_SPELLED_NUMBERS = 16  # they rank behind numbers in bytes, of which a text is full
FEW_TRIES = 64  # ranges that are tried one by one


def natural(
    contents: Sequence[bytes],
    places: Sequence[Place],
    algorithms: Sequence[Algorithm],
    end: Deadline = NEVER,
    edges: Edges = NO_EDGES,
) -> Iterator[Finding]:
    """Findings that hold in every save, not yet counted; the quick algorithms first. Ranges begin and end at the usual
    offsets, and at the `edges` of parts.
    """
    number = min(range(len(contents)), key=lambda j: len(contents[j]))
    looking = _Natural(contents, number, places, end, edges)
    quick = [each for each in algorithms if each.name not in SLOW]
    slow = [each for each in algorithms if each.name in SLOW]
    for algorithm in quick:
        if end.over:
            return
        yield from looking.fixed(algorithm)
        yield from looking.beside(algorithm)
    for algorithm in slow:
        if end.over:
            return
        yield from looking.followed(algorithm)
    for algorithm in slow:
        if end.over:
            return
        yield from looking.covering(algorithm)


def is_plain(place: Place) -> bool:
    """Whether the number at a place of a single save is a small one, above or below zero, as few checksums are: of them
    there are so many that chance explains some.
    """
    value, half = place.values[0], place.bits // 2
    return value.bit_length() <= half or (~value & (1 << place.bits) - 1).bit_length() <= half


_ResultsOver: TypeAlias = Callable[[Numbers, Ranges], tuple[Array, Array]]  # and which of them are known


def _crc_states(crc: Crc, numbers: Numbers, over: Ranges) -> tuple[Array, Array]:
    states = numbers.crc_states(crc, over)
    return states, np.ones(states.size, bool)


def _sums(name: str, numbers: Numbers, over: Ranges) -> tuple[Array, Array]:
    return numbers.running.seen(name, over)


class _Natural:
    def __init__(
        self, contents: Sequence[bytes], number: int, places: Sequence[Place], end: Deadline, edges: Edges
    ) -> None:
        self.contents, self.number, self.until = contents, number, end
        self.content = contents[number]
        self.size = len(self.content)
        self.by_bits: dict[int, list[Place]] = defaultdict(list)
        self.by_value: dict[tuple[int, int], list[Place]] = defaultdict(list)
        for place in places:
            if place.restless and not (len(contents) == 1 and is_plain(place)):
                self.by_bits[place.bits].append(place)
                self.by_value[place.bits, place.values[number]].append(place)
        self.numbers = Numbers(self.content)
        self.ranges: dict[tuple[int, bool], Tries] = {}
        self.other = max(range(len(contents)), key=lambda j: (len(contents[j]), j != number))
        self.others = Numbers(contents[self.other])
        self.chosen = Chosen(self.content, edges)
        self.heads, self.tails = self.chosen.heads, self.chosen.tails
        self.fixed_edges = self.chosen.fixed
        starts, tails = np.array(self.fixed_edges, np.intp).T
        nothing = np.zeros(starts.size, np.intp)
        self.fixed_ranges = Ranges(starts, self.size - tails, nothing, nothing, (None,) * starts.size)

    def fixed(self, algorithm: Algorithm) -> Iterator[Finding]:
        """Over ranges that do not depend on where it is stored."""
        for (head, tail), known in zip(self.fixed_edges, self._over_fixed(algorithm), strict=True):
            if self.until.over:
                return
            result = self.numbers.of(algorithm, head, self.size - tail, 0, 0, None) if known is None else known
            yield from self._stored(algorithm, result, Edge(head), Edge(tail, True))

    def _over_fixed(self, algorithm: Algorithm) -> Sequence[int | None]:
        """The results over these ranges that can be had at once; None for each of the others."""
        crc, over = _published(algorithm), self.fixed_ranges
        if crc is not None:
            return [crc.finished(state) for state in self.numbers.crc_states(crc, over).tolist()]
        if not is_plain_sum(algorithm):
            return [None] * len(self.fixed_edges)
        results, known = self.numbers.running.seen(algorithm.name, over)
        return [result if is_known else None for result, is_known in zip(results.tolist(), known.tolist(), strict=True)]

    def _stored(self, algorithm: Algorithm, result: int, start: Edge, end: Edge) -> Iterator[Finding]:
        """Where a result is stored, outside of its range."""
        yield from self._spelled(algorithm, result, start, end)
        if algorithm.is_digest:
            return
        for number in set(changed_results(result, algorithm.bits)):
            for place in self.by_value.get((algorithm.bits, number), ()):
                yield from self._tried(algorithm, start, end, place, None)

    def _spelled(self, algorithm: Algorithm, result: int, start: Edge, end: Edge) -> Iterator[Finding]:
        """Where a result is written in letters, or a digest as it is, beside whatever else."""
        if algorithm.is_digest or (algorithm.bits >= 32 and self.chosen.has_text):
            for at, size, form, bits in written_in(self.content, algorithm, result):
                for place in self._places_at(at, size, form, bits):
                    yield from self._checked(algorithm, start, end, place, None)

    def _places_at(self, at: int, size: int, form: str, bits: int) -> list[Place]:
        """What is at an offset as a place, counted from the beginning and from the end."""
        values = tuple(range(len(self.contents)))  # another one in each save
        return [Place(edge, size, form, bits, values, True, True) for edge in (Edge(at), Edge(self.size - at, True))]

    def beside(self, algorithm: Algorithm) -> Iterator[Finding]:
        """Over ranges that begin or end at the seal, or cover it."""
        crc = _published(algorithm)
        if crc is None and not is_plain_sum(algorithm):
            for place in self._places(algorithm)[:MOST_PLACES]:
                if self.until.over:
                    return
                for each in self.chosen.at(place):
                    yield from self._tried(algorithm, *each)
            return
        tries = self._tries(algorithm)
        if not tries.each:
            return
        if crc is not None:
            yield from self._matching(algorithm, tries, partial(_crc_states, crc), crc.state_of)
        else:
            yield from self._matching(algorithm, tries, partial(_sums, algorithm.name), int)

    def _tries(self, algorithm: Algorithm) -> Tries:
        """All ranges that begin or end at a place for a result of this size, or cover it."""
        key = algorithm.bits, algorithm.name in CATALOGUE
        if key not in self.ranges:
            places = self._places(algorithm)[:MOST_AT_ONCE]
            by_place = [list(self.chosen.at(place)) for place in places]
            likely = sum(map(len, by_place[:MOST_PLACES]))
            self.ranges[key] = Tries.of(list(chain.from_iterable(by_place)), likely, self.content)
        return self.ranges[key]

    def _matching(
        self, algorithm: Algorithm, tries: Tries, results_over: _ResultsOver, state_of: Callable[[int], int]
    ) -> Iterator[Finding]:
        """What of many tries gives what is stored, in the shortest save; the likely ones of which the result is not
        known are tried one by one. `state_of` makes a value that is stored comparable with the results.
        """
        found, known = self._agreeing(algorithm, tries, results_over, state_of, self.numbers, self.number)
        found |= ~known & (np.arange(known.size) < tries.likely)
        left = [tries.each[number] for number in np.flatnonzero(found).tolist()]
        if len(left) > FEW_TRIES and len(self.contents) > 1:  # chance makes them of 16 bits
            size = len(self.others.content)
            there = Tries.of([each for each in left if each[0].at(size) < each[1].at(size)], 0, self.others.content)
            inside = there.only(there.over.are_within(size))
            found, known = self._agreeing(algorithm, inside, results_over, state_of, self.others, self.other)
            left = inside.only(found | ~known).each
        for each in left:
            if self.until.over:
                return
            yield from self._tried(algorithm, *each)

    @staticmethod
    def _agreeing(
        algorithm: Algorithm,
        tries: Tries,
        results_over: _ResultsOver,
        state_of: Callable[[int], int],
        numbers: Numbers,
        number: int,
    ) -> tuple[Array, Array]:
        """Which of many tries give what is stored in the save of a number, and of which the result is known."""
        results, known = results_over(numbers, tries.over)
        values = [each[2].values[number] for each in tries.each]
        wanted = {value: list(map(state_of, changed_results(value, algorithm.bits))) for value in set(values)}
        found = np.zeros(known.size, bool)
        for column in np.array([wanted[value] for value in values], np.uint64).reshape(-1, 3).T:
            found |= known & (results == column)
        return found, known

    def _places(self, algorithm: Algorithm) -> list[Place]:
        if not algorithm.is_digest:
            known = self.by_bits.get(algorithm.bits, [])[: MOST_BYTES if algorithm.bits == 8 else None]
            known = [place for place in known if place.mixed] if algorithm.name in CATALOGUE else known
            in_letters = [place for place in known[MOST_PLACES:] if place.form in WRITTEN][:MOST_SPELLED_NUMBERS]
            return [*known[: MOST_PLACES - len(in_letters)], *in_letters, *known[MOST_PLACES - len(in_letters) :]]
        size = algorithm.bits // 8
        in_bytes = [] if self.chosen.is_text else self._digest_places(size)
        return [*in_bytes, *self._digest_texts(size)]

    def _digest_texts(self, size: int) -> list[Place]:
        """Where so many bytes are spelled in letters; what is beside those in hexadecimal may look like more digits."""
        found: list[Place] = []
        for form, pattern in (("dashes", dashed(size)), ("base64", in_base64(size))):
            for match in islice(pattern.finditer(self.content), MOST_SPELLED):
                found += self._places_at(match.start(), match.end() - match.start(), form, 8 * size)
        for form, digit in (("hex", b"[0-9a-f]"), ("HEX", b"[0-9A-F]")):
            for match in islice(re.finditer(b"%b{%d,}" % (digit, 2 * size), self.content), MOST_SPELLED):
                more = match.end() - match.start() - 2 * size
                for at in sorted({*range(min(more, MOST_BESIDE) + 1), more}):
                    found += self._places_at(match.start() + at, 2 * size, form, 8 * size)
        return found

    def _digest_places(self, size: int) -> list[Place]:
        """Where so many bytes in a row differ between the saves, from the beginning or from the end."""
        found = []
        for from_end in (False, True):
            shortest = self.size
            cut = [c[len(c) - shortest :] if from_end else c[:shortest] for c in self.contents]
            hits, _ = restless_runs(cut, size)
            behind = shortest - size - hits
            usual = hits[(behind <= NEAR_END) & (behind % 4 == 0) if from_end else (hits <= NEAR_END) & (hits % 4 == 0)]
            for at in dict.fromkeys([*usual.tolist(), *hits[:6].tolist()]):
                edge = Edge(shortest - at, True) if from_end else Edge(at)
                found.append(Place(edge, size, "bytes", 8 * size, tuple(range(len(cut))), True, True))
            if alike(self.contents):
                break
        return found

    def _tried(
        self, algorithm: Algorithm, start: Edge, end: Edge, place: Place, own: str | None, cut: Cut = ALONE
    ) -> Iterator[Finding]:
        """As `_checked`, but most that is nothing is seen by the number alone."""
        first, last = start.at(self.size), end.at(self.size)
        at, behind = seen(place, ALONE, self.content)
        covers = first < behind and at < last
        if covers is (own is None) or last - first < LEAST_COVERED:
            return
        if not algorithm.is_digest:
            low, high = at - cut.before, behind + cut.behind
            number = self.numbers.of(algorithm, first, last, low, high - low, own)
            if place.values[self.number] not in changed_results(number, algorithm.bits):
                return
            size = len(self.others.content)
            first, last = start.at(size), end.at(size)
            low, high = seen(place, cut, self.others.content)
            if not 0 <= first < last <= size or (own is not None and not first <= low < high <= last):
                return
            number = self.others.of(algorithm, first, last, low, high - low, own)
            if place.values[self.other] not in changed_results(number, algorithm.bits):
                return
        yield from self._checked(algorithm, start, end, place, own, cut)

    def _checked(
        self, algorithm: Algorithm, start: Edge, end: Edge, place: Place, own: str | None, cut: Cut = ALONE
    ) -> Iterator[Finding]:
        made = Finding(algorithm, start, end, place.edge, place.size, place.form, own, cut)
        first, last, _ = made.spans(self.size)
        at, stored_end = made.place_in(self.content)
        covers = first < stored_end and at < last
        partly = covers and not (first <= at and stored_end <= last)
        if covers is not (own is not None) or partly or last - first < LEAST_COVERED:
            return
        stored = made.stored_in(self.content)
        low, high = at - cut.before, stored_end + cut.behind
        number = self.numbers.of(algorithm, first, last, low, high - low, own)
        for changed, result in changes(algorithm, number):
            each = algorithm if not changed else replace(algorithm, changed=changed)
            if spelled(each, result, place.size, place.form, stored) != stored:
                continue
            checked = replace(made, algorithm=each)
            if all(map(checked.holds, self.contents)):
                values = len({checked.stored_in(content) for content in self.contents})
                cost = choice_bits(each, (first, last), (at, stored_end), self.size) + own_bits(own)
                cost += CUT if any(cut) else 0.0
                cost -= RICH if self._is_all_beside(checked) else 0.0
                bits = said_bits(each, place.values, place.bits) * values - cost
                freedom = self._open_ends(checked, place)
                yield replace(checked, bits=bits, freedom=freedom, undecided=bool(freedom))

    def _open_ends(self, finding: Finding, place: Place) -> str:
        """What to say of an XOR that would change by the same in every save if it began or ended elsewhere."""
        name = finding.algorithm.name
        if name not in SUMS or SUMS[name].kind != "xor" or not alike(self.contents):
            return ""
        start, end, at = finding.spans(self.size)
        stop = np.sort(np.concatenate(([-1], self.changed, [at, at + place.size - 1, self.size])))
        first, last = np.searchsorted(stop, (start, end))
        starts = np.arange(stop[first - 1] + 1, min(stop[first], end - 1) + 1)
        ends = np.arange(max(stop[last - 1], start) + 1, stop[last] + 1)
        span, size = (at, at + place.size), self.size
        costs = edge_bits(naturalness(starts, span, size), size), edge_bits(naturalness(ends, span, size), size)
        cost = float(costs[0][start - starts[0]] + costs[1][end - ends[0]])
        return open_ends(starts, ends, costs, cost, place.bits, carries=False)

    def _is_all_beside(self, finding: Finding) -> bool:
        """Whether it covers all that is behind its place, or all in front, of which much changes from save to save."""
        start, end, at = finding.spans(self.size)
        if not (at + finding.size == start and end == self.size) and not (start == 0 and end == at):
            return False
        if not alike(self.contents):
            return True
        first, last = np.searchsorted(self.changed, (start, end))
        return bool(last - first >= MUCH)

    @cached_property
    def changed(self) -> Array:
        """The offsets at which saves of one size differ."""
        return changed_offsets(self.contents)

    # hashes that take byte after byte

    @property
    def most_slow(self) -> int:
        """How many places are tried with one of them."""
        return MOST_PLACES if self.size <= SMALL else MOST_SLOW

    def covering(self, algorithm: Algorithm) -> Iterator[Finding]:
        """Over all of the file, or all but its first bytes, with the seal in it: every range at once."""
        tries: list[Range] = []
        places, most = self._places(algorithm), self.most_slow
        in_letters = [place for place in places[most:] if place.form in WRITTEN]  # they look like nothing else
        for place, head, own in product((*places[:most], *in_letters[:most]), self.heads[:2], OWN[:3]):
            if head <= place.edge.at(self.size) <= self.size - place.size:
                tries.append((Edge(head), Edge(0, True), place, own, ALONE))
        lanes = [
            Lane(start.at(self.size), self.size, low, high - low, own_bytes(own or "", 1))
            for start, _, place, own, _ in tries
            for low, high in (seen(place, ALONE, self.content),)
        ]
        results = HASHES[algorithm.name].results_over(self.content, lanes)
        for each, result in zip(tries, results, strict=True):
            if each[2].values[self.number] in changed_results(result, algorithm.bits):
                yield from self._checked(algorithm, *each)

    def followed(self, algorithm: Algorithm) -> Iterator[Finding]:
        """From each natural start to every end."""
        places = self.by_bits.get(algorithm.bits, [])
        if not places:
            return
        mask = np.uint64((1 << algorithm.bits) - 1)
        stored = np.array([place.values[self.number] for place in places], np.uint64)
        wanted = np.unique(np.concatenate((stored, ~stored & mask)))
        spans = [seen(place, ALONE, self.content) for place in places[: self.most_slow]]
        behind = [end + cut.behind for at, end in spans for cut in cuts(self.content, at, end)]
        starts = list(dict.fromkeys([*self.heads[:FOLLOWED], *behind]))
        tries: list[Range] = []
        for start, states in HASHES[algorithm.name].results_from(self.content, starts):
            if self.until.over:
                return
            for tail in self.tails if start in self.heads else ():
                if start + LEAST_COVERED <= self.size - tail:
                    result = int(states[self.size - tail - start])
                    yield from self._spelled(algorithm, result, Edge(start), Edge(tail, True))
            hits = np.flatnonzero(np.isin(states, wanted))
            hits = hits[self.numbers.has_content(np.full(hits.size, start), start + hits)]
            for count in hits.tolist():
                value, end = int(states[count]), start + count
                for place in (
                    *self.by_value[algorithm.bits, value],
                    *self.by_value[algorithm.bits, ~value & int(mask)],
                ):
                    at = place.edge.at(self.size)
                    if not start < at + place.size or not at < end:
                        begin = self._begin(start, place)
                        tries += ((begin, edge, place, None, ALONE) for edge in self._edges(end, place))
        for each in tries if len(tries) <= FEW_TRIES else self._also_elsewhere(algorithm, tries):
            if self.until.over:
                return
            yield from self._checked(algorithm, *each)

    def _also_elsewhere(self, algorithm: Algorithm, tries: Sequence[Range]) -> list[Range]:
        """Those of many ranges that hold in the longest save as well: of 16 bits chance makes thousands. Of a single
        save those that end where ranges usually do.
        """
        if len(self.contents) == 1:
            usual = {Edge(tail, True) for tail in self.tails}
            return [each for each in tries if each[1] in usual or each[1] == each[2].edge]
        content, size = self.others.content, len(self.others.content)
        spans = [(start.at(size), end.at(size)) for start, end, *_ in tries]
        inside = [(each, low, high) for each, (low, high) in zip(tries, spans, strict=True) if 0 <= low < high <= size]
        results = dict(HASHES[algorithm.name].results_from(content, sorted({low for _, low, _ in inside})))
        return [
            each
            for each, low, high in inside
            if each[2].values[self.other] in changed_results(int(results[low][high - low]), algorithm.bits)
        ]

    def _begin(self, start: int, place: Place) -> Edge:
        if start == place.edge.at(self.size) + place.size and place.edge.from_end:
            return place.edge._replace(offset=place.edge.offset - place.size)
        return Edge(start)

    def _edges(self, end: int, place: Place) -> list[Edge]:
        """What an end may be counted from."""
        if end == place.edge.at(self.size):
            return [place.edge]
        return [Edge(self.size - end, True)] if alike(self.contents) else [Edge(self.size - end, True), Edge(end)]


def _published(algorithm: Algorithm) -> Crc | None:
    """The CRC that an algorithm of the catalogue is."""
    return CATALOGUE[algorithm.name][0] if algorithm.name in CATALOGUE and not algorithm.is_salted else None


def all_natural() -> list[Algorithm]:
    """The algorithms that are looked for over natural ranges, the commonest first."""
    first = ("crc-32", "md5", "sha-1", "adler-32", "sha-256", "crc-16-ccitt-false", "crc-16-xmodem", "crc-16-arc")
    others = [name for name in ALGORITHMS if name not in first]
    known = [name for name in others if name in DIGESTS or name in HASHES or ALGORITHMS[name].bits == 8]
    return [ALGORITHMS[name] for name in (*first, *known, *(name for name in others if name not in known))]
