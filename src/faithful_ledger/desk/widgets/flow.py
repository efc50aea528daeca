"""Widgets side by side that go on in the next line where there is no more room."""

from __future__ import annotations

from collections.abc import Iterator

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtWidgets import QLayout, QLayoutItem, QWidget

__all__ = ["Flow", "flow"]


class Flow(QLayout):
    def __init__(self, spacing: int) -> None:
        super().__init__()
        self.setContentsMargins(0, 0, 0, 0)
        self.setSpacing(spacing)
        self._items: list[QLayoutItem] = []

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:  # type: ignore[override]
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        lines = self._lines(width)
        return sum(high for _, high in lines) + self.spacing() * max(len(lines) - 1, 0)

    def sizeHint(self) -> QSize:
        hints = [item.sizeHint() for item in self._shown()]
        width = sum(hint.width() for hint in hints) + self.spacing() * max(len(hints) - 1, 0)
        return QSize(width, max((hint.height() for hint in hints), default=0))

    def minimumSize(self) -> QSize:
        sizes = [item.minimumSize() for item in self._shown()]
        return QSize(max((s.width() for s in sizes), default=0), max((s.height() for s in sizes), default=0))

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        for item, place in self._laid_out(rect.width()):
            item.setGeometry(place.translated(rect.topLeft()))

    def _shown(self) -> list[QLayoutItem]:
        return [item for item in self._items if not item.isEmpty()]

    def _lines(self, width: int) -> list[tuple[list[tuple[QLayoutItem, QSize]], int]]:
        """The items of each line with the sizes they ask for, and its height."""
        lines: list[list[tuple[QLayoutItem, QSize]]] = []
        left, gap = 0, self.spacing()
        for item in self._shown():
            hint = item.sizeHint()
            wide = hint.width()
            if not lines or left + wide > width:
                lines.append([])
                left = 0
            lines[-1].append((item, hint))
            left += wide + gap
        return [(line, max(hint.height() for _, hint in line)) for line in lines]

    def _laid_out(self, width: int) -> Iterator[tuple[QLayoutItem, QRect]]:
        """Each item with its place; in a line they are centred."""
        top = 0
        for line, high in self._lines(width):
            left = 0
            for item, hint in line:
                size = hint.boundedTo(QSize(max(width, item.minimumSize().width()), high))
                yield item, QRect(QPoint(left, top + (high - size.height()) // 2), size)
                left += size.width() + self.spacing()
            top += high + self.spacing()


def flow(*widgets: QWidget, spacing: int = 8) -> Flow:
    made = Flow(spacing)
    for widget in widgets:
        made.addWidget(widget)
    return made
