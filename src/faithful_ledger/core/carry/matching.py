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


class Match(NamedTuple):
    """A value, or a whole record that the other save lacks (`is_record`): what it says there and here, where it goes,
    and why it cannot.
    """

    path: str
    title: str
    there: str
    here: str
    goes_to: str
    why: str = ""
    is_record: bool = False

    @property
    def is_same(self) -> bool:
        return not self.why and not self.is_record and self.there == self.here


def matches(source: Save, target: Save, into: Mapping[str, str], *, records: bool = False) -> Iterator[Match]:
    """Every value of a save that says something of its own, and every record that another one lacks; or every record
    as a whole (`records`). `into` says of paths where they go, where that was said before.
    """
    fields, known, count = Fields(target), dict[str, str](), 0
    lacking: set[str] = set()
    for node in source.all_fields():
        if not is_value(node) or count >= MOST_MATCHED:
            continue
        record = node.record
        if isinstance(record, GroupNode) and isinstance(record.parent, RowsNode) and record.parent.is_empty(record):
            continue
        try:
            value = carried(source, node, known)
        except LedgerError:
            continue
        is_group = isinstance(record, GroupNode)
        holder = keyed_path(source, record, known) if record is not None and is_group else ""
        if holder in lacking:
            continue
        count += 1
        chosen = into.get(value.path, "")
        lacks = bool(holder) and not chosen and _lacks(source, target, fields, record)
        if lacks or (records and holder):
            lacking.add(holder)
            short, title = _in_short(source, record), f"record {source.title(node).partition(' · ')[0]}"
            has_key = isinstance(record, GroupNode) and record.key_field is not None
            goes = "one of this key is there" if has_key and not lacks else "a new record"
            yield Match(holder, title, short, "", goes, is_record=True)
        elif not records:
            yield _match(source, target, fields, node, value, chosen)


def _match(source: Save, target: Save, fields: Fields, node: FieldNode, value: Carried, chosen: str) -> Match:
    there = source.text(node)
    try:
        found = fields.at(value._replace(path=chosen or value.path))
        refuse_dependent(found)
        text = in_unit(value, found)
        entry = target.typed_entry(found, text, anyway=True)
        shown = found.spec.storage.to_text(entry.new)
        return Match(value.path, source.title(node), shown, target.text(found), found.path)
    except LedgerError as error:
        return Match(value.path, source.title(node), there, "", chosen, error.what)


def _lacks(source: Save, target: Save, fields: Fields, record: object) -> bool:
    """Whether the other save has such rows, and none of their records has this one's key."""
    if not isinstance(record, GroupNode) or not isinstance(record.parent, RowsNode):
        return False
    key = record.key_field
    if key is None:
        return False
    try:
        rows = rows_like(fields, record.parent)
    except LedgerError:
        return False
    wanted = source.text(key)
    now = rows_now(target, rows.path)
    items = (item for item in now.items() if isinstance(item, GroupNode) and not now.is_empty(item))
    return all(target.text(item.key_field) != wanted for item in items if item.key_field is not None)


def _in_short(source: Save, record: object) -> str:
    """The first values of a record."""
    assert isinstance(record, GroupNode)
    parts = [source.text(field) for field in all_fields(record) if is_value(field)]
    return " · ".join(part for part in parts[:4] if part)
