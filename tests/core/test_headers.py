"""What saves begin with, of another length in each, and what is behind it."""

from __future__ import annotations

import random
import struct
import zlib

from faithful_ledger.core.describe.draft import Draft, changed
from faithful_ledger.core.describe.leading import BYTES_NOTE, ENDED_NOTE
from faithful_ledger.core.describe.pins import without_leading
from faithful_ledger.core.errors import TemplateError
from faithful_ledger.core.in_front.elements import LeadingBytes, LeadingText
from faithful_ledger.core.in_front.walk import headers_of
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.profile import find_layers
from faithful_ledger.core.profile.enclosing import text_around
from faithful_ledger.core.profile.pictures import pixel_spans
from faithful_ledger.core.seal_search import SealSearch
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.template import parse_template
from tests.support import LedgerCase, dice, template_of

WORDS = ("Oriel", "Tamsin's deck", "the outer harbour", "Wren and Daughters", "Pell", "a quiet day off Brinewick")


def chunk(kind: bytes, content: bytes) -> bytes:
    return struct.pack(">I", len(content)) + kind + content + struct.pack(">I", zlib.crc32(kind + content))


def picture(turn: random.Random, *more: bytes) -> bytes:
    """A small picture, as PNG has them."""
    rows = b"".join(b"\0" + bytes(min(255, max(0, int(turn.gauss(128, 30)))) for _ in range(96)) for _ in range(24))
    header = struct.pack(">IIBBBBB", 32, 24, 8, 2, 0, 0, 0)
    chunks = chunk(b"IHDR", header) + chunk(b"IDAT", zlib.compress(rows)) + b"".join(more) + chunk(b"IEND", b"")
    return b"\x89PNG\r\n\x1a\n" + chunks


class PixelsTest(LedgerCase):
    def test_pixels_are_no_payload_beside_something_else_and_are_one_alone(self) -> None:
        turn = dice()
        body = zlib.compress(turn.randbytes(40) * 9)
        note = chunk(b"zTXt", b"Comment\0\0" + zlib.compress(b"off the quay " * 20))
        save = b"BWPX" + picture(turn, note) + body
        kinds = [(layer.offset, layer.kind) for layer in find_layers(save)]
        text = save.index(b"zTXt") + 4 + len(b"Comment\0\0")
        self.assertEqual(kinds, [(text, "zlib"), (len(save) - len(body), "zlib")])
        alone = picture(turn)
        self.assertEqual([layer.offset for layer in find_layers(alone)], [alone.index(b"IDAT") + 4])
        self.assertEqual(pixel_spans(alone), [])
        damaged = bytearray(save)
        damaged[save.index(b"IDAT") + 9] ^= 1
        self.assertEqual(pixel_spans(bytes(damaged)), [])


def written(turn: random.Random, kinds: list[str], many: int) -> tuple[list[bytes], list[int]]:
    """Saves that begin with parts of these kinds, and where what is behind them begins in each."""
    constant = {number: turn.randbytes(turn.randrange(9)) for number in range(len(kinds) + 1)}
    saves, ends = [], []
    for _ in range(many):
        content = b"BW\1\7" + constant[len(kinds)]
        for number, kind in enumerate(kinds):
            text = f"{turn.choice(WORDS)} {turn.randrange(10**6)}".encode()
            data = turn.randbytes(turn.randrange(300, 3000))
            parts = {
                "u8": bytes([len(text)]) + text,
                "u32": struct.pack("<I", len(text)) + text,
                "wide": struct.pack("<H", len(text)) + text.decode().encode("utf-16-le"),
                "bytes": struct.pack("<I", len(data)) + data,
            }
            content += parts[kind] + constant[number]
        ends.append(len(content))
        saves.append(content)
    return saves, ends


class HeadsTest(LedgerCase):
    def test_a_header_is_found_up_to_where_something_begins_in_each_save(self) -> None:
        """However it is made up; of three texts or blocks, of which one explains what the others leave."""
        turn = dice()
        others = 0
        for number in range(60):
            kinds = [turn.choice(("u8", "u32", "wide")) for _ in range(turn.randrange(1, 3))]
            if number % 3 == 0:
                kinds.insert(turn.randrange(len(kinds) + 1), "bytes")
            fronts, ends = written(turn, kinds, 4)
            gap = turn.randbytes(turn.randrange(12))
            lasts = [end + len(gap) for end in ends]
            found = headers_of([front + gap + b"x\x9c" + turn.randbytes(60) for front in fronts], lasts)
            with self.subTest(kinds=kinds, number=number):
                for header in found:
                    self.assertEqual(len({last - end for last, end in zip(lasts, header.ends, strict=True)}), 1)
            made = [LeadingBytes if kind == "bytes" else LeadingText for kind in kinds]
            others += [[type(each) for each in header.elements] for header in found] != [made]
        self.assertLessEqual(others, 9)

    def test_noise_in_front_is_no_header(self) -> None:
        turn = dice()
        for _ in range(30):
            saves = [turn.randbytes(turn.randrange(200, 260)) for _ in range(4)]
            lasts = [len(save) - 40 for save in saves]
            self.assertEqual((headers_of(saves, lasts), headers_of(saves, [None] * 4)), ([], []))

    def test_what_only_moves_has_no_seals_behind_a_header(self) -> None:
        turn = dice()
        for _ in range(3):
            fronts, _ = written(turn, ["u8", "u32"], 4)
            saves = [front + turn.randbytes(90) + zlib.compress(turn.randbytes(50) * 5) for front in fronts]
            search = SealSearch(saves)
            lasts = [[find_layers(save)[0].offset for save in saves]]
            self.assertEqual([each.in_words for each in search.behind(lasts)], [])


LAYOUT = """
- {constant: magic, bytes: "42 57 48 44"}
- {field: name, as: text, length: u8}
- {unknown: unknown_0, size: 40}
- {field: whole, as: u32, at: -8, seal: {algorithm: crc-32, over: {from: unknown_0, to: -8}}}
- {field: sum, as: u32, at: -4, seal: {algorithm: crc-32, over: {behind: name, to: -4}}}
"""


class RangeTest(LedgerCase):
    """A range that begins with an element, or behind one, and ends so many bytes before the end."""

    def save_of(self, name: bytes, body: bytes) -> bytes:
        content = b"BWHD" + bytes([len(name)]) + name + body + struct.pack("<I", zlib.crc32(body))
        return content + struct.pack("<I", zlib.crc32(content[5 + len(name) :]))

    def test_a_range_follows_the_element_that_it_begins_with(self) -> None:
        body = dice().randbytes(40)
        save = self.open_bytes(self.save_of(b"Oriel", body), template_of(LAYOUT))
        self.assertEqual([(each.name, each.holds) for each in save.seals], [("whole", True), ("sum", True)])
        save.enter("name", "Oriel of the Quay")
        patched = make_plan(save).files[0].patched
        self.assertEqual(patched.read(0, patched.size), self.save_of(b"Oriel of the Quay", body))

    def test_it_follows_a_name_that_changes_and_a_run_that_is_divided(self) -> None:
        content = self.save_of(b"Oriel", dice().randbytes(40))
        text = (
            b"ledger: 1\nid: t\ntitle: T\nfiles:\n  save:\n    name: '*.bin'\n    layout:"
            + LAYOUT.replace("\n", "\n      ").encode()
        )
        save = self.open_bytes(content, parse_template(text, "t"))

        def act(draft: Draft) -> None:
            draft.rename("name", "company")
            draft.read_again()
            draft.add("save", 10, 14, {"field": "marks", "as": "u32"})

        made = changed(text, save, act)
        self.assertIn(b"over: {behind: company, to: -4}", made)
        self.assertIn(b"over: {from: marks, to: -8}", made)
        self.assertTrue(all(each.holds for each in self.open_bytes(content, parse_template(made, "t")).seals))

    def test_what_is_said_of_a_range_is_one_thing(self) -> None:
        for wrong, words in (
            ("{from: 4, behind: name}", "begins with an element or behind one, not both"),
            ("{behind: name, to: 9}", "zero or less says where it ends, from the end"),
            ("{behind: nothing}", "nothing"),
            ("{from: -4}", "covers nothing"),
        ):
            with self.subTest(wrong), self.assertRaisesRegex(TemplateError, words):
                template_of(LAYOUT.replace("{behind: name, to: -4}", wrong))


class TextAroundTest(LedgerCase):
    def test_the_length_of_the_text_around_a_part_of_it_is_seen(self) -> None:
        turn = dice()
        for number in range(40):
            text = f"{turn.choice(WORDS)}, day {turn.randrange(1000)}"
            each, kind, length, raw = turn.choice(
                (
                    (1, "u8", bytes([len(text)]), text.encode()),
                    (2, "u16le", struct.pack("<H", len(text)), text.encode("utf-16-le")),
                    (2, "u32be", struct.pack(">I", 2 * len(text)), text.encode("utf-16-le")),
                )
            )
            front, behind = turn.randbytes(20) + bytes(3), b"\1\2\3" + turn.randbytes(20)
            at = len(front) + len(length)
            part = at + each * turn.randrange(4)
            with self.subTest(text, kind=kind, number=number):
                found = text_around(MemorySource(front + length + raw + behind), part, part + 2 * each)
                self.assertIsNotNone(found)
                other = bytes(byte ^ 0x40 for byte in length)
                content = front + other + raw + behind
                self.assertIsNone(text_around(MemorySource(content), part, part + 2 * each))


class TakenBackTest(LedgerCase):
    """What was described only because something follows it goes with that, but for what a seal follows."""

    def text_with(self, behind: str) -> bytes:
        layout = f"""
      - {{unknown: unknown_0, size: 4}}
      - {{field: size_4, as: u32, length_of: bytes_8, note: "{BYTES_NOTE}"}}
      - {{unknown: bytes_8, size: size_4, note: "{BYTES_NOTE}"}}
      - {{field: text_c, as: text, ended_by: "00", note: "{ENDED_NOTE}"}}
{behind}
"""
        return f"ledger: 1\nid: t\ntitle: T\nfiles:\n  save:\n    name: '*.bin'\n    layout:{layout}".encode()

    def test_bytes_and_texts_go_and_stay(self) -> None:
        content = b"BWHD" + struct.pack("<I", 4) + b"\xff\xd8\xff\xd9" + b"Oriel\0" + struct.pack("<II", 812, 0)
        content = content[:-4] + struct.pack("<I", zlib.crc32(content[-8:-4]))
        marks = "      - {field: marks, as: u32}"
        seal = "      - {field: sum, as: u32, seal: {algorithm: crc-32, over: marks}}"
        alone = self.text_with(marks)
        left = without_leading(alone, self.open_bytes(content, parse_template(alone, "t")))
        for name in (b"size_4", b"bytes_8", b"text_c"):
            self.assertNotIn(name, left)
        save = self.open_bytes(content, parse_template(left, "t"))
        self.assertEqual([(field.path, field.start) for field in save.fields("marks")], [("marks", 18)])
        sealed = self.text_with(f"{marks}\n{seal}")
        self.assertEqual(without_leading(sealed, self.open_bytes(content, parse_template(sealed, "t"))), sealed)
