"""How one row of the byte strip is drawn: numbers with letters, lanes of other snapshots, brackets with names."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from PySide6.QtCore import QPoint, QRect, Qt
from PySide6.QtGui import QFontMetrics, QPainter, QPen, QPolygon

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage.lettering import Lettering, lettering
from faithful_ledger.desk.theme import colours, mono, sans

__all__ = [
    "CELL_WIDTHS",
    "LANE_LINE",
    "LETTER_LINE",
    "NUMBER_LINE",
    "OFFSETS_WIDTH",
    "ROW_HEIGHT",
    "PendingBytes",
    "Row",
    "StripLane",
    "draw_row",
]

CELL_WIDTHS = {"hex": 24, "decimal": 30, "bits": 74}
NUMBER_LINE, LETTER_LINE, NAME_LINE, GAP, LANE_LINE = 19, 15, 16, 6, 17
ROW_HEIGHT = NUMBER_LINE + LETTER_LINE + NAME_LINE + GAP
OFFSETS_WIDTH = 84
SPELLINGS: dict[str, Callable[[int], str]] = {"hex": "{:02X}".format, "decimal": str, "bits": "{:08b}".format}
LOOKED_BEHIND = 4  # bytes after a row that its last letter may need


class StripLane(NamedTuple):
    """Another snapshot under the same offsets: `source` is laid out as the file shown, `moved(offset)` says by how
    much the byte there really is further back in the snapshot, `absent(offset)` that it has no such byte.
    """

    name: str
    source: Source
    moved: Callable[[int], int]
    absent: Callable[[int], bool] = lambda offset: False


@dataclass(slots=True)
class PendingBytes:
    """What entries will change: new bytes by offset, spans that go, and how many bytes come in at an offset."""

    over: dict[int, int] = field(default_factory=dict)
    removed: list[tuple[int, int]] = field(default_factory=list)
    inserted: dict[int, int] = field(default_factory=dict)

    def touches(self, start: int, end: int) -> bool:
        return any(start <= at < end for at in self.over) or any(a < end and start < b for a, b in self.removed)


@dataclass(slots=True)
class Row:
    """Everything a row is drawn from. `start` may lie before the file, where rows begin at a record."""

    start: int
    low: int
    data: bytes
    fields: Sequence[FieldNode]
    base: str = "hex"
    selection: tuple[int, int] = (0, 0)
    typed: tuple[int, str] | None = None  # a byte that is half typed
    pending: PendingBytes = field(default_factory=PendingBytes)
    lanes: Sequence[tuple[StripLane, bytes]] = ()
    marks: Iterable[tuple[int, int]] = ()
    letters: Lettering = field(default_factory=lambda: lettering("ascii"))
    behind: bytes = b""
    in_letters: bool = False  # whether what is typed goes to the line of the letters

    @property
    def high(self) -> int:
        return self.low + len(self.data)


def draw_row(painter: QPainter, row: Row, y: int, left: int) -> None:
    """Draw a row with its first cell at `left`; what is scrolled under the offsets is covered by them."""
    cell = CELL_WIDTHS[row.base]
    letters = row.letters(row.data + row.behind)
    described = {
        at for f in row.fields if not f.spec.unknown for at in range(max(f.start, row.low), min(f.end, row.high))
    }
    _draw_numbers(painter, row, y, left, cell, described)
    _draw_letters(painter, row, y, left, cell, letters)
    bottom = y + NUMBER_LINE + LETTER_LINE
    for lane, data in row.lanes:
        _draw_lane(painter, row, lane, data, bottom, left, cell)
        bottom += LANE_LINE
    for start, end in row.marks:
        _draw_mark(painter, row, start, end, y, left, cell)
    for item in row.fields:
        if not item.spec.unknown:
            _draw_bracket(painter, row, item, bottom + 1, left, cell)
    _draw_offsets(painter, row, y)


def _draw_offsets(painter: QPainter, row: Row, y: int) -> None:
    theme = colours()
    height = ROW_HEIGHT + len(row.lanes) * LANE_LINE
    painter.fillRect(QRect(0, y, OFFSETS_WIDTH - 2, height), theme["paper"])
    painter.setPen(theme["ink"])
    painter.setFont(mono(12))
    painter.drawText(QPoint(4, y + NUMBER_LINE - 5), f"0x{row.low:04X}")
    painter.setPen(theme["quiet"])
    painter.setFont(mono(11))
    painter.drawText(QPoint(4, y + NUMBER_LINE + LETTER_LINE - 5), str(row.low))
    for number, (lane, _) in enumerate(row.lanes):
        moved = lane.moved(row.low)
        painter.setPen(theme["holds"])
        caption = f"{lane.name} {moved:+d}" if moved else lane.name
        painter.drawText(QPoint(4, y + NUMBER_LINE + LETTER_LINE + (number + 1) * LANE_LINE - 5), caption[:11])


def _draw_numbers(painter: QPainter, row: Row, y: int, left: int, cell: int, described: set[int]) -> None:
    """The numbers of a row. Fonts and pens are set once where they stay: each call may wait for another thread."""
    theme, spell = colours(), SPELLINGS[row.base]
    painter.setFont(mono(13))
    present = ""
    for at, byte in enumerate(row.data, row.low):
        box = QRect(left + (at - row.start) * cell, y, cell, NUMBER_LINE)
        new = row.pending.over.get(at)
        gone = any(start <= at < end for start, end in row.pending.removed)
        if new is not None or gone:
            painter.fillRect(box.adjusted(0, 0, 0, LETTER_LINE), theme["pending"])
        if row.selection[0] <= at < row.selection[1]:
            painter.fillRect(box.adjusted(0, 0, 0, LETTER_LINE), theme["tint"])
            under = NUMBER_LINE + LETTER_LINE if row.in_letters else NUMBER_LINE
            painter.fillRect(QRect(box.x(), y + under - 2, cell, 2), theme["holds"])
        shown = byte if new is None else new
        half = row.typed is not None and row.typed[0] == at
        number = f"{row.typed[1]}_" if half and row.typed is not None else spell(shown)
        quiet = "faint" if shown == 0 else "ink" if at in described else "quiet"
        pen = "open" if half or new is not None or gone else quiet
        if pen != present:
            painter.setPen(theme[pen])
            present = pen
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, number)
        if gone:
            painter.drawLine(box.x() + 2, y + NUMBER_LINE // 2, box.right() - 1, y + NUMBER_LINE // 2)
        if at in row.pending.inserted:
            _draw_inserted(painter, box.x(), y, row.pending.inserted[at])
            present = ""


def _draw_inserted(painter: QPainter, x: int, y: int, count: int) -> None:
    """A mark where bytes come in, with how many."""
    painter.save()
    painter.setBrush(colours()["open"])
    painter.setPen(Qt.PenStyle.NoPen)
    painter.drawPolygon(QPolygon([QPoint(x - 4, y), QPoint(x + 4, y), QPoint(x, y + 6)]))
    painter.setPen(colours()["open"])
    painter.setFont(mono(9))
    painter.drawText(QPoint(x + 5, y + 7), f"+{count}")
    painter.restore()


def _draw_letters(painter: QPainter, row: Row, y: int, left: int, cell: int, letters: Sequence[str]) -> None:
    painter.setFont(mono(11))
    painter.setPen(colours()["quiet"])
    for at, letter in enumerate(letters[: len(row.data)], row.low):
        new = row.pending.over.get(at)
        shown = row.letters(bytes([new]))[0] if new is not None else letter
        if shown:
            box = QRect(left + (at - row.start) * cell - 4, y + NUMBER_LINE - 3, cell + 8, LETTER_LINE)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, shown)


def _draw_lane(painter: QPainter, row: Row, lane: StripLane, data: bytes, y: int, left: int, cell: int) -> None:
    theme = colours()
    painter.setFont(mono(12))
    for at, byte in enumerate(data, row.low):
        x = left + (at - row.start) * cell
        if lane.absent(at):
            painter.setPen(theme["faint"])
            painter.drawText(QRect(x, y, cell, LANE_LINE - 1), Qt.AlignmentFlag.AlignCenter, "–")
            continue
        differs = at - row.low < len(row.data) and byte != row.data[at - row.low]
        if differs:
            painter.fillRect(QRect(x, y, cell, LANE_LINE - 1), theme["pending"])
        painter.setPen(theme["open" if differs else "faint" if not byte else "quiet"])
        number = SPELLINGS[row.base](byte)
        painter.drawText(QRect(x, y, cell, LANE_LINE - 1), Qt.AlignmentFlag.AlignCenter, number)


def _draw_mark(painter: QPainter, row: Row, start: int, end: int, y: int, left: int, cell: int) -> None:
    low, high = max(start, row.low), min(end, row.high)
    if low < high:
        painter.setPen(QPen(colours()["open"], 1, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        x = left + (low - row.start) * cell
        painter.drawRect(QRect(x + 1, y, (high - low) * cell - 2, NUMBER_LINE + LETTER_LINE - 1))


def _draw_bracket(painter: QPainter, row: Row, item: FieldNode, base: int, left: int, cell: int) -> None:
    theme = colours()
    low, high = max(item.start, row.low), min(item.end, row.high)
    if low >= high:
        return
    x0, x1 = left + (low - row.start) * cell + 2, left + (high - row.start) * cell - 2
    chosen = item.start < row.selection[1] and item.end > row.selection[0]
    pending = row.pending.touches(item.start, item.end)
    painter.setPen(theme["open" if pending else "holds" if chosen else "faint"])
    painter.drawLine(x0, base, x1, base)
    if low == item.start:
        painter.drawLine(x0, base - 4, x0, base)
    if high == item.end:
        painter.drawLine(x1, base - 4, x1, base)
    if low != item.start:
        return
    font = sans(10, strong=chosen)
    painter.setFont(font)
    painter.setPen(theme["ink" if chosen else "quiet"])
    room = x1 - x0 + 3
    name = QFontMetrics(font).elidedText(item.spec.name, Qt.TextElideMode.ElideRight, room) if room > 16 else ""
    painter.drawText(QRect(x0, base + 1, room, NAME_LINE - 2), Qt.AlignmentFlag.AlignLeft, name)
