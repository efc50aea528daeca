"""Writing a set of files: all of them or none, also when the machine stops in between.

What is on disk while a set is written:

    <journal>/<id>.json         which files are to be replaced by which; written before the first temporary file
    <save's folder>/.<name>.<id>.part    the new bytes, beside the file they will replace; after the swap the old file
    <save's folder>/.<name>.<id>.gone    a companion that is being removed

The steps, and what holds when the machine stops after each:

    1. journal "writing" with the names of the temporary files   nothing has changed; `recover` removes them
    2. temporary files written, synced, read back and compared   the same
    3. journal "ready" with the SHA-256 of old and new           the same
    4. each temporary file swapped with its target               `recover` finishes the rest, or brings the old back
    5. companions renamed, folders synced                        `recover` finishes the rest
    6. what was done is recorded                                 `recover` removes what is left over
    7. old files and companions removed, then the journal        the same

So after `recover` every file of the set is old or every one is new. The old bytes are in the vault before step 1, by
the caller's promise. Each swap is one step of the file system: nobody ever sees half a file.

A file that another program writes meanwhile is never overwritten. Each is compared right before its swap, and the file
that came out of the swap is compared again: where it is not the one that was kept, it goes back to its name, the files
that were swapped before get their old bytes back, and nothing is posted. The same holds for putting back and for
`recover`; what they find changed they leave alone, and say so.

What no file system promises: two swaps in one step. A program that reads the set between them sees one new and one
old file; and a machine that stops there leaves that mixture until `recover` runs, which is when anything of ours next
opens the book. On a file system that cannot swap two names (FAT, some network mounts) a rename takes its place, and
the comparison right before it is the only one.

When `recover` finds that the game has written a file of the set, it neither finishes nor undoes the rest: which of the
two the game's new state goes with, only the player knows. Both are in the vault.
"""

from __future__ import annotations

import json
import os
import signal
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, NamedTuple

from faithful_ledger.core.disk import Disk, translated
from faithful_ledger.core.errors import ChangedMeanwhile, JournalUnreadable, LedgerError
from faithful_ledger.core.source import MemorySource, Moment, Source, moment_of, open_blocks
from faithful_ledger.core.vault.objects import ObjectStore, digest_of

__all__ = ["Recovery", "Rewrite", "Seen", "recover", "replace_file", "replace_set"]

COARSEST = 2_000_000_000  # nanoseconds: FAT keeps times in steps of two seconds
FINE = 50_000_000  # more than a tick of any kernel, the step of the times of other file systems


class Seen(NamedTuple):
    """When a file was found to have certain bytes: its moment, and the time before it was read, in nanoseconds."""

    moment: Moment
    time: int

    @classmethod
    def now(cls, path: Path) -> Seen:
        return cls(moment_of(path.stat()), time.time_ns())

    def still(self, path: Path) -> bool:
        """Whether a file is certainly the same. One that changed just before it was read could change again without
        a new time, so that is no proof (as in Git's index, “racy” entries).
        """
        modified = self.moment.modified_ns
        step = COARSEST if modified % 1_000_000_000 == 0 else FINE
        try:
            return modified + step < self.time and moment_of(path.stat()) == self.moment
        except OSError:
            return False


class Rewrite(NamedTuple):
    """One file that gets new bytes. `old` is the SHA-256 of what is there now, None for a file that is not there (it
    gets `mode`); `seen` is when that was found out, so that it need not be read again; `verify` looks at what was
    written and raises when it is not as planned.
    """

    path: Path
    content: Source
    old: str | None
    verify: Callable[[Source], None]
    mode: int = 0o644
    seen: Seen | None = None


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
        left = f"; left as another program wrote it: {_names(self.left)}" if self.left else ""
        return f"an interrupted posting to {_names(self.files)} was {done[self.outcome]}{left}"


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

    `record` is any JSON with an `id`; it is in the journal so that `recover` can call `finish` as well. Old files and
    `removals` (each with its SHA-256) are in the store already. Returns the SHA-256 of the new files. A companion that
    another program has rewritten since stays.

    Raises:
        ChangedMeanwhile: another program has written one of the files; its bytes stay, the others have their old ones.
        LedgerError: all is as it was; the reason.
    """
    number = str(record["id"])
    targets = [rewrite.path.resolve() for rewrite in rewrites]
    path = journal / f"{number}.json"
    note: dict[str, Any] = {
        "state": "writing",
        "record": record,
        "files": [
            {"target": str(target), "temporary": str(_beside(target, number, "part")), "old": rewrite.old, "new": None}
            for target, rewrite in zip(targets, rewrites, strict=True)
        ],
        "removals": [
            {"path": str(removal), "aside": str(_beside(removal, number, "gone")), "old": digest}
            for removal, digest in removals
        ],
    }
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
                _swap(entry, rewrite.seen, disk)
            if left := _set_aside(note, disk):
                record["left"] = [str(companion) for companion in left]
            _sync(note, disk)
            finish(record, [entry["new"] for entry in note["files"]])
        except BaseException as error:
            _put_back(note, path, disk, store, error)
            raise
        _tidy(note, path, disk, compared=True)
    return [entry["new"] for entry in note["files"]]


def _prepare(rewrites: list[Rewrite], targets: list[Path], note: dict[str, Any], path: Path, disk: Disk) -> None:
    """Steps 1 and 2; the digests of the new files go into the note."""
    from concurrent.futures import ThreadPoolExecutor

    with translated(path.parent, "written"):
        disk.make_folder(path.parent)
        _write_note(path, note, disk)
    with ThreadPoolExecutor(1) as other:
        for target, rewrite, entry in zip(targets, rewrites, note["files"], strict=True):
            hashing = other.submit(digest_of, rewrite.content.chunks(0, rewrite.content.size))
            temp = Path(entry["temporary"])
            with translated(rewrite.path, "written"):
                _write_new(temp, target, rewrite.content, rewrite.mode, disk)
            rewrite.verify(open_blocks(temp))  # so the digest of the content is that of the file
            entry["new"] = hashing.result()


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


def recover(journal: Path, disk: Disk, store: ObjectStore, finish: Finish) -> tuple[list[Recovery], list[LedgerError]]:
    """Finish or undo every set that a stop left half done. The caller holds the book's lock.

    Returns what was done, and an error for each journal that cannot be read: it stays, because only a person can tell
    which files it was about.

    Raises:
        LedgerError: the disk does not allow it now; nothing is lost, and it can be tried again.
    """
    found: list[Recovery] = []
    unreadable: list[LedgerError] = []
    for path in sorted(journal.glob("*.json")):
        try:
            note = _read_note(path)
        except JournalUnreadable as error:
            unreadable.append(error)
        else:
            found.append(_recover_one(note, path, disk, store, finish))
    with translated(journal, "tidied"):
        for unfinished in journal.glob("*.json.new"):  # never renamed to a journal, so nothing had happened yet
            disk.remove(unfinished)
    return found, unreadable


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
        texts += [entry["old"] for entry in files if entry["old"] is not None]
        texts += [entry["new"] for entry in files if entry["new"] is not None or note["state"] == "ready"]
        texts += [record[key] for key in ("time", "save", "kept", "note") if "entries" in record]
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
        raise JournalUnreadable(
            f"the journal {path} of an interrupted posting is damaged",
            "some files of that save may be new and others old, so nothing is written in this book; bring back the "
            "snapshot from before it (faithful-ledger restore), then remove the journal",
        )
    return note  # type: ignore[no-any-return]


def _recover_one(note: dict[str, Any], path: Path, disk: Disk, store: ObjectStore, finish: Finish) -> Recovery:
    files = [Path(entry["target"]) for entry in note["files"]]
    record = note["record"]
    if note["state"] == "ready":
        states = [_state(entry) for entry in note["files"]]
        if "new" in states and "foreign" not in states:
            pending = [entry for entry, state in zip(note["files"], states, strict=True) if state == "old"]
            if all(_digest(Path(entry["temporary"])) == entry["new"] for entry in pending):
                try:
                    for entry in pending:
                        _swap(entry, None, disk)
                    left = _set_aside(note, disk)
                    _sync(note, disk)
                    finish(record, [entry["new"] for entry in note["files"]])
                    _tidy(note, path, disk)
                    return Recovery("new", record, files, left)
                except ChangedMeanwhile:
                    pass  # the rest is brought back below
        if "foreign" in states:
            left = _leave(note, disk)
            _tidy(note, path, disk, strict=True)
            return Recovery("foreign", record, files, left)
    left = _undo(note, disk, store)
    _tidy(note, path, disk, strict=True)
    return Recovery("foreign" if any(file in left for file in files) else "old", record, files, left)


def _leave(note: dict[str, Any], disk: Disk) -> list[Path]:
    """Give up on a set of which another program has written a file since: nothing of it is finished or undone. What was
    swapped out or set aside a moment before the stop goes back to its name. Returns the files it has written.
    """
    left = []
    for entry in note["files"]:
        if _state(entry) == "foreign":
            with translated(Path(entry["target"]), "put back"):
                if _digest(Path(entry["target"])) == entry["new"]:
                    _swap_back(entry, disk)
            left.append(Path(entry["target"]))
    return left + _bring_back_companions(note, disk)


def _bring_back_companions(note: dict[str, Any], disk: Disk) -> list[Path]:
    """Those that were set aside, unless another program has made them anew: these are returned."""
    left = []
    for removal in note["removals"]:
        path, aside = Path(removal["path"]), Path(removal["aside"])
        with translated(path, "put back"):
            if path.is_symlink() or path.exists():
                if _digest(path) != removal["old"]:
                    left.append(path)
            elif aside.exists():
                disk.place(aside, path)
    return left


def _state(entry: dict[str, Any]) -> str:
    """Which bytes a target has: `new`, `old`, or `foreign`, also where a foreign file was just swapped out of it."""
    present = _digest(Path(entry["target"]))
    if present == entry["new"]:
        swapped = _digest(Path(entry["temporary"]))
        return "new" if swapped in (None, entry["old"], entry["new"]) else "foreign"
    return "old" if present == entry["old"] else "foreign"


def _digest(path: Path) -> str | None:
    """The SHA-256 of a file; None where there is none that can be read."""
    try:
        source = open_blocks(path)
        return digest_of(source.chunks(0, source.size))
    except LedgerError:
        return None


# forward


def _swap(entry: dict[str, Any], seen: Seen | None, disk: Disk) -> None:
    """Step 4 for one file.

    Raises:
        ChangedMeanwhile: the target is not the file that was kept; it is as another program wrote it.
    """
    temp, target, old = Path(entry["temporary"]), Path(entry["target"]), entry["old"]
    if old is None:
        with translated(target, "written"):
            try:
                disk.place(temp, target)
            except FileExistsError as error:
                raise _written_meanwhile(target) from error
        return
    if not _still(target, old, seen):
        raise _written_meanwhile(target)
    with translated(target, "replaced"):
        if not disk.exchange(temp, target):
            disk.replace(temp, target)
            return
        if not _still(temp, old, seen):
            _swap_back(entry, disk)
            raise _written_meanwhile(target)


def _still(path: Path, old: str, seen: Seen | None) -> bool:
    return (seen is not None and seen.still(path)) or _digest(path) == old


def _swap_back(entry: dict[str, Any], disk: Disk) -> bool:
    """Undo a swap, if the target is still ours; what another program wrote in between is newer and stays.

    Returns whether the file that was swapped out is back in its place.
    """
    temp, target = Path(entry["temporary"]), Path(entry["target"])
    disk.exchange(temp, target)
    if _digest(temp) == entry["new"]:
        return True
    disk.exchange(temp, target)
    return False


def _written_meanwhile(target: Path) -> ChangedMeanwhile:
    return ChangedMeanwhile(
        f"{target.name} was written by another program in the meantime",
        "its new bytes stay and nothing of yours was written; close the game, open the save again and try once more",
    )


def _set_aside(note: dict[str, Any], disk: Disk) -> list[Path]:
    """Step 5: companions give way under another name. Those that another program has rewritten stay; they are returned.
    Each of them may be done again.
    """
    left = []
    for removal in note["removals"]:
        path, aside = Path(removal["path"]), Path(removal["aside"])
        if not (path.is_symlink() or path.exists()):
            continue
        if aside.exists() or _digest(path) != removal["old"]:
            left.append(path)
            continue
        with translated(path, "removed"):
            disk.place(path, aside)
            if _digest(aside) != removal["old"]:
                with suppress(FileExistsError):
                    disk.place(aside, path)
                left.append(path)
    return left


def _sync(note: dict[str, Any], disk: Disk) -> None:
    names = [entry["target"] for entry in note["files"]] + [removal["path"] for removal in note["removals"]]
    for folder in sorted({Path(name).parent for name in names}):
        with translated(folder, "synced"):
            disk.sync_folder(folder)


def _tidy(note: dict[str, Any], path: Path, disk: Disk, *, strict: bool = False, compared: bool = False) -> None:
    """Step 7. All is done and recorded, or undone; a journal that stays only makes `recover` find that out again.

    A file of ours whose bytes are neither those before nor those after is another program's and stays where it is;
    `compared` says that this was looked at a moment ago.
    """
    mine = [(Path(entry["temporary"]), (entry["old"], entry["new"])) for entry in note["files"]]
    aside = [(Path(removal["aside"]), (removal["old"],)) for removal in note["removals"]]
    try:
        for file, known in [*mine, *aside]:
            if file.exists() and (compared or note["state"] == "writing" or _digest(file) in known):
                disk.remove(file)
        for journal in (path.with_suffix(".json.new"), path):
            if journal.exists():
                disk.remove(journal)
    except OSError as error:
        if strict:
            with translated(path, "removed"):
                raise error


# back


def _put_back(note: dict[str, Any], path: Path, disk: Disk, store: ObjectStore, reason: BaseException) -> None:
    """After a failure in this process. Where even that fails, the journal stays, and `recover` does it later."""
    try:
        left = _undo(note, disk, store)
        _tidy(note, path, disk, strict=True)
        if left and not isinstance(reason, ChangedMeanwhile):
            reason.add_note(f"left as another program wrote it in the meantime: {_names(left)}")
    except (OSError, LedgerError) as error:
        reason.add_note(f"and it could not be put back at once ({error}); opening the book again will do it")


def _undo(note: dict[str, Any], disk: Disk, store: ObjectStore) -> list[Path]:
    """Make every file of a set the old one again; each step may be done again.

    Returns the files that another program has written since; they are as it wrote them.
    """
    left: list[Path] = []
    if note["state"] != "ready":
        return left
    number = str(note["record"]["id"])
    for entry in note["files"]:
        target, temp = Path(entry["target"]), Path(entry["temporary"])
        present, swapped = _digest(target), _digest(temp)
        if present == entry["old"] and (present is not None or not target.exists()):
            continue
        with translated(target, "put back"):
            if present != entry["new"]:
                left.append(target)
            elif entry["old"] is None:
                disk.remove(target)
            elif swapped not in (None, entry["new"]):
                if not _swap_back(entry, disk) or swapped != entry["old"]:
                    left.append(target)
            else:
                back = {**entry, "temporary": str(_beside(target, number, "back")), "old": present}
                back["new"] = entry["old"]
                with suppress(FileNotFoundError):
                    disk.remove(Path(back["temporary"]))
                _write_new(Path(back["temporary"]), target, MemorySource(store.get(entry["old"])), 0o644, disk)
                try:
                    _swap(back, None, disk)
                except ChangedMeanwhile:
                    left.append(target)
                with suppress(FileNotFoundError):
                    disk.remove(Path(back["temporary"]))
    left += _bring_back_companions(note, disk)
    for removal in note["removals"]:
        path = Path(removal["path"])
        if not (path.is_symlink() or path.exists()):
            with translated(path, "put back"):
                _write_new(path, path, MemorySource(store.get(removal["old"])), 0o644, disk)
    return left


# bytes


def _beside(target: Path, number: str, ending: str) -> Path:
    """A hidden name beside a file, short enough for any file system however long the file's own name is."""
    return target.with_name(f".{_shortened(target.name)}.{number}.{ending}")


def _shortened(name: str) -> str:
    raw = os.fsencode(name)
    return name if len(raw) <= 200 else os.fsdecode(raw[:200])


def _names(paths: list[Path]) -> str:
    return ", ".join(path.name for path in paths)


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
                disk.copy_attributes(descriptor, like, target)
            disk.sync(descriptor)
        finally:
            disk.close(descriptor)
    except OSError:
        with suppress(OSError):
            disk.remove(path)
        raise
