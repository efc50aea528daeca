"""Where pictures (PNG, ISO/IEC 15948) within a file have their packed pixels, which are not a payload of the save."""

from __future__ import annotations

import re
import struct
import zlib
from collections.abc import Iterator

__all__ = ["pixel_spans"]

SIGNATURE = b"\x89PNG\r\n\x1a\n"
PACKED = (b"IDAT", b"iCCP", b"fdAT")  # pixels and colour profiles; a text is left, as it may be what a save is in
AROUND = 12  # bytes of a chunk beside its content: length, kind and checksum
MOST_CHUNKS = 1 << 14


def pixel_spans(data: bytes) -> list[tuple[int, int]]:
    """The bytes [start, end) of whole pictures that are packed pixels. A file that is a picture from its beginning to
    its end has none: its pixels may be what the save is in.
    """
    spans: list[tuple[int, int]] = []
    for found in re.finditer(re.escape(SIGNATURE), data):
        chunks = list(_chunks(data, found.end()))
        if chunks and chunks[-1][0] == b"IEND" and (found.start() or chunks[-1][2] + 4 < len(data)):
            spans += [(start, end) for kind, start, end in chunks if kind in PACKED]
    return spans


def _chunks(data: bytes, at: int) -> Iterator[tuple[bytes, int, int]]:
    """The kind of each chunk and where its content is, as long as their checksums hold."""
    for _ in range(MOST_CHUNKS):
        if at + AROUND > len(data):
            return
        size, kind = struct.unpack_from(">I4s", data, at)
        start, end = at + 8, at + 8 + size
        if end + 4 > len(data) or data[end : end + 4] != zlib.crc32(data[at + 4 : end]).to_bytes(4, "big"):
            return
        yield kind, start, end
        if kind == b"IEND":
            return
        at = end + 4
