"""The real window, driven as a person drives it: open, look, change, withdraw, post, reverse, restore."""

from __future__ import annotations

import itertools
import os
from unittest import mock

from PySide6.QtCore import QAbstractItemModel, QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QCheckBox,
    QFileDialog,
    QInputDialog,
    QLabel,
    QPushButton,
    QToolButton,
    QWidget,
)

from brinewick.harbour import Harbour
from faithful_ledger import __version__
from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.clock import local_time
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.desk.application import application, make_shell, tell_unexpected
from faithful_ledger.desk.session import Message, Session
from faithful_ledger.desk.shell import DESCRIBE, EDIT, HISTORY, STAGES
from faithful_ledger.desk.theme import apply_sheet, apply_theme, colours
from faithful_ledger.desk.widgets.choice_box import ChoiceBox
from faithful_ledger.desk.widgets.strip import OFFSETS_WIDTH, ROW_HEIGHT
from faithful_ledger.desk.widgets.tape import Slip
from tests.desk.support import DeskCase
from tests.support import play

ENTER, IN_SAVE = 2, 1
NAME, AIR, VIGOUR, INJURIES, STATION = range(5)


class OpeningTest(DeskCase):
    def test_by_dialog_by_drop_from_recent_and_by_menu(self) -> None:
        path = self.harbour() / "harbour.bwk"
        with mock.patch.object(QFileDialog, "getOpenFileName", return_value=(str(path), "")):
            self.press("Ctrl+O")
        self.assertEqual(self.save.main.path, path)
        second = path.with_name("harbour-2.bwk")
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(second))])
        drop = QDropEvent(
            QPointF(5, 5), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        )
        self.shell.dropEvent(drop)
        self.assertEqual(self.save.main.path, second)
        self.shell.head.menu.aboutToShow.emit()
        titles = [action.text() for action in self.shell.head.menu.actions()]
        (first,) = [action for action in self.shell.head.menu.actions() if "harbour.bwk" in action.text()]
        self.assertTrue(any("harbour-2.bwk" in title for title in titles))
        first.trigger()
        self.assertEqual(self.save.main.path, path)
        self.shell.welcome.show_recent()
        table = self.shell.welcome.table
        assert table is not None
        names = [table.item(row, 0).text() for row in range(table.rowCount())]
        self.assertEqual(names, ["harbour.bwk", "harbour-2.bwk"])
        table.cellActivated.emit(1, 0)
        self.assertEqual(self.save.main.path, second)

    def test_before_a_save_is_open_the_window_says_what_to_do(self) -> None:
        texts = [label.text() for label in self.shell.findChildren(QLabel) if label.isVisible()]
        self.assertIn("Open a save to begin", texts)
        for keys in ("Ctrl+3", "Ctrl+Return", "Ctrl+Z", "Esc", "F1"):
            self.press(keys)
        self.assertFalse(self.shell.tape.isVisible())

    def test_the_menu_of_books_leads_to_the_keys_and_says_what_this_is(self) -> None:
        self.open_harbour()
        menu = self.shell.head.menu
        menu.aboutToShow.emit()
        actions = menu.actions()
        doubled = [a for a, b in itertools.pairwise(actions) if a.isSeparator() and b.isSeparator()]
        self.assertEqual(doubled, [])
        for text, words in (
            ("Keys\tF1", "keep a copy now; in History with the label that is typed there"),
            ("About Faithful Ledger", f"Version {__version__}"),
        ):
            next(action for action in actions if action.text() == text).trigger()
            self.settle()
            self.assertIn(words, self.margin_texts())

    def test_tab_comes_round_in_every_stage_and_each_stop_has_a_name(self) -> None:
        self.open_harbour()
        self.shell.session.history.keep("one")
        self.settle()
        self.shell.activateWindow()
        for number, name in enumerate(STAGES):
            with self.subTest(name):
                self.shell.show_stage(number)
                self.settle()
                self.shell.head.box.setFocus()
                stops: list[QWidget] = []
                while len(stops) < 80 and self.shell.head.box not in stops:
                    QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_Tab)
                    self.draw()
                    stops.append(QApplication.focusWidget())
                self.assertLess(len(stops), 80)
                self.assertEqual(len(set(stops)), len(stops), "Tab does not stop at the same place twice")
                for stop in stops:
                    words = stop.text() if isinstance(stop, QAbstractButton | QLabel) else ""
                    self.assertTrue(stop.accessibleName() or words, stop)

    def test_the_demo_book_is_opened_beside_the_own_books(self) -> None:
        own = self.shell.session.shelf
        (demo,) = [b for b in self.shell.welcome.findChildren(QPushButton) if b.text() == "Open the demo book"]
        self.click(demo)
        self.wait(lambda: self.shell.session.save is not None)
        self.assertEqual(self.shell.session.book.name, "Brinewick")  # type: ignore[union-attr]
        self.assertEqual(len(self.shell.session.kept_copies), 4)
        self.assertEqual(own.names(), [])

    def test_a_book_is_renamed_its_save_moved_and_the_book_removed(self) -> None:
        self.open_harbour()
        self.shell.session.history.keep("one")
        self.settle()

        def choose(text: str) -> None:
            self.shell.head.menu.aboutToShow.emit()
            next(action for action in self.shell.head.menu.actions() if action.text() == text).trigger()
            self.settle()

        with mock.patch.object(QInputDialog, "getText", return_value=("Harbour", True)):
            choose("Rename this book…")
        self.assertIn("The book Brinewick is Harbour now.", self.told())
        self.assertEqual(self.shell.head.book.text(), "Harbour ▼")
        with (
            mock.patch.object(QInputDialog, "getItem", return_value=("a new book…", True)),
            mock.patch.object(QInputDialog, "getText", return_value=("Other", True)),
        ):
            choose("Move this save to another book…")
        self.assertIn("is in the book Other now", self.told())
        self.assertEqual([snapshot.label for snapshot in self.shell.session.kept_copies], ["one"])
        for typed, removed in (("no", False), ("Other", True)):
            with mock.patch.object(QInputDialog, "getText", return_value=(typed, True)):
                choose("Remove this book…")
            self.assertEqual(self.shell.session.save is None, removed)
        self.assertIn("The book Other is removed", self.told())
        self.assertFalse(self.shell.tape.isVisible())
        texts = [label.text() for label in self.shell.findChildren(QLabel) if label.isVisible()]
        self.assertIn("Open a save to begin", texts)

    def test_what_another_program_writes_is_noticed_at_once_and_f5_reads_it(self) -> None:
        path = self.open_harbour().main.path
        play(path.parent, "sell", "wax plug")
        self.wait(lambda: "was changed by another program" in self.told())
        self.press("F5")
        self.wait(lambda: "was read again" in self.told())
        marks = self.save.fields("purse.marks")[0].value
        self.assertEqual(marks, Harbour(path.parent).load(1).marks)
        self.shell.session.enter(self.save.fields("purse.marks")[0], "5200")
        self.press("F5")
        self.assertIn("1 entry is pending", self.told())

    def test_what_is_around_the_sheet(self) -> None:
        self.open_harbour()
        shell = self.shell
        self.assertEqual(shell.windowTitle(), "harbour.bwk – Faithful Ledger")
        self.assertEqual(shell.head.book.text(), "Brinewick ▼")
        self.assertIn("Brinewick, desktop edition", shell.head.chip.text())
        self.assertEqual(shell.stage, EDIT)
        lines = [tab.line.text() for tab in shell.spine.tabs]
        self.assertRegex(lines[DESCRIBE], r"^\d+% explained$")
        self.assertEqual(lines[EDIT:], ["no entries", "in slot 1", "0 postings"])
        self.assertEqual(shell.tape.balance.text(), "◆ in balance")
        self.assertFalse(shell.tape.post.isEnabled())

    def test_bad_files_open_as_bytes_with_one_clear_sentence(self) -> None:
        saves = self.harbour()
        good = (saves / "harbour.bwk").read_bytes()
        (saves / "cut.bwk").write_bytes(good[:900])
        (saves / "noise.bin").write_bytes(bytes(range(256)) * 7)
        (saves / "empty.bwk").write_bytes(b"")
        (self.folder / "nothing").mkdir()
        before = self.tree(saves)
        for name, words in (
            ("cut.bwk", "cut.bwk: body at 0x18 (24): its length says"),
            ("noise.bin", "no template fits this file"),
            ("empty.bwk", "no template fits this file"),
        ):
            with self.subTest(name=name):
                self.assertTrue(self.shell.session.open(saves / name))
                self.settle()
                self.assertIn(words, self.told())
                self.assertEqual(self.shell.stage, DESCRIBE)
                self.assertFalse(self.shell.tape.post.isEnabled())
                size = self.save.main.source.size
                if size:
                    self.shell.session.select("file" if name != "cut.bwk" else "save", 0, 2)
                for number in (EDIT, HISTORY, DESCRIBE):
                    self.shell.show_stage(number)
                    self.settle()
                self.shell.session.history.keep("kept all the same")
        for path, words in (
            (saves / "missing.bwk", "is not there"),
            (self.folder / "nothing", "has no files; name the save itself"),
        ):
            present = self.save.main.path
            self.assertFalse(self.shell.session.open(path))
            self.assertIn(words, self.told())
            self.assertEqual(self.save.main.path, present, "what was open stays open")
        self.shell.session.open(saves)
        self.settle()
        self.assertIn(
            "holds 3 saves (cut.bwk, harbour-2.bwk, harbour.bwk); the folder is open as one save", self.told()
        )
        self.assertEqual(self.save.path, saves)
        self.assertEqual(self.tree(saves), before)

    def test_a_missing_account_is_told_and_stops_posting_only(self) -> None:
        saves = self.harbour()
        (saves / "account.json").unlink()
        self.shell.session.open(saves / "harbour.bwk")
        self.settle()
        self.assertIn("account.json is not there; it belongs to the same save as harbour.bwk", self.told())
        self.shell.session.select_node(self.save.fields("purse.marks")[0])
        self.assertFalse(self.shell.session.enter(self.save.fields("purse.marks")[0], "5"))
        self.assertIn("account.json", self.told())


class EditingTest(DeskCase):
    def setUp(self) -> None:
        super().setUp()
        self.open_harbour()

    def test_every_kind_of_cell_makes_a_slip_and_the_tape_can_take_it_back(self) -> None:
        purse, crew, hold = self.table("Purse"), self.table("Crew"), self.table("Hold")
        self.type_into(purse, 0, ENTER, "5200")
        self.type_into(crew, 1, NAME, "Tamsin Bell")
        self.choose(crew, 0, STATION, "lookout")
        self.choose(hold, 0, 0, "copper helm")
        self.click_switch("Crew", 2, INJURIES, "bends")
        box = self.shell.edit.switches["Sites open\0Salt Nave"]
        QTest.keyClick(box, Qt.Key.Key_Space)
        self.settle()
        self.assertEqual(
            [entry.path for entry in self.save.tape],
            ["purse.marks", "crew[1].name", "crew[0].station", "hold[0].item", "crew[2].injuries", "sites"],
        )
        self.assertEqual(self.cell(purse, 0, IN_SAVE), "1386")
        self.assertEqual(self.cell(crew, 0, STATION), "lookout")
        self.assertEqual(self.shell.tape.more.text(), f"+{6 - len(self.slips())} more")
        self.assertEqual(self.shell.tape.count.text(), "6 entries pending")
        self.assertEqual(self.shell.tape.balance.text(), "◆ will balance")
        self.assertEqual(self.shell.tape.work.text(), "5 seals to renew  ·  3 lengths to adjust  ·  1 file to remove")
        names = [name for name, _ in self.shell.tape.named]
        self.assertEqual(names[:2], ["Marks", "Tamsin · name"])
        self.click(self.slips()[-1].findChild(QToolButton))
        self.assertFalse(box.isChecked())
        self.press("Ctrl+Z")
        self.assertTrue(box.isChecked())
        self.press("Ctrl+Z")
        self.assertFalse(box.isChecked())
        self.press("Ctrl+Shift+Z")
        self.assertTrue(box.isChecked())
        for _ in range(6):
            self.click(self.shell.tape.undo)
        self.assertEqual(len(self.save.tape), 0)
        self.assertEqual(self.shell.tape.balance.text(), "◆ in balance")
        self.assertFalse(self.shell.tape.post.isEnabled())

    def click_switch(self, title: str, row: int, column: int, name: str) -> None:
        from faithful_ledger.desk.widgets.field_table import _switch_places

        table = self.table(title)
        index = table.model().index(row, column)
        node = table.fields.field(index)
        assert node is not None
        (place,) = [place for found, place in _switch_places(node, table.visualRect(index)) if found == name]
        self.click(table.viewport(), place.center())

    def test_the_keyboard_reaches_switches_and_choices(self) -> None:
        crew = self.table("Crew")
        crew.setCurrentIndex(crew.model().index(0, INJURIES))
        node = crew.fields.field(crew.currentIndex())
        assert node is not None
        menu = crew.switch_menu(node)
        self.assertEqual(
            [(a.text(), a.isChecked()) for a in menu.actions()][:3], [("burn", True), ("tired", True), ("bends", False)]
        )
        menu.actions()[2].trigger()
        self.assertEqual(self.save.value(node), ("burn", "tired", "bends"))
        crew.setCurrentIndex(crew.model().index(0, AIR))
        QTest.keyClick(crew, Qt.Key.Key_Return)
        self.assertEqual(crew.state(), crew.State.EditingState)

    def test_what_does_not_fit_is_refused_where_it_is_typed(self) -> None:
        crew = self.table("Crew")
        for text, words in (
            ("300", "300 does not fit u8 (0 to 255)"),
            ("x", "“x” is not a whole number"),
            ("101", "crew[0].air: 101 is above the bound 100: a tank holds no more"),
        ):
            self.type_into(crew, 0, AIR, text)
            self.assertIn(words, self.told())
            self.assertEqual(len(self.save.tape), 0)
        self.assertEqual(self.shell.banner.act.text(), "Enter it anyway")
        self.click(self.shell.banner.act)
        self.assertEqual([entry.new for entry in self.save.tape], [101])
        self.press("Esc")
        self.assertEqual(self.told(), "")

    def test_entries_that_cannot_be_posted_say_why(self) -> None:
        self.type_into(self.table("Purse"), 0, ENTER, "5200")
        self.shell.session.enter(self.save.fields("account.marks")[0], "7")
        self.settle()
        self.assertEqual(self.shell.tape.balance.text(), "✕ cannot be posted")
        self.assertIn("they must be equal; withdraw one of the two entries", self.told())
        self.assertFalse(self.shell.tape.post.isEnabled())

    def test_the_filter_of_a_long_table(self) -> None:
        hold = self.table("Hold")
        (line,) = [
            w
            for w in self.shell.edit.findChildren(type(self.shell.head.box))
            if w.placeholderText().startswith("Show only")
        ]
        QTest.keyClicks(line, "copper")
        self.assertEqual(hold.model().rowCount(), 1)
        self.type_into(hold, 0, 1, "9")
        number = next(n for n in range(20) if self.save.fields(f"hold[{n}].item")[0].value == "copper helm")
        self.assertEqual([entry.path for entry in self.save.tape], [f"hold[{number}].count"])
        line.clear()
        self.assertGreater(hold.model().rowCount(), 10)

    def test_a_finding_offers_what_would_mend_it(self) -> None:
        self.shell.session.enter(self.save.fields("crew[3].vigour")[0], "140", anyway=True)
        self.press("Ctrl+Return")
        self.click(self.shell.posting.write_button)
        self.shell.show_stage(EDIT)
        self.settle()
        texts = [label.text() for label in self.shell.edit.findChildren(QLabel) if not label.isHidden()]
        self.assertIn("✕ crew[3].vigour", texts)
        self.assertIn("140 is above the bound 100: the game loads it, but shows 40", texts)
        (mend,) = [
            b for b in self.shell.edit.findChildren(QPushButton) if b.text() == "Set to 100" and not b.isHidden()
        ]
        self.click(mend)
        self.assertEqual([(entry.path, entry.new) for entry in self.save.tape], [("crew[3].vigour", 100)])


class DescribingTest(DeskCase):
    def setUp(self) -> None:
        super().setUp()
        self.open_harbour()
        self.press("Ctrl+3")
        self.stage = self.shell.describe

    def test_selecting_in_one_selects_in_the_others(self) -> None:
        outline, strip = self.stage.outline, self.stage.strip
        node = self.save.fields("crew[2].air")[0]
        outline.setCurrentIndex(outline.outline.index_of(node))
        self.settle()
        self.assertEqual(strip.selection, (node.start, node.end))
        self.assertIn("crew[2].air", self.margin_texts())
        self.assertIn("◆ proven in the game", self.margin_texts())
        strip.scroll_to(0)
        self.settle()
        target = self.save.fields("purse.marks")[0]
        row, column = divmod(target.start + 1, strip.row_width)
        point = QPoint(OFFSETS_WIDTH + column * 24 + 10, (row - strip.first_offset // strip.row_width) * ROW_HEIGHT + 8)
        self.click(strip.viewport(), point)
        self.assertEqual(strip.selection, (target.start + 1, target.start + 2))
        self.assertEqual(outline.outline.node(outline.currentIndex()).path, "purse.marks")
        self.assertIn("purse.marks", self.margin_texts())
        QTest.mouseDClick(strip.viewport(), Qt.MouseButton.LeftButton, pos=point)
        self.assertEqual(strip.selection, (target.start, target.end))

    def test_the_strip_by_keyboard(self) -> None:
        strip = self.stage.strip
        strip.select(0, 1)
        for key, modifier, expected in (
            (Qt.Key.Key_Right, Qt.KeyboardModifier.NoModifier, (1, 2)),
            (Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier, (1, 3)),
            (Qt.Key.Key_Down, Qt.KeyboardModifier.NoModifier, (2 + strip.row_width, 3 + strip.row_width)),
            (Qt.Key.Key_Home, Qt.KeyboardModifier.NoModifier, (0, 1)),
            (Qt.Key.Key_Left, Qt.KeyboardModifier.NoModifier, (0, 1)),
            (
                Qt.Key.Key_End,
                Qt.KeyboardModifier.NoModifier,
                (self.save.main.source.size - 1, self.save.main.source.size),
            ),
        ):
            QTest.keyClick(strip, key, modifier)
            self.assertEqual(strip.selection, expected, key)

    def test_rows_and_bases(self) -> None:
        strip = self.stage.strip
        hold = self.save.nodes("hold")[0]
        self.shell.session.select_node(hold)
        self.stage.rows.setCurrentText("Row: one record")
        self.stage.rows.activated.emit(self.stage.rows.currentIndex())
        self.assertEqual((strip.row_width, (strip.first_offset - hold.start) % 24), (24, 0))
        pictures = set()
        for base in ("hex", "decimal", "bits"):
            self.stage.base.setCurrentText(base)
            self.settle()
            image = strip.grab().toImage()
            pictures.add(bytes(image.constBits()))
        self.assertEqual(len(pictures), 3)

    def test_the_other_file_of_the_set(self) -> None:
        node = self.save.fields("account.marks")[0]
        self.shell.session.select_node(node)
        self.settle()
        self.assertEqual(self.stage.files.currentText(), "account.json")
        self.assertEqual(bytes(self.save.files["account"].source.read(*self.stage.strip.selection)), b"1386.00")
        self.assertIn("equal to purse.marks", self.margin_texts())

    def test_entries_show_in_outline_strip_and_margin(self) -> None:
        node = self.save.fields("purse.marks")[0]
        self.shell.session.select_node(node)
        line = self.shell.margin.entry_line
        assert line is not None
        line.selectAll()
        QTest.keyClicks(line, "0x1450")
        QTest.keyClick(line, Qt.Key.Key_Return)
        self.settle()
        self.assertEqual([entry.new for entry in self.save.tape], [5200])
        index = self.stage.outline.outline.index_of(node)
        self.assertEqual(index.siblingAtColumn(1).data(), "5200")
        self.assertEqual(index.data(Qt.ItemDataRole.ForegroundRole), colours()["open"])
        self.assertIn("5200", self.margin_texts())
        self.shell.session.select_node(self.save.fields("purse.sum")[0])
        self.settle()
        self.assertIn("It is worked out when you post.", self.margin_texts())
        self.shell.session.select_node(self.save.fields("head.slot")[0])
        self.settle()
        self.assertIn("Locked: the slot is also in the file's name.", self.margin_texts())

    def test_the_outline_shows_every_field_once(self) -> None:
        model = self.stage.outline.outline
        found = []
        stack = [model.index(row, 0) for row in range(model.rowCount())]
        while stack:
            index = stack.pop()
            while model.canFetchMore(index):
                model.fetchMore(index)
            node = model.node(index)
            if isinstance(node, FieldNode):
                found.append(node.path)
                self.assertTrue(index.data())
                self.assertTrue(index.parent().isValid())
            stack += [model.index(row, 0, index) for row in range(model.rowCount(index))]
        self.assertEqual(sorted(found), sorted(field.path for field in self.save.all_fields()))
        crc = model.index_of(self.save.fields("head.body_crc")[0])
        self.assertEqual(crc.siblingAtColumn(2).data(), "u32le · crc-32")

    def test_the_box_goes_anywhere(self) -> None:
        box, head = self.shell.head.box, self.shell.head
        for typed, expected in (
            ("0x45", (0x45, 0x46)),
            ("69", (69, 70)),
            ("crew[name=Brock].air", None),
            ("vigour", None),
            ("slack water", None),
            ("1386", None),
        ):
            self.press("Ctrl+6")
            self.press("Ctrl+K")
            box.clear()
            QTest.keyClicks(box, typed)
            self.wait_for_plan()
            self.assertTrue(head.found, typed)
            QTest.keyClick(box, Qt.Key.Key_Return)
            self.settle()
            self.assertEqual(self.shell.stage, DESCRIBE)
            if expected is not None:
                self.assertEqual(self.stage.strip.selection, expected)
        texts = [destination.text for destination in head.found]
        self.assertTrue(any("number 1386 at 0x45 (69), 4 bytes, low byte first" in text for text in texts), texts)
        self.press("Ctrl+K")
        QTest.keyClicks(box, "nothing like this")
        self.wait_for_plan()
        self.assertIn("nothing found", head.list.item(0).text())
        QTest.keyClick(box, Qt.Key.Key_Escape)
        self.assertFalse(head.list.isVisible())

    def test_the_band_leads_to_its_place(self) -> None:
        band = self.stage.band
        self.click(band, QPoint(band.width() // 2, 12))
        first, half = self.stage.strip.first_offset, self.save.main.source.size / 2
        self.assertLess(abs(first - half), half / 4)


class PostingTest(DeskCase):
    def setUp(self) -> None:
        super().setUp()
        self.open_harbour()
        self.saves = self.save.main.path.parent
        self.before = self.tree(self.saves)

    def plan_marks(self) -> None:
        self.type_into(self.table("Purse"), 0, ENTER, "5200")
        self.press("Ctrl+Return")
        self.assertIs(self.shell.sheet.currentWidget(), self.shell.posting)

    def test_return_writes_del_withdraws_and_the_tape_says_how_many_more(self) -> None:
        save = self.save
        for path, value in (
            ("purse.marks", "5200"),
            ("purse.debt", "7"),
            ("crew[0].air", "44"),
            ("crew[1].air", "45"),
        ):
            self.shell.session.enter(save.fields(path)[0], value)
        self.shell.resize(900, 600)
        self.settle()
        slips = [slip for slip in self.shell.tape.findChildren(Slip) if slip.isVisible()]
        self.assertEqual(self.shell.tape.more.text(), f"+{4 - len(slips)} more")
        self.assertTrue(all(slip.width() >= slip.minimumSizeHint().width() for slip in slips), "none is cut off")
        QTest.keyClick(slips[-1], Qt.Key.Key_Delete)
        self.settle()
        self.assertEqual([entry.path for entry in save.tape], ["purse.marks", "purse.debt", "crew[0].air"])
        self.press("Ctrl+Return")
        self.wait(lambda: self.shell.posting.write_button.hasFocus())
        QTest.keyClick(self.shell.posting.write_button, Qt.Key.Key_Return)
        self.wait(lambda: "Written, read back and compared" in self.told())

    def test_the_plan_shows_every_change_before_anything_is_written(self) -> None:
        self.type_into(self.table("Crew"), 1, NAME, "Tamsin Bell")
        self.plan_marks()
        rows = self.rows(self.shell.posting.changes)
        plan = self.shell.session.plan
        assert plan is not None
        self.assertEqual([row[5] for row in rows], [change.cause for change in plan.changes])
        (marks,) = [row for row in rows if row[5] == "entry purse.marks"]
        self.assertEqual(marks[:5], ["harbour.bwk", "0x0045 · 69", "2", "6A 05", "50 14"])
        texts = "\n".join(label.text() for label in self.shell.posting.findChildren(QLabel) if not label.isHidden())
        for words in (
            "Seals renewed, inner first: Sum of purse, Sum of crew, Checksum of the body",
            "Lengths, counts and offsets put right: head.body_length, head.hold_at, crew_length",
            "By a rule: account.marks 1386 → 5200",
            "Removed, and kept with the copy: slots.idx",
        ):
            self.assertIn(words, texts)
        self.assertTrue(all(check.ok for check in self.shell.posting.checks))
        self.assertEqual(self.tree(self.saves), self.before)
        self.press("Esc")
        self.assertEqual(self.shell.stage, EDIT)

    def test_post_then_reverse(self) -> None:
        self.plan_marks()
        QTest.keyClicks(self.shell.posting.note, "richer")
        self.press("Ctrl+Return")
        self.assertIn("Written, read back and compared: harbour.bwk, account.json", self.told())
        self.assertEqual(self.shell.stage, HISTORY)
        self.assertIn("marks 5200", play(self.saves, "show").text)
        self.assertEqual(len(self.save.tape), 0)
        self.assertEqual(self.rows(self.shell.history.table)[0][1:3], ["◆ posting, 1 entry", "richer"])
        (act,) = [
            b
            for b in self.shell.history.findChildren(QPushButton)
            if b.text() == "Reverse this posting" and not b.isHidden()
        ]
        self.click(act)
        self.assertEqual(
            {n: c for n, c in self.tree(self.saves).items() if n != "slots.idx"},
            {n: c for n, c in self.before.items() if n != "slots.idx"},
        )
        self.assertEqual(play(self.saves, "show").status, 0)
        self.assertTrue(any("posting, reversed" in row[1] for row in self.rows(self.shell.history.table)))

    def test_a_posting_over_which_the_game_has_played_asks(self) -> None:
        self.plan_marks()
        self.click(self.shell.posting.write_button)
        play(self.saves, "sell", "wax plug")
        (posting,) = self.shell.session.book.history.postings()  # type: ignore[union-attr]
        self.shell.session.history.reverse(posting)
        self.settle()
        self.assertIn("has changed since this posting", self.told())
        self.click(self.shell.banner.act)
        self.assertIn("marks 1386", play(self.saves, "show").text)

    def test_a_file_changed_meanwhile_is_told_and_not_overwritten(self) -> None:
        self.plan_marks()
        play(self.saves, "sell", "wax plug")
        played = self.tree(self.saves)
        self.click(self.shell.posting.write_button)
        self.assertIn("was changed by another program since it was opened", self.told())
        self.assertFalse(self.shell.posting.write_button.isEnabled())
        self.assertEqual(self.tree(self.saves), played)
        self.shell._look_outside()
        self.assertEqual(self.shell.banner.act.text(), "Read it again")
        self.click(self.shell.banner.act)
        self.assertEqual(self.save.fields("purse.marks")[0].value, 1388)

    def test_a_file_removed_meanwhile_is_told(self) -> None:
        self.plan_marks()
        self.save.main.path.unlink()
        self.click(self.shell.posting.write_button)
        self.assertIn("harbour.bwk is no longer there; open it again, or restore a snapshot", self.told())
        self.assertEqual(len(self.save.tape), 1)
        self.assertFalse((self.saves / "harbour.bwk").exists())

    def test_pending_entries_are_never_lost_without_a_word(self) -> None:
        self.press("Ctrl+6")
        self.shell.session.history.keep("first")
        (snapshot,) = self.shell.session.book.keeping.snapshots()  # type: ignore[union-attr]
        path = self.save.main.path
        self.press("Ctrl+4")
        self.type_into(self.table("Purse"), 0, ENTER, "5200")
        for act in (
            lambda: self.shell.session.open(path.with_name("harbour-2.bwk")),
            lambda: self.shell.session.history.restore(snapshot),
        ):
            self.assertFalse(act())
            self.assertIn("1 entry is pending for harbour.bwk; post or withdraw first", self.told())
            self.assertEqual((self.save.main.path, len(self.save.tape)), (path, 1))
        self.shell.close()
        self.settle()
        self.assertTrue(self.shell.isVisible())
        self.assertIn("close once more to leave without", self.told())
        self.shell.session.open(path.with_name("harbour-2.bwk"))
        self.click(self.shell.banner.act)
        self.assertEqual((self.save.main.path.name, len(self.save.tape)), ("harbour-2.bwk", 0))

    def test_entries_survive_a_crash_of_the_program(self) -> None:
        self.type_into(self.table("Purse"), 0, ENTER, "5200")
        end = self.save.main.source.size
        self.shell.session.type_bytes("save", end, end, b"\x07")
        self.shell.session.enter(self.save.fields("crew[1].name")[0], "Tamsin Bell")
        entries = [(entry.path, entry.data) for entry in self.save.tape]
        self.assertEqual(len(entries), 3)
        path = self.save.main.path

        def started_again() -> Session:
            """The window of a program that was not told to end."""
            shell = make_shell(Shelf(self.shell.session.shelf.data, self.cache))
            self.addCleanup(shell.deleteLater)
            shell.session.open(path)
            self.draw()
            self.told_again: Message | None = shell.banner.message
            return shell.session

        again = started_again()
        self.assertIn("3 entries from last time, not posted then, are on the tape again.", self.told_again.text)
        assert again.save is not None
        self.assertEqual([(entry.path, entry.data) for entry in again.save.tape], entries)
        self.assertEqual(play(self.saves, "sell", "brass lamp").status, 0)
        again = started_again()
        self.assertIn("3 entries from last time were made for an older state of this save.", self.told_again.text)
        self.assertEqual(len(again.save.tape), 0)  # type: ignore[union-attr]
        self.told_again.act()
        self.assertEqual({entry.path for entry in again.save.tape}, {"purse.marks", "crew[1].name"})  # type: ignore[union-attr]
        again.entries.forget()
        started_again()
        self.assertNotIn("from last time", self.told_again.text if self.told_again else "")

    def test_a_template_without_seals_is_not_called_in_balance(self) -> None:
        template = self.folder / "plain.yaml"
        template.write_text(
            "ledger: 1\nid: plain\ntitle: Plain\nfiles: {save: {name: '*.bwk', layout: [{field: a, as: u8}]}}\n"
        )
        self.shell.session.open(self.save.main.path, str(template))
        self.settle()
        self.assertEqual(self.shell.tape.balance.text(), "◇ no seals known")
        words = [part.text() for part in self.shell.margin.findChildren(QLabel) if part.isVisibleTo(self.shell)]
        self.assertIn("◇ none known", words)
        self.assertFalse([word for word in words if "0 of 0" in word])
        self.shell.session.reopen()
        self.settle()
        assert self.save.template is not None
        self.assertEqual((self.save.template.id, self.told()), ("plain", ""), "it is in no library")

    def test_hard_links_ask_for_a_word(self) -> None:
        os.link(self.save.main.path, self.saves / "other-name")
        self.shell.session.open(self.save.main.path)
        self.plan_marks()
        sheet = self.shell.posting
        self.assertFalse(sheet.write_button.isEnabled())
        self.assertTrue(sheet.detach.isVisible())
        self.assertIn("has 2 names (hard links)", "\n".join(text for _, _, text in sheet.check_lines()))
        sheet.detach.setChecked(True)
        self.settle()
        self.click(sheet.write_button)
        self.assertIn("Written", self.told())

    def test_a_broken_seal_is_marked_and_asked_about(self) -> None:
        path = self.save.main.path
        data = bytearray(path.read_bytes())
        data[0x4A] ^= 0x10
        path.write_bytes(data)
        self.shell.session.open(path)
        self.settle()
        self.assertEqual(self.shell.tape.balance.text(), "✕ out of balance")
        texts = [label.text() for label in self.shell.margin.findChildren(QLabel) if not label.isHidden()]
        self.assertTrue(any("✕ Sum of purse" in text for text in texts), texts)
        self.plan_marks()
        sheet = self.shell.posting
        self.assertFalse(sheet.write_button.isEnabled())
        buttons = {b.text(): b for b in sheet.findChildren(QPushButton) if not b.isHidden()}
        self.click(buttons["Renew them too"])
        self.assertTrue(sheet.write_button.isEnabled())
        self.click(sheet.write_button)
        self.assertIn("Written", self.told())
        self.assertEqual(play(self.saves, "show").status, 0)

    def test_a_disk_that_fails_is_told_and_everything_is_as_it_was(self) -> None:
        self.plan_marks()
        book = self.shell.session.book
        assert book is not None
        with mock.patch.object(book.keeping.disk, "sync", side_effect=OSError(28, "No space left on device")):
            self.click(self.shell.posting.write_button)
        self.assertIn("the disk is full; the save is as it was; make room and try again", self.told())
        self.assertEqual(self.tree(self.saves), self.before)
        self.assertEqual(len(self.save.tape), 1, "the entries are still there")

    def test_snapshots_can_be_kept_looked_into_and_restored(self) -> None:
        self.press("Ctrl+6")
        records = self.shell.history
        texts = [label.text() for label in records.findChildren(QLabel) if not label.isHidden()]
        self.assertTrue(any(text.startswith("Nothing is kept yet") for text in texts), texts)
        QTest.keyClicks(records.label_line, "before selling")
        QTest.keyClick(records.label_line, Qt.Key.Key_Return)
        self.settle()
        self.assertIn("A copy is kept: before selling", self.told())
        self.assertIn("1 kept", self.shell.head.chip.text())
        play(self.saves, "sell", "wax plug")
        self.shell.session.reopen()
        self.press("Ctrl+6")
        (snapshot,) = self.shell.session.book.keeping.snapshots()  # type: ignore[union-attr]
        self.assertEqual(self.rows(records.table)[0][:3], [local_time(snapshot.time), "snapshot", "before selling"])
        rows, told = records._differences(snapshot)
        self.assertIn(("purse.marks", "1386", "1388"), rows)
        self.assertIn("fields differ from the save now", told)
        (act,) = [b for b in records.findChildren(QPushButton) if b.text() == "Restore" and not b.isHidden()]
        self.click(act)
        self.assertEqual(self.tree(self.saves), self.before)
        self.assertEqual(len(self.rows(records.table)), 2, "what gave way is kept too")


class LargeAndOddTest(DeskCase):
    def test_four_gib_open_at_once_and_scroll_to_the_end(self) -> None:
        import resource

        path = self.folder / "huge.bin"
        with path.open("wb") as file:
            file.write(b"begin")
            file.truncate(4 << 30)
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        self.shell.session.open(path)
        self.settle()
        strip = self.shell.describe.strip
        for offset in (0, 1 << 20, 3 << 30, (4 << 30) - 16):
            strip.scroll_to(offset)
            self.settle()
            self.assertTrue(strip.first_offset <= offset)
        self.shell.session.select("file", (4 << 30) - 4, 4 << 30)
        self.settle()
        self.assertLess(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before, 100 << 10, "kibibytes")

    def test_a_large_save_is_planned_beside_the_window(self) -> None:
        saves = self.harbour()
        from brinewick.harbour import Harbour

        harbour = Harbour(saves)
        company = harbour.load(1)
        company.chart_width, company.chart = 1000, bytes(2_000_000)
        harbour.save(company)
        self.shell.session.open(saves / "harbour.bwk")
        self.wait_for_plan()
        self.type_into(self.table("Purse"), 0, ENTER, "5200")
        self.assertIn(self.shell.tape.balance.text(), ("◇ working it out…", "◆ will balance"))
        self.wait_for_plan()
        self.assertEqual(self.shell.tape.balance.text(), "◆ will balance")
        self.press("Ctrl+Return")
        self.click(self.shell.posting.write_button)
        self.wait_for_plan()
        self.assertIn("marks 5200", play(saves, "show").text)

    def test_dark_and_small(self) -> None:
        self.open_harbour()
        self.addCleanup(lambda: (apply_theme(application(), dark=False), apply_sheet(application())))
        apply_theme(application(), dark=True)
        apply_sheet(application())
        self.shell.resize(self.shell.minimumSize())
        for keys in ("Ctrl+3", "Ctrl+4", "Ctrl+6", "F1"):
            self.press(keys)
            picture = self.shell.grab().toImage()
            self.assertLess(picture.pixelColor(400, 300).lightness(), 120)
        for widget in (self.shell.tape.post, self.shell.head.box, self.shell.tape.balance):
            corner = widget.mapTo(self.shell, QPoint(widget.width(), widget.height()))
            self.assertLessEqual(corner.x(), self.shell.width())
            self.assertLessEqual(corner.y(), self.shell.height())

    def test_what_is_clickable_has_a_name_and_can_be_reached_by_keyboard(self) -> None:
        self.open_harbour()
        for widget in [
            *self.shell.findChildren(QPushButton),
            *self.shell.findChildren(QToolButton),
            *self.shell.findChildren(QCheckBox),
        ]:
            if widget.isVisible():
                self.assertTrue(widget.text() or widget.accessibleName() or widget.toolTip())
                self.assertTrue(widget.focusPolicy() & Qt.FocusPolicy.TabFocus, widget.text())

    def test_a_mistake_of_ours_leaves_the_window_and_the_tape(self) -> None:
        self.open_harbour()
        self.type_into(self.table("Purse"), 0, ENTER, "5200")
        tell_unexpected(self.shell, ZeroDivisionError("a mistake"))
        self.assertIn(
            "Something went wrong in the program itself (ZeroDivisionError). No save was changed", self.told()
        )
        self.assertIn("a mistake", (self.shell.session.shelf.cache / "unexpected.log").read_text())
        self.assertEqual(len(self.save.tape), 1)

    def test_a_large_file_that_changes_while_it_is_looked_at(self) -> None:
        path = self.folder / "huge.bin"
        with path.open("wb") as file:
            file.truncate(300 << 20)
        self.shell.session.open(path)
        self.settle()
        reported: list[str] = []
        self.shell.session.reported.connect(lambda message: reported.append(message.text))
        path.write_bytes(b"short")
        self.shell.describe.strip.scroll_to(200 << 20)
        self.settle()
        self.shell.session.select("file", 200 << 20, (200 << 20) + 4)
        self.settle()
        # The look at the file's date may say its own word behind it, so all that was reported counts.
        wanted = "was changed by another program while it was read; nothing was written; open it again"
        self.assertTrue(any(wanted in text for text in reported), reported)

    def test_errors_of_the_core_never_leave_the_window(self) -> None:
        self.open_harbour()
        session = self.shell.session

        def fail() -> None:
            raise LedgerError("something", "do this")

        self.assertIsNone(session.attempt(fail))
        self.assertEqual(self.told(), "something; do this")


class CatalogueTest(DeskCase):
    """Many names are typed in part, few are listed by their groups; what is chosen limits the count beside it."""

    TEMPLATE = """\
ledger: 1
id: hold
title: Hold
catalogues:
  item: items.csv
  kind: {0: plain, 1: {name: bright, group: lamps}, 2: {name: short, group: lines}, 3: {name: dim, group: lamps}}
files:
  save:
    name: "*.sav"
    layout:
      - {field: lots, as: u16, count_of: hold}
      - rows: hold
        count: lots
        layout:
          - {field: item, as: u8, names: item}
          - {field: count, as: u8, bounds: {by: item}}
          - {field: kind, as: u8, names: kind}
sections: [{title: Hold, table: hold}]
"""

    def setUp(self) -> None:
        super().setUp()
        path, template = self.folder / "one.sav", self.folder / "hold.yaml"
        path.write_bytes(b"\2\0" + bytes([3, 2, 0, 9, 1, 3]))
        template.write_text(self.TEMPLATE, "utf-8")
        lines = "".join(f"{n},{('rope', 'lamp', 'bell')[n % 3]} of quay {n},{n}\n" for n in range(1, 50))
        (self.folder / "items.csv").write_text(f"code,name,most\n{lines}", "utf-8")
        self.assertTrue(self.shell.session.open(path, str(template)))
        self.settle()
        self.press("Ctrl+4")

    def edited(self, row: int, column: int) -> ChoiceBox:
        table = self.table("Hold")
        index = table.model().index(row, column)
        table.setCurrentIndex(index)
        table.edit(index)
        self.settle()
        box = table.viewport().findChild(ChoiceBox)
        assert box is not None
        return box

    def test_a_name_is_typed_in_part_and_limits_what_is_beside_it(self) -> None:
        line = self.edited(0, 0).lineEdit()
        assert line is not None
        QTest.keyClicks(line, "quay 40")
        self.settle()
        popup = self.edited_popup()
        self.assertEqual([popup.index(n, 0).data() for n in range(popup.rowCount())], ["lamp of quay 40"])
        QTest.keyClick(line, Qt.Key.Key_Return)
        self.settle()
        save = self.shell.session.save
        assert save is not None
        self.assertEqual(save.text(save.fields("hold[0].item")[0]), "lamp of quay 40")
        self.assertTrue(self.shell.session.enter(save.fields("hold[0].count")[0], "40"))
        self.assertFalse(self.shell.session.enter(save.fields("hold[1].count")[0], "40"))
        self.assertIn("rope of quay 9 allows at most 9", self.told())

    def edited_popup(self) -> QAbstractItemModel:
        box = self.table("Hold").viewport().findChild(ChoiceBox)
        assert box is not None
        return box.completer().completionModel()

    def test_few_names_are_listed_by_their_groups(self) -> None:
        box = self.edited(1, 2)
        self.assertEqual(
            [box.itemText(n) for n in range(box.count())],
            ["lamps", "bright", "dim", "lines", "short", "others", "plain"],
        )
        self.assertEqual(box.currentText(), "dim")
        headings = [n for n in range(box.count()) if not box.model().flags(box.model().index(n, 0))]
        self.assertEqual(headings, [0, 3, 5])
        box.setCurrentIndex(4)
        box.activated.emit(4)
        self.settle()
        save = self.shell.session.save
        assert save is not None
        self.assertEqual(save.value(save.fields("hold[1].kind")[0]), "short")


class EmptyPlacesTest(DeskCase):
    """A bag of fixed places: those that hold nothing are out of the way, filled in turn, and emptied again."""

    TEMPLATE = """\
ledger: 1
id: satchel
title: A diver's satchel
files:
  save:
    name: "*.sat"
    layout:
      - rows: slots
        count: 12
        empty: {item: 0, count: 0}
        layout:
          - {field: item, as: u8, names: {0: nothing, 1: lamp oil, 2: brass lamp}}
          - {field: count, as: u8}
sections: [{title: Satchel, table: slots, columns: [item, count]}]
"""

    def setUp(self) -> None:
        super().setUp()
        path, template = self.folder / "oriel.sat", self.folder / "satchel.yaml"
        path.write_bytes(bytes([1, 4, 0, 0, 2, 1]) + bytes(18))
        template.write_text(self.TEMPLATE)
        self.assertTrue(self.shell.session.open(path, str(template)))
        self.settle()
        self.press("Ctrl+4")

    def link(self, begin: str) -> QPushButton:
        (found,) = [each for each in self.shell.edit.findChildren(QPushButton) if each.text().startswith(begin)]
        return found

    def numbers(self) -> list[str]:
        model = self.table("Satchel").model()
        return [str(model.headerData(row, Qt.Orientation.Vertical)) for row in range(model.rowCount())]

    def test_they_are_hidden_filled_and_emptied(self) -> None:
        table = self.table("Satchel")
        self.assertEqual(self.numbers(), ["0", "2"])
        self.click(self.link("Show 10 empty places"))
        self.assertEqual(len(self.numbers()), 12)
        self.click(self.link("Hide 10 empty places"))
        self.click(self.link("New record"))
        self.assertEqual((self.numbers(), table.currentIndex().row()), (["0", "1", "2"], 1))
        self.choose(table, 1, 0, "brass lamp")
        self.type_into(table, 1, 1, "3")
        self.assertEqual([entry.path for entry in self.save.tape], ["slots[1].item", "slots[1].count"])
        self.click(self.link("New record"))
        self.assertEqual(self.numbers(), ["0", "1", "2", "3"])
        table.records_unwanted.emit([0])
        self.settle()
        emptied = {entry.path: entry.new_text for entry in self.save.tape if entry.path.startswith("slots[0]")}
        self.assertEqual(emptied, {"slots[0].item": "nothing", "slots[0].count": "0"})
