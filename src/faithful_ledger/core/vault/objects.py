"""The vault's objects: kept bytes, named by their SHA-256, packed with zstd, written once and never changed.

What is on disk:

    objects/ab/abcdef….zst    one object: a zstd frame; its name is the SHA-256 of the unpacked bytes. Of a large one
                              that is like an object kept before there are only the blocks that differ from it
                              (differences.py)
    objects/new-….part        an object that was being written when the machine stopped; swept away by `sweep`

What holds after a crash at each step: an object is written under a name of its own, synced, and only then renamed to
its final name, so under a final name there is always a whole object. Contents that are equal are stored once. Reading
checks the SHA-256, so silent damage is reported and never handed on; keeping the same content again repairs it.
What differs is said of an object that is whole itself, and was just read and compared with its own fingerprint; it
stays whole.

What no file system promises: that `fsync` reaches the platters of a disk that only says so; and a disk that loses
blocks loses objects. `check` tells which.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable, Iterator
from contextlib import suppress
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING

import xxhash

from faithful_ledger.core.disk import Disk, translated
from faithful_ledger.core.errors import VaultError
from faithful_ledger.core.source import MemorySource, Source
from faithful_ledger.core.threads import WORTH_IT, started
from faithful_ledger.core.vault.differences import HEAD, Blocks, Difference, Index, index_of, other_object, put_together

if TYPE_CHECKING:
    from concurrent.futures import Future

__all__ = ["ObjectStore", "digest_beside", "digest_of"]

MOST_STEPS = 4  # from one object to another until one is whole; what is written has one
LEVEL = 1  # saves are kept while somebody waits; level 3 takes twice the time for a tenth less


def digest_of(chunks: Iterable[memoryview]) -> str:
    """SHA-256, as 64 hexadecimal digits."""
    running = hashlib.sha256()
    for chunk in chunks:
        running.update(chunk)
    return running.hexdigest()


def digest_beside(source: Source) -> Future[str]:
    """The SHA-256 of a source, worked out in a thread of its own."""
    # What is in memory goes in one piece: between pieces the thread would wait for those that need the interpreter.
    whole = isinstance(source, MemorySource)
    return started(digest_of, [source.read(0, source.size)] if whole else source.chunks(0, source.size))


class ObjectStore:
    """Objects in one folder."""

    def __init__(self, folder: Path, disk: Disk | None = None) -> None:
        self.folder = folder
        self.disk = disk or Disk()

    def put(self, source: Source, hashing: Future[str] | None = None, like: str = "") -> str:
        """Keep these bytes; returns their SHA-256. Hashing, unless it was begun before, and packing run side by side.
        Large ones that are nearly those of the object `like` are kept as what differs from it.

        Raises:
            FileAccessError: the vault cannot be written (a full disk, permissions); nothing is kept then.
        """
        hashing = hashing or digest_beside(source)
        if source.size < WORTH_IT and self.holds(hashing.result()):
            return hashing.result()
        whole = self._whole(like) if like and source.size >= WORTH_IT else None
        changes = whole.difference(source) if whole else None
        if changes and self._other(digest := hashing.result()) == "":  # others may differ from it: it stays whole
            if self._whole(digest):
                return digest
            changes = None
        with translated(self.folder, "written"):
            self.disk.make_folder(self.folder)
            unfinished = self.folder / f"new-{os.urandom(8).hex()}.part"
            try:
                digest = self._write(unfinished, source, hashing, changes)
                target = self.path_of(digest)
                # An object that is there already has the same content, or is damaged: the new one takes its place.
                self.disk.make_folder(target.parent)
                self.disk.replace(unfinished, target)
                self.disk.sync_folder(target.parent)
                self.disk.sync_folder(self.folder)
            except BaseException:
                with suppress(OSError):
                    self.disk.remove(unfinished)
                raise
        return digest

    def _whole(self, name: str) -> Index | None:
        """The object of this name, or the one it differs from; None where there is none to rely on."""
        with suppress(OSError):
            return index_of(self.path_of(self._other(name) or name))
        return None

    def _write(self, path: Path, source: Source, hashing: Future[str], changes: Difference | None) -> str:
        import zstandard

        pieces = source.chunks(0, source.size) if changes is None else changes.blocks
        size = source.size if changes is None else sum(map(len, changes.blocks))
        packer = zstandard.ZstdCompressor(level=LEVEL).compressobj(size=size)
        frame = xxhash.xxh3_128()
        descriptor = self.disk.create(path, 0o444)
        try:
            if changes is not None:
                self.disk.write(descriptor, changes.head)
            for packed in chain((packer.compress(piece) for piece in pieces), (packer.flush() for _ in range(1))):
                if packed:
                    self.disk.write(descriptor, packed)
                    frame.update(packed)
            if changes is None and source.size >= WORTH_IT:
                self.disk.write(descriptor, Blocks.of(source).as_index(hashing.result(), frame.digest()))
            self.disk.sync(descriptor)
        finally:
            self.disk.close(descriptor)
        return hashing.result()

    def get(self, digest: str) -> bytes:
        """The bytes of an object, checked against its name.

        Raises:
            VaultError: it is missing or damaged.
        """
        data = self._unpacked(digest)
        if hashlib.sha256(data).hexdigest() != digest:
            path = self.path_of(digest)
            raise VaultError(f"the kept copy {path} is damaged", "look in a backup of the vault; nothing was restored")
        return data

    def _unpacked(self, name: str, steps: int = MOST_STEPS) -> bytes:
        import zstandard

        path = self.path_of(name)
        try:
            packed = path.read_bytes()
            if not (other := other_object(packed)):
                return zstandard.ZstdDecompressor().decompress(packed)
            if not steps:
                raise ValueError("it differs from one that differs from another, and so on")
            return bytes(put_together(packed, self._unpacked(other, steps - 1)))
        except FileNotFoundError as error:
            raise VaultError(
                f"the kept copy {name[:12]}… is missing from {self.folder}", "look in a backup of it"
            ) from error
        except (OSError, ValueError, zstandard.ZstdError, MemoryError) as error:
            raise VaultError(
                f"the kept copy {path} cannot be read ({error})", "look in a backup of the vault"
            ) from error

    def holds(self, digest: str) -> bool:
        """Whether an object is there and whole."""
        try:
            self.get(digest)
        except VaultError:
            return False
        return True

    def has(self, digest: str) -> bool:
        """Whether there are files for an object; whether they are damaged is not looked at."""
        other = self._other(digest) if digest else None
        return other is not None and (not other or self._other(other) is not None)

    def _other(self, name: str) -> str | None:
        """The object that one of this name differs from; empty for one that is whole, None where there is no file."""
        try:
            with self.path_of(name).open("rb") as file:
                return other_object(file.read(HEAD.size))
        except OSError:
            return None

    def digests(self) -> Iterator[str]:
        return (path.stem for path in sorted(self.folder.glob("??/*.zst")))

    def check(self) -> list[str]:
        """Read every object again; the SHA-256 names of those that are damaged."""
        damaged = []
        for digest in self.digests():
            try:
                self.get(digest)
            except VaultError:
                damaged.append(digest)
        return damaged

    def sweep(self) -> None:
        """Remove what a crash left unfinished. Only while nobody else writes (the book's lock is held)."""
        for path in self.folder.glob("new-*.part"):
            path.unlink(missing_ok=True)

    def path_of(self, digest: str) -> Path:
        return self.folder / digest[:2] / f"{digest}.zst"
