"""Plain lists as documents: pairs on one line (`marks=5;name=Oriel`), and values on lines of their own."""

from __future__ import annotations

import re
from functools import cached_property

from faithful_ledger.core.errors import BindingError
from faithful_ledger.core.formats.quoting import Bare
from faithful_ledger.core.formats.tree import ARRAY, OBJECT, SCALAR, Builder, Tree
from faithful_ledger.core.formats.tree_document import TreeDocument
from faithful_ledger.core.storage import Quoting
from faithful_ledger.core.storage.spelled import is_number

__all__ = ["LineList", "PairList"]

WORD = re.compile(rb"\w(?:.*\w)?")
LONGEST, FEWEST_NUMBERS = 80, 0.3


class PairList(TreeDocument):
    """Pairs divided by `;`, `&`, `|` or commas, all on one line or on few long ones."""

    name = "pairs"
    what = "the pairs"

    @cached_property
    def marks(self) -> tuple[bytes, bytes]:
        """What divides the pairs, and what is between a key and its value.

        Raises:
            BindingError: nothing does.
        """
        text = self.data[self.text_start :].strip()
        lines = text.splitlines()
        for mark in (b";", b"&", b"|", b","):
            if mark not in text:
                continue  # there are no more parts than lines
            parts = [part for part in re.split(rb"[\r\n]|" + re.escape(mark), text) if part.strip()]
            for tie in (b"=", b":"):
                # A mark in front of all pairs, or a checksum behind them, is not a pair.
                pairs = len(parts) - sum(tie not in part for part in (*parts[:1], *parts[-1:]))
                if not max(len(lines), 2) < pairs == text.count(tie):
                    continue
                tied = [part for part in parts if tie in part]
                if len(tied) == pairs and not any(part.lstrip().startswith(tie) for part in tied):
                    return mark, tie
        raise BindingError(self.what, 0, "it is not made of keys with values")

    @cached_property
    def _quoting(self) -> Quoting:
        mark, tie = self.marks
        return Bare(self.encoding, forbidden=f"{mark.decode()}{tie.decode()}\r\n", where="a value of these pairs")

    @classmethod
    def quoting_of(cls, path: str, encoding: str) -> Quoting:
        return Bare(encoding, forbidden=";&|,\r\n", where="a value of these pairs")

    def parse(self) -> Tree:
        data, builder = self.data, Builder(self.what)
        mark, tie = self.marks
        begin = self.text_start
        builder.begin(OBJECT, None, begin, begin)
        pair = re.compile(
            rb"[ \t\r\n]*([^\r\n"
            + re.escape(mark + tie)
            + rb"]+?)[ \t]*"
            + re.escape(tie)
            + rb"[ \t]*([^\r\n"
            + re.escape(mark)
            + rb"]*)"
        )
        self._alone(builder, "#first", re.compile(rb"[^\r\n" + re.escape(mark) + rb"]*").match(data, begin))
        for match in pair.finditer(data, begin):
            start = match.start(2)
            end = start + len(match[2].rstrip(b" \t"))
            builder.leaf(SCALAR, match[1].decode(self.encoding, "replace"), match.start(1), start, end, end)
            begin = end
        self._alone(builder, "#last", re.compile(rb"[^\r\n" + re.escape(mark) + rb"]*\s*\Z").search(data, begin))
        builder.end(len(data))
        return builder.tree

    def _alone(self, builder: Builder, name: str, part: re.Match[bytes] | None) -> None:
        """Take in what stands in front of the pairs or behind them without a key, without the marks around it."""
        word = WORD.search(part[0]) if part is not None and self.marks[1] not in part[0] else None
        if part is not None and word is not None:
            start, end = part.start() + word.start(), part.start() + word.end()
            builder.leaf(SCALAR, name, start, start, end, end)


class LineList(TreeDocument):
    """One value on each line, some of them numbers, in an order that the game knows."""

    name = "lines"
    what = "the lines"

    @classmethod
    def quoting_of(cls, path: str, encoding: str) -> Quoting:
        return Bare(encoding, where="a line")

    def parse(self) -> Tree:
        data, builder = self.data, Builder(self.what)
        at = self.text_start
        builder.begin(ARRAY, None, at, at)
        numbers = count = 0
        for match in re.finditer(rb"([^\r\n]*)(?:\r\n|\n|\r|\Z)", data[at:]):
            line = match[1]
            if not line and match.end() == len(data) - at:
                break
            if len(line) > LONGEST:
                raise BindingError(self.what, at + match.start(), f"a line is longer than {LONGEST} letters")
            start = at + match.start() + len(line) - len(line.lstrip(b" \t"))
            end = max(at + match.start() + len(line.rstrip(b" \t")), start)
            builder.leaf(SCALAR, None, start, start, end, end)
            numbers, count = numbers + is_number(line.decode("latin-1")), count + 1
        builder.end(len(data))
        if count < 2 or numbers < count * FEWEST_NUMBERS:
            raise BindingError(self.what, 0, "its lines are not values")
        return builder.tree
