"""Paths of values in lists by what is said of them, in place of their numbers: `items[id=rope].many` by what a record
says of itself, `values[keys=rope]` by what another list beside it says at that place. A list may have others in the
next save, or have them in another order.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping
from functools import cached_property

from faithful_ledger.core.address import Step, format_path, parse_path
from faithful_ledger.core.address.paths import TEXT
from faithful_ledger.core.formats.document import TextLeaf

__all__ = ["KeyedPaths"]

NAMES = ("id", "key", "code", "type", "kind", "item", "tag", "guid", "uuid", "uid", "name", "title", "label")
NUMBERED, NAMED = 7, 10  # those whose numbers stand for something, and those from which on a player may choose
GUID = re.compile(r"[{(]?[0-9A-Fa-f]{8}(?:-?[0-9A-Fa-f]{4,12}){2,4}[)}]?")  # drawn anew for each record
KEYS = ("key", "name", "id")  # how lists of keys are called
MOST_KEYS, LONGEST = 3, 64  # keys of a record that are tried, and letters of one
A_PAIR = 2  # values of a record that is a key and what it stands for


class KeyedPaths:
    """The values of one text."""

    def __init__(self, leaves: Mapping[str, TextLeaf]) -> None:
        self.leaves = leaves

    @cached_property
    def _steps(self) -> dict[str, tuple[Step, ...]]:
        return {path: parse_path(path) for path in self.leaves if "[" in path and TEXT not in path}

    @cached_property
    def _records(self) -> dict[tuple[Step, ...], dict[str, str]]:
        """The paths of the single values of each record of a list, by its path and by their names; those of a list in a
        list have their numbers for names.
        """
        found: dict[tuple[Step, ...], dict[str, str]] = {}
        for path, steps in self._steps.items():
            if len(steps) > 1 and steps[-2].index is not None:
                found.setdefault(steps[:-1], {})[steps[-1].name or str(steps[-1].index)] = path
        return found

    @cached_property
    def _said(self) -> dict[tuple[tuple[Step, ...], str], Counter[str]]:
        """How often the records of a list say something under a name, by the path of the list."""
        found: dict[tuple[tuple[Step, ...], str], Counter[str]] = {}
        for record, members in self._records.items():
            for name, path in members.items():
                found.setdefault((record[:-1], name), Counter())[self.leaves[path].text] += 1
        return found

    @cached_property
    def _lists(self) -> dict[tuple[Step, ...], dict[str, list[str]]]:
        """What lists of single values say, by the path of what they are in and by their names."""
        found: dict[tuple[Step, ...], dict[str, list[str]]] = {}
        for path, steps in self._steps.items():
            if len(steps) > 1 and steps[-1].index is not None and steps[-2].name is not None:
                said = found.setdefault(steps[:-2], {}).setdefault(steps[-2].name, [])
                if len(said) == steps[-1].index:
                    said.append(self.leaves[path].text)
        return found

    def of(self, path: str, *, moved: bool) -> list[str]:
        """The paths of a value by the keys of the records that it is in, the likeliest first; if it has not `moved`,
        only by keys that no player chooses, of which none counts the records.
        """
        steps = self._steps.get(path)
        if steps is None or all(step.index is None for step in steps):
            return []
        found: list[tuple[int, tuple[Step, ...]]] = [(0, ())]
        is_keyed = False
        for number, step in enumerate(steps):
            keys = self._keys(steps[: number + 1], path, moved=moved) if step.index is not None else []
            is_keyed = is_keyed or bool(keys)
            ways = keys or [(0, step)]
            found = [(rank + more, (*before, way)) for rank, before in found for more, way in ways]
        return [format_path(each) for _, each in sorted(found, key=lambda pair: pair[0])] if is_keyed else []

    def _keys(self, record: tuple[Step, ...], path: str, *, moved: bool) -> list[tuple[int, Step]]:
        """The steps to a record by its keys, each with its rank."""
        members = self._records.get(record, {})
        found: list[tuple[int, Step]] = []
        for name, at in members.items():
            leaf = self.leaves[at]
            if at == path or not 0 < len(leaf.text) <= LONGEST or self._said[record[:-1], name][leaf.text] > 1:
                continue
            is_text = leaf.kind == "string" and any(map(str.isalpha, leaf.text))
            rank, is_pair = self._rank(name), len(members) == A_PAIR
            is_front = is_text and name == "0"  # of a list in a list
            is_usual = is_front if name.isdecimal() else rank < len(NAMES) or is_pair
            stays = (is_text or rank < NUMBERED) and (rank < NAMED or is_pair) and not GUID.fullmatch(leaf.text)
            if (is_usual and stays) or (moved and (is_usual or is_text)):
                found.append((rank + len(NAMES) * (not is_text), Step(key=name, value=leaf.text)))
        found += self._keys_beside(record, moved=moved)
        return sorted(found, key=lambda pair: pair[0])[:MOST_KEYS]

    def _keys_beside(self, record: tuple[Step, ...], *, moved: bool) -> list[tuple[int, Step]]:
        """The steps to an item of a list by another list beside it, which has as many."""
        if len(record) < 2:
            return []
        around, last = record[-2:]
        if around.name is None or last.index is None:
            return []
        every = self._steps.values()
        count = len({steps[len(record) - 1] for steps in every if steps[: len(record) - 1] == record[:-1]})
        found: list[tuple[int, Step]] = []
        for name, said in self._lists.get(record[:-2], {}).items():
            text = said[last.index] if len(said) == count > last.index else ""
            is_key = any(map(str.isalpha, text)) and len(text) <= LONGEST and said.count(text) == 1
            if is_key and name != around.name and (moved or name.lower().lstrip("_").startswith(KEYS)):
                found.append((len(NAMES), Step(key=name, value=text)))
        return found

    @staticmethod
    def _rank(name: str) -> int:
        """Its place among the usual names of keys and what ends with them, or behind all of these."""
        words = name.lower().lstrip("@_")
        return (
            NAMES.index(words)
            if words in NAMES
            else next((rank for rank, usual in enumerate(NAMES) if words.endswith(usual)), len(NAMES))
        )
