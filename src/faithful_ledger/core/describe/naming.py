"""A value that the name of its file, or of the folder around, says as well: how a game tells its slots apart."""

from __future__ import annotations

import re
from typing import NamedTuple

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.describe.adding_rules import add_rule
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.save import Save
from faithful_ledger.core.template import Template
from faithful_ledger.core.template.rewriting import YamlText

__all__ = ["NamedAs", "named_now", "namings", "set_naming"]

RUNS = re.compile(r"\d+|[^\W\d_]+")


class NamedAs(NamedTuple):
    """A name in which a value is at `{}`: that of a file, or of its folder."""

    pattern: str
    of_folder: bool

    def __str__(self) -> str:
        return f"the folder: {self.pattern}" if self.of_folder else f"the file: {self.pattern}"


def namings(save: Save, node: FieldNode) -> list[NamedAs]:
    """The names that say what a field says: a run of digits of the same number, or a word."""
    try:
        value, text = node.value, node.spec.storage.to_text(node.value)
    except LedgerError:
        return []
    path = save.files[node.file].path
    found = []
    for name, of_folder in ((path.name, False), (path.parent.name, True)):
        for run in RUNS.finditer(name):
            same = run[0].isdecimal() and isinstance(value, int) and int(run[0]) == value
            if same or (len(run[0]) > 1 and run[0] == text):
                found.append(NamedAs(f"{name[: run.start()]}{{}}{name[run.end() :]}", of_folder))
    return found


def named_now(template: Template, path: str) -> NamedAs | None:
    """What the template says of a field already."""
    rule = next((rule for rule in template.name_rules if rule.path == path), None)
    return NamedAs(rule.pattern, rule.of_folder) if rule is not None else None


def set_naming(text: YamlText, template: Template, path: str, naming: NamedAs | None) -> None:
    """Say in a template's text that a name says a field, or no longer; other rules stay as they are."""
    rules = text.value(("rules",)) if text.has(("rules",)) else []
    number = next((n for n, rule in enumerate(rules) if rule.get("named") == path), None)
    if number is not None:
        text.remove(("rules",), number)
    if naming is None:
        return
    rule = {"named": path, "pattern": naming.pattern} | ({"of": "folder"} if naming.of_folder else {})
    add_rule(text, rule)
    main = template.main
    if not naming.of_folder and main.file_name == naming.pattern.replace("{}", _said(naming, main.file_name)):
        text.set(("files", main.name, "name"), naming.pattern.replace("{}", "*"))  # the other slots are files of it too


def _said(naming: NamedAs, name: str) -> str:
    before, _, behind = naming.pattern.partition("{}")
    return name[len(before) : len(name) - len(behind)]
