"""Deflate (RFC 1951), raw and within zlib (RFC 1950) and gzip (RFC 1952).

The level and the window of zlib and the header of gzip, with its name and time, are kept.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from faithful_ledger.core.layers.stream import FedStream, Stream

if TYPE_CHECKING:
    from faithful_ledger.core.layers.stream import Array

__all__ = ["STREAMS"]


ZLIB_LEVELS = (1, 5, 6, 9)  # by the two bits of its second byte
ZLIB_HEAD = 7
RAW_LEVEL = 6
GZIP_HEAD = 10
GZIP_EXTRA, GZIP_NAME, GZIP_COMMENT, GZIP_CHECKED = 4, 8, 16, 2
FIXED_EMPTY_BITS = 10  # a deflate block with the fixed codes and nothing in it (RFC 1951, 3.2.6)
WAYS = [(level, zlib.Z_DEFAULT_STRATEGY) for level in (6, 9, 8, 7, 5, 4, 3, 2, 1)]
WAYS += [(9, strategy) for strategy in (zlib.Z_FILTERED, zlib.Z_RLE, zlib.Z_HUFFMAN_ONLY)]
STORED_EMPTY = b"\x00\x00\xff\xff"  # the two lengths of a stored block with nothing in it (3.2.4)


class Deflate(FedStream):
    name = "deflate"

    def unpacker(self) -> Any:
        return zlib.decompressobj(-15)

    def packed(self, data: bytes, old: bytes) -> bytes:
        return _raw(data)

    def fitting(self, data: bytes, old: bytes, room: int) -> Iterator[bytes]:
        return _raw_fitting(data, room)


class Zlib(FedStream):
    name = "zlib"
    marks = (b"\x78\x01", b"\x78\x5e", b"\x78\x9c", b"\x78\xda")

    def begins(self, data: Array, at: Array) -> list[int]:
        """Of the places of zlib's two bytes those behind which a block may begin."""
        begins = at[at + ZLIB_HEAD <= data.size]
        kind = data[begins + 2] >> 1 & 3  # of the first block: stored (its length stands twice), fixed, dynamic, none
        stored = (data[begins + 3] ^ data[begins + 5] == 255) & (data[begins + 4] ^ data[begins + 6] == 255)
        found: list[int] = begins[(kind == 1) | (kind == 2) | ((kind == 0) & stored)].tolist()
        return found

    def unpacker(self) -> Any:
        return zlib.decompressobj()

    def packed(self, data: bytes, old: bytes) -> bytes:
        packer = zlib.compressobj(ZLIB_LEVELS[old[1] >> 6], zlib.DEFLATED, (old[0] >> 4) + 8)
        return packer.compress(data) + packer.flush()

    def fitting(self, data: bytes, old: bytes, room: int) -> Iterator[bytes]:
        check = struct.pack(">I", zlib.adler32(data))
        for raw in _raw_fitting(data, room - 6, (old[0] >> 4) + 8):
            yield old[:2] + raw + check


class Gzip(FedStream):
    name = "gzip"
    marks = (b"\x1f\x8b\x08",)

    def unpacker(self) -> Any:
        return zlib.decompressobj(31)

    def packed(self, data: bytes, old: bytes) -> bytes:
        return old[: _gzip_head(old)] + _raw(data) + _gzip_tail(data)

    def fitting(self, data: bytes, old: bytes, room: int) -> Iterator[bytes]:
        head, tail = old[: _gzip_head(old)], _gzip_tail(data)
        for raw in _raw_fitting(data, room - len(head) - len(tail)):
            yield head + raw + tail


STREAMS: tuple[Stream, ...] = (Deflate(), Zlib(), Gzip())


def _raw(data: bytes) -> bytes:
    packer = zlib.compressobj(RAW_LEVEL, zlib.DEFLATED, -zlib.MAX_WBITS)
    return packer.compress(data) + packer.flush()


def _gzip_head(old: bytes) -> int:
    """How many bytes the header of a gzip stream takes."""
    flags, end = old[3], GZIP_HEAD
    if flags & GZIP_EXTRA:
        end += 2 + struct.unpack_from("<H", old, end)[0]
    for flag in (GZIP_NAME, GZIP_COMMENT):
        if flags & flag:
            end = old.index(0, end) + 1
    return end + (2 if flags & GZIP_CHECKED else 0)


def _gzip_tail(data: bytes) -> bytes:
    return struct.pack("<II", zlib.crc32(data), len(data) & 0xFFFFFFFF)


def _raw_fitting(data: bytes, room: int, bits: int = zlib.MAX_WBITS) -> Iterator[bytes]:
    """Raw deflate streams of exactly `room` bytes."""
    nearest = None
    for level, strategy in WAYS:
        if nearest is not None and nearest > room and (level, strategy) not in WAYS[:2]:
            return  # the two that usually pack best do not fit, so none will
        packer = zlib.compressobj(level, zlib.DEFLATED, -bits, 9, strategy)
        begun = packer.compress(data)
        whole = begun + packer.copy().flush()
        nearest = len(whole) if nearest is None else min(nearest, len(whole))
        if len(whole) == room:
            yield whole
        aligned = begun + packer.flush(zlib.Z_SYNC_FLUSH)
        tail = _raw_tail(room - len(aligned))
        if tail is not None:
            yield aligned + tail


def _raw_tail(size: int) -> bytes | None:
    """Blocks with nothing in them, the last one marked as the last, in so many bytes; None where there are none."""
    for last in (b"\x03\x00", b"\x01" + STORED_EMPTY):
        left = size - len(last)
        parts = []
        while left >= 10 or left == 5:
            parts.append(b"\x00" + STORED_EMPTY)
            left -= 5
        if left in (6, 7, 9):  # one to three fixed blocks in front of a stored one, which begins at a whole byte
            fixed = {6: 1, 7: 2, 9: 3}[left]
            bits = sum(2 << FIXED_EMPTY_BITS * number for number in range(fixed))
            parts.append(bits.to_bytes((FIXED_EMPTY_BITS * fixed + 3 + 7) // 8, "little") + STORED_EMPTY)
            left = 0
        if left == 0:
            return b"".join(parts) + last
    return None
