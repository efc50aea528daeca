"""Opening what a command is about: the save with its template, and the book that knows it."""

from __future__ import annotations

import argparse
from pathlib import Path

from faithful_ledger.core.book import Book
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.save import Save
from faithful_ledger.core.shelf import Shelf

__all__ = ["book_for", "opened", "opened_or_bytes"]


def opened(options: argparse.Namespace, path: Path, *, whole: bool = True) -> Save:
    """The save at a path; `whole` asks that all of it fits its template."""
    shelf: Shelf = options.shelf
    return shelf.open_save(path, getattr(options, "template", None), whole=whole)


def opened_or_bytes(options: argparse.Namespace, path: Path, *, whole: bool = True) -> Save:
    """As `opened`; what no template fits is opened as bytes, unless a template was asked for: a file, or a folder with
    all that is in it.
    """
    try:
        return opened(options, path, whole=whole)
    except LedgerError:
        if getattr(options, "template", None) is not None:
            raise
        return open_save(path, None)


def book_for(options: argparse.Namespace, path: Path, save: Save) -> Book:
    shelf: Shelf = options.shelf
    return shelf.book_for(path, save.template, options.book)
