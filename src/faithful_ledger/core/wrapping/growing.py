"""Whether part of a payload may take another size: what a template says, and which numbers in front would be wrong."""

from __future__ import annotations

import re
from collections.abc import Collection
from typing import Protocol

from faithful_ledger.core.errors import place
from faithful_ledger.core.profile.lengths import listed_at, spelled_sizes, suspected_lengths
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage import NUMBERS

__all__ = ["COUNTED", "UNCOUNTED", "Counted", "decimal_length", "suspected_length", "why_fixed"]

NARROW = 2  # bytes of a number
IN_FRONT = 24  # letters in front of a stream in which its length may be


class Counted(Protocol):
    """What a template says of the payload around."""

    def has_length_over(self, start: int, end: int) -> bool:
        """Whether a described length covers bytes [start, end), so that they may take another size."""
        ...

    @property
    def says_a_length(self) -> bool:
        """Whether a field says how many bytes a payload in it has."""
        ...

    def works_out(self, start: int, end: int) -> bool:
        """Whether one of bytes [start, end) belongs to a field that is worked out when you post."""
        ...

    def is_content(self, start: int, end: int) -> bool:
        """Whether bytes [start, end) are all of a text, or of bytes whose length another field says."""
        ...

    def is_from_end(self, start: int) -> bool:
        """Whether all that begins near an offset is found by its distance from the end, so that it may move."""
        ...


class Undescribed:
    """Of a payload that no template describes: whether something in it counts all of its parts by itself."""

    def __init__(self, *, counts: bool) -> None:
        self._counts = counts

    def has_length_over(self, start: int, end: int) -> bool:
        return self._counts

    @property
    def says_a_length(self) -> bool:
        return False

    def works_out(self, start: int, end: int) -> bool:
        return False

    def is_content(self, start: int, end: int) -> bool:
        return False

    def is_from_end(self, start: int) -> bool:
        return self._counts


COUNTED, UNCOUNTED = Undescribed(counts=True), Undescribed(counts=False)


def why_fixed(outer: Source, start: int, end: int, counted: Counted) -> str:
    """What would be wrong if bytes [start, end) took another size, as far as that can be seen; else empty."""
    behind = outer.size - end
    if behind and not counted.is_from_end(end):
        return f"no length that the template describes says where the {behind} bytes behind it begin"
    return suspected_length(outer, start, end, counted)


def suspected_length(outer: Source, start: int, end: int, counted: Counted) -> str:
    """Which number in front looks like the length of bytes [start, end) and would stay; empty where none does. Where a
    length is described, others of two bytes are chance.
    """
    for at, name in suspected_lengths(outer, start, end - start):
        size = NUMBERS[name].least_size
        is_chance = size <= NARROW and counted.says_a_length
        if not (is_chance or counted.works_out(at, at + size) or counted.is_content(at, at + size)):
            return f"the {name} at {place(at)} looks like its length, which the template does not describe"
    for at, name in spelled_sizes(outer, start, end - start):
        if not counted.works_out(at, at + 1):
            return f"the {name} at {place(at)} looks like its length, which the template does not describe"
    listed = listed_at(outer, start, end - start)
    if listed is not None and not counted.works_out(listed[0], listed[0] + 8):
        where = f"the two {listed[1]} at {place(listed[0])}"
        return f"{where} look like its entry in a directory, which the template does not describe"
    return ""


def decimal_length(outer: Source, start: int, sizes: Collection[int]) -> str:
    """Which number in the letters in front says one of these sizes; empty where none does."""
    before = bytes(outer.read(max(start - IN_FRONT, 0), start))
    for found in re.finditer(rb"[0-9]+", before):
        if int(found[0]) in sizes:
            return (
                f"the number {found[0].decode()} at {place(start - len(before) + found.start())} looks like its length"
            )
    return ""
