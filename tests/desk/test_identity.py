"""In the window: another character under the same file name, and who says whose save it is."""

from __future__ import annotations

import shutil
from pathlib import Path

from PySide6.QtWidgets import QCheckBox

from faithful_ledger.desk.shell import HISTORY
from tests.desk.support import DeskCase
from tests.support import play


class OthersTest(DeskCase):
    def others_come(self) -> Path:
        """A copy is kept of one company; then the game writes another one into its slot."""
        saves, mine, other = self.harbour(), self.folder / "mine", self.folder / "other"
        shutil.copytree(saves, mine)
        self.assertEqual(play(other, "start", "Kestrel Salvage").status, 0)
        self.shell.session.open(saves / "harbour.bwk")
        self.settle()
        self.shell.session.history.keep("before the storm")
        self.settle()
        for path in other.iterdir():
            shutil.copy(path, saves)
        self.shell.session.reopen()
        self.settle()
        return mine

    def notes(self) -> list[str]:
        self.shell.show_stage(HISTORY)
        self.settle()
        return [row[2] for row in self.rows(self.shell.history.table)]

    def test_another_company_is_noticed_and_begins_a_history_of_its_own(self) -> None:
        self.others_come()
        self.assertIn("This is the save of Kestrel Salvage, not of Oriel & Søn", self.told())
        self.assertIn("1 snapshot of another under this name", self.told())
        self.assertEqual(self.shell.session.kept_copies, [])
        self.assertEqual(self.notes(), [])
        box = self.shell.history.everyone
        self.assertEqual((box.isVisible(), box.text()), (True, "also of Oriel && Søn (1)"))
        self.click(box)
        self.assertEqual(self.notes(), ["before the storm · Oriel & Søn"])
        self.shell.session.history.keep("mine")
        self.settle()
        self.shell.session.reopen()
        self.settle()
        self.assertEqual(self.told(), "", "said once")

    def test_the_user_knows_better(self) -> None:
        self.others_come()
        self.click(self.shell.banner.act)
        self.assertIn("have one history", self.told())
        self.assertEqual(self.notes(), ["before the storm"])
        self.assertFalse(self.shell.history.everyone.isVisible())

    def test_a_value_of_a_text_says_whose_it_is(self) -> None:
        path = self.folder / "text.sav"
        path.write_text("owner = Ives\nmarks = 3\n")
        self.shell.session.open(path)
        self.settle()
        self.shell.session.history.keep("of Ives")
        self.settle()
        (node,) = self.save.fields("owner")
        self.shell.session.select_node(node)
        self.settle()
        (box,) = [b for b in self.shell.margin.findChildren(QCheckBox) if b.text() == "says whose save this is"]
        self.click(box)
        path.write_text("owner = Tamsin\nmarks = 5\n")
        self.shell.session.reopen()
        self.settle()
        self.assertIn("This is the save of Tamsin, not of Ives", self.told())
        self.assertEqual(self.notes(), [])
