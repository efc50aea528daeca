"""Sums over any range of one content as differences of running sums, for those that have words and two sums."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.seals.algorithms import own_bytes
from faithful_ledger.core.seals.finder.kept import NUMBER, Kept
from faithful_ledger.core.seals.finder.rings import Ranges
from faithful_ledger.core.seals.sums import SUMS, Sum, folded

__all__ = ["RunningSums"]

Array: TypeAlias = np.ndarray[Any, Any]
LARGEST = 4 << 20  # bytes; the weighted sums of more would not fit into 64 bits
ADLER = 65_521
MOST_KEPT = 3 << 25  # bytes of running sums


class _Added(NamedTuple):
    """Of a piece, or of many, the words added up, the same with each as often as words follow it and once more, and how
    many there are.
    """

    total: Any
    weighted: Any
    words: Any


class RunningSums:
    """The running sums of a content, made when they are first needed: by word size, order, and where words begin."""

    def __init__(self, content: bytes) -> None:
        self.content = content
        self._sums: Kept[tuple[object, ...], Array] = Kept(MOST_KEPT)

    def number(self, name: str, start: int, end: int, at: int, size: int, own: str | None) -> int | None:
        """The sum of a name over [start, end), in which `size` bytes at an offset are seen as `own`; None where only
        adding it up can say it.
        """
        kind = SUMS[name]
        pieces = self._pieces(kind.word, start, end, at, size, own)
        if len(self.content) > LARGEST or pieces is None:
            return None
        return int(_combined(kind, [self._piece(kind, piece) for piece in pieces]))

    def plain(self, name: str, starts: Array, ends: Array) -> Array:
        """The same over many ranges [starts[k], ends[k]) at once, as 64-bit numbers."""
        found: Array = _combined(SUMS[name], [self._added(SUMS[name], starts, ends)])
        return found

    def seen(self, name: str, over: Ranges) -> tuple[Array, Array]:
        """The same with what each range sees in some of its bytes, where words meet; and of which ranges it is so."""
        kind = SUMS[name]
        covers = np.array([own is not None for own in over.owns], bool)
        fills = [own_bytes(own, size) if own else b"" for own, size in zip(over.owns, over.sizes.tolist(), strict=True)]
        known = ~covers | ((over.ats - over.starts) % kind.word == 0)
        known &= np.array([len(fill) % kind.word == 0 for fill in fills], bool)
        if len(self.content) > LARGEST:
            return np.zeros(covers.size, np.uint64), np.zeros(covers.size, bool)
        of_fills = {fill: self._piece(kind, fill) for fill in set(fills)}
        pieces = [
            self._added(kind, over.starts, np.where(covers, over.ats, over.ends)),
            _Added(*np.array([of_fills[fill] for fill in fills], np.uint64).reshape(-1, 3).T),
            self._added(kind, np.where(covers, over.ats + over.sizes, over.ends), over.ends),
        ]
        return _combined(kind, pieces), known

    def _piece(self, kind: Sum, piece: tuple[int, int] | bytes) -> _Added:
        """The words of a span of the content, or of bytes, added up or XORed."""
        return _Added(self._xor(kind, piece), 0, 0) if kind.kind == "xor" else self._summed(kind, piece)

    def _added(self, kind: Sum, starts: Array, ends: Array) -> _Added:
        """The same of many spans at once; zeros fill up what is left at the end of one."""
        whole = np.maximum(ends - starts, 0) // kind.word
        first = starts // kind.word
        last = first + whole
        found = _Added(*np.zeros((3, starts.size), np.uint64))
        lanes = starts % kind.word
        for lane in range(kind.word):
            of_lane: Any = lanes == lane
            if not of_lane.any():
                continue
            if of_lane.all():
                of_lane = slice(None)
            low, high = first[of_lane], last[of_lane]
            if kind.kind == "xor":
                running = self._running_xor(kind, lane)
                found.total[of_lane] = running[high] ^ running[low]
                continue
            running = self._running(kind, lane)
            found.total[of_lane] = running[high] - running[low]
            if kind.is_weighted:
                by_place = self._running(kind, lane, weighted=True)
                products = high.astype(np.uint64) * found.total[of_lane]
                found.weighted[of_lane] = products - (by_place[high] - by_place[low])
        found.words[:] = whole
        left = np.maximum(ends - starts, 0) % kind.word
        if not left.any():
            return found
        rest = np.zeros(starts.size, np.uint64)
        letters = np.frombuffer(self.content + bytes(kind.word), np.uint8)
        for place in range(kind.word - 1):
            shift = 8 * (place if kind.order == "little" else kind.word - 1 - place)
            byte = letters[np.minimum(starts + whole * kind.word + place, letters.size - 1)].astype(np.uint64)
            rest |= np.where(place < left, byte << np.uint64(shift), np.uint64(0))
        total = found.total ^ rest if kind.kind == "xor" else found.total + rest
        weighted = np.where(left > 0, found.weighted + total, found.weighted)
        return _Added(total, weighted, found.words + (left > 0).astype(np.uint64))

    def from_edge(self, name: str, anchor: int, *, is_start: bool) -> tuple[Array, Array]:
        """The other edges of all ranges of whole words that begin, or end, at an offset, and the sums over these; not
        for sums that carry around.
        """
        kind = SUMS[name]
        if len(self.content) > LARGEST:
            return np.zeros(0, np.int64), np.zeros(0, np.uint64)
        fixed, lane = divmod(anchor, kind.word)
        words = (len(self.content) - lane) // kind.word
        others = np.arange(fixed if is_start else 0, (words if is_start else fixed) + 1, dtype=np.uint64)
        span, weighted = slice(int(others[0]), int(others[-1]) + 1), np.zeros(1, np.uint64)
        if kind.kind == "xor":
            running = self._running_xor(kind, lane)
            total = running[span] ^ running[fixed]
        else:
            running = self._running(kind, lane)
            total = running[span] - running[fixed] if is_start else running[fixed] - running[span]
        if kind.is_weighted:
            by_place = self._running(kind, lane, weighted=True)
            if is_start:
                weighted = others * total - (by_place[span] - by_place[fixed])
            else:
                weighted = np.uint64(fixed) * total - (by_place[fixed] - by_place[span])
        between = others - np.uint64(fixed) if is_start else np.uint64(fixed) - others
        edges = others.astype(np.intp) * kind.word + lane
        return edges, _combined(kind, [_Added(total, weighted, between)])

    def _running_xor(self, kind: Sum, lane: int) -> Array:
        def make() -> Array:
            terms = self._terms(kind, lane, weighted=False)
            return np.concatenate(([np.uint64(0)], np.bitwise_xor.accumulate(terms)))

        return self._sums.get(("xor", kind.word, lane), self._size_of(kind), make)

    def _pieces(
        self, word: int, start: int, end: int, at: int, size: int, own: str | None
    ) -> list[tuple[int, int] | bytes] | None:
        """What is covered one behind the other: spans of the content, and bytes; None where words do not meet."""
        if own is None:
            return [(start, end)]
        fill = own_bytes(own, size)
        if (at - start) % word or len(fill) % word:
            return None
        return [(start, at), fill, (at + size, end)]

    def _summed(self, kind: Sum, piece: tuple[int, int] | bytes) -> _Added:
        if isinstance(piece, bytes):
            words = kind.words(piece)
            weights = np.arange(words.size, 0, -1, dtype=np.uint64)
            return _Added(int(words.sum()), int((words * weights).sum()), words.size)
        start, end = piece
        whole = (end - start) // kind.word
        first, last = start // kind.word, start // kind.word + whole
        plain = self._running(kind, start)
        total, weighted = int(plain[last]) - int(plain[first]), 0
        if kind.is_weighted:
            by_place = self._running(kind, start, weighted=True)
            weighted = last * total - (int(by_place[last]) - int(by_place[first]))
        rest = self.content[start + whole * kind.word : end]
        if rest:
            total += self._summed(kind, rest).total
            return _Added(total, weighted + total, whole + 1)
        return _Added(total, weighted, whole)

    def _running(self, kind: Sum, start: int, *, weighted: bool = False) -> Array:
        lane = start % kind.word

        def make() -> Array:
            return np.concatenate(([np.uint64(0)], np.cumsum(self._terms(kind, lane, weighted=weighted))))

        return self._sums.get((weighted, kind.word, kind.order, lane, kind.signed), self._size_of(kind), make)

    def _size_of(self, kind: Sum) -> int:
        return NUMBER * len(self.content) // kind.word

    def _terms(self, kind: Sum, lane: int, *, weighted: bool) -> Array:
        rest = self.content[lane:]
        words = kind.words(rest[: len(rest) // kind.word * kind.word])
        return words * np.arange(words.size, dtype=np.uint64) if weighted else words

    def _xor(self, kind: Sum, piece: tuple[int, int] | bytes) -> int:
        if isinstance(piece, bytes):
            return int(np.bitwise_xor.reduce(kind.words(piece))) if piece else 0
        start, end = piece
        running, whole = self._running_xor(kind, start % kind.word), (end - start) // kind.word
        first = start // kind.word
        rest = self.content[start + whole * kind.word : end]
        return int(running[first + whole]) ^ int(running[first]) ^ self._xor(kind, rest)


def _combined(kind: Sum, pieces: Sequence[_Added]) -> Any:
    """The results over pieces one behind the other: a number, or as many as there are in each."""
    first: Any = kind.start
    if kind.is_weighted:
        half, count = kind.bits // 2, 0
        modulus = {"adler": ADLER, "fletcher": (1 << half) - 1}.get(kind.kind, 1 << kind.bits)
        second, first = first >> half, first & (1 << half) - 1
        for piece in pieces:
            second = (second + first * piece.words + piece.weighted) % modulus
            first, count = (first + piece.total) % modulus, count + piece.words
        if kind.kind == "weighted":  # there each word counts more the later it is
            return (first * (count + kind.first) - second) % modulus
        return second << half | first
    for piece in pieces:
        first = first ^ piece.total if kind.kind == "xor" else first + piece.total
    if kind.kind == "folded":
        return folded(first & 0xFFFFFFFF)
    if kind.kind == "internet":
        while np.any(first >> 16):
            first = (first & 0xFFFF) + (first >> 16)
        return first ^ 0xFFFF
    return first if kind.kind == "xor" else first & (1 << kind.bits) - 1
