"""Packed streams: unpacked, and packed again in the way of the stream that gives way.

What the old stream says about itself is kept: the level and the window of zlib (RFC 1950), the header of gzip with its
name and time (RFC 1952), the block size of bzip2, the kind of check of xz, the flags of zstd (RFC 8878) and of LZ4
frames. The packed bytes themselves are those of our compressor, so only what they unpack to can be promised.
"""

from __future__ import annotations

import binascii
import bz2
import lzma
import struct
import zlib
from collections.abc import Callable
from typing import Any, NamedTuple

from faithful_ledger.core.errors import EntryError

__all__ = ["MOST_UNPACKED", "Layer", "pack", "unpack", "unpacker"]

MOST_UNPACKED = 256 << 20
ZLIB_LEVELS = (1, 5, 6, 9)  # by the two bits of its second byte
RAW_LEVEL = 6
GZIP_HEAD = 10
GZIP_EXTRA, GZIP_NAME, GZIP_COMMENT, GZIP_CHECKED = 4, 8, 16, 2
XZ_FLAGS_AT = 7


class Layer(NamedTuple):
    """`size` packed bytes at `offset` unpack to `unpacked_size`."""

    kind: str
    offset: int
    size: int
    unpacked_size: int


def unpacker(kind: str) -> Any:
    """An object of the standard library or of LZ4 that unpacks a stream step by step."""
    if kind == "lz4":
        import lz4.frame

        return lz4.frame.LZ4FrameDecompressor()
    made: dict[str, Callable[[], Any]] = {
        "zlib": zlib.decompressobj,
        "gzip": lambda: zlib.decompressobj(31),
        "deflate": lambda: zlib.decompressobj(-15),
        "bzip2": bz2.BZ2Decompressor,
        "xz": lambda: lzma.LZMADecompressor(memlimit=MOST_UNPACKED),
    }
    return made[kind]()


def unpack(data: bytes, layer: Layer) -> bytes:
    """What a layer that was found unpacks to."""
    packed = data[layer.offset : layer.offset + layer.size]
    if layer.kind == "base64":
        return binascii.a2b_base64(packed)
    if layer.kind == "zstd":
        import zstandard

        return zstandard.ZstdDecompressor(max_window_size=1 << 27).decompressobj().decompress(packed)
    return bytes(unpacker(layer.kind).decompress(packed))


def pack(kind: str, data: bytes, old: bytes) -> bytes:
    """A stream that unpacks to `data`, in the way of the `old` one.

    Raises:
        EntryError: it does not unpack to the same again.
    """
    packed = PACKERS[kind](data, old)
    try:
        again: bytes | None = unpack(packed, Layer(kind, 0, len(packed), len(data)))
    except (zlib.error, OSError, EOFError, lzma.LZMAError, ValueError, RuntimeError):
        again = None
    if again != data:
        raise EntryError(f"the new {kind} stream does not unpack to what was packed", "nothing was written")
    return packed


def _zlib(data: bytes, old: bytes) -> bytes:
    packer = zlib.compressobj(ZLIB_LEVELS[old[1] >> 6], zlib.DEFLATED, (old[0] >> 4) + 8)
    return packer.compress(data) + packer.flush()


def _deflate(data: bytes, old: bytes = b"") -> bytes:
    packer = zlib.compressobj(RAW_LEVEL, zlib.DEFLATED, -zlib.MAX_WBITS)
    return packer.compress(data) + packer.flush()


def _gzip(data: bytes, old: bytes) -> bytes:
    flags, end = old[3], GZIP_HEAD
    if flags & GZIP_EXTRA:
        end += 2 + struct.unpack_from("<H", old, end)[0]
    for flag in (GZIP_NAME, GZIP_COMMENT):
        if flags & flag:
            end = old.index(0, end) + 1
    end += 2 if flags & GZIP_CHECKED else 0
    return old[:end] + _deflate(data) + struct.pack("<II", zlib.crc32(data), len(data) & 0xFFFFFFFF)


def _bzip2(data: bytes, old: bytes) -> bytes:
    return bz2.compress(data, old[3] - ord("0"))


def _xz(data: bytes, old: bytes) -> bytes:
    return lzma.compress(data, lzma.FORMAT_XZ, old[XZ_FLAGS_AT] & 15)


def _zstd(data: bytes, old: bytes) -> bytes:
    import zstandard

    flags = zstandard.get_frame_parameters(old)
    told = flags.content_size != zstandard.CONTENTSIZE_UNKNOWN
    packer = zstandard.ZstdCompressor(write_checksum=flags.has_checksum, write_content_size=told)
    return packer.compress(data)


def _lz4(data: bytes, old: bytes) -> bytes:
    import lz4.frame

    about = lz4.frame.get_frame_info(old)
    return bytes(
        lz4.frame.compress(
            data,
            block_size=about["block_size_id"],
            block_linked=about["block_linked"],
            content_checksum=about["content_checksum"],
            block_checksum=about["block_checksum"],
            store_size=bool(about["content_size"]),
        )
    )


def _base64(data: bytes, old: bytes) -> bytes:
    return binascii.b2a_base64(data, newline=False)


PACKERS: dict[str, Callable[[bytes, bytes], bytes]] = {
    "base64": _base64,
    "bzip2": _bzip2,
    "deflate": _deflate,
    "gzip": _gzip,
    "lz4": _lz4,
    "xz": _xz,
    "zlib": _zlib,
    "zstd": _zstd,
}
