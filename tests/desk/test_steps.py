"""In the window: settings and steps before a posting, and what stays open after it."""

from __future__ import annotations

import zlib

from PySide6.QtWidgets import QCheckBox, QLabel, QPushButton

from faithful_ledger.desk.shell import DESCRIBE, HISTORY
from tests.core.test_steps import STEPS
from tests.desk.support import DeskCase


class StepsWindowTest(DeskCase):
    def boxes(self, inside: str) -> dict[str, QCheckBox]:
        sheet = self.shell.posting if inside == "plan" else self.shell.history.detail
        return {box.text(): box for box in sheet.findChildren(QCheckBox) if box.isVisible()}

    def test_steps_are_entered_ticked_and_closed(self) -> None:
        (self.folder / "save.txt").write_text("marks = 3\n")
        (self.folder / "options.txt").write_text("plain = false\n")
        (self.folder / "steps.yaml").write_text(STEPS)
        session = self.shell.session
        session.open(self.folder / "save.txt", str(self.folder / "steps.yaml"))
        self.settle()
        session.enter(self.save.fields("marks")[0], "9")
        self.press("Ctrl+Return")
        self.settle()
        setting = "Set options.plain to true: else the game reads packed saves."
        boxes = self.boxes("plan")
        self.assertEqual(list(boxes), ["Close the game.", setting])
        self.click(boxes["Close the game."])
        self.assertFalse(self.shell.posting.write_button.isEnabled())
        (enter,) = [b for b in self.shell.posting.findChildren(QPushButton) if b.text() == "Enter it"]
        self.click(enter)
        self.settle()
        boxes = self.boxes("plan")
        self.assertEqual([(b.isChecked(), b.isEnabled()) for b in boxes.values()], [(True, True), (True, False)])
        self.click(self.shell.posting.write_button)
        self.settle()
        self.assertIn("plain = true", (self.folder / "options.txt").read_text())
        self.shell.show_stage(HISTORY)
        self.settle()
        self.assertIn("posting, 2 entries, open", self.rows(self.shell.history.table)[0][1])
        self.assertIn(
            "Look for Marks 9.", "".join(each.text() for each in self.shell.history.detail.findChildren(QLabel))
        )
        self.click(self.boxes("history")["Start the game."])
        self.settle()
        self.assertIn("open", self.rows(self.shell.history.table)[0][1], "nobody has said what the game made of it")
        (accepted,) = [b for b in self.shell.history.detail.findChildren(QPushButton) if b.text() == "accepted"]
        self.click(accepted)
        self.settle()
        self.assertNotIn("open", self.rows(self.shell.history.table)[0][1])
        self.assertTrue(self.boxes("history")["Start the game."].isChecked())


class RefusedTest(DeskCase):
    def test_a_refusal_leads_to_the_bytes_that_may_be_a_checksum(self) -> None:
        path = self.folder / "own.sav"
        for number in range(3):
            body = bytes(40) + bytes([number, 7]) + bytes(60)
            path.write_bytes(zlib.crc32(body).to_bytes(4, "little") + body)
            self.shell.session.open(path)
            self.settle()
            self.shell.session.history.keep(f"{number}")
            self.settle()
        self.shell.session.type_bytes("file", 45, 46, b"\x09")
        self.wait_for_plan()
        self.press("Ctrl+Return")
        self.settle()
        lines = "".join(each.text() for each in self.shell.posting.findChildren(QLabel))
        self.assertIn("No seal is known", lines)
        self.click(self.shell.posting.write_button)
        self.settle()
        self.shell.show_stage(HISTORY)
        self.settle()
        detail = self.shell.history.detail
        (refused,) = [b for b in detail.findChildren(QPushButton) if b.text() == "refused"]
        self.click(refused)
        self.settle()
        lines = "".join(each.text() for each in detail.findChildren(QLabel))
        self.assertIn("a checksum that nobody knows yet", lines)
        self.assertIn("4 bytes at 0x0 (0) of own.sav differ", lines)
        (show,) = [b for b in detail.findChildren(QPushButton) if b.text() == "Show it"]
        self.click(show)
        self.settle()
        chosen = self.shell.session.selection
        assert chosen is not None
        self.assertEqual((self.shell.stage, chosen.start, chosen.end), (DESCRIBE, 0, 4))
