"""What tables of fields show: records as rows, or single fields with their bounds.

Records are bound as their rows come into sight. They are filtered, sorted, and exchanged for the rows as they will be.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from itertools import zip_longest
from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtWidgets import QWidget

from faithful_ledger.core.binding import FieldNode, GroupNode, RowsNode
from faithful_ledger.core.binding.limits import bounds_at
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.save import Save
from faithful_ledger.core.storage import Float, JsonNumber, Switches, Value, WholeNumber
from faithful_ledger.core.template.model import Bounds, FieldSpec, GroupSpec
from faithful_ledger.desk.theme import BROKEN, colours, sans

__all__ = ["MOST_ARRANGED", "NUMBERS", "FieldsModel", "Index", "RecordsModel", "RowsModel", "bounds_text"]

Index = QModelIndex | QPersistentModelIndex
MOST_ARRANGED = 50_000  # records that are filtered and sorted
NUMBERS = Float | JsonNumber | WholeNumber


def bounds_text(bounds: Bounds | None) -> str:
    """Bounds in one line, with their reason."""
    if bounds is None:
        return ""
    least, most = bounds.least, bounds.most
    if least is None and most is None:
        return f"as {bounds.by} allows  {bounds.why}".rstrip()
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
            notes = [node.spec.note, bounds_text(bounds_at(node, self.save.value)), node.spec.locked or ""]
            return "\n".join([node.path, *filter(None, notes)])
        return None


class RecordsModel(FieldsModel):
    """The records of rows; columns are named fields."""

    def __init__(
        self, save: Save, rows_node: RowsNode, columns: tuple[str, ...], parent: QWidget | None = None
    ) -> None:
        super().__init__(save, parent)
        self.rows_node, self.columns = rows_node, columns
        self.first_rows = rows_node  # as they are in the save
        self.shown: list[int] | None = None
        self.wanted = ""
        self.sorted_by: tuple[int, bool] | None = None  # a column, and whether the largest comes first
        self._item = lru_cache(maxsize=512)(rows_node.item)
        self.hides_empty = bool(rows_node.spec.empty)
        self._wanted_empty: set[int] = set()  # records that hold nothing, and are shown to be filled
        if self.hides_empty:
            self.arrange("", None)

    @property
    def empty(self) -> list[int]:
        """The records that hold nothing in the save; of very many the first ones are looked at."""
        rows, looked = self.rows_node, min(self.rows_node.count, MOST_ARRANGED)
        return [number for number in range(looked) if rows.is_empty(self._item(number))] if rows.spec.empty else []

    def hide_empty(self, *, hidden: bool) -> None:
        self.hides_empty = hidden
        self.arrange(self.wanted, self.sorted_by)

    def fill_empty(self) -> int | None:
        """Show the first record that holds nothing, to be filled; None where there is none."""
        number = next((n for n in self.empty if n not in self._wanted_empty), None)
        if number is not None:
            self._wanted_empty.add(number)
            self.arrange(self.wanted, self.sorted_by)
        return number

    def follow(self, rows_node: RowsNode) -> None:
        """Show the records of rows as they are now."""
        if rows_node is not self.rows_node:
            self.rows_node, self._item = rows_node, lru_cache(maxsize=512)(rows_node.item)
            self.arrange(self.wanted, self.sorted_by)

    def arrange(self, wanted: str, sorted_by: tuple[int, bool] | None) -> None:
        """Show the records in which a cell has these letters, by a column or in the order of the file; of very many the
        first ones are looked at.
        """
        self.beginResetModel()
        self.wanted, self.sorted_by, self.shown = wanted, sorted_by, None
        letters = wanted.strip().casefold()
        if letters or sorted_by is not None or self.hides_empty:
            hidden = set(self.empty) - self._wanted_empty if self.hides_empty else set()
            shown = [number for number in range(min(self.rows_node.count, MOST_ARRANGED)) if number not in hidden]
            if letters:
                shown = [number for number in shown if self._has(number, letters)]
            if sorted_by is not None:
                column, descending = sorted_by
                shown.sort(key=lambda number: self._order(number, column), reverse=descending)
            self.shown = shown
        self.endResetModel()

    def _has(self, number: int, letters: str) -> bool:
        return any(letters in self._text(number, column).casefold() for column in range(len(self.columns)))

    def _text(self, number: int, column: int) -> str:
        node = self.cell(number, column)
        return self.now(node)[0] if node is not None else ""

    def _value(self, number: int, column: int) -> Value | None:
        """What a cell says; None where it has no field, or its bytes are not such a value."""
        node = self.cell(number, column)
        try:
            return self.save.value(node) if node is not None else None
        except LedgerError:
            return None

    def _order(self, number: int, column: int) -> tuple[bool, float, str]:
        """Numbers by their size, in front of texts by their letters."""
        value = self._value(number, column)
        is_number = isinstance(value, int | float) and value == value
        return not is_number, float(value) if is_number else 0.0, self._text(number, column).casefold()  # type: ignore[arg-type]

    def record(self, row: int) -> int:
        return row if self.shown is None else self.shown[row]

    def cell(self, number: int, column: int) -> FieldNode | None:
        item = self._item(number)
        node = item.names.get(self.columns[column]) if isinstance(item, GroupNode) else None
        return node if isinstance(node, FieldNode) else None

    def name_of(self, number: int) -> str:
        """What a record goes by: its first text or name of a choice, else its number."""
        for place in range(len(self.columns)):
            if isinstance(self._value(number, place), str):
                return self._text(number, place)
        return f"record {number}"

    def field(self, index: Index) -> FieldNode | None:
        return self.cell(self.record(index.row()), index.column())

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

    def __init__(
        self, save: Save, fields: list[FieldNode], keys: Sequence[str] = (), parent: QWidget | None = None
    ) -> None:
        """`keys` are what each field's record is known by, for those that would be called the same."""
        super().__init__(save, parent)
        self.fields = fields
        titles = [field.title for field in fields]
        self.titles = [
            f"{title} · {key}" if key and titles.count(title) > 1 else title
            for title, key in zip_longest(titles, keys, fillvalue="")
        ]

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
            return (self.titles[index.row()], before or now, "", bounds_text(bounds_at(node, self.save.value)))[
                index.column()
            ]
        if role == Qt.ItemDataRole.TextAlignmentRole and index.column() == 1:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ForegroundRole and index.column() in (1, 3):
            return colours()["quiet"]
        if role == Qt.ItemDataRole.FontRole and index.column() == 3:
            return sans(12)
        return super().data(index, role)
