"""The band: the whole file in one line, what is explained and what is not, and where the strip stands in it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from PySide6.QtCore import QPoint, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QBrush, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from faithful_ledger.desk.theme import colours

__all__ = ["BandPart", "FileBand"]


class BandPart(NamedTuple):
    """A run of the file: `kind` is proven, described, unknown or seal; `name` is shown in a tool tip."""

    start: int
    end: int
    kind: str
    name: str


class FileBand(QWidget):
    """Signal: `chosen(offset)` when the user points at a place."""

    chosen = Signal(object)  # an offset; Qt's own int ends at 2 GiB

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("The whole file")
        self._size = 0
        self._parts: Sequence[BandPart] = ()
        self._window = (0, 0)
        self._selection = (0, 0)

    def show_parts(self, size: int, parts: Sequence[BandPart]) -> None:
        self._size, self._parts = size, parts
        self._selection = (0, 0)
        self.update()

    def show_window(self, first: int, last: int) -> None:
        self._window = (first, last)
        self.update()

    def show_selection(self, start: int, end: int) -> None:
        self._selection = (start, end)
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(200, 26)

    def minimumSizeHint(self) -> QSize:
        return QSize(60, 26)

    def paintEvent(self, event: QPaintEvent) -> None:
        theme = colours()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = self._box()
        painter.fillRect(box, theme["desk"])
        painter.fillRect(box, QBrush(theme["faint"], Qt.BrushStyle.BDiagPattern))
        for part in self._parts:
            if part.kind != "unknown":
                piece = self._piece(part.start, part.end)
                colour = theme["holds"]
                colour.setAlphaF({"proven": 0.62, "described": 0.3, "seal": 1.0}[part.kind])
                painter.fillRect(piece, theme["paper"])
                painter.fillRect(piece, colour)
        painter.setPen(QPen(theme["faint"], 1))
        painter.drawRect(box)
        if self._selection[1] > self._selection[0]:
            piece = self._piece(*self._selection)
            piece.setWidth(max(piece.width(), 3))
            painter.fillRect(piece.adjusted(0, -4, 0, 4), theme["open"])
        painter.setPen(QPen(theme["ink"], 2))
        piece = self._piece(*self._window)
        piece.setWidth(max(piece.width(), 4))
        painter.drawRect(piece.adjusted(0, -2, 0, 2))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._choose(event.position().toPoint())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        part = self._part_at(event.position().toPoint())
        if part is not None:
            self.setToolTip(part.name)
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._choose(event.position().toPoint())

    def enterEvent(self, event: object) -> None:
        self.setMouseTracking(True)

    def _choose(self, point: QPoint) -> None:
        if self._size:
            self.chosen.emit(self._offset(point))

    def _offset(self, point: QPoint) -> int:
        box = self._box()
        return min(max(int((point.x() - box.left()) / box.width() * self._size), 0), max(self._size - 1, 0))

    def _part_at(self, point: QPoint) -> BandPart | None:
        offset = self._offset(point)
        return next((part for part in self._parts if part.start <= offset < part.end), None)

    def _box(self) -> QRectF:
        return QRectF(self.rect()).adjusted(1, 5, -2, -5)

    def _piece(self, start: int, end: int) -> QRectF:
        box = self._box()
        whole = max(self._size, 1)
        left = box.left() + box.width() * start / whole
        return QRectF(left, box.top(), max(box.width() * (end - start) / whole, 1), box.height())
