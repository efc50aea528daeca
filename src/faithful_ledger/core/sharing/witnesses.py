"""Witnesses: a template carries the hashes of saves with the values they must show, never the saves themselves.

Whoever has such a save can prove the template with it; a change of the template that reads it differently is noticed.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from typing import Any, NamedTuple

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.errors import EntryError, LedgerError
from faithful_ledger.core.save import Save
from faithful_ledger.core.source import Source
from faithful_ledger.core.template.model import FieldSpec, Template
from faithful_ledger.core.template.rewriting import YamlText

__all__ = ["Tested", "fields_to_witness", "hash_of", "tested", "with_witness"]

CHUNK = 1 << 20
MOST_VALUES = 12


class Tested(NamedTuple):
    """What a template makes of one save. `witness` says whether the values are those of its witness; None where it has
    none. `differs` are the values that are not: path, what the witness says, what is read.
    """

    fits: bool
    in_balance: bool
    witness: bool | None
    differs: tuple[tuple[str, str, str], ...]
    problem: str = ""


def hash_of(source: Source) -> str:
    """The SHA-256 of a file's bytes, in hexadecimal."""
    found = hashlib.sha256()
    for at in range(0, source.size, CHUNK):
        found.update(source.read(at, min(at + CHUNK, source.size)))
    return found.hexdigest()


def tested(save: Save) -> Tested:
    """A save that is open with a template, and what the template's witness of it says."""
    assert save.template is not None
    problem = str(save.problem) if save.problem is not None else ""
    digest = hash_of(save.main.source)
    witness = next((each for each in save.template.witnesses if each.sha256 == digest), None)
    differs: list[tuple[str, str, str]] = []
    for path, wanted in witness.values.items() if witness is not None else ():
        read = _text_at(save, path)
        if read != wanted:
            differs.append((path, wanted, read))
    agrees = None if witness is None else not differs
    return Tested(not problem, not problem and save.in_balance, agrees, tuple(differs), problem)


def _text_at(save: Save, path: str) -> str:
    try:
        (node,) = save.fields(path)
        return node.spec.storage.to_text(node.value)
    except (LedgerError, ValueError):
        return "–"


def fields_to_witness(template: Template, save: Save) -> list[str]:
    """The fields that say most about a save: those of the Edit sheet, else the first ones with values of their own."""
    listed = [path for section in template.sections for path in section.fields]
    found = [path for path in listed if "[*]" not in path]
    if not found:
        fields = (node for node in save.all_fields() if _says_something(node))
        found = [node.path for _, node in zip(range(MOST_VALUES), fields, strict=False)]
    return found[:MOST_VALUES]


def _says_something(node: FieldNode) -> bool:
    spec: FieldSpec = node.spec
    return not spec.unknown and spec.constant is None and spec.derived is None and spec.seal is None


def with_witness(text: bytes, save: Save, paths: Sequence[str], note: str = "") -> bytes:
    """A template with one witness more, or another one in the place of that of the same save.

    Raises:
        EntryError: the save is out of balance, so it can prove nothing.
        LedgerError: a path leads to no field.
    """
    if save.problem is not None or not save.in_balance:
        what = f"{save.path.name} is out of balance" if save.problem is None else str(save.problem.what)
        raise EntryError(what, "the template was not changed; a witness is a save that the game accepts")
    values: dict[str, str] = {}
    for path in paths:
        for node in save.fields(path):
            values[node.path] = node.spec.storage.to_text(node.value)
    digest = hash_of(save.main.source)
    item: dict[str, Any] = {"sha256": digest, "size": save.main.source.size}
    item |= {"note": note} if note else {}
    item["values"] = values
    made = YamlText(text)
    if not made.has(("witnesses",)):
        made.set(("witnesses",), [])
    present = made.value(("witnesses",))
    for number, old in reversed(list(enumerate(present))):
        if old.get("sha256") == digest:
            made.remove(("witnesses",), number)
    made.insert(("witnesses",), len(made.value(("witnesses",))), item)
    return bytes(made)
