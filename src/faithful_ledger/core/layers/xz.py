"""xz, of which the kind of its check is kept, and the format before it, LZMA alone, with its properties and whether it
says its size.
"""

from __future__ import annotations

import lzma
from collections.abc import Iterator
from typing import Any

from faithful_ledger.core.layers.stream import LARGE, MOST_UNPACKED, FedStream, Stream

__all__ = ["STREAMS", "lzma_begins"]

FLAGS_AT = 7
HEADER, PROPERTIES, NO_SIZE = 13, 5, b"\xff" * 8  # of LZMA alone (LZMA specification, Pavlov 2015)
USUAL = b"\x5d\x00\x00"  # properties, and a dictionary of a multiple of 64 KiB
LARGEST_DICTIONARY, LARGEST_SIZE = 1 << 30, 1 << 40


class Xz(FedStream):
    name = "xz"
    pads_behind = True
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


class Lzma(FedStream):
    name = "lzma"  # its header has no mark: `lzma_begins` says where one may be

    def unpacker(self) -> Any:
        return lzma.LZMADecompressor(lzma.FORMAT_ALONE, memlimit=MOST_UNPACKED)

    def packed(self, data: bytes, old: bytes) -> bytes:
        properties = old[0]
        chosen = {
            "id": lzma.FILTER_LZMA1,
            "dict_size": max(int.from_bytes(old[1:PROPERTIES], "little"), 1 << 12),
            "lc": properties % 9,
            "lp": properties // 9 % 5,
            "pb": properties // 45,
        }
        size = NO_SIZE if old[PROPERTIES:HEADER] == NO_SIZE else len(data).to_bytes(8, "little")
        return old[:PROPERTIES] + size + lzma.compress(data, lzma.FORMAT_RAW, filters=[chosen])


def lzma_begins(data: bytes) -> Iterator[int]:
    """Where LZMA alone may begin: with the usual properties, a usual size of the dictionary, no size of the content or
    a possible one, and a zero behind, as what follows always begins.
    """
    at = data.find(USUAL)
    while at >= 0:
        head = data[at : at + HEADER + 1]
        dictionary, size = int.from_bytes(head[1:PROPERTIES], "little"), head[PROPERTIES:HEADER]
        lowest = dictionary & -dictionary
        is_usual = dictionary in (lowest, 3 * lowest) and dictionary <= LARGEST_DICTIONARY
        has_size = size == NO_SIZE or 0 < int.from_bytes(size, "little") < LARGEST_SIZE
        if is_usual and has_size and head[HEADER:] == b"\0":
            yield at
        at = data.find(USUAL, at + 1)


STREAMS: tuple[Stream, ...] = (Xz(), Lzma())
