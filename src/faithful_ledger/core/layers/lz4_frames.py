"""LZ4 frames; block size, linking, checks and size of the old frame are kept."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from typing import Any

from faithful_ledger.core.layers.stream import LARGE, FedStream, Stream

__all__ = ["STREAMS"]


SKIPPED, SKIPPED_HEAD = 0x184D2A50, 8


class Lz4(FedStream):
    name = "lz4"
    pads_behind = True
    marks = (b"\x04\x22\x4d\x18",)

    def unpacker(self) -> Any:
        import lz4.frame

        return lz4.frame.LZ4FrameDecompressor()

    def packed(self, data: bytes, old: bytes) -> bytes:
        return _frame(data, old, 0)

    def fitting(self, data: bytes, old: bytes, room: int) -> Iterator[bytes]:
        for level in (0, 9, 12) if len(data) < LARGE else (0, 9):
            packed = _frame(data, old, level)
            left = room - len(packed)
            if left == 0:
                yield packed
            elif left >= SKIPPED_HEAD:
                yield packed + struct.pack("<II", SKIPPED, left - SKIPPED_HEAD) + bytes(left - SKIPPED_HEAD)


STREAMS: tuple[Stream, ...] = (Lz4(),)


def _frame(data: bytes, old: bytes, level: int) -> bytes:
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
