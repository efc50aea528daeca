"""The text of a save, in numbered lines; long ones are folded.

Only what is on the screen is read and drawn, so a text of any size scrolls alike. Where each row begins is worked out
from the offsets of the line ends, with NumPy.
"""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QRect, QSize, Qt, Signal
from PySide6.QtGui import QGuiApplication, QKeyEvent, QKeySequence, QMouseEvent, QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QAbstractScrollArea

from faithful_ledger.core.source import MemorySource, Source
from faithful_ledger.desk.theme import colours, mono

__all__ = ["TextView"]

LARGEST = 512 << 20
LEAST_COLUMNS, TAB = 24, "    "
PAD = 8


class TextView(QAbstractScrollArea):
    """Signals: `picked(start, end)` the bytes that were pointed at; an empty span is a place."""

    picked = Signal(int, int)

    def __init__(self) -> None:
        super().__init__()
        self.setFont(mono(12))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("The text")
        self.viewport().setCursor(Qt.CursorShape.IBeamCursor)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._source: Source = MemorySource(b"")
        self._encoding = "utf-8"
        self._selected = (0, 0)
        self._pending: list[tuple[int, int]] = []
        self._anchor: int | None = None
        self._lines: Any = None  # where each line begins, and the end of the text
        self._first_rows: Any = None  # the number of the first row of each line, and of all rows
        self._columns = 0

    # what is shown

    def show_source(self, source: Source, encoding: str) -> None:
        import numpy as np

        self._source, self._encoding, self._selected, self._pending = source, encoding, (0, 0), []
        data = np.frombuffer(source.read(0, min(source.size, LARGEST)), np.uint8)
        ends = np.flatnonzero(data == 10) + 1
        if not ends.size:  # old texts end their lines with a carriage return alone
            ends = np.flatnonzero(data == 13) + 1
        starts = np.concatenate([[0], ends, [data.size]]).astype(np.int64)
        self._lines = starts[:-1] if starts.size > 2 and starts[-1] == starts[-2] else starts
        self._columns = 0
        self._fold()
        self.verticalScrollBar().setValue(0)
        self.viewport().update()

    def select(self, start: int, end: int) -> None:
        """Mark bytes, and bring them into sight."""
        self._selected = (start, end)
        if self._lines is not None:
            row = self.row_of(start)
            bar = self.verticalScrollBar()
            if not bar.value() <= row < bar.value() + self._rows_seen() - 1:
                bar.setValue(max(row - self._rows_seen() // 3, 0))
        self.viewport().update()

    def show_pending(self, spans: list[tuple[int, int]]) -> None:
        """Tint the bytes that entries will change."""
        self._pending = spans
        self.viewport().update()

    @property
    def selected_text(self) -> str:
        return self._decoded(*self._selected)

    # rows

    def _fold(self) -> None:
        """Work out the rows for the present width: a line has as many as it needs, at least one."""
        import numpy as np

        columns = max((self.viewport().width() - self._gutter() - 2 * PAD) // self._letter(), LEAST_COLUMNS)
        if self._lines is None or columns == self._columns:
            return
        top = self.span_of_row(self.verticalScrollBar().value())[0] if self._columns else 0
        self._columns = columns
        lengths = np.diff(self._lines)
        rows = np.maximum(-(-lengths // columns), 1)
        self._first_rows = np.concatenate([[0], np.cumsum(rows)])
        self._set_range()
        self.verticalScrollBar().setValue(self.row_of(top))

    def _set_range(self) -> None:
        bar = self.verticalScrollBar()
        bar.setPageStep(max(self._rows_seen() - 1, 1))
        bar.setRange(0, max(int(self._first_rows[-1]) - self._rows_seen() + 1, 0))

    def span_of_row(self, row: int) -> tuple[int, int, int]:
        """The bytes [start, end) of a row, and the number of its line where it is the first of it, else 0."""
        import numpy as np

        line = int(np.searchsorted(self._first_rows, row, "right")) - 1
        line = min(max(line, 0), self._lines.size - 2)
        piece = row - int(self._first_rows[line])
        begin, stop = int(self._lines[line]), int(self._lines[line + 1])
        start = self._at_letter(min(begin + piece * self._columns, stop), begin)
        end = self._at_letter(min(begin + (piece + 1) * self._columns, stop), begin)
        return start, end, line + 1 if piece == 0 else 0

    def row_of(self, offset: int) -> int:
        """The row an offset is in."""
        import numpy as np

        line = int(np.searchsorted(self._lines, offset, "right")) - 1
        line = min(max(line, 0), self._lines.size - 2)
        rows = int(self._first_rows[line + 1] - self._first_rows[line])
        piece = (offset - int(self._lines[line])) // self._columns
        return int(self._first_rows[line]) + min(max(piece, 0), rows - 1)

    def line_of(self, offset: int) -> int:
        """The number of the line an offset is in, from 1."""
        import numpy as np

        return int(np.searchsorted(self._lines, offset, "right")) if self._lines is not None else 1

    def _at_letter(self, offset: int, begin: int) -> int:
        """Back to the first byte of a letter, where letters have several."""
        if self._encoding != "utf-8":
            return offset
        while offset > begin and (letter := bytes(self._source.read(offset, offset + 1))) and letter[0] & 0xC0 == 0x80:
            offset -= 1
        return offset

    def _decoded(self, start: int, end: int) -> str:
        text = bytes(self._source.read(start, end)).decode(self._encoding, "replace")
        return text.rstrip("\r\n").replace("\t", TAB)

    # measures

    def _letter(self) -> int:
        return max(self.fontMetrics().horizontalAdvance("0"), 1)

    @property
    def row_height(self) -> int:
        """In pixels."""
        return self.fontMetrics().height() + 3

    def _gutter(self) -> int:
        lines = self._lines.size - 1 if self._lines is not None else 1
        return self._letter() * max(len(f"{lines}"), 3) + 2 * PAD

    def _rows_seen(self) -> int:
        return max(self.viewport().height() // self.row_height, 1)

    def sizeHint(self) -> QSize:
        return QSize(400, 300)

    # drawing

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self.viewport())
        theme = colours()
        painter.fillRect(event.rect(), theme["paper"])
        if self._lines is None or not self._source.size:
            return
        gutter, height = self._gutter(), self.row_height
        painter.fillRect(QRect(0, 0, gutter, self.viewport().height()), theme["margin"])
        painter.setFont(self.font())
        first, total = self.verticalScrollBar().value(), int(self._first_rows[-1])
        for place in range(self._rows_seen() + 1):
            number = first + place
            if number >= total:
                break
            start, end, line = self.span_of_row(number)
            top = place * height
            if line:
                painter.setPen(theme["quiet"])
                box = QRect(0, top, gutter - PAD, height)
                painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"{line}")
            for spans, colour in ((self._pending, "pending"), ([self._selected], "tint")):
                for span in spans:
                    self._paint_span(painter, span, (start, end), gutter + PAD, top, theme[colour])
            painter.setPen(theme["ink"])
            painter.drawText(
                QRect(gutter + PAD, top, self.viewport().width(), height),
                Qt.AlignmentFlag.AlignVCenter,
                self._decoded(start, end),
            )
        begin, stop = self._selected
        if self.hasFocus() and stop > begin:
            painter.setPen(theme["holds"])
            row = self.row_of(begin)
            if first <= row <= first + self._rows_seen():
                start, end, _ = self.span_of_row(row)
                left = gutter + PAD + self._width(start, max(begin, start))
                top = (row - first) * height
                painter.drawRect(QRect(left - 2, top, self._width(max(begin, start), min(stop, end)) + 3, height - 1))

    def _paint_span(
        self, painter: QPainter, span: tuple[int, int], row: tuple[int, int], left: int, top: int, colour: Any
    ) -> None:
        begin, stop = max(span[0], row[0]), min(span[1], row[1])
        if begin < stop:
            x = left + self._width(row[0], begin)
            painter.fillRect(QRect(x - 1, top, self._width(begin, stop) + 2, self.row_height), colour)

    def _width(self, start: int, end: int) -> int:
        return self.fontMetrics().horizontalAdvance(self._decoded(start, end))

    # pointing

    def offset_at(self, x: int, y: int) -> int:
        """The offset of the letter at a place of the view."""
        row = min(self.verticalScrollBar().value() + max(y, 0) // self.row_height, int(self._first_rows[-1]) - 1)
        start, end, _ = self.span_of_row(row)
        text = bytes(self._source.read(start, end)).decode(self._encoding, "replace")
        at, left = start, self._gutter() + PAD
        for letter in text:
            width = self.fontMetrics().horizontalAdvance(TAB if letter == "\t" else letter)
            if left + width > x or letter in "\r\n":
                break
            left += width
            at += len(letter.encode(self._encoding, "replace"))
        return min(at, end)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self._lines is not None and self._source.size:
            self._anchor = self.offset_at(int(event.position().x()), int(event.position().y()))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._anchor is not None:
            here = self.offset_at(int(event.position().x()), int(event.position().y()))
            self._selected = (min(self._anchor, here), max(self._anchor, here))
            self.viewport().update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._anchor is not None:
            here = self.offset_at(int(event.position().x()), int(event.position().y()))
            start, end = min(self._anchor, here), max(self._anchor, here)
            self._anchor = None
            self.picked.emit(start, end)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        bar = self.verticalScrollBar()
        steps = {
            Qt.Key.Key_Up: -1,
            Qt.Key.Key_Down: 1,
            Qt.Key.Key_PageUp: -bar.pageStep(),
            Qt.Key.Key_PageDown: bar.pageStep(),
        }
        if event.matches(QKeySequence.StandardKey.Copy):
            QGuiApplication.clipboard().setText(self.selected_text)
        elif Qt.Key(event.key()) in steps:
            bar.setValue(bar.value() + steps[Qt.Key(event.key())])
        elif event.key() == Qt.Key.Key_Home:
            bar.setValue(0)
        elif event.key() == Qt.Key.Key_End:
            bar.setValue(bar.maximum())
        else:
            super().keyPressEvent(event)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fold()
        if self._first_rows is not None:
            self._set_range()
