"""Hashes that begin with a number of the game's own, or multiply by one: found, and right in a save made afterwards."""

from __future__ import annotations

import random
import struct
import unittest
from collections.abc import Callable

from faithful_ledger.core.deadline import NEVER
from faithful_ledger.core.seals import Algorithm
from faithful_ledger.core.seals.algorithms import TIMES
from faithful_ledger.core.seals.finder import Hints, find_seals
from faithful_ledger.core.seals.finder.chosen import NO_EDGES
from faithful_ledger.core.seals.finder.own_hashes import with_own_hashes
from faithful_ledger.core.seals.finder.places import places
from tests.support import LedgerCase, dice

OWN = (
    Algorithm(TIMES, multiplier=131),
    Algorithm(TIMES, multiplier=0x19660D, start=0x2545F491),
    Algorithm("times-31", start=17),
    Algorithm("djb2", start=0),
    Algorithm("djb2-xor", start=7),
    Algorithm("fnv-1-32", start=0),
    Algorithm("fnv-1a-32", start=0xBEEF1234),
    Algorithm("fnv-1a-64", start=0xBE11_0000_0000_1234),
    Algorithm("one-at-a-time", start=0x9747B28C),
    Algorithm("rotated-sum32", start=0x1234),
    Algorithm("murmur3-32", start=0x9747B28C),
    Algorithm("xxhash-32", start=42),
    Algorithm("xxh3-64", start=7),
)


def body(turn: random.Random, size: int) -> bytes:
    """What a game may write: numbers, records, and zeros."""
    head = struct.pack("<IIHH", turn.randrange(1 << 20), turn.randrange(400), turn.randrange(9), 0)
    lots = b"".join(struct.pack("<HBB", turn.randrange(90), turn.randrange(40), 0) for _ in range(size // 5))
    return (head + lots).ljust(size, b"\0")


def behind(made: Algorithm, held: bytes) -> bytes:
    size = made.bits // 8
    return b"BWHH" + made((memoryview(held),)).to_bytes(size, "little") + held


def in_front(made: Algorithm, held: bytes) -> bytes:
    return held + made((memoryview(held),)).to_bytes(made.bits // 8, "big")


def zeroed(made: Algorithm, held: bytes) -> bytes:
    size = made.bits // 8
    whole = b"BWHH" + bytes(size) + held
    return whole[:4] + made((memoryview(whole),)).to_bytes(size, "little") + held


def left_out(made: Algorithm, held: bytes) -> bytes:
    size = made.bits // 8
    whole = b"BWHH" + held
    return whole[:4] + made((memoryview(whole),)).to_bytes(size, "little") + held


WAYS: tuple[Callable[[Algorithm, bytes], bytes], ...] = (behind, in_front, zeroed, left_out)


class OwnHashesTest(LedgerCase):
    def test_a_fresh_save_gets_the_hash_that_the_game_writes(self) -> None:
        turn = dice()
        unnamed = turn.sample(OWN, 3)  # looked for among all others
        for made in OWN:
            copies = 4 if made.name == TIMES and made.multiplier > 1 << 16 else turn.choice((2, 3, 4))
            way, alike, named = turn.choice(WAYS), turn.random() < 0.3, "" if made in unnamed else made.name
            with self.subTest(algorithm=made, way=way.__name__, copies=copies, alike=alike, named=named):
                sizes = [turn.randrange(60, 900) // 4 * 4 for _ in range(copies + 1)]
                sizes = [sizes[0]] * (copies + 1) if alike else sizes
                *saves, fresh = (way(made, body(turn, size)) for size in sizes)
                found = [each for each in find_seals(saves, Hints(named)) if each.algorithm.bits == made.bits]
                self.assertTrue((found and found[0].sure) or copies == 2, found[:2])
                self.assertTrue(found and found[0].holds(fresh), found[:2])

    def test_saves_without_one_have_none(self) -> None:
        turn = dice()
        for copies in (2, 3, 4):
            saves = [turn.randbytes(8) + body(turn, 300) + turn.randbytes(12) for _ in range(copies)]
            found = with_own_hashes(saves, places(saves), NEVER, NO_EDGES)
            self.assertEqual([], [each for each in found if each.is_likely or each.sure])


if __name__ == "__main__":
    unittest.main()
