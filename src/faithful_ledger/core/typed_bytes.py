"""Entries of bytes: typed over, inserted or removed, whether a field describes them or not."""

from __future__ import annotations

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.binding.spans import field_at, fields_between
from faithful_ledger.core.entries import Entry
from faithful_ledger.core.errors import EntryError, ValueRefused, place
from faithful_ledger.core.save import Save, SaveFile, field_entry, refuse_dependent
from faithful_ledger.core.storage import RawBytes, Storage
from faithful_ledger.core.template.model import FieldSpec

__all__ = ["bytes_entry", "enter_bytes", "enter_whole"]


def enter_bytes(save: Save, file: str, start: int, end: int, data: bytes, typed_as: Storage | None = None) -> Entry:
    """Write new bytes down for bytes [start, end) of a file: typed over, inserted (start = end) or removed.

    Bytes of one field, as many as before, are an entry of that field. Bytes next to those of an earlier entry of
    bytes, or over them, are one entry with it. What was `typed_as` a number is shown as one.

    Raises:
        EntryError: they are worked out when you post, or locked.
        ValueRefused: the field cannot hold them.
    """
    held = save.files[file]
    if save.problem is not None:
        raise EntryError(save.problem.what, save.problem.remedy or "nothing can be entered")
    root = held.bound.root if held.bound is not None else None
    node = field_at(root, start) if root is not None and end > start else None
    if node is not None and not node.spec.unknown and end <= node.end and len(data) == end - start:
        entry = _of_field(save, node, start, data)
    else:
        touched = fields_between(root, start, max(end, start + 1)) if root is not None else ()
        for field in touched:
            if field.start < end and start < field.end:
                refuse_dependent(field)
        start, end, data, joined = _joined(save, held, start, end, data)
        alone = typed_as if typed_as is not None and len(data) == typed_as.least_size == end - start else RawBytes()
        entry = _of_bytes(save, held, start, end, data, alone)
        save.tape.put([entry], joined)
        return entry
    save.tape.put([entry])
    return entry


def bytes_entry(save: Save, file: str, start: int, end: int, data: bytes, label: str) -> Entry:
    """The entry that gives bytes which no field describes, [start, end) of a file, other ones; not written down yet."""
    entry = _of_bytes(save, save.files[file], start, end, data, RawBytes())
    entry.node.spec.label = label
    return entry


def enter_whole(save: Save, file: str, data: bytes) -> Entry:
    """Write down that a payload is wholly another one, with lengths and seals of its own.

    Raises:
        EntryError: nothing can be entered.
    """
    held = save.files[file]
    if save.problem is not None:
        raise EntryError(save.problem.what, save.problem.remedy or "nothing can be entered")
    entry = _of_bytes(save, held, 0, held.source.size, data, RawBytes())
    save.tape.put([entry], [each.path for each in save.tape if each.node.file == file])
    return entry


def _of_field(save: Save, node: FieldNode, start: int, data: bytes) -> Entry:
    refuse_dependent(node)
    before, at = save.tape.get(node.path), start - node.start
    raw = before.data if before is not None and len(before.data) == node.size else node.raw
    new = raw[:at] + data + raw[at + len(data) :]
    try:
        return field_entry(node, new)
    except ValueRefused as error:
        raise ValueRefused(f"{node.path} at {place(start)}: {error.what}", error.remedy) from error


def _of_bytes(save: Save, held: SaveFile, start: int, end: int, data: bytes, storage: Storage) -> Entry:
    name = f"bytes_{start:X}" if start < end else f"inserted_{start:X}"
    spec = FieldSpec(name, label=f"Bytes at 0x{start:X}", storage=storage)
    node = FieldNode(spec, None, held.name, start, held.source)
    node.end = end
    path = name if held is save.main else f"{held.name}.{name}"
    return Entry(node, path, storage.decode(node.raw), storage.decode(data), data)


def _joined(save: Save, held: SaveFile, start: int, end: int, data: bytes) -> tuple[int, int, bytes, set[str]]:
    """New bytes together with those of the entries they touch, whose paths come last; only bytes typed over join."""
    joined: set[str] = set()
    if not start < end or len(data) != end - start:
        return start, end, data, joined
    grown = True
    while grown:
        grown = False
        for entry in save.tape:
            node = entry.node
            if not entry.is_bytes or node.file != held.name or entry.moves or not node.size or entry.path in joined:
                continue
            if node.start <= end and start <= node.end:
                low, high = min(start, node.start), max(end, node.end)
                whole = bytearray(held.source.read(low, high))
                whole[node.start - low : node.end - low] = entry.data
                whole[start - low : end - low] = data
                start, end, data = low, high, bytes(whole)
                joined.add(entry.path)
                grown = True
    return start, end, data, joined
