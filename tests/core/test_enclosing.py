"""Numbers around a value that would become stale: sizes of blocks it is in, of what it unpacks to, offsets that count
from elsewhere, and words that stay whole; and bytes that are in another order.
"""

from __future__ import annotations

import base64
import gzip
import json
import random
import struct
import zlib
from pathlib import Path

from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.layers.swapping import ARRANGEMENTS, BYTE_LETTERS, REVERSED, SWAPPINGS, arranged, rearranged
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.profile.arrangement import arrangement_of, whole_arrangement_of
from faithful_ledger.core.profile.enclosing import lengths_around
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.storage import Leb128
from faithful_ledger.core.template import parse_template
from tests.support import LedgerCase

NAMES = ("Tamsin", "Oriel", "Ives", "Wren", "Bram", "Maud", "Piran")
FORMS = {"u16le": "<H", "u16be": ">H", "u32le": "<I", "u32be": ">I"}


def length(name: str, number: int) -> bytes:
    if name in FORMS:
        return struct.pack(FORMS[name], number)
    return Leb128(name).encode(number)


class AroundTest(LedgerCase):
    def blocks(self, turn: random.Random, name: str, tag: int, depth: int) -> tuple[bytes, int, list[int]]:
        """Blocks within blocks, where the innermost bytes are, and where the lengths around these are."""
        if not depth:
            return turn.randbytes(turn.randrange(6, 30)), 0, []
        inner, at, lengths = self.blocks(turn, name, tag, depth - 1)
        chosen, out, begins = turn.randrange(4), b"", 0
        for number in range(4):
            raw = inner if number == chosen else turn.randbytes(turn.randrange(20, 60))
            head = turn.randbytes(tag) + length(name, len(raw))
            if number == chosen:
                begins = len(out) + len(head)
                lengths = [len(out) + tag, *(begins + each for each in lengths)]
            out += head + raw
        return out, begins + at, lengths

    def test_every_length_around_is_found_and_none_in_noise(self) -> None:
        turn = random.Random(random.randrange(1 << 32))
        for name in ("uleb128", "vlq", *FORMS):
            for tag in (0, 1, 2, 4):
                body, at, lengths = self.blocks(turn, name, tag, 2)
                head = b"BW" + length(name, len(body))
                data = head + body + turn.randbytes(turn.choice((0, 4, 16)))
                at += len(head)
                found = [place for place, _ in lengths_around(MemorySource(data), at, at + 6)]
                with self.subTest(name, tag=tag):
                    self.assertEqual(found, [2, *(len(head) + each for each in lengths)])
        noise = [turn.randbytes(turn.randrange(100, 3000)) for _ in range(200)]
        self.assertLess(sum(any(lengths_around(MemorySource(each), 80, 90)) for each in noise), 4)


class ArrangementTest(LedgerCase):
    def saves(self, turn: random.Random) -> list[bytes]:
        crew = [turn.choice(NAMES) for _ in range(20)]

        def save() -> bytes:
            records = (name.encode().ljust(8, b"\0") + struct.pack("<HH", turn.randrange(999), 7) for name in crew)
            return struct.pack("<II", turn.randrange(1 << 20), 9) + b"".join(records)

        return [save() for _ in range(3)]

    def test_each_is_seen_and_undone_and_what_is_in_order_stays(self) -> None:
        turn = random.Random(random.randrange(1 << 32))
        plain = self.saves(turn)
        self.assertIsNone(arrangement_of(plain))
        for kind in ("swap-bytes-2", "swap-bytes-4"):
            stored = [rearranged(each, kind, each) for each in plain]
            self.assertEqual(arrangement_of(stored), kind)
            self.assertEqual([arranged(each, kind) for each in stored], plain)
        for filling in (b"\xff", b"\0", b""):
            stored = [b"".join(filling + bytes([byte]) if filling else bytes([byte] * 2) for byte in e) for e in plain]
            self.assertEqual(arrangement_of(stored), "odd-bytes")
            longer = rearranged(b"12345678" + plain[0], "odd-bytes", stored[0])
            self.assertEqual(arranged(longer, "odd-bytes"), b"12345678" + plain[0])
            self.assertTrue(longer.endswith(stored[0]))
        for other in (
            [turn.randbytes(4000) for _ in range(3)],
            [json.dumps({"name": turn.choice(NAMES), "crew": [*NAMES] * 9}).encode() for _ in range(3)],
            [struct.pack("<200H", *(turn.randrange(60_000) for _ in range(200))) for _ in range(3)],
            [b"duaM deriF noreH " * 30 for _ in range(3)],
        ):
            self.assertNotIn(arrangement_of(other), SWAPPINGS)
        for kind in ARRANGEMENTS:
            data = turn.randbytes(turn.randrange(60, 90))
            data = rearranged(data, kind, b"") if kind == BYTE_LETTERS else data
            self.assertEqual(rearranged(arranged(data, kind), kind, data), data)

    def test_what_is_stored_as_letters_or_turned_round(self) -> None:
        turn = random.Random(random.randrange(1 << 32))
        text = [json.dumps({"crew": [turn.choice(NAMES) for _ in range(9)], "marks": 1340}).encode() for _ in range(3)]
        noise = [turn.randbytes(400) for _ in range(3)]
        records = [bytes(each) for each in self.saves(turn)]
        for plain, kind in (
            (text, REVERSED),
            (noise, BYTE_LETTERS),
            ([each + b"\xff" for each in records], BYTE_LETTERS),
        ):
            stored = [rearranged(each, kind, each) for each in plain]
            self.assertEqual(whole_arrangement_of(stored), kind)
            self.assertEqual([arranged(each, kind) for each in stored], plain)
        self.assertEqual(whole_arrangement_of([base64.b64encode(each)[::-1] for each in text]), REVERSED)
        self.assertEqual(whole_arrangement_of([base64.b64encode(gzip.compress(each))[::-1] for each in text]), REVERSED)
        marked = "\ufeff".encode() + rearranged(noise[0], BYTE_LETTERS, b"")
        self.assertEqual(arranged(marked, BYTE_LETTERS), noise[0])
        self.assertEqual(rearranged(noise[0] + b"\xff", BYTE_LETTERS, marked), marked + "\xff".encode())
        others = (
            text,
            noise,
            [base64.b64encode(each) for each in text],
            [base64.b64encode(each) for each in noise],
            [base64.b64encode(each)[::-1] for each in noise],
            [("Œuvres de l’été, à côté d’un château; " * 9).encode() for _ in range(3)],
            ["Überfährt für Größe äöü ".encode() * 20 for _ in range(3)],
            ["Пристань и лодка ".encode() * 20 for _ in range(3)],
            [b"}{" * 40, b"] no text [" * 20, b"> neither <" * 20],
        )
        for other in others:
            self.assertIsNone(whole_arrangement_of(other), other[0][:40])


class StaleTest(LedgerCase):
    HEAD = "ledger: 1\nid: t\ntitle: T\nfiles:\n  save:\n    name: '*.sav'\n    layout: LAYOUT\n"

    def refused(self, data: bytes, layout: str, path: str, value: str, words: str, more: str = "") -> None:
        file: Path = self.folder / "a.sav"
        file.write_bytes(data)
        kind = "    format: keyed-lines\n" if "at: name" in layout else ""
        template = self.HEAD.replace("LAYOUT", f"{layout}\n{kind}".rstrip("\n")) + more
        save = open_save(file, parse_template(template.encode(), "t"))
        save.enter(path, value)
        with self.assertRaisesRegex(EntryError, f"{words}.*nothing was written"):
            make_plan(save)

    def test_sizes_and_offsets_that_a_value_takes_with_it(self) -> None:
        name = b"\5Oriel"
        body = name + bytes(range(90))
        streams = struct.pack("<I", len(body)) + zlib.compress(body)
        unpacked = "  body: {inside: save, layers: [zlib], layout: [{field: name, as: text, length: u8}]}\n"
        self.refused(
            b"BWPC" + streams + b"tail" + zlib.compress(b"another one, " * 9),
            "[{unknown: head, size: 8}]",
            "body.name",
            "Oriel of the Quay",
            r"body would unpack to 108 bytes in place of 96, and the u32le at 0x4 \(4\) says the old number",
            unpacked,
        )
        front = b"BWOF" + name + bytes(70)
        inner = struct.pack("<II", len(front) + 12, len(front) + 40) + bytes(range(60))
        self.refused(
            front + zlib.compress(inner),
            "[{unknown: head, size: 4}, {field: name, as: text, length: u8}]",
            "name",
            "Oriel of the Quay",
            r"the u32le at 0x0 \(0\) of body behind it looks like an offset that counts from the beginning of save",
            "  body: {inside: save, layers: [zlib], layout: []}\n",
        )
        packed = zlib.compress(bytes(range(90)))
        self.refused(
            b"BWLD" + struct.pack("<I", 16) + name + bytes(2) + packed,
            "[{unknown: head, size: 8}, {field: name, as: text, length: u8}, {unknown: rest}]",
            "name",
            "Oriel of the Quay",
            r"the u32le at 0x4 \(4\) looks like the offset of what is behind it",
            "  body: {inside: save, layers: [zlib], layout: []}\n",
        )
        self.refused(
            b"BWPT" + struct.pack("<H", 13) + b"Oriel, day 12" + bytes(40),
            "[{unknown: head, size: 6}, {field: name, as: text, ended_by: '2C', at: 6}]",
            "name",
            "Oriel of the Quay",
            r"the u16le at 0x4 \(4\) looks like the length of the text it is in",
        )
        parts = [name + bytes(9), bytes(range(40)), bytes(range(17)), name]
        ends = [19 + sum(map(len, parts[: number + 1])) for number in range(4)]
        ended = struct.pack("<3s4I", b"BW\4", *ends) + b"".join(parts)
        last = "{field: all, as: u32le, at: 15, seal: {algorithm: length, over: file, own: zeros}}"
        known = ", ".join(
            f"{{field: end_{n}, as: u32le, at: {3 + 4 * n}, seal: {{algorithm: length, over: {{to: {end - len(ended)}}}, own: zeros}}}}"
            for n, end in enumerate(ends[:3])
        )
        for described, refused in (
            ("", "0x3"),
            (last + ", ", "0x3"),
            (known.partition("}}, ")[0] + "}}, " + last + ", ", "0x7"),
        ):
            self.refused(
                ended,
                f"[{described}{{field: name, as: text, length: u8, at: 19}}]",
                "name",
                "Oriel of the Quay",
                rf"the u32le at {refused} \(\d\) looks like (?:the first|one) of some offsets",
            )
        whole = f"[{known}, {last}, {{field: name, as: text, length: u8, at: 19}}]"
        save = open_save(self.folder / "a.sav", parse_template(self.HEAD.replace("LAYOUT", whole).encode(), "t"))
        save.enter("name", "Oriel of the Quay")
        patched = make_plan(save).files[0].patched
        self.assertEqual(struct.unpack_from("<4I", bytes(patched.read(3, 19))), tuple(end + 12 for end in ends))
        rest = bytes(range(1, 35))
        total = sum(struct.unpack("<10I", name + rest)) & 0xFFFFFFFF
        self.refused(
            struct.pack("<I", total) + name + rest,
            "[{field: sum, as: u32, seal: {algorithm: sum32-of-u32le, over: {from: 4}}},"
            " {field: name, as: text, length: u8}]",
            "name",
            "Maud",
            r"sum counts in words of 4 bytes, and 39 bytes are not a multiple of that",
        )
        lines = "name=Oriel\nmarks=1340\n" + "".join(f"diver{number}=Tamsin\n" for number in range(9))
        self.refused(
            f"BRINEWICK 3 {len(lines)}\n{lines}END\n".encode(),
            "[{field: name, at: name, as: text}]",
            "name",
            "Oriel of the Quay",
            r"the number at 0xC \(12\) in its first line looks like its length",
        )
        self.refused(
            b"17 Brinewick:archive 9 0 5 Oriel 12 3 6 Tamsin 90 4 Bram 71",
            "[{field: name, as: text, size: 5, at: 27}]",
            "name",
            "Bo",
            r"name is shorter than the 5 bytes there, and zeros would come into a text",
        )
