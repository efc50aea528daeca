"""The files of the save that is open, with their roles; and what will undo a posting to it."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QAbstractItemView, QFileDialog, QWidget

from faithful_ledger.core.errors import LedgerError, RootNotGranted
from faithful_ledger.core.posting.checks import Check
from faithful_ledger.core.records import Member
from faithful_ledger.core.save import Save, SaveFile
from faithful_ledger.core.source import name_within
from faithful_ledger.desk.session import Session
from faithful_ledger.desk.stages.seen import WhenSeen
from faithful_ledger.desk.theme import HOLDS, OPEN
from faithful_ledger.desk.widgets.basics import Chooser, button, column, label, row, swap
from faithful_ledger.desk.widgets.tables import cell, plain_table

__all__ = ["SavePanel"]

SYNCED = {
    "synchronised folder? not said": "",
    "the folder is synchronised": "yes",
    "the folder is not synchronised": "no",
}


class SavePanel(QWidget):
    """A part of the stage Gather. Signal: `undone` when it is known what will undo the work."""

    undone = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.members: list[Member] = []
        self.checks: list[Check] = []
        self._fixed: set[Path] = set()
        self.table = plain_table((), [], "Files of this save", ())
        self.synced = Chooser()
        self.synced.addItems(list(SYNCED))
        self.synced.setAccessibleName("Whether the folder is synchronised")
        self.synced.activated.connect(lambda _: self._say_synced())
        self.body = column(spacing=8)
        add = button("Add a file to it…", self._add_member, "link")
        self.roots = row()
        head = row(label("Files of this save", "title"), None, self.synced, add)
        head.insertLayout(2, self.roots)
        self.body.addLayout(head)
        self.body.addWidget(self.table)
        self.setLayout(self.body)
        if session.save is None:
            self.hide()
        self.seen = WhenSeen(self, session, self.show_save)
        session.recorded.connect(self.seen.mark_stale)
        session.opened.connect(lambda: self.setVisible(True))
        session.root_wanted.connect(self.choose_root)

    def show_save(self) -> None:
        """The files of the open save with their roles, and what will undo a posting, found out beside the window."""
        book, save = self.session.book, self.session.save
        self.setVisible(save is not None)
        if book is None or save is None:
            return
        self._show_roots(save)
        main = save.path.absolute()
        said = {member.path: member for member in book.records.members(main)}
        self.members = [_own(save, file, said) for file in save.on_disk]
        self._fixed = {file.path.absolute() for file in save.on_disk if save.folder is None or file.bound is not None}
        names = {member.path for member in self.members}
        if save.template is not None:
            beside = [save.beside(companion.name) for companion in save.template.companions]
            self.members += [Member(path, "cache", "goes when you post") for path in beside if path.exists()]
            names |= set(beside)
            self._fixed |= set(beside)
        self.members += [member for path, member in said.items() if path not in names]
        names_of = {file.path.absolute(): save.name_of(file) for file in save.on_disk}
        rows = [
            (
                names_of.get(m.path) or name_within(m.path, save.folder),
                m.role,
                m.note or ("" if m.path.exists() else "not there"),
            )
            for m in self.members
        ]
        fresh = plain_table(("File", "Role", "Note"), rows, "Files of this save", (220, 150))
        fresh.setFixedHeight(36 + 26 * min(max(len(rows), 1), 5))
        edit = QAbstractItemView.EditTrigger
        fresh.setEditTriggers(edit.DoubleClicked | edit.EditKeyPressed | edit.AnyKeyPressed)
        for number in range(len(rows)):
            for place in range(3):
                if self.members[number].path in self._fixed or place == 0:
                    item = cell(fresh, number, place)
                    item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEditable)
        fresh.cellChanged.connect(self._member_changed)
        self.table = swap(self.body, self.table, fresh)
        self.synced.setCurrentIndex(list(SYNCED.values()).index(book.records.setting("synced")))

        def done(checks: list[Check] | None, error: LedgerError | None) -> None:
            if checks is not None and save is self.session.save:
                self.checks = checks
                self.undone.emit()

        self.session.background.run(lambda: book.history.hazards(save), done)

    def _show_roots(self, save: Save) -> None:
        """A button for each folder that the template names by its role and nobody has chosen yet."""
        while (item := self.roots.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.deleteLater()
        for name in save.ungranted:
            choose = button(f"Choose the folder “{name}”…", partial(self.choose_root, name), "link")
            choose.setToolTip(save.template.roots.get(name, "") if save.template is not None else "")
            self.roots.addWidget(choose)

    def choose_root(self, name: str) -> None:
        """Ask for a folder of the game's, and let files of the save be read and written there."""
        save = self.session.save
        if save is None or save.template is None:
            return
        title = f"The folder “{name}”: {save.template.roots.get(name, '')}".removesuffix(": ")
        folder = QFileDialog.getExistingDirectory(self, title, str(save.path.parent))
        if folder:
            self.session.grant(name, Path(folder))

    def _add_member(self) -> None:
        save = self.session.save
        if save is not None:
            names, _ = QFileDialog.getOpenFileNames(self, "Files that belong to this save", str(save.path.parent))
            self.add_members([Path(name) for name in names])

    def add_members(self, paths: list[Path]) -> None:
        """Files that belong to the save and are kept with it; a role is guessed from the name."""
        book, save = self.session.book, self.session.save
        if book is None or save is None:
            return
        for path in paths:
            member = Member(path.absolute(), guessed_role(path), "")
            self.session.attempt(partial(book.records.set_member, save.path.absolute(), member))
        self.show_save()

    def _member_changed(self, row_number: int, place: int) -> None:
        book, save = self.session.book, self.session.save
        if book is None or save is None:
            return
        role, note = (cell(self.table, row_number, column_).text().strip() for column_ in (1, 2))
        member = self.members[row_number]._replace(role=role, note=note)
        self.session.attempt(lambda: book.records.set_member(save.path.absolute(), member))
        self.show_save()

    def _say_synced(self) -> None:
        book = self.session.book
        if book is not None:
            book.records.set_setting("synced", SYNCED[self.synced.currentText()])
            self.show_save()

    def check_lines(self) -> list[tuple[str, str, str]]:
        """What will undo the work, for the margin: role, mark and text."""
        return [
            ("holds", HOLDS, check.text) if check.ok else ("open", OPEN, f"{check.text}: {check.remedy}")
            for check in self.checks
        ]


def _own(save: Save, file: SaveFile, said: dict[Path, Member]) -> Member:
    """A file of the save: its role is the template's word; in a folder what the user said of it, or a guess."""
    path = file.path.absolute()
    if save.folder is None or file.bound is not None:
        return Member(
            path, file.name, "its folder is not known yet" if isinstance(file.problem, RootNotGranted) else ""
        )
    return said.get(path) or Member(path, guessed_role(path), "")


def guessed_role(path: Path) -> str:
    """A role by the name, to begin with."""
    name = path.name.casefold()
    words = {"option": "options", "setting": "options", "config": "options", ".cfg": "options", "account": "account"}
    words |= {"profile": "account", "index": "index", ".idx": "index", "cache": "cache", "slot": "slot", "save": "slot"}
    return next((role for word, role in words.items() if word in name), "part")
