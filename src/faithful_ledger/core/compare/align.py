"""Alignment of two byte runs: what is where, after bytes were inserted, removed or moved.

The diagonal is followed as long as enough bytes on it agree, so changed bytes stay changed bytes. Where too few agree,
both sides are searched for where they come together again (resync.py); a shift is taken if it agrees better than
staying. What is left over on both sides in the end is matched once more: moved blocks.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import cached_property
from itertools import pairwise
from typing import Any, Literal, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.compare.resync import PROBE, WINDOW, Budget, only_place, resync, unique_anchors

__all__ = ["Alignment", "Difference", "Run", "align"]

Array: TypeAlias = np.ndarray[Any, Any]
Span: TypeAlias = tuple[int, int]
BLOCK = 64
ENOUGH = 48  # bytes of a block that must agree for the diagonal to be believed without a look around
NEARLY_ALL = 62  # of a block before an anchor: where zeros are many, half agrees by chance
FIRST_CHUNK, CHUNK = 1 << 13, 1 << 16
LARGEST_STAY = 1 << 16
LEAST_SHARED = 0.1  # of the bytes where nothing better is found; fewer agree by chance
LEAST_MOVED = 24
MOST_WINDOWS = 1 << 17
MOVED_PROBES = 4
MOST_MOVED_SPANS = 256
REFINED = 600  # gaps of up to so many bytes on both sides are compared byte by byte
DENSE = 4  # so many bytes that differ close together may have come in
LONGEST_SLIDE = 64
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

    @cached_property
    def stretches(self) -> list[Run]:
        """What has to be added for every byte of the first, in stretches that cover it all; a byte that was removed
        goes with the run before it, or with the first one. Moved blocks come last and count before the others.
        """
        found: list[Run] = []
        at = 0
        shift = self.runs[0].b - self.runs[0].a if self.runs else 0
        for run in self.runs:
            found.append(Run(at, at + shift, run.a - at))
            shift, at = run.b - run.a, run.a
        found.append(Run(at, at + shift, self.a.size - at))
        return [*(part for part in found if part.length), *self.moved]

    def place_of(self, offset: int) -> int:
        """Where a byte of the first is in the second; it may be outside where nothing is left."""
        return next(o for o in (p.b + offset - p.a for p in reversed(self.stretches) if 0 <= offset - p.a < p.length))

    def rebased(self) -> Array:
        """The second laid out as the first: at each offset of the first the byte that became of it, else its own."""
        out = self.a.copy()
        for part in self.stretches:
            low, high = max(-part.b, 0), min(part.length, self.b.size - part.b)
            if low < high:
                out[part.a + low : part.a + high] = self.b[part.b + low : part.b + high]
        return out

    @property
    def equal(self) -> int:
        """How many bytes are the same at their aligned places."""
        return sum(_same_in(self.a, self.b, run) for run in [*self.runs, *self.moved])

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
        """What is between two runs, without the parts that moved."""
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
    budget = Budget(a, b)
    i = j = 0
    stay = BLOCK
    while i < a.size and j < b.size:
        length = _follow(a, b, i, j)
        if length:
            runs.append(Run(i, j, length))
        i, j = i + length, j + length
        if i >= a.size or j >= b.size:
            break
        step = resync(a, b, i, j, budget)
        if step is None:
            length = min(stay, a.size - i, b.size - j)
            if np.count_nonzero(a[i : i + length] == b[j : j + length]) >= LEAST_SHARED * length:
                runs.append(Run(i, j, length))
            i, j = i + length, j + length
            stay = min(2 * stay, LARGEST_STAY)
            continue
        stay = BLOCK
        back = _backwards(a, b, i, j, *step)
        i, j = step[0] - back, step[1] - back
    merged = _merged(_slid(a, b, _merged(_refined(a, b, _merged(_trimmed(a, b, runs))))))
    return Alignment(a, b, merged, list(_moved(a, b, merged)))


def _follow(a: Array, b: Array, i: int, j: int, enough: int = ENOUGH) -> int:
    """How far the diagonal can be believed from here: `enough` bytes of each block agree."""
    length, chunk = 0, FIRST_CHUNK
    while True:
        size = min(chunk, a.size - i - length, b.size - j - length)
        if size <= 0:
            return length
        x, y = a[i + length : i + length + size], b[j + length : j + length + size]
        wrong_at = np.flatnonzero(x != y)
        if not wrong_at.size:
            length += size
            chunk = min(4 * chunk, CHUNK)
            continue
        whole = size - size % BLOCK
        lost = wrong_at[:0]
        if wrong_at.size > BLOCK - enough:  # else no block can have that many
            lost = np.flatnonzero(np.bincount(wrong_at // BLOCK, minlength=1)[: whole // BLOCK] > BLOCK - enough)
        if lost.size:
            start = int(lost[0]) * BLOCK
            # The shift happened where the last bytes agreed, which may lie in this block or the one before.
            before = max(start - BLOCK, 0)
            wrong = wrong_at[(wrong_at >= before) & (wrong_at < start + BLOCK)]
            run_ends = int(wrong[np.argmax(np.diff(wrong, append=wrong[-1] + 1) <= 4)]) if wrong.size else start
            return length + min(max(run_ends, before), start + BLOCK)
        length += whole if whole else size
        last, chunk = size < chunk, min(4 * chunk, CHUNK)
        if whole and size - whole and last:
            rest = wrong_at[wrong_at >= whole] - whole
            agreed = size - whole - rest.size
            return length + (size - whole if agreed > enough / BLOCK * (size - whole) else int(rest[0]))


def _backwards(a: Array, b: Array, i: int, j: int, at_a: int, at_b: int) -> int:
    """How far the diagonal of an anchor can be believed before it, down to where the search began."""
    room = min(at_a - i, at_b - j)
    return _follow(a[at_a - room : at_a][::-1], b[at_b - room : at_b][::-1], 0, 0, NEARLY_ALL)


def _trimmed(a: Array, b: Array, runs: list[Run]) -> Iterator[Run]:
    """Runs without the bytes at their edges that do not agree."""
    for run in runs:
        x, y = a[run.a : run.a + run.length], b[run.b : run.b + run.length]
        start = _first_same(x, y)
        if start < run.length:
            end = run.length - _first_same(x[::-1], y[::-1])
            yield Run(run.a + start, run.b + start, end - start)


def _first_same(x: Array, y: Array) -> int:
    """The first place where both agree, or their size."""
    for at in range(0, x.size, BLOCK):
        same = x[at : at + BLOCK] == y[at : at + BLOCK]
        if same.any():
            return at + int(same.argmax())
    return int(x.size)


def _refined(a: Array, b: Array, runs: list[Run]) -> Iterator[Run]:
    """The same runs, and between them those that are too short or too dull to have an anchor of their own."""
    at_a = at_b = 0
    for run in [*runs, Run(a.size, b.size, 0)]:
        if at_a < run.a and at_b < run.b:
            gap = at_a, run.a, at_b, run.b
            fillings = [way(a, b, *gap) for way in (_matched, _repeated, _split)]
            yield from max(fillings, key=lambda found: sum(_same_in(a, b, part) for part in found))
        if run.length:
            yield run
        at_a, at_b = run.a + run.length, run.b + run.length


def _slid(a: Array, b: Array, runs: list[Run]) -> Iterator[Run]:
    """The same runs; one that goes over a short insertion into bytes that are all alike is divided there.

    In such bytes a shift does not show, so the run went on without it, and what came in counts as changed.
    """
    for run, following in pairwise([*runs, Run(a.size, b.size, 0)]):
        free = following.a - run.a - run.length, following.b - run.b - run.length
        start = max(run.length - LARGEST_STAY, 0)
        wrong = np.flatnonzero(a[run.a + start : run.a + run.length] != b[run.b + start : run.b + run.length]) + start
        dense = np.flatnonzero(wrong[DENSE:] - wrong[:-DENSE] <= 2 * DENSE) if any(free) else wrong[:0]
        if not dense.size:
            yield run
            continue
        apart = np.flatnonzero(np.diff(wrong[: dense[-1] + 1]) > 2 * DENSE)
        first = int(apart[-1]) + 1 if apart.size else 0
        at, before = int(wrong[first]), wrong.size - first
        best, least = Run(0, 0, 0), before
        for shift in range(1, min(max(free), LONGEST_SLIDE) + 1):
            for step_a, step_b in ((0, shift), (shift, 0)):
                if step_a <= free[0] and step_b <= free[1]:
                    slid = Run(run.a + at + step_a, run.b + at + step_b, run.length - at)
                    lost = slid.length - _same_in(a, b, slid)
                    if lost < least:
                        best, least = slid, lost
        yield from (run._replace(length=at), best) if best.length else (run,)


def _matched(a: Array, b: Array, a0: int, a1: int, b0: int, b1: int) -> list[Run]:
    """Runs of short gaps, compared byte by byte."""
    from difflib import SequenceMatcher

    if (a1 - a0) * (b1 - b0) > REFINED * REFINED:
        return []
    matcher = SequenceMatcher(None, a[a0:a1].tobytes(), b[b0:b1].tobytes(), autojunk=False)
    blocks = [block for block in matcher.get_matching_blocks() if block.size >= LEAST_REFINED]
    return [Run(a0 + block.a, b0 + block.b, block.size) for block in blocks]


def _repeated(a: Array, b: Array, a0: int, a1: int, b0: int, b1: int) -> list[Run]:
    """A stretch of one byte again and again, the longest of either gap: it has no anchor, and is between changes."""
    (start_a, size_a), (start_b, size_b) = _longest_repeat(a[a0:a1]), _longest_repeat(b[b0:b1])
    length = min(size_a, size_b)
    if length >= BLOCK and a[a0 + start_a] == b[b0 + start_b]:
        return [Run(a0 + start_a, b0 + start_b, length)]
    return []


def _split(a: Array, b: Array, a0: int, a1: int, b0: int, b1: int) -> list[Run]:
    """The diagonals before and behind a gap, each as far as it agrees better than the other."""
    size = min(a1 - a0, b1 - b0, LARGEST_STAY)
    before = np.cumsum(a[a0 : a0 + size] == b[b0 : b0 + size])
    behind = np.cumsum((a[a1 - size : a1] == b[b1 - size : b1])[::-1])[::-1]
    agreed = np.concatenate([[0], before]) + np.concatenate([behind, [0]])
    at = int(agreed.argmax())
    return list(_trimmed(a, b, [Run(a0, b0, at), Run(a1 - size + at, b1 - size + at, size - at)]))


def _same_in(a: Array, b: Array, run: Run) -> int:
    return int(np.count_nonzero(a[run.a : run.a + run.length] == b[run.b : run.b + run.length]))


def _longest_repeat(x: Array) -> tuple[int, int]:
    """Where the longest run of one byte begins, and how long it is."""
    edges = np.concatenate([[0], np.flatnonzero(x[1:] != x[:-1]) + 1, [x.size]])
    sizes = np.diff(edges)
    longest = int(sizes.argmax())
    return int(edges[longest]), int(sizes[longest])


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
    taken_a: list[tuple[int, int]] = []
    taken_b: list[tuple[int, int]] = []
    for at_a, at_b in _moved_anchors(a, b, left, right):
        span_a, span_b = _free_around(at_a, left, taken_a), _free_around(at_b, right, taken_b)
        if span_a is None or span_b is None:
            continue
        back = min(at_a - span_a[0], at_b - span_b[0])
        ahead = min(span_a[1] - at_a, span_b[1] - at_b)
        wrong = np.flatnonzero(a[at_a - back : at_a + ahead] != b[at_b - back : at_b + ahead])
        place = int(np.searchsorted(wrong, back))
        start = int(wrong[place - 1]) + 1 if place else 0
        end = int(wrong[place]) if place < wrong.size else back + ahead
        if end - start >= LEAST_MOVED:
            run = Run(at_a - back + start, at_b - back + start, end - start)
            taken_a.append((run.a, run.a + run.length))
            taken_b.append((run.b, run.b + run.length))
            yield run


def _free_around(at: int, spans: list[Span], taken: list[Span]) -> Span | None:
    """The stretch around an offset that is within one of the spans and in nothing that is taken; None in none."""
    start, end = next((s, e) for s, e in spans if s <= at < e)
    for low, high in taken:
        if low <= at < high:
            return None
        start, end = (max(start, high), end) if high <= at else (start, min(end, low))
    return start, end


def _moved_anchors(a: Array, b: Array, left: list[Span], right: list[Span]) -> Iterator[tuple[int, int]]:
    """Offsets of the same bytes in what is left over: every unique window of little, probes of much."""
    if sum(end - start for start, end in left) + sum(end - start for start, end in right) <= MOST_WINDOWS:
        lies_a = np.concatenate([np.arange(start, end) for start, end in left])
        lies_b = np.concatenate([np.arange(start, end) for start, end in right])
        anchors = unique_anchors(a[lies_a], b[lies_b])
        if anchors is not None:
            at_a, at_b = lies_a[anchors[0]], lies_b[anchors[1]]
            for step in range(WINDOW, LEAST_MOVED, WINDOW):  # of a block that is long enough, one window goes on so
                at_a, at_b = _going_on(a, b, at_a, at_b, step)
            yield from sorted(zip(at_a.tolist(), at_b.tolist(), strict=True))
        return
    content = b"".join(b[start:end].tobytes() for start, end in right)
    begins = np.cumsum([0, *(end - start for start, end in right)])
    for start, end in left[:MOST_MOVED_SPANS]:
        for at in range(start, end - PROBE, max((end - start) // MOVED_PROBES, PROBE)):
            found = only_place(content, a[at : at + PROBE].tobytes())
            if found is not None:
                number = int(np.searchsorted(begins, found, side="right")) - 1
                yield at, right[number][0] + found - int(begins[number])


def _going_on(a: Array, b: Array, at_a: Array, at_b: Array, step: int) -> tuple[Array, Array]:
    """Those pairs of offsets at which a window `step` bytes further is the same as well."""
    for place in range(step, step + WINDOW):
        inside = (at_a + place < a.size) & (at_b + place < b.size)
        at_a, at_b = at_a[inside], at_b[inside]
        same = a[at_a + place] == b[at_b + place]
        at_a, at_b = at_a[same], at_b[same]
    return at_a, at_b


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
