"""What a person does with the window, for the example and for tests."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLineEdit, QTableView

if TYPE_CHECKING:
    from faithful_ledger.desk.stages.carry_folders import FoldersPane

__all__ = ["tick_what_differs", "type_into"]


def type_into(table: QTableView, row: int, column: int, text: str) -> bool:
    """Go to a cell, type, press Return; False where the cell takes no text."""
    index = table.model().index(row, column)
    table.setCurrentIndex(index)
    table.edit(index)
    editor = table.findChild(QLineEdit)
    if editor is None:
        return False
    editor.selectAll()
    QTest.keyClicks(editor, text)
    QTest.keyClick(editor, Qt.Key.Key_Return)
    return True


def tick_what_differs(pane: FoldersPane, rest: Callable[[], None]) -> None:
    """Say of every file of two folders that nothing decides about, and that is not the same, that it goes along."""
    for number, each in enumerate(pane.found):
        item = pane.table.item(number, 3)
        if item is not None and each.state in ("only here", "differs") and not each.goes:
            item.setCheckState(Qt.CheckState.Checked)
            rest()
