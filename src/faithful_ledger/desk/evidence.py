"""Evidence in the window: a place is pinned into the template; what the game made of a posting is judged."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.binding.spans import field_at
from faithful_ledger.core.errors import EntryError, LedgerError
from faithful_ledger.core.records import Posting, Quantity
from faithful_ledger.core.save import Save
from faithful_ledger.desk.beside import Message

if TYPE_CHECKING:
    from collections.abc import Sequence

    from faithful_ledger.core.evidence import Place
    from faithful_ledger.desk.session import Session

__all__ = ["Evidence"]


class Evidence:
    """Of the save that is open in a session."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def judge(self, posting: Posting, verdict: str) -> None:
        """What the game made of a posting is evidence: accepted fields are proven from now on."""
        book, save = self._session.book, self._session.save
        if book is None or save is None:
            return
        library = self._session.shelf.library(book)
        path = library.path_of(save.template.id) if save.template is not None else None
        proven = self._session.attempt(lambda: book.templates.judge(posting, verdict, path, save))
        if proven is None:
            return
        if verdict == "accepted" and not self._session.pending:
            self._session.reopen()
        self._session.recorded.emit()
        said = f"; proven from now on: {', '.join(proven)}" if proven else ""
        self._session.reported.emit(
            Message("holds" if verdict == "accepted" else "open", f"The game: {verdict}{said}.")
        )

    def pin(self, quantity: Quantity, place: Place, copies: Sequence[Place] = ()) -> bool:
        """Accept a place: its field goes into the template, and strip, Edit and tape know it at once. With it `copies`,
        which said the same in every snapshot, and are kept equal.
        """
        book, save = self._session.book, self._session.save
        if book is None or save is None:
            return False
        if self._session.pending:
            self._session.entries.ask("Pin it without them", lambda: self.pin(quantity, place, copies))
            return False
        path, also = self._described(save, place), list[str]()
        if path is None:
            library = self._session.shelf.library(book)
            try:
                path, known = book.templates.add_place_to(save, library, place, quantity.name)
                if copies:
                    opened = self._session.shelf.open_save(save.path, known)
                    also = book.templates.add_copies(opened, library, path, copies, quantity.name)
                self._session.use_book_template()
            except EntryError as error:
                return self._pin_in_book(quantity, place, error)
            except LedgerError as error:
                self._session.reported.emit(Message("broken", str(error)))
                return False
        book.records.pin(quantity, path)

        def shown() -> None:
            read = self._session.save
            nodes = self._session.attempt(lambda: read.nodes(path)) if read is not None else None
            if nodes:
                self._session.select_node(nodes[0])
                text = f"{quantity.name} is pinned: {path} is in the template now{nodes[0].of_records}"
                text += f", and kept equal to it {', '.join(also)}." if also else "."
                undo = partial(self.unpin, quantity._replace(pinned=path))
                self._session.reported.emit(Message("holds", text, "Take it back", undo))

        self._session.reopen(shown)
        return True

    def unpin(self, quantity: Quantity) -> None:
        """Take a pin back: its field leaves this book's template, if the pin put it there."""
        book, save = self._session.book, self._session.save
        if book is None or save is None:
            return
        if self._session.pending:
            self._session.entries.ask("Take it back without them", lambda: self.unpin(quantity))
            return
        library = self._session.shelf.library(book)
        text = f"{quantity.name} is no longer pinned"
        try:
            book.templates.take_back(save, library, quantity.pinned)
            text += f"; {quantity.pinned} is out of the template."
        except LedgerError as error:
            text += f"; {error.what}."
        book.records.pin(quantity, "")
        said = Message("holds", text)
        self._session.reopen(lambda: self._session.reported.emit(said), by_any=True)

    def describe(self, node: FieldNode, name: str) -> bool:
        """Keep a value of a text as a field of the book's template, under a name."""
        book, save = self._session.book, self._session.save
        if book is None or save is None or not name.strip():
            return False
        if self._session.pending:
            self._session.entries.ask("Describe it without them", lambda: self.describe(node, name))
            return False
        library = self._session.shelf.library(book)
        path = self._session.attempt(lambda: book.templates.add_value(save, library, node, name.strip()))
        if path is None:
            return False
        self._session.use_book_template()
        self._session.reopen(lambda: self._show_described(path))
        return True

    def _show_described(self, path: str) -> None:
        save = self._session.save
        nodes = self._session.attempt(lambda: save.nodes(path)) if save is not None else None
        if nodes:
            self._session.select_node(nodes[0])
            self._session.reported.emit(Message("holds", f"{path} is a field of this book's template now."))

    def _pin_in_book(self, quantity: Quantity, place: Place, why: EntryError) -> bool:
        """Where a template cannot find a place again, the book remembers it all the same."""
        book = self._session.book
        if book is None:
            return False
        inside = f", inside {' → '.join(place.route)}" if place.route else ""
        where = f"0x{place.offsets[-1]:X}, {place.stored_as}{inside}"
        book.records.pin(quantity, where)
        self._session.recorded.emit()
        text = f"{quantity.name} is pinned in the book only, as {where}: {why}"
        self._session.reported.emit(Message("open", text))
        return True

    @staticmethod
    def _described(save: Save, place: Place) -> str | None:
        """The field that describes a place already, and has a name."""
        if save.template is None or place.records is not None or (place.path is not None and "(text)" in place.path):
            return None
        lies_in = Path(place.file) if place.file else save.main.path.absolute()
        held = next((file for file in save.on_disk if file.path.absolute() == lies_in), None)
        at = place.offsets[-1]
        if held is not None and place.route:  # in streams that were joined, of which each may be a payload of its own
            inside = [file for file in save.files.values() if file.inside == held.name and file.bound is not None]
            held = None
            for file in (f for f in inside if f.bound and f.bound.spec.route == place.route):
                if at < file.source.size:
                    held = file
                    break
                at -= file.source.size
        node = field_at(held.bound.root, at) if held is not None and held.bound is not None else None
        if node is None or node.spec.unknown:
            return None
        from faithful_ledger.core.describe.leading import is_without_name
        from faithful_ledger.core.describe.pins import path_by_key

        if is_without_name(node):
            return None
        fits = node.start == at and node.spec.storage.name == place.stored_as
        text = place.stored_as in ("utf-8", "latin-1") and node.start == at - 1
        return path_by_key(node) if fits or text else None
