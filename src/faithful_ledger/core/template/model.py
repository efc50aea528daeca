"""A template as the binder uses it: storages made, expressions checked, records put in their places."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from functools import cached_property
from pathlib import Path
from typing import Literal, NamedTuple

from faithful_ledger.core.address import NEXT, Address, Expression, name_parts, parse_path
from faithful_ledger.core.layers import LayerSpec
from faithful_ledger.core.storage import Integer, Storage
from faithful_ledger.core.template.carries import CardSpec, CarryRule, NameRule, SlotSpec
from faithful_ledger.core.template.seal_spec import WHOLE_FILE, SealSpec
from faithful_ledger.core.template.yaml_text import Where

__all__ = [
    "NO_STEPS",
    "PINNED",
    "Bounds",
    "Companion",
    "Derived",
    "ElementSpec",
    "EqualRule",
    "FieldSpec",
    "FileSpec",
    "GroupSpec",
    "RowRule",
    "RowsSpec",
    "SectionSpec",
    "Setting",
    "Sign",
    "Steps",
    "Template",
    "UsualBytes",
    "Witness",
    "elements_of",
]


@dataclass(slots=True, frozen=True)
class Catalogue:
    """Names by code, with the groups that some are in, and the least and the most that some allow."""

    name: str
    names: dict[int, str]
    groups: dict[int, str] = field(default_factory=dict)
    limits: dict[int, tuple[int | float | None, int | float | None]] = field(default_factory=dict)


@dataclass(slots=True, frozen=True)
class Bounds:
    """What the game accepts. None is not a bound. With `by` what a choice of that name beside it says decides as well,
    by the limits of its catalogue.
    """

    least: int | float | None
    most: int | float | None
    why: str
    by: str = ""

    def broken_by(self, value: object) -> str:
        """How a value breaks the bounds, in words; empty where it keeps them."""
        if isinstance(value, bool) or not isinstance(value, int | float):
            return ""
        reason = f": {self.why}" if self.why else ""
        if value != value:
            return f"it is not a number, and there are bounds{reason}"
        if self.least is not None and value < self.least:
            return f"{value} is below the bound {self.least}{reason}"
        if self.most is not None and value > self.most:
            return f"{value} is above the bound {self.most}{reason}"
        return ""


@dataclass(slots=True, frozen=True)
class Derived:
    """A value worked out from where another element is. Lengths and offsets are in bytes."""

    kind: Literal["length", "count", "offset"]
    target: str
    plus: int


@dataclass(slots=True)
class ElementSpec:
    name: str
    label: str = ""
    note: str = ""
    address: Address = NEXT
    when: Expression | None = None
    parent: GroupSpec | RowsSpec | None = field(default=None, repr=False)
    where: Where = ()  # in the template's YAML
    _worked_out: tuple[FieldSpec, ...] | None = field(default=None, init=False, repr=False, compare=False)

    @property
    def title(self) -> str:
        return self.label or self.name.replace("_", " ").capitalize()

    @property
    def fixed_size(self) -> int | None:
        """The size in bytes where it is the same in every save; else None."""
        return None

    @property
    def least_size(self) -> int:
        """The fewest bytes it can take."""
        return 0 if self.when is not None or self.address is not NEXT else self.fixed_size or 0

    @property
    def worked_out(self) -> tuple[FieldSpec, ...]:
        """The fields in it that are worked out from others: lengths, counts, offsets and seals. Asked for when the
        template is complete.
        """
        if self._worked_out is None:
            fields = (each for each in elements_of(self) if isinstance(each, FieldSpec))
            self._worked_out = tuple(each for each in fields if each.seal is not None or each.derived is not None)
        return self._worked_out


@dataclass(slots=True)
class FieldSpec(ElementSpec):
    storage: Storage = None  # type: ignore[assignment]
    size: Expression | None = None
    derived: Derived | None = None
    seal: SealSpec | None = None
    of_file: str = ""  # the file that its length or seal is about, where that is another one
    bounds: Bounds | None = None
    standing: Literal["guessed", "fits", "proven"] = "guessed"
    locked: str | None = None
    unit: str = ""
    means: str = ""
    constant: bytes | None = None
    unknown: bool = False
    catalogue: Catalogue | None = None  # the one its names are from

    @property
    def is_free(self) -> bool:
        """Whether a person says what is in it: it is not worked out, locked, constant or unknown."""
        fixed = self.unknown or self.constant is not None or self.locked is not None
        return not fixed and self.derived is None and self.seal is None

    def subject(self, path: str) -> str:
        """What its length or seal is about, in words; the path may name a whole file."""
        whole = path in WHOLE_FILE
        return (self.of_file if whole else f"{path} in {self.of_file}") if self.of_file else path

    @property
    def fixed_size(self) -> int | None:
        if self.when is not None or self.address is not NEXT:
            return None
        return self.storage.size if self.size is None else self.size.constant

    @property
    def plain_size(self) -> int | None:
        """Its size where nothing but the bytes that are left decides whether it is there."""
        is_plain = self.size is None and self.constant is None and self.when is None and self.address is NEXT
        return self.storage.size if is_plain else None

    @property
    def least_size(self) -> int:
        if self.when is not None or self.address is not NEXT:
            return 0
        if self.fixed_size is not None:
            return self.fixed_size
        return 1 if self.size is None else 0


@dataclass(slots=True)
class GroupSpec(ElementSpec):
    """With a `word` it is one whole number, and its fields are bits of it."""

    layout: list[ElementSpec] = field(default_factory=list)
    size: Expression | None = None
    flat: bool = False
    word: Integer | None = None
    names: dict[str, ElementSpec] = field(default_factory=dict, repr=False)
    layout_where: Where = ()  # of its layout; the record of several rows has one
    _plain: tuple[int | None, ...] | None = field(default=None, repr=False, compare=False)

    @property
    def plain_sizes(self) -> tuple[int | None, ...]:
        """For each element the size of a field that follows the one before it, whatever the bytes say; else None."""
        if self._plain is None:
            fields = self.layout if self.word is None else ()
            self._plain = tuple(each.plain_size if isinstance(each, FieldSpec) else None for each in fields)
        return self._plain or (None,) * len(self.layout)

    @property
    def is_frame(self) -> bool:
        """Whether it only says where something begins and ends, whatever is in it."""
        return not self.layout

    @property
    def columns(self) -> tuple[str, ...]:
        """The fields of a record that can be entered, rather than worked out; those of its flat groups included."""
        found: list[str] = []
        for element in self.layout:
            if isinstance(element, GroupSpec) and element.flat:
                found += element.columns
            elif isinstance(element, FieldSpec) and element.derived is None and not element.unknown:
                found.append(element.name)
        return tuple(found)

    @property
    def lists(self) -> list[RowsSpec]:
        """The rows of records in a record; those of its flat groups included."""
        found: list[RowsSpec] = []
        for element in self.layout:
            if isinstance(element, GroupSpec) and element.flat:
                found += element.lists
            elif isinstance(element, RowsSpec) and isinstance(element.item, GroupSpec):
                found.append(element)
        return found

    def add(self, element: ElementSpec) -> None:
        """Take in an element; those of a flat group go by their names in the group around it as well."""
        self.layout.append(element)
        holder: GroupSpec | RowsSpec | None = self
        while isinstance(holder, GroupSpec):
            holder.names.setdefault(element.name, element)
            holder = holder.parent if holder.flat else None

    @property
    def fixed_size(self) -> int | None:
        if self.when is not None or self.address is not NEXT:
            return None
        if self.size is not None:
            return self.size.constant
        if self.word is not None:
            return self.word.size
        total = 0
        for element in self.layout:
            size = element.fixed_size
            if size is None:
                return None
            total += size
        return total

    @property
    def least_size(self) -> int:
        if self.when is not None or self.address is not NEXT:
            return 0
        if self.word is not None:
            return self.word.size
        return sum(element.least_size for element in self.layout) if self.size is None else self.size.constant or 0

    def placed(self, at: int | None = 0) -> Iterator[tuple[ElementSpec, int | None]]:
        """Each element with its offset where the group begins at `at`; None where that is not always the same."""
        for element in self.layout:
            yield element, at if element.address is NEXT and element.when is None else None
            if self.word is None:
                size = element.fixed_size
                at = at + size if at is not None and size is not None else None

    def named(self, name: str) -> ElementSpec | None:
        """The element of this name here, also within flat groups."""
        return self.names.get(name)


@dataclass(slots=True)
class RowsSpec(ElementSpec):
    """Records in a row. With `places` there is always room for so many, of which `count` are taken; what is filled with
    the bytes `free` is not. A record of which every field in `empty` says what is there holds nothing.
    """

    item: GroupSpec | FieldSpec = None  # type: ignore[assignment]
    count: Expression | None = None
    size: Expression | None = None
    ended_by: bytes | None = None
    places: int | None = None
    free: bytes = b"\0"
    empty: tuple[tuple[str, str], ...] = ()
    key: str | None = None
    key_may_repeat: bool = False
    holds_itself: bool = False

    @property
    def fixed_size(self) -> int | None:
        if self.when is not None or self.address is not NEXT or self.count is None or self.holds_itself:
            return None
        stride, count = self.item.fixed_size, self.places if self.places is not None else self.count.constant
        return stride * count if stride is not None and count is not None else None


class UsualBytes(NamedTuple):
    """Bytes that all known saves of a game have at an offset."""

    at: int
    content: bytes


@dataclass
class FileSpec:
    """One file of a save, or a payload inside another one. Its layout is the content of a nameless group.

    A file is beside the first one, or in the folder that the user granted for the template's root `root_name`; a `*` in
    its name stands for the same letters as in the name of the first one. A payload is `inside` a file, or the content
    of its field `held_by`, or of that of every record, behind `layers`, the outermost first. Of what records hold each
    has `part_size` bytes, but for the last; 0 where that is not known. Where it `keeps_size`, what is behind its last
    element gives way when that takes another size. The `usual` bytes are those of the saves that it was described from:
    with others it may be of another version of the game.
    """

    name: str
    file_name: str
    format: str
    order: Literal["little", "big"]
    root: GroupSpec
    root_name: str = ""
    inside: str = ""
    held_by: str = ""
    part_size: int = 0
    keeps_size: bool = False
    usual: tuple[UsualBytes, ...] = ()
    layers: tuple[LayerSpec, ...] = ()

    def name_beside(self, first: FileSpec, name: str) -> str:
        """What this file is called where the first one has a name."""
        before, star, behind = first.file_name.partition("*")
        matched = star and "*" in self.file_name and fnmatchcase(name.casefold(), first.file_name.casefold())
        return self.file_name.replace("*", name[len(before) : len(name) - len(behind)]) if matched else self.file_name

    @cached_property
    def shaping(self) -> frozenset[str]:
        """The names that expressions read which decide what is there, and where."""
        found: set[str] = set()
        for element in elements_of(self.root):
            size = element.size if isinstance(element, FieldSpec | GroupSpec | RowsSpec) else None
            count = element.count if isinstance(element, RowsSpec) else None
            for part in (element.address, element.when, size, count):
                for path in part.names if part is not None else ():
                    parts = name_parts(path)
                    found |= {each.name for each in parts} | ({"item"} if parts[-1].number is not None else set())
        return frozenset(found)

    @cached_property
    def aligns(self) -> bool:
        """Whether an element begins at a multiple of some bytes behind the one before it."""
        every = elements_of(self.root)
        return any(element.address.align > 1 and element.address.base == "next" for element in every)

    @cached_property
    def is_in_order(self) -> bool:
        """Whether every element is where the one before it ends; those of the root may count from an end."""
        inner = elements_of(*(part for each in self.root.layout for part in within(each)))
        return all(element.address.base in ("next", "start", "end") for element in self.root.layout) and all(
            element.address.base == "next" for element in inner
        )

    @property
    def is_held_in_rows(self) -> bool:
        """Whether the field is one of records, whose payloads are parts of this one."""
        return "[*]" in self.held_by

    @property
    def route(self) -> tuple[str, ...]:
        """The kinds of its layers, the outermost first."""
        return tuple(layer.step for layer in self.layers)


@dataclass(slots=True, frozen=True)
class Sign:
    """What a file of this template shows on the outside; a part that is None does not count."""

    name: str | None
    magic_at: int
    magic: bytes | None
    least: int
    most: int | None


@dataclass(slots=True, frozen=True)
class Companion:
    name: str
    why: str


@dataclass(slots=True, frozen=True)
class EqualRule:
    left: str
    right: str
    why: str


@dataclass(slots=True, frozen=True)
class RowRule:
    """About a column of records: it adds up to what the field `other` says (`sum`), no value of it is there twice
    (`unique`), or every value is the number of a record of the rows `other`, from `first` on, or one of that column
    (`among`), or one of `besides`.
    """

    kind: Literal["sum", "unique", "among"]
    column: str
    other: str
    first: int
    besides: tuple[str, ...]
    why: str


@dataclass(slots=True, frozen=True)
class Setting:
    """A field that is a setting of the game, and what it has to say before a posting."""

    path: str
    to: str
    why: str

    def __str__(self) -> str:
        return f"Set {self.path} to {self.to}{f': {self.why}' if self.why else ''}."


@dataclass(slots=True, frozen=True)
class Steps:
    """What people do before and after a posting, and the fields whose values the game should then show."""

    before: tuple[str | Setting, ...] = ()
    after: tuple[str, ...] = ()
    look_for: tuple[str, ...] = ()


NO_STEPS = Steps()


PINNED = "Pinned"  # the section of what was pinned


@dataclass(slots=True, frozen=True)
class SectionSpec:
    """One part of the Edit sheet: rows of single fields, a table of records, or the switches of one field."""

    title: str
    fields: tuple[str, ...]
    table: str | None
    columns: tuple[str, ...]
    switches: str | None


@dataclass(slots=True, frozen=True)
class Witness:
    """A save by the SHA-256 of its first file, and what fields of it must say."""

    sha256: str
    values: dict[str, str]
    note: str = ""


@dataclass
class Template:
    id: str
    title: str
    version: str
    game: str
    about: str
    signs: list[Sign]
    files: dict[str, FileSpec]
    companions: list[Companion]
    rules: list[EqualRule]
    sections: list[SectionSpec]
    roots: dict[str, str] = field(default_factory=dict)
    steps: Steps = NO_STEPS
    identity: tuple[str, ...] = ()
    name_rules: tuple[NameRule, ...] = ()
    slots: SlotSpec | None = None
    card: CardSpec | None = None
    carries: tuple[CarryRule, ...] = ()
    row_rules: tuple[RowRule, ...] = ()
    author: str = ""
    origin: str = ""
    witnesses: tuple[Witness, ...] = ()
    folder: Path | None = None  # where the parts are that it shares with others

    def steers(self, name: str) -> bool:
        """Whether other elements may be elsewhere, or gone, where a field of this name changes: an expression reads it,
        it is a key, or elements are found by bytes, which may be any.
        """
        return self._steering is None or name in self._steering or self.shapes(name)

    def shapes(self, name: str) -> bool:
        """Whether an expression reads a field of this name, so that it decides what is there, and where."""
        return name in self._shaping

    @cached_property
    def _shaping(self) -> frozenset[str]:
        return frozenset().union(*(file.shaping for file in self.files.values()))

    @cached_property
    def _steering(self) -> frozenset[str] | None:
        found: set[str] = set()
        for element in self.elements():
            if element.address.is_found:
                return None
            found |= {element.address.table} if element.address.table else set()
            path = element.address.path
            found |= {step.key for step in path.steps(lambda _: 0) if step.key} if path is not None else set()
        for file in self.files.values():
            steps = parse_path(file.held_by) if file.held_by else ()
            found |= {name for step in steps for name in (step.name, step.key) if name}
            found |= {name for layer in file.layers for name in layer.key_of.split(".") if name}
        return frozenset(found)

    @property
    def main(self) -> FileSpec:
        return next(iter(self.files.values()))

    def elements(self) -> Iterator[ElementSpec]:
        """Every element of every file, depth first, the record of rows once."""
        return elements_of(*(file.root for file in self.files.values()))


def within(element: ElementSpec) -> list[ElementSpec]:
    """What a group, or a record of rows, is made of."""
    if isinstance(element, GroupSpec):
        return list(element.layout)
    return [element.item] if isinstance(element, RowsSpec) else []


def elements_of(*specs: ElementSpec) -> Iterator[ElementSpec]:
    """These elements and all within them, depth first, each once; several rows may share the layout of a record."""
    queue = list(reversed(specs))
    seen: set[int] = set()
    while queue:
        element = queue.pop()
        if id(element) in seen:
            continue
        seen.add(id(element))
        yield element
        queue += reversed(within(element))
