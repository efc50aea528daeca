"""After entries: lengths, counts and offsets put right, then seals renewed, inner before outer.

Two passes. First everything is placed: each length, count and offset is worked out from where its target lies in the
patched payload, and written in its turn, until nothing changes (a value may itself change its size, so it can take
several rounds; there is a limit). Then the seals are filled in, which moves nothing any more.
"""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType
from typing import NamedTuple

from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, RepeatNode
from faithful_ledger.core.edits import Patched, Replacement
from faithful_ledger.core.errors import EntryError, LedgerError, ValueRefused
from faithful_ledger.core.seals.seals import BoundSeal, bound_seals, compute, dependents, in_order, resolve
from faithful_ledger.core.source import Source

__all__ = ["Renewal", "Settled", "expected_number", "settle"]

MOST_ROUNDS = 16
NOTHING: Mapping[str, int] = MappingProxyType({})


class Renewal(NamedTuple):
    """A dependent value that changes with the entries."""

    node: FieldNode
    kind: str
    old: int
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
        number = counts.get(target.path, target.count) if isinstance(target, RepeatNode) else 1
        return number + derived.plus
    start, end = target.start, target.end
    if patched is not None:
        start, end = patched.moved(start), patched.moved(end, after=True)
    return (end - start if derived.kind == "length" else start) + derived.plus


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
    fields = [node for node in dependents(root) if not leave or node.path not in leave]
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
    for seal in in_order(bound_seals(root, fields)):
        if found := _sealed(seal, patched):
            placed.append(found)
            patched = Patched(source, [*entries, *(replacement for replacement, _ in placed)])
    return Settled(patched, [renewal for _, renewal in placed])


def _renewed(node: FieldNode, kind: str, number: int) -> tuple[Replacement, Renewal] | None:
    """The replacement that makes a dependent field say `number`, or None where it says so already."""
    try:
        raw = node.spec.codec.encode(number, node.raw)
    except ValueRefused as error:
        raise ValueRefused(
            f"{node.path} ({kind}) would have to say {number}: {error.what}", "undo the entry that made it grow"
        ) from error
    if raw == node.raw:
        return None
    return Replacement(node.start, node.end, raw, f"{kind} {node.path}"), Renewal(node, kind, node.number, number)


def _sealed(seal: BoundSeal, patched: Patched) -> tuple[Replacement, Renewal] | None:
    spec = seal.node.spec.seal
    assert spec is not None
    start, end = patched.moved(seal.start), patched.moved(seal.end, after=True)
    if spec.policy == "leave" or not patched.touches(start, end):
        return None
    own = patched.moved(seal.node.start)
    try:
        number = compute(seal, patched, (own, own + seal.node.size), (start, end))
    except LedgerError as error:
        raise EntryError(error.what, error.remedy) from error
    return _renewed(seal.node, "seal", number)
