"""Entries that are not posted yet, as a text the book keeps: a crash of the program does not lose them.

The text says for which state of the files they were made. In that state they come back byte for byte; in another one,
as after the game has saved, the values of fields can be entered again, and what is about bytes or whole lists cannot.
"""

from __future__ import annotations

import json
from typing import Any

from faithful_ledger.core.binding import FieldNode, RowsNode
from faithful_ledger.core.entries import Entry
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.save import Save, field_entry
from faithful_ledger.core.typed_bytes import enter_bytes

__all__ = ["bring_back", "count_of", "is_current", "written_down"]


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


def _read(text: str) -> dict[str, Any] | None:
    try:
        noted = json.loads(text)
        sound = isinstance(noted["files"], dict) and all(isinstance(entry["path"], str) for entry in noted["entries"])
    except (ValueError, TypeError, KeyError):
        return None
    return noted if sound else None


def count_of(text: str) -> int:
    """How many entries a text holds; 0 where it cannot be read."""
    noted = _read(text)
    return len(noted["entries"]) if noted is not None else 0


def is_current(save: Save, text: str) -> bool:
    """Whether the entries were made for the files as they are open now."""
    noted = _read(text)
    return noted is not None and noted["files"] == _moments(save)


def bring_back(save: Save, text: str) -> int:
    """Put the entries on the tape again; returns how many could not be, because the save or its template changed."""
    noted = _read(text)
    if noted is None:
        return 0
    current, failed = is_current(save, text), 0
    for entry in noted["entries"]:
        try:
            _bring_back_one(save, entry, current)
        except (LedgerError, ValueError, TypeError, KeyError):
            failed += 1
    return failed


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
