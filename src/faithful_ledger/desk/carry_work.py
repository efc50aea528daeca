"""What the window does with carries that move files: plan one beside the window, write it, and read what came of it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.desk.beside import Message

if TYPE_CHECKING:
    from faithful_ledger.core.carried import Carried
    from faithful_ledger.core.carry import Carry
    from faithful_ledger.core.posting import Check
    from faithful_ledger.desk.session import Session

__all__ = ["CarryWork", "Planned"]

Planned = Callable[["Carry | None", "list[Check]", "LedgerError | None"], object]


class CarryWork:
    def __init__(self, session: Session) -> None:
        self.session = session
        self._asked = 0

    def plan(self, make: Callable[[], Carry], done: Planned) -> None:
        """Work a carry out, and what stands in its way; only the latest one that was asked for is answered."""
        from faithful_ledger.core.carried import carry_hazards, check_carry
        from faithful_ledger.core.find import programs

        book = self.session.book
        self._asked += 1
        asked = self._asked

        def work() -> tuple[Carry, list[Check]]:
            made = make()
            assert book is not None
            running = programs()
            made.findings += carry_hazards(book.history, made, running)
            return made, check_carry(book.history, made, running)

        def finished(found: tuple[Carry, list[Check]] | None, error: LedgerError | None) -> None:
            if asked == self._asked:
                carry, checks = found if found is not None else (None, [])
                done(carry, checks, error)

        self.session.looking.run(work, finished)

    def post(self, carry: Carry, note: str, then: Callable[[], object]) -> None:
        """Write a carry; then the open save is read again, or where it has gone, the one that it became."""
        from faithful_ledger.core.carried import post_carry

        session, book, save = self.session, self.session.book, self.session.save
        if book is None or save is None:
            return
        if session.pending:
            session.entries.ask("Carry without them", lambda: self.post(carry, note, then))
            return

        def done(carried: Carried) -> None:
            names = ", ".join(write.path.name for write in carry.written)
            text = f"Written, read back and compared: {names or 'nothing'}. Both sides are kept."
            reverse = Message("holds", text, "Reverse it", lambda: session.history.reverse(carried.posting))
            path = save.path if save.path.exists() else carry.save if carry.save.exists() else None

            def shown() -> None:
                session.recorded.emit()
                session.reported.emit(reverse)
                then()

            if path is None:
                session.close_save()
            elif path == save.path:
                session.reopen(shown)
            else:
                self._open(path)
                shown()

        size = sum(write.new.size for write in carry.written if write.new is not None)
        session.beside.run(
            size, f"{carry.about}: it is written", lambda: post_carry(book.history, carry, note), done, always=True
        )

    def _open(self, path: Path) -> None:
        save, book = self.session.save, self.session.book
        template = save.template.id if save is not None and save.template is not None else None
        self.session.open(path, template, book.name if book is not None else None)
