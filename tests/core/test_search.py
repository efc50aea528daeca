"""Searching in a file, and looking for files."""

from __future__ import annotations

import json
import os
import random
import shutil
import struct
import subprocess
import sys
import tempfile
import time
import zlib
from fractions import Fraction
from functools import partial
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.evidence.reading import STORAGES, read_numbers
from faithful_ledger.core.find import content_of, look, parse_since, programs, usual_folders
from faithful_ledger.core.scan import BLOCK, scan
from faithful_ledger.core.search import Hit, search_bytes, search_everywhere, search_group, search_number, search_text
from faithful_ledger.core.source import MemorySource, offsets_of
from tests.support import LedgerCase


class SearchTest(LedgerCase):
    def test_a_number_in_every_storage(self) -> None:
        number = 81_253
        planted = {
            "u32le": struct.pack("<I", number),
            "u24be": number.to_bytes(3, "big"),
            "f32be": struct.pack(">f", number),
            "f64le": struct.pack("<d", number),
            "bcd3": bytes.fromhex("081253"),
            "bcd4le": bytes.fromhex("00081253")[::-1],
            "uleb128": b"\xe5\xfa\x04",
            "digits": b"81253",
            "digits-utf16le": "81253".encode("utf-16-le"),
        }
        for stored_as, raw in planted.items():
            with self.subTest(stored_as=stored_as):
                hits = list(search_number(MemorySource(b"\xaa" * 37 + raw + b"\xaa" * 9), Fraction(number)))
                self.assertIn(Hit(37, stored_as, len(raw)), hits)
        times = list(search_number(MemorySource(b"\xaa" * 5 + struct.pack("<I", number * 100)), Fraction(number)))
        self.assertIn(Hit(5, "u32le", 4, 100), times)
        self.assertIn(
            Hit(1, "f32le", 4), list(search_number(MemorySource(b"\0" + struct.pack("<f", 12.5)), Fraction(25, 2)))
        )
        self.assertIn(Hit(0, "i16be", 2), list(search_number(MemorySource(b"\xff\xfe"), Fraction(-2))))

    def test_digits_within_longer_numbers_are_no_hits(self) -> None:
        for text, expected in ((b"x1340y", 1), (b"13401", 0), (b"91340", 0), (b"1340", 1), (b"1340.00", 1)):
            hits = [hit for hit in search_number(MemorySource(text), Fraction(1340)) if hit.stored_as == "digits"]
            self.assertEqual(len(hits), expected, text)

    @settings(max_examples=60)
    @given(st.integers(0, 1 << 30), st.integers(0, 40))
    def test_every_hit_reads_back_as_the_number(self, number: int, lead: int) -> None:
        import numpy

        rng = random.Random(number)
        data = rng.randbytes(lead) + number.to_bytes(4, "little") + str(number).encode() + rng.randbytes(20)
        for hit in search_number(MemorySource(data), Fraction(number)):
            values, valid = read_numbers(
                STORAGES[hit.stored_as], numpy.frombuffer(data, numpy.uint8), numpy.array([hit.offset])
            )
            if hit.stored_as == "f32le" or hit.stored_as == "f32be":
                self.assertAlmostEqual(float(values[0]) / max(number, 1), 1 if number else 0, places=5)
            elif valid[0] or hit.stored_as not in ("digits", "digits-utf16le", "uleb128"):
                self.assertEqual(int(values[0]), number * hit.scale, hit)

    @settings(max_examples=80)
    @given(
        st.binary(max_size=400), st.lists(st.binary(min_size=1, max_size=6), min_size=1, max_size=8), st.integers(0, 9)
    )
    def test_many_runs_are_found_as_one_by_one(self, data: bytes, runs: list[bytes], lead: int) -> None:
        runs = [*runs, data[lead : lead + 3] or b"x"]
        for repeated in (data, (data + b"\0" * 50) * 3):
            expected = sorted((at, n) for n, run in enumerate(runs) for at in offsets_of(MemorySource(repeated), run))
            found = [
                pair
                for part in scan(MemorySource(repeated), runs)
                for pair in zip(part.offsets.tolist(), part.runs.tolist(), strict=True)
            ]
            self.assertEqual(found, expected)

    def test_a_run_over_the_edge_of_a_block_is_found_once(self) -> None:
        data = bytearray(BLOCK + 100)
        data[BLOCK - 3 : BLOCK + 4] = b"1234567"
        found = list(scan(MemorySource(bytes(data)), [b"1234567", b"567", b"89"]))
        self.assertEqual(
            [(part.offsets.tolist(), part.runs.tolist()) for part in found], [([BLOCK - 3], [0]), ([BLOCK + 1], [1])]
        )

    def test_hits_in_text_saves_have_paths_and_packed_ones_their_layers(self) -> None:
        inner = json.dumps({"ale": 1340, "rum": [7]})
        text = json.dumps({"world": {"divers": [{"air": 61}, {"air": 77}], "cellar": inner, "marks": 1340}}).encode()
        for number, paths in ((77, ["world.divers[1].air"]), (1340, ["world.cellar(text).ale", "world.marks"])):
            hits = search_everywhere(MemorySource(text), partial(search_number, number=Fraction(number)))
            self.assertEqual([hit.path for hit in hits if hit.stored_as == "digits"], paths)
        packed = b"BWK\x01" + zlib.compress(b"\x07" * 30 + struct.pack("<I", 81_253) + b"\x09" * 40)
        hits = list(search_everywhere(MemorySource(packed), partial(search_number, number=Fraction(81_253))))
        self.assertIn(Hit(30, "u32le", 4, layer="zlib at 0x4 (4)"), hits)

    def test_texts_in_every_encoding(self) -> None:
        for codec, name in (
            ("utf-8", "utf-8"),
            ("utf-16-le", "utf-16le"),
            ("utf-16-be", "utf-16be"),
            ("latin-1", "latin-1"),
        ):
            data = b"\x01" * 11 + "Søn".encode(codec)
            self.assertIn((11, name), [(hit.offset, hit.stored_as) for hit in search_text(MemorySource(data), "Søn")])
        self.assertEqual([hit.offset for hit in search_text(MemorySource(b"aaaa"), "aa")], [0, 1, 2])

    def test_groups_in_any_order_and_at_any_distance(self) -> None:
        for size, order, name in ((1, "little", "u8"), (2, "little", "u16le"), (4, "big", "u32be")):
            for distance in (size, size + 3, 40):
                for numbers in ([12, 55, 31], [55, 31, 12]):
                    data = bytearray(random.Random(3).randbytes(400))
                    for step, number in enumerate(numbers):
                        at = 100 + step * distance
                        data[at : at + size] = number.to_bytes(size, order)  # type: ignore[arg-type]
                    hits = list(search_group(MemorySource(bytes(data)), [12, 55, 31]))
                    with self.subTest(name=name, distance=distance):
                        self.assertIn(Hit(100, name, 2 * distance + size), hits)
        self.assertEqual(list(search_group(MemorySource(b"\x01\x01\x02"), [1, 2, 2])), [])
        with self.assertRaises(ValueRefused):
            list(search_group(MemorySource(b"abc"), [1]))

    def test_patterns(self) -> None:
        data = MemorySource(b"\x0a\x01\xff\x0a\x0a\xff\xff")
        self.assertEqual([hit.offset for hit in search_bytes(data, "0A ?? FF")], [0, 3, 4])
        self.assertEqual([hit.offset for hit in search_bytes(data, "0a 0a")], [3])
        for text in ("", "0A?", "xyz", "?? ??", "0"):
            with self.subTest(text=text), self.assertRaises(ValueRefused):
                list(search_bytes(data, text))
        edge = bytearray((1 << 22) + 10)
        edge[(1 << 22) - 1 : (1 << 22) + 2] = b"\x0a\x05\xff"
        self.assertEqual([hit.offset for hit in search_bytes(MemorySource(edge), "0A ?? FF")], [(1 << 22) - 1])


class LookTest(LedgerCase):
    def test_what_a_file_begins_with_and_what_is_told_while_looking(self) -> None:
        rng = random.Random(4)
        for name, data, expected in (
            ("a.txt", "Søn = 1\n".encode() * 20, "text"),
            ("b.dat", bytes(range(40)) * 20, "binary"),
            ("c.dat", rng.randbytes(5000), "packed"),
            ("d.dat", b"", "empty"),
        ):
            (self.folder / name).write_bytes(data)
            self.assertEqual(content_of(self.folder / name), expected, name)
        os.mkfifo(self.folder / "pipe")
        (self.folder / "loop").symlink_to(self.folder)
        self.assertEqual(content_of(self.folder / "pipe"), "")
        self.assertEqual(content_of(self.folder / "none"), "")
        told: list[int] = []
        found = look([self.folder], tell=lambda looked, found: told.append(looked))
        self.assertEqual(told[-1], 6, "four files, a pipe and a link, which is not followed")
        reasons = {candidate.path.name: " ".join(candidate.reasons) for candidate in found}
        self.assertIn("written together with", reasons["b.dat"])
        self.assertNotIn("pipe", reasons)

    def test_what_programs_have_open(self) -> None:
        folder = Path(tempfile.mkdtemp(dir="/tmp"))  # what is in /dev is no save
        self.addCleanup(shutil.rmtree, folder)
        path = folder / "held.sav"
        path.write_bytes(b"x")
        code = "import sys; f = open(sys.argv[1], 'r+b'); print(flush=True); sys.stdin.read()"
        game = subprocess.Popen([sys.executable, "-c", code, str(path)], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
        try:
            assert game.stdout is not None
            game.stdout.readline()
            (found,) = [program for program in programs() if program.pid == game.pid]
            self.assertIn(folder, found.folders)
        finally:
            game.communicate()

    def plant(self, name: str, size: int = 100, age: float = 10 * 86_400) -> Path:
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(bytes(size))
        os.utime(path, (time.time() - age,) * 2)
        return path

    def test_the_save_just_written_comes_first_and_says_why(self) -> None:
        for name in ("game/engine.dat", "game/readme.txt", "game/intro.ogg", "game/logs/run.txt", "cache/saves/x.sav"):
            self.plant(name)
        old = self.plant("game/saves/harbour-1.bwk")
        new = self.plant("game/saves/harbour-2.bwk", age=60)
        found = look([self.folder])
        self.assertEqual([candidate.path for candidate in found[:2]], [new, old])
        self.assertEqual(
            found[0].reasons,
            (
                "changed minutes ago",
                "named like a save",
                "is in a folder for saves",
                "saves often end in .bwk",
                "small",
                "one of 2 alike",
            ),
        )
        names = {candidate.path.name for candidate in found}
        self.assertFalse(names & {"intro.ogg", "run.txt", "x.sav"}, "media, logs and caches are left out")
        everything = {candidate.path.name for candidate in look([self.folder], everything=True)}
        self.assertTrue({"intro.ogg", "run.txt", "x.sav"} <= everything)

    def test_words_time_and_size_narrow_it(self) -> None:
        self.plant("a/Brinewick/slot1.dat", 5000, age=30)
        self.plant("a/Brinewick/slot2.dat", 50, age=7200)
        self.plant("a/Other/slot3.dat", 50, age=30)
        self.assertEqual(len(look([self.folder], "brinewick slot")), 2)
        self.assertEqual([c.path.name for c in look([self.folder], "brinewick", parse_since("10min"))], ["slot1.dat"])
        self.assertEqual({c.path.name for c in look([self.folder], most_size=100)}, {"slot2.dat", "slot3.dat"})

    def test_loops_pipes_and_forbidden_folders_do_not_hold_it_up(self) -> None:
        self.plant("a/save.dat")
        (self.folder / "a" / "loop").symlink_to(self.folder)
        os.mkfifo(self.folder / "a" / "save.pipe")
        (self.folder / "a" / "dead.sav").symlink_to("nowhere")
        found = look([self.folder, self.folder / "a", self.folder / "missing"])
        self.assertEqual([candidate.path.name for candidate in found], ["save.dat"])

    def test_moments_people_mean(self) -> None:
        now = 1_800_000_000.0
        for text, expected in (
            ("10min", now - 600),
            ("2h", now - 7200),
            ("3 d", now - 259_200),
            ("just now", now - 180),
        ):
            self.assertEqual(parse_since(text, now), expected)
        self.assertLessEqual(now - parse_since("today", now), 86_400)
        self.assertEqual(parse_since("1970-01-02T00:00+00:00"), 86_400)
        for text in ("", "soon", "5 apples", "2026-13-01"):
            with self.subTest(text=text), self.assertRaises(ValueRefused):
                parse_since(text)

    def test_the_usual_folders_exist_and_do_not_lie_in_each_other(self) -> None:
        folders = usual_folders()
        for folder in folders:
            self.assertTrue(folder.is_dir())
            self.assertFalse(any(other in folder.parents for other in folders))
