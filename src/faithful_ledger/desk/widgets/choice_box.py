"""A box to choose one of the names that a number may have: by groups, and of many by typing a part of the name."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QStandardItem, QStandardItemModel
from PySide6.QtWidgets import QComboBox, QCompleter, QWidget

from faithful_ledger.core.storage import Choice
from faithful_ledger.core.template.model import Catalogue
from faithful_ledger.desk.theme import colours, sans

__all__ = ["ChoiceBox"]

MANY = 20  # names, of which one is typed rather than looked for
OTHERS = "others"
BORDERS = 40  # pixels beside the widest name


class ChoiceBox(QComboBox):
    """Signal: `taken` when a name was chosen."""

    taken = Signal()

    def __init__(self, storage: Choice, catalogue: Catalogue | None, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        groups = catalogue.groups if catalogue is not None else {}
        items = QStandardItemModel(self)
        for group in [*dict.fromkeys(groups[code] for code in sorted(groups)), ""] if groups else [""]:
            codes = [code for code in sorted(storage.names) if groups.get(code, "") == group]
            if groups and codes:
                heading = QStandardItem(group or OTHERS)
                heading.setFlags(Qt.ItemFlag.NoItemFlags)
                heading.setFont(sans(12, strong=True))
                heading.setForeground(colours()["quiet"])
                items.appendRow(heading)
            for code in codes:
                items.appendRow(QStandardItem(storage.names[code]))
        self.setModel(items)
        self._names = sorted(storage.names.values(), key=str.casefold)
        if len(self._names) > MANY:
            self._let_type()
        else:
            self.activated.connect(lambda _: self.taken.emit())

    @property
    def chosen(self) -> str:
        """The name that was chosen or typed; where only one has what was typed in it, that one."""
        text = self.currentText().strip()
        exact = [name for name in self._names if name.casefold() == text.casefold()]
        found = exact or [name for name in self._names if text and text.casefold() in name.casefold()]
        return found[0] if len(found) == 1 else text

    def _let_type(self) -> None:
        self.setEditable(True)
        self.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        completer = QCompleter(self._names, self)
        completer.setFilterMode(Qt.MatchFlag.MatchContains)
        completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.setCompleter(completer)
        widest = max(map(self.fontMetrics().horizontalAdvance, self._names))
        completer.popup().setMinimumWidth(widest + BORDERS)
        # With Return the table takes what is in the line by itself.
        completer.activated.connect(lambda _: self.taken.emit() if self.isVisible() else None)

    def show_name(self, name: str) -> None:
        """Begin with a name: the list opens where it is short, and a line is selected to be typed over where not."""
        self.setCurrentIndex(self.findText(name))
        line = self.lineEdit()
        if line is None:
            self.showPopup()
        else:
            line.setText(name)
            line.selectAll()
