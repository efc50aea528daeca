"""Describing in the window: from bytes nobody knows to a save that the game accepts, by mouse and keys."""

from __future__ import annotations

import random
import shutil
import zlib
from pathlib import Path

from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QLineEdit, QPushButton, QWidget

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.desk.stages.describe import COPIES, PROFILE, TEMPLATE
from faithful_ledger.desk.widgets.checksum_list import ChecksumList
from faithful_ledger.desk.widgets.element_form import ElementForm
from faithful_ledger.desk.widgets.new_element import NewElement, SeveralElements
from faithful_ledger.desk.widgets.strip import OFFSETS_WIDTH, ROW_HEIGHT
from faithful_ledger.desk.widgets.strip_rows import CELL_WIDTHS, LETTER_LINE, NUMBER_LINE
from tests.desk.support import DeskCase
from tests.support import play


class DescribeCase(DeskCase):
    def setUp(self) -> None:
        super().setUp()
        self.game = self.harbour()
        self.path = self.folder / "mine" / "mine.sav"  # under a name that no shipped template knows
        self.path.parent.mkdir()
        self.take_in()
        self.assertTrue(self.shell.session.open(self.path))
        self.settle()
        self.press("Ctrl+3")
        self.strip = self.shell.describe.strip

    def take_in(self) -> None:
        shutil.copyfile(self.game / "harbour.bwk", self.path)

    @property
    def main(self) -> str:
        return self.save.main.name

    @property
    def template_text(self) -> str:
        session = self.shell.session
        assert self.save.template is not None
        path = session.shelf.library(session.book).path_of(self.save.template.id)
        assert path is not None
        return path.read_text("utf-8")

    def point(self, offset: int, line: int = 8, within: int = 10) -> QPoint:
        """Where a byte is on the strip, once its row is in sight."""
        row, column = divmod(offset, self.strip.row_width)
        top = self.strip.first_offset // self.strip.row_width
        return QPoint(OFFSETS_WIDTH + column * CELL_WIDTHS["hex"] + within, (row - top) * ROW_HEIGHT + line)

    def drag(self, start: int, end: int) -> None:
        """Select the bytes [start, end) with the mouse."""
        self.strip.scroll_to(start)
        self.settle()
        QTest.mousePress(self.strip.viewport(), Qt.MouseButton.LeftButton, pos=self.point(start))
        QTest.mouseMove(self.strip.viewport(), self.point(end - 1))
        QTest.mouseRelease(self.strip.viewport(), Qt.MouseButton.LeftButton, pos=self.point(end - 1))
        self.settle()
        self.assertEqual(self.strip.selection, (start, end))
        self.shell.session.wait()
        self.settle()

    def form(self, kind: type[QWidget]) -> QWidget:
        found = [each for each in self.shell.margin.findChildren(kind) if each.isVisible()]
        self.assertEqual(len(found), 1, (kind.__name__, self.margin_texts()))
        return found[0]

    def name(self, start: int, end: int, name: str, words: str = "") -> FieldNode:
        """Select bytes, press Ctrl+D, choose a storage, type a name."""
        self.drag(start, end)
        form = self.form(NewElement)
        assert isinstance(form, NewElement)
        if words:
            form.stored.setCurrentIndex(next(n for n, each in enumerate(form.found) if words in each.words))
        QTest.keySequence(self.shell, "Ctrl+D")
        self.assertIs(self.shell.focusWidget(), form.name)
        QTest.keyClicks(form.name, name)
        QTest.keyClick(form.name, Qt.Key.Key_Return)
        self.settle()
        self.assertEqual(self.told(), "")
        node = self.shell.session.selection.node if self.shell.session.selection is not None else None
        assert isinstance(node, FieldNode), (start, end, name)
        return node

    def look_for_checksums(self) -> None:
        sums = self.form(ChecksumList)
        assert isinstance(sums, ChecksumList)
        sums.look_button.click()
        self.wait(lambda: "Seal" in [each.text() for each in sums.findChildren(QPushButton)])

    def press_in_margin(self, text: str) -> None:
        found = [
            each for each in self.shell.margin.findChildren(QPushButton) if each.text() == text and each.isVisible()
        ]
        self.assertTrue(found, text)
        found[0].click()
        self.settle()
        self.shell.session.wait()
        self.settle()


class FromNothingTest(DescribeCase):
    def test_a_crew_is_described_and_the_game_accepts_the_save(self) -> None:
        for number, action in enumerate((["sell", "brass lamp"], ["dive", "Oriel"])):
            self.press("Ctrl+S")
            self.assertEqual(play(self.game, *action).status, 0)
            self.take_in()
            self.press("F5")
            self.assertEqual(len(self.shell.session.kept_copies), number + 1)
        data = self.path.read_bytes()
        crew = data.index(b"CREW")
        tag = self.name(crew, crew + 4, "crew tag")
        self.assertEqual(tag.spec.constant, b"CREW")
        self.assertEqual(self.shell.describe.panes.currentIndex(), TEMPLATE)  # there is one now
        self.name(crew + 4, crew + 8, "crew length")
        self.name(crew + 8, crew + 10, "crew sum")
        self.name(crew + 10, crew + 11, "crew count", "whole number, 1 byte")
        at = begin = crew + 11
        name = self.name(at, at + 1, "name")  # a click is enough: its length is in front
        at = name.end
        self.assertEqual(name.value, "Oriel")
        for text, words, size in (("air", "1 byte", 1), ("vigour", "1 byte", 1), ("injuries", "2 bytes, low", 2),
                                  ("station", "1 byte", 1), ("x", "fraction", 4), ("y", "fraction", 4),
                                  ("depth", "3 bytes, low", 3)):  # fmt: skip
            at = self.name(at, at + size, text, words).end

        self.drag(begin, at)
        several = self.form(SeveralElements)
        assert isinstance(several, SeveralElements)
        self.assertEqual(several.end.currentText(), "as many as crew_count says: 4")
        several.name.setText("crew")
        self.press_in_margin("Repeat as rows")
        rows = self.save.nodes("crew")[0]
        self.assertEqual([self.save.text(node) for node in self.save.fields("crew[*].name")][:2], ["Oriel", "Tamsin"])
        self.drag(begin - 1, rows.end)
        several = self.form(SeveralElements)
        assert isinstance(several, SeveralElements)
        several.name.setText("crew content")
        self.press_in_margin("Group them")

        self.shell.session.select_node(self.save.nodes("crew_length")[0])
        self.settle()
        self.shell.session.wait()
        self.settle()
        form = self.form(ElementForm)
        assert isinstance(form, ElementForm)
        said = [form.links.itemText(number) for number in range(form.links.count())]
        self.assertEqual(said[1], "the length of crew_content · 3 of 3")
        form.links.setCurrentIndex(1)
        form.links.activated.emit(1)
        self.settle()

        for node, span, algorithm in (
            (self.save.nodes("crew_content")[0], None, "sum16"),
            (None, (24, self.save.size), "crc-32"),
        ):
            if node is not None:
                self.shell.session.select_node(node)
            else:
                self.shell.session.select(self.main, *(span or (0, 0)))
            self.settle()
            self.look_for_checksums()
            self.press_in_margin("Seal")
            self.assertEqual(self.told(), "")
            self.assertIn(algorithm, {state.algorithm for state in self.save.seals if state.holds})
        self.assertEqual(len(self.save.seals), 4)
        self.assertTrue(all(state.holds for state in self.save.seals))

        self.shell.describe.show_pane(COPIES)
        self.shell.session.wait()
        self.settle()
        copies = self.shell.describe.copies
        self.assertEqual(copies.summary.text(), "2 of 2 kept copies fit the template")
        assert copies.model is not None
        heads = [str(copies.model.headerData(row, Qt.Orientation.Vertical)) for row in range(copies.model.rowCount())]
        line = heads.index("crew_content.crew[0].air")
        self.assertEqual(len({copies.model.text(line, number) for number in range(3)}), 2)  # the dive took some
        self.click(copies.next)
        self.assertGreater(copies.runs.rowCount(), 1)

        self.shell.session.select_node(self.save.fields("crew_content.crew[0].air")[0])
        self.settle()
        self.type_line("Enter crew_content.crew[0].air", "77")
        self.assertEqual(len(self.slips()), 1)
        self.wait_for_plan()
        self.press("Ctrl+Return")
        self.press("Ctrl+Return")
        self.wait_for_plan()
        self.assertIn("Written, read back and compared", self.told())
        shutil.copyfile(self.path, self.game / "harbour.bwk")
        (self.game / "slots.idx").unlink()
        shown = play(self.game, "show")
        self.assertEqual(shown.status, 0, shown.text)
        self.assertRegex(shown.text, r"Oriel.*77")


class ChangingTest(DescribeCase):
    def setUp(self) -> None:
        super().setUp()
        self.name(8, 12, "body length")
        self.name(20, 24, "times saved")

    def test_names_keys_and_borders_and_all_of_it_undone(self) -> None:
        begun = self.template_text
        outline = self.shell.describe.outline
        outline.setCurrentIndex(outline.outline.index_of(self.save.nodes("times_saved")[0]))
        outline.setFocus()
        QTest.keyClick(outline, Qt.Key.Key_F2)
        editor = outline.findChild(QLineEdit)
        assert editor is not None
        editor.selectAll()
        QTest.keyClicks(editor, "saves")
        QTest.keyClick(editor, Qt.Key.Key_Return)
        self.settle()
        self.assertIn("{field: saves, as: u32, at: 0x14}", self.template_text)
        self.type_line("Label of saves", "Times saved")
        self.type_line("Unit of saves", "times")
        self.type_line("Note of saves", "counts every save")
        self.type_line("Least value of saves", "1")
        self.type_line("Section of saves", "Book keeping")
        spec = self.save.fields("saves")[0].spec
        self.assertEqual((spec.label, spec.unit, spec.note), ("Times saved", "times", "counts every save"))
        self.assertEqual(spec.bounds.least if spec.bounds is not None else None, 1)
        self.assertIn("fields: [saves]", self.template_text)
        self.press_in_margin("Name its values…")
        code = self.save.fields("saves")[0].number
        self.type_line(f"Name of {code}", "often")
        self.assertEqual(self.save.text(self.save.fields("saves")[0]), "often")
        self.drag_bracket_end(24, 22)
        self.assertEqual((self.save.nodes("saves")[0].start, self.save.nodes("saves")[0].end), (20, 22))
        self.assertIn("as: u16", self.template_text)
        steps = []
        while self.shell.session.describing.to_undo and self.template_text != begun:
            steps.append(self.shell.session.describing.to_undo)
            self.press("Ctrl+Alt+Z")
            self.assertEqual(self.told(), f"Undone: {steps[-1]}.")
        changes = ["rename times_saved", "label of saves", "unit of saves", "note of saves", "bounds of saves"]
        changes += ["section of saves", "names of saves", "borders of saves"]
        self.assertEqual((steps[::-1], self.template_text), (changes, begun))
        while self.shell.session.describing.to_redo:
            self.press("Ctrl+Alt+Shift+Z")
        self.assertIn("as: u16", self.template_text)
        self.press("Ctrl+Alt+Z")
        QTest.keyClick(outline, Qt.Key.Key_Delete)
        self.settle()

    def test_how_a_number_is_shown(self) -> None:
        outline = self.shell.describe.outline
        outline.setCurrentIndex(outline.outline.index_of(self.save.nodes("body_length")[0]))
        self.settle()
        stored = self.save.fields("body_length")[0].number
        self.choose_in_margin("How body_length is shown", "in hexadecimal")
        self.assertEqual(self.save.text(self.save.fields("body_length")[0]), f"0x{stored:08X}")
        self.type_line("Scale of body_length", "10")
        self.assertIn("without a scale, can be shown in hexadecimal; the template was not changed", self.told())
        self.choose_in_margin("How body_length is shown", "as a number")
        self.type_line("Scale of body_length", "10")
        self.assertEqual(self.save.fields("body_length")[0].value, stored / 10)
        self.choose_in_margin("How body_length is shown", "as a duration: 1:02:05")
        shown = self.save.text(self.save.fields("body_length")[0])
        self.assertRegex(shown, r"^0:0\d:\d\d(\.\d)?$")

    def choose_in_margin(self, name: str, text: str) -> None:
        boxes = [box for box in self.shell.margin.findChildren(QComboBox) if box.accessibleName() == name]
        box = next(each for each in boxes if each.isVisible())
        box.activated.emit(box.findText(text))
        self.settle()

    def drag_bracket_end(self, end: int, to: int) -> None:
        """Pull the right end of a field's bracket."""
        self.strip.scroll_to(0)
        self.settle()
        line = NUMBER_LINE + LETTER_LINE
        QTest.mouseMove(self.strip.viewport(), self.point(end - 1, line, 21))
        QTest.mousePress(self.strip.viewport(), Qt.MouseButton.LeftButton, pos=self.point(end - 1, line, 21))
        QTest.mouseMove(self.strip.viewport(), self.point(to - 1, line))
        QTest.mouseRelease(self.strip.viewport(), Qt.MouseButton.LeftButton, pos=self.point(to - 1, line))
        self.settle()

    def test_removing_bits_and_mistakes(self) -> None:
        outline = self.shell.describe.outline
        outline.setCurrentIndex(outline.outline.index_of(self.save.nodes("body_length")[0]))
        outline.setFocus()
        QTest.keyClick(outline, Qt.Key.Key_Delete)
        self.settle()
        self.assertNotIn("body_length", self.template_text)
        self.drag(6, 7)
        form = self.form(NewElement)
        assert isinstance(form, NewElement)
        form.stored.setCurrentIndex(next(n for n, each in enumerate(form.found) if each.keys.get("as") == "u8"))
        form.bits.setText("0-1")
        form.name.setText("edition")
        self.press_in_margin("Add to the template")
        self.assertIn("word: u8", self.template_text)
        self.assertEqual(self.save.fields("edition")[0].value, 1)
        before = self.template_text
        self.shell.session.select_node(self.save.nodes("times_saved")[0])
        self.settle()
        self.type_line("Name of the element", "edition")
        self.assertIn("is another element here already", self.told())
        self.assertIn("not changed", self.told())
        self.assertEqual(self.template_text, before)
        path = Path(self.path)
        self.shell.session.enter(self.save.fields("times_saved")[0], "9")
        self.settle()
        self.shell.session.describing.rename(self.save.nodes("times_saved")[0], "saves")
        self.assertIn("without them", self.shell.banner.message.action if self.shell.banner.message else "")
        self.assertEqual(self.template_text, before)
        self.assertTrue(path.exists())


class TemplatesTest(DescribeCase):
    def setUp(self) -> None:
        super().setUp()
        self.name(20, 24, "times saved")
        self.press("Ctrl+S")
        self.shell.show_templates()
        self.settle()
        self.page = self.shell.templates

    def ids(self) -> list[str]:
        return [row[0] for row in self.rows(self.page.table)]

    def choose_template(self, name: str) -> None:
        self.page.table.selectRow(self.ids().index(name))
        self.settle()

    def test_a_save_is_read_without_a_template_until_one_is_chosen(self) -> None:
        session, path = self.shell.session, self.save.main.path
        self.page.use_none()
        self.settle()
        self.assertIsNone(self.save.template)
        self.assertIn("open without a template", self.told())
        session.open(path)
        self.settle()
        self.assertIsNone(self.save.template, "it stays so")
        self.shell.show_templates()
        self.settle()
        self.assertFalse(self.page.without.isVisible())
        self.choose_template("mine-sav")
        self.page.use()
        self.settle()
        assert self.save.template is not None
        self.assertEqual(self.save.template.id, "mine-sav")
        session.open(path)
        self.settle()
        self.assertIsNotNone(self.save.template)

    def test_the_list_and_what_can_be_done_with_one(self) -> None:
        shipped = [
            f"brinewick-{edition}" for edition in ("atlas", "card", "console", "deep", "desktop", "pocket", "quill")
        ]
        self.assertEqual(self.ids(), ["mine-sav", *shipped])
        shown = self.page.current
        assert shown is not None
        self.assertEqual((shown.template.id, shown.origin), ("mine-sav", "book mine"))  # that of the open save
        self.page.test()
        self.wait(lambda: self.page.result.isVisible())
        lines = self.page.result.toPlainText().splitlines()
        self.assertEqual(len(lines), 2)
        self.assertIn("◆ fits; ", lines[0])
        self.assertIn("no witness", lines[0])
        self.choose_template("brinewick-desktop")
        self.page.make_own("my-desktop")
        self.assertIn("my-desktop is yours", self.told())
        self.assertIn("my-desktop", self.ids())
        page, program, shared = (self.folder / name for name in ("sheet.html", "reader.py", "shared.yaml"))
        self.page.write_sheet(str(page))
        self.page.write_reader(str(program))
        self.page.export(str(shared))
        self.assertIn("is written", self.told())
        for path, words in ((page, "Marks"), (program, "def read_all"), (shared, "id: my-desktop")):
            self.assertIn(words.casefold(), path.read_text().casefold())
        self.page.export(str(shared))
        self.assertIn("exists", self.told())
        shared.write_text(shared.read_text().replace("Debt to the quay", "Owed to the quay"))
        self.page.compare(str(shared))
        self.assertIn("label: Owed to the quay → ", self.page.result.toPlainText().replace('"', ""))
        self.page.take_in(str(shared))
        self.assertIn("another revision of my-desktop", self.told())
        message = self.shell.banner.message
        assert message is not None and message.act is not None
        message.act()
        self.settle()
        self.assertIn("the revision before is in", self.told())

    def test_the_save_is_read_with_another_template(self) -> None:
        self.choose_template("brinewick-desktop")
        self.page.use()
        self.settle()
        self.assertEqual(self.save.template.id if self.save.template is not None else "", "brinewick-desktop")
        self.shell.show_templates()
        self.settle()
        QTest.keyClick(self.shell, Qt.Key.Key_Escape)  # the message
        QTest.keyClick(self.shell, Qt.Key.Key_Escape)  # the sheet
        self.settle()
        self.assertIsNot(self.shell.sheet.currentWidget(), self.page)


class LayersTest(DeskCase):
    """What is packed or hidden is declared with a click, described inside, taken out, put back, left off."""

    BODY = b"PURS" + (1386).to_bytes(4, "little") + b"\x05Oriel" + random.Random(4).randbytes(600)

    def open_bytes(self, data: bytes) -> Path:
        path = self.folder / "mine" / "packed.sav"
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(data)
        self.assertTrue(self.shell.session.open(path))
        self.settle()
        self.press("Ctrl+3")
        self.shell.describe.show_pane(PROFILE)
        self.wait(lambda: self.shell.describe.profile.looked is not None)
        return path

    def press_in_profile(self, text: str) -> None:
        def shown() -> list[QPushButton]:
            found = self.shell.describe.profile.findChildren(QPushButton)
            return [each for each in found if each.text() == text and not each.isHidden()]

        self.wait(lambda: bool(shown()))
        shown()[0].click()
        self.settle()
        self.shell.session.wait()
        self.settle()

    def describe_marks(self) -> None:
        """Name the marks within the payload."""
        self.shell.session.select("unpacked", 4, 8)
        self.settle()
        form = next(each for each in self.shell.margin.findChildren(NewElement) if each.isVisible())
        form.name.setText("marks")
        form.add.click()
        self.settle()

    def test_a_packed_payload(self) -> None:
        path = self.open_bytes(b"HEADER01" + zlib.compress(self.BODY))
        self.press_in_profile("declare it")
        self.assertEqual(self.told(), "")
        self.assertIn("unpacked", self.save.files)
        self.describe_marks()
        self.assertEqual(self.save.text(self.save.fields("unpacked.marks")[0]), "1386")
        self.shell.session.enter(self.save.fields("unpacked.marks")[0], "5200")
        self.wait_for_plan()
        self.press("Ctrl+Return")
        self.press("Ctrl+Return")
        self.wait_for_plan()
        self.assertEqual(zlib.decompress(path.read_bytes()[8:])[4:8], (5200).to_bytes(4, "little"))
        self.press("Ctrl+3")
        profile = self.shell.describe.profile
        self.shell.describe.show_file("save")
        out = self.folder / "payload.bin"
        profile.save_payload("unpacked", str(out))
        self.assertIn("bytes of unpacked are in", self.told())
        out.write_bytes(out.read_bytes().replace(b"Oriel", b"Brock"))
        profile.put_back("unpacked", str(out))
        self.settle()
        self.assertEqual(self.shell.session.pending, 1)
        self.shell.session.undo()
        self.settle()
        self.shell.describe.show_pane(PROFILE)
        self.wait(lambda: profile.looked is not None)
        self.press_in_profile("leave it off when posting")
        self.shell.describe.show_file("save")
        self.wait(lambda: profile.looked is not None)
        self.press_in_profile("put it back when posting")
        self.assertEqual(self.told(), "")

    def test_a_cipher_by_hand(self) -> None:
        from faithful_ledger.core.layers.ciphers import Cipher

        key = bytes(range(16))
        hidden = Cipher("aes-cbc", key, None).closed(self.BODY, bytes(16))
        self.open_bytes(hidden)
        form = self.shell.describe.profile.by_hand
        form.kind.setCurrentText("aes-cbc")
        form.key.setText("00" * 16)
        form.undo_it()
        self.settle()
        self.assertIn("PKCS #7", self.told())
        form.key.setText(key.hex(" "))
        form.undo_it()
        self.settle()
        self.assertIn("aes-cbc, by hand", self.shell.describe.files.currentText())
        self.shell.describe.show_file(self.save.main.name)
        self.wait(lambda: self.shell.describe.profile.looked is not None)
        self.press_in_profile("declare it")
        self.assertEqual(self.save.files["inside"].source.size, len(self.BODY))

    def test_a_password_of_which_nobody_knows_how_it_is_used(self) -> None:
        """Every usual way is tried; what opens is declared, and what is in it is edited and hidden again."""
        from faithful_ledger.core.layers.ciphers import Cipher, Derived

        vector = bytes(range(50, 66))
        cipher = Cipher(
            "aes-cbc", b"slack water", how=Derived("pbkdf2", rounds=100, hash="sha-1", size=16, salt_from="iv")
        )
        packed = zlib.compress(b'{"marks": 5210, "name": "Oriel & Sons"}' + b" " * 300)
        self.open_bytes(cipher.closed(packed, vector))
        form = self.shell.describe.profile.by_hand
        self.assertEqual(form.kind.currentText(), "whatever a key opens")
        form.key.setText("high water")
        form.undo_it()
        self.wait(form.act.isEnabled)
        self.assertIn("opens nothing here in a way that is known; nothing was changed", self.told())
        form.key.setText("slack water")
        form.undo_it()
        self.wait(lambda: form.act.isEnabled() and "zlib" in self.shell.describe.files.currentText())
        self.shell.describe.show_file(self.save.main.name)
        self.wait(lambda: self.shell.describe.profile.looked is not None)
        self.press_in_profile("declare it")
        self.assertEqual([file.problem for file in self.save.files.values()], [None] * len(self.save.files))
        (inside,) = [file for file in self.save.files.values() if file.source.size > 300]
        self.assertEqual(bytes(inside.source.read(0, 9)), b'{"marks":')

    def test_a_broken_stream_shows_what_came_out(self) -> None:
        packed = zlib.compress(b"lamp oil, kept for Tamsin; " * 400 + bytes(range(256)) * 20)
        self.open_bytes(b"HEADER01" + packed[: len(packed) - 60])
        self.press_in_profile("show what came out")
        shown = self.shell.session.sources.payloads
        (data,) = [bytes(each.read(0, each.size)) for each in shown.values()]
        self.assertTrue(data.startswith(b"lamp oil, kept for Tamsin; " * 300))


class SlotByHandTest(DescribeCase):
    def take_in(self) -> None:
        self.path = self.path.with_name("mine-1.sav")
        shutil.copyfile(self.game / "harbour.bwk", self.path)

    def test_what_the_name_says_is_told_by_hand_and_the_save_goes_into_another_slot(self) -> None:
        self.name(7, 8, "slot")
        box = next(
            each
            for each in self.shell.margin.findChildren(QComboBox)
            if each.accessibleName() == "Name that says slot" and each.isVisible()
        )
        self.assertEqual([box.itemText(n) for n in range(box.count())], ["no name says it", "the file: mine-{}.sav"])
        box.setCurrentIndex(1)
        box.activated.emit(1)
        self.settle()
        self.assertEqual(self.told(), "")
        self.assertIn('{named: slot, pattern: "mine-{}.sav"}', self.template_text)
        self.shell.session.describing.undo()
        self.settle()
        self.assertNotIn("named", self.template_text)
        self.shell.session.describing.redo()
        self.settle()
        self.press("Ctrl+5")
        pane = self.shell.carry.slots
        self.wait(lambda: pane.plan.carry is not None)
        self.assertEqual(pane.to.text(), "slot 2, which is free")
        pane.write()
        self.wait(lambda: self.path.with_name("mine-2.sav").exists())
        before, after = self.path.read_bytes(), self.path.with_name("mine-2.sav").read_bytes()
        self.assertEqual(after, before[:7] + b"\x02" + before[8:])
