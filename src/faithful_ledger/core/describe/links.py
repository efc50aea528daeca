"""Which element a number may be the length, count or offset of: what holds in the save and in every kept copy."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Literal, NamedTuple

from faithful_ledger.core.binding import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.errors import LedgerError

__all__ = ["Link", "links", "shortest_name"]

LARGEST_BIAS = 64
MOST_ELEMENTS = 4000
Kind = Literal["length", "count", "offset"]


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


def links(roots: Sequence[GroupNode], path: str) -> list[Link]:
    """For the number at a path, over the bound trees of a save and its copies, the save first; the likeliest first.
    Targets are named as the template does it, seen from the group of the number.
    """
    fields = [_found(root, path) for root in roots]
    first = fields[0]
    if not isinstance(first, FieldNode):
        return []
    found: list[Link] = []
    for target in _targets(roots[0], first):
        name = shortest_name(first, target)
        if name is None:
            continue
        for kind in ("length", "count", "offset") if isinstance(target, RowsNode) else ("length", "offset"):
            link = _judged(kind, name, target.path, roots, fields)
            if link is not None:
                found.append(link)
    found.sort(key=lambda each: (-each.holds_in, -each.values, each.plus != 0, abs(each.plus), each.kind != "count"))
    return found


def _judged(kind: Kind, name: str, path: str, roots: Sequence[GroupNode], fields: Sequence[Node | None]) -> Link | None:
    """A link that holds wherever both are bound, with one bias."""
    biases: list[int] = []
    numbers: set[int] = set()
    for root, field in zip(roots, fields, strict=True):
        target = _found(root, path)
        if target is None or not isinstance(field, FieldNode):
            continue
        try:
            number = field.number
        except LedgerError:
            continue
        biases.append(number - _size(kind, target))
        numbers.add(number)
    if not biases or abs(biases[0]) > LARGEST_BIAS or len(set(biases)) > 1:
        return None
    if kind != "length" and biases[0] and kind == "count":
        return None
    if len(numbers) == 1 and biases[0]:  # with one number a bias explains everything
        return None
    return Link(kind, name, biases[0], len(biases), len(roots), len(numbers))


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
