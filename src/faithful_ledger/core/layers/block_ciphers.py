"""Ciphers that games use and the library `cryptography` does not have: Rijndael with blocks of 32 bytes (Daemen and
Rijmen, AES Proposal: Rijndael, 1999), which .NET offers beside AES, and XXTEA (Wheeler and Needham, Correction to xtea,
1998), whose block is all of the message.
"""

from __future__ import annotations

import struct
from functools import cache, lru_cache
from typing import Any, TypeAlias

import numpy as np

__all__ = ["rijndael", "xxtea"]

Array: TypeAlias = np.ndarray[Any, Any]
POLYNOMIAL = 0x11B
SHIFTS = {4: (0, 1, 2, 3), 8: (0, 1, 3, 4)}  # by which the rows of a block of so many columns are turned
MIX, UNMIX = (2, 3, 1, 1), (14, 11, 13, 9)
DELTA, WORD = 0x9E3779B9, 0xFFFFFFFF


def rijndael(data: bytes, key: bytes, vector: bytes, *, seal: bool, size: int = 32) -> bytes:
    """Blocks of `size` bytes under a key of 16, 24 or 32, chained by an initial vector of one block (CBC), or each by
    itself (ECB) where that is empty. The data is a multiple of the block.
    """
    blocks = np.frombuffer(data, np.uint8).reshape(-1, size)
    keys = _round_keys(key, size // 4)
    if not vector:
        return bytes((_encrypted(blocks, keys) if seal else _decrypted(blocks, keys)).tobytes())
    before = np.frombuffer(vector, np.uint8)
    if not seal:
        chained = np.concatenate([before[np.newaxis], blocks[:-1]]) if len(blocks) else blocks
        return bytes((_decrypted(blocks, keys) ^ chained).tobytes())
    sealed = bytearray()
    for block in blocks:
        before = _encrypted((block ^ before)[np.newaxis], keys)[0]
        sealed += before.tobytes()
    return bytes(sealed)


def xxtea(data: bytes, key: bytes, *, seal: bool) -> bytes:
    """A message of whole words, at least two, under a key of 16 bytes; the words are little-endian."""
    words, keys = list(struct.unpack(f"<{len(data) // 4}I", data)), struct.unpack("<4I", key)
    count = len(words)
    rounds = 6 + 52 // count

    def mixed(number: int, before: int, behind: int, total: int) -> int:
        one = (before >> 5 ^ behind << 2 & WORD) + (behind >> 3 ^ before << 4 & WORD)
        return one ^ ((total ^ behind) + (int(keys[number & 3 ^ total >> 2 & 3]) ^ before))

    totals = [DELTA * number & WORD for number in range(1, rounds + 1)]
    for total in totals if seal else reversed(totals):
        for number in range(count) if seal else range(count - 1, -1, -1):
            more = mixed(number, words[number - 1], words[(number + 1) % count], total)
            words[number] = words[number] + (more if seal else -more) & WORD
    return struct.pack(f"<{count}I", *words)


def _times(one: int, other: int) -> int:
    """The product of two polynomials over GF(2), by that of Rijndael."""
    product = 0
    while other:
        product ^= one if other & 1 else 0
        one, other = one << 1 ^ (POLYNOMIAL if one & 0x80 else 0), other >> 1
    return product


@cache
def _boxes() -> tuple[Array, Array]:
    """The substitution of bytes and its reverse: an inverse in GF(2⁸), then an affine map."""
    box = np.zeros(256, np.uint8)
    for byte in range(256):
        inverse = next((other for other in range(256) if _times(byte, other) == 1), 0)
        turned = [(inverse << by | inverse >> 8 - by) & 255 for by in range(5)]
        box[byte] = turned[0] ^ turned[1] ^ turned[2] ^ turned[3] ^ turned[4] ^ 0x63
    return box, np.argsort(box).astype(np.uint8)


@cache
def _products(factors: tuple[int, ...]) -> Array:
    """What each byte in each row adds to its column, times a circulant matrix: 4 × 256 words."""
    table = [[[_times(byte, factors[(row - at) % 4]) for at in range(4)] for byte in range(256)] for row in range(4)]
    return np.array(table, np.uint8).view(np.uint32)[..., 0]


@lru_cache(maxsize=16)
def _round_keys(key: bytes, columns: int) -> Array:
    """A key for each round, in front of the first and behind each."""
    box, own = _boxes()[0], len(key) // 4
    words: list[Array] = list(np.frombuffer(key, np.uint8).reshape(-1, 4))
    constant = 1
    for number in range(own, columns * (max(columns, own) + 7)):
        word: Array = words[-1]
        if number % own == 0:
            word = box[np.roll(word, -1)] ^ np.array([constant, 0, 0, 0], np.uint8)
            constant = _times(constant, 2)
        elif own > 6 and number % own == 4:
            word = box[word]
        words.append(words[number - own] ^ word)
    return np.array(words, np.uint8).reshape(-1, columns * 4)


@cache
def _rows(columns: int, turn: int) -> Array:
    """Which byte comes to each place of a block when its rows are turned."""
    return np.array(
        [(at + turn * SHIFTS[columns][row]) % columns * 4 + row for at in range(columns) for row in range(4)]
    )


def _mixed(blocks: Array, factors: tuple[int, ...]) -> Array:
    """The columns of blocks times a circulant matrix."""
    products = _products(factors)[np.arange(4), blocks.reshape(len(blocks), -1, 4)]
    return np.ascontiguousarray(np.bitwise_xor.reduce(products, axis=-1)).view(np.uint8)


def _encrypted(blocks: Array, keys: Array) -> Array:
    box, rows = _boxes()[0], _rows(blocks.shape[1] // 4, 1)
    state: Array = blocks ^ keys[0]
    for number, key in enumerate(keys[1:], 1):
        state = box[state][:, rows]
        state = (_mixed(state, MIX) if number < len(keys) - 1 else state) ^ key
    return state


def _decrypted(blocks: Array, keys: Array) -> Array:
    box, rows = _boxes()[1], _rows(blocks.shape[1] // 4, -1)
    state: Array = blocks
    for number in range(len(keys) - 1, 0, -1):
        state = state ^ keys[number]
        state = box[(_mixed(state, UNMIX) if number < len(keys) - 1 else state)[:, rows]]
    opened: Array = state ^ keys[0]
    return opened
