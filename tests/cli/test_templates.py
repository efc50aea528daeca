"""Templates on the command line: checked, tested, handed on; readers that say what we say; payloads out and back in."""

from __future__ import annotations

import gzip
import json
import random
import struct
import subprocess
import sys
import zlib
from pathlib import Path
from typing import Any

from faithful_ledger.cli.output import json_value
from faithful_ledger.core.binding import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.save import Save
from faithful_ledger.core.sharing.reader import reader_for
from faithful_ledger.core.template import load_template, parse_template
from tests.cli.test_commands import CommandCase
from tests.support import play

EVERY_STORAGE = """ledger: 1
id: storages
title: Every storage
catalogues: {item: {1: lamp oil, 2: brass lamp}}
letters: {pocket: {1: A, 2: "é", 3: "<quay>"}}
records:
  lot:
    - {field: item, as: u16, names: item}
    - {field: wear, as: i8}
    - {field: tag, as: text, length: u8}
files:
  save:
    name: "*.sav"
    order: big
    layout:
      - {constant: magic, text: SAVE}
      - {field: version, as: u16}
      - {field: count, as: u8, count_of: hold}
      - {rows: hold, record: lot, count: count}
      - {field: height, as: f32le}
      - {field: width, as: f64}
      - {field: money, as: bcd3}
      - {field: debt, as: bcd2le}
      - {field: steps, as: uleb128}
      - {field: lost, as: sleb128}
      - {field: turn, as: zigzag}
      - {field: score, as: digits}
      - {field: stop, as: u8}
      - group: flags
        word: u16
        layout:
          - {field: tired, as: u1}
          - {field: level, as: i5}
          - {field: rest, as: u10}
      - {field: sites, as: u8, switches: {0: quay, 3: kiln}}
      - {field: speed, as: u16, scale: 100, bias: -5}
      - {field: share, as: u8, scale: 0.3, rounding: nearest}
      - {field: name, as: text, size: 8, encoding: latin-1, pad: "20"}
      - {field: wide, as: text, size: 8, encoding: utf-16-le}
      - {field: motto, as: text, ended_by: "00"}
      - {field: room, as: text, length: u8, size: 6}
      - {field: note_size, as: u8, length_of: note}
      - {field: note, as: text, size: note_size}
      - {rows: route, each: {as: u8, names: item}, ended_by: "FF"}
      - group: tail
        size: up_to(note_size, 4)
        layout:
          - {field: first, as: u8}
          - {field: more, as: u8, when: first > 3}
          - {field: less, as: u8, when: first <= 3}
      - {field: sum, as: checksum, size: 4, written: hex, seal: {algorithm: sum16, over: name}}
      - {unknown: rest, size: 3}
      - {field: saved, as: u32, moment: unix}
      - {field: written, as: u64le, moment: filetime}
      - {field: dated, as: u32le, moment: dos}
      - {field: born, as: f64, moment: {since: 1899-12-30, unit: days}}
      - {field: mark, as: guid-le}
      - {field: coat, as: bgra}
      - {field: key, as: bytes, size: 3}
      - {field: spot, as: xyz-f32}
      - {field: played, as: u32, scale: 1000, form: duration}
      - {field: serial, as: u16, form: hex}
      - {field: sign, as: text, size: 4, encoding: pocket, pad: "FF"}
      - group: end
        size: 4
        layout:
          - {rows: pairs, layout: [{field: a, as: u8}, {field: b, as: u8}]}
      - {field: long, as: text, length: uleb128}
      - {field: shift, as: uleb128, names: {1: day, 300: night}}
      - {field: tools, as: uleb128, switches: {0: rope, 8: lamp}}
      - {field: taken, as: u8, count_of: shelf}
      - {rows: shelf, count: taken, places: 3, layout: [{field: a, as: u8}, {field: b, as: u8}]}
      - {unknown: rest_of_it}
      - {field: last, as: u16, at: -2}
"""


def every_storage() -> bytes:
    hold = struct.pack(">Hb", 2, -3) + b"\x03oil" + struct.pack(">Hb", 9, 4) + b"\x00"
    parts = [
        b"SAVE" + struct.pack(">HB", 7, 2) + hold,
        struct.pack("<f", 12.3) + struct.pack(">d", -0.1) + b"\x01\x23\x45" + b"\x34\x12",
        b"\xe5\x8e\x26" + b"\xc0\xbb\x78" + b"\x05" + b"0420" + b"\x01",
        struct.pack(">H", 0b1111111111_10001_1) + b"\x09" + struct.pack(">H", 1495) + b"\x0d",
        b"Ives    " + "Bock".encode("utf-16-le") + b"deep\0" + b"\x02ab....",
        b"\x05hello" + b"\x01\x02\x07\xff" + b"\x02\x09\x00\x00\x00\x00\x00\x00",
        b"0221" + b"\xaa\xbb\xcc" + struct.pack(">I", 1764182121) + struct.pack("<Q", 134086809211234945),
        b"\x6a\x9e\x7a\x5b" + struct.pack(">d", 46064.75) + bytes(range(16)) + b"\x80\xc0\x20\xff" + b"\x0a\xff\x00",
        struct.pack(">fffIH", 12.5, -3.0, 0.1, 3_725_500, 42),
        b"\x03\x02\x09\xff" + b"\x01\x02\x03\x04",
        b"\xac\x02" + b"bell" * 75 + b"\xac\x02" + b"\x81\x02" + b"\x01" + b"\x07\x08" + bytes(4),
        b"\x0a\x0b" + struct.pack(">H", 4242),
    ]
    return b"".join(parts)


def plain(node: Node) -> Any:
    """The values of a bound tree, as a reader prints them."""
    if isinstance(node, FieldNode):
        return json_value(node)
    if isinstance(node, RowsNode):
        return [plain(item) for item in node.items()]
    assert isinstance(node, GroupNode)
    found: dict[str, Any] = {}
    for child in node.children:
        if isinstance(child, GroupNode) and child.spec.flat:
            found |= plain(child)
        else:
            found[child.spec.name] = plain(child)
    return found


SHIPPED = [f"brinewick-{edition}" for edition in ("atlas", "card", "console", "deep", "desktop", "pocket", "quill")]


class ReaderTest(CommandCase):
    def read_alone(self, text: str, *arguments: str | Path) -> tuple[int, str, str]:
        program = self.folder / "reader.py"
        program.write_text(text)
        done = subprocess.run(
            [sys.executable, "-I", str(program), *map(str, arguments)], capture_output=True, text=True, check=False
        )
        return done.returncode, done.stdout, done.stderr

    def same(self, save: Save, path: Path, names: list[str], *payloads: str) -> None:
        assert save.template is not None
        status, out, err = self.read_alone(reader_for(save.template), path, *payloads)
        self.assertEqual((status, err), (0, ""))
        read = json.loads(out)
        self.assertEqual(sorted(read), sorted(names))
        for name in names:
            bound = save.files[name].bound
            assert bound is not None
            self.assertEqual(read[name], json.loads(json.dumps(plain(bound.root))), name)

    def test_a_reader_says_what_we_say_of_every_storage(self) -> None:
        path = self.folder / "one.sav"
        path.write_bytes(every_storage())
        template = parse_template(EVERY_STORAGE.encode(), "storages")
        save = open_save(path, template)
        self.assertIsNone(save.problem)
        self.assertEqual(save.text(save.fields("hold[0].item")[0]), "brass lamp")
        self.same(save, path, ["save"])

    def test_a_reader_says_what_we_say_of_every_edition(self) -> None:
        harbour = self.harbour()
        self.same(
            self.opened(harbour / "harbour.bwk", "brinewick-desktop"), harbour / "harbour.bwk", ["save", "account"]
        )
        for edition, file, names in (
            ("console", "voyage.bwx", ["descriptor", "data", "body"]),
            ("deep", "company.bwd", ["save", "company", "stores"]),
            ("pocket", "pocket.bwp", ["save", "slate"]),
        ):
            with self.subTest(edition=edition):
                folder = self.folder / edition
                self.assertEqual(play(folder, "--edition", edition, "start", "Oriel & Søn").status, 0)
                save = self.opened(folder / file, f"brinewick-{edition}")
                given = []
                for name in names[1:] if edition == "deep" else ():  # what only we can unwrap
                    payload = self.folder / f"{edition}-{name}"
                    source = save.files[name].source
                    payload.write_bytes(bytes(source.read(0, source.size)))
                    given.append(f"{name}={payload}")
                self.same(save, folder / file, names, *given)

    def test_numbers_that_strings_of_json_spell_are_read_and_keep_their_spelling(self) -> None:
        spelled = (
            ('"0x3bf1"', '"0x11170"'),
            ('"0X00003BF1"', '"0X00011170"'),
            ('"MTUzNDU="', '"NzAwMDA="'),
            ('"15345"', '"70000"'),
            ("15345", "70000"),
        )
        fields = "".join(f"      - {{field: n{number}, as: number}}\n" for number in range(len(spelled)))
        head = 'ledger: 1\nid: t\ntitle: T\nfiles:\n  save:\n    name: "*.json"\n    format: json\n    layout:\n'
        template = parse_template(f"{head}{fields}".encode(), "t")
        path, out = self.folder / "one.json", self.folder / "t.yaml"
        path.write_text(json.dumps({f"n{number}": "@" for number in range(len(spelled))}))
        whole = path.read_text()
        for old, _ in spelled:
            whole = whole.replace('"@"', old, 1)
        path.write_text(whole)
        save = open_save(path, template)
        read = [save.fields(f"n{number}")[0].value for number in range(len(spelled))]
        self.assertEqual(read, [15345] * len(spelled))
        self.same(save, path, ["save"])
        out.write_text(f"{head}{fields}")
        for number, (old, new) in enumerate(spelled):
            made = self.folder / f"made{number}.json"
            self.json_of("post", path, "--template", out, "--set", f"n{number}=70000", "--out", made)
            self.assertEqual(made.read_text(), whole.replace(f'"n{number}": {old}', f'"n{number}": {new}'))

    def opened(self, path: Path, name: str) -> Save:
        found = self.shelf().library().get(name)
        return open_save(path, found)

    def test_layers_of_the_standard_library_and_those_it_lacks(self) -> None:
        body = struct.pack("<HH", 300, 7)
        layered = """ledger: 1
id: layered
title: Layered
files:
  save: {name: "*.sav", layout: [{field: at, as: u8}]}
  body: {inside: save, layers: [{layer: KIND, at: 4}], layout: [{field: marks, as: u16}, {field: air, as: u16}]}
"""
        for kind, packed in (("zlib", zlib.compress(body)), ("gzip", gzip.compress(body))):
            path = self.folder / f"{kind}.sav"
            path.write_bytes(b"\4\0\0\0" + packed)
            template = parse_template(layered.replace("KIND", kind).encode(), "layered")
            self.same(open_save(path, template), path, ["save", "body"])
        import zstandard

        path.write_bytes(b"\4\0\0\0" + zstandard.compress(body))
        text = reader_for(parse_template(layered.replace("KIND", "zstd").encode(), "layered"))
        status, _, err = self.read_alone(text, path)
        self.assertEqual(status, 2)
        self.assertIn("give body=FILE", err)
        (self.folder / "body.bin").write_bytes(body)
        status, out, _ = self.read_alone(text, path, f"body={self.folder / 'body.bin'}")
        self.assertEqual((status, json.loads(out)["body"]), (0, {"marks": 300, "air": 7}))
        path.write_bytes(b"")
        status, _, err = self.read_alone(text, path)
        self.assertEqual(status, 2)
        self.assertNotIn("Traceback", err)


class HandingOnTest(CommandCase):
    def test_from_a_template_to_a_shared_one_and_back(self) -> None:
        save = self.harbour() / "harbour.bwk"
        listed = self.json_of("template", "list")["templates"]
        self.assertEqual([each["id"] for each in listed], SHIPPED)
        self.assertEqual(self.json_of("template", "check", "brinewick-desktop"), {"mistakes": []})
        own = Path(self.json_of("template", "own", "brinewick-desktop", "--id", "mine")["path"])
        self.assertEqual(load_template(own).origin, "made from brinewick-desktop 0.7")
        before = self.json_of("template", "test", "mine", save)["saves"][0]
        self.assertEqual((before["fits"], before["in_balance"], before["witness"]), (True, True, None))
        self.json_of("template", "witness", "mine", save, "--fields", "purse.debt,crew[name=Tamsin].air")
        self.assertTrue(self.json_of("template", "test", "mine", save)["saves"][0]["witness"])
        self.assertNotIn(save.read_bytes()[40:60], own.read_bytes())
        text = own.read_text()
        own.write_text(text.replace("field: debt", "field: owed").replace("purse.debt,", "purse.owed,"))
        found = self.json_of("template", "test", "mine", save, status=1)["saves"][0]
        self.assertFalse(found["witness"])
        self.assertEqual(found["differs"], [{"path": "purse.debt", "witness": "40", "read": "–"}])
        changes = self.json_of("template", "diff", "brinewick-desktop", "mine", status=1)["changes"]
        self.assertIn({"path": "purse.owed", "kind": "renamed", "a": "purse.debt", "b": "purse.owed"}, changes)
        self.assertEqual(self.json_of("template", "diff", "mine", "mine")["changes"], [])
        own.write_text(text)
        shared = self.folder / "shared.yaml"
        self.json_of("template", "export", "mine", "-o", shared)
        self.assertIn("exists", self.refused(2, "template", "export", "mine", "-o", shared))
        shared.write_text(text.replace('version: "0.7"', 'version: "0.8"'))
        self.assertIn("--replace", self.refused(2, "template", "import", shared))
        self.assertEqual(own.read_text(), text)
        taken = self.json_of("template", "import", shared, "--replace")
        self.assertEqual(Path(taken["replaced"]).read_text(), text)  # the revision before is not lost
        self.assertIn('version: "0.8"', own.read_text())

    def test_sheets_readers_and_the_schema(self) -> None:
        save = self.harbour() / "harbour.bwk"
        status, sheet, _ = self.run_command("template", "sheet", "brinewick-desktop")
        self.assertEqual(status, 0)
        for words in ("| 0x14 (20) |", "crc-32 over body", "0 to 60000 (the purse bursts above)", "| 4 | sealed jar |"):
            self.assertIn(words, sheet)
        page = self.folder / "sheet.html"
        self.json_of("template", "sheet", "brinewick-desktop", "--save", save, "-o", page)
        text = page.read_text()
        self.assertIn("Oriel &amp; Søn", text)  # what a save says is not part of the page
        self.assertIn("proven in the game", text)
        schema = json.loads(self.run_command("template", "schema")[1])
        self.assertIn("sha256", schema["$defs"]["WitnessKeys"]["properties"])
        self.assertIn("length_of", schema["$defs"]["FieldKeys"]["properties"])
        self.assertIn("not in ruby", self.refused(2, "template", "reader", "brinewick-desktop", "--language", "ruby"))

    def test_mistakes_have_their_lines(self) -> None:
        bad = self.folder / "bad.yaml"
        bad.write_text(
            "ledger: 1\nid: x\ntitle: X\nfiles:\n  a:\n    name: b\n    layout:\n      - {field: x, as: u9}\n"
        )
        found = self.json_of("template", "check", bad, status=1)["mistakes"]
        self.assertEqual([each["line"] for each in found], [8])
        self.assertIn("“u9” is not a kind of value", found[0]["message"])
        self.assertIn("no template “nosuch”", self.refused(2, "template", "sheet", "nosuch"))
        broken = self.harbour() / "harbour.bwk"
        broken.write_bytes(broken.read_bytes()[:900])
        tested = self.json_of("template", "test", "brinewick-desktop", broken, status=1)["saves"][0]
        self.assertEqual((tested["fits"], tested["in_balance"]), (False, False))
        said = self.refused(2, "template", "witness", "brinewick-desktop", broken)
        self.assertIn("bytes and 876 are left", said)


class PayloadTest(CommandCase):
    def test_a_payload_comes_out_and_goes_back_in(self) -> None:
        body = b"marks=1386;" * 40 + bytes(range(200))
        path, out, again = self.folder / "one.sav", self.folder / "payload.bin", self.folder / "two.sav"
        path.write_bytes(gzip.compress(body, mtime=0))
        found = self.json_of("unwrap", path, "-o", out)
        self.assertEqual((found["route"], out.read_bytes()), (["gzip"], body))
        changed = body.replace(b"1386", b"5200")
        out.write_bytes(changed)
        self.json_of("wrap", out, "--like", path, "-o", again)
        self.assertEqual(gzip.decompress(again.read_bytes()), changed)
        self.assertEqual(gzip.decompress(path.read_bytes()), body)
        self.assertIn("exists", self.refused(2, "wrap", out, "--like", path, "-o", again))

    def test_with_a_template_lengths_and_seals_follow(self) -> None:
        template = self.folder / "packed.yaml"
        template.write_text("""ledger: 1
id: packed
title: Packed
files:
  save:
    name: "*.sav"
    layout:
      - {field: size, as: u32, length_of: packed}
      - {field: crc, as: u32, seal: {algorithm: crc-32, over: packed}}
      - {unknown: packed, size: size}
      - {field: end, as: u32}
  body: {inside: save.packed, layers: [zlib], layout: [{field: marks, as: u32}]}
""")
        body = struct.pack("<I", 1386) + bytes(range(256)) * 4
        packed = zlib.compress(body)
        path, out, again = self.folder / "one.sav", self.folder / "payload.bin", self.folder / "two.sav"
        path.write_bytes(struct.pack("<II", len(packed), zlib.crc32(packed)) + packed + b"DONE")
        self.json_of("unwrap", path, "-o", out, "--template", template)
        self.assertEqual(out.read_bytes(), body)
        longer = struct.pack("<I", 5200) + bytes(reversed(range(256))) * 4 + b"and more" * 9
        out.write_bytes(longer)
        found = self.json_of("wrap", out, "--like", path, "-o", again, "--template", template)
        self.assertEqual(sorted(found["renewed"]), ["crc", "size"])
        written = again.read_bytes()
        size, crc = struct.unpack("<II", written[:8])
        self.assertEqual((zlib.decompress(written[8 : 8 + size]), crc), (longer, zlib.crc32(written[8 : 8 + size])))
        self.assertEqual(written[8 + size :], b"DONE")

    def test_what_is_not_packed_or_is_damaged(self) -> None:
        noise = self.folder / "noise.bin"
        noise.write_bytes(random.Random(3).randbytes(3000))
        self.assertIn("nothing was written", self.refused(2, "unwrap", noise, "-o", self.folder / "x"))
        cut = self.folder / "cut.sav"
        cut.write_bytes(gzip.compress(bytes(range(256)) * 30)[:-40])
        self.refused(2, "unwrap", cut, "-o", self.folder / "x")
        self.assertFalse((self.folder / "x").exists())
