"""Gather: look for the files a game saves to, and keep a copy at every save moment while it is played."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QFileDialog, QLineEdit, QMenu, QWidget

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.find import (
    Candidate,
    CandidateSet,
    Program,
    SaveMoment,
    content_of,
    in_sets,
    look,
    parse_since,
    programs,
    usual_folders,
)
from faithful_ledger.core.records import Snapshot
from faithful_ledger.core.save import Save
from faithful_ledger.core.vault.objects import digest_of
from faithful_ledger.desk.background import Watcher
from faithful_ledger.desk.session import Message, Session
from faithful_ledger.desk.stages.found import FoundTree, moment_text
from faithful_ledger.desk.stages.members import SavePanel
from faithful_ledger.desk.theme import HOLDS, mono
from faithful_ledger.desk.widgets.basics import Chooser, button, column, label, row, swap
from faithful_ledger.desk.widgets.flow import flow
from faithful_ledger.desk.widgets.note import SightingNote
from faithful_ledger.desk.widgets.tables import cell, plain_table
from faithful_ledger.desk.widgets.words import grouped

__all__ = ["GatherStage"]

SIZES = {"of any size": None, "up to 64 KiB": 1 << 16, "up to 1 MiB": 1 << 20, "up to 64 MiB": 1 << 26}
CONTENTS = ["any content", "text", "binary", "packed"]
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
    progressed = Signal(object, object)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self.candidates: list[Candidate] = []
        self.sets: list[CandidateSet] = []
        self._folders: list[Path] = []
        self.moments: list[tuple[SaveMoment, str]] = []
        self.watcher = Watcher(self)
        self._looking = self._stopped = False
        self.folder = QLineEdit()
        self.folder.setPlaceholderText("the usual places")
        self.folder.setAccessibleName("Folder to look in")
        self.words = QLineEdit()
        self.words.setPlaceholderText("words in the name")
        self.words.setAccessibleName("Words in the name")
        self.words.setMinimumWidth(84)
        self.words.setMaximumWidth(150)
        self.since = Chooser()
        self.since.addItems(list(SINCE))
        self.since.setAccessibleName("Changed since")
        self.most = Chooser()
        self.most.addItems(list(SIZES))
        self.most.setAccessibleName("Size")
        self.content = Chooser()
        self.content.addItems(CONTENTS)
        self.content.setAccessibleName("Kind of content")
        self.content.activated.connect(lambda _: self._show_found())
        self.everything = QCheckBox("media, logs and caches too")
        self.contents: dict[Path, str] = {}
        self.look_button = button("Look", self.look, "main")
        self.found_line = label("", "quiet")
        self.found = FoundTree()
        self.found.open_wanted.connect(session.open)
        self.watched = QLineEdit()
        self.watched.setPlaceholderText("the folder of the save that is open")
        self.watched.setAccessibleName("Folder to watch")
        self.watched.setMinimumWidth(280)
        self.keep_each = QCheckBox("Keep every save")
        self.keep_each.setChecked(True)
        self.watch_button = button("Watch while I play", self.toggle_watch)
        self.follow_button = button("Program…", self._follow)
        self.follow_button.setToolTip("Watch the folder of what a running program has open")
        self.follow_menu = QMenu(self.follow_button)
        self.note_button = button("Note", self.show_note)
        self.note_button.setToolTip("A small window that stays on top: what you see goes to the next save moment")
        self.note = SightingNote()
        self.note.named.connect(self._name_quantity)
        self.moment_line = label("", "quiet")
        self.moment_table = plain_table((), [], "Save moments", ())
        for line in (self.folder, self.words):
            line.returnPressed.connect(self.look)
        self.body = column(spacing=8)
        self.body.setContentsMargins(16, 12, 16, 10)
        self.body.addLayout(row(label("Look for saves", "title"), None, self.found_line))
        self.body.addLayout(row(self.folder, button("Folder…", self._choose), self.words, self.look_button))
        self.body.addLayout(flow(self.since, self.most, self.content, self.everything))
        self.body.addWidget(self.found, 3)
        self.body.addLayout(row(label("Save moments", "title"), None, self.moment_line))
        self.body.addLayout(flow(self.watched, self.follow_button, self.keep_each, self.note_button, self.watch_button))
        self.body.addWidget(self.moment_table, 2)
        self.set = SavePanel(session)
        self.body.addWidget(self.set)
        self.setLayout(self.body)
        self.watcher.moment.connect(self._on_moment)
        self.watcher.failed.connect(self._watch_failed)
        self.progressed.connect(self._progress, Qt.ConnectionType.QueuedConnection)
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
                self.session.reported.emit(Message("broken", f"{folder} is not a folder; name one to look in"))
                return
        self._folders = folders
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
            self._show_found()
            count = f"{len(found or [])} {'file' if len(found or []) == 1 else 'files'}"
            sets = f" in {len(self.sets)} {'set' if len(self.sets) == 1 else 'sets'}"
            sets = sets if len(self.sets) < len(found or []) else ""
            words = f"{count}{sets}{rest}; a double click opens one" if found else "nothing found there"
            self.found_line.setText(str(error) if error is not None else words)

        self.session.looking.run(
            lambda: self._looked(folders, words, moment, SIZES[self.most.currentText()], self.everything.isChecked()),
            done,
        )

    def _looked(
        self, folders: list[Path], words: str, since: float | None, most: int | None, everything: bool
    ) -> list[Candidate]:
        found = look(
            folders,
            words,
            since,
            most,
            everything=everything,
            but=(self.session.shelf.data, self.session.shelf.cache),
            stop=lambda: self._stopped,
            tell=self.progressed.emit,
        )
        self.contents = {candidate.path: content_of(candidate.path) for candidate in found[:MOST_SHOWN]}
        return found

    def _progress(self, looked: int, found: list[Candidate]) -> None:
        """Show what was found until now, while it goes on."""
        if self._looking:
            self.found_line.setText(f"{grouped(looked)} files looked at…")
            if found and not self._stopped:
                self.candidates = found[:MOST_SHOWN]
                self._show_found()

    def _choose(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Look in a folder", self.folder.text())
        if name:
            self.folder.setText(name)

    def _show_found(self) -> None:
        wanted = self.content.currentText()
        listed = [c for c in self.candidates if wanted == CONTENTS[0] or self.contents.get(c.path) == wanted]
        self.sets = in_sets(listed, self._folders, chosen=bool(self.folder.text().strip()))
        self.found.show_sets(self.sets, self.contents)

    # watching

    def toggle_watch(self) -> None:
        """Begin to watch, or stop."""
        if self.watcher.running:
            self.watcher.stop()
        else:
            text = self.watched.text().strip()
            save = self.session.save
            if not text and save is None:
                self.session.reported.emit(Message("open", "Open a save first, or name the folder to watch"))
                return
            folder = Path(text).expanduser() if text else save.folder or save.path.parent  # type: ignore[union-attr]
            self.watcher.start([folder])
            self._keep_present()
        self._show_watch()

    def _keep_present(self) -> None:
        """Keep the save as it is before the first save moment, so that what is seen now can be sighted too."""
        save, book = self.session.save, self.session.book
        if save is None or book is None or not self.keep_each.isChecked() or self.session.beside.busy:
            return
        latest = next(iter(self.session.kept_copies), None)
        if latest is None or not _is_kept(save, latest):
            self.session.history.keep("before watching", lambda snapshot: self._sight(snapshot) if snapshot else None)

    def _follow(self) -> None:
        """Choose a running program; what it has open is what is watched."""
        self.follow_menu.clear()
        self.follow_menu.addAction("looking…").setEnabled(False)
        self.follow_menu.popup(self.follow_button.mapToGlobal(self.follow_button.rect().bottomLeft()))

        def done(found: list[Program] | None, error: LedgerError | None) -> None:
            self.follow_menu.clear()
            for program in found or []:
                for folder in program.folders[:3]:
                    text = f"{program.name} ({program.pid}):  {folder}"
                    self.follow_menu.addAction(text, lambda folder=folder: self.watched.setText(str(folder)))
            if not found:
                self.follow_menu.addAction("no program has a file of yours open").setEnabled(False)

        self.session.background.run(programs, done)

    def _watch_failed(self, error: LedgerError) -> None:
        self.session.reported.emit(Message("broken", str(error)))
        self._show_watch()

    def show_note(self) -> None:
        """The note for what the game shows, on top of everything."""
        book, save = self.session.book, self.session.save
        if book is None or save is None:
            self.session.reported.emit(Message("open", "Open a save first; what you see belongs to it"))
            return
        self.note.show_quantities(book.records.quantities(save.path))
        self.note.tell(
            "It goes to the next save moment." if self.watcher.running else "Begin to watch, then save in the game."
        )
        self.note.show()

    def _name_quantity(self, name: str) -> None:
        book, save = self.session.book, self.session.save
        if book is not None and save is not None:
            self.session.attempt(lambda: book.records.add_quantity(save.path, name))
            self.note.show_quantities(book.records.quantities(save.path))

    def _sight(self, snapshot: Snapshot) -> int:
        """Write what is on the note down for a snapshot; how many lines there were."""
        book, save = self.session.book, self.session.save
        if book is None or save is None or not self.note.isVisible():
            return 0
        found = self.note.take()
        for quantity in book.records.quantities(save.path):
            if quantity.id in found:
                book.records.sight(quantity, snapshot.id, found[quantity.id])
        if found:
            self.note.tell(f"Written down for “{snapshot.label}”.")
        return len(found)

    def _show_watch(self) -> None:
        running = self.watcher.running
        self.watch_button.setText("Stop watching" if running else "Watch while I play")
        self.moment_line.setText(f"{HOLDS} watching" if running else "")
        self.watching.emit()

    def _on_moment(self, moment: SaveMoment) -> None:
        save = self.session.save
        if save is not None and _writes(moment, save) and self.session.history.wrote(moment.time):
            return  # what this program itself has written is not a save moment
        self.moments.insert(0, (moment, ""))
        del self.moments[MOMENTS_SHOWN:]
        if self.keep_each.isChecked():
            self._keep(moment)
        self._show_moments()
        self.watching.emit()

    def _told(self, moment: SaveMoment, text: str) -> None:
        """What became of a moment."""
        self.moments = [(each, text if each is moment else kept) for each, kept in self.moments]
        self._show_moments()

    def _keep(self, moment: SaveMoment) -> None:
        """Keep the open save when the moment wrote it."""
        save, book = self.session.save, self.session.book
        if save is None or book is None or not _writes(moment, save):
            self._told(moment, "not the open save")
            return
        labels = [snapshot.label.removeprefix("save ") for snapshot in self.session.kept_copies]
        number = max((int(label_) for label_ in labels if label_.isdecimal()), default=0) + 1
        self._told(moment, "keeping…")

        def kept(snapshot: Snapshot | None) -> None:
            sighted = self._sight(snapshot) if snapshot is not None else 0
            seen = f", {sighted} sighted" if sighted else ""
            self._told(moment, f"kept as “save {number}”{seen}" if snapshot is not None else "not kept")
            if snapshot is not None and not self.session.pending:
                self.session.reopen()

        self.session.history.keep(f"save {number}", kept)

    def _show_moments(self) -> None:
        rows = []
        for moment, kept in self.moments:
            written = ", ".join(
                f"{f.path.name} {f.change} {f.delta:+d}{' (all the time)' if f.busy else ''}" for f in moment.files
            )
            rows.append((moment_text(moment.time), written, kept))
        fresh = plain_table(
            ("When", "What was written, and by how many bytes it grew", ""), rows, "Save moments", (176, 480)
        )
        for number in range(len(rows)):
            cell(fresh, number, 0).setFont(mono(12))
        self.moment_table = swap(self.body, self.moment_table, fresh)


def _is_kept(save: Save, snapshot: Snapshot) -> bool:
    """Whether a snapshot holds the open save as it was read."""
    kept = {file.path: file.sha256 for file in snapshot.files}
    return all(
        kept.get(file.path.absolute()) == digest_of(file.source.chunks(0, file.source.size)) for file in save.on_disk
    )


def _writes(moment: SaveMoment, save: Save) -> bool:
    """Whether a moment wrote a file of a save; of a folder also what came in or went."""
    paths = {file.path.resolve() for file in save.on_disk}
    folder = save.folder.resolve() if save.folder is not None else None
    return any(
        (file.change != "removed" and file.path in paths) or (folder is not None and folder in file.path.parents)
        for file in moment.files
    )
