"""xz; the kind of its check is kept."""

from __future__ import annotations

import lzma
from collections.abc import Iterator
from typing import Any

from faithful_ledger.core.layers.stream import LARGE, MOST_UNPACKED, FedStream, Stream

__all__ = ["STREAMS"]


FLAGS_AT = 7


class Xz(FedStream):
    name = "xz"
    marks = (b"\xfd7zXZ\x00",)

    def unpacker(self) -> Any:
        return lzma.LZMADecompressor(memlimit=MOST_UNPACKED)

    def packed(self, data: bytes, old: bytes) -> bytes:
        return lzma.compress(data, lzma.FORMAT_XZ, old[FLAGS_AT] & 15)

    def fitting(self, data: bytes, old: bytes, room: int) -> Iterator[bytes]:
        for preset in (6, 9 | lzma.PRESET_EXTREME, 3, 0) if len(data) < LARGE else (6,):
            packed = lzma.compress(data, lzma.FORMAT_XZ, old[FLAGS_AT] & 15, preset)
            left = room - len(packed)
            if left >= 0 and left % 4 == 0:  # stream padding (the .xz file format, 2.2)
                yield packed + bytes(left)


STREAMS: tuple[Stream, ...] = (Xz(),)
