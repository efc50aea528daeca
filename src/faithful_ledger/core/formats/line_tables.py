"""Tables within keyed lines: below a section or a key without a value, a row of names and rows of cells under them."""

from __future__ import annotations

import re
from typing import NamedTuple

from faithful_ledger.core.formats.quoting import Bare, Doubled
from faithful_ledger.core.storage import Quoting
from faithful_ledger.core.storage.spelled import is_number

__all__ = ["MARKS", "LineTable", "cell_quoting", "table_in", "without_tables"]

MARKS = (b"\t", b";", b"|", b",", b" ")  # between cells, likeliest first; blanks may be several
CELLS = {
    mark: re.compile(rb'[ \t]*("(?:[^"]|"")*"(?=[ \t]*(?:' + re.escape(mark) + rb"|\Z))|[^" + re.escape(mark) + rb"]*)")
    for mark in MARKS[:-1]
}
WORD = re.compile(rb'"[^"]*"|[^ \t]+')
HOLDER = re.compile(rb"[ \t]*(?:\[[^\[\]]+\]|[^=:\r\n]*[^=:\s\r\n][ \t]*[=:])[ \t]*")
NOT_CELLS = re.compile(rb"\s*(?:\Z|[\[#;{}]|//)|.*?[=:]")
MOST_CELLS = 200


class LineTable(NamedTuple):
    """A table in lines: the mark between cells, the names, and the spans of each row's cells within their line."""

    mark: bytes
    names: list[bytes]
    rows: list[list[tuple[int, int]]]


def table_in(lines: list[bytes]) -> LineTable | None:
    """The table that lines are, the first of which has its names; None where they are none."""
    if len(lines) < 2:
        return None
    for mark in MARKS:
        if mark not in lines[0].strip():
            continue
        cells = _cells(lines[0], mark)
        names = [lines[0][start:end].strip(b'"') for start, end in cells]
        plain = all(name and not is_number(name.decode("latin-1")) for name in names) and len(set(names)) == len(names)
        if not plain or not 1 < len(names) <= MOST_CELLS:
            continue
        rows = [_cells(line, mark) for line in lines[1:]]
        if all(len(row) == len(names) for row in rows) and _has_numbers(lines[1], rows[0]):
            return LineTable(mark, names, rows)
    return None


def _has_numbers(line: bytes, row: list[tuple[int, int]]) -> bool:
    return any(is_number(line[start:end].strip(b'"').decode("latin-1")) for start, end in row)


def _cells(line: bytes, mark: bytes) -> list[tuple[int, int]]:
    """The spans of the cells of a line, without the blanks around them."""
    if mark == b" ":
        return [match.span() for match in WORD.finditer(line)]
    found, at = [], 0
    line = line.rstrip()
    while at <= len(line):
        match = CELLS[mark].match(line, at)
        assert match is not None
        start, end = match.span(1)
        found.append((start, start + len(line[start:end].rstrip())))
        at = line.find(mark, end) + 1 or len(line) + 1
    return found


def cell_quoting(mark: bytes, encoding: str) -> Quoting:
    """How a cell of a table with this mark is quoted."""
    forbidden = f'{mark.decode()}"\r\n=:'
    return Doubled(encoding, Bare(encoding, forbidden=forbidden, where="a cell of this table"))


def without_tables(lines: list[bytes]) -> list[bytes]:
    """Lines without those of tables below sections and keys."""
    kept: list[bytes] = []
    at = 0
    while at < len(lines):
        kept.append(lines[at])
        holds = HOLDER.fullmatch(lines[at]) is not None
        at += 1
        end = at
        while holds and end < len(lines) and not NOT_CELLS.match(lines[end]):
            end += 1
        if end > at + 1 and table_in(lines[at:end]) is not None:
            at = end
    return kept
