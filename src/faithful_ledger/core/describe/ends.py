"""Where rows may end: how far records go on that look like the first ones, and which fields say as much."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

from faithful_ledger.core.binding import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.binding.spans import all_fields, fields_between
from faithful_ledger.core.describe.links import shortest_name
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.rules.audit import field_findings

__all__ = ["End", "ends_of", "sensible_records"]

MOST_RECORDS = 10_000
MOST_ENDS = 12
LARGER = 8  # bits that a number may be larger than in the records that are sure
LEAST_PRINTABLE = 0.9


class End(NamedTuple):
    """One way rows may end, in words and as keys, with how many records there are then."""

    words: str
    keys: dict[str, Any]
    records: int


def ends_of(rows: RowsNode) -> list[End]:
    """For rows whose first records are known, the likeliest end first: by a field in front that says their number or
    size, by a marker, or where records stop making sense.
    """
    limit = _limit(rows)
    starts = [rows.start, *sensible_records(rows, limit)]
    sensible = len(starts) - 1
    found: list[End] = []
    for field, number in _numbers_before(rows):
        name = shortest_name(rows, field)
        if name is None:
            continue
        if rows.count < number <= sensible or (number == sensible == rows.count):
            found.append(End(f"as many as {name} says: {number}", {"count": name}, number))
        if number and rows.start + number in starts[1:]:
            count = starts.index(rows.start + number)
            found.append(End(f"as many bytes as {name} says: {count} records", {"size": name}, count))
    found.sort(key=lambda each: -each.records)
    words = f"down to where it stops making sense: {sensible}"
    found.append(End(words, {"count": sensible}, sensible))
    end = starts[-1]
    marker = bytes(rows.source.read(end, end + 1))
    if end < limit and marker not in _first_bytes(rows, starts[:-1]):
        found.append(
            End(f"up to the byte {marker.hex().upper()}: {sensible}", {"ended_by": marker.hex().upper()}, sensible)
        )
    return found[:MOST_ENDS]


def _limit(rows: RowsNode) -> int:
    """Where the rows have to end: at the next thing that is described, or at the end of the group around."""
    root: Node = rows
    around: Node | None = rows.parent
    limit = rows.source.size
    while around is not None:
        if isinstance(around, GroupNode) and around.spec.size is not None:
            limit = min(limit, around.end)
        root, around = around, around.parent
    behind = (field for field in fields_between(root, rows.end, limit) if not field.spec.unknown)
    return min((field.start for field in behind), default=limit)


def sensible_records(rows: RowsNode, limit: int) -> Iterator[int]:
    """Where each record ends, those that are sure and then those that make sense, up to a limit."""
    sure: dict[str, int] = {}
    at = rows.start
    for index in range(MOST_RECORDS):
        try:
            item = rows.item_at(index, at)
            if item.end <= at or item.end > limit or not _makes_sense(item, sure, learning=index < rows.count):
                return
        except LedgerError:
            return
        at = item.end
        yield at


def _makes_sense(item: Node, sure: dict[str, int], *, learning: bool) -> bool:
    """Whether every field can be read, texts have letters, and no number is far larger than in the sure records."""
    for node in all_fields(item):
        if node.spec.unknown:
            continue
        if any(finding.level == "error" for finding in field_findings(node)):
            return False
        value = node.value
        if isinstance(value, str):
            printable = sum(letter.isprintable() for letter in value)
            if value and printable < LEAST_PRINTABLE * len(value):
                return False
        elif isinstance(value, int | float):
            if value != value or abs(value) == float("inf"):
                return False
            bits = int(abs(value)).bit_length()
            key = f"{node.spec.name}"
            if learning:
                sure[key] = max(sure.get(key, 0), bits)
            elif bits > sure.get(key, 0) + LARGER:
                return False
    return True


def _numbers_before(rows: RowsNode) -> Iterator[tuple[FieldNode, int]]:
    """Whole numbers in front of the rows that an expression can name, the nearest first."""
    holder: Node | None = rows.parent
    inner: Node = rows
    while holder is not None:
        if isinstance(holder, GroupNode):
            for child in reversed([each for each in holder.children if each.start < inner.start]):
                parts = [child] if isinstance(child, FieldNode) else getattr(child, "children", [])
                for field in reversed(parts):
                    if isinstance(field, FieldNode) and not field.spec.unknown:
                        try:
                            yield field, field.number
                        except LedgerError:
                            continue
        inner, holder = holder, holder.parent


def _first_bytes(rows: RowsNode, starts: list[int]) -> set[bytes]:
    return {bytes(rows.source.read(start, start + 1)) for start in starts}
