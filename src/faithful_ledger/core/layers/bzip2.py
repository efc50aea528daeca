"""bzip2; the block size is kept. It has no padding, so another content takes the same size only by chance."""

from __future__ import annotations

import bz2
from typing import TYPE_CHECKING, Any

from faithful_ledger.core.layers.stream import FedStream, Stream

if TYPE_CHECKING:
    from faithful_ledger.core.layers.stream import Array

__all__ = ["STREAMS"]


class Bzip2(FedStream):
    name = "bzip2"
    marks = (b"1AY&SY",)
    mark_at = 4

    def begins(self, data: Array, at: Array) -> list[int]:
        at = at[at >= 0]
        level = data[at + 3]
        head = (data[at] == 66) & (data[at + 1] == 90) & (data[at + 2] == 104)  # BZh
        found: list[int] = at[head & (level >= 49) & (level <= 57)].tolist()
        return found

    def unpacker(self) -> Any:
        return bz2.BZ2Decompressor()

    def packed(self, data: bytes, old: bytes) -> bytes:
        return bz2.compress(data, old[3] - ord("0"))


STREAMS: tuple[Stream, ...] = (Bzip2(),)
