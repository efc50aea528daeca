"""Whole numbers in some of the bits of a larger one; writing one keeps the bits beside it."""

from __future__ import annotations

import re
from fractions import Fraction
from typing import TYPE_CHECKING

from faithful_ledger.core.storage.base import Order, Value
from faithful_ledger.core.storage.numbers import Integer, WholeNumber

if TYPE_CHECKING:
    from faithful_ledger.core.storage.base import Array

__all__ = ["BitRange", "named"]


def named(name: str, order: Order) -> BitRange | None:
    """The storage that `bit3` stands for: one bit of one byte."""
    match = re.fullmatch(r"bit([0-7])", name)
    return None if match is None else BitRange(Integer(1, False, "little"), int(match[1]), 1)


class BitRange(WholeNumber):
    """`width` bits of a whole number without a sign, from bit `low` upwards; bit 0 is the least significant.

    It takes the bytes of the whole number, and shares them with the other bits of it.
    """

    family = "switch"

    def __init__(self, word: Integer, low: int, width: int, signed: bool = False) -> None:
        self.word, self.low, self.signed = word, low, signed
        self.bits: int = width
        self._own = (1 << width) - 1 << low
        self.least_size, self.order = word.size, word.order
        self.least, self.most = (-(1 << width - 1) if signed else 0), (1 << width - signed) - 1
        end = f" to {low + width - 1}" if width > 1 else ""
        short = word.bits == 8 and width == 1
        self.name = f"bit{low}" if short else f"bits{low}-{low + width - 1} of {word.name}"
        self.about = f"bit{'s' if end else ''} {low}{end} of a {word.about}" + (", with a sign" if signed else "")

    @property
    def size(self) -> int:
        return self.word.size

    @property
    def mask(self) -> bytes:
        return self.word.encode(self._own)

    def decode(self, raw: bytes) -> int:
        value = (self.word.decode(raw) & self._own) >> self.low
        return value - (self.most + 1) * 2 if self.signed and value > self.most else value

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        beside = self.word.decode(old) & ~self._own if old else 0
        return self.word.encode(beside | (self._within(value) << self.low & self._own))

    def column(self, data: Array, at: Array) -> tuple[Array, Array]:
        import numpy as np

        words, inside = self.word.column(data, at)
        value = (words.astype(np.uint64) & np.uint64(self._own)) >> np.uint64(self.low)
        number = value.astype(np.int64)
        return (np.where(number > self.most, number - (self.most + 1) * 2, number) if self.signed else number), inside

    def spell(self, number: Fraction) -> bytes | None:
        return None
