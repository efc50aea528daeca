"""Sums, XORs, and the sums of Adler and Fletcher, over any range of words, from what differs between saves of one size.

As in ranges.py the ends between two words that differ are one class. A sum over [s, e) is K(e) − K(s), so the classes
of s and e are two whose prefixes differ by what the stored values differ, in all saves at once: found by sorting and
looking up. Which ends of these classes are meant, one save says as it is.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.scan import distinct
from faithful_ledger.core.seals.algorithms import Algorithm, own_bytes
from faithful_ledger.core.seals.finder.finding import (
    Finding,
    edge_bits,
    naturalness,
    open_ends,
    own_bits,
    place_bits,
    said_bits,
    spread_bits,
)
from faithful_ledger.core.seals.finder.joining import MIXING, Sorted, both, places_of
from faithful_ledger.core.seals.finder.places import DECIMAL, Edge, Place
from faithful_ledger.core.seals.finder.ranges import FILLS, Differences
from faithful_ledger.core.seals.sums import SUMS

__all__ = ["Further", "Summing", "any_sum", "before_change", "summings"]

Array: TypeAlias = np.ndarray[Any, Any]
MOST_PAIRS, MOST_ALIKE, MOST_BY_CHANCE, FEW_BY_CHANCE = 512, 24, 1 << 12, 1.0
TRIED = 12.0
FEW_FURTHER = 4  # ranges of a place that are looked into whatever was looked into before
LEAST_CHANGED = 3  # words that differ within a range; fewer may be a copy
AT_ONCE, FEW = 1 << 14, 8
NATURAL = 2
MOST_JOINED, MOST_PAIRED = 4000, 1 << 20


class Summing(NamedTuple):
    """One way to sum: words of `word` bytes from an `alignment` on, modulo a number, or 0 for XOR. `second` if the sums
    of the sums are stored above.
    """

    name: str
    bits: int
    word: int
    order: str
    alignment: int
    modulus: int
    second: bool = False
    begin: int = 0
    inverted: bool = False


def summings() -> list[Summing]:
    """Every way, over every alignment; sums of eight bits are everywhere, and left to natural ranges."""
    found = []
    for name, each in SUMS.items():
        if each.bits < 16 or not each.has_differences:
            continue
        modulus = {"xor": 0, "adler": 65_521, "fletcher": (1 << 8 * each.word) - 1, "internet": 65_535}.get(
            each.kind, 1 << each.bits
        )
        second = each.kind in ("adler", "fletcher")
        for alignment in range(each.word):
            found.append(
                Summing(
                    name,
                    each.bits,
                    each.word,
                    each.order,
                    alignment,
                    modulus,
                    second,
                    1 if each.kind == "adler" else 0,
                    each.kind == "internet",
                )
            )
    return found


@dataclass
class Further:
    """How many ranges may still be looked into beyond the first few of each place: where numbers stand beside their
    inverse, the sums over any of them are alike in all saves.
    """

    left: int = 4096


def any_sum(found: Differences, place: Place, way: Summing, further: Further) -> Iterator[Finding]:
    """Where a sum over some range gives what is at a place, in every save."""
    if place.bits != way.bits and not (place.form in DECIMAL and max(place.values) >> way.bits == 0):
        return
    words = _Words(found, place, way)
    if words.count < LEAST_CHANGED:
        return
    known: dict[tuple[int, ...], list[tuple[int, int]]] = {}
    for changed in _changes(way):
        steps = _steps([before_change(value, changed, way.bits) for value in place.values], way)
        if steps not in known:
            known[steps] = [pair for pair in _pairs(words, steps) if pair[1] - pair[0] >= LEAST_CHANGED]
        pairs = known[steps]
        same = changed == ("negated" if way.modulus else "") and not way.second  # saves differ by the same
        for each in (changed, "inverted") if same and pairs else (changed,):
            for number, (first, second) in enumerate(_likely(words, each, pairs)):
                further.left -= number >= FEW_FURTHER
                if further.left < 0 and number >= FEW_FURTHER:
                    break
                yield from _absolute(words, each, first, second)


def _changes(way: Summing) -> tuple[str, ...]:
    """What may be done to a sum before it is stored, one of each that differ in the same way."""
    if way.inverted:
        return ("inverted",)
    if way.second:
        return "", "negated", "inverted"
    return ("", "negated") if way.modulus else ("",)


def before_change(value: int, changed: str, bits: int) -> int:
    """The sum of so many bits of which a stored value was made."""
    mask = (1 << bits) - 1
    return -value & mask if changed == "negated" else ~value & mask if changed == "inverted" else value


class _Words:
    """The words that differ once a place is left alone: what they add to the prefixes, and the ends of the classes."""

    def __init__(self, found: Differences, place: Place, way: Summing) -> None:
        self.place, self.way, self.size = place, way, found.size
        self.content = found.contents[0]
        start = place.edge.at(found.size)
        self.own = start, start + place.size
        numbers = (found.at[found.at >= way.alignment] - way.alignment) // way.word
        numbers = numbers[np.diff(numbers, prepend=-1) > 0] if way.word > 1 else numbers
        total = -(-(found.size - way.alignment) // way.word)
        which = numbers if numbers.size < total else slice(None)  # where all differ nothing need be copied
        each = [self.held(self.seen(content, "zeros"))[which] for content in found.contents]
        differences = [other - each[0] if way.modulus else other ^ each[0] for other in each[1:]]
        changed = np.zeros(numbers.size, bool)
        for difference in differences:
            changed |= difference != 0
        at = numbers[changed]
        self.count = int(changed.sum())
        self.low = np.concatenate(([0], at + 1))
        self.high = np.concatenate((at, [total]))
        self.differences = [difference[changed] for difference in differences]
        self._prefixes: dict[int, Array] = {}
        self._mixed: dict[int, Array] = {}
        self._seen: dict[str | None, tuple[Array, Array]] = {}

    def prefix(self, number: int) -> Array:
        """The running sums of what a save has otherwise than the first one."""
        if number not in self._prefixes:
            self._prefixes[number] = self.summed(self.differences[number])
        return self._prefixes[number]

    def mixed(self, count: int) -> Array:
        """The sums of so many saves as one number for each class."""
        if count not in self._mixed:
            self._mixed[count] = np.sum([self.prefix(number) * _mixing(number) for number in range(count)], axis=0)
        return self._mixed[count]

    def weighted(self, number: int, first: int, second: int) -> int:
        """The sum of what a save has otherwise between two classes, each word times its place."""
        numbered = _reduced(self.differences[number][first:second], self.way.modulus)
        places = (self.low[first + 1 : second + 1] - 1).astype(np.uint64)
        return int((numbered * places).sum(dtype=np.uint64)) % self.way.modulus

    def first_save(self, own: str | None) -> tuple[Array, Array]:
        """The words of the first save with the place seen as `own`, and their running sums."""
        if own not in self._seen:
            whole = self.held(self.seen(self.content, own))
            self._seen[own] = whole, self.summed(whole)
        return self._seen[own]

    def seen(self, content: bytes, own: str | None) -> bytes:
        """A save with the place seen as `own`; None as it is."""
        start, end = self.own
        return content if own is None else content[:start] + own_bytes(own, self.place.size) + content[end:]

    def held(self, content: bytes) -> Array:
        """The words of a save."""
        return SUMS[self.way.name].words(content[self.way.alignment :])

    def summed(self, words: Array) -> Array:
        """The running sums, a zero first."""
        if not self.way.modulus:
            return np.concatenate(([np.uint64(0)], np.bitwise_xor.accumulate(words)))
        total = np.concatenate(([np.uint64(0)], np.cumsum(words, dtype=np.uint64)))
        return _reduced(total, self.way.modulus)

    def offset(self, number: int) -> int:
        """Where a word begins; the last one may be cut short by the end."""
        return min(self.way.alignment + number * self.way.word, self.size)

    def offsets(self, numbers: Array) -> Array:
        found: Array = np.minimum(self.way.alignment + numbers * self.way.word, self.size)
        return found

    def ends_that_fit(self, numbers: Sequence[int], first: int, second: int) -> Array:
        """Whether the sums of sums of all saves differ as they do from the first one's, for the ends of a class: a word
        counts once for each word from it to the end.
        """
        ends = np.arange(int(self.low[second]), int(self.high[second]) + 1)
        modulus, half = self.way.modulus, self.way.bits // 2
        fits = np.ones(ends.size, bool)
        for j, number in enumerate(numbers[1:]):
            prefix = self.prefix(j)
            step = ((number >> half) - (numbers[0] >> half)) % modulus
            total = (int(prefix[second]) - int(prefix[first])) % modulus
            offset = (self.weighted(j, first, second) + step) % modulus
            fits &= ends % modulus * total % modulus == offset
            if not fits.any():
                break
        return fits

    def natures(self, offsets: Array) -> Array:
        return naturalness(offsets, self.own, self.size)

    def costs(self, offsets: Array) -> Array:
        return edge_bits(self.natures(offsets), self.size)

    def likeliest(self, low: int, high: int) -> tuple[int, int] | None:
        """Where the most natural word from one number to another begins, but within the place itself; its nature."""
        offsets = self.offsets(np.arange(low, high + 1))
        offsets = offsets[(offsets <= self.own[0]) | (offsets >= self.own[1])]
        if not offsets.size:
            return None
        natures = self.natures(offsets)
        best = int(natures.argmin())
        return int(offsets[best]), int(natures[best])

    def finding(
        self, algorithm: Algorithm, start: int, end: int, own: str | None, bits: float, *, constant_only: bool = False
    ) -> Finding:
        place = self.place
        bits -= place_bits(self.own, self.size) + own_bits(own)
        return Finding(
            algorithm,
            Edge(start),
            Edge(end),
            place.edge,
            place.size,
            place.form,
            own,
            bits=bits,
            constant_only=constant_only,
        )


def _reduced(numbers: Array, modulus: int) -> Array:
    """Numbers modulo another one. Where that is not a power of two they may be negative, as differences modulo 2⁶⁴ are;
    NumPy divides by one number far more quickly than it finds remainders.
    """
    if modulus & (modulus - 1) == 0:
        return numbers if modulus >> 64 else numbers & np.uint64(modulus - 1)
    rest = numbers.view(np.int64).copy()
    for start in range(0, rest.size, AT_ONCE):  # by parts, which stay near the processor
        part = rest[start : start + AT_ONCE]
        part -= part // modulus * modulus
    found: Array = rest.view(np.uint64)
    return found


def _lowered(prefix: Array, step: int, modulus: int) -> Array:
    """Reduced numbers less another one."""
    if modulus & (modulus - 1) == 0:
        return _reduced(prefix + np.uint64((modulus - step) % (1 << 64)), modulus)
    lowered = prefix + np.uint64(modulus - step)
    lowered -= (lowered >= modulus) * np.uint64(modulus)
    return lowered


def _steps(numbers: Sequence[int], way: Summing) -> tuple[int, ...]:
    """How the sum of each save differs from that of the first one."""
    half = way.bits // 2 if way.second else way.bits
    firsts = [number & (1 << half) - 1 for number in numbers]
    return tuple((first - firsts[0]) % way.modulus if way.modulus else first ^ firsts[0] for first in firsts[1:])


def _pairs(words: _Words, steps: Sequence[int]) -> list[tuple[int, int]]:
    """Pairs of classes between which the sums differ by these steps: found by as many saves as rule chance out, then
    looked at in the others.
    """
    way = words.way
    if not any(steps):
        return []
    kinds, others = float(way.modulus or 1 << way.bits), len(steps)
    by_chance = [words.low.size**2 / 2 / kinds**each for each in range(1, others + 1)]
    if by_chance[-1] > MOST_BY_CHANCE:
        return []  # more ranges have the right sums by chance than could be looked at
    needed = next((n for n, each in enumerate(by_chance, 1) if each <= FEW_BY_CHANCE), others)
    left, right = np.zeros(words.low.size, np.uint64), words.mixed(needed)
    for j, step in enumerate(steps[:needed]):
        prefix = words.prefix(j)
        lowered = _lowered(prefix, step, way.modulus) if way.modulus else prefix ^ np.uint64(step)
        left += lowered * _mixing(j)
    seconds, candidates = both(left, right)
    candidates = candidates[places_of(right[candidates], distinct(left[seconds]))]
    begins: dict[int, list[int]] = {}
    for value, first in zip(right[candidates].tolist(), candidates.tolist(), strict=True):
        begins.setdefault(value, []).append(first)
    found: list[tuple[int, int]] = []
    for value, second in zip(left[seconds].tolist(), seconds.tolist(), strict=True):
        found += [(first, second) for first in begins.get(value, ())[:MOST_ALIKE] if first < second]
        if len(found) >= MOST_PAIRS:
            break
    for j, step in enumerate(steps[needed:], needed):
        found = [pair for pair in found[:MOST_PAIRS] if _differs_by(words, j, pair, step)]
    return found[:MOST_PAIRS]


def _mixing(number: int) -> np.uint64:
    """What the sums of a save are multiplied by, so that those of several become one number."""
    return np.uint64(MIXING[number % len(MIXING)] + 2 * (number // len(MIXING)))


def _differs_by(words: _Words, j: int, pair: tuple[int, int], step: int) -> bool:
    """Whether the sums between two classes differ in a save from the first one's by a number."""
    first, second = (int(words.prefix(j)[each]) for each in pair)
    modulus = words.way.modulus
    return (second - first) % modulus == step if modulus else first ^ second == step


def _likely(words: _Words, changed: str, pairs: list[tuple[int, int]]) -> Iterator[tuple[int, int]]:
    """Those pairs that may be ranges by the first save: all but those of one start and one end, with the place outside,
    that have another sum there and are not what people choose.
    """
    way, (low, high) = words.way, words.own
    if len(pairs) < FEW:
        yield from pairs
        return
    first, second = np.array(pairs).T
    starts, ends = words.low[first], words.low[second]
    from_, to = words.offsets(starts), words.offsets(ends)
    alone = (starts == words.high[first]) & (ends == words.high[second]) & ((to <= low) | (from_ >= high))
    half = way.bits // 2 if way.second else way.bits
    number = before_change(words.place.values[0], changed, way.bits) & (1 << half) - 1
    _, sums = words.first_save(None)
    if way.modulus:
        right = _reduced(sums[ends] - sums[starts] - np.uint64((number - way.begin) % way.modulus), way.modulus) == 0
    else:
        right = sums[ends] ^ sums[starts] == np.uint64(number)
    nature = words.natures(from_) + words.natures(to)
    likely = np.flatnonzero(~alone | right | (nature <= NATURAL))
    yield from (pairs[n] for n in likely[np.argsort(nature[likely], kind="stable")].tolist())


def _absolute(words: _Words, changed: str, first: int, second: int) -> Iterator[Finding]:
    """The ends of the range, from the first save."""
    way, place = words.way, words.place
    numbers = [before_change(value, changed, way.bits) for value in place.values]
    number = numbers[0]
    reach = int(words.low[first]), int(words.high[first])
    stretch = int(words.low[second]), int(words.high[second])
    covers = words.offset(reach[0]) <= words.own[0] and words.offset(stretch[1]) >= words.own[1]
    apart = words.offset(stretch[0]) <= words.own[0] or words.offset(reach[1]) >= words.own[1]
    algorithm = Algorithm(way.name, None, "" if way.inverted else changed)  # type: ignore[arg-type]
    values = len(set(place.values))
    spread = said_bits(algorithm, place.values, place.bits)
    best: Finding | None = None
    among = words.ends_that_fit(numbers, first, second) if way.second else None
    for own in ((None,) if apart else ()) + (FILLS if covers else ()):
        chosen = _ends_of(words, number, reach, stretch, own, among)
        if chosen is not None:
            made = words.finding(algorithm, chosen.start, chosen.end, own, spread * values - chosen.cost - TRIED)
            made = replace(made, freedom=chosen.freedom, undecided=bool(chosen.freedom))
            if made.holds(words.content) and (best is None or made.bits > best.bits):
                best = made
    if best is not None:
        yield best
    elif not way.second and way.modulus and not way.inverted and changed != "inverted":
        yield from _with_start(words, number, changed, reach, stretch)


class _Ends(NamedTuple):
    """A range, what choosing it costs in bits, and what else it may be."""

    start: int
    end: int
    cost: float
    freedom: str


def _ends_of(
    words: _Words,
    number: int,
    reach: tuple[int, int],
    stretch: tuple[int, int],
    own: str | None,
    among: Array | None,
) -> _Ends | None:
    """The most natural start and end with the right sum; `among` says which ends there may be."""
    way, (low, high) = words.way, words.own
    starts, ends = np.arange(reach[0], reach[1] + 1), np.arange(stretch[0], stretch[1] + 1)
    ends = ends if among is None else ends[among]
    if not ends.size:
        return None
    whole, sums = words.first_save(own)
    half = way.bits // 2 if way.second else way.bits
    first = number & (1 << half) - 1
    if way.modulus:
        first = (first - way.begin) % way.modulus
        wanted = _reduced(sums[ends] + np.uint64((way.modulus - first) % (1 << 64)), way.modulus)
    else:
        wanted = sums[ends] ^ np.uint64(first)
    from_, to = words.offsets(starts), words.offsets(ends)
    from_costs, to_costs = words.costs(from_), words.costs(to)
    m, n = _joined(sums[starts], wanted, to_costs)
    covers = (from_[m] < high) & (to[n] > low)
    cuts = ((from_[m] > low) & (from_[m] < high)) | ((to[n] > low) & (to[n] < high))
    fits = (from_[m] < to[n]) & (covers if own is not None else ~covers) & ~cuts
    m, n = m[fits], n[fits]
    costs = from_costs[m] + to_costs[n]
    order = np.argsort(costs, kind="stable")[: MOST_JOINED if way.second else None]
    if way.second:
        right = (k for k in order.tolist() if _second_fits(whole[int(starts[m[k]]) : int(ends[n[k]])], way, number))
    else:
        right = iter(order.tolist())
    chosen = next(right, None)
    if chosen is None:
        return None
    cost = float(costs[chosen])
    alike = 1 if way.second else int((costs <= cost).sum())
    bits = way.bits if way.second or not way.modulus else spread_bits(words.place.values, way.bits)
    freedom = open_ends(from_, to, (from_costs, to_costs), cost, bits, carries=bool(way.modulus))
    return _Ends(int(from_[m[chosen]]), int(to[n[chosen]]), cost + float(np.log2(alike)), freedom)


def _joined(held: Array, wanted: Array, costs: Array) -> tuple[Array, Array]:
    """The pairs of what is held with what is wanted, those with the cheapest ends if they are very many."""
    known = Sorted(held)
    begins, counts = known.counted(wanted)
    hits = np.flatnonzero(counts)
    hits = hits[np.argsort(costs[hits], kind="stable")]
    hits = hits[: 1 + int(np.searchsorted(np.cumsum(counts[hits]), MOST_PAIRED))]
    second, first = known.pairs(begins, counts, hits)
    return first, second


def _second_fits(within: Array, way: Summing, number: int) -> bool:
    """Whether the sum of the sums of some words is right as well."""
    weights = np.arange(within.size, 0, -1, dtype=np.uint64) % np.uint64(way.modulus)
    total = int((within * weights % np.uint64(way.modulus)).sum()) + within.size * way.begin
    return total % way.modulus == (number >> way.bits // 2) % way.modulus


def _with_start(
    words: _Words, number: int, changed: str, reach: tuple[int, int], stretch: tuple[int, int]
) -> Iterator[Finding]:
    """With a start of its own, over the most natural ends."""
    way, place = words.way, words.place
    first, last = words.likeliest(*reach), words.likeliest(*stretch)
    if first is None or last is None or last[0] <= first[0] or first[1] + last[1] > NATURAL:
        return
    start, end = first[0], last[0]
    own = "zeros" if start <= words.own[0] and end >= words.own[1] else None
    usual = words.finding(Algorithm(way.name), start, end, own, 0.0)
    data = usual.covered(words.content)
    begin = (number - usual.algorithm(map(memoryview, data))) % (1 << way.bits)
    bits = spread_bits(place.values, way.bits) * (len(set(place.values)) - 1) - 6.0 - TRIED
    algorithm = Algorithm(way.name, begin, changed)  # type: ignore[arg-type]
    yield words.finding(algorithm, start, end, own, bits, constant_only=True)
