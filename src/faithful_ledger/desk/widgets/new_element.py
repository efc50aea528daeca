"""Describing selected bytes: a name, the storage that fits best with its value in every kept copy, and one button."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLineEdit, QWidget
from shiboken6 import isValid

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage.lettering import visible
from faithful_ledger.core.template.names import field_name
from faithful_ledger.desk.session import Selection, Session
from faithful_ledger.desk.theme import mono
from faithful_ledger.desk.widgets.basics import Chooser, button, column, label, row

if TYPE_CHECKING:
    from faithful_ledger.core.describe.ends import End
    from faithful_ledger.core.describe.proposals import Proposal

__all__ = ["NewElement", "SeveralElements"]

CAPTION = 56  # pixels
LONGEST_VALUE = 22
UNNAMED = {"unknown": "unknown", "constant": "constant"}


def line_of(placeholder: str, name: str, text: str = "") -> QLineEdit:
    """A line to type into, with a name for those who hear the window."""
    made = QLineEdit(text)
    made.setCursorPosition(0)  # a long text shows how it begins
    made.setToolTip(text)
    made.setPlaceholderText(placeholder)
    made.setAccessibleName(name)
    return made


def captioned(caption: str, widget: QWidget) -> QWidget:
    """A widget with a quiet word in front of it."""
    words = label(caption, "quiet")
    words.setFixedWidth(CAPTION)
    made = QWidget()
    made.setLayout(row(words, widget, spacing=6))
    return made


class NewElement(QWidget):
    """For selected bytes that nothing describes."""

    def __init__(self, session: Session, selection: Selection, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session, self.selection = session, selection
        self.found: list[Proposal] = []
        self.name = line_of("what the game calls it", "Name of the new field")
        self.stored = Chooser()
        self.stored.setAccessibleName("How the selected bytes are stored")
        self.stored.setSizeAdjustPolicy(Chooser.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.stored.setMinimumContentsLength(8)
        self.before = label("", "quiet", wrap=True)
        self.before.setFont(mono(11))
        self.before.setToolTip("The same place in the kept copies, the oldest first")
        self.bits = line_of("all, or as 4-6", "Which bits of the number")
        self.bits_line = captioned("Bits", self.bits)
        self.add = button("Add to the template", self._add, "main")
        lines = column(captioned("Name", self.name), captioned("As", self.stored), self.before, spacing=4)
        lines.addWidget(self.bits_line)
        lines.addLayout(row(None, self.add))
        self.setLayout(lines)
        self.name.returnPressed.connect(self._add)
        self.stored.currentIndexChanged.connect(lambda _: self._show_before())
        self._fill([])
        if session.kept_copies:
            start, size = selection.start, selection.end - selection.start
            session.background.run(lambda: session.sources.in_copies(selection.file, start, size), self._show_copies)

    def _show_copies(self, copies: list[tuple[Source, int | None]] | None, _: LedgerError | None) -> None:
        if copies and isValid(self) and self.selection.file in self.session.sources.names:
            self._fill(copies)

    def _fill(self, copies: list[tuple[Source, int | None]]) -> None:
        chosen = self.stored.currentText().partition(" · ")[0] if self.stored.currentIndex() > 0 else ""
        self.found = self.session.describing.proposals(self.selection, copies)
        self.stored.blockSignals(True)
        self.stored.clear()
        for each in self.found:
            value = visible(each.now)
            short = value if len(value) <= LONGEST_VALUE else value[: LONGEST_VALUE - 1] + "…"
            self.stored.addItem(f"{each.words} · {short}")
            self.stored.setItemData(self.stored.count() - 1, each.now, Qt.ItemDataRole.ToolTipRole)
        same = next((n for n, each in enumerate(self.found) if each.words == chosen), 0)
        self.stored.setCurrentIndex(same)
        self.stored.blockSignals(False)
        self._show_before()

    @property
    def chosen(self) -> Proposal | None:
        number = self.stored.currentIndex()
        return self.found[number] if 0 <= number < len(self.found) else None

    def _show_before(self) -> None:
        each = self.chosen
        self.before.setText("  ".join(map(visible, each.before)) if each is not None else "")
        self.before.setVisible(bool(self.before.text()))
        whole = each is not None and str(each.keys.get("as", ""))[:1] == "u" and each.keys["as"] != "uleb128"
        self.bits_line.setVisible(whole and self.selection.end - self.selection.start in (1, 2, 4, 8))

    def _add(self) -> None:
        each, typed = self.chosen, self.name.text().strip()
        if each is None:
            return
        kind = next((kind for kind in UNNAMED if kind in each.keys), "field")
        if not typed and kind == "field":
            self.name.setFocus()
            self.name.setPlaceholderText("it needs a name")
            return
        name = field_name(typed) if typed else f"{UNNAMED[kind]}_{self.selection.start:x}"
        if self.bits_line.isVisibleTo(self) and self.bits.text().strip() not in ("", "all"):
            self._add_bits(name)
            return
        keys = {kind: name} | {key: value for key, value in each.keys.items() if key != kind}
        keys |= {"label": typed} if typed and typed.casefold() != name.replace("_", " ") and typed != name else {}
        self.session.describing.add(self.selection, keys, each.size)

    def _add_bits(self, name: str) -> None:
        from faithful_ledger.core.describe.bits import bits_typed

        chosen = self.session.attempt(lambda: bits_typed(self.bits.text()))
        if chosen is not None:
            self.session.describing.add_bits(self.selection, *chosen, name)


class SeveralElements(QWidget):
    """For selected bytes that are several elements, or a group: they become a group, or the record of rows."""

    def __init__(self, session: Session, selection: Selection, ends: list[End], *, single: bool) -> None:
        super().__init__()
        self.session, self.selection, self.found = session, selection, ends
        self.name = line_of("what they are together", "Name of the group or the rows")
        self.end = Chooser()
        self.end.setAccessibleName("Where the rows end")
        self.end.setSizeAdjustPolicy(Chooser.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.end.setMinimumContentsLength(8)
        for each in ends:
            self.end.addItem(each.words)
            self.end.setItemData(self.end.count() - 1, each.words, Qt.ItemDataRole.ToolTipRole)
        self.end.addItem("as many as typed:")
        self.count = line_of("how many, a field, or a byte as FF", "How many records")
        lines = column(captioned("Name", self.name), spacing=4)
        if not single:
            lines.addLayout(row(None, button("Group them", self._group)))
        lines.addWidget(captioned("Repeat", self.end))
        self.count_line = captioned("", self.count)
        lines.addWidget(self.count_line)
        lines.addLayout(row(None, button("Repeat as rows", self._repeat)))
        self.setLayout(lines)
        self.end.currentIndexChanged.connect(lambda _: self._show_count())
        self._show_count()

    def _show_count(self) -> None:
        self.count_line.setVisible(self.end.currentIndex() == len(self.found))

    def _named(self) -> str:
        typed = self.name.text().strip()
        if not typed:
            self.name.setFocus()
            self.name.setPlaceholderText("they need a name")
        return field_name(typed) if typed else ""

    def _group(self) -> None:
        if name := self._named():
            self.session.describing.group(self.selection, name)

    def _repeat(self) -> None:
        name = self._named()
        if not name:
            return
        number = self.end.currentIndex()
        if number < len(self.found):
            self.session.describing.repeat(self.selection, name, self.found[number].keys)
            return
        typed = self.count.text().strip()
        if typed:
            self.session.describing.repeat(self.selection, name, {"count": int(typed) if typed.isdecimal() else typed})
