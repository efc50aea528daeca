"""From the entries on the tape to a plan: every file settled, what rules make follow, and what will be wrong then."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from typing import TYPE_CHECKING, TypeAlias

from faithful_ledger.core.balance import due_by_name, rule_follower
from faithful_ledger.core.binding import FieldNode, Renewal, Settled, settle
from faithful_ledger.core.binding.followers import Follower, SealState, WorkedOut, follower_of
from faithful_ledger.core.binding.settle import MOST_ROUNDS, renewed
from faithful_ledger.core.collecting import collected_later
from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.entries import Entry
from faithful_ledger.core.errors import AddressError, EntryError, ValueRefused
from faithful_ledger.core.posting.outcome import check_result
from faithful_ledger.core.posting.plan import Change, FilePlan, Plan, companion_files
from faithful_ledger.core.rules.over_rows import sum_of
from faithful_ledger.core.save import Save, SaveFile, value_entry
from faithful_ledger.core.storage import Value
from faithful_ledger.core.template import Template

if TYPE_CHECKING:
    from faithful_ledger.core.wrapping import Inner

__all__ = ["make_plan"]

Renewed: TypeAlias = tuple[Replacement, Renewal]
SHORT = 64  # bytes that are compared as one number


def make_plan(save: Save) -> Plan:
    """Work out what the entries on the tape lead to.

    Raises:
        LedgerError: the entries cannot be posted; the sentence says which and why.
    """
    if save.problem is not None:
        raise EntryError(save.problem.what, save.problem.remedy or "nothing can be posted")
    entries = list(save.tape)
    broken = save.broken_seals if save.renew_broken is not True else []
    leave = frozenset(state.name for state in broken)
    with collected_later():
        by_rules, files = _settled(save, entries, leave)
        changed = any(file.changes for file in files)
        plan = Plan(entries, by_rules, files, companion_files(save) if changed else [])
        check_result(save, plan)
    if save.renew_broken is None:
        plan.undecided = broken
    elif save.renew_broken is False:
        plan.left = sorted(leave)
    return plan


def _settled(save: Save, entries: list[Entry], leave: frozenset[str]) -> tuple[list[Entry], list[FilePlan]]:
    """The entries that rules make out of the user's, and every file as it will be with all of them.

    Raises:
        EntryError: rules never come to rest.
    """
    by_rules: dict[str, Entry] = {}
    elsewhere: dict[str, Renewed] = {}
    for _ in range(MOST_ROUNDS):
        files = _files(save, entries, list(by_rules.values()), leave, list(elsewhere.values()))
        due = {entry.path: entry for entry in _due_by_rules(save, files, entries)}
        following = {renewal.node.path: (item, renewal) for item, renewal in _due_elsewhere(save, files, leave)}
        same = {path: entry.data for path, entry in due.items()} == {path: e.data for path, e in by_rules.items()}
        if same and {path: item.data for path, (item, _) in following.items()} == {
            path: item.data for path, (item, _) in elsewhere.items()
        }:
            return list(by_rules.values()), files
        by_rules, elsewhere = due, following
    names = ", ".join((*by_rules, *elsewhere))
    raise EntryError(f"by the rules these values change each other and never settle: {names}", "mend the template")


def _due_elsewhere(save: Save, files: list[FilePlan], leave: frozenset[str]) -> Iterator[Renewed]:
    """Lengths and seals of other files that do not say what these files will be."""
    changed = {file.file.name for file in files if file.changes}
    after = {file.file.name: file.bound for file in files if file.bound is not None}
    for each, state in save.elsewhere:
        node = each.node
        if isinstance(state, SealState) and node.spec.of_file in changed and node.path not in leave:
            other = after[node.spec.of_file]
            found = renewed(each, follower_of(node, other.root, other.source.size).due(other.source))
            if found is not None and each.policy != "leave":
                yield found


def _files(
    save: Save, entries: list[Entry], by_rules: list[Entry], leave: frozenset[str], elsewhere: list[Renewed]
) -> list[FilePlan]:
    """Every file with what was entered, settled; a payload is settled before the file it is inside of. `elsewhere` is
    what follows from other files.
    """
    replacements: dict[str, list[Replacement]] = {name: [] for name in save.files}
    inside: dict[str, list[Inner]] = {}
    for entry in entries:
        replacements[entry.node.file].append(entry.replacement())
    for entry in by_rules:
        replacements[entry.node.file].append(entry.replacement("rule"))
    for item, renewal in elsewhere:
        replacements[renewal.node.file].append(item)
    main = save.main.bound
    holding = save.renew_broken is not True or not save.broken_seals
    plans = []
    for name, file in reversed(save.files.items()):
        settled: Settled | None = None
        if name in inside:
            from faithful_ledger.core.wrapping import wrap_together

            root = file.bound.root if file.bound is not None else None
            replacements[name] += wrap_together(inside[name], WorkedOut(root))
        if file.bound is None:
            patched = Patched(file.source, replacements[name])
        else:
            if replacements[name]:
                file.bound.check()
            outer = main.root if main is not None and main is not file.bound else None
            settled = settle(file.bound, replacements[name], leave, save.tape.counts, outer, holding=holding)
            patched = settled.patched
            if file.bound.unwrapped is not None and replacements[name]:
                if patched.size != file.source.size:
                    from faithful_ledger.core.posting.sizes import refuse_stale_size

                    refuse_stale_size(save.files[file.inside], file, patched)
                around = file.bound.unwrapped.inner(patched, Cause("layer", name))
                inside.setdefault(file.inside, []).append(around)
        after, renewals = (settled.bound, settled.renewals) if settled is not None else (None, [])
        renewals = [*renewals, *(each for _, each in elsewhere if each.node.file == name)]
        plans.append(FilePlan(file, patched, after, renewals, _changes(name, patched)))
    return plans[::-1]


def _due_by_rules(save: Save, files: list[FilePlan], entries: list[Entry]) -> Iterator[Entry]:
    """The entries that make fields say what those say that rules keep them equal to, in the files as they will be.

    What was entered leads, and what is worked out otherwise.

    Raises:
        EntryError: two that lead contradict each other.
        ValueRefused: a field that has to follow cannot say the value.
    """
    template = save.template
    if template is None or not (template.rules or template.name_rules or template.row_rules):
        return
    result = Save(
        save.template, {f.file.name: SaveFile(f.file.name, f.file.path, f.patched, None, f.bound) for f in files}
    )
    entered = {entry.path for entry in entries}
    named = list(_due_by_names(save, template, entered))
    yield from named
    yield from _due_by_sums(save, template, result, entered)
    renewed = {renewal.node.path for file in files for renewal in file.renewals} | {entry.path for entry in named}
    by_bytes = {entry.node.file for entry in entries if entry.is_bytes}

    def typed(node: FieldNode) -> bool:
        """Whether bytes that were typed make it say something else."""
        return node.file in by_bytes and any(each.raw != node.raw for each in save.fields(node.path))

    for equal in _equal_fields(save, result):
        leading = [node for path, node in equal.items() if path in entered or path in renewed or typed(node)]
        if not leading:
            continue
        leading += [node for node in equal.values() if _is_worked_out(node) and node not in leading]
        first = leading[0]
        for other in leading[1:]:
            if other.value != first.value:
                both = {first.path, other.path} <= entered
                raise EntryError(
                    f"{first.path} is to be {_shown(first)} and {other.path} {_shown(other)}; they must be equal",
                    "withdraw one of the two entries" if both else "withdraw one of the entries that lead to this",
                )
        for path, node in equal.items():
            if node not in leading and (entry := _following(save, path, first)):
                yield entry


def _due_by_names(save: Save, template: Template, entered: set[str]) -> Iterator[Entry]:
    """The entries that make fields say what the names of their files say, but for those that were entered."""
    for rule in template.name_rules:
        with suppress(AddressError, KeyError):
            (node,) = save.fields(rule.path)
            due = due_by_name(rule, node, save.files[rule.file or node.file].path)
            if due is not None and node.path not in entered:
                yield from _saying(node, due)


def _due_by_sums(save: Save, template: Template, result: Save, entered: set[str]) -> Iterator[Entry]:
    """The entries that make totals say what their columns add up to, where something in these was changed."""
    for rule in template.row_rules:
        with suppress(AddressError):
            if rule.kind != "sum":
                continue
            (node,) = save.fields(rule.other)
            due = sum_of(rule, result.nodes)
            if node.path not in entered and due != sum_of(rule, save.nodes) and due != node.number:
                yield from _saying(node, due)


def _shown(node: FieldNode) -> str:
    return node.spec.storage.to_text(node.value)


def _is_worked_out(node: FieldNode) -> bool:
    return node.spec.derived is not None or node.spec.seal is not None


def _equal_fields(save: Save, result: Save) -> Iterator[dict[str, FieldNode]]:
    """The fields that rules tie together, also over others, by their paths; those of rules that cannot be followed in
    this save are not among them, a finding says so.
    """
    groups: dict[str, dict[str, FieldNode]] = {}
    for rule in save.template.rules if save.template is not None else ():
        with suppress(AddressError):
            each = rule_follower(rule, result.fields)
            joined: dict[str, FieldNode] = {}
            for node in (each.first, each.node):
                assert isinstance(node, FieldNode)
                joined |= groups.get(node.path) or {node.path: node}
            groups |= dict.fromkeys(joined, joined)
    yield from {id(group): group for group in groups.values()}.values()


def _following(save: Save, path: str, leading: FieldNode) -> Entry | None:
    """The entry that makes a field say what another one does; None where it says so already."""
    (node,) = save.fields(path)
    due = Follower(node, "rule", leading, leading, leading.end).due(node.source)
    if isinstance(due, float) and due.is_integer():  # what follows a fraction may be whole itself
        due = int(due)
    try:
        return next(_saying(node, due), None)
    except ValueRefused as error:
        raise ValueRefused(f"{path} has to follow {leading.path}: {error.what}", error.remedy) from error


def _saying(node: FieldNode, value: Value) -> Iterator[Entry]:
    """The entry that makes a field say a value; none where it says so already."""
    entry = value_entry(node, value)
    if entry.data != node.raw:
        yield entry


def _changes(name: str, patched: Patched) -> list[Change]:
    """The replaced spans without the bytes at their edges that stay the same."""
    changes = []
    for item, begin in zip(patched.replacements, patched.starts, strict=True):
        old, new = patched.old.read(item.start, item.end), item.data
        edges = _edges(old, new) if len(old) == len(new) else (0, 0)
        if edges is not None:
            front, both = edges[0], sum(edges)
            changes.append(
                Change(name, begin + front, len(new) - both, len(old) - both, item.causes, item.start + front)
            )
    return changes


def _edges(old: memoryview, new: bytes) -> tuple[int, int] | None:
    """How many bytes at the beginning and at the end of two are the same; None where all are."""
    if len(new) < SHORT:
        differ_in = int.from_bytes(old, "big") ^ int.from_bytes(new, "big")
        if not differ_in:
            return None
        return len(new) - (differ_in.bit_length() + 7) // 8, ((differ_in & -differ_in).bit_length() - 1) // 8
    import numpy as np

    differ = np.flatnonzero(np.frombuffer(old, np.uint8) != np.frombuffer(new, np.uint8))
    return (int(differ[0]), len(new) - 1 - int(differ[-1])) if len(differ) else None
