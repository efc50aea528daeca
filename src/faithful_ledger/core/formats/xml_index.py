"""Where the tags of a large XML text are, without an object for any element.

The text is well formed, so a `<` outside of comments, CDATA sections and instructions begins a tag, and the first `>`
behind it ends the tag unless it is within a quoted value. Offsets, depths and what a tag does are rows of numbers; the
elements directly within one are the tags of the next depth up to the one that closes it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.errors import BindingError
from faithful_ledger.core.formats.tree import DEEPEST
from faithful_ledger.core.formats.xml_markup import ASIDE

__all__ = ["Level", "XmlIndex"]

Array: TypeAlias = np.ndarray[Any, Any]
STEP = 1 << 17
LONG = 255  # letters of a tag from which on its end is looked for again
LESS, SLASH, DOUBLE, SINGLE = b"</\"'"
BLANK = np.isin(np.arange(256), np.frombuffer(b" \t\r\n", np.uint8))
OTHER = re.compile(rb"<(?:" + ASIDE + rb"|!\[CDATA\[.*?\]\]>)", re.DOTALL)
TAG = re.compile(rb"<(?:[^>\"']|\"[^\"]*\"|'[^']*')*>")
NAME = re.compile(rb"[^\s/>]+")
NAME_ENDS = np.isin(np.arange(256), np.frombuffer(b" \t\r\n/>", np.uint8))
WRITTEN = re.compile(rb"[^ \t\r\n]")
USUAL_INDENT = 64  # blanks that all texts between elements are looked at for together
COMMON_NAMES = 16  # names of siblings that are looked for together; rarer ones one by one


class Level(NamedTuple):
    """The elements directly within one, and the text between them.

    Of each element: where it begins, where its first tag ends, where its closing tag begins and ends (an empty one has
    all of them at its end); whether it is empty, has attributes, elements, and comments or CDATA sections.
    """

    heads: Array
    insides: Array
    closes: Array
    tails: Array
    empty: Array
    attributed: Array
    holding: Array
    aside: Array
    texts: list[tuple[int, int]]  # pieces between elements and asides that are not blank
    asides: list[tuple[int, int]]  # directly within the element


class XmlIndex:
    """The tags of a well-formed text in memory.

    Raises:
        BindingError: it is nested deeper than 200 levels.
    """

    def __init__(self, data: bytes, what: str) -> None:
        self.data, self.what = data, what
        self.letters = np.frombuffer(data, np.uint8)
        asides = list(_asides(data))
        self._asides = np.array(asides, np.uint32).reshape(-1, 2)
        most = data.count(b"<")
        self.at, self._sizes, self.turn = np.empty(most, np.uint32), np.empty(most, np.uint8), np.empty(most, np.int8)
        self.depth, self.attributed = np.empty(most, np.uint8), np.empty(most, bool)
        start = count = depth = 0
        while start < len(data):
            end = self._cut(start)
            at, stop, turn, attributed = self._tags(start, end)
            total = np.cumsum(turn, dtype=np.int32) + depth
            if total.size and int(total.max()) > DEEPEST:
                first = int(at[np.argmax(total > DEEPEST)])
                raise BindingError(what, first, f"it is nested deeper than {DEEPEST} levels")
            part = slice(count, count + at.size)
            self.at[part], self.turn[part], self.attributed[part] = at, turn, attributed
            self._sizes[part] = np.minimum(stop - at, LONG)
            self.depth[part] = total - (turn == 1)
            depth, count, start = int(total[-1]) if total.size else depth, part.stop, end
        self.at, self._sizes, self.turn = self.at[:count], self._sizes[:count], self.turn[:count]
        self.depth, self.attributed = self.depth[:count], self.attributed[:count]

    @property
    def end(self) -> int:
        """Where the last tag ends."""
        return int(self.stops(np.array([-1]))[0]) + 1

    def stops(self, tags: Array) -> Array:
        """The `>` that ends each of these tags."""
        sizes = self._sizes[tags]
        stops: Array = self.at[tags] + sizes
        for number in np.flatnonzero(sizes == LONG).tolist():
            match = TAG.match(self.data, int(self.at[tags[number]]))
            assert match is not None
            stops[number] = match.end() - 1
        return stops

    def _cut(self, start: int) -> int:
        """Where a stretch ends that splits no tag."""
        data, size = self.data, STEP
        while start + size < len(data):
            end = data.rfind(b"<", start + 1, start + size)
            if end > 0:
                return end
            size *= 4
        return len(data)

    def _tags(self, start: int, end: int) -> tuple[Array, Array, Array, Array]:
        """The tags of a stretch: where each begins and ends, +1, -1 or 0 if empty, and whether it has values."""
        letters = self.letters[start:end]
        marks = np.flatnonzero(letters & 0xFD == LESS).astype(np.int64)
        if self._asides.size:
            marks = marks[~self._is_aside(marks + start)]
        opens = np.flatnonzero(letters[marks] == LESS)
        at = marks[opens]
        stop = marks[np.minimum(opens + 1, marks.size - 1)] if marks.size else at
        quotes = np.zeros(at.size, np.int32)
        odd = np.zeros(at.size, bool)
        for mark in (DOUBLE, SINGLE):
            is_mark = letters == mark
            if is_mark.any():
                count = np.cumsum(is_mark, dtype=np.int32)
                inside = count[stop] - count[at]
                odd |= (inside & 1 == 1) | ((inside > 0) & (quotes > 0))
                quotes += inside
        for number in np.flatnonzero(odd).tolist():
            match = TAG.match(self.data, start + int(at[number]))
            assert match is not None
            stop[number] = match.end() - 1 - start
        closing = letters[at + 1] == SLASH
        turn = np.where(closing, -1, np.where(letters[stop - 1] == SLASH, 0, 1)).astype(np.int8)
        return (at + start).astype(np.uint32), (stop + start).astype(np.uint32), turn, quotes > 0

    def _is_aside(self, offsets: Array) -> Array:
        number = np.searchsorted(self._asides[:, 0], offsets, "right") - 1
        inside: Array = (number >= 0) & (offsets < self._asides[number, 1])
        return inside

    def tag_at(self, offset: int) -> int:
        return int(np.searchsorted(self.at, offset))

    def close_of(self, tag: int) -> int:
        """The tag that closes the element a tag opens; of an empty one itself."""
        if not self.turn[tag]:
            return tag
        depth, first, step = self.depth[tag], tag + 1, 64
        while True:
            part = slice(first, first + step)
            found = np.flatnonzero((self.depth[part] == depth) & (self.turn[part] < 0))
            if found.size:
                return first + int(found[0])
            first, step = first + step, step * 4

    def level(self, tag: int) -> Level:
        """What is directly within the element that a tag opens."""
        last, first = self.close_of(tag), tag + 1
        part, depth = slice(first, last), self.depth[tag] + 1
        turn, level = self.turn[part], self.depth[part] == depth
        tags = np.flatnonzero(level & (turn >= 0))
        empty = turn[tags] == 0
        ends = tags.copy()
        ends[~empty] = np.flatnonzero(level & (turn < 0))
        holding, tags, ends = ends > tags + 1, tags + first, ends + first
        heads, insides, tails = self.at[tags], self.stops(tags) + np.uint32(1), self.stops(ends) + np.uint32(1)
        closes = np.where(empty, tails, self.at[ends])
        begin, end = int(self.stops(np.array([tag]))[0]) + 1, int(self.at[last])
        aside, direct = self._asides_among(heads, tails, begin, end)
        return Level(
            heads,
            insides,
            closes,
            tails,
            empty,
            self.attributed[tags],
            holding,
            aside,
            list(self._texts(heads, tails, direct, begin, end)),
            [(int(left), int(right)) for left, right in direct],
        )

    def _asides_among(self, heads: Array, tails: Array, begin: int, end: int) -> tuple[Array, Array]:
        """Which of these elements have asides within them, and the asides between them."""
        starts = self._asides[:, 0]
        first, last = np.searchsorted(starts, heads), np.searchsorted(starts, tails)
        inside = self._asides[np.searchsorted(starts, begin) : np.searchsorted(starts, end)]
        number = np.searchsorted(heads, inside[:, 0], "right") - 1
        within = (number >= 0) & (inside[:, 0] < tails[number]) if heads.size else np.zeros(len(inside), bool)
        return last > first, inside[~within]

    def _texts(self, heads: Array, tails: Array, direct: Array, begin: int, end: int) -> Iterator[tuple[int, int]]:
        """The pieces between elements and asides in which something is written."""
        if len(direct):
            heads, tails = np.concatenate([heads, direct[:, 0]]), np.concatenate([tails, direct[:, 1]])
            order = np.argsort(heads)
            heads, tails = heads[order], tails[order]
        starts = np.concatenate([[begin], tails]).astype(np.uint32)
        ends = np.concatenate([heads, [end]]).astype(np.uint32)
        at = starts.copy()
        moving = np.flatnonzero(at < ends)
        for _ in range(USUAL_INDENT):
            moving = moving[BLANK[self.letters[at[moving]]]]
            at[moving] += np.uint32(1)
            moving = moving[at[moving] < ends[moving]]
        for gap in moving.tolist():
            if not WRITTEN.search(self.data, int(at[gap]), int(ends[gap])):
                at[gap] = ends[gap]
        return ((int(starts[gap]), int(ends[gap])) for gap in np.flatnonzero(at < ends).tolist())

    def names(self, heads: Array) -> list[bytes]:
        """The names of the elements whose tags begin at these offsets; equal ones are one object."""
        found: list[bytes] = [b""] * len(heads)
        left = np.arange(len(heads))
        for _ in range(COMMON_NAMES):
            if not left.size:
                return found
            name = self._name_at(int(heads[left[0]]))
            same = left[heads[left].astype(np.int64) + len(name) + 1 < len(self.data)]
            for place, letter in enumerate(name, 1):
                same = same[self.letters[heads[same] + place] == letter]
            same = same[NAME_ENDS[self.letters[heads[same] + len(name) + 1]]]
            if same.size == len(found):
                return [name] * len(found)
            for number in same.tolist():
                found[number] = name
            left = np.setdiff1d(left, same, assume_unique=True)
        for number in left.tolist():
            found[number] = self._name_at(int(heads[number]))
        return found

    def _name_at(self, head: int) -> bytes:
        match = NAME.match(self.data, head + 1)
        assert match is not None
        return match[0]


def _asides(data: bytes) -> Iterator[tuple[int, int]]:
    """Comments, CDATA sections, instructions and the document type: their brackets do not belong to tags."""
    declared, instruction = data.find(b"<!"), data.find(b"<?")
    while declared >= 0 or instruction >= 0:
        at = min(offset for offset in (declared, instruction) if offset >= 0)
        match = OTHER.match(data, at)
        assert match is not None
        yield match.span()
        at = match.end()
        declared = data.find(b"<!", at) if 0 <= declared < at else declared
        instruction = data.find(b"<?", at) if 0 <= instruction < at else instruction
