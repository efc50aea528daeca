"""Opening what a command is about: the save with its template, and the book that knows it."""

from __future__ import annotations

import argparse
from pathlib import Path

from faithful_ledger.core.book import Book
from faithful_ledger.core.errors import AddressError, LedgerError
from faithful_ledger.core.opening import WITHOUT, open_save
from faithful_ledger.core.save import Save
from faithful_ledger.core.shelf import Shelf

__all__ = ["book_for", "named_file", "opened", "opened_or_bytes", "roots_of"]


def opened(options: argparse.Namespace, path: Path, *, whole: bool = True) -> Save:
    """The save at a path; `whole` asks that all of it fits its template."""
    shelf: Shelf = options.shelf
    return shelf.open_save(
        path,
        getattr(options, "template", None),
        whole=whole,
        roots=roots_of(options),
        text_format=getattr(options, "format", None) or "",
    )


def roots_of(options: argparse.Namespace) -> dict[str, Path]:
    """The folders that were granted on the command line."""
    found = {}
    for given in getattr(options, "roots", None) or ():
        name, separator, folder = given.partition("=")
        if not separator or not folder:
            raise AddressError(f"--root “{given}” is not ROLE=FOLDER", "write it like --root addons=/games/addons")
        found[name] = Path(folder).expanduser().absolute()
    return found


def opened_or_bytes(options: argparse.Namespace, path: Path, *, whole: bool = True) -> Save:
    """As `opened`; what no template fits is opened as bytes, unless a template was asked for: a file, or a folder with
    all that is in it.
    """
    try:
        return opened(options, path, whole=whole)
    except LedgerError:
        if getattr(options, "template", None) not in (None, WITHOUT):
            raise
        return open_save(path, None)


def named_file(options: argparse.Namespace) -> Path | None:
    """The file of the template that was asked for; None where it is an id, or none was."""
    return Path(options.template) if options.template is not None and Path(options.template).is_file() else None


def book_for(options: argparse.Namespace, path: Path, save: Save) -> Book:
    """The book of a save; folders that were granted now are remembered in it."""
    shelf: Shelf = options.shelf
    book = shelf.book_for(path, save.template, options.book)
    for name, folder in roots_of(options).items():
        book.keeping.grant(name, folder)
    return book
