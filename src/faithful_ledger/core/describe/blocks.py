"""Blocks of which each is something else, by their tags: they are described one by one, and what is described within
them already becomes part of their content, so that it moves with them.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from faithful_ledger.core.binding import FieldNode, GroupNode, Node
from faithful_ledger.core.describe import placing
from faithful_ledger.core.describe.flow import is_run
from faithful_ledger.core.describe.leading import TEXT_NOTE
from faithful_ledger.core.describe.sealing import TAG, block_keys
from faithful_ledger.core.template.names import free_name

if TYPE_CHECKING:
    from faithful_ledger.core.describe.draft import Draft
    from faithful_ledger.core.seals.finder.blocks import BlockRule

__all__ = ["are_different", "hold_fields", "let_be_blocks"]

MOST = 24  # blocks that are described one by one
NAME = re.compile(rb"[A-Za-z]\w*")


def are_different(rule: BlockRule, content: bytes) -> bool:
    """Whether a save has a few blocks, in every save as many, each with a tag of its own in front of its length."""
    starts = [at - rule.in_front for at, _ in rule.chain.lengths(content)]
    tags = {content[start : start + TAG] for start in starts}
    is_tagged = rule.in_front >= TAG and all(NAME.match(tag) and tag.isascii() for tag in tags)
    return rule.is_counted and is_tagged and len(tags) == len(starts) <= MOST


def hold_fields(root: GroupNode, rule: BlockRule, content: bytes) -> bool:
    """Whether a save has a few blocks, in every save as many, and something is described in one of them."""
    known = placing.touched(root, rule.start, rule.chain.end(content))
    return rule.is_counted and rule.count <= MOST and not all(map(is_run, known))


def let_be_blocks(draft: Draft, rule: BlockRule, content: bytes) -> None:
    """Describe every block of the main file as a group of its own.

    Raises:
        EntryError: something is described that is not within the content of one block.
    """
    bound = draft.save.main.bound
    assert bound is not None
    root, lengths = bound.root, rule.chain.lengths(content)
    starts = [at - rule.in_front for at, _ in lengths]
    end = rule.chain.end(content)
    ends = [*starts[1:], end]
    contents = [(start + rule.header, behind - rule.trailer) for start, behind in zip(starts, ends, strict=True)]
    known = placing.touched(root, rule.start, end)
    runs = [node for node in known if is_run(node) or _is_chance(node, contents)]
    described = [node for node in known if node not in runs]
    for node in described:
        if not any(low <= node.start and node.end <= high for low, high in contents):
            raise placing.overlap(rule.start, end, [node])
    within = [[node for node in described if low <= node.start and node.end <= high] for low, high in contents]
    keys = block_keys(rule, content)["layout"]
    taken = [child.spec.name for child in root.children if child not in runs]
    blocks: list[dict[str, Any]] = []
    for start, (low, high), nodes in zip(starts, contents, within, strict=True):
        named = NAME.match(content, start) if rule.in_front >= TAG else None
        name = free_name(taken, named[0][:TAG].decode().lower() if named is not None else f"block_{len(blocks)}")
        taken.append(name)
        parts = _parts(draft, nodes, low, high)
        blocks.append({"group": name, "flat": True, "layout": _named(keys, name, content[start : start + TAG], parts)})
    where = root.spec.layout_where
    flow = [child for child in root.children if child.spec.address.base == "next" and child not in known]
    before, behind = ([child for child in flow if (child.start >= end) is is_behind] for is_behind in (False, True))
    at = placing.layout_index(before[-1]) + 1 if before else 0
    removed = sorted(map(placing.layout_index, known), reverse=True)
    for index in removed:
        draft.text.remove(where, index)
    at -= sum(index < at for index in removed)
    if behind and behind[0].start > end:
        draft.text.insert(where, at, _run(end, behind[0].start))
    for block in reversed(blocks):
        draft.text.insert(where, at, block)
    front = before[-1].end if before else root.start
    if front < rule.start:
        draft.text.insert(where, at, _run(front, rule.start))
    draft.read_again()


def _is_chance(node: Node, contents: Sequence[tuple[int, int]]) -> bool:
    """Whether a text was taken for one because the last byte of a block's length says where its letters end."""
    is_guess = isinstance(node, FieldNode) and node.spec.note == TEXT_NOTE and node.spec.standing == "guessed"
    return is_guess and not any(low <= node.start and node.end <= high for low, high in contents)


def _run(start: int, end: int) -> dict[str, Any]:
    return {"unknown": f"unknown_{start:x}", "size": end - start}


def _parts(draft: Draft, nodes: Sequence[Node], start: int, end: int) -> list[dict[str, Any]]:
    """What is described of a content, one behind the other, with unknown runs between, and up to its end."""
    parts: list[dict[str, Any]] = []
    at = start
    for node in sorted(nodes, key=lambda node: node.start):
        if node.start < at:
            raise placing.overlap(node.start, node.end, [node])
        if node.start > at:
            parts.append(_run(at, node.start))
        parts.append(placing.without_address(draft.text, node))
        at = node.end
    return [*parts, {"unknown": f"unknown_{at:x}"}] if at < end or not parts else parts


def _named(
    keys: Sequence[dict[str, Any]], name: str, tag: bytes, parts: Sequence[dict[str, Any]]
) -> list[dict[str, Any]]:
    """The layout of a block in which every element has the name of the block in front of its own, also where named."""
    own = {str(next(iter(each.values()))): f"{name}_{next(iter(each.values()))}" for each in keys}

    def renamed(value: Any) -> Any:
        if isinstance(value, list):
            return [own.get(each, each) for each in value]
        return own.get(value, value) if isinstance(value, str) else value

    layout: list[dict[str, Any]] = []
    for each in keys:
        kind = next(iter(each))
        made = {key: renamed(value) for key, value in each.items()}
        if "seal" in made:
            made["seal"] = {key: renamed(value) if key == "over" else value for key, value in made["seal"].items()}
        if isinstance(size := each.get("size"), str):
            made["size"] = re.sub(r"\w+", lambda word: own.get(word[0], word[0]), size)
        if each[kind] == "tag":
            made = {"constant": own["tag"], "text": tag.decode("latin-1")}
        elif kind == "group":
            made |= {"flat": True, "layout": list(parts)}
        layout.append(made)
    return layout
