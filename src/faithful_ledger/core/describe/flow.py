"""What stands behind an element whose size varies moves with it: an offset of its own is wrong in the next save."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace

from faithful_ledger.core.address import NEXT
from faithful_ledger.core.binding import BoundFile, FieldNode, Node
from faithful_ledger.core.describe.placing import free_name
from faithful_ledger.core.template.model import GroupSpec
from faithful_ledger.core.template.rewriting import Hex, YamlText

__all__ = ["RUN", "drop_last_run", "has_offset", "is_run", "let_follow", "let_stand", "varies"]

RUN = re.compile(r"unknown_[0-9a-f]+(_\d+)?")


def let_follow(text: YamlText, bound: BoundFile) -> None:
    """Let the elements of a binary file that begin at an offset follow one another, with unknown runs between them,
    where one is behind one whose size varies. Those that overlap another one keep their offset.
    """
    root = bound.root.spec
    flow = [child for child in bound.root.children if child.spec.address.base == "next"]
    end = flow[-1].end if flow else bound.root.start
    moving = _apart([child for child in bound.root.children if has_offset(child)], end)
    if not any(map(varies, flow)):
        moving = moving if any(map(varies, moving[:-1])) else []
    order = list(root.layout)
    items = []
    for node in moving:
        index = order.index(node.spec)
        items.append(text.value((*root.layout_where, index)))
        text.remove(root.layout_where, index)
        del order[index]
    at = order.index(flow[-1].spec) + 1 if flow else 0
    names: list[str] = []
    for node, item in zip(moving, items, strict=True):
        if node.start > end:
            names.append(free_name(root, f"unknown_{end:x}", names))
            text.insert(root.layout_where, at, {"unknown": names[-1], "size": node.start - end})
            at += 1
        text.insert(root.layout_where, at, {key: value for key, value in item.items() if key != "at"})
        at, end = at + 1, node.end


def let_stand(text: YamlText, bound: BoundFile, name: str = "") -> None:
    """Let what follows an element of a binary file begin at the offset where it is, so that the element can go, or
    without a name all that follow one another; the unknown runs between are not needed then.
    """
    root = bound.root.spec
    flow = [child for child in bound.root.children if child.spec.address.base == "next"]
    names = [child.spec.name for child in flow]
    first = 0 if not name else names.index(name) + 1 if name in names else len(flow)
    for node in reversed(flow[first:]):  # the last first, so that the others stay where they are in the layout
        index = root.layout.index(node.spec)
        if is_run(node):
            text.remove(root.layout_where, index)
        else:
            text.set((*root.layout_where, index, "at"), Hex(node.start))


def drop_last_run(text: YamlText, bound: BoundFile) -> None:
    """Remove the unknown run of a binary file that is behind all that follow one another: nothing is found by it."""
    root = bound.root.spec
    last = next((child for child in reversed(bound.root.children) if child.spec.address.base == "next"), None)
    if last is not None and is_run(last):
        text.remove(root.layout_where, root.layout.index(last.spec))


def _apart(nodes: Sequence[Node], start: int) -> list[Node]:
    """Those of some elements that begin at an offset or behind it, in their order, without what overlaps another."""
    found: list[Node] = []
    for node in sorted(nodes, key=lambda node: (node.start, node.end)):
        if node.start >= (found[-1].end if found else start):
            found.append(node)
    return found


def is_run(node: Node) -> bool:
    """Whether it is an unknown run that only leads from one element to the next."""
    return isinstance(node, FieldNode) and node.spec.unknown and RUN.fullmatch(node.spec.name) is not None


def varies(node: Node) -> bool:
    """Whether it takes as many bytes as what is in it needs."""
    return replace(node.spec, address=NEXT).fixed_size is None


def has_offset(node: Node) -> bool:
    """Whether it begins at an offset that is always the same, and is more than a frame around others."""
    address = node.spec.address
    known = address.offset.constant if address.base == "start" and address.offset is not None else None
    is_frame = isinstance(node.spec, GroupSpec) and node.spec.is_frame
    return known is not None and address.align == 1 and node.spec.when is None and not is_frame
