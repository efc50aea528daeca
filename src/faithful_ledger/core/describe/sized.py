"""A number that says how many bytes are directly behind it, whatever is described in them already."""

from __future__ import annotations

from typing import Any

from faithful_ledger.core.binding import FieldNode, GroupNode, Node
from faithful_ledger.core.binding.spans import field_at
from faithful_ledger.core.describe import placing, shaping
from faithful_ledger.core.describe.draft import Draft
from faithful_ledger.core.describe.flow import has_offset
from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.template.rewriting import Hex

__all__ = ["let_say_size"]


def let_say_size(draft: Draft, file: str, at: tuple[int, int], over: tuple[int, int], keys: dict[str, Any]) -> str:
    """Let a number, whose `keys` lack only where it is, say the size of a block behind it that has the bytes [over):
    what is described there becomes part of it and keeps its name. Returns the path of the number.

    Raises:
        EntryError: an element is only partly in the block, or is found in some way of its own.
    """
    start, end = over
    draft.add(file, *at, keys)
    for edge in over:
        draft.begin_run(file, edge)
    number = field_at(draft.file(file).root, at[0])
    assert number is not None and isinstance(number.parent, GroupNode)
    holder = number.parent
    inside = sorted(placing.touched(holder, start, end), key=lambda node: node.start)
    if any(node.start < start or node.end > end or not _can_follow(node) for node in inside):
        raise EntryError(f"what is behind {number.path} is not all in one block", placing.UNCHANGED)
    name = placing.free_name(holder.spec, f"block_{start:x}")
    layout = list[dict[str, Any]]()
    names = list[str]()
    for node in inside:
        if node.start > start:
            names.append(placing.free_name(holder.spec, f"unknown_{start:x}", names))
            layout.append({"unknown": names[-1], "size": node.start - start})
        layout.append(placing.without_address(draft.text, node))
        start = node.end
    if start < end:
        layout.append({"unknown": placing.free_name(holder.spec, f"unknown_{start:x}", names)})
    elif "unknown" in layout[-1]:
        layout[-1].pop("size", None)  # it takes what is left
    block: dict[str, Any] = {"group": name, "size": number.spec.name, "flat": True, "layout": layout}
    if number.spec.address.base != "next":
        block["at"] = Hex(over[0])
    for node in sorted(inside, key=placing.layout_index, reverse=True):
        draft.text.remove(holder.spec.layout_where, placing.layout_index(node))
    if inside and inside[0].spec.address.base == "next":
        place = placing.layout_index(inside[0])
    else:
        place = placing.layout_index(number) + 1
        place -= sum(placing.layout_index(node) < place for node in inside)
    draft.text.insert(holder.spec.layout_where, place, block)
    draft.read_again()
    number = field_at(draft.file(file).root, at[0])
    assert isinstance(number, FieldNode)
    shaping.set_keys(draft.text, number.spec, {"length_of": name})
    draft.read_again()
    return number.path


def _can_follow(node: Node) -> bool:
    return node.spec.address.base == "next" or has_offset(node)
