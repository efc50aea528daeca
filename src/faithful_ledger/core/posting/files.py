"""The one place where bytes of a posting reach a file, and the names of the files beside a save meanwhile."""

from __future__ import annotations

import os
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

import xxhash

from faithful_ledger.core.disk import Disk, open_path, translated
from faithful_ledger.core.errors import EntryError, LedgerError
from faithful_ledger.core.source import MemorySource, Source, open_blocks
from faithful_ledger.core.threads import WORTH_IT, started
from faithful_ledger.core.vault.objects import digest_of

FINGERPRINT = 32  # digits of a fingerprint; what was posted before there were any is known by its SHA-256

__all__ = ["Ahead", "beside", "has_bytes", "names_of", "new_file", "replace_file", "write_ahead", "write_new"]


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


class Ahead(NamedTuple):
    """What was written to a file that has no name yet, and is gone when it is closed."""

    descriptor: int
    fingerprint: str


def write_ahead(
    target: Path, content: Source, mode: int, disk: Disk, verify: Callable[[Source], None] | None
) -> Ahead | None:
    """The first half of `write_new`, before the file has a name; None where the file system cannot do that.

    Raises:
        OSError: it could not be written.
    """
    descriptor = disk.create_unnamed(target.parent, mode)
    if descriptor is None:
        return None
    try:
        return Ahead(descriptor, _fill(open_path(descriptor), descriptor, content, disk, target, verify))
    except BaseException:
        disk.close(descriptor)
        raise


def write_new(
    temp: Path,
    target: Path,
    content: Source,
    mode: int,
    disk: Disk,
    verify: Callable[[Source], None] | None = None,
    ahead: Ahead | None = None,
) -> str:
    """Write a new file that has the attributes of the one it will replace, unless it is there `ahead` and only needs
    its name; returns its fingerprint.

    `verify` looks at what was written, and raises where it is not as planned; a large file is read back while it is
    synced.

    Raises:
        OSError: it could not be written.
    """
    if ahead is None:
        return _write_bytes(temp, content, disk, target, mode, verify)
    disk.name(ahead.descriptor, temp)
    return ahead.fingerprint


def _write_bytes(
    path: Path,
    content: Source,
    disk: Disk,
    target: Path | None = None,
    mode: int = 0o600,
    verify: Callable[[Source], None] | None = None,
) -> str:
    """A new file, whole and synced, or none. Returns its fingerprint."""
    descriptor = disk.create(path, mode)
    try:
        try:
            return _fill(path, descriptor, content, disk, target, verify)
        finally:
            disk.close(descriptor)
    except OSError:
        with suppress(OSError):
            disk.remove(path)
        raise


def _fill(
    path: Path,
    descriptor: int,
    content: Source,
    disk: Disk,
    target: Path | None,
    verify: Callable[[Source], None] | None,
) -> str:
    """The one place where bytes reach a file: one that is empty and open, and read back by its path."""
    fingerprint = xxhash.xxh3_128()
    for chunk in content.chunks(0, content.size):
        disk.write(descriptor, chunk)
        fingerprint.update(chunk)
    if target is not None and target.exists():
        disk.copy_attributes(descriptor, target.stat(), target)
    _sync(path, descriptor, content.size, disk, verify)
    return fingerprint.hexdigest()


def _sync(path: Path, descriptor: int, size: int, disk: Disk, verify: Callable[[Source], None] | None) -> None:
    """Sync a file and read it back; both at once where it is worth a thread."""
    if verify is None or size < WORTH_IT:
        disk.sync(descriptor)
        if verify is not None:
            verify(open_blocks(path))
        return
    syncing = started(disk.sync, descriptor)
    try:
        verify(open_blocks(path))
    finally:
        syncing.result()


def _fingerprint(source: Source) -> str:
    """XXH3 of 128 bits, as 32 hexadecimal digits. It tells what we wrote from what other programs write, and takes a
    thirtieth of the time of the SHA-256, by which bytes are kept.
    """
    running = xxhash.xxh3_128()
    for chunk in source.chunks(0, source.size):
        running.update(chunk)
    return running.hexdigest()


def has_bytes(path: Path, *known: str | None) -> bool:
    """Whether a file has the bytes of one of these fingerprints or SHA-256; None stands for none that can be read."""
    try:
        source = open_blocks(path)
        return any(
            each == (_fingerprint(source) if len(each) == FINGERPRINT else digest_of(source.chunks(0, source.size)))
            for each in known
            if each is not None
        )
    except LedgerError:
        return None in known


def beside(target: Path, number: str, ending: str) -> Path:
    """A hidden name beside a file, short enough for any file system however long the file's own name is."""
    return target.with_name(f".{_shortened(target.name)}.{number}.{ending}")


def _shortened(name: str) -> str:
    raw = os.fsencode(name)
    return name if len(raw) <= 200 else os.fsdecode(raw[:200])


def names_of(paths: list[Path]) -> str:
    return ", ".join(path.name for path in paths)
