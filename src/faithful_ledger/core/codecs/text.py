"""Text: of a fixed size with padding, with its length in front, or as long as the template says."""

from __future__ import annotations

import codecs
from contextlib import suppress

from faithful_ledger.core.codecs.base import CutOff, FixedSize, Value
from faithful_ledger.core.codecs.numbers import IntegerCodec
from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.source import Source

__all__ = ["FixedText", "FreeText", "PrefixedText", "RawBytes", "text_encoding", "unit_of"]

SLOW_ENCODINGS = {"idna", "punycode"}  # quadratic: a long text would stop the program


def text_encoding(name: str) -> str | None:
    """Python's own name of a text encoding, or None where `name` is none.

    Encodings that are no text encodings (zlib, bz2, …) could unpack to any size, so they do not count.
    """
    try:
        found = codecs.lookup(name)
        "".encode(name)
    except (LookupError, UnicodeError, ValueError):
        return None
    return None if found.name in SLOW_ENCODINGS else found.name


def unit_of(encoding: str) -> int:
    """How many bytes a unit of an encoding has; text of wide units is padded with wide zeros."""
    name = encoding.replace("_", "-")
    return 2 if name.startswith("utf-16") else 4 if name.startswith("utf-32") else 1


class _Text:
    """What all texts share: the encoding, and text as text."""

    def __init__(self, encoding: str) -> None:
        self.encoding = encoding
        self.name = {"iso8859-1": "latin-1"}.get(encoding, encoding)

    def _decode(self, raw: bytes) -> str:
        try:
            return raw.decode(self.encoding)
        except UnicodeError as error:
            raise ValueRefused(
                f"the bytes {raw[:12].hex(' ')}{' …' if len(raw) > 12 else ''} are no {self.name} text",
                "the encoding in the template may be another",
            ) from error

    def _encode(self, value: Value) -> bytes:
        if not isinstance(value, str):
            raise ValueRefused(f"{value!r} is not a text", "enter one")
        try:
            return value.encode(self.encoding)
        except UnicodeError as error:
            raise ValueRefused(f"“{value[:40]}” cannot be written in {self.name}", "use other letters") from error

    def to_text(self, value: Value) -> str:
        return str(value)

    def from_text(self, text: str, old: Value = None) -> str:
        self._encode(text)
        return text


class FixedText(FixedSize, _Text):
    """Text in a fixed number of bytes. A text padded with zeros ends at the first; other padding is cut at the end."""

    def __init__(self, size: int, encoding: str, pad: bytes) -> None:
        super().__init__(encoding)
        self.size, self.pad = size, pad
        self.about = f"text in {size} bytes, {self.name}"

    def decode(self, raw: bytes) -> str:
        step = len(self.pad)
        if not any(self.pad):
            for at in range(0, len(raw), step):
                if raw[at : at + step] == self.pad:
                    return self._decode(raw[:at])
            return self._decode(raw)
        end = len(raw)
        while end >= step and raw[end - step : end] == self.pad:
            end -= step
        return self._decode(raw[:end])

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        raw = self._encode(value)
        room = self.size - len(raw)
        if room < 0:
            raise ValueRefused(
                f"“{str(value)[:40]}” takes {len(raw)} bytes and {self.size} are there", "enter a shorter text"
            )
        filled = raw + (self.pad * (room // len(self.pad) + 1))[:room]
        if len(filled) != self.size or self.decode(filled) != value:
            raise ValueRefused(f"“{str(value)[:40]}” would not read back the same", "leave out padding characters")
        return filled

    def from_text(self, text: str, old: Value = None) -> str:
        self.encode(text)
        return text


class PrefixedText(_Text):
    """Text with its length, in bytes or in units of `unit` bytes, stored in front as a whole number."""

    size = None

    def __init__(self, length: IntegerCodec, encoding: str, unit: int = 1) -> None:
        super().__init__(encoding)
        self.length, self.unit = length, unit
        self.about = f"text with its length in front ({length.name}), {self.name}"

    def extent(self, source: Source, at: int, limit: int) -> int:
        self.length.extent(source, at, limit)
        told = self.length.decode(bytes(source.read(at, at + self.length.size)))
        whole = self.length.size + told * self.unit
        if told < 0 or at + whole > limit:
            raise CutOff(whole)
        return whole

    def size_before(self, data: bytes) -> int | None:
        """How many bytes a value takes that ends where `data` ends: the shortest readable text of the right length."""
        for told in range(1, len(data) // self.unit + 1):
            begin = len(data) - told * self.unit
            if begin < self.length.size:
                return None
            if self.length.decode(data[begin - self.length.size : begin]) == told:
                with suppress(ValueRefused):
                    if self._decode(data[begin:]).isprintable():
                        return self.length.size + told * self.unit
        return None

    def decode(self, raw: bytes) -> str:
        return self._decode(raw[self.length.size :])

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        raw = self._encode(value)
        units, rest = divmod(len(raw), self.unit)
        if rest or units > self.length.most:
            raise ValueRefused(
                f"“{str(value)[:40]}” takes {len(raw)} bytes and its length ({self.length.name}) counts up to "
                f"{self.length.most * self.unit}",
                "enter a shorter text",
            )
        return self.length.encode(units) + raw

    def from_text(self, text: str, old: Value = None) -> str:
        self.encode(text)
        return text


class FreeText(_Text):
    """Text whose size the template works out from other fields."""

    size = None

    def __init__(self, encoding: str) -> None:
        super().__init__(encoding)
        self.about = f"text, {self.name}"

    def extent(self, source: Source, at: int, limit: int) -> int:
        return limit - at

    def decode(self, raw: bytes) -> str:
        return self._decode(raw)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        return self._encode(value)


class RawBytes:
    """Bytes nobody has understood yet, shown and typed in hexadecimal; an entry keeps their number."""

    name = "bytes"
    about = "bytes, not understood yet"
    size = None

    def extent(self, source: Source, at: int, limit: int) -> int:
        return limit - at

    def decode(self, raw: bytes) -> str:
        return raw[:64].hex(" ").upper() + (f" … ({len(raw)} bytes)" if len(raw) > 64 else "")

    def encode(self, value: Value, old: bytes) -> bytes:
        try:
            raw = bytes.fromhex(str(value))
        except ValueError as error:
            raise ValueRefused(f"“{str(value)[:40]}” is not a row of bytes", "type them as 0A FF 00") from error
        if len(raw) != len(old):
            raise ValueRefused(f"{len(raw)} bytes are entered where {len(old)} lie", "enter as many")
        return raw

    def to_text(self, value: Value) -> str:
        return str(value)

    def from_text(self, text: str, old: Value = None) -> str:
        return text
