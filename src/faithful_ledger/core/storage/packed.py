"""Packed decimal (BCD): two digits a byte."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.storage.base import FixedSize, Order, Value
from faithful_ledger.core.storage.numbers import WholeNumber

if TYPE_CHECKING:
    from faithful_ledger.core.storage.base import Array

__all__ = ["PackedDecimal", "named"]

LARGEST = 8  # bytes


def named(name: str, order: Order) -> PackedDecimal | None:
    """The storage that `bcd3` or `bcd4le` stands for."""
    match = re.fullmatch(r"bcd([1-8])(le)?", name)
    return None if match is None else PackedDecimal(int(match[1]), match[2] is not None)


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
