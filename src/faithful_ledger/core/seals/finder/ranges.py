"""Checksums over any range, from what differs between saves of one size.

Between two saves only bytes that differ matter, so the prefixes of the differences change at these bytes only: all ends
between two of them are one class. A checksum over [s, e) is a difference of prefixes times weight^e (rings.py). With
three saves the weight is eliminated crosswise, V₂ × K₁ = V₁ × K₂, so the classes of s and e are two that agree: they
are found by sorting. Then e follows from the weight, and s, with the start and what is XORed, from one save as it is.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from itertools import combinations, islice
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.bit_order import mirrored, mirrored_bytes
from faithful_ledger.core.scan import distinct
from faithful_ledger.core.seals.algorithms import CRC, Algorithm
from faithful_ledger.core.seals.crc import CATALOGUE, Crc
from faithful_ledger.core.seals.finder.finding import Finding, edges_bits, naturalness
from faithful_ledger.core.seals.finder.joining import MIXING, both, places_of, repeated
from faithful_ledger.core.seals.finder.kept import NUMBER, Kept
from faithful_ledger.core.seals.finder.places import DECIMAL, Edge, Place, changed_offsets
from faithful_ledger.core.seals.finder.rings import Polynomials, Prefixes, Ring, multiplying, polynomials
from faithful_ledger.core.seals.hashes import HASHES

__all__ = ["FILLS", "Differences", "any_range", "chains"]

Array: TypeAlias = np.ndarray[Any, Any]
MOST_PAIRS, MOST_AGREEING = 1024, 1 << 17  # chance makes n² ÷ 2³³ of 32 bits: 128 in 1 MiB, 32,768 in 16 MiB
MOST_ENDS = 4
MOST_ALIKE = 64  # pairs of those that agree for one and the same reason
FEW = 1 << 11
THREADS, LARGE = 2, 1 << 19
MOST_KEPT = 1 << 28  # bytes of prefixes, and of differences of them
TRIED = 13.0  # bits: about so many algorithms, orders and places are tried
FILLS = ("zeros", "FF", "20", "30")


class Chain(NamedTuple):
    """One kind of state that takes byte after byte: a ring, over bytes as they are or `flipped` (mirrored). `known` are
    the usual starts and what is XORed in the end, as states, each with its algorithm. `inverted` where the inverse of a
    state is stored, which in a ring of numbers no XOR in the end stands for.
    """

    ring: Ring
    flipped: bool
    known: tuple[tuple[Algorithm, int, int], ...]
    inverted: bool = False

    def state_of(self, value: int) -> int:
        """The state that a stored value says."""
        if self.inverted:
            return ~value & (1 << self.ring.bits) - 1
        return mirrored(value, self.ring.bits) if self.flipped else value


def chains(named: str = "") -> list[Chain]:
    """Every ring of the catalogue, the commonest first; of those that have an algorithm whose name begins so."""
    found: dict[tuple[int, int, bool], list[tuple[Algorithm, int, int]]] = {}
    for name, (crc, _) in CATALOGUE.items():
        out = crc.xor_out if crc.reflected else mirrored(crc.xor_out, crc.width)
        start = mirrored(crc.start, crc.width)
        found.setdefault((crc.width, crc.polynomial, not crc.reflected), []).append((Algorithm(name), start, out))
    for width, polynomial, flipped in list(found):
        found.setdefault((width, polynomial, not flipped), [])
    order = sorted(found, key=lambda key: (key[1] not in (0x04C11DB7, 0x1021, 0x8005), key[0] != 32))
    every = [Chain(polynomials(w, p), flipped, tuple(found[w, p, flipped])) for w, p, flipped in order if w >= 16]
    for name, hash_ in HASHES.items():
        if hash_.multiplier:
            starts = {hash_.start, 0}
            known = tuple((Algorithm(name, start if start != hash_.start else None), start, 0) for start in starts)
            ring = multiplying(hash_.multiplier)
            every.append(Chain(ring, False, known))
            inverted = tuple((replace(each, changed="inverted"), start, out) for each, start, out in known)
            every.append(Chain(ring, False, inverted, inverted=True))
    kept = {id(each.ring) for each in every if any(way.name.startswith(named) for way, _, _ in each.known)}
    return [each for each in every if id(each.ring) in kept]


class Differences:
    """Saves of one size, and what differs between them."""

    def __init__(self, contents: Sequence[bytes]) -> None:
        self.contents = list(contents)
        self.size = len(contents[0])
        self.at = changed_offsets(contents)
        self._terms: Kept[tuple[Ring, bool], list[Array]] = Kept(MOST_KEPT)
        self._prefixes: Kept[tuple[Ring, bool], Prefixes] = Kept(MOST_KEPT)

    def terms(self, chain: Chain) -> list[Array]:
        """What the bytes that differ add to the prefixes, for each save but the first: the difference to that one."""
        size = NUMBER * self.at.size * (len(self.contents) - 1)
        return self._terms.get((chain.ring, chain.flipped), size, lambda: self._new_terms(chain))

    def _new_terms(self, chain: Chain) -> list[Array]:
        which = self.at if self.at.size < self.size else slice(None)
        weights = chain.ring.inverses(self.size)[which]
        flip = mirrored_bytes if chain.flipped else bytes
        first, *others = (np.frombuffer(flip(content), np.uint8)[which] for content in self.contents)

        def between(other: Array) -> Array:
            return chain.ring.between(first, other, weights)

        if self.at.size < FEW:  # tables for each would take longer than all others at once
            times = len(others)
            every = chain.ring.between(np.tile(first, times), np.concatenate(others), np.tile(weights, times))
            return np.split(every, times)
        if self.at.size < LARGE:
            return list(map(between, others))
        with ThreadPoolExecutor(THREADS) as pool:  # NumPy lets others run meanwhile
            return list(pool.map(between, others))

    def prefixes(self, chain: Chain) -> Prefixes:
        """Those of the first save."""

        def make() -> Prefixes:
            return Prefixes(chain.ring, self.contents[0], flipped=chain.flipped, few=not chain.known)

        return self._prefixes.get((chain.ring, chain.flipped), NUMBER * self.size, make)

    def apart(self, place: Place, of: Array) -> Array:
        """Of what there is for each of the bytes that differ, what is not that of a place's own bytes."""
        start = place.edge.at(self.size)
        first, behind = np.searchsorted(self.at, [start, start + place.size]).tolist()
        return np.concatenate((of[:first], of[behind:]))


class _Classes(NamedTuple):
    """Ends that no save can tell apart: the first of each class, and the size of the saves."""

    low: Array
    size: int

    def of(self, numbers: Array) -> tuple[Array, Array]:
        """The first and the last end of some classes."""
        following = np.minimum(numbers + 1, self.low.size - 1)
        return self.low[numbers], np.where(numbers + 1 < self.low.size, self.low[following] - 1, self.size)

    def one(self, number: int) -> tuple[int, int]:
        low, high = self.of(np.array([number]))
        return int(low[0]), int(high[0])


def any_range(found: Differences, place: Place, chain: Chain) -> Iterator[Finding]:
    """Where a chain over some range gives what is at a place, in every save."""
    ring = chain.ring
    if place.bits != ring.bits and not (place.form in DECIMAL and max(place.values) >> ring.bits == 0):
        return
    states = list(map(chain.state_of, place.values))
    steps = [ring.minus_one(state, states[0]) for state in states[1:]]
    pivot = next((j for j, step in enumerate(steps) if step), None)
    if pivot is None:
        return
    changed = found.apart(place, found.at)  # its own bytes are the same to every range
    low = np.zeros(changed.size + 1, np.intp)
    np.add(changed, 1, out=low[1:])
    classes = _Classes(low, found.size)
    prefixes = [ring.summed(found.apart(place, terms)) for terms in found.terms(chain)]
    start = place.edge.at(found.size)
    if len(steps) == 1:  # only what has published constants is worth a look
        chosen = list(_from_two(ring, found.size, prefixes[0], low, steps[0]))
        for first, end in _published(found, place, chain, states[0], chosen, classes):
            if end >= start + place.size or end <= start:
                for finding in _absolute(found, place, chain, states[0], classes.one(first), end, left_out=False):
                    if not finding.constant_only:
                        yield finding
        return
    crosswise = _crosswise(ring, prefixes, steps, pivot)
    before = int(np.searchsorted(low, start, side="right")) - 1  # the class of the place itself
    for left_out in (False, True):
        shift = place.size if left_out else 0
        if left_out:
            pairs = islice(_around(ring, crosswise, before, shift), MOST_PAIRS)
        else:
            agreeing = islice(_agreeing(crosswise, prefixes[pivot]), MOST_AGREEING)
            pairs = islice(_weighed(ring, agreeing, prefixes[pivot], steps[pivot], classes), MOST_PAIRS)
        for first, second in pairs:
            between = [_moved(ring, each, first, before, second, shift) for each in prefixes]
            own = start, start + place.size
            for end in _ends(ring, found.size, between, steps, pivot, classes.one(second), shift, own):
                if end >= start + place.size or (end <= start and not left_out):
                    yield from _absolute(found, place, chain, states[0], classes.one(first), end, left_out)


def _from_two(ring: Ring, size: int, prefixes: Array, low: Array, step: int) -> Iterator[tuple[int, int]]:
    """Classes of starts, each with an end, between which two saves differ as the stored values do: for every end there
    is one prefix that would do, which is looked up.
    """
    begins = np.zeros(size + 1, np.int32)
    begins[low] = 1
    behind = np.cumsum(begins, dtype=np.int32) - 1  # the class of each end
    targets = ring.minus(prefixes[behind], ring.times(ring.lowered(size + 1), step))
    found, firsts = both(targets, prefixes)
    found = found[:MOST_PAIRS]
    classes: dict[int, list[int]] = {}
    for first in firsts[places_of(prefixes[firsts], distinct(targets[found]))].tolist():
        classes.setdefault(int(prefixes[first]), []).append(first)
    for end in found.tolist():
        for first in [each for each in classes[int(targets[end])] if each < behind[end]][:2]:
            yield first, end


def _published(
    found: Differences,
    place: Place,
    chain: Chain,
    state: int,
    chosen: list[tuple[int, int]],
    classes: _Classes,
) -> Iterator[tuple[int, int]]:
    """Those classes of starts and their ends that may have a published start and end: all but those of a single start,
    with the place outside, of which the first save says that they have not.
    """
    ring, known = chain.ring, found.prefixes(chain)
    numbers, ends = np.array(chosen, np.intp).reshape(-1, 2).T
    low, high = classes.of(numbers)
    at = place.edge.at(found.size)
    outside = (low == high) & ((low >= at + place.size) | (ends <= at)) & (low < ends)
    between = ring.minus(*np.split(known.at(np.concatenate((ends, low))), 2))
    sums = ring.products(ring.powers_at(ends, found.size), between)
    rest = ring.minus(np.full(ends.size, state, ring.kind), sums)
    fits = ~outside
    lengths = ring.powers_at(np.where(outside, ends - low, 0), found.size)
    mask = (1 << ring.bits) - 1 if isinstance(ring, Polynomials) else 0
    for _, begin, out in chain.known:
        left = ring.minus(rest, ring.times(lengths, begin)) if begin else rest
        fits |= (left == out) | (left == out ^ mask)
    yield from (chosen[number] for number in np.flatnonzero(fits).tolist())


def _crosswise(ring: Ring, prefixes: list[Array], steps: list[int], pivot: int) -> list[Array]:
    """Prefixes from which the weight of the end is eliminated: those of two classes agree where the differences between
    them may be those of the stored values.
    """
    return [
        ring.minus(ring.times(each, steps[pivot]), ring.times(prefixes[pivot], steps[j]))
        for j, each in enumerate(prefixes)
        if j != pivot
    ]


def _mixed(crosswise: list[Array]) -> Array:
    """One key of several."""
    if len(crosswise) == 1:
        return crosswise[0]
    key: Array = np.zeros(crosswise[0].size, np.uint64)
    for number, each in enumerate(crosswise):
        key = key * np.uint64(MIXING[0]) + each * np.uint64(MIXING[1 + number % 2])
    return key


def _agreeing(crosswise: list[Array], prefixes: Array) -> Iterator[tuple[int, int]]:
    """Pairs of classes that agree, of which the `prefixes` differ."""
    keys = _mixed(crosswise)
    where = repeated(keys)
    by_key = np.lexsort((where, prefixes[where], keys[where]))
    where = where[by_key]
    fresh = np.ones(where.size, bool)  # the first of each prefix
    fresh[1:] = (keys[where[1:]] != keys[where[:-1]]) | (prefixes[where[1:]] != prefixes[where[:-1]])
    where = where[fresh]
    starts = np.flatnonzero(np.concatenate(([True], keys[where[1:]] != keys[where[:-1]]))) if where.size else where
    sizes = np.diff(np.concatenate((starts, [where.size])))
    two = starts[sizes == 2]
    yield from np.sort(np.column_stack((where[two], where[two + 1])), axis=1).tolist()
    for start, size in zip(starts[sizes > 2].tolist(), sizes[sizes > 2].tolist(), strict=True):
        yield from islice(combinations(np.sort(where[start : start + size]).tolist(), 2), MOST_ALIKE)


def _weighed(
    ring: Ring, pairs: Iterator[tuple[int, int]], prefixes: Array, step: int, classes: _Classes
) -> Iterator[tuple[int, int]]:
    """Those pairs of which the second class is more than one end, or one that has the right weight."""
    both = np.array(list(pairs), np.intp).reshape(-1, 2)
    first, second = both.T
    low, high = classes.of(second)
    alone = np.flatnonzero(low == high)
    between = ring.minus(prefixes[second[alone]], prefixes[first[alone]])
    lowered = ring.lowered_at(low[alone], classes.size)
    kept = np.ones(len(both), bool)
    kept[alone] = ring.times(lowered, step) == between
    yield from zip(first[kept].tolist(), second[kept].tolist(), strict=True)


def _around(ring: Ring, crosswise: list[Array], before: int, size: int) -> Iterator[tuple[int, int]]:
    """Pairs of classes around a place of `size` bytes that are left out: what is behind it has another weight. Of the
    two sides the smaller one is given the weights of the other.
    """
    firsts: list[Array] = []
    seconds: list[Array] = []
    for each in crosswise:
        centred = ring.minus(each, each[before : before + 1])
        first, second = centred[: before + 1], centred[before:]
        if first.size <= second.size:
            first = ring.times(first, ring.power(-size))
        else:
            second = ring.times(second, ring.power(size))
        firsts.append(first)
        seconds.append(second)
    mine, theirs = _mixed(firsts), _mixed(seconds)
    for number in both(theirs, mine)[0].tolist():
        for first in np.flatnonzero(mine == theirs[number])[:MOST_ALIKE].tolist():
            if first < before + number:
                yield first, before + number


def _moved(ring: Ring, prefixes: Array, first: int, before: int, second: int, shift: int) -> int:
    """The difference of two prefixes, of which the second moves up by `shift` bytes in front of it."""
    one, middle, two = (int(prefixes[number]) for number in (first, before, second))
    if not shift:
        return ring.minus_one(two, one)
    behind = ring.product(ring.minus_one(two, middle), ring.power(shift))
    return ring.minus_one(behind, ring.minus_one(one, middle))


def _ends(
    ring: Ring,
    size: int,
    between: list[int],
    steps: list[int],
    pivot: int,
    stretch: tuple[int, int],
    shift: int,
    own: tuple[int, int],
) -> list[int]:
    """The ends in a stretch at which the differences `between` two classes have the right weight, in all saves. Where
    weights repeat, because the polynomial is a product of small ones, those that people would choose; `own` are the
    edges of the place.
    """
    low, high = stretch
    lowered = ring.lowered_from(max(low - shift, 0), max(high - shift + 1, 0), size)
    hits = np.flatnonzero(ring.times(lowered, steps[pivot]) == between[pivot])
    ends = hits + max(low - shift, 0) + shift
    natural = np.argsort(naturalness(ends, own, size), kind="stable")[:MOST_ENDS]
    found = []
    for end in np.sort(ends[natural]).tolist():
        weight = int(ring.lowered_at(np.array([end - shift]), size)[0])
        if all(ring.product(weight, step) == each for each, step in zip(between, steps, strict=True)):
            found.append(end)
    return found


def _absolute(
    found: Differences, place: Place, chain: Chain, state: int, reach: tuple[int, int], end: int, left_out: bool
) -> Iterator[Finding]:
    """The start of the range, and how the computation begins and ends, from the first save."""
    own_start, own_end = place.edge.at(found.size), place.edge.at(found.size) + place.size
    starts = np.arange(reach[0], min(reach[1], end - 1) + 1)
    starts = starts[(starts <= own_start) | (starts >= own_end)]
    natures = naturalness(starts, (own_start, own_end), found.size)
    covers = (starts <= own_start) & (end >= own_end)
    fills = FILLS if chain.known else FILLS[:1]
    for own in ("left out",) if left_out else (None, *fills):
        chosen = covers if own is not None else ~covers
        if chosen.any():
            made = _Made(found, place, chain, state, starts[chosen], natures[chosen], end, own)
            hits = list(made.known())
            yield from hits
            if not hits and own in (None, "zeros", "left out"):
                yield made.unknown()


class _Made(NamedTuple):
    """Ranges with one end that may have given the first save's state, and how natural the start of each is."""

    found: Differences
    place: Place
    chain: Chain
    state: int
    starts: Array
    natures: Array
    end: int
    own: str | None

    def _left(self, starts: Array) -> tuple[Array, Array]:
        """For ranges from some starts, their lengths, and what is left of the state for the start and the final XOR of
        the computation.
        """
        ring, prefixes, (at, behind) = self.chain.ring, self.found.prefixes(self.chain), self._edges
        shift = behind - at if self.own == "left out" else 0
        last = np.full(1, prefixes.end(self.end, at, behind - at, self.own), ring.kind)
        sums = ring.times(ring.minus(last, prefixes.at(starts)), ring.power(self.end - shift))
        return self.end - shift - starts, ring.minus(np.full(1, self.state, ring.kind), sums)

    def known(self) -> Iterator[Finding]:
        """Findings with a published start and end."""
        if not self.chain.known:
            return
        ring = self.chain.ring
        lengths, rest = self._left(self.starts)
        powers = ring.powers_at(lengths, self.found.size)
        inverted = {"inverted": (1 << ring.bits) - 1} if isinstance(ring, Polynomials) else {}
        for algorithm, begin, out in self.chain.known:
            left = ring.minus(rest, ring.times(powers, begin)) if begin else rest
            for changed, mask in ({algorithm.changed: 0} | inverted).items():
                fits = left == out ^ mask
                if fits.any():
                    which = int(np.flatnonzero(fits)[self.natures[fits].argmin()])
                    named = replace(algorithm, changed=changed)  # type: ignore[arg-type]
                    yield self._finding(named, self.starts[fits], int(self.starts[which]))

    def unknown(self) -> Finding:
        """With a start or an end of its own, as far as saves of one size can tell them, from the start of the range
        that people would choose.
        """
        ring, flipped = self.chain.ring, self.chain.flipped
        start = self.starts[self.natures.argmin()]
        lengths, rest = self._left(start[None])
        left = int(rest[0])
        if isinstance(ring, Polynomials):
            out = mirrored(left, ring.bits) if flipped else left
            crc = Crc(ring.bits, mirrored(ring.polynomial, ring.bits), 0, not flipped, not flipped, out)
            algorithm = Algorithm(CRC, crc=crc)
        else:
            begin = ring.product(left, ring.power(-int(lengths[0])))
            algorithm = replace(self.chain.known[0][0], start=begin)
        return self._finding(algorithm, self.starts, int(start), constant_only=True)

    @property
    def _edges(self) -> tuple[int, int]:
        at = self.place.edge.at(self.found.size)
        return at, at + self.place.size

    def _finding(self, algorithm: Algorithm, starts: Array, start: int, *, constant_only: bool = False) -> Finding:
        """From one of some starts; how unlikely chance is are the bits of all values that were explained, less what
        could be chosen.
        """
        place, size = self.place, self.found.size
        values = len(set(place.values)) - constant_only
        chosen = edges_bits((start, self.end), self._edges, size)
        return Finding(
            algorithm,
            Edge(start),
            Edge(self.end),
            place.edge,
            place.size,
            place.form,
            self.own,
            bits=place.bits * values - chosen - TRIED,
            freedom=f"its start may be {int(starts.min())} to {int(starts.max())}" if starts.size > 1 else "",
            constant_only=constant_only,
        )
