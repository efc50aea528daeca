"""One posting over several saves: all of their files, or none, with one journal on the shelf.

Each save is kept in its own book first, and has a posting of its own in it afterwards. What is on disk meanwhile, and
what holds when the machine stops, is said in posting/write.py; here the journal is the shelf's, and names the books.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import Any, NamedTuple

from faithful_ledger.core.book import Book
from faithful_ledger.core.disk import Disk
from faithful_ledger.core.errors import EntryError, LedgerError, Refused, VaultError
from faithful_ledger.core.keeping import absolute
from faithful_ledger.core.locks import locked
from faithful_ledger.core.posting import Plan, Recovery, recover, refuse_blocked
from faithful_ledger.core.posting.write import replace_set
from faithful_ledger.core.records import Posting
from faithful_ledger.core.save import Save

__all__ = ["Part", "post_together", "recover_together"]


class Part(NamedTuple):
    """One of the saves, with its book and its plan; `renames` are files of it that get other names."""

    book: Book
    save: Save
    plan: Plan
    renames: tuple[tuple[Path, Path], ...] = ()


class _Vaults:
    """The kept bytes of several books."""

    def __init__(self, books: Iterable[Book]) -> None:
        self.stores = [book.keeping.store for book in books]

    def get(self, digest: str) -> bytes:
        for store in self.stores:
            if store.holds(digest):
                return store.get(digest)
        raise VaultError(f"no book has the kept bytes {digest[:12]}", "look with: faithful-ledger vault check")


def post_together(
    parts: Sequence[Part], journal: Path, disk: Disk, note: str = "", blocked: Sequence[LedgerError] = ()
) -> list[Posting]:
    """Write several plans as one. Every file is in the vault of its book before one of them is replaced. `blocked`
    is what interrupted postings of the shelf leave in the way, besides those of the books.

    Raises:
        Refused: a check does not allow one of them, or they would write the same file; nothing was written.
        LedgerError: one could not be written; everything is as it was.
    """
    parts = [_with_whole_names(part) for part in parts]
    _refuse_clashes(parts)
    books = {part.book.folder: part.book for part in parts}
    folders = {path.resolve().parent for part in parts for path in _touched(part)}
    with ExitStack() as held:
        for folder in sorted(books):  # one order for all, so that two postings cannot wait in a circle
            held.enter_context(books[folder].history.hold())
            refuse_blocked([*blocked, *books[folder].blocked], folders)
        held.enter_context(locked(folders, "these saves"))
        ready = [
            (part, held.enter_context(part.book.history.ready(part.save, part.plan, note, renames=part.renames)))
            for part in parts
        ]
        together = [str(each.record["id"]) for _, each in ready]
        for _, each in ready:
            each.record["together"] = together
        record = {
            "id": os.urandom(6).hex(),
            "parts": [{"book": str(part.book.folder), "record": each.record} for part, each in ready],
        }
        replace_set(
            [rewrite for _, each in ready for rewrite in each.rewrites],
            [removal for _, each in ready for removal in each.removals],
            record,
            journal,
            disk,
            _Vaults(books.values()),
            lambda record, written: _record(record, written, books),
            [rename for _, each in ready for rename in each.renames],
        )
        return [part.book.history.posting(str(each.record["id"])) for part, each in ready]


def _with_whole_names(part: Part) -> Part:
    return part._replace(renames=tuple((absolute(path), absolute(to)) for path, to in part.renames))


def _touched(part: Part) -> list[Path]:
    return [file.file.path for file in part.plan.written] + [path for pair in part.renames for path in pair]


def _refuse_clashes(parts: Sequence[Part]) -> None:
    """No file is written, renamed or taken as a new name twice, and what is renamed belongs to its save."""
    seen: dict[Path, Save] = {}
    for part in parts:
        own = {absolute(file.path) for file in part.save.on_disk}
        for path, to in part.renames:
            if path not in own:
                raise EntryError(f"{path} is not a file of the save {part.save.path.name}", "nothing was renamed")
            if to.parent.is_dir() and os.path.lexists(to):
                raise Refused(f"{to} exists already", "nothing was renamed; choose a name that is free")
        for path in map(absolute, _touched(part)):
            if path in seen:
                raise EntryError(
                    f"{path.name} would be changed twice, for {seen[path].path.name} and {part.save.path.name}",
                    "nothing was written; post them one after the other",
                )
            seen[path] = part.save


def _record(record: dict[str, Any], written: list[str], books: dict[Path, Book]) -> None:
    """The last step: each book records its part."""
    at = 0
    for part in record["parts"]:
        count = len(part["record"]["files"])
        books[Path(part["book"])].history.record_posting(part["record"], written[at : at + count])
        at += count


def recover_together(journal: Path, disk: Disk, books: dict[Path, Book]) -> tuple[list[Recovery], list[LedgerError]]:
    """Finish or undo what a stop left half done. `books` are all books of the shelf, which nobody else may be writing.

    Raises:
        Busy: somebody is; then the journal is theirs.
    """
    with ExitStack() as held:
        for folder in sorted(books):
            held.enter_context(books[folder].history.hold())
        return recover(journal, disk, _Vaults(books.values()), lambda record, written: _record(record, written, books))
