"""Texts in UTF-16 and UTF-32 (The Unicode Standard, chapter 3) as a layer: inside is the same text in UTF-8."""

from __future__ import annotations

from faithful_ledger.core.errors import AddressError

__all__ = ["TRANSCODINGS", "encoded_from_utf8", "transcoding_of", "utf8_from"]

TRANSCODINGS = {"utf-16le": "utf-16-le", "utf-16be": "utf-16-be", "utf-32le": "utf-32-le", "utf-32be": "utf-32-be"}
MARKS = {"utf-32le": b"\xff\xfe\0\0", "utf-32be": b"\0\0\xfe\xff", "utf-16le": b"\xff\xfe", "utf-16be": b"\xfe\xff"}
SAMPLE = 1 << 12


def transcoding_of(data: bytes) -> str | None:
    """The encoding of a text, by its byte order mark, or by the zeros beside the letters of its first line."""
    for name, mark in MARKS.items():
        if data.startswith(mark):
            return name
    sample = data[:SAMPLE]
    if len(sample) >= 8 and len(data) % 2 == 0:
        for name, zeros, letters in (("utf-16le", sample[1::2], sample[::2]), ("utf-16be", sample[::2], sample[1::2])):
            if zeros.count(0) * 10 >= len(zeros) * 9 and letters.count(0) == 0:
                return name
    return None


def utf8_from(data: bytes, name: str) -> bytes:
    """Raises AddressError where the bytes are not such a text."""
    try:
        return data.decode(TRANSCODINGS[name]).encode("utf-8")
    except UnicodeError as error:
        raise AddressError(f"it is not a text in {name} ({error})", "another template may fit") from error


def encoded_from_utf8(data: bytes, name: str) -> bytes:
    """The same text in the encoding again."""
    return data.decode("utf-8").encode(TRANSCODINGS[name])
