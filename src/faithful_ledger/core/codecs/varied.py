"""Whole numbers that are not two's complement: packed decimal, LEB128 in three forms, and decimal text.

Packed decimal (BCD) holds two digits a byte. LEB128 and its zigzag form are those of the DWARF and Protocol Buffers
specifications; they are written with as few bytes as the value needs, so another value may take another size.
"""

from __future__ import annotations

import re
from typing import Literal

from faithful_ledger.core.codecs.base import CutOff, FixedSize, Value
from faithful_ledger.core.codecs.numbers import WholeCodec
from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.source import Source
from faithful_ledger.core.spellings import leb128, sleb128

__all__ = ["DigitsCodec", "PackedCodec", "VariableCodec", "varied_codec"]

LONGEST_VARIABLE = 10
LONGEST_DIGITS = 40
LARGEST = (1 << 64) - 1


def varied_codec(name: str) -> WholeCodec | None:
    """The codec a name such as `bcd3`, `bcd4le`, `uleb128` or `digits` stands for; None where it is no such name."""
    match = re.fullmatch(r"bcd([1-8])(le)?", name)
    if match is not None:
        return PackedCodec(int(match[1]), match[2] is not None)
    if name in ("uleb128", "sleb128", "zigzag"):
        return VariableCodec(name)  # type: ignore[arg-type]
    if name in ("digits", "digits-utf16le"):
        return DigitsCodec(wide=name != "digits")
    return None


class PackedCodec(FixedSize, WholeCodec):
    """Packed decimal of `size` bytes, the most significant byte first unless `little`."""

    def __init__(self, size: int, little: bool) -> None:
        self.size: int = size
        self.little = little
        self.name = f"bcd{size}{'le' if little else ''}"
        order = "" if size == 1 else f", {'low' if little else 'high'} byte first"
        self.about = f"packed digits, {size} byte{'s' if size > 1 else ''}{order}"

    def decode(self, raw: bytes) -> int:
        digits = (raw[::-1] if self.little else raw).hex()
        if not digits.isdecimal():
            raise ValueRefused(f"{raw.hex(' ').upper()} holds something that is no digit", "another kind may fit")
        return int(digits)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        number = self._within(value, 0, 10 ** (2 * self.size) - 1)
        raw = bytes.fromhex(f"{number:0{2 * self.size}d}")
        return raw[::-1] if self.little else raw


class VariableCodec(WholeCodec):
    """A number of variable length, seven bits a byte, low ones first."""

    def __init__(self, name: Literal["uleb128", "sleb128", "zigzag"]) -> None:
        self.name = name
        signed = name == "sleb128"
        self._least, self._most = (-(1 << 63), (1 << 63) - 1) if signed else (0, LARGEST)
        sign = {"uleb128": "", "sleb128": ", with a sign", "zigzag": ", zigzag"}[name]
        self.about = f"number of variable length{sign}"

    def extent(self, source: Source, at: int, limit: int) -> int:
        data = bytes(source.read(at, min(limit, at + LONGEST_VARIABLE)))
        for place, byte in enumerate(data):
            if byte < 128:
                return place + 1
        if len(data) < LONGEST_VARIABLE:
            raise CutOff(len(data) + 1)
        return LONGEST_VARIABLE

    def size_before(self, data: bytes) -> int | None:
        """How many bytes a value takes that ends where `data` ends, if what is in front ends with a byte below 128."""
        if not data or data[-1] >= 128:
            return None
        size = 1
        while size < min(len(data), LONGEST_VARIABLE) and data[-size - 1] >= 128:
            size += 1
        return size

    def decode(self, raw: bytes) -> int:
        value = sum((byte & 127) << 7 * place for place, byte in enumerate(raw))
        if raw and self.name == "sleb128" and raw[-1] & 64:
            value -= 1 << 7 * len(raw)
        if not raw or raw[-1] >= 128 or not self._least <= value <= self._most:
            raise ValueRefused(f"{raw.hex(' ').upper()} is not a number of variable length", "another kind may fit")
        if self.name == "zigzag":
            return value // 2 if value % 2 == 0 else -(value + 1) // 2
        return value

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if self.name == "uleb128":
            return leb128(self._within(value, 0, LARGEST))
        number = self._within(value, -(1 << 63), (1 << 63) - 1)
        if self.name == "zigzag":
            return leb128(number * 2 if number >= 0 else -number * 2 - 1)
        return sleb128(number)


class DigitsCodec(WholeCodec):
    """Decimal text of ASCII digits, of one byte each or (`wide`) two; leading zeros keep their width."""

    def __init__(self, *, wide: bool) -> None:
        self.wide = wide
        self.name = "digits-utf16le" if wide else "digits"
        self.about = f"text of digits{', two bytes each' if wide else ''}"

    def extent(self, source: Source, at: int, limit: int) -> int:
        step = 2 if self.wide else 1
        raw = bytes(source.read(at, min(limit, at + LONGEST_DIGITS * step)))
        text = raw.decode("utf-16-le" if self.wide else "latin-1", "replace")
        match = re.match(r"-?[0-9]+", text, re.ASCII)
        if match is None:
            raise CutOff(step)
        return match.end() * step

    def decode(self, raw: bytes) -> int:
        text = raw.decode("utf-16-le" if self.wide else "latin-1", "replace")
        if not re.fullmatch(r"-?[0-9]+", text, re.ASCII):
            raise ValueRefused(f"“{text[:20]}” is no number in digits", "another kind may fit")
        return int(text)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        number = self._within(value, -(10**LONGEST_DIGITS), 10**LONGEST_DIGITS)
        width = len(old) // (2 if self.wide else 1)
        padded = old.lstrip(b"-").startswith(b"0") and width > 1
        text = f"{number:0{width}d}" if padded else str(number)
        return text.encode("utf-16-le" if self.wide else "ascii")
