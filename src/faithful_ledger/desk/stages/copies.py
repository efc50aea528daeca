"""The template over the save and all its kept copies at once: what each field says there, and what is still unknown."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, Any, NamedTuple

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt, QTimer, Signal
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableView, QWidget

from faithful_ledger.core.binding import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.clock import local_time
from faithful_ledger.core.collecting import collected_later
from faithful_ledger.core.errors import AddressError, LedgerError
from faithful_ledger.core.storage.lettering import visible
from faithful_ledger.desk.session import Session
from faithful_ledger.desk.stages.seen import WhenSeen
from faithful_ledger.desk.theme import BROKEN, HOLDS, OPEN, colours, mono
from faithful_ledger.desk.widgets.basics import button, column, label, row, swap
from faithful_ledger.desk.widgets.tables import plain_table

if TYPE_CHECKING:
    from faithful_ledger.core.binding import BoundFile
    from faithful_ledger.core.book import Book
    from faithful_ledger.core.describe.copies import CopyReport, UnknownRun
    from faithful_ledger.core.records import Snapshot
    from faithful_ledger.core.save import Save

__all__ = ["CopiesPane"]

Index = QModelIndex | QPersistentModelIndex
Bound = dict[str, "BoundFile"]
MOST_FIELDS, MOST_RECORDS = 4000, 8  # of rows the first records are shown
AT_ONCE = 10  # copies: about as many as there are columns in sight
SEEN = 20  # ms until these are seen, before the others are read
MOST_RUNS = 40
SUMMARY = ("fits", "explained")


class _Copy(NamedTuple):
    title: str
    bound: Bound | None
    said: CopyReport


class CopiesModel(QAbstractTableModel):
    """A row for each field, a column for each copy; what a cell says is worked out when it is looked at."""

    def __init__(self, copies: list[_Copy], fields: list[FieldNode]) -> None:
        super().__init__()
        self.copies, self.fields = copies, fields
        self._known: dict[tuple[int, int], str] = {}

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(SUMMARY) + len(self.fields)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.copies)

    def add(self, copies: list[_Copy]) -> None:
        """Put further copies behind the ones that are there."""
        self.beginInsertColumns(QModelIndex(), len(self.copies), len(self.copies) + len(copies) - 1)
        self.copies += copies
        self.endInsertColumns()

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation == Qt.Orientation.Horizontal:
            copy = self.copies[section]
            return {Qt.ItemDataRole.DisplayRole: copy.title, Qt.ItemDataRole.ToolTipRole: copy.title}.get(
                Qt.ItemDataRole(role)
            )
        name = SUMMARY[section] if section < len(SUMMARY) else self.fields[section - len(SUMMARY)].path
        return name if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole) else None

    def text(self, line: int, number: int) -> str:
        copy = self.copies[number]
        if line == 0:
            return f"{BROKEN} no" if copy.said.problem else f"{HOLDS} yes"
        if line == 1:
            return f"{copy.said.share:.0%}"
        key = (line, number)
        if key not in self._known:
            self._known[key] = self._value(self.fields[line - len(SUMMARY)], copy.bound)
        return self._known[key]

    def _value(self, field: FieldNode, bound: Bound | None) -> str:
        from faithful_ledger.core.describe.copies import value_at

        file = bound.get(field.file) if bound is not None else None
        return visible(value_at(_same(file.root, field) if file is not None else None))

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        text = self.text(index.row(), index.column())
        if role == Qt.ItemDataRole.DisplayRole:
            return text
        if role == Qt.ItemDataRole.ToolTipRole:
            problem = self.copies[index.column()].said.problem
            return problem if index.row() == 0 and problem else text
        if role == Qt.ItemDataRole.ForegroundRole:
            differs = index.row() >= len(SUMMARY) and text != self.text(index.row(), 0)
            return colours()["broken" if text.startswith(BROKEN) else "open" if differs else "ink"]
        if role == Qt.ItemDataRole.FontRole:
            return mono(12)
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        return None


def _said(title: str, bound: Bound | None) -> CopyReport:
    from faithful_ledger.core.describe.copies import report

    return report(title, bound)


def _laid_over(save: Save, book: Book, snapshot: Snapshot) -> _Copy:
    title = snapshot.label or local_time(snapshot.time)
    try:
        bound = save.laid_over(book.keeping.kept_sources(save, snapshot, inside=False))
    except LedgerError:
        bound = None
    return _Copy(title, bound, _said(title, bound))


def _same(root: GroupNode, field: FieldNode) -> Node | None:
    """The same field in another tree of the template."""
    chain: list[Node] = [field]
    while chain[-1].parent is not None:
        chain.append(chain[-1].parent)
    found: Node = root
    for step in reversed(chain[:-1]):
        if isinstance(found, RowsNode) and step.index is not None:
            try:
                found = found.item(step.index)
            except AddressError:
                return None
        elif isinstance(found, GroupNode) and step.spec.name in found.names:
            found = found.names[step.spec.name]
        else:
            return None
    return found


class CopiesPane(QWidget):
    """Signal: `chosen(start, end)` of the file that is shown."""

    chosen = Signal(object, object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._file = ""
        self.summary = label("", "heading", wrap=True)
        self.laps = label("", "broken", wrap=True)
        self.table = QTableView()
        self.table.setAccessibleName("Values in all copies")
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setShowGrid(False)
        self.table.verticalHeader().setDefaultSectionSize(22)
        self.table.verticalHeader().setMaximumWidth(150)
        self.table.verticalHeader().setTextElideMode(Qt.TextElideMode.ElideLeft)  # the last name says most
        self.table.verticalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.table.horizontalHeader().setDefaultSectionSize(84)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        self.next = button("Go to the next unknown run", self._go_on)
        self.runs_title = label("Still unknown", "heading")
        self.runs = plain_table((), [], "Unknown runs", ())
        self._runs: list[UnknownRun] = []
        self.body = column(self.summary, self.laps, self.table, self.runs_title, self.runs, spacing=6)
        self.body.addLayout(row(self.next, None))
        self.body.setContentsMargins(0, 2, 10, 6)
        self.body.setStretchFactor(self.table, 3)
        self.setLayout(self.body)
        self.model: CopiesModel | None = None
        self._wanted = 0
        self.seen = WhenSeen(self, session, self.show_save)
        self.seen.follow(session.recorded, self.show_save)
        self.seen.follow(session.marked, self._show_runs)

    def show_file(self, name: str) -> None:
        """Which file's unknown runs are listed."""
        if name != self._file:
            self._file = name
            if self.isVisible():
                self._look_for_runs()

    def show_save(self) -> None:
        """Lay the template over all copies, beside the window."""
        save, book = self.session.save, self.session.book
        self._wanted += 1
        wanted = self._wanted
        if save is None or book is None or save.template is None:
            return
        self._file = self._file if self._file in save.files else save.main.name
        now = _Copy("now", save.bound, _said("now", save.bound))
        copies = self.session.kept_copies

        def some(start: int) -> None:
            """The copies of the first columns at once, the others while these are looked at."""
            part = copies[start : start + AT_ONCE]

            def work() -> list[_Copy]:
                with collected_later():
                    return [_laid_over(save, book, snapshot) for snapshot in part]

            def done(found: list[_Copy] | None, error: LedgerError | None) -> None:
                if wanted != self._wanted or found is None:
                    return
                if start:
                    assert self.model is not None
                    self.model.add(found)
                else:
                    self._show([now, *found])
                self._sum_up(len(copies))
                if start + AT_ONCE < len(copies):
                    QTimer.singleShot(SEEN, self, partial(some, start + AT_ONCE))
                else:
                    self._look_for_runs()

            self.session.background.run(work, done)

        some(0)

    def _show(self, copies: list[_Copy]) -> None:
        bars = (self.table.verticalScrollBar(), self.table.horizontalScrollBar())
        at = [bar.value() for bar in bars]
        self.model = CopiesModel(copies, _fields(copies[0].bound or {}))
        self.table.setModel(self.model)
        for bar, value in zip(bars, at, strict=True):
            bar.setValue(value)  # a change of the template does not lead away from what is looked at
        self.table.selectionModel().currentChanged.connect(lambda index, _: self._choose(index.row()))

    def _sum_up(self, count: int) -> None:
        assert self.model is not None
        read = self.model.copies[1:]
        fitting = sum(not copy.said.problem for copy in read)
        words = "No copy is kept yet: keep one after each step in the game (Ctrl+S)"
        if count:
            words = f"{fitting} of {len(read)} kept {'copy fits' if len(read) == 1 else 'copies fit'} the template"
            words += f"; {count - len(read)} more are being read" if count > len(read) else ""
        self.summary.setText(words)

    def _choose(self, line: int) -> None:
        if self.model is not None and line >= len(SUMMARY):
            self.session.select_node(self.model.fields[line - len(SUMMARY)])

    # what is unknown

    def _look_for_runs(self) -> None:
        from faithful_ledger.core.describe.copies import overlaps, unknown_runs

        save = self.session.save
        bound = save.files[self._file].bound if save is not None and self._file in save.files else None
        if bound is None or self.model is None or bound.document.knows_ends:
            self._runs = []
            self.laps.hide()
        else:
            known = [
                copy.bound[self._file] for copy in self.model.copies[1:] if copy.bound and self._file in copy.bound
            ]
            found = unknown_runs(bound, [each.source for each in known])
            self._runs = [run for _, run in zip(range(MOST_RUNS), found, strict=False)]
            laps = [f"{BROKEN} {a.path} and {b.path} have bytes in common" for a, b in overlaps(bound.root)]
            self.laps.setText("\n".join(laps[:3]))
            self.laps.setVisible(bool(laps))
        self._show_runs()

    def _show_runs(self) -> None:
        marks = self.session.sources.marks(self._file)
        rows = []
        for run in self._runs:
            note = next(
                (mark.note for mark in marks if mark.start < run.end and run.start < mark.end and mark.note), ""
            )
            differs = f"{OPEN} {run.last - run.first} bytes from 0x{run.first:X} differ" if run.differs_in else "same"
            rows.append((f"0x{run.start:X}", str(run.end - run.start), note or differs))
        fresh = plain_table(("Offset", "Bytes", "In the copies"), rows, "Unknown runs", (70, 58))
        fresh.itemSelectionChanged.connect(lambda: self._go(fresh.currentRow()))
        fresh.setMinimumHeight(104)
        self.runs = swap(self.body, self.runs, fresh)
        self.runs_title.setText("Still unknown" if rows else "No unknown bytes are left")
        fresh.setVisible(bool(rows))
        self.next.setVisible(bool(rows))

    def _go(self, number: int) -> None:
        if 0 <= number < len(self._runs):
            self.chosen.emit(self._runs[number].start, self._runs[number].end)

    def _go_on(self) -> None:
        """To the next unknown run behind what is selected."""
        selection = self.session.selection
        at = selection.end if selection is not None and selection.file == self._file else 0
        number = next((n for n, run in enumerate(self._runs) if run.start >= at), 0)
        self.runs.selectRow(number)
        self._go(number)


def _fields(bound: Bound) -> list[FieldNode]:
    """The fields to show: all outside of rows, and those of the first records."""
    found: list[FieldNode] = []
    stack: list[Node] = [file.root for file in reversed(list(bound.values()))]
    while stack and len(found) < MOST_FIELDS:
        node = stack.pop()
        if isinstance(node, FieldNode) and not node.spec.unknown and node.spec.constant is None:
            found.append(node)
        elif isinstance(node, GroupNode):
            stack += reversed(node.children)
        elif isinstance(node, RowsNode):
            stack += [node.item(number) for number in range(min(node.count, MOST_RECORDS) - 1, -1, -1)]
    return found
