"""A reference sheet of a template: what is where, stored as what, meaning what, and how sure it is.

With a save, offsets and values are those of the save; without one, offsets are given where they are the same in every
save.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

from faithful_ledger.core.binding import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.save import Save
from faithful_ledger.core.storage import Choice, Switches
from faithful_ledger.core.storage.lettering import visible
from faithful_ledger.core.template.model import (
    Bounds,
    ElementSpec,
    FieldSpec,
    FileSpec,
    GroupSpec,
    RowsSpec,
    Template,
)
from faithful_ledger.core.template.seal_spec import SealSpec

__all__ = ["Format", "reference_sheet"]

PAGES = Path(__file__).parent
MOST_NAMES = 400
Format = Literal["markdown", "html"]


@dataclass
class Line:
    """One element: how deep it is, where it is, what it is called, how it is stored, what it means, how sure it is."""

    depth: int
    offset: str
    name: str
    stored: str
    meaning: str
    standing: str
    value: str = ""


@dataclass
class Names:
    """Names of values, by the paths of the fields that use them."""

    title: str
    kind: str
    names: list[tuple[int, str]]
    used_by: list[str] = field(default_factory=list)


def reference_sheet(template: Template, style: Format = "markdown", save: Save | None = None) -> str:
    """The sheet as a text in Markdown, or as a page in HTML that needs nothing else."""
    from jinja2 import Environment, FileSystemLoader

    environment = Environment(
        loader=FileSystemLoader(PAGES), autoescape=style == "html", trim_blocks=True, lstrip_blocks=True
    )
    environment.filters["cell"] = _cell
    page = environment.get_template("sheet.html.jinja" if style == "html" else "sheet.md.jinja")
    files = []
    for spec in template.files.values():
        bound = save.files[spec.name].bound if save is not None and spec.name in save.files else None
        lines = list(_lines(spec.root, 0, bound.root if bound is not None else None, spec))
        files.append({"spec": spec, "about": _file_in_words(spec), "lines": lines})
    rules = [f"{rule.left} = {rule.right}{_why(rule.why)}" for rule in template.rules]
    rules += [f"{rule.path} says what the file's name says{_why(rule.why)}" for rule in template.name_rules]
    return page.render(
        template=template,
        save=save.path.name if save is not None else "",
        files=files,
        names=_names(template),
        rules=rules,
        with_values=save is not None,
        sure=_sureness(template),
    )


def _cell(text: str) -> str:
    """A text for a cell of a Markdown table."""
    return text.replace("|", "\\|").replace("\n", " ")


def _why(why: str) -> str:
    return f" ({why})" if why else ""


def _file_in_words(spec: FileSpec) -> str:
    if spec.inside:
        layers = " → ".join(layer.step for layer in spec.layers)
        around = spec.held_by or spec.inside
        return f"inside {around}{f', through {layers}' if layers else ''}; {spec.format}"
    order = {"little": "low byte first", "big": "high byte first"}[spec.order]
    return f"{spec.file_name}; {spec.format}{f', {order}' if spec.format == 'binary' else ''}"


def _lines(group: GroupSpec, depth: int, node: Node | None, spec: FileSpec, start: int | None = 0) -> Iterator[Line]:
    """The elements of a group; of rows the record once, with offsets from its beginning."""
    children = node.names if isinstance(node, GroupNode) else {}
    for element, at in group.placed(start if spec.format == "binary" else None):
        child = children.get(element.name)
        child = child if child is not None and child.spec is element else None
        yield Line(
            depth,
            _offset(element, at, child, group, spec),
            element.label or element.name,
            _stored(element),
            _meaning(element),
            element.standing if isinstance(element, FieldSpec) and not element.unknown else "",
            _value(child),
        )
        if isinstance(element, GroupSpec):
            yield from _lines(element, depth + 1, child, spec, at if element.word is None else None)
        elif isinstance(element, RowsSpec) and isinstance(element.item, GroupSpec) and not element.holds_itself:
            first = child.item(0) if isinstance(child, RowsNode) and child.count else None
            yield from _lines(element.item, depth + 1, first, spec)


def _offset(element: ElementSpec, at: int | None, node: Node | None, group: GroupSpec, spec: FileSpec) -> str:
    address = element.address
    if address.path is not None:
        return address.path.text
    inside = isinstance(group.parent, RowsSpec) or (group.name == "item" and group.parent is None)
    if address.base != "next":
        words = address.in_words()
        return words if address.base != "start" or node is None else f"0x{node.start:X} ({node.start})"
    if at is not None:
        return f"+0x{at:X}" if _in_record(group) or inside else f"0x{at:X} ({at})"
    if node is not None and not _in_record(group):
        return f"0x{node.start:X} ({node.start})"
    return "behind the one before"


def _in_record(group: GroupSpec) -> bool:
    holder: GroupSpec | RowsSpec | None = group
    while holder is not None:
        if isinstance(holder, RowsSpec):
            return True
        holder = holder.parent
    return False


def _stored(element: ElementSpec) -> str:
    if isinstance(element, GroupSpec):
        return f"bits of {element.word.name}" if element.word is not None else f"group{_ends(element)}"
    if isinstance(element, RowsSpec):
        return f"rows{_ends(element)}{'; records like the one they are in' if element.holds_itself else ''}"
    assert isinstance(element, FieldSpec)
    if element.unknown:
        return f"{f'{element.size.text} bytes' if element.size is not None else 'all bytes up to the end'}, unknown"
    if element.constant is not None:
        return f"always {element.constant.hex(' ').upper()}"
    return element.storage.about


def _ends(element: GroupSpec | RowsSpec) -> str:
    if isinstance(element, RowsSpec) and element.count is not None:
        return f", {element.count.text} of them"
    if element.size is not None:
        return f", {element.size.text} bytes"
    if isinstance(element, RowsSpec) and element.ended_by is not None:
        return f", up to {element.ended_by.hex(' ').upper()}"
    return ""


def _meaning(element: ElementSpec) -> str:
    parts = []
    if isinstance(element, FieldSpec):
        if element.derived is not None:
            bias = f" {element.derived.plus:+d}" if element.derived.plus else ""
            parts.append(f"{element.derived.kind} of {element.subject(element.derived.target)}{bias}")
        if element.seal is not None:
            parts.append(_seal(element, element.seal))
        if element.unit:
            parts.append(f"in {element.unit}")
        if element.bounds is not None:
            parts.append(_bounds(element.bounds))
        if isinstance(element.storage, Switches | Choice):
            parts.append("bits: see names" if isinstance(element.storage, Switches) else "see names")
        if element.locked and element.constant is None:
            parts.append(f"not to be changed: {element.locked}")
    if isinstance(element, RowsSpec) and element.key:
        parts.append(f"identified by {element.key}")
    if element.when is not None:
        parts.append(f"only if {element.when.text}")
    if element.note:
        parts.append(element.note)
    return "; ".join(parts)


def _seal(field: FieldSpec, seal: SealSpec) -> str:
    if seal.span is not None:
        end = "the end" if not seal.span[1] else str(seal.span[1])
        over = f"{seal.span[0]} to {end}"
    else:
        over = field.subject(seal.elements_in_words)
    own = f"; {seal.own_in_words}" if seal.own else ""
    return f"{seal.algorithm.in_full} over {over}{seal.unpacked_in_words}{own}"


def _bounds(bounds: Bounds) -> str:
    least = "" if bounds.least is None else f"{bounds.least}"
    most = "" if bounds.most is None else f"{bounds.most}"
    by = f" as {bounds.by} allows" if bounds.by else ""
    span = f"{least} to {most}".strip() if least or most else ""
    return f"{span}{by}".strip() + _why(bounds.why)


def _value(node: Node | None) -> str:
    if isinstance(node, RowsNode):
        return f"{node.count} records"
    if not isinstance(node, FieldNode) or node.spec.unknown:
        return ""
    try:
        return visible(node.spec.storage.to_text(node.value))
    except LedgerError:
        return "✕"


def _names(template: Template) -> list[Names]:
    """Lists of names, those that several fields share once."""
    found: dict[tuple[str, tuple[tuple[int, str], ...]], Names] = {}
    for element in template.elements():
        storage = element.storage if isinstance(element, FieldSpec) else None
        if isinstance(element.parent, RowsSpec):  # each value of the rows
            element = element.parent
        if not isinstance(storage, Choice | Switches):
            continue
        kind = "bit" if isinstance(storage, Switches) else "value"
        names = tuple(sorted(storage.names.items())[:MOST_NAMES])
        known = found.setdefault((kind, names), Names(element.title, kind, list(names)))
        if element.name not in known.used_by:
            known.used_by.append(
                element.name if element.name != "item" or element.parent is None else element.parent.name
            )
    return list(found.values())


def _sureness(template: Template) -> str:
    """How much of the template is proven, in one line."""
    counts = dict.fromkeys(("proven", "fits", "guessed"), 0)
    for element in template.elements():
        if isinstance(element, FieldSpec) and not element.unknown and element.constant is None:
            counts[element.standing] += 1
    total = sum(counts.values())
    parts = f"{counts['proven']} proven in the game, {counts['fits']} fit the sightings, {counts['guessed']} guessed"
    return f"{total} fields: {parts}"
