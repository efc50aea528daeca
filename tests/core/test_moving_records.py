"""A number in records that change places: made up anew for every seed, and found by what its record says."""

from __future__ import annotations

import random
import struct
import zlib
from typing import NamedTuple

import numpy as np

from faithful_ledger.core.evidence.moving_records import places_in_records
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.evidence.shown import readings
from faithful_ledger.core.storage import number_at
from tests.support import LedgerCase

OWN = 77


class _Bag(NamedTuple):
    """How a game keeps what is carried: in places of one size, each with a number of what it is, and how many."""

    order: str
    item: str
    many: str
    item_first: bool
    more: int
    places: int
    is_gapped: bool

    @classmethod
    def drawn(cls, turn: random.Random) -> _Bag:
        return cls(
            turn.choice("<>"),
            turn.choice("HHI"),
            turn.choice("HHI"),
            turn.random() < 0.7,
            turn.choice((0, 0, 2, 4)),
            turn.randrange(50, 90),
            turn.random() < 0.4,
        )

    def record(self, item: int, many: int, more: bytes) -> bytes:
        parts = struct.pack(self.order + self.item, item), struct.pack(self.order + self.many, many)
        return b"".join(parts if self.item_first else parts[::-1]) + more

    @property
    def size(self) -> int:
        return len(self.record(0, 0, bytes(self.more)))


def _saves(turn: random.Random, bag: _Bag, count: int) -> tuple[list[bytes], list[int]]:
    """Saves between which things come and go, and are put in another order."""
    held = {item: turn.randrange(1, 60) for item in turn.sample(range(100, 900), turn.randrange(12, 30))}
    more = {item: bytes([turn.randrange(3), 0, 0, 0])[: bag.more] for item in range(1000)}
    saves, numbers = [], []
    head, rest = b"BWBG" + turn.randbytes(turn.randrange(4, 40)), turn.randbytes(200)
    for _ in range(count):
        del held[turn.choice([item for item in held if item != OWN])]
        held |= {item: turn.randrange(1, 60) for item in turn.sample(range(100, 900), 2)}
        held[OWN] = turn.randrange(300, 900)
        items = turn.sample(sorted(held), len(held))
        taken = sorted(turn.sample(range(len(items) + 8), len(items))) if bag.is_gapped else range(len(items))
        records = [bytes(bag.size)] * bag.places
        for place, item in zip(taken, items, strict=True):
            records[place] = bag.record(item, held[item], more[item])
        numbers.append(held[OWN])
        saves.append(head + struct.pack("<H", turn.randrange(1 << 16)) + b"".join(records) + rest)
    return saves, numbers


def _read(save: bytes, place: Place) -> int | None:
    """What a save says in the record with the key of a place; nothing where none or several have it."""
    records = place.records
    assert records is not None
    end = len(save) if records.to_end else records.start + records.many * records.size
    starts = range(records.start, end, records.size)
    keys = [save[at + records.key_at : at + records.key_at + len(records.key)] for at in starts]
    if keys.count(records.key) != 1:
        return None
    return number_at(save, starts[keys.index(records.key)] + records.within, place.stored_as)


class MovingRecordsTest(LedgerCase):
    def test_the_number_is_found_in_whichever_record_it_is(self) -> None:
        seed = random.randrange(1 << 32)
        turn = random.Random(seed)
        missed = []
        for number in range(40):
            bag = _Bag.drawn(turn)
            saves, numbers = _saves(turn, bag, 5)
            (seen, *_) = readings([str(each) for each in numbers[:4]])
            found = places_in_records([np.frombuffer(each, np.uint8) for each in saves[:4]], seen)
            if not found or found[0].records is None or _read(saves[4], found[0]) != numbers[4]:
                missed.append(number)  # among bytes that happen to be alike in four saves another record may be seen
        self.assertLessEqual(len(missed), 2, f"seed {seed}: {missed}")

    def test_values_under_hashes_of_their_names_in_order(self) -> None:
        """A list to the end of the file, which gets longer: its first record and the width of its keys are seen."""
        seed = random.randrange(1 << 32)
        turn = random.Random(seed)
        for number in range(20):
            kept = {f"flag {each}": turn.randrange(2) for each in range(turn.randrange(30, 60))}
            head = b"BWHL" + struct.pack("<I", 1) + b"Oriel".ljust(turn.randrange(16, 40), b"\0")
            mark, order = turn.choice((b"", b"\xff" * 8)), turn.choice("<>")
            saves, numbers = [], []
            for day in range(5):
                kept |= {f"lot {turn.randrange(1000)}": turn.randrange(1, 60) for _ in range(turn.randrange(1, 6))}
                kept["marks"] = 4000 + 1000 * day + turn.randrange(900)
                keyed = sorted((zlib.crc32(name.encode()), value) for name, value in kept.items())
                saves.append(head + b"".join(struct.pack(f"{order}II", *each) for each in keyed) + mark)
                numbers.append(kept["marks"])
            (seen, *_) = readings([str(each) for each in numbers[:4]])
            found = places_in_records([np.frombuffer(each, np.uint8) for each in saves[:4]], seen)
            marks = struct.pack(f"{order}I", zlib.crc32(b"marks"))
            if len({save.index(marks) for save in saves[:4]}) == 1:
                continue  # nothing came in front of it
            with self.subTest(seed=seed, number=number):
                assert found and found[0].records is not None
                records = found[0].records
                self.assertEqual((records.start, records.size, len(records.key)), (len(head), 8, 4))
                self.assertTrue(records.to_end)
                self.assertEqual(_read(saves[4], found[0]), numbers[4] & 0xFFFF if order == "<" else numbers[4])

    def test_nothing_is_found_where_no_record_says_whose_the_number_is(self) -> None:
        seed = random.randrange(1 << 32)
        turn = random.Random(seed)
        for number in range(40):
            numbers = [turn.randrange(100, 9000) for _ in range(4)]
            saves = []
            for each in numbers:
                content = bytearray(turn.randbytes(300) + bytes(300) + struct.pack("<400H", *range(400)))
                at = 2 * turn.randrange(400)
                content[at : at + 2] = struct.pack("<H", each)
                saves.append(np.frombuffer(bytes(content), np.uint8))
            (seen, *_) = readings(list(map(str, numbers)))
            with self.subTest(seed=seed, number=number):
                self.assertEqual(places_in_records(saves, seen), [])

    def test_what_moves_because_something_in_front_is_longer_is_in_no_other_record(self) -> None:
        seed = random.randrange(1 << 32)
        turn = random.Random(seed)
        for number in range(40):
            size, numbers = turn.randrange(4, 12), [turn.randrange(100, 9000) for _ in range(4)]
            table = [struct.pack("<H", 10 + each) + turn.randbytes(size - 2) for each in turn.sample(range(600), 40)]
            saves = []
            for each in numbers:
                table[17] = struct.pack("<HH", 7, each) + bytes(size - 4)
                head = b"BWLG" + b"Tamsin" * turn.randrange(4) + b"Jory" * turn.randrange(4)
                saves.append(np.frombuffer(head + b"".join(table) + turn.randbytes(300), np.uint8))
            (seen, *_) = readings(list(map(str, numbers)))
            with self.subTest(seed=seed, number=number):
                self.assertEqual(places_in_records(saves, seen), [])
