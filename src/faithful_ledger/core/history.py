"""The half of a book that writes: postings, their reversal, and snapshots brought back.

A posting is recorded after its files are written. Opening a book finishes or undoes what a stop left half done. A
journal that cannot be read stays, and until it is gone nothing is posted from this book.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple

from faithful_ledger.core.clock import now
from faithful_ledger.core.disk import translated
from faithful_ledger.core.errors import (
    AddressError,
    Busy,
    ChangedMeanwhile,
    JournalUnreadable,
    Refused,
)
from faithful_ledger.core.find import Program, holders
from faithful_ledger.core.keeping import Keeping, absolute
from faithful_ledger.core.locks import locked
from faithful_ledger.core.posting.checks import Check, run_checks
from faithful_ledger.core.posting.files import has_bytes
from faithful_ledger.core.posting.hazards import hazards, is_synced
from faithful_ledger.core.posting.plan import Plan, companion_files, verify
from faithful_ledger.core.posting.recover import recover, refuse_blocked
from faithful_ledger.core.posting.write import Rename, Rewrite, arrived, replace_set, writing_ahead
from faithful_ledger.core.records import KeptFile, Posting, Snapshot
from faithful_ledger.core.save import Save
from faithful_ledger.core.source import MemorySource, files_below, strays

__all__ = ["GAVE_WAY", "LET_IT_SYNC", "History", "Ready"]

GAVE_WAY = "gave way"  # the kind of a snapshot of the files that a carry writes over or removes
LET_IT_SYNC = "Let the sync go on again, and keep the local copy if it asks."


class Ready(NamedTuple):
    """What a posting writes, removes and renames, and what will be recorded of it."""

    rewrites: list[Rewrite]
    removals: list[tuple[Path, str]]
    renames: list[Rename]
    record: dict[str, Any]


class History:
    """The postings of a book.

    `done` says what was written since it was opened, a sentence each.
    """

    def __init__(self, keeping: Keeping) -> None:
        self.keeping, self.records, self.disk, self.store = keeping, keeping.records, keeping.disk, keeping.store
        self.journal = keeping.folder / "journal"
        self.done: list[str] = []
        if any(self.journal.glob("*.json*")):
            self._recover_if_idle()

    def _recover_if_idle(self) -> None:
        """Finish what a stop left, unless somebody is writing just now: then the journal is theirs."""
        try:
            with self.keeping.locked(wait=0):
                self._recover()
        except Busy:
            return

    def _recover(self) -> None:
        done, self.keeping.blocked = recover(self.journal, self.disk, self.store, self.record_posting)
        self.keeping.recovered += done
        self.store.sweep()

    def hazards(self, save: Save, running: list[Program] | None = None) -> list[Check]:
        """What will undo a posting to this save."""
        return hazards([file.path for file in save.on_disk], save.companions, self.records.setting("synced"), running)

    def check(self, plan: Plan, *, detach_links: bool = False, running: list[Program] | None = None) -> list[Check]:
        """What must be true before a plan is written. `running` programs are looked for if not given."""
        return run_checks(plan, self.keeping.folder, detach_links=detach_links, running=running)

    def post(self, save: Save, plan: Plan, note: str = "", *, detach_links: bool = False) -> Posting:
        """Write a plan. The untouched files are in the vault before one of them is replaced.

        Raises:
            Refused: a check does not allow it, or a file is not as it was opened; nothing was written.
            LedgerError: it could not be written; everything is as it was.
        """
        folders = [file.file.path.resolve().parent for file in plan.written]
        with self.writing(folders), self.ready(save, plan, note, detach_links=detach_links) as ready:
            replace_set(
                ready.rewrites,
                ready.removals,
                ready.record,
                self.journal,
                self.disk,
                self.store,
                self.record_posting,
            )
            self._follow_identity(save, plan)
            return self.posting(str(ready.record["id"]))

    def _follow_identity(self, save: Save, plan: Plan) -> None:
        """A character that got another name by a posting is still the same."""
        identities = self.keeping.identities
        if {entry.path for entry in (*plan.entries, *plan.followers)} & set(identities.paths(save)):
            sources = {file.file.name: file.patched for file in plan.files if not file.file.inside}
            old, new = identities.of(save), identities.within(save, sources)
            if old != new and old and new:
                identities.join(save, old, new)

    @contextmanager
    def ready(
        self,
        save: Save,
        plan: Plan,
        note: str,
        *,
        detach_links: bool = False,
        renames: Sequence[tuple[Path, Path]] = (),
    ) -> Iterator[Ready]:
        """Check a plan, keep the untouched files, and say what is to be written inside. The caller holds the locks.
        The new bytes of large files are written ahead meanwhile.

        Raises:
            Refused: a check does not allow it, or a file is not as it was opened; nothing was written.
        """
        failed = [check for check in self.check(plan, detach_links=detach_links) if not check.ok]
        if failed:
            raise Refused(f"nothing was written: {failed[0].text}", failed[0].remedy)
        if not plan.written and not renames:
            raise Refused("there is nothing to post", "enter a value first")
        new = [
            Rewrite(file.file.path, file.patched, None, partial(verify, file.file.name, file.patched))
            for file in plan.written
        ]
        with writing_ahead(new, self.disk) as written:
            kept, seen = self.keeping.keep_opened(save, note, "before posting")
            digests = {file.path: file.sha256 for file in kept.files}
            rewrites = [each._replace(old=digests[absolute(each.path)], seen=seen[each.path]) for each in written()]
            # Which companions there are is asked again: the game may have made or removed one since the plan.
            companions = [path for path in companion_files(save) if absolute(path) in digests] if plan.written else []
            record: dict[str, Any] = {"id": os.urandom(6).hex(), "time": now(), "save": str(absolute(save.path))}
            record |= {"kept": kept.id, "identity": kept.identity}
            record |= describe(plan, note) | {"removed": [str(path) for path in companions]}
            if is_synced([file.path for file in save.on_disk], self.records.setting("synced")):
                record["after"].append(LET_IT_SYNC)
            if renames:
                record["renamed"] = [{"path": str(path), "to": str(to), "old": digests[path]} for path, to in renames]
            removals = [(path, digests[absolute(path)]) for path in companions]
            yield Ready(rewrites, removals, [Rename(path, to, digests[path]) for path, to in renames], record)

    def post_elsewhere(self, save: Save, plan: Plan, to: Path) -> list[Path]:
        """Write what a plan makes of a save to another place, and leave the save alone.

        `to` is a folder, or the new name of the first file; the other files go beside it. Nothing may exist there yet.

        Raises:
            Refused: something is there, or the result would not be in balance; nothing was written.
            LedgerError: it could not be written.
        """
        if not plan.in_balance:
            raise Refused(
                "nothing was written: the result would be out of balance", "see check, or decide on its seals"
            )
        main = to / save.path.name if to.is_dir() else to
        rewrites = []
        for file in (file for file in plan.files if not file.file.inside):
            if save.folder is not None:
                target = main / file.file.path.relative_to(save.folder)
            else:
                target = main if file.file is save.main else main.parent / save.name_beside(file.file)
            if target.exists() or target.is_symlink():
                raise Refused(f"{target} exists already", "nothing was written; name another place")
            if strays(target, main.parent):
                raise Refused(f"{target} leads out of {main.parent} by a symbolic link", "nothing was written")
            check = partial(verify, file.file.name, file.patched)
            rewrites.append(Rewrite(absolute(target), file.patched, None, check))
        with self.writing([]):
            for folder in {rewrite.path.parent for rewrite in rewrites}:
                with translated(folder, "made"):
                    self.disk.make_folder(folder)
            record = {"id": os.urandom(6).hex(), "elsewhere": str(absolute(main))}
            replace_set(rewrites, [], record, self.journal, self.disk, self.store, self.record_posting)
        return [rewrite.path for rewrite in rewrites]

    def postings(self, save: Path | None = None) -> list[Posting]:
        """All postings, or those of one save, the latest first."""
        return self.records.postings(absolute(save) if save is not None else None)

    def own_postings(self, save: Save) -> list[Posting]:
        """The postings of an open save, without those of another character under the same name; the latest first."""
        own = self.keeping.identities.same(save)
        return [each for each in self.postings(save.path) if each.record.get("identity", "") in own]

    def posting(self, name: str) -> Posting:
        """Raises AddressError when there is none of this id."""
        for posting in self.postings():
            if posting.id == name:
                return posting
        raise AddressError(f"there is no posting {name}", "see History")

    def open_steps(self, postings: Iterable[Posting]) -> dict[str, list[str]]:
        """What is still to be done after postings, by their ids: steps that are not ticked, and, while the player has
        not said what the game made of it, what to look for. A posting that was reversed is closed.
        """
        ticked, verdicts = self.records.ticked(), self.records.verdicts()
        found = {}
        for posting in postings:
            record = posting.record
            steps = [step for step in record.get("after", ()) if (posting.id, step) not in ticked]
            if posting.id not in verdicts:
                steps += (f"Look for {title} {value}." for title, value in record.get("look_for", ()))
            if steps and posting.reversed is None:
                found[posting.id] = steps
        return found

    def reverse(self, posting: Posting, *, anyway: bool = False) -> Snapshot:
        """Bring back the exact bytes from before a posting. Returns the snapshot of the state that gave way.

        Raises:
            ChangedMeanwhile: the game has written the save since, and it is not wanted `anyway`.
            LedgerError: it could not be written; everything is as it was.
        """
        snapshot = self.keeping.snapshot(posting.kept)
        if not anyway:
            for path, known in posting.record["new"].items():
                if not has_bytes(Path(path), known):
                    raise ChangedMeanwhile(
                        f"{Path(path).name} has changed since this posting",
                        "nothing was written; reverse anyway, and what is there now is kept as a snapshot",
                    )
        named = [
            Path(each["to"]) for each in posting.record.get("renamed", []) if has_bytes(Path(each["to"]), each["old"])
        ]
        named += [Path(path) for path in posting.record.get("created", []) if Path(path).is_file()]
        gave_way = self.restore(snapshot, f"before the posting of {posting.time} was reversed", also_gone=named)
        assert gave_way is not None
        self.records.mark_reversed(posting)
        return gave_way

    def restore(
        self, snapshot: Snapshot, label: str = "", to: Path | None = None, also_gone: Sequence[Path] = ()
    ) -> Snapshot | None:
        """Bring a snapshot back to where it was; what is there now is kept first, and that snapshot returned.

        `also_gone` are files that go with it: new names of files that come back under their old ones.

        With `to`, write it there instead: a file name for a single file, else a folder. Nothing there may exist yet.

        Raises:
            VaultError: a kept copy is damaged; nothing was written.
            LedgerError: it could not be written; everything is as it was.
        """
        contents = [(file, MemorySource(self.store.get(file.sha256))) for file in snapshot.files]
        targets = [self._target(snapshot, file, to) for file, _ in contents]
        base = to if to is not None else snapshot.save if snapshot.is_folder else snapshot.save.parent
        if leading_out := [target for target in targets if target != snapshot.save and strays(target, base)]:
            what = f"{leading_out[0]} leads out of {base} by a symbolic link"
            raise Refused(what, "nothing was written; remove the link, or restore to another place")
        folders = {target.resolve().parent for target in targets}
        with self.writing([folder for folder in folders if folder.is_dir()], despite_journal=True):
            if to is not None and (existing := [target for target in targets if target.exists()]):
                raise Refused(f"{existing[0]} exists already", "nothing was written; name another place")
            gave_way, removals, old = None, [], {}
            if to is None:
                if held := holders(targets):
                    path, names = next(iter(held.items()))
                    raise Refused(f"{Path(path).name} is held open by {', '.join(names)}", "close the game first")
                present = [(file.role, file.path) for file in snapshot.files if file.path.exists()]
                stale = list(dict.fromkeys([*self._stale(snapshot), *also_gone]))
                gave_way = self.keeping.keep_files(
                    snapshot.save,
                    present + [("companion", path) for path in stale],
                    snapshot.companions,
                    label or f"before the snapshot of {snapshot.time} was restored",
                    "before restoring",
                )
                old = {file.path: file.sha256 for file in gave_way.files}
                removals = [(path, old[absolute(path)]) for path in stale]
            rewrites = [
                Rewrite(target, content, old.get(target), partial(arrived, target.name, content), file.mode)
                for target, (file, content) in zip(targets, contents, strict=True)
                if old.get(target) != file.sha256
            ]
            for folder in {target.parent for target in targets} - {path.parent for path in old}:
                with translated(folder, "made"):
                    self.disk.make_folder(folder)
            if rewrites or removals:
                record = {"id": os.urandom(6).hex(), "restored": snapshot.id}
                replace_set(rewrites, removals, record, self.journal, self.disk, self.store, self.record_posting)
            self.disk.remove_empty({path.parent for path in also_gone})  # which a carry had made
            if to is None and self.keeping.blocked:
                self._set_journals_aside()
        return gave_way

    def _set_journals_aside(self) -> None:
        """A whole set is back in its place, so what an unreadable journal was about no longer matters."""
        for error in self.keeping.blocked:
            if isinstance(error, JournalUnreadable) and error.journal.parent == self.journal:
                with translated(error.journal, "set aside"):
                    self.disk.replace(error.journal, error.journal.with_suffix(".unreadable"))
        self.keeping.blocked = [error for error in self.keeping.blocked if not isinstance(error, JournalUnreadable)]

    def _target(self, snapshot: Snapshot, file: KeptFile, to: Path | None) -> Path:
        if to is None:
            return file.path
        alone = len(snapshot.files) == 1 and not snapshot.is_folder
        return absolute(to if alone and not to.is_dir() else to / snapshot.name_of(file))

    def _stale(self, snapshot: Snapshot) -> list[Path]:
        """Files that must go when a snapshot comes back: companions it was kept without, others in its folder."""
        if snapshot.kind == GAVE_WAY:  # a part of a save, or of several
            return []
        kept = {file.path for file in snapshot.files}
        if snapshot.is_folder:
            present = files_below(snapshot.save) if snapshot.save.is_dir() else []
            return [path for path in present if path not in kept]
        beside = [snapshot.save.with_name(name) for name in snapshot.companions]
        return [path for path in beside if path.is_file() and path not in kept]

    def record_posting(self, record: dict[str, Any], written: list[str]) -> None:
        """The last step of a posting: it is in the records. A restored snapshot leaves its own trace already."""
        if "entries" in record:
            self.records.add_posting({**record, "new": dict(zip(record["files"], written, strict=True))})
            self.records.set_pending(Path(record["save"]), "")
            self.done.append(
                f"the posting {record['id']} was written; the untouched files are kept as {record['kept']}"
            )
        elif "restored" in record:
            self.done.append(f"the snapshot {record['restored']} was brought back")
        else:
            self.done.append(f"{record.get('elsewhere', 'the files')} was written")

    def hold(self) -> AbstractContextManager[None]:
        """This book alone, for a posting that writes several saves (see together.py)."""
        return self.writing([])

    @contextmanager
    def writing(self, folders: Iterable[Path], *, despite_journal: bool = False) -> Iterator[None]:
        """Hold this book and the folders of a save, with everything from before finished or undone.

        Raises:
            Busy: somebody else is writing one of them.
            JournalUnreadable, FolderAway: an interrupted posting stands in the way.
        """
        folders = set(folders)
        with self.keeping.locked(), locked(folders, "this save"):
            if any(self.journal.glob("*.json*")):
                self._recover()
            if not despite_journal:
                refuse_blocked(self.keeping.blocked, folders)
            yield


def describe(plan: Plan, note: str) -> dict[str, Any]:
    """A plan as the records keep it: entries, changed bytes with their causes, companions."""
    names = {
        file.file.name: file.file.path.name + (f" → {file.file.name}" if file.file.inside else "")
        for file in plan.files
    }
    return {
        "note": note,
        "entries": [
            {"path": entry.path, "label": entry.node.title, "old": entry.old_text, "new": entry.new_text}
            for entry in plan.entries
        ],
        "followers": [{"path": entry.path, "old": entry.old_text, "new": entry.new_text} for entry in plan.followers],
        "changes": [
            {
                "file": names[change.file],
                "offset": change.offset,
                "size": change.size,
                "old_size": change.old_size,
                "cause": change.cause,
            }
            for change in plan.changes
        ],
        "renewed": [renewal.node.path for renewal in plan.renewals],
        "removed": [str(path) for path in plan.companions],
        "files": [str(absolute(file.file.path)) for file in plan.written],
        "in_balance": plan.in_balance,
        "after": list(plan.steps.after),
        "look_for": [list(pair) for pair in plan.look_for],
    }
