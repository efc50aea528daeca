"""After a stop: every set that was half done is finished or undone, or left alone where another program wrote since.

What is on disk then, and what holds after each step, is said in write.py.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from faithful_ledger.core.disk import Disk, translated
from faithful_ledger.core.errors import ChangedMeanwhile, FolderAway, JournalUnreadable, LedgerError
from faithful_ledger.core.posting.files import has_bytes, names_of
from faithful_ledger.core.posting.steps import (
    Kept,
    bring_back_companions,
    name_back,
    rename,
    renamed,
    require_folders,
    set_aside,
    swap,
    swap_back,
    sync,
    tidy,
    undo,
)
from faithful_ledger.core.posting.write import Finish

__all__ = ["Recovery", "recover", "refuse_blocked"]


class Recovery(NamedTuple):
    """What was found after a stop: the set is now `new`, `old`, or `foreign` where somebody else has written since.

    `files` are those of the set; `left` are the ones that another program has written, which are as it wrote them.
    """

    outcome: str
    record: dict[str, Any]
    files: list[Path]
    left: list[Path]

    def __str__(self) -> str:
        done = {
            "new": "finished",
            "old": "undone: the files have their old bytes",
            "foreign": "not finished, because another program has written since; nothing was overwritten",
        }
        left = f"; left as another program wrote it: {names_of(self.left)}" if self.left else ""
        return f"an interrupted posting to {names_of(self.files)} was {done[self.outcome]}{left}"


def recover(journal: Path, disk: Disk, store: Kept, finish: Finish) -> tuple[list[Recovery], list[LedgerError]]:
    """Finish or undo every set that a stop left half done. The caller holds the book's lock.

    Returns what was done, and an error for each journal that stays: one that cannot be read, because only a person can
    tell which files it was about, and one with files in a folder that is not there now.

    Raises:
        LedgerError: the disk does not allow it now; nothing is lost, and it can be tried again.
    """
    found: list[Recovery] = []
    waiting: list[LedgerError] = []
    for path in sorted(journal.glob("*.json")):
        try:
            note = _read_note(path)
            require_folders(note, path)
            found.append(_recover_one(note, path, disk, store, finish))
        except (JournalUnreadable, FolderAway) as error:
            waiting.append(error)
    with translated(journal, "tidied"):
        for unfinished in journal.glob("*.json.new"):  # never renamed to a journal, so nothing had happened yet
            disk.remove(unfinished)
    return found, waiting


def refuse_blocked(blocked: Sequence[LedgerError], folders: Collection[Path]) -> None:
    """Raise what stands in the way of writing in some folders: a damaged journal in any, and a posting that waits for
    a folder in those in which it has files.
    """
    for error in blocked:
        if not isinstance(error, FolderAway) or not set(error.folders).isdisjoint(folders):
            raise error


def _read_note(path: Path) -> dict[str, Any]:
    """A journal as it was written.

    Raises:
        JournalUnreadable: it is damaged.
    """
    try:
        note = json.loads(path.read_bytes())
        files, removals, record = note["files"], note["removals"], note["record"]
        texts = [note["state"], record["id"]]
        texts += [entry[key] for entry in files for key in ("target", "temporary")]
        texts += [entry[key] for entry in removals for key in ("path", "aside", "old")]
        texts += [entry[key] for entry in note.get("renames", []) for key in ("path", "to", "old")]
        texts += [entry["old"] for entry in files if entry["old"] is not None]
        texts += [entry["new"] for entry in files if entry["new"] is not None or note["state"] == "ready"]
        texts += [record[key] for key in ("time", "save", "kept", "note") if "entries" in record]
        texts += [*note.get("folders", []), *note.get("mounts", [])]
        beside = [(entry["target"], entry["temporary"]) for entry in files]
        beside += [(entry["path"], entry["aside"]) for entry in removals]
        sound = (
            note["state"] in ("writing", "ready")
            and all(isinstance(text, str) for text in texts)
            and all(Path(name).is_absolute() and Path(name).parent == Path(other).parent for name, other in beside)
        )
    except (OSError, ValueError, TypeError, KeyError, RecursionError):
        sound = False
    if not sound:
        raise JournalUnreadable(path)
    return note  # type: ignore[no-any-return]


def _recover_one(note: dict[str, Any], path: Path, disk: Disk, store: Kept, finish: Finish) -> Recovery:
    files = [Path(entry["target"]) for entry in note["files"]] + [Path(e["path"]) for e in note.get("renames", [])]
    record = note["record"]
    states = [_state(entry) for entry in note["files"]] + [renamed(entry) for entry in note.get("renames", [])]
    if note["state"] == "ready" and "new" in states and "foreign" not in states and _can_finish(note):
        try:
            left = _finish(note, disk, finish)
        except ChangedMeanwhile:
            pass  # the rest is brought back below
        else:
            tidy(note, path, disk)
            return Recovery("new", record, files, left)
    if note["state"] == "ready" and "foreign" in states:
        left = _leave(note, disk)
        tidy(note, path, disk, strict=True)
        return Recovery("foreign", record, files, left)
    left = undo(note, disk, store)
    tidy(note, path, disk, strict=True)
    return Recovery("foreign" if any(file in left for file in files) else "old", record, files, left)


def _can_finish(note: dict[str, Any]) -> bool:
    """Whether the new bytes of every file that still has its old ones are there."""
    return all(has_bytes(Path(entry["temporary"]), entry["new"]) for entry in note["files"] if _state(entry) == "old")


def _finish(note: dict[str, Any], disk: Disk, finish: Finish) -> list[Path]:
    """Do the steps that are left; returns the companions that stay because another program has rewritten them."""
    for entry in note["files"]:
        if _state(entry) == "old":
            swap(entry, None, disk)
    for entry in note.get("renames", []):
        rename(entry, disk)
    left = set_aside(note, disk)
    sync(note, disk)
    finish(note["record"], [entry["new"] for entry in note["files"]])
    return left


def _leave(note: dict[str, Any], disk: Disk) -> list[Path]:
    """Give up on a set of which another program has written a file since: nothing of it is finished or undone. What was
    swapped out or set aside a moment before the stop goes back to its name. Returns the files it has written.
    """
    left = name_back(note, disk)
    for entry in note["files"]:
        if _state(entry) == "foreign":
            with translated(Path(entry["target"]), "put back"):
                if has_bytes(Path(entry["target"]), entry["new"]):
                    swap_back(entry, disk)
            left.append(Path(entry["target"]))
    return left + bring_back_companions(note, disk)


def _state(entry: dict[str, Any]) -> str:
    """Which bytes a target has: `new`, `old`, or `foreign`, also where a foreign file was just swapped out of it."""
    target, temp = Path(entry["target"]), Path(entry["temporary"])
    if has_bytes(target, entry["new"]):
        return "new" if has_bytes(temp, None, entry["old"], entry["new"]) else "foreign"
    return "old" if has_bytes(target, entry["old"]) else "foreign"
