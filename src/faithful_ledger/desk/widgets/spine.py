"""The spine: the stages in the order of the work, each with one live line under its name."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFrame, QPushButton, QVBoxLayout, QWidget

from faithful_ledger.desk.widgets.basics import label

__all__ = ["Spine"]


class _Tab(QPushButton):
    def __init__(self, title: str, number: int) -> None:
        super().__init__()
        self.setCheckable(True)
        self.setAutoExclusive(True)
        self.setAccessibleName(title)
        self.setToolTip(f"Ctrl+{number}")
        self.setFixedHeight(50)
        self.name = label(title, "heading")
        self.line = label("", "quiet")
        body = QVBoxLayout(self)
        body.setContentsMargins(16, 7, 4, 7)
        body.setSpacing(1)
        body.addWidget(self.name)
        body.addWidget(self.line)


class Spine(QFrame):
    """Signal: `chosen(number)` of the stage, from 0."""

    chosen = Signal(int)

    def __init__(self, titles: list[str], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("spine")
        self.setFixedWidth(132)
        self.tabs = [_Tab(title, number) for number, title in enumerate(titles, 1)]
        body = QVBoxLayout(self)
        body.setContentsMargins(0, 14, 0, 0)
        body.setSpacing(0)
        for number, tab in enumerate(self.tabs):
            tab.clicked.connect(lambda _=False, number=number: self.chosen.emit(number))
            body.addWidget(tab)
        body.addStretch(1)

    def show_stage(self, number: int) -> None:
        self.tabs[number].setChecked(True)

    def show_line(self, number: int, text: str) -> None:
        self.tabs[number].line.setText(text)
