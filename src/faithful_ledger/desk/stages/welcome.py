"""What the window shows before a save is open: how to open one, and the ones opened last."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.desk.session import Session
from faithful_ledger.desk.widgets.basics import button, clear, column, label, row

__all__ = ["Welcome"]


class Welcome(QWidget):
    """Signals: `open_wanted` to choose a file, `look_wanted` to look for one."""

    open_wanted = Signal()
    look_wanted = Signal()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self.recent = column(spacing=4)
        body = column(
            label("Open a save to begin", "title"),
            label(
                "Drop its file on this window, or choose it. Nothing changes until you post, and a copy is kept first.",
                wrap=True,
            ),
            spacing=10,
        )
        body.setContentsMargins(40, 36, 40, 20)
        body.addLayout(
            row(
                button("Open a save…", self.open_wanted.emit, "main"),
                button("Look for saves…", self.look_wanted.emit),
                None,
            )
        )
        body.addSpacing(16)
        body.addLayout(self.recent)
        body.addStretch(1)
        self.setLayout(body)

    def show_recent(self) -> None:
        clear(self.recent)
        shelf = self.session.shelf
        for name in shelf.names():
            try:
                book = shelf.open(name)
            except LedgerError as error:
                self.recent.addWidget(label(str(error), "broken", wrap=True))
                continue
            saves = book.records.saves()[:6]
            book.close()
            if saves:
                self.recent.addWidget(label(f"Book {name}", "heading"))
            for path, _ in saves:
                there = path.exists()
                line = button(path.name, partial(self.session.open, path), "link")
                line.setEnabled(there)
                self.recent.addLayout(
                    row(line, label(str(path.parent) if there else "not there any more", "quiet"), None)
                )
