"""After entries: lengths, counts and offsets put right, then seals renewed, inner before outer.

Entries that bring bytes in or take some out make the payload unreadable until the numbers that say so follow. So these
are worked out first from where everything was and by how much it moves. Then the payload is bound as it will be, and
from there on everything is worked out on the new tree: what still does not say what it should is put right, until
nothing changes, and the seals follow, each level over the bytes of those before it. The tree is the result: it is what
the plan shows and what is written.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from faithful_ledger.core.binding.binder import BoundFile, bind
from faithful_ledger.core.binding.followers import NOTHING, Follower, Kind, followers, in_levels
from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, RowsNode
from faithful_ledger.core.binding.padding import Padding
from faithful_ledger.core.binding.unmoved import unmoved
from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.errors import EntryError, LedgerError, ValueRefused
from faithful_ledger.core.storage import Value

__all__ = ["MOST_ROUNDS", "Renewal", "Settled", "renewed", "settle"]

MOST_ROUNDS = 16


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


def settle(
    bound: BoundFile,
    entries: list[Replacement],
    leave: frozenset[str] = frozenset(),
    counts: Mapping[str, int] = NOTHING,
    outer: GroupNode | None = None,
    *,
    holding: bool = False,
) -> Settled:
    """Put everything right that depends on the replaced spans.

    `leave` are paths of dependent fields that stay as they are: they did not hold when the save was opened, and
    nobody has decided yet that they may be renewed; with `holding` all others hold. `outer` is the root of the save's
    first file, as for `bind`.

    Raises:
        EntryError: the payload would no longer fit its template, lengths never settle, or seals are in a circle.
        ValueRefused: a length, count or offset that no longer fits its field.
    """
    if not entries:
        return Settled(Patched(bound.source, []), bound, [])
    stays = holding and unmoved(bound, entries)
    patched, renewals = (Patched(bound.source, entries), []) if stays else _placed(bound, entries, leave, counts)
    found = {renewal.node.path: renewal for renewal in renewals}
    changing: list[FieldNode] = []
    for _ in range(MOST_ROUNDS):
        after = _bound_again(bound, patched, outer, stays=stays)
        changed = NO_CHANGE if stays else _measured(after, patched, leave)
        changed = changed or _sealed_in_levels(after, patched, leave)
        found |= {
            path: renewal._replace(old=found.get(path, renewal).old) for path, renewal in changed.renewals.items()
        }
        if not changed.moved:
            return Settled(patched, after, list(found.values()))
        stays = False
        changing = [renewal.node for renewal in changed.renewals.values()]
    raise _never_settles(changing)


class _Changed(NamedTuple):
    """What was put right in one round, and whether the payload has to be bound again for it."""

    renewals: dict[str, Renewal]
    moved: bool

    def __bool__(self) -> bool:
        return bool(self.renewals)


NO_CHANGE = _Changed({}, moved=False)


def _measured(after: BoundFile, patched: Patched, leave: frozenset[str]) -> _Changed:
    """Put lengths, counts and offsets right that do not say what they should; others may depend on them."""
    wrong = [found for each in _measuring(after, leave) if (found := renewed(each, each.due(patched)))]
    patched.patch(replacement for replacement, _ in wrong)
    return _Changed({renewal.node.path: renewal for _, renewal in wrong}, moved=bool(wrong))


def _sealed_in_levels(after: BoundFile, patched: Patched, leave: frozenset[str]) -> _Changed:
    """Renew seals, inner before outer. One that takes another size, as a number in a text may, moves what follows."""
    found: dict[str, Renewal] = {}
    size = patched.size
    for level in in_levels(list(_wanted(followers(after.root, measured=False), leave))):
        changed = [each for seal in level if (each := _sealed(seal, patched))]
        if changed:
            found |= {renewal.node.path: renewal for _, renewal in changed}
            patched.patch(replacement for replacement, _ in changed)
            if patched.size != size:
                return _Changed(found, moved=True)
    return _Changed(found, moved=False)


def _measuring(bound: BoundFile, leave: frozenset[str]) -> Iterator[Follower]:
    """The lengths, counts and offsets that are put right."""
    return _wanted(followers(bound.root, sealed=False), leave)


def _wanted(found: Iterator[Follower], leave: frozenset[str]) -> Iterator[Follower]:
    return (each for each in found if each.node.path not in leave) if leave else found


def _placed(
    bound: BoundFile, entries: list[Replacement], leave: frozenset[str], counts: Mapping[str, int]
) -> tuple[Patched, list[Renewal]]:
    """The payload with its entries, and with lengths, counts and offsets worked out from where everything was."""
    whole = (0, bound.source.size)
    given_anew = [item for item in entries if isinstance(item.element, RowsNode) or (item.start, item.end) == whole]
    fields = [
        each
        for each in _measuring(bound, leave)
        if not any(item.start <= each.node.start and each.node.end <= item.end for item in given_anew)
    ]
    placed: list[tuple[Replacement, Renewal]] = []
    padding = Padding(bound)
    for _ in range(MOST_ROUNDS):
        replaced = [*entries, *(replacement for replacement, _ in placed)]
        patched = Patched(bound.source, [*replaced, *padding.filled(replaced)])
        again = [found for each in fields if (found := renewed(each, each.due_after(patched, counts)))]
        if again == placed:
            return patched, [renewal for _, renewal in placed]
        placed = again
    raise _never_settles(renewal.node for _, renewal in placed)


def _never_settles(nodes: Iterable[FieldNode]) -> EntryError:
    names = ", ".join(node.path for node in nodes)
    return EntryError(
        f"these values change each other and never settle: {names}", "one of them is wrong in the template"
    )


def _bound_again(bound: BoundFile, patched: Patched, outer: GroupNode | None, *, stays: bool) -> BoundFile:
    after = bind(bound.spec, patched, outer, bound, stays=stays)
    if after.problem is not None:
        raise EntryError(
            f"the save would no longer fit its template: {after.problem.what}",
            "nothing was written; undo the last entry",
        )
    return after


def renewed(each: Follower, number: Value) -> tuple[Replacement, Renewal] | None:
    """The replacement that makes a follower say a number, or None where it says so already."""
    assert isinstance(number, int)
    node, kind = each.node, each.kind
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


def _sealed(seal: Follower, patched: Patched) -> tuple[Replacement, Renewal] | None:
    """A seal anew, where bytes it covers were replaced, or others came to the offsets that it covers."""
    if seal.policy == "leave" or not (
        any(patched.touches(*each) for each in seal.spans) or (seal.is_by_offset and patched.moves)
    ):
        return None
    return renewed(seal, seal.due(patched))
