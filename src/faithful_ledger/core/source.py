"""Bytes to read: of memory, or of a file.

A file is not memory-mapped: a game that cuts its save while we look at it would end the whole program with a bus
error (docs/decisions/0001). Files up to `WHOLE` bytes are read at once, so that all we say about one is about one
moment of it; larger ones are read where they are looked at, through a small cache of blocks.
"""

from __future__ import annotations

import errno
import os
import stat
import threading
from collections import OrderedDict
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple, Protocol

from faithful_ledger.core.errors import FileAccessError

__all__ = [
    "CHUNK",
    "WHOLE",
    "BlockSource",
    "LoggedSource",
    "MemorySource",
    "Moment",
    "Source",
    "files_below",
    "first_bytes",
    "log_of",
    "moment_of",
    "name_within",
    "offsets_of",
    "open_blocks",
    "open_source",
    "read_whole",
    "same",
    "same_bytes",
    "strays",
    "unreadable",
]

WHOLE = 256 << 20
CHUNK = 1 << 20
LARGE = 1 << 16  # bytes from which on NumPy compares without a copy
BLOCKS_KEPT = 16


class Source(Protocol):
    """A run of bytes that does not change. Slices are views where they can be."""

    @property
    def size(self) -> int: ...

    def read(self, start: int, end: int) -> memoryview:
        """The bytes from start up to end (not included), cut at the size."""
        ...

    def chunks(self, start: int, end: int) -> Iterator[memoryview]:
        """The same bytes in pieces of at most a few MiB, without holding all of them."""
        ...


class Moment(NamedTuple):
    """What tells one state of a file from the next without reading it."""

    device: int
    inode: int
    size: int
    modified_ns: int


class MemorySource:
    """A source over bytes in memory; slices copy nothing."""

    def __init__(self, data: bytes | bytearray | memoryview) -> None:
        self._view = memoryview(data).toreadonly()
        self.size = len(self._view)

    def read(self, start: int, end: int) -> memoryview:
        return self._view[start:end]

    def chunks(self, start: int, end: int) -> Iterator[memoryview]:
        end = min(end, self.size)
        for at in range(start, end, CHUNK):
            yield self._view[at : min(at + CHUNK, end)]


class LoggedSource(MemorySource):
    """A database, and the write-ahead log that stands beside it."""

    def __init__(self, data: bytes, log: bytes) -> None:
        super().__init__(data)
        self.log = log


def log_of(source: Source) -> bytes:
    """The write-ahead log that belongs to a source; nothing where there is none."""
    return source.log if isinstance(source, LoggedSource) else b""


class BlockSource:
    """A source over a file too large to read at once. At most `BLOCKS_KEPT` blocks of `CHUNK` bytes are
    cached.

    Raises:
        FileAccessError: from `read`, when the file has changed since it was opened.
    """

    def __init__(self, path: Path, descriptor: int, moment: Moment) -> None:
        self._path, self._descriptor, self._moment = path, descriptor, moment
        self._blocks: OrderedDict[int, bytes] = OrderedDict()
        self._lock = threading.Lock()  # the window draws while another thread searches
        self.size = moment.size

    def __del__(self) -> None:
        os.close(self._descriptor)

    def read(self, start: int, end: int) -> memoryview:
        end = min(end, self.size)
        if start >= end:
            return memoryview(b"")
        first, last = start // CHUNK, (end - 1) // CHUNK
        if first == last:
            return memoryview(self._block(first))[start - first * CHUNK : end - first * CHUNK]
        joined = b"".join(self._block(number) for number in range(first, last + 1))
        return memoryview(joined)[start - first * CHUNK : end - first * CHUNK]

    def chunks(self, start: int, end: int) -> Iterator[memoryview]:
        end = min(end, self.size)
        for at in range(start, end, CHUNK):
            yield self.read(at, min(at + CHUNK, end))

    def again(self) -> BlockSource:
        """The same bytes with a cache of their own, for another thread that goes through all of them."""
        return BlockSource(self._path, os.dup(self._descriptor), self._moment)

    def _block(self, number: int) -> bytes:
        with self._lock:
            return self._cached(number)

    def _cached(self, number: int) -> bytes:
        block = self._blocks.get(number)
        if block is None:
            wanted = min(CHUNK, self.size - number * CHUNK)
            block = os.pread(self._descriptor, wanted, number * CHUNK)
            if len(block) != wanted or moment_of(os.fstat(self._descriptor)) != self._moment:
                raise FileAccessError(
                    f"{self._path} was changed by another program while it was read",
                    "nothing was written; open it again",
                )
            self._blocks[number] = block
            if len(self._blocks) > BLOCKS_KEPT:
                self._blocks.popitem(last=False)
        else:
            self._blocks.move_to_end(number)
        return block


def offsets_of(source: Source, run: bytes, most: int | None = None) -> Iterator[int]:
    """Where a run of bytes stands, overlapping ones too; `most` is how many bytes are looked into."""
    at, tail = 0, b""
    for chunk in source.chunks(0, min(source.size, most) if most is not None else source.size):
        data = tail + bytes(chunk)
        start = at - len(tail)
        hit = data.find(run)
        while hit >= 0:
            yield start + hit
            hit = data.find(run, hit + 1)
        at += len(chunk)
        tail = data[-(len(run) - 1) :] if len(run) > 1 else b""


def first_bytes(source: Source, most: int) -> bytes:
    """The first bytes of a source; those of memory are handed on without a copy where they are all of it."""
    view = source.read(0, min(most, source.size)) if isinstance(source, MemorySource) else None
    if view is not None and isinstance(view.obj, bytes) and len(view) == len(view.obj):
        return view.obj
    return b"".join(source.chunks(0, most))


def same_bytes(left: Source, right: Source) -> bool:
    """Whether two sources hold the same; at most `CHUNK` bytes of each are looked at together."""
    if left.size != right.size:
        return False
    return all(same(left.read(at, at + CHUNK), right.read(at, at + CHUNK)) for at in range(0, left.size, CHUNK))


def same(left: memoryview, right: memoryview) -> bool:
    """Whether two views hold the same bytes; memoryview itself compares one after the other, ten times slower."""
    if len(left) != len(right):
        return False
    if len(left) < LARGE:
        return bytearray(left) == right
    import numpy as np

    words = len(left) & -8
    return np.array_equal(np.frombuffer(left[:words], np.uint64), np.frombuffer(right[:words], np.uint64)) and (
        left[words:] == right[words:]
    )


def moment_of(status: os.stat_result) -> Moment:
    return Moment(status.st_dev, status.st_ino, status.st_size, status.st_mtime_ns)


def open_blocks(path: Path) -> BlockSource:
    """Open a file to go through it once, without holding all of it.

    Raises:
        FileAccessError: as for `open_source`.
    """
    descriptor = _open(path)
    return BlockSource(path, descriptor, moment_of(os.fstat(descriptor)))


def open_source(path: Path) -> tuple[Source, Moment]:
    """Open a file for looking at.

    Raises:
        FileAccessError: not there, not readable, not a plain file, or written to while it was read.
    """
    descriptor = _open(path)
    moment = moment_of(os.fstat(descriptor))
    if moment.size > WHOLE:
        return BlockSource(path, descriptor, moment), moment
    os.close(descriptor)
    data, moment = read_whole(path)
    return MemorySource(data), moment


def read_whole(path: Path) -> tuple[bytes, Moment]:
    """All bytes of a file as they were at one moment; tried again while somebody is writing it.

    Raises:
        FileAccessError: as for `open_source`.
    """
    for _ in range(3):
        descriptor = _open(path)
        try:
            before = moment_of(os.fstat(descriptor))
            data = _read_all(descriptor, before.size)
            after = moment_of(os.fstat(descriptor))
        except OSError as error:
            raise unreadable(path, error) from error
        finally:
            os.close(descriptor)
        if before == after and len(data) == before.size:
            return data, before
    raise FileAccessError(
        f"{path} is being written by another program and does not keep still",
        "nothing was changed; save in the game, wait a moment and open it again",
    )


def name_within(path: Path, folder: Path | None) -> str:
    """What a file is called: in a folder, and below it, the way from there; else its name."""
    return path.relative_to(folder).as_posix() if folder is not None and folder in path.parents else path.name


def strays(path: Path, base: Path) -> bool:
    """Whether a path that reads as if it were below a folder leads out of it, through a symbolic link on the way or
    at its end. A path that does not read so was granted by the user, and is not asked about.
    """
    if base not in path.parents:
        return False
    real = os.path.realpath(base)
    return os.path.commonpath([real, os.path.realpath(path)]) != real


def files_below(folder: Path) -> list[Path]:
    """All plain files in a folder and below it, sorted by name; symbolic links are not followed.

    Raises:
        FileAccessError: the folder cannot be read.
    """
    found: list[Path] = []
    waiting = [folder]
    while waiting:
        place = waiting.pop()
        try:
            with os.scandir(place) as entries:
                for entry in entries:
                    if entry.is_dir(follow_symlinks=False):
                        waiting.append(Path(entry.path))
                    elif entry.is_file(follow_symlinks=False):
                        found.append(Path(entry.path))
        except OSError as error:
            raise unreadable(Path(error.filename or folder), error) from error
    return sorted(found)


def _read_all(descriptor: int, size: int) -> bytes:
    # One byte more than there were is enough to see that the file grew; reading on would never end while it grows.
    pieces, left = [], size + 1
    while left > 0 and (piece := os.read(descriptor, left)):
        pieces.append(piece)
        left -= len(piece)
    if not pieces:
        return b""
    return pieces[0] if len(pieces) == 1 else b"".join(pieces)


def _open(path: Path) -> int:
    try:
        descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    except (OSError, ValueError) as error:
        raise unreadable(path, error) from error
    mode = os.fstat(descriptor).st_mode
    if not stat.S_ISREG(mode):
        os.close(descriptor)
        kind = "a folder" if stat.S_ISDIR(mode) else "not a plain file"
        raise FileAccessError(f"{path} is {kind}", "nothing was read; choose the save file itself")
    return descriptor


def unreadable(path: Path, error: Exception) -> FileAccessError:
    """What an OSError of opening or listing means, as a sentence."""
    code = getattr(error, "errno", None)
    if code == errno.ENOENT:
        return FileAccessError(f"{path} is not there", "check the name, or look whether the game has moved its saves")
    if code in (errno.EACCES, errno.EPERM):
        return FileAccessError(
            f"{path} may not be read by you", "nothing was read; change its permissions or your user"
        )
    reason = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
    return FileAccessError(f"{path} cannot be read ({reason})", "nothing was changed; check the disk and the name")
