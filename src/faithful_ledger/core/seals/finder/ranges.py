"""Checksums over any range, from what differs between saves of one size.

Between two saves only bytes that differ matter, so the prefixes of the differences change at these bytes only: all ends
between two of them are one class. A checksum over [s, e) is a difference of prefixes times weight^e (rings.py). With
three saves the weight is eliminated crosswise, V₂ × K₁ = V₁ × K₂, so the classes of s and e are two that agree: they
are found by sorting. Then e follows from the weight, and s, with the start and what is XORed, from one save as it is.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from itertools import combinations, islice
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.bit_order import mirrored, mirrored_bytes
from faithful_ledger.core.scan import distinct
from faithful_ledger.core.seals.algorithms import CRC, Algorithm
from faithful_ledger.core.seals.crc import CATALOGUE, Crc
from faithful_ledger.core.seals.finder.finding import Finding, edges_bits, naturalness
from faithful_ledger.core.seals.finder.places import DECIMAL, Edge, Place, changed_offsets
from faithful_ledger.core.seals.finder.rings import Polynomials, Prefixes, Ring, multiplying, polynomials
from faithful_ledger.core.seals.hashes import HASHES

__all__ = ["Differences", "any_range", "chains"]

Array: TypeAlias = np.ndarray[Any, Any]
MOST_PAIRS, MOST_AGREEING = 1024, 1 << 17  # chance makes n² ÷ 2³³ of 32 bits: 128 in 1 MiB, 32,768 in 16 MiB
MOST_ALIKE = 64  # pairs of those that agree for one and the same reason
FEW = 1 << 16
TRIED = 13.0  # bits: about so many algorithms, orders and places are tried
FILLS = ("zeros", "FF", "20", "30")
MIXING = (0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9)


class Chain(NamedTuple):
    """One kind of state that takes byte after byte: a ring, over bytes as they are or `flipped` (mirrored). `known` are
    the usual starts and what is XORed in the end, as states, each with its algorithm.
    """

    ring: Ring
    flipped: bool
    known: tuple[tuple[Algorithm, int, int], ...]


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
            every.append(Chain(multiplying(hash_.multiplier), False, known))
    kept = {id(each.ring) for each in every if any(way.name.startswith(named) for way, _, _ in each.known)}
    return [each for each in every if id(each.ring) in kept]


class Differences:
    """Saves of one size, and what differs between them."""

    def __init__(self, contents: Sequence[bytes]) -> None:
        self.contents = list(contents)
        self.size = len(contents[0])
        self.at = changed_offsets(contents)
        self.low = np.concatenate(([0], self.at + 1))  # of each class, its first end
        self._terms: dict[tuple[int, bool], list[Array]] = {}
        self._prefixes: dict[tuple[int, bool], Prefixes] = {}

    def terms(self, chain: Chain) -> list[Array]:
        """What the bytes that differ add to the prefixes, for each save but the first: the difference to that one."""
        key = id(chain.ring), chain.flipped
        if key not in self._terms:
            weights = chain.ring.inverses(self.size)[self.at]
            flip = mirrored_bytes if chain.flipped else bytes
            first, *others = (np.frombuffer(flip(content), np.uint8)[self.at] for content in self.contents)
            self._terms[key] = [chain.ring.between(first, other, weights) for other in others]
        return self._terms[key]

    def prefixes(self, chain: Chain) -> Prefixes:
        """Those of the first save."""
        key = id(chain.ring), chain.flipped
        if key not in self._prefixes:
            self._prefixes[key] = Prefixes(chain.ring, self.contents[0], flipped=chain.flipped)
        return self._prefixes[key]

    def own(self, place: Place) -> Array:
        """Which of the bytes that differ are those of a place."""
        start = place.edge.at(self.size)
        found: Array = (self.at >= start) & (self.at < start + place.size)
        return found


def any_range(found: Differences, place: Place, chain: Chain) -> Iterator[Finding]:
    """Where a chain over some range gives what is at a place, in every save."""
    ring = chain.ring
    if place.bits != ring.bits and not (place.form in DECIMAL and max(place.values) >> ring.bits == 0):
        return
    states = [mirrored(v, ring.bits) if chain.flipped else v for v in place.values]
    steps = [ring.minus_one(state, states[0]) for state in states[1:]]
    pivot = next((j for j, step in enumerate(steps) if step), None)
    if pivot is None:
        return
    apart = ~found.own(place)
    low = np.concatenate((found.low[:1], found.low[1:][apart]))  # its own bytes are the same to every range
    high = np.concatenate((low[1:] - 1, [found.size]))
    prefixes = [ring.summed(terms[apart]) for terms in found.terms(chain)]
    start = place.edge.at(found.size)
    if len(steps) == 1:  # only what has published constants is worth a look
        chosen = list(_from_two(ring, found.size, prefixes[0], low, steps[0]))
        for first, end in _published(found, place, chain, states[0], chosen, (low, high)):
            if end >= start + place.size or end <= start:
                reach = int(low[first]), int(high[first])
                for finding in _absolute(found, place, chain, states[0], reach, end, left_out=False):
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
            pairs = islice(_weighed(ring, agreeing, prefixes[pivot], steps[pivot], (low, high)), MOST_PAIRS)
        for first, second in pairs:
            between = [_moved(ring, each, first, before, second, shift) for each in prefixes]
            stretch = int(low[second]), int(high[second])
            for end in _ends(ring, found.size, between, steps, pivot, stretch, shift):
                if end >= start + place.size or (end <= start and not left_out):
                    reach = int(low[first]), int(high[first])
                    yield from _absolute(found, place, chain, states[0], reach, end, left_out)


def _from_two(ring: Ring, size: int, prefixes: Array, low: Array, step: int) -> Iterator[tuple[int, int]]:
    """Classes of starts, each with an end, between which two saves differ as the stored values do: for every end there
    is one prefix that would do, which is looked up.
    """
    begins = np.zeros(size + 1, np.int32)
    begins[low] = 1
    behind = np.cumsum(begins, dtype=np.int32) - 1  # the class of each end
    weights = np.concatenate((np.full(1, ring.one, np.uint64), ring.inverses(size)))
    targets = ring.minus(prefixes[behind], ring.times(weights, step))
    narrow = np.uint32 if ring.bits <= 32 else np.uint64  # half as much to sort
    targets, prefixes = targets.astype(narrow), prefixes.astype(narrow)
    found = _held(targets, prefixes)[:MOST_PAIRS]
    classes: dict[int, list[int]] = {}
    for first in _held(prefixes, targets[found]).tolist():
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
    classes: tuple[Array, Array],
) -> Iterator[tuple[int, int]]:
    """Those classes of starts and their ends that may have a published start and end: all but those of a single start,
    with the place outside, of which the first save says that they have not.
    """
    ring, known = chain.ring, found.prefixes(chain)
    numbers, ends = np.array(chosen, np.intp).reshape(-1, 2).T
    low, high = (each[numbers] for each in classes)
    at = place.edge.at(found.size)
    outside = (low == high) & ((low >= at + place.size) | (ends <= at)) & (low < ends)
    powers = ring.powers(found.size + 1)
    sums = ring.products(powers[ends], ring.minus(known.whole[ends], known.whole[low]))
    rest = ring.minus(np.full(ends.size, state, np.uint64), sums)
    fits = ~outside
    lengths = powers[np.where(outside, ends - low, 0)]
    mask = (1 << ring.bits) - 1 if isinstance(ring, Polynomials) else 0
    for _, begin, out in chain.known:
        left = ring.minus(rest, ring.times(lengths, begin)) if begin else rest
        fits |= (left == np.uint64(out)) | (left == np.uint64(out ^ mask))
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
    key: Array = np.zeros(crosswise[0].size, np.uint64)
    for number, each in enumerate(crosswise):
        key = key * np.uint64(MIXING[0]) + each * np.uint64(MIXING[1 + number % 2])
    return key


def _agreeing(crosswise: list[Array], prefixes: Array) -> Iterator[tuple[int, int]]:
    """Pairs of classes that agree, of which the `prefixes` differ."""
    for members in _alike(_mixed(crosswise)):
        _, where = np.unique(prefixes[members], return_index=True)
        yield from islice(combinations(np.sort(members[where]).tolist(), 2), MOST_ALIKE)


def _weighed(
    ring: Ring, pairs: Iterator[tuple[int, int]], prefixes: Array, step: int, classes: tuple[Array, Array]
) -> Iterator[tuple[int, int]]:
    """Those pairs of which the second class is more than one end, or one that has the right weight."""
    low, high = classes
    both = np.array(list(pairs), np.intp).reshape(-1, 2)
    first, second = both.T
    alone = np.flatnonzero(low[second] == high[second])
    between = ring.minus(prefixes[second[alone]], prefixes[first[alone]])
    powers = ring.powers(int(high[-1]) + 1)[low[second[alone]]]
    kept = np.ones(len(both), bool)
    kept[alone] = ring.products(powers, between) == np.uint64(step)
    yield from zip(first[kept].tolist(), second[kept].tolist(), strict=True)


def _around(ring: Ring, crosswise: list[Array], before: int, size: int) -> Iterator[tuple[int, int]]:
    """Pairs of classes around a place of `size` bytes that are left out: what is behind it has another weight. Of the
    two sides the smaller one is given the weights of the other.
    """
    firsts: list[Array] = []
    seconds: list[Array] = []
    for each in crosswise:
        centred = ring.minus(each, np.full(1, each[before], np.uint64))
        first, second = centred[: before + 1], centred[before:]
        if first.size <= second.size:
            first = ring.times(first, ring.power(-size))
        else:
            second = ring.times(second, ring.power(size))
        firsts.append(first)
        seconds.append(second)
    mine, theirs = _mixed(firsts), _mixed(seconds)
    for number in _held(theirs, mine).tolist():
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


def _held(keys: Array, among: Array) -> Array:
    """The numbers of the keys that are among others."""
    if among.size > FEW:  # what is there twice, in one of them or in both
        both = np.sort(np.concatenate((keys, among)))
        twice = distinct(both[1:][both[1:] == both[:-1]])
        among = among[_at(among, twice)] if twice.size < FEW else among
    return _at(keys, distinct(among))


def _at(keys: Array, values: Array) -> Array:
    """The numbers of the keys that are one of some values, which are sorted: most are seen by a table not to be."""
    if not values.size:
        return np.zeros(0, np.intp)
    bits = int(values.size).bit_length() + 6
    table, width = np.zeros(1 << bits, bool), 8 * keys.itemsize
    factor, rest = (keys.dtype.type(each) for each in (MIXING[0] >> (64 - width) | 1, width - bits))
    table[values.astype(keys.dtype) * factor >> rest] = True
    likely = np.flatnonzero(np.take(table, keys * factor >> rest, mode="clip"))
    where = np.minimum(np.searchsorted(values, keys[likely]), values.size - 1)
    found: Array = likely[values[where] == keys[likely]]
    return found


def _alike(keys: Array) -> Iterator[Array]:
    """The places of keys that are there more than once, together. Most of a key is sorted in one number with its place,
    which is far quicker than sorting places by keys; what is alike by chance is parted afterwards.
    """
    bits = max(int(keys.size - 1).bit_length(), 1)
    place = np.uint64((1 << bits) - 1)
    packed = np.sort(keys & ~place | np.arange(keys.size, dtype=np.uint64))
    same = (packed[1:] ^ packed[:-1]) <= place  # the parts of the keys are alike
    edges = np.flatnonzero(np.diff(np.concatenate(([False], same, [False])).astype(np.int8)))
    for low, high in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
        members = (packed[low : high + 1] & place).astype(np.intp)
        whole = keys[members]
        for value in distinct(whole).tolist():
            alike = members[whole == np.uint64(value)]
            if alike.size > 1:
                yield alike


def _ends(
    ring: Ring,
    size: int,
    between: list[int],
    steps: list[int],
    pivot: int,
    stretch: tuple[int, int],
    shift: int,
) -> list[int]:
    """The ends in a stretch at which the differences `between` two classes have the right weight, in all saves."""
    low, high = stretch
    powers = ring.powers(size + 1)[max(low - shift, 0) : max(high - shift + 1, 0)]
    hits = np.flatnonzero(ring.times(powers, between[pivot]) == np.uint64(steps[pivot]))
    ends = (hits + max(low - shift, 0) + shift).tolist()
    return [
        end
        for end in ends[:4]
        if all(ring.product(ring.power(end - shift), each) == step for each, step in zip(between, steps, strict=True))
    ]


def _absolute(
    found: Differences, place: Place, chain: Chain, state: int, reach: tuple[int, int], end: int, left_out: bool
) -> Iterator[Finding]:
    """The start of the range, and how the computation begins and ends, from the first save."""
    ring, known = chain.ring, found.prefixes(chain)
    own_start, own_end = place.edge.at(found.size), place.edge.at(found.size) + place.size
    starts = np.arange(reach[0], min(reach[1], end - 1) + 1)
    starts = starts[(starts <= own_start) | (starts >= own_end)]
    covers = (starts <= own_start) & (end >= own_end)
    shift = place.size if left_out else 0
    for own in ("left out",) if left_out else (None, *FILLS):
        chosen = starts[covers] if own is not None else starts[~covers]
        if not chosen.size:
            continue
        last = np.full(1, known.end(end, own_start, place.size, own), np.uint64)
        sums = ring.times(ring.minus(last, known.whole[chosen]), int(ring.powers(found.size + 1)[end - shift]))
        rest = ring.minus(np.full(1, state, np.uint64), sums)
        made = _Made(found, place, chain, rest, end - shift - chosen, chosen, end, own)
        hits = list(made.known())
        yield from hits
        if not hits and own in (None, "zeros", "left out"):
            yield made.unknown()


class _Made(NamedTuple):
    """What is left of the first save's state, for each start of a range: what begins and ends the computation."""

    found: Differences
    place: Place
    chain: Chain
    rest: Array
    lengths: Array
    starts: Array
    end: int
    own: str | None

    def known(self) -> Iterator[Finding]:
        """Findings with a published start and end."""
        ring = self.chain.ring
        powers = ring.powers(self.found.size + 1)[self.lengths]
        changes = {"": 0} | ({"inverted": (1 << ring.bits) - 1} if isinstance(ring, Polynomials) else {})
        for algorithm, begin, out in self.chain.known:
            left = ring.minus(self.rest, ring.times(powers, begin)) if begin else self.rest
            for changed, mask in changes.items():
                fits = self.starts[left == np.uint64(out ^ mask)]
                if fits.size:
                    yield self._finding(replace(algorithm, changed=changed), fits)  # type: ignore[arg-type]

    def unknown(self) -> Finding:
        """With a start or an end of its own, as far as saves of one size can tell them."""
        ring, flipped = self.chain.ring, self.chain.flipped
        which = int(np.flatnonzero(self.starts == self._natural(self.starts))[0])
        left = int(self.rest[which])
        if isinstance(ring, Polynomials):
            out = mirrored(left, ring.bits) if flipped else left
            crc = Crc(ring.bits, mirrored(ring.polynomial, ring.bits), 0, not flipped, not flipped, out)
            algorithm = Algorithm(CRC, crc=crc)
        else:
            begin = ring.product(left, ring.power(-int(self.lengths[which])))
            algorithm = Algorithm(self.chain.known[0][0].name, begin)
        return self._finding(algorithm, self.starts, constant_only=True)

    @property
    def _edges(self) -> tuple[int, int]:
        at = self.place.edge.at(self.found.size)
        return at, at + self.place.size

    def _natural(self, starts: Array) -> int:
        """The start that people would choose."""
        return int(starts[naturalness(starts, self._edges, self.found.size).argmin()])

    def _finding(self, algorithm: Algorithm, starts: Array, *, constant_only: bool = False) -> Finding:
        """Over the most natural of some starts; how unlikely chance is are the bits of all values that were explained,
        less what could be chosen.
        """
        start, place, size = self._natural(starts), self.place, self.found.size
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
