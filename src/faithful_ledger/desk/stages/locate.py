"""Locate: what the game showed at each kept copy, and the places that explain all of it."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from time import process_time
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QFontMetrics
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QLineEdit,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from faithful_ledger.core.clock import local_time
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.records import Quantity, Snapshot
from faithful_ledger.desk.session import Message, Session
from faithful_ledger.desk.stages.seen import WhenSeen
from faithful_ledger.desk.theme import HOLDS, OPEN, colours, mono, sans
from faithful_ledger.desk.widgets.basics import button, column, in_turn, label, scrolled, swap
from faithful_ledger.desk.widgets.basics import row as side_by_side
from faithful_ledger.desk.widgets.lanes import BEFORE, Lane, Lanes
from faithful_ledger.desk.widgets.tables import cell, plain_table
from faithful_ledger.desk.widgets.words import storage_in_brief

if TYPE_CHECKING:
    from faithful_ledger.core.deadline import Deadline
    from faithful_ledger.core.evidence import Located, Place

__all__ = ["LocateStage"]

MOST_SNAPSHOTS = 12
MOST_SHOWN = 40
ROOM = 430  # pixels for all columns of sightings, so that the standing is seen beside them
SECONDS = 10.0  # for one quantity
NEARLY, MOST_WIDTHS = 15.0, 2  # bits by which other ways to read a spot may be behind, and how many are shown
LANE_BYTES = 64
NOTED = " *"  # behind a sighting with a note
LETTERS = "ABCDEFGHIJKL"
HEADING_EDGE = 14  # pixels of a heading beside its text
HOW = (
    "One row for each thing you watched, one column for each kept copy. "
    "Write what you saw, as the game shows it: 1,340, 45%, a text, or only more, less, same."
)
FIRST = (
    "Keep copies while you play (in History, or with Ctrl+S), one after each step. "
    "Then write here what the game showed at each of them."
)


class LocateStage(QWidget):
    """The sheet of the stage Locate. Signal: `about(quantity, located, place)` for the margin."""

    about = Signal(object, object, object)
    found_so_far = Signal(int, object, object)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self.seen = WhenSeen(self, session, self.show_save)
        self.snapshots: list[Snapshot] = []
        self.quantities: list[Quantity] = []
        self.located: dict[int, Located] = {}
        self._asked: dict[int, tuple[tuple[str, str], ...]] = {}
        self._looking: dict[int, Deadline] = {}
        self._rows: list[Place] = []
        self.progress_label = label("", "quiet")
        self.stop_button = button("Stop looking", self._stop_looking, "link")
        self.progress = QWidget()
        self.progress.setLayout(side_by_side(self.progress_label, self.stop_button, None))
        self.sheet = QTableWidget()
        self.places = plain_table((), [], "Places", ())
        self.place_title = label("", "title")
        self.lanes_title = label("The bytes there, snapshot over snapshot", "title")
        self.lanes = Lanes()
        self.hint = label("", "quiet", wrap=True)
        self.note_line = QLineEdit()
        self.note_line.setPlaceholderText("What you saw just then, in your words: it stays with the cell")
        self.note_line.setAccessibleName("Note of the eye-witness for the selected cell")
        self.note_line.returnPressed.connect(self._note)
        page = QWidget()
        page.setObjectName("page")
        self.body = column(spacing=6)
        self.body.setContentsMargins(16, 12, 16, 10)
        self.body.addWidget(label("What the game showed", "title"))
        self.body.addWidget(self.hint)
        self.body.addWidget(self.sheet)
        self.body.addWidget(self.note_line)
        self.body.addSpacing(8)
        self.body.addWidget(self.progress)
        self.body.addWidget(self.place_title)
        self.body.addWidget(self.places)
        self.body.addSpacing(8)
        self.body.addWidget(self.lanes_title)
        self.body.addWidget(self.lanes)
        self.body.addStretch(1)
        page.setLayout(self.body)
        area = scrolled(page)
        self.setLayout(column(area))
        session.recorded.connect(self.seen.mark_stale)
        self.found_so_far.connect(self._show_found, Qt.ConnectionType.QueuedConnection)

    # the sheet of sightings

    def show_save(self) -> None:
        """Lay out the snapshots of the save and what was seen at each."""
        session = self.session
        if session.book is None or session.save is None:
            return
        current, place = self.current if self.sheet.currentRow() >= 0 else None, self.sheet.currentColumn()
        self.snapshots = list(reversed(session.kept_copies[:MOST_SNAPSHOTS]))
        self.quantities = session.book.records.quantities(session.save.path)
        here = {quantity.id for quantity in self.quantities}
        for id_ in [id_ for id_ in self._looking if id_ not in here]:
            self._looking.pop(id_).cancel()
        self.located = {id_: found for id_, found in self.located.items() if id_ in here}
        self.hint.setText(HOW if self.snapshots else FIRST)
        self._lay_out_sheet()
        self.sheet.blockSignals(True)  # it is shown below
        for row, quantity in enumerate(self.quantities):
            if current is not None and quantity.id == current.id:  # what somebody looks at stays, as after a pin
                self.sheet.setCurrentCell(row, place)
        self.sheet.blockSignals(False)
        self._show_note()
        for quantity in self.quantities:
            self._locate(quantity)
        self._show_standing()
        self._show_current()

    def _lay_out_sheet(self) -> None:
        book = self.session.book
        width = max(76, min(130, ROOM // max(len(self.snapshots), 1)))
        head = ["Quantity", *(self._heading(n, s, width) for n, s in enumerate(self.snapshots)), "Standing"]
        fresh = QTableWidget(len(self.quantities) + 1, len(head))
        fresh.setAccessibleName("What the game showed")
        fresh.setTabKeyNavigation(False)  # Tab leaves the table, arrows move within it
        fresh.setHorizontalHeaderLabels(head)
        for number, snapshot in enumerate(self.snapshots):
            header = fresh.horizontalHeaderItem(number + 1)
            if header is not None:
                header.setToolTip(f"{snapshot.label}\n{local_time(snapshot.time)}")
        for row, quantity in enumerate(self.quantities):
            fresh.setItem(row, 0, _item(quantity.name, strong=True))
            notes = book.records.witnessed(quantity) if book is not None else {}
            for place, snapshot in enumerate(self.snapshots, 1):
                note = notes.get(snapshot.id, "")
                cell = _item(quantity.seen.get(snapshot.id, "") + (NOTED if note else ""))
                cell.setToolTip(note)
                cell.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                fresh.setItem(row, place, cell)
            fresh.setItem(row, len(head) - 1, _fixed("…"))
        fresh.setItem(len(self.quantities), 0, _Invitation("+ name a quantity" if not self.quantities else "+ another"))
        for place in range(1, len(head)):
            fresh.setItem(len(self.quantities), place, _fixed(""))
        fresh.setShowGrid(False)
        fresh.verticalHeader().setVisible(False)
        fresh.verticalHeader().setDefaultSectionSize(27)
        fresh.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        fresh.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        fresh.horizontalHeader().setStretchLastSection(True)
        fresh.horizontalHeader().setHighlightSections(False)
        fresh.setColumnWidth(0, 150)
        for place in range(1, len(head) - 1):
            fresh.setColumnWidth(place, width)
        edit = QAbstractItemView.EditTrigger
        fresh.setEditTriggers(edit.DoubleClicked | edit.EditKeyPressed | edit.AnyKeyPressed)
        fresh.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        lines = 1 + any(snapshot.label for snapshot in self.snapshots)
        fresh.setFixedHeight(17 + 17 * lines + 27 * (len(self.quantities) + 1) + 12)
        fresh.cellChanged.connect(self._cell_changed)
        fresh.currentCellChanged.connect(in_turn(self._show_current, self._show_note))
        self.sheet = swap(self.body, self.sheet, fresh)

    @staticmethod
    def _heading(number: int, snapshot: Snapshot, width: int) -> str:
        """The letter of a snapshot, when it was kept, and beneath it what it was called."""
        label = QFontMetrics(sans(12)).elidedText(snapshot.label, Qt.TextElideMode.ElideRight, width - HEADING_EDGE)
        return f"{LETTERS[number]} · {local_time(snapshot.time)[11:16]}\n{label}".strip()

    @staticmethod
    def _letter(number: int, snapshot: Snapshot) -> str:
        return f"{LETTERS[number]} · {snapshot.label or local_time(snapshot.time)[11:16]}"

    def _cell_changed(self, row: int, place: int) -> None:
        book, save = self.session.book, self.session.save
        if book is None or save is None:
            return
        text = str(cell(self.sheet, row, place).data(Qt.ItemDataRole.EditRole) or "").removesuffix(NOTED).strip()
        if row == len(self.quantities):
            if text:
                self.session.attempt(lambda: book.records.add_quantity(save.path, text))
                self._again(row, 1)
            return
        quantity = self.quantities[row]
        if place == 0:
            rename = book.records.rename_quantity if text else None
            self.session.attempt(lambda: rename(quantity, text) if rename else book.records.remove_quantity(quantity))
            self._again(row, 0)
            return
        if place <= len(self.snapshots):
            snapshot = self.snapshots[place - 1]
            self.session.attempt(lambda: book.records.sight(quantity, snapshot.id, text))
            self.quantities = book.records.quantities(save.path)
            self._locate(self.quantities[row])

    def _noted(self) -> tuple[Quantity, Snapshot] | None:
        """The cell whose note is shown: a quantity at a snapshot."""
        row, place = self.sheet.currentRow(), self.sheet.currentColumn() - 1
        if 0 <= row < len(self.quantities) and 0 <= place < len(self.snapshots):
            return self.quantities[row], self.snapshots[place]
        return None

    def _show_note(self) -> None:
        cell, book = self._noted(), self.session.book
        self.note_line.setVisible(cell is not None)
        if cell is not None and book is not None:
            self.note_line.setText(book.records.witnessed(cell[0]).get(cell[1].id, ""))

    def _note(self) -> None:
        cell, book = self._noted(), self.session.book
        if cell is not None and book is not None:
            row, place = self.sheet.currentRow(), self.sheet.currentColumn()
            self.session.attempt(lambda: book.records.witness(cell[0], cell[1].id, self.note_line.text().strip()))
            self._again(row, place)

    def _again(self, row: int, place: int) -> None:
        self.show_save()
        self.sheet.setCurrentCell(min(row, self.sheet.rowCount() - 1), place)
        self.sheet.setFocus()

    # the engine

    def _locate(self, quantity: Quantity) -> None:
        """Ask the engine beside the window; a later question about the same quantity stops an earlier one."""
        book = self.session.book
        used = [snapshot for snapshot in self.snapshots if snapshot.id in quantity.seen]
        asked = tuple((snapshot.id, quantity.seen[snapshot.id]) for snapshot in used)
        if asked == self._asked.get(quantity.id) and (quantity.id in self.located or quantity.id in self._looking):
            return
        if (before := self._looking.pop(quantity.id, None)) is not None:
            before.cancel()
        self.located.pop(quantity.id, None)
        self._asked[quantity.id] = asked
        if book is None or not used:
            self._show_standing()
            return
        from faithful_ledger.core.deadline import Deadline
        from faithful_ledger.core.pinned import pinned_in

        end = self._looking[quantity.id] = Deadline(SECONDS, process_time)
        save = self.session.save
        pinned = pinned_in(save, lambda file: str(file.path.absolute())) if save is not None else []

        def work() -> Located:
            from faithful_ledger.core.evidence import locate_shown
            from faithful_ledger.core.unlocking import NO_KEYS, Keys
            from faithful_ledger.core.unwrapping import ways_in

            end.begin()
            sources = [
                {str(file.path): book.keeping.kept_source(file) for file in snapshot.files if file.role != "companion"}
                for snapshot in used
            ]
            seen = [quantity.seen[snapshot.id] for snapshot in used]
            keys = Keys(ways_in(save)) if save is not None else NO_KEYS
            report = partial(self.found_so_far.emit, quantity.id, end)
            return locate_shown(sources, seen, MOST_SHOWN, end, report, pinned, keys)

        def done(found: Located | None, error: LedgerError | None) -> None:
            if self._looking.get(quantity.id) is not end:
                return
            del self._looking[quantity.id]
            if found is not None:
                self.located[quantity.id] = found
            else:
                self.located.pop(quantity.id, None)
                self.session.reported.emit(Message("broken", f"{quantity.name}: {error}"))
            self._show_standing()
            self._show_current()

        self.session.looking.run(work, done)
        self._show_standing()

    def _show_found(self, id_: int, end: Deadline, found: Located) -> None:
        """What is found while the engine still looks."""
        if self._looking.get(id_) is end:
            self.located[id_] = found
            self._show_standing()
            if self.current is not None and self.current.id == id_:
                self._show_current()

    def stop(self) -> None:
        """Nobody waits for what is looked for any more."""
        for end in self._looking.values():
            end.cancel()

    def _stop_looking(self) -> None:
        quantity = self.current
        if quantity is not None and quantity.id in self._looking:
            self._looking[quantity.id].cancel()

    def _show_standing(self) -> None:
        self.sheet.blockSignals(True)
        for row, quantity in enumerate(self.quantities):
            text, kind = self._standing(quantity)
            item = cell(self.sheet, row, self.sheet.columnCount() - 1)
            if item is not None:
                item.setText(text)
                item.setForeground(colours()[kind])
                item.setFont(sans(13, strong=kind != "quiet"))
        self.sheet.blockSignals(False)

    def _standing(self, quantity: Quantity) -> tuple[str, str]:
        if quantity.pinned:
            return f"{HOLDS} pinned as {quantity.pinned}", "holds"
        found = self.located.get(quantity.id)
        if quantity.id in self._looking:
            return ("looking…" if found is None else f"looking… {found.spots} so far"), "quiet"
        if found is None:
            return "not sighted yet", "quiet"
        spots = found.spots
        if spots == 1:
            return (f"{HOLDS} 1 place left", "holds") if found.settled else (f"{OPEN} 1 likely place", "open")
        if spots:
            return f"{OPEN} {spots}{'' if len(found.by_spot) < MOST_SHOWN else '+'} places", "open"
        return (f"{OPEN} none fits all", "open") if found.by_spot else (f"{OPEN} no place", "open")

    @property
    def next_to_change(self) -> str:
        """Which of all quantities to change in the game next: the one with most places left."""
        left = {q.name: self.located[q.id].spots for q in self.quantities if q.id in self.located and not q.pinned}
        open_ = {name: count for name, count in left.items() if count > 1}
        if not open_:
            return ""
        name = max(open_, key=lambda name: open_[name])
        return f"Of all you watch, {name} has most places left ({open_[name]}): change that next, and nothing else."

    # places

    @property
    def current(self) -> Quantity | None:
        row = max(self.sheet.currentRow(), 0)
        return self.quantities[row] if row < len(self.quantities) else None

    @property
    def chosen(self) -> Place | None:
        """The place that is selected."""
        row = self.places.currentRow()
        return self._rows[row] if 0 <= row < len(self._rows) else None

    def _show_current(self) -> None:
        """The places of the quantity that is current: a row for each spot, and beneath it other ways to read it."""
        quantity = self.current
        found = self.located.get(quantity.id) if quantity is not None else None
        looking = quantity is not None and quantity.id in self._looking
        used = [n for n, s in enumerate(self.snapshots) if quantity is not None and s.id in quantity.seen]
        title = "" if quantity is None else f"Places that explain what was seen of {quantity.name}"
        self.place_title.setText(title if found is not None and found.by_spot else "")
        self.progress.setVisible(looking)
        if looking and quantity is not None:
            self.progress_label.setText(f"Looking for {quantity.name}, for at most {SECONDS:g} s…")
        head = ("Fit", "At", "Stored as", *(LETTERS[n] for n in used), "Why it is likely")
        several = found is not None and len({place.file for place in found.places}) > 1
        spots = found.by_spot if found is not None else []
        shown = [(place, place is spot[0]) for spot in spots for place in _worth_showing(spot)]
        chosen = self.chosen if self.places.currentRow() > 0 else None  # the first was the likeliest so far
        self._rows = [place for place, _ in shown]
        rows = [self._row(place, first=first, several=several) for place, first in shown]
        letters = max((len(text) for row in rows for text in row[3:-1]), default=0)
        value = min(max(56, 9 * letters + 18), 96)  # as wide as the longest number, while there is room
        fresh = plain_table(head, rows, "Places", (58, 230 if several else 112, 150, *(value for _ in used)))
        for number, (place, first) in enumerate(shown):
            full = place.fits == place.of
            cell(fresh, number, 1).setFont(mono(12))
            for column_number in range(len(head)):
                cell(fresh, number, column_number).setForeground(colours()["ink" if full and first else "quiet"])
            cell(fresh, number, 0).setForeground(colours()["holds" if full else "open"])
        fresh.setFixedHeight(42 + 26 * min(max(len(rows), 1), 8))
        fresh.itemSelectionChanged.connect(self._show_place)
        self.places = swap(self.body, self.places, fresh)
        for widget in (self.places, self.lanes, self.lanes_title):
            widget.setVisible(bool(rows))
        if rows:
            same = [n for n, p in enumerate(self._rows) if chosen is not None and _alike(p, chosen)]
            fresh.selectRow(same[0] if same else 0)
        else:
            self._show_place()

    @staticmethod
    def _row(place: Place, *, first: bool, several: bool) -> tuple[str, ...]:
        where = place.path or f"0x{place.offsets[0]:04X} · {place.offsets[0]}"
        where = f"{Path(place.file).name}  {where}" if several else where
        values = [
            value if isinstance(value, str) else f"{value:g}" if value % 1 else f"{int(value)}"
            for value in place.values
        ]
        stored = storage_in_brief(place.stored_as)
        if not first:
            return ("", "", f"   or {stored}", *values, "")
        return (f"{place.fits} of {place.of}", where, stored, *values, "; ".join(place.reasons))

    def _show_place(self) -> None:
        quantity, place, book = self.current, self.chosen, self.session.book
        found = self.located.get(quantity.id) if quantity is not None else None
        self.about.emit(quantity, found, place)
        if quantity is None or place is None or book is None:
            self.lanes.show_lanes([])
            return
        used = [(n, s) for n, s in enumerate(self.snapshots) if s.id in quantity.seen]
        lanes: list[Lane] = []
        for (number, snapshot), at in zip(used, place.offsets, strict=False):
            inner = found.payloads_of(place) if found is not None else None
            kept = next((file for file in snapshot.files if str(file.path) == place.file), snapshot.files[0])
            source = (
                inner[len(lanes)]
                if inner is not None
                else self.session.attempt(partial(book.keeping.kept_source, kept))
            )
            if source is None:
                return
            start = max(at - BEFORE, 0)
            content = bytes(source.read(start, start + LANE_BYTES))
            width = place.size(len(lanes), content[at - start :])
            lanes.append(Lane(self._letter(number, snapshot), start, content, at, width))
        self.lanes.show_lanes(lanes)


def _worth_showing(spot: list[Place]) -> list[Place]:
    """The likeliest way to read a spot, and others of a plain kind that fit nearly as well."""
    best, *others = spot
    plain = [p for p in others if p.fits == best.fits and p.bits > best.bits - NEARLY and p.scale == best.scale]
    return [best, *plain[:MOST_WIDTHS]]


def _alike(one: Place, other: Place) -> bool:
    return (one.file, one.within, one.offsets, one.stored_as) == (
        other.file,
        other.within,
        other.offsets,
        other.stored_as,
    )


class _Invitation(QTableWidgetItem):
    """An empty cell that shows what to type into it."""

    def __init__(self, words: str) -> None:
        super().__init__("")
        self.words = words
        self.setToolTip("Type the name of a quantity: money, a life bar, a name")

    def data(self, role: int) -> Any:
        empty = not super().data(Qt.ItemDataRole.EditRole)
        if empty and role == Qt.ItemDataRole.DisplayRole:
            return self.words
        if empty and role == Qt.ItemDataRole.ForegroundRole:
            return colours()["quiet"]
        return super().data(role)


def _item(text: str, *, strong: bool = False) -> QTableWidgetItem:
    item = QTableWidgetItem(text)
    item.setFont(sans(13, strong=strong))
    return item


def _fixed(text: str) -> QTableWidgetItem:
    item = QTableWidgetItem(text)
    item.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
    item.setForeground(colours()["quiet"])
    return item
