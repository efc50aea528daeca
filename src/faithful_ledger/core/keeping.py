"""The half of a book that keeps: which saves it knows, their snapshots, and the vault.

A snapshot is recorded after its objects and the note about it are whole (see vault/objects.py, manifests.py).
"""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from concurrent.futures import wait
from contextlib import AbstractContextManager, suppress
from functools import cache, partial
from pathlib import Path
from types import MappingProxyType
from typing import TYPE_CHECKING, NamedTuple

from faithful_ledger.core.clock import now
from faithful_ledger.core.disk import Disk, translated
from faithful_ledger.core.errors import AddressError, ChangedMeanwhile, FileAccessError, LedgerError
from faithful_ledger.core.identity import Identities
from faithful_ledger.core.layers.sqlite_tables import log_beside
from faithful_ledger.core.locks import WAIT
from faithful_ledger.core.locks import locked as held
from faithful_ledger.core.manifests import read_manifests, write_manifest
from faithful_ledger.core.posting.recover import Recovery
from faithful_ledger.core.posting.steps import Seen
from faithful_ledger.core.records import KeptFile, Records, Snapshot
from faithful_ledger.core.save import Save, SaveFile
from faithful_ledger.core.source import (
    MemorySource,
    Source,
    files_below,
    log_of,
    name_within,
    open_blocks,
    open_source,
    same_bytes,
)
from faithful_ledger.core.threads import WORTH_IT, started
from faithful_ledger.core.vault.objects import ObjectStore, digest_beside

if TYPE_CHECKING:
    from concurrent.futures import Future

KEPT = "kept"  # the kind of snapshots that were asked for
MOST_IDENTIFIED = 100  # snapshots that are read to find out whose they are
DECIDED = "carried:"  # in front of the ids of templates, in the names of settings that are decisions
MAPPED = "mapped:"  # in front of the ids of two templates, in the names of settings that say where values go
ROOT = "root:"  # in front of the names of settings that are granted folders

__all__ = ["Keeping", "Known", "Rebuilt", "VaultReport", "absolute", "hash_early"]


class Known(NamedTuple):
    """What a file holds, with the SHA-256 of it if the vault has it already, or if that is being worked out."""

    source: Source
    kept_as: str = ""
    hashing: Future[str] | None = None


NONE_KNOWN: Mapping[Path, Known] = MappingProxyType({})


class Rebuilt(NamedTuple):
    """The records were gone while the vault was there; so many `snapshots` were found again."""

    book: str
    snapshots: int

    def __str__(self) -> str:
        return (
            f"the records of the book {self.book} were missing; {self.snapshots} snapshots were found again in its "
            "vault (postings and sightings were only in the records)"
        )


class VaultReport(NamedTuple):
    """What checking a vault found. `unlisted` are snapshots in the vault that the records do not know."""

    objects: int
    damaged: list[tuple[Snapshot, KeptFile]]
    unlisted: list[Snapshot]
    journals: list[LedgerError]

    @property
    def sound(self) -> bool:
        return not (self.damaged or self.unlisted or self.journals)


class Keeping:
    """The saves and kept copies of one game, in one folder.

    `recovered` says what opening it has finished, undone or found again; `blocked` why nothing can be posted.

    Raises:
        LedgerError: the folder cannot be used.
    """

    def __init__(self, folder: Path, disk: Disk | None = None) -> None:
        self.folder, self.disk = folder, disk or Disk()
        self.store = ObjectStore(folder / "vault" / "objects", self.disk)
        self.manifests = folder / "vault" / "snapshots"
        self.recovered: list[Recovery | Rebuilt] = []
        self.blocked: list[LedgerError] = []
        with translated(folder, "opened"):
            (folder / "templates").mkdir(parents=True, exist_ok=True)
            (folder / "lock").touch()
        self.records = Records(folder / "book.sqlite")
        self.identities = Identities(self.records)
        try:
            if self.records.is_empty and self.manifests.is_dir():
                self.rebuild()
        except BaseException:
            self.records.close()
            raise

    @property
    def name(self) -> str:
        return self.folder.name

    def close(self) -> None:
        self.records.close()

    def remember(self, path: Path, template: str | None) -> None:
        """Note that this save belongs to this book."""
        self.records.remember(absolute(path), template)

    def knows(self, path: Path) -> bool:
        return self.records.knows(absolute(path))

    def template_of(self, path: Path) -> str | None:
        """The id of the template a save was opened with last; None where it had none, or is not known."""
        return next((template for save, template in self.records.saves() if save == absolute(path)), None)

    @property
    def roots(self) -> dict[str, Path]:
        """The folders the user granted, by their roles."""
        return {name: Path(folder) for name, folder in self.records.settings(ROOT).items() if folder}

    def grant(self, root: str, folder: Path) -> None:
        """Note that files of this game's saves may be read and written in a folder.

        Raises:
            AddressError: it is not a folder.
        """
        folder = absolute(folder)
        if not folder.is_dir():
            raise AddressError(f"{folder} is not a folder", f"nothing was granted; name the folder of “{root}”")
        self.records.set_setting(ROOT + root, str(folder))

    def decisions(self, template: str) -> dict[str, bool]:
        """What the user said of files that no template sorts: whether they go along when a folder is carried."""
        return dict(json.loads(self.records.setting(DECIDED + template) or "{}"))

    def decide(self, template: str, decisions: Mapping[str, bool]) -> None:
        """Remember what the user said of such files."""
        self.records.set_setting(DECIDED + template, json.dumps(dict(decisions)))

    def mapping(self, source: str, target: str) -> dict[str, str]:
        """Where the user said that values of one template go in saves of another one, by their paths."""
        return dict(json.loads(self.records.setting(f"{MAPPED}{source}>{target}") or "{}"))

    def map(self, source: str, target: str, paths: Mapping[str, str]) -> None:
        """Remember where values go; an empty path forgets it."""
        known = self.mapping(source, target) | dict(paths)
        kept = {path: where for path, where in known.items() if where}
        self.records.set_setting(f"{MAPPED}{source}>{target}", json.dumps(kept))

    def folders(self) -> list[Path]:
        """The saves that are folders."""
        return [save for save, _ in self.records.saves() if save.is_dir()]

    def rebuild(self) -> int:
        """Enter the snapshots that are in the vault and not in the records; how many there were."""
        with self.locked(shared=True):
            found = self._unlisted(self.records.snapshots())
            saves = {save for save, _ in self.records.saves()}
            for snapshot in found:
                self.records.add_snapshot(snapshot)
                if snapshot.save not in saves:
                    self.records.remember(snapshot.save, None)
                    saves.add(snapshot.save)
        if found:
            self.recovered.append(Rebuilt(self.name, len(found)))
        return len(found)

    def keep(self, save: Save, label: str = "", kind: str = KEPT) -> Snapshot:
        """Keep all files of a save as they are on disk now, companions included.

        Raises:
            LedgerError: a file cannot be read, or the vault not written; nothing is recorded then.
        """
        with self.locked(shared=True):
            return self._keep_save(save, label, kind)

    def keep_early(self, save: Save) -> None:
        """Put the bytes of large files into the vault before they are needed there, so that a posting need not wait for
        it. No snapshot is recorded.

        Raises:
            LedgerError: the vault cannot be written; nothing depends on it yet.
        """
        with self.locked(shared=True):
            self._put_large(save)

    def _put_large(self, save: Save) -> None:
        large = [f for f in save.on_disk if f.source.size >= WORTH_IT and not self.store.has(f.kept_as)]
        like = self._kept_last(save.path) if large else {}
        for file in large:
            file.kept_as = self.store.put(file.source, file.hashing, like.get(absolute(file.path), ""))

    def _kept_last(self, save: Path) -> dict[Path, str]:
        """The SHA-256 of each file in the latest snapshot of a save."""
        return {file.path: file.sha256 for snapshot in self.snapshots(save, 1) for file in snapshot.files}

    def _keep_save(self, save: Save, label: str, kind: str, known: Mapping[Path, Known] = NONE_KNOWN) -> Snapshot:
        names = tuple(save.companions)
        paths = [(file.name, file.path) for file in save.on_disk]
        if save.folder is not None:  # what came in since it was opened belongs to it as well
            opened = {path for _, path in paths}
            paths = [pair for pair in paths if pair[1].exists()]
            paths += [(name_within(path, save.folder), path) for path in files_below(save.folder) if path not in opened]
        members = [member for member in self.records.members(absolute(save.path)) if member.path.is_file()]
        others = [("companion", save.beside(name)) for name in names]
        others += [(member.role, member.path) for member in members]
        known_paths = {absolute(path) for _, path in paths}
        for role, path in others:
            if absolute(path) not in known_paths:
                known_paths.add(absolute(path))
                paths.append((role, path))
        identity = self._identity_now(save, known)
        return self.keep_files(save.path, paths, names, label, kind, known, identity)

    def _identity_now(self, save: Save, known: Mapping[Path, Known]) -> str:
        """Whose save is on disk now, which may be another one than was opened."""
        if not self.identities.paths(save):
            return ""
        if all(file.path in known for file in save.on_disk):
            return self.identities.of(save)
        sources = {file.name: open_source(file.path)[0] for file in save.on_disk if file.path.exists()}
        return self.identities.within(save, sources)

    def keep_opened(self, save: Save, label: str, kind: str) -> tuple[Snapshot, dict[Path, Seen]]:
        """Keep all files, but only if they are still what they were when the save was opened; and when that was seen.
        The bytes of large files go into the vault while the files are compared.

        Raises:
            ChangedMeanwhile: one is not.
        """
        hash_early(*save.on_disk)
        putting = started(self._put_large, save)
        try:
            seen = self._unchanged(save)
        finally:
            wait([putting])
        putting.result()
        known = {file.path: Known(file.source, file.kept_as, file.hashing) for file in save.on_disk}
        return self._keep_save(save, label, kind, known), seen

    @staticmethod
    def _unchanged(save: Save) -> dict[Path, Seen]:
        """When each file was found to have the bytes it had when the save was opened; raises ChangedMeanwhile."""
        seen = {}
        for file in save.on_disk:
            with translated(file.path, "compared"):
                seen[file.path] = Seen.now(file.path)
            if not same_bytes(open_blocks(file.path), file.source):
                what = f"nothing was written: {file.path.name} was changed by another program"
                raise ChangedMeanwhile(what, "open it again")
            if log_beside(file.path, file.source) != log_of(file.source):
                what = f"nothing was written: the game has written to {file.path.name} meanwhile, in its log"
                raise ChangedMeanwhile(what, "close the game and open the save again")
        return seen

    def keep_files(
        self,
        save: Path,
        paths: list[tuple[str, Path]],
        companions: tuple[str, ...],
        label: str,
        kind: str,
        known: Mapping[Path, Known] = NONE_KNOWN,
        identity: str = "",
    ) -> Snapshot:
        """Keep files by their roles as a snapshot of a save; a companion that is not there is passed over, and files
        that are `known` are not read again. What is not kept on demand may be kept as what differs from the last time.
        """
        files = []
        last_kept = cache(partial(self._kept_last, save))
        for role, path in paths:
            if role == "companion" and not path.is_file():
                continue
            source, kept_as, hashing = known[path] if path in known else Known(open_source(path)[0])
            with translated(path, "kept"):
                mode = path.stat().st_mode & 0o7777
            where = absolute(path)
            like = last_kept() if kind != KEPT and not kept_as and source.size >= WORTH_IT else {}
            digest = kept_as or self.store.put(source, hashing, like.get(where, ""))
            files.append(KeptFile(role, where, source.size, digest, mode))
        snapshot = Snapshot(os.urandom(6).hex(), now(), label, kind, absolute(save), companions, tuple(files), identity)
        return self.add(snapshot)

    def add(self, snapshot: Snapshot) -> Snapshot:
        """Record a snapshot whose contents are in the vault."""
        if not self.manifests.is_dir():  # a book from before there were notes in the vault
            for known in self.records.snapshots():
                write_manifest(self.manifests, known, self.disk)
        if self.records.is_empty:
            self.records.remember(snapshot.save, None)
        write_manifest(self.manifests, snapshot, self.disk)
        self.records.add_snapshot(snapshot)
        return snapshot

    def snapshots(self, save: Path | None = None, most: int = -1) -> list[Snapshot]:
        """All snapshots, or those of one save, the latest first; at most so many (−1 is all)."""
        return self.records.snapshots(absolute(save) if save is not None else None, most=most)

    def own_snapshots(self, save: Save, most: int = -1) -> list[Snapshot]:
        """The snapshots of an open save, without those of another character under the same name; the latest first."""
        return self.records.snapshots(absolute(save.path), most=most, identities=self.identities.same(save))

    def count_own(self, save: Save) -> int:
        counts, own = self.records.count_snapshots(absolute(save.path)), self.identities.same(save)
        return sum(count for identity, count in counts.items() if identity in own)

    def others(self, save: Save) -> dict[str, int]:
        """How many snapshots there are of other characters under the name of a save, the latest one's first."""
        own = self.identities.same(save)
        counts = self.records.count_snapshots(absolute(save.path))
        return {identity: count for identity, count in counts.items() if identity not in own}

    def identify(self, save: Save) -> None:
        """Find out whose the snapshots of a save are that were made before that was known, or by other fields."""
        if self.identities.are_new(save):
            self.records.forget_identities(absolute(save.path))
        if not self.identities.paths(save):
            return
        unknown = self.records.snapshots(absolute(save.path), most=MOST_IDENTIFIED, identities=[""])
        for snapshot in unknown:
            with suppress(LedgerError):
                sources = self.kept_sources(save, snapshot, inside=False)
                if sources and (identity := self.identities.within(save, sources)):
                    self.records.identify(snapshot, identity)

    def snapshot(self, name: str) -> Snapshot:
        """A snapshot by its id or the beginning of it.

        Raises:
            AddressError: there is none, or several begin so.
        """
        found = self.records.snapshots(beginning=name) if name else []
        if len(found) != 1:
            what = "several snapshots begin" if found else "no snapshot begins"
            raise AddressError(f"{what} with “{name}”", "see the list of snapshots")
        return found[0]

    def export(self, snapshot: Snapshot, to: Path) -> None:
        """Write a snapshot as a new zip file (see vault/archive.py).

        Raises:
            VaultError: a kept copy is damaged; FileAccessError: the file is there or cannot be written.
        """
        from faithful_ledger.core.vault.archive import ArchivedFile, write_archive

        files = [
            ArchivedFile(snapshot.name_of(file), file.role, file.mode, self.store.get(file.sha256))
            for file in snapshot.files
        ]
        about = {"label": snapshot.label, "time": snapshot.time, "companions": list(snapshot.companions)}
        if to.exists():
            raise FileAccessError(f"{to} exists already", "nothing was written; name another file")
        with translated(to, "written"):
            write_archive(to, about, files)

    def take_in(self, archive: Path, save: Path) -> Snapshot:
        """Keep what a zip file holds that was exported before, as a snapshot of `save`.

        Raises:
            VaultError: it is not such a file, or damaged; nothing was kept.
        """
        from faithful_ledger.core.vault.archive import read_archive

        main = absolute(save)
        kept: list[KeptFile] = []
        latest = next(iter(self.snapshots(main, 1)), None)
        # A file of another folder goes by its role, and is where it was when this save was kept last.
        elsewhere = {file.role: file.path for file in latest.files} if latest is not None else {}

        def keep(name: str, role: str, mode: int, content: Source) -> None:
            path = main / name if main.is_dir() else main if not kept else main.parent / name
            if name.startswith(f"{role}/") and role in elsewhere:
                path = elsewhere[role]
            kept.append(KeptFile(role, path, content.size, self.store.put(content), mode))

        with self.locked(shared=True):
            about = read_archive(archive, keep)
            label = about.label or archive.stem
            return self.add(Snapshot(os.urandom(6).hex(), now(), label, KEPT, main, about.companions, tuple(kept)))

    def check_vault(self) -> VaultReport:
        """Read every kept copy again, and compare the vault with the records."""
        damaged = set(self.store.check())
        snapshots = self.records.snapshots()
        files = [
            (snapshot, file)
            for snapshot in snapshots
            for file in snapshot.files
            if file.sha256 in damaged or not self.store.path_of(file.sha256).exists()
        ]
        return VaultReport(sum(1 for _ in self.store.digests()), files, self._unlisted(snapshots), self.blocked)

    def _unlisted(self, listed: list[Snapshot]) -> list[Snapshot]:
        """The snapshots that are in the vault and not among these."""
        known = {snapshot.id for snapshot in listed}
        return [snapshot for snapshot in read_manifests(self.manifests) if snapshot.id not in known]

    def kept_source(self, file: KeptFile) -> Source:
        """Raises VaultError when the kept copy is missing or damaged."""
        return MemorySource(self.store.get(file.sha256))

    def kept_sources(self, save: Save, snapshot: Snapshot, *, inside: bool = True) -> dict[str, Source]:
        """The files of a save as they were in a snapshot, by their names in the save, and the payloads `inside` them.

        What the snapshot does not hold, or the template does not fit, is left out.

        Raises:
            VaultError: a kept copy is missing or damaged.
        """
        kept = {file.path: file for file in snapshot.files}
        found = {
            file.name: self.kept_source(kept[path]) for file in save.on_disk if (path := absolute(file.path)) in kept
        }
        if inside and any(file.inside for file in save.files.values()) and (bound := save.laid_over(found)) is not None:
            found |= {name: file.source for name, file in bound.items() if file.unwrapped is not None}
        return found

    def locked(self, *, wait: float = WAIT, shared: bool = False) -> AbstractContextManager[None]:
        """The book's own lock: alone for what moves files, together for what only adds to the vault."""
        return held([self.folder / "lock"], f"in the book {self.name}", wait=wait, shared=shared)


def hash_early(*files: SaveFile) -> None:
    """Begin to hash large files that are about to be kept: what is entered and planned meanwhile need not wait."""
    for file in files:
        if file.source.size >= WORTH_IT and not file.kept_as and file.hashing is None:
            file.hashing = digest_beside(file.source)


def absolute(path: Path) -> Path:
    return Path(path).absolute()
