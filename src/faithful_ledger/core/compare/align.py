"""Alignment of two byte runs: what lies where, after bytes were inserted, removed or moved.

The diagonal is followed as long as enough bytes on it agree, so changed bytes stay changed bytes. Where too few agree,
both sides are searched a little ahead, then further, for windows of eight bytes that stand exactly once on each (unique
anchors, as in patience diff); of these the shift that most anchors vote for is taken if it agrees better than staying.
What is left over on both sides in the end is matched once more by unique anchors: those are moved blocks.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import pairwise
from typing import Any, Literal, NamedTuple, TypeAlias

import numpy as np

__all__ = ["Alignment", "Difference", "Run", "align"]

Array: TypeAlias = np.ndarray[Any, Any]
BLOCK = 64
ENOUGH = 48  # bytes of a block that must agree for the diagonal to be believed without a look around
CHUNK = 1 << 18
REACHES = (1 << 12, 1 << 16, 1 << 20, 1 << 23)
WINDOW = 8
JUDGED = 64
LEAST_VOTES = 4
MOST_ANCHORS = 512
LEAST_MOVED = 24
REFINED = 600  # gaps of up to so many bytes are compared byte by byte
LEAST_REFINED = 3


class Run(NamedTuple):
    """`length` bytes at `a` lie at `b` now; single bytes within may have changed."""

    a: int
    b: int
    length: int


class Difference(NamedTuple):
    """Bytes [a0, a1) of the first became [b0, b1) of the second."""

    kind: Literal["replaced", "inserted", "removed", "moved"]
    a0: int
    a1: int
    b0: int
    b1: int


class Alignment:
    """The runs of two byte arrays in the order of the first, and the blocks that moved."""

    def __init__(self, a: Array, b: Array, runs: list[Run], moved: list[Run]) -> None:
        self.a, self.b, self.runs, self.moved = a, b, runs, moved

    def shifts(self) -> Array:
        """For every byte of the first what has to be added to be at its place in the second.

        A byte that was removed gets the shift of the run before it, or of the first run.
        """
        shift = np.zeros(self.a.size, np.int64)
        at = 0
        present = self.runs[0].b - self.runs[0].a if self.runs else 0
        for run in self.runs:
            shift[at : run.a] = present
            present = run.b - run.a
            shift[run.a : run.a + run.length] = present
            at = run.a + run.length
        shift[at:] = present
        for run in self.moved:
            shift[run.a : run.a + run.length] = run.b - run.a
        return shift

    @property
    def equal(self) -> int:
        """How many bytes are the same at their aligned places."""
        return sum(
            int(np.count_nonzero(self.a[r.a : r.a + r.length] == self.b[r.b : r.b + r.length]))
            for r in [*self.runs, *self.moved]
        )

    def differences(self) -> list[Difference]:
        """All that differs, in the order of the first; bytes that only lie elsewhere are not among them."""
        found: list[Difference] = []
        at_a = at_b = 0
        for run in [*self.runs, Run(self.a.size, self.b.size, 0)]:
            found += self._gap(at_a, run.a, at_b, run.b)
            found += _changed(self.a, self.b, run)
            at_a, at_b = run.a + run.length, run.b + run.length
        for run in self.moved:
            found.append(Difference("moved", run.a, run.a + run.length, run.b, run.b + run.length))
            found += _changed(self.a, self.b, run)
        return sorted(found, key=lambda item: (item.a0, item.b0))

    def _gap(self, a0: int, a1: int, b0: int, b1: int) -> Iterator[Difference]:
        """What lies between two runs, without the parts that moved."""
        left = _without(a0, a1, [(run.a, run.a + run.length) for run in self.moved])
        right = _without(b0, b1, [(run.b, run.b + run.length) for run in self.moved])
        if len(left) == 1 and len(right) == 1 and left[0] == (a0, a1) and right[0] == (b0, b1):
            yield Difference("replaced", a0, a1, b0, b1)
            return
        for start, end in left:
            yield Difference("removed", start, end, b0, b0)
        for start, end in right:
            yield Difference("inserted", a1, a1, start, end)


def align(a: Array, b: Array) -> Alignment:
    """Align two arrays of bytes (uint8). Memory stays within a few MiB beyond the arrays themselves."""
    runs: list[Run] = []
    i = j = 0
    while i < a.size and j < b.size:
        length = _follow(a, b, i, j)
        if length:
            runs.append(Run(i, j, length))
        i, j = i + length, j + length
        if i >= a.size or j >= b.size:
            break
        step = _resync(a, b, i, j)
        if step is None:
            stay = min(BLOCK, a.size - i, b.size - j)
            runs.append(Run(i, j, stay))
            i, j = i + stay, j + stay
            continue
        back = _backwards(a, b, i, j, *step)
        i, j = step[0] - back, step[1] - back
    merged = _merged(_refined(a, b, _merged(_trimmed(a, b, runs))))
    return Alignment(a, b, merged, list(_moved(a, b, merged)))


def _follow(a: Array, b: Array, i: int, j: int) -> int:
    """How far the diagonal can be believed from here."""
    length = 0
    while True:
        size = min(CHUNK, a.size - i - length, b.size - j - length)
        if size <= 0:
            return length
        x, y = a[i + length : i + length + size], b[j + length : j + length + size]
        wrong_at = np.flatnonzero(x != y)
        if not wrong_at.size:
            length += size
            continue
        same = np.ones(size, bool)
        same[wrong_at] = False
        whole = size - size % BLOCK
        lost = np.flatnonzero(np.bincount(wrong_at // BLOCK, minlength=1)[: whole // BLOCK] > BLOCK - ENOUGH)
        if lost.size:
            start = int(lost[0]) * BLOCK
            # The shift happened where the last bytes agreed, which may lie in this block or the one before.
            before = max(start - BLOCK, 0)
            stretch = same[before : start + BLOCK]
            wrong = np.flatnonzero(~stretch)
            run_ends = (
                before + int(wrong[np.argmax(np.diff(wrong, append=wrong[-1] + 1) <= 4)]) if wrong.size else start
            )
            return length + min(max(run_ends, before), start + BLOCK)
        length += whole if whole else size
        if whole and size - whole and size < CHUNK:
            rest = same[whole:]
            return length + (rest.size if rest.mean() > ENOUGH / BLOCK else int(np.argmin(rest)))


def _resync(a: Array, b: Array, i: int, j: int) -> tuple[int, int] | None:
    """Where both sides come together again next, or None where staying on the diagonal is as good."""
    for reach in REACHES:
        x, y = a[i : i + reach], b[j : j + reach]
        pairs = _anchors(x, y)
        if pairs is not None:
            at_a, at_b = pairs
            shifts = at_b - at_a
            order = np.argsort(at_a + at_b, kind="stable")[:MOST_ANCHORS]
            _, first, votes = np.unique(shifts[order], return_index=True, return_counts=True)
            # The nearest shift that enough anchors vote for: one with more votes may skip what lies between.
            for number in np.argsort(first, kind="stable"):
                place = i + int(at_a[order[first[number]]]), j + int(at_b[order[first[number]]])
                stay = _agreement(a, b, place[0], place[0] + j - i)
                if votes[number] >= LEAST_VOTES and _agreement(a, b, *place) > stay + 0.1:
                    return place
        if x.size < reach and y.size < reach:
            break
    return None


def _agreement(a: Array, b: Array, i: int, j: int) -> float:
    size = min(JUDGED, a.size - i, b.size - j)
    return float((a[i : i + size] == b[j : j + size]).mean()) if size > 0 else 0.0


def _words(x: Array) -> Array:
    """The eight bytes from each offset as one number."""
    if x.size < WINDOW:
        return np.empty(0, np.uint64)
    words = np.zeros(x.size - WINDOW + 1, np.uint64)
    for place in range(WINDOW):
        words |= x[place : place + words.size].astype(np.uint64) << np.uint64(8 * place)
    return words


def _anchors(x: Array, y: Array) -> tuple[Array, Array] | None:
    """Offsets of windows that stand exactly once on each side and are not one byte repeated."""
    left, right = _words(x), _words(y)
    if not left.size or not right.size:
        return None
    words_x, at_x, count_x = np.unique(left, return_index=True, return_counts=True)
    words_y, at_y, count_y = np.unique(right, return_index=True, return_counts=True)
    single_x, single_y = count_x == 1, count_y == 1
    common, ix, iy = np.intersect1d(words_x[single_x], words_y[single_y], assume_unique=True, return_indices=True)
    dull = common == (common & np.uint64(255)) * np.uint64(0x0101010101010101)
    ix, iy = ix[~dull], iy[~dull]
    if not ix.size:
        return None
    return at_x[single_x][ix], at_y[single_y][iy]


def _backwards(a: Array, b: Array, i: int, j: int, at_a: int, at_b: int) -> int:
    """How many bytes directly before an anchor agree as well, down to where the search began."""
    room = min(at_a - i, at_b - j)
    x, y = a[at_a - room : at_a][::-1], b[at_b - room : at_b][::-1]
    wrong = np.flatnonzero(x != y)
    return int(wrong[0]) if wrong.size else room


def _trimmed(a: Array, b: Array, runs: list[Run]) -> Iterator[Run]:
    """Runs without the bytes at their edges that do not agree."""
    for run in runs:
        same = np.flatnonzero(a[run.a : run.a + run.length] == b[run.b : run.b + run.length])
        if same.size:
            start, end = int(same[0]), int(same[-1]) + 1
            yield Run(run.a + start, run.b + start, end - start)


def _refined(a: Array, b: Array, runs: list[Run]) -> Iterator[Run]:
    """The same runs, and between them those that are too short to have an anchor of their own."""
    from difflib import SequenceMatcher

    at_a = at_b = 0
    for run in [*runs, Run(a.size, b.size, 0)]:
        if 0 < run.a - at_a <= REFINED and 0 < run.b - at_b <= REFINED:
            left, right = a[at_a : run.a].tobytes(), b[at_b : run.b].tobytes()
            for block in SequenceMatcher(None, left, right, autojunk=False).get_matching_blocks():
                if block.size >= LEAST_REFINED:
                    yield Run(at_a + block.a, at_b + block.b, block.size)
        if run.length:
            yield run
        at_a, at_b = run.a + run.length, run.b + run.length


def _merged(runs: Iterable[Run]) -> list[Run]:
    merged: list[Run] = []
    for run in runs:
        last = merged[-1] if merged else None
        if last is not None and run.b - run.a == last.b - last.a:
            merged[-1] = Run(last.a, last.b, run.a + run.length - last.a)
        else:
            merged.append(run)
    return merged


def _moved(a: Array, b: Array, runs: list[Run]) -> Iterator[Run]:
    """Blocks that are left over on both sides and are the same."""
    edges = [Run(0, 0, 0), *runs, Run(a.size, b.size, 0)]
    pairs = list(pairwise(edges))
    left = [(one.a + one.length, two.a) for one, two in pairs if two.a - one.a - one.length >= LEAST_MOVED]
    right = [(one.b + one.length, two.b) for one, two in pairs if two.b - one.b - one.length >= LEAST_MOVED]
    if not left or not right:
        return
    lies_a = np.concatenate([np.arange(start, end) for start, end in left])
    lies_b = np.concatenate([np.arange(start, end) for start, end in right])
    anchors = _anchors(a[lies_a], b[lies_b])
    if anchors is None:
        return
    taken_a, taken_b = np.zeros(a.size + 1, bool), np.zeros(b.size + 1, bool)
    for at_a, at_b in sorted(zip(lies_a[anchors[0]].tolist(), lies_b[anchors[1]].tolist(), strict=True)):
        if taken_a[at_a] or taken_b[at_b]:
            continue
        span_a = next((s, e) for s, e in left if s <= at_a < e)
        span_b = next((s, e) for s, e in right if s <= at_b < e)
        back = min(at_a - span_a[0], at_b - span_b[0])
        ahead = min(span_a[1] - at_a, span_b[1] - at_b)
        x, y = a[at_a - back : at_a + ahead], b[at_b - back : at_b + ahead]
        wrong = np.flatnonzero((x != y) | taken_a[at_a - back : at_a + ahead] | taken_b[at_b - back : at_b + ahead])
        place = int(np.searchsorted(wrong, back))
        start = int(wrong[place - 1]) + 1 if place else 0
        end = int(wrong[place]) if place < wrong.size else back + ahead
        if end - start >= LEAST_MOVED:
            run = Run(at_a - back + start, at_b - back + start, end - start)
            taken_a[run.a : run.a + run.length] = True
            taken_b[run.b : run.b + run.length] = True
            yield run


def _changed(a: Array, b: Array, run: Run) -> Iterator[Difference]:
    """The stretches of a run whose bytes differ; gaps of up to three equal bytes are bridged."""
    wrong = np.flatnonzero(a[run.a : run.a + run.length] != b[run.b : run.b + run.length])
    if not wrong.size:
        return
    for part in np.split(wrong, np.flatnonzero(np.diff(wrong) > 4) + 1):
        start, end = int(part[0]), int(part[-1]) + 1
        yield Difference("replaced", run.a + start, run.a + end, run.b + start, run.b + end)


def _without(start: int, end: int, taken: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """A span without the spans that are taken, in pieces; empty pieces are left out."""
    pieces = []
    for low, high in sorted(taken):
        if high <= start or low >= end:
            continue
        if low > start:
            pieces.append((start, low))
        start = max(start, high)
    if start < end:
        pieces.append((start, end))
    return pieces
