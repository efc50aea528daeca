"""What a template says for carrying: what names of files say, slots, cards, and what kind of files are in a folder."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

from faithful_ledger.core.address import Expression

__all__ = ["CardSpec", "CarryRule", "FileKind", "NameRule", "Naming", "SlotSpec"]


@dataclass(slots=True, kw_only=True)
class Naming:
    """How the name of a file, or of the folder around it, says a value: it is at `{}` in the pattern, or `names` says
    it of a whole name.
    """

    of_folder: bool = False
    pattern: str = ""
    names: dict[str, str] = field(default_factory=dict)

    def said_by(self, file: Path) -> str | None:
        """What a name says; None where it is not one of this kind."""
        name = self.name_part(file)
        if name in self.names:
            return self.names[name]
        before, mark, behind = self.pattern.partition("{}")
        fits = name.startswith(before) and name.endswith(behind) and len(name) > len(before) + len(behind)
        return name[len(before) : len(name) - len(behind)] if mark and fits else None

    def name_part(self, file: Path) -> str:
        return file.parent.name if self.of_folder else file.name

    def name_for(self, value: str) -> str:
        """The name that says a value; empty where none does."""
        whole = next((name for name, said in self.names.items() if said == value), "")
        return whole or (self.pattern.replace("{}", value, 1) if "{}" in self.pattern else "")

    def name_in_words(self, file: Path) -> str:
        return f"the folder {file.parent.name}" if self.of_folder else f"the file name {file.name}"


@dataclass(slots=True, kw_only=True)
class NameRule(Naming):
    """A field that must say what the name of a file, or of the folder around it, says: of the one that the field is in,
    where `file` names no other.
    """

    path: str
    file: str = ""
    why: str = ""


@dataclass(slots=True, kw_only=True)
class SlotSpec(Naming):
    """The slots of a game: how a name says which one it is, from `first` to `last` where they are numbers, and the
    fields that show what is in one. `file` is the one whose name it is; `path` the field that says it as well, if any.
    Or the slots are the records of `rows` in one file, of which the fields in `keep` stay with their place.
    """

    file: str
    path: str = ""
    first: int | None = None
    last: int | None = None
    shows: tuple[str, ...] = ()
    rows: str = ""
    keep: tuple[str, ...] = ()


@dataclass(slots=True)
class CardSpec:
    """How an image of a card holds files: rows of entries, each with a name, a size and the number of its first block,
    and rows of numbers that say which block follows each one.

    Block number n is at `at` + n × `block_size`; `next` has the number of the block after each, `last` where none is,
    and `free` where the block is nobody's. Where `next` is a field of the entries themselves, each of them is a block,
    and its `state` is one of three `states`: first, in the middle, last. `free_count` says how many blocks are free,
    and of `copies` the second has the same bytes as the first. `fill` are fields of a new entry, each with a
    pattern of the files for which it has its value; the first that fits counts. Of `pairs` one is nothing without the
    other; files that match two patterns of `apart` are not on one card.
    """

    entries: str
    name: str
    next: str
    block_size: Expression
    at: Expression
    first: str = ""
    size: str = ""
    count: str = ""
    free: int = 0
    last: int = 0xFFFF
    state: str = ""
    states: tuple[str, str, str] = ("", "", "")
    free_count: str = ""
    icon: str = ""
    copies: tuple[tuple[str, str], ...] = ()
    fill: tuple[tuple[str, str, str], ...] = ()
    pairs: tuple[tuple[str, str], ...] = ()
    apart: tuple[tuple[str, str], ...] = ()


FileKind = Literal["played", "map", "made-anew", "add-on"]


@dataclass(slots=True)
class CarryRule:
    """What kind of files match one of some patterns: what was `played` goes along with a save, what belongs to the
    `map` stays, what is `made-anew` by the game is removed, and what belongs to an `add-on` goes where the file that
    it `needs` is.
    """

    patterns: tuple[str, ...]
    kind: FileKind
    needs: str = ""
    why: str = ""
