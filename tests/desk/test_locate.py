"""The stage Locate: a newcomer's save nobody has described, from sightings to a value that is edited and accepted."""

from __future__ import annotations

import json
import random
import re
import struct
import zlib
from collections.abc import Callable, Iterable
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLabel, QPushButton

from brinewick.harbour import Harbour
from faithful_ledger.core.layers.generators import Generator
from faithful_ledger.core.layers.scrambling import Scrambling, scramble, unscramble
from faithful_ledger.core.template import load_template
from faithful_ledger.demo.hands import type_into
from faithful_ledger.desk.shell import CARRY, DESCRIBE, EDIT, GATHER, HISTORY, LOCATE
from faithful_ledger.desk.stages.carry import VALUES
from faithful_ledger.desk.stages.describe import SEALS
from tests.cli import test_another_player as others
from tests.cli.test_accepting import company, table_read, table_write
from tests.cli.test_from_sightings import mirrored_read, mirrored_write, voyage
from tests.cli.test_records_by_key import bag_of, lists_of
from tests.core.test_seal_search import TEXTS
from tests.desk.support import DeskCase
from tests.support import dice, play

MOMENTS = (
    ([["start", "Oriel & Sons"]], "start"),
    ([["sell", "brass lamp", "2"]], "sold lamps"),
    ([["dive", "Tamsin"]], "dived once"),
    ([["rename", "Oriel", "Oriel the Elder"], ["buy", "air hose"]], "bought a hose"),
    ([["rename", "Brock", "Brockwell"], ["sell", "oyster knife"], ["heal", "Tamsin"]], "healed"),
)


class LocateTest(DeskCase):
    def setUp(self) -> None:
        super().setUp()
        self.game = self.folder / "game"
        self.voyage = self.folder / "voyage.dat"
        self.shown: list[dict[str, str]] = []

    def play_and_keep(self, moments: int = len(MOMENTS)) -> None:
        """Play, and keep a copy at each moment, as a player does who knows nothing of the format."""
        for actions, label in MOMENTS[:moments]:
            for action in actions:
                self.assertEqual(play(self.game, *action).status, 0)
            self.voyage.write_bytes((self.game / "harbour.bwk").read_bytes())
            if self.shell.session.save is None:
                self.shell.session.open(self.voyage)
            self.shell.session.history.keep(label)
            company = Harbour(self.game).load(1)
            self.shown.append(
                {"Marks": str(company.marks), "Air": str(company.crew[1].air), "Name": company.crew[2].name}
            )
        self.shell.session.reopen()
        self.press("Ctrl+2")
        self.assertEqual(self.shell.stage, LOCATE)

    def work(self) -> None:
        self.shell.session.wait()
        self.settle()

    def keep_each(self, path: Path, states: Iterable[bytes]) -> None:
        """The game writes one state after the other, and each is read and kept by keys."""
        for number, state in enumerate(states):
            path.write_bytes(state)
            if number == 0:
                self.shell.session.open(path)
            else:
                self.press("F5")
            self.work()
            self.press("Ctrl+S")
            self.work()

    def name(self, name: str) -> int:
        stage = self.shell.locate
        row = len(stage.quantities)
        stage.sheet.item(row, 0).setText(name)
        self.work()
        return row

    def sight(self, row: int, values: list[str]) -> None:
        for place, value in enumerate(values, 1):
            self.shell.locate.sheet.item(row, place).setText(value)
        self.work()
        self.shell.locate.sheet.setCurrentCell(row, 1)
        self.work()

    def standing(self, row: int) -> str:
        sheet = self.shell.locate.sheet
        return sheet.item(row, sheet.columnCount() - 1).text()

    def sheet_texts(self) -> str:
        return "\n".join(label.text() for label in self.shell.edit.findChildren(QLabel))

    def margin(self) -> str:
        return "\n".join(label.text() for label in self.shell.margin.findChildren(QLabel) if not label.isHidden())

    def test_a_text_in_front_is_described_with_what_is_pinned_and_goes_with_it(self) -> None:
        """What is kept of one save shows that its length is in front of it."""
        turn, shown = random.Random(5), [4071, 5210, 6602]
        path = self.folder / "quay.sav"
        front = b"\1\0\7\0\x0cOriel & Sons"
        self.keep_each(path, [front + marks.to_bytes(4, "little") + turn.randbytes(90) for marks in shown])
        self.shell.show_stage(LOCATE)
        self.sight(self.name("Marks"), list(map(str, shown)))
        self.shell.locate.sheet.setCurrentCell(0, 1)
        self.work()
        self.click(next(b for b in self.shell.margin.findChildren(QPushButton) if b.text().startswith("Pin it")))
        self.work()
        values = [self.save.fields(name)[0].value for name in ("text_4", "marks")]
        self.assertEqual(values, ["Oriel & Sons", shown[-1]])
        (template,) = (self.shell.session.book.folder / "templates").glob("*.yaml")  # type: ignore[union-attr]
        self.click(next(b for b in self.shell.margin.findChildren(QPushButton) if b.text() == "Take the pin back"))
        self.work()
        self.assertEqual(list(template.parent.iterdir()), [])

    def test_a_save_of_another_version_is_read_with_a_warning_until_the_game_takes_a_posting_there(self) -> None:
        turn, shown = random.Random(5), [4071, 5210, 6602]
        path = self.folder / "quay.sav"
        states = [b"QUAY\3\0\0\0" + turn.randbytes(4) + marks.to_bytes(4, "little") + bytes(40) for marks in shown]
        self.keep_each(path, states)
        self.shell.show_stage(LOCATE)
        self.sight(self.name("Marks"), list(map(str, shown)))
        self.click(next(b for b in self.shell.margin.findChildren(QPushButton) if b.text().startswith("Pin it")))
        self.work()
        self.shell.show_stage(EDIT)
        warning = "4 at 0x4 (4), where the saves it was described from have 3; if this is another version"
        self.assertNotIn("another version", self.sheet_texts())
        later = self.folder / "later.sav"
        later.write_bytes(states[0].replace(b"QUAY\3", b"QUAY\4"))
        self.shell.show_stage(CARRY)
        self.shell.carry.show_pane(VALUES)
        self.shell.carry.values.choose_file(str(later))
        self.work()
        said = self.shell.carry.values.words.text()
        self.assertIn("later.sav: 1 value differs, 0 are the same", said)
        self.assertIn(f"◇ later.sav: {warning}", said)
        self.shell.show_stage(EDIT)
        path.write_bytes(states[-1].replace(b"QUAY\3", b"QUAY\4"))
        self.press("F5")
        self.work()
        self.assertIn(warning, self.sheet_texts())
        self.type_into(self.table("Pinned"), 0, 2, "5200")
        self.work()
        self.assertIn(warning, self.told())
        self.press("Ctrl+Return")
        self.click(self.shell.posting.write_button)
        self.work()
        self.assertEqual(path.read_bytes()[12:16], (5200).to_bytes(4, "little"))
        self.shell.show_stage(HISTORY)
        self.work()
        self.click(next(b for b in self.shell.history.findChildren(QPushButton) if b.text() == "accepted"))
        self.work()
        self.assertIn("proven from now on: marks", self.told())
        self.shell.show_stage(EDIT)
        self.work()
        self.assertNotIn("another version", self.sheet_texts())

    def bag(self, name: str, written: Callable[[random.Random, dict[int, int]], bytes]) -> list[str]:
        """How two things are pinned that a player carries, and sorts between four saves."""
        turn, path = random.Random(8), self.folder / name
        held = {number: turn.randrange(1, 40) for number in turn.sample(range(100, 250), 20)} | {77: 0, 78: 0}
        saves, seen = [], []
        for marks in (41, 41, 733, 719):
            held |= {77: marks, 78: marks + 1000, turn.choice(list(held)[:20]): 41}
            saves.append(written(turn, held))
            seen.append((marks, marks + 1000))
        self.keep_each(path, saves)
        self.shell.show_stage(LOCATE)
        for thing, numbers in zip(("Ropes", "Lamps"), zip(*seen, strict=True), strict=True):
            self.sight(self.name(thing), list(map(str, numbers)))
            self.assertEqual(self.shell.locate.places.currentRow(), 0, "the likeliest, whichever was found first")
            buttons = [b for b in self.shell.margin.findChildren(QPushButton) if b.isVisibleTo(self.shell)]
            self.click(next(b for b in buttons if b.text().startswith("Pin it")))
            self.work()
        self.shell.show_stage(EDIT)
        self.work()
        return [quantity.pinned for quantity in self.shell.locate.quantities]

    def test_what_is_sorted_is_pinned_by_what_it_is_in_records_and_in_two_lists(self) -> None:
        pinned = self.bag("lists.sav", lists_of)
        self.assertEqual(pinned, ["list_4b[ids_7=77].ropes", "list_4b[ids_7=78].ropes"])
        (table,) = self.shell.edit.singles
        shown = [[table.model().index(row, column).data() for column in (0, 1)] for row in (0, 1)]
        self.assertEqual(shown, [["Ropes · 77", "719"], ["Ropes · 78", "1719"]])

    def test_a_second_thing_in_the_same_records_is_pinned_by_what_it_is_as_well(self) -> None:
        for path, item in zip(self.bag("bag.sav", bag_of), (77, 78), strict=True):
            self.assertRegex(path, rf"^rows_\w+\[id={item}\]\.ropes$")

    def test_a_value_that_is_stored_twice_is_pinned_with_its_copy_and_kept_equal(self) -> None:
        turn, shown = random.Random(5), [4071, 5210, 66020]
        path = self.folder / "quay.sav"
        front = b"BWQ1" + turn.randbytes(40)
        rest = turn.randbytes(60)
        numbers = [marks.to_bytes(4, "little") for marks in shown]
        self.keep_each(path, [front + each + rest + each + turn.randbytes(40) for each in numbers])
        self.shell.show_stage(LOCATE)
        self.sight(self.name("Marks"), list(map(str, shown)))
        self.shell.locate.sheet.setCurrentCell(0, 1)
        self.work()
        self.assertIn("pin them all and keep them equal", self.margin())
        buttons = [button for button in self.shell.margin.findChildren(QPushButton) if not button.isHidden()]
        self.click(next(button for button in buttons if button.text() == "Pin both, and keep them equal"))
        self.work()
        self.assertIn("Marks is pinned: marks is in the template now, and kept equal to it marks_2.", self.told())
        self.shell.session.enter(self.save.fields("marks")[0], "777")
        self.work()
        for _ in range(2):
            self.press("Ctrl+Return")
            self.work()
        new = (777).to_bytes(4, "little")
        self.assertEqual((path.read_bytes()[44:48], path.read_bytes()[108:112]), (new, new))

    def test_how_many_there_are_of_one_thing_is_pinned_by_its_number_in_the_list(self) -> None:
        turn, shown = random.Random(5), [513, 415, 661, 454]
        path = self.folder / "quay.sav"
        held = {number: turn.randrange(1, 99) for number in turn.sample(range(1, 200), 30)}

        def save(many: int) -> bytes:
            for number in turn.sample([each for each in held if each != 77], 3):
                del held[number]
            held.update({number: turn.randrange(1, 99) for number in turn.sample(range(1, 200), 4)})
            held[77] = many
            lots = b"".join(struct.pack("<HHI", number, held[number], number & 7) for number in sorted(held))
            return b"BWIN" + turn.randbytes(4) + struct.pack("<H", len(held)) + lots + b"END." + bytes(range(40))

        self.keep_each(path, list(map(save, shown)))
        self.shell.show_stage(LOCATE)
        self.sight(self.name("Ropes"), list(map(str, shown)))
        self.shell.locate.sheet.setCurrentCell(0, 1)
        self.work()
        self.click(next(b for b in self.shell.margin.findChildren(QPushButton) if b.text().startswith("Pin it")))
        self.work()
        self.assertIn("rows_a[id=77].ropes", self.told())
        self.assertEqual([node.value for node in self.save.fields("rows_a[id=77].ropes")], [454])
        self.shell.show_stage(EDIT)
        self.work()
        lots = self.table("Records at 0xA")
        self.assertEqual((lots.fields.rowCount(), lots.fields.index(0, 0).data()), (len(held), str(min(held))))
        self.shell.show_stage(LOCATE)
        self.shell.locate.sheet.setCurrentCell(0, 1)
        self.work()
        (template,) = (self.shell.session.book.folder / "templates").glob("*.yaml")  # type: ignore[union-attr]
        self.click(next(b for b in self.shell.margin.findChildren(QPushButton) if b.text() == "Take the pin back"))
        self.work()
        self.assertEqual(list(template.parent.iterdir()), [])

    def test_what_each_diver_has_is_a_table_below_the_crew(self) -> None:
        """The list of the record that is current; what comes in and goes there is counted."""
        turn, path, crew = random.Random(9), self.folder / "quay.sav", ("Aurélie", "Dunn", "Colette", "Bram", "Quill")
        write = partial(others.in_rows, others.DEEP["names in each"])
        players = [others.player_at(turn, "Oriel", "Second Tide", crew) for _ in range(4)]
        self.keep_each(path, map(write, players))
        self.shell.show_stage(LOCATE)
        shown = {
            "Many": [(others.pack("Aurélie")[-1][1] * 7 + player.crew[0][1] * 3) % 200 + 1 for player in players],
            "Diver": [crew[3]] * 4,
        }
        for name, values in shown.items():
            self.sight(self.name(name), list(map(str, values)))
            self.click(next(b for b in self.shell.margin.findChildren(QPushButton) if b.text().startswith("Pin it")))
            self.work()
        self.shell.show_stage(EDIT)
        self.work()
        self.assertEqual(list(self.shell.edit.tables), ["Records at 0x8", "Rows 2 of Aurélie"])
        crew_table = self.table("Records at 0x8")
        crew_table.setCurrentIndex(crew_table.fields.index(2, 0))
        self.work()
        self.assertEqual(list(self.shell.edit.tables), ["Records at 0x8", "Rows 2 of Colette"])
        items = self.table("Rows 2 of Colette")
        self.type_into(items, 1, 1, "77")
        items.setCurrentIndex(items.fields.index(0, 0))
        QTest.keyClick(items, Qt.Key.Key_Delete, Qt.KeyboardModifier.ControlModifier)
        self.work()
        self.assertEqual(items.fields.rowCount(), len(others.pack("Colette")) - 1)
        self.wait_for_plan()
        self.press("Ctrl+Return")
        self.settle()
        self.click(self.shell.posting.write_button)
        self.settle()
        before = list(others.DEEP["names in each"](players[-1]))
        air, listed = players[-1].crew[2][1], others.pack("Colette")[1:]
        counts = [77, *((many * 7 + air * 3) % 200 + 1 for _, many in listed[1:])]
        left = (others.short(item) + struct.pack("<H", n) for (item, _), n in zip(listed, counts, strict=True))
        after = others.short("Colette") + struct.pack("<I", air) + others.rows("<I", left)
        self.assertEqual(path.read_bytes(), write(players[-1]).replace(before[2], after))

    def test_a_diver_of_a_crew_and_marks_as_the_game_shows_them(self) -> None:
        """The crew becomes a table; the comma of a number groups its digits."""
        turn, path = random.Random(6), self.folder / "quay.sav"
        names, shown = ("Colette", "Dunn", "Old Sedge", "Hester Lowe", "Bram"), [(57, 4071), (81, 5210), (23, 16602)]

        def save(air: int, marks: int) -> bytes:
            crew = [(name, air if name == "Old Sedge" else turn.randrange(20, 90)) for name in names]
            rows = b"".join(bytes([len(name)]) + name.encode() + bytes([left]) for name, left in crew)
            return b"BW\2\0" + bytes([len(crew)]) + rows + marks.to_bytes(4, "little") + turn.randbytes(90)

        self.keep_each(path, [save(*moment) for moment in shown])
        self.shell.show_stage(LOCATE)
        for name, values in (
            ("Air", [str(air) for air, _ in shown]),
            ("Marks", [f"{marks:,}" for _, marks in shown]),
        ):
            row = self.name(name)
            self.sight(row, values)
            self.shell.locate.sheet.setCurrentCell(row, 1)
            self.work()
            self.click(next(b for b in self.shell.margin.findChildren(QPushButton) if b.text().startswith("Pin it")))
            self.work()
            if name == "Air":
                self.assertIn("rows_5[2].air is in the template now, and so in each of 5 records", self.told())
        self.assertEqual([self.standing(row) for row in (0, 1)], ["◆ pinned as rows_5[2].air", "◆ pinned as marks"])
        self.assertIn("“4,071” was read as 4071.", self.margin())
        self.shell.show_stage(EDIT)
        self.work()
        self.assertEqual([node.value for node in self.save.fields("rows_5[*].text_1")], list(names))
        self.assertEqual(self.save.fields("marks")[0].value, shown[-1][1])

    def test_from_an_unknown_save_to_a_value_the_game_accepts(self) -> None:
        self.play_and_keep()
        stage = self.shell.locate
        heads = [stage.sheet.horizontalHeaderItem(n).text() for n in range(stage.sheet.columnCount())]
        begun = ["Quantity", "A start", "B sold lam", "C dived on", "D bought a", "E healed", "Standing"]
        self.assertEqual([re.sub(r" · \d\d:\d\d\n", " ", head)[:10] for head in heads], begun)
        for quantity in ("Marks", "Air", "Name"):
            row = self.name(quantity)
            self.sight(row, [moment[quantity] for moment in self.shown])
            # Whether marks have two bytes or four is open as long as they have not passed 65535.
            self.assertEqual(self.standing(row), "◆ 1 place left" if quantity != "Marks" else "◇ 1 likely place")
        stage.sheet.setCurrentCell(0, 1)
        self.work()
        rows = self.rows(stage.places)
        self.assertEqual(rows[0][:3], ["5 of 5", "0x0045 · 69", "4 bytes, low first"])
        self.assertEqual(rows[0][3:8], [moment["Marks"] for moment in self.shown])
        self.assertEqual([lane.at for lane in stage.lanes.lanes], [69] * 5)
        self.assertEqual(
            [lane.data[8:10] for lane in stage.lanes.lanes], [int(m["Marks"]).to_bytes(2, "little") for m in self.shown]
        )
        self.assertIn("One place is left. Post a change there", self.margin())
        (pin,) = [
            b for b in self.shell.margin.findChildren(QPushButton) if b.text().startswith("Pin it") and not b.isHidden()
        ]
        self.click(pin)
        self.work()
        self.assertIn("Marks is pinned: marks is in the template now.", self.told())
        self.assertEqual(self.standing(0), "◆ pinned as marks")
        self.assertEqual(self.shell.spine.tabs[LOCATE].line.text(), "1 of 3 pinned")
        (template,) = (self.shell.session.book.folder / "templates").glob("*.yaml")  # type: ignore[union-attr]
        self.click(next(b for b in self.shell.margin.findChildren(QPushButton) if b.text() == "Take the pin back"))
        self.work()
        self.assertIn("Marks is no longer pinned; marks is out of the template.", self.told())
        self.assertEqual(list(template.parent.iterdir()), [], "it had no other field")
        self.assertEqual(self.standing(0), "◇ 1 likely place")
        self.click(next(b for b in self.shell.margin.findChildren(QPushButton) if b.text().startswith("Pin it")))
        self.work()
        field = next(element for element in load_template(template).elements() if element.name == "marks")
        self.assertEqual(field.note, "explains 5 of 5 sightings")
        self.shell.show_stage(EDIT)
        self.settle()
        self.type_into(self.table("Pinned"), 0, 2, "5200")
        self.assertEqual(self.shell.tape.balance.text(), "◇ no seals known")
        self.press("Ctrl+Return")
        self.click(self.shell.posting.write_button)
        data = self.voyage.read_bytes()
        self.assertEqual(data[69:71], (5200).to_bytes(2, "little"))

    def test_a_place_that_moves_is_shown_where_it_lies_in_each_copy(self) -> None:
        self.play_and_keep()
        row = self.name("Tamsin's air")
        self.sight(row, [moment["Air"] for moment in self.shown])
        stage = self.shell.locate
        for lane, moment in zip(stage.lanes.lanes, self.shown, strict=True):
            self.assertEqual(lane.data[lane.at - lane.start], int(moment["Air"]))
        self.assertGreater(len({lane.at for lane in stage.lanes.lanes}), 1)
        self.assertRegex(self.margin(), r"\d+ bytes behind the start of “")
        place, quantity = stage.chosen, stage.current
        assert place is not None and quantity is not None
        self.assertTrue(self.shell.session.evidence.pin(quantity, place))
        self.work()
        field = self.save.fields("tamsin_s_air")[0]
        self.assertEqual((field.value, field.start), (int(self.shown[-1]["Air"]), place.offsets[-1]))
        for action in (["rename", "Oriel", "O"], ["dive", "Tamsin"]):
            play(self.game, *action)
        self.voyage.write_bytes((self.game / "harbour.bwk").read_bytes())
        self.shell.session.reopen()
        self.assertEqual(self.save.fields("tamsin_s_air")[0].value, Harbour(self.game).load(1).crew[1].air)

    def test_a_place_the_template_knows_already_is_pinned_to_its_field(self) -> None:
        saves = self.harbour()
        self.shell.session.open(saves / "harbour.bwk")
        self.shell.session.history.keep("one")
        play(saves, "sell", "wax plug")
        self.shell.session.reopen()
        self.shell.session.history.keep("two")
        self.press("Ctrl+2")
        row = self.name("Marks")
        self.sight(row, ["1386", "1388"])
        stage = self.shell.locate
        number = next(n for n, p in enumerate(stage.located[stage.quantities[row].id].places) if p.stored_as == "u32le")
        stage.places.selectRow(number)
        quantity, place = stage.current, stage.chosen
        assert quantity is not None and place is not None
        self.assertTrue(self.shell.session.evidence.pin(quantity, place))
        self.work()
        self.assertEqual(self.standing(row), "◆ pinned as purse.marks")
        self.assertEqual(list((self.shell.session.book.folder / "templates").glob("*")), [])  # type: ignore[union-attr]

    def test_sightings_are_kept_renamed_and_taken_back(self) -> None:
        self.play_and_keep(2)
        row = self.name("Marks")
        self.assertEqual(self.standing(row), "not sighted yet")
        self.sight(row, ["1340"])
        self.assertRegex(self.standing(row), r"◇ \d+ places|◇ 1 likely place")
        self.shell.session.reopen()
        self.press("Ctrl+2")
        self.work()
        self.assertEqual(self.shell.locate.sheet.item(row, 1).text(), "1340")
        self.shell.locate.sheet.item(row, 0).setText("Money")
        self.work()
        self.assertEqual([q.name for q in self.shell.locate.quantities], ["Money"])
        self.shell.locate.sheet.item(row, 1).setText("")
        self.work()
        self.assertEqual(self.standing(row), "not sighted yet")
        self.shell.locate.sheet.item(row, 0).setText("")
        self.work()
        self.assertEqual(self.shell.locate.quantities, [])

    def test_contradictions_and_missing_copies_are_told(self) -> None:
        self.play_and_keep(2)
        row = self.name("Marks")
        self.sight(row, ["1340", "Oriel"])
        self.assertIn("Marks: “Oriel” is a text and others are numbers", self.told())
        self.sight(row, ["1340", "77777"])
        self.assertIn("no place", self.standing(row))
        self.assertIn("No place explains it. Was a number mistyped?", self.margin())
        book = self.shell.session.book
        assert book is not None
        for path in Path(book.keeping.store.folder).rglob("*.zst"):
            path.chmod(0o644)
            path.write_bytes(b"?")
        self.sight(row, ["1340", "1432"])
        self.assertIn("cannot be read", self.told())

    def test_from_what_was_seen_to_a_written_value_by_keys_and_clicks_alone(self) -> None:
        turn = random.Random(8)
        records = b"".join(struct.pack("<IHHf", turn.randrange(900), n, 0, n / 7) for n in range(200))
        key = Generator(214_013, 2_531_011, first=8).key
        lots = ", ".join(f'"lot {n}": {turn.randrange(9000)}' for n in range(60))

        def scrambled(marks: int) -> bytes:
            plain = turn.randbytes(8) + records + struct.pack("<IHH", marks, 7, turn.randrange(99)) + records
            return scramble(plain, Scrambling("xor-generator", key, 0))

        def packed(marks: int) -> bytes:
            return b"HOLD" + bytes(12) + zlib.compress(records + struct.pack("<I", marks) + records)

        def text(marks: int) -> bytes:
            return f'{{{lots},\n "company": {{"name": "Oriel", "marks": {marks}}}, "day": {marks % 7}}}'.encode()

        def plain_of(kind: str, data: bytes) -> bytes:
            if kind == "scrambled":
                return unscramble(data, Scrambling("xor-generator", key, 0))
            return zlib.decompress(data[16:]) if kind == "packed" else data

        for kind, make in (("scrambled", scrambled), ("packed", packed), ("text", text)):
            with self.subTest(kind):
                path = self.folder / f"{kind}.sav"
                seen = [1340, 1432, 977, 70_112]
                self.keep_each(path, map(make, seen))
                self.press("Ctrl+2")
                sheet = lambda: self.shell.locate.sheet  # noqa: E731
                for place, typed in enumerate(["Marks", *map(str, seen)]):
                    self.assertTrue(type_into(sheet(), 0, place, typed))
                    self.work()
                self.wait(lambda: not self.standing(0).startswith("looking"))
                self.assertEqual(self.standing(0), "◆ 1 place left")
                (pin,) = [b for b in self.shell.margin.findChildren(QPushButton) if b.text().startswith("Pin it")]
                self.click(pin)
                self.work()
                self.press("Ctrl+4")
                self.work()
                self.type_into(self.table("Pinned"), 0, 2, "4321")
                for _ in range(2):  # to the plan, and to write it
                    self.press("Ctrl+Return")
                    self.work()
                self.assertIn("Written, read back and compared", self.told())
                plain, before = plain_of(kind, path.read_bytes()), plain_of(kind, self.kept(path))
                if kind == "text":
                    self.assertEqual(
                        json.loads(plain), json.loads(before) | {"company": {"name": "Oriel", "marks": 4321}}
                    )
                else:
                    at = before.index(struct.pack("<I", seen[-1]))
                    self.assertEqual(plain, before[:at] + struct.pack("<I", 4321) + before[at + 4 :])

    def test_a_checksum_that_nobody_knows_is_found_accepted_and_renewed(self) -> None:
        turn = random.Random(5)
        base = b"".join(struct.pack("<IHHf", turn.randrange(900), n % 50, 0, n / 7) for n in range(90))
        path = self.folder / "quay.sav"
        saves = [bytearray(b"QUAY" + bytes(8) + base) for _ in range(4)]
        for save in saves:
            for _ in range(12):
                save[turn.randrange(12, len(save))] = turn.randrange(256)
            save[4:8] = zlib.crc32(save[12:]).to_bytes(4, "little")
        self.keep_each(path, saves)
        self.press("Ctrl+3")
        describe = self.shell.describe
        describe.show_pane(SEALS)
        pane = describe.seals
        self.assertEqual(pane.known_title.text(), "No checksum of this save is known yet")
        self.click(pane.find_button)
        self.wait(lambda: pane.found and pane.found[0].finding.sure)
        self.click(pane.find_button)  # enough
        self.wait(lambda: not pane.looking)
        self.assertEqual(self.rows(pane.table)[0], ["◆ 0x4", "crc-32", "0xC to 0x444"])
        self.assertIn("holds in 4 of 4 copies: sure", pane.detail.text())
        self.assertEqual((self.shell.session.selection.start, self.shell.session.selection.end), (4, 8))
        self.click(pane.accept)
        self.work()
        self.assertIn("seal_4 is a seal in the template now: crc-32 is renewed when you post", self.told())
        self.assertEqual(describe.seals.known_title.text(), "1 of 1 checksums hold")
        describe.show_pane(SEALS)
        describe.seals.known.setCurrentCell(0, 0)
        self.settle()
        said = [each.text() for each in describe.seals.findChildren(QLabel) if each.isVisible()]
        words = "A change in any of these bytes, which no field describes yet, breaks it."
        self.assertTrue(any(words in each for each in said), said)
        self.assertTrue(self.shell.session.type_bytes("save", 40, 42, b"\x12\x34"))
        for _ in range(2):
            self.press("Ctrl+Return")
            self.work()
        self.assertIn("Written, read back and compared", self.told())
        written = path.read_bytes()
        self.assertEqual((written[40:42], written[4:8]), (b"\x12\x34", zlib.crc32(written[12:]).to_bytes(4, "little")))
        self.assertEqual(self.kept(path)[12:40], written[12:40])

    def test_checksums_over_what_is_packed_are_put_in_together_and_its_values_stay_editable(self) -> None:
        turn, kind = dice(), TEXTS[0](dice())
        path = self.folder / "quay.sav"
        self.keep_each(path, [bytearray(kind.write(turn, step)) for step in range(4)])
        self.press("Ctrl+3")
        self.shell.describe.show_pane(SEALS)
        pane = self.shell.describe.seals
        self.click(pane.find_button)
        self.wait(lambda: len(pane.found) > 1)
        self.click(pane.find_button)
        self.wait(lambda: not pane.looking)
        sure = [row for row in self.rows(pane.table) if row[0].startswith("◆")]
        self.assertEqual({tuple(row[:2]) for row in sure}, {("◆ 0xC", "crc-32"), ("◆ 0x8", "length")})
        self.assertTrue(all(row[2].startswith("all of zlib at 0x10") for row in sure))
        self.click(pane.accept_all)
        self.work()
        self.assertIn("2 seals are in the template now, and are renewed when you post: crc-32, length", self.told())
        self.post_value("company.marks", "4321")
        self.assertTrue(kind.accepts(path.read_bytes()))
        self.assertIn(b'"marks": 4321', zlib.decompress(path.read_bytes()[16:]))

    def test_what_is_behind_a_header_of_any_length_is_sealed(self) -> None:
        names = (b"Oriel", b"Oriel of the Quay", b"Wren and Daughters", b"Tamsin")
        turn, path = dice(), self.folder / "quay.sav"
        body = bytearray(turn.randbytes(300))

        def make(name: bytes) -> bytearray:
            for _ in range(9):
                body[turn.randrange(300)] = turn.randrange(256)
            body.extend(turn.randbytes(turn.randrange(1, 40)))
            front = b"QUAY" + struct.pack("<I", len(name)) + name
            return bytearray(front + struct.pack("<II", len(body), zlib.crc32(body)) + body)

        saves = [make(name) for name in names]
        self.keep_each(path, saves)
        self.press("Ctrl+3")
        self.shell.describe.show_pane(SEALS)
        pane = self.shell.describe.seals
        self.click(pane.find_button)
        self.wait(lambda: not pane.looking)
        end = len(saves[-1])
        self.assertEqual(self.rows(pane.table)[0], ["◆ 0x12", "crc-32", f"0x16 to 0x{end:X}, behind the header"])
        self.assertEqual((self.shell.session.selection.start, self.shell.session.selection.end), (18, 22))
        self.click(pane.accept_all)
        self.work()
        self.assertIn("2 seals are in the template now", self.told())
        self.assertTrue(self.shell.session.type_bytes("save", 40, 42, b"\x12\x34"))
        for _ in range(2):
            self.press("Ctrl+Return")
            self.work()
        written = path.read_bytes()
        self.assertEqual(
            (written[40:42], written[18:22]), (b"\x12\x34", zlib.crc32(written[22:]).to_bytes(4, "little"))
        )

    def test_with_a_key_a_signature_is_found_and_renewed(self) -> None:
        turn = dice()
        kind = next(made for make in TEXTS if (made := make(turn)).key and made.algorithms == ("md5",))
        path = self.folder / "quay.sav"
        self.keep_each(path, [bytearray(kind.write(turn, step)) for step in range(3)])
        self.press("Ctrl+3")
        self.shell.describe.show_pane(SEALS)
        pane = self.shell.describe.seals
        pane.key.setText("6272 6")
        self.click(pane.find_button)
        self.assertFalse(pane.looking)
        self.assertIn("“6272 6”", self.told())
        pane.key.setText(f'"{kind.key.decode()}"')
        QTest.keyClick(pane.key, Qt.Key.Key_Return)
        self.wait(lambda: not pane.looking)
        self.assertEqual([row[1:] for row in self.rows(pane.table)], [["md5", "all of the text data"]])
        self.assertIn("md5, the key behind over all of the text data", pane.detail.text())
        self.click(pane.accept)
        self.work()
        self.post_value("company.day", "77")
        self.assertTrue(kind.accepts(path.read_bytes()))

    def test_a_table_of_sizes_is_described_with_one_press(self) -> None:
        turn = dice()
        path = self.folder / "quay.sav"
        values = [company(turn) for _ in range(5)]
        self.keep_each(path, [bytearray(table_write(value)) for value in values])
        self.press("Ctrl+3")
        self.shell.describe.show_pane(SEALS)
        pane = self.shell.describe.seals
        self.click(pane.find_button)
        self.wait(lambda: not pane.looking)
        self.assertRegex(pane.rule_words.text(), "for each of [23] zlib streams .*u32le, in a table, 8 bytes for each")
        self.assertFalse(pane.nearly_words.isVisible())
        self.click(pane.rule_button)
        self.work()
        marks = values[-1]["marks"] ^ 1  # of as many digits, so that as many parts hold them
        self.post_value("unpacked.marks", str(marks))
        self.assertEqual(table_read(path.read_bytes()), {**values[-1], "marks": marks})

    def test_a_save_that_is_there_twice_keeps_both_copies_alike(self) -> None:
        path = self.folder / "quay.sav"
        self.keep_each(path, [bytearray(mirrored_write(value)) for value in voyage(random.Random(12))])
        self.press("Ctrl+3")
        self.shell.describe.show_pane(SEALS)
        pane = self.shell.describe.seals
        self.click(pane.find_button)
        self.wait(lambda: not pane.looking, 60.0)
        self.assertEqual(self.rows(pane.table)[0], ["◆ 0x200", "copy", "0x0 to 0x200"])
        self.assertRegex(
            pane.rule_words.text(), "in each of 3 blocks of 96 bytes from 0x4 on: sum16 .*; copy, inverted"
        )
        self.click(pane.rule_button)
        self.work()
        self.click(pane.accept)
        self.work()
        self.assertEqual(self.shell.describe.seals.known_title.text(), "7 of 7 checksums hold")
        self.assertTrue(self.shell.session.type_bytes("save", 6, 8, b"\x12\x34"))
        for _ in range(2):
            self.press("Ctrl+Return")
            self.work()
        self.assertEqual(mirrored_read(path.read_bytes())[0] & 0xFFFF, 0x3412)

    def test_what_holds_in_all_but_one_names_the_copy(self) -> None:
        turn = dice()
        path = self.folder / "quay.sav"
        plain = [b"BWNV" + bytes(60) + turn.randbytes(6) + b"Tamsin of the quay" for _ in range(4)]
        wrong = (0, 1, 0, 0)
        states = [
            data + (zlib.crc32(data) ^ each).to_bytes(4, "little") for data, each in zip(plain, wrong, strict=True)
        ]
        self.keep_each(path, [bytearray(state) for state in states])
        self.press("Ctrl+3")
        self.shell.describe.show_pane(SEALS)
        pane = self.shell.describe.seals
        self.click(pane.find_button)
        self.wait(lambda: not pane.looking)
        self.assertRegex(
            pane.nearly_words.text(), r"^Nearly: crc-32 over .*, holds in 3 of 4, and not in the copy of [0-9: -]+\.$"
        )
        self.assertEqual(pane.summary.text(), "Something holds in all but one.")

    def post_value(self, ending: str, text: str) -> None:
        """Enter a value of a text that no field names, and post it."""
        self.press("Ctrl+4")
        values = self.shell.edit.values
        assert values is not None and values.model is not None
        self.shell.session.enter(next(node for node in values.model.fields if node.path.endswith(ending)), text)
        for _ in range(2):
            self.press("Ctrl+Return")
            self.work()
        self.assertIn("Written, read back and compared", self.told())

    def kept(self, path: Path) -> bytes:
        """The bytes of a save when a copy was last kept by hand."""
        book = self.shell.session.book
        assert book is not None
        copy = next(each for each in book.keeping.snapshots(path) if each.kind == "kept")
        return book.keeping.store.get(copy.files[0].sha256)

    def test_without_copies_it_says_what_to_do_first(self) -> None:
        self.voyage.write_bytes(b"abc" * 100)
        self.shell.session.open(self.voyage)
        self.press("Ctrl+2")
        self.assertIn("Keep copies while you play (in History, or with Ctrl+S)", self.shell.locate.hint.text())
        self.press("Ctrl+S")
        self.assertEqual((self.told(), self.shell.stage), ("A copy is kept.", LOCATE))
        self.press("Ctrl+6")
        self.shell.history.label_line.setText("before the dive")
        self.press("Ctrl+S")
        self.assertEqual([each.label for each in self.shell.session.kept_copies], ["before the dive", ""])
        self.assertEqual(self.shell.history.label_line.text(), "")
        self.assertIsNone(self.shell.locate.current)

    def test_inside_a_layer_and_in_a_folder_it_is_pinned_edited_and_posted(self) -> None:
        world = self.folder / "world"
        (world / "region").mkdir(parents=True)
        for marks in (1410, 1502, 1377):
            plain = bytes(90) + marks.to_bytes(4, "little") + bytes(range(90))
            (world / "region" / "r0.dat").write_bytes(b"REGN" + zlib.compress(plain) + b"end")
            (world / "about.txt").write_text("lamp oil " * 9)
            if self.shell.session.save is None:
                self.shell.session.open(world)
                self.settle()
                self.assertIn("the folder is open as one save", self.told())
            self.shell.session.history.keep(str(marks))
        self.shell.session.reopen()
        self.settle()
        self.shell.show_stage(GATHER)
        members = self.shell.gather.set
        self.assertEqual([row[0] for row in self.rows(members.table)], ["region/r0.dat", "about.txt"])
        members.table.item(0, 1).setText("map")
        members.table.item(0, 2).setText("where the marks are")
        self.work()
        self.assertEqual(self.rows(members.table)[0], ["region/r0.dat", "map", "where the marks are"])
        self.press("Ctrl+2")
        row = self.name("Marks")
        self.sight(row, ["1410", "1502", "1377"])
        stage = self.shell.locate
        self.assertIn("zlib", str(stage.chosen.layer))
        self.assertEqual(Path(stage.chosen.file).name, "r0.dat")
        (pin,) = [b for b in self.shell.margin.findChildren(QPushButton) if b.text() == "Pin it in the template"]
        self.click(pin)
        self.settle()
        self.assertIn("unpacked.marks is in the template now", self.told())
        self.assertEqual(self.save.path, world)
        self.assertEqual(self.shell.session.sources.title("unpacked"), "r0.dat → unpacked")
        self.shell.show_stage(EDIT)
        self.assertTrue(self.shell.session.enter(self.save.fields("unpacked.marks")[0], "7001"))
        self.work()
        self.shell.session.history.post("", lambda posting: None)
        self.work()
        self.assertEqual(self.save.fields("unpacked.marks")[0].value, 7001)
        packed = (world / "region" / "r0.dat").read_bytes()
        self.assertEqual(zlib.decompressobj().decompress(packed[4:])[90:92], (7001).to_bytes(2, "little"))
        self.shell.show_stage(DESCRIBE)
        for name in self.shell.session.sources.names:
            self.shell.describe.show_file(name)
            self.work()
