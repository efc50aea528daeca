"""xz, of which the kind of its check is kept, and the format before it, LZMA alone, with its properties and whether it
says its size.
"""

from __future__ import annotations

import lzma
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from faithful_ledger.core.layers.stream import LARGE, MOST_UNPACKED, FedStream, Stream

if TYPE_CHECKING:
    from faithful_ledger.core.layers.stream import Array

__all__ = ["STREAMS"]

FLAGS_AT = 7
HEADER, PROPERTIES, NO_SIZE = 13, 5, b"\xff" * 8  # of LZMA alone (LZMA specification, Pavlov 2015)
LARGEST_DICTIONARY, LARGEST_SIZE = 1 << 30, 1 << 40


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


class Lzma(FedStream):
    name = "lzma"
    marks = tuple(bytes((0x5D, 0, part)) for part in (0, 0x10, 0x20, 0x40, 0x80))

    def begins(self, data: Array, at: Array) -> list[int]:
        """Where the size of the dictionary is a usual one, the size of the content none or a possible one, and the
        first byte of what follows a zero, as it always is.
        """
        return [offset for offset in at.tolist() if _is_header(data[offset : offset + HEADER + 1].tobytes())]

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


def _is_header(head: bytes) -> bool:
    dictionary = int.from_bytes(head[1:PROPERTIES], "little")
    lowest = dictionary & -dictionary
    size = head[PROPERTIES:HEADER]
    is_usual = dictionary in (lowest, 3 * lowest) and dictionary <= LARGEST_DICTIONARY
    return (
        len(head) > HEADER
        and head[HEADER] == 0
        and is_usual
        and (size == NO_SIZE or 0 < int.from_bytes(size, "little") < LARGEST_SIZE)
    )


STREAMS: tuple[Stream, ...] = (Xz(), Lzma())
