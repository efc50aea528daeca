"""The ranges that people choose for a checksum: the whole file, what is behind a header, before or behind the seal, a
block of the file, lines of a text.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import product
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.seals.finder.cuts import ALONE, Cut, cuts, line_starts
from faithful_ledger.core.seals.finder.places import DECIMAL, Edge, Place, is_text, span_of
from faithful_ledger.core.seals.finder.rings import Ranges
from faithful_ledger.core.storage import WRITTEN

__all__ = ["HEADS", "LEAST_COVERED", "NO_EDGES", "OWN", "TAILS", "Chosen", "Edges", "Range", "Tries", "seen"]

Array: TypeAlias = np.ndarray[Any, Any]
Range: TypeAlias = tuple[Edge, Edge, Place, str | None, Cut]
"""From, to, the place of the seal, as what it is seen there, and what is left out beside it."""

HEADS = (0, 4, 8, 12, 16, 20, 24, 28, 32, 36, 40, 48, 56, 60, 64, 80, 96, 100, 128, 256, 512, 1024)
TAILS = (0, 4, 8, 2, 16, 1, 12, 20, 32, 64)
FEW_HEADS, FEW_TAILS = 8, 5
OWN = ("zeros", "left out", "FF", "20")
IN_LETTERS = (*OWN, "30")
BLOCKS = tuple(1 << bits for bits in range(8, 17))  # sizes of the blocks that a file may have a seal each in
NEAR_IT = (0, 2, 4, 8)  # bytes between a seal and what it covers
SPELLED = re.compile(rb"[0-9A-Za-z+/]{6}")  # what a result in letters may be
LEAST_COVERED = 8  # bytes: a hash of one that is zero may be zero itself


class Edges(NamedTuple):
    """Where parts of every save begin, and how many bytes before its end they end: streams, as they are packed."""

    heads: tuple[int, ...] = ()
    tails: tuple[int, ...] = ()


NO_EDGES = Edges()


class Tries(NamedTuple):
    """Ranges to try, and the same as offsets in one content; so many of them, of the `likely` places, one by one where
    they cannot be had together.
    """

    each: list[Range]
    over: Ranges
    likely: int

    @classmethod
    def of(cls, each: list[Range], likely: int, content: bytes) -> Tries:
        spans = []
        for start, end, place, _, cut in each:
            low, high = seen(place, cut, content)
            spans.append((start.at(len(content)), end.at(len(content)), low, high - low))
        starts, ends, ats, sizes = np.array(spans, np.intp).reshape(-1, 4).T
        return cls(each, Ranges(starts, ends, ats, sizes, tuple(own for _, _, _, own, _ in each)), likely)

    def only(self, chosen: Array) -> Tries:
        """Some of them, as for all."""
        return Tries([self.each[number] for number in np.flatnonzero(chosen)], self.over.only(chosen), 0)


class Chosen:
    """The ranges of one content. `heads` are offsets at which they begin, `tails` how many bytes before its end they
    end; `lines` both of the lines of a text.
    """

    def __init__(self, content: bytes, edges: Edges) -> None:
        self.content, self.size = content, len(content)
        self.is_text = is_text(content)
        self.has_text = SPELLED.search(content) is not None
        self.lines = line_starts(content) if self.has_text else ([], [])
        heads, tails = ((0, *self.lines[0]), (0, *self.lines[1])) if self.is_text else (HEADS, TAILS)
        heads, tails = (*heads[:1], *edges.heads, *heads[1:]), (*tails[:1], *edges.tails, *tails[1:])
        self.heads = [head for head in dict.fromkeys(heads) if head <= self.size // 2]
        self.tails = [tail for tail in dict.fromkeys(tails) if tail <= self.size // 2]

    @property
    def fixed(self) -> list[tuple[int, int]]:
        """The heads and tails of those that do not depend on where the seal is."""
        return list(product(self.heads, self.tails))

    def at(self, place: Place) -> Iterator[Range]:
        """Ranges that begin or end at a place, or cover it."""
        at, end = seen(place, ALONE, self.content)
        in_letters = place.form in WRITTEN and place.form != "bytes"
        around = cuts(self.content, at, end) if in_letters else [ALONE]
        if place.form in DECIMAL:
            yield from self._beside_digits(place, around)
        most = max(end, place.edge.at(self.size) + place.size)  # a number may have fewer digits here
        for behind, tail in product(sorted({cut.behind for cut in around}), self.tails[:FEW_TAILS]):
            if self.size - tail > most + behind:
                yield place.edge.moved(place.size + behind), Edge(tail, True), place, None, ALONE
        for before in sorted({cut.before for cut in around}):
            for head in (*self.heads, *self.lines[0]) if not before else (*self.heads[:FEW_HEADS], *self.lines[0]):
                if head < at - before:
                    yield Edge(head), place.edge.moved(-before), place, None, ALONE
        for size in () if in_letters else BLOCKS:
            first, last = at // size * size, at // size * size + size
            if first and last <= self.size and end <= last:
                yield from self._in_block(place, first, last)
        wholes = product(self.heads[:FEW_HEADS], self.tails[:2])
        for (head, tail), own in product(wholes, IN_LETTERS if in_letters else OWN):
            if head <= at and end <= self.size - tail:
                yield Edge(head), Edge(tail, True), place, own, ALONE
        for head, tail, cut in product((0, *self.lines[0]), (0, *self.lines[1]), around):
            if any(cut) and head <= at - cut.before and end + cut.behind <= self.size - tail:
                yield Edge(head), Edge(tail, True), place, "left out", cut

    def _beside_digits(self, place: Place, around: Sequence[Cut]) -> Iterator[Range]:
        """What is in front of a number, or behind it, however many digits it has: all but it and what follows, or all
        but it and what precedes.
        """
        at, end = seen(place, ALONE, self.content)
        if place.edge.from_end:
            for before, head in product(sorted({cut.before for cut in around}), (0, *self.lines[0])):
                if head < at - before:
                    yield Edge(head), Edge(0, True), place, "left out", Cut(before, self.size - end)
        else:
            for behind, tail in product(sorted({cut.behind for cut in around}), (0, *self.lines[1])):
                if end + behind < self.size - tail:
                    yield Edge(0), Edge(tail, True), place, "left out", Cut(at, behind)

    def _in_block(self, place: Place, first: int, last: int) -> Iterator[Range]:
        """A place in a block of the file, of a size that is a power of two: what is in front of it, and behind it."""
        at, end = seen(place, ALONE, self.content)
        for more in NEAR_IT:
            if first < at - more:
                yield Edge(first), place.edge.moved(-more), place, None, ALONE
            if end + more < last:
                yield place.edge.moved(place.size + more), Edge(last), place, None, ALONE
        yield Edge(first), Edge(last), place, "zeros", ALONE


def seen(place: Place, cut: Cut, content: bytes) -> tuple[int, int]:
    """Where a place is in a content, with what is left out with it."""
    low, high = span_of(place.edge, place.size, place.form, content)
    return low - cut.before, high + cut.behind
