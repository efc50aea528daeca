"""A stage lays out a save when it comes into sight, not before: opening a save costs what is looked at."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QObject, SignalInstance
from PySide6.QtWidgets import QWidget

from faithful_ledger.core.save import Save
from faithful_ledger.desk.session import Session

__all__ = ["WhenSeen"]


class WhenSeen(QObject):
    """Calls `show_save` when the stage is seen and another save, or other records, came since the last time."""

    def __init__(self, stage: QWidget, session: Session, show_save: Callable[[], None]) -> None:
        super().__init__(stage)
        self._stage, self._session, self._show_save = stage, session, show_save
        self._stale = True
        stage.installEventFilter(self)
        self._shown: Save | None = None
        session.opened.connect(self._opened)

    def follow(self, signal: SignalInstance, slot: Callable[..., object]) -> None:
        """Call a slot, but not while what it would change is out of date anyway."""
        signal.connect(lambda *values: None if self._stale else slot(*values))

    def mark_stale(self) -> None:
        """What is laid out is out of date."""
        self._stale = True
        if self._stage.isVisible():
            self._renew()

    def _opened(self) -> None:
        if self._shown is None or self._shown is not self._session.save:  # else it came into sight a moment ago
            self.mark_stale()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Show and self._stale:
            self._renew()
        return super().eventFilter(watched, event)

    def _renew(self) -> None:
        self._stale, self._shown = False, self._session.save
        self._show_save()
        if self._session.selection is not None:
            self._session.selected.emit(self._session.selection)
