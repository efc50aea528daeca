"""Whether a save is in balance: what its followers and rules say, and what nothing describes."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import suppress
from pathlib import Path
from typing import TypeAlias

from faithful_ledger.core.binding import BoundFile, FieldNode
from faithful_ledger.core.binding.followers import Follower, SealState, dependents, follower, follower_of
from faithful_ledger.core.errors import AddressError, EntryError, LedgerError, ValueRefused, place
from faithful_ledger.core.rules import Finding
from faithful_ledger.core.storage import Value
from faithful_ledger.core.template import Template
from faithful_ledger.core.template.carries import NameRule
from faithful_ledger.core.template.model import EqualRule

__all__ = [
    "due_by_name",
    "name_findings",
    "rule_findings",
    "rule_follower",
    "seal_states",
    "states_elsewhere",
    "states_within",
    "unchecked",
    "undescribed",
    "unusual",
]

Fields: TypeAlias = Callable[[str], list[FieldNode]]  # the fields of a save that a path leads to


def seal_states(bound: BoundFile) -> list[SealState]:
    """What every dependent field of a file says, and what it should say.

    One whose target is not in this save has no state; `unchecked` gives a finding for each of these.
    """
    return [state for _, state in states_within(bound) if isinstance(state, SealState)]


def unchecked(states: Iterable[tuple[FieldNode, SealState | LedgerError]]) -> Iterator[Finding]:
    """A finding for every seal, length, count or offset that cannot be worked out here."""
    for node, state in states:
        if isinstance(state, LedgerError):
            yield Finding(node.path, "warning", f"{state.what}; it is not checked and not renewed")


def states_within(bound: BoundFile) -> Iterator[tuple[FieldNode, SealState | LedgerError]]:
    """Every dependent field with its state, or why it cannot be worked out."""
    if bound.problem is not None:
        return
    for node in dependents(bound.root):
        try:
            each = follower(node, bound.root)
            due = each.due(bound.source)
        except (AddressError, EntryError) as error:
            yield node, error
            continue
        assert isinstance(due, int)
        stored = _stored(node)
        yield node, SealState(node.path, node.title, each.algorithm, stored == due, stored, due, each.policy)


def states_elsewhere(files: Mapping[str, BoundFile]) -> Iterator[tuple[Follower, SealState | LedgerError]]:
    """Every field that is worked out from another file, with its state, or why it cannot be worked out. A file that
    needs one that is not there has no such state.
    """
    for bound in files.values():
        for node in dependents(bound.root, elsewhere=True) if bound.problem is None else ():
            other = files.get(node.spec.of_file)
            if other is None or other.problem is not None:
                continue
            try:
                each = follower_of(node, other.root, other.source.size)
            except AddressError as error:
                yield Follower(node, "seal", None, None, 0), error
                continue
            due, stored = each.due(other.source), _stored(node)
            assert isinstance(due, int)
            yield each, SealState(node.path, node.title, each.algorithm, stored == due, stored, due, each.policy)


def _stored(node: FieldNode) -> int | None:
    try:
        return node.number
    except LedgerError:
        return None


def rule_findings(template: Template, fields: Fields) -> Iterator[Finding]:
    for rule in template.rules:
        try:
            each = rule_follower(rule, fields)
        except LedgerError as error:
            yield Finding(rule.right, "warning", f"the rule that it equals {rule.left} is not checked: {error.what}")
            continue
        try:
            stored, due = each.node.value, each.due(each.node.source)
        except ValueRefused:
            continue  # the audit of the field reports it
        if stored != due:
            why = f"; {rule.why}" if rule.why else ""
            text = f"{rule.left} says {due} and {rule.right} says {stored}; they must be equal{why}"
            yield Finding(rule.right, "error", text)


def rule_follower(rule: EqualRule, fields: Fields) -> Follower:
    """The field on the right of a rule, which needs the one on its left.

    Raises:
        AddressError: this save does not have one of them.
    """
    (left,), (right,) = fields(rule.left), fields(rule.right)
    return Follower(right, "rule", left, left, left.end)


def name_findings(template: Template, fields: Fields, paths: Mapping[str, Path]) -> Iterator[Finding]:
    """Fields that do not say what the names of their files say; `paths` are the files by their names in the save."""
    for rule in template.name_rules:
        with suppress(AddressError):
            (node,) = fields(rule.path)
            path = paths[rule.file or node.file]
            try:
                holds = due_by_name(rule, node, path) in (None, node.value)
            except ValueRefused:
                holds = False
            if not holds:
                stored = node.spec.storage.to_text(node.value)
                text = f"{rule.path} says {stored} and {rule.name_in_words(path)} says {rule.said_by(path)}"
                why = f"; {rule.why}" if rule.why else ""
                yield Finding(rule.path, "error", f"{text}; they must be equal{why}")


def due_by_name(rule: NameRule, node: FieldNode, path: Path) -> Value | None:
    """What a field has to say by the name of its file; None where the name says nothing.

    Raises:
        ValueRefused: the field cannot say it.
    """
    said, storage = rule.said_by(path), node.spec.storage
    if said is None:
        return None
    try:
        if said.isdecimal() and said != str(int(said)):  # zeros in front, which a number in a text may not have
            with suppress(ValueRefused):
                return storage.from_text(said)
            said = str(int(said))
        return storage.from_text(said)
    except ValueRefused as error:
        raise ValueRefused(
            f"{rule.path} has to follow {rule.name_in_words(path)}: {error.what}", "give the file another name"
        ) from error


def unusual(bound: BoundFile) -> Iterator[Finding]:
    """A warning about the first bytes that all saves have from which a file was described, and this one has not."""
    for usual in bound.spec.usual:
        found = bytes(bound.source.read(usual.at, min(usual.at + len(usual.content), bound.source.size)))
        if found != usual.content:
            here, there = _both_shown(found, usual.content)
            text = f"{here} at {place(usual.at)}, where the saves it was described from have {there}"
            then = "if this is another version of the game, values at fixed offsets may be elsewhere"
            yield Finding(bound.spec.name, "warning", f"{text}; {then}: compare them with the game before you post")
            return


def _both_shown(*contents: bytes) -> list[str]:
    """Bytes as what they can all be: letters, or numbers in the order in which they are smaller."""
    if all(content.isascii() and content.decode("ascii").isprintable() for content in contents):
        return [f"“{content.decode('ascii')}”" for content in contents]
    low, high = ([int.from_bytes(content, order) for content in contents] for order in ("little", "big"))
    return [str(number) for number in min(low, high, key=max)]


def undescribed(bound: BoundFile) -> Iterator[Finding]:
    """A note about bytes behind all that a template describes."""
    if bound.spec.format != "binary" or not bound.root.children:
        return
    described = max(child.end for child in bound.root.children)
    if described < bound.source.size:
        rest = bound.source.size - described
        yield Finding(
            bound.spec.name, "note", f"{rest} bytes from {place(described)} on are not described by the template"
        )
