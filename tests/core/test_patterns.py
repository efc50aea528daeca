"""How usual structures are said in the template language, each over bytes, read and edited: banks, unions, chunks, versions."""

from __future__ import annotations

import struct

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from tests.support import LedgerCase, template_of


class PatternTest(LedgerCase):
    def opened(self, layout: str, data: bytes, **keys: str) -> Save:
        path = self.folder / "one.sav"
        path.write_bytes(data)
        save = open_save(path, template_of(layout, **keys))
        self.assertIsNone(save.problem)
        return save

    def posted(self, save: Save, **entries: str) -> bytes:
        for path, text in entries.items():
            save.enter(path.replace("__", "."), text)
        plan = make_plan(save)
        self.assertEqual([finding for finding in plan.findings if finding.level == "error"], [])
        patched = plan.files[0].patched
        return bytes(patched.read(0, patched.size))

    def shown(self, save: Save, *paths: str) -> list[str]:
        return [save.text(node) for path in paths for node in save.fields(path)]

    def test_of_two_banks_the_newer_one_counts(self) -> None:
        layout = """
- {field: first_turn, as: u16, at: 0}
- {field: second_turn, as: u16, at: 8}
- group: bank
  at: 8 if second_turn > first_turn else 0
  layout:
    - {field: turn, as: u16}
    - {field: marks, as: u32}
    - {field: sum, as: u16, seal: {algorithm: sum16, over: marks}}
"""
        for turns, at in (((7, 8), 8), ((8, 7), 0)):
            banks = [struct.pack("<HIH", turn, 100 * turn, sum(struct.pack("<I", 100 * turn))) for turn in turns]
            save = self.opened(layout, b"".join(banks))
            self.assertEqual(self.shown(save, "bank.marks"), ["800"])
            written = self.posted(save, bank__marks="5200")
            self.assertEqual(struct.unpack_from("<IH", written, at + 2), (5200, sum(struct.pack("<I", 5200))))
            other = 8 - at
            self.assertEqual(written[other : other + 8], banks[other // 8])  # the older one stays

    def test_a_union_by_its_tag_and_versions_in_one_template(self) -> None:
        layout = """
- {field: version, as: u8}
- {field: air, as: u16, when: version >= 2}
- {field: count, as: u8, count_of: things}
- rows: things
  count: count
  layout:
    - {field: tag, as: u8, names: {1: lamp, 2: note}}
    - {group: lamp, when: tag == 1, layout: [{field: oil, as: u16}]}
    - {group: note, when: tag == 2, layout: [{field: words, as: text, length: u8}]}
"""
        things = b"\x02" + b"\x01\x2c\x01" + b"\x02\x04bell"
        old = self.opened(layout, b"\x01" + things)
        self.assertEqual(self.shown(old, "things[0].lamp.oil", "things[1].note.words"), ["300", "bell"])
        with self.assertRaises(LedgerError):
            old.fields("air")
        new = self.opened(layout, b"\x02\x64\x00" + things)
        self.assertEqual(self.shown(new, "air", "things[1].note.words"), ["100", "bell"])
        new.enter("things[1].note.words", "salt nave")
        self.assertEqual(self.posted(new), b"\x02\x64\x00\x02\x01\x2c\x01\x02\x09salt nave")

    def test_chunks_with_a_tag_a_size_and_a_checksum_and_those_nobody_knows(self) -> None:
        layout = """
- rows: chunks
  key: tag
  layout:
    - {field: tag, as: text, size: 4, encoding: latin-1}
    - {field: size, as: u32, length_of: body}
    - group: body
      size: size
      layout:
        - {field: marks, as: u32, when: size == 4}
        - {unknown: rest, size: 0 if size == 4 else size}
    - {field: sum, as: u32, seal: {algorithm: crc-32, over: body}}
"""
        from zlib import crc32

        def chunk(tag: bytes, body: bytes) -> bytes:
            return tag + struct.pack("<I", len(body)) + body + struct.pack("<I", crc32(body))

        data = chunk(b"WHAT", b"nobody knows") + chunk(b"PURS", struct.pack("<I", 1386)) + chunk(b"END ", b"")
        save = self.opened(layout, data)
        self.assertEqual(self.shown(save, "chunks[tag=PURS].body.marks"), ["1386"])
        save.enter("chunks[tag=PURS].body.marks", "5200")
        written = self.posted(save)
        self.assertEqual(
            written, data.replace(chunk(b"PURS", struct.pack("<I", 1386)), chunk(b"PURS", struct.pack("<I", 5200)))
        )

    def test_blocks_in_blocks_with_their_lengths_in_front(self) -> None:
        layout = """
- {field: outer_size, as: u16, length_of: outer}
- group: outer
  size: outer_size
  layout:
    - {field: inner_size, as: uleb128, length_of: inner}
    - group: inner
      size: inner_size
      layout:
        - {field: name, as: text, length: u8}
        - {field: air, as: u8}
    - {field: day, as: u8}
"""
        inner = b"\x04Ives\x40"
        save = self.opened(layout, struct.pack("<H", 8) + bytes([len(inner)]) + inner + b"\x07")
        long = "a diver whose name makes the inner length take a second byte: " + "x" * 90
        written = self.posted(save, outer__inner__name=long)
        self.assertEqual(struct.unpack_from("<H", written)[0], len(written) - 2)
        again = self.opened(layout, written)
        self.assertEqual(self.shown(again, "outer.inner.name", "outer.day"), [long, "7"])

    def test_rows_without_an_end_go_on_to_the_end_of_what_is_around(self) -> None:
        layout = "- {group: hold, size: 6, layout: [{rows: lots, each: {as: u16}}]}\n- {rows: rest, each: {as: u8}}"
        save = self.opened(layout, bytes(range(9)))
        self.assertEqual(self.shown(save, "hold.lots[*]", "rest[*]"), ["256", "770", "1284", "6", "7", "8"])
        path = self.folder / "odd.sav"
        path.write_bytes(bytes(6) + b"\x01")
        odd = open_save(path, template_of("- {rows: lots, each: {as: u16}}"))
        self.assertIn("is not a multiple of the record size (2)", str(odd.problem))
