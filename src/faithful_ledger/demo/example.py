"""The whole example, through the real window: open, change, look at the plan, post, have the game accept it, reverse.

Each step is reported in words with its result, and fails the example when the result is not what it should be.
"""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QModelIndex, Qt
from PySide6.QtTest import QTest

from faithful_ledger.core.edits import Patched
from faithful_ledger.core.errors import place
from faithful_ledger.core.placed_seals import Placed
from faithful_ledger.core.posting import Plan
from faithful_ledger.core.seals.algorithms import LENGTH
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.demo.book import make_demo_book
from faithful_ledger.demo.carrying import carry_saves
from faithful_ledger.demo.described import describe_by_hand
from faithful_ledger.demo.game import Game
from faithful_ledger.demo.hands import type_into
from faithful_ledger.demo.texts import edit_texts_without_a_template, reopen_the_flooded_site
from faithful_ledger.demo.unknown import compare_and_search, locate_in_the_deep, locate_unknown
from faithful_ledger.desk.application import application, make_shell
from faithful_ledger.desk.shell import DESCRIBE, EDIT, HISTORY, Shell
from faithful_ledger.desk.stages.describe import SEALS, TEMPLATE
from faithful_ledger.desk.theme import apply_sheet, apply_theme
from faithful_ledger.desk.widgets.field_table import FieldTable

__all__ = ["Example", "ExampleFailed"]

LONGEST = 60.0  # seconds for the seals


class ExampleFailed(Exception):
    """A step did not give what it should."""


class Example:
    """Runs the steps in order. `tell` gets each line; pictures go to a folder, named after what they show."""

    def __init__(self, shelf: Shelf, pictures: Path, tell: Callable[[str], None] = print) -> None:
        self.shelf, self.pictures, self.tell = shelf, pictures, tell
        self.step_number = 0
        self.game = Game(shelf.data / "harbour")
        self.shell: Shell | None = None

    def run(self) -> None:
        """All steps.

        Raises:
            ExampleFailed: naming the step.
        """
        self.pictures.mkdir(parents=True, exist_ok=True)
        path = make_demo_book(self.shelf)
        shown = self.game.play("show")
        self.step("Brinewick was played for four turns; it shows:", shown.accepted)
        self.tell(_indented("\n".join(shown.text.splitlines()[:6])))
        shell = self.open_window(path)
        before = {file.path: file.path.read_bytes() for file in shell.session.save.files.values()}  # type: ignore[union-attr]
        self.change_values(shell)
        plan = self.look_at_plan(shell)
        self.try_without_seals(plan)
        self.post(shell)
        self.look_around(shell)
        self.reverse(shell, before)
        self.find_seals(shell)
        self.open_bad_files(shell, path)
        locate_unknown(self, shell)
        compare_and_search(self, shell)
        describe_by_hand(self, shell)
        locate_in_the_deep(self, shell)
        edit_texts_without_a_template(self, shell)
        reopen_the_flooded_site(self, shell)
        carry_saves(self, shell)
        shell.close()
        self.tell(f"\nAll {self.step_number} steps gave what they should. The pictures are in {self.pictures}")

    def step(self, what: str, done: bool) -> None:
        self.step_number += 1
        self.tell(f"{self.step_number:2}. {what}")
        if not done:
            raise ExampleFailed(what)

    def picture(self, name: str) -> None:
        assert self.shell is not None
        self.shell.session.background.wait()  # readings from the kept copies come a little later
        self.settle()
        self.shell.grab().save(str(self.pictures / f"{name}.png"))

    def settle(self) -> None:
        end, rest = time.monotonic() + 30, 3
        while rest and time.monotonic() < end:
            application().processEvents()
            rest = rest - 1 if self.shell is None or self.shell.at_rest else 3

    def rest(self) -> None:
        """Until what is worked out beside the window is there: lists, plans, what is written."""
        assert self.shell is not None
        for _ in range(4):
            self.shell.session.wait()
            self.settle()

    def write_entries(self) -> bool:
        """Look at the plan of what was entered, tick what comes before, and write it; whether it was written."""
        shell = self.shell
        assert shell is not None
        shell.show_posting()
        self.wait(lambda: not shell.posting.checking)
        for box in shell.posting.steps:
            box.setChecked(True)
        QTest.mouseClick(shell.posting.write_button, Qt.MouseButton.LeftButton)
        self.rest()
        message = shell.banner.message
        return message is not None and message.kind == "holds"

    def wait(self, done: Callable[[], object]) -> None:
        """Let the window work until something has happened, at most half a minute."""
        end = time.monotonic() + 30
        while not done() and time.monotonic() < end:
            self.settle()
            time.sleep(0.02)

    # the steps

    def open_window(self, path: Path) -> Shell:
        application()
        shell = self.shell = make_shell(self.shelf)
        shell.resize(1280, 800)
        shell.welcome.show_recent()
        shell.show()
        opened = shell.session.open(path)
        save = shell.session.save
        self.step(
            f"The window opens {path.name}: template {save.template.id if save and save.template else '–'}", opened
        )
        assert save is not None
        held = sum(state.holds for state in save.seals)
        self.step(f"{held} of {len(save.seals)} seals, lengths, counts and offsets hold; in balance", save.in_balance)
        return shell

    def change_values(self, shell: Shell) -> None:
        shell.show_stage(EDIT)
        self.settle()
        crew, purse = shell.edit.tables["Crew"], shell.edit.tables["Purse"]
        refused = self.type_into(purse, 0, 2, "70000")
        message = shell.banner.message
        self.step(
            f"Typing 70000 marks is refused: {message.text if message else '–'}", not refused and message is not None
        )
        self.step("Marks: 5200 is typed into the purse", self.type_into(purse, 0, 2, "5200"))
        self.step("Oriel's air: 100 is typed into the crew", self.type_into(crew, 0, 1, "100"))
        self.step("Tamsin becomes “Tamsin Bell”, four letters longer", self.type_into(crew, 1, 0, "Tamsin Bell"))
        shell.edit.switches["Sites open\0Salt Nave"].click()
        tape = [f"{entry.path}: {entry.old_text} → {entry.new_text}" for entry in shell.session.save.tape]  # type: ignore[union-attr]
        self.step("The site Salt Nave is switched on; the tape holds", len(tape) == 4)
        self.tell(_indented("\n".join(tape)))
        crew.setCurrentIndex(crew.model().index(0, 1))
        self.picture("edit")
        shell.show_stage(DESCRIBE)
        save = shell.session.save
        assert save is not None
        shell.session.select_node(save.fields("crew[0].air")[0])
        self.picture("describe")

    def type_into(self, table: FieldTable, line: int, column: int, text: str) -> bool:
        """Type into a cell as a person does; whether an entry came of it."""
        if not type_into(table, line, column, text):
            return False
        self.settle()
        return str(table.model().index(line, column, QModelIndex()).data()) == text

    def look_at_plan(self, shell: Shell) -> Plan:
        QTest.mouseClick(shell.tape.post, Qt.MouseButton.LeftButton)
        plan = shell.session.plan
        if plan is None:
            raise ExampleFailed("there is no plan")
        self.step(f"The plan: {len(plan.changes)} runs of bytes will change, each with its cause:", bool(plan.changes))
        lines = [f"{c.file:8} 0x{c.offset:04X}  {c.old_size:2} → {c.size:2} bytes  {c.cause}" for c in plan.changes]
        self.tell(_indented("\n".join(lines)))
        removed = ", ".join(path.name for path in plan.companions)
        self.step(f"It also removes the stale {removed}, and it will balance", plan.in_balance and bool(removed))
        self.picture("posting")
        return plan

    def try_without_seals(self, plan: Plan) -> None:
        """The same entries on a copy, but nothing that depends on them is put right."""
        copy = Game(self.shelf.data / "without-seals")
        shutil.copytree(self.game.saves, copy.saves, ignore=shutil.ignore_patterns("slots.idx"))
        for file in plan.files:
            entries = [entry for entry in [*plan.entries, *plan.followers] if entry.node.file == file.file.name]
            spans = [entry.replacement() for entry in entries]
            raw = Patched(file.file.source, spans)
            (copy.saves / file.file.path.name).write_bytes(raw.read(0, raw.size))
        answer = copy.play("show")
        self.step(f"The same edit without renewing anything: {answer.text}", not answer.accepted)
        shutil.rmtree(copy.saves)

    def post(self, shell: Shell) -> None:
        QTest.mouseClick(shell.posting.write_button, Qt.MouseButton.LeftButton)
        self.settle()
        message = shell.banner.message
        self.step(f"Posted. {message.text if message else ''}", message is not None and message.kind == "holds")
        answer = self.game.play("show")
        self.step("Brinewick accepts the posted save and shows:", answer.accepted)
        self.tell(_indented("\n".join(answer.text.splitlines()[:4])))
        right = "marks 5200" in answer.text and "Tamsin Bell" in answer.text and "Oriel: air 100" in answer.text
        self.step("Marks, air and name are what was typed, and Salt Nave is open", right and "Salt Nave" in answer.text)

    def look_around(self, shell: Shell) -> None:
        self.picture("history")
        shell.show_stage(DESCRIBE)
        save = shell.session.save
        assert save is not None
        shell.session.select_node(save.fields("account.marks")[0])
        shell.session.select_node(save.nodes("hold")[0])
        shell.describe.rows.setCurrentText("Row: one record")
        shell.describe.rows.activated.emit(shell.describe.rows.currentIndex())
        self.step("The hold stands in columns, one record of 24 bytes a row", shell.describe.strip.row_width == 24)
        apply_theme(application(), dark=True)
        apply_sheet(application())
        shell.show_stage(EDIT)
        shell.session.select_node(save.fields("purse.marks")[0])
        self.picture("dark")
        apply_theme(application(), dark=False)
        apply_sheet(application())

    def reverse(self, shell: Shell, before: dict[Path, bytes]) -> None:
        shell.show_stage(HISTORY)
        book = shell.session.book
        assert book is not None
        begun = shell.session.history.reverse(book.history.postings()[0])
        self.settle()
        same = all(path.read_bytes() == content for path, content in before.items())
        self.step("The posting is reversed: both files have their old bytes again, every one", begun and same)
        answer = self.game.play("show")
        self.step("Brinewick accepts the reversed save as well", answer.accepted and "marks 1386" in answer.text)

    def find_seals(self, shell: Shell) -> None:
        """What the template says about the checksum of the body, found without it."""
        shell.show_stage(DESCRIBE)
        shell.describe.show_pane(SEALS)
        pane = shell.describe.seals
        pane.look()
        end = time.monotonic() + LONGEST

        def checksum() -> Placed | None:
            sure = (each for each in pane.found if each.finding.sure and each.finding.algorithm.name != LENGTH)
            return next(sure, None)

        while pane.looking and checksum() is None and time.monotonic() < end:
            application().processEvents()
            time.sleep(0.02)
        found = checksum()
        pane.stop()
        shell.session.wait()
        said = f"{found.finding.name_in_words} over {found.covers_in_words()}" if found is not None else "–"
        at = found.at if found is not None else 0
        self.step(f"The finder says, from the kept copies alone: {said}, stored at {place(at)}", at == 0x10)
        shell.describe.show_pane(TEMPLATE)

    def open_bad_files(self, shell: Shell, path: Path) -> None:
        broken = self.shelf.data / "broken" / "harbour.bwk"
        shutil.copytree(path.parent, broken.parent)
        content = bytearray(broken.read_bytes())
        content[0x4A] ^= 0xFF
        broken.write_bytes(content)
        shell.session.open(broken)
        save = shell.session.save
        assert save is not None
        names = ", ".join(state.label for state in save.broken_seals)
        self.step(f"A save with one damaged byte opens all the same, marked ✕: {names}", bool(save.broken_seals))
        shell.show_stage(DESCRIBE)
        shell.describe.show_pane(SEALS)
        shell.session.select_node(save.fields("head.body_crc")[0])
        self.picture("damaged")
        shell.describe.show_pane(TEMPLATE)
        broken.write_bytes(content[:1000])
        shell.session.open(broken)
        message = shell.banner.message
        self.step(f"A save cut off after 1000 bytes: {message.text if message else '–'}", message is not None)
        noise = self.shelf.data / "broken" / "noise.bin"
        noise.write_bytes(bytes((i * i * 31 + i // 7 * 113) & 0xFF for i in range(5000)))
        shell.session.open(noise)
        message = shell.banner.message
        self.step(f"A file of noise: {message.text if message else '–'}", message is not None)


def _indented(text: str) -> str:
    return "\n".join(f"      {line}" for line in text.splitlines())
