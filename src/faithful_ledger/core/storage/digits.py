"""Whole numbers written as decimal text."""

from __future__ import annotations

import re
from fractions import Fraction
from typing import TYPE_CHECKING

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage.base import CutOff, Order, Sizer, Value
from faithful_ledger.core.storage.numbers import WholeNumber

if TYPE_CHECKING:
    from faithful_ledger.core.storage.base import Array

__all__ = ["Digits", "named"]

LONGEST = 40
LONGEST_IN_COLUMN = 18  # digits that fit 64 bits whatever they are
NUMBER = re.compile(r"-?[0-9]+", re.ASCII)
MINUS, ZERO, POINT = b"-0."


def named(name: str, order: Order) -> Digits | None:
    return Digits(wide=name != "digits") if name in ("digits", "digits-utf16le") else None


class Digits(WholeNumber):
    """Decimal text of ASCII digits, of one byte each or (`wide`) two; leading zeros keep their width."""

    family = "digits"

    def __init__(self, *, wide: bool) -> None:
        self.wide = wide
        self.least_size = 2 if wide else 1
        self.least, self.most = -(10**LONGEST), 10**LONGEST
        self.name = "digits-utf16le" if wide else "digits"
        self.about = f"text of digits{', two bytes each' if wide else ''}"
        self.encoding = "utf-16-le" if wide else "latin-1"

    def extent(self, source: Source, at: int, limit: int) -> int:
        raw = bytes(source.read(at, min(limit, at + LONGEST * self.least_size)))
        match = NUMBER.match(raw.decode(self.encoding, "replace"))
        if match is None:
            raise CutOff(self.least_size)
        return match.end() * self.least_size

    def sizer(self) -> Sizer | None:
        return None

    def decode(self, raw: bytes) -> int:
        text = raw.decode(self.encoding, "replace")
        if not NUMBER.fullmatch(text):
            raise ValueRefused(f"“{text[:20]}” is not a number in digits", "another kind may fit")
        return int(text)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        number = self._within(value)
        width = len(old) // self.least_size
        padded = old.lstrip(b"-").startswith(b"0") and width > 1
        return (f"{number:0{width}d}" if padded else str(number)).encode(self.encoding)

    def spell(self, number: Fraction) -> bytes | None:
        """Also a fraction with a point, where it has an end."""
        below = number.denominator
        for prime in (2, 5):
            while below % prime == 0:
                below //= prime
        if below != 1:
            return f"{float(number):g}".encode(self.encoding)
        if number.denominator == 1:
            return super().spell(number)
        places = 0
        while number.denominator != 1:
            number, places = number * 10, places + 1
        whole = f"{abs(number.numerator):0{places + 1}d}"
        return f"{'-' if number < 0 else ''}{whole[:-places]}.{whole[-places:]}".encode(self.encoding)

    def column(self, data: Array, at: Array) -> tuple[Array, Array]:
        """Only numbers that stand alone: no digit and no point directly in front, no digit behind."""
        import numpy as np

        def letter(place: Array) -> Array:
            inside = (place >= 0) & (place + self.least_size <= data.size)
            byte = np.where(inside, data[np.clip(place, 0, data.size - 1)], 0)
            if self.wide:
                byte = np.where(data[np.clip(place + 1, 0, data.size - 1)] == 0, byte, 0)
            return byte

        value = np.zeros(at.size, np.int64)
        if not data.size:
            return value, np.zeros(at.size, bool)
        step = self.least_size
        before = letter(at - step)
        minus = letter(at) == MINUS
        place = np.where(minus, at + step, at)
        going, count = np.ones(at.size, bool), np.zeros(at.size, np.int64)
        for _ in range(LONGEST_IN_COLUMN):
            byte = letter(place)
            going &= (byte >= ZERO) & (byte <= ZERO + 9)
            if not going.any():
                break
            value = np.where(going, value * 10 + (byte.astype(np.int64) - ZERO), value)
            count += going
            place = np.where(going, place + step, place)
        after = letter(place)
        alone = ~((before >= ZERO) & (before <= ZERO + 9)) & ~((after >= ZERO) & (after <= ZERO + 9))
        alone &= (before != POINT) & ~((before == MINUS) & ~minus)
        return np.where(minus, -value, value), (count > 0) & alone
