"""A new element for bytes that nothing describes yet: where in the layout it goes, and how it is found there.

Bytes within an unknown run split it. Bytes right behind the last element of a group follow it without an offset, so
that they move with it; all others get an offset.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from faithful_ledger.core.binding import BoundFile, FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.errors import EntryError, place
from faithful_ledger.core.template import names
from faithful_ledger.core.template.model import FieldSpec, GroupSpec, elements_of
from faithful_ledger.core.template.rewriting import Hex, YamlText
from faithful_ledger.core.template.yaml_text import Where

__all__ = [
    "ADDRESS_KEYS",
    "UNCHANGED",
    "add_element",
    "divide_run",
    "free_name",
    "layout_index",
    "move_into_run",
    "overlap",
    "touched",
    "without_address",
]

ADDRESS_KEYS = ("at", "behind", "before", "table", "entry", "align")
UNCHANGED = "the template was not changed"
MOST_NAMED = 4


def free_name(group: GroupSpec, wanted: str, taken: Sequence[str] = ()) -> str:
    """A name that no element of a group has."""
    while group.flat and isinstance(group.parent, GroupSpec):
        group = group.parent
    return names.free_name([*group.names, *taken], wanted)


def layout_index(node: Node) -> int:
    """Which element of its layout a node is."""
    index = node.spec.where[-1]
    assert isinstance(index, int)
    return index


def add_element(
    text: YamlText,
    bound: BoundFile,
    start: int,
    end: int,
    keys: Mapping[str, Any],
    free: Sequence[tuple[int, int]] = (),
) -> None:
    """Describe the bytes [start, end) of a binary file by an element, whose `keys` lack only where it is. Of the bytes
    within it that are `free` it says nothing: what describes these stays.

    Raises:
        EntryError: something describes some of the others already, or they are in several records.
    """
    kind, name = next(iter(keys.items()))
    if free and _stay(bound, start, end, free):
        root = bound.root.spec
        text.insert(root.layout_where, len(root.layout), {**keys, kind: free_name(root, name), "at": Hex(start)})
        return
    holder, unknown = _holder(bound, start, end)
    keys = {**keys, kind: free_name(holder.spec, name, [unknown.spec.name] if unknown is not None else [])}
    if unknown is not None:
        _split(text, holder, unknown, start, end, keys)
        return
    layout = holder.spec.layout_where
    flow = [child for child in holder.children if child.spec.address.base == "next"]
    behind = flow[-1].end if flow else holder.start
    index = layout_index(flow[-1]) + 1 if flow else 0
    if start == behind:
        text.insert(layout, index, keys)
    elif start > behind and (holder.parent is not None or any(child.spec.fixed_size is None for child in flow)):
        filler = free_name(holder.spec, f"unknown_{behind - holder.start:x}", [keys[kind]])
        text.insert(layout, index, {"unknown": filler, "size": start - behind})
        text.insert(layout, index + 1, keys)
    else:
        later = [child for child in holder.children if child.spec.address.base == "start" and child.start > start]
        index = min(map(layout_index, later), default=len(holder.spec.layout))
        text.insert(layout, index, {**keys, "at": Hex(start)})


def _stay(bound: BoundFile, start: int, end: int, free: Sequence[tuple[int, int]]) -> bool:
    """Whether something describes bytes of [start, end), and all that does are fields in those that are free."""
    found = touched(bound.root, start, end)
    return bool(found) and all(
        isinstance(node, FieldNode)
        and not node.spec.unknown
        and any(low <= node.start and node.end <= high for low, high in free)
        for node in found
    )


def _holder(bound: BoundFile, start: int, end: int) -> tuple[GroupNode, FieldNode | None]:
    """The innermost group around some bytes, and the unknown run they are in, where they are in one."""
    holder = bound.root
    while True:
        found = touched(holder, start, end)
        if not found:
            return holder, None
        child = found[0]
        if len(found) > 1 or not child.start <= start <= end <= child.end:
            raise overlap(start, end, found)
        if isinstance(child, FieldNode):
            if not child.spec.unknown:
                raise overlap(start, end, found)
            return holder, child
        if isinstance(child, RowsNode):
            child = _record(child, start, end)
        assert isinstance(child, GroupNode)
        if child.spec.word is not None:
            raise overlap(start, end, [child])
        holder = child


def touched(holder: GroupNode, start: int, end: int) -> list[Node]:
    """The elements of a group with a byte in [start, end)."""
    return [child for child in holder.children if child.start < end and start < child.end]


def _record(rows: RowsNode, start: int, end: int) -> GroupNode:
    """The record that some bytes are in."""
    index = rows.index_at(start)
    item = rows.item(index) if index is not None else None
    if not isinstance(item, GroupNode):
        raise overlap(start, end, [rows])
    if end > item.end:
        what = f"{place(start)} to {place(end)} is in more than one record of {rows.path}"
        raise EntryError(what, f"{UNCHANGED}; select bytes of one record, and all records get the field")
    return item


def overlap(start: int, end: int, nodes: Sequence[Node]) -> EntryError:
    """What is said of bytes that some elements describe already."""
    names = [f"{node.path} ({place(node.start)}, {node.size} bytes)" for node in nodes if not _is_unknown(node)]
    named = ", ".join((names or [node.path for node in nodes])[:MOST_NAMED])
    return EntryError(
        f"{place(start)} to {place(end)} overlaps {named}",
        f"{UNCHANGED}; select bytes that nothing describes, or remove or narrow what is there first",
    )


def _is_unknown(node: Node) -> bool:
    return isinstance(node, FieldNode) and node.spec.unknown


def _split(
    text: YamlText, holder: GroupNode, unknown: FieldNode, start: int, end: int, keys: Mapping[str, Any]
) -> None:
    """Put an element into an unknown run, with what is left of the run in front of it and behind it."""
    where, index = holder.spec.layout_where, layout_index(unknown)
    old = text.value(unknown.spec.where)
    before, after = start - unknown.start, unknown.end - end
    name = old.pop("unknown")
    size = old.pop("size", None)
    words = {key: old.pop(key) for key in ("label", "note") if key in old}
    address = {key: old.pop(key) for key in ADDRESS_KEYS if key in old}
    shared = old  # what is left is a condition
    pieces: list[dict[str, Any]] = []
    if before:
        pieces.append({"unknown": name, "size": before})
    pieces.append(dict(keys))
    if after:
        inside = end - (holder.start if holder.index is not None else 0)
        named = free_name(holder.spec, f"unknown_{inside:x}", [str(next(iter(keys.values())))]) if before else name
        left = after if isinstance(size, int) else f"({size}) - {end - unknown.start}"
        pieces.append({"unknown": named} if size is None else {"unknown": named, "size": left})
    described = next((piece for piece in pieces if "unknown" in piece), None)
    if described is not None:
        described |= words
    _let_cover(text, unknown, *(str(next(iter(piece.values()))) for piece in (pieces[0], pieces[-1])))
    _write(text, where, index, pieces, address, shared)


def _let_cover(text: YamlText, run: FieldNode, first: str, last: str) -> None:
    """Let seals that cover a run, from it or up to it, cover the first and the last of the elements in its place."""
    root, name = run.parent, run.spec.name
    while root is not None and root.parent is not None:
        root = root.parent
    for spec in elements_of(root.spec) if root is not None else ():
        if not isinstance(spec, FieldSpec) or spec.seal is None or spec.of_file or name not in spec.seal.over:
            continue
        where = (*spec.where, "seal", "over")
        over = text.value(where)
        if isinstance(over, dict):
            changed = {"from": first, "behind": last}
            over = {key: changed.get(key, value) if value == name else value for key, value in over.items()}
        else:
            begin, end = (over, over) if isinstance(over, str) else over
            begin, end = first if begin == name else begin, last if end == name else end
            over = begin if begin == end else [begin, end]
        text.set(where, over)


def divide_run(text: YamlText, run: FieldNode, at: int) -> None:
    """Let an unknown run, of a known number of bytes or all that is left, be two, of which the second begins at an
    offset within it.
    """
    holder = run.parent
    assert isinstance(holder, GroupNode)
    rest = {"unknown": free_name(holder.spec, f"unknown_{at:x}", [run.spec.name])}
    size = {"size": run.end - at} if run.spec.size is not None else {}
    _split(text, holder, run, at, run.end, {**rest, **size})


def without_address(text: YamlText, node: Node) -> dict[str, Any]:
    """What a template says of an element beside where it is."""
    return {key: value for key, value in text.value(node.spec.where).items() if key not in ADDRESS_KEYS}


def move_into_run(text: YamlText, unknown: FieldNode, node: FieldNode) -> None:
    """Let a field that is at an offset within an unknown run, of the same group or of one within that, be what the run
    has there.
    """
    holder, outer = unknown.parent, node.parent
    assert isinstance(holder, GroupNode) and isinstance(outer, GroupNode)
    keys = without_address(text, node)
    index = layout_index(node)
    if outer is holder and index > layout_index(unknown):
        index += (node.start > unknown.start) + (node.end < unknown.end)
    _split(text, holder, unknown, node.start, node.end, keys)
    text.remove(outer.spec.layout_where, index)


def _write(
    text: YamlText,
    where: Where,
    index: int,
    pieces: list[dict[str, Any]],
    address: dict[str, Any],
    shared: dict[str, Any],
) -> None:
    """Several elements in the place of one; the first is found as that one was."""
    for number, piece in enumerate(pieces):
        text.insert(where, index + 1 + number, {**piece, **(address if not number else {}), **shared})
    text.remove(where, index)
