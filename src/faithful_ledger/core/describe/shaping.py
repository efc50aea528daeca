"""Changes to one element that is there: its name, its keys, its borders, and taking it out again."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from faithful_ledger.core.binding import FieldNode, GroupNode, Node
from faithful_ledger.core.describe.placing import (
    ADDRESS_KEYS,
    UNCHANGED,
    free_name,
    layout_index,
    overlap,
    touched,
)
from faithful_ledger.core.describe.references import references
from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.template.model import ElementSpec, GroupSpec, Template
from faithful_ledger.core.template.rewriting import Hex, YamlText
from faithful_ledger.core.template.schema import ELEMENT_KINDS
from faithful_ledger.core.template.yaml_text import Where

__all__ = ["drop_listed", "kind_of", "list_in", "remove", "resize", "set_keys", "set_name", "unknown_at"]


def kind_of(text: YamlText, spec: ElementSpec) -> str:
    """Whether an element is a field, constant, unknown, group or rows."""
    keys = text.value(spec.where)
    return next(kind for kind in ELEMENT_KINDS if kind in keys)


def set_name(text: YamlText, template: Template, spec: ElementSpec, name: str) -> None:
    """Give an element another name, also wherever the template names it.

    Raises:
        EntryError: another element of its group has the name.
    """
    if name == spec.name:
        return
    holder = spec.parent
    if not isinstance(holder, GroupSpec):
        raise EntryError(f"{spec.name} has no name of its own", UNCHANGED)
    if free_name(holder, name) != name:
        raise EntryError(f"“{name}” is another element here already", f"{UNCHANGED}; choose another name")
    for each in list(references(template, text, spec)):
        text.put(each.where, each.renamed(name))
    text.put((*spec.where, kind_of(text, spec)), name)


def set_keys(text: YamlText, spec: ElementSpec, keys: Mapping[str, Any]) -> None:
    """Give an element's keys other values; None takes a key away."""
    for key, value in keys.items():
        text.set((*spec.where, key), value)


def remove(text: YamlText, template: Template, node: Node) -> None:
    """Take an element out of the template; where others are found by its end, its bytes become an unknown run.

    Raises:
        EntryError: something else needs it.
    """
    spec, holder = node.spec, node.parent
    if not isinstance(holder, GroupNode):
        raise EntryError(f"{node.path} is what each record is", f"{UNCHANGED}; remove the rows as a whole")
    used = [each.by for each in references(template, text, spec) if not each.listed]
    if used:
        names = ", ".join(dict.fromkeys(used))
        raise EntryError(f"{node.path} is needed by {names}", f"{UNCHANGED}; change what needs it first")
    drop_listed(text, template, spec)
    *before, index = spec.where
    where = tuple(before)
    assert isinstance(index, int)
    if not _is_followed(holder, node) or not node.size:
        text.remove(where, index)
    elif spec.fixed_size is None:
        what = f"{node.path} has a size that varies, and what is behind it is found by where it ends"
        raise EntryError(what, f"{UNCHANGED}; remove what is behind it first, or rename it")
    else:
        keys = {key: value for key, value in text.value(spec.where).items() if key in (*ADDRESS_KEYS, "when")}
        name = free_name(holder.spec, unknown_name(holder, node.start))
        text.replace(spec.where, {"unknown": name, "size": spec.fixed_size, **keys})
        _merge(text, where, index)


def sections_of(text: YamlText) -> list[dict[str, Any]]:
    """The sections of the Edit sheet as the text says them."""
    found: list[dict[str, Any]] = text.value(("sections",)) if text.has(("sections",)) else []
    return found


def list_in(text: YamlText, title: str, path: str) -> None:
    """Add a path to a section of the Edit sheet; one that is not there is made."""
    sections = sections_of(text)
    number = next((n for n, part in enumerate(sections) if part.get("title") == title and "fields" in part), None)
    if number is None:
        if not text.has(("sections",)):
            text.set(("sections",), [])
        text.insert(("sections",), len(sections), {"title": title, "fields": [path]})
    else:
        where = ("sections", number, "fields")
        text.put(where, [*text.value(where), path])


def drop_listed(text: YamlText, template: Template, spec: ElementSpec, only: str = "") -> None:
    """Take an element off the Edit sheet and out of other lists, or out of those `only` that begin with a key."""
    listed = [
        each.where
        for each in references(template, text, spec)
        if each.listed and each.where[0] == (only or each.where[0])
    ]
    for *holder, number in sorted(listed, key=lambda where: int(where[-1]), reverse=True):
        assert isinstance(number, int)
        text.remove(tuple(holder), number)


def unknown_name(holder: GroupNode, start: int) -> str:
    """What an unknown run that begins at an offset is called; in a record it is counted from its beginning."""
    return f"unknown_{start - (holder.start if holder.index is not None else 0):x}"


def _is_followed(holder: GroupNode, node: Node) -> bool:
    """Whether where something else is depends on where an element ends."""
    if node.spec.address.base != "next":
        return False
    if any(each.address.base == "next" for each in holder.spec.layout[layout_index(node) + 1 :]):
        return True
    return holder.parent is not None and holder.spec.size is None  # a record is as long as its parts


def _merge(text: YamlText, where: Where, index: int) -> None:
    """Make one of unknown runs of known size that are one behind the other."""

    def is_run(number: int, *, alone: bool) -> bool:
        keys = layout[number] if 0 <= number < len(layout) else {}
        run = "unknown" in keys and isinstance(keys.get("size"), int) and "when" not in keys
        return run and (not alone or len(keys) == 2)

    for left in (index, index - 1):
        layout = text.value(where)
        if is_run(left, alone=False) and is_run(left + 1, alone=True):
            text.set((*where, left, "size"), layout[left]["size"] + layout[left + 1]["size"])
            text.remove(where, left + 1)


def resize(text: YamlText, node: FieldNode, start: int, end: int, keys: Mapping[str, Any]) -> None:
    """Let a field cover the bytes [start, end) instead; `keys` are those that a storage of the new size needs. What it
    gives up becomes unknown, and what it takes has to be.

    Raises:
        EntryError: something else describes these bytes, or an expression says where the field is.
    """
    holder = node.parent
    if not isinstance(holder, GroupNode) or holder.spec.word is not None or start >= end:
        raise EntryError(f"{node.path} cannot be moved by itself", UNCHANGED)
    others = [each for each in touched(holder, start, end) if each is not node]
    described = [each for each in others if not (isinstance(each, FieldNode) and each.spec.unknown)]
    if described:
        raise overlap(start, end, described)
    *before, index = node.spec.where
    where = tuple(before)
    assert isinstance(index, int)
    address = node.spec.address
    if address.base == "next":
        if node.end != end and (unknown_at(holder, index + 1) is not None or _is_followed(holder, node)):
            _give(text, where, index + 1, unknown_at(holder, index + 1), node.end - end, unknown_name(holder, end))
        if node.start != start:
            run = unknown_at(holder, index - 1)
            index += _give(
                text, where, index - (run is not None), run, start - node.start, unknown_name(holder, node.start)
            )
    elif start != node.start:
        if address.base not in ("start", "end") or address.offset is None or address.offset.constant is None:
            what = f"{node.path} is found by {address.in_words()}, so its beginning cannot be moved"
            raise EntryError(what, f"{UNCHANGED}; change where it is in the margin")
        moved = address.offset.constant + start - node.start
        text.set((*where, index, "at"), Hex(moved))
    for key, value in keys.items():
        text.set((*where, index, key), value)


def unknown_at(holder: GroupNode, index: int) -> FieldNode | None:
    """The unknown run of known size that is a certain element of a layout, and follows the one before it."""
    for child in holder.children:
        if isinstance(child, FieldNode) and child.spec.unknown and layout_index(child) == index:
            return child if child.spec.size is not None and child.spec.size.constant is not None else None
    return None


def _give(text: YamlText, where: Where, index: int, run: FieldNode | None, given: int, name: str) -> int:
    """Give bytes to an unknown run, or take some from it where `given` is negative; without a run one is made at an
    index of the layout. Returns how many elements there are more.
    """
    if run is None and given > 0:
        text.insert(where, index, {"unknown": name, "size": given})
        return 1
    if run is None or run.size + given < 0:
        what = f"{run.path} has only {run.size} bytes" if run is not None else "nothing unknown is beside it"
        raise EntryError(f"the field cannot take {-given} bytes: {what}", f"{UNCHANGED}; narrow what is there first")
    if run.size + given:
        text.set((*where, index, "size"), run.size + given)
        return 0
    text.remove(where, index)
    return -1
