"""Replaced spans over a source: the payload as it will be, without copying what stays.

`Patched` is a piece table in the sense of Crowley, "Data Structures for Text Sequences" (1998): a row of pieces, each
a span of the old payload or new bytes. It is itself a `Source`, so binding, seals and writing read it like any other.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterable, Iterator
from typing import Any, Literal, NamedTuple

from faithful_ledger.core.errors import EntryError, place
from faithful_ledger.core.source import CHUNK, Source

__all__ = ["Cause", "Patched", "Piece", "Replacement"]


class Cause(NamedTuple):
    """Why bytes change: an entry or what follows from one, and the path or the name it is about."""

    kind: Literal["entry", "rule", "length", "count", "offset", "seal", "layer"]
    about: str

    def __str__(self) -> str:
        return f"layer around {self.about}" if self.kind == "layer" else f"{self.kind} {self.about}"


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
        for item in sorted(replacements, key=lambda item: (item.start, item.end)):
            both = self.replacements[-1].joined(item) if self.replacements else None
            if both is not None:
                self.replacements[-1] = both
            else:
                self.replacements.append(item)
        self._lay()

    def _lay(self) -> None:
        """Put the pieces behind each other."""
        self.pieces: list[Piece] = []
        at = new_at = 0
        previous: Replacement | None = None
        for item in self.replacements:
            if item.start < at and previous is not None:
                raise EntryError(
                    f"{item.cause} and {previous.cause} would both change the bytes at {place(item.start)}",
                    "nothing was written; withdraw one of the two",
                )
            if item.start > at:
                self.pieces.append(Piece(new_at, new_at + item.start - at, at, item.start, None))
                new_at += item.start - at
            self.pieces.append(Piece(new_at, new_at + len(item.data), item.start, item.end, item))
            new_at += len(item.data)
            at, previous = item.end, item
        if at < self.old.size:
            self.pieces.append(Piece(new_at, new_at + self.old.size - at, at, self.old.size, None))
            new_at += self.old.size - at
        self.size = new_at
        self._starts = [piece.start for piece in self.pieces]
        self._replaced_from = [item.start for item in self.replacements]
        self._shifts = [0]
        for item in self.replacements:
            self._shifts.append(self._shifts[-1] + len(item.data) - (item.end - item.start))

    def patch(self, replacements: Iterable[Replacement]) -> None:
        """Replace spans of the payload as it is now; what reads it sees the new bytes from then on.

        Raises:
            EntryError: a span is partly within bytes that were replaced before.
        """
        waiting: dict[int, list[Replacement]] = {}
        for item in sorted(replacements, key=lambda item: (item.start, item.end)):
            number = max(bisect_right(self._starts, item.start) - 1, 0)
            if item.end > self.pieces[number].end:
                raise EntryError(
                    f"{item.cause} would change bytes that are partly replaced already, at {place(item.start)}",
                    "nothing was written; withdraw the entry beside it",
                )
            waiting.setdefault(number, []).append(item)
        found: list[Replacement] = []
        for number, piece in enumerate(self.pieces):
            items = waiting.get(number, [])
            if piece.replacement is None:
                shift = piece.old_start - piece.start
                found += (item._replace(start=item.start + shift, end=item.end + shift) for item in items)
            else:
                found += _split(piece, items) if items else [piece.replacement]
        self.replacements = found
        self._lay()

    def read(self, start: int, end: int) -> memoryview:
        parts = list(self._parts(start, min(end, self.size)))
        return parts[0] if len(parts) == 1 else memoryview(b"".join(parts))

    def chunks(self, start: int, end: int) -> Iterator[memoryview]:
        for part in self._parts(start, min(end, self.size)):
            for at in range(0, len(part), CHUNK):
                yield part[at : at + CHUNK]

    def _parts(self, start: int, end: int) -> Iterator[memoryview]:
        first = max(bisect_right(self._starts, start) - 1, 0)
        for index in range(first, len(self.pieces)):
            piece = self.pieces[index]
            if piece.start >= end:
                return
            low, high = max(start, piece.start), min(end, piece.end)
            if low >= high:
                continue
            if piece.replacement is not None:
                yield memoryview(piece.replacement.data)[low - piece.start : high - piece.start]
            else:
                shift = piece.old_start - piece.start
                yield from self._old_parts(low + shift, high + shift)

    def _old_parts(self, start: int, end: int) -> Iterator[memoryview]:
        # A block source copies what it reads, so long spans of one are handed on in chunks.
        if end - start <= CHUNK:
            yield self.old.read(start, end)
        else:
            yield from self.old.chunks(start, end)

    def piece_at(self, offset: int) -> Piece:
        """The piece that holds a byte of the new payload."""
        return self.pieces[bisect_right(self._starts, offset) - 1]

    def moved(self, old_offset: int, *, behind: Callable[[Replacement], bool] | bool = False) -> int:
        """Where a boundary of the old payload is now.

        A boundary at which bytes were replaced is before them; one within bytes that gave way to as many stays. One at
        which bytes came in is before them as well, unless it is `behind` all of these, or one of which that is said.
        """
        index = bisect_left(self._replaced_from, old_offset)
        if index and old_offset < (within := self.replacements[index - 1]).end:
            same = len(within.data) == within.end - within.start
            return (old_offset if same else within.start) + self._shifts[index - 1]
        here = old_offset + self._shifts[index]
        for number in range(index, len(self.replacements)):
            item = self.replacements[number]
            if not item.start == item.end == old_offset:
                break
            if behind(item) if callable(behind) else behind:
                here += len(item.data)
        return here

    def touches(self, start: int, end: int) -> bool:
        """Whether any byte of the new payload's span was replaced, or the span's length changed within."""
        for index in range(max(bisect_right(self._starts, start) - 2, 0), len(self.pieces)):
            piece = self.pieces[index]
            if piece.start > end:
                return False
            if piece.replacement is not None and piece.end >= start:
                return True
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
