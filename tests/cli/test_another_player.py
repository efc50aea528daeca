"""What was pinned in the saves of one player says the right thing in those of another one, whose texts differ."""

from __future__ import annotations

import json
import random
import struct
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from tests.cli.test_from_sightings import SightingsCase

NAMES = ("Tamsin Vale", "Oriel & Sons", "Ives", "Wren of the Long Quay", "Maud Éclair", "Piran")
SHIPS = ("Brine Lantern", "Second Tide", "The Patient Eel")


class Player(NamedTuple):
    name: str
    ship: str
    marks: int
    lots: bytes


def short(text: str) -> bytes:
    raw = text.encode()
    return bytes([len(raw)]) + raw


def ended(text: str) -> bytes:
    raw = text.encode() + b"\0"
    return struct.pack("<I", len(raw)) + raw


def wide(text: str) -> bytes:
    return struct.pack("<H", len(text)) + text.encode("utf-16-le")


def high(text: str) -> bytes:
    raw = text.encode()
    return struct.pack(">I", len(raw)) + raw


def chunk(tag: bytes, body: bytes) -> bytes:
    return tag + struct.pack("<I", len(body)) + body


def buffer(text: str, size: int, pad: bytes = b"\0") -> bytes:
    return text.encode().ljust(size, pad)


# Layouts: how a save is written. What is before the number differs in size for another player, or is in a buffer.
LAYOUTS: dict[str, Callable[[Player], bytes]] = {
    "a byte in front": lambda p: b"\1\0\7\0" + short(p.name) + b"\x80\x3f" + struct.pack("<I", p.marks) + p.lots,
    "two texts": lambda p: b"BW" + ended(p.name) + bytes(3) + ended(p.ship) + struct.pack("<I", p.marks) + p.lots,
    "letters counted": lambda p: b"BW\2\0" + wide(p.name) + struct.pack("<I", p.marks) + p.lots,
    "the highest byte first": lambda p: high(p.ship) + high(p.name) + struct.pack(">IH", p.marks, 9) + p.lots,
    "in a buffer": lambda p: b"BW" + buffer(p.name, 32) + struct.pack("<I", p.marks) + p.lots,
    "a length and a buffer": lambda p: (
        b"BW" + bytes([len(p.name.encode())]) + buffer(p.name, 31) + struct.pack("<I", p.marks) + p.lots
    ),
    "blanks": lambda p: b"BW" + buffer(p.name, 30, b" ") + b"\x90" + struct.pack("<I", p.marks) + p.lots,
    "chunks": lambda p: (
        b"BWCH" + chunk(b"NAME", p.name.encode()) + chunk(b"GOLD", struct.pack("<I", p.marks)) + chunk(b"LOTS", p.lots)
    ),
    "lines in a header": lambda p: (
        struct.pack("<I", 0x90FF) + f"ship={p.ship}\nmarks={p.marks}\n".encode() + b"\0\xff" + p.lots
    ),
}


class AnotherPlayerTest(SightingsCase):
    def test_a_number_is_found_where_texts_in_front_differ(self) -> None:
        for number, (kind, write) in enumerate(LAYOUTS.items()):
            seed = random.randrange(1 << 32)
            with self.subTest(kind, seed=seed):
                self.read_by(write, self.folder / f"saves{number}", random.Random(seed))

    def read_by(self, write: Callable[[Player], bytes], folder: Path, turn: random.Random) -> None:
        folder.mkdir()
        mine, other = turn.sample(NAMES, 2), turn.sample(SHIPS, 2)
        seen = []
        for letter in "abcd":
            player = Player(mine[0], other[0], turn.randrange(2000, 60_000), turn.randbytes(turn.randrange(80, 120)))
            path = folder / f"{letter}.sav"
            path.write_bytes(write(player))
            seen.append((path, player.marks))
        self.assertTrue(self.pinned("Marks", seen))
        player = Player(mine[1], other[1], turn.randrange(2000, 60_000), turn.randbytes(90))
        path, out = folder / "another.sav", folder / "out.sav"
        path.write_bytes(write(player))
        shown = {field["path"]: field["value"] for field in self.json_of("read", path)["fields"]}
        self.assertEqual(shown["marks"], player.marks)
        self.json_of("post", path, "--set", f"marks={player.marks + 3}", "--out", out)
        self.assertEqual(out.read_bytes(), write(player._replace(marks=player.marks + 3)))

    def test_a_text_in_front_gets_its_own_name_when_it_is_pinned(self) -> None:
        turn, seen = random.Random(11), []
        for letter in "abcd":
            path = self.folder / f"{letter}.sav"
            marks = turn.randrange(2000, 60_000)
            path.write_bytes(b"\1\0\7\0" + short("Oriel & Sons") + struct.pack("<I", marks) + turn.randbytes(90))
            seen.append((path, marks))
        self.assertTrue(self.pinned("Marks", seen))
        fields = self.json_of("read", seen[0][0])["fields"]
        self.assertEqual({f["path"]: f["value"] for f in fields}["text_4"], "Oriel & Sons")
        self.assertTrue(self.pinned("Owner", [(path, "Oriel & Sons") for path, _ in seen]))
        fields = self.json_of("read", seen[0][0])["fields"]
        self.assertEqual([f["path"] for f in fields if "unknown" not in f["path"]], ["owner", "marks"])
        out = self.folder / "out.sav"
        self.json_of("post", seen[0][0], "--set", "owner=Maud", "--out", out)
        self.assertEqual(out.read_bytes()[4:13], short("Maud") + struct.pack("<I", seen[0][1]))

    def test_numbers_that_only_look_like_a_length_describe_nothing(self) -> None:
        """A byte before letters that is their number in one save and not in the next one, and letters in rows of which
        there are many.
        """
        turn = random.Random(12)
        for kind, front in (
            ("by chance", lambda n: bytes([12 if n == 0 else 40 + n]) + b"Oriel & Sons"),
            (
                "a list",
                lambda n: b"".join(short(f"{name} {m}") for m in range(5) for name in ("Tamsin", "Piran", "Wren")),
            ),
        ):
            folder = self.folder / kind
            folder.mkdir()
            seen = []
            for number in range(4):
                path, marks = folder / f"{number}.sav", turn.randrange(2000, 60_000)
                path.write_bytes(b"\1\0\7" + front(number) + struct.pack("<I", marks) + turn.randbytes(90 + number))
                seen.append((path, marks))
            self.assertTrue(self.pinned("Marks", seen))
            self.assertEqual([f["path"] for f in self.json_of("read", seen[0][0])["fields"]], ["marks"], kind)

    def test_a_seal_whose_place_is_known_is_accepted_where_its_range_cannot_be_said(self) -> None:
        """The inverse of a small sum in a file of which most stays the same: likely, but not sure."""
        saves = []
        for marks in (4071, 4216, 4685, 4999):
            path = self.folder / f"{marks}.sav"
            data = (b"\x42" + bytes(map(int, f"{marks:06d}")) + b"Oriel   ").ljust(94, b"\0")
            path.write_bytes((data + struct.pack(">H", ~sum(data) & 0xFFFF)).ljust(512, b"\xff"))
            saves.append(path)
        self.assertEqual(self.json_of("find-seals", *saves, "--accept")["accepted"], [])
        found = self.json_of("find-seals", *saves, "--stored-at", "94", "--accept")
        self.assertEqual(found["accepted"], ["seal_5e"])
        template = next(self.folder.rglob("*.yaml")).read_text()
        self.assertIn("sum16", template)
        self.assertIn("likely", template)
        self.assertTrue(json.loads(self.run_command("check", saves[0], "--json")[1])["in_balance"])
