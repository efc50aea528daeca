"""Carry in the real window: slots, values of another edition, folders and cards, each judged by the game."""

from __future__ import annotations

import shutil
from pathlib import Path

from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton, QWidget

from faithful_ledger.demo.hands import tick_what_differs
from faithful_ledger.desk.shell import CARRY, HISTORY
from faithful_ledger.desk.stages.carry import CARD, FOLDERS, SLOTS, VALUES, CarryStage
from tests.desk.support import DeskCase
from tests.support import play


class CarryCase(DeskCase):
    def opened_stage(self, path: Path) -> CarryStage:
        self.shell.session.open(path)
        self.settle()
        self.shell.show_stage(CARRY)
        self.rest()
        return self.shell.carry

    def click_button(self, holder: QWidget, text: str) -> None:
        """Press the button with a text that is in sight."""
        found = [each for each in holder.findChildren(QPushButton) if each.text() == text and each.isVisible()]
        self.assertEqual(len(found), 1, [each.text() for each in holder.findChildren(QPushButton)])
        self.assertTrue(found[0].isEnabled(), text)
        self.click(found[0])

    def rest(self) -> None:
        """Until lists and plans that are worked out beside the window are there."""
        for _ in range(3):
            self.wait_for_plan()

    def shown(self, saves: Path, *edition: str) -> str:
        return play(saves, *edition, "show").text.partition("\n")[0]


class SlotsTest(CarryCase):
    def test_a_save_is_copied_moved_and_swapped_and_the_game_agrees(self) -> None:
        saves = self.harbour()
        stage = self.opened_stage(saves / "harbour.bwk")
        pane = stage.slots
        self.assertEqual(stage.panes.currentIndex(), SLOTS)
        rows = self.rows(pane.table)
        self.assertTrue(rows[0][2].startswith("◆ open: Oriel & Søn"), rows[0])
        self.assertEqual((rows[2][2], len(rows)), ("free", 99))
        self.assertEqual(pane.to.text(), "slot 3, which is free")
        self.assertIn(["account.json", "changed"], [row[:2] for row in self.rows(pane.plan.table)])
        self.click_button(pane, "Carry it")
        self.rest()
        self.assertIn("Oriel & Søn · slot 3", self.shown(saves, "--slot", "3"))
        pane.table.selectRow(1)
        self.rest()
        self.assertEqual(pane.plan.button.text(), "Replace slot 2; it is kept first")
        self.click_button(pane, "Swap the two")
        self.rest()
        self.assertEqual(pane.plan.button.text(), "Carry it")
        self.click_button(pane, "Carry it")
        self.rest()
        self.assertIn("slot 2", self.shown(saves, "--slot", "2"))
        pane.table.selectRow(8)
        self.click_button(pane, "Move it there")
        self.rest()
        self.click_button(pane, "Carry it")
        self.rest()
        self.assertEqual(self.save.path.name, "harbour-9.bwk")
        self.assertIn("Oriel & Søn · slot 9", self.shown(saves, "--slot", "9"))
        self.assertEqual(self.shell.spine.tabs[CARRY].line.text(), "in slot 9")
        self.click_button(self.shell.banner, "Reverse it")
        self.rest()
        self.assertEqual(self.save.path.name, "harbour.bwk")
        self.assertIn("slot 1", self.shown(saves))

    def test_a_kept_copy_goes_into_a_free_slot(self) -> None:
        saves = self.harbour()
        self.shell.session.open(saves / "harbour.bwk")
        self.shell.session.history.keep("before the storm")
        self.settle()
        play(saves, "sell", "hemp line", "3")
        self.shell.session.reopen()
        pane = self.opened_stage(saves / "harbour.bwk").slots
        self.assertIn("before the storm", pane.source.itemText(1))
        pane.source.setCurrentIndex(1)
        pane.source.activated.emit(1)
        self.rest()
        self.assertFalse(pane.hows["move"].isEnabled())
        before = play(saves, "--slot", "2", "show").text
        self.click_button(pane, "Carry it")
        self.rest()
        self.assertIn("marks 1386", play(saves, "--slot", "3", "show").text)
        self.assertEqual(play(saves, "--slot", "2", "show").text, before)

    def test_a_template_without_slots_shows_what_it_knows(self) -> None:
        path = self.folder / "notes.json"
        path.write_text('{"marks": 5, "crew": [{"name": "Oriel", "air": 7}]}')
        stage = self.opened_stage(path)
        self.assertEqual(stage.panes.currentIndex(), VALUES)
        self.assertFalse(stage.tabs[SLOTS].isVisible())


class ValuesTest(CarryCase):
    def test_values_and_a_record_of_another_edition_are_ticked_entered_and_posted(self) -> None:
        saves, deep = self.harbour(), self.folder / "deep"
        for action in (("start", "Brock & Co"), ("hire", "Marit"), ("heal", "Oriel")):
            play(deep, "--edition", "deep", *action)
        stage = self.opened_stage(saves / "harbour.bwk")
        stage.show_pane(VALUES)
        pane = stage.values
        pane.choose_file(str(deep / "company.bwd"))
        self.rest()
        shown = {row[0]: row for row in self.rows(pane.table)}
        self.assertEqual(shown["Marks"][1:], ["1190", "1386", "◇ purse.marks"])
        self.assertEqual(shown["record Marit"][3], "◇ a new record")
        pane.tick(["company.marks", "company.crew[name=Marit]", "company.crew[name=Oriel].air"])
        self.click_button(pane, "Enter 3 ticked")
        self.rest()
        self.assertEqual({entry.path for entry in self.save.tape}, {"purse.marks", "crew"})
        self.click(self.shell.tape.post)
        self.rest()
        self.click_button(self.shell.posting, "Write it")
        self.rest()
        self.assertEqual(self.shell.stage, HISTORY)
        text = play(saves, "show").text
        self.assertIn("marks 1190", text)
        self.assertIn("Marit: air 100", text)
        self.assertIn("Oriel: air 100", text)

    def test_whole_records_replace_or_join_those_that_are_there(self) -> None:
        saves, other = self.harbour(), self.folder / "other"
        play(other, "start", "Maud")
        for index, (lamps, lots) in enumerate(((3, 1), (3, 2))):
            stage = self.opened_stage(saves / "harbour.bwk")
            stage.show_pane(VALUES)
            pane = stage.values
            pane.choose_file(str(other / "harbour.bwk"))
            pane.whole.setChecked(True)
            pane.all_values.setChecked(True)
            self.rest()
            pane.clash.setCurrentIndex(1 + index)
            pane.tick(["hold[item=brass lamp]"])
            self.click_button(pane, "Enter 1 ticked")
            self.rest()
            self.click(self.shell.tape.post) if self.shell.session.pending else None
            self.rest()
            if self.shell.session.plan is not None:
                self.click_button(self.shell.posting, "Write it")
                self.rest()
            shown = play(saves, "show").text
            self.assertEqual(shown.count(f"  {lamps} brass lamp"), lots, shown)

    def test_where_a_value_goes_is_said_once(self) -> None:
        saves, deep = self.harbour(), self.folder / "deep"
        play(deep, "--edition", "deep", "start", "Brock & Co")
        stage = self.opened_stage(saves / "harbour.bwk")
        stage.show_pane(VALUES)
        pane = stage.values
        pane.choose_file(str(deep / "company.bwd"))
        pane.all_values.setChecked(True)
        number = next(n for n, each in enumerate(pane.shown) if each.path == "company.debt")
        pane.table.selectRow(number)
        pane.into.setText("purse.nothing")
        self.click_button(pane, "Remember it")
        self.assertIn("purse.nothing", self.told())
        pane.into.setText("company.day")
        self.click_button(pane, "Remember it")
        self.assertEqual(next(e for e in pane.found if e.path == "company.debt").goes_to, "company.day")
        pane.choose_file(str(deep / "company.bwd"))
        self.assertEqual(next(e for e in pane.found if e.path == "company.debt").goes_to, "company.day")

    def test_a_kit_goes_from_one_save_to_another_as_a_line(self) -> None:
        saves, other = self.harbour(), self.folder / "other"
        play(other, "start", "Maud")
        stage = self.opened_stage(other / "harbour.bwk")
        stage.show_pane(VALUES)
        stage.values.choose_file(str(saves / "harbour.bwk"))
        self.rest()
        stage.values.tick(["purse.marks", "crew[name=Tamsin].air"])
        self.click_button(stage.values, "as a line to paste")
        line = QApplication.clipboard().text()
        self.assertTrue(line.startswith("ledger-kit1."))
        stage.values.apply_line(line[:-3])
        self.assertIn("is not complete", self.told())
        self.assertFalse(self.shell.session.pending)
        stage.values.apply_line(line)
        self.rest()
        self.assertEqual({entry.path for entry in self.save.tape}, {"purse.marks", "crew[1].air"})


class FoldersTest(CarryCase):
    def setUp(self) -> None:
        super().setUp()
        self.saves = self.folder / "saves"
        for harbour, version, *action in (
            ("west-quay", "1", "start", "Maud"),
            ("east-pier", "2", "start", "Ives & Sons"),
            ("west-quay", "1", "sell", "brass lamp"),
        ):
            play(self.saves, "--edition", "atlas", "--harbour", harbour, "--map", version, *action)
        self.west, self.east = self.saves / "west-quay", self.saves / "east-pier"

    def stage_between(self) -> CarryStage:
        self.shell.session.open(self.west / "harbour.cfg")
        self.settle()
        book = self.shell.session.book
        assert book is not None
        book.keeping.grant("harbours", self.saves)
        book.keeping.grant("registers", self.saves / "registers")
        self.shell.session.reopen()
        stage = self.opened_stage(self.west / "harbour.cfg")
        stage.folders.choose_target(str(self.east))
        self.rest()
        return stage

    def test_a_world_goes_into_another_one_and_the_old_one_is_removed(self) -> None:
        (self.west / "sites" / "old-wharf.site").write_text("swept 6\n")
        stage = self.stage_between()
        pane = stage.folders
        self.assertEqual(stage.panes.currentIndex(), FOLDERS)
        rows = {row[0]: row for row in self.rows(pane.table)}
        self.assertIn("the player did it", rows["session/world.json"][3])
        self.assertIn("world.purse.marks", rows["session/world.json"][4])
        self.assertEqual(rows["map/sheet-01.map"][3], "◇ it belongs to the map, and stays")
        number = next(n for n, each in enumerate(pane.found) if each.name == "sites/old-wharf.site")
        item = pane.table.item(number, 3)
        assert item is not None
        item.setCheckState(item.checkState().Checked)
        self.rest()
        self.assertTrue(next(each for each in pane.found if each.name == "sites/old-wharf.site").goes)
        self.assertIn("have the same mark of the session", pane.plan.why.text())
        self.click_button(pane, "Carry it")
        self.rest()
        atlas = ("--edition", "atlas", "--harbour", "east-pier", "--map", "2")
        self.assertTrue(self.shown(self.saves, *atlas).startswith("Maud"))
        self.assertIn("both sides agree", pane.plan.why.text())
        self.assertTrue(pane.remove.isHidden())
        self.click_button(pane.verdict, "refused")
        self.rest()
        self.assertIn("but the game refused it", pane.plan.why.text())
        self.assertTrue(pane.remove.isHidden())
        self.click_button(pane.verdict, "accepted")
        self.rest()
        self.click_button(pane, "Remove the old one…")
        self.rest()
        self.click_button(pane, "Remove west-quay; it is kept first")
        self.rest()
        self.assertFalse(self.west.exists())
        self.assertTrue(self.shown(self.saves, *atlas).startswith("Maud"))

    def test_folders_that_nobody_describes_are_the_users_to_decide(self) -> None:
        here, there = self.folder / "here", self.folder / "device"
        for folder in (here, there):
            folder.mkdir()
        (here / "a.sav").write_bytes(b"one")
        (here / "b.sav").write_bytes(b"two")
        (there / "b.sav").write_bytes(b"old")
        stage = self.opened_stage(here / "a.sav")
        stage.show_pane(FOLDERS)
        stage.folders.choose_target(str(there))
        self.rest()
        pane = stage.folders
        for name in ("a.sav", "b.sav"):
            number = next(n for n, each in enumerate(pane.found) if each.name == name)
            item = pane.table.item(number, 3)
            assert item is not None
            item.setCheckState(item.checkState().Checked)
            self.rest()
        self.click_button(pane, "Carry it")
        self.rest()
        self.assertEqual(self.tree(there), {"a.sav": b"one", "b.sav": b"two"})

    def test_from_a_device_and_back_under_the_same_name(self) -> None:
        """In between the save is edited; the index there, which is about the old one, goes."""
        device, here = self.folder / "device", self.folder / "fetched"
        here.mkdir()
        for action in (("start", "Ives"), ("sell", "brass lamp")):
            play(device, *action)
        stage = self.opened_stage(device / "harbour.bwk")
        self.carry_all(stage, here)
        stage = self.opened_stage(here / "harbour.bwk")
        self.shell.session.enter(self.save.fields("purse.marks")[0], "4321")
        self.click(self.shell.tape.post)
        self.rest()
        self.click_button(self.shell.posting, "Write it")
        self.rest()
        self.shell.show_stage(CARRY)
        self.rest()
        self.carry_all(stage, device)
        self.assertEqual(stage.folders.from_line.text(), str(here))
        self.assertFalse((device / "slots.idx").exists())
        self.assertIn("marks 4321", play(device, "show").text)

    def carry_all(self, stage: CarryStage, target: Path) -> None:
        """Tick what differs, as nothing describes it, and carry it."""
        stage.show_pane(FOLDERS)
        stage.folders.choose_target(str(target))
        self.rest()
        tick_what_differs(stage.folders, self.rest)
        self.click_button(stage.folders, "Carry it")
        self.rest()


class CardTest(CarryCase):
    def test_a_pair_goes_on_a_card_and_off_it(self) -> None:
        saves, export = self.folder / "card", self.folder / "export"
        play(saves, "--edition", "card", "start", "Maud")
        play(export, "--edition", "console", "start", "Ives")
        play(export, "--edition", "console", "save", "3")
        stage = self.opened_stage(saves / "card.bwc")
        pane = stage.card
        self.assertEqual(stage.panes.currentIndex(), CARD)
        self.assertEqual([row[0] for row in self.rows(pane.table)], ["voyage.bwx", "voyage.bwy"])
        pane.add([str(export / "voyage-3.bwx")])
        self.assertIn("belongs together with voyage-3.bwy", self.told())
        pane.add([str(export / "voyage-3.bwx"), str(export / "voyage-3.bwy")])
        self.rest()
        self.assertEqual([row[5] for row in self.rows(pane.table)][2:], ["◇ pending: it comes"] * 2)
        QTest.keySequence(self.shell, "Ctrl+Z")
        self.rest()
        self.assertFalse(self.shell.session.pending)
        pane.add([str(export / "voyage-3.bwx"), str(export / "voyage-3.bwy")])
        self.rest()
        self.post()
        self.assertTrue(self.shown(saves, "--edition", "card", "--slot", "3").startswith("Ives"))
        self.shell.show_stage(CARRY)
        self.rest()
        pane.table.selectRow(2)
        folder = self.folder / "out"
        folder.mkdir()
        pane.extract(str(folder))
        self.assertEqual(self.tree(folder)["voyage-3.bwy"], (export / "voyage-3.bwy").read_bytes())
        pane.table.selectRow(0)
        self.click_button(pane, "Remove")
        self.rest()
        self.assertEqual([row[5] for row in self.rows(pane.table)][:2], ["◇ pending: it goes"] * 2)
        self.post()
        self.assertIn("no save in slot 1", play(saves, "--edition", "card", "show").text)
        self.assertTrue(self.shown(saves, "--edition", "card", "--slot", "3").startswith("Ives"))

    def post(self) -> None:
        self.click(self.shell.tape.post)
        self.rest()
        self.click_button(self.shell.posting, "Write it")
        self.rest()


class OwnerTest(CarryCase):
    def test_somebody_elses_save_gets_ones_owner_or_its_payload_goes_into_ones_wrapper(self) -> None:
        own, theirs = self.folder / "own", self.folder / "theirs"
        play(own, "--edition", "console", "start", "Own")
        play(theirs, "--edition", "console", "--owner", "brock", "start", "Theirs")
        copy = self.folder / "copy"
        shutil.copytree(theirs, copy)
        stage = self.opened_stage(theirs / "voyage.bwx")
        stage.show_pane(VALUES)
        stage.values.choose_file(str(own / "voyage.bwx"))
        self.rest()
        self.click_button(stage.values, "Its owner number, into this save")
        self.rest()
        self.click(self.shell.tape.post)
        self.rest()
        self.click_button(self.shell.posting, "Write it")
        self.rest()
        self.assertTrue(self.shown(theirs, "--edition", "console").startswith("Theirs"))
        stage = self.opened_stage(own / "voyage.bwx")
        stage.show_pane(VALUES)
        stage.values.choose_file(str(copy / "voyage.bwx"))
        self.rest()
        self.click_button(stage.values, "Its payload, into the wrapper of this save")
        self.rest()
        self.click(self.shell.tape.post)
        self.rest()
        self.click_button(self.shell.posting, "Write it")
        self.rest()
        self.assertTrue(self.shown(own, "--edition", "console").startswith("Theirs"))
