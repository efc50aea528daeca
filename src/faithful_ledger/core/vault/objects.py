"""The vault's objects: kept bytes, named by their SHA-256, packed with zstd, written once and never changed.

What is on disk:

    objects/ab/abcdef….zst    one object: a zstd frame; its name is the SHA-256 of the unpacked bytes
    objects/new-….part        an object that was being written when the machine stopped; swept away by `sweep`

What holds after a crash at each step: an object is written under a name of its own, synced, and only then renamed to
its final name, so under a final name there is always a whole object. Contents that are equal are stored once. Reading
checks the SHA-256, so silent damage is reported and never handed on; keeping the same content again repairs it.

What no file system promises: that `fsync` reaches the platters of a disk that only says so; and a disk that loses
blocks loses objects. `check` tells which.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from faithful_ledger.core.disk import Disk, translated
from faithful_ledger.core.errors import VaultError
from faithful_ledger.core.source import Source
from faithful_ledger.core.threads import WORTH_IT, started

if TYPE_CHECKING:
    from concurrent.futures import Future

__all__ = ["ObjectStore", "digest_beside", "digest_of"]

LEVEL = 1  # saves are kept while somebody waits; level 3 takes twice the time for a tenth less


def digest_of(chunks: Iterable[memoryview]) -> str:
    """SHA-256, as 64 hexadecimal digits."""
    running = hashlib.sha256()
    for chunk in chunks:
        running.update(chunk)
    return running.hexdigest()


def digest_beside(source: Source) -> Future[str]:
    """The SHA-256 of a source, worked out in a thread of its own."""
    return started(digest_of, source.chunks(0, source.size))


class ObjectStore:
    """Objects in one folder."""

    def __init__(self, folder: Path, disk: Disk | None = None) -> None:
        self.folder = folder
        self.disk = disk or Disk()

    def put(self, source: Source, hashing: Future[str] | None = None) -> str:
        """Keep these bytes; returns their SHA-256. Hashing, unless it was begun before, and packing run side by side.

        Raises:
            FileAccessError: the vault cannot be written (a full disk, permissions); nothing is kept then.
        """
        hashing = hashing or digest_beside(source)
        if source.size < WORTH_IT and self.holds(hashing.result()):
            return hashing.result()
        with translated(self.folder, "written"):
            self.disk.make_folder(self.folder)
            unfinished = self.folder / f"new-{os.urandom(8).hex()}.part"
            try:
                self._write(unfinished, source)
                digest = hashing.result()
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

    def _write(self, path: Path, source: Source) -> None:
        import zstandard

        packer = zstandard.ZstdCompressor(level=LEVEL).compressobj(size=source.size)
        descriptor = self.disk.create(path, 0o444)
        try:
            for chunk in source.chunks(0, source.size):
                if packed := packer.compress(chunk):
                    self.disk.write(descriptor, packed)
            self.disk.write(descriptor, packer.flush())
            self.disk.sync(descriptor)
        finally:
            self.disk.close(descriptor)

    def get(self, digest: str) -> bytes:
        """The bytes of an object, checked against its name.

        Raises:
            VaultError: it is missing or damaged.
        """
        import zstandard

        path = self.path_of(digest)
        try:
            data = zstandard.ZstdDecompressor().decompress(path.read_bytes())
        except FileNotFoundError as error:
            raise VaultError(
                f"the kept copy {digest[:12]}… is missing from {self.folder}", "look in a backup of it"
            ) from error
        except (OSError, zstandard.ZstdError, MemoryError) as error:
            raise VaultError(
                f"the kept copy {path} cannot be read ({error})", "look in a backup of the vault"
            ) from error
        if hashlib.sha256(data).hexdigest() != digest:
            raise VaultError(f"the kept copy {path} is damaged", "look in a backup of the vault; nothing was restored")
        return data

    def holds(self, digest: str) -> bool:
        """Whether an object is there and whole."""
        try:
            self.get(digest)
        except VaultError:
            return False
        return True

    def has(self, digest: str) -> bool:
        """Whether there is a file for an object; whether it is whole is not looked at."""
        return bool(digest) and self.path_of(digest).is_file()

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
