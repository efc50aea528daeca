"""Everything that changes a disk, as a handful of operations. Nothing else in the product writes a user's file.

Posting and vault are given a `Disk`; tests give them one that stops the machine at operation N. Foreign errors are
translated here, once.
"""

from __future__ import annotations

import errno
import os
import tempfile
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from pathlib import Path

from faithful_ledger.core.errors import FileAccessError
from faithful_ledger.core.threads import WORTH_IT, started

__all__ = ["Disk", "open_path", "scratch", "translated"]

REASONS = {
    errno.ENOSPC: ("the disk is full", "make room and try again"),
    errno.EDQUOT: ("your share of the disk is used up", "make room and try again"),
    errno.EACCES: ("you may not write there", "change the permissions or your user"),
    errno.EPERM: ("you may not change it", "change its owner or flags, or your user"),
    errno.EROFS: ("the file system is read-only", "make it writable first"),
    errno.ENOENT: ("the folder is no longer there", "look whether it was moved"),
    errno.EIO: ("the disk reports an error", "check the disk"),
    errno.EFBIG: ("the file would be too large for this file system", "use another disk"),
}
UNSUPPORTED = (errno.ENOSYS, errno.EINVAL, errno.ENOTSUP, errno.EOPNOTSUPP)
RENAME_NOREPLACE, RENAME_EXCHANGE = 1, 2
AT_FDCWD = -100


@contextmanager
def translated(path: Path, doing: str) -> Iterator[None]:
    """Turn an OSError into the family's own, with the file and what was being done."""
    try:
        yield
    except OSError as error:
        reason, remedy = REASONS.get(error.errno or 0, (error.strerror or str(error), "check the disk"))
        raise FileAccessError(f"{path} cannot be {doing}: {reason}", f"the save is as it was; {remedy}") from error


def open_path(descriptor: int) -> Path:
    """By which an open file can be opened once more, whether it has a name or not."""
    return Path(f"/proc/self/fd/{descriptor}")


@contextmanager
def scratch(files: Mapping[str, bytes]) -> Iterator[Path]:
    """A folder of its own with these files, for what another library can only do with files; it is gone behind.

    Raises:
        FileAccessError: there is no room for it.
    """
    with tempfile.TemporaryDirectory(prefix="ledger-") as folder:
        for name, data in files.items():
            path = Path(folder, name)
            with translated(path, "written"):
                path.write_bytes(data)
        yield Path(folder)


class Disk:
    """The operations. Each either happens or raises OSError."""

    def create(self, path: Path, mode: int = 0o600) -> int:
        """A new file, open for writing; never one that exists."""
        return os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC | os.O_NOFOLLOW, mode)

    def create_unnamed(self, folder: Path, mode: int) -> int | None:
        """A new file without a name, which is gone when it is closed (open(2), O_TMPFILE); None where the file system
        knows no such files.
        """
        try:
            return os.open(folder, os.O_WRONLY | os.O_TMPFILE | os.O_CLOEXEC, mode)
        except OSError as error:
            if error.errno in (*UNSUPPORTED, errno.EISDIR):
                return None
            raise

    def name(self, descriptor: int, path: Path) -> None:
        """Give a file without a name one that is free."""
        # Python calls linkat(2), which follows the link to the open file, only where it is given a folder.
        os.link(open_path(descriptor), path, src_dir_fd=descriptor, follow_symlinks=True)

    def write(self, descriptor: int, data: bytes | memoryview) -> None:
        view = memoryview(data)
        while view:
            view = view[os.write(descriptor, view) :]

    def sync(self, descriptor: int) -> None:
        os.fsync(descriptor)

    def close(self, descriptor: int) -> None:
        os.close(descriptor)

    def copy_attributes(self, descriptor: int, like: os.stat_result, source: Path) -> None:
        """Give a new file the owner, the mode and the extended attributes of another.

        A file system that keeps no owners or modes (FAT, some network mounts) refuses to change them; a file there
        has what the mount says, so that is not a failure.
        """
        present = os.fstat(descriptor)
        if (present.st_uid, present.st_gid) != (like.st_uid, like.st_gid):
            with _where_supported():
                os.fchown(descriptor, like.st_uid, like.st_gid)
        with _where_supported():
            os.fchmod(descriptor, like.st_mode & 0o7777)
        with _where_supported():
            for name in os.listxattr(source):
                os.setxattr(descriptor, name, os.getxattr(source, name))

    def exchange(self, source: Path, target: Path) -> bool:
        """Swap two names in one step (renameat2(2), RENAME_EXCHANGE); False where the file system cannot."""
        return _rename(source, target, RENAME_EXCHANGE)

    def place(self, source: Path, target: Path) -> None:
        """Rename to a name that must not be taken.

        Raises:
            FileExistsError: it is; nothing was changed.
        """
        if not _rename(source, target, RENAME_NOREPLACE):
            if os.path.lexists(target):
                raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), str(target))
            source.replace(target)

    def replace(self, source: Path, target: Path) -> None:
        """One name gives way to another in one step (rename(2))."""
        source.replace(target)

    def remove(self, path: Path) -> None:
        path.unlink()

    def remove_folder(self, path: Path) -> None:
        """One that is empty."""
        path.rmdir()

    def remove_empty(self, folders: Iterable[Path]) -> None:
        """Those in which nothing is left, the inner ones first; the others stay."""
        for folder in sorted(folders, reverse=True):
            with suppress(OSError):
                self.remove_folder(folder)

    def make_folder(self, path: Path, *, parents: bool = True) -> None:
        path.mkdir(parents=parents, exist_ok=True)

    def sync_folder(self, path: Path) -> None:
        """Make the names in a folder last."""
        descriptor = os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            os.fsync(descriptor)
        finally:
            os.close(descriptor)

    @contextmanager
    def blocks_last(self, paths: Iterable[Path]) -> Iterator[None]:
        """Of large files that are removed in between, the names are gone at once; their blocks are given back when all
        else is done, beside what follows: ext4 lets no other file go meanwhile.
        """
        held = []
        for path in paths:
            with suppress(OSError):
                if path.lstat().st_size >= WORTH_IT:
                    held.append(os.open(path, os.O_PATH | os.O_NOFOLLOW | os.O_CLOEXEC))
        try:
            yield
        finally:
            for descriptor in held:
                started(os.close, descriptor)


@contextmanager
def _where_supported() -> Iterator[None]:
    try:
        yield
    except OSError as error:
        if error.errno not in (*UNSUPPORTED, errno.EPERM, errno.EACCES):
            raise


def _rename(source: Path, target: Path, flags: int) -> bool:
    """renameat2(2), which Python does not offer; False where the C library or the file system does not know it."""
    import ctypes

    call = getattr(ctypes.CDLL(None, use_errno=True), "renameat2", None)
    if call is None:
        return False
    if call(AT_FDCWD, os.fsencode(source), AT_FDCWD, os.fsencode(target), flags) == 0:
        return True
    code = ctypes.get_errno()
    if code in UNSUPPORTED:
        return False
    raise OSError(code, os.strerror(code), str(target))
