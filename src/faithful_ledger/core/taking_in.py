"""Copies that somebody has kept by hand, taken in as snapshots of a save: files, folders and zip files, by their age.

What is taken in stands where the files of the save are now: a copy of one file is the main file, whatever its name; of
a save that is a folder a copied folder, or what is in a zip file, is the whole.
"""

from __future__ import annotations

import os
import zipfile
import zlib
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path, PurePosixPath
from typing import NamedTuple

from faithful_ledger.core.disk import translated
from faithful_ledger.core.errors import EntryError, FileAccessError, VaultError
from faithful_ledger.core.keeping import Keeping, absolute
from faithful_ledger.core.records import KeptFile, Snapshot
from faithful_ledger.core.save import Save
from faithful_ledger.core.source import MemorySource, Source, files_below, name_within, open_source
from faithful_ledger.core.vault.archive import ABOUT

__all__ = ["TakenIn", "take_in"]

MOST_COPIES = 200
LARGEST = 1 << 30  # bytes of one copy
MODE = 0o644


class TakenIn(NamedTuple):
    """`snapshots` by the age of what they hold; `known` are names of copies that were kept already."""

    snapshots: list[Snapshot]
    known: list[str]


class _Copy(NamedTuple):
    """One copy: when it was written, what it is called, and its files by their names within the save."""

    time: float
    label: str
    files: list[tuple[str, Source]]


def take_in(keeping: Keeping, save: Save, paths: Sequence[Path]) -> TakenIn:
    """Keep copies made by hand as snapshots of `save`, the oldest first. One that holds what a snapshot holds already
    is passed over. Exported snapshots come last, with their labels.

    Raises:
        LedgerError: one of the paths cannot be read, or is not a copy of such a save; nothing was kept. An export is
            damaged: what was kept before it stays kept.
    """
    exported = [path for path in paths if _is_export(path)]
    copies: list[_Copy] = []
    for path in paths:
        found = list(_copies(path, save)) if path not in exported else []
        if not found and path not in exported:
            raise EntryError(f"{path.name} contains no copy of {save.path.name}", "nothing was kept; choose its copies")
        copies += found
    if len(copies) > MOST_COPIES:
        what = f"these are {len(copies)} copies, and at most {MOST_COPIES} are taken in at once"
        raise EntryError(what, "nothing was kept; choose fewer")
    before = {_content_of(snapshot) for snapshot in keeping.snapshots(save.path)}
    taken, known = [], []
    with keeping.locked(shared=True):
        for copy in sorted(copies, key=lambda copy: copy.time):
            snapshot = _snapshot(keeping, save, copy)
            if _content_of(snapshot) in before:
                known.append(copy.label)
            else:
                before.add(_content_of(snapshot))
                taken.append(keeping.add(snapshot))
    return TakenIn([*taken, *(keeping.take_in(path, save.path) for path in exported)], known)


def _is_export(path: Path) -> bool:
    try:
        with zipfile.ZipFile(path) as archive:
            return ABOUT in archive.namelist()
    except (OSError, zipfile.BadZipFile):
        return False


def _content_of(snapshot: Snapshot) -> frozenset[tuple[Path, str]]:
    return frozenset((file.path, file.sha256) for file in snapshot.files if file.role != "companion")


def _snapshot(keeping: Keeping, save: Save, copy: _Copy) -> Snapshot:
    sources = dict(copy.files)
    identity = keeping.identities.within(save, sources) if keeping.identities.paths(save) else ""
    files = [
        KeptFile(name, absolute(_place(save, name)), source.size, keeping.store.put(source), MODE)
        for name, source in copy.files
    ]
    moment = datetime.fromtimestamp(copy.time, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
    return Snapshot(
        os.urandom(6).hex(),
        moment,
        copy.label,
        "kept",
        absolute(save.path),
        tuple(save.companions),
        tuple(files),
        identity,
    )


def _place(save: Save, name: str) -> Path:
    file = save.files.get(name)
    return file.path if file is not None else (save.folder or save.path.parent) / name


def _copies(path: Path, save: Save) -> Iterator[_Copy]:
    """The copies at a path."""
    if path.is_dir():
        yield from _in_folder(path, save)
    elif zipfile.is_zipfile(path) and not zipfile.is_zipfile(save.path):
        yield from _in_zip(path, save)
    elif save.folder is not None:
        raise EntryError(f"{path.name} is a file, and {save.path.name} is a folder", "choose a folder, or a zip file")
    else:
        with translated(path, "read"):
            yield _Copy(path.stat().st_mtime, path.name, [(save.main.name, _read(path))])


def _in_folder(folder: Path, save: Save) -> Iterator[_Copy]:
    """A folder save is the whole of it; of a file its copies are the files of the same ending, or name, below it."""
    below = sorted(files_below(folder))
    with translated(folder, "read"):
        if save.folder is not None:
            if below:
                latest = max(path.stat().st_mtime for path in below)
                yield _Copy(latest, folder.name, [(name_within(path, folder), _read(path)) for path in below])
            return
        for path in below:
            if path.suffix == save.path.suffix or path.name.startswith(save.path.name):
                yield _Copy(path.stat().st_mtime, name_within(path, folder), [(save.main.name, _read(path))])


def _in_zip(path: Path, save: Save) -> Iterator[_Copy]:
    try:
        with zipfile.ZipFile(path) as archive:
            members = [info for info in archive.infolist() if not info.is_dir()]
            if sum(info.file_size for info in members) > LARGEST:
                raise VaultError(f"{path.name} would unpack to more than {LARGEST >> 20} MiB", "nothing was kept")
            for info in members:
                if {"", ".", ".."} & set(PurePosixPath(info.filename).parts) or info.filename.startswith("/"):
                    raise VaultError(f"{path.name} names a file “{info.filename[:60]}”", "it leads elsewhere")
            if save.folder is not None:
                files: list[tuple[str, Source]] = [(i.filename, MemorySource(archive.read(i))) for i in members]
                top = {name.partition("/")[0] for name, _ in files if "/" in name}
                if len(top) == 1 and all("/" in name for name, _ in files):  # the folder itself was packed
                    files = [(name.partition("/")[2], source) for name, source in files]
                yield _Copy(max(map(_time_of, members), default=0.0), path.stem, files)
                return
            for info in members:
                if Path(info.filename).suffix == save.path.suffix or len(members) == 1:
                    yield _Copy(_time_of(info), info.filename, [(save.main.name, MemorySource(archive.read(info)))])
    except (OSError, zipfile.BadZipFile, zlib.error, EOFError, RuntimeError, NotImplementedError) as error:
        raise FileAccessError(f"{path.name} cannot be read as a zip file ({error})", "nothing was kept") from error


def _time_of(info: zipfile.ZipInfo) -> float:
    return datetime(*info.date_time).timestamp()


def _read(path: Path) -> Source:
    return open_source(path)[0]
