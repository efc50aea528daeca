"""Packed streams at any offset: zlib, gzip, bzip2, xz, zstd, LZ4 frames, raw deflate, and base64 text.

Each is believed only when it unpacks to its own end. Raw deflate (RFC 1951) has no mark. In files of up to 4 MiB it is
tried wherever a block with its own codes may begin: the lengths of these codes make a complete code (Kraft, 1949). In
larger ones, and for blocks with the fixed codes, it is tried near the beginning, and where open bytes give way to dense
ones. What a stream unpacks to is bounded, so a small file cannot fill the memory.
"""

from __future__ import annotations

import binascii
import lzma
import re
import zlib
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.budget import unpacked_allowance
from faithful_ledger.core.layers.streams import Layer, unpacker
from faithful_ledger.core.scan import scan, windows
from faithful_ledger.core.source import MemorySource

__all__ = ["find_layers", "stream_at"]

Array: TypeAlias = np.ndarray[Any, Any]
LEAST_UNPACKED = 16
LEAST_BASE64 = 32
FIRST_STEP, STEP = 1 << 12, 1 << 20
ZSTD_STEP = 1 << 10
MIXED = [set(b"ABCDEFGHIJKLMNOPQRSTUVWXYZ"), set(b"abcdefghijklmnopqrstuvwxyz"), set(b"0123456789+/")]
BASE64_FLAGS = bytes((chr(byte).isalnum() and byte < 128) or byte in b"+/" for byte in range(256))
BASE64_RUN = b"\1" * LEAST_BASE64
BASE64_LOOKED_AT = 4 << 20
MAGICS = {
    "gzip": b"\x1f\x8b\x08",
    "bzip2": b"1AY&SY",
    "xz": b"\xfd7zXZ\x00",
    "zstd": b"\x28\xb5\x2f\xfd",
    "lz4": b"\x04\x22\x4d\x18",
}
ZLIB_MARKS, ZLIB_HEAD = (b"\x78\x01", b"\x78\x5e", b"\x78\x9c", b"\x78\xda"), 7
RAW_BEGIN = 64  # offsets from the beginning at which raw deflate is tried
EDGE = 256  # bytes in which dense bytes are distinguished from open ones
OPEN, DENSE = 0.45, 0.55  # shares of different bytes among `EDGE` of them
MOST_EDGES, MOST_ROWS = 32, 1 << 10
EVERYWHERE = 4 << 20
# What four code lengths of three bits each take up of a code; 128 is all of it.
KRAFT = sum(np.array([0, 64, 32, 16, 8, 4, 2, 1])[np.arange(4096) >> 3 * place & 7] for place in range(4))
LEAST_RAW = 48  # packed bytes; shorter streams come to their end by chance
LEAST_RAW_UNPACKED = 64


def find_layers(data: bytes) -> list[Layer]:
    """All packed streams, in order; none is within another. Together they unpack to no more than a file of this size
    is worth (core/budget.py); what would be more is not looked at.
    """
    found: list[Layer] = []
    end = 0
    allowance = Allowance(unpacked_allowance(len(data)))
    for offset, kind in sorted(_marked(data)):
        if offset >= end and (layer := _read(data, offset, kind, allowance)) is not None:
            found.append(layer)
            end = layer.offset + layer.size
    for offset in _raw_offsets(data):
        if not _within(found, offset, offset + 1):
            layer = _read(data, offset, "deflate", allowance)
            if layer is not None and not _within(found, offset, offset + layer.size):
                found.append(layer)
    return sorted([*found, *_base64(data, found)], key=lambda layer: layer.offset)


def stream_at(data: bytes, offset: int, kind: str) -> Layer | None:
    """The stream of a kind that begins at an offset, whatever it looks like; None where it does not come to its end."""
    allowance = Allowance(unpacked_allowance(len(data)))
    if kind == "base64":
        return next((layer for layer in _base64(data, []) if layer.offset == offset), None)
    if kind == "deflate":
        return _stream(kind, unpacker(kind), data, offset, allowance)
    return _read(data, offset, kind, allowance)


@dataclass(slots=True)
class Allowance:
    """How many bytes may still be unpacked, whether a stream comes to its end or not."""

    left: int


def _marked(data: bytes) -> Iterator[tuple[int, str]]:
    """Where a stream may begin by the mark in front of it."""
    kinds, marks = list(MAGICS), list(MAGICS.values())
    bytes_ = np.frombuffer(data, np.uint8)
    for hits in scan(MemorySource(data), [*marks, *ZLIB_MARKS]):
        is_zlib = hits.runs >= len(marks)
        yield from ((offset, "zlib") for offset in _zlib_begins(bytes_, hits.offsets[is_zlib]))
        others = hits.offsets[~is_zlib].tolist(), hits.runs[~is_zlib].tolist()
        for offset, number in zip(*others, strict=True):
            begin = offset - 4 if kinds[number] == "bzip2" else offset
            if begin >= 0 and (kinds[number] != "bzip2" or re.match(rb"BZh[1-9]", data[begin:offset])):
                yield begin, kinds[number]


def _zlib_begins(data: Array, begins: Array) -> list[int]:
    """Of the places of zlib's two bytes those behind which a block may begin."""
    begins = begins[begins + ZLIB_HEAD <= data.size]
    kind = data[begins + 2] >> 1 & 3  # of the first block: stored (its length stands twice), fixed, dynamic, none
    stored = (data[begins + 3] ^ data[begins + 5] == 255) & (data[begins + 4] ^ data[begins + 6] == 255)
    found: list[int] = begins[(kind == 1) | (kind == 2) | ((kind == 0) & stored)].tolist()
    return found


def _raw_offsets(data: bytes) -> Iterator[int]:
    """Where raw deflate may begin: its first bits are neither a stored block nor a kind that does not exist."""
    likely = list(range(min(RAW_BEGIN, len(data))))
    whole = len(data) // EDGE
    if whole:
        rows = np.sort(np.frombuffer(data[: min(whole, MOST_ROWS) * EDGE], np.uint8).reshape(-1, EDGE), axis=1)
        different = (rows[:, 1:] != rows[:, :-1]).mean(axis=1)
        edges = np.flatnonzero((different[1:] > DENSE) & (different[:-1] < OPEN)) + 1
        for edge in edges[:MOST_EDGES].tolist():
            likely += range(max((edge - 1) * EDGE, RAW_BEGIN), (edge + 1) * EDGE)
    tried = {offset for offset in likely if data[offset] & 6 in (2, 4)}
    if len(data) <= EVERYWHERE:
        tried.update(_coded_blocks(data).tolist())
    return (offset for offset in sorted(tried) if len(data) - offset >= LEAST_RAW)


def _coded_blocks(data: bytes) -> Array:
    """Where a deflate block with codes of its own may begin (RFC 1951, 3.2.7)."""
    padded = data + bytes(16)
    head = windows(padded, np.dtype("<u4"))[: len(data)]
    # block type 2, at most 286 codes for letters and lengths and 30 for distances
    begins = np.flatnonzero((head & 6 == 4) & (head >> 3 & 31 <= 29) & (head >> 8 & 31 <= 29))
    words = windows(padded, np.dtype("<u8"))
    low, high = words[begins], words[begins + 8]
    lengths = low >> np.uint64(17) | high << np.uint64(47)
    used = 3 * ((low >> np.uint64(13) & np.uint64(15)) + np.uint64(4))
    lengths &= (np.uint64(1) << used) - np.uint64(1)
    total = np.zeros(begins.size, np.int64)
    for shift in range(0, 60, 12):
        total += KRAFT[lengths >> np.uint64(shift) & np.uint64(4095)]
    found: Array = begins[total == 128]
    return found


def _within(layers: list[Layer], start: int, end: int) -> bool:
    return any(layer.offset < end and start < layer.offset + layer.size for layer in layers)


def _read(data: bytes, offset: int, kind: str, allowance: Allowance) -> Layer | None:
    """A stream that comes to its end, or None."""
    if allowance.left <= 0:
        return None
    if kind == "zstd":
        return _zstd(data, offset, allowance)
    layer = _stream(kind, unpacker(kind), data, offset, allowance)
    if layer is not None and kind == "deflate":
        enough = layer.size >= LEAST_RAW and layer.unpacked_size >= max(LEAST_RAW_UNPACKED, layer.size)
        return layer if enough else None
    return layer


def _stream(kind: str, unpacker: Any, data: bytes, offset: int, allowance: Allowance) -> Layer | None:
    """Feed a stream in steps; it counts when it comes to its own end."""
    unpacked, at, step = 0, offset, FIRST_STEP
    pending = b""
    try:
        while not unpacker.eof:
            piece = pending or data[at : at + step]
            if not pending:
                at += len(piece)
            if not piece and not pending:
                return None
            step = STEP
            out = unpacker.decompress(piece, STEP)
            unpacked += len(out)
            pending = getattr(unpacker, "unconsumed_tail", b"")
            if not pending and not unpacker.eof and not getattr(unpacker, "needs_input", True):
                # bz2 and lzma keep what is left themselves and are asked again with nothing
                while not unpacker.eof and not unpacker.needs_input:
                    unpacked += len(unpacker.decompress(b"", STEP))
                    if unpacked > allowance.left:
                        break
            if unpacked > allowance.left:
                return None
    except (zlib.error, OSError, EOFError, lzma.LZMAError, ValueError, RuntimeError):  # RuntimeError is of lz4
        return None
    finally:
        allowance.left -= unpacked
    size = at - offset - len(unpacker.unused_data or b"")  # LZ4 has None where nothing is left
    return Layer(kind, offset, size, unpacked) if unpacked >= LEAST_UNPACKED else None


def _zstd(data: bytes, offset: int, allowance: Allowance) -> Layer | None:
    import zstandard

    unpacker = zstandard.ZstdDecompressor(max_window_size=1 << 27).decompressobj()
    unpacked, at, step = 0, offset, ZSTD_STEP
    try:
        while not unpacker.eof and at < len(data):
            piece = data[at : at + step]
            at += len(piece)
            out = len(unpacker.decompress(piece))
            unpacked += out
            # What so many bytes unpack to is not bounded by the library, so little is fed where much comes out.
            step = max(ZSTD_STEP * len(piece) // max(out, 1), 64) if out > STEP else ZSTD_STEP
            if unpacked > allowance.left:
                return None
    except zstandard.ZstdError:
        return None
    finally:
        allowance.left -= unpacked
    if not unpacker.eof or unpacked < LEAST_UNPACKED:
        return None
    return Layer("zstd", offset, at - offset - len(unpacker.unused_data), unpacked)


def _base64(data: bytes, taken: list[Layer]) -> Iterator[Layer]:
    flags = data[:BASE64_LOOKED_AT].translate(BASE64_FLAGS)
    at = flags.find(BASE64_RUN)
    while at >= 0:
        end = flags.find(0, at)
        end = len(flags) if end < 0 else end
        letters = set(data[at : min(end, at + FIRST_STEP)])
        if all(letters & kind for kind in MIXED):  # else a long word or number, and no packed stream
            run = data[at:end] + data[end : end + 2][: -(end - at) % 4]
            run = run[: len(run) // 4 * 4]
            if not _within(taken, at, at + len(run)):
                with suppress(binascii.Error):
                    yield Layer("base64", at, len(run), len(binascii.a2b_base64(run, strict_mode=True)))
        at = flags.find(BASE64_RUN, end)
