"""Tables whose cells are fields of a save: records as rows, or single fields with their bounds.

A cell with an entry shows the new value, and the old one small beside it. Switches stand in their cell as small boxes
with names; choices open as a list; everything else is typed. Records are bound as their rows come into sight.
"""

from __future__ import annotations

from functools import lru_cache, partial
from typing import Any

from PySide6.QtCore import QAbstractTableModel, QEvent, QModelIndex, QPersistentModelIndex, QRect, QSize, Qt, Signal
from PySide6.QtGui import QFontMetrics, QKeyEvent, QMouseEvent, QPainter
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHeaderView,
    QLineEdit,
    QMenu,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QWidget,
)

from faithful_ledger.core.binding import FieldNode, GroupNode, RowsNode
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.rules.audit import field_findings
from faithful_ledger.core.save import Save
from faithful_ledger.core.storage import Choice, Float, JsonNumber, Switches, WholeNumber
from faithful_ledger.core.template.model import Bounds, FieldSpec, GroupSpec
from faithful_ledger.desk.theme import BROKEN, colours, sans
from faithful_ledger.desk.widgets.basics import in_turn

__all__ = [
    "ROW_HEIGHT",
    "FieldDelegate",
    "FieldTable",
    "FieldsModel",
    "Index",
    "RecordsModel",
    "RowsModel",
    "bounds_text",
]

Index = QModelIndex | QPersistentModelIndex
ROW_HEIGHT = 26
MOST_MEASURED, WIDEST, CELL_MARGIN = 50, 230, 22
BOUNDS = 3  # the column of the bounds
WIDE = 800
NUMBERS = Float | JsonNumber | WholeNumber


def bounds_text(bounds: Bounds | None) -> str:
    """Bounds in one line, with their reason."""
    if bounds is None:
        return ""
    least, most = bounds.least, bounds.most
    span = (
        f"{least} … {most}"
        if least is not None and most is not None
        else f"from {least}"
        if most is None
        else f"up to {most}"
    )
    return f"{span.replace('-', '−')}  {bounds.why}".rstrip()


class FieldsModel(QAbstractTableModel):
    """What both kinds share: a cell leads to a field, or is a plain text."""

    def __init__(self, save: Save, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.save = save

    aligns_numbers = True  # to the right of their cells

    def field(self, index: Index) -> FieldNode | None:
        raise LookupError

    def refresh(self) -> None:
        if self.rowCount():
            self.dataChanged.emit(self.index(0, 0), self.index(self.rowCount() - 1, self.columnCount() - 1))

    def now(self, node: FieldNode) -> tuple[str, str]:
        """What a field says as text, and what it said before its entry (empty without one)."""
        entry = self.save.tape.get(node.path)
        try:
            if entry is not None:
                return entry.new_text, entry.old_text
            return node.spec.storage.to_text(node.value), ""
        except LedgerError:
            return f"{BROKEN} cannot be read", ""

    def flags(self, index: Index) -> Qt.ItemFlag:
        flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        node = self.field(index)
        editable = node is not None and node.spec.locked is None and not isinstance(node.spec.storage, Switches)
        return flags | Qt.ItemFlag.ItemIsEditable if editable else flags

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        node = self.field(index)
        if node is None:
            return None
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return self.now(node)[0]
        if role == Qt.ItemDataRole.ToolTipRole:
            notes = [node.spec.note, bounds_text(node.spec.bounds), node.spec.locked or ""]
            return "\n".join([node.path, *filter(None, notes)])
        return None


class RecordsModel(FieldsModel):
    """The records of rows; columns are named fields."""

    def __init__(
        self, save: Save, rows_node: RowsNode, columns: tuple[str, ...], parent: QWidget | None = None
    ) -> None:
        super().__init__(save, parent)
        self.rows_node, self.columns = rows_node, columns
        self.shown: list[int] | None = None
        self._item = lru_cache(maxsize=512)(rows_node.item)

    def show_only(self, numbers: list[int] | None) -> None:
        """Show these records, or all."""
        self.beginResetModel()
        self.shown = numbers
        self.endResetModel()

    def record(self, row: int) -> int:
        return row if self.shown is None else self.shown[row]

    def field(self, index: Index) -> FieldNode | None:
        item = self._item(self.record(index.row()))
        node = item.names.get(self.columns[index.column()]) if isinstance(item, GroupNode) else None
        return node if isinstance(node, FieldNode) else None

    def spec(self, column: int) -> FieldSpec | None:
        item = self.rows_node.spec.item
        found = item.named(self.columns[column]) if isinstance(item, GroupSpec) else None
        return found if isinstance(found, FieldSpec) else None

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else self.rows_node.count if self.shown is None else len(self.shown)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.columns)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.DisplayRole:
            if orientation == Qt.Orientation.Vertical:
                return f"{self.record(section)}"
            spec = self.spec(section)
            return spec.title if spec is not None else self.columns[section]
        if role == Qt.ItemDataRole.TextAlignmentRole and orientation == Qt.Orientation.Horizontal:
            spec = self.spec(section)
            right = spec is not None and isinstance(spec.storage, NUMBERS)
            side = Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft
            return side | Qt.AlignmentFlag.AlignVCenter
        return None


class RowsModel(FieldsModel):
    """Single fields, one a row: its name, what is in the save, what is entered, its bounds."""

    HEAD = ("", "In save", "Enter", "Bounds")

    def __init__(self, save: Save, fields: list[FieldNode], parent: QWidget | None = None) -> None:
        super().__init__(save, parent)
        self.fields = fields

    def field(self, index: Index) -> FieldNode | None:
        return self.fields[index.row()] if index.column() == 2 else None

    def row_field(self, row: int) -> FieldNode:
        return self.fields[row]

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.fields)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.HEAD)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return self.HEAD[section]
        if role == Qt.ItemDataRole.TextAlignmentRole and orientation == Qt.Orientation.Horizontal:
            side = Qt.AlignmentFlag.AlignRight if section in (1, 2) else Qt.AlignmentFlag.AlignLeft
            return side | Qt.AlignmentFlag.AlignVCenter
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        node = self.fields[index.row()]
        if role == Qt.ItemDataRole.DisplayRole and index.column() != 2:
            now, before = self.now(node)
            return (node.title, before or now, "", bounds_text(node.spec.bounds))[index.column()]
        if role == Qt.ItemDataRole.TextAlignmentRole and index.column() == 1:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ForegroundRole and index.column() in (1, 3):
            return colours()["quiet"]
        if role == Qt.ItemDataRole.FontRole and index.column() == 3:
            return sans(12)
        return super().data(index, role)


class FieldDelegate(QStyledItemDelegate):
    """Draws a field's cell and edits it; what was typed goes to `entered`."""

    entered = Signal(object, str)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        model = index.model()
        node = model.field(index) if isinstance(model, FieldsModel) else None
        if node is None or not isinstance(model, FieldsModel):
            super().paint(painter, option, index)
            return
        painter.save()
        theme = colours()
        box: QRect = option.rect  # type: ignore[attr-defined]  # the stubs leave the fields of a style option out
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)  # type: ignore[attr-defined]
        painter.fillRect(box, theme["tint" if chosen else "paper"])
        painter.setPen(theme["rule"])
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        if isinstance(node.spec.storage, Switches):
            self._paint_switches(painter, box, model, node)
        else:
            self._paint_value(painter, box.adjusted(7, 0, -7, 0), model, node, isinstance(model, RowsModel))
        painter.restore()

    def _paint_value(self, painter: QPainter, box: QRect, model: FieldsModel, node: FieldNode, framed: bool) -> None:
        theme = colours()
        now, before = model.now(node)
        number = framed or (model.aligns_numbers and isinstance(node.spec.storage, NUMBERS))
        changed = model.save.tape.get(node.path) is not None
        wrong = not changed and any(finding.level != "note" for finding in field_findings(node))
        font = sans(13, strong=changed or wrong)
        painter.setFont(font)
        painter.setPen(theme["open" if changed else "broken" if wrong else "ink"])
        text = f"{BROKEN} {now}" if wrong and not now.startswith(BROKEN) else now
        room = box.width()
        shown = QFontMetrics(font).elidedText(text, Qt.TextElideMode.ElideRight, room)
        width = QFontMetrics(font).horizontalAdvance(shown)
        small = sans(11)
        was = f"was {before}" if changed and not framed else ""
        was_width = QFontMetrics(small).horizontalAdvance(was) if was else 0
        if was_width and width + was_width + 8 > room:
            was, was_width = "", 0
        x = box.right() - width - (was_width + 6 if was else 0) + 1 if number else box.left()
        painter.drawText(QRect(x, box.top(), width + 2, box.height()), Qt.AlignmentFlag.AlignVCenter, shown)
        if framed and changed:
            painter.drawRect(QRect(x - 5, box.top() + 3, width + 9, box.height() - 7))
        if was:
            painter.setFont(small)
            painter.setPen(theme["quiet"])
            painter.drawText(
                QRect(x + width + 6, box.top() + 1, was_width + 2, box.height()), Qt.AlignmentFlag.AlignVCenter, was
            )

    def _paint_switches(self, painter: QPainter, box: QRect, model: FieldsModel, node: FieldNode) -> None:
        theme = colours()
        try:
            on = model.save.value(node)
            before = node.value
        except LedgerError:
            return
        for name, place in _switch_places(node, box):
            is_on, was_on = name in (on or ()), name in (before or ())  # type: ignore[operator]
            pen = theme["open" if is_on != was_on else "ink" if is_on else "quiet"]
            painter.setPen(pen)
            mark = QRect(place.left(), place.center().y() - 5, 11, 11)
            painter.drawRect(mark)
            if is_on:
                painter.fillRect(mark.adjusted(3, 3, -2, -2), pen)
            painter.setFont(sans(12, strong=is_on != was_on))
            painter.drawText(place.adjusted(16, 0, 6, 0), Qt.AlignmentFlag.AlignVCenter, name)

    def editorEvent(self, event: QEvent, model: Any, option: QStyleOptionViewItem, index: Index) -> bool:
        node = model.field(index) if isinstance(model, FieldsModel) else None
        if node is not None and isinstance(node.spec.storage, Switches) and isinstance(event, QMouseEvent):
            if event.type() == QEvent.Type.MouseButtonRelease:
                for name, place in _switch_places(node, option.rect):  # type: ignore[attr-defined]
                    if place.contains(event.position().toPoint()):
                        self.toggle(model.save, node, name)
                        return True
            return False
        return super().editorEvent(event, model, option, index)

    def toggle(self, save: Save, node: FieldNode, name: str) -> None:
        on = save.value(node)
        self.entered.emit(node, f"-{name}" if isinstance(on, tuple) and name in on else f"+{name}")

    def createEditor(self, parent: QWidget, option: QStyleOptionViewItem, index: Index) -> QWidget:
        model = index.model()
        assert isinstance(model, FieldsModel)
        node = model.field(index)
        assert node is not None
        if isinstance(node.spec.storage, Choice):
            box = QComboBox(parent)
            box.addItems([name for _, name in sorted(node.spec.storage.names.items())])
            box.activated.connect(in_turn(partial(self.commitData.emit, box), partial(self.closeEditor.emit, box)))
            return box
        line = QLineEdit(parent)
        line.setFont(sans(13))
        if model.aligns_numbers and isinstance(node.spec.storage, NUMBERS):
            line.setAlignment(Qt.AlignmentFlag.AlignRight)
        return line

    def setEditorData(self, editor: QWidget, index: Index) -> None:
        text = str(index.data(Qt.ItemDataRole.EditRole))
        if isinstance(editor, QComboBox):
            editor.setCurrentIndex(max(editor.findText(text), 0))
            editor.showPopup()
        elif isinstance(editor, QLineEdit):
            editor.setText(text)
            editor.selectAll()

    def setModelData(self, editor: QWidget, model: Any, index: Index) -> None:
        text = editor.currentText() if isinstance(editor, QComboBox) else editor.text()  # type: ignore[attr-defined]
        if text != str(index.data(Qt.ItemDataRole.EditRole)):
            self.entered.emit(model.field(index), text)

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        return QSize(60, ROW_HEIGHT)


def _switch_places(node: FieldNode, box: QRect) -> list[tuple[str, QRect]]:
    metrics = QFontMetrics(sans(12))
    places = []
    x = box.left() + 7
    assert isinstance(node.spec.storage, Switches)
    for _, name in sorted(node.spec.storage.names.items()):
        width = 20 + metrics.horizontalAdvance(name)
        places.append((name, QRect(x, box.top(), width, box.height())))
        x += width + 10
    return places


class FieldTable(QTableView):
    """Signals: `entered(node, text)` what was typed or switched; `chosen(node)` the field that is current."""

    entered = Signal(object, str)
    chosen = Signal(object)

    def __init__(self, model: RecordsModel | RowsModel, name: str, most_rows: int = 14) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.fields = model
        model.setParent(self)
        self.setModel(model)
        self.delegate = FieldDelegate(self)
        self.setItemDelegate(self.delegate)
        self.delegate.entered.connect(self.entered)
        self.setShowGrid(False)
        self.setWordWrap(False)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        edit = QAbstractItemView.EditTrigger
        self.setEditTriggers(edit.DoubleClicked | edit.SelectedClicked | edit.EditKeyPressed | edit.AnyKeyPressed)
        self.horizontalHeader().setHighlightSections(False)
        self.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        self.verticalHeader().setDefaultSectionSize(ROW_HEIGHT)
        self.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        self.verticalHeader().setVisible(isinstance(model, RecordsModel))
        self.verticalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.verticalHeader().setHighlightSections(False)
        self._most_rows = most_rows
        self._set_widths()
        self.fit()
        self.selectionModel().currentChanged.connect(self._current_changed)

    def fit(self) -> None:
        """As high as the rows, up to a limit."""
        rows = min(self.fields.rowCount(), self._most_rows)
        hidden = Qt.ScrollBarPolicy.ScrollBarAlwaysOff
        if rows == self.fields.rowCount():
            self.setVerticalScrollBarPolicy(hidden)
        if isinstance(self.fields, RowsModel):
            self.setHorizontalScrollBarPolicy(hidden)
        wide = sum(self.columnWidth(column) for column in range(self.fields.columnCount())) > WIDE
        self.setFixedHeight(self.horizontalHeader().sizeHint().height() + rows * ROW_HEIGHT + 6 + (12 if wide else 0))

    def refresh(self) -> None:
        self.fields.refresh()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        node = self.fields.field(self.currentIndex()) if self.currentIndex().isValid() else None
        keys = (Qt.Key.Key_Space, Qt.Key.Key_F2, Qt.Key.Key_Return, Qt.Key.Key_Enter)
        if node is not None and isinstance(node.spec.storage, Switches) and event.key() in keys:
            self.switch_menu(node).popup(self.viewport().mapToGlobal(self.visualRect(self.currentIndex()).bottomLeft()))
            return
        if node is not None and event.key() in keys[2:] and self.state() != QAbstractItemView.State.EditingState:
            self.edit(self.currentIndex())
            return
        super().keyPressEvent(event)

    def switch_menu(self, node: FieldNode) -> QMenu:
        """The switches of one cell as a list, for the keyboard."""
        assert isinstance(node.spec.storage, Switches)
        menu = QMenu(self)
        on = self.fields.save.value(node)
        for _, name in sorted(node.spec.storage.names.items()):
            action = menu.addAction(name)
            action.setCheckable(True)
            action.setChecked(isinstance(on, tuple) and name in on)
            action.triggered.connect(lambda _=False, name=name: self.delegate.toggle(self.fields.save, node, name))
        return menu

    def _set_widths(self) -> None:
        if isinstance(self.fields, RowsModel):
            metrics = QFontMetrics(sans(13))
            rows = range(min(self.fields.rowCount(), MOST_MEASURED))
            for column, least in enumerate((130, 74, 90, 110)):
                texts = (str(self.fields.index(row, column).data() or "") for row in rows)
                widest = max((metrics.horizontalAdvance(text) for text in texts), default=0) + CELL_MARGIN
                self.setColumnWidth(column, min(max(least, widest), WIDEST) if column < BOUNDS else least)
            self.horizontalHeader().setStretchLastSection(True)
            return
        for column in range(self.fields.columnCount()):
            spec = self.fields.spec(column)
            width = 104
            if spec is not None and isinstance(spec.storage, Switches):
                metrics = QFontMetrics(sans(12))
                width = 14 + sum(30 + metrics.horizontalAdvance(name) for name in spec.storage.names.values())
            elif spec is not None and isinstance(spec.storage, NUMBERS):
                width = 80
            elif spec is not None and isinstance(spec.storage, Choice):
                width = 112
            elif spec is not None:
                width = 128
            self.setColumnWidth(column, width)
        self.horizontalHeader().setStretchLastSection(True)

    def _current_changed(self, present: QModelIndex, before: QModelIndex) -> None:
        if not present.isValid():
            return
        model = self.fields
        node = model.row_field(present.row()) if isinstance(model, RowsModel) else model.field(present)
        if node is not None:
            self.chosen.emit(node)
