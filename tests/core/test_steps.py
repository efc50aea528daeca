"""What stands around a posting: settings to switch first, steps after it, and names that fields must agree with."""

from __future__ import annotations

import shutil
from pathlib import Path

from faithful_ledger.core.errors import TemplateError, ValueRefused
from faithful_ledger.core.history import LET_IT_SYNC
from faithful_ledger.core.opening import find_save, open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.template import Template, parse_template
from faithful_ledger.core.template.model import Setting
from tests.support import LedgerCase, play

STEPS = """ledger: 1
id: steps
title: Steps
files:
  save: {name: save.txt, format: keyed-lines, layout: [{field: marks, as: number}]}
  options: {name: options.txt, format: keyed-lines, layout: [{field: plain, as: switch}]}
steps:
  before: [Close the game., {set: options.plain, to: true, why: else the game reads packed saves}]
  after: [Start the game.]
  look_for: [marks]
"""
NAMES = """ledger: 1
id: names
title: Names
files: {{save: {{name: '*.sav', layout: [{{field: slot, as: u8}}, {{field: marks, as: u16}}]}}}}
rules: [{{named: slot, why: the game looks, {0}}}]
"""


class StepsTest(LedgerCase):
    def steps_save(self) -> Save:
        (self.folder / "save.txt").write_text("marks = 3\n")
        (self.folder / "options.txt").write_text("plain = false\n")
        return open_save(self.folder / "save.txt", parse_template(STEPS.encode(), "steps.yaml"))

    def test_a_setting_is_a_step_that_can_be_entered(self) -> None:
        save = self.steps_save()
        save.enter("marks", "9")
        step = make_plan(save).steps.before[1]
        assert isinstance(step, Setting)
        self.assertEqual(str(step), "Set options.plain to true: else the game reads packed saves.")
        save.enter(step.path, step.to)
        plan = make_plan(save)
        self.assertEqual({file.file.name for file in plan.written}, {"save", "options"})

    def test_a_posting_stays_open_until_steps_are_ticked_and_the_player_has_said(self) -> None:
        save, book = self.steps_save(), self.shelf().open("Steps")
        self.addCleanup(book.close)
        book.records.set_setting("synced", "yes")
        save.enter("marks", "9")
        posting = book.history.post(save, make_plan(save))
        after = ["Start the game.", LET_IT_SYNC]
        looked = [*after, "Look for Marks 9."]
        self.assertEqual(book.history.open_steps(book.history.own_postings(save)), {posting.id: looked})
        book.records.judge(posting.id, "accepted")
        self.assertEqual(
            book.history.open_steps(book.history.own_postings(save)), {posting.id: after}, "the sync still waits"
        )
        for step in after:
            book.records.tick(posting.id, step, done=True)
        self.assertEqual(book.history.open_steps(book.history.own_postings(save)), {})
        book.records.tick(posting.id, LET_IT_SYNC, done=False)
        self.assertEqual(book.history.open_steps(book.history.own_postings(save)), {posting.id: [LET_IT_SYNC]})
        book.history.reverse(posting)
        self.assertEqual(book.history.open_steps(book.history.own_postings(save)), {}, "what was reversed is closed")

    def test_a_step_that_sets_no_field_is_a_mistake(self) -> None:
        text = STEPS.replace("set: options.plain", "set: options.plan")
        with self.assertRaisesRegex(TemplateError, "“options.plan” leads to no field"):
            parse_template(text.encode(), "steps.yaml")


class NamesTest(LedgerCase):
    def template(self, how: str) -> Template:
        return parse_template(NAMES.format(how).encode(), "names.yaml")

    def opened_as(self, name: str, slot: int, how: str) -> Save:
        path = self.folder / name
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(bytes([slot, 7, 0]))
        return open_save(path, self.template(how))

    def test_a_field_agrees_with_the_name_of_its_file_or_folder(self) -> None:
        file, folder = 'pattern: "s-{}.sav", names: {first.sav: 1}', "of: folder, pattern: 'slot{}'"
        for name, how, due in (
            ("s-4.sav", file, 4),
            ("s-04.sav", file, 4),
            ("first.sav", file, 1),
            ("a copy.sav", file, None),
            ("s-.sav", file, None),
            ("slot12/a.sav", folder, 12),
            ("other/a.sav", folder, None),
        ):
            with self.subTest(name=name):
                self.assertEqual(self.opened_as(name, due or 9, how).findings, [])
                save = self.opened_as(name, 2, how)
                self.assertEqual([finding.path for finding in save.findings], ["slot"] if due else [])
                save.enter("marks", "8")
                plan = make_plan(save)
                self.assertEqual([entry.new for entry in plan.followers], [due] if due else [])
                self.assertTrue(plan.in_balance)
                save.enter("slot", "3")
                plan = make_plan(save)
                self.assertEqual(plan.in_balance, due is None, "what was entered leads, and is not posted")

    def test_a_name_that_the_field_cannot_say(self) -> None:
        save = self.opened_as("s-300.sav", 2, 'pattern: "s-{}.sav"')
        self.assertRegex(save.findings[0].message, "s-300.sav says 300")
        save.enter("marks", "8")
        with self.assertRaisesRegex(ValueRefused, "slot has to follow the file name s-300.sav: 300"):
            make_plan(save)

    def test_a_rule_that_is_neither(self) -> None:
        for how, told in (
            ("equal: [slot, marks]", "a rule has one of `equal`, `named`, `sum`, `unique` and `among`"),
            ("of: file", "say with `pattern`"),
            ("pattern: abc", "say with `pattern`"),
        ):
            with self.subTest(how=how), self.assertRaisesRegex(TemplateError, told):
                self.template(how)

    def test_the_game_refuses_a_slot_in_anothers_file_until_it_is_put_right(self) -> None:
        saves = self.harbour()
        shutil.copy(saves / "harbour.bwk", saves / "harbour-2.bwk")
        self.assertIn("slot 1", self.answer(saves))
        path, template = find_save(saves / "harbour-2.bwk", self.shelf().library())
        save = open_save(path, template)
        self.assertIn("head.slot says 1", save.findings[0].message)
        save.enter("purse.reputation", "11")
        book = self.shelf().open("Brinewick")
        self.addCleanup(book.close)
        book.history.post(save, make_plan(save))
        self.assertIn("reputation 11", self.answer(saves))

    def answer(self, saves: Path) -> str:
        return play(saves, "--slot", "2", "show").text
