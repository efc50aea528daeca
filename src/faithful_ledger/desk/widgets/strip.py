"""The byte strip: every byte as a number with its letter right under it, and brackets with the fields' names.

Only the rows on the screen are read and drawn, so a file of any size scrolls alike. One row of the scroll bar is one
row of bytes; files with more rows than a scroll bar can count are scrolled in larger steps.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

from PySide6.QtCore import QPoint, QRect, QSize, Qt, Signal
from PySide6.QtGui import QFontMetrics, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QAbstractScrollArea, QWidget

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.source import MemorySource, Source
from faithful_ledger.desk.theme import BROKEN, colours, mono, sans

__all__ = ["ByteStrip"]

CELL_WIDTHS = {"hex": 24, "decimal": 30, "bits": 74}
NUMBER_LINE, LETTER_LINE, NAME_LINE, GAP = 19, 15, 16, 6
ROW_HEIGHT = NUMBER_LINE + LETTER_LINE + NAME_LINE + GAP
OFFSETS_WIDTH = 84
MOST_ROWS = 1 << 30
FIXED_WIDTHS = (8, 12, 16, 20, 24, 32, 48, 64)


class ByteStrip(QAbstractScrollArea):
    """Signals: `picked(start, end)` when the user selects bytes, `moved(first, last)` when other rows are shown."""

    picked = Signal(object, object)  # offsets; Qt's own int ends at 2 GiB
    moved = Signal(object, object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("strip")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFrameShape(QAbstractScrollArea.Shape.NoFrame)
        self.setAccessibleName("Bytes of the file")
        self._source: Source = MemorySource(b"")
        self._fields: Callable[[int, int], Iterable[FieldNode]] = lambda start, end: ()
        self._pending: dict[int, bytes] = {}
        self._base = "hex"
        self._wanted_width = 0
        self._origin = 0
        self._start = self._end = 0
        self._anchor = 0
        self.verticalScrollBar().valueChanged.connect(self._scrolled)
        self.horizontalScrollBar().valueChanged.connect(self.viewport().update)

    # what is shown

    def show_source(self, source: Source, fields: Callable[[int, int], Iterable[FieldNode]]) -> None:
        """Show a file; `fields(start, end)` gives the fields with a byte in that range."""
        self._source, self._fields = source, fields
        self._start = self._end = self._anchor = 0
        self._origin = 0
        self._layout()
        self.verticalScrollBar().setValue(0)

    def show_pending(self, spans: dict[int, bytes]) -> None:
        """Mark bytes that an entry of the same size will change: offset to new bytes."""
        self._pending = spans
        self.viewport().update()

    def set_base(self, base: str) -> None:
        """Numbers as hex, decimal or bits."""
        self._base = base
        self._layout()

    def set_row_width(self, width: int, origin: int = 0) -> None:
        """Bytes in a row; 0 fits the window. Rows begin at `origin`, as at the first record of an array."""
        first = self.first_offset
        self._wanted_width, self._origin = width, origin % width if width else 0
        self._layout()
        self.scroll_to(first)

    def select(self, start: int, end: int) -> None:
        """Select bytes and bring them into sight."""
        self._start, self._end, self._anchor = start, end, start
        self._ensure_visible(start)
        self.viewport().update()

    @property
    def selection(self) -> tuple[int, int]:
        return self._start, self._end

    @property
    def row_width(self) -> int:
        if self._wanted_width:
            return self._wanted_width
        room = self.viewport().width() - OFFSETS_WIDTH - 8
        fitting = [width for width in FIXED_WIDTHS if width * self._cell <= room]
        return fitting[-1] if fitting else FIXED_WIDTHS[0]

    @property
    def first_offset(self) -> int:
        return max(self._row_start(self._top_row()), 0)

    @property
    def _cell(self) -> int:
        return CELL_WIDTHS[self._base]

    # geometry

    def _rows(self) -> int:
        lead = 1 if self._origin else 0
        return lead + (max(self._source.size - self._origin, 0) + self.row_width - 1) // self.row_width

    def _row_start(self, row: int) -> int:
        return self._origin + (row - (1 if self._origin else 0)) * self.row_width

    def _row_of(self, offset: int) -> int:
        return (offset - self._origin) // self.row_width + (1 if self._origin else 0)

    def _rows_shown(self) -> int:
        return max(self.viewport().height() // ROW_HEIGHT, 1)

    def _step(self) -> int:
        return max(self._rows() // MOST_ROWS, 1)

    def _top_row(self) -> int:
        return self.verticalScrollBar().value() * self._step()

    def _layout(self) -> None:
        bar = self.verticalScrollBar()
        bar.setRange(0, max(0, (self._rows() - self._rows_shown()) // self._step()))
        bar.setPageStep(self._rows_shown())
        bar.setSingleStep(1)
        wide = OFFSETS_WIDTH + self.row_width * self._cell + 6 - self.viewport().width()
        self.horizontalScrollBar().setRange(0, max(wide, 0))
        self.horizontalScrollBar().setPageStep(self.viewport().width())
        self.horizontalScrollBar().setSingleStep(self._cell)
        self._scrolled()

    def _scrolled(self) -> None:
        self.viewport().update()
        first = self.first_offset
        last = min(first + self._rows_shown() * self.row_width, self._source.size)
        self.moved.emit(first, last)

    def scroll_to(self, offset: int) -> None:
        """Make the row of an offset the first."""
        self.verticalScrollBar().setValue(self._row_of(offset) // self._step())

    def _ensure_visible(self, offset: int) -> None:
        row = self._row_of(offset)
        top = self._top_row()
        if not top <= row < top + self._rows_shown():
            self.verticalScrollBar().setValue(max(row - self._rows_shown() // 3, 0) // self._step())

    def sizeHint(self) -> QSize:
        return QSize(OFFSETS_WIDTH + 16 * self._cell, 6 * ROW_HEIGHT)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._layout()

    # drawing

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self.viewport())
        painter.fillRect(event.rect(), colours()["paper"])
        for number in range(self._rows_shown() + 1):
            start = self._row_start(self._top_row() + number)
            if start >= self._source.size:
                break
            try:
                self._draw_row(painter, number * ROW_HEIGHT, start)
            except LedgerError as error:
                painter.setPen(colours()["broken"])
                painter.setFont(sans())
                box = self.viewport().rect().adjusted(12, number * ROW_HEIGHT + 8, -12, 0)
                painter.drawText(box, Qt.TextFlag.TextWordWrap, f"{BROKEN} {error}")
                break

    def _draw_row(self, painter: QPainter, y: int, start: int) -> None:
        theme = colours()
        low, high = max(start, 0), min(start + self.row_width, self._source.size)
        data = bytes(self._source.read(low, high))
        fields = list(self._fields(low, high))
        covered = {
            offset
            for field in fields
            if not field.spec.unknown
            for offset in range(max(field.start, low), min(field.end, high))
        }
        for offset, byte in enumerate(data, low):
            self._draw_cell(painter, self._x(offset - start), y, offset, byte, offset in covered)
        for field in fields:
            if not field.spec.unknown:
                self._draw_bracket(painter, y, start, low, high, field)
        painter.fillRect(QRect(0, y, OFFSETS_WIDTH - 2, ROW_HEIGHT), theme["paper"])
        painter.setPen(theme["ink"])
        painter.setFont(mono(12))
        painter.drawText(QPoint(4, y + NUMBER_LINE - 5), f"0x{low:04X}")
        painter.setPen(theme["quiet"])
        painter.setFont(mono(11))
        painter.drawText(QPoint(4, y + NUMBER_LINE + LETTER_LINE - 5), str(low))

    def _draw_cell(self, painter: QPainter, x: int, y: int, offset: int, byte: int, covered: bool) -> None:
        theme = colours()
        box = QRect(x, y, self._cell, NUMBER_LINE + LETTER_LINE)
        new = self._pending.get(offset)
        if new is not None:
            painter.fillRect(box, theme["pending"])
        if self._start <= offset < self._end:
            painter.fillRect(box, theme["tint"])
            painter.fillRect(QRect(x, y + NUMBER_LINE + LETTER_LINE - 2, self._cell, 2), theme["holds"])
        shown = byte if new is None else new[0]
        number = {"hex": f"{shown:02X}", "decimal": str(shown), "bits": f"{shown:08b}"}[self._base]
        painter.setFont(mono(13))
        painter.setPen(theme["open" if new is not None else "faint" if shown == 0 else "ink" if covered else "quiet"])
        painter.drawText(QRect(x, y, self._cell, NUMBER_LINE), Qt.AlignmentFlag.AlignCenter, number)
        painter.setFont(mono(11))
        if 32 < shown < 127:
            painter.setPen(theme["quiet"])
            painter.drawText(
                QRect(x, y + NUMBER_LINE - 3, self._cell, LETTER_LINE), Qt.AlignmentFlag.AlignCenter, chr(shown)
            )

    def _draw_bracket(self, painter: QPainter, y: int, row: int, low: int, high: int, field: FieldNode) -> None:
        theme = colours()
        left, right = max(field.start, low), min(field.end, high)
        if left >= right:
            return
        x0, x1 = self._x(left - row) + 2, self._x(right - row) - 2
        base = y + NUMBER_LINE + LETTER_LINE + 1
        chosen = field.start < self._end and field.end > self._start
        painter.setPen(theme["open" if self._pending_in(field) else "holds" if chosen else "faint"])
        painter.drawLine(x0, base, x1, base)
        if left == field.start:
            painter.drawLine(x0, base - 4, x0, base)
        if right == field.end:
            painter.drawLine(x1, base - 4, x1, base)
        if left != field.start:
            return
        font = sans(10, strong=chosen)
        painter.setFont(font)
        painter.setPen(theme["ink" if chosen else "quiet"])
        room = x1 - x0 + 3
        name = QFontMetrics(font).elidedText(field.spec.name, Qt.TextElideMode.ElideRight, room) if room > 16 else ""
        painter.drawText(QRect(x0, base + 1, room, NAME_LINE - 2), Qt.AlignmentFlag.AlignLeft, name)

    def _pending_in(self, field: FieldNode) -> bool:
        return any(field.start <= offset < field.end for offset in self._pending)

    def _x(self, column: int) -> int:
        return OFFSETS_WIDTH + column * self._cell - self.horizontalScrollBar().value()

    # picking

    def _offset_at(self, point: QPoint) -> int | None:
        column = (point.x() - self._x(0)) // self._cell
        row = self._top_row() + point.y() // ROW_HEIGHT
        column = min(max(column, 0), self.row_width - 1)
        offset = self._row_start(row) + column
        return offset if 0 <= offset < self._source.size else None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        offset = self._offset_at(event.position().toPoint())
        if offset is None or event.button() != Qt.MouseButton.LeftButton:
            return
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._extend(offset)
        else:
            self._anchor = offset
            self._pick(offset, offset + 1)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        offset = self._offset_at(event.position().toPoint())
        if offset is not None and event.buttons() & Qt.MouseButton.LeftButton:
            self._extend(offset)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        offset = self._offset_at(event.position().toPoint())
        field = next(iter(self._fields(offset, offset + 1)), None) if offset is not None else None
        if field is not None:
            self._pick(field.start, field.end)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        width, page = self.row_width, self.row_width * self._rows_shown()
        steps = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: -width,
            Qt.Key.Key_Down: width,
            Qt.Key.Key_PageUp: -page,
            Qt.Key.Key_PageDown: page,
            Qt.Key.Key_Home: -self._source.size,
            Qt.Key.Key_End: self._source.size,
        }
        step = steps.get(Qt.Key(event.key()))
        if step is None or not self._source.size:
            super().keyPressEvent(event)
            return
        present = self._end - 1 if self._anchor == self._start else self._start
        offset = min(max(present + step, 0), self._source.size - 1)
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._extend(offset)
        else:
            self._anchor = offset
            self._pick(offset, offset + 1)

    def _extend(self, offset: int) -> None:
        self._pick(min(self._anchor, offset), max(self._anchor, offset) + 1)

    def _pick(self, start: int, end: int) -> None:
        if (start, end) == (self._start, self._end):
            return
        self._start, self._end = start, end
        self._ensure_visible(end - 1 if self._anchor == start else start)
        self.viewport().update()
        self.picked.emit(start, end)
