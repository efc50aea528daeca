"""Packed streams at any offset: zlib, gzip, bzip2, xz, zstd, and base64 text. Each is believed only when it unpacks.

What a stream unpacks to is bounded, so a small file cannot fill the memory.
"""

from __future__ import annotations

import binascii
import bz2
import lzma
import re
import zlib
from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

__all__ = ["MOST_UNPACKED", "Layer", "find_layers"]

MOST_UNPACKED = 256 << 20
LEAST_UNPACKED = 16
LEAST_BASE64 = 32
STEP = 1 << 20
BASE64 = re.compile(rb"(?:[A-Za-z0-9+/]{4}){%d,}(?:[A-Za-z0-9+/]{2}==|[A-Za-z0-9+/]{3}=)?" % (LEAST_BASE64 // 4))
MAGICS = re.compile(rb"\x78[\x01\x5e\x9c\xda]|\x1f\x8b\x08|BZh[1-9]1AY&SY|\xfd7zXZ\x00|\x28\xb5\x2f\xfd", re.DOTALL)


class Layer(NamedTuple):
    """`size` packed bytes at `offset` unpack to `unpacked_size`."""

    kind: str
    offset: int
    size: int
    unpacked_size: int


def find_layers(data: bytes) -> list[Layer]:
    """All packed streams, in order; none lies within another."""
    found: list[Layer] = []
    end = 0
    for match in MAGICS.finditer(data):
        if match.start() < end:
            continue
        layer = _unpacked(data, match.start(), match[0])
        if layer is not None:
            found.append(layer)
            end = layer.offset + layer.size
    return sorted([*found, *_base64(data, found)], key=lambda layer: layer.offset)


def _unpacked(data: bytes, offset: int, magic: bytes) -> Layer | None:
    if magic[0] == 0x78:
        return _stream("zlib", zlib.decompressobj(), data, offset)
    if magic[:2] == b"\x1f\x8b":
        return _stream("gzip", zlib.decompressobj(31), data, offset)
    if magic[:3] == b"BZh":
        return _stream("bzip2", bz2.BZ2Decompressor(), data, offset)
    if magic[0] == 0xFD:
        return _stream("xz", lzma.LZMADecompressor(memlimit=MOST_UNPACKED), data, offset)
    return _zstd(data, offset)


def _stream(kind: str, unpacker: Any, data: bytes, offset: int) -> Layer | None:
    """Feed a stream in steps; it counts when it comes to its own end."""
    unpacked, at = 0, offset
    pending = b""
    try:
        while not unpacker.eof:
            piece = pending or data[at : at + STEP]
            if not pending:
                at += len(piece)
            if not piece and not pending:
                return None
            out = unpacker.decompress(piece, STEP)
            unpacked += len(out)
            pending = getattr(unpacker, "unconsumed_tail", b"")
            if not pending and not unpacker.eof and not getattr(unpacker, "needs_input", True):
                # bz2 and lzma keep what is left themselves and are asked again with nothing
                while not unpacker.eof and not unpacker.needs_input:
                    unpacked += len(unpacker.decompress(b"", STEP))
                    if unpacked > MOST_UNPACKED:
                        return None
            if unpacked > MOST_UNPACKED:
                return None
    except (zlib.error, OSError, EOFError, lzma.LZMAError, ValueError):
        return None
    size = at - offset - len(unpacker.unused_data)
    return Layer(kind, offset, size, unpacked) if unpacked >= LEAST_UNPACKED else None


def _zstd(data: bytes, offset: int) -> Layer | None:
    import zstandard

    unpacker = zstandard.ZstdDecompressor(max_window_size=1 << 27).decompressobj()
    unpacked, at = 0, offset
    try:
        while not unpacker.eof and at < len(data):
            piece = data[at : at + (STEP >> 4)]
            at += len(piece)
            unpacked += len(unpacker.decompress(piece))
            if unpacked > MOST_UNPACKED:
                return None
    except zstandard.ZstdError:
        return None
    if not unpacker.eof or unpacked < LEAST_UNPACKED:
        return None
    return Layer("zstd", offset, at - offset - len(unpacker.unused_data), unpacked)


def _base64(data: bytes, taken: list[Layer]) -> Iterator[Layer]:
    for match in BASE64.finditer(data):
        run = match[0]
        if any(layer.offset < match.end() and match.start() < layer.offset + layer.size for layer in taken):
            continue
        mixed: Callable[[bytes], bool] = lambda letters: any(byte in letters for byte in run)  # noqa: B023, E731
        upper, lower, digit = b"ABCDEFGHIJKLMNOPQRSTUVWXYZ", b"abcdefghijklmnopqrstuvwxyz", b"0123456789+/"
        if not (mixed(upper) and mixed(lower) and mixed(digit)):
            continue  # a long word or number is no packed stream
        try:
            unpacked = binascii.a2b_base64(run, strict_mode=True)
        except binascii.Error:
            continue
        yield Layer("base64", match.start(), len(run), len(unpacked))
