"""A text that is a list with a delimiter, as strict as the game is about it."""

from __future__ import annotations

from typing import NamedTuple

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage.base import Sizer, Storage, Value

__all__ = ["ListRules", "ListedText"]


class ListRules(NamedTuple):
    """What is between the items, and what the game allows besides: blanks around items, empty ones, one twice."""

    mark: str
    blanks: bool = False
    empty: bool = False
    twice: bool = False


class ListedText(Storage):
    """A text of another storage; what breaks the rules is refused, with the item and how to mend it."""

    bits = None

    def __init__(self, text: Storage, rules: ListRules) -> None:
        self.text, self.rules = text, rules
        self.name, self.about = text.name, f"list with “{rules.mark}” in {text.about}"

    def extent(self, source: Source, at: int, limit: int) -> int:
        return self.text.extent(source, at, limit)

    def sizer(self) -> Sizer | None:
        return self.text.sizer()

    def neutral(self, size: int | None) -> bytes:
        return self.text.neutral(size)

    def decode(self, raw: bytes) -> Value:
        return self.text.decode(raw)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if isinstance(value, str) and (broken := self.broken_by(value)):
            raise ValueRefused(broken, f"write {self.mended(value)}")
        return self.text.encode(value, old)

    def from_text(self, text: str, old: Value = None) -> Value:
        return self.text.from_text(text, old)

    def broken_by(self, value: str) -> str:
        """Which item breaks the rules, where in the list, and how; empty where none does."""
        items = value.split(self.rules.mark) if value else []
        at = 0
        for number, item in enumerate(items):
            place = f"item {number + 1} of the list, at letter {at + 1},"
            if not item.strip() and not self.rules.empty:
                return f"{place} is empty: a “{self.rules.mark}” is doubled, or at an end"
            if item != item.strip() and not self.rules.blanks:
                return f"{place} has a blank beside its “{self.rules.mark}”"
            if item.strip() in map(str.strip, items[:number]) and not self.rules.twice:
                return f"{place} is “{item.strip()[:40]}” once more"
            at += len(item) + len(self.rules.mark)
        return ""

    def mended(self, value: str) -> str:
        """The list without what breaks the rules."""
        items = [item if self.rules.blanks else item.strip() for item in value.split(self.rules.mark)]
        items = [item for item in items if item.strip() or self.rules.empty]
        if not self.rules.twice:
            items = list(dict.fromkeys(items))
        return self.rules.mark.join(items)
