"""How selected bytes read: the plausible ways first, each with what it gave in the kept copies."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QLineEdit, QWidget
from shiboken6 import isValid

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage.readings import Reading
from faithful_ledger.desk.session import Selection, Session
from faithful_ledger.desk.theme import mono
from faithful_ledger.desk.widgets.basics import button, clear, column, label

if TYPE_CHECKING:
    from faithful_ledger.core.evidence.plausible import Plausible

__all__ = ["ReadingList"]

VALUE = 148  # pixels
LONG_READING = 18  # digits that do not fit the margin in the usual size


class ReadingList(QWidget):
    """What is typed into a reading becomes an entry. The implausible readings unfold, and stay unfolded for the next
    selection.
    """

    unfolded = False

    def __init__(self, session: Session, selection: Selection, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self.selection = selection
        self.copies: list[tuple[Source, int | None]] = []
        self.lines = column(spacing=2)
        self.setLayout(self.lines)
        self._lay_out()
        if session.kept_copies:
            start, size = selection.start, selection.end - selection.start
            session.background.run(lambda: session.sources.in_copies(selection.file, start, size), self._show_copies)

    def _show_copies(self, copies: list[tuple[Source, int | None]] | None, _: LedgerError | None) -> None:
        if not copies or not isValid(self) or self.selection.file not in self.session.sources.names:
            return  # another selection, or another save meanwhile
        if not any(line.hasFocus() for line in self.findChildren(QLineEdit)):
            self.copies = copies
            self._lay_out()

    def _lay_out(self) -> None:
        from faithful_ledger.core.evidence.plausible import plausible_readings

        clear(self.lines)
        source = self.session.sources.shown(self.selection.file)
        found = plausible_readings(source, self.selection.start, self.selection.end, self.copies)
        shown = [each for each in found if each.likely or ReadingList.unfolded]
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(1)
        grid.setColumnMinimumWidth(1, VALUE)
        grid.setColumnStretch(1, 1)
        for number, each in enumerate(shown):
            self._add(grid, 2 * number, each)
        self.lines.addLayout(grid)
        rest = len(found) - len(shown)
        if rest or ReadingList.unfolded:
            text = "only the plausible ones" if ReadingList.unfolded else f"{rest} more readings"
            self.lines.addWidget(button(text, self._fold, "link"))

    def _fold(self) -> None:
        ReadingList.unfolded = not ReadingList.unfolded
        self._lay_out()

    def _add(self, grid: QGridLayout, line: int, found: Plausible) -> None:
        grid.addWidget(label(found.reading.name, "quiet", wrap=True), line, 0)
        grid.addWidget(self._value(found.reading), line, 1)
        if found.before:
            before = label("  ".join(found.before), "quiet", wrap=True)
            before.setFont(mono(11))
            before.setAlignment(Qt.AlignmentFlag.AlignRight)
            before.setToolTip("The same place in the kept copies, the oldest first")
            grid.addWidget(before, line + 1, 0, 1, 2)

    def _value(self, reading: Reading) -> QLineEdit:
        session, file, start = self.session, self.selection.file, self.selection.start
        editable = session.save is not None and file in session.save.files and reading.storage is not None
        shown = QLineEdit(reading.text)
        shown.setProperty("role", "reading")
        shown.setProperty("long", len(reading.text) >= LONG_READING)  # 8 bytes have up to 20 digits
        shown.setFont(mono())
        shown.setAlignment(Qt.AlignmentFlag.AlignRight)
        shown.setReadOnly(not editable)
        shown.setCursorPosition(0)
        shown.setAccessibleName(f"These bytes as {reading.name.strip()}")
        if editable:
            shown.setToolTip("Type another value and press Return")

            def enter() -> None:
                old = bytes(session.sources.shown(file).read(start, start + reading.size))
                data = session.attempt(lambda: reading.typed(shown.text(), old))
                if data is not None:
                    session.type_bytes(file, start, start + reading.size, data, reading.storage)

            shown.returnPressed.connect(enter)
        return shown
