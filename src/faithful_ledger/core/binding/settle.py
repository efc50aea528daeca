"""After entries: lengths, counts and offsets put right, then seals renewed, inner before outer.

Entries that bring bytes in or take some out make the payload unreadable until the numbers that say so follow. So these
are worked out first from where everything was and by how much it moves. Then the payload is bound as it will be, and
from there on everything is worked out on the new tree: what still does not say what it should is put right, until
nothing changes, and the seals follow, each level over the bytes of those before it. The tree is the result: it is what
the plan shows and what is written.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from types import MappingProxyType
from typing import Literal, NamedTuple

from faithful_ledger.core.binding.binder import BoundFile, bind
from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.errors import AddressError, EntryError, LedgerError, ValueRefused
from faithful_ledger.core.seals.seals import BoundSeal, bound_seal, compute, dependents, in_levels, resolve

__all__ = ["Renewal", "Settled", "expected_number", "settle"]

Kind = Literal["length", "count", "offset", "seal"]
MOST_ROUNDS = 16
NOTHING: Mapping[str, int] = MappingProxyType({})


class Renewal(NamedTuple):
    """A dependent value that changes with the entries."""

    node: FieldNode
    kind: Kind
    old: int | None
    new: int


class Settled(NamedTuple):
    """The payload as it will be, bound, and what was put right to get there."""

    patched: Patched
    bound: BoundFile
    renewals: list[Renewal]


def expected_number(node: FieldNode, patched: Patched | None = None, counts: Mapping[str, int] = NOTHING) -> int:
    """What a length, count or offset should say, in the payload as it is or as it will be.

    `counts` are the numbers of records of rows that are given anew, by path.

    Raises:
        AddressError: its target is not in this save.
    """
    derived = node.spec.derived
    assert derived is not None
    target = resolve(node, derived.target)
    if derived.kind == "count":
        number = counts.get(target.path, target.count) if isinstance(target, RowsNode) else 1
        return number + derived.plus
    start, end = span_after(target, patched) if patched is not None else (target.start, target.end)
    return (end - start if derived.kind == "length" else start) + derived.plus


def span_after(node: Node, patched: Patched) -> tuple[int, int]:
    """Where an element is in the payload as it will be.

    Bytes that came in at one of its borders are its own if they belong to it or one of its parts, or to nobody; else
    they belong to a neighbour, as the first record of a list that was empty does.
    """
    start = patched.moved(node.start, behind=lambda item: item.element is not None and node.follows(item.element))
    end = patched.moved(
        node.end,
        behind=lambda item: item.element is None or node.follows(item.element) or item.element.is_within(node),
    )
    return start, end


def has_target(root: GroupNode, node: FieldNode) -> bool:
    """Whether what a dependent field is worked out from is in this save; if not, it is left as it is."""
    try:
        if node.spec.seal is not None:
            bound_seal(root, node)
        elif node.spec.derived is not None:
            resolve(node, node.spec.derived.target)
    except AddressError:
        return False
    return True


def settle(
    bound: BoundFile,
    entries: list[Replacement],
    leave: frozenset[str] = frozenset(),
    counts: Mapping[str, int] = NOTHING,
    outer: GroupNode | None = None,
) -> Settled:
    """Put everything right that depends on the replaced spans.

    `leave` are paths of dependent fields that stay as they are: they did not hold when the save was opened, and
    nobody has decided yet that they may be renewed. `outer` is the root of the save's first file, as for `bind`.

    Raises:
        EntryError: the payload would no longer fit its template, lengths never settle, or seals are in a circle.
        ValueRefused: a length, count or offset that no longer fits its field.
    """
    if not entries:
        return Settled(Patched(bound.source, []), bound, [])
    patched, renewals = _placed(bound, entries, leave, counts)
    after = _bound_again(bound, patched, outer)
    found = {renewal.node.path: renewal for renewal in renewals}
    for _ in range(MOST_ROUNDS):
        wrong = [
            renewed
            for node in _followers(after, leave)
            if node.spec.derived is not None
            and (renewed := _renewed(node, node.spec.derived.kind, expected_number(node)))
        ]
        if not wrong:
            break
        _note(found, wrong)
        patched.patch(replacement for replacement, _ in wrong)
        after = _bound_again(bound, patched, outer)
    else:
        raise _never_settles(renewal.node for _, renewal in wrong)
    seals = [bound_seal(after.root, node) for node in _followers(after, leave) if node.spec.seal is not None]
    for level in in_levels(seals):
        renewed_seals = [each for seal in level if (each := _sealed(seal, patched))]
        if renewed_seals:
            size = patched.size
            _note(found, renewed_seals)
            patched.patch(replacement for replacement, _ in renewed_seals)
            if patched.size != size:
                raise EntryError(f"the seal {level[0].name} takes another size", "give it a fixed size in the template")
    return Settled(patched, after, list(found.values()))


def _followers(bound: BoundFile, leave: frozenset[str]) -> list[FieldNode]:
    return [
        node
        for node in dependents(bound.root)
        if (not leave or node.path not in leave) and has_target(bound.root, node)
    ]


def _placed(
    bound: BoundFile, entries: list[Replacement], leave: frozenset[str], counts: Mapping[str, int]
) -> tuple[Patched, list[Renewal]]:
    """The payload with its entries, and with lengths, counts and offsets worked out from where everything was."""
    given_anew = [item for item in entries if isinstance(item.element, RowsNode)]
    fields = [
        node
        for node in _followers(bound, leave)
        if node.spec.derived is not None
        and not any(item.start <= node.start and node.end <= item.end for item in given_anew)
    ]
    placed: list[tuple[Replacement, Renewal]] = []
    for _ in range(MOST_ROUNDS):
        patched = Patched(bound.source, [*entries, *(replacement for replacement, _ in placed)])
        renewed = [
            found
            for node in fields
            if node.spec.derived is not None
            and (found := _renewed(node, node.spec.derived.kind, expected_number(node, patched, counts)))
        ]
        if renewed == placed:
            return patched, [renewal for _, renewal in placed]
        placed = renewed
    raise _never_settles(renewal.node for _, renewal in placed)


def _never_settles(nodes: Iterable[FieldNode]) -> EntryError:
    names = ", ".join(node.path for node in nodes)
    return EntryError(
        f"these values change each other and never settle: {names}", "one of them is wrong in the template"
    )


def _bound_again(bound: BoundFile, patched: Patched, outer: GroupNode | None) -> BoundFile:
    after = bind(bound.spec, patched, outer)
    if after.problem is not None:
        raise EntryError(
            f"the save would no longer fit its template: {after.problem.what}",
            "nothing was written; undo the last entry",
        )
    return after


def _note(found: dict[str, Renewal], renewed: list[tuple[Replacement, Renewal]]) -> None:
    """Keep what a value said before the first of its changes."""
    for _, renewal in renewed:
        before = found.get(renewal.node.path)
        found[renewal.node.path] = renewal._replace(old=before.old) if before is not None else renewal


def _renewed(node: FieldNode, kind: Kind, number: int) -> tuple[Replacement, Renewal] | None:
    """The replacement that makes a dependent field say `number`, or None where it says so already."""
    try:
        raw = node.spec.storage.encode(number, node.raw)
    except ValueRefused as error:
        raise ValueRefused(
            f"{node.path} ({kind}) would have to say {number}: {error.what}", "undo the entry that made it grow"
        ) from error
    if raw == node.raw:
        return None
    try:
        stored: int | None = node.number
    except LedgerError:
        stored = None
    mask = node.spec.storage.mask
    replacement = Replacement(node.start, node.end, raw, (Cause(kind, node.path),), node, mask)
    return replacement, Renewal(node, kind, stored, number)


def _sealed(seal: BoundSeal, patched: Patched) -> tuple[Replacement, Renewal] | None:
    """A seal anew, where bytes it covers were replaced."""
    spec = seal.node.spec.seal
    assert spec is not None
    if spec.policy == "leave" or not patched.touches(seal.start, seal.end):
        return None
    try:
        number = compute(seal, patched, (seal.node.start, seal.node.end), (seal.start, seal.end))
    except LedgerError as error:
        raise EntryError(error.what, error.remedy) from error
    return _renewed(seal.node, "seal", number)
