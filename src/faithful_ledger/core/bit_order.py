"""Bits in reverse order: the mirror image of a number, and of each byte."""

from __future__ import annotations

__all__ = ["mirrored", "mirrored_bytes"]

MIRROR = bytes(int(f"{byte:08b}"[::-1], 2) for byte in range(256))


def mirrored(number: int, width: int) -> int:
    """The lowest `width` bits in reverse order."""
    return int(f"{number & ((1 << width) - 1):0{width}b}"[::-1], 2)


def mirrored_bytes(data: bytes) -> bytes:
    """Each byte with its bits in reverse order."""
    return data.translate(MIRROR)
