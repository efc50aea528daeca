"""Sums and XORs of bytes and words, and the sums of Adler and Fletcher.

Words begin where the covered bytes begin; what is left at the end is a word with zeros behind it. Fletcher's sums are
those of Fletcher (1982), the Internet checksum that of RFC 1071. In a weighted sum each byte counts as often as its
number among the covered ones says, from 1 or from 0. Bytes with a sign (`i8`) are those above 127 less 256, as where
`char` has one.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Any, NamedTuple

if TYPE_CHECKING:
    import numpy as np

__all__ = ["SUMS", "Sum", "byte_sum", "byte_xor", "folded", "words_of"]

POSITIVE = bytes(range(128))
SMALL = 16 << 10  # below this, importing numpy costs more than it saves
Compute = Callable[[Iterable[memoryview], int], int]


class Sum(NamedTuple):
    """`bits` of the result; `word` is the size of what is summed, in bytes, in `order`; `start` the usual start."""

    bits: int
    compute: Compute
    word: int = 1
    order: str = "little"
    start: int = 0
    kind: str = "sum"
    signed: bool = False
    first: int = 1  # the number of the first word, in a weighted sum

    @property
    def is_weighted(self) -> bool:
        """Whether it says where each word is."""
        return self.kind in ("adler", "fletcher", "weighted")

    @property
    def has_differences(self) -> bool:
        """Whether results over any range differ between saves by what their words do. Of a folded one that is only
        known modulo 65,535, as long as nothing was carried away; of a weighted one it depends on where it begins.
        """
        return self.kind not in ("folded", "weighted")

    def words(self, data: bytes) -> np.ndarray[Any, Any]:
        """What is summed of some bytes, modulo 2⁶⁴."""
        words = words_of(data, self.word, self.order)
        return words - (words >> 7 << 8) if self.signed else words


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


def words_of(data: bytes, size: int, order: str = "little") -> np.ndarray[Any, Any]:
    """The words of some bytes as unsigned 64-bit numbers; zeros fill up the last one."""
    import numpy as np

    padded = data + bytes(-len(data) % size)
    return np.frombuffer(padded, f"{'<' if order == 'little' else '>'}u{size}").astype(np.uint64)


def _bytes_summed(bits: int) -> Compute:
    return lambda chunks, start: byte_sum(chunks) + start & (1 << bits) - 1


def _words_summed(bits: int, size: int, order: str) -> Compute:
    def compute(chunks: Iterable[memoryview], start: int) -> int:
        return int(words_of(b"".join(chunks), size, order).sum()) + start & (1 << bits) - 1

    return compute


def _with_signs(bits: int) -> Compute:
    def compute(chunks: Iterable[memoryview], start: int) -> int:
        for chunk in chunks:
            start += byte_sum([chunk]) - 256 * len(chunk.tobytes().translate(None, POSITIVE))
        return start & (1 << bits) - 1

    return compute


def _weighted(bits: int, first: int) -> Compute:
    """Each byte times its number, the first one's being `first`."""

    def compute(chunks: Iterable[memoryview], start: int) -> int:
        import numpy as np

        words = words_of(b"".join(chunks), 1)
        return int((words * np.arange(first, words.size + first, dtype=np.uint64)).sum()) + start & (1 << bits) - 1

    return compute


def _words_xored(size: int) -> Compute:
    def compute(chunks: Iterable[memoryview], start: int) -> int:
        import numpy as np

        words = words_of(b"".join(chunks), size)
        return int(np.bitwise_xor.reduce(words)) ^ start if words.size else start

    return compute


def _words_folded(order: str) -> Compute:
    """The halves of a sum of 32 bits, added."""

    def compute(chunks: Iterable[memoryview], start: int) -> int:
        return folded(_words_summed(32, 4, order)(chunks, start))

    return compute


def folded(total: int) -> int:
    """The two halves of 32 bits added, in 16 bits."""
    return (total >> 16) + (total & 0xFFFF) & 0xFFFF


def _bytes_xored(chunks: Iterable[memoryview], start: int) -> int:
    return byte_xor(chunks) ^ start


def _adler(chunks: Iterable[memoryview], start: int) -> int:
    for chunk in chunks:
        start = zlib.adler32(chunk, start)
    return start


def _fletcher(size: int) -> Compute:
    """Two sums modulo 2 to the power of 8 × size, less one: of the words, and of these sums."""

    def compute(chunks: Iterable[memoryview], start: int) -> int:
        import numpy as np

        words = words_of(b"".join(chunks), size)
        modulus, bits = (1 << 8 * size) - 1, 8 * size
        first, second = start & modulus, start >> bits
        weights = np.arange(words.size, 0, -1, dtype=np.uint64) % np.uint64(modulus)
        weighted = int(((words * weights) % np.uint64(modulus)).sum())
        second = (second + first * words.size + weighted) % modulus
        first = (first + int(words.sum())) % modulus
        return second << bits | first

    return compute


def _internet(chunks: Iterable[memoryview], start: int) -> int:
    total = _words_summed(64, 2, "little")(chunks, start)
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return total ^ 0xFFFF


def _all_sums() -> dict[str, Sum]:
    found = {f"sum{bits}": Sum(bits, _bytes_summed(bits)) for bits in (8, 16, 32)}
    for bits, size in ((16, 2), (32, 2), (32, 4), (64, 4)):
        for order in ("little", "big"):
            name = f"sum{bits}-of-u{8 * size}{order[0]}e"
            found[name] = Sum(bits, _words_summed(bits, size, order), size, order)
    for order in ("little", "big"):
        found[f"sum16-of-u32{order[0]}e-folded"] = Sum(16, _words_folded(order), 4, order, kind="folded")
    for bits in (16, 32):
        found[f"sum{bits}-of-i8"] = Sum(bits, _with_signs(bits), signed=True)
        found[f"weighted-sum{bits}"] = Sum(bits, _weighted(bits, 1), kind="weighted")
        found[f"weighted-sum{bits}-from-0"] = Sum(bits, _weighted(bits, 0), kind="weighted", first=0)
    found["xor8"] = Sum(8, _bytes_xored, kind="xor")
    found |= {f"xor{8 * size}": Sum(8 * size, _words_xored(size), size, kind="xor") for size in (2, 4)}
    found["adler-32"] = Sum(32, _adler, start=1, kind="adler")
    found["fletcher-16"] = Sum(16, _fletcher(1), kind="fletcher")
    found["fletcher-32"] = Sum(32, _fletcher(2), 2, kind="fletcher")
    found["internet"] = Sum(16, _internet, 2, kind="internet")
    return found


SUMS = _all_sums()
