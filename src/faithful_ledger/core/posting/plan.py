"""What posting would write, worked out before anything is written.

Promise 1: every byte that will differ belongs to a named cause. The plan is made of replaced spans, each with its
cause; `verify` compares old and new bytes outside of these spans again, from what was really written.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

from faithful_ledger.core.binding import BoundFile, Renewal
from faithful_ledger.core.binding.followers import SealState
from faithful_ledger.core.edits import Cause, Patched
from faithful_ledger.core.entries import Entry
from faithful_ledger.core.errors import EntryError, Refused, UnexplainedChange
from faithful_ledger.core.rules import Finding
from faithful_ledger.core.save import Save, SaveFile
from faithful_ledger.core.source import CHUNK, Source, same
from faithful_ledger.core.template.model import NO_STEPS, Steps

__all__ = ["Change", "FilePlan", "Plan", "companion_files", "verify"]


class Change(NamedTuple):
    """A run of bytes that will differ: `size` bytes at `offset` of the new file, where `old_size` bytes were, which
    began at `old_offset`.

    `file` may be a payload inside a file on disk; the file then has changes of its own, because of the layer.
    """

    file: str
    offset: int
    size: int
    old_size: int
    causes: tuple[Cause, ...]
    old_offset: int

    @property
    def cause(self) -> str:
        """The causes in words."""
        return " and ".join(map(str, self.causes))


@dataclass(slots=True)
class FilePlan:
    """One file of the save: as it is, as it will be. `bound` is its tree then, where a template describes it."""

    file: SaveFile
    patched: Patched
    bound: BoundFile | None
    renewals: list[Renewal]
    changes: list[Change]


@dataclass(slots=True)
class Plan:
    """All that posting would do. `followers` are entries the rules make; `left` are broken seals left as they are.
    `steps` are for people, before and after; `look_for` is what the game should then show, and the values.
    """

    entries: list[Entry]
    followers: list[Entry]
    files: list[FilePlan]
    companions: list[Path]
    left: list[str] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    undecided: list[SealState] = field(default_factory=list)
    steps: Steps = NO_STEPS
    look_for: list[tuple[str, str]] = field(default_factory=list)

    @property
    def changes(self) -> list[Change]:
        return [change for file in self.files for change in file.changes]

    @property
    def written(self) -> list[FilePlan]:
        """The files on disk that will differ."""
        return [file for file in self.files if file.changes and not file.file.inside]

    @property
    def renewals(self) -> list[Renewal]:
        return [renewal for file in self.files for renewal in file.renewals]

    @property
    def in_balance(self) -> bool:
        """Whether every seal will hold and every rule will be kept."""
        return not self.left and not self.undecided and not any(f.level == "error" for f in self.findings)


def verify(name: str, patched: Patched, written: Source) -> None:
    """Compare what was written with the plan, every byte: replaced spans with their new bytes, all others with the old.

    Raises:
        UnexplainedChange: a byte differs that no replaced span covers.
        Refused: a replaced span does not hold what was planned.
    """
    if written.size != patched.size:
        raise Refused(f"{name}: {written.size} bytes were written and {patched.size} planned", "the save is as it was")
    for at in range(0, patched.size, CHUNK):
        planned, found = patched.read(at, at + CHUNK), written.read(at, at + CHUNK)
        if not same(planned, found):
            offset = at + next(i for i, (a, b) in enumerate(zip(planned, found, strict=True)) if a != b)
            replaced = patched.replaced_at(offset)
            if replaced is None:
                raise UnexplainedChange(name, offset)
            raise Refused(f"{name}: {replaced.cause} did not reach the disk", "the save is as it was")


def companion_files(save: Save) -> list[Path]:
    """The companions that are there now and go when the save changes.

    Raises:
        EntryError: the template names a file of the save itself, or the name leads out of the save's folder.
    """
    found = []
    for name in save.companions:
        path = save.beside(name)
        if not (path.is_file() or path.is_symlink()):
            continue
        if any(_same_file(path, file.path) for file in save.on_disk):
            what = f"the template names {name} as a companion to remove, and it is a file of this save"
            raise EntryError(what, "nothing was written; mend the template")
        if path.is_symlink():
            what = f"the companion {name} is a symbolic link"
            raise EntryError(what, "nothing was written; remove the link yourself, then post")
        found.append(path)
    return found


def _same_file(left: Path, right: Path) -> bool:
    try:
        return left.absolute() == right.absolute() or left.samefile(right)
    except OSError:
        return False
