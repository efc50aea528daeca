"""Bytes with a meaning of their own that are shown and typed in letters: identifiers, colours, bytes as they are."""

from __future__ import annotations

import re
import uuid

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.storage.base import FixedSize, Storage, Value

__all__ = ["COLOURS", "Colour", "FixedBytes", "Guid", "named_pattern"]

COLOURS = ("rgb", "bgr", "rgba", "bgra", "argb", "abgr")


def named_pattern(name: str) -> Storage | None:
    """The storage that `guid`, `guid-le`, `rgba` and the like stand for; None where it is none of these."""
    if name in ("guid", "guid-le"):
        return Guid(little=name == "guid-le")
    return Colour(name) if name in COLOURS else None


class Guid(FixedSize):
    """An identifier of 16 bytes (RFC 9562). With `little` its first three parts have their low byte first."""

    bits = 128
    least_size = 16

    def __init__(self, *, little: bool) -> None:
        self.little = little
        self.name = "guid-le" if little else "guid"
        self.about = f"identifier of 16 bytes{', its first parts low byte first' if little else ''}"

    def decode(self, raw: bytes) -> str:
        return str(uuid.UUID(bytes_le=raw) if self.little else uuid.UUID(bytes=raw))

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        try:
            found = uuid.UUID(str(value))
        except ValueError as error:
            what = f"“{str(value)[:40]}” is not an identifier"
            raise ValueRefused(what, "type 32 hexadecimal digits, as 12345678-1234-1234-1234-123456789abc") from error
        return found.bytes_le if self.little else found.bytes

    def from_text(self, text: str, old: Value = None) -> str:
        return self.decode(self.encode(text.strip()))


class Colour(FixedSize):
    """A colour, a byte for each part in the order of the `name`: shown as #RRGGBB, or #RRGGBBAA with its opacity."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.bits = 8 * len(name)
        self.least_size = len(name)
        self.about = f"colour, {len(name)} bytes: {', '.join(name)}"

    def decode(self, raw: bytes) -> str:
        shown = "rgba" if "a" in self.name else "rgb"
        return "#" + "".join(f"{raw[self.name.index(part)]:02X}" for part in shown)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        shown = "rgba" if "a" in self.name else "rgb"
        match = re.fullmatch(rf"#?([0-9A-Fa-f]{{{2 * len(shown)}}})", str(value).strip())
        if match is None:
            example = "#20C080FF" if len(shown) == 4 else "#20C080"
            raise ValueRefused(f"“{str(value)[:40]}” is not a colour of {len(shown)} parts", f"type one as {example}")
        parts = dict(zip(shown, bytes.fromhex(match[1]), strict=True))
        return bytes(parts[part] for part in self.name)

    def from_text(self, text: str, old: Value = None) -> str:
        return self.decode(self.encode(text))


class FixedBytes(FixedSize):
    """So many bytes as they are, shown and typed in hexadecimal."""

    def __init__(self, size: int) -> None:
        self.bits = 8 * size
        self.least_size = size
        self.name = "bytes"
        self.about = f"{size} bytes in hexadecimal"

    def decode(self, raw: bytes) -> str:
        return raw.hex(" ").upper()

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        try:
            raw = bytes.fromhex(str(value))
        except ValueError as error:
            raise ValueRefused(f"“{str(value)[:40]}” is not bytes in hexadecimal", "type them as 0A FF 00") from error
        if len(raw) != self.size:
            raise ValueRefused(f"{len(raw)} bytes are entered in place of {self.size}", "enter as many")
        return raw

    def from_text(self, text: str, old: Value = None) -> str:
        return self.decode(self.encode(text))
