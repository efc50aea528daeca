"""Documents: one contract for every text format, and addresses that write themselves and read themselves back."""

from __future__ import annotations

import json
import random
from typing import Any
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_ledger.core.address import NEXT, Address, Step, parse_path
from faithful_ledger.core.binding import bind
from faithful_ledger.core.edits import Patched
from faithful_ledger.core.errors import AddressError, BindingError, LedgerError
from faithful_ledger.core.formats import JsonDocument, Span, json_document
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.template import parse_template
from tests.support import LedgerCase, template_of

NAMES = st.sampled_from(["a", "b c", "x.y", 'q"', "é", "\\", "", "[0]"])
SCALARS = st.sampled_from([1, -2.5e3, True, None, 'a\\"b{[,]}:', "ø€😀", "", " x ", "\\\\", 10**20])
VALUES = st.recursive(
    SCALARS,
    lambda inner: st.lists(inner, max_size=6) | st.dictionaries(NAMES, inner, max_size=5),
    max_leaves=25,
)
TEXTS = [
    b'{"purse": {"marks": 1340}, "crew": [{"name": "Tamsin", "air": 40.50}, {"name": "Marit", "air": 7}], "log": []}',
    b'{\r\n  "crew" : [\r\n    {"name": "S\\u00f8n", "air": 1e2}\r\n  ],\r\n  "log": [ ],\r\n  "purse": {"marks": 5}\r\n}\r\n',
    b'\xef\xbb\xbf{"log":[\n],"crew":[\n\t1,\n\t2,\n\t3\n],"purse":{"marks":0}}',
    b"[1,2,3]",
    b" [ ] ",
]


def opened(text: bytes) -> JsonDocument:
    return JsonDocument(MemorySource(text))


def holders(document: JsonDocument) -> list[Span]:
    """Every array and object of a text."""
    found, waiting = [], [document.whole]
    while waiting:
        span = waiting.pop()
        if span.kind in ("array", "object"):
            found.append(span)
            starts = document.items(span).starts
            waiting += [document.at(span, (Step(index=n),)) for n in range(len(starts))] if span.kind == "array" else []
            names = document.children(span).names or []
            waiting += [document.at(span, (Step(name=name),)) for name in names]
    return found


class ContractTest(LedgerCase):
    def test_an_item_added_and_removed_again_leaves_the_old_bytes(self) -> None:
        for text in TEXTS:
            for span in holders(opened(text)):
                if span.kind != "array":
                    continue
                count = len(opened(text).items(span).starts)
                for position in range(count + 1):
                    with self.subTest(text=text, span=span, position=position):
                        document = opened(text)
                        change = document.add(span, position, [b"77", b'"new"'])
                        longer = bytes(Patched(document.source, [change]).read(0, 9999))
                        expected = json.loads(text[span.start : span.end])
                        expected[position:position] = [77, "new"]
                        again = opened(longer)
                        again.check()
                        holder = Span(span.start, span.end + len(change.data), "array")
                        self.assertEqual(json.loads(longer[holder.start : holder.end]), expected)
                        back = again.remove(holder, position, position + 2)
                        self.assertEqual(bytes(Patched(again.source, [back]).read(0, 9999)), text)

    def test_a_text_cut_off_anywhere_is_reported_with_its_place(self) -> None:
        for text in TEXTS:
            for cut in range(len(text.rstrip())):
                with self.subTest(text=text, cut=cut), self.assertRaises(BindingError) as caught:
                    opened(text[:cut]).check()
                self.assertRegex(
                    str(caught.exception), r"^the JSON text at 0x[0-9A-F]+ \(\d+\): .+; nothing was changed"
                )

    @settings(max_examples=150)
    @given(VALUES, st.sampled_from([None, 1, 3]), st.booleans(), st.sampled_from([1 << 18, 40, 0]), st.randoms())
    def test_large_texts_are_read_like_small_ones(
        self, value: Any, indent: int | None, plain: bool, small: int, rng: random.Random
    ) -> None:
        """By index or by scanning, in pieces or at once: the same spans, the same complaints."""
        text = json.dumps(value, indent=indent, ensure_ascii=not plain).encode()
        damaged = bytearray(text)
        for _ in range(rng.randint(1, 3)):
            damaged[rng.randrange(len(damaged))] = rng.choice(b'{}[]",:1 x\\')
        limits = mock.patch.multiple(json_document, SMALL=small, PIECE=max(small, 8))
        with limits:
            document = opened(text)
            document.check()
            waiting: list[tuple[Span, Any]] = [(document.whole, value)]
            while waiting:
                span, expected = waiting.pop()
                self.assertEqual(json.loads(text[span.start : span.end]), expected)
                if isinstance(expected, dict):
                    waiting += [(document.at(span, (Step(name=key),)), each) for key, each in expected.items()]
                elif isinstance(expected, list):
                    self.assertEqual(len(document.items(span).ends), len(expected))
                    waiting += [(document.at(span, (Step(index=n),)), each) for n, each in enumerate(expected)]
            try:
                opened(bytes(damaged)).check()
                fast = ""
            except BindingError as error:
                fast = str(error)
        try:
            json_document.json_values(bytes(damaged))
            slow = ""
        except BindingError as error:
            slow = str(error)
        if "occurs here twice" not in slow and "stands here twice" not in slow:
            self.assertEqual(fast, slow, bytes(damaged))

    def test_a_large_text_is_opened_at_once_and_checked_with_its_findings(self) -> None:
        template = parse_template(
            b"ledger: 1\nid: t\ntitle: T\nfiles: {save: {name: '*.json', format: json, layout: [{field: marks, as: number}]}}",
            "t.yaml",
        )
        rest = json.dumps(["x" * 50] * 30_000)
        path = self.folder / "large.json"
        for broken in (False, True):
            path.write_text('{"marks": 5, "rest": %s}' % (rest.replace('"x', '"\\x', 1) if broken else rest))
            save = open_save(path, template)
            self.assertIsNone(save.problem)
            self.assertEqual(save.fields("marks")[0].value, 5)
            save.enter("marks", "6")
            if broken:
                self.assertRegex(str(save.findings[0].message), "this string has an escape that JSON does not know")
                with self.assertRaisesRegex(LedgerError, "this string has an escape"):
                    make_plan(save)
            else:
                self.assertEqual([f for f in save.findings if f.level == "error"], [])
                self.assertEqual(len(make_plan(save).changes), 1)

    def test_keys_in_any_spelling_and_names_that_occur_twice(self) -> None:
        text = b'{"c": [{"n": "S\\u00f8n", "v": 1}, {"v": 2, "n": "Ives"}, {"\\u006e": 7, "v": 3}], "d": 1, "d": 2}'
        document = opened(text)
        for path, value in (("c[n=Søn].v", b"1"), ("c[n=Ives].v", b"2"), ("c[n=7].v", b"3"), ("c[v=2].n", b'"Ives"')):
            span = document.at(document.whole, parse_path(path))
            self.assertEqual(text[span.start : span.end], value, path)
        for path, words in (
            ("d", "“d” occurs more than once"),
            ("c[n=Bo].v", r"c\[n=Bo\] is not in this text; here are 3"),
        ):
            with self.assertRaisesRegex(AddressError, words):
                document.at(document.whole, parse_path(path))


class RowsInTextTest(LedgerCase):
    TEMPLATE = """ledger: 1
id: sample
title: A sample
files:
  save:
    name: "*.json"
    format: json
    layout:
      - {field: n, as: number, count_of: crew}
      - {field: size, as: number, length_of: log, plus: 2}
      - {field: sum, as: number, seal: {algorithm: crc-32, over: crew}}
      - rows: crew
        layout:
          - {field: name, as: text}
          - {field: air, as: number}
          - {rows: gear, each: {as: number}}
      - {rows: log, each: {as: number}}
"""

    def test_records_are_added_in_the_style_of_the_others(self) -> None:
        import zlib

        crew = b'[\n    {"name": "Bo", "air": 40.50, "odd": [1], "gear": [1,2]}%s\n  ]'
        frame = b'{\n  "n": %d, "size": %d,\n  "crew": %s,\n  "sum": %d, "log": []\n}\n'

        def whole(count: int, more: bytes, log: int = 2) -> bytes:
            rows = crew % more
            return frame % (count, log + 2, rows, zlib.crc32(rows))

        path = self.folder / "a.json"
        path.write_bytes(whole(1, b""))
        template = parse_template(self.TEMPLATE.encode(), "sample.yaml")
        save = open_save(path, template)
        self.assertEqual([str(finding) for finding in save.findings if finding.level == "error"], [])
        self.assertTrue(save.in_balance)
        save.enter_structure("crew", [{}, {"name": "Søn", "gear": [3]}, {"air": 7}])
        plan = make_plan(save)
        added = b',\n    {"name": "S\\u00f8n", "air": 0.00, "odd": [1], "gear": [3]}'
        added += b',\n    {"name": "", "air": 7.00, "odd": [1], "gear": []}'
        self.assertEqual(bytes(plan.files[0].patched.read(0, 9999)), whole(3, added))
        self.assertTrue(plan.in_balance)
        self.assertEqual({r.node.path for r in plan.renewals}, {"n", "sum"})

        path.write_bytes(whole(1, b""))
        save = open_save(path, template)
        save.enter_structure("crew", [])
        save.enter_structure("log", [5, 6])
        plan = make_plan(save)
        rows = b"[\n  ]"
        self.assertEqual(
            bytes(plan.files[0].patched.read(0, 9999)),
            (frame % (0, 8, rows, zlib.crc32(rows))).replace(b'"log": []', b'"log": [5, 6]'),
        )
        with self.assertRaisesRegex(LedgerError, r"crew\[1\] has no aire; it has name, air, gear"):
            save.enter_structure("crew", [{}, {"aire": 3}])


class AddressTest(LedgerCase):
    def test_addresses_are_written_to_templates_and_read_back(self) -> None:
        for address, words in (
            (Address.at(0x40), "0x40 (64)"),
            (Address.from_end(8), "8 bytes before the end"),
            (Address.at(-8), "8 bytes before the end"),
            (Address.behind(b"\x06Tamsin", 9), "9 bytes behind the start of “06 Tamsin”"),
            (Address.behind(b"\x06Tamsin", -2), "2 bytes in front of “06 Tamsin”"),
            (Address.before(b"END!", 0), "ends right in front of “END!”"),
            (Address.before(b"END!", 3), "ends 3 bytes in front of “END!”"),
            (Address.from_keys({"table": "chunks", "entry": "n - 1", "at": 2, "align": 4}), "at entry n - 1 of chunks"),
            (Address.from_keys({"at": "head.hold_at * 2"}), "at head.hold_at * 2"),
            (NEXT, "right behind the element before"),
        ):
            with self.subTest(words=words):
                self.assertEqual(Address.from_keys(address.keys()), address)
                self.assertEqual(address.in_words(), words)
        path = Address.by_path('slots[slot={head.slot}]."a.b"')
        self.assertEqual((path.keys(), path.names), ({"at": 'slots[slot={head.slot}]."a.b"'}, ("head.slot",)))
        self.assertEqual(Address.at(4).moved(-1), Address.at(3))
        with self.assertRaises(AddressError):
            path.moved(1)
        with self.assertRaisesRegex(AddressError, "behind bytes or before them, not both"):
            Address.from_keys({"behind": "00", "before": "01"})

    def test_tables_of_offsets_and_alignment(self) -> None:
        layout = """
- {field: n, as: u8}
- {rows: offsets, count: n, each: {as: u16}}
- {field: first, as: u8, table: offsets}
- {field: last, as: u8, table: offsets, entry: n - 1, at: 1}
- {field: odd, as: u8, at: 8}
- {field: even, as: u16, align: 4}
"""
        data = bytes([2, 6, 0, 10, 0, 0, 77, 0, 1, 0, 0, 88, 5, 6])
        # even follows odd in the layout; what has an address of its own does not count for what comes next
        bound = bind(template_of(layout).main, MemorySource(data))
        self.assertIsNone(bound.problem)
        values = {name: node.value for name, node in bound.root.names.items() if name in ("first", "last", "odd")}  # type: ignore[attr-defined]
        self.assertEqual(values, {"first": 77, "last": 88, "odd": 1})
        self.assertEqual(bound.root.names["even"].start, 8)
        for wrong in (bytes([2, 6, 0, 99, 0, *bytes(9)]), bytes([0, *bytes(12)])):
            self.assertIsNotNone(bind(template_of(layout).main, MemorySource(wrong)).problem)

    def test_records_that_are_something_else_are_reported(self) -> None:
        path = self.folder / "a.json"
        path.write_text(
            '{"n": 3, "size": 4, "sum": 0, "log": [], "crew": [{"name": "Bo", "air": 1, "gear": []}, "x", 7]}'
        )
        save = open_save(path, parse_template(RowsInTextTest.TEMPLATE.encode(), "sample.yaml"))
        self.assertIsNone(save.problem)
        self.assertEqual(save.fields("crew[0].name")[0].value, "Bo")
        self.assertEqual(
            [(f.path, f.message) for f in save.findings if f.path.startswith("crew")],
            [
                ("crew[1]", "crew[1] at 0x58 (88): it is a text, not an object"),
                ("crew[2]", "crew[2] at 0x5D (93): it is a number, not an object"),
            ],
        )
        with self.assertRaisesRegex(LedgerError, "there is no air"):
            save.fields("crew[*].air")
        save.enter("crew[0].air", "7")
        self.assertEqual(len(make_plan(save).entries), 1)
