"""Bytes written in hexadecimal, with or without blanks between them, as a layer."""

from __future__ import annotations

import re

from faithful_ledger.core.errors import AddressError

__all__ = ["HEX", "bytes_of", "digits_like", "pairs_of"]

HEX = "hex"
PAIR = re.compile(rb"[0-9A-Fa-f]{2}")
WHOLE = re.compile(rb"(?P<mark>\s*(?:0[xX])?)(?:[0-9A-Fa-f]{2}\s*)+")


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
