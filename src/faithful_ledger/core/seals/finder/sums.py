"""Sums, XORs, and the sums of Adler and Fletcher, over any range of words, from what differs between saves of one size.

As in ranges.py the ends between two words that differ are one class. A sum over [s, e) is K(e) − K(s), so the classes
of s and e are two whose prefixes differ by what the stored values differ, in all saves at once: found by sorting and
looking up. Which ends of these classes are meant, one save says as it is.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.seals.algorithms import Algorithm
from faithful_ledger.core.seals.finder.finding import Finding, edge_bits, naturalness
from faithful_ledger.core.seals.finder.places import Edge, Place
from faithful_ledger.core.seals.finder.ranges import Differences
from faithful_ledger.core.seals.sums import SUMS

__all__ = ["Summing", "any_sum", "summings"]

Array: TypeAlias = np.ndarray[Any, Any]
MOST_PAIRS = 24
MIXING = (0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9, 0xD6E8FEB86659FD93)
TRIED = 14.0
LEAST_CHANGED = 3  # words that differ within a range; fewer may be a copy
FILLS = ("zeros", "FF", "20", "30")
NATURAL = 2
MOST_JOINED = 4000


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
        if each.bits < 16:
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


def any_sum(found: Differences, place: Place, way: Summing) -> Iterator[Finding]:
    """Where a sum over some range gives what is at a place, in every save."""
    if place.bits != way.bits and not (place.form == "decimal" and max(place.values) >> way.bits == 0):
        return
    start = place.edge.at(found.size)
    words = _Words(found, place, way)
    if words.count < LEAST_CHANGED:
        return
    changes = ("inverted",) if way.inverted else ("",) if way.second or not way.modulus else ("", "negated")
    for changed in changes:
        numbers = [_before(value, changed, way) for value in place.values]
        for first, second in _pairs(words, numbers, way):
            if second - first >= LEAST_CHANGED:
                yield from _absolute(found, place, way, words, numbers[0], changed, first, second, start)
                if changed == "negated":
                    number = _before(place.values[0], "inverted", way)
                    yield from _absolute(found, place, way, words, number, "inverted", first, second, start)


def _before(value: int, changed: str, way: Summing) -> int:
    """The sum of which a stored value was made."""
    mask = (1 << way.bits) - 1
    return -value & mask if changed == "negated" else ~value & mask if changed == "inverted" else value


class _Words:
    """The words that differ once a place is left alone: what they add to the prefixes, and the ends of the classes."""

    def __init__(self, found: Differences, place: Place, way: Summing) -> None:
        self.way, self.size = way, found.size
        start = place.edge.at(found.size)
        numbers = np.unique((found.at[found.at >= way.alignment] - way.alignment) // way.word)
        each = []
        for content in found.contents:
            held = content[:start] + bytes(place.size) + content[start + place.size :]
            each.append(words_from(held, way)[numbers])
        differences = [other - each[0] if way.modulus else other ^ each[0] for other in each[1:]]
        changed = np.zeros(numbers.size, bool)
        for difference in differences:
            changed |= difference != 0
        self.at = numbers[changed]
        self.count = int(changed.sum())
        self.differences = [difference[changed] for difference in differences]
        total = -(-(found.size - way.alignment) // way.word)
        self.low = np.concatenate(([0], self.at + 1))
        self.high = np.concatenate((self.at, [total]))
        self.prefixes = [self._summed(difference) for difference in self.differences]

    def _summed(self, difference: Array) -> Array:
        if not self.way.modulus:
            return np.concatenate(([np.uint64(0)], np.bitwise_xor.accumulate(difference)))
        total = np.concatenate(([np.uint64(0)], np.cumsum(difference, dtype=np.uint64)))
        return _reduced(total, self.way.modulus, signed=True)

    def offset(self, number: int) -> int:
        """Where a word begins; the last one may be cut short by the end."""
        return min(self.way.alignment + number * self.way.word, self.size)


def words_from(content: bytes, way: Summing) -> Array:
    """The words of a save, as unsigned 64-bit numbers; zeros fill up the last one."""
    data = content[way.alignment :]
    padded = data + bytes(-len(data) % way.word)
    kind = f"{'<' if way.order == 'little' else '>'}u{way.word}"
    return np.frombuffer(padded, kind).astype(np.uint64)


def _reduced(numbers: Array, modulus: int, *, signed: bool = False) -> Array:
    if modulus & (modulus - 1) == 0:
        return numbers if modulus >> 64 else numbers & np.uint64(modulus - 1)
    if signed:  # differences modulo 2⁶⁴ may be negative
        found: Array = (numbers.view(np.int64) % modulus).astype(np.uint64)
        return found
    rest: Array = numbers % np.uint64(modulus)
    return rest


def _pairs(words: _Words, numbers: Sequence[int], way: Summing) -> list[tuple[int, int]]:
    """Pairs of classes between which the sums differ as the stored values do."""
    half = way.bits // 2 if way.second else way.bits
    firsts = [number & (1 << half) - 1 for number in numbers]
    left = np.zeros(words.low.size, np.uint64)
    right = np.zeros(words.low.size, np.uint64)
    for j, prefix in enumerate(words.prefixes):
        mixing = np.uint64(MIXING[j % len(MIXING)] + 2 * (j // len(MIXING)))
        if way.modulus:
            step = (firsts[j + 1] - firsts[0]) % way.modulus
            lowered = _reduced(prefix + np.uint64((way.modulus - step) % (1 << 64)), way.modulus)
        else:
            lowered = prefix ^ np.uint64(firsts[j + 1] ^ firsts[0])
        left += lowered * mixing
        right += prefix * mixing
    if all(first == firsts[0] for first in firsts):
        return []
    order = np.argsort(right, kind="stable")
    ordered = right[order]
    begins, ends = np.searchsorted(ordered, left, "left"), np.searchsorted(ordered, left, "right")
    found: list[tuple[int, int]] = []
    for second in np.flatnonzero(ends > begins).tolist():
        for first in order[begins[second] : ends[second]][:MOST_PAIRS].tolist():
            if first < second:
                found.append((first, second))
                if len(found) >= MOST_PAIRS:
                    return found
    return found


def _absolute(
    found: Differences,
    place: Place,
    way: Summing,
    words: _Words,
    number: int,
    changed: str,
    first: int,
    second: int,
    own_start: int,
) -> Iterator[Finding]:
    """The ends of the range, from the first save."""
    own_end = own_start + place.size
    content = found.contents[0]
    starts = np.arange(int(words.low[first]), int(words.high[first]) + 1)
    ends = np.arange(int(words.low[second]), int(words.high[second]) + 1)
    covers = words.offset(int(starts[0])) <= own_start and words.offset(int(ends[-1])) >= own_end
    apart = words.offset(int(ends[0])) <= own_start or words.offset(int(starts[-1])) >= own_end
    best: Finding | None = None
    for own in ((None,) if apart else ()) + (FILLS if covers else ()):
        fill = b"" if own is None else bytes.fromhex("00" if own == "zeros" else own)
        held = content if own is None else content[:own_start] + fill * place.size + content[own_end:]
        chosen = _ends_of(words, held, way, number, starts, ends, (own_start, own_end), own is None)
        if chosen is None:
            continue
        start, end, nature = chosen
        algorithm = Algorithm(way.name, None, "" if way.inverted else changed)  # type: ignore[arg-type]
        values = len(set(place.values))
        bits = (place.bits if not way.modulus or way.second else _spread(place, way)) * values - nature - TRIED
        made = Finding(
            algorithm, Edge(start), Edge(end), place.edge, place.size, place.form, own, bits=bits, freedom=""
        )
        if made.holds(content) and (best is None or made.bits > best.bits):
            best = made
    if best is not None:
        yield best
    elif not way.second and way.modulus and not way.inverted and changed != "inverted":
        yield from _with_start(found, place, way, words, number, changed, starts, ends)


def _spread(place: Place, way: Summing) -> float:
    """How many bits of a sum say something: the highest ones are zero in every save."""
    return min(float(way.bits), max(max(place.values) - min(place.values), 1).bit_length() + 3.0)


def _ends_of(
    words: _Words,
    content: bytes,
    way: Summing,
    number: int,
    starts: Array,
    ends: Array,
    own: tuple[int, int],
    apart: bool,
) -> tuple[int, int, float] | None:
    """The most natural start and end with the right sum, and what they cost in bits."""
    whole = words_from(content, way)
    if way.modulus:
        sums = _reduced(np.concatenate(([np.uint64(0)], np.cumsum(whole, dtype=np.uint64))), way.modulus)
    else:
        sums = np.concatenate(([np.uint64(0)], np.bitwise_xor.accumulate(whole)))
    half = way.bits // 2 if way.second else way.bits
    first = number & (1 << half) - 1
    if way.modulus:
        first = (first - way.begin) % way.modulus
        wanted = _reduced(sums[ends] + np.uint64((way.modulus - first) % (1 << 64)), way.modulus)
    else:
        wanted = sums[ends] ^ np.uint64(first)
    held = sums[starts]
    order = np.argsort(held, kind="stable")
    begins = np.searchsorted(held[order], wanted, "left")
    behind = np.searchsorted(held[order], wanted, "right")
    candidates: list[tuple[float, int, int]] = []
    hits = np.flatnonzero(behind > begins)
    natures = {n: naturalness(words.offset(int(ends[n])), own, words.size) for n in hits[:MOST_JOINED].tolist()}
    for n in sorted(natures, key=lambda n: natures[n]):
        end = words.offset(int(ends[n]))
        if own[0] < end < own[1]:
            continue
        for m in order[begins[n] : behind[n]][:MOST_JOINED].tolist():
            start = words.offset(int(starts[m]))
            inside = own[0] < start < own[1]
            if inside or start >= end or (start < own[1] and end > own[0]) is apart:
                continue
            if way.second and not _second_fits(whole, way, number, int(starts[m]), int(ends[n]), sums):
                continue
            cost = edge_bits(natures[n], words.size) + edge_bits(naturalness(start, own, words.size), words.size)
            candidates.append((cost, start, end))
        if candidates and len(candidates) > MOST_JOINED:
            break
    if not candidates:
        return None
    cost, start, end = min(candidates)
    alike = sum(each[0] <= cost for each in candidates)
    return start, end, cost + float(np.log2(max(alike, 1)))


def _second_fits(whole: Array, way: Summing, number: int, start: int, end: int, sums: Array) -> bool:
    """Whether the sum of the sums is right as well."""
    half = way.bits // 2
    within = whole[start:end]
    weights = np.arange(within.size, 0, -1, dtype=np.uint64) % np.uint64(way.modulus)
    total = int((within * weights % np.uint64(way.modulus)).sum()) + within.size * way.begin
    return total % way.modulus == (number >> half) % way.modulus


def _with_start(
    found: Differences,
    place: Place,
    way: Summing,
    words: _Words,
    number: int,
    changed: str,
    starts: Array,
    ends: Array,
) -> Iterator[Finding]:
    """With a start of its own, over the most natural ends."""
    own = place.edge.at(found.size), place.edge.at(found.size) + place.size
    offsets = [words.offset(int(s)) for s in starts]
    start = min(
        (o for o in offsets if not own[0] < o < own[1]), key=lambda o: naturalness(o, own, found.size), default=-1
    )
    behind = [words.offset(int(e)) for e in ends]
    end = min((o for o in behind if not own[0] < o < own[1]), key=lambda o: naturalness(o, own, found.size), default=-1)
    if start < 0 or end <= start or naturalness(start, own, found.size) + naturalness(end, own, found.size) > NATURAL:
        return
    made = Finding(
        Algorithm(way.name),
        Edge(start),
        Edge(end),
        place.edge,
        place.size,
        place.form,
        "zeros" if start <= own[0] and end >= own[1] else None,
    )
    content = found.contents[0]
    data = list(made._covered(content, start, end, own[0]))
    begin = (number - Algorithm(way.name)(map(memoryview, data))) % (1 << way.bits)
    bits = _spread(place, way) * (len(set(place.values)) - 1) - 6.0 - TRIED
    yield Finding(
        Algorithm(way.name, begin, changed),  # type: ignore[arg-type]
        Edge(start),
        Edge(end),
        place.edge,
        place.size,
        place.form,
        made.own,
        bits=bits,
        constant_only=True,
    )
