"""The byte strip: every byte as a number with its letter right under it, and brackets with the fields' names.

Only the rows on the screen are read and drawn, so a file of any size scrolls alike. One row of the scroll bar is one
row of bytes; files with more rows than a scroll bar can count are scrolled in larger steps.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from PySide6.QtCore import QPoint, QSize, Qt, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QFocusEvent,
    QGuiApplication,
    QKeyEvent,
    QKeySequence,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QResizeEvent,
)
from PySide6.QtWidgets import QAbstractScrollArea, QMenu, QWidget

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.source import MemorySource, Source
from faithful_ledger.core.storage.lettering import Lettering, lettering
from faithful_ledger.core.storage.literals import LITERALS
from faithful_ledger.desk.theme import BROKEN, colours, sans
from faithful_ledger.desk.widgets.strip_rows import (
    CELL_WIDTHS,
    LANE_LINE,
    LETTER_LINE,
    NUMBER_LINE,
    OFFSETS_WIDTH,
    ROW_HEIGHT,
    PendingBytes,
    Row,
    StripLane,
    draw_row,
)

__all__ = ["OFFSETS_WIDTH", "ROW_HEIGHT", "ByteStrip"]

MOST_ROWS = 1 << 30
MOST_COPIED = 16 << 20
FIXED_WIDTHS = (8, 12, 16, 20, 24, 32, 48, 64)
NIBBLES = "0123456789ABCDEF"
BRACKET, GRIP = 6, 7  # pixels around the line of a bracket, and at its ends, where it can be dragged


class ByteStrip(QAbstractScrollArea):
    """Signals: `picked(start, end)` when the user selects bytes, `moved(first, last)` when other rows are shown,
    `typed(start, end, data)` when bytes give way to others, come in (start = end) or go (no data), and
    `note_wanted(start, end)` to mark bytes, `described(start, end)` to name them; `resized(field, start, end)` when an
    end of its bracket was dragged; `untypable(text)` when a letter has no bytes in the encoding shown;
    `idle` when one is typed and no byte is in edit.
    """

    picked = Signal(object, object)  # offsets; Qt's own int ends at 2 GiB
    moved = Signal(object, object)
    typed = Signal(object, object, object)
    note_wanted = Signal(object, object)
    described = Signal(object, object)
    resized = Signal(object, object, object)
    untypable = Signal(str)
    idle = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("strip")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFrameShape(QAbstractScrollArea.Shape.NoFrame)
        self.setAccessibleName("Bytes of the file")
        self._source: Source = MemorySource(b"")
        self._fields: Callable[[int, int], Iterable[FieldNode]] = lambda start, end: ()
        self._pending = PendingBytes()
        self._lanes: Sequence[StripLane] = ()
        self._marks: Sequence[tuple[int, int]] = ()
        self._letters: Lettering = lettering("ascii")
        self._half = ""
        self._in_letters = False  # whether what is typed are letters
        self._typing = False  # whether letters and digits change bytes
        self.read_only = False
        self._base = "hex"
        self._wanted_width = 0
        self._origin = 0
        self._start = self._end = 0
        self._anchor = 0
        self._dragged: tuple[FieldNode, bool] | None = None  # a bracket, and whether its end is dragged, not its start
        self.setMouseTracking(True)
        self.viewport().setMouseTracking(True)
        self.verticalScrollBar().valueChanged.connect(self._scrolled)
        self.horizontalScrollBar().valueChanged.connect(self.viewport().update)

    # what is shown

    def show_source(self, source: Source, fields: Callable[[int, int], Iterable[FieldNode]]) -> None:
        """Show a file; `fields(start, end)` gives the fields with a byte in that range."""
        self._source, self._fields = source, fields
        self._start = self._end = self._anchor = 0
        self._origin = 0
        self._lanes, self._marks, self._half, self._typing = (), (), "", False
        self._layout()
        self.verticalScrollBar().setValue(0)

    def show_pending(self, pending: PendingBytes) -> None:
        """Mark bytes that entries will change."""
        self._pending = pending
        self.viewport().update()

    def show_lanes(self, lanes: Sequence[StripLane]) -> None:
        """Lay other snapshots under each row."""
        first = self.first_offset
        self._lanes = lanes
        self._layout()
        self.scroll_to(first)

    def show_marks(self, marks: Sequence[tuple[int, int]]) -> None:
        self._marks = marks
        self.viewport().update()

    def set_letters(self, letters: Lettering) -> None:
        """What stands under the numbers."""
        self._letters = letters
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
        return max(self.viewport().height() // self.row_height, 1)

    @property
    def row_height(self) -> int:
        return ROW_HEIGHT + len(self._lanes) * LANE_LINE

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
            y = number * self.row_height
            try:
                draw_row(painter, self._row(start), y, self._x(0))
            except LedgerError as error:
                painter.setPen(colours()["broken"])
                painter.setFont(sans())
                box = self.viewport().rect().adjusted(12, y + 8, -12, 0)
                painter.drawText(box, Qt.TextFlag.TextWordWrap, f"{BROKEN} {error}")
                break

    def _row(self, start: int) -> Row:
        low, high = max(start, 0), min(start + self.row_width, self._source.size)
        return Row(
            start,
            low,
            bytes(self._source.read(low, high)),
            list(self._fields(low, high)),
            self._base,
            (self._start, self._end),
            (self._start, self._half) if self._typing and not self._in_letters else None,
            self._pending,
            [(lane, bytes(lane.source.read(low, high))) for lane in self._lanes],
            [mark for mark in self._marks if mark[0] < high and low < mark[1]],
            self._letters,
            bytes(self._source.read(high, high + 3)),
            self._in_letters,
        )

    def _x(self, column: int) -> int:
        return OFFSETS_WIDTH + column * self._cell - self.horizontalScrollBar().value()

    # picking

    def _offset_at(self, point: QPoint) -> int | None:
        column = (point.x() - self._x(0)) // self._cell
        row = self._top_row() + point.y() // self.row_height
        column = min(max(column, 0), self.row_width - 1)
        offset = self._row_start(row) + column
        return offset if 0 <= offset < self._source.size else None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        offset = self._offset_at(event.position().toPoint())
        if offset is None or event.button() != Qt.MouseButton.LeftButton:
            return
        self._dragged = self._bracket_at(event.position().toPoint())
        if self._dragged is not None:
            field, _ = self._dragged
            self._anchor = field.start
            self._pick(field.start, field.end)
            return
        line = int(event.position().y()) % self.row_height
        self._in_letters = NUMBER_LINE <= line < NUMBER_LINE + LETTER_LINE
        self.viewport().update()
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._extend(offset)
        else:
            self._anchor = offset
            self._pick(offset, offset + 1)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        point = event.position().toPoint()
        offset = self._offset_at(point)
        if not event.buttons() & Qt.MouseButton.LeftButton:
            over = self._bracket_at(point) is not None
            self.viewport().setCursor(Qt.CursorShape.SizeHorCursor if over else Qt.CursorShape.ArrowCursor)
        elif offset is not None and self._dragged is not None:
            field, is_end = self._dragged
            self._start = field.start if is_end else min(offset, field.end - 1)
            self._end = max(offset, field.start) + 1 if is_end else field.end
            self.viewport().update()
        elif offset is not None:
            self._extend(offset)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        dragged, self._dragged = self._dragged, None
        if dragged is not None and (self._start, self._end) != (dragged[0].start, dragged[0].end):
            self.resized.emit(dragged[0], self._start, self._end)

    def _bracket_at(self, point: QPoint) -> tuple[FieldNode, bool] | None:
        """The field whose bracket begins or ends at a point, and whether it is its end."""
        line = point.y() % self.row_height - NUMBER_LINE - LETTER_LINE - len(self._lanes) * LANE_LINE
        offset = self._offset_at(point)
        if not -BRACKET <= line <= BRACKET or offset is None or self.read_only:
            return None
        column = (offset - self._origin) % self.row_width
        within = point.x() - self._x(column)
        for field in self._fields(offset, offset + 1):
            if not field.spec.unknown and field.start == offset and 0 <= within < GRIP:
                return field, False
            if not field.spec.unknown and field.end == offset + 1 and self._cell - GRIP < within <= self._cell:
                return field, True
        return None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        offset = self._offset_at(event.position().toPoint())
        field = next(iter(self._fields(offset, offset + 1)), None) if offset is not None else None
        if field is not None:
            self._pick(field.start, field.end)
        self._typing = offset is not None
        self.viewport().update()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self._stop_typing()

    def _stop_typing(self) -> None:
        self._typing, self._half = False, ""
        self.viewport().update()

    # typing and copying

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if self._end <= self._start:
            return
        menu = QMenu(self)
        for name in LITERALS:
            menu.addAction(f"Copy as {name}", lambda name=name: self.copy(name))
        menu.addSeparator()
        if not self.read_only:
            menu.addAction("Name these bytes\tCtrl+D", lambda: self.described.emit(self._start, self._end))
        menu.addAction("Mark with a note…", lambda: self.note_wanted.emit(self._start, self._end))
        if not self.read_only:
            size = self._end - self._start
            count = "a byte" if size == 1 else f"{size} bytes"
            menu.addAction(f"Insert {count} before\tIns", self._insert)
            menu.addAction(f"Remove {'this byte' if size == 1 else f'these {size} bytes'}\tDel", self._remove)
        menu.popup(event.globalPos())

    def copy(self, name: str) -> None:
        """Copy the selected bytes, at most 16 MiB of them, as one of `LITERALS`."""
        data = bytes(self._source.read(self._start, min(self._end, self._start + MOST_COPIED)))
        QGuiApplication.clipboard().setText(LITERALS[name](data))

    def _insert(self) -> None:
        self.typed.emit(self._start, self._start, bytes(self._end - self._start))

    def _remove(self) -> None:
        self.typed.emit(self._start, self._end, b"")

    def _type(self, nibble: str) -> None:
        """Half a byte in hexadecimal; with the second half the byte is entered and the next one selected."""
        at = self._start
        self._half += nibble
        if len(self._half) < 2:
            self.viewport().update()
            return
        data, self._half = bytes.fromhex(self._half), ""
        self._type_over(at, data)

    def _type_letter(self, letter: str) -> None:
        data = self._letters.spell(letter)
        if data is None or self._start + len(data) > self._source.size:
            self.untypable.emit(letter)
        else:
            self._type_over(self._start, data)

    def _type_over(self, at: int, data: bytes) -> None:
        """New bytes for as many as there are, and on to the next."""
        self.typed.emit(at, at + len(data), data)
        following = min(at + len(data), self._source.size - 1)
        self._anchor = following
        self._pick(following, following + 1)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Copy):
            self.copy("hex")
            return
        plain = event.modifiers() in (
            Qt.KeyboardModifier.NoModifier,
            Qt.KeyboardModifier.KeypadModifier,
            Qt.KeyboardModifier.ShiftModifier,
        )
        if self._end > self._start and not self.read_only and plain:
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._in_letters, self._half = self._in_letters is not self._typing, ""
                self._typing = True
                self.viewport().update()
                return
            letter = event.text()
            if not self._typing and letter.isalnum():
                self.idle.emit()
                return
            if self._typing and event.key() == Qt.Key.Key_Escape:
                self._stop_typing()
                return
            if self._in_letters and letter.isprintable() and letter:
                self._type_letter(letter)
                return
            if self._base == "hex" and letter and letter.upper() in NIBBLES:
                self._type(letter.upper())
                return
            act = {Qt.Key.Key_Insert: self._insert, Qt.Key.Key_Delete: self._remove}.get(Qt.Key(event.key()))
            if act is not None:
                act()
                return
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
        self._half = ""
        self._start, self._end = start, end
        self._ensure_visible(end - 1 if self._anchor == start else start)
        self.viewport().update()
        self.picked.emit(start, end)
