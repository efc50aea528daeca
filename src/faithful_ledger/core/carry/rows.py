"""Records that are carried from the rows of one save into those of another.

Between saves of one template a record is carried as it is, byte for byte; else field by field, by their names. Where
rows say what an empty place is, the first of these is filled.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from faithful_ledger.core.arranging import enter_all, insert_record, rows_now
from faithful_ledger.core.binding import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.binding.spans import all_fields
from faithful_ledger.core.carry.values import Fields, LeftOut, carried, in_unit, is_value, keyed_path
from faithful_ledger.core.errors import EntryError, LedgerError
from faithful_ledger.core.save import Save, refuse_dependent

__all__ = ["OnClash", "carry_rows", "rows_like"]

OnClash = Literal["keep", "replace", "add"]


def carry_rows(source: Save, target: Save, paths: Iterable[str], on_clash: OnClash = "keep") -> list[LeftOut]:
    """Enter the records that paths lead to in the rows of another save. Where one has the key of a record there,
    `keep` leaves that one, `replace` gives it the values of the carried one, and `add` puts it in beside it where the
    rows allow that. Returns what was left out.

    Raises:
        LedgerError: a path leads to no records.
    """
    fields, left = Fields(target), list[LeftOut]()
    for path in paths:
        for record in _records(source, path):
            rows = record.parent
            assert isinstance(rows, RowsNode)
            try:
                left += _carry(source, target, record, rows_like(fields, rows), on_clash)
            except LedgerError as error:
                left.append(LeftOut(keyed_path(source, record), error.what))
    return left


def _records(save: Save, path: str) -> list[Node]:
    found: list[Node] = []
    for node in save.nodes(path):
        if isinstance(node, RowsNode):
            found += [item for item in node.items() if not node.is_empty(item)]
        elif node.index is not None:
            found.append(node)
        else:
            raise EntryError(f"{node.path} is not a record", "nothing was carried; name rows, or records of them")
    return found


def rows_like(fields: Fields, rows: RowsNode) -> RowsNode:
    """The rows of another save that are at the same path, or have the same name."""
    exact = [each for each in fields.rows if each.path == rows.path]
    alike = exact or [each for each in fields.rows if each.spec.name == rows.spec.name]
    if len(alike) != 1:
        what = f"more than one rows are called {rows.spec.name}" if alike else f"no rows are called {rows.spec.name}"
        raise EntryError(f"{what} in {fields.save.path.name}")
    return alike[0]


def _carry(source: Save, target: Save, record: Node, rows: RowsNode, on_clash: OnClash) -> list[LeftOut]:
    """One record. Returns which of its values were left out."""
    now = rows_now(target, rows.path)
    key = _key_text(source, record)
    clash = _same_key(target, now, key) if key is not None else None
    if clash is not None and on_clash == "replace":
        return _put(source, target, record, rows.path, clash)
    if clash is not None and (on_clash == "keep" or not now.spec.key_may_repeat):
        why = "is kept as it is" if on_clash == "keep" else f"two may not have one {now.spec.key}"
        return [LeftOut(keyed_path(source, record), f"{key} is there already, and {why}")]
    place = next((n for n, item in enumerate(now.items()) if now.is_empty(item)), None) if now.spec.empty else None
    if place is not None:
        return _put(source, target, record, rows.path, place)
    if now.spec.empty and now.spec.count is not None and now.spec.count.constant is not None:
        raise EntryError(f"none of the {now.count} places of {rows.path} is empty")
    held = source.files[record.file].bound
    if _is_alike(source, target, record, now) and held is not None:
        data = bytes(held.source.read(record.start, record.end))
        insert_record(target, rows.path, now.count, data=data)
        return []
    insert_record(target, rows.path, now.count)
    try:
        left = _put(source, target, record, rows.path, now.count)
        field = record.key_field if isinstance(record, GroupNode) else None
        if field is not None and (lost := next((e for e in left if e.path == keyed_path(source, field)), None)):
            raise EntryError(f"it cannot be distinguished from the others here: {lost.why}")
    except LedgerError:
        target.tape.undo()  # no record without its values
        raise
    return left


def _is_alike(source: Save, target: Save, record: Node, rows: RowsNode) -> bool:
    """Whether records of both are laid out alike, so that their bytes can be copied."""
    one, other = source.template, target.template
    if one is None or other is None:
        return False
    same = one is other or (one.id, one.version) == (other.id, other.version)
    parent = record.parent
    return same and parent is not None and parent.path == rows.path


def _same_key(save: Save, rows: RowsNode, key: str) -> int | None:
    """The number of the record of some rows that has a key."""
    found = (n for n, item in enumerate(rows.items()) if not rows.is_empty(item) and _key_text(save, item) == key)
    return next(found, None)


def _key_text(save: Save, record: Node) -> str | None:
    """What tells a record from the others; None where nothing does."""
    key = record.key_field if isinstance(record, GroupNode) else None
    return save.text(key) if key is not None else None


def _put(source: Save, target: Save, record: Node, rows: str, number: int) -> list[LeftOut]:
    """Enter the values of a record in one of some rows. Returns what was left out."""
    there = rows_now(target, rows).item(number)
    values: list[tuple[str, str]] = []
    left: list[LeftOut] = []
    known: dict[str, str] = {}
    for field in [record] if isinstance(record, FieldNode) else filter(is_value, all_fields(record)):
        value, node = carried(source, field, known), _counterpart(there, record, field)
        try:
            if node is None:
                raise EntryError(f"the records of {rows} have no {field.spec.name}")
            refuse_dependent(node)
            text = in_unit(value, node)
            target.typed_entry(node, text)
            values.append((f"{rows}[{number}]{node.path.removeprefix(there.path)}", text))
        except LedgerError as error:
            left.append(LeftOut(value.path, error.what))
    enter_all(target, values)
    return left


def _counterpart(there: Node, record: Node, field: FieldNode) -> FieldNode | None:
    """The field of another record that is called so, within groups that are called so."""
    names: list[str] = []
    node: Node | None = field
    while node is not None and node is not record:
        if node.index is not None:
            return None  # of rows within the record
        if not (isinstance(node, GroupNode) and node.spec.flat):  # which leave no trace in paths
            names.append(node.spec.name)
        node = node.parent
    found: Node | None = there
    for name in reversed(names):
        found = found.names.get(name) if isinstance(found, GroupNode) else None
    return found if isinstance(found, FieldNode) else None
