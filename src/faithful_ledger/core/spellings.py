"""How a number is written in bytes: in every storage that can hold it.

LEB128 and its zigzag form are those of the DWARF and Protocol Buffers specifications; packed decimal holds two digits
a byte.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from fractions import Fraction
from typing import NamedTuple

__all__ = ["Spelling", "leb128", "sleb128", "spellings"]

SIZES = (1, 2, 3, 4, 8)
LARGEST_PACKED = 8


class Spelling(NamedTuple):
    stored_as: str
    data: bytes


def spellings(number: Fraction) -> Iterator[Spelling]:
    """A number in each storage that can hold it. Where two write it alike, the unsigned one stands for both."""
    for size, letter in ((4, "f"), (8, "d")):
        for order, ending in (("<", "le"), (">", "be")):
            try:
                yield Spelling(f"f{size * 8}{ending}", struct.pack(order + letter, float(number)))
            except OverflowError:
                continue
    if number.denominator != 1:
        yield Spelling("digits", f"{float(number):g}".encode())
        return
    whole = int(number)
    for size in SIZES:
        for order, ending in (("little", "le"), ("big", "be")) if size > 1 else (("little", ""),):
            try:
                raw = whole.to_bytes(size, order, signed=whole < 0)  # type: ignore[arg-type]
            except OverflowError:
                continue
            yield Spelling(f"{'i' if whole < 0 else 'u'}{size * 8}{ending}", raw)
    if whole >= 0:
        digits = str(whole)
        for size in range((len(digits) + 1) // 2, LARGEST_PACKED + 1):
            raw = bytes.fromhex(digits.zfill(size * 2))
            yield Spelling(f"bcd{size}", raw)
            if size > 1:
                yield Spelling(f"bcd{size}le", raw[::-1])
        if whole < 1 << 64:
            yield Spelling("uleb128", leb128(whole))
    if -(1 << 63) <= whole < 1 << 63:
        yield Spelling("sleb128", sleb128(whole))
        yield Spelling("zigzag", leb128(whole * 2 if whole >= 0 else -whole * 2 - 1))
    yield Spelling("digits", str(whole).encode())
    yield Spelling("digits-utf16le", str(whole).encode("utf-16-le"))


def leb128(value: int) -> bytes:
    """A number that is not negative, seven bits a byte, low ones first."""
    out = bytearray()
    while value > 127:
        out.append(value & 127 | 128)
        value >>= 7
    out.append(value)
    return bytes(out)


def sleb128(value: int) -> bytes:
    """The same in two's complement."""
    out = bytearray()
    while not -64 <= value <= 63:
        out.append(value & 127 | 128)
        value >>= 7
    out.append(value & 127)
    return bytes(out)
