"""What Describe lays on its strip and band: kept copies under a file, and the runs of a file."""

from __future__ import annotations

from bisect import bisect_right

from faithful_ledger.core.binding import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.save import SaveFile
from faithful_ledger.core.source import MemorySource, Source
from faithful_ledger.desk.widgets.band import BandPart
from faithful_ledger.desk.widgets.strip_rows import StripLane

__all__ = ["band_parts", "first_array", "lane_over"]

MOST_PARTS = 400
LARGEST_ALIGNED = 16 << 20


def lane_over(name: str, source: Source, kept: Source) -> StripLane:
    """A kept copy laid under a file; bytes that moved, under the place they came from. Large ones are not aligned."""
    if max(source.size, kept.size) > LARGEST_ALIGNED:
        return StripLane(name, kept, lambda offset: 0)
    import numpy as np

    from faithful_ledger.core.compare import align

    a, b = (np.frombuffer(each.read(0, each.size), np.uint8) for each in (source, kept))
    found = align(a, b)
    stretches = found.stretches

    def moved(offset: int) -> int:
        return next((p.b - p.a for p in reversed(stretches) if 0 <= offset - p.a < p.length), 0)

    gone = [(item.a0, item.a1) for item in found.differences() if item.kind == "removed"]
    starts = [start for start, _ in gone]

    def absent(offset: int) -> bool:
        at = bisect_right(starts, offset) - 1
        return at >= 0 and offset < gone[at][1]

    return StripLane(name, MemorySource(found.rebased().tobytes()), moved, absent)


def first_array(root: Node) -> RowsNode | None:
    stack: list[Node] = [root]
    while stack:
        node = stack.pop()
        if isinstance(node, RowsNode) and node.stride and node.stride > 1 and node.count:
            return node
        if isinstance(node, GroupNode):
            stack += reversed(node.children)
    return None


def band_parts(file: SaveFile) -> list[BandPart]:
    """The runs of a file for its band; rows are one run."""
    parts: list[BandPart] = []
    stack: list[Node] = [file.bound.root] if file.bound is not None else []
    while stack and len(parts) < MOST_PARTS:
        node = stack.pop()
        if isinstance(node, GroupNode):
            stack += reversed(node.children)
        elif isinstance(node, RowsNode):
            parts.append(BandPart(node.start, node.end, "proven", f"{node.title}: {node.count} records"))
        elif isinstance(node, FieldNode):
            kind = "seal" if node.spec.seal is not None else "unknown" if node.spec.unknown else "described"
            kind = "proven" if kind == "described" and node.spec.standing == "proven" else kind
            parts.append(BandPart(node.start, node.end, kind, node.title))
    return parts
