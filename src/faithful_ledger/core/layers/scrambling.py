"""Scrambling that hides bytes without packing them: a key that repeats, XORed or added; XOR with the byte before."""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np

__all__ = ["Scrambling", "scramble", "unscramble"]


class Scrambling(NamedTuple):
    """`share` is how many bytes are zero after it is undone, from 0 to 1."""

    kind: Literal["xor", "xor-previous", "add"]
    key: bytes
    share: float


def unscramble(data: bytes, found: Scrambling) -> bytes:
    """The bytes as they were before."""
    bytes_ = np.frombuffer(data, np.uint8)
    if found.kind == "xor":
        return (bytes_ ^ np.resize(np.frombuffer(found.key, np.uint8), bytes_.size)).tobytes()
    if found.kind == "add":
        return (bytes_ - np.resize(np.frombuffer(found.key, np.uint8), bytes_.size)).tobytes()
    chained = bytes_.copy()
    chained[1:] ^= bytes_[:-1]
    return chained.tobytes()


def scramble(data: bytes, found: Scrambling) -> bytes:
    """The bytes hidden again, as `unscramble` found them."""
    bytes_ = np.frombuffer(data, np.uint8)
    if found.kind == "xor":
        return unscramble(data, found)
    if found.kind == "add":
        return (bytes_ + np.resize(np.frombuffer(found.key, np.uint8), bytes_.size)).tobytes()
    return np.bitwise_xor.accumulate(bytes_).tobytes()
