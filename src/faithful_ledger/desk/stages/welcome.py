"""What the window shows before a save is open: how to open one, the ones opened last, and the demo book."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QTableWidget, QWidget

from faithful_ledger.core.clock import local_time
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.desk.session import Message, Session
from faithful_ledger.desk.widgets.basics import button, clear, column, label, row
from faithful_ledger.desk.widgets.tables import plain_table

__all__ = ["Welcome"]

MOST = 12
STEPS = (
    ("Gather", "find the file a game saves to, and keep a copy at each save while you play"),
    ("Locate", "write what the game showed at each copy; it says where that is stored"),
    ("Describe", "give it a name in a template, for the next save and the next player"),
    ("Edit", "type new values by name; nothing is written until you post"),
    ("History", "what the game made of it, and every old state to go back to"),
)


class _Recent(NamedTuple):
    book: str
    path: Path
    kept: int
    latest: str


class Welcome(QWidget):
    """Signals: `open_wanted` to choose a file, `look_wanted` to look for one."""

    open_wanted = Signal()
    look_wanted = Signal()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self.recent = column(spacing=8)
        self.table: QTableWidget | None = None
        self.shown: list[_Recent] = []
        body = column(
            label("Open a save to begin", "title"),
            label(
                "Drop its file or folder on this window, or choose it. Nothing changes until you post, and a copy is "
                "kept first.",
                wrap=True,
            ),
            spacing=10,
        )
        body.setContentsMargins(40, 32, 40, 20)
        body.addLayout(
            row(
                button("Open a save…", self.open_wanted.emit, "main"),
                button("Look for saves…", self.look_wanted.emit),
                button("Open the demo book", self.open_demo),
                None,
            )
        )
        body.addSpacing(14)
        body.addLayout(self.recent)
        body.addSpacing(14)
        body.addWidget(label("The way through", "title"))
        for name, what in STEPS:
            name_label = label(name, "heading")
            name_label.setFixedWidth(80)
            body.addLayout(row(name_label, label(what, "quiet", wrap=True), spacing=10))
        body.addStretch(1)
        self.setLayout(body)

    def show_recent(self) -> None:
        """List the saves of all books, the one opened last first."""
        clear(self.recent)
        self.shown = []
        for name in self.session.shelf.names():
            try:
                book = self.session.shelf.open(name)
            except LedgerError as error:
                self.recent.addWidget(label(str(error), "broken", wrap=True))
                continue
            for path, _ in book.records.saves()[:MOST]:
                kept = book.keeping.snapshots(path, 1)
                count = sum(book.records.count_snapshots(path).values())
                self.shown.append(_Recent(name, path, count, local_time(kept[0].time) if kept else ""))
            book.close()
        if not self.shown:
            text = "No save was opened yet. The demo book has a made-up game with a few kept copies, to try things on."
            self.recent.addWidget(label(text, "quiet", wrap=True))
            return
        rows = [
            (
                each.path.name if each.path.exists() else f"{each.path.name} (no longer there)",
                each.book,
                str(each.kept),
                each.latest,
                str(each.path.parent),
            )
            for each in self.shown[:MOST]
        ]
        head = ("Save", "Book", "Kept", "Kept last", "Folder")
        self.table = plain_table(head, rows, "Recent saves", (210, 150, 50, 170))
        self.table.setMaximumHeight(42 + 26 * len(rows))
        self.table.cellActivated.connect(lambda number, _: self.open_recent(number))
        self.table.setToolTip("Return or a double click opens the save")
        self.recent.addWidget(label("Recent saves", "title"))
        self.recent.addWidget(self.table)

    def open_recent(self, number: int) -> None:
        """Open a save of the list."""
        each = self.shown[number]
        if each.path.exists():
            self.session.open(each.path, book=each.book)
        else:
            text = f"{each.path} is no longer there; its kept copies are in the book {each.book}."
            self.session.reported.emit(Message("open", text))

    def open_demo(self) -> None:
        """Make the demo book anew, beside the user's own books, and open its save."""
        from faithful_ledger.demo.book import demo_shelf, make_demo_book

        def work() -> Path:
            return make_demo_book(demo_shelf(self.session.shelf))

        def done(path: Path) -> None:
            self.session.use_shelf(demo_shelf(self.session.shelf))
            self.session.open(path)

        self.session.beside.run(0, "The demo book is made", work, done, always=True)
