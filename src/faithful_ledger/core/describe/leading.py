"""Texts with their length in front, and records with their number in front, that come before what is described: where
they are longer, or more, it moves.

Saves of one player say the same in them, so that everything behind them seems to stay in its place.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Container, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from itertools import takewhile
from typing import Any, NamedTuple

from faithful_ledger.core.address import Expression
from faithful_ledger.core.binding import BoundFile, FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.binding.followers import dependents
from faithful_ledger.core.binding.spans import all_fields
from faithful_ledger.core.describe.draft import Draft
from faithful_ledger.core.describe.flow import has_offset, is_run, let_follow
from faithful_ledger.core.describe.placing import (
    add_element,
    free_name,
    layout_index,
    move_into_run,
    touched,
    without_address,
)
from faithful_ledger.core.describe.shaping import sections_of
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.in_front.elements import CountedRows, Element, Header, LeadingBytes, LeadingText
from faithful_ledger.core.in_front.records import LONGEST, RUNS, Block, Form, Part
from faithful_ledger.core.in_front.walk import FARTHEST, FORMS, in_front
from faithful_ledger.core.save import Save
from faithful_ledger.core.storage import NUMBERS
from faithful_ledger.core.template.keyed_records import KEY_NAME, KEYED_NOTE
from faithful_ledger.core.template.model import FieldSpec, GroupSpec, RowsSpec
from faithful_ledger.core.template.rewriting import Hex, YamlText

__all__ = [
    "KEY_NAME",
    "counted_by",
    "is_without_name",
    "leading",
    "let_begin_with",
    "let_belong",
    "let_lead",
    "text_in_records",
    "text_keys",
]

TEXT_NOTE = "its length is in front of it, and what is behind it moves when it is longer"
ROWS_NOTE = "their number is in front of them, and what is behind them moves when there are more"
ENDED_NOTE = "a zero ends it, and what is behind it moves when it is longer"
BYTES_NOTE = "their length is in front of them, and what is behind them moves with it"
NOTES = (TEXT_NOTE, ENDED_NOTE, ROWS_NOTE, KEYED_NOTE, BYTES_NOTE)
UNNAMED = re.compile(rf"(text|bytes|unknown)_[0-9a-f]+(_\d+)?|{KEY_NAME}")
MOST_IN_FRONT = 12  # texts and lists; more of them are one list
KEYS_REACH, MOST_LENGTH = 32, 4  # bytes up to another key, and of the length of one
KEY = re.compile(r"\w{3,}")
LABEL, LABEL_REACH = re.compile(rb"\w+"), 8  # and how many bytes behind it the number may be that it names


def let_lead(draft: Draft, others: Iterable[Mapping[str, BoundFile]], place: Place | None = None) -> None:
    """Describe the texts and records in front of elements at an offset, or at bytes that may be others for another
    player, and of what seals cover from an offset on, where other saves do not say something else. The last element is
    at a `place` that moves.
    """
    behind = {
        name: (held.bound, last)
        for name, held in draft.save.files.items()
        if held.bound is not None and (last := _last(held.bound)) is not None and last.start < FARTHEST
    }
    saves = list(others) if behind else []  # which are only bound then
    for name, (bound, last) in behind.items():
        seen = []
        for file in (bound, *(save[name] for save in saves if name in save)):
            content = bytes(file.source.read(0, min(file.source.size, FARTHEST)))
            at = place.offset_in(content) if place is not None else _start_of(last.node, file)
            if place is None or at is not None:
                seen.append((file, content, at))
        if not seen:
            continue
        files, contents, lasts = map(list, zip(*seen, strict=True))
        found, ends = in_front(contents, list(map(_flow_end, files)), lasts, (last.start, last.end))
        if len(found) > MOST_IN_FRONT:
            continue
        explains = None in lasts or len({(at or 0) - end for at, end in zip(lasts, ends, strict=True)}) == 1
        explains = explains or any(isinstance(each, CountedRows) and each.key is not None for each in found)
        if place is not None and not explains:
            continue
        if not explains:  # more is between, and records may be chance
            found = list(takewhile(lambda each: isinstance(each, LeadingText), found))
        is_room = place is None and (last.node is None or has_offset(last.node)) and len(set(ends)) > 1
        if is_room:  # records in a table of its own size, with room behind them
            found = [each for each in found if isinstance(each, LeadingText)]
        for each in found:
            _describe(draft, bound, each, last.node)
        if last.node is None and found:
            _begin_at(draft, name, last.start)
        if any(isinstance(each, CountedRows) for each in found):
            _let_begin(draft, files, ends)
    if behind:
        draft.read_again()


def let_belong(draft: Draft, others: Iterable[Mapping[str, BoundFile]]) -> None:
    """Let a field be part of what it is in: of described records one of each of them, and of an unknown run between
    elements that follow one another one that follows as well, where it is as far behind them in other saves. One that
    cannot be part of it stays where it is.
    """
    saves: list[Mapping[str, BoundFile]] | None = None
    for name in draft.save.files:
        alone: set[str] = set()
        while (found := _within(draft, name, alone)) is not None:
            node, around = found
            alone.add(node.path)
            if not has_offset(node):
                saves = list(others) if saves is None else saves
                steps = {_step(node, around, save.get(name)) for save in saves} - {None}
                if not _is_one_step(steps, node.start - around.start, around):
                    continue
            if isinstance(around, FieldNode):
                move_into_run(draft.text, around, node)
                draft.read_again()
            else:
                _let_be_of_each(draft, name, around, node)


def _let_be_of_each(draft: Draft, name: str, rows: Node, node: FieldNode) -> None:
    """Let a field be one of every record, if need be a narrower one, and show the records on the Edit sheet."""
    before, keys = bytes(draft.text), without_address(draft.text, node)
    for storage, start, end in _widths(node, str(keys["as"])):
        with suppress(LedgerError):
            draft.remove(node.path)
            draft.read_again()
            add_element(draft.text, draft.file(name), start, end, {**keys, "as": storage})
            tables = sections_of(draft.text)
            if not tables:
                draft.text.set(("sections",), [])
            if not any(section.get("table") == rows.path for section in tables):
                draft.text.insert(("sections",), len(tables), {"title": rows.spec.label, "table": rows.path})
            draft.read_again()
            if draft.save.problem is None:
                return
        draft.text = YamlText(before)
        draft.read_again()


def _widths(node: FieldNode, storage: str) -> Iterator[tuple[str, int, int]]:
    """The storage of a field and where its bytes are, and narrower ones that say the same."""
    yield storage, node.start, node.end
    if (parts := re.fullmatch(r"([ui])(16|32|64)(le|be)", storage)) is None:
        return
    kind, widest, order = parts[1], int(parts[2]) // 8, parts[3]
    for width in (width for width in (4, 2, 1) if width < widest):
        start = node.start if order == "le" else node.end - width
        raw = node.source.read(start, start + width)
        if int.from_bytes(raw, "little" if order == "le" else "big", signed=kind == "i") == node.value:
            yield f"{kind}{8 * width}{order if width > 1 else ''}", start, start + width


def _within(draft: Draft, name: str, alone: Container[str]) -> tuple[FieldNode, Node] | None:
    """A field that is found by an offset, or by bytes near it, and the element that it is within; none of some."""
    bound = draft.save.files[name].bound
    for node in _moving(bound) if bound is not None else ():
        if bound is None or not isinstance(node, FieldNode) or not node.spec.is_free or node.path in alone:
            continue
        for around in _through_flat(bound.root):
            leads = around.spec.address.base == "next" and is_run(around)
            is_rows = isinstance(around, RowsNode) and around.spec.note == ROWS_NOTE
            if (leads or is_rows) and around.start <= node.start and node.end <= around.end:
                return node, around
    return None


def _step(node: Node, around: Node, bound: BoundFile | None) -> int | None:
    """How far behind the beginning of an element another one is in a save; None where one of both is not found."""
    children = {each.spec.name: each for each in _through_flat(bound.root)} if bound is not None else {}
    here, there = children.get(around.spec.name), children.get(node.spec.name)
    return there.start - here.start if here is not None and there is not None else None


def _is_one_step(steps: Collection[int | None], step: int, around: Node) -> bool:
    """Whether something is as far behind the beginning of an element in all saves; of records that have a key, in any
    of them.
    """
    item = around.spec.item if isinstance(around, RowsNode) else None
    keyed = isinstance(item, GroupSpec) and item.named(KEY_NAME) is not None
    if not keyed or not isinstance(around, RowsNode) or not around.count:
        return set(steps) == {step}
    size = (around.end - around.start) // around.count
    return all(each is not None and each % size == step % size for each in steps)


def _through_flat(holder: GroupNode) -> Iterator[Node]:
    """The elements of a group, and of those within it that only frame others."""
    for child in holder.children:
        yield child
        if isinstance(child, GroupNode) and child.spec.flat:
            yield from _through_flat(child)


def leading(save: Save, place: Place | None = None) -> str | None:
    """The path of an element that was described only because others follow it: of the first one, or of the text at a
    place. Of records in which something has a name of its own only that of a text in them at a place. What a seal
    follows stays.
    """
    for file in save.files.values():
        nodes = list(_through_flat(file.bound.root)) if file.bound is not None else []
        numbers = {size.text for node in nodes if (size := counted_by(node)) is not None}
        sealed = max((each.start for each in nodes if _is_sealed(each)), default=0) if place is None else 0
        for node in nodes:
            if node.spec.note not in NOTES or node.spec.name in numbers or node.start < sealed:
                continue  # a number goes when its records or bytes are gone
            is_number = isinstance(node, FieldNode) and not node.spec.unknown
            is_left = is_number and node.spec.note in (ROWS_NOTE, BYTES_NOTE)
            if is_left or (_is_unnamed(node) if place is None else _is_text_at(node, place)):
                return node.path
    return None


def counted_by(node: Node) -> Expression | None:
    """What says how many records there are, or how many bytes an unknown run has."""
    spec = node.spec
    if isinstance(spec, RowsSpec):
        return spec.count
    return spec.size if isinstance(spec, FieldSpec) and spec.unknown else None


def _is_sealed(node: Node) -> bool:
    """Whether it is a seal that is found by what is in front of it."""
    return isinstance(node, FieldNode) and node.spec.seal is not None and node.spec.address.base == "next"


def text_in_records(save: Save, place: Place) -> FieldNode | None:
    """The text without a name of its own in described records that is at a place."""
    for file in save.files.values():
        children = file.bound.root.children if file.bound is not None else []
        described = (node for node in children if isinstance(node, RowsNode) and node.spec.note == ROWS_NOTE)
        fields = (node for rows in described for node in all_fields(rows) if _is_text_at(node, place))
        if (found := next(fields, None)) is not None:
            return found
    return None


def _is_text_at(node: Node, place: Place) -> bool:
    """Whether it is a text without a name that a place, in the newest or the oldest of its saves, is in."""
    is_here = any(node.start < at < node.end for at in (place.offsets[-1], place.offsets[0]))
    return is_here and isinstance(node, FieldNode) and is_without_name(node) and node.value in place.values


def is_without_name(node: Node) -> bool:
    """Whether it is a text or bytes that were described only because others follow, and that nobody gave a name."""
    holder: Node | None = node
    while holder is not None and holder.spec.note not in NOTES:
        holder = holder.parent
    return holder is not None and UNNAMED.fullmatch(node.spec.name) is not None


def _is_unnamed(node: Node) -> bool:
    """Whether nobody gave a name to something in it."""
    item = node.spec.item if isinstance(node, RowsNode) else None
    elements = item.layout if isinstance(item, GroupSpec) else [node.spec]
    return all(UNNAMED.fullmatch(spec.name) for spec in elements)


def _moving(bound: BoundFile) -> list[Node]:
    """The elements of a binary file that are not found by what is in front of them, in their order."""
    children = bound.root.children if bound.spec.format == "binary" and not bound.spec.keeps_size else []
    return sorted(
        (node for node in children if has_offset(node) or _is_loose(bound, node)), key=lambda node: node.start
    )


class _Last(NamedTuple):
    """What is the farthest behind in a file that is not found by what is in front of it: an element, or what a seal
    covers from an offset on.
    """

    start: int
    end: int
    node: Node | None = None


def _last(bound: BoundFile) -> _Last | None:
    """The last one in a binary file; None where there is none."""
    found = [_Last(node.start, node.end, node) for node in _moving(bound)]
    if bound.spec.format == "binary" and not bound.spec.keeps_size:
        seals = (node.spec.seal for node in dependents(bound.root, measured=False))
        found += [_Last(seal.span[0], seal.span[0]) for seal in seals if seal is not None and seal.span is not None]
    return max(found, key=lambda each: each.start, default=None)


def _is_loose(bound: BoundFile, node: Node) -> bool:
    """Whether it is found by bytes that do not name it, and may be others in another save, or from the end, in front of
    which something may be longer there.
    """
    address = node.spec.address
    if address.base == "end":
        return isinstance(node, FieldNode) and node.spec.is_free
    return address.base in ("behind", "before") and not _is_named_by_label(bound, node)


def _is_named_by_label(bound: BoundFile, node: Node) -> bool:
    """Whether it is found by a word in front of it that is not the end of a longer text, and where that has its length
    in front, not the only text there: keys come in numbers.
    """
    address = node.spec.address
    gap = address.offset.constant if address.offset is not None else None
    if address.base != "behind" or not LABEL.fullmatch(address.run) or gap is None:
        return False
    if not 0 <= gap - len(address.run) <= LABEL_REACH:
        return False
    first = max(node.start - gap - LONGEST, 0)
    content = bytes(bound.source.read(first, min(node.end + LONGEST, bound.source.size)))
    begin = node.start - gap - first
    end, behind = begin + len(address.run), node.end - first
    held = [(at, text[1]) for at in range(begin) for form in FORMS[1] if (text := form.read(content, at)) is not None]
    widths = {begin - at for at, until in held if until >= end}
    if not widths:
        return True
    near = (*range(max(begin - KEYS_REACH, 0), begin), *range(behind, min(behind + KEYS_REACH, len(content))))
    letters = [run.start() for run in RUNS[1].finditer(content)]
    texts = ((at - form.width, form.read(content, at - form.width)) for at in letters for form in FORMS[1])
    starts = {at for at, text in texts if text is not None and KEY.fullmatch(text[0])}
    return max(widths) <= MOST_LENGTH and not starts.isdisjoint(set(near) - {begin - width for width in widths})


def _flow(bound: BoundFile) -> list[Node]:
    return [node for node in bound.root.children if node.spec.address.base == "next"]


def _flow_end(bound: BoundFile) -> int:
    return max((node.end for node in _flow(bound)), default=bound.root.start)


def _start_of(node: Node | None, bound: BoundFile) -> int | None:
    """Where an element is in another save; None where it is at the same offset by its description alone."""
    if node is None:
        return None
    there = (each for each in bound.root.children if each.spec.name == node.spec.name)
    return next((each.start for each in there), None) if not has_offset(node) else None


def _let_begin(draft: Draft, files: Sequence[BoundFile], ends: Sequence[int]) -> None:
    """Let elements begin where they are that are as far behind the last element in all saves: they follow it then."""
    first = files[0].root
    for node in (each for each in first.children if _is_loose(files[0], each)):
        steps = {
            (start if (start := _start_of(node, each)) is not None else -1) - end
            for each, end in zip(files, ends, strict=True)
        }
        if len(steps) == 1 and min(steps) >= 0:
            where = (*first.spec.layout_where, layout_index(node))
            for key, value in {"behind": None, "before": None, "at": Hex(node.start)}.items():
                draft.text.set((*where, key), value)


def _describe(draft: Draft, bound: BoundFile, found: Element, place: Node | None = None) -> None:
    """Describe an element where nothing is described yet, but for a place within records, which is one of each then."""
    root = bound.root
    there = touched(root, found.start, found.start + found.size)
    if there and not (isinstance(found, CountedRows) and there == [place]):
        return
    for keys in reversed(_keys(root.spec, found)):
        draft.text.insert(root.spec.layout_where, len(root.spec.layout), keys)


def let_begin_with(draft: Draft, name: str, header: Header) -> None:
    """Describe what a binary file begins with, in front of what is to be described, and let the rest follow it."""
    bound = draft.file(name)
    end = header.ends[0]
    if end == _flow_end(bound) or any(end in (node.start, node.end) for node in _flow(bound)):
        return
    for found in header.elements:
        _describe(draft, draft.file(name), found)
        draft.read_again()
    _begin_at(draft, name, end)
    let_follow(draft.text, draft.file(name))
    draft.read_again()


def _begin_at(draft: Draft, name: str, start: int) -> None:
    """Let an unknown run begin at an offset of a file, where nothing is described from there on but what is found by
    bytes near it.
    """
    bound = draft.file(name)
    if all(node.spec.address.is_found for node in touched(bound.root, start, bound.source.size)):
        root = bound.root.spec
        run = {"unknown": free_name(root, f"unknown_{start:x}"), "at": Hex(start)}
        draft.text.insert(root.layout_where, len(root.layout), run)
        draft.read_again()


def _keys(root: GroupSpec, found: Element) -> list[dict[str, Any]]:
    """The elements of a template for what was found in front of a place, which nobody gave a name."""
    if isinstance(found, LeadingText):
        return [text_keys(root, found)]
    return _bytes(root, found) if isinstance(found, LeadingBytes) else _rows(root, found)


def _bytes(root: GroupSpec, found: LeadingBytes) -> list[dict[str, Any]]:
    """The length of some bytes, and these."""
    begin = found.start + NUMBERS[found.size_as].least_size
    size, block = free_name(root, f"size_{found.start:x}"), free_name(root, f"bytes_{begin:x}")
    note = {"note": BYTES_NOTE}
    length = {"field": size, "as": found.size_as, "length_of": block, "at": Hex(found.start), **note}
    return [{**length, "standing": "guessed"}, {"unknown": block, "at": Hex(begin), "size": size, **note}]


def text_keys(root: GroupSpec, found: LeadingText) -> dict[str, Any]:
    """A text behind its length as an element of a template, which nobody gave a name."""
    return {
        "field": free_name(root, f"text_{found.start:x}"),
        "as": "text",
        "encoding": found.encoding,
        **found.end.keys,
        "at": Hex(found.start),
        "label": f"Text at 0x{found.start:X}",
        "note": TEXT_NOTE if found.end.prefix else ENDED_NOTE,
        "standing": "guessed",
    }


def _rows(root: GroupSpec, found: CountedRows) -> list[dict[str, Any]]:
    """The number of some records, and these."""
    count, begin = free_name(root, f"count_{found.start:x}"), found.start + NUMBERS[found.count_as].least_size
    rows = free_name(root, f"rows_{begin:x}")
    return [
        {
            "field": count,
            "as": found.count_as,
            "count_of": rows,
            "at": Hex(found.start),
            "label": f"Number at 0x{found.start:X}",
            "note": ROWS_NOTE,
            "standing": "guessed",
        },
        {
            "rows": rows,
            "at": Hex(begin),
            "count": count,
            "label": f"Records at 0x{begin:X}",
            "note": ROWS_NOTE,
            "layout": _layout(found.record) if found.key is None else _with_key(found.record, found.key),
        },
    ]


def _with_key(record: Sequence[Part], key: tuple[int, int]) -> list[dict[str, Any]]:
    """The elements of a record of so many bytes with the number that no other one has."""
    (size,), (start, end) = record, key
    assert isinstance(size, int)
    field = {"field": KEY_NAME, "as": f"u{8 * (end - start)}", "label": "Id", "standing": "guessed"}
    front = [{"unknown": "bytes_1", "size": start}] if start else []
    return [*front, field, *([{"unknown": "bytes_2", "size": size - end}] if end < size else [])]


def _layout(parts: Sequence[Part], number: int = 1) -> list[dict[str, Any]]:
    """The elements of a record, with numbers in their names; what is between its texts and lists is unknown."""
    layout = list[dict[str, Any]]()
    for part in parts:
        if isinstance(part, int):
            layout.append({"unknown": f"bytes_{number}", "size": part})
            continue
        if isinstance(part, Form):
            layout.append({"field": f"text_{number}", "as": "text", "encoding": part.encoding, **part.end.keys})
        elif isinstance(part, Block):
            size, block, inner = f"size_{number}", f"block_{number}", _layout(part.parts, number + 1)
            layout.append({"field": size, "as": part.size_as, "length_of": block})
            layout.append({"group": block, "size": size, "flat": True, "layout": inner})
            number += len(inner)
        else:
            count, rows = f"count_{number}", f"rows_{number}"
            layout.append({"field": count, "as": part.count_as, "count_of": rows})
            layout.append({"rows": rows, "count": count, "layout": _layout(part.record)})
        number += 1
    return layout
