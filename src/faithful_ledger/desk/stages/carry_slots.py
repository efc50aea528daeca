"""The slots of a game, and the open save, or a kept copy of it, that goes into another one."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QWidget

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.desk.lines import kept_in_words
from faithful_ledger.desk.session import Message, Session
from faithful_ledger.desk.theme import BROKEN, HOLDS, colours
from faithful_ledger.desk.widgets.basics import Chooser, button, column, label, row, swap, tab
from faithful_ledger.desk.widgets.carry_plan import CarryPlan
from faithful_ledger.desk.widgets.tables import cell, plain_table

if TYPE_CHECKING:
    from faithful_ledger.core.carry import Carry, How, InnerSlots, Slot, Slots
    from faithful_ledger.core.posting import Check
    from faithful_ledger.core.save import Save

__all__ = ["SlotsPane"]

HEAD = ("Slot", "File", "What is in it", "Saved")
MOST_COPIES = 30
HOWS: tuple[tuple[How, str], ...] = (("copy", "Copy it there"), ("move", "Move it there"), ("swap", "Swap the two"))


class SlotsPane(QWidget):
    """One list of all slots: the save comes from the one that is open, and goes into the one that is selected."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.slots: Slots | None = None
        self.inner: InnerSlots | None = None  # where the slots are records of the open save
        self.found: list[Slot] = []
        self.own = ""
        self.how: How = "copy"
        self.archive: tuple[Path, Save] | None = None
        self.source = Chooser()
        self.source.setAccessibleName("From")
        self.source.setMaximumWidth(420)
        self.source.activated.connect(lambda _: self.replan())
        self.table = plain_table(HEAD, [], "Slots", ())
        self.words = label("", "quiet", wrap=True)
        self.hows = {how: tab(name, partial(self.choose_how, how)) for how, name in HOWS}
        self.enter_button = button("Enter it", self.enter, "main")
        self.enter_button.hide()
        self.plan = CarryPlan()
        self.plan.wanted.connect(self.write)
        self.to = label("", "heading", wrap=True)
        self.body = column(spacing=8)
        from_file = button("A copy from a file…", lambda: self.choose_archive(), "link")
        self.body.addLayout(row(label("From", "quiet"), self.source, from_file, None))
        self.body.addWidget(self.words)
        self.body.addWidget(self.table, 3)
        self.choice = QWidget()
        choice = row(label("To", "quiet"), self.to, *self.hows.values())
        choice.setStretchFactor(self.to, 1)
        self.choice.setLayout(choice)
        self.body.addWidget(self.choice)
        self.body.addWidget(self.plan, 2)
        self.body.addLayout(row(None, self.enter_button))
        self.body.addStretch(1)
        self.setLayout(self.body)

    # what is shown

    def show_save(self) -> None:
        """The slots around the open save."""
        from faithful_ledger.core.carry import InnerSlots, Slots

        save = self.session.save
        self.slots, self.inner, self.found = None, None, []
        spec = save.template.slots if save is not None and save.template is not None else None
        try:
            if save is not None and spec is not None and spec.rows:
                self.inner = InnerSlots(save)
            elif save is not None:
                self.slots = Slots.around(save)
        except LedgerError as error:
            self._fill_sources()
            self._say(f"{error.what}. {error.remedy[:1].upper()}{error.remedy[1:]}.")
            return
        self._fill_sources()
        if self.inner is not None:
            self._say("")
            self._listed(self.inner.listed(), None)
            return
        if self.slots is None or save is None:
            return
        self.own = self.slots.of(save) or ""
        self._say("")
        self.session.looking.run(self.slots.listed, self._listed)

    def _say(self, text: str) -> None:
        self.words.setText(text)
        self.words.setVisible(bool(text))
        for widget in (self.table, self.choice):
            widget.setVisible(not text)
        self.plan.show_words("")
        self.enter_button.hide()

    def _fill_sources(self) -> None:
        save, copies = self.session.save, self.session.kept_copies[:MOST_COPIES]
        self.source.clear()
        if self.inner is not None:
            for slot in filter(lambda each: each.taken, self.inner.listed()):
                self.source.addItem(f"slot {slot.slot}, {slot.title}", slot)
        else:
            self.source.addItem(f"the open save, {save.path.name}" if save is not None else "")
        for snapshot in copies:
            self.source.addItem(kept_in_words(snapshot), snapshot)
        if self.archive is not None:
            self.source.addItem(f"the file {self.archive[0].name}", self.archive[0])

    def _listed(self, found: list[Slot] | None, error: LedgerError | None) -> None:
        if found is None:
            self._say(str(error))
            return
        chosen = self.chosen.slot if self.chosen is not None else ""
        self.found = found
        rows = [(each.slot, each.name if each.taken else "", self._content(each), _saved(each)) for each in found]
        fresh = plain_table(HEAD, rows, "Slots", (64, 150, 330))
        for number, each in enumerate(found):
            if not each.taken:
                for place in range(len(HEAD)):
                    cell(fresh, number, place).setForeground(colours()["quiet"])
            elif each.slot == self.own:
                cell(fresh, number, 2).setForeground(colours()["holds"])
        fresh.setMinimumHeight(100)
        fresh.itemSelectionChanged.connect(self.replan)
        self.table = swap(self.body, self.table, fresh)
        number = next((n for n, each in enumerate(found) if each.slot == chosen), -1)
        if number < 0:
            number = next((n for n, each in enumerate(found) if not each.taken), -1)
        if number >= 0:
            fresh.selectRow(number)
            fresh.scrollToTop()

    def _content(self, slot: Slot) -> str:
        if slot.problem:
            return f"{BROKEN} {slot.problem}"
        if not slot.taken:
            return "free"
        return f"{HOLDS} open: {slot.title}" if slot.slot == self.own else slot.title

    @property
    def chosen(self) -> Slot | None:
        number = self.table.currentRow()
        return self.found[number] if 0 <= number < len(self.found) else None

    # the carry

    def choose_how(self, how: How) -> None:
        self.how = how
        self.replan()

    def choose_archive(self, name: str = "") -> None:
        """A copy that somebody exported, as a starting point."""
        name = name or QFileDialog.getOpenFileName(self, "An exported copy", str(Path.home()), "Copies (*.zip)")[0]
        opened = self.session.attempt(lambda: self.session.shelf.open_archive(Path(name))) if name else None
        if opened is not None:
            self.archive = Path(name), opened
            self._fill_sources()
            self.source.setCurrentIndex(self.source.count() - 1)
            self.replan()

    def replan(self) -> None:
        """Work out what carrying into the selected slot would write."""
        slot, slots, save = self.chosen, self.slots, self.session.save
        if slot is not None and self.inner is not None:
            self._show_inner(slot)
            return
        for how, each in self.hows.items():
            each.setChecked(how == self.how)
        if slot is None or slots is None or save is None:
            return
        is_open = self.source.currentIndex() <= 0
        for how in ("move", "swap"):
            self.hows[how].setEnabled(is_open)
        how = self.how if is_open else "copy"
        self.to.setText(_in_words(slot))
        if is_open and slot.slot == self.own:
            self.to.setText(f"slot {slot.slot}, where it is")
            self.plan.show_words("Select another slot.")
            return
        self.session.carrying.plan(self._maker(slots, save, slot.slot, how), self._planned)

    def _show_inner(self, slot: Slot) -> None:
        """What carrying within the open save would do; it is entered, and posted like everything else."""
        from faithful_ledger.core.records import Snapshot

        of = self.source.currentData()
        for how, each in self.hows.items():
            each.setEnabled(how == "copy" or not isinstance(of, Snapshot))
            each.setChecked(how == self.how)
        self.to.setText(_in_words(slot))
        kept = "; it is kept first, with the whole save" if slot.taken and self.how != "swap" else ""
        self.plan.show_words(f"It is entered in the open save, and written when you post it{kept}.")
        self.enter_button.show()

    def enter(self) -> None:
        """Enter the chosen record in the selected slot."""
        from faithful_ledger.core.carry import carry_record
        from faithful_ledger.core.records import Snapshot

        slot, of, session, book = self.chosen, self.source.currentData(), self.session, self.session.book
        if slot is None or of is None or book is None or self.inner is None:
            return

        def put(save: Save) -> None:
            if isinstance(of, Snapshot):
                kept = session.shelf.open_kept(book, of, save.template.id if save.template is not None else None)
                carry_record(save, slot.slot, slot.slot, "copy", kept, anyway=True)
            else:
                carry_record(save, slot.slot, of.slot, self.how, anyway=True)

        if session.arrange(put):
            session.reported.emit(Message("holds", "It is pending: look at the plan, and post it."))

    def _maker(self, slots: Slots, save: Save, slot: str, how: How) -> Callable[[], Carry]:
        from faithful_ledger.core.carry import carry_slot

        chosen, shelf, book = self.source.currentData(), self.session.shelf, self.session.book
        if chosen is None:
            return lambda: carry_slot(save, slot, how, anyway=True)
        assert book is not None
        kept = self.archive[1] if self.archive is not None and isinstance(chosen, Path) else None

        def make() -> Carry:
            source = kept if kept is not None else shelf.open_kept(book, chosen, slots.template.id)
            return carry_slot(source, slot, "copy", slots, anyway=True)

        return make

    def _planned(self, carry: Carry | None, checks: list[Check], error: LedgerError | None) -> None:
        self.plan.show_plan(carry, checks, error)
        slot = self.chosen
        if carry is not None and slot is not None:
            replaces = slot.taken and self.how != "swap"
            self.plan.button.setText(f"Replace slot {slot.slot}; it is kept first" if replaces else "Carry it")

    def write(self) -> None:
        if self.plan.carry is not None:
            self.session.carrying.post(self.plan.carry, "", self.show_save)

    def keyPressEvent(self, event: object) -> None:
        key = getattr(event, "key", lambda: None)()
        if key == Qt.Key.Key_F5:
            self.show_save()
        super().keyPressEvent(event)  # type: ignore[arg-type]


def _in_words(slot: Slot) -> str:
    return f"slot {slot.slot}, {f'taken by {slot.title}' if slot.taken else 'which is free'}"


def _saved(slot: Slot) -> str:
    """When the file of a slot was written."""
    try:
        moment = slot.path.stat().st_mtime if slot.taken else None
    except OSError:
        return ""
    return f"{datetime.fromtimestamp(moment):%Y-%m-%d %H:%M}" if moment is not None else ""
