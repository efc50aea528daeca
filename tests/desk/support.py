"""A window to drive: offscreen, with a shelf of its own; an unexpected message of Qt is a failure."""

from __future__ import annotations

import os
import sys
import time
import traceback
from collections.abc import Callable

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QCoreApplication, QEvent, QModelIndex, QPoint, Qt, qInstallMessageHandler
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QLabel, QLineEdit, QTableWidget, QWidget

from faithful_ledger.core.save import Save
from faithful_ledger.demo.hands import type_into
from faithful_ledger.desk.application import application, make_shell
from faithful_ledger.desk.widgets.field_table import FieldTable
from faithful_ledger.desk.widgets.tape import Slip
from tests.support import LedgerCase

# What Qt says of the machine: its platform, its folders, its fonts.
HARMLESS = ("This plugin does not support ", "QStandardPaths: ", "OpenType support missing for ")

LONG_ENOUGH = 20.0  # seconds


class DeskCase(LedgerCase):
    def setUp(self) -> None:
        super().setUp()
        self.messages: list[str] = []
        hook = sys.excepthook
        sys.excepthook = lambda kind, error, trace: self.messages.append(
            "".join(traceback.format_exception(kind, error, trace))
        )
        self.addCleanup(setattr, sys, "excepthook", hook)
        before = qInstallMessageHandler(lambda kind, context, text: self._message(text))
        self.addCleanup(qInstallMessageHandler, before)
        self.addCleanup(lambda: self.assertEqual(self.messages, [], "Qt complained"))
        application()
        self.shell = make_shell(self.shelf())
        self.shell.resize(1280, 800)  # the screen offscreen is smaller than any
        self.addCleanup(self._close)
        self.shell.show()
        self.settle()

    def _message(self, text: str) -> None:
        if not text.startswith(HARMLESS):
            self.messages.append(text)

    def _close(self) -> None:
        if self.shell.session.save is not None:
            self.shell.session.save.tape.clear()
        self.shell.close()
        self.shell.close()  # the first time it may ask
        self.shell.deleteLater()
        self.draw()

    def settle(self) -> None:
        self.draw()
        until = time.monotonic() + 30
        while not self.shell.at_rest and time.monotonic() < until:
            self.shell.session.wait()
            self.draw()
        self.assertTrue(self.shell.at_rest, "the window did not come to rest within 30 s")

    @staticmethod
    def draw() -> None:
        """What waits in the event loop."""
        for _ in range(3):
            application().processEvents()
            QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)

    def wait(self, done: Callable[[], object], most: float = LONG_ENOUGH) -> None:
        """Until something that happens by itself is there; a test that waits in vain fails."""
        end = time.monotonic() + most
        while not done() and time.monotonic() < end:
            self.settle()
            time.sleep(0.02)
        self.assertTrue(done())

    def wait_for_plan(self) -> None:
        """Until what goes on beside the window is done: a save opened or written, a plan, a search."""
        for _ in range(2):
            self.shell.session.wait()
            self.settle()

    @property
    def save(self) -> Save:
        assert self.shell.session.save is not None
        return self.shell.session.save

    def open_harbour(self) -> Save:
        self.assertTrue(self.shell.session.open(self.harbour() / "harbour.bwk"))
        self.settle()
        return self.save

    def told(self) -> str:
        """What the banner says; empty when there is none."""
        message = self.shell.banner.message
        self.assertEqual(self.shell.banner.isVisible(), message is not None)
        return message.text if message is not None else ""

    def margin_texts(self) -> list[str]:
        return [label.text() for label in self.shell.margin.findChildren(QLabel) if not label.isHidden()]

    def line(self, name: str) -> QLineEdit:
        """The line of the margin that goes by a name."""
        found = [each for each in self.shell.margin.findChildren(QLineEdit) if each.accessibleName() == name]
        shown = [each for each in found if each.isVisible()]
        self.assertEqual(len(shown), 1, [e.accessibleName() for e in self.shell.margin.findChildren(QLineEdit)])
        return shown[0]

    def type_line(self, name: str, text: str) -> None:
        line = self.line(name)
        line.setFocus()
        line.selectAll()
        QTest.keyClicks(line, text)
        QTest.keyClick(line, Qt.Key.Key_Return)
        self.settle()

    def table(self, title: str) -> FieldTable:
        return self.shell.edit.tables[title]

    def type_into(self, table: FieldTable, row: int, column: int, text: str) -> None:
        """Type into a cell as a person does: go there, type, Return."""
        assert type_into(table, row, column, text)
        self.settle()

    def choose(self, table: FieldTable, row: int, column: int, name: str) -> None:
        """Choose a name from the list of a cell."""
        index = table.model().index(row, column)
        table.setCurrentIndex(index)
        table.edit(index)
        box = table.findChild(QComboBox)
        assert box is not None
        box.hidePopup()
        box.setCurrentText(name)
        box.activated.emit(box.currentIndex())
        self.shell.activateWindow()  # a window manager does that when the list closes; offscreen there is none
        self.settle()

    def cell(self, table: FieldTable, row: int, column: int) -> str:
        return str(table.model().index(row, column, QModelIndex()).data())

    def slips(self) -> list[Slip]:
        return [slip for slip in self.shell.tape.findChildren(Slip) if not slip.isHidden()]

    def click(self, widget: QWidget, at: QPoint | None = None) -> None:
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, pos=at or QPoint())
        self.settle()

    def press(self, keys: str, widget: QWidget | None = None) -> None:
        QTest.keySequence(widget or self.shell, keys)
        self.settle()

    @staticmethod
    def rows(table: QTableWidget) -> list[list[str]]:
        return [
            [table.item(row, column).text() for column in range(table.columnCount())] for row in range(table.rowCount())
        ]
