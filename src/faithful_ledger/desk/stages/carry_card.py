"""Files on the image of a memory card: what goes on it or off it is entered, and posted like everything else."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QFileDialog, QProgressBar, QTableWidget, QWidget

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.source import read_whole
from faithful_ledger.desk.session import Message, Session
from faithful_ledger.desk.theme import BROKEN, HOLDS, OPEN, colours
from faithful_ledger.desk.widgets.basics import button, column, label, swap
from faithful_ledger.desk.widgets.flow import flow
from faithful_ledger.desk.widgets.tables import cell, plain_table

if TYPE_CHECKING:
    from faithful_ledger.core.carry import Card, CardEntry
    from faithful_ledger.core.save import Save

__all__ = ["CardPane"]

HEAD = ("Entry", "Bytes", "Blocks", "Icon", "Belongs with", "State")
STATE = len(HEAD) - 1


class CardPane(QWidget):
    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.card: Card | None = None
        self.words = label("", "quiet", wrap=True)
        self.room = QProgressBar()
        self.room.setTextVisible(False)
        self.room.setFixedHeight(10)
        self.table: QTableWidget = plain_table(HEAD, [], "On the card", ())
        self.add_button = button("Add files…", lambda: self.add())
        self.extract_button = button("Extract…", lambda: self.extract())
        self.replace_button = button("Replace…", lambda: self.replace())
        self.remove_button = button("Remove", self.remove)
        self.body = column(self.words, self.room, self.table, spacing=8)
        acts = flow(self.add_button, self.extract_button, self.replace_button, self.remove_button, spacing=8)
        self.body.addLayout(acts)
        about = "Two files that belong together go on the card, and off it, together. It is pending until it is posted."
        self.body.addWidget(label(about, "quiet", wrap=True))
        self.body.addStretch(1)
        self.setLayout(self.body)

    def show_save(self) -> None:
        """What is on the open card."""
        from faithful_ledger.core.carry import Card

        save, session = self.session.save, self.session
        if save is None:
            return
        try:
            self.card = Card(save, session.shelf.library(session.book))
        except LedgerError as error:
            self.card = None
            self.words.setText(f"{BROKEN} {error}")
            return
        self._lay_out(self.card)

    def show_planned(self) -> None:
        """Show what will be on the card with the entries that are pending."""
        if self.isVisible():
            self.show_save()

    def _after(self) -> Card | None:
        """The card as it will be, where that is planned."""
        from faithful_ledger.core.carry import Card
        from faithful_ledger.core.opening import save_of

        plan, card = self.session.plan, self.card
        if plan is None or card is None or card.save.template is None:
            return None
        main = plan.files[0]
        try:
            return Card(save_of(card.save.template, {main.file.name: (main.file.path, main.patched)}), card.library)
        except LedgerError:
            return None

    def _lay_out(self, card: Card) -> None:
        after = self._after()
        entries = card.entries
        coming = [each for each in after.entries if each not in entries] if after is not None else []
        staying = after.entries if after is not None else entries
        rows = [
            (
                each.name,
                f"{each.size}",
                f"{len(each.blocks)}",
                each.icon,
                ", ".join(card.partners(each.name)),
                self._state(each, goes=each not in staying, comes=each in coming),
            )
            for each in [*entries, *coming]
        ]
        fresh = plain_table(HEAD, rows, "On the card", (150, 70, 66, 90, 150))
        for number, each in enumerate(entries):
            role = "broken" if each.problem else "holds" if each in staying else "open"
            cell(fresh, number, STATE).setForeground(colours()[role])
        for number in range(len(entries), len(rows)):
            cell(fresh, number, STATE).setForeground(colours()["open"])
        fresh.setMinimumHeight(34 + 26 * min(max(len(rows), 4), 14))
        fresh.itemSelectionChanged.connect(self._allow)
        self.table = swap(self.body, self.table, fresh)
        shown = after or card
        used, free = sum(len(each.blocks) for each in shown.entries), len(shown.free)
        self.room.setRange(0, max(used + free, 1))
        self.room.setValue(used)
        pending = " once it is posted" if after is not None else ""
        size = card.block_size
        room = f"{free} are free ({free * size} bytes)"
        self.words.setText(f"{len(shown.entries)} entries in {used} blocks of {size} bytes; {room}{pending}.")
        self.room.setAccessibleName(f"{used} of {used + free} blocks are taken")
        self._allow()

    @staticmethod
    def _state(each: CardEntry, *, goes: bool, comes: bool) -> str:
        if each.problem:
            return f"{BROKEN} {each.problem}"
        return f"{OPEN} pending: it goes" if goes else f"{OPEN} pending: it comes" if comes else HOLDS

    @property
    def chosen(self) -> CardEntry | None:
        number = self.table.currentRow()
        return self.card.entries[number] if self.card is not None and 0 <= number < len(self.card.entries) else None

    def _allow(self) -> None:
        chosen, pending = self.chosen, bool(self.session.pending)
        self.add_button.setEnabled(not pending)
        for each in (self.extract_button, self.replace_button, self.remove_button):
            each.setEnabled(chosen is not None and (not pending or each is self.extract_button))
        tip = "post or withdraw what is pending first" if pending else ""
        for each in (self.add_button, self.replace_button, self.remove_button):
            each.setToolTip(tip)

    # what can be done

    def add(self, names: list[str] | None = None) -> None:
        """Put files on the card."""
        names = names or QFileDialog.getOpenFileNames(self, "Files for the card", str(Path.home()))[0]
        if names:
            self._enter(lambda card: card.add({Path(name).name: read_whole(Path(name))[0] for name in names}))

    def remove(self) -> None:
        """Take the chosen entry off the card, and what belongs to it."""
        each = self.chosen
        if each is not None:
            self._enter(lambda card: card.remove(card.with_partners(each.name)))

    def replace(self, names: list[str] | None = None) -> None:
        """Other bytes for the chosen entry and what belongs to it."""
        each = self.chosen
        if each is None:
            return
        names = names or QFileDialog.getOpenFileNames(self, f"In the place of {each.name}", str(Path.home()))[0]
        if names:
            self._enter(lambda card: card.replace(each.name, [(name, read_whole(Path(name))[0]) for name in names]))

    def extract(self, folder: str = "") -> None:
        """Write the chosen entry, and what belongs to it, as new files."""
        each, card = self.chosen, self.card
        if each is None or card is None:
            return
        folder = folder or QFileDialog.getExistingDirectory(self, "A folder for the files", str(Path.home()))
        if not folder:
            return
        written = self.session.attempt(lambda: card.write_out(each.name, Path(folder)))
        if written:
            names = " and ".join(path.name for path in written)
            self.session.reported.emit(Message("holds", f"{names} are in {folder}."))

    def _enter(self, act: Callable[[Card], object]) -> None:
        from faithful_ledger.core.carry import Card

        library = self.session.shelf.library(self.session.book)

        def put(save: Save) -> None:
            act(Card(save, library))

        if self.session.arrange(put):
            self.session.reported.emit(Message("holds", "It is pending: look at the plan, and post it."))
