"""Tables in text (CSV, RFC 4180, also with tabs, semicolons or bars) as a document: a list of rows.

Where the first row names the columns, a row's values go by these names; else by number.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cached_property
from itertools import islice

from faithful_ledger.core.errors import BindingError
from faithful_ledger.core.formats.quoting import Bare, Doubled
from faithful_ledger.core.formats.tree import ARRAY, OBJECT, STRING, Builder, Tree, kind_of
from faithful_ledger.core.formats.tree_document import TreeDocument
from faithful_ledger.core.storage import Quoting
from faithful_ledger.core.storage.spelled import is_number

__all__ = ["TableDocument"]

MARKS = (b"\t", b";", b",", b"|")
SAMPLE = 200  # rows that say which delimiter it is


class TableDocument(TreeDocument):
    name = "table"
    what = "the table"

    @cached_property
    def _quoting(self) -> Quoting:
        mark = self.delimiter.decode()
        return Doubled(self.encoding, Bare(self.encoding, forbidden=f'{mark}"\r\n', where="a cell without quotes"))

    @classmethod
    def quoting_of(cls, path: str, encoding: str) -> Quoting:
        return Doubled(encoding, Bare(encoding, forbidden=',;\t|"\r\n', where="a cell without quotes"))

    @cached_property
    def delimiter(self) -> bytes:
        """What is between the cells: what divides the first rows into as many each.

        Raises:
            BindingError: nothing does.
        """
        best: tuple[float, int, bytes] | None = None
        for mark in MARKS:
            counts = [len(row) for row in islice(_rows(self.data, mark, 0), SAMPLE)]
            counts = [count for count in counts if count]
            if counts and counts[0] > 1:
                alike = sum(count == counts[0] for count in counts) / len(counts)
                if best is None or (alike, counts[0]) > best[:2]:
                    best = alike, counts[0], mark
        if best is None or best[0] < 0.8 or len(list(islice(filter(None, _rows(self.data, best[2], 0)), 2))) < 2:
            raise BindingError(self.what, 0, "its rows do not have the same number of cells")
        return best[2]

    def parse(self) -> Tree:
        data, builder = self.data, Builder(self.what)
        start = self.text_start
        rows = [row for row in _rows(data, self.delimiter, start) if row]
        builder.begin(ARRAY, None, start, start)
        names = self._names(rows)
        for row in rows[1 if names else 0 :]:
            first, last = row[0][0], row[-1][1]
            builder.begin(OBJECT if names else ARRAY, None, first, first)
            for number, (begin, end) in enumerate(row):
                text = data[begin:end].decode(self.encoding, "replace")
                kind = kind_of(text.strip('"')) if text else STRING
                name = names[number] if number < len(names) else None
                builder.leaf(kind, name, begin, begin, end, end)
            builder.end(last)
        builder.end(len(data))
        return builder.tree

    def _names(self, rows: list[list[tuple[int, int]]]) -> list[str]:
        """The names in the first row, where it has names: all different and none a number."""
        names = [self._quoting.decode(self.data[start:end]).strip() for start, end in rows[0]]
        plain = all(name and not is_number(name) for name in names) and len(set(names)) == len(names)
        return names if plain and len(rows) > 1 else []


def _rows(data: bytes, mark: bytes, start: int) -> Iterator[list[tuple[int, int]]]:
    """The spans of the cells of every row; a blank line has none."""
    cell = re.compile(rb'"(?:[^"]|"")*"(?=[' + re.escape(mark) + rb"\r\n]|\Z)|[^" + re.escape(mark) + rb"\r\n]*")
    row: list[tuple[int, int]] = []
    at, size = start, len(data)
    while at <= size:
        match = cell.match(data, at)
        assert match is not None
        row.append(match.span())
        at = match.end()
        if data[at : at + 1] == mark:
            at += 1
            continue
        yield row if len(row) > 1 or row[0][0] < row[0][1] else []
        row = []
        if at >= size:
            break
        at += 2 if data[at : at + 2] == b"\r\n" else 1
        if at == size:
            break
