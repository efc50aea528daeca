"""Text saves without a template: one contract for every format, on samples, on made-up texts and on the machine's own."""

from __future__ import annotations

import base64
import bz2
import csv
import gzip
import io
import json
import lzma
import os
import random
import sys
import zlib
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any
from unittest.mock import patch

from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_ledger.core.address import parse_path
from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.edits import Patched, Replacement
from faithful_ledger.core.errors import AddressError, BindingError, EntryError, LedgerError, ValueRefused
from faithful_ledger.core.evidence import locate, parse_sighting
from faithful_ledger.core.formats import DOCUMENTS, Document, Span, recognised_text, why_not_text
from faithful_ledger.core.formats.document import BOM
from faithful_ledger.core.formats.keyed_paths import KeyedPaths
from faithful_ledger.core.formats.tree import GrowingTree
from faithful_ledger.core.nesting import all_leaves
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.search import search_everywhere, search_number
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.storage import encoded
from faithful_ledger.core.template import parse_template
from tests.support import LedgerCase

# A format, a text of it, and what some of its paths say.
SAMPLES: list[tuple[str, bytes, dict[str, Any]]] = [
    ("json", b'{"purse": {"marks": 1340, "rate": 1.50}, "crew": ["Tamsin", "Bo"], "open": false}', {"purse.rate": 1.5}),
    (
        "relaxed-json",
        b"// the company\n{ marks: 1340, 'name': 'O\\'Neil', crew: [1, 2,], /* x */ open: true, note: null, }\n",
        {"name": "O'Neil", "crew[1]": 2, "open": True, "note": None},
    ),
    ("relaxed-json", b'{"marks": 1}\n{"marks": 2, "at": {"x": -1.5e3}}\n', {"[1].marks": 2, "[1].at.x": -1500}),
    ("relaxed-json", b'BRINEWICK 3\n{"marks": 7, "name": "x"}\n', {"marks": 7}),
    (
        "xml",
        b'<?xml version="1.0"?>\r\n<!-- <a> -->\r\n<save v="3">\r\n <purse marks=\'007\'>a &amp; b</purse>\r\n <empty/>\r\n'
        b" <lots><lot id='lamp' n=\"1\"/><lot id='rope' n=\"2\"/></lots><text><![CDATA[<5>]]></text> <air> 99.50 </air>\r\n"
        b"</save>",
        {
            "@v": 3,
            "purse.@marks": 7,
            "purse": "a & b",
            "empty": "",
            "lots.lot[@id=rope].@n": 2,
            "lots.lot[1].@n": 2,
            "text": "<5>",
            "save.air": 99.5,
        },
    ),
    ("xml", b"<marks>5</marks>\n<marks>6</marks>\n<log a='1'/>\n", {"marks[1]": 6, "log.@a": 1}),
    (
        "xml",
        b'<plist version="1.0"><dict><key>marks</key><integer>5</integer><key>open</key><true/><key>crew</key>'
        b"<array><string>Bo</string></array></dict></plist>",
        {"plist.marks": 5, "plist.open": True, "plist.crew[0]": "Bo"},
    ),
    (
        "keyed-lines",
        b'\xef\xbb\xbf; the company\r\n[Purse]\r\nmarks=1340\r\nname = "Oriel & S\xc3\xb8n"   ; ours\r\ncolour=#ff0000\r\n'
        b"rate = +1.50 # now\r\n\r\n[crew.1]\r\nair:left=5\r\ncraft[0]=3\r\nslots=1,2, 7\r\n",
        {
            "Purse.marks": 1340,
            "Purse.name": "Oriel & Søn",
            "Purse.colour": "#ff0000",
            "Purse.rate": 1.5,
            "crew.1.craft[0]": 3,
            '"crew.1"."craft[0]"': 3,
            "crew.1.slots": "1,2, 7",
            "crew.1.slots[2]": 7,
        },
    ),
    ("keyed-lines", b"marks 1340\nname Oriel & Son\nspeed 0x1F\n", {"name": "Oriel & Son", "speed": 31}),
    ("keyed-lines", b"marks\t1340\nname\tOriel\n", {"marks": 1340}),
    (
        "keyed-lines",
        b'name = "Oriel"\nmarks = 40_741\n\n[[crew]]\nair = -1_234.5\nid = 1_2\n',
        {"marks": 40741, "crew.air": -1234.5, "crew.id": "1_2"},
    ),
    (
        "keyed-lines",
        b"[unit]\n  id=1\n  [status]\n    hp=+5\n  [/status]\n[/unit]\n[unit]\n  id=2\n[/unit]\n",
        {"unit[0].status.hp": 5, "unit[1].id": 2},
    ),
    ("keyed-lines", b"ship {\n  name = Old Pier\n  inner {\n    a = 1\n  }\n}\nmarks = 5\n", {"ship.inner.a": 1}),
    (
        "keyed-lines",
        b"GAME\n{\n\ttitle = Old Pier (SALVAGE)\n\tCREW\n\t{\n\t\tair = 99.5\n\t}\n\tCREW\n\t{\n\t\tair = 1\n\t}\n}\n",
        {"GAME.CREW[1].air": 1, "GAME.title": "Old Pier (SALVAGE)"},
    ),
    (
        "keyed-lines",
        b'"Save"\n{\n\t"marks"\t\t"1340"\n\t"name"\t\t"Ori\\"el"\n\t"crew"\n\t{\n\t\t"0"\t"Tamsin"\n\t}\n}\n',
        {"Save.marks": 1340, "Save.name": 'Ori"el', "Save.crew.0": "Tamsin"},
    ),
    (
        "keyed-lines",
        b'[player]\n\nname="Oriel"\nat=Vector2( 1.5, 2 )\nstats={\n"air": 5,\n"list": [ 1, 2 ]\n}\nmarks=1340\n[[crew]]\nid = 1\n[[crew]]\nid = 2\n',
        {"player.marks": 1340, "player.at": "Vector2( 1.5, 2 )", "crew[1].id": 2},
    ),
    (
        "keyed-lines",
        b'day = 3\nmarks = 1340\n[crew]\nname, air, note\nOriel, 80, "a, b"\n Tamsin,5,\n[notes]\nfirst one\nsecond\n',
        {"marks": 1340, "crew[0].note": "a, b", "crew[name=Tamsin].air": 5, "crew[1].note": "", "notes[1]": "second"},
    ),
    (
        "keyed-lines",
        b"day: 3\nmarks: 1340\nhands: 2\nhold:\n  item   count\n  lamp_oil  3\n  brass     12\nnight: 1\n",
        {"hold[item=brass].count": 12, "night": 1},
    ),
    (
        "keyed-lines",
        'name = 6:Tamsin\nmarks = 4:1340\nship = 9:Grey Seal ; ours\nnote = 4:"øø"\nday = 12\n'.encode(),
        {"name": "Tamsin", "marks": 1340, "ship": "Grey Seal", "note": "øø", "day": 12},
    ),
    (
        "keyed-lines",
        "[a]\nname=006;Tamsin\nnote=002;øø\nship=009;Grey Seal\nday=12\n".encode(),
        {"a.name": "Tamsin", "a.note": "øø"},
    ),
    (
        "keyed-lines",
        b"at = 12:30\nodds = 1:2\nlast = 1:3\nname = 6:Tamsi\nday = 5\n",
        {"at": "12:30", "name": "6:Tamsi"},
    ),
    ("keyed-lines", b"a = 1:2\nb = 2:30\nc = 1:4\nd = 5\n", {"b": "2:30"}),
    ("relaxed-json", b"(marks: 1340, name: 'x', at: (1, 2),)", {"marks": 1340, "at[1]": 2}),
    ("relaxed-json", b'var save = {"marks": 1340};\n', {"marks": 1340}),
    ("relaxed-json", b'{"marks": 1340}\n0a1b2c3d\n', {"marks": 1340}),
    ("pairs", b"marks=1340;name=Oriel;air=5", {"marks": 1340, "name": "Oriel"}),
    ("lines", b"1340\nOriel\n5\n", {"[0]": 1340, "[1]": "Oriel"}),
    (
        "divided",
        b"2.05||Oriel;7|1340;12;0.5|3,4;5,6|\n",
        {"[2][0]": "Oriel", "[3][0]": 1340, "[4][1][0]": 5, "[5]": ""},
    ),
    ("table", b'name,marks,note\nTamsin,5,"a,b"\nBo,6,""\n', {"[0].note": "a,b", "[name=Bo].marks": 6}),
    ("table", b"1;2;3\r\n4;5;6\r\n", {"[1][2]": 6}),
    (
        "yaml",
        b"# the company\nname: Oriel\ncrew:\n  - name: Tamsin\n    air: 99.5   # left\n  - name: 'B''o'\n    air: 1\n"
        b'list:\n- a\n- "b\\tc"\nflow: {a: 1, b: [1, x y]}\nempty:\ntext: |\n  one\n  two\nopen: yes\n',
        {
            "crew[0].air": 99.5,
            "crew[name=B'o].air": 1,
            "list[1]": "b\tc",
            "flow.b[1]": "x y",
            "empty": "",
            "text": "one\ntwo",
            "open": True,
        },
    ),
    (
        "yaml",
        b"%YAML 1.1\n--- !u!114 &11\nDiver:\n  name: Bo\n--- !u!1 &5\nSite: {x: 1, y: -2}\n",
        {"[0].Diver.name": "Bo", "[1].Site.y": -2},
    ),
    (
        "indented",
        b'ship "Old Pier"\n\tattributes\n\t\tmass 120\n\toutfit "Air Pump" 2\n\toutfit Rope 3\ndate 1 2 3003\n',
        {"ship.#1": "Old Pier", "ship.attributes.mass": 120, "ship.outfit[1].#2": 3, "date.#3": 3003},
    ),
    (
        "keyed-tables",
        b'Save = {\n  ["marks"] = 5,\n  name = "Ori\\"el", -- ours\n  crew = { "Bo", "Tamsin" },\n  [1] = { x = 1.5 },\n}\nOther = 3\n',
        {"Save.marks": 5, "Save.name": 'Ori"el', "Save.crew[1]": "Tamsin", "Save.1.x": 1.5, "Other": 3},
    ),
    ("keyed-tables", b'return { marks = 5; crew = { "a", "b" } }', {"crew[1]": "b"}),
    (
        "expressions",
        b'(save (marks 5) (name "Oriel") (at 1 2 -3) (lot (id 1)) (lot (id 2)))',
        {"save.marks": 5, "save.at[2]": -3, "save.lot[1].id": 2},
    ),
    (
        "braces",
        b'date="3003.1.2"\nplayer={ name="Oriel" marks=5 list={ 1 2 3 } }\nunit={ id=1 } unit={ id=2 }\n',
        {"date": "3003.1.2", "player.list[2]": 3, "unit[1].id": 2},
    ),
]
BROKEN: list[tuple[bytes, int, str]] = [
    (b'{"marks": 1,\n "name": "x" "y"}', 26, "a comma or } is expected"),
    (b'{"marks": 01}', 10, "01 is not a number of JSON"),
    (b"<a>\n<b>x</a>", 10, "line 2: this tag closes another element"),
    (b"<a><b>5</b>", 11, "the text ends before its last element is closed"),
    (b"<a>1 & 2</a>", 6, "a bare & or <"),
    (b'<!DOCTYPE a [<!ENTITY x "y">]><a>&x;</a>', 13, "it declares entities"),
    (b"[ship]\nair = 5\nmarks = 6\ncrew {\nname = Ives\n", 43, "“crew” is not closed before the text ends"),
    (b'<!DOCTYPE a [<!ENTITY x SYSTEM "file:///etc/passwd">]><a>&x;</a>', 13, "it declares entities"),
]
WORDS = [
    "Oriel",
    "Old Pier",
    "Søn",
    "",
    "a=b",
    "x;y",
    "5",
    "#1",
    "[a]",
    "{b}",
    'say "x"',
    "it's",
    "a, b",
    "true",
    "l\\n",
]


def document_of(text: bytes) -> Document:
    found = recognised_text(MemorySource(text))
    assert found is not None, text[:80]
    return found


def other_value(value: object, turn: random.Random) -> object:
    """A value of the same kind that is another one."""
    if isinstance(value, bool):
        return not value
    if isinstance(value, int | float):
        return turn.choice([value + 1, -value - 3, value * 1000 + 0.25, 0])
    return turn.choice([word for word in WORDS if word != value])


class ContractTest(LedgerCase):
    """What holds for every format."""

    def each_edited(self, document: Document, turn: random.Random, most: int) -> int:
        """Every leaf is found by its path, and another value in its place changes nothing else; back it is the old."""
        data = bytes(document.source.read(0, document.source.size))
        leaves = list(document.leaves())
        edited = 0
        for leaf in turn.sample(leaves, min(most, len(leaves))):
            if "(text)" in leaf.path:
                continue
            span = document.at(document.whole, parse_path(leaf.path))
            self.assertEqual((span.start, span.end), (leaf.start, leaf.end), leaf.path)
            if leaf.kind != "word" and leaf.end > leaf.start:
                (there,) = document.leaves_at([turn.randrange(leaf.start, leaf.end)])
                self.assertEqual((there.path, there.start, there.end), (leaf.path, leaf.start, leaf.end))
            storage, raw = document.value_storage(span), data[span.start : span.end]
            old = storage.decode(raw)
            self.assertEqual(encoded(storage, old, raw), raw)
            if old is None:
                continue
            value = other_value(old, turn)
            try:
                new = encoded(storage, value, raw)
            except ValueRefused:
                continue  # this text cannot hold it, and says so
            patched = Patched(document.source, [Replacement(span.start, span.end, new)])
            changed = bytes(patched.read(0, patched.size))
            again = type(document)(MemorySource(changed))
            try:
                found = again.at(again.whole, parse_path(leaf.path))
            except AddressError:
                if "=" not in leaf.path:  # a path that goes by what a value says may lead elsewhere then
                    self.refused(data, leaf.path, value)
                continue
            now = again.value_storage(found).decode(changed[found.start : found.end])
            if isinstance(now, int | float) and isinstance(value, int | float):
                self.assertEqual(float(now), float(value), (leaf.path, raw, new))
            elif now != value and storage.to_text(now) != str(value):
                self.refused(data, leaf.path, value)  # an emptied text between elements: the next one takes its number
                continue
            back = storage.encode(old, new) if not isinstance(old, str) else encoded(storage, old, raw)
            if isinstance(old, str):
                self.assertEqual(data[: span.start] + back + data[span.end :], data)
            edited += 1
        return edited

    def refused(self, data: bytes, path: str, value: object) -> None:
        """What a text would not read back as entered is not planned."""
        (self.folder / "refused.sav").write_bytes(data)
        save = open_save(self.folder / "refused.sav", None)
        save.enter_structure(path, value)
        with self.assertRaisesRegex(EntryError, "would not be found again|would not read back"):
            make_plan(save)

    def test_every_sample_is_recognised_read_and_edited(self) -> None:
        turn = random.Random(10)
        for name, text, expected in SAMPLES:
            for variant in (text, text.replace(b"\r\n", b"\n"), text.replace(b"\r\n", b"\n").replace(b"\n", b"\r\n")):
                with self.subTest(name=name, text=variant[:40]):
                    document = document_of(variant)
                    self.assertEqual(document.name, name)
                    for path, value in expected.items():
                        span = document.at(document.whole, parse_path(path))
                        raw = variant[span.start : span.end]
                        found = document.value_storage(span).decode(raw)
                        shown = found.replace("\r\n", "\n") if isinstance(found, str) else found
                        self.assertEqual(shown, value, path)
                    self.assertGreater(self.each_edited(document, turn, 40), 0)

    def test_an_item_added_and_removed_again_leaves_the_old_bytes(self) -> None:
        for name, text, _ in SAMPLES:
            document = document_of(text)
            for span in self.holders(document):
                items = document.items(span)
                if items is None or not len(items.starts) or name == "json":
                    continue
                like = text[items.starts[-1] : items.ends[-1]]
                for position in range(len(items.starts) + 1):
                    with self.subTest(name=name, at=span.start, position=position):
                        change = document.add(span, position, [like])
                        grown = text[: change.start] + change.data + text[change.end :]
                        self.assertNotEqual(grown, text)
                        again = type(document)(MemorySource(grown))
                        wider = Span(span.start, span.end + len(change.data), span.kind)
                        inside = again.items(again.whole if span == document.whole else wider)
                        self.assertEqual(len(inside.starts) if inside else 0, len(items.starts) + 1)

    def holders(self, document: Document) -> Iterator[Span]:
        tree = getattr(document, "tree", None)
        for number in range(len(tree) if tree is not None else 0):
            repeats = tree.kinds[number] == 1 or (tree.kinds[number] == 0 and document.name == "xml")
            if repeats and bool(number) is (document.name != "table"):
                yield Span(tree.starts[number], tree.ends[number], ("object", "array")[tree.kinds[number]])

    def test_a_text_cut_off_anywhere_is_another_text_or_says_where_it_ends(self) -> None:
        for name, text, _ in SAMPLES:
            for end in range(len(text)):
                try:
                    DOCUMENTS[name](MemorySource(text[:end])).check()
                    found = recognised_text(MemorySource(text[:end]))
                    for leaf in found.leaves() if found is not None else ():
                        self.assertLessEqual(leaf.end, end)
                except BindingError as error:
                    self.assertLessEqual(error.offset, end, (name, end))
                except LedgerError:
                    pass

    def test_a_broken_text_says_where_and_what(self) -> None:
        for text, offset, what in BROKEN:
            with self.subTest(text=text):
                error = why_not_text(MemorySource(text))
                assert isinstance(error, BindingError)
                self.assertIn(what, error.what)
                self.assertEqual(error.offset, offset)
                self.assertIsNone(recognised_text(MemorySource(text)))

    def test_noise_and_prose_are_no_texts_with_values(self) -> None:
        turn = random.Random(4)
        for size in (1, 40, 4000):
            noise = bytes(turn.randrange(256) for _ in range(size))
            self.assertIsNone(recognised_text(MemorySource(noise)) if size > 40 else None)
        for text in (b"", b"\n", base64.b64encode(turn.randbytes(60)), b"BWK\0\1\2\3" * 9):
            self.assertIsNone(recognised_text(MemorySource(text)), text)

    def test_the_texts_of_this_machine_are_edited_to_the_byte(self) -> None:
        turn = random.Random(20)
        files = sorted(_texts_of_this_machine())
        turn.shuffle(files)
        known = edited = 0
        for path in files[:260]:
            with self.subTest(path=path):
                document = recognised_text(MemorySource(path.read_bytes()))
                if document is not None:
                    known += 1
                    edited += self.each_edited(document, turn, 6)
        self.assertGreater(known, 180)
        self.assertGreater(edited, 500)


def _made_up_xml(turn: random.Random, depth: int = 0) -> str:
    name = turn.choice(["a", "bb", "c-c", "d.d", "é", "plist", "ab"])
    texts = [
        "",
        "x",
        "1 > 2",
        "/>",
        "it's",
        "&lt;",
        "<!-- <a> '\" -->",
        "<![CDATA[<a></b>]]>",
        "<?p <x>?>",
        "\n  ",
        "7",
    ]
    values = ['"1"', "'2'", '"a>b"', "'\"'", '"it\'s"', "'/>'", '""', f'"{"long" * 70}"']
    names = turn.choice([("p", "q", "r"), ("name", "id", "key")])
    chosen = turn.sample(values, turn.randrange(4))
    head = name + "".join(f" {key}={value}" for key, value in zip(names, chosen, strict=False))
    if depth > 5 or turn.random() < 0.2:
        return f"<{head}/>"
    inside = "".join(turn.choice(texts) + _made_up_xml(turn, depth + 1) for _ in range(turn.randrange(5)))
    return f"<{head}>{inside}{turn.choice(texts)}{turn.choice(texts)}</{name}{' ' * turn.choice((0, 1, 300))}>"


def _made_up_keyed(turn: random.Random) -> str:
    separator, newline = turn.choice([" = ", "=", ": ", "\t"]), turn.choice(["\n", "\r\n"])
    values = ["1", "a", "gold", "", '"q # x"', "x # c", "1, 2", "[1,2]", "{a}", "a=b", "[a] x", "'s'", "a;b"]
    odd = ["# gold = 3", "; a", "", " ", "alone", "  more of it", "gold", turn.choice(["j = [1,", "x {", "a"])]

    def lines(most: int) -> Iterator[str]:
        for _ in range(turn.randrange(most)):
            if turn.random() < 0.1:
                yield turn.choice(odd)
            else:
                yield (
                    turn.choice(["", "", "  "])
                    + turn.choice(["a", "ab", "gold", "x[0]", "Ä", "a.b"])
                    + separator
                    + (turn.choice(values) + turn.choice(["", " ", "  ; c"]))
                )

    parts = list(lines(4))
    for _ in range(turn.randrange(6)):
        name = turn.choice(["a", "gold", "row 1", "row 2", "Ä", "x.y", ""])
        parts += [turn.choice(["[%s]", "  [%s]", "[[%s]]", "[%s] # c"]) % name]
        if turn.random() < 0.3:
            parts += ["crew" + separator] * turn.randrange(2) + ["name, air", "Ives, 80", " Tamsin,7"]
        parts += lines(8)
    return newline.join(parts) + turn.choice(["", newline])


class LargeTextTest(LedgerCase):
    """The tree of a large text grows where it is asked, and is at each place as the whole tree would be."""

    def grown(self, name: str, data: bytes) -> bool:
        """Compare all that paths lead to; whether this text has a tree that grows."""
        document, whole = (DOCUMENTS[name](MemorySource(data)) for _ in range(2))
        try:
            leaves = list(whole.leaves())
            grows = isinstance(getattr(document, "tree"), GrowingTree)  # noqa: B009
        except LedgerError:
            return False
        random.Random(len(leaves)).shuffle(leaves)
        paths = [parse_path(leaf.path) for leaf in leaves[:40]]
        around = {steps[:end] for steps in paths for end in range(len(steps))}
        wrong = {(*steps, *parse_path("nothing")) for steps in around}
        for steps in (*paths, *around, *wrong):
            self.assertEqual(self.found(document, steps), self.found(whole, steps), (data, steps))
        self.assertEqual([leaf.path for leaf in document.leaves()], [leaf.path for leaf in whole.leaves()])
        return grows

    def found(self, document: Document, steps: Any) -> object:
        try:
            span = document.at(document.whole, steps)
            if span.kind in ("object", "array"):
                items = document.items(span)
                return span, items and (list(items.starts), list(items.ends))
            storage = document.value_storage(span)
            return span, type(storage), storage.decode(document.source.read(span.start, span.end).tobytes())
        except (AddressError, ValueRefused) as error:
            return str(error)

    def test_it_leads_where_the_whole_tree_leads(self) -> None:
        turn = random.Random(31)
        counts = {"xml": 0, "keyed-lines": 0}
        for number in range(500):
            with (
                patch("faithful_ledger.core.formats.tree_document.SMALL", 0),
                patch("faithful_ledger.core.formats.xml_document.SMALL", turn.choice([0, 0, 60, 400])),
                patch("faithful_ledger.core.formats.keyed_regions.LAST", turn.choice([1, 8, 30, 4096])),
            ):
                if number % 4 == 0:
                    head = turn.choice(["", '<?xml version="1.0"?>\n<!DOCTYPE a [<!ELEMENT x (y)>]>\n<!-- < -->'])
                    counts["xml"] += self.grown("xml", (head + _made_up_xml(turn)).encode())
                text = _made_up_keyed(turn).encode(turn.choice(["utf-8", "cp1252"]))
                counts["keyed-lines"] += self.grown("keyed-lines", turn.choice([b"", b"", BOM]) + text)
        self.assertGreater(min(counts.values()), 50, counts)

    def test_a_large_text_is_found_in_edited_and_posted(self) -> None:
        rows = range(9000)
        xml = "".join(f'<row id="{n}"><name>lot {n}</name><count>{n}</count></row>\n' for n in rows)
        keyed = "".join(f"[row {n}]\nname = lot {n}\ncount = {n}  ; of {n}\n" for n in rows)
        for text, path in ((f"<s>{xml}</s>", "row[@id=8000].count"), (keyed, '"row 8000".count')):
            with self.subTest(text=text[:9]):
                target = self.folder / "large.sav"
                target.write_text(text)
                save = open_save(target, None)
                self.assertEqual(save.value(save.fields(path)[0]), 8000)
                save.enter(path, "77")
                (changed,) = make_plan(save).files
                expected = text.replace(">8000<", ">77<").replace("= 8000 ", "= 77 ").encode()
                self.assertEqual(bytes(changed.patched.read(0, changed.patched.size)), expected)


def _texts_of_this_machine() -> Iterator[Path]:
    """Small texts from installed packages, at most so many of a kind."""
    counts: dict[str, int] = {}
    roots = [Path(sys.prefix) / "lib", Path(os.__file__).parent, Path("/usr/share"), Path("/etc")]
    for root in roots:
        for folder, _, names in os.walk(root):
            for name in sorted(names):
                path = Path(folder, name)
                kind = path.suffix
                if kind not in (".xml", ".json", ".ini", ".cfg", ".csv", ".svg", ".yaml", ".conf", ".desktop"):
                    continue
                readable = counts.get(kind, 0) < 120 and path.is_file() and os.access(path, os.R_OK)
                if readable and 0 < path.stat().st_size < 60_000:
                    counts[kind] = counts.get(kind, 0) + 1
                    yield path


KEYS = st.sampled_from(["marks", "air", "crew member", "Søn", "a.b", "x[0]", "n"])
VALUES = st.sampled_from(["5", "-1.50", "007", "Oriel & Søn", "true", "", "a b", "it's"])


class GeneratedTest(LedgerCase):
    """Made-up texts with odd spacing, written by other means than ours."""

    @settings(max_examples=60)
    @given(
        st.lists(st.tuples(KEYS, VALUES), min_size=2, max_size=8), st.sampled_from(["=", " = ", "\t=  "]), st.booleans()
    )
    def test_keyed_lines(self, pairs: list[tuple[str, str]], separator: str, windows: bool) -> None:
        newline = "\r\n" if windows else "\n"
        text = newline.join(f"{'  ' * (i % 3)}{key}{separator}{value}" for i, (key, value) in enumerate(pairs))
        self.edited(DOCUMENTS["keyed-lines"](MemorySource(text.encode())), len(pairs))

    @settings(max_examples=60)
    @given(
        st.lists(st.lists(VALUES, min_size=3, max_size=3), min_size=2, max_size=6), st.sampled_from([",", ";", "\t"])
    )
    def test_tables(self, rows: list[list[str]], delimiter: str) -> None:
        out = io.StringIO()
        csv.writer(out, delimiter=delimiter).writerows([["one", "two", "three"], *rows])
        document = document_of(out.getvalue().encode())
        self.assertEqual([leaf.text for leaf in document.leaves()], [cell for row in rows for cell in row])
        self.edited(document, len(rows) * 3)

    @settings(max_examples=80)
    @given(
        st.recursive(
            VALUES | st.integers() | st.booleans() | st.floats(-1e6, 1e6),
            lambda inner: st.lists(inner, max_size=4) | st.dictionaries(KEYS, inner, max_size=4),
            max_leaves=12,
        ),
        st.sampled_from([None, 1, "\t"]),
        st.booleans(),
    )
    def test_json_within_json(self, value: Any, indent: Any, ascii_only: bool) -> None:
        inner = json.dumps({"inner": value}, indent=indent, ensure_ascii=ascii_only)
        text = json.dumps({"a": 1, "text": inner, "b": [inner]}, indent=indent, ensure_ascii=ascii_only).encode()
        (self.folder / "save.json").write_bytes(text)
        save = open_save(self.folder / "save.json", None)
        for node in list(save.all_fields()):
            if "(text)" not in node.path or not isinstance(node.value, int) or isinstance(node.value, bool):
                continue
            save.tape.clear()
            save.enter(node.path, str(node.value + 1))
            written = posted(save)
            again = json.loads(written)
            self.assertEqual(again["a"], 1)
            shorter = min(len(written), len(text))
            front = next((i for i in range(shorter) if written[i] != text[i]), shorter)
            back = next((i for i in range(1, shorter) if written[-i] != text[-i]), shorter)
            self.assertLess(len(text) - back - front, 24, "only the number and its escapes differ")
            break

    def edited(self, document: Document, count: int) -> None:
        leaves = list(document.leaves())
        self.assertEqual(len(leaves), count)
        contract = ContractTest()
        contract.folder = self.folder
        contract.each_edited(document, random.Random(1), 20)


def posted(save: Save) -> bytes:
    """What the first file would be."""
    plan = make_plan(save)
    patched = plan.files[0].patched
    return bytes(patched.read(0, patched.size))


def _xored(data: bytes) -> bytes:
    return bytes(byte ^ b"\x5a\x13\x99"[at % 3] for at, byte in enumerate(data))


WRAPPINGS = {
    "plain": (lambda data: data, lambda data: data),
    "gzip": (gzip.compress, gzip.decompress),
    "zlib": (zlib.compress, zlib.decompress),
    "xz": (lzma.compress, lzma.decompress),
    "bzip2": (bz2.compress, bz2.decompress),
    "base64": (base64.b64encode, base64.b64decode),
    "base64 of gzip": (lambda d: base64.b64encode(gzip.compress(d)), lambda d: gzip.decompress(base64.b64decode(d))),
    "padded": (lambda d: d + bytes(400), lambda d: d.rstrip(b"\0")),
    "xor": (_xored, _xored),
    "utf-16": (lambda d: d.decode().encode("utf-16"), lambda d: d.decode("utf-16").encode()),
    "utf-16be": (lambda d: d.decode().encode("utf-16-be"), lambda d: d.decode("utf-16-be").encode()),
}


class WithoutTemplateTest(LedgerCase):
    def test_a_value_is_read_entered_and_posted_behind_every_wrapping(self) -> None:
        long = b", ".join(b'"the pump of the north wreck failed again on day %d"' % day for day in range(12))
        text = (
            b'{"slot": 1, "player": {"marks": 1340.50, "name": "S\\u00f8n"}, "note": null, "open": true, "log": [%s]}'
            % long
        )
        for name, (wrap, unwrap) in WRAPPINGS.items():
            with self.subTest(name):
                path = self.folder / f"{name}.sav"
                wrapped = wrap(text)
                path.write_bytes(wrapped)
                save = open_save(path, None)
                self.assertEqual(
                    {node.path: node.value for node in save.all_fields() if "log" not in node.path},
                    {"slot": 1, "player.marks": 1340.5, "player.name": "Søn", "note": None, "open": True},
                    name,
                )
                save.enter("player.marks", "5200")
                save.enter("player.name", "Åse")
                save.enter("open", "off")
                save.enter("note", "12")
                book = self.shelf().open("Texts")
                book.keeping.remember(path, None)
                posting = book.history.post(save, make_plan(save))
                changed = unwrap(path.read_bytes())
                self.assertEqual(
                    changed,
                    text.replace(b"1340.50", b"5200.00")
                    .replace(b"S\\u00f8n", b"\\u00c5se")
                    .replace(b"null", b"12")
                    .replace(b"true", b"false"),
                )
                book.history.reverse(posting)
                self.assertEqual(path.read_bytes(), wrapped)

    def test_texts_within_strings_keep_their_other_escapes(self) -> None:
        path = self.folder / "save.json"
        inner = r"{\"marks\": 5, \"name\": \"S\u00f8n \\\/ x\", \"deep\": \"{\\\"n\\\": [1, 2]}\"}"
        path.write_text('{"player": "' + inner + '", "x": 1}')
        save = open_save(path, None)
        save.enter("player(text).marks", "77")
        save.enter("player(text).deep(text).n[1]", "12")
        save.enter("x", "2")
        expected = inner.replace("5,", "77,", 1).replace("[1, 2]", "[1, 12]")
        self.assertEqual(posted(save).decode(), '{"player": "' + expected + '", "x": 2}')
        for wrong, told in (
            ("player(text).mark", "here are marks, name, deep"),
            ("x(text).y", "x does not hold a text"),
            ("player.marks", "here is a string and nothing inside"),
        ):
            with self.assertRaisesRegex(AddressError, told):
                save.enter(wrong, "1")
        with self.assertRaisesRegex(ValueRefused, "is not a number"):
            save.enter("x", "many")

    def test_packed_texts_in_strings_and_blobs(self) -> None:
        inner = json.dumps({"marks": 1340, "crew": ["Oriel", "Tamsin"]}).encode()
        packed = {
            "base64": lambda data: base64.b64encode(data).decode(),
            "base64 of gzip": lambda data: base64.b64encode(gzip.compress(data, mtime=0)).decode(),
            "hex": bytes.hex,
            "hex of zlib": lambda data: zlib.compress(data).hex(" ").upper(),
            "hex of xz": lambda data: lzma.compress(data).hex(),
        }
        for name, pack in packed.items():
            for around in (
                '{{"v": 1, "data": "{0}"}}',
                "<s><v>1</v><data>{0}</data></s>",
                "v = 1\ndata = {0}\nx = 2\n",
            ):
                with self.subTest(name=name, around=around[:5]):
                    path = self.folder / f"{name} in {len(around)}.sav"
                    path.write_text(around.format(pack(inner)))
                    save = open_save(path, None)
                    listed = [field.path for field in save.all_fields()]
                    self.assertIn("data(text).crew[1]", listed)
                    save.enter("data(text).marks", "5200")
                    path.write_bytes(posted(save))
                    again = open_save(path, None)
                    self.assertEqual(again.value(again.fields("data(text).marks")[0]), 5200)
                    self.assertEqual([field.path for field in again.all_fields()], listed)
                    shelf = self.shelf()
                    book = shelf.open(f"{name} in {len(around)}")
                    book.keeping.remember(path, None)
                    (node,) = again.fields("data(text).marks")
                    field = book.templates.add_value(again, shelf.library(book), node, "Marks")
                    pinned = shelf.open_save(path)
                    assert pinned.template is not None
                    self.assertEqual(pinned.value(pinned.fields(field)[0]), 5200)
                    pinned.enter(field, "77")
                    path.write_bytes(posted(pinned))
                    self.assertEqual(shelf.open_save(path).fields(field)[0].value, 77)
                    shelf.close()

    def test_strings_that_are_no_packed_texts(self) -> None:
        for text in ("Tamsin" * 8, "0123456789ABCDEF" * 4, "ff" * 40, base64.b64encode(bytes(range(60))).decode()):
            document = document_of(json.dumps({"a": text, "b": 1}).encode())
            self.assertEqual([leaf.path for leaf in all_leaves(document)], ["a", "b"], text)

    def test_a_template_reaches_a_packed_string_by_layers(self) -> None:
        path = self.folder / "packed.sav"
        data = gzip.compress(b'{"marks": 1340}', mtime=0).hex(" ").upper()
        path.write_text(json.dumps({"blob": data}))
        text = "ledger: 1\nid: x\ntitle: X\nfiles:\n  save: {name: '*.sav', format: json, layout: [{field: blob, as: text}]}\n"
        text += (
            "  inner: {inside: save.blob, layers: [hex, gzip], format: json, layout: [{field: marks, as: number}]}\n"
        )
        save = open_save(path, parse_template(text.encode(), "x.yaml"))
        save.enter("inner.marks", "77")
        written = json.loads(posted(save))["blob"]
        self.assertEqual(gzip.decompress(bytes.fromhex(written)), b'{"marks": 77}')
        self.assertEqual(written, written.upper())

    def test_json_in_an_attribute_and_in_a_line(self) -> None:
        for name, text, path, expected in (
            ("a.xml", '<s><p j="{&quot;a&quot;:1}"/></s>', "p.@j(text).a", '<s><p j="{&quot;a&quot;:9}"/></s>'),
            ("a.ini", 'x = 1\np = {"a": [1]}\n', "p(text).a[0]", 'x = 1\np = {"a": [9]}\n'),
        ):
            (self.folder / name).write_text(text)
            save = open_save(self.folder / name, None)
            save.enter(path, "9")
            self.assertEqual(posted(save).decode(), expected)

    def test_every_item_and_namesakes(self) -> None:
        (self.folder / "a.xml").write_text("<s><n>1</n><n>2</n><g><n>3</n></g></s>")
        save = open_save(self.folder / "a.xml", None)
        self.assertEqual([node.value for node in save.fields("n[*]")], [1, 2])
        with self.assertRaisesRegex(AddressError, r"occurs 2 times here; say which: n\[0\] to n\[1\]"):
            save.fields("n")
        save.enter("n[*]", "7")
        self.assertEqual(posted(save), b"<s><n>7</n><n>7</n><g><n>3</n></g></s>")

    def test_a_value_that_breaks_the_text_is_refused_and_nothing_is_planned(self) -> None:
        cases = (
            ("a.csv", b"name,n\nBo,1\nAl,2\n", "[0].name", "a\nb", None),
            ("b.ini", b"[s]\na = x\nb = 2\n", "s.a", "x\ny", "a line break cannot be in"),
            ("c.xml", b"<s><a>x</a></s>", "a", "\x01", "control characters"),
            ("d.ini", "[s]\na = S\xf8n\nb = 2\n".encode("cp1252"), "s.a", "\u4e2d", "is not a letter of this file"),
        )
        for name, text, path, value, told in cases:
            (self.folder / name).write_bytes(text)
            save = open_save(self.folder / name, None)
            if told is None:
                save.enter(path, value)
                self.assertIn(b'"a\nb"', posted(save))
                continue
            with self.assertRaisesRegex((ValueRefused, EntryError), told):
                save.enter(path, value)
            self.assertEqual(len(save.tape), 0)

    def test_a_broken_text_is_open_as_bytes_and_says_what_is_wrong(self) -> None:
        (self.folder / "a.json").write_text('{"marks": 1,}')
        (self.folder / "b.json").write_text('{"marks": 1')
        self.assertEqual(open_save(self.folder / "a.json", None).fields("marks")[0].value, 1)
        save = open_save(self.folder / "b.json", None)
        with self.assertRaisesRegex(BindingError, "a comma or } is expected, and the text ends"):
            save.fields("marks")

    def test_leaves_of_nested_texts_are_found_by_their_paths(self) -> None:
        inner = json.dumps({"a": [1, {"b": "x"}]})
        text = f"[s]\nn = 5\nj = {inner}\n".encode()
        document = document_of(text)
        self.assertEqual(
            [leaf.path for leaf in all_leaves(document)], ["s.n", "s.j", "s.j(text).a[0]", "s.j(text).a[1].b"]
        )
        (self.folder / "a.ini").write_bytes(text)
        for node in open_save(self.folder / "a.ini", None).all_fields():
            self.assertIsInstance(node, FieldNode)


TEMPLATE = """
ledger: 1
id: text
title: A text
version: 1.0.0
game: Brinewick
recognise: [{{name: "*.sav"}}]
files:
  main:
    name: "*.sav"
    format: {format}
    layout:
      - {{field: marks, as: number, at: {marks}}}
      - {{field: name, as: text, at: {name}}}
      - {{field: count, as: number, at: {count}, count_of: lots}}
      - rows: lots
        at: {lots}
        key: id
        layout:
          - {{field: id, as: text, at: {id}}}
          - {{field: many, as: number, at: {many}}}
"""
DESCRIBED = [
    (
        {
            "format": "xml",
            "marks": "purse",
            "name": '"@name"',
            "count": "lots.@n",
            "lots": "lots",
            "id": '"@id"',
            "many": '"@many"',
        },
        '<s name="Oriel">\n <purse>5</purse>\n <lots n="2">\n  <lot id="lamp" many="1"/>\n  <lot id="rope" many="7"/>\n </lots>\n</s>\n',
        '<s name="Old Pier">\n <purse>5200</purse>\n <lots n="3">\n  <lot id="lamp" many="1"/>\n  <lot id="rope" many="9"/>\n'
        '  <lot id="bell" many="3"/>\n </lots>\n</s>\n',
    ),
    (
        {"format": "yaml", "marks": "purse", "name": "name", "count": "n", "lots": "lots", "id": "id", "many": "many"},
        "name: Oriel\npurse: 5\nn: 2\nlots:\n  - id: lamp\n    many: 1\n  - id: rope\n    many: 7\n",
        "name: Old Pier\npurse: 5200\nn: 3\nlots:\n  - id: lamp\n    many: 1\n  - id: rope\n    many: 9\n  - id: bell\n    many: 3\n",
    ),
    (
        {
            "format": "relaxed-json",
            "marks": "purse",
            "name": "name",
            "count": "n",
            "lots": "lots",
            "id": "id",
            "many": "many",
        },
        "// ours\n{name: 'Oriel', purse: 5, n: 2,\n lots: [\n  {id: 'lamp', many: 1},\n  {id: 'rope', many: 7},\n ]}\n",
        "// ours\n{name: 'Old Pier', purse: 5200, n: 3,\n lots: [\n  {id: 'lamp', many: 1},\n  {id: 'rope', many: 9},\n"
        "  {id: 'bell', many: 3},\n ]}\n",
    ),
    (
        {
            "format": "keyed-tables",
            "marks": "purse",
            "name": "name",
            "count": "n",
            "lots": "lots",
            "id": "id",
            "many": "many",
        },
        'return { name = "Oriel", purse = 5, n = 2, lots = {\n  { id = "lamp", many = 1 },\n  { id = "rope", many = 7 }\n} }',
        'return { name = "Old Pier", purse = 5200, n = 3, lots = {\n  { id = "lamp", many = 1 },\n  { id = "rope", many = 9 },\n'
        '  { id = "bell", many = 3 }\n} }',
    ),
]


class DescribedTest(LedgerCase):
    """Templates mean the same in every format of texts."""

    def test_fields_rows_and_counts(self) -> None:
        for keys, text, expected in DESCRIBED:
            with self.subTest(keys["format"]):
                path = self.folder / "a.sav"
                path.write_text(text)
                save = open_save(path, parse_template(TEMPLATE.format(**keys).encode(), "text.yaml"))
                self.assertIsNone(save.problem)
                self.assertEqual(save.fields("lots[id=rope].many")[0].value, 7)
                save.enter("marks", "5200")
                save.enter("name", "Old Pier")
                save.enter_structure("lots", [{}, {"many": 9}, {"id": "bell", "many": 3}])
                self.assertEqual(posted(save).decode(), expected)
                again = open_save(path, save.template)
                again.enter_structure("lots", [{}])
                shorter = recognised_text(MemorySource(posted(again)))
                assert shorter is not None
                self.assertEqual(len(list(shorter.leaves())), len(list(document_of(text.encode()).leaves())) - 2)

    def test_values_of_a_string_that_the_template_describes_go_by_its_file_alone(self) -> None:
        layout = "[{field: data, as: text}]"
        inner = "  inner:\n    inside: save.data\n    format: json\n    layout: []\n"
        template = f"ledger: 1\nid: t\ntitle: T\nfiles:\n  save:\n    name: '*.sav'\n    format: json\n    layout: {layout}\n{inner}"
        path = self.folder / "a.sav"
        path.write_text(json.dumps({"data": json.dumps({"marks": 7, "s": "ø"}), "day": 3}))
        save = open_save(path, parse_template(template.encode(), "t"))
        assert save.outline is not None
        listed = [node.path for node in save.outline.fields()]
        self.assertEqual(listed, ["data", "day", "inner.marks", "inner.s"])
        for name in ("inner.marks", "data(text).marks", "marks"):
            self.assertEqual([node.path for node in save.nodes(name)], ["inner.marks"])
        save.enter("data(text).marks", "8")
        written = json.loads(posted(save))
        self.assertEqual((json.loads(written["data"]), written["day"]), ({"marks": 8, "s": "ø"}, 3))

    def test_a_hit_names_the_path_that_can_be_posted_also_of_an_item_of_a_list(self) -> None:
        text = b'[s]\nlots=lamp;rope; 77 ;bell\nj={"a": [1, 77]}\nn = 177\n'
        hits = list(search_everywhere(MemorySource(text), lambda source: search_number(source, Fraction(77), (1,))))
        paths = [hit.path for hit in hits if hit.stored_as == "digits"]
        self.assertEqual(paths, ["s.lots[2]", "s.j(text).a[1]"])
        (self.folder / "a.ini").write_bytes(text)
        save = open_save(self.folder / "a.ini", None)
        for path in paths:
            assert path is not None
            save.enter(path, "5")
        self.assertEqual(posted(save), text.replace(b" 77 ", b" 5 ").replace(b"1, 77", b"1, 5"))

    def test_a_number_in_quotes_is_located_and_stays_in_quotes(self) -> None:
        for text, path in ((b'{"a": {"marks": "%d"}, "b": "1"}', "a.marks"), (b"{a: 'x', marks: '%d'}", "marks")):
            copies = [text % value for value in (1340, 977, 2211)]
            found = locate(
                [MemorySource(copy) for copy in copies], [parse_sighting(v) for v in ("1340", "977", "2211")]
            )
            self.assertEqual([place.path for place in found.places], [path])
            (self.folder / "a.sav").write_bytes(copies[0])
            save = open_save(self.folder / "a.sav", None)
            save.enter(path, "5200")
            self.assertEqual(posted(save), text % 5200)

    def test_a_located_place_is_pinned_and_posted_in_every_format(self) -> None:
        for number, (name, text, _) in enumerate(SAMPLES):
            document = document_of(text)
            leaf = next(leaf for leaf in document.leaves() if leaf.is_number and "(text)" not in leaf.path)
            storage = document.value_storage(document.at(document.whole, parse_path(leaf.path)))
            shown = [1340, 977, 2211]
            folder = self.folder / str(number)
            folder.mkdir()
            path = folder / "a.sav"
            copies = [text[: leaf.start] + storage.encode(v, leaf.raw) + text[leaf.end :] for v in shown]
            path.write_bytes(copies[-1])
            found = locate([MemorySource(copy) for copy in copies], [parse_sighting(str(v)) for v in shown])
            with self.subTest(name=name, path=leaf.path):
                place = found.places[0]
                keyed = KeyedPaths({each.path: each for each in document.leaves()})
                self.assertEqual(place.path, next(iter(keyed.of(leaf.path, moved=False)), leaf.path))
                shelf = self.shelf()
                book = shelf.open(f"Texts {number}")
                save = open_save(path, None)
                book.keeping.remember(path, None)
                field = book.templates.add_place(save, shelf.library(book), place, "Marks")
                pinned = shelf.open_save(path)
                assert pinned.template is not None
                pinned.enter(field, "5200")
                expected = copies[-1][: leaf.start] + storage.encode(5200, leaf.raw)
                self.assertEqual(posted(pinned)[: len(expected)], expected)
                shelf.close()
