"""The finder of seals: what is planted is found, renews a fresh edit, and nothing is called sure that is not there."""

from __future__ import annotations

import json
import random
import struct
import sys
import zlib
from collections.abc import Callable, Iterable
from dataclasses import replace
from functools import partial
from itertools import combinations, product
from pathlib import Path
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_ledger.core.arranging import insert_record
from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.describe import draft as drafts
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.placed_seals import Placed
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.seal_parts import Part
from faithful_ledger.core.seal_search import SealSearch
from faithful_ledger.core.sealing import seal_found
from faithful_ledger.core.seals import ALGORITHMS, Algorithm, own_bytes
from faithful_ledger.core.seals.crc import CATALOGUE, Crc
from faithful_ledger.core.seals.finder import Edge, Finding, Hints, find_seals
from faithful_ledger.core.seals.finder.chosen import NO_EDGES, Chosen
from faithful_ledger.core.seals.finder.finding import widened
from faithful_ledger.core.seals.finder.kept import Kept
from faithful_ledger.core.seals.finder.numbers import Numbers
from faithful_ledger.core.seals.finder.places import Place, places
from faithful_ledger.core.seals.finder.ranges import Differences, any_range, chains
from faithful_ledger.core.seals.finder.rings import Prefixes, Ranges, polynomials
from faithful_ledger.core.seals.finder.sums import Further, any_sum, summings
from faithful_ledger.core.seals.finder.unknown import polynomials_of, unknown_crc, with_own_start
from faithful_ledger.core.seals.finder.weighted import WEIGHTED, any_weighted
from faithful_ledger.core.seals.hashes import DIGESTS, HASHES, Hash, Lane
from faithful_ledger.core.seals.sums import SUMS
from faithful_ledger.core.template import parse_template
from tests.support import LedgerCase, dice

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


HASHING = Hash.compute


class RenewingCase(LedgerCase):
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


class AnyRangeTest(RenewingCase):
    """Every algorithm that can be searched over any range, at fresh places, with what it sees in its own bytes."""

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
        chosen = dice().sample(names, 9)  # others in each run
        hashes = ("djb2", "times-31", "times-65599")
        planted = [Algorithm(name) for name in (*chosen, "crc-32", *hashes)]
        planted += [Algorithm(name, changed="inverted") for name in hashes]
        for algorithm in planted:
            name = f"{algorithm.name} {algorithm.changed}"
            turn = random.Random(f"range {name}")
            seal = self.plant(turn, algorithm)
            contents = sealed(saves(turn, 2400), seal)
            found, spots = Differences(contents), [each for each in places(contents) if each.mixed]
            hits = [f for place in spots for chain in every for f in any_range(found, place, chain)]
            holding = [each for each in hits if each.checked(contents).holds_in == 4]
            best = max(holding, key=lambda each: each.bits, default=None)
            self.assertTrue(best is not None and self.renews(turn, best, seal, contents[0]), name)

    def test_saves_that_differ_all_over(self) -> None:
        """Packed or enciphered ones, of which three of a megabyte agree in some hundred wrong pairs by chance."""
        (chain,) = (each for each in chains("crc-32") if any(way.name == "crc-32" for way, _, _ in each.known))
        turn, size = dice(), 1 << 20
        for count, at, own in ((3, 8, None), (4, size - 4, "left out"), (2, 8, "zeros")):
            start = turn.randrange(20, 400_000) if own is None else turn.randrange(0, 8)
            seal = Finding(Algorithm("crc-32"), Edge(start), Edge(size - (own is None)), Edge(at), 4, "u32le", own)
            contents: list[bytes] = []
            while any(len({content[at + byte] for content in contents}) < count for byte in range(4)):
                contents = sealed([bytearray(turn.randbytes(size)) for _ in range(count)], seal)
            (place,) = (each for each in places(contents, at) if each.form == "u32le")
            found = [each for each in any_range(Differences(contents), place, chain) if not each.constant_only]
            holding = [each for each in found if each.checked(contents).holds_in == count]
            with self.subTest(count=count, at=at, own=own, start=start):
                self.assertTrue(holding)
                for each in holding:  # at the end of the file one that is left out is one that is not covered
                    self.assertTrue(self.renews(turn, each, seal, contents[0]), each)

    def test_many_ranges_at_once_say_what_each_says(self) -> None:
        turn = dice()
        data = turn.randbytes(700)
        for name in (
            "crc-32",
            "crc-16-xmodem",
            "crc-8-darc",
            "crc-24-openpgp",
            "fnv-1a-64",
            "one-at-a-time",
            "djb2-xor",
            "bsd-16",
            "rotated-sum32",
            "rotated-xor32-by-5",
            "pjw-32",
        ):
            spans = []
            for _ in range(40):
                start = turn.randrange(100)
                at, size = turn.randrange(start, 400), turn.choice([1, 4, 8])
                spans.append(
                    (start, turn.randrange(450, 700), at, size, turn.choice(["zeros", "left out", "FF", "20"]))
                )
            numbers = Numbers(data)
            if name in CATALOGUE:
                columns = list(zip(*spans, strict=True))
                over = Ranges(*(np.array(column) for column in columns[:4]), columns[4])
                states = numbers.crc_states(CATALOGUE[name][0], over).tolist()
                results = [CATALOGUE[name][0].finished(state) for state in states]
            else:
                lanes = [Lane(start, end, at, size, own_bytes(own, 1)) for start, end, at, size, own in spans]
                results = HASHES[name].results_over(data, lanes)
            for (start, end, at, size, own), result in zip(spans, results, strict=True):
                pieces = data[start:at], own_bytes(own, size), data[at + size : end]
                self.assertEqual(result, ALGORITHMS[name](map(memoryview, pieces)), (name, start, end, at, size, own))

    def test_a_short_hash_of_many_bytes_is_found_without_trying_what_chance_explains(self) -> None:
        """Of its 16 bits chance explains thousands of ranges, of which each takes as long as all together."""
        turn = dice()
        slow = HASHES["bsd-16"]
        computed = 0

        def compute(each: Hash, chunks: Iterable[memoryview], state: int) -> int:
            nonlocal computed
            computed += each is slow
            return HASHING(each, chunks, state)

        seal = Finding(ALGORITHMS["bsd-16"], Edge(16), Edge(turn.randrange(6000, 7000)), Edge(8), 2, "u16le")
        contents = sealed([bytearray(turn.randbytes(12_000)) for _ in range(4)], seal)
        with mock.patch.object(Hash, "compute", compute):
            found = find_seals(contents, Hints("bsd-16"))
            alone = find_seals(contents[:1], Hints("bsd-16"))
        self.assertTrue(found and self.renews(turn, found[0], seal, contents[0]))
        self.assertTrue(found[0].sure)
        self.assertFalse(any(each.sure for each in alone))
        self.assertLess(computed, 1000)

    def test_large_tables_say_what_bit_by_bit_says(self) -> None:
        turn, size = dice(), 1 << 16
        data = np.frombuffer(turn.randbytes(size), np.uint8)
        for chain in chains():
            ring = chain.ring
            parts = [ring.carried(data[half], ring.inverses(size)[half]) for half in (slice(None, 9), slice(9, None))]
            with self.subTest(bits=ring.bits, weight=ring.weight):
                self.assertTrue(np.array_equal(ring.carried(data, ring.inverses(size)), np.concatenate(parts)))

    def test_sums(self) -> None:
        for name, each in SUMS.items():
            if each.bits < 16 or not (each.has_differences or each.kind == "weighted"):
                continue
            changes = {"internet": ("",), "xor": ("", "inverted")}.get(each.kind, ("", "negated", "inverted"))
            for changed in changes:
                turn = random.Random(f"sums {name} {changed}")
                seal = self.plant(turn, Algorithm(name, changed=changed), max(each.word, 1 + (each.kind != "sum")))  # type: ignore[arg-type]
                contents = sealed(saves(turn, 2400), seal)
                found, at = Differences(contents), seal.stored.at(2400)
                here = places(contents, at)
                hits = [f for place in here for way in summings() for f in any_sum(found, place, way, Further())]
                hits += [f for place in here for name in WEIGHTED for f in any_weighted(found, place, name)]
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


class FinderTest(RenewingCase):
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

    def test_one_natural_edge_is_enough_where_saves_are_few(self) -> None:
        turn = random.Random(2611)
        cases = [  # how many saves, of how many sizes, from, to, or in front of the end, and what
            (1, 1, 29, Edge(0, True), "crc-32"),
            (1, 1, 16, Edge(1500), "crc-32"),
            (2, 2, 53, Edge(7, True), "crc-32"),
            (2, 2, 61, Edge(0, True), "adler-32"),
            (3, 3, 45, Edge(2, True), "times-31"),
            (3, 3, 33, Edge(0, True), "crc-16-arc"),
            (2, 1, 107, Edge(2345), "crc-32"),
            (2, 1, 108, Edge(2344), "sum32-of-u32be"),
            (2, 1, 60, Edge(0, True), "sum32-of-u16le"),
            (2, 1, 108, Edge(0, True), "xor32"),
            (2, 1, 35, Edge(2001), "adler-32"),
        ]
        for count, sizes, start, end, name in cases:
            width = ALGORITHMS[name].bits // 8
            planted = Finding(Algorithm(name), Edge(start), end, Edge(12), width, f"u{8 * width}le")
            base = saves(turn, 3200, count)
            cut = [save[: 3200 - 77 * (number % sizes)] for number, save in enumerate(base)]
            *known, fresh = sealed([*cut, bytearray(cut[0])], planted)
            found = find_seals(known, Hints(name))
            with self.subTest(case=(count, sizes, start, end, name)):
                self.assertTrue(found)
                edited = bytearray(fresh)
                edited[900:904] = b"edit"
                written = found[0].written(bytes(edited))
                self.assertEqual(found[0].stored.at(len(edited)), 12)
                self.assertEqual(written, planted.written(bytes(edited)))

    def test_a_result_that_stands_a_second_time_with_a_constant(self) -> None:
        turn = dice()
        for name, size, again in (
            ("sum16", 2, lambda number: 0xAA55 - number),
            ("sum32", 4, lambda number: number + 0x1234),
            ("sum32-of-u32le", 4, lambda number: 0xBEEF1234 - number),
            ("xor32", 4, lambda number: number ^ 0x1337BEEF),
            ("crc-16-arc", 2, lambda number: number ^ 0x1234),
            ("crc-32", 4, lambda number: number ^ 0x5A5A1234),
        ):

            def made(name: str = name, size: int = size, again: Callable[[int], int] = again) -> bytes:
                held = turn.randbytes(turn.randrange(100, 300) // 4 * 4)
                number = ALGORITHMS[name]((memoryview(held),))
                second = again(number) % (1 << 8 * size)
                return b"BWSC" + number.to_bytes(size, "little") + second.to_bytes(size, "little") + held

            *saves, fresh = (made() for _ in range(5))
            with self.subTest(name):
                found = {each.stored.offset: each for each in find_seals(saves, Hints(name[:3])) if each.sure}
                self.assertTrue({4, 4 + size} <= set(found), found)
                self.assertTrue(found[4].holds(fresh) and found[4 + size].holds(fresh), found)

    def test_sums_in_which_no_byte_carried_are_in_the_order_of_what_changes_least(self) -> None:
        turn = dice()
        for order in ("<", ">"):
            saves, first = [], turn.randrange(4000, 9000) << 8
            for number in range(4):
                words = [first + turn.randrange(20, 60) * number, turn.randrange(90), 7, turn.randrange(90)]
                made = struct.pack(f"{order}4I", *words)
                saves.append(b"BWOO" + made + struct.pack(f"{order}I", sum(words) + 0x55AA) + bytes(24) + b"quay")
            with self.subTest(order):
                found = [each for each in find_seals(saves, Hints("sum")) if each.stored.offset in range(16, 24)]
                self.assertEqual([each.form[-2:] for each in found[:1]], ["le" if order == "<" else "be"], found)

    def test_a_sign_in_one_save_is_no_digit(self) -> None:
        for text in (b"-9546732", b"+9546732", b" 9546732"):
            for place in places([b'{"hash": 54677324}', b'{"hash": %b}' % text]):
                self.assertTrue(all(0 <= value < 1 << place.bits for value in place.values), place)

    def test_of_words_that_come_to_a_constant_one_is_the_seal(self) -> None:
        """Each of them is the negated sum of the others: only where it is stored tells."""
        turn = dice()
        for name, changed in (("sum32-of-u32le", "inverted"), ("sum16-of-u16le", "negated"), ("xor32", "")):
            for grows in (False, True):
                width = ALGORITHMS[name].bits // 8
                seal = Finding(Algorithm(name, changed=changed), Edge(0), Edge(0, True), Edge(8), width, "", "zeros")  # type: ignore[arg-type]
                seal = replace(seal, form=f"u{8 * width}le")
                made = [save[: 2400 - 48 * number * grows] for number, save in enumerate(saves(turn, 2400))]
                for save in made:
                    save[-80:] = bytes(80)
                    for at in (800, 804, 1200, 1204):  # as restless as the seal, each in one byte
                        save[at] = turn.randrange(256)
                contents = sealed(made, seal)
                found = find_seals(contents, Hints(name), Deadline(30))
                with self.subTest(name=name, grows=grows):
                    self.assertEqual([each.stored.at(2400) for each in found if each.bits > 24], [8])
                    self.assertTrue(self.renews(turn, found[0], seal, contents[0]))
                    self.assertIn("the same holds with the seal at", found[0].freedom)

    def test_of_bytes_that_come_to_zero_the_one_that_mixes_is_the_seal(self) -> None:
        """A count in front of a sum at the end would do as well, and hardly moves."""
        turn = dice()
        for _ in range(5):
            contents, still = [], turn.randbytes(40)
            for number in range(8):
                body = bytes([8 * number + 5]) + turn.randbytes(6) + still
                contents.append(b"BB" + body + bytes([-sum(body) & 255]))
            (found,) = (each for each in find_seals(contents, Hints("sum8")) if each.bits > 24)
            self.assertEqual(found.stored.at(50), 49)
            self.assertIn("the same holds with the seal at 0x2, which is less likely", found.freedom)

    def test_ends_that_the_saves_leave_open_are_not_called_sure(self) -> None:
        for number, form in product((31, 146, 1250, 1255), ("u16le", "u16be")):
            turn = random.Random(number)
            base = turn.randbytes(60_000)
            made = [bytearray(base) for _ in range(4)]
            for save in made:
                for at in (20_000, 25_000, 30_000, 31_000, 40_000):
                    save[at : at + 2] = turn.randbytes(2)
            seal = Finding(Algorithm("xor16"), Edge(9_001), Edge(52_345), Edge(2, True), 2, form)
            with self.subTest(number=number, form=form):
                found = find_seals(sealed(made, seal), Hints("xor16"), Deadline(30))
                self.assertFalse([each for each in found if each.sure])
                self.assertIn("it may begin within", found[0].freedom)

    def test_what_repeats_has_no_checksum(self) -> None:
        """A text of eight words, said again and again, XORs to any of them; what is filled is a sum of what is filled."""
        turn = dice()
        text = turn.randbytes(32)
        for filled in (lambda: text * 5, lambda: bytes([turn.randrange(1, 9)]) * 300):
            saves = [turn.randbytes(60) + turn.randbytes(turn.randrange(9, 90)) + filled() for _ in range(4)]
            found = [each for each in find_seals(saves, end=Deadline(60)) if each.sure]
            self.assertEqual([each.algorithm.name for each in found], [])

    def test_digits_beside_other_digits(self) -> None:
        turn = random.Random(8)
        for name, form, beside in (("sha-1", "hex", b"9"), ("crc-32", "HEX", b"7F"), ("md5", "HEX", b"12AB34")):
            width = ALGORITHMS[name].bits // 4
            seal = Finding(Algorithm(name), Edge(80), Edge(0, True), Edge(20), width, form)
            made = saves(turn, 2400)
            for save in made:
                save[20 - len(beside) : 20] = beside
            contents = sealed(made, seal)
            with self.subTest(name=name):
                (found, *_) = find_seals(contents, Hints(name), Deadline(30))
                self.assertTrue(found.sure and self.renews(turn, found, seal, contents[0]))

    def test_a_byte_in_saves_that_grow(self) -> None:
        turn = random.Random(15)
        seal = Finding(Algorithm("crc-8-itu"), Edge(32), Edge(1, True), Edge(1, True), 1, "u8")
        contents = sealed([save[: 1200 - 36 * number] for number, save in enumerate(saves(turn, 1200))], seal)
        (found, *_) = find_seals(contents, Hints("crc-8-itu"), Deadline(30))
        self.assertEqual((found.start, found.end, found.stored), (seal.start, seal.end, seal.stored))

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


class UnknownPolynomialTest(LedgerCase):
    """CRCs with any polynomial, start and final XOR, from eight saves."""

    @given(st.sampled_from((16, 24, 32, 64)), st.booleans(), st.randoms(use_true_random=False))
    @settings(max_examples=30)
    def test_a_few_prefixes_are_those_of_all(self, width: int, flipped: bool, turn: random.Random) -> None:
        ring = polynomials(width, turn.getrandbits(width) | 1)
        content = turn.randbytes(turn.randrange(1, 5000))
        chosen = np.array([turn.randrange(len(content) + 1) for _ in range(9)])
        few, every = (Prefixes(ring, content, flipped=flipped, few=True) for _ in range(2))
        self.assertEqual(few.at(chosen).tolist(), every.whole[chosen].tolist())
        self.assertNotIn("whole", vars(few))

    def planted(self, turn: random.Random, width: int, *, grown: bool = False) -> tuple[Finding, list[bytes]]:
        reflected = turn.random() < 0.5
        numbers = [turn.getrandbits(width) for _ in range(3)]
        crc = Crc(width, numbers[0] | 1, numbers[1], reflected, reflected, numbers[2])
        size = width // 8
        at = turn.choice([Edge(0), Edge(8), Edge(size, True)])
        end = at if at.from_end else Edge(0, True)
        seal = Finding(Algorithm("crc", crc=crc), Edge(32), end, at, size, f"u{width}{turn.choice(['le', 'be'])}")
        base = bytearray(turn.randbytes(3000))
        found = []
        for number in range(8):
            save = bytearray(base)
            if grown and number > 5:
                save[2000:2000] = bytes(range(7))
            for _ in range(12):
                save[400 + turn.randrange(500)] = turn.randrange(256)
            found.append(save)
        return seal, sealed(found, seal)

    def test_a_value_that_is_stored_twice_leaves_the_polynomial_as_it_is(self) -> None:
        turn = random.Random(23)
        for width, reflected in product((16, 32, 64), (False, True)):
            crc = Crc(width, turn.getrandbits(width) | 1, 5, reflected, reflected)
            seal = Finding(Algorithm("crc", crc=crc), Edge(32), Edge(0, True), Edge(8), width // 8, f"u{width}le")
            base, twice = turn.randbytes(3000), [turn.randbytes(8) for _ in range(8)]
            found = [bytearray(base[:500] + each + base[508:620] + each + base[628:]) for each in twice]
            contents = sealed(found, seal)
            place = next(p for p in places(contents) if (p.edge.at(3000), p.form) == (8, seal.form))
            every = list(polynomials_of(Differences(contents), place, flipped=not reflected))
            self.assertIn(crc.polynomial, every, (width, reflected))

    def test_the_polynomial_and_its_range_are_recovered(self) -> None:
        turn = random.Random(20)
        for width in (16, 24, 32, 64, 16, 32, 64, 32):
            seal, contents = self.planted(turn, width)
            place = next(p for p in places(contents) if (p.edge.at(3000), p.form) == (seal.stored.at(3000), seal.form))
            differences = Differences(contents)
            crc = seal.algorithm.crc
            assert crc is not None
            self.assertIn(crc.polynomial, list(polynomials_of(differences, place, flipped=not crc.reflected)))
            found = max(unknown_crc(differences, place), key=lambda each: each.bits)
            with self.subTest(width=width):
                self.assertGreater(found.bits, 24)
                for _ in range(4):
                    edited = bytearray(contents[turn.randrange(8)])
                    edited[32 + turn.randrange(2900)] ^= turn.randrange(1, 256)
                    self.assertEqual(found.written(bytes(edited)), seal.written(bytes(edited)))

    def test_a_second_size_tells_the_start_from_the_final_xor(self) -> None:
        turn = random.Random(21)
        for width in (16, 32, 64):
            seal, contents = self.planted(turn, width, grown=True)
            alone = contents[:6]
            place = next(p for p in places(alone) if (p.edge.at(3000), p.form) == (seal.stored.at(3000), seal.form))
            best = [max(unknown_crc(Differences(alone), place), key=lambda each: each.bits)]
            solved = [with_own_start(each, contents) for each in best]
            with self.subTest(width=width):
                assert solved[0] is not None
                self.assertTrue(all(map(solved[0].holds, contents)))
                edited = bytearray(contents[7])
                edited[500] ^= 0x5A
                self.assertEqual(solved[0].written(bytes(edited)), seal.written(bytes(edited)))

    def test_numbers_that_only_look_like_one_are_none(self) -> None:
        turn = random.Random(22)
        base = bytearray(turn.randbytes(900))
        contents = []
        for _ in range(8):
            save = bytearray(base)
            save[8:16] = turn.randbytes(8)
            for _ in range(20):
                save[100 + turn.randrange(300)] = turn.randrange(256)
            contents.append(bytes(save))
        differences = Differences(contents)
        for place in [place for place in places(contents) if place.mixed and place.edge.at(900) < 16]:
            for flipped in (True, False):
                self.assertEqual(list(polynomials_of(differences, place, flipped=flipped)), [])


class BlocksTest(LedgerCase):
    """A seal in each of a row of blocks is one rule, whatever the header looks like."""

    def row(self, turn: random.Random, name: str, *, width: int, behind: bool, counted: int) -> bytes:
        algorithm = Algorithm(name)
        size = algorithm.bits // 8
        data = bytearray(turn.randbytes(16))
        for _ in range(turn.randrange(4, 9)):
            content = turn.randbytes(turn.randrange(20, 400))
            stored = algorithm([memoryview(content)]).to_bytes(size, "little")
            length = (len(content) + counted).to_bytes(width, "little")
            data += b"BLK1" + length + (content + stored if behind else stored + content)
        return bytes(data)

    def test_rules_are_found_and_described(self) -> None:
        from faithful_ledger.core.sealing_rules import blocks_found
        from faithful_ledger.core.seals.finder.blocks import find_block_rules
        from faithful_ledger.core.template import parse_template
        from faithful_ledger.core.template.fresh import Shared, new_template

        turn = random.Random(31)
        for name, width, behind, counted in (
            ("sum16", 4, False, 0),
            ("crc-32", 4, True, 0),
            ("crc-16-xmodem", 2, False, 0),
            ("adler-32", 4, False, 12),
            ("fnv-1a-32", 2, True, 0),
        ):
            contents = [self.row(turn, name, width=width, behind=behind, counted=counted) for _ in range(2)]
            with self.subTest(name=name):
                rule = find_block_rules(contents)[0]
                self.assertEqual((rule.algorithm.name, rule.over, rule.holds_in), (name, "content", 2))
                path = self.folder / f"{name}.sav"
                path.write_bytes(contents[0])
                save = open_save(path, None)
                begun = new_template(path, "Brinewick", Shared(1, 0))
                text = drafts.changed(begun, save, partial(blocks_found, rule=rule))
                read = open_save(path, parse_template(text, "blocks"))
                self.assertIsNone(read.problem)
                self.assertEqual(len(read.seals), 2 * len(rule.chain.lengths(contents[0])))
                self.assertTrue(all(state.holds for state in read.seals), text.decode())

    def test_noise_has_no_rule(self) -> None:
        from faithful_ledger.core.seals.finder.blocks import find_block_rules

        turn = random.Random(32)
        self.assertEqual(find_block_rules([turn.randbytes(4000) for _ in range(2)]), [])
        self.assertEqual(find_block_rules([bytes(3000), bytes(3000)]), [])


class NearlyTest(LedgerCase):
    def test_a_save_that_differs_is_named(self) -> None:
        turn = random.Random(41)
        seal = Finding(Algorithm("crc-32"), Edge(16), Edge(0, True), Edge(8), 4, "u32le")
        contents = sealed(saves(turn, 900, 5), seal)
        odd = bytearray(contents[3])
        odd[500] ^= 0x10
        contents[3] = bytes(odd)
        self.assertEqual(find_seals(contents, Hints("crc-32")), [])
        found = SealSearch(contents, Hints("crc-32")).nearly()
        self.assertEqual({each.odd for each in found}, {3})
        best = found[0].placed.finding
        self.assertEqual((best.algorithm.name, best.holds_in, best.of, best.sure), ("crc-32", 4, 5, False))
        self.assertEqual(SealSearch(contents[:3], Hints("crc-32")).nearly(), [])

    def test_a_header_over_what_is_packed_behind_it_may_be_wrong_in_one(self) -> None:
        turn = dice()
        plain = [json.dumps({"marks": turn.randrange(1 << 20), "log": turn.randbytes(300).hex()}) for _ in range(4)]
        odd = turn.randrange(4)
        contents = [
            struct.pack("<4sI", b"BWZ1", zlib.crc32(text.encode()) ^ (number == odd)) + zlib.compress(text.encode())
            for number, text in enumerate(plain)
        ]
        found = SealSearch(contents, Hints("crc-32")).everything()
        self.assertEqual(([each.finding.sure for each in found.seals], found.streams), ([], []))
        (nearly,) = found.nearly
        self.assertEqual((nearly.odd, nearly.placed.at, nearly.placed.is_whole), (odd, 4, True))


class LengthTest(LedgerCase):
    """Numbers that say how long the rest of a file is, among decoys that only grow with it."""

    def planted(self, turn: random.Random, width: int, order: str, *, from_end: bool) -> tuple[list[bytes], int, int]:
        """Saves of four sizes, where the number is (from the beginning or the end), and how much it leaves out."""
        left, at = turn.choice((0, 8, 24, 300)), turn.randrange(4, 90) if not from_end else turn.randrange(8, 60)
        found = []
        for _ in range(4):
            data = bytearray(turn.randbytes(1000 + turn.randrange(1, 900)))
            place = at if not from_end else len(data) - at
            data[place : place + width] = (len(data) - left).to_bytes(width, order)  # type: ignore[arg-type]
            data[200:204] = (len(data) * 3).to_bytes(4, "little")  # grows with the file, and is no length
            found.append(bytes(data))
        return found, at, left

    def test_a_number_that_follows_the_size_is_found_wherever_it_is(self) -> None:
        turn = random.Random(20261126)
        for width, order, from_end in ((2, "le", False), (4, "be", False), (4, "le", True), (8, "be", False)):
            with self.subTest(width=width, order=order, from_end=from_end):
                contents, at, left = self.planted(turn, width, "little" if order == "le" else "big", from_end=from_end)
                found = [each for each in find_seals(contents, Hints("length")) if each.sure]
                at += 4 if width == 8 else 0  # its highest bytes are zeros
                self.assertEqual([(each.stored.offset, each.stored.from_end) for each in found], [(at, from_end)])
                (seal,) = found
                between = left - at - seal.size
                if from_end or between <= 32:
                    self.assertEqual((seal.start, seal.end), (Edge(left), Edge(0, True)))
                else:  # more than a header: it is the length of what is directly behind it
                    self.assertEqual((seal.start, seal.end), (Edge(at + seal.size), Edge(between, True)))
                self.assertEqual(seal.holds_in, 4)
                grown = contents[0][:500] + b"more" + contents[0][500:]
                self.assertFalse(seal.holds(grown))
                place, written = seal.stored.at(len(grown)), seal.written(grown)
                assert written is not None
                self.assertTrue(seal.holds(grown[:place] + written + grown[place + seal.size :]))

    def test_counts_of_records_and_lengths_with_something_added(self) -> None:
        turn = dice()
        for unit, added, width, order in ((24, 0, 2, "le"), (7, 1, 4, "be"), (12, 3, 4, "le"), (1, 16, 4, "le")):
            made, head = [], turn.randrange(20, 60)
            for count in turn.sample(range(300, 2000), 7):
                data = bytearray(turn.randbytes(head + unit * count))
                number = count + added if unit > 1 else len(data) + added
                data[9 : 9 + width] = number.to_bytes(width, "little" if order == "le" else "big")
                made.append(bytes(data))
            with self.subTest(unit=unit, added=added):
                (found, *others) = [each for each in find_seals(made, Hints("length")) if each.sure]
                self.assertEqual((found.algorithm.unit, others), (unit, []))
                grown = made[0] + bytes(5 * unit)
                at, end = found.spans(len(grown))[2], 9 + width
                written = found.written(grown)
                assert written is not None
                renewed = grown[:at] + written + grown[at + found.size :]
                self.assertEqual(int.from_bytes(renewed[9:end], "little" if order == "le" else "big"),
                                 int.from_bytes(grown[9:end], "little" if order == "le" else "big") + 5 * (1 if unit > 1 else unit))  # fmt: skip
                path = self.folder / f"{unit}.sav"
                path.write_bytes(made[0])
                begun = "ledger: 1\nid: t\ntitle: T\nfiles:\n  save:\n    name: '*.sav'\n    layout: []\n"
                save = open_save(path, parse_template(begun.encode(), "t"))
                text = drafts.changed(begun.encode(), save, partial(seal_found, placed=Placed(found, Part((made[0],)))))
                read = open_save(path, parse_template(text, "t"))
                self.assertTrue(all(state.holds for state in read.seals) and read.seals, text.decode())

    def test_what_stays_in_its_place_is_not_in_front_of_what_grows(self) -> None:
        """Of a table and a heap behind it a number says how long the heap is; of a body and a footer, the body."""
        turn = dice()
        table, footer = turn.randbytes(400), turn.randbytes(400)
        bodies = [turn.randbytes(size) for size in turn.sample(range(60, 900), 4)]
        for front, behind, start, end in (
            (table, b"", Edge(412), Edge(0, True)),
            (b"", footer, Edge(12), Edge(400, True)),
        ):
            saves = [b"HEAD\1\0\0\0" + struct.pack("<I", len(body)) + front + body + behind for body in bodies]
            (found,) = [each for each in find_seals(saves, Hints("length")) if each.sure]
            self.assertEqual((found.stored, found.start, found.end), (Edge(8), start, end))

    def test_two_lengths_do_not_hide_each_other(self) -> None:
        turn, made = random.Random(9), []
        for size in (700, 900, 1300, 2000, 650, 888):
            data = bytearray(turn.randbytes(size))
            data[4:8], data[12:16] = size.to_bytes(4, "little"), (size - 16).to_bytes(4, "little")
            made.append(bytes(data))
        found = [each.stored.at(700) for each in find_seals(made, Hints("length")) if each.sure]
        self.assertEqual(sorted(found), [4, 12])

    def test_saves_of_one_size_say_nothing_about_it(self) -> None:
        data = [bytes([number]) * 3 + (400).to_bytes(4, "little") + bytes(393) for number in range(4)]
        self.assertEqual(list(find_seals(data, Hints("length"))), [])

    def test_put_into_a_template_it_follows_when_a_record_comes_in(self) -> None:
        layout = "- {unknown: head, size: 8}\n- {field: count, as: u8, count_of: crew}\n- {rows: crew, count: count, each: {as: u16}}"
        text = "ledger: 1\nid: t\ntitle: T\nfiles:\n  save:\n    name: '*.sav'\n    layout:\n      " + layout.replace(
            "\n", "\n      "
        )
        saves_ = [b"HEAD" + (2 * n + 1).to_bytes(4, "big") + bytes([n]) + bytes(2 * n) for n in (9, 90, 200, 33)]
        path = self.folder / "a.sav"
        path.write_bytes(saves_[0])
        (finding,) = (each for each in find_seals(saves_) if each.sure and each.stored == Edge(4))
        self.assertEqual((finding.algorithm.name, finding.algorithm.unit), ("length", 1))
        save = open_save(path, parse_template(text.encode(), "t"))
        sealed_text = drafts.changed(
            text.encode(), save, lambda draft: seal_found(draft, Placed(finding, Part((saves_[0],))))
        )
        save = open_save(path, parse_template(sealed_text, "t"))
        self.assertTrue(save.in_balance)
        insert_record(save, "crew", 2)
        plan = make_plan(save)
        self.assertTrue(plan.in_balance)
        self.assertEqual(bytes(plan.files[0].patched.read(0, 9)), b"HEAD" + (21).to_bytes(4, "big") + b"\x0a")


class RunningTest(LedgerCase):
    """What is had from running sums and prefixes is what adding everything up gives."""

    @given(st.binary(min_size=24, max_size=300), st.data())
    @settings(deadline=None, max_examples=120)
    def test_every_quick_way_gives_the_same_number(self, content: bytes, data: st.DataObject) -> None:
        start = data.draw(st.integers(0, len(content) - 16))
        end = data.draw(st.integers(start + 16, len(content)))
        size = data.draw(st.sampled_from((1, 2, 4, 8)))
        at = data.draw(st.integers(start, end - size))
        own = data.draw(st.sampled_from((None, "zeros", "left out", "FF", "20")))
        numbers = Numbers(content)
        view = memoryview(content)
        covered = (
            [view[start:end]]
            if own is None
            else [view[start:at], memoryview(own_bytes(own, size)), view[at + size : end]]
        )
        for name, each in ALGORITHMS.items():
            if not each.is_digest:
                self.assertEqual(numbers.of(each, start, end, at, size, own), each(covered), name)
        both = (start, 0), (end, len(content)), (at, 0), (size, 0)
        over = Ranges(*(np.array(part, np.intp) for part in both), (own, None))
        for name in SUMS:
            seen, known = numbers.running.seen(name, over)
            wanted = [ALGORITHMS[name](covered), ALGORITHMS[name]([view])]
            self.assertTrue(known[1] and (known[0] or own is not None))
            self.assertEqual(
                [each for each, is_known in zip(seen.tolist(), known, strict=True) if is_known],
                [each for each, is_known in zip(wanted, known, strict=True) if is_known],
                name,
            )
            plain = numbers.running.plain(name, over.starts, over.ends).tolist()
            self.assertEqual(plain, [ALGORITHMS[name]([view[start:end]]), wanted[1]], name)
            if SUMS[name].kind not in ("internet", "folded"):
                for anchor, is_start in ((start, True), (end, False)):
                    edges, sums = numbers.running.from_edge(name, anchor, is_start=is_start)
                    spans = [(anchor, edge) if is_start else (edge, anchor) for edge in edges.tolist()]
                    self.assertEqual(sums.tolist(), [ALGORITHMS[name]([view[low:high]]) for low, high in spans], name)

    def test_ranges_beside_digits_are_within_a_content_that_has_fewer_of_them(self) -> None:
        turn = dice()
        for _ in range(60):
            lines = [b"%08x %d" % (turn.getrandbits(32), turn.randrange(10 ** turn.randrange(1, 9))) for _ in range(9)]
            content = b"\n".join(lines) + turn.choice((b"", b"\n"))
            at = content.rindex(b" ") + 1
            for size, from_end in product(range(1, 14), (False, True)):
                edge = Edge(len(content) - at, from_end=True) if from_end else Edge(at)
                place = Place(edge, size, "decimal", 32, (1, 2), mixed=True, restless=True)
                for start, end, *_ in Chosen(content, NO_EDGES).at(place):
                    span = start.at(len(content)), end.at(len(content))
                    self.assertTrue(0 <= span[0] < span[1] <= len(content), (content, size, span))

    def test_digests_near_the_end_of_a_large_content_are_those_of_its_bytes(self) -> None:
        turn = dice()
        content = turn.randbytes(30_000)
        numbers, view = Numbers(content), memoryview(content)
        usual = (0, 4, 16, 25_000, 25_904, 25_910, 29_000, 29_984, 30_000)
        for name in (*DIGESTS, "hmac-sha-256"):
            each = Algorithm(name, key=b"quay" if name.startswith("hmac") else b"")
            for start, end in combinations(usual, 2):
                self.assertEqual(numbers.of(each, start, end, 0, 0, None), each([view[start:end]]), (name, start, end))
                at = turn.choice([start, turn.randrange(start, end - 3), end - 4])
                for own in ("zeros", "left out"):
                    covered = [view[start:at], memoryview(own_bytes(own, 4)), view[at + 4 : end]]
                    self.assertEqual(numbers.of(each, start, end, at, 4, own), each(covered), (name, start, end, at))

    @given(st.lists(st.tuples(st.integers(0, 9), st.integers(1, 60)), max_size=40))
    def test_what_is_kept_is_no_more_than_fits(self, asked: list[tuple[int, int]]) -> None:
        kept: Kept[int, bytes] = Kept(100)
        made: list[int] = []
        sizes = dict(asked)
        for key, _ in asked:

            def make(key: int = key) -> bytes:
                made.append(key)
                return bytes(sizes[key])

            before = {each for each in sizes if kept.known(each) is not None}
            self.assertEqual(len(kept.get(key, sizes[key], make)), sizes[key])
            now = {each for each in sizes if kept.known(each) is not None}
            self.assertIn(key, now)
            self.assertLessEqual(sum(sizes[each] for each in now), 100)
            if sum(sizes[each] for each in before | {key}) <= 100:
                self.assertEqual(now, before | {key}, "nothing goes as long as all fits")
        kept.clear()
        self.assertEqual([kept.known(each) for each in sizes], [None] * len(sizes))

    @given(st.binary(min_size=1, max_size=60), st.lists(st.integers(0, 59), min_size=1, max_size=6))
    def test_hashes_that_are_followed_together(self, content: bytes, starts: list[int]) -> None:
        starts = [start for start in starts if start <= len(content)] or [0]
        for name, each in HASHES.items():
            if each.step is None:
                continue
            for start, results in each.results_from(content, starts):
                self.assertEqual(len(results), len(content) - start + 1)
                for count in (0, len(results) // 2, len(results) - 1):
                    direct = ALGORITHMS[name]([memoryview(content)[start : start + count]])
                    self.assertEqual(int(results[count]), direct, (name, start, count))
