"""What a person does with the window, for the example and for tests."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLineEdit, QTableView

__all__ = ["type_into"]


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
