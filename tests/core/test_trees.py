"""Saves that are trees: properties with their types in words, tags with names in tags, numbered messages. Each is made
with a fresh seed, described by a record that holds itself, changed by its paths, and read by a parser of its own.
"""

from __future__ import annotations

import gzip
import json
import random
import struct
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from faithful_ledger.core.arranging import enter_all
from faithful_ledger.core.binding import FieldNode, Node, bind
from faithful_ledger.core.binding.spans import all_fields, nodes_between
from faithful_ledger.core.binding.unmoved import unmoved
from faithful_ledger.core.edits import Patched, Replacement
from faithful_ledger.core.errors import TemplateError
from faithful_ledger.core.free_values import free_values, keyed_path
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import Plan, make_plan
from faithful_ledger.core.sharing.differences import template_differences
from faithful_ledger.core.sharing.reader import reader_for
from faithful_ledger.core.sharing.sheet import reference_sheet
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.template import parse_template
from tests.support import LedgerCase

NONE = "05 00 00 00 4E 6F 6E 65 00"
TEXT = 'as: text, length: i32, ended_by: "00"'
PROPERTIES = f"""\
ledger: 1
id: properties
title: Properties
records:
  property:
    - {{field: name, {TEXT}}}
    - {{field: type, {TEXT}}}
    - {{field: size, as: u64, length_of: body}}
    - {{field: made_of, {TEXT}, when: type == "Struct"}}
    - group: body
      size: size
      flat: true
      layout:
        - {{field: number, as: i32, when: type == "Int"}}
        - {{field: fraction, as: f32, when: type == "Float"}}
        - {{field: text, {TEXT}, when: type == "Str"}}
        - {{rows: members, when: type == "Struct", record: property, key: name, ended_by: "{NONE}"}}
        - group: list
          when: type not in ("Int", "Float", "Str", "Struct")
          layout:
            - {{field: count, as: u32, count_of: items}}
            - rows: items
              count: count
              layout: [{{rows: members, record: property, key: name, ended_by: "{NONE}"}}]
files:
  save:
    name: "*.sav"
    layout:
      - {{constant: magic, text: QUAY}}
      - {{rows: members, record: property, key: name, ended_by: "{NONE}"}}
      - {{unknown: tail, size: 4}}
"""
TAGS = """\
ledger: 1
id: tags
title: Tags
records:
  tag:
    - {field: kind, as: u8}
    - {field: name, as: text, length: u16}
    - {field: number, as: i32, when: kind == 3}
    - {field: fraction, as: f64, when: kind == 6}
    - {field: text, as: text, length: u16, when: kind == 8}
    - group: list
      when: kind == 9
      layout:
        - {field: of, as: u8}
        - {field: count, as: u32, count_of: items}
        - {rows: items, count: count, layout: [{rows: members, record: tag, key: name, ended_by: "00"}]}
    - {rows: members, when: kind == 10, record: tag, key: name, ended_by: "00"}
files:
  outer: {name: "*.sav", layout: []}
  save:
    inside: outer
    layers: [gzip]
    order: big
    layout: [{rows: members, record: tag, key: name}]
"""
MESSAGES = """\
ledger: 1
id: messages
title: Messages
records:
  entry:
    - {field: key, as: uleb128}
    - {field: number, as: uleb128, when: key & 7 == 0}
    - {field: fraction, as: f32, when: key & 7 == 5}
    - {field: size, as: uleb128, length_of: body, when: key & 7 == 2}
    - group: body
      when: key & 7 == 2
      size: size
      flat: true
      layout:
        - {field: text, as: text, size: size, when: key >> 3 < 8}
        - {rows: members, record: entry, when: key >> 3 >= 8}
files:
  save: {name: "*.sav", layout: [{rows: members, record: entry}]}
"""
STEERED = """\
ledger: 1
id: steered
title: Steered
files:
  save:
    name: "*.sav"
    layout:
      - {field: kind, as: u8}
      - {field: plain, as: u16}
      - {field: over, OVER}
      - rows: items
        ended_by: "FF"
        layout:
          - {field: first, as: u8}
          - {field: second, as: u16}
          - {field: more, as: u8, when: second > 300}
          - {field: most, as: u8, when: kind > 7}
      - {rows: counted, count: over, layout: [{field: size, as: u8}, {field: text, as: text, size: size}]}
"""
WORDS = ("rope", "brass lamp", "Örtlin", "", "бухта", "Tamsin & Co", "x" * 140)


def tree(rng: random.Random, depth: int = 0) -> dict[str, Any]:
    """Values by name; lists are of such trees."""
    made: dict[str, Any] = {}
    for number in range(rng.randrange(1, 6)):
        kinds = ["number", "text", "fraction", *(["tree", "list"] if depth < 4 else [])]
        kind = rng.choice(kinds)
        made[f"{kind}{number}"] = {
            "number": lambda: rng.randrange(0, 90_000),
            "text": lambda: rng.choice(WORDS),
            "fraction": lambda: rng.randrange(9999) / 4,
            "tree": lambda: tree(rng, depth + 1),
            "list": lambda: [tree(rng, depth + 1) for _ in range(rng.randrange(4))],
        }[kind]()
    return made


def leaves(value: Any, path: str = "") -> Iterator[tuple[str, str, Any]]:
    """The path of each number, fraction and text as the templates here name it, its name in the record, and itself."""
    if isinstance(value, dict):
        for name, each in value.items():
            yield from leaves(each, f"{path}.members[name={name}]")
    elif isinstance(value, list):
        for number, each in enumerate(value):
            yield from leaves(each, f"{path}.list.items[{number}]")
    else:
        kind = "text" if isinstance(value, str) else "fraction" if isinstance(value, float) else "number"
        yield f"{path.lstrip('.')}.{kind}", kind, value


def steered(rng: random.Random, *, apart: bool) -> bytes:
    kind, over = rng.randrange(12), rng.randrange(4)
    data = bytes([kind, over, 0, *([over] if apart else [])])
    for _ in range(rng.randrange(5)):
        second = rng.randrange(600)
        data += bytes([rng.randrange(255)]) + struct.pack("<H", second) + b"m" * (second > 300) + b"k" * (kind > 7)
    data += b"\xff"
    for size in (rng.randrange(5) for _ in range(over)):
        data += bytes([size]) + rng.randbytes(size)
    return data


def places(root: Node) -> list[tuple[str, int, int]]:
    return [(node.path, node.start, node.end) for node in nodes_between(root, 0, root.end)]


# properties


def spell(text: str) -> bytes:
    if text.isascii():
        raw = text.encode() + b"\0"
        return struct.pack("<i", len(raw)) + raw if text else bytes(4)
    raw = (text + "\0").encode("utf-16-le")
    return struct.pack("<i", -len(raw) // 2) + raw


def properties(value: dict[str, Any]) -> bytes:
    out = b""
    for name, each in value.items():
        kind = {int: "Int", float: "Float", str: "Str", dict: "Struct", list: "Array"}[type(each)]
        body = {
            "Int": lambda each=each: struct.pack("<i", each),
            "Float": lambda each=each: struct.pack("<f", each),
            "Str": lambda each=each: spell(each),
            "Struct": lambda each=each: properties(each),
            "Array": lambda each=each: struct.pack("<I", len(each)) + b"".join(map(properties, each)),
        }[kind]()
        out += spell(name) + spell(kind) + struct.pack("<q", len(body))
        out += (spell("Hold") if kind == "Struct" else b"") + body
    return out + spell("None")


class PropertyParser:
    def __init__(self, data: bytes) -> None:
        assert data[:4] == b"QUAY"
        self.data, self.at = data, 4

    def take(self, form: str) -> Any:
        found = struct.unpack_from(form, self.data, self.at)[0]
        self.at += struct.calcsize(form)
        return found

    def text(self) -> str:
        size = self.take("<i")
        raw = self.data[self.at : self.at + (size if size >= 0 else -2 * size)]
        self.at += len(raw)
        text = raw.decode("ascii" if size >= 0 else "utf-16-le")
        assert not text or text[-1] == "\0", text
        return text[:-1]

    def tree(self) -> dict[str, Any]:
        found: dict[str, Any] = {}
        while (name := self.text()) != "None":
            kind, size = self.text(), self.take("<q")
            if kind == "Struct":
                self.text()
            end = self.at + size
            if kind == "Array":
                found[name] = [self.tree() for _ in range(self.take("<I"))]
            else:
                found[name] = {"Int": lambda: self.take("<i"), "Float": lambda: self.take("<f"), "Str": self.text,
                               "Struct": self.tree}[kind]()  # fmt: skip
            assert self.at == end, (name, self.at, end)
        return found


def as_properties(value: dict[str, Any]) -> bytes:
    return b"QUAY" + properties(value) + b"tail"


def of_properties(data: bytes) -> dict[str, Any]:
    parser = PropertyParser(data)
    found = parser.tree()
    assert data[parser.at :] == b"tail"
    return found


# tags


def tags(value: dict[str, Any]) -> bytes:
    out = b""
    for name, each in value.items():
        kind = {int: 3, float: 6, str: 8, list: 9, dict: 10}[type(each)]
        out += bytes([kind]) + struct.pack(">H", len(name)) + name.encode()
        if kind == 3:
            out += struct.pack(">i", each)
        elif kind == 6:
            out += struct.pack(">d", each)
        elif kind == 8:
            out += struct.pack(">H", len(each.encode())) + each.encode()
        elif kind == 9:
            out += b"\x0a" + struct.pack(">I", len(each)) + b"".join(tags(part) + b"\0" for part in each)
        else:
            out += tags(each) + b"\0"
    return out


def parsed_tags(data: bytes, at: int, *, ends: bool) -> tuple[dict[str, Any], int]:
    found: dict[str, Any] = {}
    while at < len(data):
        kind, at = data[at], at + 1
        if ends and not kind:
            return found, at
        (size,) = struct.unpack_from(">H", data, at)
        name, at = data[at + 2 : at + 2 + size].decode(), at + 2 + size
        if kind == 3:
            found[name], at = struct.unpack_from(">i", data, at)[0], at + 4
        elif kind == 6:
            found[name], at = struct.unpack_from(">d", data, at)[0], at + 8
        elif kind == 8:
            (size,) = struct.unpack_from(">H", data, at)
            found[name], at = data[at + 2 : at + 2 + size].decode(), at + 2 + size
        elif kind == 9:
            (count,) = struct.unpack_from(">I", data, at + 1)
            found[name], at = [], at + 5
            for _ in range(count):
                part, at = parsed_tags(data, at, ends=True)
                found[name].append(part)
        else:
            found[name], at = parsed_tags(data, at, ends=True)
    assert not ends
    return found, at


def as_tags(value: dict[str, Any]) -> bytes:
    return gzip.compress(tags(value), mtime=0)


def of_tags(data: bytes) -> dict[str, Any]:
    return parsed_tags(gzip.decompress(data), 0, ends=False)[0]


class TreeTest(LedgerCase):
    def test_whatever_is_entered_is_what_another_parser_reads(self) -> None:
        for text, write, read in ((PROPERTIES, as_properties, of_properties), (TAGS, as_tags, of_tags)):
            template = parse_template(text.encode(), "trees")
            for _ in range(8):
                seed = random.randrange(1 << 32)
                rng = random.Random(seed)
                value = tree(rng)
                path = self.folder / f"{seed}.sav"
                path.write_bytes(write(value))
                with self.subTest(template=template.id, seed=seed):
                    self.assertEqual(read(path.read_bytes()), value)
                    self.edit_and_compare(template, path, value, rng, read)

    def edit_and_compare(self, template: Any, path: Path, value: Any, rng: random.Random, read: Any) -> None:
        save = open_save(path, template)
        self.assertIsNone(save.problem)
        self.assertTrue(save.in_balance, list(save.findings))
        listed = {keyed_path(node): node for node in free_values(save)}
        for place, node in listed.items():
            self.assertTrue(save.nodes(place)[0].is_same(node), place)
        begin = "save." if template.id == "tags" else ""
        every = list(leaves(value))
        for place, _, each in every:
            self.assertEqual(save.nodes(begin + place)[0].value, each)
            self.assertIn(begin + place, listed)
        chosen = rng.sample(every, min(len(every), 4))
        entered = []
        for place, kind, _ in chosen:
            fresh: Any = {"number": rng.randrange(50), "fraction": 12.5, "text": rng.choice(WORDS)}[kind]
            entered.append((begin + place, str(fresh)))
            put(value, place, fresh)
        enter_all(save, entered)
        plan = make_plan(save)
        self.assertEqual([each for each in plan.findings if each.level == "error"], [])
        self.assertEqual(read(written(plan, path)), value)

    def test_what_stays_where_it_was_is_known_without_binding_it(self) -> None:
        every: dict[str, set[bool]] = {}
        for name, text, file, write in (
            ("properties", PROPERTIES, "save", as_properties),
            ("tags", TAGS, "save", lambda value: tags(value)),
            ("steered", STEERED.replace("OVER", "as: u8"), "save", None),
            ("overlapping", STEERED.replace("OVER", "at: 1, as: u8"), "save", None),
        ):
            spec = parse_template(text.encode(), "trees").files[file]
            for _ in range(40):
                seed = random.randrange(1 << 32)
                rng = random.Random(seed)
                data = write(tree(rng)) if write is not None else steered(rng, apart=name == "steered")
                bound = bind(spec, MemorySource(data))
                with self.subTest(template=name, seed=seed):
                    self.assertIsNone(bound.problem)
                    for node in rng.sample(fields := list(all_fields(bound.root)), min(len(fields), 12)):
                        fresh = bytes(rng.choice((0, 1, 8, 255, rng.randrange(256))) for _ in range(node.size))
                        item = Replacement(node.start, node.end, fresh, element=node)
                        stays = unmoved(bound, [item])
                        every.setdefault(f"{name} {node.spec.name}", set()).add(stays)
                        if stays:
                            patched = Patched(bound.source, [item])
                            again = (bind(spec, patched), bind(spec, patched, None, bound, stays=True))
                            self.assertIsNone(again[0].problem, node.path)
                            self.assertEqual(*(places(each.root) for each in again), node.path)
        stay = {"properties": "number fraction tail", "tags": "number fraction of", "steered": "plain more most text"}
        names = {f"{name} {field}" for name, fields in stay.items() for field in fields.split()}
        self.assertEqual({name for name, found in every.items() if True in found}, names)

    def test_numbered_messages(self) -> None:
        def number(value: int) -> bytes:
            out = b""
            while value > 127:
                out, value = out + bytes([value & 127 | 128]), value >> 7
            return out + bytes([value])

        def entry(key: int, body: bytes, *, sized: bool = True) -> bytes:
            return number(key) + (number(len(body)) if sized else b"") + body

        inner = entry(1 << 3 | 2, b"rope") + entry(2 << 3, number(300), sized=False)
        data = entry(1 << 3 | 2, b"Oriel") + entry(2 << 3, number(70_000), sized=False) + entry(9 << 3 | 2, inner)
        path = self.folder / "one.sav"
        path.write_bytes(data)
        save = open_save(path, parse_template(MESSAGES.encode(), "messages"))
        enter_all(save, [("members[0].text", "Oriel " * 30), ("members[2].members[1].number", "5")])
        data_now = written(make_plan(save), path)
        inner = entry(1 << 3 | 2, b"rope") + entry(2 << 3, number(5), sized=False)
        wanted = entry(1 << 3 | 2, b"Oriel " * 30) + data[7:11] + entry(9 << 3 | 2, inner)
        self.assertEqual(data_now, wanted)

    def test_what_is_made_of_a_template_knows_where_to_stop(self) -> None:
        rng = random.Random(5)
        for text, write in ((PROPERTIES, as_properties), (TAGS, as_tags), (MESSAGES, None)):
            template = parse_template(text.encode(), "trees")
            with self.subTest(template=template.id):
                self.assertIn("records like the one they are in", reference_sheet(template, "markdown", None))
                self.assertEqual(template_differences((template, text.encode()), (template, text.encode())), [])
                if write is None:
                    continue
                value = tree(rng)
                path, reader = self.folder / "one.sav", self.folder / "reader.py"
                path.write_bytes(write(value))
                reader.write_text(reader_for(template), "utf-8")
                done = subprocess.run([sys.executable, reader, path], capture_output=True, text=True, check=True)
                shown = json.dumps(json.loads(done.stdout), ensure_ascii=False)
                save = open_save(path, template)
                fields = [f for file in save.files.values() if file.bound for f in all_fields(file.bound.root)]
                for field in fields:
                    if isinstance(field, FieldNode) and field.spec.name in ("number", "text") and field.value != "":
                        self.assertIn(json.dumps(field.value, ensure_ascii=False), shown)

    def test_a_tree_without_an_end_is_one_sentence(self) -> None:
        deep = b""
        for _ in range(300):
            deep = b"\x0a\0\1d" + deep + b"\0"
        path = self.folder / "one.sav"
        path.write_bytes(gzip.compress(deep))
        problem = open_save(path, parse_template(TAGS.encode(), "tags")).problem
        self.assertIn("its records are nested deeper than 40 levels", str(problem))
        self.assertLess(len(str(problem)), 400)
        endless = "ledger: 1\nid: a\ntitle: A\nrecords:\n  r: [{rows: r, record: r, count: 1}]\nfiles:\n  save: {name: '*.sav', layout: [{rows: r, record: r, count: 2}]}\n"
        save = open_save(path, parse_template(endless.encode(), "endless"))
        self.assertIn("nested deeper", str(save.problem))
        for layout, words in (
            ("[{field: a, as: u8}, {field: b, as: u8, when: a == \"x\"}]", "“a” is not a text"),
            ("[{field: a, as: text, size: 4, counts: letters}]", "only a text with its length in front"),
            ("[{field: a, as: text, length: i8}]", "“i8” is not a whole number without a sign"),
            ("[{field: a, as: text, size: 4, ended_by: '00'}]", "does not have a size"),
            ("[{field: a, as: text, size: 4}, {field: b, as: u8, when: a + \"x\"}]", "a constant that is not"),
            ("[{rows: r, record: r, count: 1, key: b}]", "the record has no field “b”"),
        ):  # fmt: skip
            text = f"ledger: 1\nid: a\ntitle: A\nrecords: {{r: {layout}}}\nfiles: {{save: {{name: '*.sav', layout: [{{rows: r, record: r, count: 1}}]}}}}\n"
            with self.subTest(layout=layout), self.assertRaises(TemplateError) as caught:
                parse_template(text.encode(), "a.yaml")
            self.assertIn(words, str(caught.exception))


def written(plan: Plan, path: Path) -> bytes:
    """What a plan puts into a file."""
    for each in plan.written:
        return bytes(each.patched.read(0, each.patched.size))
    return path.read_bytes()


def put(value: Any, place: str, fresh: Any) -> None:
    """Another value at a path of `leaves`."""
    holder: Any = None
    key: Any = None
    for step in place.replace(".list.items[", ".[").split("."):
        if step.startswith("members[name="):
            holder, key = value, step[len("members[name=") : -1]
        elif step.startswith("["):
            holder, key = value, int(step[1:-1])
        else:
            break
        value = holder[key]
    holder[key] = fresh
