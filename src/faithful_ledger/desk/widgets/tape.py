"""The tape: entries as slips, what posting will renew, whether it will balance, and the way to post."""

from __future__ import annotations

from collections.abc import Iterable

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QFontMetrics, QKeyEvent, QResizeEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QMenu, QToolButton, QWidget

from faithful_ledger.core.entries import Entry
from faithful_ledger.desk.theme import BROKEN, HOLDS, OPEN, colours, sans
from faithful_ledger.desk.widgets.basics import button, clear, column, label, restyle, row

__all__ = ["Slip", "TapeBar"]

SLIP_TEXT = 220
MOST_LISTED = 40  # entries


class Slip(QFrame):
    """One entry: its field, old and new, and a cross to withdraw it. Signals: `withdrawn(path)`, `chosen(path)`."""

    withdrawn = Signal(str)
    chosen = Signal(str)

    def __init__(self, entry: Entry, name: str) -> None:
        super().__init__()
        self.setObjectName("slip")
        self.setMaximumHeight(36)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.path = entry.path
        self.setAccessibleName(f"Entry {entry.path}: {entry.old_text} becomes {entry.new_text}")
        self.setToolTip(f"{entry.path}\n{entry.old_text} → {entry.new_text}")
        theme = colours()
        metrics = QFontMetrics(sans(13))
        old = metrics.elidedText(entry.old_text or "–", Qt.TextElideMode.ElideMiddle, SLIP_TEXT // 3)
        new = metrics.elidedText(entry.new_text or "–", Qt.TextElideMode.ElideMiddle, SLIP_TEXT // 2)
        text = label()
        text.setTextFormat(Qt.TextFormat.RichText)
        text.setText(f"{_escaped(name)} <s style='color:{theme.quiet}'>{_escaped(old)}</s> → <b>{_escaped(new)}</b>")
        withdraw = QToolButton()
        withdraw.setText("×")
        withdraw.setToolTip("Withdraw this entry")
        withdraw.setAccessibleName(f"Withdraw {entry.path}")
        withdraw.clicked.connect(lambda: self.withdrawn.emit(self.path))
        line = row(text, withdraw, spacing=4)
        line.setContentsMargins(8, 3, 3, 3)
        self.setLayout(line)

    def mousePressEvent(self, event: object) -> None:
        self.setFocus()
        self.chosen.emit(self.path)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.withdrawn.emit(self.path)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.chosen.emit(self.path)
        else:
            super().keyPressEvent(event)


class _Paper(QWidget):
    """Where the slips are. Signal: `resized` when there is more or less room."""

    resized = Signal()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if event.size().width() != event.oldSize().width():
            self.resized.emit()


class TapeBar(QFrame):
    """Signals: `withdrawn(path)`, `chosen(path)`, `undone`, `redone`, `posting` when the user wants to post."""

    withdrawn = Signal(str)
    chosen = Signal(str)
    undone = Signal()
    redone = Signal()
    posting = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("tape")
        self.setFixedHeight(62)
        self.count = label("", "open")
        self.undo = button("Undo", self.undone.emit, "link")
        self.redo = button("Redo", self.redone.emit, "link")
        self.slips = _Paper()
        self.slips.resized.connect(self._fit)
        self.slips.setObjectName("tapepaper")
        self.slip_line = QHBoxLayout(self.slips)
        self.slip_line.setContentsMargins(0, 0, 0, 0)
        self.slip_line.setSpacing(8)
        self.slips.setMinimumWidth(40)
        self.more = button("", self._list_all, "link")
        self.more.setToolTip("All entries in a list")
        self.list = QMenu(self)
        self.named: list[tuple[str, Entry]] = []
        self.work = label("", "quiet")
        self.balance = label("", "holds")
        self.post = button("Post to save…", self.posting.emit, "main")
        state = QWidget()
        state.setObjectName("tapepaper")
        state.setLayout(column(None, self.balance, self.work, None, spacing=1))
        self.balance.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.work.setAlignment(Qt.AlignmentFlag.AlignRight)
        line = row(self.count, self.undo, self.redo, self.more, self.slips, state, self.post, spacing=10)
        line.setStretchFactor(self.slips, 1)
        line.setContentsMargins(14, 6, 14, 6)
        self.setLayout(line)

    def show_entries(self, entries: Iterable[tuple[str, Entry]], can_undo: bool, can_redo: bool) -> None:
        """Entries with the short names of their fields, in the order in which they were written down."""
        found = self.named = list(entries)
        self._fit()
        count = len(found)
        self.count.setText(f"{count} {'entry' if count == 1 else 'entries'} pending" if count else "No entries pending")
        restyle(self.count, "open" if count else "quiet")
        self.undo.setVisible(can_undo or can_redo)
        self.redo.setVisible(can_undo or can_redo)
        self.undo.setEnabled(can_undo)
        self.redo.setEnabled(can_redo)

    def _fit(self) -> None:
        """As many slips as there is room for, the latest ones; how many more there are stands in front of them."""
        clear(self.slip_line)
        room, shown = self.slips.width(), 0
        for name, entry in reversed(self.named):
            slip = Slip(entry, name)
            room -= slip.sizeHint().width() + self.slip_line.spacing()
            if room < 0 and shown:
                slip.deleteLater()
                break
            slip.withdrawn.connect(self.withdrawn)
            slip.chosen.connect(self.chosen)
            self.slip_line.insertWidget(0, slip)
            shown += 1
        self.slip_line.addStretch(1)
        rest = len(self.named) - shown
        self.more.setText(f"+{rest} more")
        self.more.setVisible(rest > 0)

    def _list_all(self) -> None:
        self.list.clear()
        for name, entry in self.named[-MOST_LISTED:]:
            text = f"{name}: {entry.old_text or '–'} → {entry.new_text or '–'}"
            self.list.addAction(text, lambda path=entry.path: self.chosen.emit(path))
        self.list.popup(self.more.mapToGlobal(self.more.rect().topLeft()))

    def show_balance(self, kind: str, text: str, work: str, can_post: bool) -> None:
        """`kind` is holds, open or broken; `work` says what posting renews."""
        self.balance.setText(f"{ {'holds': HOLDS, 'open': OPEN, 'broken': BROKEN}[kind] } {text}")
        restyle(self.balance, kind)
        self.work.setText(work)
        self.work.setVisible(bool(work))
        self.post.setEnabled(can_post)


def _escaped(text: str) -> str:
    from html import escape

    return escape(text)
