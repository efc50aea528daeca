"""The banner: one message below the margin, with a next step; what is on the sheet stays where it is."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QFrame, QSizePolicy, QToolButton, QWidget

from faithful_ledger.desk.session import Message
from faithful_ledger.desk.theme import BROKEN, HOLDS, OPEN
from faithful_ledger.desk.widgets.basics import button, column, label, restyle, row

__all__ = ["Banner"]

LOUD = 8000  # milliseconds after which a message is no longer coloured
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
        self.loud = QTimer(self)
        self.loud.setSingleShot(True)
        self.loud.setInterval(LOUD)
        self.loud.timeout.connect(lambda: restyle(self, "calm"))
        for widget in (self.mark, close):
            widget.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        line = row(self.mark, self.text, close, spacing=8)
        line.setStretchFactor(self.text, 1)
        for widget in (self.mark, close):
            line.setAlignment(widget, Qt.AlignmentFlag.AlignTop)
        body = column(spacing=6)
        body.addLayout(line)
        body.addWidget(self.act, 0, Qt.AlignmentFlag.AlignRight)
        body.setContentsMargins(14, 9, 8, 10)
        self.setLayout(body)
        self.hide()

    def show_message(self, message: Message | None) -> None:
        self.message = message
        self.setVisible(message is not None)
        if message is None:
            return
        self.mark.setText(MARKS[message.kind])
        restyle(self.mark, message.kind)
        restyle(self, message.kind)
        self.loud.start()
        self.text.setText(message.text)
        self.act.setText(message.action)
        self.act.setVisible(bool(message.action))

    def _act(self) -> None:
        message = self.message
        self.show_message(None)
        if message is not None and message.act is not None:
            message.act()
