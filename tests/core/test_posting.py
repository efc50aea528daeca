"""The first promise: every changed byte has a cause, and nothing else changes."""

from __future__ import annotations

import os
import shutil
import struct
import subprocess
import sys
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from brinewick.company import Charter, Company, Diver, Lot
from brinewick.harbour import Harbour
from brinewick.play import start
from faithful_ledger.core.edits import Patched, Replacement
from faithful_ledger.core.errors import (
    EntryError,
    LedgerError,
    Refused,
    StreamGrows,
    UnexplainedChange,
    ValueRefused,
)
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import Plan, make_plan, run_checks
from faithful_ledger.core.posting.plan import verify
from faithful_ledger.core.save import Save
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.template import parse_template
from tests.support import LedgerCase, play, template_of

RULES = """
ledger: 1
id: rules
title: Rules
version: 1.0.0
game: Brinewick
recognise: [{name: "*.rul"}]
files:
  main:
    name: "*.rul"
    layout:
      - {field: a, as: u8}
      - {field: b, as: u8}
      - {field: c, as: u8}
      - {field: count, as: u8, count_of: rows}
      - {field: twin, as: u8}
      - {rows: rows, count: count, layout: [{field: v, as: u8}]}
rules:
  - {equal: [a, b]}
  - {equal: [b, c]}
  - {equal: [count, twin]}
"""
NAMES = st.text(st.characters(codec="utf-8", categories=("L", "N", "Zs")), min_size=1, max_size=9).filter(
    lambda name: name.isprintable() and 1 <= len(name.encode()) <= 24
)
ENTRIES = st.fixed_dictionaries(
    {},
    optional={
        "purse.marks": st.integers(0, 60_000).map(str),
        "purse.reputation": st.integers(-100, 100).map(str),
        "company.name": NAMES,
        "crew[0].name": NAMES.map(lambda name: f"a{name[:7]}"),
        "crew[1].name": NAMES.map(lambda name: f"b{name[:7]}"),
        "crew[2].air": st.integers(0, 100).map(str),
        "crew[3].injuries": st.sampled_from(["+bends -burn", "none", "burn, tired, cut"]),
        "crew[0].station": st.sampled_from(["ashore", "pump", "lookout"]),
        "crew[1].x": st.floats(-1000, 1000, width=32).map(str),
        "crew[2].depth": st.integers(0, (1 << 24) - 1).map(str),
        "hold[4].count": st.integers(0, 65_535).map(str),
        "hold[*].wear": st.integers(0, 100).map(str),
        "hold[2].tag": st.text("ABCdef-12", max_size=12),
        "hold[1].unknown_20": st.binary(min_size=4, max_size=4).map(lambda raw: raw.hex(" ")),
        "sites": st.sampled_from(["+Salt Nave", "+Heron Gate +Mint Steps", "+Low Chapel"]),
        "log[0].text": st.text(st.characters(codec="utf-8"), max_size=40),
        "charters[0].name": NAMES,
        "account.day": st.dates().map(str),
    },
)


def both(plan: Plan) -> dict[str, tuple[bytes, bytes]]:
    """Old and new bytes of every file of a plan."""
    return {
        file.file.name: (
            bytes(file.patched.old.read(0, file.patched.old.size)),
            bytes(file.patched.read(0, file.patched.size)),
        )
        for file in plan.files
    }


class EveryChangedByteTest(LedgerCase):
    @settings(max_examples=120)
    @given(ENTRIES)
    def test_every_byte_that_differs_lies_in_a_change_with_a_cause_and_the_game_accepts(
        self, entries: dict[str, str]
    ) -> None:
        save, accepted = self._save_and_game()
        for path, text in entries.items():
            try:
                save.enter(path, text)
            except ValueRefused:
                continue  # as a letter that the tag's encoding does not have
        plan = make_plan(save)
        self.assertTrue(plan.in_balance, plan.findings)
        for name, (old, new) in both(plan).items():
            self._explained(plan, name, old, new)
            (accepted.folder / save.files[name].path.name).write_bytes(new)
        company = accepted.load(1)
        for entry in plan.entries:
            if entry.path == "purse.marks":
                self.assertEqual(company.marks, entry.new)
            if entry.path == "crew[1].name":
                self.assertEqual(company.crew[1].name, entry.new)

    def _save_and_game(self) -> tuple[Save, Harbour]:
        saves = self.folder / "harbour"
        if not saves.exists():
            self.harbour()
            self._pristine = self.tree(saves)
        for name, content in self._pristine.items():
            (saves / name).write_bytes(content)
        (saves / "slots.idx").unlink()
        return self.opened(saves), Harbour(saves)

    def _explained(self, plan: Plan, name: str, old: bytes, new: bytes) -> None:
        """Walk both files by the changes alone: between them they are equal, byte for byte."""
        at_old = at_new = 0
        for change in sorted(c for c in plan.changes if c.file == name):
            self.assertTrue(change.cause)
            between = change.offset - at_new
            self.assertEqual(old[at_old : at_old + between], new[at_new : at_new + between])
            at_old, at_new = at_old + between + change.old_size, change.offset + change.size
        self.assertEqual(old[at_old:], new[at_new:])

    def test_every_sample_is_carried_through_byte_for_byte(self) -> None:
        """Whatever a company holds: open, plan an entry and withdraw it, and the bytes are those the game wrote."""
        changes: list[Callable[[Company], object]] = [
            lambda company: None,
            lambda company: company.hold.clear(),
            lambda company: company.log.clear(),
            lambda company: company.route.clear(),
            lambda company: setattr(company, "chart", b"") or setattr(company, "chart_width", 0),
            lambda company: setattr(company, "name", "Ø" * 12),
            lambda company: company.charters.extend(Charter(f"charter {n}", n) for n in range(200)),
            lambda company: company.hold.extend(Lot(1, n, n % 101, 0, 1, "x") for n in range(3000)),
            lambda company: company.crew.extend(Diver(f"diver {n}") for n in range(251)),
            lambda company: setattr(company, "reputation", -100),
        ]
        for number, change in enumerate(changes):
            with self.subTest(sample=number):
                saves = self.folder / f"sample-{number}"
                company = start("Oriel & Søn")
                change(company)
                Harbour(saves).save(company)
                before = self.tree(saves)
                save = self.opened(saves)
                self.assertTrue(save.in_balance, save.findings)
                save.enter("purse.marks", "7")
                save.tape.undo()
                for name, (old, new) in both(make_plan(save)).items():
                    self.assertEqual(new, before[save.files[name].path.name])
                    self.assertEqual(old, new)
                save.tape.redo()
                self.shelf().open(f"book-{number}").history.post(save, make_plan(save))
                self.assertEqual(Harbour(saves).load(1).marks, 7)

    def test_without_entries_nothing_changes(self) -> None:
        save = self.opened()
        for old, new in both(make_plan(save)).values():
            self.assertEqual(old, new)
        self.assertEqual(make_plan(save).companions, [])
        with self.assertRaisesRegex(Refused, "there is nothing to post"):
            self.shelf().open("b").history.post(save, make_plan(save))

    def test_an_entry_that_restores_the_old_value_leaves_no_trace(self) -> None:
        save = self.opened()
        save.enter("purse.marks", "1")
        save.enter("purse.marks", "1386")
        self.assertEqual(len(save.tape), 0)

    def test_the_cause_of_each_change(self) -> None:
        save = self.opened()
        save.enter("crew[name=Tamsin].name", "Tamsin Bell")
        save.enter("purse.marks", "5200")
        self.assertEqual(
            [(change.file, change.cause, change.old_size, change.size) for change in make_plan(save).changes],
            [
                ("save", "length head.body_length", 1, 1),
                ("save", "offset head.hold_at", 1, 1),
                ("save", "seal head.body_crc", 4, 4),
                ("save", "seal purse.sum", 1, 1),
                ("save", "entry purse.marks", 2, 2),
                ("save", "length crew_length", 1, 1),
                ("save", "seal crew_sum", 2, 2),
                ("save", "entry crew[1].name", 7, 12),
                ("account", "rule account.marks", 4, 4),
            ],
        )
        self.assertEqual([path.name for path in make_plan(save).companions], ["slots.idx"])

    def test_a_byte_without_a_cause_is_never_accepted(self) -> None:
        old = MemorySource(bytes(range(200)))
        patched = Patched(old, [Replacement(50, 52, b"new", "entry x")])
        good = bytes(patched.read(0, patched.size))
        verify("save", patched, MemorySource(good))
        for offset in range(len(good)):
            damaged = bytearray(good)
            damaged[offset] ^= 1
            expected = Refused if 50 <= offset < 53 else UnexplainedChange
            with self.subTest(offset=offset), self.assertRaises(expected):
                verify("save", patched, MemorySource(damaged))
        for wrong in (good[:-1], good + b"\0"):
            with self.assertRaises(Refused):
                verify("save", patched, MemorySource(wrong))

    def test_every_other_byte_of_the_json_text_stays(self) -> None:
        save = self.opened()
        save.enter("purse.marks", "52")
        save.enter("company.name", "Søn Ø")
        old, new = both(make_plan(save))["account"]
        changed = old.replace(
            b'"company" :"Oriel & S\\u00f8n", "marks" :1386.00', b'"company" :"S\\u00f8n \\u00d8", "marks" :52.00', 1
        )
        self.assertNotEqual(old, new)
        self.assertEqual(new, changed)


class SettleTest(LedgerCase):
    def planned(self, layout: str, data: bytes, entries: dict[str, str]) -> tuple[bytes, Plan]:
        save = self.open_bytes(data, template_of(layout))
        self.assertIsNone(save.problem)
        self.assertTrue(save.in_balance, save.seals)
        for path, text in entries.items():
            save.enter(path, text)
        plan = make_plan(save)
        return both(plan)["save"][1], plan

    def test_nested_lengths_offsets_and_seals_inner_before_outer(self) -> None:
        layout = """
- {field: whole, as: u16, length_of: outer, plus: 2}
- {field: where, as: u8, offset_of: outer.tail}
- {field: outer_sum, as: u16, seal: {algorithm: sum16, over: outer}}
- group: outer
  layout:
    - {field: inner_length, as: u8, length_of: inner}
    - {field: inner_xor, as: u8, seal: {algorithm: xor8, over: inner}}
    - group: inner
      size: inner_length
      layout:
        - {field: name, as: text, length: u8}
    - {field: tail, as: u8}
"""
        new, plan = self.planned(layout, self._nested(b"\x03ABC"), {"outer.inner.name": "ABCDEF"})
        inner = b"\x06ABCDEF"
        self.assertEqual(new, self._nested(inner))
        self.assertTrue(plan.in_balance)
        kinds = [renewal.node.path for renewal in plan.renewals]
        self.assertLess(kinds.index("outer.inner_xor"), kinds.index("outer_sum"))

    @staticmethod
    def _nested(inner: bytes) -> bytes:
        """The sample of that layout around any inner part, worked out by hand."""
        xor = 0
        for byte in inner:
            xor ^= byte
        outer = bytes([len(inner), xor]) + inner + b"\x07"
        where = 5 + len(outer) - 1
        return (len(outer) + 2).to_bytes(2, "little") + bytes([where]) + sum(outer).to_bytes(2, "little") + outer

    def test_a_seal_over_itself_sees_zeros_or_nothing(self) -> None:
        for own, algorithm, expected in (("zeros", "crc-32", None), ("left out", "sum8", 3 + 9)):
            layout = f"""
- {{field: a, as: u8}}
- {{field: s, as: u32, seal: {{algorithm: {algorithm}, over: file, own: {own}}}}}
- {{field: b, as: u8}}
"""

            def sealed(a: int, b: int, own: str = own) -> bytes:
                number = zlib.crc32(bytes([a, 0, 0, 0, 0, b])) if own == "zeros" else a + b & 0xFF
                return bytes([a]) + number.to_bytes(4, "little") + bytes([b])

            new, _ = self.planned(layout, sealed(1, 9), {"a": "3"})
            self.assertEqual(new, sealed(3, 9))
            if expected is not None:
                self.assertEqual(new[1], expected)

    def test_circles_are_refused_and_named(self) -> None:
        layout = """
- {group: left, layout: [{field: s1, as: u8, seal: {algorithm: sum8, over: right}}, {field: a, as: u8}]}
- {group: right, layout: [{field: s2, as: u8, seal: {algorithm: sum8, over: left}}, {field: b, as: u8}]}
"""
        save = self.open_bytes(bytes(4), template_of(layout))
        save.enter("left.a", "1")
        with self.assertRaisesRegex(EntryError, "these seals cover each other in a circle: .*s[23].* → "):
            make_plan(save)

    def test_a_length_over_a_seal_that_covers_it_is_no_circle(self) -> None:
        """It is the same whatever the seal says."""
        layout = """
- {field: whole, as: u8, seal: {algorithm: length, over: [name, sum]}}
- {field: name, as: text, length: u8}
- {field: sum, as: u16, seal: {algorithm: sum16, over: [whole, name]}}
"""

        def sealed(name: bytes) -> bytes:
            rest = bytes((len(name) + 3, len(name))) + name
            return rest + sum(rest).to_bytes(2, "little")

        new, plan = self.planned(layout, sealed(b"Ives"), {"name": "Oriel, Tamsin and Wren"})
        self.assertEqual(new, sealed(b"Oriel, Tamsin and Wren"))
        self.assertTrue(plan.in_balance)

    def test_a_length_that_no_longer_fits_is_refused(self) -> None:
        layout = "- {field: n, as: u8, length_of: body}\n- {group: body, layout: [{field: t, as: text, length: u16}]}"
        save = self.open_bytes(b"\x05\x03\x00abc", template_of(layout))
        save.enter("body.t", "x" * 300)
        with self.assertRaisesRegex(ValueRefused, r"n \(length\) would have to say 302: 302 does not fit u8"):
            make_plan(save)

    def test_a_size_that_nobody_keeps_right_is_noticed(self) -> None:
        layout = "- {field: n, as: u8}\n- {field: t, as: text, size: n}\n- {field: z, as: u8}"
        save = self.open_bytes(b"\x03abcZ", template_of(layout))
        save.enter("t", "abcdef")
        with self.assertRaisesRegex(EntryError, "t would not read back as abcdef"):
            make_plan(save)
        kept, _ = self.planned(layout.replace("as: u8}", "as: u8, length_of: t}", 1), b"\x03abcZ", {"t": "abcdef"})
        self.assertEqual(kept, b"\x06abcdefZ")

    def test_what_would_stay_behind_a_longer_text_is_noticed(self) -> None:
        """A field and a seal at offsets that stay would be other bytes then; what follows the text moves with it."""
        text, data = "- {field: t, as: text, length: u8}", b"\x03abc" + bytes(4) + b"Z"
        for behind, shown in (
            ("{field: z, as: u8, at: 8}", "z"),
            ("{field: s, as: u8, at: 8, seal: {algorithm: sum8, over: t}}", "s"),
        ):
            save = self.open_bytes(
                data[:-1] + bytes([0x5A if shown == "z" else sum(data[:4]) & 255]), template_of(f"{text}\n- {behind}")
            )
            save.enter("t", "abcdef")
            with self.assertRaisesRegex(
                StreamGrows, rf"t would take another size, and {shown} at 0x8 \(8\) is described at an"
            ):
                make_plan(save)
        new, _ = self.planned(f"{text}\n- {{unknown: gap, size: 4}}\n- {{field: z, as: u8}}", data, {"t": "abcdef"})
        self.assertEqual(new, b"\x06abcdef" + bytes(4) + b"Z")

    def test_a_longer_text_in_a_flatbuffer_is_refused(self) -> None:
        """Each offset in it says how far something is; no number at the beginning looks like a length."""
        fields = struct.pack("<4H", 8, 12, 4, 8)  # of a table of twelve bytes with two fields
        table = struct.pack(
            "<iII", 8, 1340, 4
        )  # the list is eight bytes in front; the text four bytes behind its offset
        content = struct.pack("<I", 12) + fields + table + struct.pack("<I", 5) + b"Oriel\0\0\0" + bytes(40)
        layout = template_of("- {field: marks, as: u32, at: 16}\n- {field: name, as: text, length: u32, at: 24}")
        save = self.open_bytes(content, layout)
        save.enter("name", "Oriel & Sons")
        with self.assertRaisesRegex(StreamGrows, r"the u32le at 0x0 \(0\) looks like the first offset of a FlatBuffer"):
            make_plan(save)
        new, _ = self.planned("- {field: marks, as: u32, at: 16}", content, {"marks": "9000"})
        self.assertEqual(new[16:20], struct.pack("<I", 9000))

    def test_count_and_leave(self) -> None:
        layout = """
- {field: n, as: u8, count_of: xs}
- {rows: xs, each: {as: u8}, count: n}
- {field: s, as: u8, seal: {algorithm: sum8, over: xs, policy: leave}}
"""
        save = self.open_bytes(bytes([2, 5, 6, 11]), template_of(layout))
        save.enter("xs[0]", "9")
        plan = make_plan(save)
        self.assertEqual(both(plan)["save"][1], bytes([2, 9, 6, 11]))


class EnteringTest(LedgerCase):
    def test_what_cannot_be_entered_is_refused_in_one_sentence(self) -> None:
        save = self.opened()
        for path, text, sentence in (
            (
                "purse.marks",
                "70000",
                "purse.marks: 70000 is above the bound 60000: the purse bursts above; enter a value within",
            ),
            ("purse.reputation", "-101", "purse.reputation: -101 is below the bound -100; enter a value within"),
            ("purse.marks", "12x", "“12x” is not a whole number"),
            ("hold[0].count", "70000", "70000 does not fit u16le (0 to 65535)"),
            ("head.slot", "2", "head.slot is locked: the slot is also in the file's name"),
            ("head.magic", "X", "head.magic is locked: it is the same in every save"),
            (
                "head.body_crc",
                "1",
                "head.body_crc is a seal and is worked out when you post; enter the value it follows from",
            ),
            ("crew_length", "1", "crew_length is the length of another part and is worked out when you post"),
            ("crew[0].station", "moon", "“moon” is not a name in this list"),
            ("crew[0].name", "x" * 256, "takes 256 bytes and its length (u8) counts up to 255"),
            ("hold[0].tag", "Ω", "“Ω” cannot be written in latin-1; use other letters"),
        ):
            with self.subTest(path=path, text=text), self.assertRaises(LedgerError) as caught:
                save.enter(path, text)
            self.assertIn(sentence, str(caught.exception))
        self.assertEqual(len(save.tape), 0)
        save.enter("purse.marks", "70000", anyway=True)
        self.assertEqual(len(save.tape), 1)

    def test_a_structure_enters_all_its_parts_or_none(self) -> None:
        save = self.opened()
        save.enter_structure("crew[0]", {"air": 90, "injuries": ["burn"], "name": "Ori", "x": 1.5})
        self.assertEqual(
            sorted(e.path for e in save.tape), ["crew[0].air", "crew[0].injuries", "crew[0].name", "crew[0].x"]
        )
        for path, value, words in (
            ("crew[0]", {"air": 90, "hair": 1}, "crew[0] has no hair"),
            ("crew", [{"hair": 1}], "crew[0] has no hair"),
            ("crew", [{"air": 900}], "crew[0].air: 900 does not fit u8"),
            ("hold", ["lamp oil"], "hold[0] takes an object of JSON, not str"),
            ("crew", {"air": 1}, "crew takes a list of JSON, not dict"),
            ("crew[1]", {"vigour": 50, "air": 300}, "300 does not fit u8"),
        ):
            with self.subTest(path=path), self.assertRaisesRegex(LedgerError, words.replace("[", r"\[")):
                save.enter_structure(path, value)
        self.assertEqual(len(save.tape), 4)

    def test_records_are_added_and_removed_and_all_counts_follow(self) -> None:
        saves = self.harbour()
        save = self.opened(saves)
        crew = [{}, {"air": 9}, {}, {}, {"name": "Marit", "air": 80, "station": "bell", "injuries": ["cut"], "x": 2.5}]
        save.enter_structure("crew", crew)
        save.enter_structure("hold", [{"kept_for": "anyone"}] * 3 + [{"item": "copper helm", "count": 7}] * 20)
        save.enter_structure("route", ["Old Wharf"])
        save.enter_structure("log", [])
        self.assertIn(("crew", "4 records", "5 records"), [(e.path, e.old_text, e.new_text) for e in save.tape])
        plan = make_plan(save)
        self.assertTrue(plan.in_balance)
        renewed = [renewal.node.path for renewal in plan.renewals]
        for path in ("crew_count", "hold_count", "crew_length", "log_length", "route_length", "head.hold_at"):
            self.assertIn(path, renewed)
        self.shelf().open("b").history.post(save, plan)
        company = Harbour(saves).load(1)
        self.assertEqual([(d.name, d.air) for d in company.crew][1::3], [("Tamsin", 9), ("Marit", 80)])
        self.assertEqual((company.crew[4].station, company.crew[4].injuries, company.crew[4].x), (2, 16, 2.5))
        self.assertEqual((len(company.hold), company.hold[22].count, company.log, company.route), (23, 7, [], [0]))

    def test_records_with_lengths_counts_and_seals_of_their_own_are_added(self) -> None:
        layout = """
- {field: total, as: uleb128, length_of: rings}
- {field: n, as: u8, count_of: rings}
- rows: rings
  count: n
  layout:
    - {field: length, as: u8, length_of: body, plus: 1}
    - {field: many, as: u8, count_of: body.knots}
    - {group: body, layout: [{rows: knots, count: many, each: {as: u16}}, {field: name, as: text, length: u8}]}
    - {field: check, as: u16, seal: {algorithm: sum16, over: body}}
- {field: all, as: u32, seal: {algorithm: crc-32, over: rings}}
"""

        def ring(knots: list[int], name: bytes) -> bytes:
            body = b"".join(knot.to_bytes(2, "little") for knot in knots) + bytes([len(name)]) + name
            return bytes([len(body) + 1, len(knots)]) + body + (sum(body) & 0xFFFF).to_bytes(2, "little")

        def whole(*rings: bytes) -> bytes:
            body, size = b"".join(rings), len(b"".join(rings))
            lead = bytes([size]) if size < 128 else bytes([size & 127 | 128, size >> 7])
            return lead + bytes([len(rings)]) + body + zlib.crc32(body).to_bytes(4, "little")

        first = ring([1, 2], b"Bo")
        save = self.open_bytes(whole(first), template_of(layout))
        self.assertEqual([state.name for state in save.broken_seals], [])
        added: list[dict[str, object]] = [
            {"body": {"knots": [7, 8, 9], "name": "Marit"}},
            {},
            {"body": {"name": "x" * 99}},
        ]
        save.enter_structure("rings", [{}, *added])
        plan = make_plan(save)
        self.assertEqual(
            both(plan)["save"][1], whole(first, ring([7, 8, 9], b"Marit"), ring([], b""), ring([], b"x" * 99))
        )
        self.assertTrue(plan.in_balance)
        save = self.open_bytes(whole(first), template_of(layout))
        save.enter_structure("rings", [{"body": {"knots": [5], "name": "Y"}}])
        with self.assertRaisesRegex(ValueRefused, r"rings\[1\].check is worked out from other fields"):
            save.enter_structure("rings", [{}, {"check": 5}])

    def test_undo_and_redo_go_through_every_step(self) -> None:
        save = self.opened()
        states: list[dict[str, Any]] = []

        def state() -> dict[str, Any]:
            return {entry.path: entry.new for entry in save.tape}

        for act in (
            lambda: save.enter("purse.marks", "1"),
            lambda: save.enter("hold[*].wear", "7"),
            lambda: save.enter("purse.marks", "2"),
            lambda: save.tape.withdraw("hold[0].wear"),
            lambda: save.tape.clear(),
        ):
            states.append(state())
            act()
        for expected in reversed(states):
            self.assertTrue(save.tape.undo())
            self.assertEqual(state(), expected)
        self.assertFalse(save.tape.undo())
        for expected in [*states[1:], {}]:
            self.assertTrue(save.tape.redo())
            self.assertEqual(state(), expected)
        self.assertFalse(save.tape.redo())
        save.tape.undo()
        save.enter("purse.debt", "1")
        self.assertFalse(save.tape.redo(), "a new entry ends what could be redone")

    def test_rules_follow_either_side_and_contradictions_are_told(self) -> None:
        save = self.opened()
        save.enter("account.marks", "77")
        plan = make_plan(save)
        self.assertEqual([(e.path, e.new) for e in plan.followers], [("purse.marks", 77)])
        save.enter("purse.marks", "78")
        with self.assertRaisesRegex(EntryError, "purse.marks is to be 78 and account.marks 77; they must be equal"):
            make_plan(save)
        save.enter("account.marks", "78")
        self.assertEqual(make_plan(save).followers, [])

    def test_rules_follow_over_others_and_what_is_worked_out_leads(self) -> None:
        template = parse_template(RULES.encode(), "rules.yaml")
        (self.folder / "a.rul").write_bytes(bytes([1, 1, 1, 2, 2, 5, 6]))

        def plan(**entries: str) -> Plan:
            save = open_save(self.folder / "a.rul", template)
            for path, text in entries.items():
                if path == "rows":
                    save.enter_structure(path, [{"v": 7}] * int(text))
                else:
                    save.enter(path, text)
            return make_plan(save)

        for entered in ("a", "b", "c"):
            found = plan(**{entered: "9"})
            self.assertEqual({e.path: e.new for e in found.followers}, dict.fromkeys({"a", "b", "c"} - {entered}, 9))
            self.assertEqual(bytes(found.files[0].patched.read(0, 7)), bytes([9, 9, 9, 2, 2, 5, 6]))
        found = plan(rows="3")
        self.assertEqual({e.path: e.new for e in found.followers}, {"twin": 3})
        self.assertEqual(bytes(found.files[0].patched.read(0, 8)), bytes([1, 1, 1, 3, 3, 7, 7, 7]))
        for entries, told in (
            ({"a": "9", "c": "8"}, "a is to be 9 and c 8; they must be equal"),
            ({"twin": "9"}, "twin is to be 9 and count 2; they must be equal"),
        ):
            with self.assertRaisesRegex(EntryError, told):
                plan(**entries)

    def test_a_seal_that_did_not_hold_asks_before_it_is_renewed(self) -> None:
        saves = self.harbour()
        path = saves / "harbour.bwk"
        data = bytearray(path.read_bytes())
        data[0x4A] ^= 0x10
        path.write_bytes(data)
        save = self.opened(saves)
        self.assertIsNone(save.problem)
        self.assertFalse(save.in_balance)
        self.assertEqual([state.name for state in save.broken_seals], ["head.body_crc", "purse.sum"])
        save.enter("purse.marks", "5200")
        plan = make_plan(save)
        self.assertEqual(len(plan.undecided), 2)
        with self.assertRaisesRegex(
            Refused, "did not hold when the save was opened: Checksum of the body, Sum of purse"
        ):
            self.shelf().open("b").history.post(save, plan)
        self.assertEqual(path.read_bytes(), data)
        save.renew_broken = False
        self.assertEqual(make_plan(save).left, ["head.body_crc", "purse.sum"])
        self.assertFalse(make_plan(save).in_balance)
        save.renew_broken = True
        self.assertTrue(make_plan(save).in_balance)
        self.shelf().open("b").history.post(save, make_plan(save))
        self.assertEqual(play(saves, "show").status, 0)

    def test_findings_name_what_is_out_of_bounds_nameless_or_unequal(self) -> None:
        saves = self.harbour()
        path, account = saves / "harbour.bwk", saves / "account.json"
        save = self.opened(saves)
        save.enter("crew[3].vigour", "140", anyway=True)
        save.enter("hold[0].item", "145")
        new = both(make_plan(save))["save"][1]
        path.write_bytes(new)
        account.write_text(account.read_text().replace("1386.00", "1385.00", 1))
        again = open_save(path, save.template)
        told = {finding.path: (finding.level, finding.message) for finding in again.findings}
        self.assertEqual(
            told["crew[3].vigour"], ("warning", "140 is above the bound 100: the game loads it, but shows 40")
        )
        self.assertEqual(told["hold[0].item"], ("warning", "145 has no name in its list"))
        self.assertEqual(told["account.marks"][0], "error")
        self.assertIn("purse.marks says 1386 and account.marks says 1385; they must be equal", told["account.marks"][1])
        self.assertFalse(again.in_balance)


class ChecksTest(LedgerCase):
    def failed(self, save: Save, **options: bool) -> list[str]:
        return [f"{c.text}; {c.remedy}" for c in run_checks(make_plan(save), self.folder, **options) if not c.ok]

    def changed(self) -> Save:
        save = self.opened()
        save.enter("purse.marks", "5200")
        return save

    def test_all_is_well(self) -> None:
        self.assertEqual(self.failed(self.changed()), [])

    def test_changed_or_removed_meanwhile(self) -> None:
        save = self.changed()
        account = save.files["account"].path
        account.write_bytes(account.read_bytes() + b" ")
        self.assertEqual(
            self.failed(save), ["account.json was changed by another program since it was opened; open it again"]
        )
        account.unlink()
        self.assertEqual(self.failed(save), ["account.json is no longer there; open it again, or restore a snapshot"])

    def test_a_change_that_keeps_size_and_time_is_found_all_the_same(self) -> None:
        save = self.changed()
        path = save.main.path
        status = path.stat()
        data = bytearray(path.read_bytes())
        data[0x60] ^= 1
        with path.open("r+b") as file:
            file.write(data)
        os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))
        with self.assertRaisesRegex(Refused, "nothing was written: harbour.bwk was changed by another program"):
            self.shelf().open("b").history.post(save, make_plan(save))
        self.assertEqual(path.read_bytes(), data)

    def test_held_open_by_another_program(self) -> None:
        save = self.changed()
        code = "import sys; f = open(sys.argv[1]); print('open', flush=True); sys.stdin.read()"
        with subprocess.Popen(
            [sys.executable, "-c", code, str(save.main.path)], stdin=subprocess.PIPE, stdout=subprocess.PIPE
        ) as holder:
            assert holder.stdout is not None and holder.stdin is not None
            holder.stdout.readline()
            (told,) = self.failed(save)
            holder.stdin.close()
        self.assertRegex(told, r"harbour.bwk is held open by python.* \(\d+\); close the game first")

    def test_several_names_read_only_and_no_room(self) -> None:
        save = self.changed()
        path = save.main.path
        os.link(path, path.with_name("other-name"))
        self.assertEqual(
            self.failed(save),
            [
                "harbour.bwk has 2 names (hard links); only this one would get the new bytes; "
                "remove the other names, or allow it"
            ],
        )
        self.assertEqual(self.failed(save, detach_links=True), [])
        path.with_name("other-name").unlink()
        path.chmod(0o444)
        self.assertEqual(
            self.failed(save), ["harbour.bwk is marked read-only; make it writable if that was not on purpose"]
        )
        path.chmod(0o644)
        original = shutil.disk_usage
        shutil.disk_usage = lambda folder: type(original(folder))(100, 100, 0)  # type: ignore[assignment]
        self.addCleanup(setattr, shutil, "disk_usage", original)
        self.assertTrue(all("0 MiB are free in" in told and "make room first" in told for told in self.failed(save)))
        self.assertEqual(len(self.failed(save)), 2)

    def test_a_missing_file_of_the_set_stops_posting_and_not_looking(self) -> None:
        saves = self.harbour()
        (saves / "account.json").unlink()
        save = self.opened(saves)
        self.assertEqual(save.fields("purse.marks")[0].value, 1386)
        for act in (
            lambda: save.enter("purse.marks", "1"),
            lambda: make_plan(save),
            lambda: save.fields("account.marks"),
        ):
            with self.assertRaisesRegex(
                LedgerError, "account.json is not there; it belongs to the same save as harbour.bwk"
            ):
                act()

    def test_paths_of_the_set_lie_beside_the_save_only(self) -> None:
        save = self.opened()
        self.assertEqual({file.path.parent for file in save.files.values()}, {save.main.path.parent})
        self.assertIsInstance(save.main.path, Path)
