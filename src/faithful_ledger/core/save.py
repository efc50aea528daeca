"""An open save: a template laid over one or more files, the entries on the tape, and what is known about balance.

The files' bytes are those of the moment of opening; nothing here writes. `plan` says what posting would do.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from types import MappingProxyType
from typing import TYPE_CHECKING, Protocol

from faithful_ledger.core.address.paths import parse_path
from faithful_ledger.core.balance import (
    name_findings,
    rule_findings,
    states_elsewhere,
    states_within,
    unchecked,
    undescribed,
    unusual,
)
from faithful_ledger.core.binding import (
    BoundFile,
    FieldNode,
    GroupNode,
    Node,
    RowsNode,
    bind_files,
    find,
)
from faithful_ledger.core.binding.compose import compose_records, value_of_json
from faithful_ledger.core.binding.followers import Follower, SealState
from faithful_ledger.core.binding.limits import bounds_at
from faithful_ledger.core.binding.spans import all_fields
from faithful_ledger.core.entries import Entry, Tape
from faithful_ledger.core.errors import (
    AddressError,
    BindingError,
    EntryError,
    LedgerError,
    OutOfBounds,
    ValueRefused,
    place,
)
from faithful_ledger.core.layers.sqlite_tables import LOG, LOG_INDEX, is_database
from faithful_ledger.core.rules import Finding, audit
from faithful_ledger.core.rules.over_rows import row_findings
from faithful_ledger.core.source import Moment, Source, files_below, moment_of, name_within
from faithful_ledger.core.storage import Value, encoded
from faithful_ledger.core.template import Template
from faithful_ledger.core.template.model import FileSpec

if TYPE_CHECKING:
    from concurrent.futures import Future

__all__ = [
    "Save",
    "SaveFile",
    "field_entry",
    "refuse_dependent",
]

BYTES_A_STEP = 8  # that are as much work as a step of binding
NO_ENTRIES: Mapping[str, Entry] = MappingProxyType({})
NO_CHECKSUMS = frozenset({"length", "count", "offset", "copy"})  # these hold in saves that the game refuses, too


@dataclass(slots=True)
class SaveFile:
    """One file of a save as it was when it was opened, or a payload inside one. Without a template there is no `bound`.

    The `path` of a payload is that of the file it is in. `kept_as` is the SHA-256 of its bytes where the vault has them
    already, and `hashing` the one that is being worked out.
    """

    name: str
    path: Path
    source: Source
    moment: Moment | None
    bound: BoundFile | None
    problem: LedgerError | None = None
    kept_as: str = ""
    hashing: Future[str] | None = None

    @property
    def inside(self) -> str:
        """The name of the file this payload is in; empty for a file on disk."""
        return self.bound.spec.inside if self.bound is not None else ""


class Paths(Protocol):
    """What is found by paths in the texts of a save that no template describes."""

    problem: LedgerError | None
    text_format: str

    @property
    def formats(self) -> list[str]:
        """The names of the texts' formats."""
        ...

    def nodes(self, path: str) -> list[Node]: ...

    def fields(self) -> Iterator[FieldNode]: ...

    def within(self, name: str, path: str) -> str: ...

    def held_texts(self, name: str, path: str) -> list[FileSpec]: ...


class Save:
    """An open save. Paths of the first file's fields stand alone; those of the others begin with the file's name.

    `path` is what the save goes by in a book: its first file, or its folder.
    """

    def __init__(
        self,
        template: Template | None,
        files: dict[str, SaveFile],
        folder: Path | None = None,
        roots: dict[str, Path] | None = None,
    ) -> None:
        self.template, self.files, self.folder, self.roots = template, files, folder, roots or {}
        self.outline: Paths | None = None
        self.tape = Tape()
        self.renew_broken: bool | None = None
        self.rearranged: tuple[int, str, Save] | None = None  # see arranging.py

    @property
    def main(self) -> SaveFile:
        return next(iter(self.files.values()))

    @property
    def path(self) -> Path:
        return self.folder or self.main.path

    @property
    def root(self) -> GroupNode | None:
        """The root of its first file; None where that is not bound."""
        return self.main.bound.root if self.main.bound is not None else None

    @property
    def bound(self) -> dict[str, BoundFile]:
        """The files that are bound, by their names."""
        return {name: file.bound for name, file in self.files.items() if file.bound is not None}

    @property
    def paths(self) -> dict[str, Path]:
        """Where each file is, by its name; of a payload, the file it is in."""
        return {name: file.path for name, file in self.files.items()}

    @property
    def on_disk(self) -> list[SaveFile]:
        """The files without the payloads inside of them."""
        return [file for file in self.files.values() if not file.inside]

    def name_of(self, file: SaveFile) -> str:
        """What a file on disk is called; in a folder, also one of the roots, the way to it from there."""
        root = self._root_of(file)
        return f"{root}/{name_within(file.path, self.roots[root])}" if root else name_within(file.path, self.folder)

    def _root_of(self, file: SaveFile) -> str:
        spec = self.template.files.get(file.name) if self.template is not None else None
        return spec.root_name if spec is not None and spec.root_name in self.roots else ""

    @property
    def ungranted(self) -> list[str]:
        """The roots of the template that the user has not granted yet."""
        files = self.template.files.values() if self.template is not None else ()
        return sorted({spec.root_name for spec in files if spec.root_name} - set(self.roots))

    @property
    def size(self) -> int:
        """Of all its files, in bytes."""
        return sum(file.source.size for file in self.on_disk)

    @property
    def weight(self) -> int:
        """How much work it is to go through it, as so many bytes: a tree of a few bytes for each of its elements weighs
        more than its size.
        """
        steps = sum(file.bound.steps for file in self.files.values() if file.bound is not None)
        return max(self.size, steps * BYTES_A_STEP)

    def laid_over(self, sources: Mapping[str, Source]) -> dict[str, BoundFile] | None:
        """The template over other bytes of its files, by their names; None where one of them is not there."""
        described = [file.name for file in self.on_disk if file.bound is not None]
        if self.template is None or not all(name in sources for name in described):
            return None
        return bind_files(self.template, {name: sources[name] for name in described})

    def name_beside(self, file: SaveFile) -> str:
        """What a file on disk is called, seen from the folder of the first one."""
        return (
            self.name_of(file) if self._root_of(file) else name_within(file.path, self.folder or self.main.path.parent)
        )

    def beside(self, name: str) -> Path:
        """Where another file of this save is, by its name."""
        return self.folder / name if self.folder is not None else self.main.path.with_name(name)

    @property
    def has_values(self) -> bool:
        """Whether there is anything to enter: by a template, or by the paths of its texts."""
        by_paths = self.outline is not None and self.outline.problem is None
        return self.problem is None and (self.template is not None or by_paths)

    @property
    def has_texts(self) -> bool:
        """Whether some of it is a text, whose values have paths, also those that the template does not name."""
        return self.outline is not None and bool(self.outline.formats)

    @property
    def companions(self) -> list[str]:
        """The names of files beside it that go when it changes: those the template names, and a database's log."""
        names = [companion.name for companion in self.template.companions] if self.template is not None else []
        for file in self.on_disk:
            if is_database(bytes(file.source.read(0, 16))):
                names += [self.name_beside(file) + ending for ending in (LOG, LOG_INDEX)]
        return names

    @property
    def problem(self) -> LedgerError | None:
        """The first thing that keeps this save from being edited."""
        return next((file.problem for file in self.files.values() if file.problem is not None), None)

    def changed_outside(self) -> bool:
        """Whether another program has written, added or removed a file since it was opened."""
        if self.folder is not None and set(files_below(self.folder)) != {file.path for file in self.on_disk}:
            return True
        for file in self.on_disk:
            try:
                if file.moment is not None and moment_of(file.path.stat()) != file.moment:
                    return True
            except OSError:
                return True
        return False

    # looking

    def nodes(self, path: str) -> list[Node]:
        """What a path leads to: one element, or several with `[*]`. In a text it may lead to what no template names.

        Raises:
            AddressError: it leads nowhere.
        """
        if self.template is None and self.outline is not None:
            return self.outline.nodes(path)
        try:
            return self._described(path)
        except AddressError:
            if self.outline is None:
                raise
            with suppress(AddressError):
                return self.outline.nodes(path)
            raise

    def _described(self, path: str) -> list[Node]:
        """What a path leads to by the template."""
        steps = parse_path(path)
        first = steps[0].name or ""
        root = self.root
        if root is None:
            raise AddressError(f"“{path}”: this file is open without a template", "choose one with --template")
        other = self.files.get(first)
        if first not in root.names and other is not None and other.bound is not None and other is not self.main:
            if other.problem is not None:
                raise self.files[other.inside].problem or other.problem if other.inside else other.problem
            return find(other.bound.root, steps[1:], path)
        if first not in root.names and self.main.problem is not None:
            raise self.main.problem
        return find(root, steps, path)

    def fields(self, path: str) -> list[FieldNode]:
        """As `nodes`, where every one is a single field.

        Raises:
            AddressError: it leads nowhere, or to something with parts.
        """
        nodes = self.nodes(path)
        fields = [node for node in nodes if isinstance(node, FieldNode)]
        if len(fields) != len(nodes):
            other = next(node for node in nodes if not isinstance(node, FieldNode))
            parts = ", ".join(list(other.names)[:8]) if isinstance(other, GroupNode) else "records [0], [1], …"
            raise AddressError(f"“{path}” has parts and no value of its own", f"name one of them: {parts}")
        return fields

    def all_fields(self) -> Iterator[FieldNode]:
        """Every bound field of every file, in the order of the bytes; of texts without a template every value."""
        if self.template is None and self.outline is not None:
            yield from self.outline.fields()
            return
        for file in self.files.values():
            if file.bound is not None:
                yield from all_fields(file.bound.root)

    def every_value(self) -> Iterator[FieldNode]:
        """The same, and behind them the values of texts that the template describes as such but does not name."""
        named: set[tuple[str, int, int]] = set()
        for node in self.all_fields():
            named.add((node.file, node.start, node.end))
            yield node
        if self.template is not None and self.outline is not None:
            for node in self.outline.fields():
                if (node.file, node.start, node.end) not in named:
                    yield node

    def value(self, node: FieldNode) -> Value:
        """What a field says, or what the entry on the tape will make it say.

        Raises:
            ValueRefused: its bytes cannot be read so.
        """
        entry = self.tape.get(node.path)
        return entry.new if entry is not None else node.value

    def text(self, node: FieldNode) -> str:
        """The same as people read it; empty where it cannot be read."""
        try:
            return node.spec.storage.to_text(self.value(node))
        except ValueRefused:
            return ""

    def title(self, node: Node) -> str:
        """A short name: “Marks”, or for a field of a record “Oriel · air”."""
        record = node.record
        if record is None or record is node:
            return node.title
        key = record.key_field if isinstance(record, GroupNode) else None
        name = ""
        if key is not None:
            entry = self.tape.get(key.path) if key is node else None
            name = entry.old_text if entry is not None else self.text(key)
        return f"{name or record.path} · {node.spec.label or node.spec.name}"

    # balance

    @cached_property
    def seals(self) -> list[SealState]:
        """Every seal, length, count and offset, and whether it held when the save was opened."""
        states = [state for each in self.bound.values() for _, state in self._within(each)]
        states += [state for _, state in self.elsewhere]
        return [state for state in states if isinstance(state, SealState)]

    @cached_property
    def _states(self) -> dict[int, tuple[BoundFile, list[tuple[FieldNode, SealState | LedgerError]]]]:
        return {}

    def _within(self, bound: BoundFile) -> list[tuple[FieldNode, SealState | LedgerError]]:
        """Every field that is worked out from others in its file, with its state, worked out once; payloads may come in
        later.
        """
        if id(bound) not in self._states:
            self._states[id(bound)] = bound, list(states_within(bound))
        return self._states[id(bound)][1]

    @cached_property
    def elsewhere(self) -> list[tuple[Follower, SealState | LedgerError]]:
        """Every field that is worked out from another file, with its state when the save was opened."""
        return list(states_elsewhere(self.bound))

    @property
    def missing(self) -> list[BindingError]:
        """Elements that are left out, because the bytes they are found by do not stand exactly once."""
        return [error for file in self.files.values() if file.bound is not None for error in file.bound.missing]

    @property
    def broken_seals(self) -> list[SealState]:
        return [state for state in self.seals if not state.holds]

    @property
    def of_another_version(self) -> list[Finding]:
        """Warnings where a file does not begin as those do from which it was described."""
        bound = (file.bound for file in self.files.values() if file.bound is not None and file.problem is None)
        return [finding for each in bound for finding in unusual(each)]

    @cached_property
    def findings(self) -> list[Finding]:
        found = []
        for file in self.files.values():
            if file.problem is not None:
                found.append(Finding(file.name, "error", str(file.problem)))
            elif file.bound is not None:
                try:
                    file.bound.check()
                except LedgerError as error:
                    found.append(Finding(file.name, "error", str(error)))
                found += [Finding(error.path, "warning", error.what) for error in file.bound.missing]
                found += unchecked(self._within(file.bound))
                found += audit(file.bound.root)
                found += undescribed(file.bound)
        found += self.of_another_version
        found += unchecked((each.node, state) for each, state in self.elsewhere)
        if self.template is not None and self.problem is None:
            found += rule_findings(self.template, self.fields)
            found += name_findings(self.template, self.fields, self.paths)
            found += row_findings(self.template.row_rules, self.nodes)
        return found

    @property
    def knows_seals(self) -> bool:
        return bool(self.seals)

    @property
    def doubt(self) -> str:
        """Why the game may refuse a save in balance all the same; empty where a checksum says that it is whole."""
        if any(state.algorithm not in NO_CHECKSUMS for state in self.seals):
            return ""
        known = "no checksum is known" if self.knows_seals else "no seal is known"
        return f"{known}, so nothing says that the game will accept it"

    @property
    def in_balance(self) -> bool:
        return not self.broken_seals and not any(finding.level == "error" for finding in self.findings)

    # entries

    def enter(self, path: str, text: str, *, anyway: bool = False) -> list[Entry]:
        """Write an entry down for every field a path leads to, from what a person typed.

        Raises:
            AddressError: the path leads nowhere.
            EntryError: the field is worked out or locked.
            ValueRefused: the value does not fit, or is outside the bounds and not wanted `anyway`.
        """
        entries = [self.typed_entry(node, text, anyway=anyway) for node in self.fields(path)]
        self.tape.put(entries)
        return entries

    def typed_entry(
        self, node: FieldNode, text: str, *, anyway: bool = False, beside: Mapping[str, Entry] = NO_ENTRIES
    ) -> Entry:
        """The entry for what a person typed, together with those `beside` it by their paths; it is not written down.
        Errors as for `enter`.
        """
        return self._entry(node, node.spec.storage.from_text(text, self._now(node)), anyway, beside)

    def enter_structure(self, path: str, value: object, *, anyway: bool = False) -> list[Entry]:
        """Write entries down for all parts of a group or rows, from the values of a JSON document.

        A group takes an object with any of its fields, rows a list with a value for each of its records. A list of
        another length gives the records anew, those with an old one of the same number based on it.

        Raises:
            LedgerError: as for `enter`; nothing is entered then.
        """
        entries = [entry for node in self.nodes(path) for entry in self._structure(node, value, anyway)]
        self.tape.put(entries)
        return entries

    def _structure(self, node: Node, value: object, anyway: bool) -> list[Entry]:
        if isinstance(node, FieldNode):
            return [self._entry(node, value_of_json(node.spec.storage, value, self._now(node)), anyway)]
        if isinstance(node, GroupNode) and isinstance(value, dict):
            unknown = [key for key in value if key not in node.names]
            if unknown:
                raise AddressError(f"{node.path} has no {unknown[0]}", f"it has {', '.join(node.names)}")
            return [e for key, item in value.items() for e in self._structure(node.names[key], item, anyway)]
        if isinstance(node, RowsNode) and isinstance(value, list):
            if len(value) != node.count:
                if self.problem is not None:
                    raise EntryError(self.problem.what, self.problem.remedy)
                return [Entry(node, node.path, node.count, len(value), compose_records(node, value))]
            return [
                e for item, one in zip(node.items(), value, strict=True) for e in self._structure(item, one, anyway)
            ]
        wanted = "a list" if isinstance(node, RowsNode) else "an object"
        raise ValueRefused(
            f"{node.path} takes {wanted} of JSON, not {type(value).__name__}", "see what read --json prints"
        )

    def _now(self, node: FieldNode) -> Value:
        try:
            return self.value(node)
        except ValueRefused:
            return None

    def _entry(self, node: FieldNode, value: Value, anyway: bool, beside: Mapping[str, Entry] = NO_ENTRIES) -> Entry:
        path, spec = node.path, node.spec
        if self.problem is not None:
            raise EntryError(self.problem.what, self.problem.remedy or "nothing can be entered")
        refuse_dependent(node)

        def said(other: FieldNode) -> Value:
            entry = beside.get(other.path)
            return other.spec.storage.decode(entry.data) if entry is not None else self.value(other)

        bounds = bounds_at(node, said) if not anyway else None
        if bounds is not None and (broken := bounds.broken_by(value)):
            raise OutOfBounds(f"{path}: {broken}", "enter a value within the bounds, or enter it anyway")
        try:
            data = encoded(spec.storage, value, node.raw)
        except ValueRefused as error:
            raise ValueRefused(f"{path} at {place(node.start)}: {error.what}", error.remedy) from error
        return field_entry(node, data)


def refuse_dependent(node: FieldNode) -> None:
    """Raises EntryError where a field is worked out when you post, or locked."""
    spec = node.spec
    if spec.derived is not None or spec.seal is not None:
        kind = "a seal" if spec.seal is not None else f"the {spec.derived.kind if spec.derived else ''} of another part"
        raise EntryError(f"{node.path} is {kind} and is worked out when you post", "enter the value it follows from")
    if spec.locked is not None:
        raise EntryError(f"{node.path} is locked: {spec.locked}", "change the template if that is wrong")


def value_entry(node: FieldNode, value: Value) -> Entry:
    """The entry that makes a field say a value, whether it is locked or not.

    Raises:
        ValueRefused: it cannot say it.
    """
    return field_entry(node, encoded(node.spec.storage, value, node.raw))


def field_entry(node: FieldNode, data: bytes) -> Entry:
    """The entry that gives a field new bytes.

    Raises:
        ValueRefused: they are not such a value.
    """
    new = node.spec.storage.decode(data)
    try:
        old = node.value
    except ValueRefused:
        old = node.raw.hex(" ")
    return Entry(node, node.path, old, new, data)
