"""Locate on made-up saves with the difficulties of whole families of games: the true spot is first in each."""

from __future__ import annotations

import random
import struct
import sys
import zlib
from pathlib import Path
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.evidence import locate, parse_sighting
from faithful_ledger.core.inside import look_inside
from faithful_ledger.core.layers import SCRAMBLINGS
from faithful_ledger.core.layers.generators import GENERATORS, Generator
from faithful_ledger.core.layers.scrambling import GENERATED, KEYED, OF_RECORDS, Scrambling, scramble
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.profile.descrambling import PORTIONS, find_descramblings
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.template import parse_template
from faithful_ledger.core.template.extend import with_place
from faithful_ledger.core.template.fresh import Shared
from tests.support import LedgerCase

sys.path.insert(0, str(Path(__file__).parents[2] / "benchmarks"))
import trials

PER_CENT = 96
BLOCK = 512


class TrialsTest(LedgerCase):
    def test_the_true_spot_is_first_in_every_kind_of_save(self) -> None:
        with mock.patch.object(trials, "SECONDS", 300.0):  # the machine may be busy
            answers = [(kind, seed, trials.answer(kind, seed)) for kind in trials.KINDS for seed in (1,)]
        wrong = [(kind, seed, answer) for kind, seed, answer in answers if answer.rank != 1]
        self.assertLessEqual(len(wrong), len(answers) * (100 - PER_CENT) / 100, wrong)
        self.assertFalse([each for each in answers if each[2].misled], "nothing wrong is called settled")

    def test_a_search_that_is_cancelled_says_what_it_has_and_what_it_has_not_tried(self) -> None:
        trial = trials.growing(random.Random(5))
        end = Deadline(60)
        end.cancel()
        found = locate(list(map(MemorySource, trial.saves)), list(map(parse_sighting, trial.seen)), end=end)
        self.assertEqual(found.by_spot, [])
        self.assertTrue(found.not_tried)
        self.assertTrue(found.suggestion.startswith("It was stopped before everything was tried."))


class DescramblingTest(LedgerCase):
    """What was done to bytes is found over several saves together, and never seen where nothing was done."""

    def plain(self, turn: random.Random) -> list[bytes]:
        rows = [
            struct.pack("<IIfHBB", n, turn.randrange(90), turn.uniform(-9, 9), turn.randrange(400), n % 5, 0) + bytes(9)
            for n in range(400)
        ]
        saves = []
        for number in range(3):
            rows[number * 7] = turn.randbytes(25)
            saves.append(b"SAVE" + b"".join(rows))
        return saves

    def test_every_kind_is_undone(self) -> None:
        for kind in SCRAMBLINGS:
            if kind in ("rotate", "swap-bits", OF_RECORDS):  # alone the first two leave every frequency as it was
                continue
            for seed in range(4):
                turn = random.Random(f"{kind} {seed}")
                plain = self.plain(turn)
                key = {"xor-position": b"\3", "add-position": b"\5"}.get(kind, bytes([turn.randrange(1, 256)]))
                if kind == GENERATED:
                    shift, taken = turn.choice(PORTIONS)
                    first = turn.choice((8, 12))
                    key = Generator(*turn.choice(GENERATORS), shift, taken, 4, turn.random() < 0.5, first).key
                hidden = [scramble(save, Scrambling(kind, key if kind in KEYED else b"", 0)) for save in plain]
                # The first byte of a chain has none before it; a sum may begin with another one.
                right = (
                    all(p[8:] == f.data[8:] for p, f in zip(plain, together, strict=True))
                    for together in look_inside(hidden)
                )
                self.assertTrue(any(right), (kind, key, seed))

    @given(st.binary(min_size=12, max_size=99), st.sampled_from(GENERATORS), st.sampled_from(PORTIONS), st.booleans())
    def test_a_generator_gives_the_numbers_that_steps_one_by_one_give(
        self, data: bytes, numbers: tuple[int, int, int], portion: tuple[int, int], early: bool
    ) -> None:
        multiplier, increment, modulus = numbers
        shift, taken = portion
        seed, by_steps = int.from_bytes(data[4:8], "big"), b""
        for number in range(len(data)):
            seed = (multiplier * seed + increment if number or not early else seed) % (modulus or 1 << 32)
            by_steps += (seed >> shift).to_bytes(4, "little")[:taken]
        key = Generator(*numbers, shift, taken, 4, True, 11, early).key
        hidden = scramble(data, Scrambling(GENERATED, key, 0))
        self.assertEqual(hidden, data[:11] + bytes(a ^ b for a, b in zip(data[11:], by_steps)))  # noqa: B905

    @given(st.integers(0, 1 << 30))
    @settings(max_examples=5)
    def test_plain_bytes_noise_and_texts_are_left_alone(self, seed: int) -> None:
        turn = random.Random(seed)
        self.assertEqual(find_descramblings(self.plain(turn)), [])
        self.assertEqual(find_descramblings([turn.randbytes(9000) for _ in range(3)]), [])
        self.assertEqual(find_descramblings([b"The bell rang twice at slack water. " * (90 + n) for n in range(3)]), [])


class LinkedTest(LedgerCase):
    """Streams that run over linked blocks: found, pinned, and posted so that the game still reads them."""

    def container(self, order: str, parts: list[bytes]) -> bytes:
        blocks, heads = [b""], []
        for part in parts:
            packed = zlib.compress(part, 6)
            pieces = [packed[at : at + BLOCK - 8] for at in range(0, len(packed), BLOCK - 8)]
            heads.append(len(blocks))
            for number, piece in enumerate(pieces):
                follows = 0 if number == len(pieces) - 1 else (len(blocks) + 1) * BLOCK
                blocks.append((struct.pack(order + "II", len(piece), follows) + piece).ljust(BLOCK, b"\0"))
        blocks[0] = struct.pack(order + f"4s{len(heads)}I", b"BLKS", *(head * BLOCK for head in heads)).ljust(BLOCK)
        return b"".join(blocks)

    def read(self, order: str, data: bytes, count: int) -> list[bytes]:
        """As the game reads it."""
        parts = []
        for head in struct.unpack_from(order + f"{count}I", data, 4):
            packed, at = b"", head
            while at:
                size, follows = struct.unpack_from(order + "II", data, at)
                packed, at = packed + data[at + 8 : at + 8 + size], follows
            parts.append(zlib.decompress(packed))
        return parts

    def test_a_value_in_a_chain_is_located_pinned_and_posted(self) -> None:
        for order in "<>":
            turn = random.Random(order)
            parts = [turn.randbytes(400) + bytes(900) + turn.randbytes(1500) for _ in range(4)]
            saves = []
            for marks in (1340, 1432, 977):
                parts[2] = parts[2][:600] + struct.pack("<I", marks) + parts[2][604:]
                saves.append(self.container(order, parts))
            found = locate(list(map(MemorySource, saves)), list(map(parse_sighting, ("1340", "1432", "977"))))
            place = found.places[0]
            self.assertEqual(place.route, ("linked-le" if order == "<" else "linked-be", "zlib"))
            path = self.folder / f"{'le' if order == '<' else 'be'}.blk"
            path.write_bytes(saves[-1])
            text, field = with_place(None, place, "Marks", path, "a game", Shared(1, 0))
            save = open_save(path, parse_template(text, "linked.yaml"))
            self.assertEqual(save.fields(field)[0].value, 977)
            for value in (978, 1, 123_456_789):  # packed they are shorter, or longer, than before
                save.enter(field, str(value))
                (written,) = make_plan(save).written
                data = bytes(written.patched.read(0, written.patched.size))
                now = self.read(order, data, 4)
                self.assertEqual(struct.unpack_from("<I", now[2], 600), (value,))
                self.assertEqual([now[n] for n in (0, 1, 3)], [parts[n] for n in (0, 1, 3)])
                self.assertEqual(len(data), len(saves[-1]))

    def test_links_that_lead_nowhere_or_back_are_no_chain(self) -> None:
        turn = random.Random(2)
        data = bytearray(self.container("<", [turn.randbytes(3000)]))
        for follows in (BLOCK, 1 << 31, len(data) - 3):
            struct.pack_into("<I", data, BLOCK + 4, follows)
            self.assertEqual([p[0].route for p in look_inside([bytes(data)]) if p[0].route[0].startswith("linked")], [])
            with self.assertRaises(LedgerError):
                from faithful_ledger.core.wrapping import unwrap

                unwrap(bytes(data), ("linked-le",))
