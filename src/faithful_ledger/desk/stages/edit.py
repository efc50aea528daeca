"""Edit: the sections of the template as tables with names, typed into in place."""

from __future__ import annotations

import time
from collections.abc import Iterable, Iterator
from itertools import chain, islice

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from faithful_ledger.core.address import parse_path
from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.free_values import free_values
from faithful_ledger.core.rules import Finding
from faithful_ledger.core.save import Save
from faithful_ledger.core.storage import Switches
from faithful_ledger.core.template.model import SectionSpec
from faithful_ledger.desk.session import Session
from faithful_ledger.desk.stages.seen import WhenSeen
from faithful_ledger.desk.stages.sheets import RecordsSheet, entry_table, headed
from faithful_ledger.desk.theme import BROKEN, OPEN
from faithful_ledger.desk.widgets.basics import button, clear, column, label, row, scrolled
from faithful_ledger.desk.widgets.field_models import RowsModel
from faithful_ledger.desk.widgets.field_table import FieldTable
from faithful_ledger.desk.widgets.values import ValuesPane

__all__ = ["EditStage"]

MOST_FINDINGS = 6
LONG_FINDING = 80  # letters; it is on several lines then
MOST_VALUES = 20_000  # of binary files that are listed
NARROW = 700
ABOVE = 60  # pixels of what is above the list that stay in sight
LEAST_HEIGHT = 320  # of the list of all values below the sections
MOMENT = 0.012  # seconds of laying out sections after which the window may do something else
END = object()


class EditStage(QWidget):
    """The sheet of the stage Edit. Narrow sections stand side by side, tables take the whole width."""

    title = "Edit"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self.seen = WhenSeen(self, session, self.show_save)
        self.records: list[RecordsSheet] = []
        self.singles: list[FieldTable] = []  # tables of fields that are in no records
        self.switches: dict[str, QCheckBox] = {}
        self._coming: Iterator[None] = iter(())
        self.laid_out = True
        self.values: ValuesPane | None = None  # all that can be entered, where it is shown
        self._pairs: list[QHBoxLayout] = []
        self._switch_field: dict[str, FieldNode] = {}
        self.page = QWidget()
        self.page.setObjectName("page")
        self.paper = QVBoxLayout(self.page)
        self.paper.setContentsMargins(16, 12, 16, 12)
        self.paper.setSpacing(14)
        self._area = scrolled(self.page)
        self.setLayout(column(self._area))
        self.seen.follow(session.changed, self.show_entries)

    @property
    def tables(self) -> dict[str, FieldTable]:
        """Those on the sheet, by their titles."""
        shown = chain(chain.from_iterable(sheet.tables() for sheet in self.records), self.singles)
        return {table.accessibleName(): table for table in shown}

    def show_save(self) -> None:
        self._coming, self.laid_out = iter(()), True
        self.values = None
        clear(self.paper)
        self.records.clear()
        self.singles.clear()
        self.switches.clear()
        self._pairs.clear()
        save = self.session.save
        if save is None:
            return
        bare = save.template is None or not save.template.sections
        if save.problem is None and bare and (save.has_texts or save.template is not None):
            self._add_findings(save)
            self._show_values(save)
            return
        if save.template is None or save.problem is not None:
            self.paper.addWidget(label("Nothing to edit yet", "title"))
            why = str(save.problem) if save.problem is not None else _why_nothing(save)
            self.paper.addWidget(label(why, wrap=True))
            self.paper.addStretch(1)
            return
        self._add_findings(save)
        self._coming, self.laid_out = self._sections(save, save.template.sections), False
        self._go_on()

    def _sections(self, save: Save, sections: Iterable[SectionSpec]) -> Iterator[None]:
        """Lay out the sections; each step is a moment's work."""
        narrow: list[QWidget] = []
        for section in sections:
            if not (section.fields or section.table or section.switches):
                continue  # all that was pinned is in records
            widget = self._section(section, save)
            if section.table is None:
                narrow.append(widget)
            else:
                self._add_narrow(narrow)
                narrow = []
                self.paper.addWidget(widget)
            yield
        self._add_narrow(narrow)
        self._fold()
        more = button("Every value, by its path…", lambda: self._show_more(more, save), "link")
        self.paper.addLayout(row(more, None))
        self.paper.addStretch(1)

    def _show_more(self, link: QPushButton, save: Save) -> None:
        """Below the sections, what else can be entered."""
        link.hide()
        self._show_values(save)
        if self.values is not None:
            self.values.setMinimumHeight(LEAST_HEIGHT)
            self.values.line.setFocus()
            grown = self._area.verticalScrollBar().rangeChanged
            grown.connect(self._scroll_to_values, Qt.ConnectionType.SingleShotConnection)

    def _scroll_to_values(self) -> None:
        """When there is room for them."""
        if self.values is not None:
            bar = self._area.verticalScrollBar()
            bar.setValue(min(self.values.y() - ABOVE, bar.maximum()))

    def _show_values(self, save: Save) -> None:
        self.values = ValuesPane("Values")
        self.values.entered.connect(self.session.enter)
        self.values.chosen.connect(self.session.select_node)
        self.paper.addWidget(label("Every value", "title"))
        self.paper.addWidget(self.values, 1)
        texts = save.outline.fields() if save.outline is not None else ()
        self.values.show_fields(save, chain(islice(free_values(save), MOST_VALUES), texts))
        if self.values.model is not None and not self.values.model.fields:
            self.values.hide()
            text = "The template does not describe a value that can be entered yet: name bytes in Describe."
            self.paper.addWidget(label(text, wrap=True))
            self.paper.addStretch(1)

    def _go_on(self) -> None:
        """As many sections as a moment has room for; the others follow when the window has done what else waits."""
        until = time.monotonic() + MOMENT
        while time.monotonic() < until:
            if next(self._coming, END) is END:
                self.laid_out = True
                return
        QTimer.singleShot(0, self, self._go_on)

    def show_entries(self) -> None:
        save = self.session.save
        if save is None:
            return
        for sheet in self.records:
            sheet.show_entries()
        for table in self.singles:
            table.refresh()
        if self.values is not None:
            self.values.refresh()
        for key, box in self.switches.items():
            node = self._switch_field[key]
            name = key.partition("\0")[2]
            on, was = save.value(node), node.value
            box.blockSignals(True)
            box.setChecked(isinstance(on, tuple) and name in on)
            changed = (name in on) != (name in was) if isinstance(on, tuple) and isinstance(was, tuple) else False
            font = box.font()
            font.setBold(changed)
            box.setFont(font)
            box.blockSignals(False)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fold()

    def _fold(self) -> None:
        """In a narrow window sections stand below each other."""
        narrow = self.width() < NARROW
        direction = QHBoxLayout.Direction.TopToBottom if narrow else QHBoxLayout.Direction.LeftToRight
        for line in self._pairs:
            line.setDirection(direction)

    def _add_narrow(self, widgets: list[QWidget]) -> None:
        while widgets:
            pair, widgets = widgets[:2], widgets[2:]
            line = row(*pair, spacing=28)
            self._pairs.append(line)
            for widget in pair:
                line.setAlignment(widget, Qt.AlignmentFlag.AlignTop)
                line.setStretchFactor(widget, 5 if widget.findChild(FieldTable) is not None else 3)
            self.paper.addLayout(line)

    def _add_findings(self, save: Save) -> None:
        listed = [finding for finding in save.findings if finding.level != "note"]
        for finding in listed[:MOST_FINDINGS]:
            self.paper.addLayout(self._finding(finding))
        if len(listed) > MOST_FINDINGS:
            self.paper.addWidget(
                label(f"and {len(listed) - MOST_FINDINGS} more; `check` on the command line shows all", "quiet")
            )

    def _finding(self, finding: Finding) -> QHBoxLayout:
        mark = label(f"{BROKEN} {finding.path}", "broken")
        is_long = len(finding.message) > LONG_FINDING
        line = row(mark, spacing=10)
        line.addWidget(label(finding.message, wrap=is_long), int(is_long))
        if finding.suggested is not None:
            suggested = finding.suggested
            line.addWidget(button(f"Set to {suggested}", lambda: self._mend(finding.path, str(suggested)), "link"))
        line.addStretch(int(not is_long))
        return line

    def _mend(self, path: str, text: str) -> None:
        if self.session.save is not None:
            self.session.enter(self.session.save.fields(path)[0], text)

    def _section(self, section: SectionSpec, save: Save) -> QWidget:
        if section.table is not None:
            sheet = RecordsSheet(self.session, save, section.title, section.table, section.columns)
            self.records.append(sheet)
            return sheet
        widget = QWidget()
        _, body, count = headed(widget, section.title)
        try:
            if section.switches is not None:
                (field,) = save.fields(section.switches)
                body.addLayout(self._switches(section.title, field, count))
            else:
                self._rows(section, save, body)
        except LedgerError as error:
            body.addWidget(label(str(error), "broken", wrap=True))
        return widget

    def _rows(self, section: SectionSpec, save: Save, body: QVBoxLayout) -> None:
        """A table of single fields; those that are not found in this save are named below it."""
        fields: list[FieldNode] = []
        keys: list[str] = []
        listed: list[str] = []
        for path in section.fields:
            try:
                fields += save.fields(path)
                known = [step.value for step in parse_path(path) if step.value]
                keys += [", ".join(known)] * (len(fields) - len(keys))
            except LedgerError as error:
                missing = [each.what for each in save.missing if each.path == path]
                listed.append(missing[0] if missing else str(error))
        table = entry_table(self.session, section.title, RowsModel(save, fields, keys))
        self.singles.append(table)
        body.addWidget(table)
        for text in listed:
            body.addWidget(label(f"{OPEN} {text}", "open", wrap=True))

    def _switches(self, title: str, field: FieldNode, count: QLabel) -> QGridLayout:
        grid = QGridLayout()
        grid.setContentsMargins(0, 6, 0, 0)
        grid.setHorizontalSpacing(18)
        grid.setVerticalSpacing(6)
        assert isinstance(field.spec.storage, Switches)
        on = field.value
        names = [name for _, name in sorted(field.spec.storage.names.items())]
        for number, name in enumerate(names):
            box = QCheckBox(name)
            box.setChecked(isinstance(on, tuple) and name in on)
            box.toggled.connect(lambda checked, name=name: self._toggle(field, name, checked))
            grid.addWidget(box, number // 2, number % 2)
            key = f"{title}\0{name}"
            self.switches[key], self._switch_field[key] = box, field
        count.setText(f"{len(on) if isinstance(on, tuple) else 0} of {len(names)}")
        return grid

    def _toggle(self, field: FieldNode, name: str, checked: bool) -> None:
        self.session.select_node(field)
        self.session.enter(field, f"{'+' if checked else '-'}{name}")


def _why_nothing(save: Save) -> str:
    """Why there is nothing to edit in a save without a template."""
    if save.outline is not None and save.outline.problem is not None:
        return str(save.outline.problem)
    return "No template fits this file; its bytes are in Describe."
