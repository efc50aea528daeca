"""LZ4 blocks without a frame: they have no mark and no end of their own, so one ends where what holds it ends."""

from __future__ import annotations

from collections.abc import Iterator

from faithful_ledger.core.layers.stream import MOST_UNPACKED, Allowance, Layer, Stream

__all__ = ["STREAMS", "may_begin"]

SEQUENCES = 12  # that are looked at before a block is tried as a whole
LEVELS = (0, 3, 9, 12)  # 0 is the fast way; the others try harder


class Lz4Block(Stream):
    """Packed again in the way that gave the old block, where one of ours did."""

    name = "lz4-block"

    def read(self, data: bytes, offset: int, allowance: Allowance) -> Layer | None:
        found = _unpacked(memoryview(data)[offset:], allowance.left) if may_begin(data, offset) else None
        if not found:
            return None
        allowance.left -= len(found)
        return Layer(self.name, offset, len(data) - offset, len(found))

    def unpacked(self, packed: bytes, most: int) -> bytes:
        found = _unpacked(packed, most)
        if found is None:
            raise ValueError("this is not an LZ4 block, or it unpacks to more")
        return found

    def packed(self, data: bytes, old: bytes) -> bytes:
        content = _unpacked(old, MOST_UNPACKED) if old else None
        same = (level for level in LEVELS if content is not None and _packed(content, level) == old)
        return _packed(data, next(same, 0))

    def fitting(self, data: bytes, old: bytes, room: int) -> Iterator[bytes]:
        for level in LEVELS:
            yield _packed(data, level)


STREAMS: tuple[Stream, ...] = (Lz4Block(),)


def _packed(data: bytes, level: int) -> bytes:
    import lz4.block

    if not level:
        return bytes(lz4.block.compress(data, store_size=False))
    return bytes(lz4.block.compress(data, "high_compression", compression=level, store_size=False))


def may_begin(data: bytes, offset: int, end: int | None = None) -> bool:
    """Whether the first sequences of a block [offset, end) are possible: none goes back further than there is something
    (LZ4 Block Format).
    """
    at, made = offset, 0
    end = len(data) if end is None else end
    for _ in range(SEQUENCES):
        if at >= end:
            return False
        token = data[at]
        letters, at = _counted(data, at + 1, token >> 4)
        at, made = at + letters, made + letters
        if at == end:
            return made > 0
        back = int.from_bytes(data[at : at + 2], "little")
        if not 0 < back <= made:
            return False
        repeated, at = _counted(data, at + 2, token & 15)
        made += repeated + 4
    return True


def _counted(data: bytes, at: int, number: int) -> tuple[int, int]:
    """A length that goes on in further bytes while they are 255, and where it ends."""
    if number == 15:
        while at < len(data) and data[at] == 255:
            number, at = number + 255, at + 1
        number += data[at] if at < len(data) else 0
        at += 1
    return number, at


def _unpacked(packed: bytes | memoryview, most: int) -> bytes | None:
    """What a block unpacks to; None where it is none, or that would be more than `most` bytes."""
    import lz4.block

    room = min(max(len(packed), 1) * 260, most)  # a byte of a block stands for at most 255 more
    try:
        return bytes(lz4.block.decompress(packed, uncompressed_size=room)) if room > 0 else None
    except (lz4.block.LZ4BlockError, ValueError, OverflowError):
        return None
