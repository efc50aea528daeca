"""Hashes: short ones that games write themselves, and digests of libraries.

FNV is that of Fowler, Noll and Vo; one-at-a-time and the multiply-by-33 and -31 hashes are as their authors published
them (Jenkins, 1997; Bernstein; Kernighan and Ritchie, 1988, for 31; 65599 is that of the ndbm substitute sdbm).
"""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Callable, Iterable, Mapping
from types import MappingProxyType
from typing import Any, NamedTuple

__all__ = ["DIGESTS", "HASHES", "Hash", "digest"]

SMALL = 256  # bytes that are not worth an array
M32, M64 = (1 << 32) - 1, (1 << 64) - 1


class Hash(NamedTuple):
    """`multiplier` where a byte does: state × multiplier + byte, modulo 2³²; else 0."""

    bits: int
    compute: Callable[[Iterable[memoryview], int], int]
    start: int = 0
    multiplier: int = 0


def _multiplied(multiplier: int) -> Hash:
    def compute(chunks: Iterable[memoryview], state: int) -> int:
        for chunk in chunks:
            if len(chunk) > SMALL:
                import numpy as np

                data = np.frombuffer(chunk, np.uint8).astype(np.uint32)
                factors = np.full(data.size, multiplier, np.uint32)
                factors[0] = 1
                powers = np.multiply.accumulate(factors, dtype=np.uint32)
                total = int((data[::-1] * powers).sum(dtype=np.uint64))
                state = state * int(powers[-1]) * multiplier + total & M32
                continue
            for byte in chunk:
                state = state * multiplier + byte & M32
        return state

    return Hash(32, compute, {33: 5381}.get(multiplier, 0), multiplier)


def _mixed(prime: int, start: int, mask: int, *, multiply_first: bool) -> Hash:
    def compute(chunks: Iterable[memoryview], state: int) -> int:
        for chunk in chunks:
            for byte in chunk:
                state = (state * prime & mask) ^ byte if multiply_first else (state ^ byte) * prime & mask
        return state

    return Hash(mask.bit_length(), compute, start)


def _one_at_a_time(chunks: Iterable[memoryview], state: int) -> int:
    for chunk in chunks:
        for byte in chunk:
            state = state + byte & M32
            state = state + (state << 10) & M32
            state ^= state >> 6
    state = state + (state << 3) & M32
    state ^= state >> 11
    return state + (state << 15) & M32


def _xxhash(bits: int) -> Hash:
    def compute(chunks: Iterable[memoryview], seed: int) -> int:
        import xxhash

        running = (xxhash.xxh32 if bits == 32 else xxhash.xxh64)(seed=seed)
        for chunk in chunks:
            running.update(bytes(chunk))
        return int(running.intdigest())

    return Hash(bits, compute)


def _murmur(chunks: Iterable[memoryview], seed: int) -> int:
    import mmh3

    return int(mmh3.hash(b"".join(chunks), seed, signed=False))


HASHES: Mapping[str, Hash] = MappingProxyType(
    {
        "fnv-1-32": _mixed(0x01000193, 0x811C9DC5, M32, multiply_first=True),
        "fnv-1a-32": _mixed(0x01000193, 0x811C9DC5, M32, multiply_first=False),
        "fnv-1-64": _mixed(0x100000001B3, 0xCBF29CE484222325, M64, multiply_first=True),
        "fnv-1a-64": _mixed(0x100000001B3, 0xCBF29CE484222325, M64, multiply_first=False),
        "djb2": _multiplied(33),
        "djb2-xor": _mixed(33, 5381, M32, multiply_first=True),
        "times-31": _multiplied(31),
        "times-65599": _multiplied(65_599),
        "one-at-a-time": Hash(32, _one_at_a_time),
        "xxhash-32": _xxhash(32),
        "xxhash-64": _xxhash(64),
        "murmur3-32": Hash(32, _murmur),
    }
)

DIGESTS: Mapping[str, str] = MappingProxyType(
    {
        "md5": "md5",
        "sha-1": "sha1",
        "sha-224": "sha224",
        "sha-256": "sha256",
        "sha-384": "sha384",
        "sha-512": "sha512",
        "sha3-224": "sha3_224",
        "sha3-256": "sha3_256",
        "sha3-384": "sha3_384",
        "sha3-512": "sha3_512",
        "blake2s": "blake2s",
        "blake2b": "blake2b",
    }
)
"""Digests by name, each with its name in hashlib."""


def digest(name: str, chunks: Iterable[memoryview], key: bytes = b"") -> bytes:
    """A digest; with a key, the HMAC (RFC 2104) that is made with it."""
    known = DIGESTS[name]
    running: Any = hmac.new(key, digestmod=known) if key else hashlib.new(known, usedforsecurity=False)
    for chunk in chunks:
        running.update(chunk)
    found: bytes = running.digest()
    return found
