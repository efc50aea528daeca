"""Values, checks and pins that went wrong once: each comes back, blocks nothing else, or is refused with a reason."""

from __future__ import annotations

import json
import os
import random
import struct
import zlib
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_ledger.core.address.paths import Step, format_path, parse_path
from faithful_ledger.core.book import Book
from faithful_ledger.core.errors import AddressError, EntryError, LedgerError, OutOfBounds, ValueRefused
from faithful_ledger.core.evidence import Place, locate, parse_sighting
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.search import parse_number
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.storage import (
    Choice,
    FixedText,
    Float,
    Integer,
    JsonNumber,
    Leb128,
    Switches,
    encoded,
    number_storage,
)
from faithful_ledger.core.storage.scaled import Scaled, parse_fraction
from faithful_ledger.core.template import Library, parse_template
from tests.support import LedgerCase, template_of

AWKWARD = [
    "",
    " ",
    "none",
    "None",
    "2",
    "0x7",
    "bit 3",
    "fire, water",
    'a"b',
    "-x",
    "+x",
    "a -b",
    "a+b",
    "b\\c",
    "a, ",
    "x",
]
U8 = Integer(1, False, "little")


class InverseTest(LedgerCase):
    """What is shown can be typed, and means the same bytes."""

    @settings(max_examples=60)
    @given(st.lists(st.one_of(st.sampled_from(AWKWARD), st.text(max_size=8)), min_size=1, max_size=8))
    def test_every_row_of_switches(self, names: list[str]) -> None:
        storage = Switches(U8, dict(enumerate(names)))
        for value in range(256):
            raw = bytes([value])
            self.assertEqual(
                storage.encode(storage.from_text(storage.to_text(storage.decode(raw)), ())), raw, storage.names
            )

    @settings(max_examples=60)
    @given(st.dictionaries(st.integers(0, 255), st.one_of(st.sampled_from(AWKWARD), st.text(max_size=8)), max_size=20))
    def test_every_choice(self, names: dict[int, str]) -> None:
        storage = Choice(U8, names)
        for value in range(256):
            raw = bytes([value])
            self.assertEqual(
                storage.encode(storage.from_text(storage.to_text(storage.decode(raw)))), raw, storage.names
            )

    def test_switches_are_turned_by_signs_as_before(self) -> None:
        storage = Switches(U8, {0: "burn", 1: "tired", 2: "left arm"})
        for text, old, new in (
            ("+burn -tired", ("tired",), ("burn",)),
            ("+left arm,-tired", ("tired",), ("left arm",)),
            ("burn, tired", (), ("burn", "tired")),
            ("none", ("burn",), ()),
            ('+"left arm"', ("burn",), ("burn", "left arm")),
        ):
            self.assertEqual(storage.from_text(text, old), new)

    @settings(max_examples=200)
    @given(st.integers(-(1 << 63), (1 << 63) - 1))
    def test_every_number_of_variable_length(self, value: int) -> None:
        for name in ("sleb128", "zigzag", *(("uleb128", "vlq") if value >= 0 else ())):
            storage = Leb128(name)  # type: ignore[arg-type]
            self.assertEqual(storage.decode(storage.encode(value)), value)

    def test_the_ends_of_sleb128(self) -> None:
        storage = Leb128("sleb128")
        for value in (-(1 << 63), -(1 << 62) - 1, -(1 << 62), (1 << 62), (1 << 63) - 1):
            self.assertEqual(storage.decode(storage.encode(value)), value)
        with self.assertRaises(ValueRefused):
            storage.decode(b"\x80" * 9 + b"\x02")

    @settings(max_examples=200)
    @given(
        st.integers(0, 65535), st.sampled_from(["100", "0.1", "1/3", "7", "0.25", "2/7"]), st.integers(-9, 9), st.data()
    )
    def test_every_number_that_is_shown_scaled(self, stored: int, scale: str, bias: int, data: st.DataObject) -> None:
        factor = parse_fraction(scale)
        assert factor is not None
        storage = Scaled(
            Integer(2, False, "big"), factor, factor * bias, data.draw(st.sampled_from([None, "floor", "nearest"]))
        )
        raw = stored.to_bytes(2, "big")
        text = storage.to_text(storage.decode(raw))
        self.assertEqual(
            encoded(storage, storage.from_text(text) if not text.startswith("-") else storage.decode(raw), raw), raw
        )

    def test_a_value_that_stays_keeps_its_bytes(self) -> None:
        nan = struct.pack("<I", 0x7FC00123)
        for storage, raw in (
            (Leb128("uleb128"), b"\x80\x00"),
            (FixedText(8, "latin-1", b"\0"), b"Ives\0old"),
            (JsonNumber(), b"1.0e+0"),
            (Float(4, "little"), nan),
        ):
            self.assertEqual(encoded(storage, storage.decode(raw), raw), raw)

    def test_text_of_wide_letters_is_padded_with_wide_zeros(self) -> None:
        save = self.open_bytes(
            "Oriel".encode("utf-16-le").ljust(16, b"\0"),
            template_of("- {field: n, as: text, size: 16, encoding: utf-16-le}"),
        )
        self.assertEqual(save.fields("n")[0].value, "Oriel")
        (entry,) = save.enter("n", "Tam")
        self.assertEqual(entry.data, "Tam".encode("utf-16-le").ljust(16, b"\0"))

    @settings(max_examples=200)
    @given(
        st.lists(
            st.one_of(st.text(max_size=6), st.sampled_from(["player.gold", "a b", " x ", "[0]", '"', "\\", "(text)"])),
            min_size=1,
            max_size=4,
        )
    )
    def test_every_key_of_a_text_can_be_named(self, keys: list[str]) -> None:
        steps = tuple(Step(name=key) for key in keys)
        self.assertEqual(parse_path(format_path(steps)), steps)

    def test_numbers_and_sightings_of_any_length_cost_nothing(self) -> None:
        for text in ("1e999999999", "9" * 6000, "0x" + "F" * 6000, "1٣", "1_0", "--5", ""):
            with self.subTest(text[:20]):
                with self.assertRaises(ValueRefused):
                    parse_number(text)
                for storage in (Float(8, "little"), JsonNumber(), U8):
                    with self.assertRaises(ValueRefused):
                        storage.from_text(text)
        self.assertEqual(parse_sighting("1e999999999").kind, "text")


class OneFindingTest(LedgerCase):
    """What cannot be checked or found is one finding; everything else stays editable."""

    def planned(self, save: Save) -> bytes:
        plan = make_plan(save)
        return bytes(plan.files[0].patched.read(0, 1 << 20))

    def test_records_added_to_an_empty_list_and_letters_to_an_empty_text(self) -> None:
        layout = """
- {field: head_len, as: u8, length_of: head}
- {field: crew_count, as: u8, count_of: crew}
- {field: tail_at, as: u8, offset_of: tail}
- {field: sum, as: u8, seal: {algorithm: sum8, over: tail}}
- group: head
  layout: [{field: x, as: u8}, {field: y, as: u8}]
- rows: crew
  count: crew_count
  layout: [{field: air, as: u8}]
- group: tail
  layout: [{field: z, as: u8}]
"""
        for crew in ([], [40], [40, 41]):
            for now in ([], [50], [50, 60, 70]):
                data = bytes([2, len(crew), 6 + len(crew), 9, 7, 8, *crew, 9])
                save = self.open_bytes(data, template_of(layout))
                self.assertTrue(save.in_balance)
                if len(now) == len(crew):
                    continue
                save.enter_structure("crew", [{"air": air} for air in now])
                self.assertEqual(self.planned(save), bytes([2, len(now), 6 + len(now), 9, 7, 8, *now, 9]))
                self.assertTrue(make_plan(save).in_balance)
        layout = """
- {field: n, as: u8, length_of: name}
- {field: head_len, as: u8, length_of: head}
- {group: head, layout: [{field: x, as: u8}]}
- {field: name, as: text, size: n}
- {field: z, as: u8}
"""
        save = self.open_bytes(bytes([0, 1, 7, 9]), template_of(layout))
        save.enter("name", "abc")
        self.assertEqual(self.planned(save), b"\3\1\7abc\x09")

    def test_a_seal_with_a_sign_holds_and_is_renewed(self) -> None:
        layout = "- {unknown: body, size: 8}\n- {field: crc, as: i32, seal: {algorithm: crc-32, over: body}}"
        for number in range(20):
            body = random.Random(number).randbytes(8)
            save = self.open_bytes(body + struct.pack("<I", zlib.crc32(body)), template_of(layout))
            self.assertTrue(save.seals[0].holds)
            save.enter("body", os.urandom(8).hex(" "))
            changed = self.planned(save)
            self.assertEqual(changed[8:], struct.pack("<I", zlib.crc32(changed[:8])))

    def test_a_seal_over_what_is_not_there_is_one_finding(self) -> None:
        for layout, data, path in (
            (
                "- {field: v, as: u8}\n- {group: body, when: v >= 2, layout: [{field: a, as: u8}]}\n"
                "- {field: s, as: u8, seal: {algorithm: sum8, over: body}}\n- {field: gold, as: u8}",
                bytes([1, 0, 9]),
                "s",
            ),
            (
                "- {field: gold, as: u8}\n- {field: s, as: u8, seal: {algorithm: sum8, over: b}}\n"
                '- {field: b, as: u8, behind: "41 42 43"}\n- {field: c, as: u8, at: b}',
                bytes([1, 0, 9]),
                "s",
            ),
            (
                "- {field: s, as: u8, length_of: b}\n- {field: gold, as: u8}\n- {field: b, as: u8, behind: '41 42'}",
                bytes([1, 0, 9]),
                "s",
            ),
        ):
            with self.subTest(layout=layout):
                save = self.open_bytes(data, template_of(layout))
                self.assertIsNone(save.problem)
                found = [finding for finding in save.findings if finding.path == path]
                self.assertEqual([finding.level for finding in found], ["warning"])
                self.assertRegex(found[0].message, "which this save does not have; .*it is not checked and not renewed")
                save.enter("gold", "77")
                self.assertIn(77, self.planned(save))
                self.assertTrue(make_plan(save).in_balance)

    def test_a_length_that_cannot_be_read_is_renewed(self) -> None:
        layout = "- {field: n, as: bcd1, length_of: body}\n- {group: body, layout: [{field: a, as: u8}]}"
        save = self.open_bytes(b"\xfa\1", template_of(layout))
        (state,) = save.seals
        self.assertEqual((state.holds, state.stored, state.computed), (False, None, 1))
        save.renew_broken = True
        save.enter("body.a", "5")
        self.assertEqual(self.planned(save), b"\1\5")

    def test_a_rule_about_what_is_not_there_is_one_finding(self) -> None:
        layout = "- {field: v, as: u8}\n- {field: a, as: u8}\n- {field: b, as: u8, when: v == 2}"
        save = self.open_bytes(bytes([1, 7]), template_of(layout, rest="rules: [{equal: [a, b]}]"))
        self.assertEqual([(f.path, f.level) for f in save.findings], [("b", "warning")])
        save.enter("a", "8")
        self.assertEqual(self.planned(save), b"\1\x08")

    def test_json_knows_when_says_what_is_no_list_and_leaves_the_rest(self) -> None:
        text = """ledger: 1
id: t
title: T
files:
  save:
    name: "*.json"
    format: json
    layout:
      - {field: v, as: number}
      - {field: gold, as: number, when: v >= 2}
      - {rows: items, layout: [{field: a, as: number}]}
      - {field: gone, as: number}
      - {field: dotted, as: number, at: '"player.gold"'}
"""
        path = self.folder / "a.json"
        for items, kind in (('{"a": 1}', "an object"), ("7", "a number")):
            path.write_text('{"v": 1, "items": ' + items + ', "player.gold": 5, "x": 1e5}')
            save = open_save(path, parse_template(text.encode(), "t.yaml"))
            self.assertIsNone(save.problem)
            told = {finding.path: (finding.level, finding.message) for finding in save.findings}
            self.assertEqual(set(told), {"items", "gone"})
            self.assertIn(f"it is {kind}, not a list", told["items"][1])
            with self.assertRaises(AddressError):
                save.fields("gold")
            save.enter("dotted", "6")
            self.assertIn(b'"player.gold": 6', self.planned(save))

    def test_nothing_in_many_records_is_skipped(self) -> None:
        layout = """
- rows: r
  count: {n}
  key: id
  layout:
    - {{field: id, as: u16}}
    - {{group: pos, layout: [{{field: x, as: u8, bounds: {{most: 10}}}}]}}
    - {{group: f, flat: true, layout: [{{field: y, as: f32, bounds: {{most: 10}}}}]}}
    - {{rows: w, count: 2, each: {{as: u8, names: {{1: lamp}}}}}}
    - {{rows: v, count: 2, layout: [{{field: d, as: bcd1}}]}}
    - {{field: t, as: text, size: 2}}
"""
        for n in (200, 300):
            rows = [struct.pack("<HBfBBBB2s", k, 1, 1.0, 1, 1, 0x12, 0x34, b"ab") for k in range(n)]
            clean = self.open_bytes(b"".join(rows), template_of(layout.format(n=n)))
            self.assertEqual(list(clean.findings), [])
            rows[n - 3] = struct.pack("<HBfBBBB2s", 5, 99, float("nan"), 1, 7, 0x12, 0xFA, b"\xff\xfe")
            save = self.open_bytes(b"".join(rows), template_of(layout.format(n=n)))
            at = f"r[{n - 3}]"
            self.assertEqual(
                {finding.path for finding in save.findings},
                {f"{at}.{part}" for part in ("id", "pos.x", "y", "w[1]", "v[1].d", "t")},
            )

    def test_a_key_that_an_entry_gives_twice_is_out_of_balance(self) -> None:
        layout = "- {rows: crew, count: 3, key: name, layout: [{field: name, as: text, size: 4}, {field: air, as: u8}]}"
        data = b"Ives\1Oda\0\2Bo\0\0\3"
        save = self.open_bytes(data, template_of(layout))
        save.enter("crew[1].name", "Ives")
        plan = make_plan(save)
        self.assertFalse(plan.in_balance)
        self.assertEqual(
            [(f.path, f.message) for f in plan.findings],
            [("crew[1].name", "Ives is the name of [0] as well, so it does not distinguish the two")],
        )
        twice = self.open_bytes(data.replace(b"Bo\0\0", b"Ives"), template_of(layout))
        self.assertEqual([f.level for f in twice.findings], ["warning"], "it was so before")
        twice.enter("crew[1].air", "9")
        self.assertTrue(make_plan(twice).in_balance)
        allowed = self.open_bytes(data, template_of(layout.replace("key: name", "key: name, key_may_repeat: true")))
        allowed.enter("crew[1].name", "Ives")
        self.assertTrue(make_plan(allowed).in_balance)

    def test_what_is_not_a_number_is_outside_every_bound(self) -> None:
        save = self.open_bytes(bytes(4), template_of("- {field: air, as: f32, bounds: {least: 0, most: 100}}"))
        with self.assertRaisesRegex(OutOfBounds, "it is not a number, and there are bounds"):
            save.enter("air", "nan")


class PinnedTest(LedgerCase):
    """A place that is pinned writes its own bytes, and means what the game shows."""

    def pin(self, datas: list[bytes], seen: list[str], name: str = "coins", suffix: str = "sav") -> tuple[Save, str]:
        number = len(list(self.folder.glob("book*")))
        path = self.folder / f"a{number}.{suffix}"
        path.write_bytes(datas[-1])
        found = locate([MemorySource(data) for data in datas], [parse_sighting(text) for text in seen])
        self.assertTrue(found.places, found.suggestion)
        book = Book(self.folder / f"book{number}")
        self.addCleanup(book.close)
        save = open_save(path, None)
        library = Library((book.folder / "templates",))
        field = book.templates.add_place(save, library, found.places[0], name)
        (template,) = (t for t in Library((book.folder / "templates",)).templates().values() if "brinewick" not in t.id)
        return open_save(path, template), field

    def test_what_is_shown_scaled_is_entered_as_it_is_shown(self) -> None:
        for make, shown, typed, raw in (
            (lambda n: struct.pack("<II", 7, n * 100), ["5", "9", "12"], "14", struct.pack("<I", 1400)),
            (lambda n: struct.pack("<If", 7, n + 0.75), ["5", "9", "12"], "14", struct.pack("<f", 14.0)),
        ):
            save, field = self.pin([b"HEAD" + make(int(n)) + b"\1\2" for n in shown], shown)
            (node,) = save.fields(field)
            self.assertEqual(node.value, 12)
            (entry,) = save.enter(field, typed)
            self.assertEqual(entry.data.ljust(4, b"\0"), raw)

    def test_a_text_without_an_end_is_not_pinned_over_its_neighbour(self) -> None:
        padded = [b"HEAD" + text.encode("utf-16-le").ljust(32, b"\0") + b"\1\2" for text in ("Orielle", "Tam", "Bo")]
        save, field = self.pin(padded, ["Orielle", "Tam", "Bo"], "hero")
        self.assertEqual(save.fields(field)[0].value, "Bo")
        save.enter(field, "Ives")
        self.assertTrue(make_plan(save).in_balance)
        tight = [b"HEADHEAD" + text.encode() + b"\7\x09\x0b\x0d" * 4 for text in ("Orielle", "Tamsina", "Brockas")]
        save, field = self.pin(tight, ["Orielle", "Tamsina", "Brockas"], "hero")
        self.assertEqual((save.fields(field)[0].value, save.fields(field)[0].size), ("Brockas", 7))
        loose = [b"HEADHEAD" + text.encode() + b"\7\x09\x0b\x0d" * 4 for text in ("Orielle", "Tamsin", "Brock")]
        with self.assertRaisesRegex(EntryError, "nothing says where this text ends"):
            self.pin(loose, ["Orielle", "Tamsin", "Brock"], "hero")

    def test_a_place_over_a_described_field_is_refused_and_the_template_stays(self) -> None:
        path = self.folder / "a.sav"
        path.write_bytes(struct.pack("<HH", 300, 0) + b"tail")
        book = Book(self.folder / "book")
        self.addCleanup(book.close)
        text = "ledger: 1\nid: known\ntitle: Known\nfiles:\n  save:\n    name: '*.sav'\n    layout:\n"
        text += "      - {field: marks, as: u16}\n      - {field: debt, as: u16}\n"
        target = book.folder / "templates" / "known.yaml"
        target.write_text(text)
        library = Library((book.folder / "templates",))
        save = open_save(path, library.get("known"))
        place = Place((0, 0), "u32le", 2, 2, values=(300.0, 301.0))
        with self.assertRaisesRegex(EntryError, "gold overlaps (marks|debt).*the template was not changed"):
            book.templates.add_place(save, library, place, "gold")
        self.assertEqual(target.read_text(), text)

    def test_odd_keys_of_a_text(self) -> None:
        for key in ("player.gold", " gold ", "a[0]", 'q"q', "x (text)", "{n}"):
            with self.subTest(key):
                datas = [json.dumps({"a": {key: n}, "x": 1}).encode() for n in (5, 9, 12)]
                save, field = self.pin(datas, ["5", "9", "12"], "gold", "json")
                self.assertEqual(save.fields(field)[0].value, 12)

    def test_every_storage_that_is_found_can_be_pinned_and_read_back(self) -> None:
        numbers = [90, 33, 71, 8]
        for stored_as in ("u16le", "i32be", "f32le", "bcd2", "u24be", "uleb128", "digits"):
            storage = number_storage(stored_as)
            assert storage is not None
            with self.subTest(stored_as):
                datas = [b"HEAD\xee" + storage.encode(n + 1200, b"") + b"\xee\xdd" for n in numbers]
                save, field = self.pin(datas, [str(n + 1200) for n in numbers])
                (entry,) = save.enter(field, "1500")
                self.assertEqual(storage.decode(entry.data), 1500)


class OutTest(LedgerCase):
    def test_a_set_with_a_folder_goes_elsewhere_as_it_is(self) -> None:
        text = """ledger: 1
id: pair
title: Pair
files:
  save: {name: "*.sav", layout: [{field: a, as: u32}]}
  other: {name: region/r0.dat, layout: [{field: b, as: u32}]}
"""
        saves = self.folder / "saves"
        (saves / "region").mkdir(parents=True)
        (saves / "a.sav").write_bytes(bytes(4))
        (saves / "region" / "r0.dat").write_bytes(b"\1" * 4)
        save = open_save(saves / "a.sav", parse_template(text.encode(), "pair.yaml"))
        save.enter("a", "5")
        book = Book(self.folder / "book")
        self.addCleanup(book.close)
        there = self.folder / "there"
        there.mkdir()
        book.history.post_elsewhere(save, make_plan(save), there)
        self.assertEqual(self.tree(there), {"a.sav": b"\5\0\0\0", "region/r0.dat": b"\1" * 4})
        snapshot = book.keeping.keep(save)
        back = self.folder / "back"
        back.mkdir()
        book.history.restore(snapshot, to=back)
        self.assertEqual(sorted(self.tree(back)), ["a.sav", "region/r0.dat"])
        archive = self.folder / "out.zip"
        book.keeping.export(snapshot, archive)
        another = Book(self.folder / "another")
        self.addCleanup(another.close)
        taken = another.keeping.take_in(archive, saves / "a.sav")
        self.assertEqual([file.path for file in taken.files], [saves / "a.sav", saves / "region" / "r0.dat"])

    def test_a_name_that_is_not_utf_8_is_opened_kept_and_posted(self) -> None:
        path = Path(os.fsdecode(os.fsencode(self.folder) + b"/caf\xe9.bin"))
        path.write_bytes(bytes(4))
        save = open_save(path, template_of("- {field: a, as: u32}"))
        shelf = self.shelf()
        book = shelf.book_for(path, None)
        self.addCleanup(shelf.close)
        kept = book.keeping.keep(save, "first")
        self.assertEqual(book.keeping.snapshots(path)[0], kept)
        save.enter("a", "7")
        posting = book.history.post(save, make_plan(save))
        self.assertEqual(path.read_bytes(), b"\7\0\0\0")
        self.assertEqual(shelf.book_of(path).name if shelf.book_of(path) else "", book.name)  # type: ignore[union-attr]
        book.history.reverse(posting)
        self.assertEqual(path.read_bytes(), bytes(4))

    def test_a_save_opened_by_a_relative_path_is_the_same_save(self) -> None:
        path = self.folder / "a.bin"
        path.write_bytes(bytes(4))
        here = Path.cwd()
        os.chdir(self.folder)
        try:
            save = open_save(Path("a.bin"), None)
        finally:
            os.chdir(here)
        self.assertEqual(save.path, path)


class RefusedTest(LedgerCase):
    def test_a_scaled_value_that_does_not_fit_says_what_would(self) -> None:
        storage = Scaled(Integer(1, False, "little"), parse_fraction("3") or 0, parse_fraction("0") or 0, None)  # type: ignore[arg-type]
        with self.assertRaisesRegex(ValueRefused, "100 is stored as 300: 300 does not fit u8"):
            storage.encode(100, b"\0")
        with self.assertRaisesRegex(LedgerError, "1.5 would be stored as 4.5, which is not a whole number"):
            storage.encode(1.5, b"\0")
