"""What is done with books as a whole, asked for in small dialogs."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QInputDialog, QWidget

from faithful_ledger.core.books import move_save, remove_book, rename_book
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.desk.session import Message, Session

__all__ = ["BookActions"]

NEW = "a new book…"


class BookActions:
    """Of the book that is open in a session."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        self._session = session
        self._parent = parent

    def rename(self) -> None:
        """Ask for another name of the book, and give it."""
        book, save = self._session.book, self._session.save
        if book is None or save is None or self._refused():
            return
        old = book.name
        new, sure = QInputDialog.getText(self._parent, "Rename the book", f"Another name for “{old}”:", text=old)
        if not sure or new.strip() == old:
            return
        shelf, name = self._session.shelf, new.strip()
        self._done(name, lambda: rename_book(shelf, old, name), f"The book {old} is {name} now.")

    def move(self) -> None:
        """Ask for the book this save belongs to, and move it there with all that is kept of it."""
        book, save = self._session.book, self._session.save
        if book is None or save is None or self._refused():
            return
        shelf, old = self._session.shelf, book.name
        names = [name for name in shelf.names() if name != old]
        words = f"{save.path.name} and its kept copies go to:"
        name, sure = QInputDialog.getItem(self._parent, "Move the save", words, [*names, NEW], 0, False)
        if sure and name == NEW:
            name, sure = QInputDialog.getText(self._parent, "Move the save", "The name of the new book:")
        if not sure or not name.strip():
            return
        name = name.strip()

        def work() -> None:
            other = shelf.open(name)
            try:
                move_save(save.path, book, other)
            finally:
                other.close()

        self._done(name, work, f"{save.path.name} is in the book {name} now, with all its kept copies.")

    def remove(self) -> None:
        """Ask, and take the book away; its folder is kept."""
        book, save = self._session.book, self._session.save
        if book is None or save is None or self._refused():
            return
        name = book.name
        words = f"Type the name of the book, {name}, to remove it. No save is touched; what it kept stays in a folder."
        typed, sure = QInputDialog.getText(self._parent, "Remove the book", words)
        if not sure or typed.strip() != name:
            return
        try:
            self._session.close_save()
            place = remove_book(self._session.shelf, name)
        except LedgerError as error:
            self._session.reported.emit(Message("broken", str(error)))
            return
        self._session.reported.emit(Message("open", f"The book {name} is removed; all it kept is in {place}."))

    def _refused(self) -> bool:
        """Whether entries would be lost; then the banner says so."""
        if self._session.pending:
            self._session.reported.emit(Message("open", "Entries are pending; post or withdraw them first."))
        return bool(self._session.pending)

    def _done(self, new: str, work: Callable[[], object], said: str) -> None:
        """Do it, and read the save again out of the book it is in then."""
        try:
            work()
        except LedgerError as error:
            self._session.reported.emit(Message("broken", str(error)))
            return
        self._session.read_from(new, lambda: self._session.reported.emit(Message("holds", said)))
