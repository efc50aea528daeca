"""Describing by hand: a template's text changes only where it is meant to, and a save is described from nothing."""

from __future__ import annotations

import random
import re
import struct
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_ledger.core.binding import RowsNode
from faithful_ledger.core.binding.spans import all_fields
from faithful_ledger.core.describe.copies import overlaps, report, unknown_runs, value_at
from faithful_ledger.core.describe.draft import Draft, changed
from faithful_ledger.core.describe.links import links
from faithful_ledger.core.describe.proposals import proposals
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.sealing import seal_chosen
from faithful_ledger.core.seals.finder.selection import Chosen, checksums_of
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.template import Library, parse_template, read_template
from faithful_ledger.core.template.fresh import Shared, new_template
from faithful_ledger.core.template.library import SHIPPED
from faithful_ledger.core.template.rewriting import Hex, YamlText, spelled
from faithful_ledger.core.template.yaml_text import Document, read_yaml
from tests.support import LedgerCase, dice, sample

HEAD = "ledger: 1\nid: sample\ntitle: Sample\n"
WORD = st.sampled_from(["a", "b1", "crew", "y", "no", "a b", "3", "0x10", "é: ü", "#x", "", "true", "- x", "a'b\"c"])
PLAIN = st.one_of(st.integers(-9, 300), st.booleans(), WORD, st.dictionaries(st.integers(0, 3), WORD, max_size=2))
ITEM = st.dictionaries(st.sampled_from(["as", "note", "size", "names"]), PLAIN, min_size=1, max_size=3)


def text_of(items: list[dict[str, Any]], block: list[bool]) -> str:
    """A list with a comment above and beside each item, in block or in flow style."""
    lines = ["files:", "  save:", "    layout:"]
    for number, (item, wide) in enumerate(zip(items, block, strict=False)):
        lines.append(f"      # above {number}")
        parts = [f"{key}: {spelled(value)}" for key, value in item.items()]
        if wide:
            lines += [f"      - {parts[0]}", *(f"        {part}" for part in parts[1:]), ""]
        else:
            lines.append("      - {" + ", ".join(parts) + "}")
    return "\n".join([*lines, "      # last", "other: []  # behind", ""])


ODD_LISTS = """\
top:
- a
- - b
  - c
  -
    d: 1
-
  e: |
    - not an item
    more
  f: "over
    two lines"
- g: [1,
    2]
# behind
other:
    - {h: 1}

    - i
"""
ODD_ROWS = (
    "",
    "---",
    "- x",
    "      - {field: odd, as: u8}",
    "        note: odd",
    "# odd",
    "  - - y",
    "      -",
    "a: &b 1",
)


class RewritingTest(LedgerCase):
    @given(
        st.lists(ITEM, min_size=1, max_size=4),
        st.lists(st.booleans(), min_size=4, max_size=4),
        st.lists(st.tuples(st.sampled_from("iprskw"), st.integers(0, 9), ITEM, PLAIN), max_size=6),
        st.booleans(),
    )
    @settings(max_examples=200)
    def test_any_changes_are_those_of_the_data_and_comments_stay(
        self, items: list[dict[str, Any]], block: list[bool], changes: list[Any], lately: bool
    ) -> None:
        text = YamlText(text_of(items, block).encode())
        if lately:  # then changes within one item need not read the whole text
            read_yaml(bytes(text), "the text")
        model = [dict(item) for item in items]
        where = ("files", "save", "layout")
        comments = re.findall(r"# (?:above|last|behind).*", text.text)
        for kind, number, item, value in changes:
            if any("group" in part for part in model) and kind in "rpk":
                continue  # comments within what is taken out go along
            index = number % (len(model) + 1)
            last = min(index, len(model) - 1)
            if kind == "i":
                text.insert(where, index, item)
                model.insert(index, item)
            elif kind == "r" and len(model) > 1:
                text.remove(where, last)
                del model[last]
            elif kind == "p" and model:
                text.replace((*where, last), item)
                model[last] = item
            elif kind == "s" and model:
                text.set((*where, last, "label"), value)
                model[last] = {**model[last], "label": value}
            elif kind == "k" and model and len(model[last]) > 1:
                key = list(model[last])[-1]
                text.set((*where, last, key), None)
                model[last] = {k: v for k, v in model[last].items() if k != key}
            elif kind == "w" and model:
                text.wrap(where, last, len(model), {"group": "g", "at": Hex(88)})
                model[last:] = [{"group": "g", "at": 88, "layout": model[last:]}]
        self.assertEqual(yaml.safe_load(text.text), {"files": {"save": {"layout": model}}, "other": []})
        for comment in comments:
            self.assertIn(comment, text.text)

    def test_a_text_that_was_changed_says_what_reading_all_of_it_says(self) -> None:
        """Lines, letters and keys change at random; what was read lately may help, and must not show."""
        rng = dice()
        seed = rng.randrange(1 << 32)
        rng.seed(seed)
        texts = [path.read_text("utf-8") for path in sorted(SHIPPED.glob("*.yaml"))] + [ODD_LISTS]
        helped = 0
        for round_ in range(600):
            before = rng.choice(texts)
            rows = before.split("\n")
            at = rng.randrange(len(rows))
            kind = rng.choice(["letter", "letter", "row", "gone", "twice", "swap", "indent", "label"])
            if kind == "letter":
                place = rng.randrange(len(rows[at]) + 1)
                rows[at] = rows[at][:place] + rng.choice("-:#{}[],'\"|> a0\t&*!") + rows[at][place + rng.randrange(2) :]
            elif kind == "row":
                rows.insert(at, rng.choice(ODD_ROWS))
            elif kind == "gone":
                del rows[at : at + rng.randrange(1, 4)]
            elif kind == "twice":
                rows.insert(at, rows[at])
            elif kind == "swap":
                rows[at : at + 2] = rows[at : at + 2][::-1]
            elif kind == "indent":
                rows[at] = rng.choice((" " + rows[at], rows[at][1:]))
            else:
                rows[at] = rows[at].replace("field:", "label: odd, field:") if "{" in rows[at] else rows[at] + " # new"
            after = "\n".join(rows)
            with self.subTest(seed=seed, round=round_, kind=kind, row=at):
                document = Document.read(before, "the text")
                made = document.changed(after)
                if made is None:
                    continue
                helped += 1
                whole = Document.read(after, "the text")
                self.assertEqual(made.value, whole.value)
                self.assertEqual(sorted(made.blocks, key=str), sorted(whole.blocks, key=str))
                self.assertEqual(made.lines, whole.lines)
        self.assertGreater(helped, 60)

    def test_an_empty_list_is_filled_and_emptied(self) -> None:
        for before in ("layout: []\nrest: 1\n", "layout:   []\nrest: 1\n", "{layout: [], rest: 1}\n"):
            text = YamlText(before.encode())
            text.insert(("layout",), 0, {"field": "y", "as": "u8"})
            self.assertEqual(yaml.safe_load(text.text), {"layout": [{"field": "y", "as": "u8"}], "rest": 1})
            text.remove(("layout",), 0)
            self.assertEqual(yaml.safe_load(text.text), {"layout": [], "rest": 1})

    def test_a_shipped_template_keeps_every_line_but_the_one_that_changes(self) -> None:
        path = Library().path_of("brinewick-desktop")
        assert path is not None
        before = path.read_bytes()
        save = open_save(sample() / "harbour.bwk", read_template(path)[0])
        changed_ = changed(before, save, lambda draft: draft.rename("purse.debt", "owed"))
        old, new = before.decode().splitlines(), changed_.decode().splitlines()
        self.assertEqual(len(old), len(new))
        differing = [(a, b) for a, b in zip(old, new, strict=True) if a != b]
        self.assertTrue(differing)
        for a, b in differing:
            self.assertEqual(a.replace("debt", "owed"), b.replace("debt", "owed"))
        parse_template(changed_, "renamed", path.parent)


class Describing(LedgerCase):
    """A save of bytes, and its template from nothing."""

    def begin(self, data: bytes, layout: str = "") -> None:
        folder = Path(tempfile.mkdtemp(dir=self.folder))
        self.path = folder / "one.sav"
        self.path.write_bytes(data)
        self.save = open_save(self.path, None)
        self.text = new_template(self.path, "Brinewick", Shared(1, 0))
        if layout:
            lines = "".join(f"\n      {line}" for line in layout.strip().splitlines())
            self.text = self.text.replace(b"layout: []", f"layout:{lines}".encode())

    def do(self, act: Any) -> Draft:
        self.text = changed(self.text, self.save, act)
        return Draft(self.text, self.save)

    def values(self) -> dict[str, str]:
        root = Draft(self.text, self.save).file("save").root
        return {node.path: value_at(node) for node in all_fields(root) if not node.spec.unknown}

    def refused(self, words: str, act: Any) -> None:
        before = self.text
        with self.assertRaises(LedgerError) as caught:
            self.do(act)
        self.assertIn(words, str(caught.exception))
        self.assertIn("not changed", str(caught.exception))
        self.assertEqual(self.text, before)


class FromNothingTest(Describing):
    def test_the_desktop_edition_is_described_as_the_shipped_template_does(self) -> None:
        data = (sample() / "harbour.bwk").read_bytes()
        shipped = open_save(sample() / "harbour.bwk", Library().get("brinewick-desktop"))
        self.begin(data)

        def add(start: int, end: int, name: str, **keys: Any) -> int:
            found = proposals(MemorySource(data), start, end, "little")
            self.assertTrue(found)
            self.do(lambda draft: draft.add("save", start, end, {"field": name, **keys}))
            return end

        self.do(lambda draft: draft.add("save", 0, 4, {"constant": "magic", "bytes": "42 57 4B 1A"}))
        at = 4
        for name, kind, size in (("version", "u16", 2), ("edition", "u8", 1), ("slot", "u8", 1), ("body_length", "u32", 4),
                                 ("hold_at", "u32", 4), ("body_crc", "u32", 4), ("saves", "u32", 4)):  # fmt: skip
            at = add(at, at + size, name, **{"as": kind})
        self.do(lambda draft: draft.group("save", 0, 24, "head"))
        crew = data.index(b"CREW")
        self.do(lambda draft: draft.add("save", crew, crew + 4, {"constant": "crew_tag", "text": "CREW"}))
        at = add(crew + 4, crew + 8, "crew_length", **{"as": "u32"})
        at = add(at, at + 2, "crew_sum", **{"as": "u16"})
        at = begin = add(at, at + 1, "crew_count", **{"as": "u8"})
        at = add(at, at + 1 + data[at], "name", **{"as": "text", "length": "u8"})
        for name, kind, size in (("air", "u8", 1), ("vigour", "u8", 1), ("injuries", "u16", 2), ("station", "u8", 1),
                                 ("x", "f32", 4), ("y", "f32", 4), ("depth", "u24", 3)):  # fmt: skip
            at = add(at, at + size, name, **{"as": kind})
        ends = Draft(self.text, self.save).ends("save", begin, at)
        self.assertEqual(ends[0].keys, {"count": "crew_count"}, [end.words for end in ends])
        self.assertIn({"count": 4}, [end.keys for end in ends])  # down to where it stops making sense
        draft = self.do(lambda draft: draft.repeat("save", begin, at, "crew", ends[0].keys))
        crew_rows = draft.node("crew")
        assert isinstance(crew_rows, RowsNode)
        self.do(lambda draft: draft.group("save", begin - 1, crew_rows.end, "crew_content"))
        draft = Draft(self.text, self.save)
        found = links([draft.file("save").root], "crew_length")
        self.assertEqual((found[0].kind, found[0].target, found[0].plus), ("length", "crew_content", 0))
        self.do(lambda draft: draft.link("crew_length", found[0]))
        content = Draft(self.text, self.save).node("crew_content")
        chosen = checksums_of([Chosen(data, content.start, content.end)])
        self.assertEqual((chosen[0].algorithm.name, chosen[0].at), ("sum16", crew + 8))
        self.do(lambda draft: seal_chosen(draft, chosen[0], (content.start, content.end)))
        body = checksums_of([Chosen(data, 24, len(data))])
        self.assertEqual((body[0].algorithm.name, body[0].at), ("crc-32", 16))
        draft = self.do(lambda draft: seal_chosen(draft, body[0], (24, len(data))))
        ours = {path.replace("crew_content.", ""): value for path, value in self.values().items()}
        theirs = {node.path: value_at(node) for node in shipped.all_fields()}
        named = ("injuries", "station", "edition")  # the shipped template has names for their values
        for path, value in ours.items():
            if path in theirs and not path.endswith(named):
                self.assertEqual(theirs[path], value, path)
        self.assertGreater(len(ours), 40)
        self.assertTrue(all(state.holds for state in draft.save.seals), [state.name for state in draft.save.seals])
        self.assertEqual(sorted(state.algorithm for state in draft.save.seals), ["count", "crc-32", "length", "sum16"])
        self.assertIn("over: crew_content", self.text.decode())
        # a diver more: count, length and both checksums follow
        save = open_save(self.path, parse_template(self.text, "described"))
        save.enter("crew_content.crew[1].name", "Tamsin the second")
        from faithful_ledger.core.posting import make_plan

        plan = make_plan(save)
        self.assertEqual([finding for finding in plan.findings if finding.level == "error"], [])
        self.assertEqual(sorted(each.kind for each in plan.renewals), ["length", "seal", "seal"])

    def test_copies_say_what_fits_and_what_is_unknown(self) -> None:
        self.begin(b"MARK" + struct.pack("<HHI", 7, 300, 99) + bytes(8))
        self.do(lambda draft: draft.add("save", 4, 6, {"field": "level", "as": "u16", "bounds": {"most": 50}}))
        draft = self.do(lambda draft: draft.add("save", 8, 12, {"field": "marks", "as": "u32"}))
        bound = draft.file("save")
        other = MemorySource(b"MARK" + struct.pack("<HHI", 70, 301, 98) + bytes(8))
        laid = draft.save.laid_over({"save": other})
        assert laid is not None
        self.assertEqual([value_at(laid["save"].root.names[name]) for name in ("level", "marks")], ["✕ 70", "98"])
        runs = list(unknown_runs(bound, [other]))
        self.assertEqual([(run.start, run.end, run.differs_in) for run in runs], [(0, 4, 0), (6, 8, 1), (12, 20, 0)])
        self.assertEqual((runs[1].first, runs[1].last), (6, 7))
        self.assertEqual((report("now", {"save": bound}).explained, report("now", {"save": bound}).size), (6, 20))
        short = draft.save.laid_over({"save": MemorySource(b"MARK\x07")})
        self.assertIn("2 bytes are needed", report("cut", short).problem)
        self.assertEqual(list(overlaps(bound.root)), [])


class ShapingTest(Describing):
    LAYOUT = """
- {field: count, as: u8}  # how many
- {unknown: rest, size: 11}
# the end
- {field: last, as: u16}
"""

    def setUp(self) -> None:
        super().setUp()
        self.begin(bytes([2, *range(1, 12), 0x34, 0x12]), self.LAYOUT)

    def test_bytes_of_an_unknown_run_become_fields_and_go_back(self) -> None:
        before = self.text
        self.do(lambda draft: draft.add("save", 4, 6, {"field": "air", "as": "u16"}))
        self.assertEqual(self.values(), {"count": "2", "air": str(4 + 5 * 256), "last": str(0x1234)})
        self.do(lambda draft: draft.resize("air", 4, 8, {"as": "u32"}))
        self.do(lambda draft: draft.resize("air", 6, 8, {"as": "u16"}))
        self.assertEqual(self.values()["air"], str(6 + 7 * 256))
        self.do(lambda draft: draft.remove("air"))
        self.assertEqual(self.text.replace(b"rest", b"x"), before.replace(b"rest", b"x"))

    def test_rows_take_their_bytes_from_the_unknown_run(self) -> None:
        self.do(lambda draft: draft.add("save", 1, 3, {"field": "item", "as": "u16"}))
        self.do(lambda draft: draft.add("save", 3, 4, {"field": "wear", "as": "u8"}))
        self.do(lambda draft: draft.repeat("save", 1, 4, "hold", {"count": "count"}))
        self.assertIn("count_of: hold", self.text.decode())
        self.assertEqual([self.values()[f"hold[{n}].wear"] for n in range(2)], ["3", "6"])
        self.assertIn("# how many", self.text.decode())
        self.assertIn("# the end", self.text.decode())
        self.refused("more than one record", lambda draft: draft.add("save", 3, 6, {"field": "x", "as": "u24"}))
        self.do(lambda draft: draft.rename("count", "lots"))
        self.assertIn("count: lots", self.text.decode())
        self.refused("is needed by count of hold", lambda draft: draft.remove("lots"))

    def test_groups_carry_names_along(self) -> None:
        self.do(lambda draft: draft.add("save", 1, 3, {"field": "marks", "as": "u16"}))
        self.do(lambda draft: draft.show_in("marks", "Purse"))
        self.do(lambda draft: draft.group("save", 0, 3, "head"))
        self.assertIn("fields: [head.marks]", self.text.decode())
        self.do(lambda draft: draft.rename("head.marks", "gold"))
        self.assertIn("fields: [head.gold]", self.text.decode())
        self.do(lambda draft: draft.ungroup("head"))
        self.assertIn("fields: [gold]", self.text.decode())
        self.do(lambda draft: draft.remove("gold"))
        self.assertIn("fields: []", self.text.decode())

    def test_bits_are_named_one_after_the_other(self) -> None:
        self.do(lambda draft: draft.add_bits("save", 1, 2, 0, 0, "tired"))
        self.do(lambda draft: draft.add_bits("save", 1, 2, 4, 6, "station"))
        self.do(lambda draft: draft.add_bits("save", 1, 2, 1, 3, "air"))
        shown = self.values()
        self.assertEqual([shown[name] for name in ("tired", "air", "station")], ["1", "0", "0"])
        self.refused("have a name", lambda draft: draft.add_bits("save", 1, 2, 3, 4, "both"))
        self.refused("no bit 9", lambda draft: draft.add_bits("save", 3, 4, 2, 9, "far"))

    def test_what_cannot_be_done_is_said_and_nothing_changes(self) -> None:
        self.do(lambda draft: draft.add("save", 4, 6, {"field": "air", "as": "u16"}))
        for words, act in (
            ("overlaps air (0x4 (4), 2 bytes)", lambda draft: draft.add("save", 5, 7, {"field": "x", "as": "u16"})),
            ("overlaps count", lambda draft: draft.add("save", 0, 2, {"field": "x", "as": "u16"})),
            ("would not take exactly 3 bytes", lambda draft: draft.add("save", 7, 10, {"field": "x", "as": "u16"})),
            ("is another element here already", lambda draft: draft.rename("air", "count")),
            ("narrow", lambda draft: draft.resize("air", 4, 13, {"as": "u64"})),
            ("do not begin and end with elements", lambda draft: draft.group("save", 0, 5, "g")),
            ("would go on over", lambda draft: draft.repeat("save", 4, 6, "r", {"count": 5})),
        ):
            with self.subTest(words=words):
                self.refused(words, act)

    @given(st.lists(st.tuples(st.sampled_from("arxgu"), st.integers(0, 13), st.integers(1, 6)), max_size=8))
    @settings(max_examples=60)
    def test_whatever_is_done_other_fields_keep_their_bytes(self, steps: list[tuple[str, int, int]]) -> None:
        self.begin(bytes(range(1, 15)), self.LAYOUT)
        for number, (kind, start, size) in enumerate(steps):
            before = self.spans()
            touched = self.step(kind, start, min(start + size, 14), f"f{number}")
            for name, span in before.items():
                if name != touched:
                    self.assertEqual(self.spans().get(name), span, (kind, start, size, self.text.decode()))

    def spans(self) -> dict[str, tuple[int, int]]:
        root = Draft(self.text, self.save).file("save").root
        return {node.spec.name: (node.start, node.end) for node in all_fields(root) if not node.spec.unknown}

    def step(self, kind: str, start: int, end: int, name: str) -> str:
        """One change, refused or not; the name of the field it is about."""
        root = Draft(self.text, self.save).file("save").root
        node = next((n for n in all_fields(root) if n.start <= start < n.end), None)
        if node is None and kind not in "ag":
            return ""
        size = end - start
        keys = {"as": f"u{8 * size}"} if size in (1, 2, 3, 4, 8) else {"as": "text", "size": size}
        path = node.path if node is not None else ""
        own = node.spec.name if node is not None else ""
        around = node.parent.path if node is not None and node.parent is not None else ""
        acts: dict[str, tuple[str, Callable[[Draft], object]]] = {
            "a": (name, lambda draft: draft.add("save", start, end, {"field": name, **keys})),
            "r": (own, lambda draft: draft.remove(path)),
            "x": (own, lambda draft: draft.resize(path, start, end, {"size": None, **keys})),
            "g": ("", lambda draft: draft.group("save", start, end, name)),
            "u": ("", lambda draft: draft.ungroup(around)),
        }
        touched, act = acts[kind]
        if (node is not None and node.spec.unknown and kind in "rx") or (kind == "u" and not around):
            return touched
        try:
            self.do(act)
        except LedgerError as error:
            self.assertIn("not changed", str(error))
        return touched


class ProposalTest(Describing):
    def test_the_storage_that_fits_comes_first(self) -> None:
        data = (
            b"BWK\x1a"
            + b"\x06Tamsin"
            + struct.pack("<I", 1340)
            + b"Oriel\0\0\0"
            + struct.pack("<f", 12.5)
            + b"\x20\x14"
        )
        source = MemorySource(data)
        copies = [(MemorySource(data.replace(struct.pack("<I", 1340), struct.pack("<I", 1290))), 11)]
        for start, end, keys in (
            (0, 4, {"constant": "constant", "bytes": "42 57 4B 1A"}),
            (4, 5, {"as": "text", "length": "u8"}),
            (4, 11, {"as": "text", "length": "u8"}),
            (11, 15, {"as": "u32"}),
            (15, 23, {"as": "text", "size": 8}),
            (23, 27, {"as": "f32"}),
        ):
            with self.subTest(start=start, end=end):
                found = proposals(source, start, end, "little", copies if start == 11 else ())
                self.assertEqual(found[0].keys, keys)
                self.assertIn("unknown bytes", [each.words for each in found])
        self.assertEqual(proposals(source, 11, 15, "little", copies)[0].before, ["1290"])
        self.assertIn({"as": "bcd2"}, [each.keys for each in proposals(source, 27, 29, "little")])
        big = proposals(MemorySource(struct.pack(">I", 1340)), 0, 4, "big")
        self.assertEqual(big[0].keys, {"as": "u32"})

    def test_links_hold_in_every_copy(self) -> None:
        layout = """
- {field: size, as: u16}
- {field: name, as: text, length: u8}
- {field: at, as: u16}
- {field: end, as: u8}
"""
        data = [
            struct.pack("<HB", 3 + len(n), len(n)) + n + struct.pack("<HB", 3 + len(n), 9) for n in (b"Ives", b"Brock")
        ]
        self.begin(data[0], layout)
        draft = Draft(self.text, self.save)
        other = draft.save.laid_over({"save": MemorySource(data[1])})
        assert other is not None
        roots = [draft.file("save").root, other["save"].root]
        self.assertEqual([(each.kind, each.target, each.plus, each.holds_in) for each in links(roots, "size")][:1],
                         [("length", "name", 2, 2)])  # fmt: skip
        self.assertEqual([each for each in links(roots, "end") if each.plus], [])  # one number proves no bias


class ChecksumTest(LedgerCase):
    def test_every_planted_checksum_of_chosen_bytes_is_found(self) -> None:
        import zlib

        from faithful_ledger.core.seals.algorithms import ALGORITHMS

        for seed, name in enumerate(
            ("sum16", "crc-32", "adler-32", "crc-16-xmodem", "fnv-1a-32", "md5", "xor32", "crc-64-xz")
        ):
            for changed_ in ("", "inverted"):
                if changed_ and name == "md5":
                    continue
                noise = random.Random(seed)
                saves = []
                for number in range(3):
                    head, body = noise.randbytes(13), noise.randbytes(40 + 8 * number)
                    algorithm = ALGORITHMS[name]
                    number_ = algorithm([memoryview(body)])
                    width = (algorithm.bits + 7) // 8
                    number_ = number_ ^ ((1 << algorithm.bits) - 1) if changed_ else number_
                    raw = number_.to_bytes(width, "big" if algorithm.is_digest or seed % 2 else "little")
                    content = head + raw + body + noise.randbytes(30)
                    saves.append(Chosen(content, 13 + width, 13 + width + len(body)))
                found = checksums_of(saves)
                with self.subTest(name=name, changed=changed_):
                    self.assertEqual(found[0].at, 13)
                    self.assertEqual((found[0].holds_in, found[0].is_convincing), (3, True))
                    self.assertEqual(found[0].algorithm.bits, ALGORITHMS[name].bits)
        quiet = random.Random(5)
        alone = checksums_of([Chosen(quiet.randbytes(300), 50, 90), Chosen(quiet.randbytes(300), 50, 90)])
        self.assertFalse([each for each in alone if each.is_convincing])
        self.assertEqual(zlib.crc32(b""), 0)
