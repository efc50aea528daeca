"""Packings without marks, by readers of their own."""

from __future__ import annotations

import random
import re
import struct
from functools import partial
from typing import ClassVar

from hypothesis import given
from hypothesis import strategies as st

from faithful_ledger.core.layers import STREAMS as KINDS
from faithful_ledger.core.layers.stream import Allowance
from faithful_ledger.core.profile import find_layers
from tests.cli.test_more_formats import of_lzf, of_ringed, of_runs
from tests.support import LedgerCase


def of_counted_runs(packed: bytes, new: int, again: int) -> bytes:
    out, at = b"", 0
    while at < len(packed):
        code, at = packed[at], at + 1
        taken = 1 if code > 127 else code + new
        out += packed[at : at + taken] * (code - 128 + again if code > 127 else 1)
        at += taken
    return out


class EndlessTest(LedgerCase):
    """Packings without a mark and without an end of their own."""

    RUNS = (
        "packbits",
        "run-pairs",
        "run-pairs-back",
        "runs-0-0",
        "runs-0-1",
        "runs-1-1",
        "runs-1-3",
        "zero-runs-0",
        "zero-runs-1",
    )
    KINDS = ("lzf", "lzss", "lzss-zeros", "lzss-back", "lzss-long", *RUNS)
    OWN: ClassVar = {
        "lzf": of_lzf,
        "lzss-zeros": of_ringed,
        "packbits": of_runs,
        "run-pairs": lambda packed: b"".join(packed[at + 1 : at + 2] * packed[at] for at in range(0, len(packed), 2)),
        "run-pairs-back": lambda packed: b"".join(
            packed[at : at + 1] * packed[at + 1] for at in range(0, len(packed), 2)
        ),
        "zero-runs-0": lambda packed: re.sub(rb"\0(.)", lambda run: bytes(run[1][0]), packed, flags=re.DOTALL),
        "zero-runs-1": lambda packed: re.sub(rb"\0(.)", lambda run: bytes(run[1][0] + 1), packed, flags=re.DOTALL),
        **{
            f"runs-{new}-{again}": partial(of_counted_runs, new=new, again=again)
            for new, again in ((0, 0), (0, 1), (1, 1), (1, 3))
        },
    }

    @given(st.lists(st.one_of(st.binary(max_size=9), st.just(b"lamp oil "), st.just(bytes(40))), max_size=60))
    def test_what_is_packed_unpacks_to_the_same_and_readers_of_their_own_agree(self, parts: list[bytes]) -> None:
        data = b"".join(parts)
        for name in self.KINDS if data else ():
            packed = KINDS[name].pack(data, b"")
            found = KINDS[name].read(packed, 0, Allowance(1 << 20))
            assert found is not None
            self.assertEqual((found.size, found.unpacked_size), (len(packed), len(data)))
            if name in self.OWN:
                self.assertEqual(self.OWN[name](packed), data)

    def test_they_are_found_behind_their_size_and_never_in_other_bytes(self) -> None:
        turn = random.Random(21)
        for name in self.KINDS:
            data = b"".join(
                turn.choice((b"lamp oil ", b"hemp line ", turn.randbytes(3), bytes(30))) for _ in range(200)
            )
            packed = KINDS[name].pack(data, b"")
            (layer,) = find_layers(b"SAVE" + struct.pack("<I", len(data)) + packed)
            kinds = {"lzss", "lzss-zeros"} if name.startswith("lzss") and layer.kind != name else {name}
            self.assertIn(layer.kind, kinds)  # one that does not name what the ring is filled with is both
            self.assertEqual((layer.offset, layer.unpacked_size), (8, len(data)))
        for number in range(60):
            noise = turn.randbytes(2000)
            rows = b"".join(struct.pack("<IHH", turn.randrange(90_000), turn.randrange(9), number) for _ in range(300))
            for other in (noise, rows, bytes(3000), b"lamp oil and hemp line, " * (90 + number)):
                self.assertEqual({each.kind for each in find_layers(other)} & set(self.KINDS), set())

    def test_streams_that_go_back_too_far_or_end_too_early_are_none(self) -> None:
        for name, data in (
            ("lzf", b"\x20\x40"),
            ("lzf", b"\x05abc"),
            ("lzss", bytes((0, 0x10, 0x20)) * 30),
            ("lzss-back", b"\x80\x00\x05"),
            ("lzss-long", b"\x00\x00\x05"),
            ("packbits", b"\x05abc"),
            ("packbits", b"\xf0"),
            ("zero-runs-0", b"\0\0"),
            ("zero-runs-1", b"ab\0"),
            ("run-pairs", b"\0a"),
            ("run-pairs-back", b"a"),
            ("runs-0-0", b"\x80a"),
            ("runs-1-3", b"\x05abc"),
        ):
            self.assertIsNone(KINDS[name].read(data, 0, Allowance(1 << 20)), name)
        allowance = Allowance(1 << 10)
        self.assertIsNone(KINDS["packbits"].read(b"\x81\0" * 999, 0, allowance))
