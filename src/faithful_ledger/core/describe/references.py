"""Where a template names one of its elements: in expressions, links, seals, rules, and on the Edit sheet."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any, NamedTuple

from faithful_ledger.core.template.model import ElementSpec, GroupSpec, RowsSpec, Template
from faithful_ledger.core.template.rewriting import YamlText
from faithful_ledger.core.template.yaml_text import Where

__all__ = ["Reference", "references"]

FORMULAS = ("at", "entry", "when", "size", "count")
LINKS = ("table", "length_of", "count_of", "offset_of")
NAME = re.compile(r"[A-Za-z_]\w*(?:\[[^\]]*\])?(?:\.[A-Za-z_]\w*(?:\[[^\]]*\])?)*", re.ASCII)
PATH_NAME = re.compile(r"(?:^|\.)([A-Za-z_][A-Za-z0-9_]*)|\[([A-Za-z_][A-Za-z0-9_]*)=")
QUOTED = re.compile(r'"[^"]*"|' r"'[^']*'")
IN_BRACKETS = re.compile(r"\[[^\]]*\]")
IN_BRACES = re.compile(r"\{[^{}]*\}")


class Reference(NamedTuple):
    """A text of the template that names an element, with the spans of the name in it. `by` says who uses it; a `listed`
    one is a line of the Edit sheet, or the like, that may simply go with the element.
    """

    where: Where
    text: str
    spans: tuple[tuple[int, int], ...]
    by: str
    listed: bool = False

    def renamed(self, name: str) -> str:
        """The text with another name."""
        text = self.text
        for start, end in reversed(self.spans):
            text = text[:start] + name + text[end:]
        return text


def references(template: Template, text: YamlText, target: ElementSpec) -> Iterator[Reference]:
    """All that name an element; of a group or rows also those that go through it."""
    keys = text.value(())
    main = template.main.root
    for element in template.elements():
        if not text.has(element.where):
            continue  # it is in a part that several templates share
        held = _at(keys, element.where)
        if element.parent is None or (isinstance(element.parent, RowsSpec) and isinstance(element, GroupSpec)):
            continue  # a file as a whole, and the record of rows, have no keys of their own
        in_text = element.address.path is not None
        for key, written in _texts_of(held):
            spans: list[tuple[int, int]] = []
            for begin, part in _formulas(written, key[0], in_text):
                for match in NAME.finditer(part):
                    spans += _spans(_outwards(element, main), match[0], begin + match.start(), target)
            if spans:
                yield Reference((*element.where, *key), written, tuple(spans), f"{key[0]} of {element.name}")
        name = held.get("key") if isinstance(element, RowsSpec) else None
        if name and _part(element, name) is target:
            yield Reference((*element.where, "key"), name, ((0, len(name)),), f"key of {element.name}")
    yield from _paths(template, keys, target)


def _texts_of(held: dict[str, Any]) -> Iterator[tuple[Where, str]]:
    """The keys of an element that may name others."""
    for key in (*FORMULAS, *LINKS):
        if isinstance(held.get(key), str):
            yield (key,), held[key]
    over = (held.get("seal") or {}).get("over")
    if isinstance(over, str):
        yield ("seal", "over"), over
    elif isinstance(over, list):
        yield from ((("seal", "over", number), path) for number, path in enumerate(over))
    elif isinstance(over, dict):
        yield from ((("seal", "over", key), over[key]) for key in ("from", "behind") if isinstance(over.get(key), str))


def _formulas(written: str, key: str | int, in_text: bool) -> Iterator[tuple[int, str]]:
    """The parts of a text that are expressions or paths of elements, with where they begin."""
    if key == "at" and in_text:
        yield from ((match.start(), match[0]) for match in IN_BRACES.finditer(written))
    else:
        yield 0, QUOTED.sub(lambda match: " " * len(match[0]), written)  # a quoted text names nothing


def _outwards(element: ElementSpec, main: GroupSpec) -> Iterator[GroupSpec]:
    parent = element.parent
    while parent is not None:
        if isinstance(parent, GroupSpec):
            yield parent
        parent = parent.parent
    yield main


def _spans(scopes: Iterator[GroupSpec], path: str, begin: int, target: ElementSpec) -> list[tuple[int, int]]:
    """Where in a path that is looked up outwards the target is named."""
    without = IN_BRACKETS.sub(lambda match: " " * len(match[0]), path)
    names = [(match.start(), match[0]) for match in re.finditer(r"[A-Za-z_][A-Za-z0-9_]*", without)]
    for scope in scopes:
        found: ElementSpec | None = scope.named(names[0][1]) or (scope if scope.name == names[0][1] else None)
        if found is None:
            continue
        spans = []
        for number, (at, name) in enumerate(names):
            found = found if not number else _part(found, name)
            if found is target:
                spans.append((begin + at, begin + at + len(name)))
        return spans
    return []


def _part(found: ElementSpec | None, name: str) -> ElementSpec | None:
    found = found.item if isinstance(found, RowsSpec) else found
    return found.named(name) if isinstance(found, GroupSpec) else None


def _paths(template: Template, keys: dict[str, Any], target: ElementSpec) -> Iterator[Reference]:
    """In rules, sections, steps and layers: paths from the root of a file."""
    slots: list[tuple[Where, Any, str, bool, GroupSpec | None]] = []
    for number, rule in enumerate(keys.get("rules") or []):
        slots += [
            (("rules", number, "equal", side), path, "a rule", False, None) for side, path in _each(rule, "equal")
        ]
        slots.append((("rules", number, "named"), rule.get("named"), "a rule", False, None))
    slots += [(("identity", number), path, "identity", True, None) for number, path in _each(keys, "identity")]
    steps = keys.get("steps") or {}
    slots += [(("steps", "look_for", n), path, "look_for", True, None) for n, path in _each(steps, "look_for")]
    for number, step in _each(steps, "before"):
        if isinstance(step, dict):
            slots.append((("steps", "before", number, "set"), step.get("set"), "a step", False, None))
    for number, section in enumerate(keys.get("sections") or []):
        where: Where = ("sections", number)
        by = f"the section {section.get('title')}"
        slots += [((*where, "fields", n), path, by, True, None) for n, path in _each(section, "fields")]
        slots += [((*where, key), section.get(key), by, False, None) for key in ("table", "switches")]
        rows = _from_root(template, str(section.get("table") or ""))[-1:]
        item = rows[0][1].item if rows and isinstance(rows[0][1], RowsSpec) else None
        if isinstance(item, GroupSpec):
            slots += [((*where, "columns", n), path, by, True, item) for n, path in _each(section, "columns")]
    for name, file in keys["files"].items():
        slots.append((("files", name, "inside"), file.get("inside"), f"the file {name}", False, None))
        around = template.files.get(str(file.get("inside") or "").partition(".")[0])
        for number, layer in _each(file, "layers"):
            if isinstance(layer, dict) and around is not None:
                place: Where = ("files", name, "layers", number)
                slots.append(((*place, "key_of"), layer.get("key_of"), f"a layer of {name}", False, around.root))
                slots.append(((*place, "at"), layer.get("at"), f"a layer of {name}", False, around.root))
    for where, path, by, listed, scope in slots:
        if not isinstance(path, str):
            continue
        chain = _from_root(template, path, scope)
        spans = tuple((at, at + len(name)) for (at, name), element in chain if element is target)
        if spans:
            yield Reference(where, path, spans, by, listed)


def _each(keys: dict[str, Any], key: str) -> list[tuple[int, Any]]:
    return list(enumerate(keys.get(key) or []))


def _from_root(
    template: Template, path: str, scope: GroupSpec | None = None
) -> list[tuple[tuple[int, str], ElementSpec]]:
    """Each name of a path with its place in the path and the element it leads to; without a scope from the first file's
    root, or from that of the file named first.
    """
    found: list[tuple[tuple[int, str], ElementSpec]] = []
    present: ElementSpec | None = scope or template.main.root
    for match in PATH_NAME.finditer(path):
        group = 1 if match[1] else 2
        name, at = match[group], match.start(group)
        if not found and scope is None and name in template.files and template.main.root.named(name) is None:
            present = template.files[name].root
            continue
        element = _part(present, name)
        if element is None:
            break
        found.append(((at, name), element))
        present = element if group == 1 else present
    return found


def _at(keys: Any, where: Where) -> Any:
    for step in where:
        keys = keys[step]
    return keys
