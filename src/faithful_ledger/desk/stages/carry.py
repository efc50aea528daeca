"""Carry: a save, or a part of one, into another place. Two sides, “from” and “to”, and a plan that is read first."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from faithful_ledger.desk.session import Session
from faithful_ledger.desk.stages.carry_card import CardPane
from faithful_ledger.desk.stages.carry_folders import FoldersPane
from faithful_ledger.desk.stages.carry_slots import SlotsPane
from faithful_ledger.desk.stages.carry_values import ValuesPane
from faithful_ledger.desk.stages.seen import WhenSeen
from faithful_ledger.desk.widgets.basics import column, tab
from faithful_ledger.desk.widgets.flow import flow
from faithful_ledger.desk.widgets.sheets import Sheets

__all__ = ["CARD", "FOLDERS", "SLOTS", "VALUES", "CarryStage"]

SLOTS, VALUES, FOLDERS, CARD = range(4)
NAMES = ("To a slot", "From another save", "Files of a folder", "On a card")


class CarryStage(QWidget):
    """Signal: `about(title, lines)` for the margin."""

    about = Signal(str, object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.slots, self.values = SlotsPane(session), ValuesPane(session)
        self.folders, self.card = FoldersPane(session), CardPane(session)
        self.tabs = [tab(name, partial(self.show_pane, number)) for number, name in enumerate(NAMES)]
        self.panes = Sheets()
        for pane in (self.slots, self.values, self.folders, self.card):
            self.panes.addWidget(pane)
        body = column(spacing=10)
        body.setContentsMargins(16, 12, 16, 10)
        body.addLayout(flow(*self.tabs, spacing=4))
        body.addWidget(self.panes, 1)
        self.setLayout(body)
        for plan in (self.slots.plan, self.folders.plan):
            plan.checked.connect(lambda lines: self.about.emit("Before you carry", lines) if lines else None)
        self.seen = WhenSeen(self, session, self.show_save)
        self.seen.follow(session.changed, self.values.show_entries)
        self.seen.follow(session.planned, self.card.show_planned)

    def show_save(self) -> None:
        """Begin with what the template of the open save knows."""
        save = self.session.save
        template = save.template if save is not None else None
        is_card = template is not None and template.card is not None
        self.tabs[CARD].setVisible(is_card)
        self.tabs[SLOTS].setVisible(template is not None and template.slots is not None)
        if self.panes.currentIndex() == CARD and not is_card:
            self.panes.setCurrentIndex(SLOTS)
        if is_card and template is not None and template.slots is None:
            self.panes.setCurrentIndex(CARD)
        elif (template is None or template.slots is None) and self.panes.currentIndex() == SLOTS:
            self.panes.setCurrentIndex(FOLDERS if template is not None and template.carries else VALUES)
        self.show_pane(self.panes.currentIndex())

    def show_pane(self, number: int) -> None:
        self.panes.setCurrentIndex(number)
        for place, each in enumerate(self.tabs):
            each.setChecked(place == number)
        (self.slots, self.values, self.folders, self.card)[number].show_save()
