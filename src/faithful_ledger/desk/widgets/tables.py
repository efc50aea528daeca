"""Ruled tables of texts."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem

__all__ = ["cell", "plain_table"]


def plain_table(
    head: tuple[str, ...], rows: Sequence[Sequence[str]], name: str, widths: tuple[int, ...]
) -> QTableWidget:
    """A ruled table of texts, one row selectable."""
    table = QTableWidget(len(rows), len(head))
    table.setAccessibleName(name)
    table.setTabKeyNavigation(False)  # Tab leaves the table, arrows move within it
    table.setHorizontalHeaderLabels(list(head))
    for number, texts in enumerate(rows):
        for place, text in enumerate(texts):
            item = QTableWidgetItem(text)
            item.setToolTip(text)
            table.setItem(number, place, item)
    table.setShowGrid(False)
    table.setWordWrap(False)
    table.verticalHeader().setVisible(False)
    table.verticalHeader().setDefaultSectionSize(26)
    table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
    table.horizontalHeader().setHighlightSections(False)
    table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
    table.horizontalHeader().setStretchLastSection(True)
    table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
    for place, width in enumerate(widths):
        table.setColumnWidth(place, width)
    return table


def cell(table: QTableWidget, row: int, column: int) -> QTableWidgetItem:
    """A cell of a table whose cells are all there."""
    item = table.item(row, column)
    assert item is not None
    return item
