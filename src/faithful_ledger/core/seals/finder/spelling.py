"""The ways in which games store a result: as it is, inverted or negated; as bytes, or in letters of several kinds."""

from __future__ import annotations

import base64
import re
from collections.abc import Iterator
from functools import lru_cache
from typing import Literal

from faithful_ledger.core.seals.algorithms import Algorithm

__all__ = ["changed_results", "changes", "dashed", "in_base64", "spellings", "written_in"]

Change = Literal["", "inverted", "negated"]
CHANGES: tuple[Change, ...] = ("", "inverted", "negated")
LEAST_TEXT = 6  # letters
RUN = re.compile(rb"[0-9A-Za-z+/=-]{%d,}" % LEAST_TEXT)


def changed_results(number: int, bits: int) -> tuple[int, int, int]:
    """A result as it may be stored, or what is stored as the result: as it is, inverted, negated."""
    mask = (1 << bits) - 1
    return number & mask, ~number & mask, -number & mask


def changes(algorithm: Algorithm, number: int) -> list[tuple[Change, int]]:
    """The same, each with what is done to it; a digest stays as it is."""
    found = list(zip(CHANGES, changed_results(number, algorithm.bits), strict=True))
    return found[:1] if algorithm.is_digest else found


def spellings(algorithm: Algorithm, result: int) -> Iterator[tuple[str, bytes]]:
    """The forms in which a result may be stored other than as a number, each with its bytes."""
    raw = result.to_bytes(algorithm.bits // 8, "big")
    if algorithm.is_digest:
        yield "bytes", raw
    yield from (("hex", raw.hex().encode()), ("HEX", raw.hex().upper().encode()), ("base64", base64.b64encode(raw)))
    yield "dashes", raw.hex("-").upper().encode()
    if not algorithm.is_digest:
        yield "decimal", str(result).encode()
        yield "signed", str(result - (result >> (algorithm.bits - 1) << algorithm.bits)).encode()


def written_in(content: bytes, algorithm: Algorithm, result: int) -> Iterator[tuple[int, int, str, int]]:
    """Where a result stands in a content for the first time, in each form: its offset, size and form, and how many bits
    of the result these bytes say. Of a digest its first bytes may be all that is stored.
    """
    letters = _letters(content)
    for form, text in spellings(algorithm, result):
        within = content if form == "bytes" else letters
        sizes = (len(text), *{"bytes": (8, 4), "hex": (16, 8), "HEX": (16, 8)}.get(form, ()) * algorithm.is_digest)
        if (sizes[-1] < LEAST_TEXT and within is letters) or text[: sizes[-1]] not in within:
            continue
        for size in sizes:
            at = content.find(text[:size])
            if at >= 0:
                yield at, size, form, algorithm.bits * size // len(text)
                break


@lru_cache(maxsize=8)
def _letters(content: bytes) -> bytes:
    """All of a content that numbers and digests may be written in, which is little of one that is not a text."""
    return b"\n".join(RUN.findall(content))


@lru_cache(maxsize=64)
def dashed(size: int) -> re.Pattern[bytes]:
    """So many bytes in hexadecimal with a dash between two."""
    return re.compile(rb"(?<![0-9A-Fa-f-])(?:[0-9A-F]{2}-){%d}[0-9A-F]{2}(?![0-9A-Fa-f-])" % (size - 1))


@lru_cache(maxsize=64)
def in_base64(size: int) -> re.Pattern[bytes]:
    """So many bytes in base64."""
    letters, padding = -(-size * 8 // 6), -size % 3
    return re.compile(rb"(?<![A-Za-z0-9+/=])[A-Za-z0-9+/]{%d}={%d}(?![A-Za-z0-9+/=])" % (letters, padding))
