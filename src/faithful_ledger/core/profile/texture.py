"""The texture of a file: what its stretches are made of, in a fixed number of stretches over the whole."""

from __future__ import annotations

from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.profile.entropy import entropy_of
from faithful_ledger.core.source import Source

__all__ = ["Texture", "histogram", "texture"]

Array: TypeAlias = np.ndarray[Any, Any]
SAMPLE = 4096
SMALL = 16


class Texture(NamedTuple):
    """By stretch the shares (0 to 1) of zeros, readable letters, small numbers and all others, and the entropy in bits
    a byte. A stretch of more than 4096 bytes is judged by its first 4096.
    """

    starts: Array
    zeros: Array
    text: Array
    small: Array
    dense: Array
    entropy: Array


def texture(source: Source, parts: int = 256) -> Texture:
    """Judge at most `parts` stretches of equal length."""
    step = max(-(-source.size // parts), 64)
    starts = np.arange(0, source.size, step)
    rows = []
    for start in starts.tolist():
        counts = np.bincount(np.frombuffer(source.read(start, start + min(step, SAMPLE)), np.uint8), minlength=256)
        share = counts / max(counts.sum(), 1)
        zeros, text, small = share[0], share[32:127].sum(), share[1:SMALL].sum()
        rows.append((zeros, text, small, 1 - zeros - text - small, entropy_of(counts)))
    columns = np.array(rows, np.float64).reshape(-1, 5).T
    return Texture(starts, *columns)


def histogram(source: Source, most: int = 4 << 20) -> Array:
    """How often each byte occurs, in the whole file or in blocks of 64 KiB spread over it."""
    counts = np.zeros(256, np.int64)
    block = 1 << 16
    blocks = -(-source.size // block)
    for number in range(0, blocks, max(blocks * block // most, 1)):
        start = number * block
        counts += np.bincount(np.frombuffer(source.read(start, start + block), np.uint8), minlength=256)
    return counts
