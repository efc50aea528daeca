"""Neighbours become a group, or the record of rows; rows go on as far as a count, a size, or a marker says."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import pairwise
from pathlib import Path
from typing import Any

from faithful_ledger.core.address import parse_path
from faithful_ledger.core.binding import BoundFile, FieldNode, GroupNode, Node, RowsNode, bind, find
from faithful_ledger.core.describe.placing import ADDRESS_KEYS, UNCHANGED, free_name, layout_index, touched
from faithful_ledger.core.describe.references import Reference, references
from faithful_ledger.core.describe.shaping import drop_listed, unknown_at, unknown_name
from faithful_ledger.core.errors import AddressError, EntryError
from faithful_ledger.core.template.loader import parse_template
from faithful_ledger.core.template.model import ElementSpec, Template
from faithful_ledger.core.template.rewriting import Hex, YamlText
from faithful_ledger.core.template.yaml_text import Where

__all__ = ["group", "neighbours", "repeat", "ungroup"]


def neighbours(bound: BoundFile, start: int, end: int) -> list[Node]:
    """The elements of one layout that the bytes [start, end) are, in their order.

    Raises:
        EntryError: the bytes begin or end within an element, or nothing describes some of them.
    """
    holder: GroupNode = bound.root
    while True:
        found = touched(holder, start, end)
        inner = found[0] if len(found) == 1 else None
        if isinstance(inner, RowsNode) and (number := inner.index_at(start)) is not None:
            item = inner.item(number)
            inner = item if isinstance(item, GroupNode) and item.start <= start and end <= item.end else None
        if not isinstance(inner, GroupNode) or (inner.start, inner.end) == (start, end):
            break
        holder = inner
    if not found or (found[0].start, max(each.end for each in found)) != (start, end):
        what = "the selected bytes do not begin and end with elements of one layout"
        raise EntryError(what, f"{UNCHANGED}; describe all of them first, be it as unknown")
    return found


def group(text: YamlText, template: Template, nodes: Sequence[Node], head: Mapping[str, Any]) -> str:
    """Put neighbours of one layout into a group or into rows, whose first keys are `head`; names that lead to them
    follow. A single group becomes rows itself. Returns the path of what was made.

    Raises:
        EntryError: there is something between them, or something outside needs what would be several.
    """
    kind, wanted = next(iter(head.items()))
    nodes = sorted(nodes, key=layout_index)
    holder = nodes[0].parent
    assert isinstance(holder, GroupNode)
    for before, node in pairwise(nodes):
        if before.end != node.start or layout_index(node) != layout_index(before) + 1:
            what = f"{node.path} does not follow right behind {before.path}"
            raise EntryError(what, f"{UNCHANGED}; describe what is between them first, be it as unknown")
    outside = [each for node in nodes for each in _from_outside(template, text, node.spec, nodes)]
    if kind == "rows":
        needed = next((each.by for each in outside if not each.listed), None)
        if needed is not None:
            what = f"{needed} needs one of these elements, and there would be several"
            raise EntryError(what, f"{UNCHANGED}; change what needs it first")
        for node in nodes:
            drop_listed(text, template, node.spec)
    single = nodes[0] if len(nodes) == 1 and isinstance(nodes[0], GroupNode) else None
    if kind == "rows" and single is not None:
        name = single.spec.name
        text.set_key(single.spec.where, "group", "rows")
        for key, value in {"flat": None, **head, "rows": None}.items():
            if key != "rows":
                text.set((*single.spec.where, key), value)
    else:
        name = free_name(holder.spec, str(wanted))
        if kind == "group":
            for each in outside:
                text.put(each.where, each.renamed(f"{name}.{each.text[slice(*each.spans[0])]}"))
        address = {key: value for key, value in text.value(nodes[0].spec.where).items() if key in ADDRESS_KEYS}
        if isinstance(address.get("at"), int):
            address["at"] = Hex(address["at"])
        for node in nodes:
            for key in ADDRESS_KEYS:
                text.set((*node.spec.where, key), None)
        text.wrap(
            holder.spec.layout_where,
            layout_index(nodes[0]),
            layout_index(nodes[-1]) + 1,
            {**head, kind: name, **address},
        )
    return f"{holder.path}.{name}" if holder.path else name


def _from_outside(template: Template, text: YamlText, spec: ElementSpec, nodes: Sequence[Node]) -> Iterator[Reference]:
    """What names an element, but for its neighbours that move with it."""
    within = [node.spec.where for node in nodes]
    for each in references(template, text, spec):
        if not any(each.where[: len(where)] == where for where in within):
            yield each


def ungroup(text: YamlText, template: Template, node: GroupNode) -> None:
    """Put the elements of a group into the layout around it, in its place.

    Raises:
        EntryError: the group is more than its elements, or something names it.
    """
    spec, holder = node.spec, node.parent
    keys = text.value(spec.where)
    address = {key: value for key, value in keys.items() if key in ADDRESS_KEYS}
    plain = {"group", "layout", "flat", "label", "note", "at"} >= set(keys) and isinstance(keys.get("at", 0), int)
    varying = bool(address) and any(part.fixed_size is None for part in spec.layout)
    if not isinstance(holder, GroupNode) or not plain or varying:
        what = f"{node.path} is more than its elements"
        raise EntryError(what, f"{UNCHANGED}; take its size, condition or place away first")
    if address and len(node.children) < len(spec.layout):
        raise EntryError(f"{node.path} is read only in part", f"{UNCHANGED}; mend what does not fit first")
    clash = next((part.name for part in spec.layout if holder.spec.named(part.name) not in (None, part)), None)
    if clash is not None:
        raise EntryError(f"“{clash}” is also an element around {node.path}", f"{UNCHANGED}; rename one of them first")
    for each in list(references(template, text, spec)):
        start, end = each.spans[0]
        if each.text[end : end + 1] != ".":
            raise EntryError(f"{node.path} is needed by {each.by}", f"{UNCHANGED}; change what needs it first")
        text.put(each.where, each.text[:start] + each.text[end + 1 :])
    where, index = _place(spec.where)
    for number, part in enumerate(keys["layout"]):
        found = {"at": Hex(node.children[number].start)} if address else {}
        text.insert(where, index + 1 + number, {**part, **found})
    text.remove(where, index)


def repeat(text: YamlText, bound: BoundFile, path: str, ends: Mapping[str, Any], folder: Path | None = None) -> None:
    """Let rows end where `ends` says: by `count`, `size` or `ended_by`. An unknown run behind them gives up what they
    take. The save was bound when rows were one record.

    Raises:
        EntryError: they would go on over what something else describes, or the save does not fit then.
    """
    rows = _bound_rows(text, bound, path, folder)
    holder = rows.parent
    assert isinstance(holder, GroupNode)
    where, index = _place(rows.spec.where)
    for key in ("count", "size", "ended_by"):
        text.set((*rows.spec.where, key), ends.get(key))
    run = unknown_at(holder, index + 1)
    run = run if run is not None and run.start == rows.end and run.spec.address.base == "next" else None
    if run is not None:
        text.remove(where, index + 1)
    again = _bound_rows(text, bound, path, folder)
    over = [
        each for each in touched(holder, rows.end, again.end) if not (isinstance(each, FieldNode) and each.spec.unknown)
    ]
    if over or (run is not None and again.end > run.end):
        what = over[0].path if over else f"what is behind {run.path}" if run is not None else ""
        raise EntryError(f"{path} would go on over {what}", f"{UNCHANGED}; choose fewer records")
    if run is not None and again.end < run.end:
        name = free_name(holder.spec, unknown_name(holder, again.end))
        text.insert(where, index + 1, {"unknown": name, "size": run.end - again.end})


def _bound_rows(text: YamlText, bound: BoundFile, path: str, folder: Path | None) -> RowsNode:
    """The rows at a path, bound as the text says now; what is behind them may not fit.

    Raises:
        EntryError: the save does not fit up to them.
    """
    spec = parse_template(bytes(text), "the template", folder).files[bound.spec.name]
    again = bind(spec, bound.source)
    try:
        (node,) = find(again.root, parse_path(path), path)
    except AddressError as error:
        what = again.problem.what if again.problem is not None else error.what
        raise EntryError(what, f"{UNCHANGED}; choose another end") from error
    if not isinstance(node, RowsNode):
        raise EntryError(f"{path} is not rows", UNCHANGED)
    return node


def _place(where: Where) -> tuple[Where, int]:
    *holder, index = where
    assert isinstance(index, int)
    return tuple(holder), index
