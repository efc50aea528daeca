"""Where two byte runs come together again after bytes came in or went.

Short probes of either side are looked for a little ahead on the other, then further. Where probes say nothing, windows
of eight bytes that stand exactly once on each side (unique anchors, as in patience diff) vote for a shift. How many
bytes are searched is limited by the size of both sides, so that two files with nothing in common cost little.
"""

from __future__ import annotations

from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.scan import windows

__all__ = ["PROBE", "WINDOW", "Budget", "only_place", "resync", "single_windows", "unique_anchors"]

Array: TypeAlias = np.ndarray[Any, Any]
SMALL = 1 << 20  # files up to this size are aligned by anchors first, which see more and cost more
NEAR = (1 << 12, 1 << 16)
FAR = (1 << 21, 1 << 24, 1 << 27)
STEPS = (16, 64, 256, 1000, 3000, 9000, 20_000, 60_000, 150_000)
PROBE = 32
DULL = 6  # a probe with fewer different bytes than this says nothing
ANCHOR_COST = 32  # a window sorted costs about as much as so many searched through
WINDOW = 8
JUDGED = 64
LEAST_VOTES = 4
MOST_ANCHORS = 512


class Budget:
    """How many bytes may still be searched through."""

    def __init__(self, a: Array, b: Array) -> None:
        self.left = (64 << 20) + 6 * (a.size + b.size)

    def spend(self, count: int) -> bool:
        if count > self.left:
            return False
        self.left -= count
        return True


def resync(a: Array, b: Array, i: int, j: int, budget: Budget) -> tuple[int, int] | None:
    """Where both sides come together again next, or None where staying on the diagonal is as good."""
    careful = max(a.size, b.size) <= SMALL
    return (
        (_anchored(a, b, i, j, NEAR[0], budget) if careful else None)
        or _probed(a, b, i, j, NEAR, budget)
        or (_anchored(a, b, i, j, NEAR[0], budget) if not careful else None)
        or _probed(a, b, i, j, FAR[:1], budget)
        or _anchored(a, b, i, j, NEAR[1], budget)
        or _probed(a, b, i, j, FAR[1:], budget)
    )


def _probed(a: Array, b: Array, i: int, j: int, reaches: tuple[int, ...], budget: Budget) -> tuple[int, int] | None:
    """By a short run of one side that stands exactly once ahead on the other; the nearest within the least reach."""
    for reach in reaches:
        if not budget.spend(min(reach, a.size - i) + min(reach, b.size - j)):
            break
        x, y = a[i : i + reach + PROBE].tobytes(), b[j : j + reach + PROBE].tobytes()
        for step in STEPS:
            if step > reach or not budget.spend(len(x) + len(y)):
                break
            found = []
            from_a, from_b = _telling(x, step), _telling(y, step)
            at = only_place(y, x[from_a : from_a + PROBE])
            if at is not None:
                found.append((i + from_a, j + at))
            at = only_place(x, y[from_b : from_b + PROBE])
            if at is not None:
                found.append((i + at, j + from_b))
            for place in sorted(found, key=sum):
                stay = _agreement(a, b, place[0], place[0] + j - i)
                if _agreement(a, b, *place) > stay + 0.1:
                    return place
        if reach >= a.size - i and reach >= b.size - j:
            break
    return None


def _telling(content: bytes, start: int) -> int:
    """The first offset from `start` on that begins no long run of one byte."""
    run = content[start : start + PROBE]
    if len(set(run)) > 1 or not run:
        return start
    rest = np.frombuffer(content, np.uint8)[start:]
    other = rest != rest[0]
    return start + int(other.argmax()) if other.any() else start


def only_place(content: bytes, probe: bytes) -> int | None:
    """Where a probe stands, if its bytes occur once."""
    if len(probe) < PROBE or len(set(probe)) < DULL:
        return None
    at = content.find(probe)
    return at if at >= 0 and content.find(probe, at + 1) < 0 else None


def _anchored(a: Array, b: Array, i: int, j: int, reach: int, budget: Budget) -> tuple[int, int] | None:
    """By the nearest shift that enough anchors vote for: one with more votes may skip what is between."""
    x, y = a[i : i + reach], b[j : j + reach]
    if not budget.spend(ANCHOR_COST * (x.size + y.size)):
        return None
    pairs = unique_anchors(x, y)
    if pairs is None:
        return None
    at_a, at_b = pairs
    shifts = at_b - at_a
    order = np.argsort(at_a + at_b, kind="stable")[:MOST_ANCHORS]
    _, first, votes = np.unique(shifts[order], return_index=True, return_counts=True)
    for number in np.argsort(first, kind="stable"):
        place = i + int(at_a[order[first[number]]]), j + int(at_b[order[first[number]]])
        stay = _agreement(a, b, place[0], place[0] + j - i)
        if votes[number] >= LEAST_VOTES and _agreement(a, b, *place) > stay + 0.1:
            return place
    return None


def _agreement(a: Array, b: Array, i: int, j: int) -> float:
    size = min(JUDGED, a.size - i, b.size - j)
    return float((a[i : i + size] == b[j : j + size]).mean()) if size > 0 else 0.0


def single_windows(data: Array | bytes, size: int) -> tuple[Array, Array]:
    """The windows of 4 or 8 bytes that stand once, as sorted numbers, and where they stand."""
    words, at, counts = np.unique(windows(data, np.dtype(f"<u{size}")), return_index=True, return_counts=True)
    single = counts == 1
    return words[single], at[single]


def unique_anchors(x: Array, y: Array) -> tuple[Array, Array] | None:
    """Offsets of windows that stand exactly once on each side and are not one byte repeated."""
    (words_x, at_x), (words_y, at_y) = single_windows(x, WINDOW), single_windows(y, WINDOW)
    common, ix, iy = np.intersect1d(words_x, words_y, assume_unique=True, return_indices=True)
    telling = common != (common & np.uint64(255)) * np.uint64(0x0101010101010101)
    if not telling.any():
        return None
    return at_x[ix[telling]], at_y[iy[telling]]
