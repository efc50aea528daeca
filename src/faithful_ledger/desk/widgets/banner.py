"""The banner: one message under the head, with a next step; never a box in the way."""

from __future__ import annotations

from PySide6.QtWidgets import QFrame, QToolButton, QWidget

from faithful_ledger.desk.session import Message
from faithful_ledger.desk.theme import BROKEN, HOLDS, OPEN
from faithful_ledger.desk.widgets.basics import button, label, restyle, row

__all__ = ["Banner"]

MARKS = {"holds": HOLDS, "open": OPEN, "broken": BROKEN}


class Banner(QFrame):
    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("banner")
        self.message: Message | None = None
        self.mark = label("", "open")
        self.text = label("", wrap=True, selectable=True)
        self.act = button("", self._act)
        close = QToolButton()
        close.setText("×")
        close.setAccessibleName("Close this message")
        close.clicked.connect(lambda: self.show_message(None))
        line = row(self.mark, self.text, self.act, close, spacing=10)
        line.setStretchFactor(self.text, 1)
        line.setContentsMargins(14, 7, 8, 7)
        self.setLayout(line)
        self.hide()

    def show_message(self, message: Message | None) -> None:
        self.message = message
        self.setVisible(message is not None)
        if message is None:
            return
        self.mark.setText(MARKS[message.kind])
        restyle(self.mark, message.kind)
        restyle(self, message.kind)
        self.text.setText(message.text)
        self.act.setText(message.action)
        self.act.setVisible(bool(message.action))

    def _act(self) -> None:
        message = self.message
        self.show_message(None)
        if message is not None and message.act is not None:
            message.act()
