"""Bytes that are stored twice: a second copy of a part of the save, as it is or with every bit inverted.

What differs between the saves is held against all of it: two offsets at which every save has the same byte, or its
inverse, vote for the distance between them, and the longest run of bytes that agree at such a distance is a copy. Bytes
that are the same in all saves make none: every save has zeros in many places. Parts of a save may only say the same, as
slots in which the same people are: a copy is sure where it begins and ends as games cut their saves.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.seals.algorithms import COPY, Algorithm
from faithful_ledger.core.seals.finder.finding import SURE, Finding
from faithful_ledger.core.seals.finder.joining import Sorted
from faithful_ledger.core.seals.finder.places import Edge, alike, apart, numbered

__all__ = ["copies"]

Array: TypeAlias = np.ndarray[Any, Any]
LEAST_COPIED, LEAST_CHANGED = 32, 8  # bytes of a plain copy, and of those that differ: a few numbers often say the same
LEAST_INVERTED = 2  # bytes; what is the inverse of another number is so on purpose
MOST_DISTANCES, MOST_ALIKE = 16, 64
BYTE = 8.0  # bits that each byte says in each save in which it is another one
STILL = 0.25  # and one that is the same in all of them
ADJOINING, ROUND = 1.0, 4.0  # bits that it costs to choose a distance: as long as the copy, or a power of two
EVEN = 16  # bytes, of which the ends of a large copy are a multiple
OPEN = "these parts of the saves may only say the same"


class _Run(NamedTuple):
    """Bytes [start, end) that are there again so far behind."""

    start: int
    end: int
    distance: int

    def is_even(self, total: int) -> bool:
        """Whether it begins and ends where parts of a file of so many bytes usually do."""
        size, stored_end = self.end - self.start, self.end + self.distance
        return self.start % EVEN == 0 and (size % EVEN == 0 or stored_end == total)


def copies(contents: Sequence[bytes], until: Deadline = NEVER) -> Iterator[Finding]:
    """The copies in saves of one size, each one covered where it is first; the plain ones before the inverted."""
    if len(contents) < 2 or not alike(contents):
        return
    saves = np.stack([np.frombuffer(content, np.uint8) for content in contents])
    restless = np.flatnonzero((saves != saves[0]).any(axis=0))
    for inverted in (False, True):
        found: list[_Run] = []
        for distance in _distances(saves, restless, inverted):
            if until.over:
                return
            found += _runs(saves, restless, distance, inverted)
        found.sort(key=lambda run: (not run.is_even(saves.shape[1]), run.start - run.end, run.start, run.distance))
        for run in apart(found, lambda run: (run.start + run.distance, run.end + run.distance)):
            yield _finding(saves, run, inverted)


def _distances(saves: Array, restless: Array, inverted: bool) -> list[int]:
    """How far apart bytes are that say the same in every save, the distance of most of them first."""
    here, there = numbered(saves[:, restless]), numbered(saves[:, restless] ^ np.uint8(255 if inverted else 0))
    known = Sorted(there)
    first, count = known.counted(here)
    which, found = known.pairs(first, count, np.flatnonzero((count > 0) & (count <= MOST_ALIKE)))
    apart = restless[found] - restless[which]
    distances, votes = np.unique(apart[apart > 0], return_counts=True)
    best = np.lexsort((distances, -votes))[:MOST_DISTANCES]
    return [int(distance) for distance in distances[best]]


def _runs(saves: Array, restless: Array, distance: int, inverted: bool) -> Iterator[_Run]:
    """The runs of bytes that are there again at a distance, none longer than that."""
    same = (saves[:, :-distance] ^ np.uint8(255 if inverted else 0) == saves[:, distance:]).all(axis=0)
    edges = np.flatnonzero(np.diff(same.astype(np.int8), prepend=0, append=0))
    for low, high in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
        changed = restless[np.searchsorted(restless, low) : np.searchsorted(restless, high)]
        while changed.size:
            start, end = _within(low, high, distance, changed)
            of_run = changed[changed < end]
            enough = end - start >= LEAST_COPIED and of_run.size >= LEAST_CHANGED
            if enough or (inverted and end - start >= LEAST_INVERTED):
                yield _Run(start, end, distance)
            low, changed = end, changed[changed >= end + distance]


def _within(low: int, high: int, distance: int, changed: Array) -> tuple[int, int]:
    """Of bytes [low, high) those that the copy behind them leaves, with the first that change: from the roundest
    offset.
    """
    if high - low <= distance:
        return low, high
    first = int(changed[0])
    last = int(changed[changed < first + distance][-1])
    start = max(range(max(low, last + 1 - distance), first + 1), key=lambda at: (at & -at if at else 1 << 62, -at))
    return start, start + distance


def _finding(saves: Array, run: _Run, inverted: bool) -> Finding:
    size, copied = run.end - run.start, saves[:, run.start : run.end]
    at = run.start + run.distance
    ordered = np.sort(copied, axis=0)
    others = (ordered[1:] != ordered[:-1]).sum(axis=0)
    said = BYTE * int(others.sum()) + STILL * int((others == 0).sum())
    if not inverted:  # what is filled with a few bytes over and over is the same further on as well
        said = min(said, BYTE * sum(len(set(each)) - 1 for each in {row.tobytes() for row in copied}))
    total = saves.shape[1]
    is_round = run.distance & (run.distance - 1) == 0
    cost = total.bit_length() + (ADJOINING if run.distance == size else ROUND if is_round else total.bit_length())
    algorithm = Algorithm(COPY, changed="inverted" if inverted else "")
    freedom = "" if inverted or run.is_even(total) else OPEN
    found = Finding(algorithm, Edge(run.start), Edge(run.end), Edge(at), size, "bytes", bits=said - cost)
    return replace(found, bits=min(found.bits, SURE - 1), undecided=True, freedom=freedom) if freedom else found
