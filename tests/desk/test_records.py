"""Records in the window: added, copied, removed, sorted; several cells at once; to and from a spreadsheet."""

from __future__ import annotations

from PySide6.QtCore import QItemSelectionModel, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest

from brinewick.harbour import Harbour
from faithful_ledger.desk.shell import EDIT
from faithful_ledger.desk.widgets.field_models import RecordsModel
from faithful_ledger.desk.widgets.field_table import FieldTable
from tests.desk.support import DeskCase
from tests.support import play

ITEM, COUNT, WEAR = range(3)
FLEET = """ledger: 1
id: fleet
title: A fleet
files:
  save:
    name: "*.fleet"
    layout:
      - {field: many, as: u8, count_of: boats}
      - rows: boats
        count: many
        layout:
          - {field: name, as: text, length: u8}
          - {field: divers, as: u8, count_of: crew}
          - rows: crew
            count: divers
            layout:
              - {field: name, as: text, length: u8}
              - {field: things, as: u8, count_of: pack}
              - {rows: pack, count: things, layout: [{field: item, as: u8}, {field: weight, as: u8}]}
sections:
  - {title: Boats, table: boats, columns: [name]}
"""


class RecordsTest(DeskCase):
    def setUp(self) -> None:
        super().setUp()
        self.open_harbour()
        self.press("Ctrl+4")
        self.settle()
        self.hold = self.table("Hold")

    def shown(self, column: int, table: FieldTable | None = None) -> list[str]:
        model = (table or self.hold).fields
        return [str(model.index(row, column).data()) for row in range(model.rowCount())]

    def choose_cells(self, *cells: tuple[int, int]) -> None:
        model, select = self.hold.fields, QItemSelectionModel.SelectionFlag.Select
        self.hold.setCurrentIndex(model.index(*cells[0]))
        for cell in cells:
            self.hold.selectionModel().select(model.index(*cell), select)

    def key(self, key: Qt.Key, held: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        QTest.keyClick(self.hold, key, held)
        self.settle()

    def post(self) -> None:
        self.wait_for_plan()
        self.press("Ctrl+Return")
        self.settle()
        self.click(self.shell.posting.write_button)
        self.settle()

    def test_records_come_in_and_go_and_the_game_takes_them(self) -> None:
        before = self.shown(ITEM)
        self.choose_cells((2, COUNT))
        self.key(Qt.Key.Key_Insert, Qt.KeyboardModifier.AltModifier)
        self.assertEqual(self.shown(ITEM), [*before[:3], before[2], *before[3:]])
        self.assertEqual(self.hold.currentIndex().row(), 3, "the new one is current")
        self.type_into(self.hold, 3, COUNT, "7")
        self.settle()
        self.assertEqual(self.shown(COUNT)[3], "7")
        self.choose_cells((0, ITEM), (1, COUNT))
        self.key(Qt.Key.Key_Delete, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(self.shown(ITEM), [before[2], before[2], *before[3:]])
        self.assertEqual([entry.path for entry in self.save.tape], ["hold"])
        self.assertEqual(len(self.slips()), 1)
        self.press("Ctrl+Z")
        self.assertEqual(len(self.shown(ITEM)), len(before) + 1)
        self.press("Ctrl+Shift+Z")
        self.post()
        self.assertEqual(play(self.save.path.parent, "show").status, 0)
        lots = Harbour(self.save.path.parent).load(1).hold
        self.assertEqual((len(lots), lots[1].count), (len(before) - 1, 7))

    def test_a_new_record_and_all_undone_again(self) -> None:
        before = self.shown(ITEM)
        self.choose_cells((1, ITEM))
        self.key(Qt.Key.Key_Insert)
        self.assertEqual((len(self.shown(ITEM)), self.shown(COUNT)[2]), (len(before) + 1, "0"))
        self.press("Ctrl+Z")
        self.settle()
        self.assertEqual(self.shown(ITEM), before)
        self.assertEqual(len(self.save.tape), 0)

    def test_one_value_for_all_selected_cells(self) -> None:
        self.choose_cells((1, WEAR), (3, WEAR), (4, WEAR), (4, COUNT))
        QTest.keyClicks(self.hold, "9")
        editor = self.hold.focusWidget() or self.hold
        QTest.keyClick(QGuiApplication.focusObject() or editor, Qt.Key.Key_Return)  # type: ignore[call-overload]
        self.settle()
        self.assertEqual([self.shown(WEAR)[row] for row in (1, 3, 4)], ["9", "9", "9"])
        self.assertEqual(len(self.save.tape), 3)
        self.press("Ctrl+Z")
        self.assertEqual(len(self.save.tape), 0, "one step")

    def test_copied_to_a_spreadsheet_and_pasted_from_one(self) -> None:
        self.choose_cells((0, ITEM), (0, COUNT), (1, ITEM), (1, COUNT))
        self.key(Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
        items, counts = self.shown(ITEM), self.shown(COUNT)
        copied = QGuiApplication.clipboard().text()
        self.assertEqual(copied, f"{items[0]}\t{counts[0]}\n{items[1]}\t{counts[1]}")
        QGuiApplication.clipboard().setText("oyster knife\t4\r\nbell weight\t5\r\n")
        self.choose_cells((2, ITEM))
        self.key(Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual((self.shown(ITEM)[2:4], self.shown(COUNT)[2:4]), (["oyster knife", "bell weight"], ["4", "5"]))
        taken = len(self.save.tape)
        QGuiApplication.clipboard().setText("8\nlots\n")
        self.choose_cells((5, COUNT))
        self.key(Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
        self.assertIn("none of the 2 values was entered", self.told())
        self.assertEqual(len(self.save.tape), taken)

    def test_sorted_by_a_header_and_filtered(self) -> None:
        header = self.hold.horizontalHeader()
        before = self.shown(COUNT)
        for expected in (sorted(before, key=int), sorted(before, key=int, reverse=True), before):
            header.sectionClicked.emit(COUNT)
            self.assertEqual(self.shown(COUNT), expected)
        header.sectionClicked.emit(ITEM)
        self.assertEqual(self.shown(ITEM), sorted(self.shown(ITEM), key=str.casefold))
        model = self.hold.fields
        assert isinstance(model, RecordsModel)
        number = model.record(0)
        self.choose_cells((0, COUNT))
        self.key(Qt.Key.Key_Delete, Qt.KeyboardModifier.ControlModifier)
        left = [each for n, each in enumerate(before) if n != number]
        self.assertEqual(sorted(self.shown(COUNT)), sorted(left), "sorted by its items still")
        header.sectionClicked.emit(ITEM)
        header.sectionClicked.emit(ITEM)
        self.assertEqual(self.shown(COUNT), left)


class ListsInListsTest(DeskCase):
    """Boats with a crew, of which each has a pack: below the boats, what is in the current one."""

    def open_fleet(self, first: bytes = b"Wherry") -> None:
        def listed(items: list[bytes]) -> bytes:
            return bytes([len(items)]) + b"".join(items)

        def named(name: bytes, items: list[bytes]) -> bytes:
            return bytes([len(name)]) + name + listed(items)

        packs = [[bytes([number, 7]) for number in range(many)] for many in range(1, 5)]
        eel = named(b"Eel", [named(b"Ives", packs[0]), named(b"Wren", packs[1])])
        path, template = self.folder / "a.fleet", self.folder / "fleet.yaml"
        path.write_bytes(listed([eel, named(first, [named(b"Bram", packs[2]), named(b"Maud", packs[3])])]))
        template.write_text(FLEET)
        self.shell.session.open(path, str(template))
        self.settle()
        self.shell.show_stage(EDIT)
        self.settle()

    def go(self, title: str, row: int, column: int = 0) -> None:
        table = self.table(title)
        table.setCurrentIndex(table.fields.index(row, column))
        self.settle()

    def test_lists_in_lists_follow_the_record_that_is_current(self) -> None:
        self.open_fleet()
        self.assertEqual(list(self.shell.edit.tables), ["Boats", "Crew of Eel", "Pack of Ives"])
        self.go("Crew of Eel", 1)
        self.assertEqual(list(self.shell.edit.tables), ["Boats", "Crew of Eel", "Pack of Wren"])
        self.go("Boats", 1)
        self.assertEqual(list(self.shell.edit.tables), ["Boats", "Crew of Wherry", "Pack of Bram"])
        self.go("Crew of Wherry", 1)
        self.type_into(self.table("Pack of Maud"), 2, 1, "9")
        self.go("Crew of Wherry", 0)
        self.go("Pack of Bram", 1)
        QTest.keyClick(self.table("Pack of Bram"), Qt.Key.Key_Delete, Qt.KeyboardModifier.ControlModifier)
        self.settle()
        self.assertEqual(self.table("Pack of Bram").fields.rowCount(), 2)
        self.assertEqual(
            [entry.path for entry in self.save.tape], ["boats[1].crew[1].pack[2].weight", "boats[1].crew[0].pack"]
        )
        self.press("Ctrl+Z")
        self.assertEqual(self.table("Pack of Bram").fields.rowCount(), 3)

    def test_a_record_whose_name_is_broken_goes_by_its_number(self) -> None:
        self.open_fleet(first=b"W\xffrry\xfe")
        self.go("Boats", 1)
        self.assertEqual(list(self.shell.edit.tables), ["Boats", "Crew of record 1", "Pack of Bram"])
