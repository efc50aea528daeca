"""What a carry would do, worked out before anything is written: files as they will be, on both sides.

Each file that is written, made or removed has a cause. What was read when the plan was made is in it, so that a file
that another program writes in the meantime is noticed (see carried.py).
"""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, NamedTuple

from faithful_ledger.core.carry.values import LeftOut
from faithful_ledger.core.posting.plan import Plan
from faithful_ledger.core.rules import Finding
from faithful_ledger.core.source import Source, open_source
from faithful_ledger.core.template.model import NO_STEPS, Steps, Template

__all__ = ["Carry", "ChangedBytes", "Line", "Side", "Write", "change_between", "changes_of", "difference", "lines_of"]


class Write(NamedTuple):
    """A file as it is, and as it will be: `old` is None where there is none yet, `new` where it is removed."""

    path: Path
    old: Source | None
    new: Source | None
    cause: str
    mode: int = 0o644

    @property
    def in_word(self) -> str:
        """What happens to it: new, changed or removed."""
        return "removed" if self.new is None else "new" if self.old is None else "changed"


class Line(NamedTuple):
    """A value that changes: `file` is the name of the file on disk."""

    file: str
    path: str
    label: str
    old: str
    new: str


class ChangedBytes(NamedTuple):
    """`size` bytes at `offset` of a file as it will be, where `old_size` bytes were, and why."""

    file: str
    offset: int
    size: int
    old_size: int
    cause: str


class Side(NamedTuple):
    """One side of a carry, of which a copy is kept: the files of a save that are there now."""

    save: Path
    label: str
    files: tuple[tuple[str, Path], ...]  # roles and paths
    companions: tuple[str, ...] = ()


@dataclass(slots=True)
class Carry:
    """A carry that is planned. `about` says what it does, `save` is what it is filed under in History; it writes only
    within `folders`. `broken` are seals that do not hold, before and after.
    """

    about: str
    save: Path
    template: str
    folders: tuple[Path, ...]
    writes: list[Write] = field(default_factory=list)
    lines: list[Line] = field(default_factory=list)
    changes: list[ChangedBytes] = field(default_factory=list)
    left_out: list[LeftOut] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    broken: list[str] = field(default_factory=list)
    sides: list[Side] = field(default_factory=list)
    steps: Steps = NO_STEPS
    look_for: list[tuple[str, str]] = field(default_factory=list)

    @property
    def in_balance(self) -> bool:
        """Whether every seal will hold and every rule will be kept."""
        return not self.broken and not any(finding.level == "error" for finding in self.findings)

    @property
    def written(self) -> list[Write]:
        """The files that will have new bytes."""
        return [write for write in self.writes if write.new is not None]

    @property
    def removed(self) -> list[Write]:
        return [write for write in self.writes if write.new is None]

    def add_whole(self, name: str, write: Write) -> None:
        """Note that a file is written as a whole."""
        old, new = (each.size if each is not None else 0 for each in (write.old, write.new))
        self.changes.append(ChangedBytes(name, 0, new, old, write.cause))

    def add_companions(self, template: Template, folder: Path) -> None:
        """Remove the companions that a template names in a folder and that are not written as well: they repeat what
        saves there said before.
        """
        for companion in template.companions:
            path = folder / companion.name
            if path.is_file() and not path.is_symlink() and all(write.path != path for write in self.writes):
                self.writes.append(Write(path, open_source(path)[0], None, f"companion {companion.name}"))


def lines_of(plan: Plan) -> list[Line]:
    """The entries of a plan, and those that follow from rules."""
    return [Line(e.node.file, e.path, e.node.title, e.old_text, e.new_text) for e in [*plan.entries, *plan.followers]]


def changes_of(plan: Plan, names: dict[str, str]) -> list[ChangedBytes]:
    """The changed bytes of a plan, in files by their names on disk."""
    return [
        ChangedBytes(names.get(change.file, change.file), change.offset, change.size, change.old_size, change.cause)
        for change in plan.changes
    ]


def change_between(file: str, old: Source, new: Source, cause: str) -> ChangedBytes:
    """The one run of bytes that differs between two states of a file."""
    start, end, size = difference(old, new)
    return ChangedBytes(file, start, size, end - start, cause)


def difference(old: Source, new: Source) -> tuple[int, int, int]:
    """The bytes [start, end) of the old state that differ from as many as the third number in the new one."""
    import numpy as np

    def alike(one: Any, other: Any) -> int:
        differ = one != other
        return int(differ.argmax()) if differ.any() else len(differ)

    before, after = (np.frombuffer(each.read(0, each.size), np.uint8) for each in (old, new))
    shorter = min(len(before), len(after))
    start = alike(before[:shorter], after[:shorter])
    behind = alike(before[::-1][: shorter - start], after[::-1][: shorter - start])
    return start, len(before) - behind, len(after) - behind - start
