"""A checksum that is stored as bytes, or spelled out in letters, also as a value of a text format."""

from __future__ import annotations

import base64
import binascii
import re
from typing import Literal, get_args

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.storage.base import FixedSize, Sizer, Storage, Value

__all__ = ["WRITTEN", "Checksum", "ChecksumInText", "Written"]

Written = Literal["bytes", "hex", "HEX", "decimal", "signed", "base64", "dashes"]
WRITTEN: tuple[Written, ...] = get_args(Written)
LETTERS = {
    "hex": rb"[0-9A-Fa-f]+",
    "HEX": rb"[0-9A-Fa-f]+",
    "decimal": rb"[0-9]+",
    "signed": rb"-?[0-9]+",
    "base64": rb"[A-Za-z0-9+/]+={0,2}",
    "dashes": rb"[0-9A-F]{2}(?:-[0-9A-F]{2})*|[0-9a-f]{2}(?:-[0-9a-f]{2})*",  # hexadecimal, a dash between two bytes
}


class Checksum(FixedSize):
    """`size` bytes of a file that hold a number, its highest byte first: as they are, or as a text."""

    family = ""

    def __init__(self, size: int, written: Written = "bytes") -> None:
        self.bits = 8 * size
        self.written = written
        self.name = f"checksum-{written}"
        self.about = f"checksum, {size} bytes" if written == "bytes" else f"checksum in {written}, {size} letters"

    def room(self, old: bytes) -> int:
        """How many bytes of a result it holds where `old` is stored; as many as there are for a decimal number."""
        padding = len(old) - len(old.rstrip(b"="))
        held = {"bytes": self.size, "hex": self.size // 2, "HEX": self.size // 2, "dashes": (self.size + 1) // 3}
        return held.get(self.written, self.size * 3 // 4 - padding if self.written == "base64" else 64)

    def whole(self, raw: bytes) -> int:
        try:
            if self.written == "bytes":
                return int.from_bytes(raw, "big")
            if self.written == "base64":
                return int.from_bytes(base64.b64decode(raw, validate=True), "big")
            text = raw.decode("ascii").strip("\0 ")
            if self.written == "dashes":
                return int(text.replace("-", ""), 16)
            number = int(text, 10 if self.written in ("decimal", "signed") else 16)
            return number if number >= 0 else number + (1 << (32 if number >= -(1 << 31) else 64))
        except (ValueError, binascii.Error) as error:
            raise ValueRefused(f"{raw[:20]!r} is not a checksum in {self.written}", "") from error

    def decode(self, raw: bytes) -> str:
        return raw.hex().upper() if self.written == "bytes" else raw.decode("ascii", "replace").rstrip("\0")

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if not isinstance(value, int):
            raise _typed()
        if self.written == "bytes":
            return value.to_bytes(self.size, "big")
        if self.written == "base64":
            return base64.b64encode(value.to_bytes(self.room(old), "big")).ljust(self.size, b"=")
        if self.written == "dashes":
            spelled = value.to_bytes(self.room(old), "big").hex("-").encode()
            return spelled if old and old.islower() else spelled.upper()
        if self.written in ("decimal", "signed"):
            text = str(signed(value) if self.written == "signed" else value).encode()
            raw = text.rjust(self.size, old[:1]) if old[:1] in (b"0", b" ") else text.ljust(self.size, b"\0")
            if len(raw) > self.size:
                raise ValueRefused(f"{value} has more than {self.size} digits", "give the field more room")
            if len(text) < self.size and len(old) == self.size and old.lstrip(b"-").isdigit() and old[:1] != b"0":
                what = f"{value} has fewer digits than its place ({self.size}), which nothing filled up until now"
                raise ValueRefused(what, "nothing was written; describe the file as a text, or enter another value")
            return raw
        return f"{value:0{self.size}{'x' if self.written == 'hex' else 'X'}}".encode()

    def from_text(self, text: str, old: Value = None) -> Value:
        raise _typed()


class ChecksumInText(Storage):
    """The same as a value of a text format, in quotes or not, in as many letters as are there; a decimal number takes
    as many as it has.
    """

    def __init__(self, written: Written) -> None:
        self.written = written
        self.name = f"checksum-{written}"
        self.about = f"checksum in {written}, in text"
        self._shape = re.compile(rb"""["']?[ \t]*(%b)[ \t]*["']?""" % LETTERS[written])

    def letters(self, raw: bytes) -> tuple[int, int]:
        """Where the letters themselves begin and end in the bytes of the value.

        Raises:
            ValueRefused: it is not spelled so.
        """
        match = self._shape.fullmatch(raw)
        if match is None:
            what = f"{raw[:20].decode('utf-8', 'replace')} is not a checksum in {self.written}"
            raise ValueRefused(what, "the template may mean another value")
        return match.span(1)

    def room(self, old: bytes) -> int:
        """As for `Checksum`."""
        low, high = self.letters(old)
        return self._like(high - low).room(old[low:high])

    def whole(self, raw: bytes) -> int:
        low, high = self.letters(raw)
        return self._like(high - low).whole(raw[low:high])

    def decode(self, raw: bytes) -> str:
        low, high = self.letters(raw)
        return raw[low:high].decode("ascii")

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if not isinstance(value, int):
            raise _typed()
        low, high = self.letters(old)
        if self.written in ("decimal", "signed"):
            padded = high - low if old[low : low + 1] == b"0" else 0
            number = signed(value) if self.written == "signed" else value
            return old[:low] + f"{number:0{padded}d}".encode() + old[high:]
        return old[:low] + self._like(high - low).encode(value, old[low:high]) + old[high:]

    def from_text(self, text: str, old: Value = None) -> Value:
        raise _typed()

    def neutral(self, size: int | None) -> bytes:
        raise ValueRefused("a checksum of a new record is not known", "add the record in the game")

    def sizer(self) -> Sizer | None:
        return None

    def _like(self, size: int) -> Checksum:
        return Checksum(size, self.written)


def _typed() -> ValueRefused:
    return ValueRefused("a checksum is worked out, not typed", "change what it covers instead")


def signed(value: int) -> int:
    """A result of 32 bits, or of 64 where it has more, as a number in two's complement."""
    bits = 32 if value >> 32 == 0 else 64
    return value - (1 << bits) if value >> (bits - 1) else value
