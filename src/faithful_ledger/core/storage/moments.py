"""Moments: numbers that count time since a date, and the packed date and time of FAT file systems.

Shown and typed as ISO 8601 without a zone, as `2026-11-26 19:51:21`; what is finer than a second follows the point.
"""

from __future__ import annotations

import re
from datetime import date, datetime
from fractions import Fraction

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.storage.base import FixedSize, Order, Storage, Value, Wrapping
from faithful_ledger.core.storage.numbers import Float, Integer, parse_whole

__all__ = ["MOMENTS", "UNITS", "DosMoment", "Moment", "decimals", "is_moment", "moment_since"]

UNITS = {
    "days": Fraction(86400),
    "hours": Fraction(3600),
    "minutes": Fraction(60),
    "seconds": Fraction(1),
    "milliseconds": Fraction(1, 10**3),
    "microseconds": Fraction(1, 10**6),
    "ticks": Fraction(1, 10**7),
    "nanoseconds": Fraction(1, 10**9),
}
MOMENTS = {  # names for the usual ones: since when, counted in what
    "unix": ("1970-01-01", "seconds"),
    "unix-milliseconds": ("1970-01-01", "milliseconds"),
    "unix-microseconds": ("1970-01-01", "microseconds"),
    "filetime": ("1601-01-01", "ticks"),
}
DAY = 86400
TYPED = re.compile(r"(\d{4}-\d{2}-\d{2})(?:[ T](\d{2}):(\d{2})(?::(\d{2})(?:\.(\d{1,9}))?)?)?")
DOS_YEAR = 1980


def moment_since(text: str) -> Fraction | None:
    """Seconds from the year 1 to a date or moment; None where it is none."""
    match = TYPED.fullmatch(text.strip())
    if match is None:
        return None
    day, hour, minute, second, below = match.groups()
    try:
        at = datetime.strptime(f"{day} {hour or '00'}:{minute or '00'}:{second or '00'}", "%Y-%m-%d %H:%M:%S")
    except ValueError:
        return None
    whole = at.toordinal() * DAY + at.hour * 3600 + at.minute * 60 + at.second
    return whole + (Fraction(int(below), 10 ** len(below)) if below else Fraction(0))


def _shown(seconds: Fraction) -> str | None:
    """A moment as people write it; None where no calendar has it, or it has more digits than are shown."""
    whole, below = divmod(seconds, 1)
    day, rest = divmod(int(whole), DAY)
    if not 1 <= day <= date.max.toordinal():
        return None
    text = f"{date.fromordinal(day).isoformat()} {rest // 3600:02}:{rest // 60 % 60:02}:{rest % 60:02}"
    digits = decimals(below)
    return text + digits if digits is not None else None


def decimals(below: Fraction) -> str | None:
    """A part of a second with its point; empty for none, None where it has more than nine digits."""
    digits = below * 10**9
    return f".{int(digits):09}".rstrip("0").rstrip(".") if digits.denominator == 1 else None


class _AsText(Storage):
    """A number that is shown as a moment where it is one."""

    def to_text(self, value: Value) -> str:
        return str(value)

    def from_text(self, text: str, old: Value = None) -> str | int:
        if moment_since(text) is None:
            try:
                value: str | int = parse_whole(text)
            except ValueRefused as error:
                example = "type it as 2026-11-26 19:51:21, or the number that is stored"
                raise ValueRefused(f"“{text[:40]}” is not a moment", example) from error
        else:
            value = text.strip().replace("T", " ")
        return self._read(self.encode(value))

    def _read(self, raw: bytes) -> str | int:
        found = self.decode(raw)
        assert isinstance(found, str | int)
        return found


class Moment(_AsText, Wrapping[Integer | Float]):
    """A number that counts `unit` since `since`. One that no calendar has stays a number."""

    def __init__(self, number: Integer | Float, since: str, unit: str) -> None:
        super().__init__(number)
        self.unit = unit
        begin = moment_since(since)
        assert begin is not None
        self.begin, self.step = begin, UNITS[unit]
        self.about = f"moment, {unit} since {since}, in a {number.about}"

    def neutral(self, size: int | None) -> bytes:
        return self.number.encode(0)

    def decode(self, raw: bytes) -> str | int | float:
        stored = self.number.decode(raw)
        if isinstance(stored, float):
            if stored != stored or abs(stored) > 1e15:
                return stored
            seconds = Fraction(round(Fraction(stored) * self.step * 1000), 1000)  # a float is shown to the millisecond
            return _shown(self.begin + seconds) or stored
        return _shown(self.begin + stored * self.step) or stored

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if not isinstance(value, str):
            return self.number.encode(value, old)
        moment = moment_since(value)
        if moment is None:
            raise ValueRefused(f"“{value[:40]}” is not a moment", "type it as 2026-11-26 19:51:21")
        count = (moment - self.begin) / self.step
        if isinstance(self.number, Float):
            return self.number.encode(float(count), old)
        if count.denominator != 1:
            raise ValueRefused(f"{value} is not a whole number of {self.unit}", "enter a moment that is")
        return self.number.encode(int(count), old)


def is_moment(storage: Storage, since: str, unit: str) -> bool:
    """Whether a storage counts that unit since then."""
    return isinstance(storage, Moment) and storage.unit == unit and storage.begin == moment_since(since)


class DosMoment(FixedSize, _AsText):
    """Date and time as FAT stores them: two seconds, minutes and hours in the low 16 bits, day, month and years since
    1980 in the high ones (Microsoft, FAT specification 1.03).
    """

    bits = 32
    least_size = 4

    def __init__(self, order: Order) -> None:
        self.number = Integer(4, False, order)
        self.name = self.number.name
        self.about = f"moment as FAT stores it, 4 bytes, {'low' if order == 'little' else 'high'} byte first"

    def whole(self, raw: bytes) -> int:
        return self.number.decode(raw)

    def decode(self, raw: bytes) -> str | int:
        stored = self.number.decode(raw)
        time, day = stored & 0xFFFF, stored >> 16
        try:
            at = datetime(DOS_YEAR + (day >> 9), day >> 5 & 15, day & 31, time >> 11, time >> 5 & 63, (time & 31) * 2)
        except ValueError:
            return stored
        return at.isoformat(sep=" ")

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if not isinstance(value, str):
            return self.number.encode(value, old)
        if moment_since(value) is None or "." in value:
            raise ValueRefused(f"“{value[:40]}” is not a moment", "type it as 2026-11-26 19:51:20")
        at = datetime.fromisoformat(value)
        if not DOS_YEAR <= at.year < DOS_YEAR + 128 or at.second % 2:
            raise ValueRefused(f"{value} is not an even second from 1980 to 2107", "enter one that is")
        day = (at.year - DOS_YEAR) << 9 | at.month << 5 | at.day
        return self.number.encode(day << 16 | at.hour << 11 | at.minute << 5 | at.second // 2, old)
