"""Numbers that say how long the rest of a file is, from saves of different sizes: size − number is always the same."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import product
from math import log2
from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.seals.algorithms import LENGTH, Algorithm
from faithful_ledger.core.seals.finder.finding import Finding
from faithful_ledger.core.seals.finder.places import Edge

__all__ = ["lengths"]

Array: TypeAlias = np.ndarray[Any, Any]
WIDTHS = (4, 2)  # what is wider has zeros in its highest bytes
HEAD, TAIL = 1 << 16, 1 << 12  # bytes in which such numbers are looked for
SMALL = 64  # what is usually in front of that which is counted


def lengths(contents: Sequence[bytes], until: Deadline = NEVER) -> Iterator[Finding]:
    """Every number that is as long as the file from some offset on, the same in all saves."""
    sizes = np.array([len(content) for content in contents], np.int64)
    distinct = len(set(sizes.tolist()))
    if distinct < 2:
        return
    for width, order, from_end in product(WIDTHS, ("le", "be"), (False, True)):
        if until.over:
            return
        room = min(int(sizes.min()), TAIL if from_end else HEAD)
        if room < width:
            continue
        numbers = np.stack([_numbers(content, room, width, order, from_end=from_end) for content in contents])
        left = sizes[:, None] - numbers
        fits = (left == left[0]).all(axis=0) & (left[0] >= 0) & (left[0] < sizes.min()) & (numbers > 0).all(axis=0)
        for place in np.flatnonzero(fits).tolist():
            stored = Edge(room - place, True) if from_end else Edge(place)
            yield _finding(stored, width, order, int(left[0, place]), contents, distinct)


def _finding(stored: Edge, width: int, order: str, left: int, contents: Sequence[bytes], distinct: int) -> Finding:
    size = min(map(len, contents))
    wide = max(map(len, contents)).bit_length()
    bits = (distinct - 1) * min(8 * width, wide) + (wide if left <= SMALL else wide - left.bit_length())
    at = stored.at(size)
    own = "zeros" if at + width > left else None
    chance = log2(12 * (HEAD + TAIL))
    return Finding(
        Algorithm(LENGTH),
        Edge(left),
        Edge(0, True),
        stored,
        width,
        f"u{8 * width}{order}",
        own,
        bits=bits - chance + 12,
    )


def _numbers(content: bytes, room: int, width: int, order: str, *, from_end: bool) -> Array:
    """The number at each offset of the first, or of the last, `room` bytes."""
    part = content[len(content) - room :] if from_end else content[:room]
    data = np.frombuffer(part, np.uint8).astype(np.uint64)
    count = room - width + 1
    lanes = range(width) if order == "le" else range(width - 1, -1, -1)
    numbers = np.zeros(count, np.uint64)
    for rank, lane in enumerate(lanes):
        numbers |= data[lane : lane + count] << np.uint64(8 * rank)
    return numbers.astype(np.int64)
