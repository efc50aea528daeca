"""What changed between two revisions of a template, element by element, in words."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, Literal, NamedTuple

from faithful_ledger.core.template.model import ElementSpec, GroupSpec, RowsSpec, Template
from faithful_ledger.core.template.rewriting import YamlText, spelled

__all__ = ["Difference", "template_differences"]

Kind = Literal["added", "removed", "renamed", "moved", "changed"]
ADDRESS = ("at", "behind", "before", "table", "entry", "align")
LAYOUTS = ("layout", "field", "constant", "unknown", "group", "rows", "each")
APART = ("files", "records", "ledger", "witnesses")


class Difference(NamedTuple):
    """One difference: the path of an element, or a key of the template as a whole, with what each side says."""

    path: str
    kind: Kind
    a: str | None
    b: str | None

    def in_words(self) -> str:
        if self.kind in ("added", "removed"):
            return f"{self.path} {self.kind}: {self.b if self.kind == 'added' else self.a}"
        if self.kind == "renamed":
            return f"{self.a} is called {self.b}"
        return f"{self.path} {self.kind}: {self.a or 'nothing'} → {self.b or 'nothing'}"


class _Part(NamedTuple):
    keys: dict[str, Any]
    before: str  # the path of the element in front of it


def template_differences(a: tuple[Template, bytes], b: tuple[Template, bytes]) -> list[Difference]:
    """Of two templates with their texts. An element with another name, and all else alike, is renamed."""
    left, right = dict(_parts(*a)), dict(_parts(*b))
    found: list[Difference] = []
    gone = [path for path in left if path not in right]
    come = [path for path in right if path not in left]
    for old in list(gone):
        new = next((each for each in come if _alike(old, left[old], each, right[each])), None)
        if new is not None:
            gone.remove(old)
            come.remove(new)
            found.append(Difference(new, "renamed", old, new))
    found += [Difference(path, "removed", _said(left[path].keys), None) for path in gone if not _within(path, gone)]
    found += [Difference(path, "added", None, _said(right[path].keys)) for path in come if not _within(path, come)]
    for path in left:
        if path in right:
            found += _changes(path, left[path].keys, right[path].keys)
    found += _top(YamlText(a[1]).value(()), YamlText(b[1]).value(()))
    return found


def _parts(template: Template, text: bytes) -> Iterator[tuple[str, _Part]]:
    """Every element by its path, with its keys but for those of what is inside."""
    keys = YamlText(text).value(())

    def walk(group: GroupSpec, path: str) -> Iterator[tuple[str, _Part]]:
        before = ""
        for element in group.layout:
            here = f"{path}.{element.name}" if path else element.name
            yield here, _Part(_own(keys, element), before)
            before = here
            inner = element.item if isinstance(element, RowsSpec) else element
            if isinstance(inner, GroupSpec) and not (isinstance(element, RowsSpec) and element.holds_itself):
                yield from walk(inner, path if isinstance(element, GroupSpec) and element.flat else here)

    for number, (name, spec) in enumerate(template.files.items()):
        file = {key: value for key, value in keys["files"][name].items() if key != "layout"}
        yield f"file {name}", _Part(file, "")
        yield from walk(spec.root, "" if not number else name)


def _own(keys: Any, element: ElementSpec) -> dict[str, Any]:
    for step in element.where:
        keys = keys[step]
    found = {key: value for key, value in keys.items() if key not in LAYOUTS}
    return found | {f"each {key}": value for key, value in (keys.get("each") or {}).items()}


def _alike(old: str, left: _Part, new: str, right: _Part) -> bool:
    """Whether an element seems to be another one under a new name: the same keys in the same place."""
    same_group = old.rpartition(".")[0] == new.rpartition(".")[0]
    unnamed = [{key: value for key, value in part.keys.items() if key != "label"} for part in (left, right)]
    return same_group and unnamed[0] == unnamed[1] and left.before == right.before


def _within(path: str, others: list[str]) -> bool:
    """Whether an element is part of another one that is listed already."""
    return any(path.startswith(f"{other}.") for other in others)


def _changes(path: str, left: dict[str, Any], right: dict[str, Any]) -> Iterator[Difference]:
    moved = [{key: part.get(key) for key in ADDRESS if key in part} for part in (left, right)]
    if moved[0] != moved[1]:
        yield Difference(path, "moved", _said(moved[0]) or None, _said(moved[1]) or None)
    for key in dict.fromkeys([*left, *right]):
        if key not in ADDRESS and left.get(key) != right.get(key):
            yield Difference(path, "changed", _pair(key, left), _pair(key, right))


def _top(left: dict[str, Any], right: dict[str, Any]) -> Iterator[Difference]:
    """Keys of the template as a whole."""
    for key in dict.fromkeys([*left, *right]):
        if key not in APART and left.get(key) != right.get(key):
            yield Difference(key, "changed", _pair(key, left), _pair(key, right))


def _pair(key: str, keys: dict[str, Any]) -> str | None:
    return f"{key}: {spelled(keys[key])}" if key in keys else None


def _said(keys: dict[str, Any]) -> str:
    return ", ".join(f"{key}: {spelled(value)}" for key, value in keys.items())
