"""A book: the workspace of one game. The face that window and command line talk to.

What is in its folder:

    book.sqlite   saves, snapshots, postings (see records.py)
    vault/        kept copies (see vault/objects.py) and a note about each (see manifests.py)
    journal/      postings under way (see posting/write.py)
    templates/    templates of this book, before the shipped ones
    lock          locked while something is written here: alone by a posting, together by what keeps copies

A snapshot is recorded after its objects are whole; a posting after its files are. Opening a book finishes or undoes
what a stop left half done, and finds the snapshots again where the database is missing; `recovered` says so.
"""

from __future__ import annotations

from pathlib import Path

from faithful_ledger.core.described import BookTemplates
from faithful_ledger.core.disk import Disk
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.history import History
from faithful_ledger.core.keeping import Keeping, Rebuilt
from faithful_ledger.core.posting import Recovery

__all__ = ["Book"]


class Book:
    """One game's workspace: the `keeping` of its saves, its `templates`, and the `history` of its postings.

    Raises:
        LedgerError: the folder cannot be used.
    """

    def __init__(self, folder: Path, disk: Disk | None = None) -> None:
        self.folder = folder
        self.keeping = Keeping(folder, disk)
        self.records = self.keeping.records
        try:
            self.templates = BookTemplates(self.keeping)
            self.history = History(self.keeping)
        except BaseException:
            self.close()
            raise

    @property
    def name(self) -> str:
        return self.folder.name

    @property
    def recovered(self) -> list[Recovery | Rebuilt]:
        """What opening it has finished, undone or found again."""
        return self.keeping.recovered

    @property
    def blocked(self) -> list[LedgerError]:
        """Why nothing can be posted from it."""
        return self.keeping.blocked

    def close(self) -> None:
        self.keeping.close()
