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
from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

from faithful_ledger.core.errors import EntryError, LedgerError, TooMuch, place

__all__ = ["MOST_UNPACKED", "Layer", "pack", "pack_into", "unpack", "unpacker"]

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


def unpack(data: bytes, layer: Layer, most: int = MOST_UNPACKED) -> bytes:
    """What a layer that was found unpacks to.

    Raises:
        TooMuch: that is more than `most` bytes.
    """
    packed = data[layer.offset : layer.offset + layer.size]
    if layer.kind == "base64":
        return binascii.a2b_base64(packed)
    if layer.kind == "zstd":
        import zstandard

        with zstandard.ZstdDecompressor(max_window_size=1 << 27).stream_reader(packed) as reader:
            unpacked = bytes(reader.read(most + 1))
    else:
        unpacked = bytes(unpacker(layer.kind).decompress(packed, most + 1))
    if len(unpacked) > most:
        raise TooMuch(
            f"the {layer.kind} stream at {place(layer.offset)} unpacks to more than {most >> 20} MiB",
            "nothing was changed; the file may be made to fill the memory",
        )
    return unpacked


def pack(kind: str, data: bytes, old: bytes) -> bytes:
    """A stream that unpacks to `data`, in the way of the `old` one.

    Raises:
        EntryError: it does not unpack to the same again.
    """
    packed = PACKERS[kind](data, old)
    if not _unpacks_to(kind, packed, data):
        raise EntryError(f"the new {kind} stream does not unpack to what was packed", "nothing was written")
    return packed


def pack_into(kind: str, data: bytes, old: bytes) -> bytes | None:
    """As `pack`, in exactly as many bytes as the old stream: packed harder, or padded where the format allows it.

    None where that cannot be done. Padding is such that every reader skips: blocks without content in deflate and zstd,
    a frame to skip behind LZ4 (all three of their specifications), zeros behind xz.
    """
    fitting = FITTERS.get(kind)
    for packed in fitting(data, old, len(old)) if fitting is not None else ():
        if len(packed) == len(old) and _unpacks_to(kind, packed, data):
            return packed
    return None


def _unpacks_to(kind: str, packed: bytes, data: bytes) -> bool:
    try:
        return unpack(packed, Layer(kind, 0, len(packed), len(data)), len(data)) == data
    except (zlib.error, OSError, EOFError, lzma.LZMAError, ValueError, RuntimeError, LedgerError):
        return False
    except Exception as error:  # zstandard's own error is known only once it is imported
        if type(error).__module__.startswith(("zstandard", "zstd")):
            return False
        raise


def _zlib(data: bytes, old: bytes) -> bytes:
    packer = zlib.compressobj(ZLIB_LEVELS[old[1] >> 6], zlib.DEFLATED, (old[0] >> 4) + 8)
    return packer.compress(data) + packer.flush()


def _deflate(data: bytes, old: bytes = b"") -> bytes:
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


def _gzip(data: bytes, old: bytes) -> bytes:
    return old[: _gzip_head(old)] + _deflate(data) + struct.pack("<II", zlib.crc32(data), len(data) & 0xFFFFFFFF)


def _bzip2(data: bytes, old: bytes) -> bytes:
    return bz2.compress(data, old[3] - ord("0"))


def _xz(data: bytes, old: bytes) -> bytes:
    return lzma.compress(data, lzma.FORMAT_XZ, old[XZ_FLAGS_AT] & 15)


def _zstd(data: bytes, old: bytes) -> bytes:
    import zstandard

    flags = zstandard.get_frame_parameters(old)
    has_size = flags.content_size != zstandard.CONTENTSIZE_UNKNOWN
    packer = zstandard.ZstdCompressor(write_checksum=flags.has_checksum, write_content_size=has_size)
    return packer.compress(data)


def _lz4(data: bytes, old: bytes, level: int = 0) -> bytes:
    import lz4.frame

    about = lz4.frame.get_frame_info(old)
    return bytes(
        lz4.frame.compress(
            data,
            compression_level=level,
            block_size=about["block_size_id"],
            block_linked=about["block_linked"],
            content_checksum=about["content_checksum"],
            block_checksum=about["block_checksum"],
            store_size=bool(about["content_size"]),
        )
    )


def _base64(data: bytes, old: bytes) -> bytes:
    return binascii.b2a_base64(data, newline=False)


# Fitting a stream into the bytes of the old one.

FIXED_EMPTY_BITS = 10  # a deflate block with the fixed codes and nothing in it (RFC 1951, 3.2.6)
DEFLATE_WAYS = [(level, zlib.Z_DEFAULT_STRATEGY) for level in (6, 9, 8, 7, 5, 4, 3, 2, 1)]
DEFLATE_WAYS += [(9, strategy) for strategy in (zlib.Z_FILTERED, zlib.Z_RLE, zlib.Z_HUFFMAN_ONLY)]
ZSTD_LEVELS, ZSTD_LEVELS_LARGE, LARGE = (3, 9, 15, 19, 1), (3, 9), 1 << 20
STORED_EMPTY = b"\x00\x00\xff\xff"  # the two lengths of a stored block with nothing in it (3.2.4)
# Blocks of no bytes: raw ones, and a run of nothing (RFC 8878, 3.1.1.2).
ZSTD_EMPTY, ZSTD_EMPTY_RUN = b"\x00\x00\x00", b"\x02\x00\x00\x00"
LZ4_SKIPPED, LZ4_SKIPPED_HEAD = 0x184D2A50, 8


def _deflate_fitting(data: bytes, room: int, bits: int = zlib.MAX_WBITS) -> Iterator[bytes]:
    """Raw deflate streams of exactly `room` bytes."""
    nearest = None
    for level, strategy in DEFLATE_WAYS:
        if nearest is not None and nearest > room and (level, strategy) not in DEFLATE_WAYS[:2]:
            return  # the two that usually pack best do not fit, so none will
        packer = zlib.compressobj(level, zlib.DEFLATED, -bits, 9, strategy)
        begun = packer.compress(data)
        whole = begun + packer.copy().flush()
        nearest = len(whole) if nearest is None else min(nearest, len(whole))
        if len(whole) == room:
            yield whole
        aligned = begun + packer.flush(zlib.Z_SYNC_FLUSH)
        tail = _deflate_tail(room - len(aligned))
        if tail is not None:
            yield aligned + tail


def _deflate_tail(size: int) -> bytes | None:
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


def _zlib_fitting(data: bytes, old: bytes, room: int) -> Iterator[bytes]:
    check = struct.pack(">I", zlib.adler32(data))
    for raw in _deflate_fitting(data, room - 6, (old[0] >> 4) + 8):
        yield old[:2] + raw + check


def _gzip_fitting(data: bytes, old: bytes, room: int) -> Iterator[bytes]:
    head = old[: _gzip_head(old)]
    tail = struct.pack("<II", zlib.crc32(data), len(data) & 0xFFFFFFFF)
    for raw in _deflate_fitting(data, room - len(head) - len(tail)):
        yield head + raw + tail


def _zstd_fitting(data: bytes, old: bytes, room: int) -> Iterator[bytes]:
    import zstandard

    flags = zstandard.get_frame_parameters(old)
    known = flags.content_size != zstandard.CONTENTSIZE_UNKNOWN
    for level in ZSTD_LEVELS if len(data) < LARGE else ZSTD_LEVELS_LARGE:
        made = zstandard.ZstdCompressor(level=level, write_checksum=flags.has_checksum, write_content_size=known)
        whole = made.compress(data)
        left = room - len(whole)
        runs = left % 3  # so many blocks of four bytes, the others of three
        if left >= runs * 4:
            at = _last_zstd_block(whole)
            yield whole[:at] + ZSTD_EMPTY * ((left - runs * 4) // 3) + ZSTD_EMPTY_RUN * runs + whole[at:]


def _last_zstd_block(frame: bytes) -> int:
    """Where the last block of a frame begins (RFC 8878, 3.1.1.2): blocks with nothing in them may stand before it."""
    import zstandard

    at = int(zstandard.frame_header_size(frame))
    while True:
        header = int.from_bytes(frame[at : at + 3], "little")
        if header & 1:
            return at
        kind, size = header >> 1 & 3, header >> 3
        at += 3 + (1 if kind == 1 else size)


def _lz4_fitting(data: bytes, old: bytes, room: int) -> Iterator[bytes]:
    for level in (0, 9, 12) if len(data) < LARGE else (0, 9):
        packed = _lz4(data, old, level)
        left = room - len(packed)
        if left == 0:
            yield packed
        elif left >= LZ4_SKIPPED_HEAD:
            yield packed + struct.pack("<II", LZ4_SKIPPED, left - LZ4_SKIPPED_HEAD) + bytes(left - LZ4_SKIPPED_HEAD)


def _xz_fitting(data: bytes, old: bytes, room: int) -> Iterator[bytes]:
    for preset in (6, 9 | lzma.PRESET_EXTREME, 3, 0) if len(data) < LARGE else (6,):
        packed = lzma.compress(data, lzma.FORMAT_XZ, old[XZ_FLAGS_AT] & 15, preset)
        left = room - len(packed)
        if left >= 0 and left % 4 == 0:  # stream padding (the .xz file format, 2.2)
            yield packed + bytes(left)


def _bzip2_fitting(data: bytes, old: bytes, room: int) -> Iterator[bytes]:
    yield _bzip2(data, old)  # it has no padding, so only chance fits


def _base64_fitting(data: bytes, old: bytes, room: int) -> Iterator[bytes]:
    yield _base64(data, old)


FITTERS: dict[str, Callable[[bytes, bytes, int], Iterator[bytes]]] = {
    "base64": _base64_fitting,
    "bzip2": _bzip2_fitting,
    "deflate": lambda data, old, room: _deflate_fitting(data, room),
    "gzip": _gzip_fitting,
    "lz4": _lz4_fitting,
    "xz": _xz_fitting,
    "zlib": _zlib_fitting,
    "zstd": _zstd_fitting,
}
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
