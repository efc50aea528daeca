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
from functools import cached_property
from itertools import chain, islice, product
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.seals.algorithms import ALGORITHMS, Algorithm, own_bytes
from faithful_ledger.core.seals.crc import CATALOGUE, Crc
from faithful_ledger.core.seals.finder.cuts import ALONE, Cut, cuts, line_starts
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
    DECIMAL,
    Edge,
    Place,
    alike,
    changed_offsets,
    is_text,
    restless_runs,
    span_of,
)
from faithful_ledger.core.seals.finder.rings import Ranges
from faithful_ledger.core.seals.finder.spelling import changed_results, changes, dashed, in_base64, written_in
from faithful_ledger.core.seals.hashes import DIGESTS, HASHES, Lane
from faithful_ledger.core.seals.sums import SUMS
from faithful_ledger.core.storage import WRITTEN

__all__ = ["LEAST_COVERED", "NO_EDGES", "SLOW", "Edges", "all_natural", "is_plain", "natural"]

Array: TypeAlias = np.ndarray[Any, Any]
_Range: TypeAlias = tuple[Edge, Edge, Place, str | None, Cut]
HEADS = (0, 4, 8, 12, 16, 20, 24, 28, 32, 36, 40, 48, 56, 60, 64, 80, 96, 100, 128, 256, 512, 1024)
TAILS = (0, 4, 8, 2, 16, 1, 12, 20, 32, 64)
FEW_HEADS, FEW_TAILS, FOLLOWED = 8, 5, 16
RICH, MUCH = 2.0, 8  # bits that say so for all beside a place, of which so many bytes change
CUT = 4.0  # bits that it costs to leave something out beside it
OWN = ("zeros", "left out", "FF", "20")
BLOCKS = tuple(1 << bits for bits in range(8, 17))  # sizes of the blocks that a file may have a seal each in
NEAR_IT = (0, 2, 4, 8)  # bytes between a seal and what it covers
IN_LETTERS = (*OWN, "30")
SLOW = {name for name, each in HASHES.items() if each.step is not None}  # they take byte after byte in Python
MOST_PLACES, MOST_AT_ONCE, MOST_SLOW = 40, 80, 10
SMALL = 1 << 12  # bytes of a save in which more places take no longer than fewer in a large one
MOST_BYTES = 10  # places of a single byte: there are many, and they say little
NEAR_END = 32  # bytes from either end of the file at which digests usually are
MOST_SPELLED, MOST_BESIDE = 4, 4
MOST_SPELLED_NUMBERS = 16  # they rank behind numbers in bytes, of which a text is full
SPELLED = re.compile(rb"[0-9A-Za-z+/]{6}")  # what a result in letters may be
FEW_TRIES = 64  # ranges that are tried one by one with an algorithm that takes byte after byte
LEAST_COVERED = 8  # bytes: a hash of one that is zero may be zero itself


class Edges(NamedTuple):
    """Where parts of every save begin, and how many bytes before its end they end: streams, as they are packed."""

    heads: tuple[int, ...] = ()
    tails: tuple[int, ...] = ()


NO_EDGES = Edges()


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


class _Tries(NamedTuple):
    """Ranges to try, and the same as offsets in one content; so many of them, of the `likely` places, one by one where
    they cannot be had together.
    """

    each: list[_Range]
    over: Ranges
    likely: int

    @classmethod
    def of(cls, each: list[_Range], likely: int, content: bytes) -> _Tries:
        spans = []
        for start, end, place, _, cut in each:
            low, high = _seen(place, cut, content)
            spans.append((start.at(len(content)), end.at(len(content)), low, high - low))
        starts, ends, ats, sizes = np.array(spans, np.intp).reshape(-1, 4).T
        return cls(each, Ranges(starts, ends, ats, sizes, tuple(own for _, _, _, own, _ in each)), likely)


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
        self.ranges: dict[tuple[int, bool], _Tries] = {}
        self.other = max(range(len(contents)), key=lambda j: (len(contents[j]), j != number))
        self.others = Numbers(contents[self.other])
        self.is_text = is_text(self.content)
        self.has_text = SPELLED.search(self.content) is not None
        self.lines = line_starts(self.content) if self.has_text else ([], [])
        heads, tails = ((0, *self.lines[0]), (0, *self.lines[1])) if self.is_text else (HEADS, TAILS)
        heads, tails = (*heads[:1], *edges.heads, *heads[1:]), (*tails[:1], *edges.tails, *tails[1:])
        self.heads = [head for head in dict.fromkeys(heads) if head <= self.size // 2]
        self.tails = [tail for tail in dict.fromkeys(tails) if tail <= self.size // 2]
        self.fixed_edges = list(product(self.heads, self.tails))
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
        if algorithm.is_digest or (algorithm.bits >= 32 and self.has_text):
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
                for each in self._ranges_at(place):
                    yield from self._tried(algorithm, *each)
            return
        tries = self._tries(algorithm)
        if not tries.each:
            return
        if crc is not None:
            states = self.numbers.crc_states(crc, tries.over)
            yield from self._matching(algorithm, tries, states, np.ones(states.size, bool), crc.state_of)
        else:
            yield from self._matching(algorithm, tries, *self.numbers.running.seen(algorithm.name, tries.over), int)

    def _tries(self, algorithm: Algorithm) -> _Tries:
        """All ranges that begin or end at a place for a result of this size, or cover it."""
        key = algorithm.bits, algorithm.name in CATALOGUE
        if key not in self.ranges:
            places = self._places(algorithm)[:MOST_AT_ONCE]
            by_place = [list(self._ranges_at(place)) for place in places]
            likely = sum(map(len, by_place[:MOST_PLACES]))
            self.ranges[key] = _Tries.of(list(chain.from_iterable(by_place)), likely, self.content)
        return self.ranges[key]

    def _matching(
        self,
        algorithm: Algorithm,
        tries: _Tries,
        results: Array,
        known: Array,
        state_of: Callable[[int], int],
    ) -> Iterator[Finding]:
        """What of many tries gives what is stored, in the shortest save; the likely ones of which the result is not
        `known` are tried one by one. `state_of` makes a value that is stored comparable with the results.
        """
        values = [each[2].values[self.number] for each in tries.each]
        found = ~known
        found[tries.likely :] = False
        wanted = {value: list(map(state_of, changed_results(value, algorithm.bits))) for value in set(values)}
        for column in np.array([wanted[value] for value in values], np.uint64).T:
            found |= known & (results == column)
        for number in np.flatnonzero(found).tolist():
            if self.until.over:
                return
            yield from self._tried(algorithm, *tries.each[number])

    def _ranges_at(self, place: Place) -> Iterator[_Range]:
        """Ranges that begin or end at a place, or cover it: from, to, the place, and as what it is seen."""
        at, end = _seen(place, ALONE, self.content)
        in_letters = place.form in WRITTEN and place.form != "bytes"
        around = cuts(self.content, at, end) if in_letters else [ALONE]
        if place.form in DECIMAL:
            yield from self._beside_digits(place, around)
        for behind, tail in product(sorted({cut.behind for cut in around}), self.tails[:FEW_TAILS]):
            if self.size - tail > end + behind:
                yield place.edge.moved(place.size + behind), Edge(tail, True), place, None, ALONE
        for before in sorted({cut.before for cut in around}):
            for head in (*self.heads, *self.lines[0]) if not before else (*self.heads[:FEW_HEADS], *self.lines[0]):
                if head < at - before:
                    yield Edge(head), place.edge.moved(-before), place, None, ALONE
        for size in () if in_letters else BLOCKS:
            first, last = at // size * size, at // size * size + size
            if first and last <= self.size and end <= last:
                yield from self._in_block(place, first, last)
        wholes = product(self.heads[:FEW_HEADS], self.tails[:2])
        for (head, tail), own in product(wholes, IN_LETTERS if in_letters else OWN):
            if head <= at and end <= self.size - tail:
                yield Edge(head), Edge(tail, True), place, own, ALONE
        for head, tail, cut in product((0, *self.lines[0]), (0, *self.lines[1]), around):
            if any(cut) and head <= at - cut.before and end + cut.behind <= self.size - tail:
                yield Edge(head), Edge(tail, True), place, "left out", cut

    def _beside_digits(self, place: Place, around: Sequence[Cut]) -> Iterator[_Range]:
        """What is in front of a number, or behind it, however many digits it has: all but it and what follows, or all
        but it and what precedes.
        """
        at, end = _seen(place, ALONE, self.content)
        if place.edge.from_end:
            for before, head in product(sorted({cut.before for cut in around}), (0, *self.lines[0])):
                if head < at - before:
                    yield Edge(head), Edge(0, True), place, "left out", Cut(before, self.size - end)
        else:
            for behind, tail in product(sorted({cut.behind for cut in around}), (0, *self.lines[1])):
                if end + behind < self.size - tail:
                    yield Edge(0), Edge(tail, True), place, "left out", Cut(at, behind)

    def _in_block(self, place: Place, first: int, last: int) -> Iterator[_Range]:
        """A place in a block of the file, of a size that is a power of two: what is in front of it, and behind it."""
        at, end = _seen(place, ALONE, self.content)
        for more in NEAR_IT:
            if first < at - more:
                yield Edge(first), place.edge.moved(-more), place, None, ALONE
            if end + more < last:
                yield place.edge.moved(place.size + more), Edge(last), place, None, ALONE
        yield Edge(first), Edge(last), place, "zeros", ALONE

    def _places(self, algorithm: Algorithm) -> list[Place]:
        if not algorithm.is_digest:
            known = self.by_bits.get(algorithm.bits, [])[: MOST_BYTES if algorithm.bits == 8 else None]
            known = [place for place in known if place.mixed] if algorithm.name in CATALOGUE else known
            in_letters = [place for place in known[MOST_PLACES:] if place.form in WRITTEN][:MOST_SPELLED_NUMBERS]
            return [*known[: MOST_PLACES - len(in_letters)], *in_letters, *known[MOST_PLACES - len(in_letters) :]]
        size = algorithm.bits // 8
        in_bytes = [] if self.is_text else self._digest_places(size)
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
        at, behind = _seen(place, ALONE, self.content)
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
            low, high = _seen(place, cut, self.others.content)
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
        tries: list[_Range] = []
        places, most = self._places(algorithm), self.most_slow
        in_letters = [place for place in places[most:] if place.form in WRITTEN]  # they look like nothing else
        for place, head, own in product((*places[:most], *in_letters[:most]), self.heads[:2], OWN[:3]):
            if head <= place.edge.at(self.size) <= self.size - place.size:
                tries.append((Edge(head), Edge(0, True), place, own, ALONE))
        lanes = [
            Lane(start.at(self.size), self.size, low, high - low, own_bytes(own or "", 1))
            for start, _, place, own, _ in tries
            for low, high in (_seen(place, ALONE, self.content),)
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
        spans = [_seen(place, ALONE, self.content) for place in places[: self.most_slow]]
        behind = [end + cut.behind for at, end in spans for cut in cuts(self.content, at, end)]
        starts = list(dict.fromkeys([*self.heads[:FOLLOWED], *behind]))
        tries: list[_Range] = []
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

    def _also_elsewhere(self, algorithm: Algorithm, tries: Sequence[_Range]) -> list[_Range]:
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


def _seen(place: Place, cut: Cut, content: bytes) -> tuple[int, int]:
    """Where a place is in a content, with what is left out with it."""
    low, high = span_of(place.edge, place.size, place.form, content)
    return low - cut.before, high + cut.behind


def _published(algorithm: Algorithm) -> Crc | None:
    """The CRC that an algorithm of the catalogue is."""
    return CATALOGUE[algorithm.name][0] if algorithm.name in CATALOGUE and not algorithm.is_salted else None


def all_natural() -> list[Algorithm]:
    """The algorithms that are looked for over natural ranges, the commonest first."""
    first = ("crc-32", "md5", "sha-1", "adler-32", "sha-256", "crc-16-ccitt-false", "crc-16-xmodem", "crc-16-arc")
    others = [name for name in ALGORITHMS if name not in first]
    known = [name for name in others if name in DIGESTS or name in HASHES or ALGORITHMS[name].bits == 8]
    return [ALGORITHMS[name] for name in (*first, *known, *(name for name in others if name not in known))]
