"""How evenly bytes are spread over their values."""

from __future__ import annotations

import math
from typing import Any, TypeAlias

import numpy as np

__all__ = ["entropies", "entropy", "entropy_of", "unevenness"]

Array: TypeAlias = np.ndarray[Any, Any]


def entropy(bytes_: Array) -> float:
    """Shannon's entropy of an array of bytes, in bits a byte; 0 of none."""
    return entropy_of(np.bincount(bytes_, minlength=256))


def unevenness(bytes_: Array) -> float:
    """By how many standard deviations of chi-squared bytes are not spread evenly over their values (Pearson, 1900);
    also of a few, whose entropy is never as high as that of many. 0 of none.
    """
    if not bytes_.size:
        return 0.0
    counts = np.bincount(bytes_, minlength=256)
    squared = 256 * int(counts @ counts) / bytes_.size - bytes_.size
    return (squared - 255) / math.sqrt(510)


def entropies(rows: Array) -> Array:
    """The entropy of each row of bytes, for arrays of (rows, bytes)."""
    count, size = rows.shape
    numbered = rows + 256 * np.arange(count, dtype=np.intp)[:, None]
    counts = np.bincount(numbered.ravel(), minlength=256 * count).reshape(count, 256)
    times = np.arange(size + 1)
    weighed = (times * np.log2(np.maximum(times, 1)))[counts]
    found: Array = np.log2(size) - weighed.sum(axis=1) / size
    return found


def entropy_of(counts: Array) -> float:
    """The same from how often each value occurs."""
    some = counts[counts > 0]
    share = some / max(some.sum(), 1)
    return float(-(share * np.log2(share)).sum()) + 0.0
