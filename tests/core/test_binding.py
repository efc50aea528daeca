"""Binding: JSON spans, damaged saves at every cut, repeats of all kinds, columns, and paths."""

from __future__ import annotations

import json
import resource
import struct
from unittest import mock

import numpy
from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_ledger.core.address.paths import Step, format_path, parse_path
from faithful_ledger.core.binding import FieldNode, GroupNode, RowsNode, bind, bind_files
from faithful_ledger.core.binding.spans import all_fields, explained_bytes, field_at, fields_between, record_at
from faithful_ledger.core.edits import Patched, Replacement
from faithful_ledger.core.errors import AddressError, BindingError, EntryError, LedgerError
from faithful_ledger.core.formats import JsonDocument, json_values
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.rules.audit import audit
from faithful_ledger.core.save import Save
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.storage import Leb128
from tests.support import LedgerCase, hexed, template_of

JSON_VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False, allow_infinity=False) | st.text(max_size=12),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=6), inner, max_size=4),
    max_leaves=14,
)


class JsonTest(LedgerCase):
    @settings(max_examples=200)
    @given(JSON_VALUES, st.sampled_from([None, 1, 3]), st.booleans())
    def test_every_span_holds_the_text_of_its_value(self, value: object, indent: int | None, plain: bool) -> None:
        data = json.dumps(value, indent=indent, ensure_ascii=not plain).encode("utf-8", "surrogatepass")
        try:
            data.decode("utf-8")
        except UnicodeDecodeError:
            return
        document = JsonDocument(MemorySource(data))
        document.check()
        pairs = [(document.whole, value)]
        while pairs:
            span, expected = pairs.pop()
            self.assertEqual(json.loads(data[span.start : span.end]), expected)
            if isinstance(expected, dict):
                self.assertEqual(document.children(span).names, list(expected))
                pairs += [(document.at(span, (Step(name=key),)), item) for key, item in expected.items()]
            elif isinstance(expected, list):
                self.assertEqual(len(document.items(span).starts), len(expected))
                pairs += [(document.at(span, (Step(index=n),)), item) for n, item in enumerate(expected)]

    @settings(max_examples=300)
    @given(st.text(alphabet='{}[]",:0123456789.eE+-truefalsn\\u ', max_size=24))
    def test_accepts_exactly_what_the_standard_reader_accepts(self, text: str) -> None:
        def pairs(items: list[tuple[str, object]]) -> dict[str, object]:
            if len({key for key, _ in items}) != len(items):
                raise ValueError("twice")
            return dict(items)

        def no_constant(name: str) -> object:
            raise ValueError(name)

        try:
            json.loads(text, object_pairs_hook=pairs, parse_constant=no_constant)
            accepted = True
        except ValueError:
            accepted = False
        try:
            json_values(text.encode())
            told = True
        except BindingError:
            told = False
        self.assertEqual(told, accepted, text)

    def test_what_is_wrong_is_told_with_its_place(self) -> None:
        for text, words in (
            (b'{"a": 1', "at 0x7 (7): a comma or } is expected, and the text ends"),
            (b'{"a": 1, "a": 2}', "at 0x9 (9): the name “a” stands here twice"),
            (b"[01]", "at 0x1 (1): 01 is not a number of JSON"),
            (b"[1] x", "at 0x4 (4): the text goes on after its value"),
            (b'["\\q"]', "this string has an escape that JSON does not know"),
            (b'"\xff"', "at 0x1 (1): this is not UTF-8 text"),
            (b"[" * 300 + b"]" * 300, "it is nested deeper than 200 levels"),
            (b"", "at 0x0 (0): a value is expected, and the text ends"),
        ):
            with self.subTest(text=text[:20]), self.assertRaises(BindingError) as caught:
                JsonDocument(MemorySource(text)).check()
                json_values(text)
            self.assertIn(words, str(caught.exception))

    def test_paths_into_a_text(self) -> None:
        data = b'{"slots": [{"slot": 1, "name": "Oriel"}, {"slot": 2, "name": "Ives"}]}'
        document = JsonDocument(MemorySource(data))
        for path, text in (
            ("slots[1].name", b'"Ives"'),
            ("slots[slot=1].name", b'"Oriel"'),
            ("slots[name=Ives].slot", b"2"),
        ):
            node = document.at(document.whole, parse_path(path))
            self.assertEqual(data[node.start : node.end], text)
        with self.assertRaisesRegex(AddressError, r"slots\[slot=3\] is not in this text; here are 2 items"):
            document.at(document.whole, parse_path("slots[slot=3].name"))


class PathTest(LedgerCase):
    def test_paths_are_read_and_written_back(self) -> None:
        for text, steps in (
            ("purse.marks", (Step("purse"), Step("marks"))),
            ("crew[2].air", (Step("crew"), Step(index=2), Step("air"))),
            ("crew[name=Tamsin Bell].air", (Step("crew"), Step(key="name", value="Tamsin Bell"), Step("air"))),
            (r"crew[name=a\]b].air", (Step("crew"), Step(key="name", value="a]b"), Step("air"))),
            ("hold[*].wear", (Step("hold"), Step(every=True), Step("wear"))),
        ):
            self.assertEqual(parse_path(text), steps)
            self.assertEqual(format_path(steps), text)
        for text in (
            "",
            ".",
            "a..b",
            "a.",
            "[",
            "a[",
            "a[x]",
            "a[-1]",
            "a]b",
            "a[*",
            "crew[2]air",
            "a[" + "9" * 30 + "]",
        ):
            with self.subTest(text=text), self.assertRaises(AddressError):
                parse_path(text)


REPEATS = """
- {field: count, as: u8, count_of: names}
- {rows: names, each: {as: text, length: u8}, count: count}
- {field: length, as: u8, length_of: pairs}
- {rows: pairs, layout: [{field: a, as: u8}, {field: b, as: u16}], size: length}
- {rows: route, each: {as: u8}, ended_by: "FF"}
- {field: kind, as: u8}
- {field: extra, as: u16, when: kind == 2}
- {field: where, as: u8}
- {field: far, as: u16, at: where}
"""
REPEAT_BYTES = hexed(
    """
    02              # count
    02 41 42        # names[0] AB
    00              # names[1], empty
    06              # length of pairs
    01 02 00        # pairs[0]
    03 04 00        # pairs[1]
    07 08 FF        # route
    02              # kind
    34 12           # extra
    15              # where
    00 00 CD AB     # two bytes nobody describes, then far
    """
)


class RepeatTest(LedgerCase):
    def test_counted_sized_and_marked_repeats_and_fields_that_are_there_or_elsewhere(self) -> None:
        save = self.open_bytes(REPEAT_BYTES, template_of(REPEATS))
        self.assertIsNone(save.problem)
        said = {field.path: field.value for field in save.all_fields()}
        self.assertEqual(
            said,
            {
                "count": 2,
                "names[0]": "AB",
                "names[1]": "",
                "length": 6,
                "pairs[0].a": 1,
                "pairs[0].b": 2,
                "pairs[1].a": 3,
                "pairs[1].b": 4,
                "route[0]": 7,
                "route[1]": 8,
                "kind": 2,
                "extra": 0x1234,
                "where": 0x15,
                "far": 0xABCD,
            },
        )
        self.assertTrue(save.in_balance)

    def test_a_cut_at_every_length_is_told_and_never_a_traceback(self) -> None:
        template = template_of(REPEATS)
        for cut in range(len(REPEAT_BYTES)):
            save = self.open_bytes(REPEAT_BYTES[:cut], template)
            self.assertIsInstance(save.problem, BindingError, cut)
            self.assertLess(len(str(save.problem)), 300)

    @settings(max_examples=150)
    @given(st.binary(max_size=60))
    def test_any_bytes_bind_or_have_one_problem(self, data: bytes) -> None:
        bound = bind(template_of(REPEATS).main, MemorySource(data))
        for field in all_fields(bound.root):
            self.assertTrue(0 <= field.start <= field.end <= len(data))

    def test_what_is_found_by_bytes_is_left_out_where_they_do_not_stand_once_and_the_rest_stays(self) -> None:
        layout = '- {field: x, as: u8, behind: "41 42"}\n- {field: y, as: u16, before: "43 44"}\n- {field: z, as: u8}'
        for data, words in (
            (b"zABAB  CD", {"x": "the bytes 41 42 it is behind are in the file more than once"}),
            (b"zABx  CDCD", {"y": "the bytes 43 44 it is before are in the file more than once"}),
            (
                b"zAxB..",
                {
                    "x": "the bytes 41 42 it is behind are in the file nowhere",
                    "y": "it is before are in the file nowhere",
                },
            ),
            (b"zABxD.CD", {}),
        ):
            save = self.open_bytes(data, template_of(layout))
            with self.subTest(data=data):
                self.assertIsNone(save.problem)
                self.assertEqual({error.path for error in save.missing}, set(words))
                told = {finding.path: finding.message for finding in save.findings if finding.level == "warning"}
                for path, text in words.items():
                    self.assertIn(text, told[path])
                    with self.assertRaises(AddressError):
                        save.fields(path)
                save.enter("z", "7")
                self.assertTrue(make_plan(save).changes)
        save.enter("x", "67")
        lost = [finding for finding in make_plan(save).findings if finding.path == "y"]
        self.assertIn("it would not be found again", lost[0].message)
        save.enter("y", str(0x4443))
        with self.assertRaisesRegex(EntryError, "y would not be found again: y at 0x0 .0.: the bytes 43 44"):
            make_plan(save)

    @given(
        st.sampled_from(["u8", "u16", "u16be"]), st.text("abcTamsin ", min_size=1, max_size=20), st.integers(0, 1 << 40)
    )
    def test_values_are_found_by_where_they_end(self, length: str, text: str, number: int) -> None:
        prefix = len(text).to_bytes(int(length.strip("ube")) // 8, "big" if length.endswith("be") else "little")
        data = b"\x01\x02" + prefix + text.encode() + Leb128("uleb128").encode(number) + b"\x00\x01END!"
        layout = f'- {{field: name, as: text, length: {length}, before: "{Leb128("uleb128").encode(number).hex()}0001454E4421"}}\n'
        layout += '- {field: marks, as: uleb128, before: "454E4421", at: -2}'
        bound = bind(template_of(layout).main, MemorySource(data))
        self.assertIsNone(bound.problem)
        self.assertEqual([bound.root.names[name].value for name in ("name", "marks")], [text, number])  # type: ignore[attr-defined]

    def test_counts_and_lengths_that_point_outside_cost_nothing(self) -> None:
        for layout, data, words in (
            (
                "- {field: n, as: u32}\n- {rows: lots, layout: [{unknown: x, size: 24}], count: n}",
                b"\xff\xff\xff\xff" + bytes(48),
                "lots at 0x4 (4): the count says 4294967295 records of 24 bytes, and 48 bytes are left",
            ),
            (
                "- {field: n, as: u32}\n- {rows: names, each: {as: text, length: u8}, count: n}",
                b"\xff\xff\xff\x7f" + bytes(8),
                "the count says 2147483647 records of at least 1 bytes, and 8 bytes are left",
            ),
            (
                "- {field: n, as: u64}\n- {rows: nothing, layout: [], count: n}",
                b"\xff" * 8,
                "the count says 18446744073709551615 records",
            ),
            (
                "- {field: n, as: i32}\n- {unknown: body, size: n}",
                b"\xff\xff\xff\xff",
                "body at 0x4 (4): its length says -1 bytes and 0 are left",
            ),
            (
                "- {field: name, as: text, length: u32}",
                b"\xff\xff\xff\xff",
                "its length says 4294967299 bytes and 4 are left",
            ),
            (
                "- {field: p, as: u32}\n- {field: x, as: u8, at: p}",
                b"\xff\0\0\0",
                "it points to 255, outside the 4 bytes",
            ),
            ('- {rows: route, each: {as: u8}, ended_by: "FF"}', b"\1\2\3", "the marker FF that ends it is missing"),
            (
                "- {rows: lots, layout: [{field: a, as: u16}], size: 5}",
                bytes(5),
                "its size (5 bytes) is not a multiple of the record size (2)",
            ),
            ('- {constant: tag, text: "CREW"}', b"CREV", "tag at 0x0 (0): should be 43 52 45 57 and is 43 52 45 56"),
            ("- {field: z, as: u8}\n- {unknown: x, size: 8 // z}", bytes(9), "“8 // z” divides by zero"),
            (
                "- {rows: none, layout: [], ended_by: 'FF'}",
                bytes(3),
                "a record takes no bytes, so they would never end",
            ),
        ):
            with self.subTest(words=words):
                before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
                save = self.open_bytes(data, template_of(layout))
                self.assertIn(words, str(save.problem))
                grown = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before
                self.assertLess(grown, 64 << 10, "kibibytes")

    def test_a_large_array_is_one_view_and_its_columns_are_right(self) -> None:
        layout = """
- {field: n, as: u32}
- rows: lots
  layout:
    - {field: item, as: u16, names: {1: lamp oil}}
    - {field: depth, as: u24}
    - {field: east, as: i24be}
    - {field: x, as: f32be}
    - {field: tag, as: text, size: 4}
  count: n
"""
        count = 50_000
        rng = numpy.random.default_rng(7)
        records = rng.integers(0, 256, (count, 16), numpy.uint8)
        template = template_of(layout)
        save = self.open_bytes(count.to_bytes(4, "little") + records.tobytes(), template)
        (lots,) = save.nodes("lots")
        assert isinstance(lots, RowsNode)
        self.assertEqual((lots.count, lots.stride, lots.offsets), (count, 16, None))
        for index in (0, 1, 777, count - 1):
            item = lots.item(index)
            assert isinstance(item, GroupNode)
            for name in ("item", "depth", "east", "x"):
                field = item.names[name]
                assert isinstance(field, FieldNode)
                number = field.value if name == "x" else field.number if name == "item" else field.value
                numpy.testing.assert_equal(
                    float(lots.column(name)[index]), float(numpy.float32(number) if name == "x" else number)
                )
        self.assertIs(lots.records().flags.owndata, False)
        with self.assertRaisesRegex(AddressError, "there are 50000, numbered from 0"):
            lots.item(count)

    def test_from_a_byte_back_to_its_field(self) -> None:
        save = self.open_bytes(REPEAT_BYTES, template_of(REPEATS))
        root = save.main.bound.root  # type: ignore[union-attr]
        for field in list(all_fields(root)):
            for offset in range(field.start, field.end):
                self.assertEqual(field_at(root, offset).path, field.path)  # type: ignore[union-attr]
        described = {offset for field in all_fields(root) for offset in range(field.start, field.end)}
        for offset in set(range(len(REPEAT_BYTES))) - described:
            self.assertIsNone(field_at(root, offset))
        self.assertEqual(record_at(root, 8).path, "pairs")  # type: ignore[union-attr]
        self.assertEqual(explained_bytes(root), len(described))
        for start in range(len(REPEAT_BYTES)):
            for end in range(start + 1, len(REPEAT_BYTES) + 1):
                expected = {f.path for f in all_fields(root) if f.start < end and f.end > start and f.size}
                self.assertEqual({f.path for f in fields_between(root, start, end) if f.size}, expected)


class BrinewickBindingTest(LedgerCase):
    def cut_and_flipped(self) -> tuple[bytes, Save]:
        save = self.opened()
        return bytes(save.main.source.read(0, save.main.source.size)), save

    def test_every_sample_is_explained_and_read_as_the_game_reads_it(self) -> None:
        _, save = self.cut_and_flipped()
        self.assertTrue(save.in_balance)
        said = {field.path: field.value for field in save.all_fields() if not field.spec.unknown}
        for path, value in {
            "purse.marks": 1386,
            "crew[0].name": "Oriel",
            "crew[0].injuries": ("burn", "tired"),
            "crew[3].depth": 65540,
            "company.name": "Oriel & Søn",
            "account.company": "Oriel & Søn",
            "account.marks": 1386,
            "log[1].text": "The bell rang twice at slack water.",
            "route[2]": "Kiln Stairs",
            "charters[0].name": "Low Chapel charter",
            "sites": ("Old Wharf", "Bell Rock", "Kiln Stairs", "Tin Arcade"),
        }.items():
            self.assertEqual(said[path], value, path)

    def test_keys_names_and_wrong_paths(self) -> None:
        _, save = self.cut_and_flipped()
        self.assertEqual(save.fields("crew[name=Brock].station")[0].value, "pump")
        self.assertEqual(len(save.fields("crew[*].air")), 4)
        for path, words in (
            ("crew[name=Tamsn].air", "no record has name=Tamsn; did you mean “Tamsin”?"),
            ("crew[9].air", "crew[9] does not exist; there are 4, numbered from 0"),
            ("crew.air", "cannot go on after crew; its records are numbered: write [0]"),
            ("purse", "“purse” has parts and no value of its own; name one of them: tag, length, sum"),
            ("purse.mark", "there is no mark; did you mean “marks”?"),
            ("purse.marks.low", "cannot go on after purse.marks; it has no parts"),
            ("account.mark", "there is no mark; did you mean “marks”?"),
        ):
            with self.subTest(path=path), self.assertRaises(AddressError) as caught:
                save.fields(path)
            self.assertIn(words, str(caught.exception))

    def test_two_records_of_one_key_are_not_guessed(self) -> None:
        saves = self.harbour()
        path = saves / "harbour.bwk"
        data = path.read_bytes()
        path.write_bytes(data.replace(b"\x05Brock", b"\x05Oriel"))
        with self.assertRaisesRegex(AddressError, "2 records have name=Oriel; choose one by number: 0, 2"):
            self.opened_here(path).fields("crew[name=Oriel].air")

    def opened_here(self, path: object) -> Save:
        return open_save(path, self.library().get("brinewick-desktop"))  # type: ignore[arg-type]

    def test_cut_off_anywhere_it_is_told_what_and_where(self) -> None:
        data, save = self.cut_and_flipped()
        template = save.template
        assert template is not None
        account = save.files["account"].source
        for cut in [*range(200), *range(200, len(data), 37)]:
            bound = bind_files(template, {"save": MemorySource(data[:cut]), "account": account})
            problem = bound["save"].problem
            self.assertIsInstance(problem, BindingError, cut)
            self.assertRegex(str(problem), r"^[a-z_.\[\]0-9]+ at 0x[0-9A-F]+ \(\d+\): .+; nothing was changed")

    @settings(max_examples=120)
    @given(st.data())
    def test_flipped_bytes_never_bring_it_down(self, data: st.DataObject) -> None:
        if not hasattr(self, "_flip"):
            self._flip = self.cut_and_flipped()
        content, save = self._flip
        damaged = bytearray(content)
        for _ in range(data.draw(st.integers(1, 6))):
            damaged[data.draw(st.integers(0, min(len(content), 700) - 1))] = data.draw(st.integers(0, 255))
        assert save.template is not None
        path = self.folder / "harbour.bwk"
        path.write_bytes(damaged)
        (self.folder / "account.json").write_bytes(bytes(save.files["account"].source.read(0, 1 << 20)))
        opened = open_save(path, save.template)
        try:
            self.assertIsInstance(opened.in_balance, bool)
            list(opened.all_fields())
        except LedgerError as error:
            self.fail(f"looking at a damaged save must not raise: {error}")


class SharedBytesTest(LedgerCase):
    """Values that share their bytes: bits of a whole number, and a text in a buffer that keeps old letters."""

    @settings(max_examples=60)
    @given(st.data())
    def test_entries_change_their_own_bits_only(self, draw: st.DataObject) -> None:
        size, order = draw.draw(st.sampled_from((1, 2, 3, 4, 8))), draw.draw(st.sampled_from(("little", "big")))
        widths, left = [], size * 8
        while left and len(widths) < 6:
            widths.append(draw.draw(st.integers(1, left)))
            left -= widths[-1]
        signs = [draw.draw(st.booleans()) for _ in widths]
        old = draw.draw(st.binary(min_size=size, max_size=size))
        fields = "".join(
            f"\n    - {{field: f{n}, as: {'i' if sign else 'u'}{width}}}"
            for n, (width, sign) in enumerate(zip(widths, signs, strict=True))
        )
        layout = f"""
- {{field: before, as: u8}}
- group: state
  word: u{size * 8}
  layout:{fields}
- {{field: after, as: u8}}"""
        path = self.folder / "bits.bin"
        path.write_bytes(b"\x11" + old + b"\x22")
        save = open_save(path, template_of(layout, order=order))
        expected, low = int.from_bytes(old, order), 0  # type: ignore[arg-type]
        for number, (width, sign) in enumerate(zip(widths, signs, strict=True)):
            value = draw.draw(
                st.integers(-(1 << width - 1), (1 << width - 1) - 1) if sign else st.integers(0, (1 << width) - 1)
            )
            bits = (1 << width) - 1
            (node,) = save.fields(f"state.f{number}")
            shown = expected >> low & bits
            self.assertEqual(node.value, shown - (1 << width) if sign and shown >> width - 1 else shown)
            save.enter(f"state.f{number}", str(value))
            expected = expected & ~(bits << low) | (value & bits) << low
            low += width
        save.enter("after", "9")
        plan = make_plan(save)
        new = b"\x11" + expected.to_bytes(size, order) + b"\x09"  # type: ignore[arg-type]
        self.assertEqual(bytes(plan.files[0].patched.read(0, 99)), new)
        named = {cause for change in plan.changes for cause in change.cause.split(" and ")}
        self.assertLessEqual(named, {f"entry {entry.path}" for entry in save.tape})

    def test_records_with_bits_buffers_and_terminated_texts(self) -> None:
        record = (
            "[{group: state, word: u16, layout: [{field: air, as: u7}, {field: station, as: u2, names: {2: bell}}]}, "
        )
        record += "{field: name, as: text, length: u8, size: 6}, {field: note, as: text, ended_by: '00'}]"
        raws = [hexed("7F 00 03") + b"TamXYZ" + b"ok\0", hexed("05 01 06") + b"Oriel " + b"\0"]
        path = self.folder / "rows.bin"
        path.write_bytes(b"\x02" + b"".join(raws))
        template = template_of(f"- {{field: n, as: u8, count_of: crew}}\n- {{rows: crew, count: n, layout: {record}}}")
        save = open_save(path, template)
        self.assertEqual(save.text(save.fields("crew[1].state.station")[0]), "bell")
        self.assertEqual([node.value for node in save.fields("crew[*].name")], ["Tam", "Oriel "])
        save.enter("crew[0].name", "Bo")
        save.enter("crew[0].note", "longer")
        save.enter("crew[1].state.air", "1")
        save.enter("crew[1].state.station", "0")
        new = b"\x02" + hexed("7F 00 02") + b"BomXYZ" + b"longer\0" + hexed("01 00 06") + b"Oriel " + b"\0"
        self.assertEqual(bytes(make_plan(save).files[0].patched.read(0, 99)), new)
        save = open_save(path, template)
        save.enter_structure("crew", [{}, {}, {"state": {"air": 3, "station": "bell"}, "name": "Eva", "note": "new"}])
        added = b"\x03" + b"".join(raws) + hexed("03 01 03") + b"Eva\0\0\0" + b"new\0"
        self.assertEqual(bytes(make_plan(save).files[0].patched.read(0, 99)), added)
        for text, what in (("Margaret", "takes 8 bytes and the buffer has 6"), ("a\0", None)):
            with self.subTest(text=text):
                if what is None:
                    with self.assertRaises(LedgerError):
                        save.enter("crew[0].note", text)
                else:
                    with self.assertRaisesRegex(LedgerError, what):
                        save.enter("crew[0].name", text)


class ColumnsTest(LedgerCase):
    def test_columns_of_any_storage_also_where_records_differ_in_size(self) -> None:
        fields = (
            "{field: a, as: u24be}, {field: b, as: bcd2}, {field: c, as: f32}, {field: d, as: u8, names: {1: one}}, "
            "{field: e, as: i16, scale: 10}, {field: name, as: text, length: u8}, {field: late, as: u8}"
        )
        rows = [(70_000 + n, 12 * n, n / 4, n % 3, 5 * n - 20, b"x" * (n % 5)) for n in range(40)]
        data = b"".join(
            a.to_bytes(3, "big")
            + bytes.fromhex(f"{b:04d}")
            + struct.pack("<fBh", c, d, e)
            + bytes([len(t)])
            + t
            + b"\x07"
            for a, b, c, d, e, t in rows
        )
        bound = bind(template_of(f"- {{rows: r, count: 40, layout: [{fields}]}}").main, MemorySource(data))
        node = bound.root.names["r"]
        assert isinstance(node, RowsNode)
        expected = list(zip(*rows, strict=True))
        self.assertEqual([node.column(name).tolist() for name in "abcd"], [list(column) for column in expected[:4]])
        self.assertEqual(node.column("e").tolist(), [value / 10 for value in expected[4]])
        for name, words in (("late", "not in the same place of every record"), ("nothing", "have no field nothing")):
            with self.assertRaisesRegex(AddressError, words):
                node.column(name)

    def test_many_records_have_the_findings_of_each_alone(self) -> None:
        bound = "bounds: {least: 0, most: 3}"
        data = numpy.random.default_rng().integers(0, 128, (300, 8), numpy.uint8)
        data[::2, 0] |= 128  # a number of variable length that takes a byte more in every second record
        for fields in (
            f"{{group: g, word: u16, layout: [{{field: a, as: u5, {bound}}}, {{field: b, as: u6, {bound}}}]}}, "
            f"{{field: c, as: u8, {bound}}}, {{unknown: rest, size: 5}}",
            f"{{group: g, size: 7, layout: [{{field: a, as: uleb128}}, {{field: b, as: u8, {bound}}}]}}, "
            f"{{field: c, as: u8, {bound}}}",
            f"{{group: g, size: 7, layout: [{{field: a, as: u8, at: 3, {bound}}}, {{field: b, as: u16be, {bound}}}]}}, "
            f"{{field: c, as: u8, {bound}}}",
            f"{{rows: inner, count: 3, layout: [{{field: a, as: u8, {bound}}}, {{field: b, as: u8}}]}}, "
            f"{{field: c, as: u16, {bound}}}",
        ):
            with self.subTest(fields):
                root = bind(
                    template_of(f"- {{rows: r, count: 300, layout: [{fields}]}}").main, MemorySource(data.tobytes())
                ).root
                (node,) = root.children
                assert isinstance(node, RowsNode)
                self.assertEqual((node.stride, node.count), (8, 300))
                with mock.patch("faithful_ledger.core.rules.audit.MOST_REPORTED", 10_000):
                    together = sorted(audit(root))
                    with mock.patch("faithful_ledger.core.rules.audit.MANY", 10_000):
                        self.assertEqual(together, sorted(audit(root)))
                self.assertGreater(len(together), 200)

    def test_a_field_behind_one_of_varying_size_is_no_column(self) -> None:
        fields = (
            "{group: g, flat: true, size: 7, layout: [{field: a, as: uleb128}, {field: b, as: u8}]}, {field: c, as: u8}"
        )
        data = bytes(range(80))
        root = bind(template_of(f"- {{rows: r, count: 10, layout: [{fields}]}}").main, MemorySource(data)).root
        (node,) = root.children
        assert isinstance(node, RowsNode)
        self.assertEqual(node.column("c").tolist(), list(range(7, 80, 8)))
        with self.assertRaisesRegex(AddressError, "not in the same place of every record"):
            node.column("b")


class ResumedTest(LedgerCase):
    """After entries only what changed is measured again, and everything is where a binding from nothing finds it."""

    @settings(max_examples=250)
    @given(st.data())
    def test_records_are_where_they_would_be_found_anew(self, draw: st.DataObject) -> None:
        texts = draw.draw(st.lists(st.binary(max_size=6), min_size=1, max_size=12))
        by_size = draw.draw(st.booleans())
        rows = b"".join(bytes([len(text)]) + text + b"\x01" for text in texts)
        head = bytes([len(rows) if by_size else len(texts)])
        key = "length_of" if by_size else "count_of"
        layout = f"""- {{field: n, as: u8, {key}: rows}}
- rows: rows
  {"size" if by_size else "count"}: n
  layout: [{{field: t, as: text, length: u8, encoding: latin-1}}, {{field: k, as: uleb128}}]
- {{unknown: rest, size: 3}}"""
        spec = template_of(layout).main
        old = bind(spec, MemorySource(head + rows + b"END"))
        node = old.root.names["rows"]
        assert isinstance(node, RowsNode) and old.problem is None
        replaced = []
        for index in sorted(draw.draw(st.sets(st.integers(0, len(texts) - 1), max_size=5))):
            record = node.item(index)
            assert isinstance(record, GroupNode)
            for name in draw.draw(st.sampled_from((("t",), ("k",), ("t", "k")))):
                field = record.names[name]
                new = draw.draw(st.binary(max_size=9))
                data = (
                    bytes([len(new)]) + new if name == "t" else Leb128("uleb128").encode(draw.draw(st.integers(0, 999)))
                )
                replaced.append(Replacement(field.start, field.end, data))
        if draw.draw(st.booleans()):  # records come in at the end
            added = [draw.draw(st.binary(max_size=4)) for _ in range(draw.draw(st.integers(1, 3)))]
            extra = b"".join(bytes([len(text)]) + text + b"\x02" for text in added)
            replaced.append(Replacement(node.end, node.end, extra))
        else:
            added = []
        grown = sum(len(item.data) - (item.end - item.start) for item in replaced)
        number = len(rows) + grown if by_size else len(texts) + len(added)
        patched = Patched(old.source, [Replacement(0, 1, bytes([number])), *replaced])
        resumed = bind(spec, patched, None, old)
        anew = bind(spec, MemorySource(bytes(patched.read(0, patched.size))))
        self.assertEqual((resumed.problem, anew.problem), (None, None))
        left, right = (bound.root.names["rows"] for bound in (resumed, anew))
        assert isinstance(left, RowsNode) and isinstance(right, RowsNode)
        self.assertEqual(
            (left.count, left.end, list(left.offsets or ())), (right.count, right.end, list(right.offsets or ()))
        )
