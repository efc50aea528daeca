"""Which element a number may be the length, count or offset of: what holds in the save and in every kept copy."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Literal, NamedTuple

from faithful_ledger.core.binding import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.errors import LedgerError

__all__ = ["Link", "links", "shortest_name"]

LARGEST_BIAS = 64
MOST_ELEMENTS = 4000
Kind = Literal["length", "count", "offset"]
KINDS: tuple[Kind, ...] = ("length", "count", "offset")
SIZED: tuple[Kind, ...] = ("length", "offset")


class Link(NamedTuple):
    """A number that follows from another element: number = its length, count or offset + `plus`. `values` says how many
    different numbers it explains: one that is always the same proves little.
    """

    kind: Kind
    target: str
    plus: int
    holds_in: int
    of: int
    values: int


class _Candidate:
    """A link that has held so far, with one bias."""

    def __init__(self, kind: Kind, name: str, target: Node, number: int) -> None:
        self.kind, self.name, self.path = kind, name, target.path
        self.plus = number - _size(kind, target)
        self.holds_in, self.numbers = 1, {number}

    def holds(self, root: GroupNode, number: int) -> bool:
        """Whether nothing in another tree speaks against it, where the number is this."""
        target = _found(root, self.path)
        if target is None:
            return True
        self.holds_in += 1
        self.numbers.add(number)
        return number - _size(self.kind, target) == self.plus

    @property
    def is_likely(self) -> bool:
        """With one number a bias explains everything."""
        return len(self.numbers) > 1 or not self.plus


def links(roots: Iterable[GroupNode], path: str) -> list[Link]:
    """For the number at a path, over the bound trees of a save and its copies, the save first; the likeliest first.
    Targets are named as the template does it, seen from the group of the number. The copies are asked for one by one,
    as long as a link may hold.
    """
    trees = iter(roots)
    first = next(trees)
    field, number = _found(first, path), _number(first, path)
    if not isinstance(field, FieldNode) or number is None:
        return []
    left = list(_candidates(first, field, number))
    of = 1
    while left and (root := next(trees, None)) is not None:
        of += 1
        if (number := _number(root, path)) is not None:
            left = [each for each in left if each.holds(root, number)]
    found = [
        Link(each.kind, each.name, each.plus, each.holds_in, of, len(each.numbers)) for each in left if each.is_likely
    ]
    found.sort(key=lambda each: (-each.holds_in, -each.values, each.plus != 0, abs(each.plus), each.kind != "count"))
    return found


def _candidates(root: GroupNode, field: FieldNode, number: int) -> Iterator[_Candidate]:
    for target in _targets(root, field):
        for kind in KINDS if isinstance(target, RowsNode) else SIZED:
            plus = number - _size(kind, target)
            if abs(plus) > (0 if kind == "count" else LARGEST_BIAS):
                continue
            name = shortest_name(field, target)
            if name is not None:
                yield _Candidate(kind, name, target, number)


def _number(root: GroupNode, path: str) -> int | None:
    field = _found(root, path)
    try:
        return field.number if isinstance(field, FieldNode) else None
    except LedgerError:
        return None


def _size(kind: Kind, target: Node) -> int:
    if kind == "count":
        return target.count if isinstance(target, RowsNode) else 0
    return target.size if kind == "length" else target.start


def _targets(root: GroupNode, field: FieldNode) -> Iterator[Node]:
    """Elements outside of records; rows and groups that are not around the field, and fields of more than a number."""
    stack: list[Node] = [root]
    seen = 0
    while stack and seen < MOST_ELEMENTS:
        node = stack.pop()
        seen += 1
        if isinstance(node, GroupNode):
            stack += reversed(node.children)
        if node is root or node is field:
            continue
        if not isinstance(node, FieldNode) or node.spec.fixed_size is None or node.size > 8:
            yield node


def shortest_name(field: Node, target: Node) -> str | None:
    """The shortest name that leads from the group of one element to another one, looked up outwards."""
    chain: list[str] = []
    node: Node | None = target
    while isinstance(node, Node) and node.parent is not None:
        if not (isinstance(node, GroupNode) and node.spec.flat and chain):
            chain.insert(0, node.spec.name)
        holder = node.parent
        group = field.parent
        while group is not None:
            if group is holder and isinstance(group, GroupNode):
                name = ".".join(chain)
                return name if group.scope(chain[0]) is not None else None
            group = group.parent
        node = holder
    return None


def _found(root: GroupNode, path: str) -> Node | None:
    """The element at a path of names, outside of records."""
    node: Node | None = root
    names = path.split(".")
    if root.spec.name and names[0] == root.spec.name:
        names = names[1:]
    for name in names:
        node = node.names.get(name) if isinstance(node, GroupNode) else None
    return node
