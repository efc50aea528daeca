"""CRCs of which not even the polynomial is known, from saves of one size.

Between two saves whose difference over the covered bytes is the polynomial M, the stored values differ by
c = M × xᵏ mod P for a k that depends on where the range ends. So for two pairs M₁ × c₂ + M₂ × c₁ is a multiple of P
whatever k is, and P is what all of these have in common: their greatest common divisor over GF(2). What the Ms
themselves have in common is divided out. The range follows as for any known polynomial (ranges.py).

With saves of two sizes the start and the final XOR can be separated: over n bytes the constant is start × x⁸ⁿ + XOR.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from itertools import combinations, islice, product
from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.bit_order import mirrored, mirrored_bytes
from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.seals.crc import Crc
from faithful_ledger.core.seals.finder.finding import Finding
from faithful_ledger.core.seals.finder.places import Edge, Place
from faithful_ledger.core.seals.finder.ranges import Chain, Differences, any_range
from faithful_ledger.core.seals.finder.rings import polynomials

__all__ = ["LEAST_SAVES", "WIDTHS", "polynomials_of", "unknown_crc", "with_own_start"]

Array: TypeAlias = np.ndarray[Any, Any]
LEAST_SAVES = 4
WIDTHS = (64, 32, 24, 16)
LARGEST_SPAN = 1 << 15  # bytes from the first that differs to the last: dividing takes the square of it
STEPS = 256  # of a division, between two looks at the clock
MOST_PAIRS = 12
LEAST_TERMS = 3  # of a polynomial, without its highest; with fewer it is hardly more than an XOR
LARGEST_FACTOR = 8  # degree of what chance may leave beside the polynomial


def unknown_crc(found: Differences, place: Place, until: Deadline = NEVER) -> Iterator[Finding]:
    """CRCs with any polynomial that explain a place in every save."""
    for flipped in (True, False):
        for polynomial in polynomials_of(found, place, flipped=flipped, until=until):
            chain = Chain(polynomials(place.bits, polynomial), flipped, ())
            for each in any_range(found, place, chain):
                yield replace(each, bits=each.bits - place.bits)  # the polynomial was chosen to fit


def polynomials_of(found: Differences, place: Place, *, flipped: bool, until: Deadline = NEVER) -> Iterator[int]:
    """Polynomials, without their highest terms, over which the differences of the saves may give those of the values at
    a place: over all bytes that differ, those in front of it, or those behind. `flipped` is for CRCs that take the
    highest bit first.
    """
    if place.bits not in WIDTHS or len(found.contents) < LEAST_SAVES:
        return
    start = place.edge.at(found.size)
    changed = found.apart(place, found.at)
    tried: set[int] = {0}
    for kept in (changed, changed[changed >= start], changed[changed < start]):
        if kept.size not in tried:
            tried.add(kept.size)
            yield from _common(found, place, kept, flipped=flipped, until=until)


def _common(found: Differences, place: Place, at: Array, *, flipped: bool, until: Deadline) -> Iterator[int]:
    low, high = int(at[0]), int(at[-1]) + 1
    if high - low > LARGEST_SPAN:
        return
    width = place.bits
    whole, steps = [], []
    chosen = np.zeros(high - low, bool)
    chosen[at - low] = True
    for content, value in zip(found.contents, place.values, strict=True):
        held = np.where(chosen, np.frombuffer(content[low:high], np.uint8), 0).astype(np.uint8).tobytes()
        whole.append(int.from_bytes(held if flipped else mirrored_bytes(held), "big"))
        steps.append(value if flipped else mirrored(value, width))
    pairs = [(whole[0] ^ each, steps[0] ^ step) for each, step in zip(whole[1:], steps[1:], strict=True)]
    pairs = [(message, step) for message, step in pairs if message and step]
    if len(pairs) < LEAST_SAVES - 1:
        return
    last = min((message & -message).bit_length() - 1 for message, _ in pairs)
    pairs = [(message >> last, step) for message, step in pairs]
    common = 0
    for (one, a), (other, b) in islice(combinations(pairs, 2), MOST_PAIRS):
        multiple = _times(one, b) ^ _times(other, a)
        common = _divisor(multiple, common, until) if multiple else common
        if until.over or (common and common.bit_length() <= width):
            return
        if common.bit_length() - 1 == width:
            break
    while common and not common & 1:
        common >>= 1
    if common.bit_length() - 1 > width + LARGEST_FACTOR:  # more than chance leaves: the messages share a factor
        shared = common
        for message, _ in pairs:
            shared = _divisor(message, shared, until)
        common = _divided(common, shared)
    spare = common.bit_length() - 1 - width
    if not 0 <= spare <= LARGEST_FACTOR:
        return
    for factor in range(1 << spare, 1 << spare + 1):
        if _remainder(common, factor) == 0:
            quotient = _divided(common, factor)
            if quotient & 1 and quotient.bit_count() > LEAST_TERMS:
                yield quotient & (1 << width) - 1


def with_own_start(finding: Finding, contents: Sequence[bytes]) -> Finding | None:
    """A CRC of which only a constant is known for one size, with its start and its final XOR, from saves of another
    size as well; None where these do not agree with any.
    """
    crc = finding.algorithm.crc
    size = len(contents[0])
    others = [content for content in contents if len(content) != size]
    if crc is None or not finding.constant_only or not others:
        return None
    edges = [(Edge(offset), Edge(size - offset, True)) for offset in finding.spans(size)]
    for start, end, stored in product(*edges):
        made = replace(finding, start=start, end=end, stored=stored)
        solved = _solved(made, crc, size, others[0])
        if solved is not None and all(map(solved.holds, others)):
            return solved
    return None


def _solved(finding: Finding, crc: Crc, size: int, other: bytes) -> Finding | None:
    """The start and the XOR that explain a save of another size as well as those of `size`, for which the XOR of `crc`
    stands for both.
    """
    plain = replace(finding, algorithm=replace(finding.algorithm, crc=crc._replace(start=0, xor_out=0)))
    written, stored = plain.written(other), plain.stored_in(other)
    if written is None or len(written) != len(stored) or finding.form[:1] != "u":
        return None
    order: Any = "little" if finding.form.endswith("le") else "big"
    constants = [crc.xor_out, int.from_bytes(written, order) ^ int.from_bytes(stored, order)]
    if crc.reflected:
        constants = [mirrored(constant, crc.width) for constant in constants]
    lengths = []
    for each in (size, len(other)):
        low, high, at = finding.spans(each)
        covers = low <= at < high and finding.own == "left out"
        lengths.append(high - low - (finding.size if covers else 0))
    modulus = 1 << crc.width | crc.polynomial
    weight = _power_of_x(8 * lengths[0], modulus) ^ _power_of_x(8 * lengths[1], modulus)
    start = _quotient_modulo(constants[0] ^ constants[1], weight, modulus)
    if start is None:
        return None
    out = constants[0] ^ _remainder(_times(start, _power_of_x(8 * lengths[0], modulus)), modulus)
    out = mirrored(out, crc.width) if crc.reflected else out
    known = crc._replace(start=start, xor_out=out)
    return replace(finding, algorithm=replace(finding.algorithm, crc=known), constant_only=False)


# polynomials over GF(2) as whole numbers, bit n for x to the power of n


def _remainder(number: int, divisor: int) -> int:
    width = divisor.bit_length()
    while (above := number.bit_length() - width) >= 0:
        number ^= divisor << above
    return number


def _divided(number: int, divisor: int) -> int:
    """The quotient of a division without a remainder."""
    width, quotient = divisor.bit_length(), 0
    while (above := number.bit_length() - width) >= 0:
        number ^= divisor << above
        quotient |= 1 << above
    return quotient


def _divisor(a: int, b: int, until: Deadline = NEVER) -> int:
    """The greatest common divisor (Euclid); 1 when the time is up."""
    while b:
        for _ in range(STEPS):
            if not b:
                break
            width = b.bit_length()
            while (above := a.bit_length() - width) >= 0:
                a ^= b << above
            a, b = b, a
        if until.over:
            return 1
    return a


def _times(a: int, b: int) -> int:
    """A product; the shorter factor is taken bit by bit."""
    if a.bit_length() < b.bit_length():
        a, b = b, a
    result = 0
    while b:
        low = b & -b
        result ^= a << low.bit_length() - 1
        b ^= low
    return result


def _power_of_x(exponent: int, modulus: int) -> int:
    result = 1
    for bit in bin(exponent)[2:]:
        result = _remainder(_times(result, result) << (bit == "1"), modulus)
    return result


def _quotient_modulo(number: int, by: int, modulus: int) -> int | None:
    """What gives a number when it is multiplied, modulo a polynomial; None where nothing does. Where the factor and the
    modulus have a divisor in common, there are several, of which the shortest is as good as any: they differ in what
    the final XOR makes up for.
    """
    shared = _divisor(modulus, by)
    if _remainder(number, shared):
        return None
    smaller = _divided(modulus, shared)
    if smaller == 1:
        return 0
    inverse = _inverse(_divided(by, shared), smaller)
    return None if inverse is None else _remainder(_times(_divided(number, shared), inverse), smaller)


def _inverse(number: int, modulus: int) -> int | None:
    """The inverse modulo a polynomial; None where they have a divisor in common."""
    old, new, before, after = modulus, _remainder(number, modulus), 0, 1
    while new:
        quotient, rest = 0, old
        while (above := rest.bit_length() - new.bit_length()) >= 0:
            rest ^= new << above
            quotient |= 1 << above
        old, new = new, rest
        before, after = after, before ^ _times(quotient, after)
    return _remainder(before, modulus) if old == 1 else None
