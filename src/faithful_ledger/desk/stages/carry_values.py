"""Values and records of another save beside those of the open one: what is ticked is entered, and posted like the rest.

The save they come from is another slot, a kept copy, or any file; also one of another edition, through fields of the
same meaning. Where a value goes that nothing says is said once, and remembered.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QApplication,
    QCheckBox,
    QFileDialog,
    QInputDialog,
    QLineEdit,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.posting.files import new_file
from faithful_ledger.core.records import Snapshot
from faithful_ledger.desk.lines import kept_in_words
from faithful_ledger.desk.session import Message, Session
from faithful_ledger.desk.theme import BROKEN, HOLDS, OPEN, colours
from faithful_ledger.desk.widgets.basics import Chooser, button, column, label, row, swap
from faithful_ledger.desk.widgets.flow import flow
from faithful_ledger.desk.widgets.tables import cell, plain_table

if TYPE_CHECKING:
    from faithful_ledger.core.carry import Kit, LeftOut, Match
    from faithful_ledger.core.carry.rows import OnClash
    from faithful_ledger.core.save import Save

__all__ = ["ValuesPane"]

HEAD = ("Value", "From there", "Here now", "Goes to")
CLASHES: tuple[tuple[OnClash, str], ...] = (
    ("keep", "one that is there is kept"),
    ("replace", "one that is there gets the values"),
    ("add", "it comes beside one that is there"),
)
MOST_COPIES, MOST_ROWS = 30, 3000
KITS = "Kits (*.kit *.json);;All files (*)"
NOTHING = "Choose the save that values come from: a kept copy, another slot, or any file."


class ValuesPane(QWidget):
    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.from_save: Save | None = None
        self.other_file: Path | None = None
        self.found: list[Match] = []
        self.source = Chooser()
        self.source.setAccessibleName("From")
        self.source.setMaximumWidth(400)
        self.source.activated.connect(lambda _: self._choose())
        self.words = label(NOTHING, "quiet", wrap=True)
        self.table: QTableWidget = plain_table(HEAD, [], "Values", ())
        self.all_values = QCheckBox("Also what is the same, or cannot go")
        self.all_values.toggled.connect(lambda _: self._lay_out())
        self.only_empty = QCheckBox("Only into empty places")
        self.whole = QCheckBox("Whole records")
        self.whole.toggled.connect(lambda _: self._match())
        self.clash = Chooser()
        self.clash.setAccessibleName("Where a record is there already")
        self.clash.addItems([words for _, words in CLASHES])
        self.clash.hide()
        self.into = QLineEdit()
        self.into.setPlaceholderText("the path of a field here")
        self.into.setAccessibleName("Goes to")
        self.into.returnPressed.connect(self.remember)
        self.take = button("Enter what is ticked", self.enter, "main")
        self.owner = button("Its owner number, into this save", lambda: self.enter_owner(payload=False))
        self.payload = button("Its payload, into the wrapper of this save", lambda: self.enter_owner(payload=True))
        self.body = column(spacing=8)
        other = button("Another file…", lambda: self.choose_file(), "link")
        self.body.addLayout(row(label("From", "quiet"), self.source, other, None, self.all_values))
        self.body.addWidget(self.words)
        self.body.addWidget(self.table, 1)
        self.mapping = QWidget()
        self.mapped = label("", "quiet")
        remembering = button("Remember it", self.remember)
        self.mapping.setLayout(row(self.mapped, self.into, remembering))
        self.body.addWidget(self.mapping)
        self.doing = QWidget()
        self.ticking = button("Tick all", self.tick_all, "link")
        options = QWidget()
        options.setLayout(flow(self.ticking, self.only_empty, self.whole, self.clash, spacing=10))
        line = row(options, self.take)
        line.setStretchFactor(options, 1)
        self.doing.setLayout(line)
        self.body.addWidget(self.doing)
        kits = flow(
            label("Kits", "quiet"),
            button("Ticked values as a file…", lambda: self.write_kit(), "link"),
            button("as a line to paste", self.copy_kit, "link"),
            button("Apply a kit…", lambda: self.apply_kit(), "link"),
            button("Apply a line…", lambda: self.apply_line(), "link"),
            spacing=10,
        )
        self.body.addLayout(flow(self.owner, self.payload, spacing=8))
        self.body.addLayout(kits)
        self.setLayout(self.body)
        self._lay_out()

    # from where

    def show_save(self) -> None:
        """The open save, and what may be carried into it."""
        chosen = self.source.currentText()
        self._fill()
        number = self.source.findText(chosen)
        if self.from_save is not None:
            self.source.setCurrentIndex(number if number > 0 else self.source.count() - 1)
        if self.from_save is not None and self.session.save is not None:
            self._match()

    def _fill(self) -> None:
        from faithful_ledger.core.carry import Slots

        save = self.session.save
        self.source.clear()
        self.source.addItem("choose…")
        try:
            slots = Slots.around(save) if save is not None else None
            own = slots.of(save) if slots is not None and save is not None else None
            for slot in slots.known() if slots is not None else ():
                if slots is not None and slot != own:
                    self.source.addItem(f"slot {slot}, {slots.main_path(slot).name}", slots.main_path(slot))
        except LedgerError:
            pass  # a game without slots
        for snapshot in self.session.kept_copies[:MOST_COPIES]:
            self.source.addItem(kept_in_words(snapshot), snapshot)
        if self.other_file is not None:
            self.source.addItem(f"the file {self.other_file.name}", self.other_file)

    def choose_file(self, name: str = "") -> None:
        save = self.session.save
        start = str(save.path.parent if save is not None else Path.home())
        name = name or QFileDialog.getOpenFileName(self, "The save that values come from", start)[0]
        if name:
            self.other_file = Path(name)
            self._open(self.other_file)
            self._fill()
            self.source.setCurrentIndex(self.source.count() - 1)

    def _choose(self) -> None:
        data = self.source.currentData()
        if data is not None:
            self._open(data)

    def _open(self, chosen: Path | Snapshot) -> None:
        """Open the other side, and lay both side by side."""
        session, book, save = self.session, self.session.book, self.session.save
        if book is None or save is None:
            return
        kept = chosen if isinstance(chosen, Snapshot) else None
        path = chosen if isinstance(chosen, Path) else Path()
        template = save.template.id if kept is not None and save.template is not None else None

        def work() -> Save:
            found = session.shelf.open_kept(book, kept, template) if kept is not None else None
            found = found if found is not None else session.shelf.open_save(path)
            if found.problem is not None:
                raise found.problem
            return found

        self.from_save = session.attempt(work)
        self._match()

    def _match(self) -> None:
        from faithful_ledger.core.carry import matches

        source, save, book = self.from_save, self.session.save, self.session.book
        self.found = []
        if source is not None and save is not None and book is not None and save.has_values:
            into = book.keeping.mapping(*self._ids(source, save))
            records = self.whole.isChecked()
            found = self.session.attempt(lambda: list(matches(source, save, into, records=records)))
            self.found = found or []
        self._lay_out()

    @staticmethod
    def _ids(source: Save, save: Save) -> tuple[str, str]:
        one, other = (each.template.id if each.template is not None else "" for each in (source, save))
        return one, other

    # side by side

    @property
    def shown(self) -> list[Match]:
        whole = self.all_values.isChecked()
        return [each for each in self.found if whole or not (each.is_same or each.why)][:MOST_ROWS]

    def _lay_out(self) -> None:
        shown = self.shown
        rows = [(each.title, each.there, each.here, _where(each)) for each in shown]
        fresh = plain_table(HEAD, rows, "Values", (190, 170, 170))
        for number, each in enumerate(shown):
            item = cell(fresh, number, 0)
            item.setToolTip(each.path)
            if each.why:
                for place in range(len(HEAD)):
                    cell(fresh, number, place).setForeground(colours()["quiet"])
            else:
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                item.setCheckState(Qt.CheckState.Unchecked)
        fresh.itemChanged.connect(lambda _: self._count())
        fresh.itemSelectionChanged.connect(self._show_mapping)
        fresh.setMinimumHeight(140)
        self.table = swap(self.body, self.table, fresh)
        self.words.setText(self._in_words())
        self.words.setVisible(bool(self.words.text()))
        has = self.from_save is not None
        fresh.setVisible(bool(rows))
        self.doing.setVisible(bool(rows) or self.whole.isChecked())
        self.clash.setVisible(self.whole.isChecked())
        self.mapping.setVisible(False)
        template = self.session.save.template if self.session.save is not None else None
        owned = template is not None and any(getattr(e, "means", "") == "owner" for e in template.elements())
        for link in (self.owner, self.payload):
            link.setVisible(has and owned)
        self._count()

    def _in_words(self) -> str:
        if self.from_save is None:
            return NOTHING
        same = sum(each.is_same for each in self.found)
        cannot = sum(bool(each.why) for each in self.found)
        differ = len(self.found) - same - cannot
        name = self.from_save.path.name
        words = "value differs" if differ == 1 else "values differ", "is" if same == 1 else "are"
        counted = f"{name}: {differ} {words[0]}, {same} {words[1]} the same, {cannot} cannot be carried."
        warned = [f"◇ {name}: {each.message}." for each in self.from_save.of_another_version]
        return "\n".join([counted, *warned])

    def _count(self) -> None:
        count = len(self._ticked())
        self.take.setText(f"Enter {count} ticked" if count else "Enter what is ticked")
        self.take.setEnabled(bool(count))

    def _ticked(self) -> list[Match]:
        states = (self.table.item(number, 0) for number in range(self.table.rowCount()))
        return [
            each
            for each, item in zip(self.shown, states, strict=False)
            if isinstance(item, QTableWidgetItem) and item.checkState() == Qt.CheckState.Checked and not each.why
        ]

    def tick_all(self) -> None:
        """Tick everything that can be carried, or nothing where all of it is ticked."""
        able = [number for number, each in enumerate(self.shown) if not each.why]
        state = Qt.CheckState.Unchecked if len(self._ticked()) == len(able) else Qt.CheckState.Checked
        for number in able:
            cell(self.table, number, 0).setCheckState(state)

    def tick(self, paths: list[str]) -> None:
        """Tick the values at some paths."""
        for number, each in enumerate(self.shown):
            if each.path in paths and not each.why:
                cell(self.table, number, 0).setCheckState(Qt.CheckState.Checked)

    @property
    def current(self) -> Match | None:
        number = self.table.currentRow()
        return self.shown[number] if 0 <= number < len(self.shown) else None

    def _show_mapping(self) -> None:
        each = self.current
        self.mapping.setVisible(each is not None and not each.is_record)
        if each is not None:
            self.mapped.setText(f"{each.path} goes to")
            self.into.setText(each.goes_to)

    def remember(self) -> None:
        """Say once where a value goes; the book remembers it for saves of these two kinds."""
        each, source, save, book = self.current, self.from_save, self.session.save, self.session.book
        if each is None or source is None or save is None or book is None:
            return
        where = self.into.text().strip()
        if where and self.session.attempt(lambda: save.fields(where)) is None:
            return
        book.keeping.map(*self._ids(source, save), {each.path: where})
        self._match()
        said = f"{each.path} goes to {where or 'where its name says'}; remembered."
        self.session.reported.emit(Message("holds", said))

    def show_entries(self) -> None:
        """The values here have changed."""
        if self.isVisible() and self.from_save is not None:
            ticked = [each.path for each in self._ticked()]
            self._match()
            self.tick([path for path in ticked if any(e.path == path and not e.is_same for e in self.found)])

    # into the open save

    def enter(self) -> None:
        """Enter the ticked values and records."""
        from faithful_ledger.core.carry import carry_rows, put_values, taken

        source, book, ticked = self.from_save, self.session.book, self._ticked()
        if source is None or book is None or not ticked:
            return

        def put(save: Save) -> list[LeftOut]:
            into = book.keeping.mapping(*self._ids(source, save))
            clash = CLASHES[self.clash.currentIndex()][0]
            left = carry_rows(source, save, [each.path for each in ticked if each.is_record], clash)
            values = taken(source, [each.path for each in ticked if not each.is_record])
            return left + put_values(save, values, only_empty=self.only_empty.isChecked(), into=into)

        self._enter(put, f"from {source.path.name}")

    def _enter(self, put: Callable[[Save], list[LeftOut]], what: str) -> None:
        left: list[LeftOut] = []
        if self.session.arrange(lambda save: left.extend(put(save))):
            count = self.session.pending
            said = f"{count} {'entry is' if count == 1 else 'entries are'} pending {what}; look at the plan, and post."
            self.session.reported.emit(Message("open" if left else "holds", said + _left_in_words(left)))
        elif left:
            self.session.reported.emit(Message("open", f"Nothing was entered {what}.{_left_in_words(left)}"))

    def enter_owner(self, *, payload: bool) -> None:
        """The owner of the other save in this one, or the payload of the other one in this one's wrapper."""
        from faithful_ledger.core.carry import carry_owner, carry_payload

        source = self.from_save
        if source is None:
            return

        def put(save: Save) -> list[LeftOut]:
            if payload:
                carry_payload(source, save)
            else:
                carry_owner(save, source)
            return []

        self._enter(put, f"from {source.path.name}")

    # kits

    def _kit(self) -> Kit | None:
        from faithful_ledger.core.carry import Kit, taken

        source = self.from_save if self.from_save is not None and self._ticked() else self.session.save
        paths = [each.path for each in self._ticked() if not each.is_record]
        if source is None or not paths:
            self.session.reported.emit(Message("open", "Tick the values that belong into the kit first."))
            return None
        values = self.session.attempt(lambda: taken(source, paths))
        template = source.template
        game, id_ = (template.game, template.id) if template is not None else ("", "")
        return Kit(game, id_, tuple(values)) if values else None

    def write_kit(self, name: str = "") -> None:
        kit = self._kit()
        if kit is None:
            return
        name = name or QFileDialog.getSaveFileName(self, "A kit", str(Path.home() / "values.kit"), KITS)[0]
        if not name:
            return
        made = kit.file()
        if self.session.attempt(lambda: new_file(Path(name), made)):
            self.session.reported.emit(Message("holds", f"The kit is in {name}."))

    def copy_kit(self) -> None:
        kit = self._kit()
        if kit is not None:
            QApplication.clipboard().setText(kit.line())
            self.session.reported.emit(Message("holds", "The line is on the clipboard; whoever gets it pastes it."))

    def apply_kit(self, name: str = "") -> None:
        from faithful_ledger.core.carry import read_kit

        name = name or QFileDialog.getOpenFileName(self, "A kit", str(Path.home()), KITS)[0]
        if name:
            self._apply(lambda: read_kit(Path(name)), f"from {Path(name).name}")

    def apply_line(self, line: str = "") -> None:
        from faithful_ledger.core.carry.kits import kit_of_text

        if not line:
            clipboard = QApplication.clipboard().text().strip()
            line, sure = QInputDialog.getText(self, "Apply a kit", "The line of the kit", text=clipboard[:4000])
            if not sure:
                return
        self._apply(lambda: kit_of_text(line.strip()), "from the line")

    def _apply(self, read: Callable[[], Kit], what: str) -> None:
        from faithful_ledger.core.carry import put_values

        kit = self.session.attempt(read)
        if kit is not None:
            values, only = kit.values, self.only_empty.isChecked()
            self._enter(lambda save: put_values(save, values, only_empty=only), what)


def _where(each: Match) -> str:
    if each.why:
        return f"{BROKEN} {each.why}"
    if each.is_record:
        return f"{OPEN} {each.goes_to}"
    return f"{HOLDS if each.is_same else OPEN} {each.goes_to}"


def _left_in_words(left: list[LeftOut]) -> str:
    if not left:
        return ""
    more = f", and {len(left) - 1} more" if len(left) > 1 else ""
    return f" Left out: {left[0].path}, because {left[0].why}{more}."
