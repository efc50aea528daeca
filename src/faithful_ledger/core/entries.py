"""The tape: entries that are written down but not posted, with undo and redo."""

from __future__ import annotations

import itertools
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from typing import Literal, NamedTuple

from faithful_ledger.core.binding.nodes import FieldNode, RowsNode
from faithful_ledger.core.edits import Cause, Replacement
from faithful_ledger.core.storage import Value

__all__ = ["Entry", "Tape"]


@dataclass(frozen=True, slots=True)
class Entry:
    """One change: a field, what it says and what it shall say. `data` are the new bytes.

    For rows whose records are given anew, old and new are the numbers of records.
    """

    node: FieldNode | RowsNode
    path: str
    old: Value
    new: Value
    data: bytes

    @property
    def is_bytes(self) -> bool:
        """Whether it is about bytes that no field describes."""
        return isinstance(self.node, FieldNode) and self.node.parent is None

    def replacement(self, kind: Literal["entry", "rule"] = "entry") -> Replacement:
        """The bytes that give way to it."""
        node = self.node
        causes = (Cause(kind, self.path),)
        if isinstance(node, RowsNode):
            return Replacement(node.start, node.end, self.data, causes, node)
        if node.parent is None:
            return Replacement(node.start, node.end, self.data, causes)
        return Replacement(node.start, node.end, self.data, causes, node, node.spec.storage.mask)

    def holds(self, node: FieldNode | RowsNode) -> bool:
        """Whether an element, bound again, says what was entered."""
        if isinstance(node, RowsNode):  # lengths and seals within records that were given anew follow
            return node.count == self.new
        mask = node.spec.storage.mask if isinstance(node, FieldNode) else None
        if mask is None:
            return node.raw == self.data
        return all((a ^ b) & bit == 0 for a, b, bit in zip(node.raw, self.data, mask, strict=True))

    @property
    def moves(self) -> int:
        """How far it moves what is behind it."""
        return len(self.data) - self.node.size

    @property
    def old_text(self) -> str:
        return self._text(self.old)

    @property
    def new_text(self) -> str:
        return self._text(self.new)

    def _text(self, value: Value) -> str:
        if isinstance(self.node, RowsNode):
            return f"{value} records"
        return self.node.spec.storage.to_text(value)


class Placed(NamedTuple):
    """An entry and its place among all that were written down."""

    place: int
    entry: Entry


Step = dict[str, Placed | None]
"""What paths have after a step, None for no entry; a step costs what it changes, however long the tape is."""


class Tape:
    """Entries by path, at most one a field. Every change of the tape can be undone, withdrawing as well."""

    def __init__(self) -> None:
        self._entries: dict[str, Placed] = {}
        self._past: list[Step] = []
        self._future: list[Step] = []
        self._places = itertools.count()
        self.rows: dict[str, Entry] = {}  # of rows that are given anew
        self.version = 0  # another one after every change

    def __iter__(self) -> Iterator[Entry]:
        """The entries in the order they were written down."""
        return (placed.entry for placed in sorted(self._entries.values(), key=lambda placed: placed.place))

    def __len__(self) -> int:
        return len(self._entries)

    def get(self, path: str) -> Entry | None:
        placed = self._entries.get(path)
        return placed.entry if placed else None

    @property
    def counts(self) -> dict[str, int]:
        """How many records rows have that are given anew, by their paths."""
        return {path: entry.new for path, entry in self.rows.items() if isinstance(entry.new, int)}

    def rows_around(self, path: str) -> str:
        """The path of the rows given anew that a path leads into; empty where it leads into none."""
        return next((rows for rows in self.rows if path.startswith(f"{rows}[")), "")

    def put(self, entries: list[Entry], instead_of: Collection[str] = ()) -> None:
        """Write entries down as one step; an entry that restores the old bytes withdraws the one before it.

        Entries of the paths in `instead_of` are withdrawn in the same step.
        """
        step: Step = dict.fromkeys(instead_of)
        for entry in entries:
            step[entry.path] = Placed(next(self._places), entry) if entry.data != entry.node.raw else None
        self._do(step)

    def withdraw(self, path: str) -> None:
        self._do({path: None})

    def clear(self) -> None:
        self._do(dict.fromkeys(self._entries))

    def undo(self) -> bool:
        """Go back one step; False where there is none."""
        if not self._past:
            return False
        self._future.append(self._exchange(self._past.pop()))
        return True

    def redo(self) -> bool:
        if not self._future:
            return False
        self._past.append(self._exchange(self._future.pop()))
        return True

    @property
    def can_undo(self) -> bool:
        return bool(self._past)

    @property
    def can_redo(self) -> bool:
        return bool(self._future)

    def _do(self, step: Step) -> None:
        changed = {path: placed for path, placed in step.items() if self.get(path) != (placed and placed.entry)}
        if changed:
            self._past.append(self._exchange(changed))
            self._future.clear()

    def _exchange(self, step: Step) -> Step:
        """Take a step; returns the one that leads back."""
        back: Step = {path: self._entries.get(path) for path in step}
        self.version += 1
        for path, placed in step.items():
            self.rows.pop(path, None)
            if placed:
                self._entries[path] = placed
                if isinstance(placed.entry.node, RowsNode):
                    self.rows[path] = placed.entry
            else:
                self._entries.pop(path, None)
        return back
