"""Where the brackets of a large JSON text are, without an object for any value.

The text is seen as bits, one a byte, 64 in a word (the idea of Langdale and Lemire, "Parsing Gigabytes of JSON per
Second", 2019, with NumPy instead of vector instructions): the inside of strings is the running XOR of the quotation
marks that no backslash takes; brackets and commas outside of it are kept. For each word a lower bound of the nesting
depth within it is kept as well, so that what is nested deeper than what is looked for is passed over by words.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.formats.document import NotBalanced

__all__ = ["JsonIndex"]

Array: TypeAlias = np.ndarray[Any, Any]
STEP = 1 << 18
WORDS = STEP // 64
WIDEST = 1 << 11  # words that are looked at together
QUOTE, BACKSLASH, COMMA = b'"\\,'
OPEN, CLOSE = b"{}"  # with the bit 32 set both kinds of brackets are one


class JsonIndex:
    """The brackets and commas outside of strings, of a text in memory.

    Raises:
        NotBalanced: strings or brackets do not end.
    """

    def __init__(self, data: bytes) -> None:
        self.data = np.frombuffer(data, np.uint8)
        words = (self.data.size + 63) // 64
        self._open, self._close, self._comma = (np.zeros(words, np.uint64) for _ in range(3))
        self._floor = np.zeros(words, np.int32)
        inside = escaped = False
        depth = 0
        for start in range(0, self.data.size, STEP):
            part = slice(start // 64, start // 64 + -(-min(STEP, self.data.size - start) // 64))
            inside, escaped = self._mark(start, part, inside, escaped)
            up = np.bitwise_count(self._open[part]).astype(np.int32)
            down = np.bitwise_count(self._close[part]).astype(np.int32)
            total = np.cumsum(up - down, dtype=np.int32)
            self._floor[part] = total - up + depth
            depth += int(total[-1])
        if inside or depth:
            raise NotBalanced

    def _mark(self, start: int, part: slice, inside: bool, escaped: bool) -> tuple[bool, bool]:
        """Fill in the bits of a stretch; whether a string, and whether a backslash, reaches over its end."""
        text = self.data[start : start + STEP]
        quotes = text == QUOTE
        slashes = np.flatnonzero(text == BACKSLASH)
        if slashes.size or escaped:
            taken, escaped = _taken(slashes, text.size, escaped)
            quotes[taken] = False
        mask = _bits(quotes)
        for shift in (1, 2, 4, 8, 16, 32):
            mask ^= mask << np.uint64(shift)
        odd = np.bitwise_xor.accumulate(mask >> np.uint64(63)).astype(bool)
        turned = np.empty(mask.size, bool)
        turned[0], turned[1:] = inside, odd[:-1] ^ inside
        outside = np.where(turned, mask, ~mask)
        folded = text | 32
        self._open[part] = _bits(folded == OPEN) & outside
        self._close[part] = _bits(folded == CLOSE) & outside
        self._comma[part] = _bits(text == COMMA) & outside
        return bool(odd[-1]) ^ inside, escaped

    def close_of(self, start: int) -> int:
        """The bracket that closes the one at `start`."""
        depth = self._depth_before(start)
        for words in self._words(start // 64, depth):
            at, after, kind = self._marks(words)
            shut = np.flatnonzero((at > start) & (kind < 0) & (after == depth))
            if shut.size:
                return int(at[shut[0]])
        raise NotBalanced

    def level(self, start: int) -> tuple[Array, int]:
        """The commas directly within the bracket at `start`, and the bracket that closes it."""
        *groups, (last, end) = self._commas(start)
        return np.concatenate([*(commas for commas, _ in groups), last]), end

    def between(self, start: int, number: int) -> tuple[int, int] | None:
        """The delimiters around item `number` of the bracket at `start`; None where there are not so many."""
        left, before = number, start
        for commas, end in self._commas(start):
            if left < commas.size:
                return int(commas[left - 1]) if left else before, int(commas[left])
            if commas.size:
                left, before = left - commas.size, int(commas[-1])
            if end >= 0:
                return (before, end) if not left else None
        raise NotBalanced

    def _commas(self, start: int) -> Iterator[tuple[Array, int]]:
        """Groups of commas directly within a bracket; with the last of them the bracket that closes it, else -1."""
        depth = self._depth_before(start) + 1
        for words in self._words(start // 64, depth):
            at, after, kind = self._marks(words)
            behind = at > start
            shut = np.flatnonzero(behind & (kind < 0) & (after == depth - 1))
            commas = at[behind & (kind == 0) & (after == depth)]
            if shut.size:
                end = int(at[shut[0]])
                yield commas[commas < end].astype(np.uint32), end
                return
            yield commas.astype(np.uint32), -1
        raise NotBalanced

    def _words(self, first: int, depth: int) -> Iterator[Array]:
        """The words from one on in which the text is nested no deeper than `depth`, in growing groups."""
        step = 4
        while first < self._floor.size:
            words = first + np.flatnonzero(self._floor[first : first + step] <= depth)
            if words.size:
                yield words
            first, step = first + step, min(step * 4, WIDEST)

    def _depth_before(self, at: int) -> int:
        word, below = at // 64, (1 << at % 64) - 1
        opened, closed = int(self._open[word]), int(self._close[word])
        start = int(self._floor[word]) + closed.bit_count()
        return start + (opened & below).bit_count() - (closed & below).bit_count()

    def _marks(self, words: Array) -> tuple[Array, Array, Array]:
        """The brackets and commas of some words: offsets, the depth behind each, and +1, -1 or 0 for a comma."""
        opened, closed = self._open[words], self._close[words]
        every = opened | closed | self._comma[words]
        bit = np.flatnonzero(np.unpackbits(every.view(np.uint8), bitorder="little"))
        row = bit // 64
        at = words[row] * 64 + bit % 64
        letter = self.data[at] | 32
        kind = (letter == OPEN).astype(np.int32) - (letter == CLOSE)
        total = np.cumsum(kind, dtype=np.int64)
        count = np.bitwise_count(every).astype(np.int64)
        first = np.cumsum(count) - count
        before = np.concatenate([[0], total])[first]
        start = self._floor[words].astype(np.int64) + np.bitwise_count(closed)
        return at, total + (start - before)[row], kind


def _bits(mask: Array) -> Array:
    packed = np.packbits(mask, bitorder="little")
    missing = -packed.size % 8
    return (np.concatenate([packed, np.zeros(missing, np.uint8)]) if missing else packed).view(np.uint64)


def _taken(slashes: Array, size: int, escaped: bool) -> tuple[Array, bool]:
    """The offsets of what backslashes take: in a row of them every second one, and what follows an odd number."""
    at = np.concatenate([[-1], slashes]) if escaped else slashes
    first = np.ones(at.size, bool)
    first[1:] = at[1:] != at[:-1] + 1
    begin = np.maximum.accumulate(np.where(first, at, -2))
    taken = at[(at - begin) % 2 == 0] + 1
    return taken[taken < size], bool(taken.size and taken[-1] == size)
