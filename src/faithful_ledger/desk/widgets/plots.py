"""Two small plots: texture and entropy over the file, and how often each byte occurs."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QBrush, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from faithful_ledger.desk.theme import colours, sans

if TYPE_CHECKING:
    from faithful_ledger.core.profile.texture import Array, Texture

__all__ = ["HistogramPlot", "TexturePlot"]

LEGEND, AXIS = 18, 8.0
# Each kind of byte with its own pattern and its own name: colour is never alone.
KINDS = (
    ("zeros", "rule", Qt.BrushStyle.SolidPattern),
    ("text", "holds", Qt.BrushStyle.SolidPattern),
    ("small numbers", "open", Qt.BrushStyle.BDiagPattern),
    ("dense", "ink", Qt.BrushStyle.Dense4Pattern),
)


class TexturePlot(QWidget):
    """What each stretch of the file is made of, stacked, with the entropy as a line. Signal: `chosen(offset)`."""

    chosen = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Texture and entropy over the file")
        self.setToolTip("The line is the entropy, from 0 to 8 bits a byte. Point at a place to go there.")
        self._texture: Texture | None = None
        self._size = 0

    def show_texture(self, texture: Texture | None, size: int) -> None:
        self._texture, self._size = texture, size
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(240, 92)

    def _box(self) -> QRectF:
        return QRectF(1, 1, self.width() - 2, self.height() - LEGEND - 2)

    def paintEvent(self, event: QPaintEvent) -> None:
        theme = colours()
        painter = QPainter(self)
        box = self._box()
        painter.fillRect(box, theme["desk"])
        found = self._texture
        if found is not None and found.starts.size:
            width = box.width() / found.starts.size
            line = QPolygonF()
            for number in range(found.starts.size):
                left, top = box.left() + number * width, box.bottom()
                shares = (found.zeros, found.text, found.small, found.dense)
                for share, (_, colour, pattern) in zip(shares, KINDS, strict=True):
                    height = float(share[number]) * box.height()
                    painter.fillRect(QRectF(left, top - height, width + 0.6, height), QBrush(theme[colour], pattern))
                    top -= height
                y = box.bottom() - float(found.entropy[number]) / AXIS * box.height()
                line.append(QPointF(left + width / 2, y))
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            for pen in (QPen(theme["paper"], 3.5), QPen(theme["broken"], 1.4)):
                painter.setPen(pen)
                painter.drawPolyline(line)
        painter.setPen(theme["faint"])
        painter.drawRect(box)
        self._draw_legend(painter, box.bottom() + 5)

    def _draw_legend(self, painter: QPainter, y: float) -> None:
        theme = colours()
        x = 1.0
        painter.setFont(sans(11))
        for name, colour, pattern in KINDS:
            painter.fillRect(QRectF(x, y + 1, 10, 10), theme["desk"])
            painter.fillRect(QRectF(x, y + 1, 10, 10), QBrush(theme[colour], pattern))
            painter.setPen(theme["faint"])
            painter.drawRect(QRectF(x, y + 1, 10, 10))
            painter.setPen(theme["quiet"])
            painter.drawText(QPointF(x + 14, y + 10), name)
            x += 24 + painter.fontMetrics().horizontalAdvance(name)
        painter.setPen(QPen(theme["broken"], 1.6))
        painter.drawLine(QPointF(x, y + 6), QPointF(x + 14, y + 6))
        painter.setPen(theme["quiet"])
        painter.drawText(QPointF(x + 18, y + 10), "entropy")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self._size:
            share = (event.position().x() - 1) / max(self._box().width(), 1)
            self.chosen.emit(min(max(int(share * self._size), 0), self._size - 1))


class HistogramPlot(QWidget):
    """How often each of the 256 bytes occurs; the heights are roots, so that rare ones are seen too."""

    def __init__(self) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("How often each byte occurs")
        self.setMouseTracking(True)
        self._counts: Array | None = None

    def show_counts(self, counts: Array | None) -> None:
        self._counts = counts
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(240, 74)

    def paintEvent(self, event: QPaintEvent) -> None:
        theme = colours()
        painter = QPainter(self)
        box = QRectF(1, 1, self.width() - 2, self.height() - LEGEND)
        painter.fillRect(box, theme["desk"])
        if self._counts is not None and self._counts.max() > 0:
            heights = (self._counts / self._counts.max()) ** 0.5 * box.height()
            width = box.width() / 256
            for byte, height in enumerate(heights.tolist()):
                colour = "holds" if 32 <= byte < 127 else "quiet"
                painter.fillRect(QRectF(box.left() + byte * width, box.bottom() - height, width, height), theme[colour])
        painter.setPen(theme["faint"])
        painter.drawRect(box)
        painter.setPen(theme["quiet"])
        painter.setFont(sans(11))
        for byte in (0, 0x20, 0x7F, 0xC0):
            x = box.left() + byte * box.width() / 256
            painter.drawText(QPointF(x, self.height() - 4), f"{byte:02X}")
        width_of_end = painter.fontMetrics().horizontalAdvance("FF")
        painter.drawText(QPointF(box.right() - width_of_end, self.height() - 4), "FF")

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._counts is not None:
            byte = min(max(int((event.position().x() - 1) / max(self.width() - 2, 1) * 256), 0), 255)
            self.setToolTip(f"{byte:02X} · {byte}: {self._counts[byte]} times")
