"""Numbers that are typed and shown in another form than decimal: hexadecimal, binary, or as a duration."""

from __future__ import annotations

import re
from fractions import Fraction
from typing import TYPE_CHECKING, Literal, TypeAlias

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.storage.base import Value, Wrapping
from faithful_ledger.core.storage.moments import decimals
from faithful_ledger.core.storage.numbers import Integer
from faithful_ledger.core.storage.scaled import Number, Scaled

if TYPE_CHECKING:
    from faithful_ledger.core.storage.base import Array

__all__ = ["Form", "Formed", "form_of"]

Form: TypeAlias = Literal["hex", "binary", "duration"]
WORDS: dict[Form, str] = {"hex": "in hexadecimal", "binary": "in binary", "duration": "as a duration"}
BINARY = re.compile(r"0b([01_ ]{1,80})")
DURATION = re.compile(r"([+-]?)(?:([0-9]{1,12}):)?([0-9]{1,4}):([0-9]{2}(?:\.[0-9]{1,9})?)")
LONGEST_SHOWN = 10**15  # seconds; longer ones are shown as a number


class Formed(Wrapping[Number | Scaled]):
    """A number in another form: its value is the number itself. A duration counts seconds, and is shown as 1:02:05."""

    def __init__(self, number: Number | Scaled, form: Form) -> None:
        super().__init__(number)
        self.form = form
        self.about = f"{number.about}, shown {WORDS[form]}"

    def column(self, data: Array, at: Array) -> tuple[Array, Array] | None:
        return self.number.column(data, at)

    def decode(self, raw: bytes) -> Value:
        return self.number.decode(raw)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        return self.number.encode(value, old)

    def to_text(self, value: Value) -> str:
        text = self.number.to_text(value)
        if isinstance(value, bool) or not isinstance(value, int | float) or value != value:
            return text
        if self.form == "duration":
            return (_duration(Fraction(text)) if abs(value) < LONGEST_SHOWN else "") or text
        if not isinstance(value, int):
            return text
        bits = self.bits or 0
        digits = f"{abs(value):0{(bits + 3) // 4}X}" if self.form == "hex" else f"{abs(value):0{bits}b}"
        return f"{'-' if value < 0 else ''}{'0x' if self.form == 'hex' else '0b'}{digits}"

    def from_text(self, text: str, old: Value = None) -> Value:
        cleaned = text.strip().replace("−", "-")
        sign = -1 if cleaned.startswith("-") else 1
        if match := BINARY.fullmatch(cleaned.lstrip("+-").lower()):
            return self.number.from_text(str(sign * int(re.sub(r"[_ ]", "", match[1]) or "0", 2)), old)
        if self.form == "duration" and (match := DURATION.fullmatch(cleaned)):
            _, hours, minutes, seconds = match.groups()
            if float(seconds) >= 60 or (hours is not None and int(minutes) >= 60):
                raise ValueRefused(f"“{text[:40]}” is not a duration", "type it as hours:minutes:seconds, 1:02:05")
            total = sign * (int(hours or 0) * 3600 + int(minutes) * 60 + Fraction(seconds))
            return self.number.from_text(str(int(total)) if total.denominator == 1 else repr(float(total)), old)
        return self.number.from_text(text, old)


def form_of(number: Number | Scaled, form: Form) -> Formed | None:
    """The number in a form; None where it has no bits to show, or is not a whole number."""
    return Formed(number, form) if form == "duration" or isinstance(number, Integer) else None


def _duration(seconds: Fraction) -> str | None:
    """Hours, minutes and seconds; None where they have more decimals than are typed."""
    whole, below = divmod(abs(seconds), 1)
    digits = decimals(below)
    hours, rest = divmod(int(whole), 3600)
    text = f"{'-' if seconds < 0 else ''}{hours}:{rest // 60:02}:{rest % 60:02}"
    return text + digits if digits is not None else None
