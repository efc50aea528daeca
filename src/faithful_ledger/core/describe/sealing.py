"""A seal goes into a template: a field that is there becomes it, or one is made for its bytes, and what it covers is
named where elements begin and end with it, so that it holds when they grow.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from faithful_ledger.core.binding import BoundFile, FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.binding.spans import field_at
from faithful_ledger.core.describe import placing, shaping
from faithful_ledger.core.describe.links import shortest_name
from faithful_ledger.core.errors import EntryError, place
from faithful_ledger.core.storage import WRITTEN
from faithful_ledger.core.template.rewriting import YamlText

OF_A_VALUE = ("length_of", "count_of", "offset_of", "plus", "names", "switches", "bounds", "length", "size")

__all__ = ["covered_in_words", "put_seal", "storage_keys"]


def storage_keys(size: int, form: str) -> dict[str, Any]:
    """The keys of a field in which a checksum is stored."""
    if form not in WRITTEN:
        return {"as": form}
    return {"as": "checksum", "size": size} | ({"written": form} if form != "bytes" else {})


def put_seal(
    text: YamlText,
    bound: BoundFile,
    at: tuple[int, int],
    kind: Mapping[str, Any],
    seal: Mapping[str, Any],
    over: tuple[int, int],
    fallback: Mapping[str, int],
) -> None:
    """Make the bytes [at) a seal over the bytes [over): `kind` are the keys of its storage, `seal` those of the seal
    without what it covers, which is `fallback` where no elements begin and end with it.

    Raises:
        EntryError: other fields have some of its bytes.
    """
    field = field_at(bound.root, at[0])
    seal = {"algorithm": seal["algorithm"], "over": "", **seal}
    kind = {**kind, "as": str(kind["as"]).removesuffix("le" if bound.spec.order == "little" else "be")}
    if field is None or field.spec.unknown:
        seal["over"] = covered(bound, None, over) or dict(fallback)
        name = placing.free_name(bound.root.spec, f"seal_{at[0]:x}")
        placing.add_element(text, bound, *at, {"field": name, **kind, "seal": seal})
        return
    if (field.start, field.end) != at:
        what = f"the seal at {place(at[0])} would overlap {field.path} ({place(field.start)}, {field.size} bytes)"
        raise EntryError(what, f"{placing.UNCHANGED}; let that field cover exactly the bytes of the seal")
    seal["over"] = covered(bound, field, over) or dict(fallback)
    shaping.set_keys(text, field.spec, {**dict.fromkeys(OF_A_VALUE), **kind, "seal": seal})


def covered(bound: BoundFile, field: FieldNode | None, over: tuple[int, int]) -> str | list[str] | None:
    """Bytes as the names of the elements that begin and end with them; of the whole file as `file`."""
    if over == (0, bound.source.size):
        return "file"
    starts, ends, whole = [], [], []
    for node in _elements(bound.root):
        if node.start == over[0] and node.end == over[1]:
            whole.append(node)
        if node.start == over[0] and node.end <= over[1]:
            starts.append(node)
        if node.end == over[1] and node.start >= over[0]:
            ends.append(node)
    for node in whole:
        if (name := _named(bound, field, node)) is not None:
            return name
    for first in starts:
        for last in ends:
            names = _named(bound, field, first), _named(bound, field, last)
            if None not in names:
                return [str(name) for name in names]
    return None


def covered_in_words(bound: BoundFile, over: tuple[int, int]) -> str:
    """What the bytes of a range are, for people."""
    found = covered(bound, None, over)
    if isinstance(found, list):
        return " to ".join(found)
    return found or f"{place(over[0])} to {place(over[1])}"


def _named(bound: BoundFile, field: FieldNode | None, target: Node) -> str | None:
    """The name of an element, seen from a field, or from the root of the file."""
    if field is not None:
        return shortest_name(field, target)
    first = next(iter(bound.root.children), None)
    return shortest_name(first, target) if first is not None else None


def _elements(root: GroupNode) -> Iterator[Node]:
    """Every element outside of records that takes bytes, the outermost first."""
    queue: list[Node] = [root]
    while queue:
        node = queue.pop(0)
        if node is not root and node.size and not (isinstance(node.parent, GroupNode) and node.parent.spec.word):
            yield node
        if isinstance(node, GroupNode) and not isinstance(node, RowsNode):
            queue += node.children
