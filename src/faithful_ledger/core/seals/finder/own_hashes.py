"""Hashes with a start value, a seed or a multiplier of the game's own, over the ranges that people choose.

What a hash of one step for each byte began with is had by undoing its steps, from the value that a save stores; at the
right place, over the right range, all saves began with the same. Where a byte does state × multiplier + byte, the
lowest bits of the multiplier decide the lowest bits of that start alone: it is found bit by bit, as the roots of a
polynomial modulo a power of two are (Hensel's lemma), with all places and ranges at once.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Hashable, Iterable, Iterator, Sequence
from itertools import chain, product, zip_longest
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.seals.algorithms import TIMES, Algorithm, own_bytes
from faithful_ledger.core.seals.finder.chosen import LEAST_COVERED, Chosen, Edges, Range, Tries, seen
from faithful_ledger.core.seals.finder.cuts import ALONE
from faithful_ledger.core.seals.finder.finding import Finding, choice_bits, own_bits
from faithful_ledger.core.seals.finder.places import Edge, Place
from faithful_ledger.core.seals.finder.rings import Ranges
from faithful_ledger.core.seals.hashes import HASHES, Hash, multiplied, murmur_seed

__all__ = ["over_all", "with_own_hashes"]

Array: TypeAlias = np.ndarray[Any, Any]
LEAST_LIFTED = 3  # saves: one gives the start value, one the multiplier, and one confirms both
MULTIPLIERS = (31, 33, 37, 131, 17, 23, 29, 101, 1313, 13131, 131_313, 257, 65_599, 16_777_619, 0x41C64E6D, 0x0019660D)
NAMED = {each.multiplier: name for name, each in HASHES.items() if each.multiplier}
UNDONE = sorted(
    (name for name, each in HASHES.items() if each.undo and each.bits >= 32), key=lambda name: HASHES[name].bits
)
MURMUR = "murmur3-32"
SEEDS = {
    name: (*range(1, 256), 1234, 0xDEADBEEF, 0x9747B28C, 0x9E3779B1) for name in ("xxhash-32", "xxhash-64", "xxh3-64")
}
MOST_SEEDED, BYTES_OF_A_CALL = 1 << 27, 2000  # bytes that are hashed with these; what a call costs beside them
MOST_PLACES, MOST_FIXED = 40, 12  # places beside which ranges are tried, and that any usual range may belong to
MOST_LEFT = 1 << 14  # multipliers that are left of all tries: where so many are, the bytes decide nothing
MOST_UNDONE, MOST_OF_MURMUR = 5 << 17, 1 << 19  # bytes, and words of four at a time, that are undone one by one
LARGEST_WHOLE = 1 << 14  # bytes of a payload
SIZED = 5.0  # bits that say how many a number has


def with_own_hashes(
    contents: Sequence[bytes],
    places: Sequence[Place],
    until: Deadline,
    edges: Edges,
    named: str = "",
    taken: Iterable[int] = (),
) -> Iterator[Finding]:
    """Findings that hold in every save, not yet counted, at places that nothing `taken` overlaps in the first save; of
    the algorithms `named` so.
    """
    if len(contents) < 2:
        return
    looking = _OwnHashes(contents, places, until, edges, frozenset(taken))
    if any(name.startswith(named) for name in (TIMES, *NAMED.values())):
        yield from looking.multiplied()
    if MURMUR.startswith(named):
        yield from looking.of_murmur()
    for name in SEEDS:
        if name.startswith(named):
            yield from looking.seeded(name)
    for name in UNDONE:
        if name.startswith(named):
            yield from looking.undone(name)


def over_all(
    payloads: Sequence[bytes], places: Sequence[Place], until: Deadline = NEVER
) -> Iterator[tuple[Algorithm, Place, float]]:
    """Such hashes over all of the two shortest payloads, with the place whose values they are, and how many bits their
    numbers have that the values gave. The places may be in another file.
    """
    numbers = sorted(range(len(payloads)), key=lambda number: len(payloads[number]))[:2]
    if len(numbers) < 2 or len(payloads[numbers[0]]) < LEAST_COVERED or len(payloads[numbers[1]]) > LARGEST_WHOLE:
        return
    for bits in (32, 64):
        known = [place for place in places if place.bits == bits and place.restless][:MOST_PLACES]
        stored = np.array([place.values for place in known], np.uint64).reshape(len(known), len(payloads)).T
        for name, multiplier in (*(("", each) for each in MULTIPLIERS), *((name, 0) for name in (MURMUR, *UNDONE))):
            if until.over or not known:
                break
            if (HASHES[name] if name else multiplied(multiplier)).bits != bits:
                continue
            ours, theirs = (_starts_over(payloads[number], stored[number], name, multiplier) for number in numbers)
            for index in np.flatnonzero(ours == theirs).tolist():
                made = _made(name, multiplier, int(ours[index]))
                if made.start is not None or made.name == TIMES:
                    yield made, known[index], _length(made.start or 0) + (_length(multiplier) if multiplier else 0.0)


def _starts_over(data: bytes, results: Array, name: str, multiplier: int) -> Array:
    """What a hash of some bytes began with, for each of several results."""
    if name == MURMUR:
        return np.array([murmur_seed(data, result) for result in results.tolist()], np.uint64)
    kind: Any = np.uint32 if not name or HASHES[name].bits == 32 else np.uint64
    states: Array = results.astype(kind)
    if multiplier:
        added = multiplied(multiplier).compute((memoryview(data),), 0)
        lowered = pow(pow(multiplier, -1, 1 << 32), len(data), 1 << 32)
        starts: Array = (states - kind(added)) * kind(lowered)
        return starts
    undo = HASHES[name].undo
    assert undo is not None
    states = HASHES[name].undo_end(states)
    for byte in np.frombuffer(data, np.uint8).astype(kind)[::-1]:
        states = undo(states, byte)
    return states


def _made(name: str, multiplier: int, start: int) -> Algorithm:
    """A hash by its name, or by its multiplier; without the start value that is usual for it."""
    name = name or NAMED.get(multiplier, TIMES)
    usual = multiplied(multiplier).start if multiplier else HASHES[name].start
    return Algorithm(name, None if start == usual else start, multiplier=multiplier if name == TIMES else 0)


class _Lane(NamedTuple):
    """What is undone together: from an end of the range, with what is seen in the seal's own bytes."""

    end: int
    low: int
    high: int
    own: str | None
    value: int


class _OwnHashes:
    """`order` are the saves by their sizes; what agrees in the first two of them is checked in all."""

    def __init__(
        self,
        contents: Sequence[bytes],
        places: Sequence[Place],
        until: Deadline,
        edges: Edges,
        taken: frozenset[int],
    ) -> None:
        self.contents, self.until = contents, until
        self.order = sorted(range(len(contents)), key=lambda number: (len(contents[number]), number))
        self.chosen = Chosen(contents[self.order[0]], edges)
        self.left = MOST_UNDONE
        self.left_of_murmur = 4 * MOST_OF_MURMUR
        size = len(contents[0])
        by_bits: dict[int, list[Place]] = defaultdict(list)
        for place in places:
            at = place.edge.at(size)
            if place.mixed and place.bits in (32, 64) and taken.isdisjoint(range(at, at + place.size)):
                by_bits[place.bits].append(place)
        self.tries = {bits: self._tries(known[:MOST_PLACES]) for bits, known in by_bits.items()}

    def _tries(self, places: list[Place]) -> list[Range]:
        """First what is likeliest of each place."""
        in_turn = zip_longest(*map(self.chosen.at, places))
        found = [each for each in chain.from_iterable(in_turn) if each is not None]
        for place, (head, tail) in product(places[:MOST_FIXED], self.chosen.fixed):
            found.append((Edge(head), Edge(tail, True), place, None, ALONE))
        return [each for each in dict.fromkeys(found) if all(_is_wide(each, content) for content in self.contents)]

    def _over(self, tries: list[Range], number: int) -> Ranges:
        return Tries.of(tries, 0, self.contents[number]).over

    # hashes that multiply

    def multiplied(self) -> Iterator[Finding]:
        tries = self.tries.get(32, [])
        if not tries:
            return
        over = [self._over(tries, number) for number in range(len(self.contents))]
        stored = np.array([each[2].values for each in tries], np.uint64).astype(np.uint32).T
        found: dict[Hashable, Finding] = {}
        for number, multiplier in self._lifted(over, stored):
            start = int(self._starts(multiplier, over, stored, np.array([number]))[0, 0])
            made = _made("", multiplier, start)
            _keep(found, self._finding(made, tries[number], _length(start) + _length(multiplier)))
        yield from found.values()

    def _lifted(self, over: Sequence[Ranges], stored: Array) -> Iterator[tuple[int, int]]:
        """The tries that agree in every save, with the multiplier."""
        if len(self.contents) < LEAST_LIFTED:
            every = np.arange(stored.shape[1])
            for multiplier in MULTIPLIERS:
                starts = self._starts(multiplier, over, stored, every)
                yield from ((int(number), multiplier) for number in np.flatnonzero((starts == starts[0]).all(0)))
            return
        left = np.arange(stored.shape[1])
        multipliers = np.ones(left.size, np.uint32)
        for bit in range(32):
            if bit:
                left = np.concatenate((left, left))
                multipliers = np.concatenate((multipliers, multipliers | np.uint32(1 << bit)))
            agrees = np.zeros(left.size, bool)
            mask = np.uint32((2 << bit) - 1)
            for multiplier in np.unique(multipliers).tolist():
                if self.until.over:
                    return
                of_it = np.flatnonzero(multipliers == multiplier)
                starts = self._starts(multiplier, over, stored, left[of_it])
                agrees[of_it] = ((starts ^ starts[0]) & mask == 0).all(0)
            left, multipliers = left[agrees], multipliers[agrees]
            if not 0 < left.size <= MOST_LEFT:
                return
        yield from zip(left.tolist(), multipliers.tolist(), strict=True)

    def _starts(self, multiplier: int, over: Sequence[Ranges], stored: Array, numbers: Array) -> Array:
        """The start value that each save would need for each try of `numbers`, a row for each save."""
        found = np.zeros((len(self.contents), numbers.size), np.uint32)
        inverse = pow(multiplier, -1, 1 << 32)
        for row, (content, ranges) in enumerate(zip(self.contents, over, strict=True)):
            size = len(content)
            lowered, raised = _powers(inverse, size + 1), _powers(multiplier, size + 1)
            sums = np.zeros(size + 1, np.uint32)
            np.cumsum(np.frombuffer(content, np.uint8) * lowered[1:], dtype=np.uint32, out=sums[1:])
            starts, ends, lows = ranges.starts[numbers], ranges.ends[numbers], ranges.ats[numbers]
            highs = lows + ranges.sizes[numbers]
            # each byte weighted by multiplier^-(its offset + 1); what is behind own bytes left out counts as moved down
            total = sums[ends] - sums[starts]
            owned = np.array([ranges.owns[number] or "" for number in numbers.tolist()])
            if (is_own := owned != "").any():
                inside = np.where(is_own, sums[highs] - sums[lows], 0).astype(np.uint32)
                total -= inside
                for own in np.unique(owned[is_own]).tolist():
                    of_it = np.flatnonzero(owned == own)
                    if own == "left out":
                        behind = sums[ends[of_it]] - sums[highs[of_it]]
                        total[of_it] += behind * (raised[highs[of_it] - lows[of_it]] - np.uint32(1))
                    elif byte := own_bytes(own, 1)[0]:
                        ones = np.concatenate((np.zeros(1, np.uint32), np.cumsum(lowered[1:], dtype=np.uint32)))
                        total[of_it] += (ones[highs[of_it]] - ones[lows[of_it]]) * np.uint32(byte)
            left_out = np.where(owned == "left out", highs - lows, 0)
            # stored = start × m^count + total × m^(start offset + count)
            found[row] = stored[row, numbers] * lowered[ends - starts - left_out] - total * raised[starts]
        return found

    # hashes of which each step can be undone

    def of_murmur(self) -> Iterator[Finding]:
        """Murmur3 with a seed of the game's own."""
        found: dict[Hashable, Finding] = {}
        first, other, *_ = self.order
        for each in self.tries.get(32, []):
            if self.until.over or self.left_of_murmur <= 0:
                break
            seed = self._seed(each, first)
            if seed and seed == self._seed(each, other):
                _keep(found, self._finding(Algorithm(MURMUR, start=seed), each, _length(seed)))
        yield from found.values()

    def _seed(self, each: Range, number: int) -> int:
        data = self._covered(each, number)
        self.left_of_murmur -= len(data) + BYTES_OF_A_CALL
        return murmur_seed(data, each[2].values[number])

    def _covered(self, each: Range, number: int) -> bytes:
        start, end, place, own, cut = each
        made = Finding(Algorithm(MURMUR), start, end, place.edge, place.size, place.form, own, cut)
        return b"".join(made.covered(self.contents[number]))

    def seeded(self, name: str) -> Iterator[Finding]:
        """One that can only be tried, with the seeds that people choose."""
        found: dict[Hashable, Finding] = {}
        left, (first, other, *_) = MOST_SEEDED, self.order
        hashing, seeds = HASHES[name], SEEDS[name]
        for each in self.tries.get(hashing.bits, []):
            left -= len(seeds) * (len(self.contents[first]) + BYTES_OF_A_CALL)
            if self.until.over or left <= 0:
                break
            data, value = memoryview(self._covered(each, first)), each[2].values[first]
            for seed in seeds:
                if hashing.compute((data,), seed) == value:
                    there = memoryview(self._covered(each, other))
                    if hashing.compute((there,), seed) == each[2].values[other]:
                        _keep(found, self._finding(Algorithm(name, start=seed), each, _length(seed)))
        yield from found.values()

    def undone(self, name: str) -> Iterator[Finding]:
        """One that takes a byte after the other."""
        hashing = HASHES[name]
        tries = self.tries.get(hashing.bits, [])
        first, other, *_ = self.order
        cost = len(self.contents[first]) + len(self.contents[other])
        if not tries or self.until.over or cost > self.left:
            return
        self.left -= cost
        ours, theirs = (self._undone(hashing, tries, number) for number in (first, other))
        found: dict[Hashable, Finding] = {}
        for number in np.flatnonzero(ours == theirs).tolist():
            start = int(ours[number])
            if start != hashing.start:
                _keep(found, self._finding(Algorithm(name, start=start), tries[number], _length(start)))
        yield from found.values()

    def _undone(self, hashing: Hash, tries: list[Range], number: int) -> Array:
        """The start value that a save would need for each try."""
        assert hashing.undo is not None
        content, over = self.contents[number], self._over(tries, number)
        kind = np.uint32 if hashing.bits == 32 else np.uint64
        lanes: dict[_Lane, int] = {}
        of_tries = []
        for end, at, size, own, each in zip(over.ends, over.ats, over.sizes, over.owns, tries, strict=True):
            span = (int(at), int(at + size)) if own is not None else (0, 0)
            lane = _Lane(int(end), *span, own, each[2].values[number])
            of_tries.append(lanes.setdefault(lane, len(lanes)))
        every = list(lanes)
        wanted: dict[int, list[int]] = defaultdict(list)
        begun: dict[int, list[int]] = defaultdict(list)
        for index, start in enumerate(over.starts.tolist()):
            wanted[start].append(index)
        for index, lane in enumerate(every):
            begun[lane.end].append(index)
        bounds = {*wanted, *begun, *(edge for lane in every for edge in (lane.low, lane.high))}
        results = hashing.undo_end(np.array([lane.value for lane in every], kind))
        states, found = np.zeros(len(every), kind), np.zeros(len(tries), kind)
        lane_of = np.array(of_tries)
        data = np.frombuffer(content, np.uint8).astype(kind)
        at = max(bounds)
        for bound in sorted(bounds, reverse=True):
            owned = [
                index for index, lane in enumerate(every) if lane.low <= bound and at <= lane.high and lane.low < at
            ]
            kept = [index for index in owned if every[index].own == "left out"]
            seen = {index: own_bytes(every[index].own or "", 1)[0] for index in owned if index not in kept}
            for byte in data[bound:at][::-1]:
                if not owned:
                    states = hashing.undo(states, byte)
                    continue
                bytes_, before = np.full(len(every), byte, kind), states[kept]
                bytes_[list(seen)] = list(seen.values())
                states = hashing.undo(states, bytes_)
                states[kept] = before
            found[wanted[bound]] = states[lane_of[wanted[bound]]]
            states[begun[bound]] = results[begun[bound]]
            at = bound
        return found

    def _finding(self, made: Algorithm, each: Range, constant: float) -> Finding:
        """`constant` is how many bits the numbers have that the saves gave."""
        start, end, place, own, cut = each
        size, at = len(self.contents[0]), place.edge.at(len(self.contents[0]))
        cost = choice_bits(made, (start.at(size), end.at(size)), (at, at + place.size), size) + own_bits(own) + constant
        bits = float(made.bits * len(set(place.values))) - cost
        return Finding(made, start, end, place.edge, place.size, place.form, own, cut, bits=bits)


def _keep(found: dict[Hashable, Finding], finding: Finding) -> None:
    """Of what is found at one place only the likeliest: bytes that are always the same in front of a range make it
    another start value.
    """
    place = finding.stored, finding.size, finding.form
    if place not in found or found[place].bits < finding.bits:
        found[place] = finding


def _is_wide(each: Range, content: bytes) -> bool:
    """Whether it is a range of a save that covers the place, or does not, as it says. One that begins with the place
    is another start value over what is behind that.
    """
    start, end, place, own, cut = each
    size, (low, high) = len(content), seen(place, cut, content)
    first, last = start.at(size), end.at(size)
    if not (0 <= low < high <= size and 0 <= first <= last - LEAST_COVERED and last <= size):
        return False
    return first < low and high <= last if own is not None else high <= first or last <= low


def _length(number: int) -> float:
    """What it costs to say a number."""
    return number.bit_length() + SIZED


def _powers(base: int, count: int) -> Array:
    """base⁰, base¹ … modulo 2³²."""
    found = np.full(count, base, np.uint32)
    found[0] = 1
    return np.multiply.accumulate(found, dtype=np.uint32)
