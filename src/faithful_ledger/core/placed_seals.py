"""A seal that was found, with the part of the saves in which it is stored and what it covers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import NamedTuple

from faithful_ledger.core.errors import place
from faithful_ledger.core.in_front.elements import Header
from faithful_ledger.core.layers import ENCLOSED
from faithful_ledger.core.seal_parts import Part, text_of
from faithful_ledger.core.seals.algorithms import LENGTH
from faithful_ledger.core.seals.finder import Finding
from faithful_ledger.core.seals.finder.places import apart
from faithful_ledger.core.seals.finder.repeated import SealRow, seal_rows

__all__ = ["Placed", "best_placed", "in_rows"]


class Placed(NamedTuple):
    """A seal that is stored in a part and covers bytes of it; or of another part, if there is one in `over`."""

    finding: Finding
    held: Part
    over: Part | None = None

    @property
    def at(self) -> int:
        """Where it is stored in the first save, an offset in its part."""
        return self.stored[0]

    @property
    def stored(self) -> tuple[int, int]:
        """The bytes [start, end) in which it is stored in the first save."""
        return self.finding.place_in(self.held.contents[0])

    @property
    def header(self) -> Header | None:
        """The header of the files that it, or what it covers, is behind."""
        return self.held.header or (self.over.header if self.over is not None else None)

    @property
    def place_in_file(self) -> int:
        """The same as an offset in the first save, where its part is a piece of it."""
        return self.at + self.held.offset

    @property
    def covered(self) -> tuple[int, int]:
        """The bytes [start, end) that it covers in the first save, of its part or of `over`."""
        start, end, _ = self.finding.spans(len((self.over or self.held).contents[0]))
        return start, end

    @property
    def is_whole(self) -> bool:
        """Whether it covers all of another part."""
        return self.over is not None and self.covered == (0, len(self.over.contents[0]))

    @property
    def whole_in_words(self) -> str:
        """All of the other part that it covers; empty where it does not."""
        if self.over is None or not self.is_whole:
            return ""
        is_joined = self.over.value is not None and self.over.value.paths
        return self.over.words if is_joined else f"all of {self.over.words}"

    @property
    def is_in_both(self) -> bool:
        """Whether the bytes in which it is stored are at the same offset of what it covers, as those in front of what a
        generator hides: there it is found as well.
        """
        if self.over is None:
            return False
        for held, over in zip(self.held.contents, self.over.contents, strict=True):
            low, high = self.finding.place_in(held)
            if len(held) != len(over) or held[low:high] != over[low:high]:
                return False
        return True

    @property
    def holding(self) -> list[int]:
        """The numbers of the saves in which it holds."""
        payloads = self.over.contents if self.over is not None else [None] * len(self.held.contents)
        pairs = enumerate(zip(self.held.contents, payloads, strict=True))
        return [number for number, (content, payload) in pairs if self.finding.holds(content, payload)]

    def counted(self, holding: Sequence[int], seen: int) -> Placed:
        """The same for the saves in which it holds, of which so many were counted before."""
        stored = [self.finding.stored_in(self.held.contents[number]) for number in holding]
        more = len(set(stored)) - min(seen, len(set(stored)))
        bits = self.finding.bits + min(self.finding.algorithm.bits, 64) * more
        finding = replace(self.finding, holds_in=len(holding), of=len(self.held.contents), bits=bits)
        return self._replace(finding=finding)

    @property
    def is_stored_apart(self) -> bool:
        """Whether it is not within the value that it covers, and is what is left out of a text that is covered."""
        value = self.over.value if self.over is not None else None
        document = text_of(self.held.contents[0])
        if value is None or document is None:
            return True
        at, end = self.stored
        leaf = next((each for each in document.leaves() if each.start <= at and end <= each.end), None)
        if leaf is None or value.without:
            return leaf is not None and leaf.path == value.without
        return not leaf.path.startswith((f"{value.path}.", f"{value.path}["))

    @property
    def in_words(self) -> str:
        """What it is, in one sentence without its point."""
        finding = self.finding
        held = f"holds in {finding.holds_in} of {finding.of} copies: {finding.sureness_in_words}"
        return f"{self._rule_in_words}; {held}"

    @property
    def nearly_in_words(self) -> str:
        """The same where it does not hold in all saves."""
        return f"{self._rule_in_words}, holds in {self.finding.holds_in} of {self.finding.of}"

    @property
    def _rule_in_words(self) -> str:
        finding = self.finding
        within = f" of {self.held.words}" if self.held.words and self.held.header is None else ""
        stored = f"stored at {place(self.place_in_file)}{within} as {finding.form}"
        return f"{finding.name_in_words} over {self.covers_in_words()}, {stored}"

    def covers_in_words(self) -> str:
        """Which bytes of what it covers, in the first save."""
        finding, part = self.finding, self.over or self.held
        size = len(part.contents[0])
        if self.over is None:
            words = finding.covers_in_words(size, part.offset)
            inside = "behind the header" if part.header is not None else f"inside {part.words}"
            return f"{words}, {inside}" if part.words else words
        if self.is_whole:
            return f"{self.whole_in_words}, {size} bytes"
        return f"{finding.covers_in_words(size)} of {part.words}"


def in_rows(found: Sequence[Placed]) -> tuple[list[SealRow], list[Placed]]:
    """The rows of blocks that have the same seals in each, as one rule each, and what is in none of them."""
    of_files = [placed for placed in found if placed.held.around is None and placed.over is None]
    if not of_files:
        return [], list(found)
    rows = seal_rows([placed.finding for placed in of_files], of_files[0].held.contents)
    explained = [placed for placed in of_files if any(row.explains(placed.at) for row in rows)]
    return rows, [placed for placed in found if placed not in explained]


def best_placed(found: Sequence[Placed]) -> list[Placed]:
    """One for each place: what is surer stays. Checksums come before lengths, which a save has many of."""
    parts = {id(placed.held): placed.held for placed in found}
    kept: list[Placed] = []
    for part in parts.values():
        of_part = [placed for placed in found if placed.held is part]
        kept += apart(sorted(of_part, key=_preference), lambda each: each.stored)
    return sorted(kept, key=_order)


def _preference(placed: Placed) -> tuple[bool, bool, float]:
    """The surest first. What a text between other bytes is covered as is rather said as a range of the file; but a
    length is that of the text, and not of as many bytes elsewhere.
    """
    is_of_enclosed = placed.over is not None and [layer.kind for layer in placed.over.layers[-1:]] == [ENCLOSED]
    is_length = placed.finding.algorithm.name == LENGTH
    return not placed.finding.sure, is_of_enclosed is not is_length, -placed.finding.bits


def _order(placed: Placed) -> tuple[bool, int, bool, float]:
    finding = placed.finding
    return not finding.sure, len(list(placed.held.outer)), finding.algorithm.name == LENGTH, -finding.bits
