"""Arrays of polynomials over GF(2) modulo one of them, in the reflected order of a CRC's register: the highest bit of
the register is the constant term. A polynomial of a lower degree than the register has bits stays in its low bits.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any, TypeAlias

import numpy as np

__all__ = ["folded", "looked_up", "product", "tables", "times_x"]

Array: TypeAlias = np.ndarray[Any, Any]
AT_ONCE = 1 << 14
FEW = 64  # words that are not worth folding


def times_x(number: int, polynomial: int) -> int:
    return number >> 1 ^ polynomial if number & 1 else number >> 1


def product(a: int, b: int, polynomial: int, bits: int) -> int:
    """The product of two polynomials."""
    result, bit = 0, 1 << bits - 1
    while b:
        if b & bit:
            result ^= a
            b ^= bit
        a = a >> 1 ^ polynomial if a & 1 else a >> 1  # times x
        bit >>= 1
    return result


def tables(factor: int, polynomial: int, bits: int) -> Array:
    """For each byte of a number, the lowest first, what every value of it adds to the product with a factor: one row of
    256 for each.
    """
    kind, lanes = (np.uint32 if bits <= 32 else np.uint64), -(-bits // 8)
    by_bit = []
    for _ in range(bits):
        by_bit.append(factor)
        factor = times_x(factor, polynomial)
    ranks = np.array([0] * (8 * lanes - bits) + by_bit, kind)[::-1].reshape(lanes, 8)
    found = np.zeros((lanes, 256), kind)
    for rank in range(8):
        np.bitwise_xor(found[:, : 1 << rank], ranks[:, rank, None], out=found[:, 1 << rank : 2 << rank])
    return found


def looked_up(every: Array, lanes: Array, rows: Array | None = None) -> Array:
    """The XOR over all lanes of what each lane's table has for its part, with `rows` for its part in a row; by parts,
    so that the places stay near the processor.
    """
    found: Array = np.empty(len(lanes), every.dtype)
    for start in range(0, len(lanes), AT_ONCE):
        stop = min(start + AT_ONCE, len(lanes))
        part, rest = found[start:stop], np.empty_like(found[start:stop])
        first = rows[start:stop].astype(np.intp) << 8 if rows is not None else 0
        for lane, table in enumerate(every):
            np.take(table, lanes[start:stop, lane] + first, out=rest if lane else part, mode="clip")
            if lane:
                part ^= rest
    return found


def folded(data: bytes, polynomial: int, bits: int) -> bytes:
    """Few bytes that leave a register that was zero as `data` does, which is a multiple of eight bytes.

    The data is a polynomial of words; its first half, multiplied by what it is away, is added to its second half, and
    so on (Gopal et al., 2009, who multiply without carry where this looks products up).
    """
    wide = 32 if bits <= 32 else 64
    words: Array = np.frombuffer(data, f"<u{wide // 8}")
    level = (words.size - 1).bit_length() - 1
    while words.size > FEW:
        before, words = words[: -1 << level], words[-1 << level :].copy()
        lanes = np.ascontiguousarray(before).view("u1").reshape(before.size, -1)
        words[-before.size :] ^= looked_up(_folding(level, polynomial, wide), lanes)
        level -= 1
    return words.tobytes()


@lru_cache(maxsize=256)
def _folding(level: int, polynomial: int, bits: int) -> Array:
    return tables(_over_words(level, polynomial, bits), polynomial, bits)


@lru_cache(maxsize=256)
def _over_words(level: int, polynomial: int, bits: int) -> int:
    """What a word is multiplied with that 2 ** level words follow."""
    if level:
        before = _over_words(level - 1, polynomial, bits)
        return product(before, before, polynomial, bits)
    power = 1 << bits - 1
    for _ in range(bits):
        power = times_x(power, polynomial)
    return power
