"""What was pinned in the saves of one player says the right thing in those of another one, whose texts differ."""

from __future__ import annotations

import json
import random
import struct
from collections.abc import Callable, Iterable, Sequence
from functools import partial
from pathlib import Path
from typing import NamedTuple

from faithful_ledger.core.shelf import Shelf
from tests.cli.test_from_sightings import SightingsCase

NAMES = ("Tamsin Vale", "Oriel & Sons", "Ives", "Wren of the Long Quay", "Maud Éclair", "Piran")
DIVERS = ("Bram", "Colette", "Old Sedge", "Jory Penhallow", "Aurélie", "Quill", "Hester Lowe", "Dunn")
SHIPS = ("Brine Lantern", "Second Tide", "The Patient Eel")


class Player(NamedTuple):
    name: str
    ship: str
    marks: int
    lots: bytes
    crew: tuple[tuple[str, int], ...] = ()
    hold: tuple[tuple[int, int], ...] = ()


def player_at(turn: random.Random, name: str, ship: str, crew: Sequence[str], lots: int = 7) -> Player:
    """At another moment: with as many divers, and so many other lots."""
    return Player(
        name,
        ship,
        turn.randrange(2000, 60_000),
        turn.randbytes(turn.randrange(80, 120)),
        tuple((each, turn.randrange(20, 200)) for each in crew),
        tuple((turn.randrange(40), turn.randrange(1, 90)) for _ in range(lots)),
    )


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


def rows(count: str, records: Iterable[bytes]) -> bytes:
    listed = list(records)
    return struct.pack(count, len(listed)) + b"".join(listed)


# Layouts in which records are in front of the number: as many in all saves of a player, or others in each.
ROWS: dict[str, Callable[[Player], bytes]] = {
    "names and a number": lambda p: (
        b"BW\2\0"
        + rows("<B", (short(name) + bytes([air]) for name, air in p.crew))
        + struct.pack("<I", p.marks)
        + p.lots
    ),
    "a number and names": lambda p: (
        short(p.name)
        + rows("<I", (struct.pack("<HI", air, 9) + ended(name) for name, air in p.crew))
        + struct.pack("<I", p.marks)
        + p.lots
    ),
    "two names in each": lambda p: (
        rows("<I", (ended(name) + struct.pack("<H", air) + ended(f"of {name}") + b"\1" for name, air in p.crew))
        + struct.pack("<I", p.marks)
        + p.lots
    ),
    "the highest byte first": lambda p: (
        high(p.ship) + rows(">H", (high(name) for name, _ in p.crew)) + struct.pack(">I", p.marks) + p.lots
    ),
    "wide names": lambda p: (
        b"BW"
        + rows("<H", (wide(name) + struct.pack("<f", air) for name, air in p.crew))
        + struct.pack("<I", p.marks)
        + p.lots
    ),
    "numbers alone": lambda p: (
        b"BW\3\1"
        + rows("<H", (struct.pack("<IHH", n, air, 100) for n, (_, air) in enumerate(p.crew)))
        + struct.pack("<I", p.marks)
        + p.lots
    ),
    "other numbers in each": lambda p: (
        b"BW\3\1"
        + rows("<I", (struct.pack("<HH", *lot) for lot in p.hold))
        + struct.pack("<I", p.marks)
        + short(p.name)
        + p.lots
    ),
    "nothing near it stays": lambda p: (
        b"BW\3\1" + rows("<H", (struct.pack("<HB", *lot) for lot in p.hold)) + struct.pack("<I", p.marks) + p.lots
    ),
    "numbers, then a name": lambda p: (
        b"BW\3\1"
        + rows("<H", (struct.pack("<HB", *lot) for lot in p.hold))
        + short(p.name)
        + struct.pack("<HI", 128, p.marks)
        + p.lots
    ),
    "as far from the end": lambda p: (
        b"BW\3\1"
        + rows("<H", (short(f"lot {item}") + bytes([many]) for item, many in p.hold))
        + struct.pack("<I", p.marks)
        + p.lots[:80]
        + short(p.name)
    ),
    "one after the other": lambda p: (
        b"BW"
        + rows("<B", (bytes([air]) + short(name) for name, air in p.crew))
        + rows("<H", (short(f"lot {item}") + bytes([many]) for item, many in p.hold))
        + struct.pack("<I", p.marks)
        + short(p.name)
        + p.lots
    ),
}
ITEMS = ("rope", "lamp", "charm of brine", "hose", "bell", "net", "knife")


def pack(name: str, seed: int = 0) -> list[tuple[str, int]]:
    """What a diver has: the same as long as the seed is."""
    turn = random.Random(f"{name}{seed}")
    return [(turn.choice(ITEMS), turn.randrange(1, 90)) for _ in range(turn.randrange(5))]


def sized(size: str, body: bytes) -> bytes:
    return struct.pack(size, len(body)) + body


# Layouts in which a record has a list, or says how long it is; in all saves of a player the same, or not.
DEEP: dict[str, Callable[[Player], Iterable[bytes]]] = {
    "numbers in each": lambda p: (
        short(name) + bytes([air]) + rows("<H", (struct.pack("<IH", len(item), many) for item, many in pack(name)))
        for name, air in p.crew
    ),
    "other numbers in each": lambda p: (
        ended(name) + bytes([air, 1]) + rows("<B", (struct.pack("<HB", 7, n) for _, n in pack(name, air))) + b"\7"
        for name, air in p.crew
    ),
    "names in each": lambda p: (
        short(name)
        + struct.pack("<I", air)
        + rows("<I", (short(item) + struct.pack("<H", (many * 7 + air * 3) % 200 + 1) for item, many in pack(name)))
        for name, air in p.crew
    ),
    "other names in each": lambda p: (
        struct.pack("<I", air)
        + wide(name)
        + rows("<H", (wide(item) + struct.pack("<I", many) for item, many in pack(name, air)))
        + bytes(3)
        for name, air in p.crew
    ),
    "two names and a list": lambda p: (
        short(name) + b"\1" + short(f"of {name}") + rows("<I", (b"\2\3" + short(item) for item, _ in pack(name)))
        for name, _ in p.crew
    ),
    "its size in front": lambda p: (
        sized("<I", struct.pack("<I", air) + ended(name) + struct.pack("<H", 3 * air) + bytes(5 * len(pack(name))))
        for name, air in p.crew
    ),
    "another size in front": lambda p: (
        sized("<H", bytes([air]) + short(name) + random.Random(name).randbytes(3 * len(pack(name, air))))
        for name, air in p.crew
    ),
    "a size behind the name": lambda p: (
        short(name) + sized("<H", bytes([air]) + random.Random(name).randbytes(5 * len(pack(name, air))))
        for name, air in p.crew
    ),
}


def in_rows(records: Callable[[Player], Iterable[bytes]], player: Player) -> bytes:
    return b"BW\2\0" + rows("<I", records(player)) + struct.pack("<I", player.marks) + player.lots


# What has a place of its own stays there: a table with room for more, and one whose number is somewhere else.
TABLES: dict[str, Callable[[Player], bytes]] = {
    "room for more": lambda p: (
        b"BW\3\1"
        + rows("<H", (struct.pack("<IHH", n, air, 100) for n, (_, air) in enumerate(p.crew))).ljust(2 + 8 * 40, b"\0")
        + struct.pack("<I", p.marks)
        + p.lots
    ),
    "names in buffers": lambda p: (
        b"BW"
        + rows("<B", (buffer(name, 16) + bytes([air]) for name, air in p.crew)).ljust(1 + 17 * 30, b"\0")
        + struct.pack("<I", p.marks)
        + p.lots
    ),
}


class AnotherPlayerTest(SightingsCase):
    def test_a_number_is_found_where_texts_and_records_in_front_differ(self) -> None:
        deep = {f"rows with {kind}": partial(in_rows, records) for kind, records in DEEP.items()}
        for number, (kind, write) in enumerate((LAYOUTS | ROWS | TABLES | deep).items()):
            seed = random.randrange(1 << 32)
            with self.subTest(kind, seed=seed):
                self.read_by(write, self.folder / f"saves{number}", random.Random(seed))

    def read_by(self, write: Callable[[Player], bytes], folder: Path, turn: random.Random) -> None:
        folder.mkdir()
        mine, other = turn.sample(NAMES, 2), turn.sample(SHIPS, 2)
        crew, sizes = [turn.choice(DIVERS) for _ in range(30)], turn.sample(range(15, 30), 2)
        seen, lots = [], turn.sample(range(3, 30), 5)
        for letter, many in zip("abcd", lots[1:], strict=True):
            player = player_at(turn, mine[0], other[0], crew[: sizes[0]], many)
            path = folder / f"{letter}.sav"
            path.write_bytes(write(player))
            seen.append((path, player.marks))
        self.assertTrue(self.pinned("Marks", seen))
        player = player_at(turn, mine[1], other[1], crew[-sizes[1] :], lots[0])
        path, out = folder / "another.sav", folder / "out.sav"
        path.write_bytes(write(player))
        shown = {field["path"]: field["value"] for field in self.json_of("read", path)["fields"]}
        self.assertEqual(shown["marks"], player.marks)
        self.json_of("post", path, "--set", f"marks={player.marks + 3}", "--out", out)
        self.assertEqual(out.read_bytes(), write(player._replace(marks=player.marks + 3)))

    def test_what_is_pinned_in_records_is_one_of_each(self) -> None:
        for number, kind in enumerate(("names and a number", "a number and names", "one after the other")):
            seed = random.randrange(1 << 32)
            turn, write, folder = random.Random(seed), ROWS[kind], self.folder / f"crew{number}"
            folder.mkdir()
            crew = turn.sample(DIVERS, 5)
            players = [player_at(turn, "Oriel & Sons", SHIPS[0], crew) for _ in range(4)]
            paths = [folder / f"{letter}.sav" for letter in "abcd"]
            for path, player in zip(paths, players, strict=True):
                path.write_bytes(write(player))
            with self.subTest(kind, seed=seed):
                self.assertTrue(
                    self.pinned("Air", [(p, each.crew[2][1]) for p, each in zip(paths, players, strict=True)])
                )
                self.assertTrue(self.pinned("Diver", [(p, crew[3]) for p in paths]))
                self.assertTrue(self.pinned("Marks", [(p, each.marks) for p, each in zip(paths, players, strict=True)]))
                other = player_at(turn, "Maud", SHIPS[1], turn.sample(DIVERS, 3))
                path, out = folder / "another.sav", folder / "out.sav"
                path.write_bytes(write(other))
                fields = {each["path"]: each["value"] for each in self.json_of("read", path)["fields"]}
                rows_ = next(name.partition("[")[0] for name in fields if name.endswith("].air"))
                found = tuple((fields[f"{rows_}[{n}].diver"], fields[f"{rows_}[{n}].air"]) for n in range(3))
                self.assertEqual((found, fields["marks"]), (other.crew, other.marks))
                name, air = f"{rows_}[1].diver=Wren, who came later", f"{rows_}[2].air=7"
                self.json_of("post", path, "--set", name, "--set", air, "--set", "marks=12", "--out", out)
                edited = (other.crew[0], ("Wren, who came later", other.crew[1][1]), (other.crew[2][0], 7))
                self.assertEqual(out.read_bytes(), write(other._replace(crew=edited, marks=12)))

    def test_what_is_pinned_in_a_list_or_block_of_a_record_is_one_of_each(self) -> None:
        """A value in a list of each record, or behind a text in a block, with what is around it; a name may be longer."""
        longer = "Wren, who came later"
        for kind, deep, shown, renamed in (
            (
                "names in each",
                "many",
                lambda name, air: [(many * 7 + air * 3) % 200 + 1 for _, many in pack(name)],
                lambda record, name: record.replace(short(name), short(longer)),
            ),
            (
                "its size in front",
                "depth",
                lambda _, air: [3 * air],
                lambda record, name: sized("<I", record[4:].replace(ended(name), ended(longer))),
            ),
        ):
            seed = random.randrange(1 << 32)
            turn, write, folder = random.Random(seed), partial(in_rows, DEEP[kind]), self.folder / kind
            folder.mkdir()
            crew = sorted(turn.sample(DIVERS, 7), key=lambda name: len(pack(name)), reverse=True)
            players = [player_at(turn, "Oriel & Sons", SHIPS[0], crew) for _ in range(4)]
            paths = [folder / f"{letter}.sav" for letter in "abcd"]
            for path, player in zip(paths, players, strict=True):
                path.write_bytes(write(player))
            pins = {
                deep.title(): [shown(*player.crew[0])[-1] for player in players],
                "Air": [player.crew[3][1] for player in players],
                "Diver": [crew[3]] * 4,
                "Marks": [player.marks for player in players],
            }
            with self.subTest(kind, seed=seed):
                for name, values in pins.items():
                    self.assertTrue(self.pinned(name, list(zip(paths, values, strict=True))), name)
                other = player_at(turn, "Maud", SHIPS[1], turn.sample(DIVERS, 6))
                path, out = folder / "another.sav", folder / "out.sav"
                path.write_bytes(write(other))
                fields = [(each["path"], each["value"]) for each in self.json_of("read", path)["fields"]]
                names, airs = map(list, zip(*other.crew, strict=True))
                wanted = {deep: [n for diver in other.crew for n in shown(*diver)], "air": airs, "diver": names}
                found = {key: [value for name, value in fields if name.endswith(f".{key}")] for key in wanted}
                self.assertEqual(found, wanted)
                diver = next(name for name, value in fields if name.endswith(".diver") and value == names[2])
                self.json_of("post", path, "--set", f"{diver}={longer}", "--set", "marks=12", "--out", out)
                record = list(DEEP[kind](other))[2]
                expected = write(other._replace(marks=12)).replace(record, renamed(record, names[2]))
                self.assertEqual(out.read_bytes(), expected)

    def test_a_pin_in_records_is_taken_back(self) -> None:
        turn, write = random.Random(13), ROWS["names and a number"]
        players = [player_at(turn, "Oriel & Sons", SHIPS[0], list(DIVERS[:5])) for _ in range(4)]
        paths = [self.folder / f"{letter}.sav" for letter in "abcd"]
        for path, player in zip(paths, players, strict=True):
            path.write_bytes(write(player))
        pins = {
            "Air": [player.crew[2][1] for player in players],
            "Diver": [DIVERS[3]] * 4,
            "Marks": [player.marks for player in players],
        }
        for name, shown in pins.items():
            self.assertTrue(self.pinned(name, list(zip(paths, shown, strict=True))))
        shelf = Shelf()
        self.addCleanup(shelf.close)
        book = shelf.book_of(paths[-1])
        assert book is not None
        for left, path in (
            ({"diver", "air"}, "marks"),
            ({"text_1", "air"}, "rows_5[3].diver"),
        ):
            book.templates.take_back(shelf.open_save(paths[-1]), shelf.library(book), path)
            fields = self.json_of("read", paths[-1])["fields"]
            self.assertEqual({each["path"].rpartition(".")[2] for each in fields if "[" in each["path"]}, left)
        self.assertIn(players[-1].crew[2][1], [each["value"] for each in fields])
        book.templates.take_back(shelf.open_save(paths[-1]), shelf.library(book), "rows_5[2].air")
        self.assertEqual(list((book.folder / "templates").iterdir()), [])

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
