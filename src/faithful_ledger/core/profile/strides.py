"""Records of one size in a row: bytes one record apart are equal more often than bytes at other distances.

For every lag the equal bytes are counted in windows of a few KiB. In each window the smallest lag that agrees nearly as
well as the best is its fundamental, and counts only when its multiples agree as well (a comb). Windows vote.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, TypeAlias

import numpy as np

__all__ = ["Stride", "find_strides"]

Array: TypeAlias = np.ndarray[Any, Any]
LEAST, MOST = 8, 200
LAGS = 400
WINDOW = 4096
LOOKED_AT, LOOKED_AT_LARGE = 5 << 16, 1 << 18
LARGE = 16 << 20
NEAR = 0.86
COMB = 0.6
LEAST_AGREEMENT = 0.02
LEAST_RECORDS = 8
MOST_FOUND = 3


@dataclass(frozen=True, slots=True)
class Stride:
    """About `count` records of `stride` bytes from `offset` on; the edges are known to a window's accuracy."""

    offset: int
    stride: int
    count: int


def find_strides(data: bytes) -> list[Stride]:
    """Arrays of records, the surest first."""
    bytes_ = np.frombuffer(data, np.uint8)
    window = WINDOW
    while window > 512 and bytes_.size < 4 * window:
        window //= 2
    looked_at = LOOKED_AT if bytes_.size <= LARGE else LOOKED_AT_LARGE
    step = max(bytes_.size // looked_at, 1) * window  # of a large file, windows spread over it
    windows = -(-max(bytes_.size - window + 1, 0) // step)
    if not windows:
        return []
    agreement = _agreement(bytes_, window, windows, step)
    best = agreement[LEAST - 1 :].max(axis=0)
    fundamental = (agreement >= NEAR * best).argmax(axis=0) + 1
    usable = (best > LEAST_AGREEMENT) & (fundamental >= LEAST) & (fundamental <= MOST)
    votes = np.zeros(LAGS + 1)
    for number in np.flatnonzero(usable):
        stride = fundamental[number]
        comb = agreement[np.arange(stride, LAGS + 1, stride) - 1, number]
        if comb.min() >= COMB * best[number]:
            votes[stride] += best[number] ** 0.5
    found = []
    for stride in np.argsort(-votes)[:MOST_FOUND]:
        if votes[stride] <= 0.3 * votes.max() or not votes[stride]:
            break
        inside = np.flatnonzero(usable & (fundamental == stride))
        start, end = int(inside[0]) * step, min(int(inside[-1]) * step + window, bytes_.size)
        if (end - start) // stride >= LEAST_RECORDS:
            found.append(Stride(start, int(stride), (end - start) // int(stride)))
    return found


def _agreement(bytes_: Array, window: int, windows: int, step: int) -> Array:
    """How much more often bytes at each lag are equal than at the usual lag, by lag and window, neighbours joined.

    A window is compared with what is up to `LAGS` bytes further; behind the end nothing is equal.
    """
    padded = np.concatenate([bytes_[(windows - 1) * step :], np.zeros(LAGS, np.uint8)])
    rows = np.empty((windows, window + LAGS), np.uint8)
    for number in range(windows):
        part = bytes_[number * step : number * step + window + LAGS]
        rows[number] = part if part.size == window + LAGS else padded[: window + LAGS]
        if part.size < window + LAGS:
            rows[number, part.size :] = ~rows[number, : window + LAGS - part.size]
    counts = np.empty((LAGS, windows), np.float32)
    equal = np.empty((windows, window), bool)
    for lag in range(1, LAGS + 1):
        np.equal(rows[:, :window], rows[:, lag : lag + window], out=equal)
        counts[lag - 1] = np.bitwise_count(equal.view(np.uint64)).sum(axis=1, dtype=np.int64)
    share = counts / window
    above = np.maximum(share - np.median(share, axis=0), 0)
    before = np.pad(above, ((0, 0), (1, 0)))[:, :-1]
    after = np.pad(above, ((0, 0), (0, 1)))[:, 1:]
    joined: Array = (above + before / 2 + after / 2) / 2
    return joined
