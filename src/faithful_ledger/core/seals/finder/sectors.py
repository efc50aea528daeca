"""The same seal in each of a row of blocks, found from the blocks alone: as if every one of them were a save.

Where sections change places from save to save, or are written anew each time, two saves have nothing in common at one
offset. Their blocks have: what is the same in nearly all of them, near their beginning or end, as a mark is, says how
large they are.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.seals.algorithms import COPY, LENGTH
from faithful_ledger.core.seals.finder.finding import Finding
from faithful_ledger.core.seals.finder.places import Edge, alike, changed_offsets
from faithful_ledger.core.seals.finder.repeated import SealRow

__all__ = ["are_elsewhere", "find_sectors"]

Array: TypeAlias = np.ndarray[Any, Any]
Find: TypeAlias = Callable[[Sequence[bytes], Deadline], list[Finding]]
SIZES = tuple(1 << bits for bits in range(7, 17))
LEAST, MOST_KINDS, SAMPLE = 4, 2, 6  # blocks that differ; sizes that are tried; blocks that are looked at
NEAR, NEARLY_ALL = 32, 0.75  # bytes from either end of a block; the part of the blocks that have a mark
LEAST_IN_A_ROW, LEAST_MARKS = 3, 2
SECONDS = 6.0  # for each size


def find_sectors(contents: Sequence[bytes], find: Find, until: Deadline = NEVER) -> list[SealRow]:
    """Rows of blocks of saves with a seal in each, which `find` finds as it does in saves."""
    for size in _likely_sizes(contents)[:MOST_KINDS]:
        blocks = _distinct(contents, size)
        step = max(len(blocks) // SAMPLE, 1)
        found = find(blocks[::step][:SAMPLE], until.limited(SECONDS))
        sure = [each for each in found if each.sure and each.algorithm.name not in (LENGTH, COPY)]
        row = _row(sure, contents, size)
        if row is not None:
            return [row]
        if until.over:
            break
    return []


def are_elsewhere(contents: Sequence[bytes]) -> bool:
    """Whether most of what saves of one size hold is another thing at each offset, as where sections change places."""
    if len(contents) < 2 or not alike(contents):
        return False
    saves = np.stack([np.frombuffer(content, np.uint8) for content in contents])
    holds = ((saves != 0) & (saves != 255)).any(axis=0)
    return 2 * changed_offsets(contents).size > int(holds.sum())


def _distinct(contents: Sequence[bytes], size: int) -> list[bytes]:
    """The blocks of all saves that hold something, each once."""
    whole = [content[at : at + size] for content in contents for at in range(0, len(content) - size + 1, size)]
    return [block for block in dict.fromkeys(whole) if block.strip(block[:1])]


def _likely_sizes(contents: Sequence[bytes]) -> list[int]:
    """Sizes of blocks of which nearly all have the same bytes somewhere, the smallest first."""
    marks: dict[int, int] = {}
    for size in SIZES:
        blocks = _distinct(contents, size) if size * LEAST_IN_A_ROW <= min(map(len, contents)) else []
        if len(blocks) >= LEAST:
            rows = np.stack([np.frombuffer(block, np.uint8) for block in blocks])
            near = np.concatenate((rows[:, :NEAR], rows[:, -NEAR:]), axis=1)
            marks[size] = sum(_is_mark(column) for column in near.T)
    most = max(marks.values(), default=0)
    return [size for size in SIZES if marks.get(size, 0) >= max(LEAST_MARKS, most / 2)]


def _is_mark(column: Array) -> bool:
    counts = np.bincount(column, minlength=256)
    counts[[0, 255]] = 0
    return bool(counts.max() >= NEARLY_ALL * column.size)


def _row(sure: Sequence[Finding], contents: Sequence[bytes], size: int) -> SealRow | None:
    """The longest run of blocks in which all of these hold in every save."""
    count = min(map(len, contents)) // size
    holds = [
        bool(sure) and all(each.holds(content[at : at + size]) for each in sure for content in contents)
        for at in range(0, count * size, size)
    ]
    best, start = range(0), 0
    for number, is_so in enumerate([*holds, False]):
        if not is_so:
            best = max(best, range(start, number), key=len)
            start = number + 1
    if len(best) < LEAST_IN_A_ROW:
        return None
    first = best.start * size
    return SealRow(first, size, len(best), tuple(_moved(each, size, first, len(contents)) for each in sure))


def _moved(finding: Finding, size: int, by: int, of: int) -> Finding:
    """What holds in a block as what holds in the first one of a save."""
    start, end, at = (Edge(offset + by) for offset in finding.spans(size))
    return replace(finding, start=start, end=end, stored=at, holds_in=of, of=of, freedom="")
