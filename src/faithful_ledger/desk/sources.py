"""What can be on the strip: the files of the save that is open, what was unpacked from them, and marks over bytes."""

from __future__ import annotations

from typing import TYPE_CHECKING

from faithful_ledger.core.edits import Patched
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.records import Mark
from faithful_ledger.core.source import MemorySource, Source

if TYPE_CHECKING:
    from faithful_ledger.core.inside import Payload
    from faithful_ledger.desk.session import Session

__all__ = ["Sources"]


MOST_COPIES = 4


class Sources:
    """Of the save that is open in a session. `payloads` are those that were unpacked, by the words for their layers."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self.payloads: dict[str, Source] = {}

    @property
    def names(self) -> list[str]:
        save = self._session.save
        return [*(save.files if save is not None else ()), *self.payloads]

    def title(self, name: str) -> str:
        save = self._session.save
        file = save.files.get(name) if save is not None else None
        if file is None or save is None:
            return name
        return f"{file.path.name} → {name}" if file.inside else save.name_of(file)

    def of(self, name: str) -> Source:
        """The bytes of a file as they were opened, or of something unpacked."""
        if name in self.payloads:
            return self.payloads[name]
        assert self._session.save is not None
        return self._session.save.files[name].source

    def shown(self, name: str) -> Source:
        """The same with the entries that change bytes in their place."""
        source, save = self.of(name), self._session.save
        spans = [
            entry.replacement()
            for entry in (save.tape if save is not None else ())
            if entry.node.file == name and not entry.moves and name not in self.payloads
        ]
        try:
            return Patched(source, spans) if spans else source
        except LedgerError:
            return source  # two entries over the same bytes; the plan says so

    def in_copies(self, name: str, start: int, size: int) -> list[tuple[Source, int | None]]:
        """The same place in the latest kept copies, the oldest first. It reads the vault, so it is asked for beside the
        window.
        """
        from faithful_ledger.core.evidence.plausible import place_in

        book, save = self._session.book, self._session.save
        if book is None or save is None or name not in save.files:
            return []
        here, found = self.of(name), []
        for snapshot in reversed(self._session.kept_copies[:MOST_COPIES]):
            kept = book.keeping.kept_sources(save, snapshot).get(name)
            if kept is not None:
                found.append((kept, place_in(here, start, size, kept)))
        return found

    def add(self, payload: Payload) -> str:
        """Something unpacked, to be looked at; its name among the sources."""
        self.payloads.setdefault(payload.layer, MemorySource(payload.data))
        return payload.layer

    def marks(self, file: str) -> list[Mark]:
        book, save = self._session.book, self._session.save
        if book is None or save is None:
            return []
        return [mark for mark in book.records.marks(save.path.absolute()) if mark.file == file]

    def mark(self, file: str, start: int, end: int, note: str) -> None:
        """Mark bytes with a note."""
        book, save = self._session.book, self._session.save
        if book is not None and save is not None:
            self._session.attempt(lambda: book.records.add_mark(save.path.absolute(), file, start, end, note))
            self._session.marked.emit()

    def unmark(self, mark: Mark) -> None:
        book = self._session.book
        if book is not None:
            self._session.attempt(lambda: book.records.remove_mark(mark))
            self._session.marked.emit()
