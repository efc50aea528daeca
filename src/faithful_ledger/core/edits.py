"""Replaced spans over a source: the payload as it will be, without copying what stays.

`Patched` is a piece table in the sense of Crowley, "Data Structures for Text Sequences" (1998): a row of pieces, each
a span of the old payload or new bytes. It is itself a `Source`, so binding, seals and writing read it like any other.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterable, Iterator
from operator import attrgetter
from typing import Any, Literal, NamedTuple

from faithful_ledger.core.errors import EntryError, place
from faithful_ledger.core.source import CHUNK, Source

__all__ = ["Cause", "Patched", "Piece", "Replacement"]


class Cause(NamedTuple):
    """Why bytes change: an entry or what follows from one, and the path or the name it is about."""

    kind: Literal["entry", "rule", "length", "count", "offset", "seal", "layer", "padding"]
    about: str

    def __str__(self) -> str:
        between = {"layer": " around", "padding": " before"}.get(self.kind, "")
        return f"{self.kind}{between} {self.about}"


class Replacement(NamedTuple):
    """The bytes of `source[start:end]` give way to `data`; `causes` say why, for the plan. `element` is the bound
    element they are the bytes of, where it is one: it says to which of two neighbours bytes between them belong.
    With a `mask` only these bits change: several may change bits of the same bytes.
    """

    start: int
    end: int
    data: bytes
    causes: tuple[Cause, ...] = ()
    element: Any = None
    mask: bytes | None = None

    @property
    def grown(self) -> int:
        """How many bytes more there are than gave way; below zero if there are fewer."""
        return len(self.data) - (self.end - self.start)

    @property
    def cause(self) -> str:
        """The causes in words."""
        return " and ".join(map(str, self.causes))

    def joined(self, other: Replacement) -> Replacement | None:
        """One for both, where each changes bits of its own in the same bytes; else None."""
        if self.mask is None or other.mask is None or (self.start, self.end) != (other.start, other.end):
            return None
        masks = list(zip(self.mask, other.mask, strict=True))
        if any(mine & theirs for mine, theirs in masks):
            return None
        bits = zip(self.data, other.data, other.mask, strict=True)
        data = bytes(mine & ~mask & 255 | theirs & mask for mine, theirs, mask in bits)
        both = bytes(mine | theirs for mine, theirs in masks)
        return Replacement(self.start, self.end, data, self.causes + other.causes, self.element, both)


_SPAN = attrgetter("start", "end")


class Piece(NamedTuple):
    """A run of the new payload: `start` there, `old_start` in the old one; `replacement` where the bytes are new."""

    start: int
    end: int
    old_start: int
    old_end: int
    replacement: Replacement | None


class Patched:
    """An old source with spans replaced.

    Raises:
        EntryError: when two replacements overlap; both causes are named.
    """

    def __init__(self, old: Source, replacements: Iterable[Replacement]) -> None:
        self.old = old
        self.replacements: list[Replacement] = []
        for item in sorted(replacements, key=_SPAN):
            if item.mask and self.replacements and (both := self.replacements[-1].joined(item)):
                self.replacements[-1] = both
            else:
                self.replacements.append(item)
        self._lay()

    def _lay(self) -> None:
        """Work out where the replacements are in the new payload."""
        self._old_from: list[int] = []
        self.starts: list[int] = []  # where each begins now
        self.shifts = [0]  # how far what is in front of each, and behind the last, moved
        at = shift = 0
        previous: Replacement | None = None
        for item in self.replacements:
            if item.start < at and previous is not None:
                raise EntryError(
                    f"{item.cause} and {previous.cause} would both change the bytes at {place(item.start)}",
                    "nothing was written; withdraw one of the two",
                )
            self._old_from.append(item.start)
            self.starts.append(item.start + shift)
            shift += len(item.data) - (item.end - item.start)
            self.shifts.append(shift)
            at, previous = item.end, item
        self.size = self.old.size + shift

    def patch(self, replacements: Iterable[Replacement]) -> None:
        """Replace spans of the payload as it is now; what reads it sees the new bytes from then on.

        Raises:
            EntryError: a span is partly within bytes that were replaced before.
        """
        waiting = sorted(replacements, key=_SPAN)
        if not waiting:
            return
        found: list[Replacement] = []
        at = 0
        for piece in self.pieces:
            items = []
            while at < len(waiting) and (waiting[at].start < piece.end or piece.end == self.size):
                if waiting[at].end > piece.end:
                    raise EntryError(
                        f"{waiting[at].cause} would change bytes that are partly replaced already, at "
                        f"{place(waiting[at].start)}",
                        "nothing was written; withdraw the entry beside it",
                    )
                items.append(waiting[at])
                at += 1
            if piece.replacement is None:
                shift = piece.old_start - piece.start
                found += (item._replace(start=item.start + shift, end=item.end + shift) for item in items)
            else:
                found += _split(piece, items) if items else [piece.replacement]
        self.replacements = found + waiting[at:]
        self._lay()

    @property
    def moves(self) -> bool:
        """Whether something that stays is at another offset now."""
        return any(self.shifts)

    @property
    def pieces(self) -> Iterator[Piece]:
        """What stayed and what is new, in order; together they are the payload."""
        at = 0
        for item, start, shift in zip(self.replacements, self.starts, self.shifts, strict=False):
            if start > at:
                yield Piece(at, start, at - shift, start - shift, None)
            at = start + len(item.data)
            yield Piece(start, at, item.start, item.end, item)
        if at < self.size:
            yield Piece(at, self.size, at - self.shifts[-1], self.old.size, None)

    def read(self, start: int, end: int) -> memoryview:
        parts = list(self._parts(start, min(end, self.size)))
        return parts[0] if len(parts) == 1 else memoryview(b"".join(parts))

    def chunks(self, start: int, end: int) -> Iterator[memoryview]:
        for part in self._parts(start, min(end, self.size)):
            for at in range(0, len(part), CHUNK):
                yield part[at : at + CHUNK]

    def _parts(self, start: int, end: int) -> Iterator[memoryview]:
        number, at = max(bisect_right(self.starts, start) - 1, 0), start
        while at < end:
            begin = self.starts[number] if number < len(self.starts) else self.size
            if at < begin:
                shift = self.shifts[number]
                stop = min(begin, end)
                yield from self._old_parts(at - shift, stop - shift)
                at = stop
                continue
            data = self.replacements[number].data
            if at < begin + len(data):
                stop = min(begin + len(data), end)
                yield memoryview(data)[at - begin : stop - begin]
                at = stop
            number += 1

    def _old_parts(self, start: int, end: int) -> Iterator[memoryview]:
        # A block source copies what it reads, so long spans of one are handed on in chunks.
        if end - start <= CHUNK:
            yield self.old.read(start, end)
        else:
            yield from self.old.chunks(start, end)

    def replaced_at(self, offset: int) -> Replacement | None:
        """The replacement that a byte of the new payload comes from, or None where it stayed."""
        number = bisect_right(self.starts, offset) - 1
        while number >= 0 and not self.replacements[number].data:
            number -= 1
        if number < 0 or offset >= self.starts[number] + len(self.replacements[number].data):
            return None
        return self.replacements[number]

    def moved(self, old_offset: int, *, behind: Callable[[Replacement], bool] | bool = False) -> int:
        """Where a boundary of the old payload is now.

        A boundary at which bytes were replaced is before them; one within bytes that gave way to as many stays. One at
        which bytes came in is before them as well, unless it is `behind` all of these, or one of which that is said.
        """
        index = bisect_left(self._old_from, old_offset)
        if index and old_offset < (within := self.replacements[index - 1]).end:
            same = len(within.data) == within.end - within.start
            return (old_offset if same else within.start) + self.shifts[index - 1]
        here = old_offset + self.shifts[index]
        for number in range(index, len(self.replacements)):
            item = self.replacements[number]
            if not item.start == item.end == old_offset:
                break
            if behind(item) if callable(behind) else behind:
                here += len(item.data)
        return here

    def touches(self, start: int, end: int) -> bool:
        """Whether any byte of the new payload's span was replaced, or something came in or went at its borders."""
        number = bisect_right(self.starts, end) - 1
        while number >= 0:
            begin, size = self.starts[number], len(self.replacements[number].data)
            if begin + size >= start:
                return True
            if size:
                return False
            number -= 1
        return False


def _split(piece: Piece, items: list[Replacement]) -> list[Replacement]:
    """A replacement with spans of its new bytes replaced again, as several behind each other; together they take the
    place of the same old bytes.
    """
    whole = piece.replacement
    assert whole is not None
    same = len(whole.data) == whole.end - whole.start
    parts: list[Replacement] = []
    at = piece.start

    def add(start: int, end: int, part: Replacement) -> None:
        if same:
            old = whole.start + start - piece.start, whole.start + end - piece.start
        else:
            old = (whole.end, whole.end) if parts else (whole.start, whole.end)
        parts.append(part._replace(start=old[0], end=old[1]))

    for item in items:
        if item.start > at:
            add(at, item.start, whole._replace(data=whole.data[at - piece.start : item.start - piece.start], mask=None))
        add(item.start, item.end, item)
        at = item.end
    if at < piece.end or not parts:
        add(at, piece.end, whole._replace(data=whole.data[at - piece.start :], mask=None))
    return parts
