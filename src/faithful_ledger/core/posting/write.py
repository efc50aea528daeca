"""Writing a set of files: all of them or none, also when the machine stops in between.

What lies on disk while a set is written:

    <journal>/<id>.json         which files are to be replaced by which; written before the first temporary file
    <save's folder>/.<name>.<id>.part   the new bytes, beside the file they will replace

The steps, and what holds when the machine stops after each:

    1. journal "writing" with the names of the temporary files   nothing has changed; `recover` removes them
    2. temporary files written, synced, read back and compared   the same
    3. journal "ready" with the SHA-256 of old and new           the same
    4. each temporary file renamed over its target               `recover` finishes the rest, or brings the old back
    5. companions removed, folders synced                        `recover` finishes the rest
    6. what was done is recorded, then the journal removed       `recover` records it

So after `recover` every file of the set is old or every one is new. The old bytes are in the vault before step 1, by
the caller's promise. Each single rename is one step of the file system: nobody ever sees half a file.

What no file system promises: two renames in one step. A program that reads the set between them sees one new and one
old file; and a machine that stops there leaves that mixture until `recover` runs, which is when anything of ours next
opens the book. If the game has written one of the files in the meantime, `recover` touches nothing and says so.
"""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any, NamedTuple

from faithful_ledger.core.disk import Disk, translated
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.source import MemorySource, Source, open_blocks
from faithful_ledger.core.vault.objects import ObjectStore, digest_of

__all__ = ["Recovery", "Rewrite", "recover", "replace_file", "replace_set"]


class Rewrite(NamedTuple):
    """One file that gets new bytes. `old` is the SHA-256 of what is there now, None for a file that is not there (it
    gets `mode`); `verify` looks at what was written and raises when it is not as planned.
    """

    path: Path
    content: Source
    old: str | None
    verify: Callable[[Source], None]
    mode: int = 0o644


class Recovery(NamedTuple):
    """What was found after a stop: the set is now `new`, `old`, or `foreign` where somebody else has written since."""

    outcome: str
    record: dict[str, Any]
    files: list[Path]

    def __str__(self) -> str:
        done = {"new": "finished", "old": "undone", "foreign": "left alone: the files were changed since"}
        return f"an interrupted posting to {', '.join(path.name for path in self.files)} was {done[self.outcome]}"


Finish = Callable[[dict[str, Any], list[str]], None]


def replace_set(
    rewrites: list[Rewrite],
    removals: list[tuple[Path, str]],
    record: dict[str, Any],
    journal: Path,
    disk: Disk,
    store: ObjectStore,
    finish: Finish,
) -> list[str]:
    """Give every file its new bytes, remove the companions, and call `finish(record, digests)` when all is done.

    `record` is any JSON with an `id`; it lies in the journal so that `recover` can call `finish` as well. Old files and
    `removals` (each with its SHA-256) are in the store already. Returns the SHA-256 of the new files.

    Raises:
        LedgerError: all is as it was; the reason.
    """
    from concurrent.futures import ThreadPoolExecutor

    number = str(record["id"])
    targets = [rewrite.path.resolve() for rewrite in rewrites]
    temporary = [target.with_name(f".{target.name}.{number}.part") for target in targets]
    path = journal / f"{number}.json"
    note: dict[str, Any] = {
        "state": "writing",
        "record": record,
        "files": [
            {"target": str(target), "temporary": str(temp), "old": rewrite.old, "new": None}
            for target, temp, rewrite in zip(targets, temporary, rewrites, strict=True)
        ],
        "removals": [{"path": str(removal), "old": digest} for removal, digest in removals],
    }
    try:
        with translated(journal, "written"):
            disk.make_folder(journal)
            _write_note(path, note, disk)
        with ThreadPoolExecutor(1) as other:
            for temp, target, rewrite, entry in zip(temporary, targets, rewrites, note["files"], strict=True):
                hashing = other.submit(digest_of, rewrite.content.chunks(0, rewrite.content.size))
                with translated(rewrite.path, "written"):
                    _write_new(temp, target, rewrite.content, rewrite.mode, disk)
                rewrite.verify(open_blocks(temp))  # so the digest of the content is that of the file
                entry["new"] = hashing.result()
        note["state"] = "ready"
        with translated(journal, "written"):
            _write_note(path, note, disk)
        for temp, target in zip(temporary, targets, strict=True):
            with translated(target, "replaced"):
                disk.replace(temp, target)
        _complete(note, path, disk, finish)
    except BaseException as error:
        _put_back(note, path, disk, store, error)
        raise
    return [entry["new"] for entry in note["files"]]


def recover(journal: Path, disk: Disk, store: ObjectStore, finish: Finish) -> list[Recovery]:
    """Finish or undo every set that a stop left half done. The caller holds the book's lock.

    Raises:
        LedgerError: the disk does not allow it now; nothing is lost, and it can be tried again.
    """
    found = []
    for path in sorted(journal.glob("*.json")):
        try:
            note = json.loads(path.read_bytes())
        except ValueError:  # it was being written when the machine stopped, so nothing had happened yet
            with translated(path, "removed"):
                disk.remove(path)
            continue
        found.append(_recover_one(note, path, disk, store, finish))
    with translated(journal, "tidied"):
        for unfinished in journal.glob("*.json.new"):
            disk.remove(unfinished)
    return found


def _recover_one(note: dict[str, Any], path: Path, disk: Disk, store: ObjectStore, finish: Finish) -> Recovery:
    files = [Path(entry["target"]) for entry in note["files"]]
    states = [_state(entry) for entry in note["files"]]
    if note["state"] == "ready" and "foreign" in states:
        with translated(path, "removed"):
            _remove_temporary(note, disk)
            disk.remove(path)
        return Recovery("foreign", note["record"], files)
    if note["state"] == "ready" and "new" in states:
        ready = [_digest(Path(entry["temporary"])) == entry["new"] for entry in note["files"]]
        if all(done == "new" or whole for done, whole in zip(states, ready, strict=True)):
            for entry, done in zip(note["files"], states, strict=True):
                if done != "new":
                    with translated(Path(entry["target"]), "replaced"):
                        disk.replace(Path(entry["temporary"]), Path(entry["target"]))
            _complete(note, path, disk, finish)
            return Recovery("new", note["record"], files)
    _undo(note, path, disk, store)
    return Recovery("old", note["record"], files)


def _state(entry: dict[str, Any]) -> str:
    present = _digest(Path(entry["target"]))
    if present == entry["new"]:
        return "new"
    return "old" if present == entry["old"] else "foreign"


def _digest(path: Path) -> str | None:
    try:
        source = open_blocks(path)
        return digest_of(source.chunks(0, source.size))
    except LedgerError:
        return None


def _complete(note: dict[str, Any], path: Path, disk: Disk, finish: Finish) -> None:
    """Steps 5 and 6; each of them may be done again."""
    removals = [Path(removal["path"]) for removal in note["removals"]]
    for removal in removals:
        if removal.is_symlink() or removal.exists():
            with translated(removal, "removed"):
                disk.remove(removal)
    for folder in sorted({Path(entry["target"]).parent for entry in note["files"]} | {r.parent for r in removals}):
        with translated(folder, "synced"):
            disk.sync_folder(folder)
    finish(note["record"], [entry["new"] for entry in note["files"]])
    with suppress(OSError):  # all is done and recorded; a journal that stays only makes `recover` find that out again
        disk.remove(path)


def _put_back(note: dict[str, Any], path: Path, disk: Disk, store: ObjectStore, reason: BaseException) -> None:
    """After a failure in this process. Where even that fails, the journal stays, and `recover` does it later."""
    try:
        _undo(note, path, disk, store)
    except (OSError, LedgerError) as error:
        reason.add_note(f"and it could not be put back at once ({error}); opening the book again will do it")


def _undo(note: dict[str, Any], path: Path, disk: Disk, store: ObjectStore) -> None:
    """Make every file of a set the old one again; each step may be done again."""
    wanted = [(Path(entry["target"]), entry["old"]) for entry in note["files"]]
    wanted += [(Path(removal["path"]), removal["old"]) for removal in note["removals"]]
    for target, old in wanted if note["state"] == "ready" else ():
        if _digest(target) == old:
            continue
        with translated(target, "put back"):
            if old is None:
                disk.remove(target)
            else:
                temp = target.with_name(f".{target.name}.{note['record']['id']}.back")
                with suppress(FileNotFoundError):
                    disk.remove(temp)
                _write_new(temp, target, MemorySource(store.get(old)), 0o644, disk)
                disk.replace(temp, target)
    with translated(path, "removed"):
        _remove_temporary(note, disk)
        for journal in (path, path.with_suffix(".json.new")):
            if journal.exists():
                disk.remove(journal)


def _remove_temporary(note: dict[str, Any], disk: Disk) -> None:
    for entry in note["files"]:
        temp = Path(entry["temporary"])
        if temp.exists():
            disk.remove(temp)


def _write_note(path: Path, note: dict[str, Any], disk: Disk) -> None:
    replace_file(path, json.dumps(note).encode(), disk)


def replace_file(path: Path, content: bytes, disk: Disk, mode: int = 0o600) -> None:
    """Give one file of the book its bytes, whole and synced, or leave what is there.

    Raises:
        OSError: it could not be written.
    """
    unfinished = path.with_name(f"{path.name}.new")
    with suppress(FileNotFoundError):
        disk.remove(unfinished)
    _write_bytes(unfinished, MemorySource(content), disk, mode=mode)
    disk.replace(unfinished, path)
    disk.sync_folder(path.parent)


def _write_new(temp: Path, target: Path, content: Source, mode: int, disk: Disk) -> None:
    try:
        like = target.stat()
    except FileNotFoundError:
        like = None
    _write_bytes(temp, content, disk, like, target, mode)


def _write_bytes(
    path: Path,
    content: Source,
    disk: Disk,
    like: os.stat_result | None = None,
    target: Path | None = None,
    mode: int = 0o600,
) -> None:
    """The one place where bytes reach a file: a new file, whole and synced, or none."""
    descriptor = disk.create(path, mode)
    try:
        try:
            for chunk in content.chunks(0, content.size):
                disk.write(descriptor, chunk)
            if like is not None and target is not None:
                disk.dress(descriptor, like, target)
            disk.sync(descriptor)
        finally:
            disk.close(descriptor)
    except OSError:
        with suppress(OSError):
            disk.remove(path)
        raise
