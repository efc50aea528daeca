"""Paths of values in lists of records by what the records say of themselves, `items[id=rope].many` in place of
`items[3].many`: a list may have other records in the next save, or have them in another order.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from functools import cached_property

from faithful_ledger.core.address import Step, format_path, parse_path
from faithful_ledger.core.formats.document import TextLeaf

__all__ = ["KeyedPaths", "best_of"]

NAMES = ("id", "key", "code", "type", "kind", "item", "guid", "uuid", "uid", "tag", "name", "title", "label")
NAMED = 10  # those from here on may be what a player chose
MOST_KEYS, LONGEST = 3, 64  # keys of a record that are tried, and letters of one
A_PAIR = 2  # values of a record that is a key and what it stands for


class KeyedPaths:
    """The values of one text."""

    def __init__(self, leaves: Mapping[str, TextLeaf]) -> None:
        self.leaves = leaves

    @cached_property
    def _steps(self) -> dict[str, tuple[Step, ...]]:
        return {path: parse_path(path) for path in self.leaves if "[" in path}

    @cached_property
    def _said(self) -> dict[tuple[tuple[Step, ...], str], Counter[str]]:
        """How often the records of a list say something under a name, by the path of the list."""
        found: dict[tuple[tuple[Step, ...], str], Counter[str]] = {}
        for path, steps in self._steps.items():
            if len(steps) > 1 and steps[-1].name is not None and steps[-2].index is not None:
                key = steps[:-2], steps[-1].name
                found.setdefault(key, Counter())[self.leaves[path].text] += 1
        return found

    @cached_property
    def _records(self) -> dict[tuple[Step, ...], list[str]]:
        """The names of the single values of each record of a list, by its path."""
        found: dict[tuple[Step, ...], list[str]] = {}
        for steps in self._steps.values():
            if len(steps) > 1 and steps[-1].name is not None and steps[-2].index is not None:
                found.setdefault(steps[:-1], []).append(steps[-1].name)
        return found

    def of(self, path: str, *, moved: bool) -> list[str]:
        """The paths of a value by the keys of the records that it is in, the likeliest first; if it has not `moved`,
        only by keys that no player chooses, of which none counts the records.
        """
        steps = self._steps.get(path) if path in self.leaves else None
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
        names = self._records.get(record, [])
        found: list[tuple[int, Step]] = []
        for name in names:
            at = format_path((*record, Step(name=name)))
            leaf = self.leaves[at]
            if at == path or not 0 < len(leaf.text) <= LONGEST or self._said[record[:-1], name][leaf.text] > 1:
                continue
            rank = self._rank(name)
            is_text = leaf.kind == "string" and any(map(str.isalpha, leaf.text))
            is_chosen = rank >= NAMED and len(names) > A_PAIR
            is_usual = rank < len(NAMES) or len(names) == A_PAIR
            if (is_usual or (moved and is_text)) and (moved or (is_text and not is_chosen)):
                found.append((rank + len(NAMES) * (not is_text), Step(key=name, value=leaf.text)))
        return sorted(found, key=lambda pair: pair[0])[:MOST_KEYS]

    @staticmethod
    def _rank(name: str) -> int:
        """Its place among the usual names of keys, or behind them."""
        words = name.lower().lstrip("@_")
        exact = next((rank for rank, usual in enumerate(NAMES) if words == usual), None)
        return (
            exact
            if exact is not None
            else next((n for n, each in enumerate(NAMES) if words.endswith(each)), len(NAMES))
        )


def best_of(every: Sequence[Sequence[str]]) -> str | None:
    """The likeliest of the paths that a value has in each of several texts."""
    return next((path for path in every[0] if all(path in each for each in every[1:])), None) if every else None
