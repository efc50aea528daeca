"""Rules over records: totals follow, what may not repeat or has to be elsewhere is named, with nothing written."""

from __future__ import annotations

import random
import struct
from unittest import mock

from faithful_ledger.core.arranging import enter_all, insert_record, remove_records
from faithful_ledger.core.binding import RowsNode
from faithful_ledger.core.errors import OutOfBounds, TemplateError
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.template import load_template, parse_template
from faithful_ledger.core.template.parts import self_contained
from tests.support import LedgerCase

HEAD = "ledger: 1\nid: t\ntitle: T\nfiles:\n  save:\n    name: '*.bin'\n    layout:\n"
LAYOUT = """\
      - {field: total, as: u16}
      - {field: crew_count, as: u8, count_of: crew}
      - {rows: crew, count: crew_count, layout: [{field: id, as: u8}, {field: air, as: u8}]}
      - {field: hold_count, as: u8, count_of: hold}
      - {rows: hold, count: hold_count, layout: [{field: serial, as: u8}, {field: count, as: u8}, {field: owner, as: u8}, {field: place, as: u8}]}
"""
RULES = """\
rules:
  - {sum: ["hold[*].count", total], why: the game counts them}
  - {unique: "hold[*].serial"}
  - {among: ["hold[*].owner", "crew[*].id"], besides: [0]}
  - {among: ["hold[*].place", crew], first: 1}
"""
CREW = ((7, 90), (9, 80))


class RowRulesTest(LedgerCase):
    def saved(self, *hold: tuple[int, int, int, int], total: int | None = None) -> Save:
        counted = sum(lot[1] for lot in hold) if total is None else total
        data = struct.pack("<HB", counted, len(CREW)) + b"".join(map(bytes, CREW))
        data += bytes([len(hold)]) + b"".join(map(bytes, hold))
        return self.open_bytes(data, parse_template((HEAD + LAYOUT + RULES).encode(), "t"))

    def errors(self, save: Save) -> list[tuple[str, str]]:
        return [(finding.path, finding.message) for finding in save.findings if finding.level == "error"]

    def test_what_breaks_them_is_named_with_its_place(self) -> None:
        self.assertEqual(self.errors(self.saved((1, 5, 7, 1), (2, 6, 0, 2))), [])
        for hold, total, expected in (
            (((1, 5, 7, 1),), 4, ("total", "it says 4, and hold[*].count adds up to 5; the game counts them")),
            (((1, 5, 7, 1), (1, 1, 7, 1)), None, ("hold[1].serial", "it says 1 like hold[0].serial; no two may")),
            (((1, 5, 8, 1),), None, ("hold[0].owner", "it says 8, which is not among crew[*].id")),
            (
                ((1, 5, 7, 3),),
                None,
                ("hold[0].place", "it says 3, which is not the number of a record of crew (1 to 2)"),
            ),
            (
                ((1, 5, 7, 0),),
                None,
                ("hold[0].place", "it says 0, which is not the number of a record of crew (1 to 2)"),
            ),
        ):
            with self.subTest(expected=expected):
                save = self.saved(*hold, total=total)
                self.assertEqual(self.errors(save), [expected])
                self.assertFalse(save.in_balance)
        many = self.saved(*((number, 1, 66, 1) for number in range(9)))
        self.assertEqual(len(self.errors(many)), 6)
        self.assertEqual(self.errors(many)[-1], ("hold[*].owner", "and 4 more like these"))

    def test_a_total_follows_what_is_entered_added_and_removed(self) -> None:
        save = self.saved((1, 5, 7, 1), (2, 6, 0, 2))
        save.enter("hold[0].count", "50")
        self.assertEqual(self.total_after(save), 56)
        save = self.saved((1, 5, 7, 1), (2, 6, 0, 2))
        insert_record(save, "hold", 2, like=1)
        save.enter_structure("crew", [{"id": 7}, {"id": 9}, {"id": 11}])
        plan = make_plan(save)
        self.assertEqual([f.path for f in plan.findings if f.level == "error"], ["hold[2].serial"])
        save = self.saved((1, 5, 7, 1), (2, 6, 0, 2))
        remove_records(save, "hold", [0])
        self.assertEqual(self.total_after(save), 6)
        wrong = self.saved((1, 5, 7, 1), total=9)
        wrong.enter("crew[0].air", "3")
        self.assertEqual(self.total_after(wrong, balanced=False), 9, "nothing it counts was changed")
        wrong.enter("hold[0].count", "6")
        self.assertEqual(self.total_after(wrong), 6)

    def total_after(self, save: Save, *, balanced: bool = True) -> int:
        plan = make_plan(save)
        self.assertEqual(plan.in_balance, balanced, plan.findings)
        return int.from_bytes(plan.files[0].patched.read(0, 2), "little")

    def test_an_entry_that_contradicts_a_total_is_out_of_balance(self) -> None:
        save = self.saved((1, 5, 7, 1))
        save.enter("total", "77")
        plan = make_plan(save)
        self.assertFalse(plan.in_balance)
        self.assertIn("it says 77, and hold[*].count adds up to 5", plan.findings[-1].message)

    def test_mistakes_in_rules_are_named(self) -> None:
        for rule, words in (
            ("{sum: [total, total]}", "“total” is not a field of every record; write it as hold[*].count"),
            ("{sum: ['hold[*].count', crew]}", "“crew” is not a single field"),
            ("{sum: ['hold[*].count', 'hold[*].owner']}", "“hold[*].owner” is not a single field"),
            ("{among: ['hold[*].owner', total]}", "“total” is not rows, or a field of every record"),
            ("{unique: 'hold[*].serial', equal: [total, total]}", "a rule has one of"),
            ("{why: x}", "a rule has one of `equal`, `named`, `sum`, `unique` and `among`"),
            ("{unique: 'hold[*].nothing'}", "nothing"),
        ):
            with self.subTest(rule=rule), self.assertRaises(TemplateError) as caught:
                parse_template((HEAD + LAYOUT + f"rules: [{rule}]\n").encode(), "t")
            self.assertIn(words, str(caught.exception))


class LimitsTest(LedgerCase):
    """A choice decides the bounds of a value beside it, by its catalogue."""

    TABLE = "code;name;group;least;most\n1;lamp oil;light;;20\n2;brass lamp;light;1;1\n3;hemp line;;;\n"
    TEXT = """\
ledger: 1
id: hold
title: Hold
catalogues: {item: items.csv}
files:
  save:
    name: "*.sav"
    layout:
      - {field: lots, as: u16, count_of: hold}
      - {rows: hold, count: lots, layout: [{field: item, as: u8, names: item}, {field: count, as: u8, bounds: {most: 50, by: item}}]}
"""

    def setUp(self) -> None:
        super().setUp()
        (self.folder / "items.csv").write_text(self.TABLE, "utf-8")
        self.template = self.folder / "hold.yaml"
        self.template.write_text(self.TEXT, "utf-8")

    def save(self, lots: list[tuple[int, int]]) -> Save:
        path = self.folder / "one.sav"
        path.write_bytes(len(lots).to_bytes(2, "little") + bytes(part for lot in lots for part in lot))
        return open_save(path, load_template(self.template, self.folder / "cache"))

    def test_an_entry_keeps_the_limits_of_what_is_chosen_now(self) -> None:
        save = self.save([(1, 5), (3, 5), (2, 1)])
        enter_all(save, [("hold[0].count", "20"), ("hold[1].count", "50")])
        for path, value, words in (
            ("hold[0].count", "21", "21 is above the bound 20: lamp oil allows at most 20"),
            ("hold[2].count", "0", "0 is below the bound 1: brass lamp allows 1 to 1"),
            ("hold[1].count", "51", "51 is above the bound 50"),
        ):
            with self.assertRaises(OutOfBounds) as caught:
                enter_all(save, [(path, value)])
            self.assertIn(words, str(caught.exception))
        enter_all(save, [("hold[2].item", "lamp oil"), ("hold[2].count", "9")])
        with self.assertRaises(OutOfBounds):
            enter_all(save, [("hold[1].item", "brass lamp"), ("hold[1].count", "9")])

    def test_many_records_have_the_findings_that_few_have(self) -> None:
        rng = random.Random(3)
        lots = [(rng.choice((1, 1, 2, 3, 9)), rng.choice((1, 1, 1, 0, 30, 60))) for _ in range(40)]
        few = {(each.path, each.message) for each in self.save(lots[:40]).findings}
        with mock.patch("faithful_ledger.core.rules.audit.MANY", 10):
            many = {(each.path, each.message) for each in self.save(lots).findings}
        wrong = {
            n
            for n, (item, count) in enumerate(lots)
            if count > {1: 20, 2: 1}.get(item, 50) or (item == 2 and count < 1)
        }
        self.assertEqual({path for path, _ in few if path.endswith("count")}, {f"hold[{n}].count" for n in wrong})
        shown = {each for each in many if "and more" not in each[1]}
        self.assertLessEqual(shown, few)
        self.assertGreaterEqual(len(shown), min(len(few), 20))

    def test_what_cannot_decide_is_named_and_all_goes_into_one_text(self) -> None:
        for old, new, words in (
            ("by: item", "by: lots", "“lots” is not a choice beside it"),
            ("by: item", "by: nowhere", "“nowhere” is not a choice beside it"),
        ):
            self.template.write_text(self.TEXT.replace(old, new), "utf-8")
            with self.assertRaises(TemplateError) as caught:
                load_template(self.template, self.folder / "cache")
            self.assertIn(words, str(caught.exception))
        self.template.write_text(self.TEXT, "utf-8")
        whole = parse_template(self_contained(self.template), "hold.yaml")
        catalogue = whole.files["save"].root.layout[1].item.layout[0].catalogue  # type: ignore[attr-defined]
        self.assertEqual((catalogue.groups, catalogue.limits), ({1: "light", 2: "light"}, {1: (None, 20), 2: (1, 1)}))
        (self.folder / "items.csv").write_text(self.TABLE.replace(";20", ";much"), "utf-8")
        with self.assertRaises(TemplateError) as caught:
            load_template(self.template, self.folder / "cache")
        self.assertIn("items.csv, line 2: most is “much”, which is not a number", str(caught.exception))


class EmptyTest(LedgerCase):
    """Places of fixed number, of which some hold nothing."""

    LAYOUT = """\
      - rows: slots
        count: 4
        key: serial
        empty: EMPTY
        layout:
          - {field: item, as: u8, names: {0: nothing, 1: lamp oil}}
          - {field: serial, as: u8}
          - {field: owner, as: u8}
"""

    def rows(self, empty: str, data: bytes) -> RowsNode:
        text = HEAD + self.LAYOUT.replace("EMPTY", empty) + "rules: [{among: ['slots[*].owner', slots], first: 1}]\n"
        self.save = self.open_bytes(data, parse_template(text.encode(), "t"))
        (rows,) = self.save.nodes("slots")
        assert isinstance(rows, RowsNode)
        return rows

    def test_records_that_hold_nothing_are_known_by_number_or_name_and_no_rule_is_about_them(self) -> None:
        data = bytes([1, 5, 1, 0, 9, 99, 1, 9, 2, 0, 9, 99])
        for empty in ("{item: 0}", "{item: nothing}", "{item: 0, owner: 99}"):
            rows = self.rows(empty, data)
            self.assertEqual([rows.is_empty(item) for item in rows.items()], [False, True, False, True])
            self.assertEqual([f.message for f in self.save.findings if f.level != "note"], [])
        rows = self.rows("{item: 7}", data)
        self.assertFalse(any(map(rows.is_empty, rows.items())))
        self.assertEqual(len([f for f in self.save.findings if "is the serial of" in f.message]), 2)
        self.assertEqual(len([f for f in self.save.findings if "says 99" in f.message]), 2)
        with self.assertRaisesRegex(TemplateError, "the record has no field “count”"):
            self.rows("{count: 0}", data)
