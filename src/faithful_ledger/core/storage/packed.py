"""Decimal digits in binary (BCD): packed, two of them a byte, or unpacked, one a byte."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.storage.base import FixedSize, Order, Value
from faithful_ledger.core.storage.numbers import WholeNumber

if TYPE_CHECKING:
    from faithful_ledger.core.storage.base import Array

__all__ = ["PackedDecimal", "UnpackedDecimal", "named"]

LETTERS = 0x30  # the high half of digits that are letters


def named(name: str, order: Order) -> PackedDecimal | UnpackedDecimal | None:
    """The storage that `bcd3`, `bcd4le` or `unpacked5` stands for."""
    if match := re.fullmatch(r"bcd([1-8])(le)?", name):
        return PackedDecimal(int(match[1]), match[2] is not None)
    match = re.fullmatch(r"unpacked([1-9]|1[0-6])(le)?", name)
    return None if match is None else UnpackedDecimal(int(match[1]), match[2] is not None)


class PackedDecimal(FixedSize, WholeNumber):
    """Packed decimal of `size` bytes, the most significant byte first unless `little`."""

    family = "packed"

    def __init__(self, size: int, little: bool) -> None:
        self.bits = size * 8
        self.little, self.least_size = little, size
        self.least, self.most = 0, 10 ** (2 * size) - 1
        self.name = f"bcd{size}{'le' if little else ''}"
        order = "" if size == 1 else f", {'low' if little else 'high'} byte first"
        self.about = f"packed digits, {size} byte{'s' if size > 1 else ''}{order}"

    def decode(self, raw: bytes) -> int:
        digits = (raw[::-1] if self.little else raw).hex()
        if not digits.isdecimal():
            raise ValueRefused(f"{raw.hex(' ').upper()} has half bytes that are not digits", "another kind may fit")
        return int(digits)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        raw = bytes.fromhex(f"{self._within(value):0{2 * self.size}d}")
        return raw[::-1] if self.little else raw

    def column(self, data: Array, at: Array) -> tuple[Array, Array]:
        import numpy as np

        inside = at + self.size <= data.size
        start = np.where(inside, at, 0)
        value = np.zeros(at.size, np.int64)
        for place in range(self.size if data.size else 0):
            lane = self.size - 1 - place if self.little else place
            byte = data[np.minimum(start + lane, data.size - 1)]
            high, low = byte >> 4, byte & 15
            inside = inside & (high < 10) & (low < 10)
            value = value * 100 + (high.astype(np.int64) * 10 + low)
        return value, inside


class UnpackedDecimal(FixedSize, WholeNumber):
    """A decimal digit in the low half of each of `size` bytes, the most significant one first unless `little`. The high
    halves are alike, as where digits are the numbers of pictures, and stay as they are; digits that are letters are
    text (see digits.py).
    """

    family = "unpacked"

    def __init__(self, size: int, little: bool) -> None:
        self.bits = size * 8
        self.little, self.least_size = little, size
        self.least, self.most = 0, 10**size - 1
        self.name = f"unpacked{size}{'le' if little else ''}"
        order = "" if size == 1 else f", {'low' if little else 'high'} digit first"
        self.about = f"digits of a byte each, {size} byte{'s' if size > 1 else ''}{order}"

    def decode(self, raw: bytes) -> int:
        halves = {byte & 0xF0 for byte in raw}
        if len(halves) != 1 or halves == {LETTERS} or any(byte & 15 > 9 for byte in raw):
            raise ValueRefused(f"{raw.hex(' ').upper()} is not a digit in every byte", "another kind may fit")
        return int("".join(str(byte & 15) for byte in (raw[::-1] if self.little else raw)))

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        halves = old[0] & 0xF0 if old else 0
        raw = bytes(halves | int(digit) for digit in f"{self._within(value):0{self.size}d}")
        return raw[::-1] if self.little else raw

    def column(self, data: Array, at: Array) -> tuple[Array, Array]:
        import numpy as np

        inside = at + self.size <= data.size
        start = np.where(inside, at, 0)
        value = np.zeros(at.size, np.int64)
        halves = data[start] & 0xF0 if data.size else value
        for place in range(self.size if data.size else 0):
            lane = self.size - 1 - place if self.little else place
            byte = data[np.minimum(start + lane, data.size - 1)]
            inside = inside & (byte & 0xF0 == halves) & (halves != LETTERS) & (byte & 15 < 10)
            value = value * 10 + (byte & 15)
        return value, inside
