"""Whole numbers written as decimal text."""

from __future__ import annotations

import re
from collections.abc import Sequence
from fractions import Fraction
from typing import TYPE_CHECKING

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage.base import CutOff, FixedSize, Order, Sizer, Value
from faithful_ledger.core.storage.numbers import WholeNumber

if TYPE_CHECKING:
    from faithful_ledger.core.storage.base import Array

__all__ = ["Digits", "DigitsBuffer", "buffer_around", "named"]

LONGEST = 40
LONGEST_IN_COLUMN = 18  # digits that fit 64 bits whatever they are
NUMBER = re.compile(r"-?[0-9]+", re.ASCII)
MINUS, ZERO, POINT = b"-0."
FILLED = " \0"  # what a buffer has beside a number
MORE_DIGITS = 3  # that a number may get
USUAL = (4, 6, 8, 10, 12, 16, 20, 24, 32, LONGEST)  # bytes of a buffer, of which zeros behind it do not show the end


def named(name: str, order: Order) -> Digits | DigitsBuffer | None:
    if (match := re.fullmatch(r"digits([1-9]\d?)", name)) and int(match[1]) <= LONGEST:
        return DigitsBuffer(int(match[1]))
    return Digits(wide=name != "digits") if name in ("digits", "digits-utf16le") else None


def _whole(text: str) -> int:
    if not NUMBER.fullmatch(text):
        raise ValueRefused(f"“{text[:20]}” is not a number in digits", "another kind may fit")
    return int(text)


class DigitsBuffer(FixedSize, WholeNumber):
    """Decimal text of ASCII digits in a buffer of `size` bytes, filled up in front or behind with blanks, zero bytes or
    the digit 0, as it was.
    """

    family = "buffered"

    def __init__(self, size: int) -> None:
        self.bits = 8 * size
        self.least_size = size
        self.least, self.most = -(10 ** max(size - 1, 1)) + 1, 10**size - 1
        self.name = f"digits{size}"
        self.about = f"text of digits in {size} bytes"

    def decode(self, raw: bytes) -> int:
        return _whole(raw.decode("latin-1").strip(FILLED))

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        before, spelled = old.decode("latin-1"), str(self._within(value))
        if before.strip(FILLED) and before[0] in FILLED:
            return spelled.rjust(self.size, before[0]).encode()
        if before[-1:] and before[-1] in FILLED:
            return spelled.ljust(self.size, before[-1]).encode()
        return f"{value:0{self.size}d}".encode()

    def column(self, data: Array, at: Array) -> tuple[Array, Array]:
        import numpy as np

        value, fits = np.zeros(at.size, np.int64), np.zeros(at.size, bool)
        for number, start in enumerate(at.tolist()):
            text = data[start : start + self.size].tobytes().decode("latin-1").strip(FILLED)
            if 0 <= start <= data.size - self.size and NUMBER.fullmatch(text) and len(text) <= LONGEST_IN_COLUMN:
                value[number], fits[number] = int(text), True
        return value, fits


def buffer_around(contents: Sequence[bytes], at: int) -> tuple[int, int] | None:
    """The buffer [start, end) of a number in digits at an offset of every content: filled up in front, or behind in one
    of them, or as long in all with a 0 in front. None where there is none, as in texts, in which numbers grow.
    """
    numbers = [NUMBER.match(content[at : at + LONGEST].decode("latin-1")) for content in contents]
    sizes = [match.end() for match in numbers if match is not None]
    if len(sizes) < len(contents) or all(0 not in content for content in contents):
        return None
    longest, alike = max(sizes), len(set(sizes)) == 1
    heads = [content[max(at - LONGEST, 0) : at] for content in contents]
    front = min(len(head) - len(head.rstrip(b" ")) for head in heads)
    if front and alike:
        return at - front, at + longest
    tails = [content[at + size : at + LONGEST] for content, size in zip(contents, sizes, strict=True)]
    fill = next((tail[:1] for tail in tails if tail[:1] in (b" ", b"\0")), b"")
    room = (
        min(size + len(tail) - len(tail.lstrip(fill)) for size, tail in zip(sizes, tails, strict=True)) if fill else 0
    )
    if fill and (room > longest or (room == longest and not alike)):
        usual = [each for each in USUAL if longest + MORE_DIGITS <= each <= room] if fill == b"\0" else []
        return at, at + (usual[0] if usual else room)
    is_padded = alike and longest > 1 and any(content[at] == ZERO for content in contents)
    return (at, at + longest) if is_padded else None


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
        return _whole(raw.decode(self.encoding, "replace"))

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
