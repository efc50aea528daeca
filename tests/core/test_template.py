"""The template language: expressions, what is refused with which words, and that a stranger's template is safe."""

from __future__ import annotations

import contextlib
from typing import Any
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_ledger.core.address.expressions import Expression
from faithful_ledger.core.describe.draft import changed
from faithful_ledger.core.errors import EntryError, ExpressionError, RecognitionError, TemplateError
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.template import Library, load_template, loader, parse_template
from faithful_ledger.core.template.library import SHIPPED, fits
from faithful_ledger.core.template.loader import LARGEST_TEMPLATE, rewrite
from faithful_ledger.core.template.model import elements_of
from faithful_ledger.core.template.parts import self_contained
from faithful_ledger.core.template.rewriting import YamlText
from tests.support import LedgerCase, dice

VALUES = {"count": 4, "head.size": 300, "zero": 0}
HEAD = "ledger: 1\nid: sample\ntitle: Sample\n"


def value_of(text: str) -> int:
    return Expression(text).evaluate(VALUES.__getitem__)


class ExpressionTest(LedgerCase):
    def test_results(self) -> None:
        for text, result in (
            ("12", 12),
            ("0x10", 16),
            ("count * 24 + 2", 98),
            ("head.size - 24", 276),
            ("-count", -4),
            ("head.size // 7 % 5", 2),
            ("1 << count | 1", 17),
            ("count if head.size > 256 else 1", 4),
            ("not count", 0),
            ("count and head.size", 300),
            ("zero or 7", 7),
            ("1 < count < 9", 1),
            ("max(count, 9, 2)", 9),
            ("min(count)", 4),
            ("abs(zero - 3)", 3),
            ("up_to(count + 1, 4)", 8),
        ):
            with self.subTest(text=text):
                self.assertEqual(value_of(text), result)

    def test_what_is_not_allowed(self) -> None:
        for text, words in (
            ("__import__('os')", "a call"),
            ("(1).real", "an attribute"),
            ("count.__class__.__mro__[0]", "brackets"),
            ("[1][0]", "brackets"),
            ("'a' * 9", "a constant that is not a whole number"),
            ("1.5", "a constant that is not a whole number"),
            ("True", "a constant that is not a whole number"),
            ("2 ** 99", "“binop”"),
            ("lambda: 1", "“lambda”"),
            ("[x for x in y]", "“listcomp”"),
            ("(x := 3)", "“namedexpr”"),
            ("open(count)", "a call"),
            ("max(*count)", "“starred”"),
            ("up_to(1)", "the wrong number of values"),
            ("count +", "is not an expression"),
            ("1" + "+1" * 90, "more than 60 parts"),
            ("1" * 201, "longer than 200 characters"),
            ("9" * 150, "a constant that is not a whole number"),
            ("(" * 150, "is not an expression"),
        ):
            with self.subTest(text=text), self.assertRaises(ExpressionError) as caught:
                Expression(text)
            self.assertIn(words, str(caught.exception))

    def test_results_are_bounded(self) -> None:
        for text, words in (
            ("1 // zero", "divides by zero"),
            ("1 % zero", "divides by zero"),
            ("1 << 65", "shifts by 65 bits"),
            ("1 << -count", "shifts by -4 bits"),
            ("0xFFFFFFFFFFFFFFFF * 0xFFFFFFFFFFFFFFFF", "beyond 64 bits"),
            ("up_to(count, zero)", "a multiple of 0"),
        ):
            with self.subTest(text=text), self.assertRaises(ExpressionError) as caught:
                value_of(text)
            self.assertIn(words, str(caught.exception))

    @settings(max_examples=300)
    @given(st.text(max_size=40))
    def test_any_text_gives_a_number_or_one_clear_error(self, text: str) -> None:
        try:
            result = Expression(text).evaluate(lambda name: 3)
        except ExpressionError:
            return
        self.assertIsInstance(result, int)


class MistakesTest(LedgerCase):
    def mistakes(self, text: str) -> list[tuple[int, str]]:
        with self.assertRaises(TemplateError) as caught:
            parse_template(text.encode(), "sample.yaml")
        return caught.exception.mistakes

    def test_all_mistakes_of_the_keys_are_told_at_once_with_lines_and_hints(self) -> None:
        found = self.mistakes(
            HEAD
            + """files:
  save:
    name: "*.bin"
    layuot: []
    layout:
      - {field: marks, as: u32, lable: Marks}
      - {feild: air, as: u8}
      - {field: Debt, as: u32}
      - {field: x}
seals: []
"""
        )
        self.assertEqual(
            found,
            [
                (7, "“layuot” is not a key here; did you mean “layout”?"),
                (9, "“lable” is not a key here; did you mean “label”?"),
                (
                    10,
                    "an element begins with one of field, constant, unknown, group, rows; did you mean “field”?",
                ),
                (11, "“field” is “Debt”; it must be small letters, digits and _, with a letter first"),
                (12, "“as” is missing"),
                (13, "“seals” is not a key here; did you mean “seal”?"),
            ],
        )

    def test_a_value_of_a_wrong_kind_is_one_sentence_with_what_it_must_be(self) -> None:
        text = "files: {save: {name: s, layout: [{field: a, as: u8, %s}]}}\n"
        for keys, words in (
            ("names: {'0': a}", "a key of “names” is the text “0”; it must be a whole number"),
            ("names: {1: 2}", "“1” of “names” is 2; it must be a text"),
            ("at: [3]", "“at” is a list of 1; it must be a whole number or a text"),
            ("size: 1.5", "“size” is 1.5; it must be a whole number or a text"),
            ("scale: true", "“scale” is true; it must be a number or a text"),
            ("moment: {since: '1900-01-01'}", "“unit” is missing"),
            ("moment: []", "“moment” is a list of 0; it must be a text or a mapping of keys to values"),
            ("standing: sure", "“standing” is “sure”; it must be guessed, fits or proven"),
            ("pad: zz", "“pad” is “zz”; it must be up to 64 bytes in hexadecimal, as “41 0A”"),
            ("layout: []", "“layout” is not a key here, only of file, group, rows"),
            ("seal: {algorithm: sum8, over: [a]}", "“over” is a list of 1; it must be one of at least 2"),
            ("seal: {algorithm: sum8, over: a, own: 7}", "“own” is 7; it must be zeros, left out or a text"),
        ):
            with self.subTest(keys=keys):
                self.assertEqual([sentence for _, sentence in self.mistakes(HEAD + text % keys)], [words])
        layers = "files: {save: {name: s, layout: []}, in: {inside: save, layout: [], layers: [%s]}}\n"
        for layer, words in (
            ("5", "entry 1 of “layers” is 5; it must be a text or a mapping of keys to values"),
            ("{layer: xor, put_back: 1}", "“put_back” is 1; it must be true or false"),
            ("zlib, {layer: aes-cbc, derive: {by: pbkdf2, size: 99}}", "“size” is 99; it must be at most 64"),
        ):
            with self.subTest(layer=layer):
                self.assertEqual([sentence for _, sentence in self.mistakes(HEAD + layers % layer)], [words])

    def test_keys_that_were_renamed_say_what_to_write(self) -> None:
        layout = "files: {save: {name: x, layout: [{repeat: a, count: 2, each: {as: u8}}]}}\n"
        self.assertIn((4, "“repeat” is called “rows” now"), self.mistakes(HEAD + layout))
        layout = "files: {save: {name: x, layout: [{rows: a, until: 'FF', each: {as: u8}}]}}\n"
        self.assertIn((4, "“until” is called “ended_by” now"), self.mistakes(HEAD + layout))
        layout = "files: {save: {name: x, layout: [{field: a, as: u8}]}}\nsections: [{title: S, rows: [a]}]\n"
        self.assertIn((5, "“rows” is called “fields” now"), self.mistakes(HEAD + layout))

    def test_unknown_keys_do_not_hide_mistakes_of_meaning(self) -> None:
        found = self.mistakes(
            HEAD
            + """files:
  save:
    name: "*.bin"
    layout:
      - {field: marks, as: u33, lable: Marks}
      - {group: a, size: b, layout: [{field: b, as: u8}]}
      - {group: c, size: d.e, layout: []}
      - {group: d, layout: [{field: e, as: u8, length_of: c}]}
"""
        )
        self.assertEqual(
            found,
            [
                (8, "“lable” is not a key here; did you mean “label”?"),
                (8, "“u33” is not a kind of value; did you mean “u32”?"),
                (9, "“b” is not a field that comes before"),
                (10, "“d.e” is not a field that comes before"),
            ],
            "a circle of lengths is one of these: the second length comes before its own field",
        )

    def test_all_mistakes_of_meaning_are_told_at_once(self) -> None:
        found = self.mistakes(
            HEAD
            + """catalogues: {item: {1: lamp oil}}
records:
  ring:
    - {rows: more, record: ring, count: 1}
files:
  save:
    name: "*.bin"
    layout:
      - {field: count, as: u9}
      - {field: name, as: text}
      - {field: item, as: u16, names: itme}
      - {field: size, as: u32, length_of: bodyy}
      - {field: sum, as: u16, seal: {algorithm: sun16, over: body}}
      - {group: body, size: late, layout: [{field: a, as: u8}, {field: a, as: u8}]}
      - {rows: crew, record: dver, count: count}
      - {rows: rings, record: ring, count: 1, size: 4}
      - {unknown: rest, size: "open('x')"}
      - {field: late, as: f32, switches: {0: on}}
      - {field: word, as: text, size: 4, encoding: zlib}
      - {constant: tag}
      - {field: both, as: u8, behind: "01", before: "02"}
      - {unknown: some, size: 3, before: "02 03"}
rules:
  - {equal: [body.a, nowhere]}
sections:
  - {title: Crew, table: crew, columns: [nam]}
  - {title: Nothing}
"""
        )
        told = "\n".join(f"{line}: {text}" for line, text in found)
        for expected in (
            "12: “u9” is not a kind of value",
            "13: a text has a size, a length, or both, or ended_by",
            "14: there is no catalogue “itme”; did you mean “item”?",
            "15: “bodyy” leads to no field or group; did you mean “body”?",
            "16: no algorithm “sun16”; did you mean “sum16”?",
            "17: “late” is not a field that comes before",
            "17: “a” stands here twice; names in a group differ",
            "18: there is no record “dver”",
            "19: rows have one of count, size and ended_by, which say where they end",
            "20: “open('x')” uses a call, which expressions do not know",
            "21: only whole numbers have names or switches",
            "22: “zlib” is neither a text encoding of Python nor one of `letters`",
            "23: a constant has one of bytes and text",
            "24: an element is found behind bytes or before them, not both",
            "25: only a field of fixed size, a LEB128 number or a text with its length in front has a known end",
            "27: “nowhere” leads to no field",
            "30: a section has one of fields, table and switches",
        ):
            self.assertIn(expected, told)

    def test_a_strangers_template_cannot_grow_reach_or_run(self) -> None:
        bomb = "a: &a [x, x, x, x, x, x, x, x, x]\n" + "".join(
            f"{chr(98 + n)}: &{chr(98 + n)} [{', '.join(['*' + chr(97 + n)] * 9)}]\n" for n in range(9)
        )
        deep = "a: " + "[" * 200 + "]" * 200
        file = 'files: {save: {name: "%s", layout: []}}\n'
        for text, line, words in (
            (bomb, 2, "aliases (*name) are not allowed; use records"),
            (deep, 1, "it is nested deeper than 60 levels"),
            (
                HEAD + "x: !!python/object/apply:os.system [ls]",
                4,
                "tags (tag:yaml.org,2002:python/object/apply:os.system) are not allowed",
            ),
            (HEAD + file % "../other.bin", 4, "“../other.bin” leads elsewhere"),
            (HEAD + file % "..", 4, "“..” leads elsewhere; a template only names files beside the save"),
            (HEAD + file % "a/../../b", 4, "“a/../../b” leads elsewhere"),
            (
                HEAD + file % "/etc/passwd",
                4,
                "“name” is “/etc/passwd”; it must be the name of a file in the same folder",
            ),
            (
                HEAD + file % "s" + "companions: [{name: /etc/passwd}]",
                5,
                "“name” is “/etc/passwd”; it must be the name of a file in the same folder",
            ),
            ("ledger: 2\nid: a\ntitle: a\nfiles: {}", 1, "“ledger” is 2; it must be 1"),
            ("- a", 1, "a template is a mapping that begins with “ledger: 1”"),
            ("a: [1, 2", 1, "this is not YAML"),
            ("a: 1\na: 2", 2, "the key “a” is here twice"),
            ("", 1, "a template is a mapping"),
        ):
            with self.subTest(text=text[:40]):
                told = self.mistakes(text)
                self.assertTrue(any(at == line and words in sentence for at, sentence in told), told)
        with self.assertRaisesRegex(TemplateError, "line 1: this is not UTF-8 text"):
            parse_template(b"a: \xff\xfe", "x.yaml")
        large = self.folder / "large.yaml"
        large.write_bytes(b"#" * (LARGEST_TEMPLATE + 1))
        with self.assertRaisesRegex(TemplateError, "larger than 2 MiB"):
            load_template(large)

    @settings(max_examples=60)
    @given(st.binary(max_size=200))
    def test_any_bytes_are_a_template_or_a_list_of_mistakes(self, text: bytes) -> None:
        with self.assertRaises(TemplateError) as caught:
            parse_template(text, "x.yaml")
        self.assertTrue(caught.exception.mistakes)


SHARING = """\
# ours
ledger: 1
id: own
title: Own
imports: [parts/town.yaml]
catalogues: {site: lists/sites.csv}
files:
  save:
    name: "*.sav"
    layout:
      - {field: site, as: u8, names: site}
      - {rows: hold, record: lot, count: 1}
      - {field: last, as: u8}
"""


class ChangedTest(LedgerCase):
    """A template of which one element changed is made from what is known of the others."""

    def test_it_means_what_the_whole_text_means_and_has_the_same_mistakes(self) -> None:
        rng = dice()
        seed = rng.randrange(1 << 32)
        rng.seed(seed)
        given: list[tuple[str, Any]] = [
            *(("label", "Odd"), ("note", "# odd: yes"), ("label", None), ("unit", "m"), ("as", "u16"), ("as", "u99")),
            *(("bounds", {"least": 1}), ("scale", "1/0"), ("names", {3: "three"}), ("nonsense", 1), ("at", "8 +")),
            *(("standing", "proven"), ("standing", "sure"), ("when", "no_such > 1"), ("length_of", "nowhere")),
        ]
        made = [0, 0]
        for name in sorted(path.name for path in SHIPPED.glob("*.yaml")):
            text = self_contained(SHIPPED / name)
            template = parse_template(text, name)
            places = [e.where for spec in template.files.values() for e in elements_of(spec.root) if e.where]
            for round_ in range(40):
                where, (key, value) = rng.choice(places), rng.choice(given)
                changed_ = YamlText(text)
                changed_.set((*where, key), value)
                with self.subTest(seed=seed, template=name, round=round_, where=where, key=key, value=value):
                    outcomes = []
                    for alone in (False, True):
                        parse_template(text, name)  # it is what was read last
                        nothing = mock.patch.object(loader, "_keys_like_before", lambda document: None)
                        with nothing if alone else contextlib.nullcontext():
                            try:
                                outcomes.append(loader._parse(bytes(changed_), name, None).keys)
                            except TemplateError as error:
                                outcomes.append(error.mistakes)
                    self.assertEqual(*outcomes)
                    made[isinstance(outcomes[0], dict)] += 1
        self.assertGreater(min(made), 40)


class LibraryTest(LedgerCase):
    def test_a_template_that_passed_is_remembered_and_means_the_same(self) -> None:
        cache = self.folder / "cache"
        path = SHIPPED / "brinewick-desktop.yaml"
        first, second = load_template(path, cache), load_template(path, cache)
        self.assertEqual(len(list(cache.glob("*.json"))), 1)
        self.assertEqual(
            [(e.name, e.title, e.fixed_size) for e in first.elements()],
            [(e.name, e.title, e.fixed_size) for e in second.elements()],
        )
        next(cache.glob("*.json")).write_text("{}")
        self.assertEqual(load_template(path, cache).id, "brinewick-desktop")

    def test_what_templates_share_is_read_again_when_it_changes(self) -> None:
        part, table = self.folder / "parts" / "town.yaml", self.folder / "lists" / "sites.csv"
        for path in (part, table):
            path.parent.mkdir()
        part.write_text("catalogues: {item: {1: lamp oil}}\nrecords: {lot: [{field: item, as: u8, names: item}]}\n")
        table.write_text("code;name;group\n0;Old Wharf;quay\n0x10;Bell Rock;\n")
        path = self.folder / "own.yaml"
        path.write_text(SHARING)

        def shown() -> list[str]:
            save = open_save(self.save, load_template(path, self.folder / "cache"))
            return [save.text(field) for field in save.all_fields()]

        self.save = self.folder / "a.sav"
        self.save.write_bytes(b"\x10\x01\x02")
        self.assertEqual(shown(), ["Bell Rock", "lamp oil", "2"])
        part.write_text(part.read_text().replace("lamp oil", "bell weight"))
        self.assertEqual(shown(), ["Bell Rock", "bell weight", "2"])
        table.write_text("name,code\nBell Rock,16\n")
        self.assertEqual(shown(), ["Bell Rock", "bell weight", "2"])
        whole = self_contained(path)
        self.assertIn(b"# ours", whole)
        alone = open_save(self.save, parse_template(whole, "whole"))
        self.assertEqual([alone.text(field) for field in alone.all_fields()], ["Bell Rock", "bell weight", "2"])
        save = open_save(self.save, load_template(path))
        with self.assertRaisesRegex(EntryError, "described in a part that several templates share; .* not changed"):
            changed(path.read_bytes(), save, lambda draft: draft.rename("hold[0].item", "thing"))
        renamed = changed(path.read_bytes(), save, lambda draft: draft.rename("site", "place"))
        self.assertIn(b"imports: [parts/town.yaml]", renamed)

    def test_what_cannot_be_shared_is_named(self) -> None:
        path, part = self.folder / "own.yaml", self.folder / "parts" / "town.yaml"
        outside = self.folder.parent / f"{self.folder.name}-outside.csv"
        outside.write_text("code,name\n")
        self.addCleanup(outside.unlink)
        part.parent.mkdir()
        table = self.folder / "lists" / "sites.csv"
        table.parent.mkdir()
        good_part = "catalogues: {item: {1: lamp oil}}\nrecords: {lot: [{field: item, as: u8, names: item}]}\n"
        for part_text, table_text, words in (
            (None, "", r"line 5: parts/town.yaml cannot be read beside the template"),
            ("catalogues: {item: {a: b}}\n", "", "parts/town.yaml, line 1: a key of “item” is the text “a”"),
            ("imports: [x]\n", "", "parts/town.yaml, line 1: “imports” is not a key here"),
            ("- 5\n", "", "a template is a mapping"),
            (good_part + "letters: {}\n# x\n---\n", "", "parts/town.yaml, line"),
            (good_part, "code\n1\n", "lists/sites.csv, line 1: the columns code and name are needed"),
            (good_part, "code,name\nx,Bell\n", "lists/sites.csv, line 2: “x” is not a whole number"),
            (good_part, "code,name\n1,Bell\n1,Rock\n", "lists/sites.csv, line 3: the code 1 is there twice"),
            (good_part, 'code,name\n1,"Bell\n', "is not a table of comma-separated values"),
            (good_part, None, "lists/sites.csv cannot be read beside the template"),
        ):
            path.write_text(SHARING)
            for file, text in ((part, part_text), (table, table_text)):
                file.unlink(missing_ok=True)
                if text is not None:
                    file.write_text(text)
            with self.subTest(words=words), self.assertRaisesRegex(TemplateError, words):
                load_template(path)
        part.write_text(good_part)
        table.symlink_to(outside)
        with self.assertRaisesRegex(TemplateError, "lists/sites.csv is not in the template's folder, nor below it"):
            load_template(path)
        for name in ("../x.yaml", "/etc/passwd", "parts/../../x.yaml"):
            path.write_text(SHARING.replace("parts/town.yaml", name))
            with self.subTest(name=name), self.assertRaises(TemplateError):
                load_template(path)
        with self.assertRaisesRegex(TemplateError, "is read beside a template's file, and this template is not in one"):
            parse_template(SHARING.encode(), "pasted")
        twice = SHARING.replace("catalogues: {site", "catalogues: {item: {2: x}, site")
        path.write_text(twice)
        with self.assertRaisesRegex(TemplateError, "town.yaml has catalogues “item”, which are here already"):
            load_template(path)

    def test_one_broken_template_does_not_stand_in_the_way_of_the_others(self) -> None:
        (self.folder / "bad.yaml").write_text("ledger: 1\nid: bad\n")
        library = Library((self.folder,), self.cache)
        self.assertEqual(
            list(library.templates()),
            [f"brinewick-{edition}" for edition in ("atlas", "card", "console", "deep", "desktop", "pocket", "quill")],
        )
        with self.assertRaisesRegex(
            RecognitionError, r"no template fits this file \(known: brinewick-atlas, .*\); bad.yaml cannot"
        ):
            library.recognise(self.folder / "x", MemorySource(b"noise"))

    def test_several_that_fit_are_named(self) -> None:
        text = self_contained(SHIPPED / "brinewick-desktop.yaml").decode("utf-8")
        (self.folder / "mine.yaml").write_text(text.replace("id: brinewick-desktop", "id: mine"), "utf-8")
        library = Library((self.folder,), self.cache)
        with self.assertRaisesRegex(RecognitionError, r"several templates fit this file \(mine, brinewick-desktop\)"):
            library.recognise(self.folder / "harbour.bwk", MemorySource(b"BWK\x1a" + bytes(40)))
        with self.assertRaisesRegex(RecognitionError, "no template “mina”; did you mean “mine”"):
            library.get("mina")

    def test_signs(self) -> None:
        (sign,) = self.library().get("brinewick-desktop").signs
        for name, data, expected in (
            ("harbour.bwk", b"BWK\x1a" + bytes(20), True),
            ("HARBOUR.BWK", b"BWK\x1a" + bytes(20), True),
            ("harbour.bin", b"BWK\x1a" + bytes(20), False),
            ("harbour.bwk", b"BWL\x1a" + bytes(20), False),
            ("harbour.bwk", b"BWK\x1a" + bytes(19), False),
            ("harbour.bwk", b"", False),
        ):
            with self.subTest(name=name, data=data):
                self.assertEqual(fits(sign, name, len(data), MemorySource(data).read), expected)

    def test_a_rewrite_keeps_every_comment(self) -> None:
        text = (SHIPPED / "brinewick-desktop.yaml").read_bytes()
        new = rewrite(text, {("records", "diver", 1, "note"): "Below 12 the diver faints."})
        self.assertIn(b"# Brinewick, desktop edition: a slot", new)
        self.assertIn("Below 12 the diver faints.", new.decode())
        before, after = text.decode().splitlines(), new.decode().splitlines()
        self.assertEqual(
            [a for a, b in zip(before, after, strict=True) if a != b], ["      note: Below 10 the diver cannot dive."]
        )
        self.assertEqual(parse_template(new, "x", SHIPPED).id, "brinewick-desktop")
