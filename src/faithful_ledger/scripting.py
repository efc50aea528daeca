"""The public face for people's own scripts: open a save, read and set values by path, plan, post, keep, locate.

    import faithful_ledger

    with faithful_ledger.open("harbour.bwk") as save:
        save["purse.marks"] = 5200
        save.post(note="for the new helm")

Everything goes the same way as in the window and on the command line: what is set is an entry, what is posted is
planned, checked, kept in the vault and can be reversed. Errors are `LedgerError`, each one sentence.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any

from faithful_ledger.core.address.paths import parse_path
from faithful_ledger.core.binding import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.binding.followers import SealState
from faithful_ledger.core.book import Book
from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.errors import AddressError, LedgerError
from faithful_ledger.core.posting import Plan, make_plan
from faithful_ledger.core.records import Posting, Snapshot
from faithful_ledger.core.rules import Finding
from faithful_ledger.core.save import Save
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.core.source import open_source
from faithful_ledger.core.storage import Value
from faithful_ledger.core.together import Part

if TYPE_CHECKING:
    import numpy as np

    from faithful_ledger.core.evidence import Located

__all__ = ["LedgerError", "OpenSave", "locate", "open", "post_together"]


def open(  # noqa: A001 - scripts say faithful_ledger.open
    path: str | os.PathLike[str],
    template: str | None = None,
    book: str | None = None,
    *,
    roots: Mapping[str, str | os.PathLike[str]] | None = None,
    shelf: Shelf | None = None,
) -> OpenSave:
    """Open a save: a file, or a folder where a save is a set. Without a `template` (an id, or a file) it is recognised.

    Without a `book` the one that knows the save is used, or one for its game. `roots` are folders that the template
    names by their roles; a book remembers them. `shelf` is for tests: other folders than the user's own.

    Raises:
        LedgerError: it cannot be read, no template fits, or several do.
    """
    shelf = shelf or Shelf()
    granted = {name: Path(folder) for name, folder in (roots or {}).items()}
    opened = OpenSave(shelf, shelf.open_save(Path(path), template, roots=granted), template, book)
    for name, folder in granted.items():
        opened.book.keeping.grant(name, folder)
    return opened


def locate(
    seen: Sequence[tuple[str | os.PathLike[str], object]], most: int = 50, seconds: float | None = None
) -> Located:
    """Where a quantity is stored, from what the game showed (a number, a text, more, less, same, changed) at several
    kept copies, in the order of time.

    Raises:
        LedgerError: nothing was seen that could tell one place from another.
    """
    from faithful_ledger.core import evidence

    sources = [{"": open_source(Path(path))[0]} for path, _ in seen]
    return evidence.locate_shown(sources, [str(value) for _, value in seen], most, Deadline(seconds))


def post_together(
    saves: Sequence[OpenSave],
    note: str = "",
    renames: Mapping[str | os.PathLike[str], str | os.PathLike[str]] | None = None,
) -> list[Posting]:
    """Write what is pending in several saves as one: all of their files, or none. `renames` give files of these saves
    other names, which must be free. Each save has a posting of its own afterwards, and is open as it was written.

    Raises:
        LedgerError: one of them is refused or cannot be written; everything is as it was.
    """
    wanted = {Path(path).absolute(): Path(to).absolute() for path, to in (renames or {}).items()}
    parts = []
    for each in saves:
        own = [file.path.absolute() for file in each.save.on_disk]
        pairs = tuple((path, wanted.pop(path)) for path in own if path in wanted)
        parts.append(Part(each.book, each.save, each.plan(), pairs))
    if wanted:
        raise AddressError(f"{next(iter(wanted))} is not a file of these saves", "nothing was renamed")
    postings = saves[0]._shelf.post_together(parts, note) if saves else []
    for each, part in zip(saves, parts, strict=True):
        each._reopen(dict(part.renames).get(each.save.path.absolute()))
    return postings


class OpenSave:
    """An open save: a mapping from paths to values. What is set is pending until it is posted."""

    def __init__(self, shelf: Shelf, save: Save, template: str | None, book: str | None) -> None:
        self.save = save
        self._shelf, self._template, self._name = shelf, template, book
        self._book: Book | None = None

    def __enter__(self) -> OpenSave:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        """Let go of the book. Entries that were not posted are dropped."""
        self._shelf.close()

    @property
    def book(self) -> Book:
        """The book of this save; it remembers the save from now on."""
        if self._book is None:
            self._book = self._shelf.book_for(self.save.path, self.save.template, self._name)
        return self._book

    # values

    def __getitem__(self, path: str) -> Any:
        """What a field says, with pending entries; a group is a dictionary, rows are a list, `[*]` gives one as well.

        Raises:
            LedgerError: the path leads nowhere, or the bytes cannot be read so.
        """
        values = [self._value(node) for node in self.save.nodes(path)]
        return values if any(step.every for step in parse_path(path)) else values[0]

    def __setitem__(self, path: str, value: object) -> None:
        """Write an entry down: a number, a text, a name of a choice, a list of switches (or `+tired`), a dictionary for
        parts of a group, or a list for rows.

        Raises:
            LedgerError: the value does not fit, is outside the bounds, or the field is worked out; nothing is entered.
        """
        if isinstance(value, str | int | float) and not isinstance(value, bool):
            self.save.enter(path, value if isinstance(value, str) else repr(value))
        else:
            self.save.enter_structure(path, value)

    def __iter__(self) -> Iterator[str]:
        """The paths of all fields, in the order of the bytes."""
        return (field.path for field in self.save.all_fields())

    def _value(self, node: Node) -> Value | dict[str, Any] | list[Any]:
        if isinstance(node, FieldNode):
            return self.save.value(node)
        if isinstance(node, GroupNode):
            return {name: self._value(part) for name, part in node.names.items()}
        assert isinstance(node, RowsNode)
        return [self._value(item) for item in node.items()]

    def column(self, path: str) -> np.ndarray[Any, Any]:
        """The numbers of one field in all records as an array, as `hold[*].count`; pending entries are not in it.

        Raises:
            AddressError: the path is not rows and a field of theirs, or the records differ in size.
        """
        rows, mark, name = path.partition("[*].")
        if not mark:
            raise AddressError(f"“{path}” is not a column", "write it like hold[*].count")
        (node,) = self.save.nodes(rows)
        if not isinstance(node, RowsNode):
            raise AddressError(f"“{rows}” has no records", "write it like hold[*].count")
        return node.column(name)

    # balance and posting

    @property
    def in_balance(self) -> bool:
        """Whether every seal holds and every rule is kept."""
        return self.save.in_balance

    @property
    def seals(self) -> list[SealState]:
        return self.save.seals

    @property
    def findings(self) -> list[Finding]:
        return list(self.save.findings)

    @property
    def pending(self) -> dict[str, Value]:
        """What was set and not posted yet, by path."""
        return {entry.path: entry.new for entry in self.save.tape}

    def withdraw(self, path: str | None = None) -> None:
        """Take an entry back, or all of them."""
        if path is None:
            self.save.tape.clear()
        else:
            self.save.tape.withdraw(path)

    def plan(self, *, renew_broken: bool | None = None) -> Plan:
        """What posting would write, worked out and checked; nothing is written.

        Raises:
            LedgerError: the entries cannot be posted.
        """
        self.save.renew_broken = renew_broken
        return make_plan(self.save)

    def post(self, note: str = "", *, renew_broken: bool | None = None) -> Posting:
        """Write what is pending; the untouched files are kept first. The save is then open as it was written.

        Raises:
            LedgerError: a check does not allow it, or it could not be written; everything is as it was.
        """
        posting = self.book.history.post(self.save, self.plan(renew_broken=renew_broken), note)
        self._reopen()
        return posting

    def reverse(self, posting: Posting) -> Snapshot:
        """Bring back the exact bytes from before a posting."""
        kept = self.book.history.reverse(posting)
        self._reopen()
        return kept

    def _reopen(self, path: Path | None = None) -> None:
        self.save = self._shelf.open_save(path or self.save.path, self._template, roots=self.save.roots)

    def keep(self, label: str = "") -> Snapshot:
        """Keep an untouched copy of all files of the save."""
        return self.book.keeping.keep(self.save, label)

    def as_dict(self) -> Mapping[str, Value]:
        """Every field with its value, by path; those that cannot be read are left out."""
        found: dict[str, Value] = {}
        for field in self.save.all_fields():
            try:
                found[field.path] = self.save.value(field)
            except LedgerError:
                continue
        return found
