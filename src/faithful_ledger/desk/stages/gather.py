"""Gather: look for the files a game saves to, and keep a copy at every save moment while it is played."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QFileDialog, QLineEdit, QWidget

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.find import Candidate, SaveMoment, look, parse_since, usual_folders
from faithful_ledger.desk.background import Watcher
from faithful_ledger.desk.session import Message, Session
from faithful_ledger.desk.stages.records import plain_table
from faithful_ledger.desk.theme import HOLDS, mono
from faithful_ledger.desk.widgets.basics import Chooser, button, column, label, row, swap

__all__ = ["GatherStage"]

MOST_SHOWN = 300
MOMENTS_SHOWN = 200
SINCE = {
    "changed at any time": "",
    "changed just now": "just now",
    "in the last hour": "1h",
    "today": "today",
    "this week": "7d",
}


class GatherStage(QWidget):
    """The sheet of the stage Gather. It works before a save is open. Signal: `watching` when that begins or ends."""

    watching = Signal()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self.candidates: list[Candidate] = []
        self.moments: list[tuple[SaveMoment, str]] = []
        self.watcher = Watcher(self)
        self._looking = self._stopped = False
        self.folder = QLineEdit()
        self.folder.setPlaceholderText("the usual places")
        self.folder.setAccessibleName("Folder to look in")
        self.words = QLineEdit()
        self.words.setPlaceholderText("words in the name")
        self.words.setAccessibleName("Words in the name")
        self.words.setFixedWidth(150)
        self.since = Chooser()
        self.since.addItems(list(SINCE))
        self.since.setAccessibleName("Changed since")
        self.look_button = button("Look", self.look, "main")
        self.found_line = label("", "quiet")
        self.found = plain_table((), [], "Files that may be saves", ())
        self.watched = QLineEdit()
        self.watched.setPlaceholderText("the folder of the save that is open")
        self.watched.setAccessibleName("Folder to watch")
        self.keep_each = QCheckBox("Keep every save")
        self.keep_each.setChecked(True)
        self.watch_button = button("Watch while I play", self.toggle_watch)
        self.moment_line = label("", "quiet")
        self.moment_table = plain_table((), [], "Save moments", ())
        for line in (self.folder, self.words):
            line.returnPressed.connect(self.look)
        self.body = column(spacing=8)
        self.body.setContentsMargins(16, 12, 16, 10)
        self.body.addLayout(row(label("Look for saves", "title"), None, self.found_line))
        self.body.addLayout(row(self.folder, button("Folder…", self._choose), self.words, self.since, self.look_button))
        self.body.addWidget(self.found, 3)
        self.body.addLayout(row(label("Save moments", "title"), None, self.moment_line))
        self.body.addLayout(row(self.watched, self.keep_each, self.watch_button))
        self.body.addWidget(self.moment_table, 2)
        self.setLayout(self.body)
        self.watcher.moment.connect(self._on_moment)
        self.watcher.failed.connect(
            lambda error: (session.told.emit(Message("broken", str(error))), self._show_watch())
        )
        self._show_found()
        self._show_moments()

    # looking

    def look(self) -> None:
        """Begin to look, or stop."""
        if self._looking:
            self._stopped = True
            return
        text = self.folder.text().strip()
        folders = [Path(text).expanduser()] if text else usual_folders()
        for folder in folders:
            if not folder.is_dir():
                self.session.told.emit(Message("broken", f"{folder} is no folder; name one to look in"))
                return
        words, since = self.words.text(), SINCE[self.since.currentText()]
        moment = parse_since(since) if since else None
        self._looking, self._stopped = True, False
        self.look_button.setText("Stop")
        self.found_line.setText("looking…")

        def done(found: list[Candidate] | None, error: LedgerError | None) -> None:
            self._looking = False
            self.look_button.setText("Look")
            self.candidates = (found or [])[:MOST_SHOWN]
            rest = f", the likeliest {MOST_SHOWN} are shown" if found and len(found) > MOST_SHOWN else ""
            self.found_line.setText(
                str(error)
                if error is not None
                else f"{len(found or [])} files{rest}; a double click opens one"
                if found
                else "nothing found there"
            )
            self._show_found()

        self.session.background.run(lambda: look(folders, words, moment, stop=lambda: self._stopped), done)

    def _choose(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Look in a folder", self.folder.text())
        if name:
            self.folder.setText(name)

    def _show_found(self) -> None:
        rows = [
            (
                c.path.name,
                _when(c.modified),
                f"{c.size:,}".replace(",", "\u202f"),
                "; ".join(c.reasons),
                str(c.path.parent),
            )
            for c in self.candidates
        ]
        fresh = plain_table(
            ("File", "Changed", "Bytes", "Why it is likely", "Folder"),
            rows,
            "Files that may be saves",
            (160, 170, 76, 300),
        )
        fresh.itemActivated.connect(lambda item: self.open_row(item.row()))
        fresh.setToolTip("Return or a double click opens it")
        self.found = swap(self.body, self.found, fresh)

    def open_row(self, number: int) -> None:
        self.session.open(self.candidates[number].path)

    # watching

    def toggle_watch(self) -> None:
        """Begin to watch, or stop."""
        if self.watcher.running:
            self.watcher.stop()
        else:
            text = self.watched.text().strip()
            save = self.session.save
            if not text and save is None:
                self.session.told.emit(Message("open", "Open a save first, or name the folder to watch"))
                return
            folder = Path(text).expanduser() if text else save.main.path.parent  # type: ignore[union-attr]
            self.watcher.start([folder])
        self._show_watch()

    def _show_watch(self) -> None:
        running = self.watcher.running
        self.watch_button.setText("Stop watching" if running else "Watch while I play")
        self.moment_line.setText(f"{HOLDS} watching" if running else "")
        self.watching.emit()

    def _on_moment(self, moment: SaveMoment) -> None:
        kept = self._keep(moment) if self.keep_each.isChecked() else ""
        self.moments.insert(0, (moment, kept))
        del self.moments[MOMENTS_SHOWN:]
        self._show_moments()
        self.watching.emit()

    def _keep(self, moment: SaveMoment) -> str:
        """Keep the open save when the moment wrote it; says what was done."""
        save, book = self.session.save, self.session.book
        paths = {file.path for file in save.files.values()} if save is not None else set()
        written = {file.path for file in moment.files if file.change != "removed"}
        if save is None or book is None or not {path.resolve() for path in paths} & written:
            return "not the open save"
        number = sum(snapshot.label.startswith("save ") for snapshot in book.snapshots(save.main.path)) + 1
        snapshot = self.session.keep(f"save {number}")
        if snapshot is not None and not self.session.pending:
            self.session.reopen()
        return f"kept as “save {number}”" if snapshot is not None else "not kept"

    def _show_moments(self) -> None:
        rows = []
        for moment, kept in self.moments:
            told = ", ".join(
                f"{f.path.name} {f.change} {f.delta:+d}{' (all the time)' if f.busy else ''}" for f in moment.files
            )
            rows.append((_when(moment.time), told, kept))
        fresh = plain_table(
            ("When", "What was written, and by how many bytes it grew", ""), rows, "Save moments", (176, 480)
        )
        for number in range(len(rows)):
            fresh.item(number, 0).setFont(mono(12))
        self.moment_table = swap(self.body, self.moment_table, fresh)


def _when(seconds: float) -> str:
    return datetime.fromtimestamp(seconds).strftime("%Y-%m-%d %H:%M:%S")
