"""Values spelled in a JSON text (RFC 8259). An entry keeps the document's own way of spelling."""

from __future__ import annotations

import json
import math
import re
from decimal import Decimal, InvalidOperation

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.storage.base import Sizer, Storage, Value
from faithful_ledger.core.storage.grouped import with_exponent_like, written_like

__all__ = ["JsonNumber", "JsonSwitch", "JsonText", "JsonWord"]

NUMBER = re.compile(r"-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?")


class _Spelled(Storage):
    """A value of which the document says where it ends."""

    nothing: bytes

    def sizer(self) -> Sizer | None:
        return None

    def neutral(self, size: int | None) -> bytes:
        return self.nothing


class JsonNumber(_Spelled):
    """A number. As many decimals as the old spelling had are written again (1340.00 becomes 5200.00), and an exponent
    where it had one (1e5 becomes 2e5).
    """

    name = "json-number"
    about = "number in JSON text"
    nothing = b"0"

    def decode(self, raw: bytes) -> int | float:
        text = raw.decode("utf-8", "replace")
        if len(text) > 400 or not NUMBER.fullmatch(text):
            raise ValueRefused(f"{text[:40]} is not a number", "the template may mean another value")
        if not set(text) & set(".eE"):
            return int(text)
        value = float(text)
        if math.isinf(value):
            raise ValueRefused(f"{text[:40]} is larger than any number kept here", "edit it as text")
        return int(value) if value.is_integer() and abs(value) < 1 << 53 else value

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if (
            isinstance(value, bool)
            or not isinstance(value, int | float)
            or value != value
            or abs(value) == float("inf")
        ):
            raise ValueRefused(f"{value!r} is not a number that JSON can hold", "enter one")
        spelled = old.decode("ascii", "replace")
        exact = Decimal(repr(value))
        mantissa, mark, exponent = spelled.partition("e" if "e" in spelled else "E")
        if mark:
            front, _, behind = mantissa.lstrip("-").partition(".")
            digits = exponent.lstrip("+-")
            return with_exponent_like(exact, front, behind, mark, exponent[: -len(digits)], digits).encode("ascii")
        decimals = len(spelled.partition(".")[2])
        try:
            padded = exact.quantize(Decimal(1).scaleb(-decimals))
        except InvalidOperation:
            padded = exact
        return f"{padded if padded == exact else exact:f}".encode("ascii")

    def whole(self, raw: bytes) -> int | None:
        number = self.decode(raw)
        return number if isinstance(number, int) else None

    def from_text(self, text: str, old: Value = None) -> int | float:
        typed = text.strip().replace("−", "-")
        if not NUMBER.fullmatch(typed):
            raise ValueRefused(f"“{typed[:40]}” is not a number", "nothing was written; enter one, as 1340 or 12.5")
        return self.decode(typed.encode("ascii"))


class JsonText(_Spelled):
    """A string. Letters beyond ASCII are escaped, which every reader knows, unless the old string had them plain."""

    name = "json-string"
    about = "string in JSON text"
    nothing = b'""'

    def decode(self, raw: bytes) -> str:
        try:
            value = json.loads(raw.decode("utf-8"), strict=False)
        except ValueError as error:
            raise ValueRefused("this is not a string of JSON", "the template may mean another value") from error
        if not isinstance(value, str):
            raise ValueRefused("this is not a string of JSON", "the template may mean another value")
        return value

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if not isinstance(value, str):
            raise ValueRefused(f"{value!r} is not a text", "enter one")
        try:
            value.encode("utf-8")
            return json.dumps(value, ensure_ascii=old.isascii()).encode("utf-8")
        except UnicodeEncodeError as error:
            raise ValueRefused(f"“{value[:40]!r}” holds half a letter", "enter whole letters") from error

    def from_text(self, text: str, old: Value = None) -> str:
        return written_like(text, old)


class JsonSwitch(_Spelled):
    """true or false."""

    name = "json-switch"
    about = "true or false in JSON text"
    nothing = b"false"

    def decode(self, raw: bytes) -> bool:
        if raw not in (b"true", b"false"):
            raise ValueRefused("this is neither true nor false", "the template may mean another value")
        return raw == b"true"

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        return b"true" if value else b"false"

    def to_text(self, value: Value) -> str:
        return "on" if value else "off"

    def from_text(self, text: str, old: Value = None) -> bool:
        words = {
            "on": True,
            "true": True,
            "yes": True,
            "1": True,
            "off": False,
            "false": False,
            "no": False,
            "0": False,
        }
        if text.strip().casefold() not in words:
            raise ValueRefused(f"“{text[:40]}” is neither on nor off", "type on or off")
        return words[text.strip().casefold()]


class JsonWord(_Spelled):
    """true, false or null, as they are spelled. What is null says nothing yet: any value can take its place."""

    name = "json-word"
    about = "true, false or null in JSON text"
    nothing = b"null"

    def decode(self, raw: bytes) -> Value:
        if raw == b"null":
            return None
        for storage in (JsonNumber(), JsonSwitch(), JsonText()):
            try:
                return storage.decode(raw)
            except ValueRefused:
                continue
        raise ValueRefused("this is not a value of JSON without parts", "the template may mean another value")

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if value is None:
            return b"null"
        storage = JsonSwitch() if isinstance(value, bool) else JsonText() if isinstance(value, str) else JsonNumber()
        return storage.encode(value, b"")

    def to_text(self, value: Value) -> str:
        if isinstance(value, bool):
            return "true" if value else "false"
        return "null" if value is None else str(value)

    def from_text(self, text: str, old: Value = None) -> Value:
        if isinstance(old, bool):
            return JsonSwitch().from_text(text)
        if text in ("null", "true", "false"):
            return {"null": None, "true": True, "false": False}[text]
        try:
            return JsonNumber().from_text(text)
        except ValueRefused:
            return text
