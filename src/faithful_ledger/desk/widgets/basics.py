"""Labels, rules and buttons in the roles the style sheet knows."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QLayout, QPushButton, QVBoxLayout, QWidget

__all__ = ["button", "clear", "column", "label", "pair", "restyle", "row", "rule"]


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


def restyle(widget: QWidget, role: str) -> None:
    """Give a widget another role."""
    widget.setProperty("role", role)
    widget.style().unpolish(widget)
    widget.style().polish(widget)


def button(text: str, act: Callable[[], object], role: str = "") -> QPushButton:
    made = QPushButton(text)
    if role:
        made.setProperty("role", role)
    if role == "link":
        made.setCursor(Qt.CursorShape.PointingHandCursor)
    made.clicked.connect(lambda: act())
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


def _line(layout, widgets, spacing):  # type: ignore[no-untyped-def]
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
    line = QHBoxLayout()
    line.setContentsMargins(0, 0, 0, 0)
    line.setSpacing(6)
    line.addWidget(left)
    line.addWidget(right, 1)
    return line


def clear(layout: QLayout) -> None:
    """Remove everything from a layout."""
    while (item := layout.takeAt(0)) is not None:
        widget, inner = item.widget(), item.layout()
        if widget is not None:
            widget.hide()
            widget.deleteLater()
        elif inner is not None:
            clear(inner)
