"""Compare: two snapshots, or a snapshot and the save now: what moved, came in, went or changed; fields; files."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from faithful_ledger.core.binding import BoundFile, GroupNode
from faithful_ledger.core.binding.spans import field_at
from faithful_ledger.core.book import Book
from faithful_ledger.core.clock import local_time
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.records import Snapshot
from faithful_ledger.core.save import Save
from faithful_ledger.core.source import WHOLE, MemorySource, Source, open_source
from faithful_ledger.desk.session import Session
from faithful_ledger.desk.stages.history import field_text
from faithful_ledger.desk.theme import BROKEN, HOLDS, OPEN, colours, mono
from faithful_ledger.desk.widgets.basics import Chooser, button, column, label, row, swap
from faithful_ledger.desk.widgets.flow import flow
from faithful_ledger.desk.widgets.lanes import BEFORE, Lane, Lanes
from faithful_ledger.desk.widgets.tables import cell, plain_table

if TYPE_CHECKING:
    from faithful_ledger.core.compare import Difference, FieldDifference

__all__ = ["CompareSheet"]

NOW = "the save now"
MOST_ROWS, MOST_CHOICES, MOST_FILES_LISTED = 500, 200, 8
SAME = "the same"
LANE_BYTES = 64
SIZES = {"changes of any size": (0, 1 << 62), "up to 4 bytes": (1, 4), "5 bytes and more": (5, 1 << 62)}
SIGNS = {"replaced": "changed", "inserted": "came in", "removed": "went", "moved": "moved"}


class Compared(NamedTuple):
    """The outcome for one file, or for a payload inside one: `equal` bytes are the same at their aligned places, the
    share `noise` changes by itself. `files` says of each file of the set whether it differs.
    """

    name: str
    a: Source
    b: Source
    equal: int
    differences: list[Difference]
    fields: list[FieldDifference]
    files: list[tuple[str, str]]
    noise: float
    root: GroupNode | None  # of the second, where the template fits both
    payloads: list[str]


class CompareSheet(QWidget):
    """Signal: `left` when the user is done."""

    left = Signal()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self.snapshots: list[Snapshot] = []
        self.compared: Compared | None = None
        self.shown: list[Difference] = []
        self._asked = 0
        self.first, self.second, self.quiet = Chooser(), Chooser(), Chooser()
        self.sizes, self.file = Chooser(), Chooser()
        self.sizes.addItems(list(SIZES))
        for box, name in (
            (self.first, "Compare this"),
            (self.second, "with this"),
            (self.quiet, "Two copies between which nothing was done"),
            (self.sizes, "Size of changes"),
            (self.file, "File of the set"),
        ):
            box.setAccessibleName(name)
            box.activated.connect(lambda _, box=box: self._filter() if box is self.sizes else self._compare())
        self.quiet.setToolTip("Bytes that differ between two copies, with nothing done between them, are left out")
        self.summary = label("", "heading", wrap=True)
        self.files = label("", "quiet", wrap=True)
        self.table = plain_table((), [], "Changed bytes", ())
        self.fields = plain_table((), [], "Changed fields", ())
        self.lanes = Lanes()
        self.fields_title = label("", "title")
        self.body = column(spacing=7)
        self.body.setContentsMargins(16, 12, 16, 10)
        back = button("Back to History", self.left.emit)
        self.body.addLayout(row(label("Compare", "title"), None, back))
        self.body.addLayout(flow(self.first, label("with", "quiet"), self.second))
        self.body.addLayout(flow(self.file, self.quiet, self.sizes))
        self.stop_button = button("Stop comparing", self._stop, "link")
        self.stop_button.hide()
        self.body.addLayout(row(self.summary, self.stop_button))
        self.body.addWidget(self.files)
        self.body.addWidget(self.table, 3)
        self.body.addWidget(self.lanes)
        self.body.addWidget(self.fields_title)
        self.body.addWidget(self.fields, 2)
        self.body.addStretch(0)
        self.setLayout(self.body)

    def show_pair(self, first: Snapshot, second: Snapshot | None = None) -> None:
        """Compare a snapshot with another one, or with the save now."""
        session = self.session
        if session.book is None or session.save is None:
            return
        self.file.clear()
        self.snapshots = session.book.keeping.own_snapshots(session.save, MOST_CHOICES)
        names = [f"{s.label or s.kind} · {local_time(s.time)}" for s in self.snapshots]
        for box, chosen in ((self.first, first), (self.second, second)):
            box.clear()
            box.addItems([*names, NOW])
            box.setCurrentIndex(next((n for n, s in enumerate(self.snapshots) if s == chosen), len(names)))
        self.quiet.clear()
        self.quiet.addItem("leave nothing out")
        self.quiet.addItems(
            [
                f"leave out what differs between {old.label or old.kind} and {new.label or new.kind}"
                for new, old in zip(self.snapshots, self.snapshots[1:], strict=False)
            ]
        )
        self._compare()

    def _chosen(self, box: Chooser) -> Snapshot | None:
        number = box.currentIndex()
        return self.snapshots[number] if 0 <= number < len(self.snapshots) else None

    def _compare(self) -> None:
        book, save = self.session.book, self.session.save
        if book is None or save is None:
            return
        self._asked += 1
        asked = self._asked
        pair = self._chosen(self.first), self._chosen(self.second)
        number = self.quiet.currentIndex()
        still = (self.snapshots[number], self.snapshots[number - 1]) if number > 0 else None
        self.summary.setText("comparing…")
        self.stop_button.show()

        def done(found: Compared | None, error: LedgerError | None) -> None:
            if asked == self._asked:
                self.stop_button.hide()
                self.compared = found
                self.summary.setText(_summary(found) if found is not None else f"{BROKEN} {error}")
                self.files.setText(_files(found.files) if found is not None else "")
                self._offer_files()
                self._filter()

        wanted, before, self.compared = self.file.currentText(), [self.compared], None

        def work() -> Compared:
            before.clear()  # what takes much memory takes long to let go of, so not in the window's handler
            return _compared(book, save, pair, still, wanted)

        self.session.background.run(work, done)

    def _stop(self) -> None:
        """Nobody waits for the outcome any more."""
        self._asked += 1
        self.stop_button.hide()
        self.summary.setText("Stopped; choose a copy to compare again.")

    def _offer_files(self) -> None:
        """The files that can be looked at, and what is inside of them."""
        found = self.compared
        names = [*(name for name, _ in found.files), *found.payloads] if found is not None else []
        self.file.clear()
        self.file.addItems(names)
        self.file.setVisible(len(names) > 1)
        if found is not None:
            self.file.setCurrentIndex(names.index(found.name) if found.name in names else 0)

    # what is shown of it

    def _filter(self) -> None:
        """Changes of the wanted size, in a table."""
        least, most = SIZES[self.sizes.currentText()]
        found = self.compared.differences if self.compared is not None else []
        wanted = [item for item in found if least <= max(item.a1 - item.a0, item.b1 - item.b0) <= most]
        self.shown = wanted[:MOST_ROWS]
        rows = [
            (
                SIGNS[item.kind],
                _span(item.a0, item.a1),
                _span(item.b0, item.b1),
                _size(item),
                self._field(item),
            )
            for item in self.shown
        ]
        fresh = plain_table(
            ("What", "In the first", "In the second", "Bytes", "Field"), rows, "Changed bytes", (78, 170, 170, 70)
        )
        for number, item in enumerate(self.shown):
            cell(fresh, number, 0).setForeground(colours()["holds" if item.kind == "moved" else "open"])
            for place in (1, 2):
                cell(fresh, number, place).setFont(mono(12))
        fresh.itemSelectionChanged.connect(self._show_bytes)
        self.table = swap(self.body, self.table, fresh)
        fresh.setVisible(bool(rows))
        fields = self.compared.fields[:MOST_ROWS] if self.compared is not None else []
        listed = [(item.path, field_text(item.a), field_text(item.b)) for item in fields]
        self.fields_title.setText(
            f"{len(listed)} {'field says' if len(listed) == 1 else 'fields say'} something else" if listed else ""
        )
        shown = plain_table(("Field", "In the first", "In the second"), listed, "Changed fields", (250, 220))
        self.fields = swap(self.body, self.fields, shown)
        shown.setVisible(bool(listed))
        if rows:
            fresh.selectRow(0)
        else:
            self.lanes.show_lanes([])

    def _field(self, item: Difference) -> str:
        root = self.compared.root if self.compared is not None else None
        node = field_at(root, item.b0) if root is not None else None
        return node.path if node is not None and not node.spec.unknown else ""

    def _show_bytes(self) -> None:
        number, found = self.table.currentRow(), self.compared
        if found is None or not 0 <= number < len(self.shown):
            self.lanes.show_lanes([])
            return
        item = self.shown[number]
        lanes = []
        for name, data, start, end in (("first", found.a, item.a0, item.a1), ("second", found.b, item.b0, item.b1)):
            low = max(start - BEFORE, 0)
            lanes.append(Lane(name, low, bytes(data.read(low, low + LANE_BYTES)), start, end - start))
        self.lanes.show_lanes(lanes)

    def step(self, by: int) -> None:
        """Go to the next or the last change."""
        if self.shown:
            self.table.selectRow((self.table.currentRow() + by) % len(self.shown))


def _compared(
    book: Book,
    save: Save,
    pair: tuple[Snapshot | None, Snapshot | None],
    still: tuple[Snapshot, Snapshot] | None,
    wanted: str = "",
) -> Compared:
    """`wanted` is the file to look at; without it that is the first one that differs."""
    import numpy as np

    from faithful_ledger.core.compare import Noise, compare_sources, field_differences

    sides = [_sources(book, save, snapshot) for snapshot in pair]
    files = _file_changes(*sides)
    bound = _bound(save, sides)
    payloads = [name for name in save.files if save.files[name].inside] if bound else []
    main = save.name_of(save.main)
    differ = [name for name, what in files if what != SAME]
    name = wanted or (main if main in differ or not differ else differ[0])

    def content(side: dict[str, Source], files_: dict[str, BoundFile]) -> Source:
        source = files_[name].source if name in payloads else side.get(name)
        return source if source is not None else MemorySource(b"")

    data = [content(side, bound[number] if bound else {}) for number, side in enumerate(sides)]
    (equal, differences), share = compare_sources(*data), 0.0
    if still is not None and max(each.size for each in data) <= WHOLE:
        others = [_sources(book, save, snapshot) for snapshot in still]
        inside = _bound(save, others)
        quiet = [content(side, inside[number] if inside else {}) for number, side in enumerate(others)]
        noise = Noise(*(np.frombuffer(each.read(0, each.size), np.uint8) for each in quiet))
        a = np.frombuffer(data[0].read(0, data[0].size), np.uint8)
        differences, share = noise.without(a, differences), noise.share
    fields: list[FieldDifference] = list(field_differences(*bound)) if bound else []
    described = {save.name_of(file): key for key, file in save.files.items() if not file.inside}
    described |= {payload: payload for payload in payloads}
    around = bound[1].get(described.get(name, "")) if bound else None
    root = around.root if around is not None else None
    return Compared(name, data[0], data[1], equal, differences, fields, files, share, root, payloads)


def _bound(save: Save, sides: list[dict[str, Source]]) -> list[dict[str, BoundFile]]:
    """The template laid over each side; nothing where it does not fit all of them."""
    names = {save.name_of(file): file.name for file in save.on_disk}
    laid = [save.laid_over({names[name]: source for name, source in side.items() if name in names}) for side in sides]
    bound = [each for each in laid if each is not None]
    whole = len(bound) == len(sides) and not any(file.problem for each in bound for file in each.values())
    return bound if whole else []


def _sources(book: Book, save: Save, snapshot: Snapshot | None) -> dict[str, Source]:
    """The files of one side by their names."""
    if snapshot is not None:
        return {snapshot.name_of(file): book.keeping.kept_source(file) for file in snapshot.files}
    found = {save.name_of(file): file.source for file in save.on_disk}
    for kept in book.keeping.snapshots(save.path, 1):
        for file in kept.files:
            if kept.name_of(file) not in found and file.path.is_file():
                found[kept.name_of(file)] = open_source(file.path)[0]
    return found


def _file_changes(a: dict[str, Source], b: dict[str, Source]) -> list[tuple[str, str]]:
    from faithful_ledger.core.source import same_bytes

    found = []
    for name in [*a, *(name for name in b if name not in a)]:
        if name not in b:
            found.append((name, "only in the first"))
        elif name not in a:
            found.append((name, "only in the second"))
        elif not same_bytes(a[name], b[name]):
            found.append((name, f"differs, {b[name].size - a[name].size:+d} bytes"))
        else:
            found.append((name, SAME))
    return found


def _summary(found: Compared) -> str:
    if not found.differences and found.a.size == found.b.size:
        return f"{HOLDS} The bytes are the same" + (", but for what was left out." if found.noise else ".")
    counts = {kind: sum(item.kind == kind for item in found.differences) for kind in SIGNS}
    listed = [f"{count} {'place' if count == 1 else 'places'} {SIGNS[kind]}" for kind, count in counts.items() if count]
    share = found.equal / max(found.a.size, found.b.size, 1)
    noise = f"; {found.noise:.1%} of the first changes by itself" if found.noise else ""
    return f"{OPEN} {share:.1%} of the bytes are the same at their aligned places; {', '.join(listed)}{noise}"


def _files(files: list[tuple[str, str]]) -> str:
    listed = [f"{name} {what}" for name, what in files if what != SAME][:MOST_FILES_LISTED]
    same = sum(what == SAME for _, what in files)
    more = len(files) - same - len(listed)
    rest = [f"{more} more differ"] if more else []
    rest += [f"{same} {'is' if same == 1 else 'are'} the same"] if same else []
    return "Files:  " + "   ·   ".join(listed + rest)


def _span(start: int, end: int) -> str:
    return f"0x{start:X} · {start}" if start == end else f"0x{start:X} … 0x{end - 1:X} · {start}"


def _size(item: Difference) -> str:
    before, now = item.a1 - item.a0, item.b1 - item.b0
    return str(now) if before == now else f"{before} → {now}"
