"""What one snapshot holds, with what evidence asks about it again and again: which bytes are rare, and which runs of
bytes stand in it only once.

Windows that stand once on both sides are anchors, as in patience diff (Cohen, 2005). In large contents only those whose
hash ends in zeros are kept, the same ones on every side (winnowing; Schleimer, Wilkerson and Aiken, 2003), so an index
has about `MOST_WINDOWS` entries whatever the size.
"""

from __future__ import annotations

import re
from functools import cached_property
from typing import Any

import numpy as np

from faithful_ledger.core.evidence.reading import Array
from faithful_ledger.core.profile.entropy import entropy
from faithful_ledger.core.scan import windows

__all__ = ["FEW", "UNIT", "Content", "anchors_between"]

UNIT = 16  # sums are in so many parts of a bit, to stay whole numbers
MOST_BITS = 8
MOST_WINDOWS = 1 << 19
FEW = 3  # an old version, or a copy, may lie beside
GOLDEN: dict[int, Any] = {8: np.uint64(0x9E3779B97F4A7C15), 4: np.uint32(0x9E3779B1)}  # multiplicative hashing (Knuth)
SAMPLED, BLOCK = 1 << 19, 1 << 12  # bytes that say how frequent each byte is
LEAST_ALONE, LARGE = 4, 16 << 20
LEAST_ORDER = 300  # bytes beside zeros needed to say which order a save has
CLEARLY = 0.08  # bits
LENGTHS = re.compile(rb"([\x05-\x40])\0(?:\0\0)?([A-Za-z][ -~]{3,})(?![\xC2-\xF4])")  # with their texts


class Content:
    """`data` are bytes, as an array of uint8."""

    def __init__(self, data: Array) -> None:
        self.data = data
        self._once: dict[int, Array] = {}
        self._indexes: dict[int, tuple[Array, Array, Array, Array]] = {}

    @cached_property
    def sample(self) -> Array:
        """All bytes, or of a large content blocks spread over it."""
        if self.data.size <= SAMPLED:
            return self.data
        blocks = self.data[: self.data.size // BLOCK * BLOCK].reshape(-1, BLOCK)
        chosen: Array = blocks[:: max(blocks.shape[0] * BLOCK // SAMPLED, 1)].ravel()
        return chosen

    @cached_property
    def rarity(self) -> Array:
        """For each value of a byte how rare it is, in parts of a bit; zeros count half."""
        counts = np.bincount(self.sample, minlength=256) + 0.5
        bits = -np.log2(counts / counts.sum())
        bits[0] /= 2
        parts: Array = (np.clip(bits, 0.1, MOST_BITS) * UNIT).astype(np.int32)
        return parts

    @cached_property
    def order(self) -> str:
        """The byte order most numbers seem to have, “le” or “be”, or nothing.

        The lowest byte of a number varies most. Where single zeros are followed or preceded by other bytes, it is on
        that side. In a content with few of them the lengths of texts say it, where zeros are between them and the text.
        """
        data = self.sample
        zero = data == 0
        if zero.size < 64:
            return ""
        behind = np.flatnonzero(zero[:-2] & zero[1:-1] & ~zero[2:]) + 2
        before = np.flatnonzero(~zero[:-2] & zero[1:-1] & zero[2:])
        if behind.size < LEAST_ORDER or before.size < LEAST_ORDER:
            lengths = LENGTHS.finditer(data.tobytes())
            return "le" if any(match[1][0] in (len(match[2]), len(match[2]) + 1) for match in lengths) else ""
        difference = entropy(data[before]) - entropy(data[behind])
        return "le" if difference > CLEARLY else "be" if difference < -CLEARLY else ""

    def only(self, run: bytes) -> int | None:
        """Where a run stands, if it is long enough to say something, and stands once."""
        if len(run) < LEAST_ALONE or self.data.size > LARGE:
            return None
        at = self.bytes_.find(run)
        return at if at >= 0 and self.bytes_.find(run, at + 1) < 0 else None

    @cached_property
    def bytes_(self) -> bytes:
        return self.data.tobytes()

    def windows(self, size: int) -> tuple[Array, Array, Array]:
        """The windows of 4 or 8 bytes that stand at most `FEW` times, as sorted numbers without doubles; how often each
        stands; and the number of its first offset in `offsets`.
        """
        return self._index(size)[:3]

    def offsets(self, size: int) -> Array:
        """The offsets of all windows, in the order of their numbers."""
        return self._index(size)[3]

    def _index(self, size: int) -> tuple[Array, Array, Array, Array]:
        if size not in self._indexes:
            words = windows(self.data, np.dtype(f"<u{size}"))
            at = np.arange(words.size)
            sparse = (words.size // MOST_WINDOWS).bit_length()
            if sparse:
                at = np.concatenate([_sampled(words, start, size, sparse) for start in range(0, at.size, MOST_WINDOWS)])
                words = words[at]
            order = np.argsort(words, kind="stable")
            words, at = words[order], at[order]
            first = np.flatnonzero(np.append(True, words[1:] != words[:-1])) if words.size else at
            counts = np.diff(np.append(first, words.size))
            different = words[first]
            telling = different != (different & different.dtype.type(255)) * different.dtype.type(int("01" * size, 16))
            kept = (counts <= FEW) & telling
            self._indexes[size] = different[kept], counts[kept], first[kept], at
        return self._indexes[size]

    def once(self, size: int) -> Array:
        """The offsets of windows that stand once, in order."""
        if size not in self._once:
            _, counts, first = self.windows(size)
            self._once[size] = np.sort(self.offsets(size)[first[counts == 1]])
        return self._once[size]

    def stands_once(self, size: int, offsets: Array) -> Array:
        """Of offsets, whether a window that stands once begins there, as far as the index knows."""
        order = self.once(size)
        found = np.searchsorted(order, offsets)
        hit: Array = order[np.minimum(found, max(order.size - 1, 0))] == offsets if order.size else offsets < 0
        return hit


def _sampled(words: Array, start: int, size: int, sparse: int) -> Array:
    """The offsets from `start` on whose windows' hashes begin with so many zeros."""
    hashes = words[start : start + MOST_WINDOWS] * GOLDEN[size]
    found: Array = np.flatnonzero(hashes >> hashes.dtype.type(8 * size - sparse) == 0) + start
    return found


def anchors_between(here: Content, there: Content, size: int, most: int = 1) -> tuple[Array, Array]:
    """Offsets of windows that stand exactly once in both, in the order of the first; with `most` those that stand up to
    so many times, but not once in both, each here with each there.
    """
    (mine, my_counts, my_first), (theirs, their_counts, their_first) = here.windows(size), there.windows(size)
    _, i, j = np.intersect1d(mine, theirs, assume_unique=True, return_indices=True)
    once = (my_counts[i] == 1) & (their_counts[j] == 1)
    found: list[tuple[Array, Array]] = []
    for m in range(most):
        for n in range(most):
            kept = once if most == 1 else ~once & (my_counts[i] > m) & (their_counts[j] > n)
            found.append((here.offsets(size)[my_first[i[kept]] + m], there.offsets(size)[their_first[j[kept]] + n]))
    at, other = (np.concatenate(part) for part in zip(*found, strict=True))
    order = np.argsort(at, kind="stable")
    return at[order], other[order]
