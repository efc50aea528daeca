"""How much a small file holds once it is unpacked, as far as its beginning shows without further libraries."""

from __future__ import annotations

import zlib
from pathlib import Path

__all__ = ["size_unpacked"]

FIRST = 64  # offsets at which a stream may begin
MUCH = 4 << 20  # bytes: what is more is much as well
GZIP, ZLIB, ZSTD = b"\x1f\x8b\x08", 0x78, b"\x28\xb5\x2f\xfd"
BITS = {GZIP[0]: 31, ZLIB: 15}  # the window of a gzip or a zlib stream, for zlib


def size_unpacked(path: Path) -> int:
    """The bytes of a file, or of a gzip, zlib or zstd stream near its beginning, if these are more; at most 4 MiB of
    such. Nothing for what cannot be read.
    """
    try:
        data = path.read_bytes()
    except OSError:
        return 0
    sizes = [_unpacked(data, at) for at in range(min(FIRST, len(data))) if data[at] in (*BITS, ZSTD[0])]
    return max([len(data), *sizes])


def _unpacked(data: bytes, at: int) -> int:
    if data.startswith(ZSTD, at):
        return _frame_size(data[at + 4 : at + 18])
    if data[at] not in BITS or (data[at] == GZIP[0] and not data.startswith(GZIP, at)):
        return 0
    unpacker = zlib.decompressobj(BITS[data[at]])
    try:
        return len(unpacker.decompress(data[at:], MUCH))
    except zlib.error:
        return 0


def _frame_size(header: bytes) -> int:
    """What the header of a zstd frame says of its content (RFC 8878, 3.1.1.1); 0 where it does not."""
    if len(header) < 14:
        return 0
    flags = header[0]
    single, width = flags >> 5 & 1, (0, 2, 4, 8)[flags >> 6]
    width = width or single
    start = 1 + (not single) + (0, 1, 2, 4)[flags & 3]
    size = int.from_bytes(header[start : start + width], "little") + (256 if width == 2 else 0)
    return min(size, MUCH) if width else 0
