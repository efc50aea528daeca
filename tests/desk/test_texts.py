"""Text saves without a template in the real window: read, filtered, typed over, posted, described."""

from __future__ import annotations

import json

from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QLineEdit

from faithful_ledger.desk.shell import DESCRIBE, EDIT, HISTORY
from faithful_ledger.desk.stages.describe import BYTES_VIEW, TEMPLATE, TEXT_VIEW, VALUES
from faithful_ledger.desk.widgets.values import PATH, VALUE, ValuesPane
from tests.core import test_trees
from tests.desk.support import DeskCase

SAVE = {
    "company": "Oriel & Søn",
    "purse": {"marks": 1340, "open": True, "debt": None},
    "crew": [{"name": name, "air": 90 + number} for number, name in enumerate(("Tamsin", "Brock", "Ives"))],
    "journal": json.dumps({"read": 39}),
}


class TextWindowTest(DeskCase):
    def setUp(self) -> None:
        super().setUp()
        self.path = self.folder / "voyage.json"
        self.path.write_text(json.dumps(SAVE, indent=1, ensure_ascii=False), "utf-8")
        self.assertTrue(self.shell.session.open(self.path))
        self.settle()

    def typed(self, pane: ValuesPane, path: str, text: str) -> None:
        """Type over a value where it stands, as a person would."""
        assert pane.model is not None
        row = next(n for n in range(pane.model.rowCount()) if pane.model.index(n, PATH).data() == path)
        pane.table.setCurrentIndex(pane.model.index(row, VALUE))
        QTest.keyClick(pane.table, Qt.Key.Key_Return)
        editor = pane.table.viewport().findChild(QLineEdit)
        assert editor is not None
        editor.selectAll()
        QTest.keyClicks(editor, text)
        QTest.keyClick(editor, Qt.Key.Key_Return)
        self.settle()

    def test_a_value_is_found_by_the_filter_typed_over_and_posted(self) -> None:
        self.assertEqual(self.shell.stage, EDIT)
        self.assertIn("every value of this text (json) has its path", self.told())
        pane = self.shell.edit.values
        assert pane is not None and pane.model is not None
        self.assertEqual(pane.count.text(), "12 values")
        QTest.keyClicks(pane.line, "crew air")
        self.assertEqual([pane.model.index(n, PATH).data() for n in range(3)], [f"crew[{n}].air" for n in range(3)])
        self.assertEqual(pane.count.text(), "3 of 12 values")
        self.typed(pane, "crew[1].air", "12")
        pane.line.clear()
        self.typed(pane, "purse.marks", "5200")
        self.typed(pane, "purse.open", "off")
        self.typed(pane, "journal(text).read", "40")
        self.typed(pane, "crew[0].air", "much")
        self.assertIn("is not a number", self.told())
        self.assertEqual(self.shell.session.pending, 4)
        self.shell.show_posting()
        self.settle()
        self.shell.posting.write_button.click()
        self.settle()
        self.assertEqual(self.shell.stage, HISTORY)
        now = json.loads(self.path.read_text("utf-8"))
        self.assertEqual((now["purse"]["marks"], now["purse"]["open"], now["crew"][1]["air"]), (5200, False, 12))
        self.assertEqual(json.loads(now["journal"]), {"read": 40})

    def test_values_of_a_binary_tree_are_listed_where_no_section_names_them(self) -> None:
        path, template = self.folder / "slot.sav", self.folder / "properties.yaml"
        value = {"Marks": 1340, "Hold": {"Lamp": {"Count": 3, "Label": "brass"}, "Rope": 2.5}, "Log": [{"Day": 7}]}
        path.write_bytes(test_trees.as_properties(value))
        template.write_text(test_trees.PROPERTIES, "utf-8")
        self.assertTrue(self.shell.session.open(path, str(template)))
        self.shell.show_stage(EDIT)
        self.settle()
        pane = self.shell.edit.values
        assert pane is not None and pane.model is not None
        shown = [pane.model.index(n, PATH).data() for n in range(pane.model.rowCount())]
        self.assertIn("members[name=Log].list.items[0].members[name=Day].number", shown)
        self.assertFalse([each for each in shown if each.endswith((".name", ".type", ".size", ".count"))])
        self.typed(pane, "members[name=Hold].members[name=Lamp].members[name=Label].text", "Örtlin & Co")
        self.typed(pane, "members[name=Hold].members[name=Lamp].members[name=Count].number", "12")
        self.shell.show_posting()
        self.settle()
        self.shell.posting.write_button.click()
        self.settle()
        value["Hold"]["Lamp"] = {"Count": 12, "Label": "Örtlin & Co"}  # type: ignore[index]
        self.assertEqual(test_trees.of_properties(path.read_bytes()), value)

    def test_text_and_values_are_selected_together(self) -> None:
        self.shell.show_stage(DESCRIBE)
        self.settle()
        stage = self.shell.describe
        self.assertEqual((stage.panes.currentIndex(), stage.view), (VALUES, TEXT_VIEW))
        self.assertTrue(stage.text.isVisible() and not stage.strip.isVisible())
        node = self.shell.session.save.fields("crew[1].air")[0]  # type: ignore[union-attr]
        self.shell.session.select_node(node)
        self.settle()
        self.assertEqual(stage.text.selected_text, "91")
        model = stage.values.model
        assert model is not None
        self.assertEqual(model.row_field(stage.values.table.currentIndex().row()).path, "crew[1].air")
        other = self.shell.session.save.fields("purse.marks")[0]  # type: ignore[union-attr]
        row = stage.text.row_of(other.start) - stage.text.verticalScrollBar().value()
        found = next(
            x
            for x in range(60, 600, 2)
            if other.start <= stage.text.offset_at(x, row * stage.text.row_height) < other.end
        )
        QTest.mouseClick(
            stage.text.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(found, row * stage.text.row_height + 3)
        )
        self.settle()
        self.assertIn("purse.marks", self.margin_texts())
        self.assertFalse(any("These bytes read as" in text for text in self.margin_texts()))
        stage.show_view(BYTES_VIEW)
        self.assertTrue(stage.strip.isVisible() and not stage.text.isVisible())

    def test_a_value_becomes_a_field_of_a_template(self) -> None:
        session = self.shell.session
        session.select_node(session.save.fields("purse.marks")[0])  # type: ignore[union-attr]
        self.settle()
        self.type_line("Name for purse.marks", "Marks")
        assert session.save is not None and session.save.template is not None
        self.assertEqual(session.save.fields("marks")[0].value, 1340)
        self.assertEqual(session.save.fields("crew[2].name")[0].value, "Ives", "what no template names has its path")
        self.shell.show_stage(DESCRIBE)
        self.settle()
        self.assertTrue(self.shell.describe.tabs[TEMPLATE].isVisible())

    def test_another_format_can_be_chosen_and_is_remembered(self) -> None:
        path = self.folder / "notes.txt"
        path.write_text("the tide is out\nnobody dives\nmarks 1340\n")
        session = self.shell.session
        self.assertTrue(session.open(path))
        self.settle()
        self.shell.show_stage(DESCRIBE)
        self.settle()
        formats = self.shell.describe.formats
        self.assertTrue(formats.isVisible())
        for name, expected in (("lines", None), ("indented", "marks"), ("json", None), ("Format: as found", None)):
            formats.setCurrentText(name)
            formats.activated.emit(formats.currentIndex())
            self.settle()
            assert session.save is not None
            self.assertEqual(formats.currentText(), name)
            if expected is not None:
                self.assertEqual(session.save.fields(expected)[0].value, 1340)
                session.reopen()
                self.settle()
                self.assertEqual(formats.currentText(), name)
            elif name == "json":
                self.assertIn("is expected", self.told())

    def test_a_broken_text_says_what_is_wrong_and_shows_its_bytes(self) -> None:
        path = self.folder / "broken.json"
        path.write_text('{"marks": 1340')
        self.assertTrue(self.shell.session.open(path))
        self.settle()
        self.assertEqual(self.shell.stage, DESCRIBE)
        self.assertIn("a comma or } is expected, and the text ends", self.told())
        self.assertTrue(self.shell.describe.strip.isVisible())


class DescribedTextTest(DeskCase):
    def test_a_value_that_the_template_does_not_have_yet_is_picked_in_the_text_and_kept(self) -> None:
        path = self.harbour() / "harbour.bwk"
        self.assertTrue(self.shell.session.open(path))
        self.settle()
        self.press("Ctrl+3")
        describe = self.shell.describe
        describe.files.setCurrentIndex(describe.files.findText("account.json"))
        describe.files.activated.emit(describe.files.currentIndex())
        self.settle()
        text = path.with_name("account.json").read_text("utf-8")
        describe.text.picked.emit(text.index("style") + 8, text.index("style") + 9)
        self.settle()
        self.type_line("Name for account.style", "Style of the file")
        node = self.save.fields("account.style_of_the_file")[0]
        self.assertEqual((node.value, node.spec.label), (2, "Style of the file"))
        self.assertIs(self.shell.session.selection.node if self.shell.session.selection else None, node)
        describe.text.picked.emit(node.start, node.end)
        self.settle()
        self.assertFalse([w for w in self.shell.margin.findChildren(QLineEdit) if w.accessibleName()[:8] == "Name for"])


class TextSlotTest(DeskCase):
    def test_a_text_save_is_described_by_hand_and_goes_into_another_slot(self) -> None:
        path = self.folder / "game" / "save02.json"
        path.parent.mkdir()
        path.write_text('{"slot": 2, "who": "Oriel", "coins": 7}\n', "utf-8")
        session = self.shell.session
        self.assertTrue(session.open(path))
        self.settle()
        for name, said in (("slot", "Slot"), ("coins", "Coins")):
            session.select_node(self.save.fields(name)[0])
            self.settle()
            self.type_line(f"Name for {name}", said)
        self.press("Ctrl+3")
        session.select_node(self.save.fields("coins")[0])
        self.settle()
        self.type_line("Unit of coins", "ducats")
        self.type_line("Most of coins", "99")
        spec = self.save.fields("coins")[0].spec
        self.assertEqual((spec.unit, spec.bounds.most if spec.bounds else None), ("ducats", 99))
        session.select_node(self.save.fields("slot")[0])
        self.settle()
        boxes = self.shell.margin.findChildren(QComboBox)
        box = next(each for each in boxes if each.accessibleName() == "Name that says slot" and each.isVisible())
        self.assertEqual(box.itemText(1), "the file: save{}.json")
        box.setCurrentIndex(1)
        box.activated.emit(1)
        self.settle()
        self.assertEqual(self.told(), "")
        self.press("Ctrl+5")
        pane = self.shell.carry.slots
        self.wait(lambda: pane.plan.carry is not None)
        self.assertEqual(pane.to.text(), "slot 03, which is free")
        pane.write()
        other = path.with_name("save03.json")
        self.wait(other.exists)
        self.assertEqual(other.read_text("utf-8"), '{"slot": 3, "who": "Oriel", "coins": 7}\n')
