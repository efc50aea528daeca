"""A small note that stays on top of the game: what it shows now, for the next save moment."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QGridLayout, QLineEdit, QWidget

from faithful_ledger.core.records import Quantity
from faithful_ledger.desk.widgets.basics import clear, column, label

__all__ = ["SightingNote"]


class SightingNote(QWidget):
    """What was seen is taken by the next save moment. Signal: `named(name)` for another quantity."""

    named = Signal(str)

    def __init__(self) -> None:
        super().__init__(None, Qt.WindowType.Tool | Qt.WindowType.WindowStaysOnTopHint)
        self.setObjectName("page")
        self.setWindowTitle("What the game shows")
        self.lines: dict[int, QLineEdit] = {}
        self.status = label("It goes to the next save moment.", "quiet", wrap=True)
        self.grid = QGridLayout()
        self.grid.setHorizontalSpacing(8)
        self.grid.setVerticalSpacing(5)
        self.another = QLineEdit()
        self.another.setPlaceholderText("another thing to watch")
        self.another.setAccessibleName("Name another quantity")
        self.another.returnPressed.connect(self._name)
        body = column(label("What does the game show now?", "heading"), spacing=8)
        body.addLayout(self.grid)
        body.addWidget(self.another)
        body.addWidget(self.status)
        body.addStretch(1)
        body.setContentsMargins(14, 12, 14, 12)
        self.setLayout(body)
        self.resize(260, 240)

    def show_quantities(self, quantities: Sequence[Quantity]) -> None:
        """A line for each quantity; what was typed already stays."""
        typed = {number: line.text() for number, line in self.lines.items()}
        clear(self.grid)
        self.lines = {}
        for row, quantity in enumerate(quantities):
            line = QLineEdit(typed.get(quantity.id, ""))
            line.setPlaceholderText("a number, a text, more, less")
            line.setAccessibleName(f"{quantity.name} now")
            self.grid.addWidget(label(quantity.name), row, 0)
            self.grid.addWidget(line, row, 1)
            self.lines[quantity.id] = line

    def take(self) -> dict[int, str]:
        """What was typed, by quantity; the lines are empty again."""
        found = {number: line.text().strip() for number, line in self.lines.items() if line.text().strip()}
        for line in self.lines.values():
            line.clear()
        return found

    def tell(self, text: str) -> None:
        self.status.setText(text)

    def _name(self) -> None:
        name = self.another.text().strip()
        if name:
            self.another.clear()
            self.named.emit(name)
