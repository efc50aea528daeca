"""Looking at bytes: profile, search, lanes, letters, typing and marks in Describe; Compare; large files stay fluid."""

from __future__ import annotations

import random
import struct
import sys
import threading
import time
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from unittest import mock

from PySide6.QtCore import QEvent, QPoint, Qt
from PySide6.QtGui import QGuiApplication, QKeyEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog, QLineEdit, QPushButton

from brinewick.harbour import Harbour
from faithful_ledger.core import source
from faithful_ledger.core.budget import Budget
from faithful_ledger.core.errors import VaultError
from faithful_ledger.core.free_values import free_values
from faithful_ledger.core.source import MemorySource
from faithful_ledger.desk.application import application
from faithful_ledger.desk.shell import DESCRIBE, GATHER, HISTORY, LOCATE
from faithful_ledger.desk.stages.describe import PROFILE, SEARCH, TEMPLATE, DescribeStage
from faithful_ledger.desk.widgets.reading_list import ReadingList
from faithful_ledger.desk.widgets.strip_rows import NUMBER_LINE
from tests.core.test_trees import TAGS, as_tags, tree
from tests.desk.support import DeskCase
from tests.support import play


class LookingCase(DeskCase):
    def work(self) -> None:
        for _ in range(3):
            self.shell.session.wait()
            self.settle()

    def unknown(self, data: bytes, name: str = "voyage.dat") -> DescribeStage:
        path = self.folder / name
        path.write_bytes(data)
        self.assertTrue(self.shell.session.open(path))
        self.work()
        return self.shell.describe

    def kept(self, *labels: str) -> None:
        for label in labels:
            self.shell.session.history.keep(label)

    def unfold(self) -> None:
        """Show all readings in the margin, for this test."""
        self.addCleanup(setattr, ReadingList, "unfolded", False)
        self.click(next(b for b in self.shell.margin.findChildren(QPushButton) if b.text().endswith("more readings")))
        self.settle()

    def link(self, text: str) -> QPushButton:
        return next(b for b in self.shell.findChildren(QPushButton) if b.text() == text and b.isVisible())

    def any_line(self, name: str) -> QLineEdit:
        """A line of the margin, also one that is out of sight."""
        return next(w for w in self.shell.margin.findChildren(QLineEdit) if w.accessibleName() == name)


class ProfileTest(LookingCase):
    def test_findings_lead_on_to_rows_and_to_what_is_unpacked(self) -> None:
        rng = random.Random(5)
        inner = b"".join(struct.pack("<I36s", n, b"Oriel") + bytes(4) for n in range(60))
        records = b"".join(
            struct.pack("<HH8sI", n % 7, rng.randrange(900), b"lamp oil", n) + bytes(28) for n in range(900)
        )
        stage = self.unknown(b"HEAD" + records + zlib.compress(inner) + b"TAIL")
        pane = stage.profile
        self.assertEqual((self.shell.stage, stage.panes.currentIndex()), (DESCRIBE, PROFILE))
        self.assertFalse(stage.tabs[TEMPLATE].isVisible())
        self.assertIn("numbers and texts lie open", pane.summary.text())
        self.click(self.link("rows of 44 bytes"))
        self.assertEqual(stage.strip.row_width, 44)
        self.click(self.link("open unpacked"))
        self.assertEqual(bytes(self.shell.session.sources.of(stage._file).read(0, len(inner) + 1)), inner)
        self.assertTrue(stage.strip.read_only)
        self.assertIn("to look at only", stage.share.text())
        stage.strip.select(0, 1)
        QTest.keyClicks(stage.strip, "FF")
        self.assertEqual(self.shell.session.pending, 0, "what was unpacked can only be looked at")
        self.work()
        texts = [row[1] for row in self.rows(pane.texts)]
        self.assertTrue(any("Oriel" in text for text in texts), texts)

    def test_a_reading_is_shown_as_it_was_in_the_kept_copies(self) -> None:
        save = self.open_harbour()
        for action in (["sell", "wax plug"], ["rename", "Ives", "Ives the Younger"]):
            self.kept(action[0])
            play(save.path.parent, *action)
            self.shell.session.reopen()
            self.settle()
        self.shell.show_stage(DESCRIBE)
        name = self.save.fields("crew[3].air")[0]
        self.shell.session.select_node(name)
        self.work()
        self.assertIn("55  55", self.margin_texts(), "it moved between the two, and is followed")

    def test_the_longest_readings_are_whole_beside_a_scroll_bar(self) -> None:
        self.unknown(struct.pack("<Q", 1 << 63 | 12345) * 40)
        self.shell.resize(1280, 640)
        self.shell.session.select("file", 0, 8)
        self.settle()
        self.unfold()
        readings = [w for w in self.shell.margin.findChildren(QLineEdit) if w.property("role") == "reading"]
        self.assertGreaterEqual(max(len(w.text()) for w in readings), 19)
        for shown in readings:
            self.assertLess(shown.fontMetrics().horizontalAdvance(shown.text()), shown.width() - 4, shown.text())

    def test_noise_is_said_to_be_noise(self) -> None:
        pane = self.unknown(random.Random(1).randbytes(30_000)).profile
        self.assertIn("encrypted, or packed by something unknown", pane.summary.text())
        shown = [b.text() for b in pane.findChildren(QPushButton) if b.isVisible()]
        self.assertEqual(shown, ["Undo it"])  # of a layer that somebody names
        pane.texture_plot.show_texture(None, 0)
        self.unknown(b"", "empty.dat")
        self.assertIn("no bytes", self.shell.describe.profile.summary.text())


class SearchTest(LookingCase):
    def test_hits_are_found_filtered_and_shown(self) -> None:
        self.open_harbour()
        self.kept("before")
        self.press("Ctrl+F")
        stage = self.shell.describe
        self.assertEqual(stage.panes.currentIndex(), SEARCH)
        QTest.keyClicks(stage.search.line, "1386")
        QTest.keyClick(stage.search.line, Qt.Key.Key_Return)
        self.work()
        rows = self.rows(stage.search.table)
        self.assertIn(["0x45 · 69", "4 bytes, low first", "purse.marks"], [r[:3] for r in rows])
        stage.search.table.selectRow(next(n for n, r in enumerate(rows) if r[1] == "4 bytes, low first"))
        self.assertEqual(stage.strip.selection, (69, 73))
        for name in ("only bytes no field describes", "only where kept copies differ", "only behind a text"):
            stage.search.filter.setCurrentText(name)
            self.assertLess(stage.search.table.rowCount(), len(rows), name)
            self.assertNotIn("purse.marks", [row[2] for row in self.rows(stage.search.table)])
        for kind, text in (("a text", "Tamsin"), ("a group", "0x52,0x43"), ("bytes", "54 61 ?? 73")):
            stage.search.filter.setCurrentIndex(0)
            stage.search.kind.setCurrentText(kind)
            stage.search.line.setText(text)
            self.click(stage.search.act)
            self.work()
            self.assertGreater(stage.search.table.rowCount(), 0, kind)
        for kind, text, words in (
            ("a number", "lots", "is not a number"),
            ("bytes", "0", "is not bytes in hexadecimal"),
            ("a text", "", "is empty"),
        ):
            stage.search.kind.setCurrentText(kind)
            stage.search.line.setText(text)
            self.click(stage.search.act)
            self.assertIn(words, self.told())


class StripTest(LookingCase):
    def test_bytes_are_typed_inserted_removed_and_undone(self) -> None:
        body = bytes(range(64))
        stage = self.unknown(b"HEAD" + len(body).to_bytes(4, "little") + body)
        path, strip = self.save.main.path, stage.strip
        strip.select(8, 9)
        strip.setFocus()
        QTest.keyClicks(strip, "fF0a")
        self.assertIn("Nothing is typed over yet", self.told())
        self.assertEqual(self.shell.session.pending, 0)
        QTest.keyClick(strip, Qt.Key.Key_Return)
        QTest.keyClicks(strip, "fF0a")
        self.settle()
        self.assertEqual([(slip.path, strip.selection) for slip in self.slips()], [("bytes_8", (10, 11))])
        self.press("Ctrl+Z")
        QTest.keyClick(strip, Qt.Key.Key_Insert)
        self.work()
        self.assertIn("everything behind 0xA (10) moves by +1", self.told())
        self.assertIn("0x4 (4) (u32le)", self.told())
        self.press("Ctrl+Z")
        strip.select(12, 16)
        QTest.keyClick(strip, Qt.Key.Key_Delete)
        self.work()
        self.shell.show_posting()
        self.shell.posting._write()
        self.settle()
        self.assertEqual(path.read_bytes()[8:], b"\xff" + body[1:4] + body[8:])
        self.shell.session.history.reverse(self.shell.session.book.history.postings()[0])  # type: ignore[union-attr]
        self.settle()
        self.assertEqual(path.read_bytes()[8:], body)

    def test_readings_in_the_margin_can_be_typed_into(self) -> None:
        save = self.open_harbour()
        self.shell.show_stage(DESCRIBE)
        (node,) = save.fields("purse.marks")
        self.shell.session.select_node(node)
        line = self.any_line("These bytes as 2 bytes")
        self.assertEqual(line.text(), "1386")
        line.setText("777")
        QTest.keyClick(line, Qt.Key.Key_Return)
        self.settle()
        self.assertEqual(save.value(node), 777)
        self.assertEqual(self.any_line("These bytes as 2 bytes").text(), "777", "readings read what is pending")
        self.unfold()
        wrong = self.any_line("These bytes as 1 byte")
        wrong.setText("300")
        QTest.keyClick(wrong, Qt.Key.Key_Return)
        self.assertIn("300", self.told())
        self.assertEqual(save.value(node), 777)
        over = self.any_line("Type bytes over the selected ones")
        over.setText('"OK"')
        QTest.keyClick(over, Qt.Key.Key_Return)
        self.settle()
        self.assertEqual(save.value(node), int.from_bytes(b"OK", "little"))

    def test_copying_marks_letters_and_lanes(self) -> None:
        saves = self.harbour()
        self.shell.session.open(saves / "harbour.bwk")
        self.kept("first")
        play(saves, "rename", "Oriel", "Oriel the Elder")
        self.shell.session.reopen()
        self.shell.show_stage(DESCRIBE)
        stage = self.shell.describe
        name = self.save.fields("crew[0].name")[0]
        self.shell.session.select("save", name.start + 1, name.start + 6)
        for how, expected in (
            ("hex", "4F 72 69 65 6C"),
            ("text", "Oriel"),
            ("C literal", "{ 0x4F, 0x72, 0x69, 0x65, 0x6C }"),
            ("Python literal", "b'Oriel'"),
        ):
            stage.strip.copy(how)
            self.assertEqual(QGuiApplication.clipboard().text(), expected)
        stage.strip.note_wanted.emit(0, 1)
        self.any_line("Note for the selected bytes").setText("the elder of them")
        QTest.keyClick(self.any_line("Note for the selected bytes"), Qt.Key.Key_Return)
        self.settle()
        (mark,) = self.shell.session.sources.marks("save")
        self.assertEqual((mark.start, mark.end, mark.note), (name.start + 1, name.start + 6, "the elder of them"))
        self.click(self.link("remove"))
        self.assertEqual(self.shell.session.sources.marks("save"), [])
        stage.lanes.setCurrentIndex(1)
        stage._show_lanes()
        self.work()
        (lane,) = stage.strip._lanes
        tamsin = self.save.fields("crew[1].name")[0].start
        self.assertEqual(lane.moved(tamsin), -10, "what moved lies under where it came to")
        self.assertEqual(bytes(lane.source.read(tamsin, tamsin + 7)), b"\x06Tamsin")
        friends = self.folder / "friend" / "harbour.bwk"
        friends.parent.mkdir()
        friends.write_bytes(self.save.main.path.read_bytes())
        (friends.parent / "account.json").write_bytes((self.save.main.path.parent / "account.json").read_bytes())
        play(friends.parent, "rename", "Tamsin", "Tamsyn")
        kept = len(self.shell.session.kept_copies)
        stage.lanes.setCurrentIndex(stage.lanes.findText("Lane: another save…"))
        with mock.patch.object(QFileDialog, "getOpenFileName", return_value=(str(friends), "")):
            stage._show_lanes()
        self.work()
        (lane,) = stage.strip._lanes
        self.assertEqual(bytes(lane.source.read(tamsin, tamsin + 7)), b"\x06Tamsyn")
        self.assertEqual(len(self.shell.session.kept_copies), kept, "it is no snapshot of this one")
        table = self.folder / "letters.tbl"
        table.write_text("# ours\n4F=Ø\n7269=ß\n", "utf-8")
        for text in ("cp437", "utf-16-le", str(table)):
            stage.letters.setEditText(text)
            stage._set_letters()
            self.assertEqual(self.told(), "")
        self.assertEqual(stage.strip._letters(b"Orie"), ["Ø", "ß", "", ""])
        for text, words in (
            ("no such", "is neither an encoding nor a table"),
            (str(self.broken_table()), "line 2: “4G=x”"),
        ):
            stage.letters.setEditText(text)
            stage._set_letters()
            self.assertIn(words, self.told())
        for base in ("decimal", "bits", "hex"):
            stage.strip.set_base(base)
            self.assertFalse(stage.strip.grab().isNull())
        stage.rows.setEditText("Row: 37")
        stage._set_row_width()
        self.assertEqual(stage.strip.row_width, 37)

    def test_letters_are_typed_where_they_stand(self) -> None:
        saves = self.harbour()
        self.shell.session.open(saves / "harbour.bwk")
        self.shell.show_stage(DESCRIBE)
        stage = self.shell.describe
        name = self.save.fields("crew[0].name")[0]
        self.shell.session.select("save", name.start + 1, name.start + 2)
        for _ in ("into edit", "in letters"):
            QTest.keyClick(stage.strip, Qt.Key.Key_Return)
        QTest.keyClicks(stage.strip, "Abel")
        self.settle()
        self.assertEqual(self.save.text(name), "Abell")
        QTest.keyClick(stage.strip, Qt.Key.Key_Return)
        QTest.keyClicks(stage.strip, "6D")
        self.assertEqual(self.save.text(name), "Abelm", "and numbers again")
        first = stage.strip._row_start(stage.strip._top_row())
        row, column = divmod(name.start + 1 - first, stage.strip.row_width)
        at = QPoint(stage.strip._x(column) + 12, row * stage.strip.row_height + NUMBER_LINE + 6)
        QTest.mouseClick(stage.strip.viewport(), Qt.MouseButton.LeftButton, pos=at)
        self.type_letter("é")
        self.assertIn("“é” cannot be typed here: ascii has no such letter", self.told())
        table = self.folder / "letters.tbl"
        table.write_text("4F=Ø\n", "utf-8")
        stage.letters.setEditText(str(table))
        stage._set_letters()
        self.type_letter("Ø")
        self.assertEqual(self.save.text(name), "Obelm")

    def type_letter(self, letter: str) -> None:
        """QTest itself only types ASCII."""
        event = QKeyEvent(QEvent.Type.KeyPress, 0, Qt.KeyboardModifier.NoModifier, letter)
        application().sendEvent(self.shell.describe.strip, event)
        self.settle()

    def broken_table(self) -> Path:
        path = self.folder / "broken.tbl"
        path.write_text("41=A\n4G=x\n", "utf-8")
        return path

    def test_the_box_says_a_number_in_every_way_and_counts_from_here(self) -> None:
        self.open_harbour()
        self.shell.show_stage(DESCRIBE)
        self.shell.session.select("save", 0x20, 0x21)
        head = self.shell.head
        for typed, first in (("+16", "offset 0x30 (48), +16 from here"), ("-0x10", "offset 0x10 (16), -16 from here")):
            self.press("Ctrl+K")
            head.box.clear()
            QTest.keyClicks(head.box, typed)
            self.work()
            self.assertEqual(head.list.item(0).text(), first)
        head.box.clear()
        QTest.keyClicks(head.box, "1340")
        self.work()
        words = head.list.item(head.list.count() - 1).text()
        self.assertEqual(words, "1340 = 0x53C · 00000101 00111100 · 3C 05 low first · 05 3C high first")


class CompareTest(LookingCase):
    def test_two_copies_are_compared_with_what_moved_and_what_is_noise(self) -> None:
        saves = self.harbour()
        self.shell.session.open(saves / "harbour.bwk")
        for label, action in (
            ("a", None),
            ("quiet", ["rename", "Ives", "Ives"]),
            ("grown", ["rename", "Oriel", "Oriel the Elder"]),
        ):
            if action is not None:
                self.assertEqual(play(saves, *action).status, 0)
            self.shell.session.reopen()
            self.shell.session.history.keep(label)
        self.shell.show_stage(HISTORY)
        self.settle()
        self.click(self.link("with one before"))
        self.work()
        sheet = self.shell.compare
        rows = self.rows(sheet.table)
        self.assertIn("came in", [row[0] for row in rows])
        self.assertIn("1 place came in", sheet.summary.text())
        self.assertIn(["crew[0].name", "Oriel", "Oriel the Elder"], self.rows(sheet.fields))
        self.assertTrue(any(row[4].startswith("crew") for row in rows), rows)
        before = len(rows)
        sheet.quiet.setCurrentIndex(2)
        sheet._compare()
        self.work()
        self.assertLess(sheet.table.rowCount(), before)
        self.assertIn("of the first changes by itself", sheet.summary.text())
        sheet.sizes.setCurrentText("up to 4 bytes")
        sheet._filter()
        self.assertTrue(all(len(row[3]) <= 5 for row in self.rows(sheet.table)))
        sheet.sizes.setCurrentIndex(0)
        sheet._filter()
        present = sheet.table.currentRow()
        self.press("F3")
        self.assertNotEqual(sheet.table.currentRow(), present)
        sheet.second.setCurrentIndex(sheet.first.currentIndex())
        sheet.quiet.setCurrentIndex(0)
        sheet._compare()
        self.work()
        self.assertIn("The bytes are the same", sheet.summary.text())
        self.shell.banner.show_message(None)
        self.press("Esc")
        self.assertEqual(self.shell.sheet.currentWidget(), self.shell.history)

    def test_snapshots_go_out_come_in_and_are_checked(self) -> None:
        self.open_harbour()
        self.kept("one")
        self.shell.show_stage(HISTORY)
        self.settle()
        out = self.folder / "one.zip"
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(out), "")):
            self.click(self.link("Export…"))
        with mock.patch.object(QFileDialog, "getOpenFileNames", return_value=([str(out)], "")):
            self.click(self.link("Take in copies…"))
        self.assertIn("1 copy is kept as snapshots", self.told())
        self.assertEqual(self.shell.history.table.rowCount(), 2)
        other = self.folder / "other"
        other.mkdir()
        with mock.patch.object(QFileDialog, "getExistingDirectory", return_value=str(other)):
            self.click(self.link("Elsewhere…"))
            self.assertIn("are in", self.told())
            self.assertEqual((other / "harbour.bwk").read_bytes(), self.save.main.path.read_bytes())
            self.click(self.link("Elsewhere…"))
            self.assertIn("exists already; nothing was written", self.told())
        self.click(self.link("Check every kept copy"))
        self.work()
        self.assertIn("Every kept copy is whole", self.told())
        book = self.shell.session.book
        assert book is not None
        damaged = book.keeping.store.path_of(book.keeping.snapshots()[0].files[0].sha256)
        damaged.chmod(0o644)
        damaged.write_bytes(b"rot")
        self.click(self.link("Check every kept copy"))
        self.work()
        self.assertIn("2 kept copies are damaged: harbour.bwk of “one”", self.told())


class SetTest(LookingCase):
    def test_files_of_a_save_roles_and_what_will_undo_the_work(self) -> None:
        saves = self.harbour()
        (saves / ".tether").mkdir()
        self.shell.session.open(saves / "harbour.bwk")
        self.shell.show_stage(GATHER)
        stage = self.shell.gather
        with mock.patch.object(QFileDialog, "getOpenFileNames", return_value=([str(saves / "options.cfg")], "")):
            self.click(self.link("Add a file to it…"))
        self.work()
        self.assertEqual(
            [row[:2] for row in self.rows(stage.set.table)],
            [["harbour.bwk", "save"], ["account.json", "account"], ["slots.idx", "cache"], ["options.cfg", "options"]],
        )
        self.assertTrue(
            any("is synchronised (.tether is in it): pause it" in text for _, _, text in stage.set.check_lines())
        )
        stage.set.synced.setCurrentIndex(2)
        stage.set._say_synced()
        self.work()
        self.assertFalse(any("synchronised (" in text for _, _, text in stage.set.check_lines()))
        stage.set.table.item(3, 2).setText("bell and lamp")
        self.work()
        self.kept("with options")
        kept = self.shell.session.book.keeping.snapshots()[0]  # type: ignore[union-attr]
        self.assertIn("options.cfg", [file.path.name for file in kept.files])
        stage.set.table.item(3, 1).setText("")
        self.work()
        self.assertEqual(stage.set.table.rowCount(), 3)

    def test_the_slip_gives_what_was_seen_to_the_next_save_moment(self) -> None:
        saves = self.harbour()
        self.shell.session.open(saves / "harbour.bwk")
        self.shell.show_stage(GATHER)
        stage = self.shell.gather
        stage.toggle_watch()
        stage.show_note()
        stage.note.another.setText("Marks")
        QTest.keyClick(stage.note.another, Qt.Key.Key_Return)
        (line,) = stage.note.lines.values()
        end = time.monotonic() + 30
        while not stage.watcher.ready and time.monotonic() < end:
            self.settle()
        play(saves, "sell", "wax plug")
        line.setText(str(Harbour(saves).load(1).marks))
        while not stage.moments and time.monotonic() < end:
            self.settle()
            time.sleep(0.02)
        self.assertTrue(stage.moments, "no save moment was seen within 30 s")
        self.assertEqual(stage.moments[0][1], "kept as “save 1”, 1 sighted")
        book = self.shell.session.book
        assert book is not None
        (quantity,) = book.records.quantities(self.save.main.path)
        self.assertEqual(quantity.seen, {book.keeping.snapshots()[0].id: str(Harbour(saves).load(1).marks)})
        self.assertEqual(line.text(), "")
        stage.toggle_watch()
        stage.note.close()


class FluidTest(LookingCase):
    """What goes through all of a large save is done beside the window, never in one of its handlers."""

    MOST = 1 << 20  # bytes of a save of 8 MiB that a handler may look at
    SIZE = 8 << 20

    def looked_at(self, name: str, act: Any) -> None:
        """Bytes the window's own thread reads in a handler and in the events it leads to."""
        read = 0
        window = threading.current_thread()
        plain, pieces, whole = MemorySource.read, MemorySource.chunks, source._read_all

        def count(size: int) -> None:
            nonlocal read
            read += size if threading.current_thread() is window else 0

        def counted_read(self: MemorySource, start: int, end: int) -> memoryview:
            view = plain(self, start, end)
            count(len(view))
            return view

        def counted_chunks(self: MemorySource, start: int, end: int) -> Iterator[memoryview]:
            for view in pieces(self, start, end):
                count(len(view))
                yield view

        def counted_whole(descriptor: int, size: int) -> bytes:
            data = whole(descriptor, size)
            count(len(data))
            return data

        with (
            mock.patch.object(MemorySource, "read", counted_read),
            mock.patch.object(MemorySource, "chunks", counted_chunks),
            mock.patch.object(source, "_read_all", counted_whole),
        ):
            for _ in range(2):
                read = 0
                act()
                self.assertLess(read, self.MOST, name)
                for _ in range(4):
                    self.shell.session.wait()
                    read = 0
                    application().processEvents()
                    self.assertLess(read, self.MOST, name)

    def test_a_packed_tree_is_bound_beside_the_window(self) -> None:
        rng, spent = random.Random(8), 0
        path = self.folder / "tree.sav"
        path.write_bytes(as_tags({f"part{number}": tree(rng) for number in range(400)}))
        self.assertLess(path.stat().st_size, 1 << 16)
        template = self.folder / "tags.yaml"
        template.write_text(TAGS)
        window, spend = threading.current_thread(), Budget.spend

        def counted(budget: Budget, steps: int) -> None:
            nonlocal spent
            spent += steps if threading.current_thread() is window else 0
            spend(budget, steps)

        session = self.shell.session
        with mock.patch.object(Budget, "spend", counted):
            session.open(path, str(template))
            self.settle()
            assert session.save is not None
            whole = sum(file.bound.steps for file in session.save.files.values() if file.bound is not None)
            self.assertGreater(whole, 150_000)
            node = next(each for each in free_values(session.save) if each.spec.name == "number")
            for text in ("5", "6"):
                self.assertTrue(session.enter(node, text))
                self.wait_for_plan()
            self.assertIsNotNone(session.plan)
            self.assertLess(spent, whole / 20)

    def test_opening_can_be_cancelled_and_the_box_answers_while_something_else_is_looked_for(self) -> None:
        self.open_harbour()
        session, before = self.shell.session, self.save
        path = self.folder / "large.dat"
        path.write_bytes(bytes(3 << 20))
        session.open(path)
        session.beside._tick()
        self.assertEqual((self.told(), self.shell.banner.act.text()), ("large.dat is opened… 1 s", "Cancel"))
        QTest.mouseClick(self.shell.banner.act, Qt.MouseButton.LeftButton)
        self.assertEqual((self.told(), session.beside.busy), ("", ""))
        self.work()
        self.assertIs(self.save, before)
        self.assertTrue(session.enter(before.fields("purse.marks")[0], "9"), "the book of the save is still open")
        end = threading.Event()
        self.addCleanup(end.set)
        session.looking.run(end.wait, lambda value, error: None)  # as Locate, Search and Profile do
        self.shell.head.box.setText("marks")
        self.shell.head._look("marks")
        session.background.wait()
        self.draw()
        self.assertTrue(any("purse.marks" in each.text for each in self.shell.head.found))

    def test_profile_and_compare_can_be_stopped_and_begun_again(self) -> None:
        self.open_harbour()
        session = self.shell.session
        session.history.keep("one")
        self.work()
        first = session.kept_copies[0]
        describe, end = self.shell.describe, threading.Event()
        self.addCleanup(end.set)
        for thread in (session.looking, session.background):
            thread.run(end.wait, lambda value, error: None)
        self.shell.show_stage(DESCRIBE)
        describe.show_pane(PROFILE)
        self.assertEqual(describe.profile.summary.text(), "Looking at the bytes…")
        QTest.mouseClick(describe.profile.stop_button, Qt.MouseButton.LeftButton)
        self.shell.show_compare(first, None)
        self.assertEqual(self.shell.compare.summary.text(), "comparing…")
        QTest.mouseClick(self.shell.compare.stop_button, Qt.MouseButton.LeftButton)
        end.set()
        self.work()
        self.assertIn("Stopped", describe.profile.summary.text())
        self.assertIn("Stopped", self.shell.compare.summary.text())
        self.assertIsNone(self.shell.compare.compared)
        self.shell.show_compare(first, None)
        self.shell.show_stage(DESCRIBE)
        describe.show_pane(PROFILE)
        self.work()
        self.assertIn("It is not packed", describe.profile.summary.text())
        self.assertIsNotNone(self.shell.compare.compared)
        for stop in (describe.profile.stop_button, self.shell.compare.stop_button):
            self.assertTrue(stop.isHidden())

    def test_while_a_large_save_is_written_nothing_is_entered_and_a_failure_ends_it(self) -> None:
        path = self.folder / "large.dat"
        path.write_bytes(bytes(3 << 20))
        session = self.shell.session
        session.open(path)
        self.assertFalse(session.type_bytes("file", 5, 6, b"x"), "it is still being opened")
        self.work()
        self.assertTrue(session.type_bytes("file", 5, 6, b"x"))
        self.work()
        postings: list[Any] = []
        session.history.post("", postings.append)
        self.assertFalse(session.type_bytes("file", 9, 10, b"y"))
        session.undo()
        session.withdraw("bytes_5")
        self.assertEqual(session.pending, 1)
        self.assertIn("large.dat is written; wait until that is done", self.told())
        self.work()
        self.assertEqual((path.read_bytes()[5:6], session.pending, len(postings)), (b"x", 0, 1))
        for error, words in (
            (MemoryError(), "wrong in the program itself (MemoryError)"),
            (VaultError("no room"), "no room"),
        ):
            with (
                mock.patch.object(type(session.book.keeping), "keep", side_effect=error),
                mock.patch.object(sys, "excepthook"),
            ):
                session.history.keep("never")
                self.work()
            self.assertEqual(session.beside.busy, "")
            self.assertIn(words, self.told())
        session.history.keep("after all")
        self.work()
        self.assertEqual(session.kept_copies[0].label, "after all")

    def post_a_byte(self) -> None:
        session = self.shell.session
        if session.plan is not None:
            session.history.post("", lambda posting: None)

    def test_no_handler_goes_through_a_large_save(self) -> None:
        data = bytearray(random.Random(3).randbytes(1 << 20) * (self.SIZE >> 20))
        path = self.folder / "large.dat"
        path.write_bytes(data)
        session = self.shell.session
        self.assertTrue(session.open(path))
        self.work()
        session.history.keep("one")
        self.work()
        data[5_000_000:5_000_004] = struct.pack("<I", 81_253)
        path.write_bytes(data)
        session.reopen()
        self.work()
        session.history.keep("two")
        self.work()
        self.shell.show_stage(DESCRIBE)
        stage = self.shell.describe
        self.work()
        for name, act in (
            ("select", lambda: session.select("file", 4_000_000 + random.randrange(99), 4_000_200)),
            ("profile", lambda: stage.show_pane(PROFILE)),
            ("search", lambda: (stage.show_pane(SEARCH), stage.search.line.setText("81253"), stage.search.search())),
            ("lanes", lambda: (stage.lanes.setCurrentIndex(1), stage._show_lanes())),
            ("type a byte", lambda: session.type_bytes("file", 77, 78, bytes([random.randrange(256)]))),
            ("go anywhere", lambda: self.shell.head._look("81253")),
            ("compare", lambda: self.shell.show_compare(*session.kept_copies[1::-1])),
            ("gather", lambda: self.shell.show_stage(GATHER)),
            ("locate", lambda: self.shell.show_stage(LOCATE)),
            ("records", lambda: self.shell.show_stage(HISTORY)),
            ("keep", lambda: session.history.keep("three")),
            ("post", self.post_a_byte),
            ("reverse", lambda: session.history.reverse(session.book.history.postings()[0], anyway=True)),
            ("read again", lambda: (session.save.tape.clear(), session.reopen())),  # type: ignore[union-attr]
            ("open", lambda: session.open(path)),
            ("scroll", lambda: stage.strip.scroll_to(random.randrange(6 << 20))),
        ):
            with self.subTest(name):
                self.looked_at(name, act)
        session.save.tape.clear()  # type: ignore[union-attr]
