"""What fields say that expressions read, by their names, looked up outwards from where these are."""

from __future__ import annotations

from collections.abc import Sequence

from faithful_ledger.core.address import ROW, NamePart, name_parts
from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.errors import AddressError

__all__ = ["Known", "named_from", "named_in", "number_at", "said_at"]


def named_from(node: Node, path: str, outer: GroupNode | None = None) -> Node | None:
    """The element that a name leads to, looked up outwards from an element, last in `outer`; None where there is none.

    Raises:
        AddressError: there are not so many records as it counts to.
    """
    first, *rest = name_parts(path)
    found = node.scope(first.name)
    if found is None and outer is not None:
        found = outer.scope(first.name)
    return _followed(found, [first, *rest], node)


def named_in(root: GroupNode, path: str, row: Node) -> Node | None:
    """The same from the root of a file alone; `row` is what is in the record whose number may be meant."""
    first, *rest = name_parts(path)
    return _followed(root.names.get(first.name), [first, *rest], row)


def _followed(found: Node | None, parts: Sequence[NamePart], row: Node) -> Node | None:
    """What a name leads to, of which the first part is `found`."""
    for number, part in enumerate(parts):
        if number:
            found = found.names.get(part.name) if isinstance(found, GroupNode) else None
        if part.number is not None:
            found = found.item(part.number.within(row.row)) if isinstance(found, RowsNode) else None
    return found


def number_at(group: GroupNode, path: str, outer: GroupNode | None = None) -> int:
    """The number of the field an expression names, looked up outwards from a group; `offsets[3]` is one of rows.

    Raises:
        AddressError: it leads to no whole number.
    """
    if path == ROW and (row := group.row) is not None and group.scope(ROW) is None:
        return row
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
    node = named_from(group, path, outer)
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
            self.firsts.add(name_parts(path)[0].name)
        return found

    def said(self, path: str) -> int | str:
        found = self.texts.get(path)
        if found is None:
            found = self.texts[path] = said_at(self.group, path, self.outer)
            self.firsts.add(name_parts(path)[0].name)
        return found

    def forget(self) -> None:
        """Something comes in that may have a name that was found elsewhere until now."""
        if self.firsts:
            for known in (self.numbers, self.texts, self.firsts):
                known.clear()
