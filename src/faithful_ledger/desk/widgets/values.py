"""Every value of a save with its path: a list that narrows as one types, and is typed over in place."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable
from itertools import islice
from typing import Any

from PySide6.QtCore import QModelIndex, Qt, Signal
from PySide6.QtGui import QKeyEvent, QResizeEvent
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QLineEdit, QTableView, QWidget

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.free_values import keyed_path
from faithful_ledger.core.save import Save
from faithful_ledger.core.storage import JsonNumber, SpelledValue
from faithful_ledger.desk.theme import colours, mono
from faithful_ledger.desk.widgets.basics import column, label, row
from faithful_ledger.desk.widgets.field_models import FieldsModel, Index
from faithful_ledger.desk.widgets.field_table import ROW_HEIGHT, FieldDelegate

__all__ = ["ValuesPane"]

MOST_LISTED = 200_000
PATH, VALUE = range(2)


class ValuesModel(FieldsModel):
    """A value a row: its path, and what it says."""

    HEAD = ("Path", "Value")
    aligns_numbers = False

    def __init__(self, save: Save, fields: list[FieldNode], parent: QWidget | None = None) -> None:
        super().__init__(save, parent)
        self.fields = fields
        self.shown: list[int] = list(range(len(fields)))
        self._paths: dict[int, str] = {}

    def path(self, number: int) -> str:
        """How the path of a value is shown: records by their keys."""
        if number not in self._paths:
            node = self.fields[number]
            self._paths[number] = keyed_path(node) if node.spec.parent is not None else node.path
        return self._paths[number]

    def show_only(self, wanted: str) -> None:
        """Show the values whose path or text has every word of what is wanted."""
        words = wanted.casefold().split()
        self.beginResetModel()
        self.shown = [
            number
            for number, node in enumerate(self.fields)
            if not words or all(word in f"{self.path(number)}\0{self.now(node)[0]}".casefold() for word in words)
        ]
        self.endResetModel()

    def now(self, node: FieldNode) -> tuple[str, str]:
        """As for any field; what has no entry as the text spells it."""
        shown, before = super().now(node)
        if not before and self.save.tape.get(node.path) is None:
            storage = node.spec.storage
            if isinstance(storage, JsonNumber):
                shown = node.raw.decode("utf-8", "replace")
            elif isinstance(storage, SpelledValue):
                shown = storage.quoting.decode(node.raw)
        return shown, before

    def row_field(self, number: int) -> FieldNode:
        return self.fields[self.shown[number]]

    def field(self, index: Index) -> FieldNode | None:
        return self.row_field(index.row()) if index.column() == VALUE else None

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.shown)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.HEAD)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation == Qt.Orientation.Horizontal:
            if role == Qt.ItemDataRole.DisplayRole:
                return self.HEAD[section]
            if role == Qt.ItemDataRole.TextAlignmentRole:
                return Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if index.column() == PATH:
            node = self.row_field(index.row())
            if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
                return self.path(self.shown[index.row()])
            if role == Qt.ItemDataRole.ForegroundRole and self.save.tape.get(node.path) is not None:
                return colours()["open"]
            return None
        return super().data(index, role)


class ValuesPane(QWidget):
    """Signals: `entered(node, text)` what was typed; `chosen(node)` the value that is current."""

    entered = Signal(object, str)
    chosen = Signal(object)

    def __init__(self, name: str) -> None:
        super().__init__()
        self.line = QLineEdit()
        self.line.setPlaceholderText("Show only paths or values with…")
        self.line.setAccessibleName(f"Filter of {name}")
        self.line.textChanged.connect(self._narrow)
        self.count = label("", "quiet")
        self.table = _ValuesTable()
        self.table.setAccessibleName(name)
        self.table.delegate.entered.connect(self.entered)
        self.table.chosen.connect(self.chosen)
        self.model: ValuesModel | None = None
        self._starts: dict[str, list[tuple[int, int]]] = {}
        body = column(spacing=6)
        body.addLayout(row(self.line, self.count, spacing=8))
        body.addWidget(self.table, 1)
        self.setLayout(body)

    def show_fields(self, save: Save, fields: Iterable[FieldNode]) -> None:
        """List values; of very many only the first 200,000."""
        listed = list(islice(fields, MOST_LISTED))
        self.model = ValuesModel(save, listed, self.table)
        self._starts = {}
        for number, node in enumerate(listed):
            self._starts.setdefault(node.file, []).append((node.start, number))
        for starts in self._starts.values():
            starts.sort()
        self.table.show_model(self.model)
        self._narrow(self.line.text())

    def refresh(self) -> None:
        if self.model is not None:
            self.model.refresh()

    def node_at(self, file: str, offset: int) -> FieldNode | None:
        """The value of a file that an offset is in."""
        starts = self._starts.get(file, [])
        at = bisect_right(starts, (offset, MOST_LISTED)) - 1
        if at < 0 or self.model is None:
            return None
        node = self.model.fields[starts[at][1]]
        return node if offset < max(node.end, node.start + 1) else None

    def select(self, path: str) -> None:
        """Make the value of a path current, where it is shown."""
        model = self.model
        if model is None or self.table.state() == QAbstractItemView.State.EditingState:
            return
        current = self.table.currentIndex()
        if current.isValid() and model.row_field(current.row()).path == path:
            return
        found = next((place for place, number in enumerate(model.shown) if model.fields[number].path == path), None)
        if found is not None:
            self.table.setCurrentIndex(model.index(found, VALUE))

    def _narrow(self, wanted: str) -> None:
        if self.model is None:
            return
        self.model.show_only(wanted)
        total, shown = len(self.model.fields), len(self.model.shown)
        count = f"{total:,} value{'' if total == 1 else 's'}"
        self.count.setText(f"{shown:,} of {count}" if wanted.strip() else count)


class _ValuesTable(QTableView):
    chosen = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.delegate = FieldDelegate(self)
        self.setItemDelegateForColumn(VALUE, self.delegate)
        self.setShowGrid(False)
        self.setWordWrap(False)
        self.setFont(mono(12))
        self.setTabKeyNavigation(False)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        edit = QAbstractItemView.EditTrigger
        self.setEditTriggers(edit.DoubleClicked | edit.SelectedClicked | edit.EditKeyPressed | edit.AnyKeyPressed)
        self.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._wanted_width = 150
        self.verticalHeader().setVisible(False)
        self.verticalHeader().setDefaultSectionSize(ROW_HEIGHT)
        self.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        self.horizontalHeader().setHighlightSections(False)
        self.horizontalHeader().setStretchLastSection(True)

    def show_model(self, model: ValuesModel) -> None:
        self.setModel(model)
        metrics = self.fontMetrics()
        shown = min(len(model.fields), 200)
        widest = max((metrics.horizontalAdvance(model.path(number)) for number in range(shown)), default=0)
        self._wanted_width = max(widest + 24, 150)
        self._fit()
        self.selectionModel().currentChanged.connect(self._current_changed)

    def _fit(self) -> None:
        """Paths take what they need, and at most seven tenths."""
        self.setColumnWidth(PATH, min(self._wanted_width, max(self.viewport().width() * 7 // 10, 100)))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        keys = (Qt.Key.Key_Return, Qt.Key.Key_Enter)
        current = self.currentIndex()
        if event.key() in keys and current.isValid() and self.state() != QAbstractItemView.State.EditingState:
            self.edit(current.siblingAtColumn(VALUE))
            return
        super().keyPressEvent(event)

    def _current_changed(self, present: QModelIndex, before: QModelIndex) -> None:
        model = self.model()
        if present.isValid() and isinstance(model, ValuesModel):
            self.chosen.emit(model.row_field(present.row()))
