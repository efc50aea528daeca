"""Slots that are records of one file: which there are, and a record that goes into another place.

A record is carried byte for byte, but for the fields that stay with the place, such as its number; seals follow when it
is posted.
"""

from __future__ import annotations

from collections.abc import Iterator

from faithful_ledger.core.binding import FieldNode, GroupNode, RowsNode
from faithful_ledger.core.carry.chains import emptied
from faithful_ledger.core.carry.slots import How, Slot, shown_in_words
from faithful_ledger.core.entries import Entry
from faithful_ledger.core.errors import EntryError, Refused
from faithful_ledger.core.save import Save
from faithful_ledger.core.typed_bytes import bytes_entry

__all__ = ["InnerSlots", "carry_record"]


class InnerSlots:
    """The slots in an open save.

    Raises:
        EntryError: its template does not say that it has any.
    """

    def __init__(self, save: Save) -> None:
        spec = save.template.slots if save.template is not None else None
        if spec is None or not spec.rows:
            what = f"{save.path.name} has no slots inside"
            raise EntryError(what, "nothing was written; see `slots` in its template")
        if save.problem is not None:
            raise save.problem
        self.save, self.spec, self.first = save, spec, spec.first if spec.first is not None else 1
        (rows,) = save.nodes(spec.rows)
        assert isinstance(rows, RowsNode)
        self.rows = rows

    def listed(self) -> list[Slot]:
        """Every slot, in the order of the file."""
        return [self.slot(record) for record in self._records()]

    def _records(self) -> Iterator[GroupNode]:
        return (item for item in self.rows.items() if isinstance(item, GroupNode))

    def slot(self, record: GroupNode) -> Slot:
        """What is in a record."""
        taken = not self.rows.is_empty(record)
        title = " · ".join(filter(None, (self._shown(record, name) for name in self.spec.shows))) if taken else ""
        path = self.save.main.path
        return Slot(str(self.first + (record.index or 0)), path, title, taken, name=path.name)

    def _shown(self, record: GroupNode, name: str) -> str:
        node = record.names.get(name)
        return shown_in_words(self.save, node) if isinstance(node, FieldNode) else ""

    def record(self, slot: str) -> GroupNode:
        """Raises EntryError when there is no such slot."""
        last = self.first + self.rows.count - 1
        if not slot.isdecimal() or not self.first <= int(slot) <= last:
            raise EntryError(f"there is no slot {slot}", f"nothing was written; slots are {self.first} to {last}")
        record = self.rows.item(int(slot) - self.first)
        assert isinstance(record, GroupNode)
        return record


def carry_record(
    save: Save, to: str, of: str, how: How = "copy", source: Save | None = None, *, anyway: bool = False
) -> None:
    """Enter the record of slot `of` in slot `to`; `source` is a kept copy that it comes from.

    Raises:
        Refused: the slot is taken.
        EntryError: there is no such slot, or nothing in it.
    """
    slots, origin = InnerSlots(save), InnerSlots(source or save)
    mine, there = origin.record(of), slots.record(to)
    free = slots.rows.is_empty(there)
    if origin.rows.is_empty(mine):
        raise EntryError(f"slot {of} is free", "nothing was written; name one that is taken")
    if source is None and mine.index == there.index:
        raise EntryError(f"slot {to} is where it is already", "nothing was written; name another slot")
    if how == "swap" and free:
        raise EntryError(f"slot {to} is free, so there is nothing to swap", "nothing was written; move it there")
    if not free and how != "swap" and not anyway:
        title = slots.slot(there).title
        what = f"slot {to} is taken{f' by {title}' if title else ''}"
        raise Refused(what, "nothing was written; swap the two, or replace it: what is there is kept first")
    entries = [_placed(slots, origin, mine, there)]
    if how == "swap":
        entries.append(_placed(origin, slots, there, mine))
    elif how == "move":
        entries += emptied(slots.rows, mine)
    save.tape.put([entry for entry in entries if entry.data != entry.node.raw])


def _placed(slots: InnerSlots, origin: InnerSlots, record: GroupNode, there: GroupNode) -> Entry:
    """The entry that makes one record another one, but for what stays with its place."""
    data = bytearray(origin.rows.source.read(record.start, record.end))
    kept, mine = ({name: node.names.get(name) for name in slots.spec.keep} for node in (there, record))
    for name, node in sorted(mine.items(), key=lambda each: each[1].start if each[1] is not None else 0, reverse=True):
        own = kept[name]
        if isinstance(node, FieldNode) and isinstance(own, FieldNode):
            data[node.start - record.start : node.end - record.start] = own.raw
    number = slots.first + (there.index or 0)
    return bytes_entry(slots.save, there.file, there.start, there.end, bytes(data), f"Slot {number}")
