"""Bytes in another order or among others, as a layer: the bytes of every word of 2, 4 or 8 the other way round, or only
every second byte, as a memory of eight bits on a bus of sixteen gives them.
"""

from __future__ import annotations

__all__ = ["ARRANGEMENTS", "HALVES", "SWAPPINGS", "arranged", "rearranged", "swapped"]

SWAPPINGS = {"swap-bytes-2": 2, "swap-bytes-4": 4, "swap-bytes-8": 8}
HALVES = {"even-bytes": 0, "odd-bytes": 1}
ARRANGEMENTS = (*SWAPPINGS, *HALVES)


def arranged(data: bytes, kind: str) -> bytes:
    """The payload of what is stored."""
    return swapped(data, kind) if kind in SWAPPINGS else data[HALVES[kind] :: 2]


def rearranged(content: bytes, kind: str, old: bytes) -> bytes:
    """How a payload is stored. The bytes between stay as in the `old` ones, or say the same as the payload where they
    did; more of them are like the last.
    """
    if kind in SWAPPINGS:
        return swapped(content, kind)
    own = HALVES[kind]
    before, between = old[own::2], old[1 - own :: 2]
    size = len(between) + len(content) - len(before)
    if len(between) > 1 and between == before[: len(between)]:
        between = content[:size]
    else:
        between = between[:size] + between[-1:] * (size - len(between))
    out = bytearray(len(content) + size)
    out[own::2], out[1 - own :: 2] = content, between
    return bytes(out)


def swapped(data: bytes, kind: str) -> bytes:
    """The same with the bytes of every word turned round; what is left at the end stays. It undoes itself."""
    size = SWAPPINGS[kind]
    whole = len(data) // size * size
    turned = bytearray(data)
    for place in range(size):
        turned[place:whole:size] = data[size - 1 - place : whole : size]
    return bytes(turned)
