"""The steps of replacing a set of files, forward and back; each may be done again (see write.py for what they promise).

A `note` is what the journal says about a set: its state, its files with the SHA-256 of their old bytes, by which the
vault has them, and the fingerprints of the new ones, and the companions that go.
"""

from __future__ import annotations

import os
import time
from contextlib import suppress
from pathlib import Path
from typing import Any, NamedTuple, Protocol

from faithful_ledger.core.disk import Disk, translated
from faithful_ledger.core.errors import ChangedMeanwhile, FolderAway
from faithful_ledger.core.posting.files import beside, has_bytes, names_of, write_new
from faithful_ledger.core.source import MemorySource, Moment, moment_of

__all__ = [
    "Kept",
    "Seen",
    "bring_back_companions",
    "folders_of",
    "name_back",
    "rename",
    "renamed",
    "require_folders",
    "set_aside",
    "swap",
    "swap_back",
    "sync",
    "tidy",
    "undo",
]

COARSEST = 2_000_000_000  # nanoseconds: FAT keeps times in steps of two seconds
FINE = 50_000_000  # more than a tick of any kernel, the step of the times of other file systems


class Kept(Protocol):
    """Where kept bytes are: the vault of one book, or of several."""

    def get(self, digest: str) -> bytes:
        """Raises VaultError when they are missing or damaged."""
        ...


class Seen(NamedTuple):
    """When a file was found to have certain bytes: its moment, and the time before it was read, in nanoseconds."""

    moment: Moment
    time: int

    @classmethod
    def now(cls, path: Path) -> Seen:
        return cls(moment_of(path.stat()), time.time_ns())

    def still(self, path: Path) -> bool:
        """Whether a file is certainly the same. One that changed just before it was read could change again without
        a new time, so that does not prove it (as in Git's index, “racy” entries).
        """
        modified = self.moment.modified_ns
        step = COARSEST if modified % 1_000_000_000 == 0 else FINE
        try:
            return modified + step < self.time and moment_of(path.stat()) == self.moment
        except OSError:
            return False


def swap(entry: dict[str, Any], seen: Seen | None, disk: Disk) -> None:
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
            swap_back(entry, disk)
            raise _written_meanwhile(target)


def _still(path: Path, old: str, seen: Seen | None) -> bool:
    return (seen is not None and seen.still(path)) or has_bytes(path, old)


def swap_back(entry: dict[str, Any], disk: Disk) -> bool:
    """Undo a swap, if the target is still ours; what another program wrote in between is newer and stays.

    Returns whether the file that was swapped out is back in its place.
    """
    temp, target = Path(entry["temporary"]), Path(entry["target"])
    disk.exchange(temp, target)
    if has_bytes(temp, entry["new"]):
        return True
    disk.exchange(temp, target)
    return False


def _written_meanwhile(target: Path) -> ChangedMeanwhile:
    return ChangedMeanwhile(
        f"{target.name} was written by another program in the meantime",
        "its new bytes stay and nothing of yours was written; close the game, open the save again and try once more",
    )


def rename(entry: dict[str, Any], disk: Disk) -> None:
    """Give a file another name, which must be free; done again, it changes nothing.

    Raises:
        ChangedMeanwhile: the file is not the one that was kept, or the new name is taken; nothing was renamed.
    """
    path, to = Path(entry["path"]), Path(entry["to"])
    if renamed(entry) == "new":
        return
    if not has_bytes(path, entry["old"]):
        raise _written_meanwhile(path)
    with translated(path, "renamed"):
        try:
            disk.place(path, to)
        except FileExistsError as error:
            raise _written_meanwhile(to) from error


def renamed(entry: dict[str, Any]) -> str:
    """Which name a file has: the `old` one, the `new` one, or `foreign` where neither is as it should be."""
    path, to = Path(entry["path"]), Path(entry["to"])
    if has_bytes(to, entry["old"]) and not os.path.lexists(path):
        return "new"
    return "old" if has_bytes(path, entry["old"]) and not os.path.lexists(to) else "foreign"


def name_back(note: dict[str, Any], disk: Disk) -> list[Path]:
    """Undo renames; the files that another program has written since stay where they are, and are returned."""
    left = []
    for entry in reversed(note.get("renames", [])):
        state = renamed(entry)
        if state == "new":
            with translated(Path(entry["to"]), "put back"):
                disk.place(Path(entry["to"]), Path(entry["path"]))
        elif state == "foreign":
            left.append(Path(entry["to"]))
    return left


def set_aside(note: dict[str, Any], disk: Disk) -> list[Path]:
    """Step 5: companions give way under another name. Those that another program has rewritten stay; they are returned.
    Each of them may be done again.
    """
    left = []
    for removal in note["removals"]:
        path, aside = Path(removal["path"]), Path(removal["aside"])
        if not os.path.lexists(path):
            continue
        if aside.exists() or not has_bytes(path, removal["old"]):
            left.append(path)
            continue
        with translated(path, "removed"):
            disk.place(path, aside)
            if not has_bytes(aside, removal["old"]):
                with suppress(FileExistsError):
                    disk.place(aside, path)
                left.append(path)
    return left


def sync(note: dict[str, Any], disk: Disk) -> None:
    for folder in sorted({path.parent for path in _paths(note)}):
        with translated(folder, "synced"):
            disk.sync_folder(folder)


def _paths(note: dict[str, Any]) -> list[Path]:
    """The files of a set, also those that go or get another name."""
    names = [entry["target"] for entry in note["files"]] + [removal["path"] for removal in note["removals"]]
    names += [name for entry in note.get("renames", []) for name in (entry["path"], entry["to"])]
    return [Path(name) for name in names]


def folders_of(note: dict[str, Any]) -> dict[str, list[str]]:
    """The `folders` in which a set has files before it is written, and the `mounts` on which it has any: without one of
    these, as of a device that was pulled out, nothing says what state the set is in.
    """
    made = {Path(entry["target"]) for entry in note["files"] if entry["old"] is None}
    paths = _paths(note)
    return {
        "folders": sorted({str(path.parent) for path in paths if path not in made}),
        "mounts": sorted({str(_mount(path.parent)) for path in paths}),
    }


def _mount(folder: Path) -> Path:
    return next(path for path in (folder, *folder.parents) if os.path.ismount(path))


def require_folders(note: dict[str, Any], journal: Path) -> None:
    """Raises FolderAway where a folder or a mount of a set is not there."""
    away = [folder for folder in note.get("folders", []) if not Path(folder).is_dir()]
    away += [mount for mount in note.get("mounts", []) if not os.path.ismount(mount)]
    if away:
        paths = _paths(note)
        raise FolderAway(away[0], names_of(paths), tuple({path.parent for path in paths}), journal)


def tidy(note: dict[str, Any], path: Path, disk: Disk, *, strict: bool = False, compared: bool = False) -> None:
    """Step 7. All is done and recorded, or undone; a journal that stays only makes `recover` find that out again.

    A file of ours whose bytes are neither those before nor those after is another program's and stays where it is;
    `compared` says that this was looked at a moment ago.

    Raises:
        FolderAway: with `strict`, where nothing says whether all is tidy.
    """
    mine = [(Path(entry["temporary"]), (entry["old"], entry["new"])) for entry in note["files"]]
    aside = [(Path(removal["aside"]), (removal["old"],)) for removal in note["removals"]]
    try:
        with disk.blocks_last(file for file, _ in [*mine, *aside]):
            for file, known in [*mine, *aside]:
                if file.exists() and (compared or note["state"] == "writing" or has_bytes(file, *known)):
                    disk.remove(file)
            require_folders(note, path)
            for journal in (path.with_suffix(".json.new"), path):
                if journal.exists():
                    disk.remove(journal)
    except (OSError, FolderAway) as error:
        if strict:
            with translated(path, "removed"):
                raise error


def undo(note: dict[str, Any], disk: Disk, store: Kept) -> list[Path]:
    """Make every file of a set the old one again; each step may be done again.

    Returns the files that another program has written since; they are as it wrote them.
    """
    left: list[Path] = []
    if note["state"] != "ready":
        return left
    number = str(note["record"]["id"])
    left += name_back(note, disk)
    for entry in note["files"]:
        target, temp = Path(entry["target"]), Path(entry["temporary"])
        if has_bytes(target, entry["old"]) and (entry["old"] is not None or not target.exists()):
            continue
        with translated(target, "put back"):
            if not has_bytes(target, entry["new"]):
                left.append(target)
            elif entry["old"] is None:
                disk.remove(target)
            elif not has_bytes(temp, None, entry["new"]):
                is_ours = has_bytes(temp, entry["old"])
                if not swap_back(entry, disk) or not is_ours:
                    left.append(target)
            else:
                temp = beside(target, number, "back")
                back = {"target": str(target), "temporary": str(temp), "old": entry["new"], "new": entry["old"]}
                with suppress(FileNotFoundError):
                    disk.remove(temp)
                write_new(temp, target, MemorySource(store.get(entry["old"])), 0o644, disk)
                try:
                    swap(back, None, disk)
                except ChangedMeanwhile:
                    left.append(target)
                with suppress(FileNotFoundError):
                    disk.remove(temp)
    left += bring_back_companions(note, disk)
    for removal in note["removals"]:
        path = Path(removal["path"])
        if not os.path.lexists(path):
            with translated(path, "put back"):
                write_new(path, path, MemorySource(store.get(removal["old"])), 0o644, disk)
    return left


def bring_back_companions(note: dict[str, Any], disk: Disk) -> list[Path]:
    """Those that were set aside, unless another program has made them anew: these are returned."""
    left = []
    for removal in note["removals"]:
        path, aside = Path(removal["path"]), Path(removal["aside"])
        with translated(path, "put back"):
            if os.path.lexists(path):
                if not has_bytes(path, removal["old"]):
                    left.append(path)
            elif aside.exists():
                disk.place(aside, path)
    return left
