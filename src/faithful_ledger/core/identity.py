"""Whose save it is: fields that tell one character or world from another one under the same file name.

A template names them (`identity`), or the user does for one save. What they say is noted with every snapshot, so the
history and the sightings of one character are not mixed with those of another.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from contextlib import suppress
from typing import Any

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.outline import outlined
from faithful_ledger.core.records import Records
from faithful_ledger.core.save import Save, SaveFile
from faithful_ledger.core.source import Source

__all__ = ["Identities"]

CHOSEN, SAME, KNOWN_BY = "identity of:", "same as:", "identified by:"
BETWEEN = " · "
LONGEST = 200


class Identities:
    """Whose saves the saves of a book are. An identity is a short text; an empty one says that it is not known."""

    def __init__(self, records: Records) -> None:
        self.records = records

    def paths(self, save: Save) -> list[str]:
        """The fields that say whose save it is."""
        described = save.template.identity if save.template is not None else ()
        return [*described, *(path for path in self._chosen(save) if path not in described)]

    def _chosen(self, save: Save) -> list[str]:
        return list(self._noted(CHOSEN, save) or [])

    def choose(self, save: Save, path: str, *, chosen: bool) -> None:
        """Say of a field that it tells whose save this is, or no longer."""
        paths = [each for each in self._chosen(save) if each != path] + [path] * chosen
        self._note(CHOSEN, save, paths)

    def _noted(self, what: str, save: Save) -> Any:
        """What the book says about a save; None where it says nothing."""
        return json.loads(self.records.setting(f"{what}{save.path.absolute()}") or "null")

    def _note(self, what: str, save: Save, value: object) -> None:
        self.records.set_setting(f"{what}{save.path.absolute()}", json.dumps(value))

    def are_new(self, save: Save) -> bool:
        """Whether other fields say whose save it is than when this was asked last."""
        before, paths = self._noted(KNOWN_BY, save) or [], self.paths(save)
        if before != paths:
            self._note(KNOWN_BY, save, paths)
        return bool(before) and paths != before

    def of(self, save: Save) -> str:
        """Whose save this was when it was opened."""
        return _said(save, self.paths(save))

    def within(self, save: Save, sources: Mapping[str, Source]) -> str:
        """Whose save it is in other bytes of its files, by their names in the save."""
        paths = self.paths(save)
        if not paths:
            return ""
        if save.template is None:
            files = {name: SaveFile(name, save.files[name].path, each, None, None) for name, each in sources.items()}
            chosen = save.outline.text_format if save.outline is not None else ""
            return _said(outlined(Save(None, files, save.folder), chosen), paths)
        bound = save.laid_over(sources)
        if bound is None or any(each.problem is not None for each in bound.values()):
            return ""
        files = {name: SaveFile(name, save.path, each.source, None, each) for name, each in bound.items()}
        return _said(outlined(Save(save.template, files, save.folder)), paths)

    def same(self, save: Save) -> list[str]:
        """Every identity that is the one of this save, as far as its user or a posting said so; with the empty one."""
        name, joined = self.of(save), self._joined(save)
        return ["", *(each for each in {name, *joined} if joined.get(each, each) == joined.get(name, name))]

    def _joined(self, save: Save) -> dict[str, str]:
        """Identities and what they are the same as."""
        return dict(self._noted(SAME, save) or {})

    def join(self, save: Save, one: str, other: str) -> None:
        """Say that two identities of a save are the same, as after its character was given another name."""
        joined = self._joined(save)
        first, second = joined.get(one, one), joined.get(other, other)
        joined |= {one: first, other: first} | {each: first for each, of in joined.items() if of == second}
        self._note(SAME, save, joined)


def _said(save: Save, paths: list[str]) -> str:
    """What these fields say in the bytes, whatever is on the tape."""
    found: list[str] = []
    for path in paths:
        with suppress(LedgerError):
            nodes = (node for node in save.nodes(path) if isinstance(node, FieldNode))
            found += (text for node in nodes if (text := node.spec.storage.to_text(node.value)))
    return BETWEEN.join(found)[:LONGEST]
