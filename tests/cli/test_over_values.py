"""The same way through saves whose checksum is over some values of a text, or over what is between two tags, or stands
a second time with a constant; and through chunks with numbers and sizes of variable length.
"""

from __future__ import annotations

import base64
import hashlib
import json
import re
import struct
import zlib
from collections.abc import Callable
from functools import partial
from typing import Any
from xml.etree import ElementTree
from xml.sax.saxutils import escape, quoteattr

from tests.cli.test_from_sightings import Format, SightingsCase, of_json, voyage
from tests.core.tagged_samples import of_numbered_chunks, title_and_chunks
from tests.support import dice

Value = dict[str, Any]
Read = tuple[int, int, str]
Hash = Callable[[str], str | int]
KEPT = ("name", "day", "marks", "crew", "lots")


def md5(text: str) -> str:
    return hashlib.md5(text.encode()).hexdigest()


def crc(text: str) -> int:
    return zlib.crc32(text.encode())


def sealed_write(value: Value, made: Hash, keys: tuple[str, ...], mark: str) -> bytes:
    company = {key: value[key] for key in KEPT}
    return json.dumps({**company, "check": made(mark.join(str(value[key]) for key in keys))}).encode()


def sealed_read(content: bytes, made: Hash, keys: tuple[str, ...], mark: str) -> Read:
    found = json.loads(content)
    assert found["check"] == made(mark.join(str(found[key]) for key in keys))
    return found["marks"], found["day"], found["name"]


def sections_write(value: Value) -> bytes:
    crew = "".join(f"diver{number}={diver['name']}\n" for number, diver in enumerate(value["crew"]))
    check = hashlib.sha1(f"{value['day']}-{value['marks']}-{value['name']}".encode()).hexdigest()
    company = f"name={value['name']}\nday={value['day']}\nmarks={value['marks']}\n"
    return f"[crew]\n{crew}[company]\n{company}[check]\nsum={check}\n".encode()


def sections_read(content: bytes) -> Read:
    found = dict(line.split("=", 1) for line in content.decode().splitlines() if "=" in line)
    said = f"{found['day']}-{found['marks']}-{found['name']}"
    assert found["sum"] == hashlib.sha1(said.encode()).hexdigest()
    return int(found["marks"]), int(found["day"]), found["name"]


def element_write(value: Value) -> bytes:
    crew = "".join(f'<diver name="{diver["name"]}" air="{diver["air"]}"/>' for diver in value["crew"])
    inside = f"<name>{escape(value['name'])}</name><day>{value['day']}</day><marks>{value['marks']}</marks>{crew}"
    sign = hashlib.sha1(inside.encode()).hexdigest()
    return f'<?xml version="1.0"?>\n<save sign="{sign}"><game of="a > b">{inside}</game></save>\n'.encode()


def element_read(content: bytes) -> Read:
    text = content.decode()
    inside = re.search(r'<game of="a > b">(.*)</game>', text, re.DOTALL)
    assert inside is not None and f'sign="{hashlib.sha1(inside[1].encode()).hexdigest()}"' in text
    root = ElementTree.fromstring(text)
    marks, day, name = (root.findtext(f"game/{key}") for key in ("marks", "day", "name"))
    return int(marks or 0), int(day or 0), name or ""


def attributes_write(value: Value) -> bytes:
    crew = "".join(f"<diver name={quoteattr(diver['name'])} air='{diver['air']}'/>" for diver in value["crew"])
    check, name = md5(f"{value['day']}{value['marks']}{value['name']}"), quoteattr(value["name"])
    company = f'<company day="{value["day"]}" marks="{value["marks"]}" name={name} check="{check}"/>'
    return f"<save>{company}{crew}</save>".encode()


def attributes_read(content: bytes) -> Read:
    found = ElementTree.fromstring(content)[0].attrib
    assert found["check"] == md5(f"{found['day']}{found['marks']}{found['name']}")
    return int(found["marks"]), int(found["day"]), found["name"]


def as_spelled(values: dict[str, Any]) -> str:
    return "/".join(str(each).lower() if isinstance(each, bool) else str(each) for each in values.values())


def switch_write(value: Value) -> bytes:
    company = {"slot": 2, **{key: value[key] for key in ("name", "day", "marks")}, "hard": bool(value["seed"] & 1)}
    sign = hashlib.sha1(as_spelled(company).encode()).hexdigest()
    return json.dumps({"company": company, "crew": value["crew"], "sign": sign, "mate": None}, indent=1).encode()


def switch_read(content: bytes) -> Read:
    found = json.loads(content)
    assert found["sign"] == hashlib.sha1(as_spelled(found["company"]).encode()).hexdigest()
    return found["company"]["marks"], found["company"]["day"], found["company"]["name"]


def bars_write(value: Value) -> bytes:
    packed = base64.b64encode(zlib.compress(json.dumps(value).encode())).decode()
    return f"{len(packed)}|{packed}|{md5(packed)}".encode()


def bars_read(content: bytes) -> Read:
    size, packed, check = content.decode().split("|")
    assert int(size) == len(packed) and check == md5(packed)
    return of_json(zlib.decompress(base64.b64decode(packed, validate=True)))


def pairs_of(value: Value) -> str:
    return "&".join(f"{key}={value[key]}" for key in ("day", "marks", "seed"))


def pairs_write(value: Value) -> bytes:
    return json.dumps({**{key: value[key] for key in (*KEPT, "seed")}, "sign": md5(pairs_of(value))}).encode()


def pairs_read(content: bytes) -> Read:
    found = json.loads(content)
    assert found["sign"] == md5(pairs_of(found))
    return of_json(content)


REST = 0xAA55
SLOT = struct.Struct("<IHI24s40s918s")


def slots_write(value: Value) -> bytes:
    air = bytes(diver["air"] for diver in value["crew"])
    mine = SLOT.pack(value["marks"], value["day"], value["seed"], value["name"].encode(), air, b"")
    slots = [SLOT.pack(900, 3, 77, b"Harbour", b"2" * 20, b""), mine, bytes(SLOT.size)]
    sums = b"".join(struct.pack("<HH", sum(each) & 0xFFFF, REST - sum(each) & 0xFFFF) for each in slots)
    return b"BWBA" + sums + b"".join(slots)


def slots_read(content: bytes) -> Read:
    for number in range(3):
        slot = content[16 + SLOT.size * number :][: SLOT.size]
        assert struct.unpack_from("<HH", content, 4 + 4 * number) == (sum(slot) & 0xFFFF, REST - sum(slot) & 0xFFFF)
    marks, day, _, name, *_ = SLOT.unpack_from(content, 16 + SLOT.size)
    return marks, day, name.rstrip(b"\0").decode()


def chunks_write(value: Value) -> bytes:
    crew = {number: {1: diver["name"], 31: diver["air"]} for number, diver in enumerate(value["crew"], 1)}
    party = {
        1: 3,
        2: struct.pack("<3H", 1, 2, 4),
        11: len(value["lots"]),
        12: struct.pack(f"<{len(value['lots'])}H", *(lot["many"] + 200 for lot in value["lots"])),
        21: value["marks"],
        23: 0,
        32: value["day"] * 3,
    }
    head = {1: 45000 + value["seed"] / 2**32, 11: value["name"], 12: value["day"]}
    return title_and_chunks("BwkSaveData", {100: head, 101: {1: 3, 32: 90}, 108: [crew], 109: party})


def chunks_read(content: bytes) -> Read:
    title, found = of_numbered_chunks(content)
    assert title == "BwkSaveData" and 2 * found[109][11] == len(found[109][12]) and len(found[108][0]) > 20
    return found[109][21], found[100][12], found[100][11]


THREE = ("marks", "day", "name")
FORMATS = (
    Format(
        "a digest of three values",
        partial(sealed_write, made=md5, keys=THREE, mark="|"),
        partial(sealed_read, made=md5, keys=THREE, mark="|"),
        "any",
    ),
    Format(
        "a CRC of two values",
        partial(sealed_write, made=crc, keys=("name", "marks"), mark=""),
        partial(sealed_read, made=crc, keys=("name", "marks"), mark=""),
        "any",
    ),
    Format("a digest of values of a section", sections_write, sections_read, "any"),
    Format("a digest of what is between tags", element_write, element_read, "any"),
    Format("a digest of attributes", attributes_write, attributes_read, "any"),
    Format("a digest of an object with a switch", switch_write, switch_read, "any"),
    Format("a digest of names and values", pairs_write, pairs_read, "any"),
    Format("digits, base64, and its digest", bars_write, bars_read, "any"),
    Format("sums, and the rest to a number", slots_write, slots_read, "any"),
    Format("chunks with numbers and sizes", chunks_write, chunks_read),
)


class OverValuesTest(SightingsCase):
    def test_what_the_game_showed_is_changed_so_that_it_takes_it(self) -> None:
        self.changed_in_each(FORMATS)

    def test_values_in_any_order_with_any_mark_and_a_key(self) -> None:
        turn = dice()
        for number in range(4):
            keys = tuple(turn.sample(("name", "day", "marks"), 3 if number % 2 else 2))
            keys = keys if "marks" in keys else ("marks", *keys[1:])
            mark, salt = turn.choice(("", "|", ":", ",", "-", "_")), turn.choice(("tide", "quay 7")) * (number > 1)

            def made(text: str, salt: str = salt) -> str:
                return hashlib.sha256((text + salt).encode()).hexdigest()

            folder = self.folder / f"made{number}"
            folder.mkdir()
            saves = [folder / f"{letter}.sav" for letter in "abcd"]
            for path, value in zip(saves, voyage(turn), strict=True):
                path.write_bytes(sealed_write(value, made, keys, mark))
            hints = ("--key", salt.encode().hex()) if salt else ()
            with self.subTest(keys=keys, mark=mark, salt=salt):
                found = self.json_of("find-seals", *saves, *hints, "--accept")
                self.assertEqual(len(found["accepted"]), 1, found)
                marks = self.json_of("read", saves[-1])
                if any(field["path"] == "marks" for field in marks["fields"]):
                    out = folder / "out.sav"
                    self.json_of("post", saves[-1], "--set", "marks=123456", "--out", out)
                    self.assertEqual(sealed_read(out.read_bytes(), made, keys, mark)[0], 123456)

    def test_what_changes_like_a_checksum_is_named_where_none_explains_it(self) -> None:
        turn = dice()
        salt = turn.randbytes(9)

        def in_bytes(value: Value) -> bytes:
            body = struct.pack("<II24s", value["marks"], value["day"], value["name"].encode()) + bytes(200)
            return b"BWUX\1\0\0\0" + hashlib.md5(salt + body).digest() + bytes(8) + body

        def in_text(value: Value) -> bytes:
            return sealed_write(value, lambda text: hashlib.sha256(salt + text.encode()).hexdigest(), THREE, "|")

        for write, said, key in ((in_bytes, "0x8 (8), 16 bytes", salt), (in_text, "check, 64 letters", salt)):
            folder = self.folder / write.__name__
            folder.mkdir()
            saves = [folder / f"{letter}.sav" for letter in "abcd"]
            for path, value in zip(saves, voyage(turn), strict=True):
                path.write_bytes(write(value))
            with self.subTest(said):
                status, out, _ = self.run_command("find-seals", *saves)
                self.assertIn(f"Like a checksum or a random number, and not explained: {said}; a key", out)
                self.assertEqual(status, 1)
                status, out, _ = self.run_command("find-seals", *saves, "--key", key.hex())
                self.assertNotIn("not explained", out)
                self.assertEqual(status, 0)
        noise = [self.folder / f"noise{number}" for number in range(4)]
        for path in noise:
            path.write_bytes(turn.randbytes(700))
        self.assertNotIn("not explained", self.run_command("find-seals", *noise)[1])

    def test_one_over_values_of_which_one_is_another_takes_more_or_fewer_digits(self) -> None:
        """The inner checksum is in front of the values, so that these move when it has a digit more or less."""
        turn, folder = dice(), self.folder
        template = folder / "t.yaml"
        template.write_text(
            "ledger: 1\nid: t\ntitle: T\nfiles:\n  save:\n    name: '*.json'\n    format: json\n    layout:\n"
            "      - {field: crc, as: number, seal: {algorithm: crc-32, over: [marks, day], between: '|'}}\n"
            "      - {field: marks, as: number}\n      - {field: day, as: number}\n"
            "      - {field: two, as: number, seal: {algorithm: crc-32, over: [day, crc, marks], between: '&', named: '='}}\n"
        )

        def made(marks: int, day: int) -> str:
            inner = crc(f"{marks}|{day}")
            outer = crc(f"day={day}&crc={inner}&marks={marks}")
            return json.dumps({"crc": inner, "marks": marks, "day": day, "two": outer})

        few = next(number for number in range(1000, 100_000) if crc(f"{number}|7") < 10**8)
        numbers = [few, *(turn.randrange(10 ** turn.randrange(1, 7)) for _ in range(12))]
        for number, marks in enumerate(numbers):
            path, out = folder / "a.json", folder / f"out{number}.json"
            path.write_text(made(1340, 7))
            self.json_of("post", path, "--template", template, "--set", f"marks={marks}", "--out", out)
            self.assertEqual(out.read_text(), made(marks, 7))

    def test_what_joined_values_cannot_be_is_a_mistake_of_the_template(self) -> None:
        head = "ledger: 1\nid: t\ntitle: T\nversion: '1'\ngame: T\nrecognise: [{name: '*.json'}]\nfiles:\n  save:\n"
        head += "    name: '*.json'\n    format: json\n    layout:\n      - {field: marks, as: number}\n"
        seal = "      - {field: check, as: checksum, seal: {algorithm: md5, over: %s, between: ''%s}}\n"
        path = self.folder / "t.yaml"
        for over, more, said in (
            ("[marks, check]", "", "neither itself nor the whole file"),
            ("[marks, file]", "", "neither itself nor the whole file"),
            ("marks", "", "needs a list of them"),
            ("[marks, marks]", ", own: zeros", "neither `own` nor `unpacked`"),
            ("[marks, purse]", "", "purse"),
        ):
            path.write_text(head + seal % (over, more))
            status, out, error = self.run_command("template", "check", path)
            self.assertTrue(status and said in out + error, (over, out, error))
        for over, more, said in (
            ("[marks, marks, marks]", "", "a first and a last element"),
            ("[marks, marks]", ", named: '='", "only values that are joined"),
        ):
            path.write_text(head + (seal % (over, more)).replace(", between: ''", ""))
            self.assertIn(said, "".join(map(str, self.run_command("template", "check", path))))


if __name__ == "__main__":
    import unittest

    unittest.main()
