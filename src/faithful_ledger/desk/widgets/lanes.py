"""The bytes around a place, snapshot over snapshot: one lane for each, the place framed, changed bytes tinted."""

from __future__ import annotations

from typing import NamedTuple

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from faithful_ledger.desk.theme import colours, mono, sans

__all__ = ["Lane", "Lanes"]

CELL, LANE_HEIGHT, NAME_WIDTH = 24, 36, 150
BEFORE = 8


class Lane(NamedTuple):
    """The bytes of one snapshot from `start` on; the place is [at, at + width)."""

    name: str
    start: int
    data: bytes
    at: int
    width: int


class Lanes(QWidget):
    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("The bytes there, snapshot over snapshot")
        self.lanes: list[Lane] = []

    def show_lanes(self, lanes: list[Lane]) -> None:
        self.lanes = lanes
        self.updateGeometry()
        self.setFixedHeight(self.sizeHint().height())
        self.update()

    @property
    def shown(self) -> int:
        """How many bytes of each lane there is room for."""
        return max((self.width() - NAME_WIDTH) // CELL, 1)

    def sizeHint(self) -> QSize:
        return QSize(NAME_WIDTH + 16 * CELL, max(len(self.lanes), 1) * LANE_HEIGHT + 6)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        theme = colours()
        for number, lane in enumerate(self.lanes):
            y = number * LANE_HEIGHT
            painter.setFont(sans(12))
            painter.setPen(theme["holds"])
            name = painter.fontMetrics().elidedText(lane.name, Qt.TextElideMode.ElideRight, NAME_WIDTH - 14)
            painter.drawText(QPoint(2, y + 14), name)
            painter.setFont(mono(11))
            painter.setPen(theme["quiet"])
            painter.drawText(QPoint(2, y + 29), f"0x{lane.at:04X} · {lane.at}")
            before = self.lanes[number - 1] if number else None
            for column, byte in enumerate(lane.data[: self.shown]):
                self._draw(painter, column, y, byte, self._differs(lane, before, column))
            left = NAME_WIDTH + (lane.at - lane.start) * CELL
            painter.setPen(QPen(theme["holds"], 2))
            painter.drawRect(QRect(left, y + 1, max(lane.width, 1) * CELL, LANE_HEIGHT - 3))

    @staticmethod
    def _differs(lane: Lane, before: Lane | None, column: int) -> bool:
        """Whether a byte differs from the one at the same distance from the place in the snapshot before."""
        if before is None:
            return False
        other = column - (lane.at - lane.start) + (before.at - before.start)
        return not 0 <= other < len(before.data) or before.data[other] != lane.data[column]

    @staticmethod
    def _draw(painter: QPainter, column: int, y: int, byte: int, differs: bool) -> None:
        theme = colours()
        box = QRect(NAME_WIDTH + column * CELL, y + 2, CELL, LANE_HEIGHT - 5)
        if differs:
            painter.fillRect(box, theme["pending"])
        painter.setFont(mono(13))
        painter.setPen(theme["open" if differs else "faint" if not byte else "ink"])
        painter.drawText(box.adjusted(0, 0, 0, -13), Qt.AlignmentFlag.AlignCenter, f"{byte:02X}")
        if 32 < byte < 127:
            painter.setFont(mono(10))
            painter.setPen(theme["quiet"])
            painter.drawText(box.adjusted(0, 16, 0, 0), Qt.AlignmentFlag.AlignCenter, chr(byte))
