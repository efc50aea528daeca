"""What fills up in front of aligned elements: as much of it is put in, or taken out, as keeps them aligned when what is
in front of them takes another size.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from faithful_ledger.core.binding.binder import BoundFile
from faithful_ledger.core.binding.nodes import GroupNode, Node, RowsNode
from faithful_ledger.core.edits import Cause, Replacement
from faithful_ledger.core.source import Source
from faithful_ledger.core.template.model import FileSpec, elements_of

__all__ = ["Gap", "gaps_of", "padded"]


class Gap(NamedTuple):
    """The bytes between the end of one element and the aligned beginning of `node`."""

    start: int
    end: int
    node: Node


def gaps_of(bound: BoundFile) -> list[Gap]:
    """In front of every element that begins at a multiple of some bytes behind the one before, in their order."""
    if bound.document.knows_ends or not _aligns(bound.spec):
        return []
    return sorted(_gaps(bound.root, bound.root.start), key=lambda gap: (gap.start, gap.end))


def padded(gaps: Sequence[Gap], replaced: Iterable[Replacement], source: Source) -> list[Replacement]:
    """What has to change in gaps so that what is behind each stays aligned once other spans are replaced."""
    grown = sorted((item.end, len(item.data) - (item.end - item.start)) for item in replaced)
    if not any(by for _, by in grown):
        return []
    found: list[Replacement] = []
    moved = number = 0
    for gap in gaps:
        while number < len(grown) and grown[number][0] <= gap.start:
            moved += grown[number][1]
            number += 1
        at, size = gap.start + moved, gap.end - gap.start
        wanted = -at % gap.node.spec.address.align
        if wanted != size:
            old = bytes(source.read(gap.start, gap.end))
            cause = Cause("padding", gap.node.path)
            filled = old[:wanted].ljust(wanted, b"\0")
            found.append(Replacement(gap.start, gap.end, filled, (cause,), gap.node))
            moved += wanted - size
    return found


def _aligns(spec: FileSpec) -> bool:
    return any(each.address.align > 1 and each.address.base == "next" for each in elements_of(spec.root))


def _gaps(group: GroupNode, at: int) -> Iterator[Gap]:
    for child in group.children:
        yield from _in_front(child, at)
        at = child.end


def _in_front(node: Node, at: int) -> Iterator[Gap]:
    """The gaps in front of an element and within it; the element before it ends at an offset."""
    if node.spec.address.align > 1 and node.spec.address.base == "next" and at <= node.start:
        yield Gap(at, node.start, node)
    if isinstance(node, RowsNode):
        at = node.start
        for number in range(node.count) if node.stride is None else ():
            item = node.item(number)
            yield from _in_front(item, at)
            at = item.end
    elif isinstance(node, GroupNode):
        yield from _gaps(node, node.start)
