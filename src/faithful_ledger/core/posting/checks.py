"""What must be true of the world before a posting: gathered, reported all at once, none of them changes anything."""

from __future__ import annotations

import os
import shutil
from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple

from faithful_ledger.core.find import Program, holders
from faithful_ledger.core.posting.plan import Plan
from faithful_ledger.core.source import Moment, moment_of

__all__ = ["Check", "check_files", "run_checks"]

SPARE = 1 << 20


class Check(NamedTuple):
    """One check. `kind` is a word to refer to it by; `text` says what was found, `remedy` what to do when not `ok`."""

    kind: str
    ok: bool
    text: str
    remedy: str = ""


def run_checks(
    plan: Plan, vault: Path, *, detach_links: bool = False, running: list[Program] | None = None
) -> list[Check]:
    """All checks of a posting, in the order in which people think of them. `running` programs are looked for if not
    given.
    """
    files, opened = plan.written, [file for file in plan.files if not file.file.inside]
    paths = [file.file.path for file in files]
    checks = [_unchanged(file.file.path, file.file.moment) for file in opened]
    checks.append(_not_open([file.file.path for file in opened], running))
    checks += [_one_name(path, detach=detach_links) for path in paths if _links(path) > 1]
    checks += [_writable(path) for path in paths if path.exists()]
    new = sum(file.patched.size for file in files)
    old = sum(file.file.source.size for file in opened)
    needs = [(path.resolve().parent, new) for path in paths[:1]] + [(vault, old)]
    checks += [_room(folder, size) for folder, size in needs]
    if plan.undecided:
        checks.append(
            Check("seals", False, undecided_text(plan), "decide whether to renew them or to leave them as they are")
        )
    for finding in plan.findings:
        if finding.level == "error":
            checks.append(Check("balance", False, f"{finding.path}: {finding.message}", "mend the entries"))
    return checks


def check_files(sizes: Mapping[Path, int], vault: Path, running: list[Program] | None = None) -> list[Check]:
    """The checks of files that are written, made or removed, with their new sizes; those that are made have no old
    bytes. `running` programs are looked for if not given.
    """
    present = [path for path in sizes if path.exists()]
    checks = [_not_open(present, running)]
    checks += [_one_name(path, detach=False) for path in present if _links(path) > 1]
    checks += [_writable(path) for path in present]
    folders = {_existing(path.parent) for path in sizes if path not in present}
    checks += [_may_make(folder) for folder in sorted(folders)]
    needs = {folder: 0 for path in sizes for folder in (_existing(path.parent).resolve(),)}
    for path, size in sizes.items():
        needs[_existing(path.parent).resolve()] += size
    needs[vault] = sum(path.stat().st_size for path in present)
    return checks + [_room(folder, size) for folder, size in needs.items()]


def _existing(folder: Path) -> Path:
    """The folder, or the first one above it that is there."""
    while not folder.exists():
        folder = folder.parent
    return folder


def _may_make(folder: Path) -> Check:
    if folder.is_dir() and os.access(folder, os.W_OK | os.X_OK):
        return Check("permission", True, f"files may be made in {folder}")
    return Check("permission", False, f"you may not write in {folder}", "change its permissions")


def _unchanged(path: Path, moment: Moment | None) -> Check:
    try:
        same = moment_of(path.stat()) == moment
    except OSError:
        return Check("unchanged", False, f"{path.name} is no longer there", "open it again, or restore a snapshot")
    if same:
        return Check("unchanged", True, f"{path.name} has not changed since it was opened")
    return Check("unchanged", False, f"{path.name} was changed by another program since it was opened", "open it again")


def _not_open(paths: list[Path], running: list[Program] | None) -> Check:
    found = holders(paths, running)
    if not found:
        return Check("open", True, "no program holds it open")
    path, names = next(iter(found.items()))
    text = f"{Path(path).name} is held open by {', '.join(names)}"
    return Check("open", False, text, "close the game first: it would write its own state over yours")


def _links(path: Path) -> int:
    try:
        return path.stat().st_nlink
    except OSError:
        return 1


def _one_name(path: Path, *, detach: bool) -> Check:
    if detach:
        return Check("links", True, f"{path.name} has other names (hard links); they keep the old bytes, as you chose")
    text = f"{path.name} has {_links(path)} names (hard links); only this one would get the new bytes"
    return Check("links", False, text, "remove the other names, or allow it")


def _writable(path: Path) -> Check:
    target = path.resolve()
    if not os.access(target.parent, os.W_OK | os.X_OK):
        return Check("permission", False, f"you may not write in {target.parent}", "change its permissions")
    if not os.access(target, os.W_OK) or not target.stat().st_mode & 0o222:
        return Check(
            "permission", False, f"{path.name} is marked read-only", "make it writable if that was not on purpose"
        )
    return Check("permission", True, f"{path.name} may be written")


def _room(folder: Path, needed: int) -> Check:
    free = shutil.disk_usage(_existing(folder)).free
    if free > needed + SPARE:
        return Check("room", True, f"{free >> 20} MiB are free in {folder}")
    text = f"{free >> 20} MiB are free in {folder} and {(needed + SPARE) >> 20} are needed"
    return Check("room", False, text, "make room first")


def undecided_text(plan: Plan) -> str:
    """Which seals were broken before any entry, for a plan that needs a decision on them."""
    names = ", ".join(state.label for state in plan.undecided)
    return f"some seals did not hold when the save was opened: {names}"
