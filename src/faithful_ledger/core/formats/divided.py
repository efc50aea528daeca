"""Values without names, divided by marks: parts within parts, as `3|Oriel|1340;12;0.5|4,9,2|`."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

from faithful_ledger.core.errors import BindingError
from faithful_ledger.core.formats.quoting import Bare
from faithful_ledger.core.formats.tree import ARRAY, SCALAR, Builder, Tree
from faithful_ledger.core.formats.tree_document import TreeDocument
from faithful_ledger.core.storage import Quoting
from faithful_ledger.core.storage.spelled import is_number

__all__ = ["DividedText"]

MARKS = "\n|~#^$;\t,:"  # the outermost first, as people nest them
BLANK = b" \r"
FEWEST, FEWEST_NUMBERS, LONGEST = 6, 0.4, 400  # values, the share of numbers among them, and letters of one


class DividedText(TreeDocument):
    """Every mark that is there at least twice divides what the marks before it leave whole; each value has its number,
    and what is empty has one, too.
    """

    name = "divided"
    what = "the divided text"

    @cached_property
    def marks(self) -> bytes:
        text = self.data[self.text_start :].strip()
        return bytes(mark for mark in MARKS.encode() if text.count(mark) > 1)

    @cached_property
    def _quoting(self) -> Quoting:
        return Bare(self.encoding, forbidden=f"{self.marks.decode()}\r\n", where="a value between marks")

    @classmethod
    def quoting_of(cls, path: str, encoding: str) -> Quoting:
        return Bare(encoding, forbidden=f"{MARKS}\r", where="a value between marks")

    def parse(self) -> Tree:
        builder = Builder(self.what)
        start, end = self.text_start, len(self.data.rstrip(b"\r\n"))
        if not self.marks or start >= end:
            raise BindingError(self.what, start, "no mark divides it")
        builder.begin(ARRAY, None, start, start)
        self._divide(builder, start, end, self.marks)
        builder.end(len(self.data))
        values = [text for text in self._values(builder.tree) if text]
        numbers = sum(is_number(text.decode("latin-1")) for text in values)
        if len(values) < FEWEST or numbers < FEWEST_NUMBERS * len(values) or max(map(len, values)) > LONGEST:
            raise BindingError(self.what, start, "its parts are not values")
        return builder.tree

    def _divide(self, builder: Builder, start: int, end: int, marks: bytes) -> None:
        """Take in the parts of [start, end), which has the first of some marks."""
        mark, inner = marks[:1], marks[1:]
        if mark not in self.data[start:end] and inner:
            self._divide(builder, start, end, inner)
            return
        while start <= end:
            found = self.data.find(mark, start, end)
            stop = found if found >= 0 else end
            self._part(builder, start, stop, inner)
            start = stop + 1

    def _part(self, builder: Builder, start: int, end: int, marks: bytes) -> None:
        part = self.data[start:end]
        if any(mark in part for mark in marks):
            builder.begin(ARRAY, None, start, start)
            self._divide(builder, start, end, marks)
            builder.end(end)
            return
        text = part.strip(BLANK)
        begin = start + (part.find(text) if text else 0)
        builder.leaf(SCALAR, None, start, begin, begin + len(text), end)

    def _values(self, tree: Tree) -> Iterator[bytes]:
        for kind, begin, end in zip(tree.kinds, tree.starts, tree.ends, strict=True):
            if kind == SCALAR:
                yield self.data[begin:end]
