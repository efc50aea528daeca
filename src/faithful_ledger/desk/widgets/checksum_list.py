"""Every checksum of the selected bytes that stands somewhere in the file, each a seal with one click."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QWidget
from shiboken6 import isValid

from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.desk.beside import Message
from faithful_ledger.desk.session import Selection, Session
from faithful_ledger.desk.theme import HOLDS, OPEN
from faithful_ledger.desk.widgets.basics import button, clear, column, label, row

if TYPE_CHECKING:
    from faithful_ledger.core.seals.finder.selection import Stored

__all__ = ["ChecksumList"]

MOST_SHOWN = 8
LARGEST = 8 << 20
SECONDS = 20.0


class ChecksumList(QWidget):
    """Looks when it is asked to."""

    def __init__(self, session: Session, selection: Selection, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session, self.selection = session, selection
        self.lines = column(spacing=3)
        self.setLayout(self.lines)
        self.look_button = button("Checksums of these bytes…", self.look, "link")
        self.lines.addLayout(row(self.look_button, None))

    def look(self) -> None:
        """Work all of them out, in the save and its kept copies, beside the window."""
        clear(self.lines)
        if self.session.sources.of(self.selection.file).size > LARGEST:
            self.lines.addWidget(label(f"The file is larger than {LARGEST >> 20} MiB.", "quiet", wrap=True))
            return
        self.lines.addWidget(label("looking for their checksums…", "quiet"))
        self.session.looking.run(
            partial(self.session.describing.checksums, self.selection, Deadline(SECONDS)), self._show
        )

    def _show(self, found: list[Stored] | None, error: LedgerError | None) -> None:
        if not isValid(self):
            return
        clear(self.lines)
        if error is not None:
            self.session.reported.emit(Message("broken", str(error)))
        sure = [each for each in found or [] if each.is_convincing]
        shown = (sure or found or [])[:MOST_SHOWN]
        if not shown:
            self.lines.addWidget(label("No checksum of these bytes stands in this file.", "quiet", wrap=True))
        elif not sure:
            self.lines.addWidget(label("Only what may be chance:", "quiet", wrap=True))
        for each in shown:
            name = ", ".join(part for part in (each.algorithm.name, each.algorithm.changed) if part)
            mark, role = (HOLDS, "holds") if each.is_convincing else (OPEN, "open")
            text = f"{mark} {name} at 0x{each.at:X} as {each.form}, {each.holds_in} of {each.of}"
            words = label(text, role, wrap=True, selectable=True)
            words.setToolTip(f"{each.number:X}")
            line = row(words, button("Seal", partial(self._accept, each)), spacing=4)
            line.setStretchFactor(words, 1)
            self.lines.addLayout(line)

    def _accept(self, chosen: Stored) -> None:
        self.session.describing.seal(self.selection, chosen)
