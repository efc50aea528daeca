"""What the window does with the book of the open save: post, reverse, keep, restore.

Each is done beside the window where the files are large; then the save is read anew and the banner says what was done.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from faithful_ledger.core.clock import local_time
from faithful_ledger.core.errors import ChangedMeanwhile, LedgerError
from faithful_ledger.core.records import Posting, Snapshot
from faithful_ledger.desk.beside import Message
from faithful_ledger.desk.widgets.basics import in_turn

if TYPE_CHECKING:
    from faithful_ledger.core.taking_in import TakenIn
    from faithful_ledger.desk.session import Session

__all__ = ["HistoryWork"]


OWN = 10.0  # seconds within which a write that left the save as it was read is our own


class HistoryWork:
    def __init__(self, session: Session) -> None:
        self.session = session
        self._written = 0.0

    def post(self, note: str, then: Callable[[Posting | None], object], *, detach_links: bool = False) -> None:
        """Write the plan, and read the save anew; `then` gets the posting, or None where nothing was written."""
        if self.session.book is None or self.session.save is None or self.session.plan is None:
            return
        book, save, plan = self.session.book, self.session.save, self.session.plan
        self._written = time.time()

        self.session.beside.run(
            self.session.size,
            f"{save.path.name} is written",
            lambda: book.history.post(save, plan, note, detach_links=detach_links),
            lambda posting: self.session.reopen(in_turn(self.session.recorded.emit, lambda: then(posting))),
            self._failed(then),
            always=True,
        )

    def _failed(self, then: Callable[[None], object]) -> Callable[[LedgerError], object]:
        """What reports a failure in the banner and hands on that there is no result."""

        def failed(error: LedgerError) -> None:
            self.session.reported.emit(Message("broken", str(error)))
            then(None)

        return failed

    def keep(self, label: str, then: Callable[[Snapshot | None], object] = lambda snapshot: None) -> None:
        """Keep a copy; `then` gets the snapshot, or None where nothing was kept."""
        if self.session.book is None or self.session.save is None:
            return
        book, save = self.session.book, self.session.save

        def done(snapshot: Snapshot) -> None:
            self.session.recorded.emit()
            self.session.reported.emit(Message("holds", f"A copy is kept: {label}." if label else "A copy is kept."))
            then(snapshot)

        self.session.beside.run(
            self.session.size, "A copy is kept", lambda: book.keeping.keep(save, label), done, self._failed(then)
        )

    def take_in(self, paths: list[Path]) -> None:
        """Keep copies made by hand, or exported snapshots, as snapshots of the open save."""
        book, save = self.session.book, self.session.save
        if book is None or save is None:
            return
        from faithful_ledger.core.taking_in import take_in

        def done(taken: TakenIn) -> None:
            self.session.recorded.emit()
            count, known = len(taken.snapshots), len(taken.known)
            text = f"{'1 copy is' if count == 1 else f'{count} copies are'} kept as snapshots, in order of time"
            text += f"; {known} {'was' if known == 1 else 'were'} kept already" if known else ""
            self.session.reported.emit(Message("holds" if count else "open", f"{text}."))

        size = sum(path.stat().st_size for path in paths if path.is_file())
        self.session.beside.run(
            size,
            "Copies are taken in",
            lambda: take_in(book.keeping, save, paths),
            done,
            always=any(p.is_dir() for p in paths),
        )

    def wrote(self, moment: float) -> bool:
        """Whether what was written at a moment (seconds since 1970) was written by this program."""
        save = self.session.save
        return save is not None and 0 <= moment - self._written < OWN and not save.changed_outside()

    def reverse(self, posting: Posting, *, anyway: bool = False) -> bool:
        book = self.session.book
        if book is None:
            return False
        if self.session.pending:
            self.session.entries.ask("Reverse without them", lambda: self.reverse(posting, anyway=anyway))
            return False

        def done(_: Snapshot) -> None:
            text = "The posting is reversed: the save has its old bytes again."
            save = self.session.save
            moved = [Path(name) for name in posting.record["removed"] if Path(name).is_file()]
            if save is not None and not save.path.exists() and moved:  # it was carried here, and is back where it was
                self.session.open(moved[0], save.template.id if save.template is not None else None, book.name)
                self.session.recorded.emit()
                self.session.reported.emit(Message("holds", text))
            else:
                self._read_again(text)

        def failed(error: LedgerError) -> None:
            again = (lambda: self.reverse(posting, anyway=True)) if isinstance(error, ChangedMeanwhile) else None
            self.session.reported.emit(Message("broken", str(error), "Reverse it anyway" if again else "", again))

        work = partial(book.history.reverse, posting, anyway=anyway)
        return self.session.beside.run(self.session.size, "The posting is reversed", work, done, failed, always=True)

    def restore(self, snapshot: Snapshot) -> bool:
        book = self.session.book
        if self.session.pending:
            self.session.entries.ask("Restore without them", lambda: self.restore(snapshot))
            return False
        if book is None:
            return False
        text = f"The snapshot of {local_time(snapshot.time)} is back in its place."
        return self.session.beside.run(
            self.session.size,
            "The snapshot is brought back",
            lambda: book.history.restore(snapshot),
            lambda _: self._read_again(text),
            always=True,
        )

    def _read_again(self, text: str) -> None:
        """Read the save anew after its files were written, and say what was done."""
        self._written = time.time()
        said = Message("holds", text)
        self.session.reopen(in_turn(self.session.recorded.emit, partial(self.session.reported.emit, said)))

    def restore_elsewhere(self, snapshot: Snapshot, folder: Path) -> None:
        """Write the files of a snapshot into a folder in which none of their names is taken."""
        book = self.session.book
        if book is None:
            return
        text = f"The files of “{snapshot.label or snapshot.id}” are in {folder}; the save is as it was."
        self.session.beside.run(
            sum(file.size for file in snapshot.files),
            "The snapshot is written",
            lambda: (book.history.restore(snapshot, to=folder), folder)[1],
            lambda _: self.session.reported.emit(Message("holds", text)),
        )
