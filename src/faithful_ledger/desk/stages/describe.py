"""Describe: the template's outline with live values beside the bytes."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QFileDialog, QSplitter, QWidget

from faithful_ledger.core.binding.spans import fields_between, record_at
from faithful_ledger.core.clock import local_time
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.formats import DOCUMENTS, looks_like_text
from faithful_ledger.core.formats.tree_document import text_encoding_of
from faithful_ledger.core.inside import Payload
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.storage.lettering import lettering
from faithful_ledger.desk.lines import explained_share
from faithful_ledger.desk.session import Message, Selection, Session
from faithful_ledger.desk.stages.copies import CopiesPane
from faithful_ledger.desk.stages.lanes import band_parts, first_array, lane_over
from faithful_ledger.desk.stages.profile import ProfilePane
from faithful_ledger.desk.stages.seals import SealsPane
from faithful_ledger.desk.stages.search import SearchPane
from faithful_ledger.desk.stages.seen import WhenSeen
from faithful_ledger.desk.widgets.band import FileBand
from faithful_ledger.desk.widgets.basics import Chooser, button, column, label, tab
from faithful_ledger.desk.widgets.flow import flow
from faithful_ledger.desk.widgets.outline import Outline
from faithful_ledger.desk.widgets.sheets import Sheets
from faithful_ledger.desk.widgets.strip import ByteStrip
from faithful_ledger.desk.widgets.strip_rows import PendingBytes, StripLane
from faithful_ledger.desk.widgets.text_view import TextView
from faithful_ledger.desk.widgets.values import ValuesPane
from faithful_ledger.desk.widgets.words import grouped

__all__ = ["DescribeStage"]

MOST_LANES, TOGETHER = 10, 4
WIDEST = 4096
LANE_LETTERS = "ABCD"
TEMPLATE, VALUES, COPIES, PROFILE, SEARCH, SEALS = range(6)
TEXT_VIEW, BYTES_VIEW = range(2)
SAMPLE = 1 << 20
LETTERS = ["ascii", "utf-8", "utf-16-le", "utf-16-be", "latin-1", "cp1252", "cp437", "shift_jis"]
ROWS = {"Row: fitted": 0, "Row: 8": 8, "Row: 16": 16, "Row: 24": 24, "Row: 32": 32, "Row: one record": -1}


class DescribeStage(QWidget):
    """The sheet of the stage Describe."""

    title = "Describe"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self.seen = WhenSeen(self, session, self.show_save)
        self._file = ""
        self._lanes_wanted = 0
        self._undescribed: Path | None = None  # a save that no template described when it was shown
        self.version = label("", "quiet")
        self.undo_link = button("Undo", session.describing.undo, "link")
        self.redo_link = button("Redo", session.describing.redo, "link")
        self.outline = Outline()
        self.profile = ProfilePane(session)
        self.search = SearchPane(session)
        self.seals = SealsPane(session)
        self.copies = CopiesPane(session)
        names = ("Template", "Values", "Copies", "Profile", "Search", "Seals")
        self.tabs = [tab(name, partial(self.show_pane, number)) for number, name in enumerate(names)]
        self.panes = Sheets()
        self.values = ValuesPane("Values of the text")
        for pane in (self.outline, self.values, self.copies, self.profile, self.search, self.seals):
            self.panes.addWidget(pane)
        self.files = Chooser()
        self.files.setAccessibleName("File")
        self.rows = Chooser()
        self.rows.addItems(list(ROWS))
        self.rows.setEditable(True)
        self.rows.setInsertPolicy(Chooser.InsertPolicy.NoInsert)
        self.rows.setToolTip("Choose, or type how many bytes a row shall hold")
        self.rows.setAccessibleName("Bytes in a row")
        self.base = Chooser()
        self.base.addItems(["hex", "decimal", "bits"])
        self.base.setAccessibleName("Numbers as")
        self.letters = Chooser()
        self.letters.addItems(LETTERS)
        self.letters.setEditable(True)
        self.letters.setInsertPolicy(Chooser.InsertPolicy.NoInsert)
        self.letters.setToolTip("The letters under the bytes: any encoding, or the path of a table of yours")
        self.letters.setAccessibleName("Letters in")
        self.formats = Chooser()  # of a text that no template describes
        self.formats.addItems(["Format: as found", *list(DOCUMENTS)[1:]])
        self.formats.setAccessibleName("Format of the text")
        self.lanes = Chooser()
        self.lanes.setAccessibleName("Lanes of kept copies")
        self.share = label("", "quiet")
        self.legend = label("", "quiet")
        self.band = FileBand()
        self.strip = ByteStrip()
        self.text = TextView()
        self.views = [tab(name, partial(self.show_view, number)) for number, name in enumerate(("Text", "Bytes"))]
        self.view = TEXT_VIEW

        self._lay_out()
        self._connect()

    def _lay_out(self) -> None:
        left, right = QWidget(), QWidget()
        left_column = column(spacing=4)
        left_column.setContentsMargins(14, 10, 0, 8)
        left_column.addLayout(flow(*self.tabs, spacing=2))
        self.revising = QWidget()
        self.revising.setLayout(flow(self.version, self.undo_link, self.redo_link, spacing=8))
        left_column.addWidget(self.revising)
        left_column.addWidget(self.panes, 1)
        left.setLayout(left_column)
        right_column = column(spacing=8)
        right_column.setContentsMargins(12, 12, 4, 8)
        right_column.addLayout(flow(*self.views, self.files, self.lanes, spacing=6))
        self.bytes_controls = QWidget()
        self.bytes_controls.setLayout(flow(self.rows, self.base, self.letters, spacing=5))
        right_column.addWidget(self.bytes_controls)
        right_column.addLayout(flow(self.share, self.formats))
        right_column.addWidget(self.band)
        right_column.addWidget(self.legend)
        right_column.addWidget(self.strip, 1)
        right_column.addWidget(self.text, 1)
        right.setLayout(right_column)
        for box, width in ((self.rows, 146), (self.letters, 90)):
            box.setFixedWidth(width)
        splitter = QSplitter(Qt.Orientation.Horizontal)
        splitter.addWidget(left)
        splitter.addWidget(right)
        splitter.setStretchFactor(1, 1)
        splitter.setSizes([346, 510])
        splitter.setChildrenCollapsible(False)
        self.splitter, self.left = splitter, left
        whole = column(splitter)
        self.setLayout(whole)

    def _connect(self) -> None:
        session = self.session
        self.outline.chosen.connect(session.select_node)
        self.values.chosen.connect(session.select_node)
        self.values.entered.connect(session.enter)
        self.text.picked.connect(self._pick_text)
        self.strip.picked.connect(lambda start, end: session.select(self._file, start, end))
        self.strip.typed.connect(lambda start, end, data: session.type_bytes(self._file, start, end, data))
        self.strip.note_wanted.connect(lambda start, end: session.note_wanted.emit())
        self.strip.untypable.connect(self._tell_untypable)
        self.strip.idle.connect(self._tell_idle)
        self.strip.moved.connect(self.band.show_window)
        self.band.chosen.connect(self._point)
        self.profile.chosen.connect(self._show_bytes)
        self.profile.rows_wanted.connect(self._show_rows)
        self.profile.unpacked.connect(self.show_payload)
        self.search.chosen.connect(self._show_bytes)
        self.seals.chosen.connect(self._show_main_bytes)
        self.copies.chosen.connect(self._show_bytes)
        self.outline.renamed.connect(session.describing.rename)
        self.outline.removed.connect(session.describing.remove)
        self.outline.ungrouped.connect(session.describing.ungroup)
        self.strip.described.connect(lambda start, end: session.name_wanted.emit())
        self.strip.resized.connect(session.describing.move)
        for keys, act in (("Ctrl+Alt+Z", session.describing.undo), ("Ctrl+Alt+Shift+Z", session.describing.redo)):
            QShortcut(QKeySequence(keys), self).activated.connect(act)
        self.files.activated.connect(lambda number: self.show_file(session.sources.names[number]))
        self.rows.activated.connect(lambda _: self._set_row_width())
        self.base.currentTextChanged.connect(self.strip.set_base)
        self.letters.activated.connect(lambda _: self._set_letters())
        for box, act in ((self.rows, self._set_row_width), (self.letters, self._set_letters)):
            line = box.lineEdit()
            if line is not None:
                line.returnPressed.connect(act)
        self.formats.activated.connect(lambda n: session.choose_format(list(DOCUMENTS)[n] if n else ""))
        self.lanes.activated.connect(lambda _: self._show_lanes())
        self.seen.follow(session.selected, self.show_selection)
        self.seen.follow(session.changed, self.show_entries)
        self.seen.follow(session.marked, self.show_marks)

    def show_save(self) -> None:
        save = self.session.save
        if save is None:
            return
        template = save.template
        has_texts = save.has_texts
        self.tabs[TEMPLATE].setVisible(template is not None)
        self.tabs[COPIES].setVisible(template is not None)
        begun = template is not None and self._undescribed == save.path
        self._undescribed = save.path if template is None else None
        self.tabs[VALUES].setVisible(has_texts)
        self.version.setText(f"{template.id} {template.version}" if template is not None else "")
        self._file = ""
        self.outline.show_save(save)
        self.seals.show_save()
        self.values.show_fields(save, save.outline.fields() if save.outline is not None and has_texts else ())
        self._fill_files()
        self._fill_lanes()
        self.rows.setCurrentIndex(0)
        self.strip.set_row_width(0)
        present = TEMPLATE if begun else self.panes.currentIndex()
        if (present in (TEMPLATE, COPIES) and template is None) or (present == VALUES and not has_texts):
            present = TEMPLATE if template is not None else VALUES if has_texts else PROFILE
        self.show_pane(present)
        self.show_file(self._first_file())

    def _first_file(self) -> str:
        """The file to look at first: without a template a text where there is one, else the main one."""
        save = self.session.save
        assert save is not None
        if save.template is not None:
            return next(iter(save.files))
        return next((name for name in save.files if self.is_text(name)), next(iter(save.files)))

    def is_text(self, name: str) -> bool:
        """Whether a file of the save is a text."""
        file = self.session.save.files.get(name) if self.session.save is not None else None
        return file is not None and file.bound is not None and file.bound.document.knows_ends

    def show_view(self, number: int) -> None:
        """The text itself, or its bytes."""
        self.view = number
        as_text = number == TEXT_VIEW and self.is_text(self._file)
        for place, each in enumerate(self.views):
            each.setChecked(place == number)
            each.setVisible(self.is_text(self._file))
        self.text.setVisible(as_text)
        for widget in (self.strip, self.bytes_controls, self.band, self.legend):
            widget.setVisible(not as_text and (widget is not self.legend or bool(self.legend.text())))
        self.lanes.setVisible(not as_text and self.lanes.count() > 1)

    def _pick_text(self, start: int, end: int) -> None:
        save = self.session.save
        bound = save.files[self._file].bound if save is not None and self._file in save.files else None
        described = bound is not None and next(fields_between(bound.root, start, max(end, start + 1)), None) is not None
        by_path = not described or self.panes.currentIndex() == VALUES
        node = self.values.node_at(self._file, start) if by_path else None
        if node is not None and end <= max(node.end, start):
            self.session.select_node(node)
        else:
            self.session.select(self._file, start, max(end, start + 1))

    def show_pane(self, number: int) -> None:
        """Template, profile or search beside the strip."""
        self.panes.setCurrentIndex(number)
        for place, each in enumerate(self.tabs):
            each.setChecked(place == number)
        self.show_revisions()
        if number == SEARCH:
            self.search.line.setFocus()
        self._show_pane_source()

    def show_revisions(self) -> None:
        """The template's name, and what can be undone of what was done to it."""
        describing = self.session.describing
        shown = self.panes.currentIndex() in (TEMPLATE, COPIES)
        self.version.setVisible(bool(self.version.text()))
        for link, words, about in (
            (self.undo_link, "Undo", describing.to_undo),
            (self.redo_link, "Redo", describing.to_redo),
        ):
            link.setText(words)
            link.setToolTip(f"{words}: {about}")
            link.setAccessibleName(f"{words} in the template: {about}")
            link.setVisible(bool(about))
        self.revising.setVisible(shown and bool(self.version.text() or describing.to_redo))

    def _show_pane_source(self) -> None:
        source = self.session.sources.of(self._file) if self._file else None
        if self.panes.currentIndex() == PROFILE:
            self.profile.show_source(source, self._file)
        elif self.panes.currentIndex() == SEARCH:
            self.search.show_source(source, self._file)

    def _fill_files(self) -> None:
        self.files.clear()
        names = self.session.sources.names
        self.files.addItems([self.session.sources.title(name) for name in names])
        self.files.setVisible(len(names) > 1)

    def show_payload(self, payload: Payload) -> None:
        """Lay what was unpacked on the strip, as a file that can only be looked at."""
        name = self.session.sources.add(payload)
        self._fill_files()
        self.show_file(name)

    def show_file(self, name: str) -> None:
        """Lay another file of the save, or something unpacked from it, on the strip."""
        save = self.session.save
        if save is None:
            return
        self._file = name
        file = save.files.get(name)
        source = self.session.sources.of(name)
        self.files.setCurrentIndex(self.session.sources.names.index(name))
        root = file.bound.root if file is not None and file.bound is not None else None
        self.strip.read_only = file is None
        self.strip.show_source(source, lambda a, b: fields_between(root, a, b) if root is not None else ())
        self.band.show_parts(source.size, band_parts(file) if file is not None else [])
        if self.is_text(name) and file is not None and file.bound is not None:
            self.text.show_source(source, text_encoding_of(bytes(source.read(0, min(source.size, SAMPLE)))))
        self.show_view(self.view)
        size = grouped(source.size)
        known = f"{explained_share(save, file):.0%} of " if root is not None and file is not None else ""
        words = " explained; hatched: not yet" if known else "" if file is not None else " unpacked; to look at only"
        if self.is_text(name) and file is not None and file.bound is not None:
            known, words = f"{file.bound.document.name}, ", ""
        self.share.setText(f"{known}{size} bytes{words}")
        chosen = save.outline.text_format if save.outline is not None else ""
        self.formats.setCurrentIndex(list(DOCUMENTS).index(chosen) if chosen else 0)
        on_disk = file is save.main and save.template is None
        self.formats.setVisible(on_disk and looks_like_text(bytes(source.read(0, min(source.size, SAMPLE)))))
        self.copies.show_file(name)
        self.show_entries()
        self.show_marks()
        self._show_lanes()
        self._show_pane_source()

    def show_selection(self, selection: Selection) -> None:
        if selection.file != self._file:
            self.show_file(selection.file)
        self.strip.select(selection.start, selection.end)
        self.text.select(selection.start, selection.end)
        if selection.node is not None and self.panes.currentIndex() == VALUES:
            self.values.select(selection.node.path)
        self.band.show_selection(selection.start, selection.end)
        self.outline.show_node(selection.node)

    def show_entries(self) -> None:
        """Mark the bytes that entries will change, and the new values in the outline."""
        save = self.session.save
        if save is None or not self._file:
            return
        pending = PendingBytes()
        for entry in save.tape:
            node = entry.node
            if node.file != self._file:
                continue
            if not entry.moves:
                pairs = enumerate(zip(node.raw, entry.data, strict=True), node.start)
                pending.over |= {at: new for at, (old, new) in pairs if old != new}
            elif not node.size:
                pending.inserted[node.start] = len(entry.data)
            else:
                pending.removed.append((node.start, node.end))
                if entry.data:
                    pending.inserted[node.start] = len(entry.data)
        self.strip.show_pending(pending)
        self.text.show_pending([(e.node.start, e.node.end) for e in save.tape if e.node.file == self._file])
        self.values.refresh()
        self.outline.viewport().update()

    def show_marks(self) -> None:
        self.strip.show_marks([(mark.start, mark.end) for mark in self.session.sources.marks(self._file)])

    # lanes

    def _fill_lanes(self) -> None:
        kept = self.session.kept_copies[:MOST_LANES]
        self.lanes.clear()
        self.lanes.addItem("Lanes: none", [])
        for snapshot in kept:
            self.lanes.addItem(f"Lane: {snapshot.label or local_time(snapshot.time)}", [snapshot])
        self.lanes.addItem("Lane: another save…", None)
        if len(kept) > 1:
            self.lanes.addItem(f"Lanes: the last {min(len(kept), TOGETHER)}", kept[:TOGETHER])

    def _show_lanes(self) -> None:
        """Lay the chosen copies, or another save, under the file, aligned beside the window."""
        file, book, save = self._file, self.session.book, self.session.save
        chosen = self.lanes.currentData()
        self._lanes_wanted += 1
        wanted = self._lanes_wanted
        if chosen is None and save is not None:
            title = "Another save, to look at beside this one"
            name, _ = QFileDialog.getOpenFileName(self, title, str(save.path.parent))
            other = Path(name) if name else None
        else:
            other = None
        if not (chosen or other) or book is None or save is None or file not in save.files:
            self.strip.show_lanes([])
            self._show_legend([])
            return
        source = self.session.sources.of(file)

        def work() -> list[StripLane]:
            if other is not None:
                beside = open_save(other, save.template, save.roots).files.get(file)
                return [lane_over(LANE_LETTERS[0], source, beside.source)] if beside is not None else []
            kept = (book.keeping.kept_sources(save, snapshot).get(file) for snapshot in chosen)
            held = [each for each in kept if each is not None]
            return [lane_over(letter, source, each) for letter, each in zip(LANE_LETTERS, held, strict=False)]

        def done(lanes: list[StripLane] | None, error: LedgerError | None) -> None:
            if wanted == self._lanes_wanted:
                self.strip.show_lanes(lanes or [])
                self._show_legend([other.name] if other else [s.label or local_time(s.time) for s in chosen])
                if error is not None:
                    self.session.reported.emit(Message("broken", str(error)))

        self.session.background.run(work, done)

    def _show_legend(self, chosen: list[str]) -> None:
        names = [f"{letter} {name}" for letter, name in zip(LANE_LETTERS, chosen, strict=False)]
        self.legend.setText("   ".join(names) + ("   a number behind a letter: moved by so much" if names else ""))
        self.legend.setVisible(bool(names))

    # where the strip stands, and how it shows

    def _show_main_bytes(self, start: int, end: int) -> None:
        """Bytes of the main file, whichever is shown."""
        save = self.session.save
        if save is not None:
            self.session.select(save.main.name, start, end)

    def _show_bytes(self, start: int, end: int) -> None:
        self.session.select(self._file, start, end)

    def _show_rows(self, width: int, start: int) -> None:
        self.rows.setEditText(f"Row: {width}")
        self.strip.set_row_width(width, start)
        self.strip.scroll_to(start)

    def _tell_untypable(self, letter: str) -> None:
        shown = self.letters.currentText().strip()
        text = f"“{letter}” cannot be typed here: {shown} has no such letter, or the file ends; choose another encoding"
        self.session.reported.emit(Message("broken", text))

    def _tell_idle(self) -> None:
        text = (
            "Nothing is typed over yet: Return, or a double click, puts the selected byte into edit; Return once more "
        )
        text += "its letter."
        self.session.reported.emit(Message("open", text))

    def _set_letters(self) -> None:
        letters = self.session.attempt(lambda: lettering(self.letters.currentText().strip()))
        if letters is not None:
            self.strip.set_letters(letters)

    def _point(self, offset: int) -> None:
        self.strip.scroll_to(offset)

    def _set_row_width(self) -> None:
        typed = self.rows.currentText().removeprefix("Row:").strip()
        width = ROWS.get(self.rows.currentText(), int(typed) if typed.isdecimal() else 0)
        if width >= 0:
            self.strip.set_row_width(min(width, WIDEST))
            return
        save, selection = self.session.save, self.session.selection
        bound = save.files[self._file].bound if save is not None else None
        rows_node = None
        if bound is not None:
            rows_node = record_at(bound.root, selection.start) if selection is not None else first_array(bound.root)
            rows_node = rows_node or first_array(bound.root)
        if rows_node is None or not rows_node.stride:
            self.rows.setCurrentIndex(0)
            self.strip.set_row_width(0)
            return
        self.strip.set_row_width(rows_node.stride, rows_node.start)
        self.strip.scroll_to(rows_node.start)
