"""Parts of a save whose offsets, sizes and checksums are listed in front of them, in every usual way: each layout is
made with a fresh seed, described by rows that refer to each other's records, edited, and read by code of its own.
"""

from __future__ import annotations

import hashlib
import json
import random
import re
import struct
import subprocess
import sys
import zlib
from collections.abc import Callable
from functools import partial
from typing import ClassVar, Literal

from faithful_ledger.core.describe import draft as drafts
from faithful_ledger.core.describe.draft import Draft
from faithful_ledger.core.errors import TemplateError
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.sealing_rules import blocks_found
from faithful_ledger.core.seals.finder.directories import DirectoryRule, find_directories
from faithful_ledger.core.sharing.reader import reader_for
from faithful_ledger.core.template import parse_template
from faithful_ledger.core.template.fresh import Shared, new_template
from tests.support import LedgerCase, dice, template_of

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


class Listing:
    """A layout that nobody described: what an entry holds, in which order, and how parts are laid out."""

    SUMS: ClassVar[dict[str, Callable[[bytes], bytes]]] = {
        "crc-32": lambda part: struct.pack(">I", zlib.crc32(part)),
        "adler-32": lambda part: struct.pack(">I", zlib.adler32(part)),
        "sum32": lambda part: struct.pack(">I", sum(part)),
        "md5": lambda part: hashlib.md5(part).digest(),
    }

    def __init__(self, turn: random.Random) -> None:
        self.order: Literal["little", "big"] = turn.choice(("little", "big"))
        self.names = turn.choice((["start", "size"], ["start", "size", "sum"], ["tag", "start", "size", "sum", "id"]))
        turn.shuffle(self.names)
        self.algorithm = turn.choice(list(self.SUMS))
        self.from_parts, self.align = turn.random() < 0.3, turn.choice((1, 1, 4, 16))
        self.has_count, self.counted = turn.random() < 0.7, turn.choice((1, 2, 4))  # in so many bytes
        sizes = {"sum": 16 if self.algorithm == "md5" else 4}
        self.stride = sum(sizes.get(name, 4) for name in self.names)

    def number(self, value: int) -> bytes:
        return value.to_bytes(4, self.order)

    def summed(self, part: bytes) -> bytes:
        raw = self.SUMS[self.algorithm](part)
        return raw if self.order == "big" or self.algorithm == "md5" else raw[::-1]

    def write(self, parts: list[bytes]) -> bytes:
        head = b"LIST" + (len(parts).to_bytes(self.counted, self.order) if self.has_count else b"")
        first = len(head) + len(parts) * self.stride
        first += -first % self.align
        table, body = b"", b""
        for number, part in enumerate(parts):
            body += bytes(-len(body) % self.align)
            at = len(body) + (0 if self.from_parts else first)
            said = {"start": self.number(at), "size": self.number(len(part)), "sum": self.summed(part)}
            said |= {"tag": b"T%03d" % number, "id": self.number(0x90000000 + 7 * number)}
            table += b"".join(said[name] for name in self.names)
            body += part
        return (head + table).ljust(first, b"\0") + body

    def read(self, data: bytes, count: int) -> list[bytes]:
        at = 4 + self.counted if self.has_count else 4
        assert data[:4] == b"LIST"
        assert not self.has_count or int.from_bytes(data[4:at], self.order) == count
        first, found = at + count * self.stride, []
        first += -first % self.align
        for _ in range(count):
            said = {}
            for name in self.names:
                size = 16 if name == "sum" and self.algorithm == "md5" else 4
                said[name], at = data[at : at + size], at + size
            start, size = (int.from_bytes(said[name], self.order) for name in ("start", "size"))
            start += first if self.from_parts else 0
            found.append(data[start : start + size])
            assert len(found[-1]) == size
            assert "sum" not in said or said["sum"] == self.summed(found[-1])
        assert start + size == len(data)
        return found


class FoundTest(LedgerCase):
    def test_a_directory_is_found_and_what_it_lists_is_renewed(self) -> None:
        """Also where a value in one of the parts was pinned before."""
        for _ in range(20):
            seed = random.randrange(1 << 32)
            turn = random.Random(seed)
            kind, count = Listing(turn), turn.randrange(3, 9)
            sizes = [turn.randrange(40, 190) for _ in range(count)]
            saves = []
            for step in range(3):
                sizes[0] += 3 * step
                saves.append([turn.randbytes(size - 1) + b"\1" for size in sizes])
            contents = [kind.write(parts) for parts in saves]
            with self.subTest(seed=seed, names=kind.names, count=count, align=kind.align, base=kind.from_parts):
                (rule,) = find_directories(contents)
                self.assertEqual((rule.count, rule.align if kind.align > 1 else 1), (count, rule.align), rule)
                self.assertEqual(len(rule.sums), "sum" in kind.names)
                self.assertEqual(rule.counted is not None, kind.has_count)
                self._renewed(turn, kind, rule, contents[0], saves[0])

    def _renewed(
        self, turn: random.Random, kind: Listing, rule: DirectoryRule, content: bytes, parts: list[bytes]
    ) -> None:
        path = self.folder / "a.sav"
        path.write_bytes(content)
        begun = new_template(path, "brinewick", Shared(1, 0))
        chosen = turn.randrange(len(parts))
        start, _ = rule.parts(content, len(parts))[chosen]

        def pin(draft: Draft) -> None:
            draft.add(draft.save.main.name, start, start + 4, {"field": "marks", "as": "u32le"})

        for first in (pin, partial(blocks_found, rule=rule)):
            text = drafts.changed(begun, open_save(path, parse_template(begun, "t")), first)
            if first is pin:
                text = drafts.changed(
                    text, open_save(path, parse_template(text, "t")), partial(blocks_found, rule=rule)
                )
            save = open_save(path, parse_template(text, "t"))
            self.assertTrue(save.in_balance, text.decode())
            if first is pin:
                save.enter("marks", "77")
                wanted = [*parts]
                wanted[chosen] = (77).to_bytes(4, "little") + parts[chosen][4:]
                plan = make_plan(save)
                written = bytes(plan.files[0].patched.read(0, plan.files[0].patched.size))
                self.assertEqual(kind.read(written, len(parts)), wanted)
        if rule.sums:
            damaged = bytearray(content)
            damaged[start + 5] ^= 1
            path.write_bytes(damaged)
            (broken,) = open_save(path, parse_template(text, "t")).broken_seals
            self.assertEqual(broken.name, f"directory[{chosen}].sum")

    def test_none_is_found_where_there_is_none(self) -> None:
        turn = dice()
        for _ in range(60):
            head = struct.pack("<8I", *(turn.randrange(900) for _ in range(8)))
            saves = [head + turn.randbytes(turn.randrange(200, 900)) for _ in range(2)]
            self.assertEqual(find_directories(saves), [])
