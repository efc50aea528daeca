"""Whole numbers of 1 to 8 bytes in both orders and both signs, and IEEE 754 floats."""

from __future__ import annotations

import math
import re
import struct
from abc import abstractmethod
from fractions import Fraction
from typing import TYPE_CHECKING

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.storage.base import FixedSize, Order, Storage, Value

if TYPE_CHECKING:
    from faithful_ledger.core.storage.base import Array

__all__ = ["Float", "Integer", "WholeNumber", "named", "parse_decimal", "parse_float", "parse_whole"]

FRACTION = re.compile(r"[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]{1,4})?|[+-]?(inf|nan)", re.IGNORECASE)
DECIMAL = re.compile(r"[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]{1,3})?")
LONGEST_DECIMAL = 400
NAME = re.compile(r"([uif])(8|16|24|32|40|48|56|64)(le|be)?")
NATIVE = (1, 2, 4, 8)  # bytes of whole numbers that NumPy has a type for


def named(name: str, order: Order) -> Integer | Float | None:
    """The storage that a name such as `u32`, `i16be` or `f64le` stands for; None where it is not such a name.

    Without `le` or `be`, `order` counts.
    """
    match = NAME.fullmatch(name)
    if match is None:
        return None
    kind, bits, ending = match.groups()
    size = int(bits) // 8
    chosen: Order = order if ending is None else ("little" if ending == "le" else "big")
    if kind == "f":
        return Float(size, chosen) if size in (4, 8) else None
    return Integer(size, kind == "i", chosen)


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


def parse_float(text: str) -> float:
    """A number as people type it, also `inf` and `nan`.

    Raises:
        ValueRefused: for anything else.
    """
    cleaned = text.strip().replace("−", "-")
    if len(cleaned) > LONGEST_DECIMAL or not FRACTION.fullmatch(cleaned):
        raise ValueRefused(f"“{text[:40]}” is not a number", "type one, such as 12.5")
    return float(cleaned)


class WholeNumber(Storage):
    """What all whole numbers have in common, however they are stored: they are typed and shown as such."""

    family = "whole"
    least: int
    most: int

    @property
    def digits(self) -> int:
        """How many bits it has for switches."""
        return self.bits or 64

    @abstractmethod
    def decode(self, raw: bytes) -> int: ...

    def from_text(self, text: str, old: Value = None) -> int:
        value = parse_whole(text)
        self._within(value)
        return value

    def whole(self, raw: bytes) -> int:
        return self.decode(raw)

    def neutral(self, size: int | None) -> bytes:
        return self.encode(0)

    def spell(self, number: Fraction) -> bytes | None:
        if number.denominator != 1 or not self.least <= number <= self.most:
            return None
        return self.encode(int(number))

    def _within(self, value: Value) -> int:
        if not isinstance(value, int):
            raise ValueRefused(f"{value!r} is not a whole number", "enter one")
        if not self.least <= value <= self.most:
            text = f"{value} does not fit {self.name} ({self.least} to {self.most})"
            raise ValueRefused(text, "enter a value in that range")
        return value


class VariableNumber(WholeNumber):
    """One whose bytes say how many there are."""

    family = "variable"

    @abstractmethod
    def size_in(self, content: bytes) -> int:
        """How many bytes a number has that these begin with; 1 where they are none."""
        ...


class Integer(FixedSize, WholeNumber):
    """A two's-complement whole number of `size` bytes."""

    def __init__(self, size: int, signed: bool, order: Order) -> None:
        self.bits = size * 8
        self.signed, self.order = signed, order
        self.least_size = size
        self.family = "signed" if signed else "whole"
        ending = "" if size == 1 else ("le" if order == "little" else "be")
        self.name = f"{'i' if signed else 'u'}{size * 8}{ending}"
        self.least = -(1 << (size * 8 - 1)) if signed else 0
        self.most = (1 << (size * 8 - signed)) - 1
        bytes_ = "1 byte" if size == 1 else f"{size} bytes, {'low' if order == 'little' else 'high'} byte first"
        self.about = f"whole number, {bytes_}" + (", with a sign" if signed else "")
        if size in NATIVE:
            self.dtype = f"{'<' if order == 'little' else '>'}{'i' if signed else 'u'}{size}"

    def decode(self, raw: bytes) -> int:
        return int.from_bytes(raw, self.order, signed=self.signed)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        return self._within(value).to_bytes(self.size, self.order, signed=self.signed)

    def column(self, data: Array, at: Array) -> tuple[Array, Array]:
        import numpy as np

        if self.dtype is not None:
            return _taken(data, at, self.dtype)
        inside = at + self.size <= data.size
        start = np.where(inside, at, 0)
        value: Array = np.zeros(at.size, np.int32 if self.size == 3 else np.int64)
        for place in range(self.size):
            lane = place if self.order == "big" else self.size - 1 - place
            value = value << 8 | data[np.minimum(start + lane, data.size - 1)] if data.size else value
        return (np.where(value > self.most, value - (1 << self.bits), value) if self.signed else value), inside


class Float(FixedSize):
    """An IEEE 754 number of 4 or 8 bytes, shown with the fewest digits that read back to the same bytes."""

    family = "fraction"

    def __init__(self, size: int, order: Order) -> None:
        self.bits = size * 8
        self.order, self.least_size = order, size
        self.dtype: str = f"{'<' if order == 'little' else '>'}f{size}"
        self._struct = struct.Struct(("<" if order == "little" else ">") + ("f" if size == 4 else "d"))
        self.name = f"f{size * 8}{'le' if order == 'little' else 'be'}"
        self.about = f"fraction (float), {size} bytes, {'low' if order == 'little' else 'high'} byte first"

    def decode(self, raw: bytes) -> float:
        (value,) = self._struct.unpack(raw)
        if self.bits == 64 or not math.isfinite(value):
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
        value = parse_float(text)
        self.encode(value)
        return value

    def column(self, data: Array, at: Array) -> tuple[Array, Array]:
        return _taken(data, at, self.dtype)

    def spell(self, number: Fraction) -> bytes | None:
        try:
            return self._struct.pack(float(number))
        except OverflowError:
            return None


def _taken(data: Array, at: Array, dtype: str) -> tuple[Array, Array]:
    """Values of a NumPy type at many offsets, and which of them are whole within the data."""
    import numpy as np

    kind = np.dtype(dtype)
    inside = at + kind.itemsize <= data.size
    count = data.size - kind.itemsize + 1
    if count <= 0:
        return np.zeros(at.size, kind), inside
    # NumPy reads unaligned views of stride 1: every offset is the beginning of a value.
    values = np.ndarray((count,), kind, np.ascontiguousarray(data), strides=(1,))
    return values[np.where(inside, at, 0)], inside
