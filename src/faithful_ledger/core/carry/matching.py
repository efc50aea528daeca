"""Everything in one save beside what another one says: what would go where, and what cannot be carried."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

from faithful_ledger.core.arranging import rows_now
from faithful_ledger.core.binding import FieldNode, GroupNode, RowsNode
from faithful_ledger.core.binding.spans import all_fields
from faithful_ledger.core.carry.rows import rows_like
from faithful_ledger.core.carry.values import Carried, Fields, carried, in_unit, is_value, keyed_path
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.save import Save, refuse_dependent

__all__ = ["Match", "matches"]

MOST_MATCHED = 20_000
NEW, THERE = "a new record", "one of this key is there"
IN_SHORT = 4  # values of a record


class Match(NamedTuple):
    """A value, or a whole record (`is_record`): what it says there and here, where it goes, and why it cannot."""

    path: str
    title: str
    there: str
    here: str
    goes_to: str
    why: str = ""
    is_record: bool = False
    is_same: bool = False


def matches(source: Save, target: Save, into: Mapping[str, str], *, records: bool = False) -> Iterator[Match]:
    """Every value of a save that says something of its own, and every record that another one lacks; or every record
    as a whole (`records`). `into` says of paths where they go, where that was said before.
    """
    matching, count, whole = _Matching(source, target), 0, set[str]()
    for node in source.all_fields():
        if not is_value(node) or count >= MOST_MATCHED:
            continue
        record = node.record
        if isinstance(record, GroupNode) and isinstance(record.parent, RowsNode) and record.parent.is_empty(record):
            continue
        try:
            value = carried(source, node, matching.known)
        except LedgerError:
            continue
        count += 1
        chosen = into.get(value.path, "")
        if isinstance(record, GroupNode) and record.path not in whole:
            lacking = not chosen and matching.is_lacking(record)
            if lacking or records:
                whole.add(record.path)
                yield matching.record(record, is_new=lacking or record.key_field is None)
        if not records and not (isinstance(record, GroupNode) and record.path in whole):
            yield matching.value(node, value, chosen)


class _Matching:
    """Two saves, and what was found out about them on the way."""

    def __init__(self, source: Save, target: Save) -> None:
        self.source, self.target, self.fields = source, target, Fields(target)
        self.known: dict[str, str] = {}  # the paths of records by their keys
        self._rows: dict[str, dict[str, GroupNode] | None] = {}

    def value(self, node: FieldNode, value: Carried, chosen: str) -> Match:
        title = self.source.title(node)
        try:
            found = self.fields.at(value._replace(path=chosen or value.path))
            refuse_dependent(found)
            entry = self.target.typed_entry(found, in_unit(value, found), anyway=True)
            there, here = found.spec.storage.to_text(entry.new), self.target.text(found)
            return Match(value.path, title, there, here, found.path, is_same=there == here)
        except LedgerError as error:
            return Match(value.path, title, self.source.text(node), "", chosen, error.what)

    def record(self, record: GroupNode, *, is_new: bool) -> Match:
        key = record.key_field
        mine = _texts(self.source, record)
        other = None if is_new or key is None else (self._records(record) or {}).get(self.source.text(key))
        theirs = _texts(self.target, other) if other is not None else {}
        name = self.source.text(key) if key is not None else record.path
        path, goes_to = keyed_path(self.source, record, self.known), NEW if is_new else THERE
        short, beside = (" · ".join(filter(None, [*texts.values()][:IN_SHORT])) for texts in (mine, theirs))
        is_same = not is_new and mine == theirs
        return Match(path, f"record {name}", short, beside, goes_to, is_record=True, is_same=is_same)

    def is_lacking(self, record: GroupNode) -> bool:
        """Whether the other save has such rows, and none of their records has this one's key."""
        key, found = record.key_field, self._records(record)
        return key is not None and found is not None and self.source.text(key) not in found

    def _records(self, record: GroupNode) -> dict[str, GroupNode] | None:
        """The records of the other save's rows by their keys; None where it has no such rows."""
        rows = record.parent
        assert isinstance(rows, RowsNode)
        if rows.path not in self._rows:
            try:
                now = rows_now(self.target, rows_like(self.fields, rows).path)
            except LedgerError:
                self._rows[rows.path] = None
            else:
                items = (item for item in now.items() if isinstance(item, GroupNode) and not now.is_empty(item))
                keyed = ((item.key_field, item) for item in items)
                self._rows[rows.path] = {self.target.text(key): item for key, item in keyed if key is not None}
        return self._rows[rows.path]


def _texts(save: Save, record: GroupNode) -> dict[str, str]:
    """What the values of a record say, by their names."""
    return {field.spec.name: save.text(field) for field in all_fields(record) if is_value(field)}
