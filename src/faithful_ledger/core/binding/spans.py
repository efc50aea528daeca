"""From bytes back to fields: which of them lie in a range, and which holds one byte."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, Node, RowsNode

__all__ = ["all_fields", "explained_bytes", "field_at", "fields_between", "nodes_between", "record_at"]


def fields_between(root: Node, start: int, end: int) -> Iterator[FieldNode]:
    """Every field with a byte in [start, end), without looking at records outside of it."""
    return (node for node in nodes_between(root, start, end) if isinstance(node, FieldNode))


def nodes_between(root: Node, start: int, end: int) -> Iterator[Node]:
    """Every element with a byte in [start, end), the outer ones first."""
    stack: list[Node] = [root]
    while stack:
        node = stack.pop()
        if node.end <= start or node.start >= end:
            continue
        yield node
        if isinstance(node, GroupNode):
            stack += reversed(node.children)
        elif isinstance(node, RowsNode) and node.count:
            if node.stride is None and node.offsets is None:
                stack += reversed(list(node.items()))
                continue
            first = node.index_at(max(start, node.start)) or 0
            last = node.index_at(min(end, node.end) - 1)
            last = node.count - 1 if last is None else last
            stack += [node.item(index) for index in range(last, first - 1, -1)]


def all_fields(root: Node, enters: Callable[[GroupNode], bool] = lambda group: True) -> Iterator[FieldNode]:
    """Every field in groups and records that it `enters`, in the order of the template; records are bound one after
    the other.
    """
    stack: list[Node | Iterator[Node]] = [root]
    while stack:
        node = stack.pop()
        if isinstance(node, FieldNode):
            yield node
        elif isinstance(node, GroupNode):
            stack += reversed(node.children) if enters(node) else ()
        elif isinstance(node, RowsNode):
            stack.append(node.items())
        elif not isinstance(node, Node) and (item := next(node, None)) is not None:
            stack += (node, item)


def field_at(root: Node, offset: int) -> FieldNode | None:
    """The field that holds a byte."""
    return next(fields_between(root, offset, offset + 1), None)


def record_at(root: Node, offset: int) -> RowsNode | None:
    """The innermost rows of fixed-size records that holds a byte."""
    node = field_at(root, offset)
    holder = node.parent if node is not None else None
    while holder is not None:
        if isinstance(holder, RowsNode) and holder.stride:
            return holder
        holder = holder.parent
    return None


def explained_bytes(root: Node) -> int:
    """How many bytes have a field with a meaning. Of an array only the first record is looked at."""
    known = 0
    stack: list[Node] = [root]
    while stack:
        node = stack.pop()
        if isinstance(node, FieldNode):
            if not node.spec.unknown:
                known += node.end - node.start
        elif isinstance(node, RowsNode) and node.stride and node.count:
            known += explained_bytes(node.item(0)) * node.count
        elif isinstance(node, RowsNode):
            stack += node.items()
        elif isinstance(node, GroupNode):
            stack += node.children
    return known
