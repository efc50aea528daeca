"""Bytes in another order, as a layer: the bytes of every word of 2, 4 or 8 are stored the other way round."""

from __future__ import annotations

__all__ = ["SWAPPINGS", "swapped"]

SWAPPINGS = {"swap-bytes-2": 2, "swap-bytes-4": 4, "swap-bytes-8": 8}


def swapped(data: bytes, kind: str) -> bytes:
    """The same with the bytes of every word turned round; what is left at the end stays. It undoes itself."""
    size = SWAPPINGS[kind]
    whole = len(data) // size * size
    turned = bytearray(data)
    for place in range(size):
        turned[place:whole:size] = data[size - 1 - place : whole : size]
    return bytes(turned)
