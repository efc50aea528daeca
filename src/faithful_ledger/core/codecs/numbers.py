"""Whole numbers of 1 to 8 bytes in both orders and both signs, and IEEE 754 floats."""

from __future__ import annotations

import math
import re
import struct
from abc import ABC, abstractmethod
from fractions import Fraction
from typing import Literal

from faithful_ledger.core.codecs.base import FixedSize, Value
from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.source import Source

__all__ = ["FloatCodec", "IntegerCodec", "WholeCodec", "number_codec", "parse_decimal", "parse_whole"]

Order = Literal["little", "big"]
FRACTION = re.compile(r"[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]{1,4})?|[+-]?(inf|nan)", re.IGNORECASE)
DECIMAL = re.compile(r"[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]{1,3})?")
LONGEST_DECIMAL = 400
NUMBER_NAME = re.compile(r"([uif])(8|16|24|32|64)(le|be)?")


def number_codec(name: str, order: Order) -> IntegerCodec | FloatCodec | None:
    """The codec a name such as `u32`, `i16be` or `f64le` stands for; None where it is no such name.

    Without `le` or `be`, `order` counts.
    """
    match = NUMBER_NAME.fullmatch(name)
    if match is None:
        return None
    kind, bits, ending = match.groups()
    size = int(bits) // 8
    chosen: Order = order if ending is None else ("little" if ending == "le" else "big")
    if kind == "f":
        return FloatCodec(size, chosen) if size in (4, 8) else None
    return IntegerCodec(size, kind == "i", chosen)


def parse_whole(text: str) -> int:
    """A whole number as people type it: decimal, or hexadecimal with 0x, with or without a sign.

    Raises:
        ValueRefused: for anything else.
    """
    cleaned = text.strip().replace("\u202f", "").replace("\u00a0", "").replace("−", "-")
    if len(cleaned) <= 40 and re.fullmatch(r"[+-]?(0[xX][0-9a-fA-F]+|[0-9]+)", cleaned):
        return int(cleaned, 16 if "x" in cleaned.lower() else 10)
    raise ValueRefused(f"“{text[:40]}” is not a whole number", "type it in decimal, or in hexadecimal as 0x…")


def parse_decimal(text: str) -> Fraction | None:
    """A number with a fraction or an exponent, exactly; None where it is none, or has more digits than any game shows.

    An exponent is bounded before anything is worked out: `1e999999999` would fill the memory.
    """
    cleaned = text.strip().replace("−", "-").replace("\u202f", "").replace("\u00a0", "")
    if len(cleaned) > LONGEST_DECIMAL or not DECIMAL.fullmatch(cleaned):
        return None
    return Fraction(cleaned)


class WholeCodec(ABC):
    """What all whole numbers have in common, however they lie in bytes: they are typed and shown as such."""

    name: str
    about: str
    size: int | None = None

    @abstractmethod
    def extent(self, source: Source, at: int, limit: int) -> int: ...

    @abstractmethod
    def decode(self, raw: bytes) -> int: ...

    @abstractmethod
    def encode(self, value: Value, old: bytes = b"") -> bytes: ...

    def to_text(self, value: Value) -> str:
        return str(value)

    def from_text(self, text: str, old: Value = None) -> int:
        value = parse_whole(text)
        self.encode(value)
        return value

    def _within(self, value: Value, least: int, most: int) -> int:
        if not isinstance(value, int):
            raise ValueRefused(f"{value!r} is not a whole number", "enter one")
        if not least <= value <= most:
            raise ValueRefused(f"{value} does not fit {self.name} ({least} to {most})", "enter a value in that range")
        return value


class IntegerCodec(FixedSize, WholeCodec):
    """A two's-complement whole number of `size` bytes."""

    def __init__(self, size: int, signed: bool, order: Order) -> None:
        self.size: int = size
        self.signed, self.order = signed, order
        ending = "" if size == 1 else ("le" if order == "little" else "be")
        self.name = f"{'i' if signed else 'u'}{size * 8}{ending}"
        self.least = -(1 << (size * 8 - 1)) if signed else 0
        self.most = (1 << (size * 8 - signed)) - 1
        bytes_ = "1 byte" if size == 1 else f"{size} bytes, {'low' if order == 'little' else 'high'} byte first"
        self.about = f"whole number, {bytes_}" + (", with a sign" if signed else "")

    def decode(self, raw: bytes) -> int:
        return int.from_bytes(raw, self.order, signed=self.signed)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        return self._within(value, self.least, self.most).to_bytes(self.size, self.order, signed=self.signed)


class FloatCodec(FixedSize):
    """An IEEE 754 number of 4 or 8 bytes, shown with the fewest digits that read back to the same bytes."""

    def __init__(self, size: int, order: Order) -> None:
        self.size, self.order = size, order
        self._struct = struct.Struct(("<" if order == "little" else ">") + ("f" if size == 4 else "d"))
        self.name = f"f{size * 8}{'le' if order == 'little' else 'be'}"
        self.about = f"fraction (float), {size} bytes, {'low' if order == 'little' else 'high'} byte first"

    def decode(self, raw: bytes) -> float:
        (value,) = self._struct.unpack(raw)
        if self.size == 8 or not math.isfinite(value):
            return float(value)
        for digits in range(6, 10):
            short = float(f"{value:.{digits}g}")
            try:
                if self._struct.pack(short) == raw:
                    return short
            except OverflowError:
                continue
        return float(value)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if not isinstance(value, int | float):
            raise ValueRefused(f"{value!r} is not a number", "enter one")
        try:
            return self._struct.pack(value)
        except (OverflowError, struct.error) as error:
            raise ValueRefused(f"{value} does not fit {self.name}", "enter a smaller number") from error

    def to_text(self, value: Value) -> str:
        return repr(value)

    def from_text(self, text: str, old: Value = None) -> float:
        cleaned = text.strip().replace("−", "-")
        if len(cleaned) > 400 or not FRACTION.fullmatch(cleaned):
            raise ValueRefused(f"“{text[:40]}” is not a number", "type one, such as 12.5")
        value = float(cleaned)
        self.encode(value)
        return value
