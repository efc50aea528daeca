"""What a seal covers is said by elements where something in front of it may take another size."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from faithful_ledger.core.binding import BoundFile, FieldNode
from faithful_ledger.core.describe import shaping
from faithful_ledger.core.describe.draft import Draft
from faithful_ledger.core.describe.flow import has_offset, varies
from faithful_ledger.core.describe.placing import free_name, layout_index, touched
from faithful_ledger.core.describe.sealing import covered, from_element

__all__ = ["let_cover"]


def let_cover(draft: Draft) -> None:
    """Let seals of binary files cover elements in place of offsets, where one in front of an offset may take another
    size: unknown runs begin and end there then.
    """
    for name in draft.save.files:
        for path in [node.path for node in _moved(draft.save.files[name].bound)]:
            _let_cover_elements(draft, name, path)


def _let_cover_elements(draft: Draft, name: str, path: str) -> None:
    node = draft.node(path)
    assert isinstance(node, FieldNode) and node.spec.seal is not None and node.spec.seal.span is not None
    start, end = node.spec.seal.span
    over = start, end if end > 0 else node.source.size + end
    for edge in over if end >= 0 else over[:1]:
        draft.begin_run(name, edge)
    if over[1] == node.source.size:
        _end_with_run(draft, name)
    node = draft.node(path)
    assert isinstance(node, FieldNode)
    names: Any = from_element(draft.file(name), over) if end < 0 else covered(draft.file(name), node, over)
    if names is not None:
        said = dict(draft.text.value(node.spec.where)["seal"])
        shaping.set_keys(draft.text, node.spec, {"seal": {**said, "over": names}})
        draft.read_again()


def _end_with_run(draft: Draft, name: str) -> None:
    """Let what follows the elements of a file, up to its end, be an unknown run, where nothing is described there."""
    bound = draft.file(name)
    flow = [child for child in bound.root.children if child.spec.address.base == "next"]
    if flow and flow[-1].end < bound.source.size and not touched(bound.root, flow[-1].end, bound.source.size):
        run = {"unknown": free_name(bound.root.spec, f"unknown_{flow[-1].end:x}")}
        draft.text.insert(bound.root.spec.layout_where, layout_index(flow[-1]) + 1, run)
        draft.read_again()


def _moved(bound: BoundFile | None) -> Iterator[FieldNode]:
    """The seals of a binary file whose range is said by an offset behind an element that may take another size."""
    children = bound.root.children if bound is not None and bound.spec.format == "binary" else []
    known = (child for child in children if child.spec.address.base == "next" or has_offset(child))
    first = min((child.end for child in known if varies(child)), default=0)
    for child in children if first else ():
        if not isinstance(child, FieldNode) or child.spec.seal is None or child.spec.of_file:
            continue
        if child.spec.seal.span is not None and max(child.spec.seal.span) >= first:
            yield child
