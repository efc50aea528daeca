"""The one place where bytes of a posting reach a file, and the names of the files beside a save meanwhile."""

from __future__ import annotations

import os
from contextlib import suppress
from pathlib import Path

from faithful_ledger.core.disk import Disk, translated
from faithful_ledger.core.errors import EntryError, LedgerError
from faithful_ledger.core.source import MemorySource, Source, open_blocks
from faithful_ledger.core.vault.objects import digest_of

__all__ = ["beside", "digest_at", "names_of", "new_file", "replace_file", "write_new"]


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


def new_file(to: Path, content: bytes) -> bool:
    """Write a file that is not there yet.

    Raises:
        EntryError: it is.
        LedgerError: it cannot be written.
    """
    if to.exists():
        raise EntryError(f"{to} exists", "nothing was written; choose another name")
    with translated(to, "written"):
        replace_file(to, content, Disk(), 0o644)
    return True


def write_new(temp: Path, target: Path, content: Source, mode: int, disk: Disk) -> None:
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


def digest_at(path: Path) -> str | None:
    """The SHA-256 of a file; None where there is none that can be read."""
    try:
        source = open_blocks(path)
        return digest_of(source.chunks(0, source.size))
    except LedgerError:
        return None


def beside(target: Path, number: str, ending: str) -> Path:
    """A hidden name beside a file, short enough for any file system however long the file's own name is."""
    return target.with_name(f".{_shortened(target.name)}.{number}.{ending}")


def _shortened(name: str) -> str:
    raw = os.fsencode(name)
    return name if len(raw) <= 200 else os.fsdecode(raw[:200])


def names_of(paths: list[Path]) -> str:
    return ", ".join(path.name for path in paths)
