"""A number in a list beside another one that says what it is of: made up anew, and found wherever it is."""

from __future__ import annotations

import random
import struct

import numpy as np

from faithful_ledger.core.evidence.parallel_lists import places_in_lists
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.evidence.shown import readings
from faithful_ledger.core.storage import number_at
from tests.support import LedgerCase

OWN = 77


class Bag:
    """What is carried: as many numbers of what it is, and in another list how many there are."""

    def __init__(self, turn: random.Random) -> None:
        self.turn = turn
        self.item, self.many = turn.choice(("B", "<H", ">H")), turn.choice(("B", "<H", ">H", "<I"))
        self.places = turn.randrange(24, 70)
        largest = 255 if self.item == "B" else 900
        self.held = {item: turn.randrange(1, 60) for item in turn.sample(range(100, largest), turn.randrange(9, 18))}
        self.head, self.between, self.rest = (
            turn.randbytes(turn.randrange(9, 40)),
            turn.randbytes(12),
            turn.randbytes(99),
        )
        self.is_item_first = turn.random() < 0.6

    def save(self, own: int, *, ordered: bool = False) -> bytes:
        for item in self.turn.sample(sorted(self.held), 2):
            self.held[item] = self.turn.randrange(1, 60)
        held = {**self.held, OWN: own}
        items = sorted(held) if ordered else self.turn.sample(sorted(held), len(held))
        lists = [
            b"".join(struct.pack(form, number) for number in numbers).ljust(self.places * struct.calcsize(form), b"\0")
            for form, numbers in ((self.item, items), (self.many, [held[item] for item in items]))
        ]
        first, second = lists if self.is_item_first else lists[::-1]
        return self.head + self.turn.randbytes(4) + first + self.between + second + self.rest


def found_in(saves: list[bytes], numbers: list[int]) -> list[Place]:
    (seen, *_) = readings([str(each) for each in numbers])
    return places_in_lists([np.frombuffer(each, np.uint8) for each in saves], seen)


def read(save: bytes, place: Place) -> int | None:
    """What a save says beside the key of a place; nothing where none or several are the key."""
    records = place.records
    assert records is not None
    assert records.keys is not None
    width = len(records.key)
    keys = [save[at : at + width] for at in range(records.keys, records.keys + records.many * width, width)]
    if keys.count(records.key) != 1:
        return None
    return number_at(save, records.start + keys.index(records.key) * records.size, place.stored_as)


class ParallelListsTest(LedgerCase):
    def test_the_number_is_found_wherever_it_is_in_its_list(self) -> None:
        turn = random.Random(random.randrange(1 << 32))
        missed = []
        for number in range(40):
            bag = Bag(turn)
            numbers = turn.sample(range(60, 250), 5)
            saves = [bag.save(each) for each in numbers]
            found = found_in(saves[:4], numbers[:4])
            if not found or read(saves[4], found[0]) != numbers[4]:
                missed.append(number)
        self.assertLessEqual(len(missed), 2, missed)

    def test_nothing_is_found_where_nothing_is_sorted_anew_or_nothing_says_what_it_is(self) -> None:
        turn = random.Random(random.randrange(1 << 32))
        for number in range(40):
            bag = Bag(turn)
            numbers = turn.sample(range(60, 250), 4)
            with self.subTest(number=number):
                self.assertEqual(found_in([bag.save(each, ordered=True) for each in numbers], numbers), [])
                alone = []
                for each in numbers:
                    content = bytearray(turn.randbytes(200) + bytes(100) + bytes(range(250)) * 2)
                    content[turn.randrange(300)] = each
                    alone.append(bytes(content))
                self.assertEqual(found_in(alone, numbers), [])
