"""Bytes written in hexadecimal, as a layer: a whole text with or without blanks between them, or runs of digits without
blanks. A run has no mark: Profile looks for long ones.
"""

from __future__ import annotations

import re

from faithful_ledger.core.errors import AddressError
from faithful_ledger.core.layers.stream import Allowance, Layer, Stream

__all__ = ["HEX", "STREAMS", "bytes_of", "digits_like", "is_hex", "pairs_of"]

HEX = "hex"
PAIR = re.compile(rb"[0-9A-Fa-f]{2}")
RUN = re.compile(rb"(?=[0-9]*+[A-F])(?:[0-9A-F]{2})++|(?:[0-9a-f]{2})++")  # the first letter decides
WHOLE = re.compile(rb"(?P<mark>\s*(?:0[xX])?)(?:[0-9A-Fa-f]{2}\s*)+")


class Hex(Stream):
    name = HEX

    def read(self, data: bytes, offset: int, allowance: Allowance) -> Layer | None:
        match = RUN.match(data, offset)
        size = len(match[0]) if match is not None else 0
        allowance.left -= size // 2
        return Layer(self.name, offset, size, size // 2) if size and allowance.left >= 0 else None

    def unpacked(self, packed: bytes, most: int) -> bytes:
        return bytes.fromhex(packed.decode("ascii"))[:most]

    def packed(self, data: bytes, old: bytes) -> bytes:
        return b"".join(digits_like(data, old))


def is_hex(text: bytes) -> bool:
    """Whether a whole text is bytes in hexadecimal."""
    return WHOLE.fullmatch(text) is not None


def _first(text: bytes) -> int:
    """Where the digits begin, behind a 0x.

    Raises:
        AddressError: it is not hexadecimal.
    """
    match = WHOLE.fullmatch(text)
    if match is None:
        raise AddressError("it is not bytes in hexadecimal", "another template may fit")
    return match.end("mark")


def pairs_of(text: bytes) -> list[int]:
    """Where the two digits of each byte begin. Errors as for `bytes_of`."""
    return [match.start() for match in PAIR.finditer(text, _first(text))]


def bytes_of(text: bytes) -> bytes:
    """Raises AddressError where it is not hexadecimal."""
    return bytes.fromhex(text[_first(text) :].decode("ascii"))


def digits_like(data: bytes, old: bytes) -> list[bytes]:
    """The two digits of each byte in the case of the old text."""
    form = b"%02X" if old != old.lower() else b"%02x"
    return [form % byte for byte in data]


STREAMS: tuple[Stream, ...] = (Hex(),)
