"""What fields say that expressions read, by their names, looked up outwards from where these are."""

from __future__ import annotations

from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, RowsNode
from faithful_ledger.core.errors import AddressError

__all__ = ["Known", "number_at", "said_at"]


def number_at(group: GroupNode, path: str, outer: GroupNode | None = None) -> int:
    """The number of the field an expression names, looked up outwards from a group; `offsets[3]` is one of rows.

    Raises:
        AddressError: it leads to no whole number.
    """
    return _field_at(group, path, outer).number


def said_at(group: GroupNode, path: str, outer: GroupNode | None = None) -> int | str:
    """What the field an expression names says: a whole number, or a text.

    Raises:
        AddressError: it leads to neither.
    """
    node = _field_at(group, path, outer)
    value = node.value
    return value if isinstance(value, str) else node.number


def _field_at(group: GroupNode, path: str, outer: GroupNode | None) -> FieldNode:
    first, *rest = path.split(".")
    first, _, index = first.partition("[")
    node = group.scope(first) or (outer.scope(first) if outer is not None else None)
    if index and isinstance(node, RowsNode):
        node = node.item(int(index.rstrip("]")))
    for name in rest:
        node = node.names.get(name) if isinstance(node, GroupNode) else None
    if not isinstance(node, FieldNode):
        raise AddressError(f"{path} is not bound here", "the template refers to a field that this save does not have")
    return node


class Known:
    """What fields say that the expressions of a group's elements ask for, each worked out once: the alternatives of a
    union ask for one and the same tag.
    """

    def __init__(self, group: GroupNode, outer: GroupNode | None) -> None:
        self.group, self.outer = group, outer
        self.numbers: dict[str, int] = {}
        self.texts: dict[str, int | str] = {}
        self.firsts: set[str] = set()  # the names with which the paths begin

    def number(self, path: str) -> int:
        found = self.numbers.get(path)
        if found is None:
            found = self.numbers[path] = number_at(self.group, path, self.outer)
            self.firsts.add(path.partition(".")[0])
        return found

    def said(self, path: str) -> int | str:
        found = self.texts.get(path)
        if found is None:
            found = self.texts[path] = said_at(self.group, path, self.outer)
            self.firsts.add(path.partition(".")[0])
        return found

    def forget(self) -> None:
        """Something comes in that may have a name that was found elsewhere until now."""
        if self.firsts:
            for known in (self.numbers, self.texts, self.firsts):
                known.clear()
