"""Records: snapshots and postings in time order; look into one, reverse a posting, restore a snapshot."""

from __future__ import annotations

from functools import partial
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QFileDialog,
    QLineEdit,
    QWidget,
)

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.book import Book
from faithful_ledger.core.clock import local_time
from faithful_ledger.core.compare import field_differences
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.keeping import VaultReport
from faithful_ledger.core.records import Posting, Snapshot
from faithful_ledger.desk.session import Message, Session
from faithful_ledger.desk.stages.seen import WhenSeen
from faithful_ledger.desk.theme import BROKEN, HOLDS, OPEN, colours, sans
from faithful_ledger.desk.widgets.basics import button, clear, column, label, row, swap
from faithful_ledger.desk.widgets.flow import flow
from faithful_ledger.desk.widgets.tables import cell, plain_table
from faithful_ledger.desk.widgets.verdict import Verdict

if TYPE_CHECKING:
    from faithful_ledger.core.refused import Lead
    from faithful_ledger.core.source import Source

__all__ = ["HistoryStage", "field_text"]

COPIES_LOOKED_AT = 8
LARGEST_LOOKED_AT = 16 << 20
MOST_DIFFERENCES, MOST_SHOWN = 200, 500


class HistoryStage(QWidget):
    """The sheet of the stage History. Signals: `compare_wanted(snapshot, other or None)`; `show_wanted(lead)` for bytes
    that may say why the game refused a posting; `seals_wanted` to look for checksums.
    """

    title = "History"
    compare_wanted = Signal(object, object)
    show_wanted = Signal(object)
    seals_wanted = Signal()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self.seen = WhenSeen(self, session, self.show_save)
        self.records: list[Snapshot | Posting] = []
        self.verdicts: dict[str, str] = {}
        self.open_steps: dict[str, list[str]] = {}
        self.label_line = QLineEdit()
        self.label_line.setPlaceholderText("What was done in the game just now?")
        self.label_line.setAccessibleName("Label of the next snapshot")
        self.label_line.returnPressed.connect(self.keep)
        self.keep_button = button("Keep a copy now", self.keep)
        self.table = plain_table((), [], "History", ())
        self.older = label("", "quiet")
        self.everyone = QCheckBox()
        self.everyone.setToolTip("Snapshots and postings of others whose saves had this file name")
        self.everyone.toggled.connect(lambda _: self.show_save())
        self.everyone.hide()
        self.detail = QWidget()
        self.detail_column = column(spacing=6)
        self.detail.setLayout(self.detail_column)
        self.body = column(spacing=10)
        self.body.setContentsMargins(16, 12, 16, 10)
        self.body.addLayout(row(label("History", "title"), None, self.label_line, self.keep_button))
        self.body.addLayout(
            flow(
                self.older,
                self.everyone,
                button("Take in copies…", self.take_in, "link"),
                button("Take in a folder…", self.take_in_folder, "link"),
                button("Problem bundle…", self.bundle, "link"),
                button("Check every kept copy", self.check_vault, "link"),
                spacing=14,
            )
        )
        self.label_line.setMinimumWidth(260)
        self.body.addWidget(self.table, 2)
        self.body.addWidget(self.detail, 3)
        self.setLayout(self.body)
        session.recorded.connect(self.seen.mark_stale)

    def show_save(self) -> None:
        session = self.session
        if session.book is None or session.save is None:
            return
        save, book = session.save, session.book
        everyone = self.everyone.isChecked()
        own = book.history.own_postings(save)
        found: list[Snapshot | Posting] = [
            *(book.history.postings(save.path) if everyone else own),
            *(
                book.keeping.snapshots(save.path, MOST_SHOWN)
                if everyone
                else book.keeping.own_snapshots(save, MOST_SHOWN)
            ),
        ]
        self.verdicts, self.open_steps = book.records.verdicts(), book.history.open_steps(own)
        self.records = sorted(found, key=lambda record: record.time, reverse=True)
        fresh = plain_table(
            ("When", "What", "Note", "Files"), [self._row(r) for r in self.records], "History", (160, 250, 220)
        )
        for number, record in enumerate(self.records):
            reversed_ = isinstance(record, Posting) and record.reversed is not None
            colour = colours()["quiet" if reversed_ else "holds" if isinstance(record, Posting) else "ink"]
            item = cell(fresh, number, 1)
            item.setForeground(colour)
            item.setFont(sans(13, strong=isinstance(record, Posting)))
        fresh.itemSelectionChanged.connect(self._selected)
        self.table = swap(self.body, self.table, fresh)
        fresh.setMaximumHeight(40 + 26 * min(max(len(self.records), 1), 8))
        clear(self.detail_column)
        count, others = book.keeping.count_own(save), book.keeping.others(save)
        self.older.setText(f"the latest {MOST_SHOWN} of {count} snapshots" if count > MOST_SHOWN else "")
        self.older.setVisible(count > MOST_SHOWN)
        self.everyone.setVisible(bool(others))
        names = _listed(list(others)).replace("&", "&&")  # one alone would underline a letter
        self.everyone.setText(f"also of {names} ({sum(others.values())})")
        if not self.records:
            text = "Nothing is kept yet. Posting keeps a copy by itself; keep one now before you try something."
            self.detail_column.addWidget(label(text, wrap=True))
            self.detail_column.addStretch(1)
        else:
            self.table.selectRow(0)

    def _row(self, record: Snapshot | Posting) -> tuple[str, ...]:
        if isinstance(record, Posting):
            count = len(record.record["entries"])
            what = (
                f"{OPEN} posting, reversed"
                if record.reversed
                else f"{HOLDS} posting, {count} {'entry' if count == 1 else 'entries'}"
            )
            what += f", {self.verdicts[record.id]}" if record.id in self.verdicts else ""
            what += ", open" if record.id in self.open_steps else ""
            note = record.record["note"] or ", ".join(f"{e['label']} {e['new']}" for e in record.record["entries"])
            return local_time(record.time), what, note, ", ".join(Path(f).name for f in record.record["files"])
        what = "snapshot" if record.kind == "kept" else f"snapshot {record.kind}"
        of = f" · {record.identity}" if self.everyone.isChecked() and record.identity else ""
        return local_time(record.time), what, f"{record.label}{of}".removeprefix(" · "), record.names

    def keep(self) -> None:
        self.session.history.keep(
            self.label_line.text().strip(), lambda kept: self.label_line.clear() if kept else None
        )

    def _selected(self) -> None:
        number = self.table.currentRow()
        clear(self.detail_column)
        if not 0 <= number < len(self.records):
            return
        record = self.records[number]
        if isinstance(record, Posting):
            self._show_posting(record)
        else:
            self._show_snapshot(record)

    def _show_posting(self, posting: Posting) -> None:
        record = posting.record
        act = button("Reverse this posting", lambda: self.session.history.reverse(posting), "main")
        act.setEnabled(posting.reversed is None)
        state = f"reversed {local_time(posting.reversed)}" if posting.reversed else "brings back the exact old bytes"
        self.detail_column.addLayout(
            row(label(f"Posting of {local_time(posting.time)}", "title"), None, label(state, "quiet"), act)
        )
        verdict = self.verdicts.get(posting.id, "")
        asked = Verdict(self.session)
        asked.show_posting(posting, verdict)
        self.detail_column.addWidget(asked)
        self._show_steps(posting)
        if verdict == "refused" and posting.reversed is None:
            self._show_leads(posting)
        entries = [*record["entries"], *record["followers"]]
        rows = [(e["path"], e["old"], e["new"], "by a rule" if e in record["followers"] else "") for e in entries]
        entered = plain_table(("Field", "Was", "Became", ""), rows, "Entries", (230, 170, 170))
        entered.setMaximumHeight(40 + 26 * min(len(rows), 8))
        self.detail_column.addWidget(entered)
        changes = [
            (c["file"], f"0x{c['offset']:04X} · {c['offset']}", f"{c['size']}", c["cause"]) for c in record["changes"]
        ]
        table = plain_table(("File", "Offset", "Bytes", "Because of"), changes, "Changed bytes", (120, 140, 60))
        self.detail_column.addWidget(table, 1)
        if record["removed"]:
            names = ", ".join(Path(path).name for path in record["removed"])
            self.detail_column.addWidget(label(f"Removed, and kept with the snapshot: {names}", "quiet"))

    def _show_steps(self, posting: Posting) -> None:
        """What is to be done after a posting, to be ticked; and what to look for until the player has said."""
        book = self.session.book
        if book is None or posting.reversed is not None:
            return
        ticked, steps = book.records.ticked(), posting.record.get("after", ())
        for step in steps:
            box = QCheckBox(step.replace("&", "&&"))
            box.setChecked((posting.id, step) in ticked)
            box.toggled.connect(partial(self._tick, posting, step))
            self.detail_column.addLayout(row(box, None))
        for step in self.open_steps.get(posting.id, ()):
            if step not in steps:
                self.detail_column.addWidget(label(f"{OPEN} {step}", "open", wrap=True))

    def _show_leads(self, posting: Posting) -> None:
        """What to look at after the game has refused a posting."""
        self.detail_column.addWidget(label("The game refused it: where to look next", "heading"))
        for lead in self.session.attempt(lambda: self._leads(posting)) or ():
            shown = [button("Show it", partial(self.show_wanted.emit, lead), "link")] if lead.end else []
            words = label(f"{OPEN} {lead.text}", "open", wrap=True)
            line = row(words, *shown)
            line.setStretchFactor(words, 1)
            self.detail_column.addLayout(line)
        find = button("Find the seals", self.seals_wanted.emit, "link")
        asked = label("A checksum that nobody knows yet may be what it compares.", wrap=True)
        line = row(asked, find)
        line.setStretchFactor(asked, 1)
        self.detail_column.addLayout(line)
        text = "Reverse this posting puts the state back that the game accepted; then change one value at a time."
        self.detail_column.addWidget(label(text, wrap=True))

    def _leads(self, posting: Posting) -> list[Lead]:
        from faithful_ledger.core.refused import leads

        book, save = self.session.book, self.session.save
        if book is None or save is None:
            return []
        copies: dict[str, list[Source]] = {}
        if save.size <= LARGEST_LOOKED_AT:
            for snapshot in reversed(book.keeping.own_snapshots(save, COPIES_LOOKED_AT)):
                for name, source in book.keeping.kept_sources(save, snapshot, inside=False).items():
                    copies.setdefault(name, []).append(source)
        names = {file.path.name: file.name for file in save.on_disk}
        changes = [
            (names[change["file"]], int(change["offset"]), int(change["size"]) - int(change["old_size"]))
            for change in posting.record["changes"]
            if change["file"] in names
        ]
        return list(leads(save, copies, changes))

    def _tick(self, posting: Posting, step: str, done: bool) -> None:
        book = self.session.book
        if book is not None:
            self.session.attempt(lambda: book.records.tick(posting.id, step, done=done))
            self.session.recorded.emit()

    def _show_snapshot(self, snapshot: Snapshot) -> None:
        act = button("Restore", lambda: self.session.history.restore(snapshot), "main")
        title = snapshot.label or f"Snapshot of {local_time(snapshot.time)[11:]}"
        act.setToolTip("What is there now is kept first")
        number = self.records.index(snapshot)
        before = next((r for r in self.records[number + 1 :] if isinstance(r, Snapshot)), None)
        compare = button("Compare with now", lambda: self.compare_wanted.emit(snapshot, None))
        last = button("with one before", lambda: self.compare_wanted.emit(before, snapshot))
        last.setEnabled(before is not None)
        out = button("Export…", lambda: self._export(snapshot))
        aside = button("Elsewhere…", lambda: self._restore_elsewhere(snapshot))
        aside.setToolTip("Write the files of this snapshot into another folder; the save stays as it is")
        self.detail_column.addLayout(flow(label(title, "title"), compare, last, out, aside, act, spacing=6))
        files = [(file.path.name, f"{file.size} bytes", file.sha256) for file in snapshot.files]
        table = plain_table(("File", "Size", "SHA-256"), files, "Files", (150, 110))
        table.setMaximumHeight(34 + 26 * len(files))
        self.detail_column.addWidget(table)
        rows, told_text = self._differences(snapshot)
        self.detail_column.addWidget(label(told_text, "heading"))
        if rows:
            table = plain_table(("Field", "In this snapshot", "In the save now"), rows, "Differences", (230, 220))
            self.detail_column.addWidget(table, 1)
        else:
            self.detail_column.addStretch(1)

    def _export(self, snapshot: Snapshot) -> None:
        """Write a snapshot as a zip file."""
        book = self.session.book
        name, _ = QFileDialog.getSaveFileName(
            self, "Export this snapshot", f"{snapshot.label or snapshot.id}.zip", "Zip files (*.zip)"
        )
        if name and book is not None:
            path = Path(name)

            def write() -> None:
                path.unlink(missing_ok=True)
                book.keeping.export(snapshot, path)

            self.session.attempt(write)

    def _restore_elsewhere(self, snapshot: Snapshot) -> None:
        name = QFileDialog.getExistingDirectory(self, "Write the files of this snapshot into a folder")
        if name:
            self.session.history.restore_elsewhere(snapshot, Path(name))

    def take_in(self) -> None:
        """Keep copies that were made by hand, or exported before."""
        names, _ = QFileDialog.getOpenFileNames(self, "Take in copies of this save, or zip files of them")
        if names:
            self.session.history.take_in([Path(name) for name in names])

    def take_in_folder(self) -> None:
        """Keep what is in a folder of copies."""
        name = QFileDialog.getExistingDirectory(self, "Take in a folder with copies of this save")
        if name:
            self.session.history.take_in([Path(name)])

    def bundle(self) -> None:
        """Write a problem bundle for the author of the template."""
        save, book = self.session.save, self.session.book
        if save is None or book is None:
            return
        from faithful_ledger.core.bundle import Bundled, write_bundle

        name, _ = QFileDialog.getSaveFileName(
            self, "Problem bundle", f"{save.path.stem}-problem.zip", "Zip files (*.zip)"
        )
        if not name:
            return
        library = self.session.shelf.library(book)

        def done(bundled: Bundled) -> None:
            blanked = f"; blanked: {', '.join(bundled.blanked)}" if bundled.blanked else ""
            blanked += f", and {bundled.elsewhere} other places" if bundled.elsewhere else ""
            text = f"{bundled.path.name} has the save, its template, its seals and its last postings{blanked}."
            if not bundled.blanked:
                text += " Nothing was blanked: no field is known to say whose save it is."
            self.session.reported.emit(Message("holds" if bundled.blanked else "open", text))

        self.session.beside.run(
            save.size, "The bundle is written", lambda: write_bundle(Path(name), save, book, library), done
        )

    def check_vault(self) -> None:
        """Read every kept copy again, beside the window."""
        book = self.session.book
        if book is None:
            return
        self.session.reported.emit(Message("open", "Every kept copy is read again…"))

        def done(report: VaultReport | None, error: LedgerError | None) -> None:
            if error is not None or report is None:
                self.session.reported.emit(Message("broken", str(error)))
            elif report.journals:
                self.session.reported.emit(Message("broken", str(report.journals[0])))
            elif report.damaged:
                names = ", ".join(f"{f.path.name} of “{s.label or local_time(s.time)}”" for s, f in report.damaged[:4])
                text = f"{len(report.damaged)} kept copies are damaged: {names}"
                self.session.reported.emit(
                    Message("broken", f"{text}. Look in a backup of the vault; the others are whole")
                )
            elif report.unlisted:
                count = len(report.unlisted)
                text = f"{count} {'snapshot is' if count == 1 else 'snapshots are'} in the vault and not in the list"
                self.session.reported.emit(
                    Message("open", text, "Put them back into the list", lambda: self._rebuild(book))
                )
            else:
                self.session.reported.emit(Message("holds", "Every kept copy is whole: its bytes match its digest."))

        self.session.looking.run(book.keeping.check_vault, done)

    def _rebuild(self, book: Book) -> None:
        if self.session.attempt(book.keeping.rebuild) is not None:
            book.recovered.clear()
            self.session.recorded.emit()

    def _differences(self, snapshot: Snapshot) -> tuple[list[tuple[str, ...]], str]:
        """Fields that say something else in a snapshot than in the open save."""
        save, book = self.session.save, self.session.book
        if save is None or book is None or save.template is None or save.problem is not None:
            return [], "Without a template that fits, its fields cannot be compared."
        try:
            bound = save.laid_over(book.keeping.kept_sources(save, snapshot, inside=False))
        except LedgerError as error:
            return [], f"{BROKEN} {error}"
        if bound is None:
            return [], "It holds only part of this save, so its fields cannot be compared."
        for file in bound.values():
            if file.problem is not None:
                return [], f"{BROKEN} {file.problem}"
        present = save.bound
        found = islice(field_differences(bound, present), MOST_DIFFERENCES + 1)
        rows: list[tuple[str, ...]] = [(item.path, field_text(item.a), field_text(item.b)) for item in found]
        if len(rows) > MOST_DIFFERENCES:
            return rows[:MOST_DIFFERENCES], f"The first {MOST_DIFFERENCES} fields that differ from the save now"
        return (
            rows,
            f"{len(rows)} fields differ from the save now" if rows else "The save now says the same in every field",
        )


def field_text(node: FieldNode | None) -> str:
    """What a field says, for a table; a dash where it is not there."""
    if node is None:
        return "–"
    try:
        return node.spec.storage.to_text(node.value)
    except LedgerError:
        return f"{BROKEN} cannot be read"


def _listed(names: list[str]) -> str:
    return f"{names[0]} and {len(names) - 1} more" if len(names) > 1 else "".join(names)
