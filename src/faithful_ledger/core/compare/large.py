"""Comparing two sources of any size with a bounded memory.

Equal blocks at both ends are passed over without being kept. What is left in the middle is aligned where it is not too
large; else it is compared at the same offsets, and what moved is not looked for.
"""

from __future__ import annotations

import numpy as np

from faithful_ledger.core.compare.align import Difference, align
from faithful_ledger.core.source import CHUNK, WHOLE, Source, same

__all__ = ["compare_sources"]

MOST_RUNS = 10_000  # differing runs that are listed one by one
CLOSE = 8  # runs with fewer equal bytes between them are listed as one


def compare_sources(a: Source, b: Source) -> tuple[int, list[Difference]]:
    """How many bytes are the same at their aligned places, and what differs."""
    if max(a.size, b.size) <= WHOLE:
        return _aligned(a, b, 0, a.size, b.size)
    front = _equal_front(a, b)
    back = _equal_back(a, b, min(a.size, b.size) - front)
    a_end, b_end = a.size - back, b.size - back
    if max(a_end, b_end) - front <= WHOLE:
        equal, differences = _aligned(a, b, front, a_end, b_end)
    else:
        equal, differences = _at_the_same_offsets(a, b, front, a_end, b_end)
    return equal + front + back, differences


def _aligned(a: Source, b: Source, start: int, a_end: int, b_end: int) -> tuple[int, list[Difference]]:
    left, right = (np.frombuffer(s.read(start, end), np.uint8) for s, end in ((a, a_end), (b, b_end)))
    found = align(left, right)
    moved = [Difference(d.kind, d.a0 + start, d.a1 + start, d.b0 + start, d.b1 + start) for d in found.differences()]
    return found.equal, moved


def _equal_front(a: Source, b: Source) -> int:
    """How many bytes of whole blocks are the same from the beginning."""
    size = min(a.size, b.size)
    at = 0
    while at < size and same(a.read(at, min(at + CHUNK, size)), b.read(at, min(at + CHUNK, size))):
        at = min(at + CHUNK, size)
    return at


def _equal_back(a: Source, b: Source, most: int) -> int:
    """The same from the end, at most so many."""
    found = 0
    while found < most:
        step = min(CHUNK, most - found)
        left = a.read(a.size - found - step, a.size - found)
        right = b.read(b.size - found - step, b.size - found)
        if not same(left, right):
            break
        found += step
    return found


def _at_the_same_offsets(a: Source, b: Source, start: int, a_end: int, b_end: int) -> tuple[int, list[Difference]]:
    """Runs of differing bytes, each at its own offset; what one side has more comes last."""
    equal, runs = 0, list[list[int]]()
    end = min(a_end, b_end)
    for at in range(start, end, CHUNK):
        stop = min(at + CHUNK, end)
        differs = np.frombuffer(a.read(at, stop), np.uint8) != np.frombuffer(b.read(at, stop), np.uint8)
        where = np.flatnonzero(differs)
        equal += stop - at - where.size
        if where.size:
            breaks = np.flatnonzero(np.diff(where) > CLOSE)
            begins, ends = where[np.r_[0, breaks + 1]] + at, where[np.r_[breaks, -1]] + at + 1
            for begin, last in zip(begins.tolist(), ends.tolist(), strict=True):
                if runs and (begin - runs[-1][1] <= CLOSE or len(runs) >= MOST_RUNS):
                    runs[-1][1] = last
                else:
                    runs.append([begin, last])
    found = [Difference("replaced", begin, last, begin, last) for begin, last in runs]
    if a_end > end:
        found.append(Difference("removed", end, a_end, end, end))
    if b_end > end:
        found.append(Difference("inserted", end, end, end, b_end))
    return equal, found
