"""Streams that begin as they should and break: what comes out of them until then."""

from __future__ import annotations

import bz2
import lzma
import re
import zlib
from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

import zstandard

from faithful_ledger.core.budget import unpacked_allowance

__all__ = ["BrokenStream", "broken_streams"]

MARKS: dict[str, re.Pattern[bytes]] = {
    "zlib": re.compile(rb"\x78[\x01\x5e\x9c\xda]", re.DOTALL),
    "gzip": re.compile(rb"\x1f\x8b\x08", re.DOTALL),
    "bzip2": re.compile(rb"BZh[1-9]1AY&SY", re.DOTALL),
    "xz": re.compile(rb"\xfd7zXZ\x00", re.DOTALL),
    "zstd": re.compile(rb"\x28\xb5\x2f\xfd", re.DOTALL),
}
MAKERS: dict[str, Callable[[], Any]] = {
    "zlib": zlib.decompressobj,
    "gzip": lambda: zlib.decompressobj(31),
    "bzip2": bz2.BZ2Decompressor,
    "xz": lzma.LZMADecompressor,
    "zstd": lambda: zstandard.ZstdDecompressor().decompressobj(),
}
FAILURES = (zlib.error, OSError, EOFError, lzma.LZMAError, zstandard.ZstdError, ValueError)
CHUNK = 256  # bytes: little is lost of the last one before the break
LEAST = 1024  # bytes that have to come out: noise seldom gives a few hundred
MOST_TRIED, MOST = 400, 8


class BrokenStream(NamedTuple):
    """A stream of a kind that begins at an offset, and what came out of its first `read` bytes."""

    kind: str
    offset: int
    read: int
    data: bytes


def broken_streams(data: bytes) -> list[BrokenStream]:
    """Streams that break, those of which most came out first; whole ones are none."""
    found: list[BrokenStream] = []
    for kind, mark in MARKS.items():
        for number, match in enumerate(mark.finditer(data)):
            if number == MOST_TRIED:
                break
            found += _read(kind, data, match.start())
    found.sort(key=lambda each: -len(each.data))
    return found[:MOST]


def _read(kind: str, data: bytes, offset: int) -> Iterator[BrokenStream]:
    """One stream, if it breaks after something came out."""
    left = unpacked_allowance(len(data))
    engine, came, at = MAKERS[kind](), bytearray(), offset
    while at < len(data) and len(came) < left:
        try:
            came += engine.decompress(data[at : at + CHUNK])
        except FAILURES:
            break
        at += CHUNK
        if getattr(engine, "eof", False):
            return
    if len(came) >= LEAST:
        yield BrokenStream(kind, offset, min(at, len(data)) - offset, bytes(came))
