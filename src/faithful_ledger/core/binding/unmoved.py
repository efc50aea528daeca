"""Whether entries leave every element where it is, so that the payload need not be bound again to know it."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import pairwise
from typing import TYPE_CHECKING

from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, Node, RowsNode

if TYPE_CHECKING:
    from faithful_ledger.core.binding.binder import BoundFile
    from faithful_ledger.core.edits import Replacement

__all__ = ["unmoved"]


def unmoved(bound: BoundFile, entries: Iterable[Replacement]) -> bool:
    """Whether no element can be elsewhere, come in or go, when these bytes of fields give way to as many: nothing reads
    the fields, is found by what they say, or has bytes in common with them.
    """
    spec = bound.spec
    if bound.document.knows_ends or bound.problem is not None or bound.missing or not spec.is_in_order:
        return False
    if not _apart(bound.root):
        return False
    return all(_stays(item, spec.shaping) for item in entries)


def _apart(root: GroupNode) -> bool:
    """Whether no two of the elements of a file, which may each have an address, overlap."""
    spans = sorted((child.start, child.end) for child in root.children)
    return all(before[1] <= start for before, (start, _) in pairwise(spans))


def _stays(item: Replacement, shaping: frozenset[str]) -> bool:
    node = item.element
    if not isinstance(node, FieldNode) or (node.start, node.end) != (item.start, item.end):
        return False
    spec = node.spec
    if len(item.data) != node.size or (spec.storage.size is None and spec.size is None):
        return False
    if spec.name in shaping or spec.derived is not None or spec.seal is not None or spec.constant is not None:
        return False
    return not _may_end_rows(node)


def _may_end_rows(field: FieldNode) -> bool:
    """Whether it has bytes of a place where a marker that ends rows would be looked for."""
    part: Node = field
    while (holder := part.parent) is not None:
        if isinstance(holder, RowsNode) and field.start < part.start + len(holder.spec.ended_by or b""):
            return True
        part = holder
    return False
