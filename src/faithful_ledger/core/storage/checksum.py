"""A checksum that is stored as bytes, or spelled out in letters."""

from __future__ import annotations

import base64
import binascii
from typing import Literal, get_args

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.storage.base import FixedSize, Value

__all__ = ["WRITTEN", "Checksum", "Written"]

Written = Literal["bytes", "hex", "HEX", "decimal", "base64"]
WRITTEN: tuple[Written, ...] = get_args(Written)


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
        held = {"bytes": self.size, "hex": self.size // 2, "HEX": self.size // 2}
        return held.get(self.written, self.size * 3 // 4 - padding if self.written == "base64" else 64)

    def whole(self, raw: bytes) -> int:
        try:
            if self.written == "bytes":
                return int.from_bytes(raw, "big")
            if self.written == "base64":
                return int.from_bytes(base64.b64decode(raw, validate=True), "big")
            return int(raw.decode("ascii").strip("\0 "), 10 if self.written == "decimal" else 16)
        except (ValueError, binascii.Error) as error:
            raise ValueRefused(f"{raw[:20]!r} is not a checksum in {self.written}", "") from error

    def decode(self, raw: bytes) -> str:
        return raw.hex().upper() if self.written == "bytes" else raw.decode("ascii", "replace").rstrip("\0")

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if not isinstance(value, int):
            raise ValueRefused("a checksum is worked out, not typed", "change what it covers instead")
        if self.written == "bytes":
            return value.to_bytes(self.size, "big")
        if self.written == "base64":
            return base64.b64encode(value.to_bytes(self.room(old), "big")).ljust(self.size, b"=")
        if self.written == "decimal":
            text = str(value).encode()
            raw = text.rjust(self.size, old[:1]) if old[:1] in (b"0", b" ") else text.ljust(self.size, b"\0")
            if len(raw) > self.size:
                raise ValueRefused(f"{value} has more than {self.size} digits", "give the field more room")
            return raw
        return f"{value:0{self.size}{'x' if self.written == 'hex' else 'X'}}".encode()

    def from_text(self, text: str, old: Value = None) -> Value:
        raise ValueRefused("a checksum is worked out, not typed", "change what it covers instead")
