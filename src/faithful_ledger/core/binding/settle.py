"""After entries: lengths, counts and offsets put right, then seals renewed, inner before outer.

Entries that bring bytes in or take some out make the payload unreadable until the numbers that say so follow. So these
are worked out first from where everything was and by how much it moves. Then the payload is bound as it will be, and
from there on everything is worked out on the new tree: what still does not say what it should is put right, until
nothing changes, and the seals follow, each level over the bytes of those before it. The tree is the result: it is what
the plan shows and what is written.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from types import MappingProxyType
from typing import Literal, NamedTuple

from faithful_ledger.core.binding.binder import BoundFile, bind
from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.errors import AddressError, EntryError, LedgerError, ValueRefused
from faithful_ledger.core.seals.seals import BoundSeal, bound_seal, compute, dependents, in_levels, resolve
from faithful_ledger.core.template.model import Derived

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
    found = {renewal.node.path: renewal for renewal in renewals}
    changing: list[FieldNode] = []
    for _ in range(MOST_ROUNDS):
        after = _bound_again(bound, patched, outer)
        changed = _measured(after, patched, leave) or _sealed_in_levels(after, patched, leave)
        found |= {
            path: renewal._replace(old=found.get(path, renewal).old) for path, renewal in changed.renewals.items()
        }
        if not changed.moved:
            return Settled(patched, after, list(found.values()))
        changing = [renewal.node for renewal in changed.renewals.values()]
    raise _never_settles(changing)


class _Changed(NamedTuple):
    """What was put right in one round, and whether the payload has to be bound again for it."""

    renewals: dict[str, Renewal]
    moved: bool

    def __bool__(self) -> bool:
        return bool(self.renewals)


def _measured(after: BoundFile, patched: Patched, leave: frozenset[str]) -> _Changed:
    """Put lengths, counts and offsets right that do not say what they should; others may depend on them."""
    wrong = [
        renewed
        for node, derived in _measuring(after, leave)
        if (renewed := _renewed(node, derived.kind, expected_number(node)))
    ]
    patched.patch(replacement for replacement, _ in wrong)
    return _Changed({renewal.node.path: renewal for _, renewal in wrong}, moved=bool(wrong))


def _sealed_in_levels(after: BoundFile, patched: Patched, leave: frozenset[str]) -> _Changed:
    """Renew seals, inner before outer. One that takes another size, as a number in a text may, moves what follows."""
    found: dict[str, Renewal] = {}
    size = patched.size
    for level in in_levels(_sealing(after, leave)):
        renewed = [each for seal in level if (each := _sealed(seal, patched))]
        if renewed:
            found |= {renewal.node.path: renewal for _, renewal in renewed}
            patched.patch(replacement for replacement, _ in renewed)
            if patched.size != size:
                return _Changed(found, moved=True)
    return _Changed(found, moved=False)


def _measuring(bound: BoundFile, leave: frozenset[str]) -> Iterator[tuple[FieldNode, Derived]]:
    """The lengths, counts and offsets that are put right. One whose target is not in this save is left as it is."""
    for node in dependents(bound.root, sealed=False):
        derived = node.spec.derived
        if derived is not None and not (leave and node.path in leave):
            with suppress(AddressError):
                resolve(node, derived.target)
                yield node, derived


def _sealing(bound: BoundFile, leave: frozenset[str]) -> list[BoundSeal]:
    """The seals that are renewed, but for those that cover what is not in this save."""
    found = []
    for node in dependents(bound.root, measured=False):
        if not (leave and node.path in leave):
            with suppress(AddressError):
                found.append(bound_seal(bound.root, node))
    return found


def _placed(
    bound: BoundFile, entries: list[Replacement], leave: frozenset[str], counts: Mapping[str, int]
) -> tuple[Patched, list[Renewal]]:
    """The payload with its entries, and with lengths, counts and offsets worked out from where everything was."""
    given_anew = [item for item in entries if isinstance(item.element, RowsNode)]
    fields = [
        (node, derived)
        for node, derived in _measuring(bound, leave)
        if not any(item.start <= node.start and node.end <= item.end for item in given_anew)
    ]
    placed: list[tuple[Replacement, Renewal]] = []
    for _ in range(MOST_ROUNDS):
        patched = Patched(bound.source, [*entries, *(replacement for replacement, _ in placed)])
        renewed = [
            found
            for node, derived in fields
            if (found := _renewed(node, derived.kind, expected_number(node, patched, counts)))
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
    after = bind(bound.spec, patched, outer, bound)
    if after.problem is not None:
        raise EntryError(
            f"the save would no longer fit its template: {after.problem.what}",
            "nothing was written; undo the last entry",
        )
    return after


def _renewed(node: FieldNode, kind: Kind, number: int) -> tuple[Replacement, Renewal] | None:
    """The replacement that makes a dependent field say `number`, or None where it says so already."""
    storage, before = node.spec.storage, node.raw
    try:
        raw = storage.encode(number, before)
    except ValueRefused as error:
        raise ValueRefused(
            f"{node.path} ({kind}) would have to say {number}: {error.what}", "undo the entry that made it grow"
        ) from error
    if raw == before:
        return None
    try:
        stored = storage.whole(before)
    except LedgerError:
        stored = None
    replacement = Replacement(node.start, node.end, raw, (Cause(kind, node.path),), node, storage.mask)
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
