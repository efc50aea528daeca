"""Seals of a bound file: what each covers, whether it holds, in which order they are renewed.

What a seal sees in its own bytes (zeros, or nothing) is one function, shared by checking and renewing. Inner seals come
before outer ones: a seal is renewed after every seal whose stored bytes lie in the range it covers.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator
from dataclasses import dataclass
from graphlib import CycleError, TopologicalSorter
from typing import NamedTuple

from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.errors import AddressError, EntryError
from faithful_ledger.core.seals.algorithms import ALGORITHMS
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage import Integer
from faithful_ledger.core.template.model import ElementSpec, FieldSpec, elements_of

__all__ = ["BoundSeal", "SealState", "bound_seal", "compute", "dependents", "in_levels", "resolve"]


class BoundSeal(NamedTuple):
    """A seal at its place: the field it is stored in, and the range [start, end) it covers.

    `first` and `last` are the elements the range begins and ends with; None is the file's own border.
    """

    node: FieldNode
    start: int
    end: int
    first: Node | None = None
    last: Node | None = None

    @property
    def name(self) -> str:
        return self.node.path

    @property
    def algorithm(self) -> str:
        return self.node.spec.seal.algorithm if self.node.spec.seal is not None else ""


@dataclass(frozen=True, slots=True)
class SealState:
    """What checking a seal found. `algorithm` is a checksum's name, or length, count, offset. What is `stored` may be
    unreadable, which is None.
    """

    name: str
    label: str
    algorithm: str
    holds: bool
    stored: int | None
    computed: int
    policy: str


def dependents(root: GroupNode, *, measured: bool = True, sealed: bool = True) -> Iterator[FieldNode]:
    """Every bound field that is worked out from others: lengths, counts and offsets (`measured`), and seals. Rows are
    only entered where a record has such a field.
    """

    def follows(spec: ElementSpec) -> bool:
        if not isinstance(spec, FieldSpec):
            return False
        return (sealed and spec.seal is not None) or (measured and spec.derived is not None)

    stack: list[Node] = [root]
    while stack:
        node = stack.pop()
        if isinstance(node, GroupNode):
            stack += reversed(node.children)
        elif isinstance(node, RowsNode):
            if any(map(follows, elements_of(node.spec.item))):
                stack += reversed(list(node.items()))
        elif isinstance(node, FieldNode) and follows(node.spec):
            yield node


def resolve(node: FieldNode, path: str) -> Node:
    """The element a dependent field names, looked up outwards from where it stands.

    Raises:
        AddressError: it is not in this save.
    """
    first, *rest = path.split(".")
    parent = node.parent
    assert isinstance(parent, GroupNode)
    found = parent.scope(first)
    for name in rest:
        found = found.names.get(name) if isinstance(found, GroupNode) else None
    if found is None:
        raise AddressError(f"{node.path} depends on {path}, which this save does not have", "another template may fit")
    return found


def bound_seal(root: GroupNode, node: FieldNode) -> BoundSeal:
    """A seal with the range it covers.

    Raises:
        AddressError: an element it covers is not in this save.
    """
    assert node.spec.seal is not None
    first, last = (None if path == "file" else resolve(node, path) for path in node.spec.seal.over)
    start = first.start if first is not None else 0
    return BoundSeal(node, start, last.end if last is not None else root.end, first, last)


def compute(seal: BoundSeal, source: Source, own: tuple[int, int], covered: tuple[int, int]) -> int:
    """The checksum over `covered`; `own` is where the seal itself is stored. Both are spans of `source`.

    Raises:
        EntryError: the seal covers itself and the template does not say what it sees there.
    """
    spec = seal.node.spec.seal
    assert spec is not None

    def chunks() -> Iterator[memoryview]:
        low, high = max(own[0], covered[0]), min(own[1], covered[1])
        if low >= high:
            yield from source.chunks(*covered)
            return
        if spec.own is None:
            raise EntryError(
                f"the seal {seal.name} covers its own bytes",
                "say in the template what it sees there: own: zeros or left out",
            )
        yield from source.chunks(covered[0], low)
        if spec.own == "zeros":
            yield memoryview(bytes(high - low))
        yield from source.chunks(high, covered[1])

    number, storage = ALGORITHMS[spec.algorithm](chunks()), seal.node.spec.storage
    return as_stored(storage, number) if isinstance(storage, Integer) else number


def as_stored(storage: Integer, number: int) -> int:
    """The lowest bits of a checksum as its field says them; the highest of these is the sign where it has one."""
    bits = storage.size * 8
    number &= (1 << bits) - 1
    return number - (1 << bits) if storage.signed and number >> (bits - 1) else number


def in_levels(seals: list[BoundSeal]) -> Iterator[list[BoundSeal]]:
    """Inner seals before the outer ones that cover them: each level only covers seals of those before it.

    Raises:
        EntryError: seals cover each other in a circle; its members are named.
    """
    by_start = sorted(range(len(seals)), key=lambda number: seals[number].node.start)
    starts = [seals[number].node.start for number in by_start]
    longest = max((seal.node.size for seal in seals), default=0)
    order: TopologicalSorter[int] = TopologicalSorter()
    for outer_number, outer in enumerate(seals):
        near = by_start[bisect_left(starts, outer.start - longest) : bisect_left(starts, outer.end)]
        order.add(outer_number, *(n for n in near if n != outer_number and outer.start < seals[n].node.end))
    try:
        order.prepare()
    except CycleError as error:
        names = " → ".join(seals[number].name for number in error.args[1])
        raise EntryError(
            f"these seals cover each other in a circle: {names}", "one range in the template is wrong"
        ) from error
    while order.is_active():
        level = order.get_ready()
        yield [seals[number] for number in level]
        order.done(*level)
