"""Parts of a save whose offsets, sizes and checksums are listed in front of them, in every usual way: each layout is
made with a fresh seed, described by rows that refer to each other's records, edited, and read by code of its own.
"""

from __future__ import annotations

import json
import random
import re
import struct
import subprocess
import sys
import zlib

from faithful_ledger.core.errors import TemplateError
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.sharing.reader import reader_for
from faithful_ledger.core.template import parse_template
from tests.support import LedgerCase, template_of

SIZE = "directory[row].size"
PART = """
- rows: parts
  count: count
  layout:
    - group: body
      size: {size}
      layout:
        - {{field: name, as: text, length: u8}}
        - {{field: marks, as: u32}}
        - {{unknown: rest}}
"""


class Directory:
    """What is listed of each part, in one table or in several; with `bias` an offset counts from somewhere else."""

    def __init__(self, turn: random.Random) -> None:
        self.order = turn.choice(("little", "big"))
        listed = [["start"], ["size"], ["start", "size"], ["start", "size", "sum"], ["size", "sum"], ["start", "sum"]]
        self.names = turn.choice(listed)
        turn.shuffle(self.names)
        self.apart = len(self.names) > 1 and turn.random() < 0.5  # a table for each
        self.bias = turn.choice((0, 0, -8, 16))

    @property
    def template(self) -> str:
        keys = {
            "start": f'as: u32, offset_of: "parts[row]", plus: {self.bias}',
            "size": 'as: u32, length_of: "parts[row].body"',
            "sum": 'as: u32, seal: {algorithm: crc-32, over: "parts[row].body"}',
        }
        fields = [f"{{field: {name}, {keys[name]}}}" for name in self.names]
        size = SIZE
        if "size" not in self.names:
            size = f"(directory[row + 1].start if row < count - 1 else total + {self.bias}) - directory[row].start"
        rows = [f"- {{rows: directory, count: count, layout: [{', '.join(fields)}]}}"]
        if self.apart:
            rows = [
                f"- {{rows: all_{name}, count: count, layout: [{each}]}}"
                for name, each in zip(self.names, fields, strict=True)
            ]
            for name in self.names:
                size = re.sub(rf"directory(\[[^]]*\]\.{name})", rf"all_{name}\1", size)
        head = ["- {field: total, as: u32, length_of: file}", "- {field: count, as: u16, count_of: parts}"]
        return "\n".join([*head, *rows]) + PART.format(size=f'"{size}"')

    def number(self, value: int, size: int = 4) -> bytes:
        return value.to_bytes(size, self.order)  # type: ignore[arg-type]

    def write(self, parts: list[bytes]) -> bytes:
        at = 6 + 4 * len(self.names) * len(parts)
        values = []
        for part in parts:
            values.append({"start": at + self.bias, "size": len(part), "sum": zlib.crc32(part)})
            at += len(part)
        listed = [(name, each) for each in values for name in self.names]
        if self.apart:
            listed = [(name, each) for name in self.names for each in values]
        head = self.number(at) + self.number(len(parts), 2)
        return head + b"".join(self.number(each[name]) for name, each in listed) + b"".join(parts)

    def read(self, data: bytes) -> list[bytes]:
        """The parts, found by what is listed; AssertionError where that does not agree."""
        count, width = int.from_bytes(data[4:6], self.order), len(self.names)  # type: ignore[arg-type]
        assert int.from_bytes(data[:4], self.order) == len(data)  # type: ignore[arg-type]
        numbers = [
            int.from_bytes(data[6 + 4 * n : 10 + 4 * n], self.order)  # type: ignore[arg-type]
            for n in range(count * width)
        ]
        columns = {
            name: numbers[n * count : (n + 1) * count] if self.apart else numbers[n::width]
            for n, name in enumerate(self.names)
        }
        at, found = 6 + 4 * count * width, []
        for n in range(count):
            if "start" in columns:
                assert columns["start"][n] - self.bias == at
            behind = columns["start"][n + 1] - self.bias if "start" in columns and n < count - 1 else len(data)
            end = at + columns["size"][n] if "size" in columns else behind
            found.append(data[at:end])
            assert "sum" not in columns or columns["sum"][n] == zlib.crc32(data[at:end])
            at = end
        assert at == len(data)
        return found


def part_of(order: str, name: str, marks: int, rest: bytes) -> bytes:
    return bytes([len(name)]) + name.encode() + marks.to_bytes(4, order) + rest  # type: ignore[arg-type]


class DirectoryTest(LedgerCase):
    def opened(self, kind: Directory, data: bytes) -> Save:
        path = self.folder / "one.sav"
        path.write_bytes(data)
        save = open_save(path, template_of(kind.template, order=kind.order))
        self.assertIsNone(save.problem, kind.template)
        return save

    def test_what_is_listed_follows_parts_that_change_and_grow(self) -> None:
        for _ in range(40):
            seed = random.randrange(1 << 32)
            turn = random.Random(seed)
            kind = Directory(turn)
            with self.subTest(seed=seed, names=kind.names, apart=kind.apart, bias=kind.bias):
                parts = [
                    (f"part{n}", turn.randrange(1 << 30), turn.randbytes(turn.randrange(40)))
                    for n in range(turn.randrange(1, 9))
                ]
                data = kind.write([part_of(kind.order, *each) for each in parts])
                save = self.opened(kind, data)
                self.assertTrue(save.in_balance)
                for _ in range(2):
                    number = turn.randrange(len(parts))
                    name, marks, rest = (
                        turn.choice(("x", "a longer name", "part")),
                        turn.randrange(1 << 30),
                        parts[0][2],
                    )
                    rest = parts[number][2]
                    save.enter(f"parts[{number}].body.name", name)
                    save.enter(f"parts[{number}].body.marks", str(marks))
                    parts[number] = (name, marks, rest)
                plan = make_plan(save)
                written = bytes(plan.files[0].patched.read(0, plan.files[0].patched.size))
                self.assertEqual(kind.read(written), [part_of(kind.order, *each) for each in parts])
                self.assertTrue(plan.in_balance)

    def test_the_reader_follows_what_is_listed(self) -> None:
        for names, apart in ((["start"], True), (["sum", "size"], False), (["start", "size", "sum"], True)):
            kind = Directory(random.Random(5))
            kind.names, kind.apart, kind.bias = names, apart, 16
            with self.subTest(names=names):
                data = kind.write([part_of(kind.order, f"p{n}", 70 + n, b"\7" * n) for n in range(4)])
                save = self.opened(kind, data)
                path = self.folder / "reader.py"
                path.write_text(reader_for(save.template))
                run = [sys.executable, str(path), str(save.main.path)]
                shown = json.loads(subprocess.run(run, capture_output=True, check=True, text=True).stdout)
                self.assertEqual([each["body"]["marks"] for each in shown["save"]["parts"]], [70, 71, 72, 73])

    def test_what_is_listed_and_damaged_is_one_clear_sentence(self) -> None:
        kind = Directory(random.Random(3))
        kind.names, kind.apart, kind.order, kind.bias = ["size"], False, "little", 0
        data = kind.write([part_of(kind.order, f"p{n}", n, b"") for n in range(3)])
        path = self.folder / "one.sav"
        path.write_bytes(data[:10] + struct.pack("<I", 9999) + data[14:])
        save = open_save(path, template_of(kind.template, order=kind.order))
        self.assertRegex(str(save.problem), r"parts\[1\].*its length says 9999 bytes and \d+ are left")

    def test_what_does_not_refer_to_a_record_is_a_mistake(self) -> None:
        for line, words in (
            ('{field: a, as: u8, length_of: "parts[row].body"}', "is not in a record of rows"),
            ('{unknown: a, size: "sizes[row]"}', "is not in a record of rows"),
            ('{rows: a, layout: [{unknown: b, size: "sizes[row * 2]"}]}', "brackets around what is not the number"),
            ('{rows: a, layout: [{unknown: b, size: "other[row]"}]}', "is not a field that comes before"),
            ('{rows: a, layout: [{unknown: b, size: "total[row]"}]}', "is not a field that comes before"),
            ('{field: a, as: u8, length_of: "parts[["}', "leads to no field or group"),
            ("{unknown: a, size: row}", "is not a field that comes before"),
        ):
            text = f"""\
ledger: 1
id: t
title: t
files:
  save:
    name: "*.sav"
    layout:
      - {{field: total, as: u8}}
      - {{rows: sizes, count: 2, each: {{as: u8}}}}
      - {line}
      - {{rows: parts, count: 2, layout: [{{unknown: body, size: "sizes[row]"}}]}}
"""
            with self.subTest(line=line), self.assertRaisesRegex(TemplateError, words):
                parse_template(text.encode(), "t")
