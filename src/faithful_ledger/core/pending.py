"""Entries that are not posted yet, as a text the book keeps: a crash of the program does not lose them.

The text says for which state of the files they were made. In that state they come back byte for byte; in another one,
as after the game has saved, the values of fields can be entered again, and what is about bytes or whole lists cannot.
"""

from __future__ import annotations

import json
from typing import Any, NamedTuple

from faithful_ledger.core.binding import FieldNode, RowsNode
from faithful_ledger.core.entries import Entry
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.save import Save, field_entry
from faithful_ledger.core.typed_bytes import enter_bytes

__all__ = ["Pending", "read_pending", "written_down"]


def written_down(save: Save) -> str:
    """The tape of a save as a text; empty where nothing is on it."""
    if not len(save.tape):
        return ""
    return json.dumps({"files": _moments(save), "entries": [_noted(entry) for entry in save.tape]})


def _moments(save: Save) -> dict[str, list[int]]:
    return {file.name: list(file.moment[2:]) for file in save.on_disk if file.moment is not None}


def _noted(entry: Entry) -> dict[str, Any]:
    noted: dict[str, Any] = {"path": entry.path, "data": entry.data.hex()}
    if entry.is_bytes:
        return noted | {"bytes": [entry.node.file, entry.node.start, entry.node.end]}
    return noted | ({"count": entry.new} if isinstance(entry.node, RowsNode) else {"text": entry.new_text})


class Pending(NamedTuple):
    """What a text of the book says: the state of the files, and the entries made for it."""

    files: dict[str, list[int]]
    entries: list[dict[str, Any]]

    def is_current(self, save: Save) -> bool:
        """Whether the entries were made for the files as they are open now."""
        return self.files == _moments(save)

    def bring_back(self, save: Save) -> int:
        """Put the entries on the tape again; returns how many could not be, as the save or its template changed."""
        current, failed = self.is_current(save), 0
        for entry in self.entries:
            try:
                _bring_back_one(save, entry, current)
            except (LedgerError, ValueError, TypeError, KeyError):
                failed += 1
        return failed


def read_pending(text: str) -> Pending:
    """The entries of a text; none where it cannot be read."""
    try:
        noted = json.loads(text)
        files, entries = noted["files"], noted["entries"]
        sound = isinstance(files, dict) and all(isinstance(entry["path"], str) for entry in entries)
    except (ValueError, TypeError, KeyError):
        sound = False
    return Pending(files, entries) if sound else Pending({}, [])


def _bring_back_one(save: Save, noted: dict[str, Any], current: bool) -> None:
    if not current:
        save.enter(noted["path"], noted["text"], anyway=True)
        return
    data = bytes.fromhex(noted["data"])
    if "bytes" in noted:
        file, start, end = noted["bytes"]
        enter_bytes(save, file, start, end, data)
        return
    (node,) = save.nodes(noted["path"])
    if isinstance(node, RowsNode):
        save.tape.put([Entry(node, node.path, node.count, int(noted["count"]), data)])
    elif isinstance(node, FieldNode):
        save.tape.put([field_entry(node, data)])
