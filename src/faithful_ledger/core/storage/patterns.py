"""Bytes with a meaning of their own that are shown and typed in letters: identifiers, colours, coordinates, bytes as
they are.
"""

from __future__ import annotations

import re
from functools import lru_cache

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.storage.base import FixedSize, Order, Storage, Value, encoded
from faithful_ledger.core.storage.numbers import Float, Integer, named

__all__ = ["COLOURS", "Colour", "Coordinates", "FixedBytes", "Guid", "named_pattern"]

COLOURS = ("rgb", "bgr", "rgba", "bgra", "argb", "abgr")


COORDINATES = re.compile(r"(xyz?)-([a-z0-9]+)")


@lru_cache(maxsize=512)
def named_pattern(name: str, order: Order = "little") -> Storage | None:
    """The storage that `guid`, `guid-le`, `rgba`, `xyz-f32` and the like stand for; None where it is none of these.
    Where coordinates do not say their order of bytes, `order` counts.
    """
    if name in ("guid", "guid-le"):
        return Guid(little=name == "guid-le")
    if match := COORDINATES.fullmatch(name):
        number = named(match[2], order)
        return Coordinates(match[1], number) if number is not None else None
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
        from uuid import UUID  # takes as long to import as all the other storages

        return str(UUID(bytes_le=raw) if self.little else UUID(bytes=raw))

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        from uuid import UUID

        try:
            found = UUID(str(value))
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


class Coordinates(FixedSize):
    """A place in the plane (`xy`) or in space (`xyz`): a number for each axis, shown and typed as `12.5, -3.0, 88.0`,
    so that all of them are copied and pasted at once.
    """

    def __init__(self, axes: str, number: Integer | Float) -> None:
        self.axes, self.number = axes, number
        self.bits = len(axes) * number.bits
        self.least_size = self.size
        self.name = f"{axes}-{number.name}"
        self.about = f"coordinates {', '.join(axes)}, each a {number.about}"

    def decode(self, raw: bytes) -> str:
        return ", ".join(self.number.to_text(self.number.decode(part)) for part in self._parts(raw))

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        texts = re.split(r"\s*[,;]\s*|\s+", str(value).strip().strip("()[]{}<>").strip())
        if len(texts) != len(self.axes):
            example = ", ".join(("12.5", "-3", "88")[: len(self.axes)])
            raise ValueRefused(f"“{str(value)[:40]}” is not {len(self.axes)} coordinates", f"type them as {example}")
        numbers = [self.number.from_text(text) for text in texts]
        if len(old) != self.size:
            return b"".join(map(self.number.encode, numbers))
        return b"".join(encoded(self.number, *each) for each in zip(numbers, self._parts(old), strict=True))

    def from_text(self, text: str, old: Value = None) -> str:
        return self.decode(self.encode(text))

    def _parts(self, raw: bytes) -> list[bytes]:
        size = self.number.size
        return [raw[at : at + size] for at in range(0, self.size, size)]


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
