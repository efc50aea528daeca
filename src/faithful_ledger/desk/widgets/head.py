"""The head: the book and its saves, the save that is open, and one box to go anywhere."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QEvent, QObject, QPoint, Qt, Signal
from PySide6.QtGui import QFontMetrics, QKeyEvent, QResizeEvent
from PySide6.QtWidgets import QFrame, QLineEdit, QListWidget, QListWidgetItem, QMenu, QToolButton, QWidget

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.goto import Destination, destinations, number_in_words
from faithful_ledger.desk.book_actions import BookActions
from faithful_ledger.desk.session import Session
from faithful_ledger.desk.theme import mono
from faithful_ledger.desk.widgets.basics import label, row
from faithful_ledger.desk.widgets.words import grouped

__all__ = ["Head"]

MOST_RECENT = 8


class Head(QFrame):
    """Signals: `open_wanted` to choose a file; `keys_wanted`, `about_wanted` and `templates_wanted` from the menu;
    `went(destination)` from the box.
    """

    open_wanted = Signal()
    keys_wanted = Signal()
    about_wanted = Signal()
    templates_wanted = Signal()
    went = Signal(object)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("head")
        self.setFixedHeight(46)
        self.session = session
        self.book = QToolButton()
        self.book.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.book.setToolTip("Books and their saves")
        self.menu = QMenu(self.book)
        self.menu.aboutToShow.connect(self._fill_menu)
        self.book.setMenu(self.menu)
        self.chip = label("")
        self.chip.setObjectName("chip")
        self.chip.setFixedHeight(28)
        self.box = QLineEdit()
        self.box.setPlaceholderText("Go to an offset, field, number or text  ·  Ctrl+K")
        self.box.setAccessibleName("Go to")
        self.box.setFixedWidth(330)
        self.box.textEdited.connect(self._look)
        self.box.installEventFilter(self)
        self.found: list[Destination] = []
        self.list = QListWidget(self.window())
        self.list.setWindowFlags(Qt.WindowType.ToolTip)
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.itemClicked.connect(lambda item: self._go(self.list.row(item)))
        self.list.hide()
        self.file = ""
        self.books = BookActions(session, self)
        self._about = ""
        self._asked = 0
        self._going = False
        line = row(self.book, self.chip, None, self.box, spacing=10)
        line.setContentsMargins(10, 0, 12, 0)
        self.setLayout(line)
        session.opened.connect(self.show_save)
        session.recorded.connect(self.show_save)
        session.selected.connect(lambda selection: setattr(self, "file", selection.file))
        self.show_save()

    def show_save(self) -> None:
        session = self.session
        self.book.setText(f"{session.book.name if session.book is not None else 'Faithful Ledger'} ▼")
        save = session.save
        self.chip.setVisible(save is not None)
        self.box.setEnabled(save is not None)
        if save is None:
            return
        self.file = next(iter(save.files))
        size = grouped(save.size if save.folder is not None else save.main.source.size)
        kept = session.book.keeping.count_own(save) if session.book is not None else 0
        about = [save.template.title if save.template is not None else "no template", f"{size} bytes"]
        about.append(f"{kept} kept" if kept else "not kept yet")
        self._about = f"{save.path.name}  ·  {'  ·  '.join(about)}"
        self.chip.setToolTip(f"{save.path}\n{', '.join(about)}")
        self._fit()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        """As much about the save as there is room for."""
        room = self.width() - self.box.width() - self.book.sizeHint().width() - 80
        self.chip.setText(QFontMetrics(self.chip.font()).elidedText(self._about, Qt.TextElideMode.ElideRight, room))

    def focus_box(self) -> None:
        self.box.setFocus()
        self.box.selectAll()

    def _fill_menu(self) -> None:
        self.menu.clear()
        self.menu.addAction("Open a save…\tCtrl+O", self.open_wanted.emit)
        shelf = self.session.shelf
        for name in shelf.names():
            try:
                book = self.session.book if self.session.book and self.session.book.name == name else shelf.open(name)
            except LedgerError:
                continue
            saves = book.records.saves()[:MOST_RECENT]
            if saves:
                self.menu.addSeparator()
            for path, _ in saves:
                self.menu.addAction(self._shown(path, name), lambda path=path: self.session.open(path))
            if book is not self.session.book:
                book.close()
        if self.session.book is not None:
            self.menu.addSeparator()
            self.menu.addAction("Rename this book…", self.books.rename)
            self.menu.addAction("Move this save to another book…", self.books.move)
            self.menu.addAction("Remove this book…", self.books.remove)
        self.menu.addSeparator()
        self.menu.addAction("Templates…", self.templates_wanted.emit)
        self.menu.addAction("Keys\tF1", self.keys_wanted.emit)
        self.menu.addAction("About Faithful Ledger", self.about_wanted.emit)

    @staticmethod
    def _shown(path: Path, book: str) -> str:
        return f"{book}: {path.name}  ({path.parent})"

    # the box

    def _look(self, text: str) -> None:
        """Look beside the window; what was typed since makes an answer void."""
        self._asked += 1
        asked, save = self._asked, self.session.save
        self.found = []
        if not text.strip() or save is None:
            self.list.hide()
            return
        selection = self.session.selection
        here = selection.start if selection is not None and selection.file == self.file else 0
        file = self.file if self.file in save.files else save.main.name

        def done(found: list[Destination] | None, error: LedgerError | None) -> None:
            if asked == self._asked:
                self._show_found(text, found or [], "" if error is None else str(error))

        self.session.background.run(lambda: destinations(save, text, file, here), done)

    def _show_found(self, text: str, found: list[Destination], problem: str) -> None:
        self.list.clear()
        self.found = found
        for destination in found:
            self.list.addItem(destination.text)
        words = number_in_words(text.strip())
        if not found:
            self.list.addItem(problem or "nothing found by this name, offset, number or text")
        if words:
            item = QListWidgetItem(words)
            item.setFlags(Qt.ItemFlag.NoItemFlags)
            item.setFont(mono(11))
            self.list.addItem(item)
        self.list.setCurrentRow(0)
        width = max(self.box.width(), 500)
        corner = self.box.mapToGlobal(QPoint(self.box.width() - width, self.box.height() + 4))
        self.list.setGeometry(corner.x(), corner.y(), width, min(26 * max(self.list.count(), 1) + 6, 370))
        self.list.show()
        if self._going:
            self._going = False
            self._go(0)

    def _go(self, number: int) -> None:
        self.list.hide()
        if 0 <= number < len(self.found):
            self.went.emit(self.found[number])

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self.box and isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
            if step is not None and self.list.isVisible():
                self.list.setCurrentRow(min(max(self.list.currentRow() + step, 0), self.list.count() - 1))
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                if self.list.isVisible() and self.found:
                    self._go(self.list.currentRow())
                else:
                    self._going = True
                    self._look(self.box.text())
                return True
            if event.key() == Qt.Key.Key_Escape:
                self.list.hide()
                return True
        if watched is self.box and event.type() == QEvent.Type.FocusOut:
            self.list.hide()
        return super().eventFilter(watched, event)
