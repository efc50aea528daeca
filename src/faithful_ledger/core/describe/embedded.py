"""Texts of a known format, as JSON, behind their length in a binary file: a value in one is found by its path, and may
take as many letters as it needs.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from faithful_ledger.core.binding import BoundFile, FieldNode
from faithful_ledger.core.describe.draft import Draft
from faithful_ledger.core.describe.leading import text_keys
from faithful_ledger.core.describe.placing import free_name, without_address
from faithful_ledger.core.formats import recognised_text
from faithful_ledger.core.in_front.elements import LeadingText
from faithful_ledger.core.in_front.text_ends import FIXED, TextEnd
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.storage import NUMBERS, number_at

__all__ = ["let_be_in_texts"]

OPENING = b"{[<"
FARTHEST = 1 << 20  # bytes in front of a value that its text may have
NOTE = "its length is in front of it, and the values in it have paths"


class _Around(NamedTuple):
    """The text around a value: where its length and itself begin, where it ends, the storage of the length, its format,
    and the path of the value.
    """

    start: int
    begin: int
    end: int
    prefix: str
    format: str
    path: str

    @property
    def kind(self) -> tuple[str, str, str]:
        return self.prefix, self.format, self.path


def let_be_in_texts(draft: Draft, others: Iterable[Mapping[str, BoundFile]]) -> None:
    """Let fields of a binary file that are values of a text behind its length be fields of that text, where other saves
    do not say something else.
    """
    saves: list[Mapping[str, BoundFile]] | None = None
    for name in list(draft.save.files):
        bound = draft.save.files[name].bound
        for node in _values(bound) if bound is not None else ():
            if (around := _around(bound, node)) is None:
                continue
            saves = list(others) if saves is None else saves
            there = [_around(save[name], found) for save in saves if (found := _same(save.get(name), node)) is not None]
            if all(each is not None and each.kind == around.kind for each in there):
                _let_be_in(draft, name, node, around)


def _values(bound: BoundFile | None) -> list[FieldNode]:
    """The fields of a binary file that are spelled out, each found for itself."""
    if bound is None or bound.spec.format != "binary":
        return []
    return [node for node in bound.root.children if isinstance(node, FieldNode) and _kind_of(node)]


def _kind_of(node: FieldNode) -> str:
    """What a value that is spelled out is in a text, a number or a text; empty where it is neither, or has a length."""
    if not node.spec.is_free or node.spec.address.base not in ("start", "behind", "before"):
        return ""
    name = node.spec.storage.name
    return "number" if name.startswith("digits") and "utf16" not in name else "text" if name == "text" else ""


def _same(bound: BoundFile | None, node: FieldNode) -> FieldNode | None:
    found = (each for each in _values(bound) if each.spec.name == node.spec.name)
    return next(found, None)


def _around(bound: BoundFile | None, node: FieldNode) -> _Around | None:
    """The text around a field, if its length is in front of it."""
    if bound is None:
        return None
    first = max(node.start - FARTHEST, 0)
    content = bytes(bound.source.read(first, bound.source.size))
    value = node.start - first, node.end - first
    for begin, end, prefix in _texts(content, value):
        document = recognised_text(MemorySource(content[begin:end]))
        for leaf in document.leaves() if document is not None else ():
            low, high = begin + leaf.start, begin + leaf.end
            if low <= value[1] and value[0] <= high and _is_all(content, (low, high), value):
                width = NUMBERS[prefix].least_size
                assert document is not None
                return _Around(first + begin - width, first + begin, first + end, prefix, document.name, leaf.path)
    return None


def _texts(content: bytes, value: tuple[int, int]) -> Iterator[tuple[int, int, str]]:
    """Where texts around a value may begin and end, by the length in front of them."""
    for begin in range(value[0] - 1, -1, -1):
        if content[begin] < 9:
            return
        if content[begin] not in OPENING:
            continue
        for prefix in FIXED:
            size = number_at(content, begin - NUMBERS[prefix].least_size, prefix)
            end = begin + size if size is not None else 0
            if value[1] <= end <= len(content):
                yield begin, end, prefix


def _is_all(content: bytes, leaf: tuple[int, int], value: tuple[int, int]) -> bool:
    """Whether a value is all of what a leaf of a text has, but for quotes and blanks."""
    low, high = min(leaf[0], value[0]), max(leaf[1], value[1])
    beside = content[low : value[0]] + content[value[1] : high]
    return not beside.strip(b" \"'") and not content[low : leaf[0]].strip() and not content[leaf[1] : high].strip()


def _let_be_in(draft: Draft, name: str, node: FieldNode, around: _Around) -> None:
    keys = without_address(draft.text, node) | {"as": _kind_of(node), "at": around.path}
    for key in ("size", "pad", "ended_by", "encoding"):
        keys.pop(key, None)
    sections = [section for section in draft.template.sections if node.path in section.fields]
    draft.remove(node.path)
    draft.read_again()
    payload = _payload(draft, name, around)
    root = draft.text_file(payload).spec.root
    keys["field"] = free_name(root, node.spec.name)
    draft.text.insert(root.layout_where, len(root.layout), keys)
    draft.read_again()
    for section in sections:
        draft.show_in(f"{payload}.{keys['field']}", section.title)
        draft.read_again()


def _payload(draft: Draft, name: str, around: _Around) -> str:
    """The file of the template that the text is; it is described where it is not there."""
    root = draft.file(name).root
    known = (each for each in root.children if each.start <= around.begin and each.end == around.end)
    field = next((each.spec.name for each in known if isinstance(each, FieldNode) and not each.spec.unknown), "")
    for inner, spec in draft.template.files.items():
        if field and spec.inside == name and spec.held_by == field and not spec.layers:
            return inner
    if not field:
        text = LeadingText(around.start, around.end - around.start, "utf-8", TextEnd(around.prefix))
        keys = text_keys(root.spec, text) | {"note": NOTE}
        field = str(keys["field"])
        draft.text.insert(root.spec.layout_where, len(root.spec.layout), keys)
        draft.read_again()
    return draft.declare(f"{name}.{field}", (), around.format)
