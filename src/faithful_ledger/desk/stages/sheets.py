"""Parts of the sheet of Edit: tables whose entries go to the session, and records with the lists in the current one."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from faithful_ledger.core.arranging import insert_record, remove_records, rows_now
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.save import Save
from faithful_ledger.core.template.model import GroupSpec, RowsSpec
from faithful_ledger.desk.session import Session
from faithful_ledger.desk.widgets.basics import button, clear, column, label, row
from faithful_ledger.desk.widgets.field_models import MOST_ARRANGED, RecordsModel, RowsModel
from faithful_ledger.desk.widgets.field_table import FieldTable

__all__ = ["RecordsSheet", "entry_table", "headed"]

MOST_WITHOUT_FILTER = 8  # records


class RecordsSheet(QWidget):
    """The records at a path as a table with a heading; below it, the lists in the record that is current."""

    def __init__(self, session: Session, save: Save, title: str, path: str, columns: tuple[str, ...]) -> None:
        super().__init__()
        self.session, self.path = session, path
        self.table: FieldTable | None = None  # none where the records are not found
        self.inner: list[RecordsSheet] = []
        head, body, self._count = headed(self, title)
        try:
            rows = rows_now(save, path)
        except LedgerError as error:
            body.addWidget(label(str(error), "broken", wrap=True))
            return
        self.model = RecordsModel(save, rows, columns)
        self.table = table = entry_table(session, title, self.model)
        table.record_wanted.connect(self._insert)
        table.records_unwanted.connect(self._remove)
        more = button("New record", partial(table.want_record, copy=False), "link")
        more.setToolTip("Below the selected one, else at the end. The menu of a record has more.")
        head.insertWidget(2, more)
        if self.model.empty:
            head.insertWidget(3, self._empty_shown(table))
        if rows.count > MOST_WITHOUT_FILTER:
            head.addWidget(self._filter(title))
        body.addWidget(table)
        if isinstance(rows.spec.item, GroupSpec) and rows.spec.item.lists:
            self._add_lists(table, body, rows.spec.item.lists)
        self._show_count()

    def tables(self) -> Iterator[FieldTable]:
        """The table of the records, then those of the lists below it."""
        if self.table is not None:
            yield self.table
        for sheet in self.inner:
            yield from sheet.tables()

    def show_entries(self) -> None:
        """Show the records and values as they will be."""
        if self.table is not None:
            self._follow(self.table)
            self.table.refresh()
        for sheet in self.inner:
            sheet.show_entries()

    def _follow(self, table: FieldTable) -> None:
        """Records come in and go."""
        save, model = self.session.save, self.model
        if table.state() == FieldTable.State.EditingState:
            # The line that was typed in belongs to the records until now.
            QTimer.singleShot(0, table, partial(self._follow, table))
        elif save is not None and (self.path in save.tape.rows or model.rows_node is not model.first_rows):
            found = self.session.attempt(lambda: rows_now(save, self.path))
            if found is not None:
                current = table.currentIndex()
                row, place = current.row(), current.column()
                model.follow(found if self.path in save.tape.rows else model.first_rows)
                table.fit()
                self._show_count()
                if row >= 0:
                    table.setCurrentIndex(model.index(min(row, model.rowCount() - 1), place))

    def _add_lists(self, table: FieldTable, body: QVBoxLayout, lists: list[RowsSpec]) -> None:
        holder, below = QWidget(), column(spacing=10)
        holder.setLayout(below)
        below.setContentsMargins(24, 8, 0, 0)

        def show() -> None:
            clear(below)
            self.inner = []
            save = self.session.save
            if save is None or not self.model.rowCount():
                return
            number = self.model.record(max(table.currentIndex().row(), 0))
            for spec in lists:
                title, path = f"{spec.title} of {self.model.name_of(number)}", f"{self.path}[{number}].{spec.name}"
                columns = spec.item.columns if isinstance(spec.item, GroupSpec) else ()
                sheet = RecordsSheet(self.session, save, title, path, columns)
                self.inner.append(sheet)
                below.addWidget(sheet)

        table.selectionModel().currentRowChanged.connect(show)
        self.model.modelReset.connect(show)
        show()
        body.addWidget(holder)

    def _insert(self, position: int, like: int) -> None:
        like_this = like if like >= 0 else None
        if self.session.arrange(lambda save: insert_record(save, self.path, position, like_this)):
            assert self.table is not None
            self.table.show_record(position)

    def _remove(self, numbers: list[int]) -> None:
        """Empty places of a table of fixed size; leave out records of one that may be shorter."""
        spec = self.model.rows_node.spec
        if spec.empty and spec.count is not None and spec.count.constant is not None:
            self.session.enter_all([(f"{self.path}[{n}].{name}", text) for n in numbers for name, text in spec.empty])
        else:
            self.session.arrange(lambda save: remove_records(save, self.path, numbers))

    def _filter(self, title: str) -> QLineEdit:
        line = QLineEdit()
        line.setPlaceholderText("Show only records with…")
        line.setFixedWidth(220)
        line.setAccessibleName(f"Filter of {title}")

        def narrow(text: str) -> None:
            self.model.arrange(text, self.model.sorted_by)
            self._show_count()

        line.textChanged.connect(narrow)
        return line

    def _empty_shown(self, table: FieldTable) -> QPushButton:
        """A link that shows the records that hold nothing, and hides them again."""

        def say() -> None:
            many = len(self.model.empty)
            places = f"{many} empty place{'s' if many != 1 else ''}"
            link.setText(f"Show {places}" if self.model.hides_empty else f"Hide {places}")

        def turn() -> None:
            self.model.hide_empty(hidden=not self.model.hides_empty)
            table.fit()
            self._show_count()
            say()

        link = button("", turn, "link")
        say()
        return link

    def _show_count(self) -> None:
        """How many records there are, and how many of them are shown."""
        model, total = self.model, self.model.rows_node.count
        if model.rows_node.spec.empty and not model.wanted.strip():
            text = f"{total - len(model.empty)} of {total} places are taken"
        elif model.wanted.strip() and model.shown is not None:
            looked = min(total, MOST_ARRANGED)
            text = f"{len(model.shown)} of {'the first ' if looked < total else ''}{looked} records"
        else:
            text = f"{total} records" if total != 1 else "1 record"
        self._count.setText(text)


def headed(widget: QWidget, title: str) -> tuple[QHBoxLayout, QVBoxLayout, QLabel]:
    """Give a part of the sheet its heading, what is below it, and a place in the heading for how many there are."""
    body, count = column(spacing=2), label("", "quiet")
    head = row(label(title, "title"), count, None)
    body.addLayout(head)
    widget.setLayout(body)
    return head, body, count


def entry_table(session: Session, title: str, model: RecordsModel | RowsModel) -> FieldTable:
    """A table whose entries and selection are those of the session."""
    table = FieldTable(model, title)
    table.entered.connect(session.enter)
    table.entered_all.connect(session.enter_all)
    table.chosen.connect(session.select_node)
    return table
