"""Sections and keys of a large text of keyed lines, found by searching for their names and not line by line."""

from __future__ import annotations

import re
from array import array
from collections.abc import Callable, Iterator, Sequence

from faithful_ledger.core.formats.tree import OBJECT, GrowingTree, Tree

__all__ = ["SECTION", "Regions", "has_regions"]

SECTION = re.compile(rb"[ \t]*\[(/?)\[?([^\[\]\r\n]*)\]?\][ \t]*(?:[#;].*)?")
NEXT_SECTION = re.compile(rb"[\r\n]([ \t]*\[[^\r\n]*)")
LINE = re.compile(rb"[^\r\n]*")
UNCLOSED = re.compile(rb"\{[^}\r\n]*(?:[\r\n]|\Z)")
TAGGED = re.compile(rb"^[ \t]*\[/[^\]\r\n]+\]", re.MULTILINE)
LAST = 1 << 12  # bytes at the end of a region that are read for where its last value ends
MOST_BRACKETS = 5000  # within lines


def has_regions(data: bytes) -> bool:
    """Whether sections only end where the next one begins, and every value is on one line."""
    if b"\n" not in data or UNCLOSED.search(data) or (b"[/" in data and TAGGED.search(data)):
        return False
    import numpy as np

    letters = np.frombuffer(data, np.uint8)
    brackets = np.flatnonzero(letters == b"["[0])
    before = letters[np.maximum(brackets - 1, 0)]
    within = brackets[(before != b"\n"[0]) & (before != b"\r"[0]) & (brackets > 0)]
    return len(within) <= MOST_BRACKETS and all(_is_on_one_line(data, at) for at in within.tolist())


def _is_on_one_line(data: bytes, at: int) -> bool:
    start, end = _line_around(data, at, 0)
    return not data[start:at].strip() or data[at:end].rstrip()[-1:] in (b"]", b"}")


def _line_around(data: bytes, at: int, least: int) -> tuple[int, int]:
    start = data.rfind(b"\n", least, at) + 1 or least
    start = max(start, data.rfind(b"\r", start, at) + 1)
    match = LINE.match(data, at)
    return start, match.end() if match is not None else at


class Regions:
    """A tree that grows where a name is asked for. `parsed` makes the tree of the lines in a span of the text, and
    `named` says what a section of these letters is called.
    """

    def __init__(
        self, data: bytes, start: int, encoding: str, parsed: Callable[[int, int], Tree], named: Callable[[bytes], str]
    ) -> None:
        self.data, self.encoding, self._parsed, self._named = data, encoding, parsed, named
        self.tree = GrowingTree(self._read)
        self.tree.unread(OBJECT, None, start, start, len(data), len(data))
        line = LINE.match(data, start)
        first = start if line is not None and SECTION.fullmatch(line[0]) else self._next_section(start)
        self._spans = {0: (start, first)}  # the lines directly within a value that is not read
        self._begins: dict[int, int] = {}  # the first line of a section that is not read
        self._found: dict[tuple[int, str], array[int]] = {}

    def namesakes(self, number: int, name: str) -> array[int] | None:
        """The values of a name directly within one; None where a search is of no use, as all within it is known."""
        if number not in self._spans or not name:
            return None
        found = self._found.get((number, name))
        if found is None:
            found = array("I", map(self.tree.remember, self._search(number, name)))
            self._found[number, name] = found
        return found

    def _search(self, number: int, name: str) -> Iterator[int]:
        start, end = self._spans[number]
        stop = len(self.data) if not number else end
        raw, data = name.encode(self.encoding, "replace"), self.data
        at = data.find(raw, start, stop)
        while at >= 0:
            begin, close = _line_around(data, at, start)
            section = SECTION.fullmatch(data, begin, close) if begin >= end else None
            if section is not None and self._named(section[2]) == name:
                yield self._section(begin, close)
            elif begin < end:
                part = self._parsed(begin, close)
                for child in part.children(0):
                    if part.names[child] == name:
                        says_nothing = part.starts[child] == part.ends[child]  # a table may be below it
                        yield self.tree.take_in(self._parsed(begin, end) if says_nothing else part)[0]
            at = data.find(raw, max(close, at + 1), stop)

    def _section(self, begin: int, close: int) -> int:
        """The section whose first line is in these bytes."""
        end = self._next_section(close)
        head = self.data.index(b"[", begin)
        if end - begin <= LAST:
            return self.tree.take_in(self._parsed(begin, end))[0]
        stop = self._end_of_last(begin, end)
        name = SECTION.fullmatch(self.data, begin, close)
        assert name is not None
        number = self.tree.unread(OBJECT, self._named(name[2]), head, head, stop, stop)
        self._spans[number], self._begins[number] = (close, end), begin
        return number

    def _end_of_last(self, begin: int, end: int) -> int:
        """Where the last value in a section ends, comments and blank lines behind it left out."""
        size = LAST
        while end - size > begin:
            start, _ = _line_around(self.data, end - size, begin)
            part = self._parsed(start, end)
            if len(part) > 1 and start > begin:
                return max(part.tails[1:])
            size *= 4
        part = self._parsed(begin, end)
        return part.tails[1]

    def _next_section(self, at: int) -> int:
        """Where the first line behind an offset begins that begins a section, or the end of the text."""
        lines = NEXT_SECTION.finditer(self.data, at)
        return next((line.start(1) for line in lines if SECTION.fullmatch(line[1])), len(self.data))

    def _read(self, number: int) -> Sequence[int]:
        """Take in everything that is within a value."""
        start, end = self._spans.pop(number)
        if not number:
            return self.tree.take_in(self._parsed(start, len(self.data)))
        (section,) = self.tree.take_in(self._parsed(self._begins[number], end))
        return list(self.tree.children(section))
