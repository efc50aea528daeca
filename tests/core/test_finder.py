"""The finder of seals: what is planted is found, renews a fresh edit, and nothing is called sure that is not there."""

from __future__ import annotations

import random
import struct
import sys
from pathlib import Path

from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.seals import Algorithm
from faithful_ledger.core.seals.crc import CATALOGUE, Crc
from faithful_ledger.core.seals.finder import Edge, Finding, Hints, find_seals
from faithful_ledger.core.seals.finder.finding import widened
from faithful_ledger.core.seals.finder.places import places
from faithful_ledger.core.seals.finder.ranges import Differences, any_range, chains
from faithful_ledger.core.seals.finder.sums import any_sum, summings
from faithful_ledger.core.seals.sums import SUMS
from tests.support import LedgerCase

sys.path.insert(0, str(Path(__file__).parents[2] / "benchmarks"))
import seal_trials


def saves(turn: random.Random, size: int, count: int = 4) -> list[bytearray]:
    """Records of one game, of which each save changes some."""
    rows = (struct.pack("<IHHf", turn.randrange(900), n % 50, turn.randrange(3), n / 7) for n in range(size // 12 + 1))
    base = b"".join(rows)[:size]
    found = []
    for _ in range(count):
        save = bytearray(base)
        for _ in range(30):
            save[turn.randrange(size)] = turn.randrange(256)
        found.append(save)
    return found


def sealed(found: list[bytearray], *seals: Finding) -> list[bytes]:
    """The same with seals, the inner ones first."""
    for save in found:
        for seal in seals:
            at = seal.stored.at(len(save))
            written = seal.written(bytes(save))
            assert written is not None
            save[at : at + seal.size] = written
    return [bytes(save) for save in found]


class AnyRangeTest(LedgerCase):
    """Every algorithm that can be searched over any range, at fresh places, with what it sees in its own bytes."""

    def renews(self, turn: random.Random, found: Finding, seal: Finding, save: bytes) -> bool:
        start, end, at = seal.spans(len(save))
        for _ in range(4):
            edited = bytearray(save)
            where = turn.randrange(start, end)
            if at <= where < at + seal.size:
                continue
            edited[where] ^= turn.randrange(1, 256)
            if found.spans(len(save))[2] != at or found.written(bytes(edited)) != seal.written(bytes(edited)):
                return False
        return True

    def plant(self, turn: random.Random, algorithm: Algorithm, word: int = 1) -> Finding:
        size, width = 2400, algorithm.bits // 8
        at = turn.choice([8, size - width, turn.randrange(300, 2000)])
        kind = turn.choice(["whole", "behind", "before", "within"])
        ends = {"whole": (0, size), "behind": (at + width, size), "before": (0, at)}
        start, end = ends.get(kind, (turn.randrange(20, 200), turn.randrange(2100, 2300)))
        end -= (end - start) % word
        if end - start < 400:
            start, end = 0, size
        covers = start < at + width and at < end
        if covers and not (start <= at and at + width <= end):
            start, end = 0, size
        own = turn.choice(["zeros", "left out", "FF"] if word == 1 else ["zeros"]) if covers else None
        order = turn.choice(["le", "be"])
        return Finding(algorithm, Edge(start), Edge(end), Edge(at), width, f"u{8 * width}{order}", own)

    def test_crcs_and_multiplying_hashes(self) -> None:
        every = chains()
        names = [name for name, (crc, _) in CATALOGUE.items() if crc.width >= 16]
        chosen = random.Random().sample(names, 9)  # others in each run
        for name in (*chosen, "crc-32", "djb2", "times-31", "times-65599"):
            turn = random.Random(f"range {name}")
            seal = self.plant(turn, Algorithm(name))
            contents = sealed(saves(turn, 2400), seal)
            found, spots = Differences(contents), [each for each in places(contents) if each.mixed]
            hits = [f for place in spots for chain in every for f in any_range(found, place, chain)]
            holding = [each for each in hits if each.checked(contents).holds_in == 4]
            best = max(holding, key=lambda each: each.bits, default=None)
            self.assertTrue(best is not None and self.renews(turn, best, seal, contents[0]), name)

    def test_sums(self) -> None:
        for name, each in SUMS.items():
            if each.bits < 16:
                continue
            for changed in ("", "negated", "inverted") if each.kind == "sum" else ("",):
                turn = random.Random(f"sums {name} {changed}")
                seal = self.plant(turn, Algorithm(name, changed=changed), max(each.word, 1 + (each.kind != "sum")))  # type: ignore[arg-type]
                contents = sealed(saves(turn, 2400), seal)
                found, at = Differences(contents), seal.stored.at(2400)
                hits = [f for place in places(contents, at) for way in summings() for f in any_sum(found, place, way)]
                holding = [widened(each, contents) for each in hits if each.checked(contents).holds_in == 4]
                best = max(holding, key=lambda each: each.bits, default=None)
                self.assertTrue(best is not None and self.renews(turn, best, seal, contents[0]), (name, changed))

    def test_a_crc_of_no_catalogue_is_recovered_up_to_its_constants(self) -> None:
        turn = random.Random(77)
        crc = Crc(32, 0x04C11DB7, 0x13572468, True, True, 0xABCDEF01)
        seal = Finding(Algorithm("crc", crc=crc), Edge(16), Edge(2000), Edge(8), 4, "u32le")
        contents = sealed(saves(turn, 2400), seal)
        (found, *_) = find_seals(contents, Hints(stored_at=8), Deadline(30))
        self.assertTrue(found.constant_only)
        self.assertTrue(self.renews(turn, found, seal, contents[0]) or "its start may be" in found.freedom)


class FinderTest(LedgerCase):
    def test_planted_seals_of_every_kind_renew_a_fresh_edit(self) -> None:
        right = wrong = 0
        missed = []
        for number in range(5):
            turn = random.Random(f"finder {number}")
            planted = seal_trials.plant(turn, (1024, 1500))
            outcome = seal_trials.outcome(planted, turn)
            right, wrong = right + outcome.right, wrong + outcome.wrong_sure
            missed += [] if outcome.right else [planted.seal]
        self.assertGreaterEqual(right, 4, missed)
        self.assertEqual(wrong, 0)

    def test_a_seal_within_another_and_noise(self) -> None:
        turn = random.Random(31)
        inner = Finding(Algorithm("crc-32"), Edge(16), Edge(2, True), Edge(8), 4, "u32be")
        outer = Finding(Algorithm("sum16"), Edge(0), Edge(2, True), Edge(2, True), 2, "u16le")
        found = find_seals(sealed(saves(turn, 2400), inner, outer))
        self.assertEqual([(f.algorithm.name, f.spans(2400), f.sure) for f in found[:2]],
                         [("crc-32", (16, 2398, 8), True), ("sum16", (0, 2398, 2398), True)])  # fmt: skip
        plain = [bytes(save) for save in saves(turn, 2400)]
        noise = [turn.randbytes(600) for _ in range(4)]
        for decoys in (plain, noise, [b"x" * 600] * 4, [b""] * 2, [b"ab"]):
            self.assertEqual([each for each in find_seals(decoys, end=Deadline(5)) if each.sure], [])

    def test_hints_and_a_key_narrow_it(self) -> None:
        turn = random.Random(8)
        seal = Finding(Algorithm("hmac-sha-1", key=b"brine"), Edge(0), Edge(20, True), Edge(20, True), 20, "bytes")
        contents = sealed(saves(turn, 1500), seal)
        self.assertEqual([each for each in find_seals(contents, end=Deadline(5)) if each.sure], [])
        (found,) = find_seals(contents, Hints(key=b"brine"), Deadline(20))
        self.assertEqual((found.algorithm.name, found.spans(1500)), ("hmac-sha-1", (0, 1480, 1480)))
        self.assertEqual(find_seals(contents, Hints(key=b"brine", stored_at=9), Deadline(20)), [])
        end = Deadline(20)
        end.cancel()
        self.assertEqual(find_seals(contents, end=end), [])
