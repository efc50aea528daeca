"""Labels, rules and buttons in the roles the style sheet knows."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPolygon
from PySide6.QtWidgets import (
    QBoxLayout,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLayout,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from faithful_ledger.desk.theme import colours

__all__ = [
    "Chooser",
    "button",
    "clear",
    "column",
    "in_turn",
    "label",
    "pair",
    "restyle",
    "row",
    "rule",
    "scrolled",
    "swap",
    "tab",
]

Shown = TypeVar("Shown", bound=QWidget)
Line = TypeVar("Line", bound=QBoxLayout)
LONGEST_WORD, CUT = 24, 20  # letters of the margin that cannot be broken


class Chooser(QComboBox):
    """A box that opens a list; the triangle says so in every theme."""

    def __init__(self) -> None:
        super().__init__()
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colours()["quiet"])
        x, y = self.width() - 15, self.height() // 2
        painter.drawPolygon(QPolygon([QPoint(x - 4, y - 2), QPoint(x + 4, y - 2), QPoint(x, y + 3)]))


def label(text: str = "", role: str = "", *, wrap: bool = False, selectable: bool = False) -> QLabel:
    """A label; `role` is title, heading, quiet, holds, open or broken."""
    made = QLabel(text)
    made.setTextFormat(Qt.TextFormat.PlainText)
    if role:
        made.setProperty("role", role)
    made.setWordWrap(wrap)
    if selectable:
        made.setTextInteractionFlags(
            Qt.TextInteractionFlag.TextSelectableByMouse | Qt.TextInteractionFlag.TextSelectableByKeyboard
        )
    return made


def scrolled(page: QWidget) -> QScrollArea:
    """A page that scrolls when there is too little room; Tab goes to what is on it, never to the page itself."""
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setWidget(page)
    area.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
    return area


def restyle(widget: QWidget, role: str) -> None:
    """Give a widget another role."""
    widget.setProperty("role", role)
    widget.style().unpolish(widget)
    widget.style().polish(widget)


class _Button(QPushButton):
    """One that Return presses as well as the space bar."""

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and not event.modifiers():
            self.click()
        else:
            super().keyPressEvent(event)


def button(text: str, act: Callable[[], object], role: str = "") -> QPushButton:
    made = _Button(text)
    if role:
        made.setProperty("role", role)
    if role == "link":
        made.setCursor(Qt.CursorShape.PointingHandCursor)
    made.clicked.connect(lambda: act())
    return made


def tab(text: str, act: Callable[[], object]) -> QPushButton:
    """One of several words of which one is chosen."""
    made = button(text, act, "tab")
    made.setCheckable(True)
    return made


def rule() -> QFrame:
    made = QFrame()
    made.setProperty("role", "rule")
    return made


def row(*widgets: QWidget | None, spacing: int = 8) -> QHBoxLayout:
    """Widgets side by side; None is a stretch."""
    return _line(QHBoxLayout(), widgets, spacing)


def column(*widgets: QWidget | None, spacing: int = 6) -> QVBoxLayout:
    return _line(QVBoxLayout(), widgets, spacing)


def _line(layout: Line, widgets: tuple[QWidget | None, ...], spacing: int) -> Line:
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(spacing)
    for widget in widgets:
        if widget is None:
            layout.addStretch(1)
        else:
            layout.addWidget(widget)
    return layout


def pair(name: str, value: str, role: str = "") -> QHBoxLayout:
    """A quiet name and what it says, for the margin."""
    left = label(name, "quiet")
    left.setFixedWidth(74)
    left.setAlignment(Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft)
    right = label(value, role, wrap=True, selectable=True)
    if any(len(word) > LONGEST_WORD for word in value.split()):  # would make its column wider than the window allows
        right.setText(" ".join(word if len(word) <= LONGEST_WORD else word[:CUT] + "…" for word in value.split(" ")))
        right.setToolTip(value)
    line = QHBoxLayout()
    line.setContentsMargins(0, 0, 0, 0)
    line.setSpacing(6)
    line.addWidget(left)
    line.addWidget(right, 1)
    return line


def in_turn(*actions: Callable[[], object]) -> Callable[..., None]:
    """One action that does several, whatever it is called with."""

    def act(*_: object) -> None:
        for action in actions:
            action()

    return act


def swap(layout: QLayout, old: QWidget, fresh: Shown) -> Shown:
    """Put a fresh widget where an old one stood, and return it."""
    layout.replaceWidget(old, fresh)
    old.hide()
    old.deleteLater()
    return fresh


def clear(layout: QLayout) -> None:
    """Remove everything from a layout."""
    while (item := layout.takeAt(0)) is not None:
        widget, inner = item.widget(), item.layout()
        if widget is not None:
            widget.hide()
            widget.deleteLater()
        elif inner is not None:
            clear(inner)
