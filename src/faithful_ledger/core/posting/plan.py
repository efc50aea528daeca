"""What posting would write, worked out before anything is written.

Promise 1: every byte that will differ belongs to a named cause. The plan is made of replaced spans, each with its
cause; `verify` compares old and new bytes outside of these spans again, from what was really written.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

from faithful_ledger.core.binding import BoundFile, FieldNode, Renewal, RowsNode, bind_files, settle
from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.entries import Entry
from faithful_ledger.core.errors import AddressError, EntryError, Refused, UnexplainedChange, ValueRefused, place
from faithful_ledger.core.rules import Finding, double_keys, keyed_rows
from faithful_ledger.core.save import Save, SaveFile, rule_findings, rule_nodes, seal_states
from faithful_ledger.core.seals.seals import SealState, dependents, resolve
from faithful_ledger.core.source import CHUNK, Source, same, same_bytes
from faithful_ledger.core.storage import Value, encoded
from faithful_ledger.core.template import Template

__all__ = ["Change", "FilePlan", "Plan", "companion_files", "make_plan", "verify"]


SHORT = 64  # bytes that are compared as one number


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
    """All that posting would do. `followers` are entries the rules make; `left` are broken seals left as they are."""

    entries: list[Entry]
    followers: list[Entry]
    files: list[FilePlan]
    companions: list[Path]
    left: list[str] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    undecided: list[SealState] = field(default_factory=list)

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


def make_plan(save: Save) -> Plan:
    """Work out what the entries on the tape lead to.

    Raises:
        LedgerError: the entries cannot be posted; the sentence says which and why.
    """
    if save.problem is not None:
        raise EntryError(save.problem.what, save.problem.remedy or "nothing can be posted")
    entries = list(save.tape)
    followers = _followers(save, entries)
    broken = save.broken_seals if save.renew_broken is not True else []
    leave = frozenset(state.name for state in broken)
    replacements: dict[str, list[Replacement]] = {name: [] for name in save.files}
    for entry in entries:
        replacements[entry.node.file].append(entry.replacement())
    for entry in followers:
        replacements[entry.node.file].append(entry.replacement("rule"))
    counts = {e.path: len_ for e in entries if isinstance(e.node, RowsNode) and isinstance(len_ := e.new, int)}
    main = next(iter(save.files.values())).bound
    plans = []
    for name, file in reversed(save.files.items()):  # a payload follows the file it is inside of, and is settled first
        if file.bound is None:
            settled = None
            patched = Patched(file.source, replacements[name])
        else:
            if replacements[name]:
                file.bound.check()
            outer = main.root if main is not None and main is not file.bound else None
            settled = settle(file.bound, replacements[name], leave, counts, outer)
            patched = settled.patched
        after, renewals = (settled.bound, settled.renewals) if settled is not None else (None, [])
        plans.append(FilePlan(file, patched, after, renewals, _changes(name, patched)))
        if file.bound is not None and file.bound.unwrapped is not None and replacements[name]:
            around = replacements[file.inside]
            around += file.bound.unwrapped.wrap(patched, Cause("layer", name), _counted(save.files[file.inside]))
    plans.reverse()
    changed = any(plan.changes for plan in plans)
    plan = Plan(entries, followers, plans, companion_files(save) if changed else [])
    _check_result(save, plan)
    if save.renew_broken is None:
        plan.undecided = broken
    elif save.renew_broken is False:
        plan.left = sorted(leave)
    return plan


def _counted(file: SaveFile) -> Callable[[int, int], bool]:
    """Whether a length the template describes covers bytes of a file, so that it follows when they grow."""
    root = file.bound.root if file.bound is not None else None

    def counted(start: int, end: int) -> bool:
        for node in dependents(root) if root is not None else ():
            if node.spec.derived is not None and node.spec.derived.kind == "length":
                with suppress(AddressError):
                    target = resolve(node, node.spec.derived.target)
                    if target.start <= start and end <= target.end:
                        return True
        return False

    return counted


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


def _followers(save: Save, entries: list[Entry]) -> list[Entry]:
    """Entries that rules make out of the user's: an equal field follows the one that was entered."""
    entered = {entry.path: entry for entry in entries}
    followers: dict[str, Entry] = {}
    for rule in save.template.rules if save.template is not None else ():
        try:
            nodes = rule_nodes(rule, save)
        except AddressError:
            continue  # a finding says so
        left, right = (entered.get(node.path) for node in nodes)
        if left is not None and right is not None:
            if left.new != right.new:
                raise EntryError(
                    f"{left.path} is to be {left.new_text} and {right.path} {right.new_text}; they must be equal",
                    "withdraw one of the two entries",
                )
        elif left is not None or right is not None:
            leading, following = (left, nodes[1]) if left is not None else (right, nodes[0])
            assert leading is not None
            value: Value = leading.new
            try:
                data = encoded(following.spec.storage, value, following.raw)
            except ValueRefused as error:
                raise ValueRefused(
                    f"{following.path} has to follow {leading.path}: {error.what}", error.remedy
                ) from error
            if data != following.raw:
                followers[following.path] = Entry(following, following.path, following.value, value, data)
    return list(followers.values())


def _changes(name: str, patched: Patched) -> list[Change]:
    """The replaced spans without the bytes at their edges that stay the same."""
    changes = []
    shift = 0
    for item in patched.replacements:
        old, new = bytes(patched.old.read(item.start, item.end)), item.data
        if old != new:
            front, back = _edges(old, new) if len(old) == len(new) else (0, 0)
            start, edges = item.start + front, front + back
            changes.append(Change(name, start + shift, len(new) - edges, len(old) - edges, item.causes, start))
        shift += len(new) - len(old)
    return changes


def _edges(old: bytes, new: bytes) -> tuple[int, int]:
    """How many bytes at the beginning and at the end of two that differ are the same."""
    if len(old) < SHORT:
        differ_in = int.from_bytes(old, "big") ^ int.from_bytes(new, "big")
        return len(old) - (differ_in.bit_length() + 7) // 8, ((differ_in & -differ_in).bit_length() - 1) // 8
    import numpy as np

    differ = np.flatnonzero(np.frombuffer(old, np.uint8) != np.frombuffer(new, np.uint8))
    return int(differ[0]), len(old) - 1 - int(differ[-1])


def _moving(plan: Plan) -> Iterator[Finding]:
    """A word about bytes that came in or went without a field: what is behind them moves, and numbers may tell where.

    Those are bytes that were typed, and packed streams that take more or fewer bytes than before.
    """
    typed = {Cause("entry", entry.path) for entry in plan.entries if entry.is_bytes}
    for file in plan.files:
        counted = _counted(file.file)
        for part in file.patched.replacements:
            grown = len(part.data) - (part.end - part.start)
            if not grown:
                continue
            whole = (part.start, part.end) == (0, file.file.source.size)
            entered = next((cause for cause in part.causes if cause in typed), None)
            layer = any(cause.kind == "layer" for cause in part.causes) and not counted(part.start, part.end)
            if not whole and (entered is not None or layer):
                text = f"everything behind {place(part.start)} moves by {grown:+d}{_suspects(file, part)}"
                yield Finding(entered.about if entered is not None else file.file.name, "warning", text)


def _lost(save: Save, result: Save) -> Iterator[Finding]:
    """Elements that are found now, by bytes that an entry changes."""
    known = {error.path for error in save.missing}
    for error in result.missing:
        if error.path not in known:
            yield Finding(error.path, "warning", f"it would not be found again: {error.what}")


def _doubled(save: Save, result: Save, changed: set[str]) -> Iterator[Finding]:
    """Records that entries give the same key as another one; those that had it before are not the entries' mistake."""
    for name in changed:
        before, after = save.files[name].bound, result.files[name].bound
        if before is None or after is None:
            continue
        known = {finding for rows_node in keyed_rows(before.root) for finding in double_keys(rows_node)}
        for rows_node in keyed_rows(after.root):
            yield from (finding._replace(level="error") for finding in double_keys(rows_node) if finding not in known)


def _suspects(file: FilePlan, part: Replacement) -> str:
    """Which numbers look like lengths over a replaced span and are not renewed."""
    from faithful_ledger.core.profile.lengths import suspected_lengths

    renewed = {offset for renewal in file.renewals for offset in range(renewal.node.start, renewal.node.end)}
    found = suspected_lengths(file.file.source, part.start, part.end - part.start)
    suspects = [f"{place(at)} ({name})" for at, name in found if at not in renewed]
    if suspects:
        return (
            f"; these numbers look like lengths that reach over it and no template renews them: {', '.join(suspects)}"
        )
    return "" if renewed else "; no template knows which lengths and offsets follow"


def companion_files(save: Save) -> list[Path]:
    """The companions that are there now and go when the save changes.

    Raises:
        EntryError: the template names a file of the save itself, or the name leads out of the save's folder.
    """
    companions = save.template.companions if save.template is not None else []
    found = []
    for companion in companions:
        path = save.beside(companion.name)
        if not (path.is_file() or path.is_symlink()):
            continue
        if any(_same_file(path, file.path) for file in save.on_disk):
            what = f"the template names {companion.name} as a companion to remove, and it is a file of this save"
            raise EntryError(what, "nothing was written; mend the template")
        if path.is_symlink():
            what = f"the companion {companion.name} is a symbolic link"
            raise EntryError(what, "nothing was written; remove the link yourself, then post")
        found.append(path)
    return found


def _same_file(left: Path, right: Path) -> bool:
    try:
        return left.absolute() == right.absolute() or left.samefile(right)
    except OSError:
        return False


def _check_result(save: Save, plan: Plan) -> None:
    """Bind what will be written, as a stranger would, and gather what does not hold there."""
    changed = [file for file in plan.files if file.changes]
    plan.findings = list(_moving(plan))
    if not changed or save.template is None:
        return
    bound = _bound_result(save.template, plan)
    files = {}
    for file in plan.files:
        again = bound.get(file.file.name)
        if again is not None and again.problem is not None:
            raise EntryError(
                f"{file.file.path.name} would no longer fit its template: {again.problem.what}",
                "nothing was written; undo the last entry",
            )
        if again is not None and file.file.inside and not same_bytes(again.source, file.patched):
            raise EntryError(
                f"{file.file.name} would not come out of its layers as it went in",
                "nothing was written; the layers in the template are not those of the game",
            )
        files[file.file.name] = SaveFile(file.file.name, file.file.path, file.patched, None, again)
    result = Save(save.template, files, save.folder, save.roots)
    for entry in [*plan.entries, *plan.followers]:
        # What moves nothing and steers nothing is where it was, and reads back as it was made.
        if entry.is_bytes or not (entry.moves or save.template.steers(entry.node.spec.name)):
            continue
        if lost := next((error for error in result.missing if error.path == entry.path), None):
            raise EntryError(f"{entry.path} would not be found again: {lost.what}", "nothing was written")
        (node,) = result.nodes(entry.path)
        if not isinstance(node, FieldNode | RowsNode) or not entry.holds(node):
            raise EntryError(
                f"{entry.path} would not read back as {entry.new_text}",
                "the template does not say what this value's size depends on; nothing was written",
            )
    plan.findings += rule_findings(save.template, result)
    plan.findings += _lost(save, result)
    plan.findings += _doubled(save, result, {file.file.name for file in changed})
    if save.renew_broken is True:
        _check_broken(save, plan, bound)


def _bound_result(template: Template, plan: Plan) -> dict[str, BoundFile]:
    """The save as it will be, bound. One file alone was bound when it was settled; of several, what is inside of others
    is unwrapped again, as a game would, and names may lead from one to another.
    """
    if len(template.files) == 1 and (settled := plan.files[0].bound) is not None:
        return {plan.files[0].file.name: settled}
    return bind_files(template, {file.file.name: file.patched for file in plan.files if not file.file.inside})


def _check_broken(save: Save, plan: Plan, bound: dict[str, BoundFile]) -> None:
    """Seals that were broken and are to be renewed hold now, unless no change reaches them."""
    broken = {state.name for state in save.broken_seals}
    for file in plan.files:
        if file.changes and file.file.bound is not None and broken:
            for state in seal_states(bound[file.file.name]):
                if state.name in broken and not state.holds and state.policy == "renew":
                    text = f"{state.algorithm} says {state.stored} and should say {state.computed}"
                    plan.findings.append(Finding(state.name, "error", text))
