"""The stage Gather: looking for saves, and keeping every save moment while the game is played."""

from __future__ import annotations

from unittest import mock

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog, QPushButton

from faithful_ledger.desk.shell import EDIT, GATHER, LOCATE
from tests.desk.support import DeskCase
from tests.support import play

TWO_FOLDERS = """ledger: 1
id: two-folders
title: Two folders
roots: {index: the folder of the list}
files:
  save: {name: "*.two", layout: [{field: marks, as: u32}]}
  list: {name: list.json, root: index, format: json, layout: [{field: marks, as: number}]}
rules: [{equal: [marks, list.marks]}]
"""


class GatherTest(DeskCase):
    def look(self) -> None:
        self.click(self.shell.gather.look_button)
        self.shell.session.wait()
        self.settle()

    def test_looking_finds_the_save_says_why_and_opens_it(self) -> None:
        saves = self.harbour()
        (links,) = [b for b in self.shell.welcome.findChildren(QPushButton) if b.text() == "Look for saves…"]
        self.click(links)
        stage = self.shell.gather
        self.assertEqual(self.shell.stage, GATHER)
        with mock.patch.object(QFileDialog, "getExistingDirectory", return_value=str(saves)):
            self.click(next(b for b in stage.findChildren(QPushButton) if b.text() == "Folder…"))
        QTest.keyClicks(stage.words, "harbour")
        self.look()
        (top,) = stage.found.tops()
        self.assertRegex(top.text(0), r"^harbour(-2)?.bwk and \d more$", "the files of one game are one row")
        rows = [[top.child(n).text(place) for place in range(6)] for n in range(top.childCount())]
        self.assertEqual(rows[0][0], f"all {len(rows) - 1} as one save")
        self.assertEqual({row[0] for row in rows[1:3]}, {"harbour.bwk", "harbour-2.bwk"})
        self.assertEqual(rows[1][3], "binary")
        self.assertIn("named like a save", rows[1][4])
        self.assertRegex(stage.found_line.text(), r"^\d+ files in 1 sets?; a double click opens one$")
        for content, count in (("packed", 0), ("binary", 2), ("any content", len(rows) - 1)):
            stage.content.setCurrentText(content)
            stage._show_found()
            self.assertEqual(sum(len(found.files) for found in stage.sets), count, content)
        (top,) = stage.found.tops()
        number = next(n for n in range(top.childCount()) if top.child(n).text(0) == "harbour.bwk")
        stage.found.itemActivated.emit(top.child(number), 0)
        self.settle()
        self.assertEqual(self.save.main.path, saves / "harbour.bwk")
        stage.found.itemActivated.emit(stage.found.tops()[0].child(0), 0)
        self.settle()
        self.assertEqual((self.save.path, self.save.template), (saves, None), "the folder with all that is in it")
        self.assertEqual(len(self.save.files), len(list(saves.rglob("*.*"))))

    def test_nothing_found_and_wrong_folders_are_told(self) -> None:
        self.shell.show_stage(GATHER)
        stage = self.shell.gather
        stage.folder.setText(str(self.folder / "none"))
        QTest.keyClick(stage.folder, Qt.Key.Key_Return)
        self.settle()
        self.assertIn("none is not a folder; name one to look in", self.told())
        stage.folder.setText(str(self.folder))
        stage.words.setText("no such words")
        self.look()
        self.assertEqual(stage.found_line.text(), "nothing found there")
        self.click(stage.watch_button)
        self.assertIn("Open a save first, or name the folder to watch", self.told())
        self.assertFalse(stage.watcher.running)

    def test_every_save_moment_is_kept_and_can_be_sighted_at_once(self) -> None:
        saves = self.harbour()
        self.shell.session.open(saves / "harbour.bwk")
        self.press("Ctrl+1")
        stage = self.shell.gather
        self.click(stage.watch_button)
        self.wait(lambda: stage.watcher.ready)
        self.assertEqual(self.shell.spine.tabs[GATHER].line.text(), "watching")
        self.shell.close()
        self.assertTrue(self.shell.isVisible() and stage.watcher.running)
        self.assertIn("The game is being watched, which ends with this window", self.told())
        for number, action in enumerate((["sell", "wax plug"], ["dive", "Oriel"]), 1):
            self.assertEqual(play(saves, *action).status, 0)
            self.wait(lambda number=number: len(stage.moments) >= number)
        rows = self.rows(stage.moment_table)
        self.assertEqual([row[2] for row in rows], ["kept as “save 2”", "kept as “save 1”"])
        self.assertIn("harbour.bwk changed", rows[0][1])
        self.assertEqual(self.save.fields("purse.marks")[0].value, 1388, "what is shown is what the game wrote")
        self.click(stage.watch_button)
        self.assertFalse(stage.watcher.running)
        labels = [snapshot.label for snapshot in self.shell.session.book.keeping.snapshots()]  # type: ignore[union-attr]
        self.assertEqual(labels, ["save 2", "save 1", "before watching"])
        self.shell.show_stage(LOCATE)
        self.settle()
        heads = [self.shell.locate.sheet.horizontalHeaderItem(n).text() for n in (1, 2, 3)]
        self.assertEqual([head.splitlines()[1] for head in heads], ["before watching", "save 1", "save 2"])
        self.assertRegex(heads[1], r"^B · \d\d:\d\d\n")

    def test_what_the_program_itself_writes_is_no_save_moment(self) -> None:
        saves = self.harbour()
        self.shell.session.open(saves / "harbour.bwk")
        stage = self.shell.gather
        stage.toggle_watch()
        self.wait(lambda: stage.watcher.ready)
        self.shell.show_stage(EDIT)
        self.settle()
        self.type_into(self.table("Purse"), 0, 2, "5200")
        self.press("Ctrl+Return")
        self.click(self.shell.posting.write_button)
        self.wait(lambda: "Written, read back" in self.told())
        play(saves, "sell", "wax plug")
        self.wait(lambda: stage.moments)
        self.assertEqual(len(stage.moments), 1, "the game's moment alone")
        kept = [s.label for s in self.shell.session.kept_copies]
        self.assertEqual(kept, ["save 1", "before watching"])

    def test_entries_on_the_tape_survive_a_save_moment(self) -> None:
        saves = self.harbour()
        self.shell.session.open(saves / "harbour.bwk")
        self.shell.show_stage(EDIT)
        self.settle()
        self.type_into(self.table("Purse"), 0, 2, "5200")
        stage = self.shell.gather
        stage.toggle_watch()
        self.wait(lambda: stage.watcher.ready)
        play(saves, "sell", "wax plug")
        self.wait(lambda: stage.moments)
        self.assertEqual(len(self.save.tape), 1)
        self.assertEqual(stage.moments[0][1], "kept as “save 1”")
        stage.toggle_watch()
        self.press("Ctrl+Return")
        self.assertFalse(self.shell.posting.write_button.isEnabled(), "the file has changed since it was opened")

    def test_a_folder_of_the_game_is_chosen_once(self) -> None:
        saves, index = self.folder / "saves", self.folder / "elsewhere"
        for folder in (saves, index):
            folder.mkdir()
        (saves / "a.two").write_bytes((1340).to_bytes(4, "little"))
        (index / "list.json").write_text('{"marks": 1340}')
        template = self.folder / "two.yaml"
        template.write_text(TWO_FOLDERS)
        session, stage = self.shell.session, self.shell.gather
        session.open(saves / "a.two", str(template))
        self.settle()
        self.shell.show_stage(GATHER)
        self.settle()
        self.assertIn("list.json is in the folder “index”", self.told())
        self.assertEqual(stage.set.table.item(1, 2).text(), "its folder is not known yet")
        (choose,) = [b for b in stage.set.findChildren(QPushButton) if b.text() == "Choose the folder “index”…"]
        with mock.patch.object(QFileDialog, "getExistingDirectory", return_value=str(index)) as asked:
            self.click(choose)
        self.assertIn("the folder of the list", asked.call_args.args[1])
        self.wait(lambda: session.save is not None and session.save.problem is None)
        self.settle()
        names = [stage.set.table.item(number, 0).text() for number in range(stage.set.table.rowCount())]
        self.assertEqual(names, ["a.two", "index/list.json"])
        self.assertEqual([b for b in stage.set.findChildren(QPushButton) if "Choose the folder" in b.text()], [])
        session.enter(session.save.fields("marks")[0], "7")
        self.settle()
        self.assertEqual(session.open(saves / "a.two", str(template)), False, "an entry is pending")
