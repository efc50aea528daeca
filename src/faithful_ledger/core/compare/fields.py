"""Fields that say something else in one bound save than in another."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

from faithful_ledger.core.binding import BoundFile, FieldNode
from faithful_ledger.core.binding.spans import all_fields

__all__ = ["FieldDifference", "field_differences"]


class FieldDifference(NamedTuple):
    """A path with its field on each side; None where it is not there."""

    path: str
    a: FieldNode | None
    b: FieldNode | None


def field_differences(a: Mapping[str, BoundFile], b: Mapping[str, BoundFile]) -> Iterator[FieldDifference]:
    """All fields of the files both have that differ in their bytes, in the order of `b`, then those only `a` has."""
    for name in [name for name in a if name in b]:
        before = {node.path: node for node in all_fields(a[name].root)}
        for node in all_fields(b[name].root):
            old = before.pop(node.path, None)
            if old is None or old.raw != node.raw:
                yield FieldDifference(node.path, old, node)
        yield from (FieldDifference(path, node, None) for path, node in before.items())
