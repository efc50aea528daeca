"""Books as a whole: another name, a save that belongs in another one, and one that is no longer wanted.

Nothing is lost: a save is copied completely before the old book forgets it, and a removed book stays as a folder in
`removed` beside the others.
"""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from faithful_ledger.core.book import Book
from faithful_ledger.core.disk import Disk, translated
from faithful_ledger.core.errors import AddressError, EntryError
from faithful_ledger.core.keeping import absolute
from faithful_ledger.core.manifests import write_manifest
from faithful_ledger.core.posting.files import replace_file
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.core.source import MemorySource, read_whole

__all__ = ["move_save", "remove_book", "rename_book"]


def rename_book(shelf: Shelf, old: str, new: str) -> None:
    """Give a book another name.

    Raises:
        AddressError: it is not a name for a book, or another book has it; nothing was changed.
    """
    if new in shelf.names() or (shelf.books / new).exists():
        raise AddressError(f"there is a book “{new}” already", "nothing was changed; choose another name")
    shelf.existing(old).close()
    shelf.check_name(new)
    with translated(shelf.books / old, "renamed"):
        (shelf.disk or Disk()).replace(shelf.books / old, shelf.books / new)


def remove_book(shelf: Shelf, name: str) -> Path:
    """Take a book away; returns the folder where it is now, with all kept copies."""
    shelf.existing(name).close()
    place = shelf.data / "removed" / f"{name} {datetime.now():%Y-%m-%d %H%M%S}"
    with translated(shelf.books / name, "removed"):
        (shelf.disk or Disk()).make_folder(place.parent)
        (shelf.disk or Disk()).replace(shelf.books / name, place)
    return place


def move_save(save: Path, old: Book, new: Book) -> None:
    """Move a save with its kept copies, postings, sightings, marks and template from one book to another.

    Raises:
        EntryError: the other book has kept copies of it already; LedgerError: a kept copy is damaged, or the other book
        cannot be written. The old book has everything then.
    """
    path = absolute(save)
    if new.keeping.snapshots(path, 1):
        what = f"the book {new.name} has kept copies of {path.name} already"
        raise EntryError(what, "nothing was moved; choose another book")
    with old.keeping.locked(), new.keeping.locked():
        snapshots = old.keeping.snapshots(path)
        for digest in {file.sha256 for snapshot in snapshots for file in snapshot.files}:
            if not new.keeping.store.has(digest):
                new.keeping.store.put(MemorySource(old.keeping.store.get(digest)))
        for snapshot in snapshots:
            write_manifest(new.keeping.manifests, snapshot, new.keeping.disk)
        template = old.keeping.template_of(path)
        own = old.folder / "templates" / f"{template}.yaml"
        to = new.folder / "templates" / own.name
        if template is not None and own.is_file() and not to.exists():
            with translated(to, "written"):
                new.keeping.disk.make_folder(to.parent)
                replace_file(to, read_whole(own)[0], new.keeping.disk)
        new.keeping.records.take_over(old.keeping.records, path)
        old.keeping.records.forget(path)
        for snapshot in snapshots:
            old.keeping.disk.remove(old.keeping.manifests / f"{snapshot.id}.json")
