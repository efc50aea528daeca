"""Writing a set of files: all of them or none, also when the machine stops in between.

What is on disk while a set is written:

    <journal>/<id>.json         which files are to be replaced by which; written before the first temporary file
    <save's folder>/.<name>.<id>.part    the new bytes, beside the file they will replace; after the swap the old file
    <save's folder>/.<name>.<id>.gone    a companion that is being removed

The steps, and what holds when the machine stops after each:

    1. journal "writing" with the names of the temporary files   nothing has changed; `recover` removes them
    2. temporary files written, synced, read back and compared   the same
    3. journal "ready" with what old and new are known by        the same
    4. each temporary file swapped with its target, then each
       file that changes its name renamed to a name that is free  `recover` finishes the rest, or brings the old back
    5. companions renamed, folders synced                        `recover` finishes the rest
    6. what was done is recorded                                 `recover` removes what is left over
    7. old files and companions removed, then the journal        the same

The new bytes of a large file may be written, synced and compared ahead of step 1, to a file without a name
(`writing_ahead`), which is gone when the machine stops; step 2 only gives it its name then.

So after `recover` every file of the set is old or every one is new. The old bytes are in the vault before step 1, by
the caller's promise. Each swap is one step of the file system: nobody ever sees half a file.

A file that another program writes meanwhile is never overwritten. Each is compared right before its swap, and the file
that came out of the swap is compared again: where it is not the one that was kept, it goes back to its name, the files
that were swapped before get their old bytes back, and nothing is posted. The same holds for putting back and for
`recover`; what they find changed they leave alone, and say so.

Where a folder of the set, or what it was mounted from, is not there any more, as that of a device that was pulled out,
nothing says which state its files are in. The journal stays, and the set is finished or undone when the folder is back;
until then nothing else is written to its folders.

What no file system promises: two swaps in one step. A program that reads the set between them sees one new and one
old file; and a machine that stops there leaves that mixture until `recover` runs, which is when anything of ours next
opens the book. On a file system that cannot swap two names (FAT, some network mounts) a rename takes its place, and
the comparison right before it is the only one.

When `recover` finds that the game has written a file of the set, it neither finishes nor undoes the rest: which of the
two the game's new state goes with, only the player knows. Both are in the vault.
"""

from __future__ import annotations

import json
import signal
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any, NamedTuple

from faithful_ledger.core.disk import Disk, translated
from faithful_ledger.core.errors import ChangedMeanwhile, FileAccessError, FolderAway, LedgerError, Refused
from faithful_ledger.core.posting.files import Ahead, beside, names_of, replace_file, write_ahead, write_new
from faithful_ledger.core.posting.steps import (
    Kept,
    Seen,
    folders_of,
    rename,
    require_folders,
    set_aside,
    swap,
    sync,
    tidy,
    undo,
)
from faithful_ledger.core.source import Source, same_bytes
from faithful_ledger.core.threads import WORTH_IT, started

__all__ = ["Finish", "Rename", "Rewrite", "arrived", "replace_set", "uninterrupted", "writing_ahead"]

Finish = Callable[[dict[str, Any], list[str]], None]


class Rewrite(NamedTuple):
    """One file that gets new bytes. `old` is the SHA-256 of what is there now, None for a file that is not there (it
    gets `mode`); `seen` is when that was found out, so that it need not be read again; `verify` looks at what was
    written and raises when it is not as planned. What is written `ahead` only needs its name.
    """

    path: Path
    content: Source
    old: str | None
    verify: Callable[[Source], None]
    mode: int = 0o644
    seen: Seen | None = None
    ahead: Ahead | None = None


def arrived(name: str, content: Source, written: Source) -> None:
    """Raises Refused where what was written is not the content."""
    if not same_bytes(content, written):
        raise Refused(f"{name} did not reach the disk as it was kept", "the save is as it was")


@contextmanager
def writing_ahead(rewrites: Sequence[Rewrite], disk: Disk) -> Iterator[Callable[[], list[Rewrite]]]:
    """Write the new bytes of large files to files without a name, beside what is done inside; there, the rewrites with
    what was written can be asked for. Nothing is left of it when the machine stops, or when it is not used.

    Raises:
        LedgerError: (when asked) one could not be written; nothing is left of it.
    """
    writings = [
        started(write_ahead, each.path.resolve(), each.content, each.mode, disk, each.verify)
        if each.content.size >= WORTH_IT
        else None
        for each in rewrites
    ]

    def written() -> list[Rewrite]:
        found = []
        for each, writing in zip(rewrites, writings, strict=True):
            with translated(each.path, "written"):
                found.append(each._replace(ahead=writing.result()) if writing else each)
        return found

    try:
        yield written
    finally:
        for writing in filter(None, writings):
            if not writing.exception() and (ahead := writing.result()):
                disk.close(ahead.descriptor)


class Rename(NamedTuple):
    """One file that gets another name in the same file system, and keeps its bytes, of which `old` is the SHA-256."""

    path: Path
    to: Path
    old: str


def replace_set(
    rewrites: list[Rewrite],
    removals: list[tuple[Path, str]],
    record: dict[str, Any],
    journal: Path,
    disk: Disk,
    store: Kept,
    finish: Finish,
    renames: Sequence[Rename] = (),
) -> list[str]:
    """Give every file its new bytes, then the renamed ones their new names, remove the companions, and call
    `finish(record, fingerprints)` when all is done.

    `record` is any JSON with an `id`; it is in the journal so that `recover` can call `finish` as well. Old files and
    `removals` (each with its SHA-256) are in the store already. Returns the fingerprints of the new files. A companion
    that another program has rewritten since stays.

    Raises:
        ChangedMeanwhile: another program has written one of the files; its bytes stay, the others have their old ones.
        FolderAway: a folder is not there any more; it is finished or undone when it is.
        LedgerError: all is as it was; the reason.
    """
    number = str(record["id"])
    targets = [rewrite.path.resolve() for rewrite in rewrites]
    path = journal / f"{number}.json"
    note: dict[str, Any] = {
        "state": "writing",
        "record": record,
        "files": [
            {"target": str(target), "temporary": str(beside(target, number, "part")), "old": rewrite.old, "new": None}
            for target, rewrite in zip(targets, rewrites, strict=True)
        ],
        "removals": [
            {"path": str(removal), "aside": str(beside(removal, number, "gone")), "old": digest}
            for removal, digest in removals
        ],
        "renames": [{"path": str(each.path), "to": str(each.to), "old": each.old} for each in renames],
    }
    note |= folders_of(note)
    try:
        _prepare(rewrites, targets, note, path, disk)
    except BaseException as error:
        _put_back(note, path, disk, store, error)
        raise
    note["state"] = "ready"
    with uninterrupted():
        try:
            with translated(journal, "written"):
                _write_note(path, note, disk)
            for rewrite, entry in zip(rewrites, note["files"], strict=True):
                swap(entry, rewrite.seen, disk)
            for each in note["renames"]:
                rename(each, disk)
            if left := set_aside(note, disk):
                record["left"] = [str(companion) for companion in left]
            sync(note, disk)
            finish(record, [entry["new"] for entry in note["files"]])
        except BaseException as error:
            _put_back(note, path, disk, store, error)
            raise
        tidy(note, path, disk, compared=True)
    return [entry["new"] for entry in note["files"]]


def _prepare(rewrites: list[Rewrite], targets: list[Path], note: dict[str, Any], path: Path, disk: Disk) -> None:
    """Steps 1 and 2; the fingerprints of the new files go into the note."""
    with translated(path.parent, "written"):
        disk.make_folder(path.parent)
        _write_note(path, note, disk)
    for target, rewrite, entry in zip(targets, rewrites, note["files"], strict=True):
        temp = Path(entry["temporary"])
        with translated(rewrite.path, "written"):
            entry["new"] = write_new(temp, target, rewrite.content, rewrite.mode, disk, rewrite.verify, rewrite.ahead)


@contextmanager
def uninterrupted() -> Iterator[None]:
    """Let Ctrl+C wait until the block is done, so that a set is either untouched or complete when it is answered."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    waiting: list[int] = []
    before = signal.signal(signal.SIGINT, lambda number, frame: waiting.append(number))
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)
        if waiting:
            signal.raise_signal(signal.SIGINT)


def _put_back(note: dict[str, Any], path: Path, disk: Disk, store: Kept, reason: BaseException) -> None:
    """After a failure in this process. Where even that fails, the journal stays, and `recover` does it later.

    Raises:
        FolderAway: some files may be new and others old, until their folder is there again.
    """
    try:
        require_folders(note, path)
        left = undo(note, disk, store)
        tidy(note, path, disk, strict=True)
        if left and not isinstance(reason, ChangedMeanwhile):
            reason.add_note(f"left as another program wrote it in the meantime: {names_of(left)}")
    except FolderAway as error:
        if note["state"] == "ready":
            raise error from reason
        what = f"nothing was written: {error.away} is no longer there"
        raise FileAccessError(what, "plug the device in again, or bring the folder back, and try again") from reason
    except (OSError, LedgerError) as error:
        reason.add_note(f"and it could not be put back at once ({error}); opening the book again will do it")


def _write_note(path: Path, note: dict[str, Any], disk: Disk) -> None:
    replace_file(path, json.dumps(note).encode(), disk)
