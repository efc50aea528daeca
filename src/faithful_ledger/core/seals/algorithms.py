"""Checksum algorithms: bytes in chunks to a whole number.

Sums are plain sums of bytes. CRC-32 is the one of ISO-HDLC (polynomial 0x04C11DB7, reflected), CRC-16 that of XMODEM
(polynomial 0x1021, start 0); Adler-32 is from RFC 1950. zlib and binascii of the standard library do the work.
"""

from __future__ import annotations

import binascii
import zlib
from collections.abc import Callable, Iterable, Mapping
from types import MappingProxyType

__all__ = ["ALGORITHMS", "Algorithm"]

Algorithm = Callable[[Iterable[memoryview]], int]

SMALL = 16 << 10  # below this, importing numpy costs more than it saves


def byte_sum(chunks: Iterable[memoryview]) -> int:
    total = 0
    for chunk in chunks:
        if len(chunk) <= SMALL:
            total += sum(chunk)
        else:
            import numpy

            # The dot product of bytes with ones, eight at a time, is faster than numpy's own widening sum.
            whole = len(chunk) & ~7
            words = numpy.frombuffer(chunk[:whole], numpy.uint64)
            pairs = (words & 0x00FF00FF00FF00FF) + (words >> numpy.uint64(8) & 0x00FF00FF00FF00FF)
            total += int(pairs.view(numpy.uint16).sum(dtype=numpy.uint64)) + sum(chunk[whole:])
    return total


def byte_xor(chunks: Iterable[memoryview]) -> int:
    result = 0
    for chunk in chunks:
        if len(chunk) <= SMALL:
            for byte in chunk:
                result ^= byte
        else:
            import numpy

            result ^= int(numpy.bitwise_xor.reduce(numpy.frombuffer(chunk, numpy.uint8)))
    return result


def _summed(bits: int) -> Algorithm:
    def algorithm(chunks: Iterable[memoryview]) -> int:
        return byte_sum(chunks) & ((1 << bits) - 1)

    return algorithm


def _running(step: Callable[[memoryview, int], int], start: int) -> Algorithm:
    def algorithm(chunks: Iterable[memoryview]) -> int:
        value = start
        for chunk in chunks:
            value = step(chunk, value)
        return value

    return algorithm


ALGORITHMS: Mapping[str, Algorithm] = MappingProxyType(
    {
        "sum8": _summed(8),
        "sum16": _summed(16),
        "sum32": _summed(32),
        "xor8": byte_xor,
        "crc-16-xmodem": _running(binascii.crc_hqx, 0),
        "crc-32": _running(zlib.crc32, 0),
        "adler-32": _running(zlib.adler32, 1),
    }
)
