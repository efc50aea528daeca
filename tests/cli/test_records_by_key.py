"""The same way through saves whose values are in records of a list, which come and go and change places, and through
those in which single values have their checksums beside them.
"""

from __future__ import annotations

import hashlib
import json
import random
import sqlite3
import struct
import zlib
from contextlib import closing
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any
from xml.etree import ElementTree

from hypothesis import given
from hypothesis import strategies as st

from faithful_ledger.core.address import parse_path
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.formats import recognised_text
from faithful_ledger.core.formats.keyed_paths import KeyedPaths
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.core.source import MemorySource
from tests.cli.test_from_sightings import Format, SightingsCase
from tests.support import LedgerCase

Read = tuple[int, int, str]


def shuffled_write(value: dict[str, Any]) -> bytes:
    """What is carried is a list in any order, money among it."""
    turn = random.Random(value["seed"])
    carried = [{"type": f"{lot['item']}_{number}", "many": lot["many"]} for number, lot in enumerate(value["lots"])]
    carried.insert(turn.randrange(len(carried) + 1), {"type": "marks", "many": value["marks"]})
    company = {"name": value["name"], "day": value["day"]}
    return json.dumps({"company": company, "carried": carried, "crew": value["crew"]}).encode()


def shuffled_read(content: bytes) -> Read:
    found = json.loads(content)
    (marks,) = [each["many"] for each in found["carried"] if each["type"] == "marks"]
    return marks, found["company"]["day"], found["company"]["name"]


def lists_write(value: dict[str, Any]) -> bytes:
    """A dictionary as two lists, in any order."""
    held = {f"{lot['item']}_{number}": lot["many"] for number, lot in enumerate(value["lots"])}
    held |= {"marks": value["marks"], "day": value["day"]}
    keys = list(held)
    random.Random(value["seed"]).shuffle(keys)
    purse = {"keys": keys, "values": [held[key] for key in keys]}
    return json.dumps({"name": value["name"], "purse": purse, "crew": value["crew"]}).encode()


def lists_read(content: bytes) -> Read:
    found = json.loads(content)
    held = dict(zip(found["purse"]["keys"], found["purse"]["values"], strict=True))
    return held["marks"], held["day"], found["name"]


def pairs_write(value: dict[str, Any]) -> bytes:
    """Keys with values, as elements of their own; the crew is in front."""
    root = ElementTree.Element("state")
    pairs = [(f"air_{number}", str(diver["air"])) for number, diver in enumerate(value["crew"][: value["seed"] % 7])]
    pairs += [("day", str(value["day"])), ("marks", str(value["marks"])), ("name", value["name"])]
    for key, text in pairs:
        pair = ElementTree.SubElement(root, "pair")
        ElementTree.SubElement(pair, "key").text = key
        ElementTree.SubElement(pair, "value").text = text
    return ElementTree.tostring(root)


def pairs_read(content: bytes) -> Read:
    found = {pair[0].text: pair[1].text or "" for pair in ElementTree.fromstring(content)}
    return int(found["marks"]), int(found["day"]), found["name"]


def rows_write(value: dict[str, Any]) -> bytes:
    """A table of keys with a checksum in every row."""
    rows = [("company", value["name"]), ("marks", str(value["marks"])), ("day", str(value["day"]))]
    rows += [(f"diver{number}", json.dumps(diver)) for number, diver in enumerate(value["crew"][:6])]
    random.Random(value["seed"]).shuffle(rows)
    with TemporaryDirectory() as folder:
        path = Path(folder) / "a.db"
        with closing(sqlite3.connect(path)) as base:
            base.execute("create table held(key text primary key, value text, crc integer)")
            base.executemany("insert into held values(?, ?, ?)", [(k, v, zlib.crc32(v.encode())) for k, v in rows])
            base.commit()
        return path.read_bytes()


def rows_read(content: bytes) -> Read:
    with TemporaryDirectory() as folder:
        path = Path(folder) / "a.db"
        path.write_bytes(content)
        with closing(sqlite3.connect(path)) as base:
            rows = base.execute("select key, value, crc from held").fetchall()
    assert all(zlib.crc32(value.encode()) == crc for _, value, crc in rows), rows
    found = {key: value for key, value, _ in rows}
    return int(found["marks"]), int(found["day"]), found["company"]


def summed_write(value: dict[str, Any]) -> bytes:
    """Each value has its digest beside it, over its name and what it says."""
    found: dict[str, Any] = {}
    for name in ("name", "day", "marks"):
        found[name] = value[name]
        found[f"{name}_sum"] = hashlib.md5(f"{name}{value[name]}".encode()).hexdigest()
    return json.dumps({"crew": value["crew"], **found}).encode()


def summed_read(content: bytes) -> Read:
    found = json.loads(content)
    for name in ("name", "day", "marks"):
        assert found[f"{name}_sum"] == hashlib.md5(f"{name}{found[name]}".encode()).hexdigest(), name
    return found["marks"], found["day"], found["name"]


RECORDS = (
    Format("money in a list in any order", shuffled_write, shuffled_read),
    Format("a dictionary as two lists", lists_write, lists_read),
    Format("elements with keys and values", pairs_write, pairs_read),
    Format("a table with a checksum in every row", rows_write, rows_read, "crc-32"),
    Format("values with their digests", summed_write, summed_read, "md5"),
)


class RecordsTest(SightingsCase):
    def test_what_the_game_showed_is_changed_so_that_it_takes_it(self) -> None:
        self.changed_in_each(RECORDS)


def bag_of(turn: random.Random, held: dict[int, int]) -> bytes:
    """Places for what is carried, as the player sorted it, and a checksum."""
    numbers = turn.sample(sorted(held), len(held))
    records = b"".join(struct.pack("<HBBH", number, 1, 0, held[number]) for number in numbers)
    body = struct.pack("<4sIH", b"BWBG", turn.randrange(1 << 20), 34) + records.ljust(6 * 50, b"\0") + bytes(range(90))
    return body + struct.pack("<I", zlib.crc32(body))


def held_in(content: bytes) -> dict[int, int]:
    assert struct.unpack("<I", content[-4:])[0] == zlib.crc32(content[:-4])
    records = struct.iter_unpack("<HBBH", content[10 : 10 + 6 * 50])
    return {number: many for number, _, _, many in records if number}


class MovingRecordsTest(SightingsCase):
    def test_what_changes_places_is_changed_in_whichever_it_is(self) -> None:
        seed = random.randrange(1 << 32)
        turn = random.Random(seed)
        held = {number: turn.randrange(1, 40) for number in turn.sample(range(100, 900), 20)} | {77: 0, 78: 0}
        saves, ropes, lamps = [], [], []
        for letter in "abcde":
            held |= {77: turn.randrange(300, 900), 78: turn.randrange(1000, 3000), turn.choice(list(held)): 41}
            saves.append(self.folder / f"{letter}.sav")
            saves[-1].write_bytes(bag_of(turn, held))
            now = held_in(saves[-1].read_bytes())
            ropes.append(now[77])
            lamps.append(now[78])
        with self.subTest(seed=seed):
            self.assertTrue(self.pinned("Ropes", list(zip(saves[:4], ropes, strict=False))))
            (path,) = [each["path"] for each in self.json_of("read", saves[3])["fields"] if each["value"] == ropes[3]]
            rows, _, column = path.partition("[")[0], *path.rpartition(".")[1:]
            self.assertTrue(self.json_of("find-seals", *saves, "--accept")["accepted"])
            out = self.folder / "out.sav"  # of a save in which it is elsewhere again
            self.json_of("post", saves[4], "--set", f"{rows}[id=77].{column}=5", "--out", out)
            self.assertEqual(held_in(out.read_bytes()), {**held, 77: 5})
            self.assertTrue(self.pinned("Lamps", list(zip(saves[:4], lamps, strict=False))))  # in the same records
            again = self.folder / "again.sav"
            self.json_of("post", out, "--set", f"{rows}[id=78].{column}=9", "--out", again)
            self.assertEqual(held_in(again.read_bytes()), {**held, 77: 5, 78: 9})
            none = self.folder / "none.sav"
            status, _, said = self.run_command("post", out, "--set", f"{rows}[id=5].{column}=9", "--out", none)
            self.assertEqual((status, none.exists()), (2, False))
            self.assertIn("id=5", said)
            shelf = Shelf()
            self.addCleanup(shelf.close)
            book = shelf.book_of(saves[3])
            assert book is not None
            book.templates.take_back(shelf.open_save(saves[3]), shelf.library(book), f"{rows}[id=77].{column}")
            fields = self.json_of("read", saves[3])["fields"]
            self.assertEqual([each["path"] for each in fields if rows in each["path"]], [])


def lists_of(turn: random.Random, held: dict[int, int]) -> bytes:
    """What is carried in one list, as the player sorted it, and how many of each in another one."""
    items = turn.sample(sorted(held), len(held))
    counts = struct.pack(f"<{len(items)}H", *(held[item] for item in items))
    body = b"BWLI" + turn.randbytes(3) + bytes(items).ljust(64, b"\0") + b"\1\2\3\4" + counts.ljust(128, b"\0")
    return body + struct.pack("<I", zlib.crc32(body))


def held_in_lists(content: bytes) -> dict[int, int]:
    assert struct.unpack("<I", content[-4:])[0] == zlib.crc32(content[:-4])
    counts = struct.unpack_from("<64H", content, 75)
    return {item: count for item, count in zip(content[7:71], counts, strict=True) if item}


class ParallelListsTest(SightingsCase):
    def test_what_is_sorted_in_two_lists_is_changed_wherever_it_is(self) -> None:
        turn = random.Random(random.randrange(1 << 32))
        held = {number: turn.randrange(1, 40) for number in turn.sample(range(100, 250), 20)} | {77: 0, 78: 0}
        saves, ropes, lamps = [], [], []
        for letter in "abcde":
            held |= {77: turn.randrange(300, 900), 78: turn.randrange(1000, 3000), turn.choice(list(held)[:20]): 41}
            saves.append(self.folder / f"{letter}.sav")
            saves[-1].write_bytes(lists_of(turn, held))
            now = held_in_lists(saves[-1].read_bytes())
            ropes.append(now[77])
            lamps.append(now[78])
        self.assertTrue(self.pinned("Ropes", list(zip(saves[:4], ropes, strict=False))))
        self.assertTrue(self.pinned("Lamps", list(zip(saves[:4], lamps, strict=False))))
        self.assertTrue(self.json_of("find-seals", *saves, "--accept")["accepted"])
        out, none = self.folder / "out.sav", self.folder / "none.sav"
        lists = {field["path"].partition("[")[0] for field in self.json_of("read", saves[3])["fields"]}
        (ids,) = (name for name in lists if name.startswith("ids_"))
        (rows,) = (name for name in lists if name.startswith("list_"))
        given = ("--set", f"{rows}[{ids}=77].ropes=5", "--set", f"{rows}[{ids}=78].ropes=9")
        self.json_of("post", saves[4], *given, "--out", out)
        self.assertEqual(held_in_lists(out.read_bytes()), {**held, 77: 5, 78: 9})
        status, _, said = self.run_command("post", out, "--set", f"{rows}[{ids}=5].ropes=9", "--out", none)
        self.assertEqual((status, none.exists()), (2, False))
        self.assertIn(f"no record has {ids}=5", said)
        shelf = Shelf()
        self.addCleanup(shelf.close)
        book = shelf.book_of(saves[3])
        assert book is not None
        for item, left in ((77, ropes[3]), (78, lamps[3])):
            shown = [field["value"] for field in self.json_of("read", saves[3])["fields"]]
            self.assertIn(left, shown)
            book.templates.take_back(shelf.open_save(saves[3]), shelf.library(book), f"{rows}[{ids}={item}].ropes")
        paths = [field["path"] for field in self.json_of("read", saves[3])["fields"]]
        self.assertEqual([path for path in paths if rows in path or ids in path], [])


class KeyedPathsTest(LedgerCase):
    @given(
        st.lists(
            st.tuples(
                st.text('ab]\\"=.é ', min_size=1, max_size=4),
                st.sampled_from(("oil", "rope", "tar")),
                st.integers(0, 9),
            ),
            min_size=1,
            max_size=6,
        ),
        st.randoms(use_true_random=False),
    )
    def test_a_keyed_path_leads_to_the_same_value_wherever_its_record_is(
        self, records: list[tuple[str, str, int]], turn: random.Random
    ) -> None:
        def written(rows: list[tuple[str, str, int]]) -> bytes:
            return json.dumps({"lots": [{"id": key, "item": item, "many": many} for key, item, many in rows]}).encode()

        def said(content: bytes, path: str) -> str:
            document = recognised_text(MemorySource(content))
            assert document is not None
            span = document.at(document.whole, parse_path(path))
            return content[span.start : span.end].decode()

        content, others = written(records), written(turn.sample(records, len(records)))
        document = recognised_text(MemorySource(content))
        assert document is not None
        keyed = KeyedPaths({leaf.path: leaf for leaf in document.leaves()})
        ids = [key for key, _, _ in records]
        for number, (key, _, many) in enumerate(records):
            ways = keyed.of(f"lots[{number}].many", moved=True)
            self.assertEqual(bool([way for way in ways if "id=" in way]), ids.count(key) == 1)
            for way in ways:
                self.assertEqual(said(content, way), str(many))
                self.assertEqual(said(others, way), str(many))

    def test_a_record_that_is_not_there_is_refused_by_its_key(self) -> None:
        content = shuffled_write({"seed": 3, "name": "Maud", "day": 3, "marks": 500, "lots": [], "crew": []})
        document = recognised_text(MemorySource(content))
        assert document is not None
        with self.assertRaisesRegex(LedgerError, "tar"):
            document.at(document.whole, parse_path("carried[type=tar].many"))
