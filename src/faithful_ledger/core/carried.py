"""Writing a carry: files of one save, of two, or of several folders; all of them or none, with one posting.

Both sides are kept first: each save on its own, so that it is found in its own history, and everything that is written
over or removed as one snapshot, from which the carry is reversed. What is on disk meanwhile: see posting/write.py.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple

from faithful_ledger.core.carry.plan import Carry, Write
from faithful_ledger.core.clock import now
from faithful_ledger.core.disk import translated
from faithful_ledger.core.errors import ChangedMeanwhile, Refused
from faithful_ledger.core.find import Program
from faithful_ledger.core.history import GAVE_WAY, LET_IT_SYNC, History
from faithful_ledger.core.keeping import Known, absolute
from faithful_ledger.core.posting.checks import Check, check_files
from faithful_ledger.core.posting.hazards import hazards, is_synced
from faithful_ledger.core.posting.write import Rewrite, arrived, replace_set
from faithful_ledger.core.records import Posting
from faithful_ledger.core.rules import Finding
from faithful_ledger.core.source import Source, open_blocks, same_bytes, strays

__all__ = ["Carried", "carry_hazards", "check_carry", "latest_carry", "post_carry"]


class Carried(NamedTuple):
    """A carry that was written, and the snapshots that were kept before; the last one is what it is reversed from."""

    posting: Posting
    kept: list[str]


def latest_carry(history: History, about: str, target: Path) -> Posting | None:
    """The latest posting that carried this into a folder, unless it was reversed since."""
    for posting in history.postings():
        into = any(absolute(target) in Path(file).parents for file in posting.record["files"])
        if into and posting.record.get("carried") == about and posting.reversed is None:
            return posting
    return None


def check_carry(history: History, carry: Carry, running: list[Program] | None = None) -> list[Check]:
    """What must be true before a carry is written. `running` programs are looked for if not given."""
    checks = check_files({write.path: _new_size(write) for write in carry.writes}, history.keeping.folder, running)
    for finding in carry.findings:
        if finding.level == "error":
            checks.append(Check("balance", False, f"{finding.path}: {finding.message}", "carry something else"))
    if carry.broken:
        text = f"some seals would not hold: {', '.join(carry.broken)}"
        checks.append(Check("seals", False, text, "put the save in balance first"))
    return checks


def carry_hazards(history: History, carry: Carry, running: list[Program] | None = None) -> list[Finding]:
    """What allows a carry but will undo it: a game that runs, a folder that is synchronised."""
    said = history.records.setting("synced")
    found = (
        hazards([absolute(write.path) for write in carry.writes], synced=said, running=running) if carry.writes else []
    )
    failed = [check for check in found if not check.ok and check.kind != "open"]  # `check_carry` refuses that one
    return [Finding(carry.save.name, "warning", f"{check.text}; {check.remedy}") for check in failed]


def _new_size(write: Write) -> int:
    return write.new.size if write.new is not None else 0


def post_carry(history: History, carry: Carry, note: str = "", running: list[Program] | None = None) -> Carried:
    """Write a carry. Everything that gives way is in the vault before the first byte is written.

    Raises:
        Refused: a check does not allow it, or a file is not as it was read; nothing was written.
        LedgerError: it could not be written; everything is as it was.
    """
    paths = [absolute(write.path) for write in carry.writes]
    if not paths:
        raise Refused("there is nothing to carry", "both sides are the same already")
    for path in paths:
        _refuse_straying(path, carry.folders)
    made = _missing(paths, carry.folders)
    with history.writing({path.parent.resolve() for path in paths if path.parent.is_dir()}):
        failed = [check for check in check_carry(history, carry, running) if not check.ok]
        if failed:
            raise Refused(f"nothing was written: {failed[0].text}", failed[0].remedy)
        for write in carry.writes:
            _refuse_changed(write)
        kept, digests = _keep(history, carry, note)
        record = _record(carry, note, kept[-1])
        if is_synced(paths, history.records.setting("synced")):
            record["after"].append(LET_IT_SYNC)
        rewrites = [_rewrite(write, write.new, digests) for write in carry.writes if write.new is not None]
        removals = [(absolute(w.path), digests[absolute(w.path)]) for w in carry.removed]
        try:
            for folder in made:
                with translated(folder, "made"):
                    history.disk.make_folder(folder, parents=False)  # the outermost may be on a device that is gone
            replace_set(
                rewrites, removals, record, history.journal, history.disk, history.store, history.record_posting
            )
        except BaseException:
            history.disk.remove_empty(made)
            raise
        history.disk.remove_empty({path.parent for path, _ in removals})
        history.keeping.remember(carry.save, carry.template or None)
        return Carried(history.posting(str(record["id"])), kept)


def _missing(paths: Sequence[Path], folders: Sequence[Path]) -> list[Path]:
    """What has to be made within folders for files to be there, the outer ones first."""
    bases = set(map(absolute, folders))
    inner = {folder for path in paths for folder in path.parents if not bases.isdisjoint(folder.parents)}
    return sorted(folder for folder in inner if not folder.is_dir())


def _rewrite(write: Write, new: Source, digests: dict[Path, str]) -> Rewrite:
    path = absolute(write.path)
    return Rewrite(path, new, digests.get(path), partial(arrived, path.name, new), write.mode)


def _refuse_straying(path: Path, folders: tuple[Path, ...]) -> None:
    bases = [base for base in map(absolute, folders) if base in path.parents]
    if not bases or path.is_symlink() or any(strays(path, base) for base in bases):
        what = f"{path} leads out of {', '.join(map(str, folders))}"
        raise Refused(f"{what}, by a symbolic link or by its name", "nothing was written")


def _refuse_changed(write: Write) -> None:
    """That a file is still as it was when the carry was planned."""
    there = os.path.lexists(write.path)
    if (write.old is None) is there or (write.old is not None and not same_bytes(open_blocks(write.path), write.old)):
        what = f"nothing was written: {write.path.name} was changed by another program"
        raise ChangedMeanwhile(what, "plan the carry again")


def _keep(history: History, carry: Carry, note: str) -> tuple[list[str], dict[Path, str]]:
    """The snapshots of each side, then the one of all that gives way; and the SHA-256 of its files."""
    keeping, kept = history.keeping, []
    label = note or carry.about
    known = {absolute(write.path): Known(write.old) for write in carry.writes if write.old is not None}
    for side in carry.sides:
        files = [(role, absolute(path)) for role, path in side.files]
        side_label = f"{side.label}, before {label}"
        one = keeping.keep_files(side.save, files, side.companions, side_label, "before carrying", known)
        kept.append(one.id)
    roles = {absolute(path): role for side in carry.sides for role, path in side.files}
    files = [(roles.get(path, path.name), path) for path in known]
    snapshot = keeping.keep_files(carry.save, files, (), label, GAVE_WAY, known)
    return [*kept, snapshot.id], {file.path: file.sha256 for file in snapshot.files}


def _record(carry: Carry, note: str, kept: str) -> dict[str, Any]:
    return {
        "id": os.urandom(6).hex(),
        "time": now(),
        "save": str(absolute(carry.save)),
        "kept": kept,
        "identity": "",
        "note": note or carry.about,
        "carried": carry.about,
        "entries": [{"path": e.path, "label": e.label, "old": e.old, "new": e.new} for e in carry.lines],
        "followers": [],
        "changes": [change._asdict() for change in carry.changes],
        "renewed": [],
        "removed": [str(absolute(write.path)) for write in carry.removed],
        "files": [str(absolute(write.path)) for write in carry.written],
        "created": [str(absolute(write.path)) for write in carry.written if write.old is None],
        "in_balance": carry.in_balance,
        "after": list(carry.steps.after),
        "look_for": [list(pair) for pair in carry.look_for],
    }
