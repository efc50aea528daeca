"""Entries not posted yet: the book keeps them, offers them at the next start, and they are never lost unasked."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer

from faithful_ledger.core.pending import read_pending, written_down
from faithful_ledger.desk.beside import Message
from faithful_ledger.desk.widgets.basics import in_turn

if TYPE_CHECKING:
    from faithful_ledger.desk.session import Session

__all__ = ["PendingEntries"]

KEPT_AT_ONCE = 200  # entries the book keeps as they are made
KEPT_AFTER = 1000  # milliseconds, for more


class PendingEntries:
    """Of the save that is open in a session."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._keeping = QTimer(session)
        self._keeping.setSingleShot(True)
        self._keeping.setInterval(KEPT_AFTER)
        self._keeping.timeout.connect(self._keep_now)

    def ask(self, action: str, act: Callable[[], object]) -> None:
        """Tell that entries would be lost; the action withdraws them and goes on."""

        def withdraw_and_go_on() -> None:
            self.forget()
            act()

        count = f"{self._session.pending} {'entry is' if self._session.pending == 1 else 'entries are'}"
        text = (
            f"{count} pending for {self._session.save.path.name if self._session.save else ''}; post or withdraw first"
        )
        self._session.reported.emit(Message("open", text, action, withdraw_and_go_on))

    def forget(self) -> None:
        """Withdraw all entries for good: they are not offered at the next start."""
        if self._session.save is not None:
            self._session.save.tape.clear()
            self.keep()

    def offer(self) -> Message | None:
        """What was pending when the program ended without a word: back on the tape, if it is for this state."""
        save, book = self._session.save, self._session.book
        if save is None or book is None or save.problem is not None:
            return None
        pending = read_pending(book.records.pending(save.path))
        count = len(pending.entries)
        if not count:
            return None
        entries = "1 entry" if count == 1 else f"{count} entries"
        if pending.is_current(save):
            failed = pending.bring_back(save)
            lost = f"; {failed} of them no longer fit the template" if failed else ""
            message = (
                f"{entries} from last time, not posted then, {'is' if count == 1 else 'are'} on the tape again{lost}."
            )
            return Message("open", message, "Withdraw", in_turn(self.forget, self._session.tape_changed))

        def again() -> None:
            failed = pending.bring_back(save)
            self._session.tape_changed()
            if failed:
                self._session.reported.emit(Message("open", f"{failed} of the {entries} do not fit the new state."))

        message = f"{entries} from last time {'was' if count == 1 else 'were'} made for an older state of this save."
        return Message("open", message, "Enter again", again)

    def keep(self) -> None:
        """Let the book keep the tape, at once for a few entries and bit by bit for many."""
        if self._session.pending > KEPT_AT_ONCE:
            self._keeping.start()
            return
        self._keeping.stop()
        self._keep_now()

    def _keep_now(self) -> None:
        save, book = self._session.save, self._session.book
        if save is not None and book is not None:
            self._session.attempt(lambda: book.records.set_pending(save.path, written_down(save)))
