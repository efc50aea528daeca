"""What fills up in front of aligned elements: as much of it is put in, or taken out, as keeps them aligned when what is
in front of them takes another size.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

from faithful_ledger.core.binding.binder import BoundFile
from faithful_ledger.core.binding.nodes import GroupNode, Node, RowsNode
from faithful_ledger.core.edits import Cause, Replacement
from faithful_ledger.core.errors import EntryError

__all__ = ["Padding"]


class _Gap(NamedTuple):
    """The bytes between the end of one element and the aligned beginning of `node`."""

    start: int
    end: int
    node: Node


class Padding:
    """What is in front of every element that begins at a multiple of some bytes behind the one before."""

    def __init__(self, bound: BoundFile) -> None:
        self.bound = bound

    @cached_property
    def gaps(self) -> list[_Gap]:
        """In the order of the payload."""
        root = self.bound.root
        return sorted(_gaps(root, root.start), key=lambda gap: (gap.start, gap.end))

    def filled(self, replaced: Iterable[Replacement]) -> list[Replacement]:
        """What has to change in it so that what is behind stays aligned once other spans are replaced, and that a file
        which keeps its size has it.

        Raises:
            EntryError: what is behind its last element has not so many bytes.
        """
        grown = sorted((item.end, item.grown) for item in replaced)
        if not any(by for _, by in grown):
            return []
        found = self._aligned(grown) if self.bound.spec.aligns else []
        if self.bound.spec.keeps_size:
            moved = sum(by for _, by in grown) + sum(each.grown for each in found)
            found += self._left(moved)
        return found

    def _left(self, moved: int) -> list[Replacement]:
        """What gives way at the end, in front of elements whose offset counts from there."""
        root = self.bound.root
        from_end = [child.start for child in root.children if child.spec.address.base == "end"]
        end = min(from_end, default=root.end)
        left = end - max((child.end for child in root.children if child.spec.address.base != "end"), default=0)
        cause = (Cause("padding", "the end of the file"),)
        if moved > left:
            raise EntryError(
                f"the file keeps its size, and {moved} bytes more do not fit: {max(left, 0)} are left behind its last "
                "element",
                "nothing was written; enter a shorter value",
            )
        if moved > 0:
            return [Replacement(end - moved, end, b"", cause)]
        return [Replacement(end, end, bytes(-moved), cause)] if moved else []

    def _aligned(self, grown: Sequence[tuple[int, int]]) -> list[Replacement]:
        found: list[Replacement] = []
        moved = number = 0
        for gap in self.gaps:
            while number < len(grown) and grown[number][0] <= gap.start:
                moved += grown[number][1]
                number += 1
            size = gap.end - gap.start
            wanted = -(gap.start + moved) % gap.node.spec.address.align
            if wanted != size:
                old = bytes(self.bound.source.read(gap.start, gap.end))
                filled = old[:wanted].ljust(wanted, b"\0")
                cause = Cause("padding", gap.node.path)
                found.append(Replacement(gap.start, gap.end, filled, (cause,), gap.node))
                moved += wanted - size
        return found


def _gaps(group: GroupNode, at: int) -> Iterator[_Gap]:
    for child in group.children:
        yield from _in_front(child, at)
        at = child.end


def _in_front(node: Node, at: int) -> Iterator[_Gap]:
    """The gaps in front of an element and within it; the element before it ends at an offset."""
    if node.spec.address.align > 1 and node.spec.address.base == "next" and at <= node.start:
        yield _Gap(at, node.start, node)
    if isinstance(node, RowsNode):
        at = node.start
        for number in range(node.count) if node.stride is None else ():
            item = node.item(number)
            yield from _in_front(item, at)
            at = item.end
    elif isinstance(node, GroupNode):
        yield from _gaps(node, node.start)
