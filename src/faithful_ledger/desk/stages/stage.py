"""What every stage does alike: it lays out a save when it comes into sight, not before."""

from __future__ import annotations

from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QWidget

from faithful_ledger.desk.session import Selection, Session

__all__ = ["Stage"]


class Stage(QWidget):
    """A sheet for one part of the work. Subclasses lay out in `show_save` and follow in the other two."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self._stale = True
        session.opened.connect(self.mark_stale)
        session.changed.connect(lambda: None if self._stale else self.show_entries())
        session.selected.connect(lambda selection: None if self._stale else self.show_selection(selection))

    def show_save(self) -> None:
        """Lay out the session's save anew."""

    def show_entries(self) -> None:
        """Entries were written down or struck."""

    def show_selection(self, selection: Selection) -> None:
        """Something else was selected."""

    def mark_stale(self) -> None:
        """What is laid out is out of date."""
        self._stale = True
        if self.isVisible():
            self._renew()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        if self._stale:
            self._renew()

    def _renew(self) -> None:
        self._stale = False
        self.show_save()
        if self.session.selection is not None:
            self.show_selection(self.session.selection)
