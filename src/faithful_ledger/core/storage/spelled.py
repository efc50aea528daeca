"""Values that a text spells out: a number, a switch, a text, or whichever of them is there.

How a text is quoted and escaped at a place is the format's business, a `Quoting`. What is within the quotes keeps its
own style here: digits in front and behind the point, a plus sign, an exponent, hexadecimal, thousands apart, blanks
around it, or all of that in base64.
"""

from __future__ import annotations

import re
from base64 import b64decode, b64encode
from binascii import Error
from fractions import Fraction
from typing import Protocol

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.storage.base import Sizer, Storage, Value
from faithful_ledger.core.storage.grouped import written_like
from faithful_ledger.core.storage.json_values import JsonNumber, JsonText
from faithful_ledger.core.storage.numbers import parse_decimal

__all__ = [
    "NumberInJson",
    "Quoting",
    "SpelledNumber",
    "SpelledSwitch",
    "SpelledText",
    "SpelledValue",
    "WholeInText",
    "exact_number",
    "is_number",
    "number_in_base64",
    "spelled_switch",
]

NUMBER = re.compile(r"([+-]?)([0-9]*)(?:\.([0-9]*))?([eE][+-]?[0-9]+)?")
GROUPED = re.compile(r"[+-]?[0-9]{1,3}(?:_[0-9]{3})+(?:\.[0-9]+)?")  # thousands, as TOML and some languages allow
HEXADECIMAL = re.compile(r"(0[xX])([0-9A-Fa-f]{1,16})")
BASE64 = re.compile(r"[K-O][A-Za-z0-9+/]{2,}={0,2}")  # what begins with a digit, a sign or a point
SWITCHES = (("true", "false"), ("yes", "no"), ("on", "off"))
LONGEST = 400  # characters of a number


class Quoting(Protocol):
    """How texts are quoted and escaped at some places of a format."""

    def decode(self, raw: bytes) -> str:
        """Raises ValueRefused when these bytes are not so quoted."""
        ...

    def encode(self, text: str, old: bytes) -> bytes:
        """A text in the quotes of the old one.

        Raises:
            ValueRefused: it cannot be written there.
        """
        ...


def is_number(text: str) -> bool:
    """Whether a text is spelled like a number."""
    return _parts(text.strip()) is not None or HEXADECIMAL.fullmatch(text.strip()) is not None


def spelled_switch(text: str) -> bool | None:
    """What true and false, yes and no, on and off mean; None for anything else."""
    word = text.strip().casefold()
    return next((word == pair[0] for pair in SWITCHES if word in pair), None)


def exact_number(text: str) -> Fraction | None:
    """The number that a text spells, exactly; None where it is none."""
    stripped = number_in_base64(text.strip()) or text.strip()
    if hexadecimal := HEXADECIMAL.fullmatch(stripped):
        return Fraction(int(hexadecimal[2], 16))
    parts = _parts(stripped)
    return parse_decimal(_as_json(parts)) if parts is not None else None


class _Spelled(Storage):
    def __init__(self, quoting: Quoting) -> None:
        self.quoting = quoting

    def sizer(self) -> Sizer | None:
        return None

    def neutral(self, size: int | None) -> bytes:
        return b""


class SpelledText(_Spelled):
    name = "text"
    about = "text"

    def decode(self, raw: bytes) -> str:
        return self.quoting.decode(raw)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if not isinstance(value, str):
            raise ValueRefused(f"{value!r} is not a text", "enter one")
        return self.quoting.encode(value, old)

    def from_text(self, text: str, old: Value = None) -> str:
        return written_like(text, old)


class SpelledNumber(_Spelled):
    name = "digits"
    about = "number in text"

    def neutral(self, size: int | None) -> bytes:
        return b"0"

    def decode(self, raw: bytes) -> int | float:
        return _number(self.quoting.decode(raw))

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        before = self.quoting.decode(old) if old else ""
        return self.quoting.encode(_restyled(value, before), old)

    def whole(self, raw: bytes) -> int | None:
        number = self.decode(raw)
        return number if isinstance(number, int) else None

    def from_text(self, text: str, old: Value = None) -> int | float:
        return _number(text.replace("−", "-"))


class NumberInJson(JsonNumber):
    """A number of JSON, or a string there that spells one, as in hexadecimal."""

    def decode(self, raw: bytes) -> int | float:
        return _number(JsonText().decode(raw)) if raw[:1] == b'"' else super().decode(raw)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if old[:1] != b'"':
            return super().encode(value, old)
        return JsonText().encode(_restyled(value, JsonText().decode(old)), old)


class WholeInText(Storage):
    """A whole number of a text, for names and switches: it has as many bits as people write, at most 63."""

    bits = None
    least, most = -(1 << 63), (1 << 63) - 1
    digits = 63  # bits that may be switches
    mask: bytes | None = None

    def __init__(self, number: JsonNumber | SpelledNumber) -> None:
        self.number = number
        self.name, self.about = number.name, number.about

    def decode(self, raw: bytes) -> int:
        value = self.number.decode(raw)
        if not isinstance(value, int):
            raise ValueRefused(f"{value} is not a whole number", "the template may mean another value")
        return value

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if not isinstance(value, int):
            raise ValueRefused(f"{value!r} is not a whole number", "enter one")
        return self.number.encode(value, old)

    def from_text(self, text: str, old: Value = None) -> Value:
        return self.number.from_text(text)

    def sizer(self) -> Sizer | None:
        return None


class SpelledSwitch(_Spelled):
    name = "switch"
    about = "true or false in text"

    def neutral(self, size: int | None) -> bytes:
        return b"false"

    def decode(self, raw: bytes) -> bool:
        text = self.quoting.decode(raw)
        found = _switch(text)
        if found is None:
            raise ValueRefused(f"“{text[:40]}” is neither true nor false", "the template may mean another value")
        return found

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        return self.quoting.encode(_switched(bool(value), self.quoting.decode(old) if old else "true"), old)

    def to_text(self, value: Value) -> str:
        return "on" if value else "off"

    def from_text(self, text: str, old: Value = None) -> bool:
        found = _switch(text)
        if found is None:
            raise ValueRefused(f"“{text[:40]}” is neither on nor off", "type on or off")
        return found


class SpelledValue(_Spelled):
    """A number, true or false, or else a text, as the text has it: what is read where no template says more.

    `typed` is whether the format tells a text from a number by its quotes: then what is in quotes is a text.
    """

    def __init__(self, quoting: Quoting, kind: str) -> None:
        super().__init__(quoting)
        self.kind = kind
        self.about = {"number": "number in text", "word": "true or false in text"}.get(kind, "text")
        self.name = {"number": "digits", "word": "switch"}.get(kind, "text")

    def decode(self, raw: bytes) -> Value:
        text = self.quoting.decode(raw)
        if self.kind == "number":
            return _number(text)
        if self.kind == "word":
            return spelled_switch(text)
        return text

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        before = self.quoting.decode(old) if old else ""
        if isinstance(value, bool):
            text = _switched(value, before)
        elif isinstance(value, int | float):
            text = _restyled(value, before)
        elif isinstance(value, str):
            text = value
        else:
            raise ValueRefused("nothing cannot be written there", "enter a number or a text")
        return self.quoting.encode(text, old)

    def to_text(self, value: Value) -> str:
        if isinstance(value, bool):
            return "true" if value else "false"
        return "" if value is None else str(value)

    def whole(self, raw: bytes) -> int | None:
        value = self.decode(raw)
        return value if isinstance(value, int) and not isinstance(value, bool) else None

    def from_text(self, text: str, old: Value = None) -> Value:
        if isinstance(old, bool):
            found = spelled_switch(text)
            if found is None:
                raise ValueRefused(f"“{text[:40]}” is neither true nor false, as is there now", "type true or false")
            return found
        if isinstance(old, int | float):
            if not is_number(text.replace("−", "-")):
                what = f"“{text[:40]}” is not a number, and {old} is there now"
                raise ValueRefused(what, "enter a number; a text can be given with @file.json")
            return _number(text.replace("−", "-"))
        return written_like(text, old)


def _switch(text: str) -> bool | None:
    """As `spelled_switch`, with 1 and 0 besides."""
    digit = text.strip()
    return digit == "1" if digit in ("0", "1") else spelled_switch(text)


def _parts(text: str) -> tuple[str, str, str | None, str] | None:
    """The sign, the digits in front of the point, those behind it (None without a point), and the exponent."""
    text = text.replace("_", "") if GROUPED.fullmatch(text) else text
    match = NUMBER.fullmatch(text) if 0 < len(text) <= LONGEST else None
    if match is None or not (match[2] or match[3]):
        return None
    return match[1], match[2], match[3], match[4] or ""


def number_in_base64(text: str) -> str:
    """The number that a text in base64 spells (RFC 4648); empty where it spells none."""
    if BASE64.fullmatch(text) is None or len(text.rstrip("=")) % 4 == 1:
        return ""
    try:
        inner = b64decode(text.rstrip("=") + "=" * (-len(text.rstrip("=")) % 4)).decode("ascii")
    except (Error, UnicodeDecodeError):
        return ""
    return inner if _parts(inner) is not None else ""


def _number(text: str) -> int | float:
    stripped = number_in_base64(text.strip()) or text.strip()
    if hexadecimal := HEXADECIMAL.fullmatch(stripped):
        return int(hexadecimal[2], 16)
    parts = _parts(stripped)
    if parts is None:
        raise ValueRefused(f"“{text[:40]}” is not a number", "enter one, such as 1340 or 12.5")
    return JsonNumber().decode(_as_json(parts).encode())


def _as_json(parts: tuple[str, str, str | None, str]) -> str:
    sign, whole, fraction, exponent = parts
    front = whole.lstrip("0") or "0"
    return ("-" if sign == "-" else "") + front + (f".{fraction}" if fraction else "") + exponent


def _restyled(value: Value, old: str) -> str:
    """A number in the style of the old one, which may be anything."""
    core = old.strip()
    before, after = old[: len(old) - len(old.lstrip())], old[len(old.rstrip()) :] if core else ""
    if inner := number_in_base64(core):
        coded = b64encode(_restyled(value, inner).encode()).decode()
        return before + (coded if len(core) % 4 == 0 else coded.rstrip("=")) + after
    if (found := HEXADECIMAL.fullmatch(core)) and isinstance(value, int) and value >= 0:
        digits = f"{value:X}" if found[2].upper() == found[2] else f"{value:x}"
        return before + found[1] + digits.zfill(len(found[2])) + after
    parts = _parts(core)
    spelled = JsonNumber().encode(value, _as_json(parts).encode() if parts is not None else b"").decode()
    if parts is None:
        return before + spelled + after
    sign, whole, fraction, _ = parts
    negative, digits = spelled.startswith("-"), spelled.lstrip("-")
    front, point, rest = digits.partition(".")
    if len(whole) > 1 and whole.startswith("0"):
        front = front.zfill(len(whole))
    elif not whole and front == "0" and point:
        front = ""
    if fraction == "" and not point and "e" not in digits.lower():
        point = "."  # 5. stays 7.
    if GROUPED.fullmatch(core) and front.isdigit():
        front = f"{int(front):_}"
    plus = "-" if negative else "+" if sign == "+" else ""
    return before + plus + front + point + rest + after


def _switched(value: bool, old: str) -> str:
    """true or false with the words and the letter case of the old one."""
    core = old.strip()
    pair = next((pair for pair in SWITCHES if core.casefold() in pair), SWITCHES[0])
    if core in ("0", "1"):
        word = "1" if value else "0"
    else:
        word = pair[0] if value else pair[1]
        word = word.upper() if core.isupper() and len(core) > 1 else word.capitalize() if core[:1].isupper() else word
    return old.replace(core, word, 1) if core else word
