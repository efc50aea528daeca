"""The arithmetic in which a checksum of any range is a difference of two prefixes.

A checksum that takes one byte after the other by state × weight + byte is, over [s, e),
weight^e × (K(e) − K(s)) + start × weight^(e − s), where K(i) is the sum of byte(j) × weight^(−j − 1) over j < i. For a
CRC the state is a polynomial over GF(2), and the weight is x⁸; for the multiplying hashes it is a number modulo 2³².
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from functools import cached_property, lru_cache
from itertools import pairwise
from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.bit_order import mirrored, mirrored_bytes
from faithful_ledger.core.seals.algorithms import own_bytes
from faithful_ledger.core.seals.crc import Crc
from faithful_ledger.core.seals.finder.kept import Kept
from faithful_ledger.core.seals.gf2 import looked_up, product, tables, times_x

__all__ = ["Multiplying", "Polynomials", "Prefixes", "Ranges", "Ring", "forget_powers", "multiplying", "polynomials"]

Array: TypeAlias = np.ndarray[Any, Any]
FEW, MANY = 8, 1 << 16  # numbers that are not worth tables, and that are worth large ones
LARGE, FINE = 1 << 18, 1 << 12  # bytes of which not all powers are worth having; and powers one by one
FEW_POINTS, MOST_POINTS = 16, 1 << 12
MOST_POWERS = 1 << 28  # bytes of powers that are kept


class Ring(ABC):
    """Numbers of `bits`, in one-dimensional arrays of unsigned 32-bit or 64-bit ones (`kind`). `weight` is what a byte
    more does to a state, `inverse` undoes it.
    """

    kind: type[np.unsignedinteger[Any]]
    bits: int
    one: int
    weight: int
    inverse: int

    @abstractmethod
    def times(self, numbers: Array, factor: int) -> Array:
        """Every number times one."""

    @abstractmethod
    def product(self, a: int, b: int) -> int: ...

    @abstractmethod
    def products(self, a: Array, b: Array) -> Array:
        """Each number times the one beside it."""

    @abstractmethod
    def minus(self, a: Array, b: Array) -> Array: ...

    @abstractmethod
    def minus_one(self, a: int, b: int) -> int:
        """The difference of two single numbers."""

    @abstractmethod
    def summed(self, numbers: Array) -> Array:
        """The running sums, a zero first."""

    @abstractmethod
    def carried(self, data: Array, weights: Array) -> Array:
        """Each byte times its weight, as it enters the state."""

    def between(self, first: Array, other: Array, weights: Array) -> Array:
        """What other bytes add to the state more than the first ones do."""
        return self.minus(self.carried(other, weights), self.carried(first, weights))

    def powers(self, count: int) -> Array:
        """weight⁰, weight¹ …"""
        return _powers(self, self.weight, count)

    def powers_at(self, exponents: Array, most: int) -> Array:
        """The weight to the power of each exponent, of which none is above `most`."""
        return self._at(self.weight, FINE, exponents, most)

    def lowered_at(self, exponents: Array, most: int) -> Array:
        """1 divided by these."""
        return self._at(self.inverse, -FINE, exponents, most)

    def _at(self, base: int, step: int, exponents: Array, most: int) -> Array:
        if most < LARGE:
            return _powers(self, base, most + 1)[exponents]
        fine, coarse = _powers(self, base, FINE), _powers(self, self.power(step), most // FINE + 1)
        return self.products(fine[exponents % FINE], coarse[exponents // FINE])

    def lowered(self, count: int) -> Array:
        """weight⁰, weight⁻¹ …"""
        return _powers(self, self.inverse, count)

    def lowered_from(self, first: int, behind: int, most: int) -> Array:
        """weight to the power of -`first`, and so on up to -`behind`, which is at most `most` + 1."""
        if most < LARGE:
            return self.lowered(most + 1)[first:behind]
        return self.times(self.lowered(max(behind - first, 0)), self.power(-first))[: max(behind - first, 0)]

    def inverses(self, count: int) -> Array:
        """weight⁻¹, weight⁻² …: what belongs to the byte at offset 0, 1 …"""
        return self.lowered(count + 1)[1:]

    def power(self, exponent: int) -> int:
        return _power(self, exponent)


@lru_cache(maxsize=1024)
def _power(ring: Ring, exponent: int) -> int:
    base, result = ring.weight if exponent >= 0 else ring.inverse, ring.one
    exponent = abs(exponent)
    while exponent:
        if exponent & 1:
            result = ring.product(result, base)
        base = ring.product(base, base)
        exponent >>= 1
    return result


_POWERS: Kept[tuple[Ring, int], Array] = Kept(MOST_POWERS)


def _powers(ring: Ring, base: int, count: int) -> Array:
    """base⁰, base¹ …; of those for a larger save the first."""
    known = _POWERS.known((ring, base))
    if known is None or known.size < count:
        known = _POWERS.put((ring, base), _new_powers(ring, base, count), count * np.dtype(ring.kind).itemsize)
    return known[: max(count, 1)]


def _new_powers(ring: Ring, base: int, count: int) -> Array:
    found = np.full(max(count, 1), ring.one, ring.kind)
    step, done = base, 1
    while done < found.size:
        more = min(done, found.size - done)
        found[done : done + more] = ring.times(found[:more], step)
        step = ring.product(step, step)
        done *= 2
    return found


def forget_powers() -> None:
    """For a measurement of what they cost."""
    _POWERS.clear()
    _power.cache_clear()


class Polynomials(Ring):
    """Polynomials over GF(2) modulo one of degree `bits`, reflected: the highest bit is the constant term."""

    def __init__(self, bits: int, polynomial: int) -> None:
        self.bits, self.polynomial = bits, polynomial
        self.kind = np.uint32 if bits <= 32 else np.uint64
        self.one = 1 << bits - 1
        self.weight = self.one
        for _ in range(8):
            self.weight = times_x(self.weight, polynomial)
        self.inverse = self.one
        for _ in range(8):
            self.inverse = self._over_x(self.inverse)
        self.entering = self.one  # x to the power of `bits`: a byte enters at the low end
        for _ in range(bits):
            self.entering = times_x(self.entering, polynomial)

    def _over_x(self, number: int) -> int:
        high = number >> self.bits - 1
        return ((number ^ (self.polynomial if high else 0)) << 1 | high) & (1 << self.bits) - 1

    def product(self, a: int, b: int) -> int:
        return product(a, b, self.polynomial, self.bits)

    def times(self, numbers: Array, factor: int) -> Array:
        if numbers.size <= FEW:
            return np.array([self.product(number, factor) for number in numbers.tolist()], self.kind)
        by_byte = tables(factor, self.polynomial, self.bits)
        by_two = self.bits == 32 and numbers.size >= MANY
        if by_two:  # two bytes at a time
            by_byte = np.stack([(by_byte[lane + 1][:, None] ^ by_byte[lane][None, :]).ravel() for lane in (0, 2)])
        lanes = np.ascontiguousarray(numbers, f"<u{self.kind().itemsize}").view("<u2" if by_two else "u1")
        return looked_up(by_byte, lanes.reshape(numbers.size, -1))

    def products(self, a: Array, b: Array) -> Array:
        factors, found = a, np.zeros(a.size, self.kind)
        for bit in range(self.bits - 1, -1, -1):  # the highest bit is the constant term
            found ^= factors * (b >> bit & 1)
            factors = factors >> 1 ^ (factors & 1) * self.polynomial
        return found

    def minus(self, a: Array, b: Array) -> Array:
        return a ^ b

    def minus_one(self, a: int, b: int) -> int:
        return a ^ b

    def summed(self, numbers: Array) -> Array:
        found = np.zeros(numbers.size + 1, self.kind)
        np.bitwise_xor.accumulate(numbers, out=found[1:])
        return found

    def carried(self, data: Array, weights: Array) -> Array:
        if data.size >= MANY:
            lanes = np.ascontiguousarray(weights, f"<u{self.kind().itemsize}").view("u1").reshape(data.size, -1)
            return looked_up(self._entered, lanes, data)
        entered, wide = self.times(weights, self.entering), data.astype(self.kind)
        found = np.zeros(data.size, self.kind)
        for bit in range(7, -1, -1):  # the highest bit of a byte is the lowest power
            found ^= entered * (wide >> bit & 1)
            entered = entered >> 1 ^ (entered & 1) * self.polynomial
        return found

    @cached_property
    def _entered(self) -> Array:
        """For each byte of a weight: what a byte of data adds with it, at data × 256 + byte."""
        powers = [self.entering]  # times x, x² …
        for _ in range(self.bits + 6):
            powers.append(times_x(powers[-1], self.polynomial))
        tables = np.zeros((-(-self.bits // 8), 256, 256), self.kind)
        for lane, table in enumerate(tables):
            for bit in range(8):  # the highest bit of a byte, and of a weight, is the lowest power
                row = np.zeros(256, self.kind)
                for rank in range(min(8, self.bits - 8 * lane)):
                    power = powers[self.bits - 1 - 8 * lane - rank + 7 - bit]
                    row[1 << rank : 2 << rank] = row[: 1 << rank] ^ power
                table[1 << bit : 2 << bit] = table[: 1 << bit] ^ row
        return tables.reshape(len(tables), -1)

    def between(self, first: Array, other: Array, weights: Array) -> Array:
        return self.carried(first ^ other, weights)


class Multiplying(Ring):
    """Whole numbers modulo 2³²."""

    kind = np.uint32
    bits, one = 32, 1

    def __init__(self, multiplier: int) -> None:
        self.weight = multiplier
        self.inverse = pow(multiplier, -1, 1 << 32)

    def product(self, a: int, b: int) -> int:
        return a * b & 0xFFFFFFFF

    def times(self, numbers: Array, factor: int) -> Array:
        return numbers * np.uint32(factor)

    def products(self, a: Array, b: Array) -> Array:
        return a * b

    def minus(self, a: Array, b: Array) -> Array:
        return a - b

    def minus_one(self, a: int, b: int) -> int:
        return a - b & 0xFFFFFFFF

    def summed(self, numbers: Array) -> Array:
        found = np.zeros(numbers.size + 1, np.uint32)
        np.cumsum(numbers, dtype=np.uint32, out=found[1:])
        return found

    def carried(self, data: Array, weights: Array) -> Array:
        return data.astype(np.uint32) * weights


@dataclass(frozen=True, eq=False)
class Ranges:
    """Many ranges [starts[k], ends[k]), each with what it sees in `sizes[k]` bytes at `ats[k]`: what `owns[k]` says."""

    starts: Array
    ends: Array
    ats: Array
    sizes: Array
    owns: tuple[str | None, ...]

    @property
    def left_out(self) -> Array:
        """How many bytes of each are not seen."""
        found: Array = np.where([own == "left out" for own in self.owns], self.sizes, 0)
        return found

    @property
    def lengths(self) -> Array:
        found: Array = self.ends - self.starts - self.left_out
        return found

    def are_within(self, size: int) -> Array:
        """Which are ranges of a content of so many bytes, and have what they see otherwise in them."""
        own = np.array([each is not None for each in self.owns], bool)
        found: Array = (self.starts >= 0) & (self.starts < self.ends) & (self.ends <= size)
        return found & (~own | (self.starts <= self.ats) & (self.ats + self.sizes <= self.ends))

    def only(self, chosen: Array) -> Ranges:
        owns = tuple(self.owns[number] for number in np.flatnonzero(chosen))
        return Ranges(self.starts[chosen], self.ends[chosen], self.ats[chosen], self.sizes[chosen], owns)


class Prefixes:
    """The prefixes K(i) of one content, over its bytes as they are or `flipped` (mirrored)."""

    def __init__(self, ring: Ring, content: bytes, *, flipped: bool, few: bool = False) -> None:
        self.ring, self.size, self.flipped, self.content = ring, len(content), flipped, content
        self._few = few  # of a ring that is tried once not many are asked for
        self._points = {0: 0}
        self._fillings: dict[tuple[int, bytes], int] = {}

    @cached_property
    def whole(self) -> Array:
        """All of them."""
        return self.ring.summed(self._terms(self.content, 0))

    def at(self, offsets: Array) -> Array:
        """Those at some offsets. A few are worked out one by one, and many of a CRC that is quick in itself."""
        ring, known = self.ring, self._points
        is_quick = self._crc is not None and self._crc.is_quick and self.size >= LARGE
        most = MOST_POINTS if is_quick else FEW_POINTS if self._few else 0
        if self._crc is None or "whole" in self.__dict__ or len(known) + offsets.size > most:
            return self.whole[offsets]
        points = np.array(sorted({*known, *offsets.tolist()}))
        lowered, view = ring.lowered_at(points, self.size).tolist(), memoryview(self.content)
        for (before, point), weight in zip(pairwise(points.tolist()), lowered[1:], strict=True):
            if point not in known:
                known[point] = known[before] ^ ring.product(self._crc.run(view[before:point], 0), weight)
        return np.array([known[point] for point in offsets.tolist()], ring.kind)

    @cached_property
    def _crc(self) -> Crc | None:
        ring = self.ring
        if not isinstance(ring, Polynomials):
            return None
        return Crc(ring.bits, mirrored(ring.polynomial, ring.bits), reflected=not self.flipped)

    def _terms(self, data: bytes, at: int) -> Array:
        held = np.frombuffer(mirrored_bytes(data) if self.flipped else data, np.uint8)
        return self.ring.carried(held, self.ring.inverses(self.size)[at : at + len(data)])

    def end(self, end: int, at: int, size: int, own: str | None) -> int:
        """The prefix at an end, in front of which `size` bytes at an offset are seen as `own`; None as they are. What
        is behind bytes that are left out has moved up, so that its end is `size` bytes less.
        """
        ring = self.ring
        if own is None:
            return int(self.at(np.array([end]))[0])
        last, before, behind = self.at(np.array([end, at, at + size])).tolist()
        if own == "left out":
            rest = ring.product(ring.minus_one(last, behind), ring.power(size))
            return ring.minus_one(rest, ring.minus_one(0, before))
        inside = ring.minus_one(ring.minus_one(behind, before), self._filling(at, own_bytes(own, size)))
        return ring.minus_one(last, inside)

    def states(self, over: Ranges) -> Array:
        """What states are after many ranges, begun with zero."""
        ring, whole = self.ring, self.whole
        inverses = ring.lowered(self.size + 1)
        totals, behind = whole[over.ends].copy(), over.ats + over.sizes
        owns = np.array(over.owns)
        for own, size in {(own, size) for own, size in zip(over.owns, over.sizes.tolist(), strict=True) if own}:
            chosen = np.flatnonzero((owns == own) & (over.sizes == size))
            before, after = whole[over.ats[chosen]], whole[behind[chosen]]
            if own == "left out":
                moved = ring.times(ring.minus(totals[chosen], after), ring.power(size))
                totals[chosen] = ring.minus(moved, ring.minus(np.zeros(1, ring.kind), before))
                continue
            fill = ring.times(inverses[over.ats[chosen]], self._filling(0, own_bytes(own, size)))
            totals[chosen] = ring.minus(totals[chosen], ring.minus(ring.minus(after, before), fill))
        powers = ring.powers(self.size + 1)
        return ring.products(powers[over.ends - over.left_out], ring.minus(totals, whole[over.starts]))

    def _filling(self, at: int, fill: bytes) -> int:
        """What bytes at an offset add to the prefixes behind them."""
        if (at, fill) not in self._fillings:
            self._fillings[at, fill] = int(self.ring.summed(self._terms(fill, at))[-1])
        return self._fillings[at, fill]


@lru_cache(maxsize=64)
def polynomials(bits: int, polynomial: int) -> Polynomials:
    """The ring of a CRC; `polynomial` in the usual order."""
    return Polynomials(bits, mirrored(polynomial, bits))


@lru_cache(maxsize=8)
def multiplying(multiplier: int) -> Multiplying:
    return Multiplying(multiplier)
