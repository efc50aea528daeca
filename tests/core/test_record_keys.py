"""Records with a part under a key of their own: made up anew for every seed, found, opened and hidden again."""

from __future__ import annotations

import random
import struct
from functools import reduce
from typing import NamedTuple

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.layers import LayerSpec
from faithful_ledger.core.layers.generators import GENERATORS, Generator
from faithful_ledger.core.layers.record_keys import RecordKeys
from faithful_ledger.core.layers.scrambling import OF_RECORDS, Scrambling, scramble, unscramble, wrong_key
from faithful_ledger.core.profile.record_keys import find_record_keys
from faithful_ledger.core.wrapping import unwrap
from tests.support import LedgerCase

NAMES = (b"Tamsin", b"Oriel", b"Maud", b"Piran", b"Jory", b"Wenna", b"Kerra", b"Bram")
ENDLESS = [each for each in GENERATORS if each[2] == 0]


class _Made(NamedTuple):
    """Saves as they are once the records are opened, and as they are stored."""

    plain: list[bytes]
    stored: list[bytes]


def _number(turn: random.Random) -> bytes:
    """A number as records have them: nothing, a little, or a lot."""
    return struct.pack("<H", turn.choice((0, 0, turn.randrange(200), turn.randrange(1 << 14))))


def _xored(data: bytes, mask: bytes) -> bytes:
    return bytes(a ^ b for a, b in zip(data, mask, strict=False))


class _Crew:
    """Divers of whom each has a record; most of what these hide stays from save to save."""

    def __init__(self, turn: random.Random, *, is_generated: bool) -> None:
        self.turn, self.is_generated = turn, is_generated
        self.numbers = turn.choice(ENDLESS)
        self.width = turn.randrange(20, 48)
        self.apart, self.uneven = bytes(turn.choice((0, 0, 4))), turn.choice((0, 2))
        self.behind, self.empty = turn.randrange(8), turn.randrange(3)
        self.divers = [(turn.randbytes(4), turn.randbytes(4), turn.choice(NAMES)) for _ in range(turn.randrange(3, 9))]
        self.is_full = turn.random() < 0.25  # only the higher halves of numbers are ever zero
        self.bodies = [[self.number(each) for each in range(2 * self.width)] for _ in self.divers]

    def number(self, half: int) -> bytes:
        if not self.is_full:
            return _number(self.turn)
        return struct.pack(
            "<H", self.turn.choice((0, 0, self.turn.randrange(99))) if half % 2 else self.turn.randrange(1, 999)
        )

    def played(self) -> None:
        for body in self.bodies:
            for _ in range(3):
                half = self.turn.randrange(len(body))
                body[half] = self.number(half)

    def records(self, *, hidden: bool) -> bytes:
        """All records and the empty places behind them."""
        found = []
        for (one, other, name), numbers in zip(self.divers, self.bodies, strict=True):
            body = b"".join(numbers)
            total = struct.pack("<H", sum(struct.unpack(f"<{len(body) // 2}H", body)) & 0xFFFF)
            tail = bytes([len(name), 0]) * self.behind
            if self.is_generated:
                head, tail = total, tail + one + bytes(2)
                generator = Generator(*self.numbers, taken=2, first=2, seed_size=2)
                mask = generator.stream(head, len(body)).tobytes()
            else:
                head = one + self.apart + other + name.ljust(10 + self.uneven, b"\0") + total
                mask = _xored(one, other) * self.width
            found.append(head + (_xored(body, mask) if hidden else body) + tail)
        return b"".join(found) + bytes(self.empty * len(found[0]))


def _made(turn: random.Random) -> _Made:
    """Four saves of a crew, and often of another one on the quay, whose records have another size."""
    is_generated = turn.random() < 0.5
    crews = [_Crew(turn, is_generated=is_generated) for _ in range(turn.choice((1, 2)))]
    front = b"BWRK" + turn.randbytes(3) + bytes(2 * turn.randrange(2, 9) + 1)
    made = _Made([], [])
    for save in range(4):
        for crew in crews:
            crew.played()
        for saves, hidden in ((made.plain, False), (made.stored, True)):
            parts = [crew.records(hidden=hidden) + b"\1\0\0\0" * 40 for crew in crews]
            saves.append(front + struct.pack("<HH", save, len(crews)) + b"".join(parts))
    return made


def _decoy(turn: random.Random) -> list[bytes]:
    """Four saves with tables of numbers, identifiers, fractions and texts, of which nothing is hidden."""
    count = turn.randrange(10, 60)
    known = [(turn.getrandbits(32), turn.choice(NAMES), turn.uniform(0, 300)) for _ in range(count)]
    saves = []
    for _ in range(4):
        turn.shuffle(known)
        rows = [
            struct.pack("<II10sHffI", each, each ^ 0x5A5A0000, name, turn.randrange(99), where, where, count)
            for each, name, where in known
        ]
        saves.append(b"BWTB" + struct.pack("<I", count) + b"".join(rows) + bytes(64))
    return saves


class RecordKeysTest(LedgerCase):
    def test_what_is_hidden_in_records_is_opened_and_hidden_again(self) -> None:
        seed = random.randrange(1 << 32)
        turn = random.Random(seed)
        missed = []
        for number in range(40):
            made = _made(turn)
            found = find_record_keys(made.stored)
            ways = [Scrambling(OF_RECORDS, each.key, 0.0) for each in found[0]] if found else []
            if [reduce(unscramble, ways, each) for each in made.stored] != made.plain:
                missed.append(number)
            for stored in made.stored:  # nothing is lost, whatever was found
                self.assertEqual(reduce(scramble, ways[::-1], reduce(unscramble, ways, stored)), stored)
        self.assertLessEqual(len(missed), 1, f"seed {seed}: {missed}")

    def test_nothing_is_found_in_tables_noise_and_what_is_too_short(self) -> None:
        seed = random.randrange(1 << 32)
        turn = random.Random(seed)
        for number in range(40):
            with self.subTest(seed=seed, number=number):
                self.assertEqual(find_record_keys(_decoy(turn)), [])
                noise = [turn.randbytes(turn.randrange(3000)) for _ in range(4)]
                self.assertEqual(find_record_keys(noise), [])
                self.assertEqual(find_record_keys([each[: turn.randrange(40)] for each in _made(turn).stored]), [])

    def test_a_key_that_cannot_be_is_refused_with_a_reason(self) -> None:
        good = RecordKeys(32, 90, 6, 32, 80, 0, 4, 4)
        self.assertEqual(wrong_key(OF_RECORDS, good.key), "")
        for change, why in (
            ({"first": 80}, "within a record"),
            ({"end": 91}, "within a record"),
            ({"records": 0}, "at least one"),
            ({"size": 70}, "within a record"),
            ({"other_at": 40}, "not within what it hides"),
            ({"key_size": 0}, "1 to 16 bytes"),
            ({"key_at": 88}, "1 to 16 bytes"),
            ({"generator": Generator(5, 1, first=9)}, "from the first hidden one on"),
        ):
            with self.subTest(change=change):
                self.assertIn(why, wrong_key(OF_RECORDS, good._replace(**change).key))
        self.assertIn("has 29, 47, 48 bytes, not 3", wrong_key(OF_RECORDS, b"\1\2\3"))
        beyond = LayerSpec(OF_RECORDS, good._replace(start=1 << 31, records=1 << 31).key)
        self.assertEqual(unwrap(bytes(100), (beyond,))[-1].data, bytes(100))
        with self.assertRaises(LedgerError):
            unwrap(bytes(100), (LayerSpec(OF_RECORDS, b"\1"),))
