"""The tape: entries that are written down but not posted, with undo and redo."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass

from faithful_ledger.core.binding.nodes import FieldNode, RowsNode
from faithful_ledger.core.codecs import Value

__all__ = ["Entry", "Tape"]


@dataclass(frozen=True, slots=True)
class Entry:
    """One change: a field, what it says and what it shall say. `data` are the new bytes.

    For a repeat whose records are given anew, old and new are the numbers of records.
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

    @property
    def moves(self) -> int:
        """How far it moves what lies behind it."""
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
        if self.is_bytes:
            return str(value)
        return self.node.spec.codec.to_text(value)


class Tape:
    """Entries by path, at most one a field. Every change of the tape can be undone, withdrawing as well."""

    def __init__(self) -> None:
        self._entries: dict[str, Entry] = {}
        self._past: list[dict[str, Entry]] = []
        self._future: list[dict[str, Entry]] = []

    def __iter__(self) -> Iterator[Entry]:
        return iter(self._entries.values())

    def __len__(self) -> int:
        return len(self._entries)

    def get(self, path: str) -> Entry | None:
        return self._entries.get(path)

    def put(self, entries: list[Entry], instead_of: Collection[str] = ()) -> None:
        """Write entries down as one step; an entry that restores the old bytes withdraws the one before it.

        Entries of the paths in `instead_of` are withdrawn in the same step.
        """
        following = {path: entry for path, entry in self._entries.items() if path not in instead_of}
        for entry in entries:
            following.pop(entry.path, None)
            if entry.data != entry.node.raw:
                following[entry.path] = entry
        self._step(following)

    def withdraw(self, path: str) -> None:
        self._step({kept: entry for kept, entry in self._entries.items() if kept != path})

    def clear(self) -> None:
        self._step({})

    def undo(self) -> bool:
        """Go back one step; False where there is none."""
        if not self._past:
            return False
        self._future.append(self._entries)
        self._entries = self._past.pop()
        return True

    def redo(self) -> bool:
        if not self._future:
            return False
        self._past.append(self._entries)
        self._entries = self._future.pop()
        return True

    @property
    def can_undo(self) -> bool:
        return bool(self._past)

    @property
    def can_redo(self) -> bool:
        return bool(self._future)

    def _step(self, following: dict[str, Entry]) -> None:
        if following != self._entries:
            self._past.append(self._entries)
            self._future.clear()
            self._entries = following
