"""Tables whose cells are fields of a save: records as rows, or single fields with their bounds.

A cell with an entry shows the new value, and the old one small beside it. Switches stand in their cell as small boxes
with names; choices open as a list; everything else is typed. Records are bound as their rows come into sight.
"""

from __future__ import annotations

from functools import partial
from typing import Any

from PySide6.QtCore import (
    QEvent,
    QModelIndex,
    QPoint,
    QRect,
    QSize,
    Qt,
    Signal,
)
from PySide6.QtGui import QFontMetrics, QGuiApplication, QKeyEvent, QKeySequence, QMouseEvent, QPainter
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QLineEdit,
    QMenu,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QWidget,
)

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.rules.audit import field_findings
from faithful_ledger.core.save import Save
from faithful_ledger.core.storage import Choice, Switches
from faithful_ledger.desk.theme import BROKEN, colours, sans
from faithful_ledger.desk.widgets.basics import in_turn
from faithful_ledger.desk.widgets.choice_box import ChoiceBox
from faithful_ledger.desk.widgets.field_models import NUMBERS, FieldsModel, Index, RecordsModel, RowsModel

__all__ = ["ROW_HEIGHT", "FieldDelegate", "FieldTable"]

ROW_HEIGHT = 26
MOST_MEASURED, WIDEST, CELL_MARGIN = 50, 230, 22
BOUNDS = 3  # the column of the bounds
WIDE = 800


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
            box = ChoiceBox(node.spec.storage, node.spec.catalogue, parent)
            box.taken.connect(in_turn(partial(self.commitData.emit, box), partial(self.closeEditor.emit, box)))
            return box
        line = QLineEdit(parent)
        line.setFont(sans(13))
        if model.aligns_numbers and isinstance(node.spec.storage, NUMBERS):
            line.setAlignment(Qt.AlignmentFlag.AlignRight)
        return line

    def setEditorData(self, editor: QWidget, index: Index) -> None:
        text = str(index.data(Qt.ItemDataRole.EditRole))
        if isinstance(editor, ChoiceBox):
            editor.show_name(text)
        elif isinstance(editor, QLineEdit):
            editor.setText(text)
            editor.selectAll()

    def setModelData(self, editor: QWidget, model: Any, index: Index) -> None:
        text = editor.chosen if isinstance(editor, ChoiceBox) else editor.text()  # type: ignore[attr-defined]
        nothing = isinstance(editor, ChoiceBox) and not text
        if text != str(index.data(Qt.ItemDataRole.EditRole)) and not nothing:
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
    """Signals: `entered(node, text)` what was typed or switched; `entered_all` several of these, as pairs of a path and
    a text; `chosen(node)` the field that is current; `record_wanted(position, like)` another record, a copy of number
    `like` or a new one (−1); `records_unwanted(numbers)`.
    """

    entered = Signal(object, str)
    entered_all = Signal(object)
    chosen = Signal(object)
    record_wanted = Signal(int, int)
    records_unwanted = Signal(object)

    def __init__(self, model: RecordsModel | RowsModel, name: str, most_rows: int = 14) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setTabKeyNavigation(False)  # Tab leaves the table, arrows move within it
        self.fields = model
        model.setParent(self)
        self.setModel(model)
        self.delegate = FieldDelegate(self)
        self.setItemDelegate(self.delegate)
        self.delegate.entered.connect(self._typed)
        self.setShowGrid(False)
        self.setWordWrap(False)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
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
        if isinstance(model, RecordsModel):
            self.horizontalHeader().setSectionsClickable(True)
            self.horizontalHeader().sectionClicked.connect(self._sort)
            for part in (self, self.verticalHeader()):
                part.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
                part.customContextMenuRequested.connect(self._show_menu)
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

    # several cells

    def _typed(self, node: FieldNode, text: str) -> None:
        """One value goes into all selected cells of its column."""
        column = self.currentIndex().column()
        cells = [index for index in self.selectedIndexes() if index.column() == column and self._can_be_typed(index)]
        nodes = [found for index in cells if (found := self.fields.field(index)) is not None]
        if len(nodes) > 1 and node.path in {each.path for each in nodes}:
            self.entered_all.emit([(each.path, text) for each in nodes])
        else:
            self.entered.emit(node, text)

    def _can_be_typed(self, index: Index) -> bool:
        return bool(self.fields.flags(index) & Qt.ItemFlag.ItemIsEditable)

    def copy(self) -> None:
        """Put the selected cells into the clipboard as spreadsheets take them: a row a line, tabs between."""
        lines: dict[int, dict[int, str]] = {}
        for index in self.selectedIndexes():
            lines.setdefault(index.row(), {})[index.column()] = str(index.data() or "")
        columns = sorted({column for line in lines.values() for column in line})
        text = "\n".join("\t".join(lines[row].get(column, "") for column in columns) for row in sorted(lines))
        QGuiApplication.clipboard().setText(text)

    def paste(self) -> None:
        """Enter what a spreadsheet copied, from the current cell on; one value goes into all selected cells."""
        text = QGuiApplication.clipboard().text().removesuffix("\n")
        first = self.currentIndex()
        if not text or not first.isValid():
            return
        lines = [line.split("\t") for line in text.replace("\r\n", "\n").split("\n")]
        if lines == [[text]] and len(self.selectedIndexes()) > 1:
            places = [(index, text) for index in self.selectedIndexes()]
        else:
            places = [
                (self.fields.index(first.row() + down, first.column() + right), value)
                for down, line in enumerate(lines)
                for right, value in enumerate(line)
            ]
        pairs = []
        for index, value in places:
            node = self.fields.field(index) if index.isValid() else None
            if node is not None and value != str(index.data(Qt.ItemDataRole.EditRole)):
                pairs.append((node.path, value))
        if pairs:
            self.entered_all.emit(pairs)

    # records

    def _sort(self, column: int) -> None:
        """By this column, the other way round at the second time, at the third in the order of the file again."""
        model = self.fields
        assert isinstance(model, RecordsModel)
        header = self.horizontalHeader()
        known = model.sorted_by
        wanted = (column, False) if known is None or known[0] != column else (column, True) if not known[1] else None
        model.arrange(model.wanted, wanted)
        header.setSortIndicatorShown(wanted is not None)
        if wanted is not None:
            order = Qt.SortOrder.DescendingOrder if wanted[1] else Qt.SortOrder.AscendingOrder
            header.setSortIndicator(column, order)

    def selected_records(self) -> list[int]:
        """The numbers of the records in which a cell is selected."""
        model = self.fields
        rows = sorted({index.row() for index in self.selectedIndexes()})
        return [model.record(row) for row in rows] if isinstance(model, RecordsModel) else []

    def _show_menu(self, at: QPoint) -> None:
        self.record_menu().popup(self.viewport().mapToGlobal(at))

    def record_menu(self) -> QMenu:
        """What can be done with the selected records."""
        menu = QMenu(self)
        chosen = self.selected_records()
        many = "this record" if len(chosen) == 1 else f"these {len(chosen)} records"
        menu.addAction("New record below\tIns", lambda: self.want_record(copy=False))
        if chosen:
            menu.addAction("Copy of this record below\tAlt+Ins", lambda: self.want_record(copy=True))
            menu.addAction(f"Remove {many}\tCtrl+Del", lambda: self.records_unwanted.emit(chosen))
            menu.addSeparator()
            menu.addAction("Copy cells\tCtrl+C", self.copy)
            menu.addAction("Paste cells\tCtrl+V", self.paste)
        return menu

    def want_record(self, *, copy: bool) -> None:
        """Ask for a record below the selected ones, else at the end: a copy of the last one, or a new one."""
        model, chosen = self.fields, self.selected_records()
        assert isinstance(model, RecordsModel)
        if not copy and (empty := model.fill_empty()) is not None:
            self.fit()
            self.show_record(empty)
            return
        position = chosen[-1] + 1 if chosen else model.rows_node.count
        self.record_wanted.emit(position, chosen[-1] if copy and chosen else -1)

    def show_record(self, number: int) -> None:
        """Go to a record."""
        model = self.fields
        shown = model.shown if isinstance(model, RecordsModel) else None
        if shown is None or number in shown:
            index = model.index(number if shown is None else shown.index(number), 0)
            self.setCurrentIndex(index)
            self.scrollTo(index)

    def _command(self, event: QKeyEvent) -> bool:
        """The keys for several cells and for records; whether it was one of them."""
        if event.matches(QKeySequence.StandardKey.Copy):
            self.copy()
        elif event.matches(QKeySequence.StandardKey.Paste):
            self.paste()
        elif isinstance(self.fields, RecordsModel) and event.key() == Qt.Key.Key_Insert:
            self.want_record(copy=bool(event.modifiers() & Qt.KeyboardModifier.AltModifier))
        elif (
            isinstance(self.fields, RecordsModel)
            and event.key() == Qt.Key.Key_Delete
            and event.modifiers() & Qt.KeyboardModifier.ControlModifier
        ):
            self.records_unwanted.emit(self.selected_records())
        else:
            return False
        return True

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if self._command(event):
            return
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
