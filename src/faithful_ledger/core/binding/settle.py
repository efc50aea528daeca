"""After entries: lengths, counts and offsets put right, then seals renewed, inner before outer.

Two passes. First everything is placed: each length, count and offset is worked out from where its target lies in the
patched payload, and written in its turn, until nothing changes (a value may itself change its size, so it can take
several rounds; there is a limit). Then the seals are filled in, which moves nothing any more.
"""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType
from typing import NamedTuple

from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.edits import Patched, Replacement
from faithful_ledger.core.errors import AddressError, EntryError, LedgerError, ValueRefused
from faithful_ledger.core.seals.seals import BoundSeal, bound_seal, compute, dependents, in_levels, resolve
from faithful_ledger.core.source import Source

__all__ = ["Renewal", "Settled", "expected_number", "settle"]

MOST_ROUNDS = 16
NOTHING: Mapping[str, int] = MappingProxyType({})


class Renewal(NamedTuple):
    """A dependent value that changes with the entries."""

    node: FieldNode
    kind: str
    old: int | None
    new: int


class Settled(NamedTuple):
    """The payload as it will be, and what was put right to get there."""

    patched: Patched
    renewals: list[Renewal]


def expected_number(node: FieldNode, patched: Patched | None = None, counts: Mapping[str, int] = NOTHING) -> int:
    """What a length, count or offset should say, in the payload as it is or as it will be.

    `counts` are the numbers of records of repeats that are given anew, by path.

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
    start = patched.moved(node.start, behind=lambda item: item.element is not None and _in_front(item.element, node))
    end = patched.moved(
        node.end,
        behind=lambda item: item.element is None or _in_front(item.element, node) or item.element.is_within(node),
    )
    return start, end


def _in_front(element: Node, node: Node) -> bool:
    return node.follows(element)


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
    root: GroupNode,
    source: Source,
    entries: list[Replacement],
    leave: frozenset[str] = frozenset(),
    counts: Mapping[str, int] = NOTHING,
) -> Settled:
    """Put everything right that depends on the replaced spans.

    `leave` are paths of dependent fields that stay as they are: they did not hold when the save was opened, and
    nobody has decided yet that they may be renewed.

    Raises:
        EntryError: lengths that never settle, or seals in a circle; the members are named.
        ValueRefused: a length, count or offset that no longer fits its field.
    """
    if not entries:
        return Settled(Patched(source, []), [])
    fields = [node for node in dependents(root) if (not leave or node.path not in leave) and has_target(root, node)]
    placed: list[tuple[Replacement, Renewal]] = []
    for _ in range(MOST_ROUNDS):
        patched = Patched(source, [*entries, *(replacement for replacement, _ in placed)])
        renewed = [
            found
            for node in fields
            if node.spec.derived is not None
            and (found := _renewed(node, node.spec.derived.kind, expected_number(node, patched, counts)))
        ]
        if renewed == placed:
            break
        placed = renewed
    else:
        names = ", ".join(renewal.node.path for _, renewal in placed)
        raise EntryError(
            f"these values change each other and never settle: {names}", "one of them is wrong in the template"
        )
    for level in in_levels([bound_seal(root, node) for node in fields if node.spec.seal is not None]):
        renewals = [renewal for seal in level if (renewal := _sealed(seal, patched))]
        if renewals:
            placed += renewals
            patched = Patched(source, [*entries, *(replacement for replacement, _ in placed)])
    return Settled(patched, [renewal for _, renewal in placed])


def _renewed(node: FieldNode, kind: str, number: int) -> tuple[Replacement, Renewal] | None:
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
    return Replacement(node.start, node.end, raw, f"{kind} {node.path}", node), Renewal(node, kind, stored, number)


def _sealed(seal: BoundSeal, patched: Patched) -> tuple[Replacement, Renewal] | None:
    spec = seal.node.spec.seal
    assert spec is not None
    start = span_after(seal.first, patched)[0] if seal.first is not None else 0
    end = span_after(seal.last, patched)[1] if seal.last is not None else patched.size
    if spec.policy == "leave" or not patched.touches(start, end):
        return None
    own = span_after(seal.node, patched)[0]
    try:
        number = compute(seal, patched, (own, own + seal.node.size), (start, end))
    except LedgerError as error:
        raise EntryError(error.what, error.remedy) from error
    return _renewed(seal.node, "seal", number)
