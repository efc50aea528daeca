"""Brotli streams (RFC 7932). They have no mark and no checksum, but other bytes hardly ever come to the end of one."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from faithful_ledger.core.layers.stream import Allowance, Layer, Stream

__all__ = ["BROTLI", "STREAMS", "goes_on"]

BROTLI = "brotli"
PIECE, STEP = 1 << 12, 1 << 20  # bytes that are fed, and that are unpacked at once
BEST, FAST, LARGE = 11, 5, 1 << 20  # levels, and bytes for which the best takes too long


class Brotli(Stream):
    name = BROTLI

    def read(self, data: bytes, offset: int, allowance: Allowance) -> Layer | None:
        """The library does not say where a stream ends: of the first piece, in which most that is none goes wrong, by
        halves; of a further one byte by byte.
        """
        unpacked, at = 0, offset
        unpacker = _unpacker()
        while at < len(data):
            piece = data[at : at + PIECE]
            size, went_well = _fed(unpacker, piece, allowance)
            if not went_well:  # it ends within the piece, or it is none
                within = self._ending_within if at > offset else self._ending_soon
                return within(data, offset, at, allowance)
            unpacked, at = unpacked + size, at + len(piece)
            if unpacker.is_finished():
                return Layer(self.name, offset, at - offset, unpacked) if unpacked else None
        return None

    def _ending_soon(self, data: bytes, offset: int, at: int, allowance: Allowance) -> Layer | None:
        low, high = at, min(at + PIECE, len(data))  # so many bytes are too few, and so many too many
        while high - low > 1 and allowance.left >= 0:
            middle = (low + high) // 2
            unpacker = _unpacker()
            unpacked, went_well = _fed(unpacker, data[offset:middle], allowance)
            if went_well and unpacker.is_finished():
                return Layer(self.name, offset, middle - offset, unpacked) if unpacked else None
            low, high = (middle, high) if went_well else (low, middle)
        return None

    def _ending_within(self, data: bytes, offset: int, at: int, allowance: Allowance) -> Layer | None:
        unpacker = _unpacker()
        unpacked, went_well = _fed(unpacker, data[offset:at], allowance)
        for end in range(at, min(at + PIECE, len(data))):
            if not went_well or unpacker.is_finished():
                break
            size, went_well = _fed(unpacker, data[end : end + 1], allowance)
            unpacked += size
            if went_well and unpacker.is_finished() and unpacked:
                return Layer(self.name, offset, end + 1 - offset, unpacked)
        return None

    def unpacked(self, packed: bytes, most: int) -> bytes:
        return b"".join(_pieces(_unpacker(), packed, most))[:most]

    def packed(self, data: bytes, old: bytes) -> bytes:
        import brotli

        return bytes(brotli.compress(data, quality=BEST if len(data) <= LARGE else FAST))


def goes_on(data: bytes, offset: int, last: int, allowance: Allowance) -> bool:
    """Whether a stream may end at an offset from `last` on; most of what is none is seen in its first piece."""
    unpacker, at, size = _unpacker(), offset, PIECE
    while at < last:
        piece = data[at : at + size]
        _, went_well = _fed(unpacker, piece, allowance)
        at, size = at + len(piece), min(2 * size, STEP)
        if not went_well or unpacker.is_finished():
            return at >= last and allowance.left >= 0
    return True


def _unpacker() -> Any:
    import brotli

    return brotli.Decompressor()


def _pieces(unpacker: Any, packed: bytes, most: int) -> Iterator[bytes]:
    """Raises ValueError where the bytes are not of a stream."""
    import brotli

    try:
        done = 0
        while done < most:
            piece = unpacker.process(packed, output_buffer_limit=STEP)
            yield piece
            done, packed = done + len(piece), b""
            if unpacker.is_finished() or unpacker.can_accept_more_data():
                return
    except brotli.error as error:
        raise ValueError("it is not a brotli stream") from error


def _fed(unpacker: Any, packed: bytes, allowance: Allowance) -> tuple[int, bool]:
    """How many bytes some of a stream unpack to, and whether they are of one and not more than may be."""
    unpacked = 0
    try:
        for piece in _pieces(unpacker, packed, allowance.left + 1):
            unpacked += len(piece)
            allowance.left -= len(piece)
    except ValueError:
        return unpacked, False
    return unpacked, allowance.left >= 0


STREAMS: tuple[Stream, ...] = (Brotli(),)
