"""Checksum algorithms by their published values, and templates whose seals use every kind of them."""

from __future__ import annotations

import base64
import hashlib
import random
import struct
import zlib
from functools import reduce

from hypothesis import given
from hypothesis import strategies as st

from faithful_ledger.core.bit_order import mirrored
from faithful_ledger.core.errors import TemplateError
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.seals import ALGORITHMS, Algorithm
from faithful_ledger.core.seals.crc import CATALOGUE, Crc
from faithful_ledger.core.sharing.sheet import reference_sheet
from faithful_ledger.core.template import parse_template
from tests.support import LedgerCase

NINE = b"123456789"
PUBLISHED = {  # by their authors or standards
    ("fletcher-16", b"abcde"): 0xC8F0,
    ("fletcher-32", b"abcde"): 0xF04FC729,
    (
        "internet",
        bytes.fromhex("0001F203F4F5F6F7"),
    ): 0x0D22,  # RFC 1071's sum DDF2, inverted, its bytes in the file's order
    ("adler-32", b"Wikipedia"): 0x11E60398,
    ("fnv-1a-32", b"foobar"): 0xBF9CF968,
    ("fnv-1-32", b"foobar"): 0x31F0B262,
    ("fnv-1a-64", b"foobar"): 0x85944171F73967E8,
    ("one-at-a-time", b"a"): 0xCA2E9442,
    ("bsd-16", NINE): 53615,  # as coreutils' sum has it
    ("pjw-32", b"printf"): 0x077905A6,
    ("rotated-sum32", b"\x80\0\0\1"): 0x401,
    ("rotated-xor32", b"\1" + bytes(33)): 2,
    ("rotated-xor32-by-5", b"\1\2\3"): 1 << 10 ^ 2 << 5 ^ 3,
    ("murmur3-32", b"hello"): 0x248BFA47,
    ("crc-32c-masked", NINE): 0xC78AB0E5,  # of the check value E3069283, as the framing format of Snappy masks it
    ("xxhash-32", b""): 0x02CC5D05,
    ("djb2", b""): 5381,
    ("times-31", b"abc"): 96354,
    ("sum16-of-u16be", b"\1\2\3"): 0x0102 + 0x0300,
    ("xor16", b"\1\2\3\4"): 0x0201 ^ 0x0403,
}
TEXT = """ledger: 1
id: sealed
title: Sealed
files:
  save:
    name: "*.sav"
    layout:
      - {field: marks, as: u32}
      - {unknown: rest, size: 60}
      - FIELD
"""


def of(name: str, data: bytes, **changes: object) -> int:
    return Algorithm(name, **changes)([memoryview(data)])  # type: ignore[arg-type]


class AlgorithmTest(LedgerCase):
    def test_published_values(self) -> None:
        for name, (crc, check) in CATALOGUE.items():
            self.assertEqual(crc([memoryview(NINE)]), check, name)
        for (name, data), value in PUBLISHED.items():
            self.assertEqual(of(name, data), value, name)

    @given(
        st.integers(0, 3000),
        st.integers(0, 3000),
        st.randoms(use_true_random=False),
        st.sampled_from(sorted(CATALOGUE)),
    )
    def test_a_crc_in_pieces_is_that_of_the_whole_bit_by_bit(
        self, size: int, at: int, turn: random.Random, name: str
    ) -> None:
        crc, data = CATALOGUE[name][0], turn.randbytes(size)
        state = crc.start
        for byte in data:
            state ^= (mirrored(byte, 8) if crc.reflected else byte) << crc.width - 8
            for _ in range(8):
                high = state >> crc.width - 1
                state = (state << 1 & (1 << crc.width) - 1) ^ (crc.polynomial if high else 0)
        state = (mirrored(state, crc.width) if crc.reflected_out else state) ^ crc.xor_out
        self.assertEqual(crc([memoryview(data[:at]), memoryview(data[at:])]), state)

    @given(st.lists(st.binary(max_size=40), max_size=4), st.sampled_from(sorted(ALGORITHMS)))
    def test_chunks_make_no_difference(self, chunks: list[bytes], name: str) -> None:
        self.assertEqual(ALGORITHMS[name](map(memoryview, chunks)), of(name, b"".join(chunks)))

    def test_what_a_game_changes(self) -> None:
        data = random.Random(4).randbytes(3001)
        self.assertEqual(of("sum16", data, changed="negated"), -sum(data) & 0xFFFF)
        self.assertEqual(of("crc-32", data, changed="inverted"), zlib.crc32(data) ^ 0xFFFFFFFF)
        self.assertEqual(of("sum32", data, start=77), sum(data) + 77)
        self.assertEqual(of("crc", data, crc=Crc(32, 0x04C11DB7, 0xFFFFFFFF, True, True, 0xFFFFFFFF)), zlib.crc32(data))


class TemplateTest(LedgerCase):
    def test_every_way_of_storing_is_checked_and_renewed(self) -> None:
        digest = lambda d: hashlib.sha1(d[:64]).digest()  # noqa: E731
        crc = lambda d: zlib.crc32(d[:64])  # noqa: E731
        cases = (
            ("as: u32be, seal: {algorithm: crc-32, over: {to: -4}}", lambda d: struct.pack(">I", crc(d))),
            ("as: u16, seal: {algorithm: crc-32, over: {to: 64}}", lambda d: struct.pack("<H", crc(d) & 0xFFFF)),
            ("as: checksum, size: 20, seal: {algorithm: sha-1, over: {to: 64}}", digest),
            ("as: u32, seal: {algorithm: sha-1, over: {to: 64}}", lambda d: digest(d)[:4]),
            (
                "as: checksum, size: 40, written: hex, seal: {algorithm: sha-1, over: [marks, rest]}",
                lambda d: digest(d).hex().encode(),
            ),
            (
                "as: checksum, size: 8, written: HEX, seal: {algorithm: crc-32, over: {to: 64}}",
                lambda d: f"{crc(d):08X}".encode(),
            ),
            (
                "as: checksum, size: 12, written: decimal, seal: {algorithm: crc-32, over: {to: 64}}",
                lambda d: str(crc(d)).encode().ljust(12, b"\0"),
            ),
            (
                "as: checksum, size: 28, written: base64, seal: {algorithm: sha-1, over: {to: 64}}",
                lambda d: base64.b64encode(digest(d)),
            ),
            (
                "as: u32, seal: {algorithm: crc-32, over: file, own: 'FF'}",
                lambda d: struct.pack("<I", zlib.crc32(d[:64] + b"\xff" * 4)),
            ),
            (
                "as: u16, seal: {algorithm: sum16, over: {to: 64}, start: 7, changed: negated}",
                lambda d: struct.pack("<H", -(sum(d[:64]) + 7) & 0xFFFF),
            ),
            (
                "as: u16, seal: {algorithm: crc, over: {to: 64}, crc: {width: 16, polynomial: 0x1021, start: 0xFFFF}}",
                lambda d: struct.pack("<H", of("crc-16-ccitt-false", d[:64])),
            ),
            (
                "as: u32, seal: {algorithm: times, multiplier: 131, start: 17, over: {to: 64}}",
                lambda d: struct.pack("<I", reduce(lambda state, byte: state * 131 + byte & 0xFFFFFFFF, d[:64], 17)),
            ),
            (
                "as: checksum, size: 16, seal: {algorithm: hmac-md5, over: {to: 64}, key: '62 72'}",
                lambda d: of("hmac-md5", d[:64], key=b"br").to_bytes(16, "big"),
            ),
        )
        body = random.Random(9).randbytes(64)
        for field, made in cases:
            with self.subTest(field):
                path = self.folder / "a.sav"
                path.write_bytes(body + made(body))
                template = parse_template(TEXT.replace("FIELD", f"{{field: sum, {field}}}").encode(), "t.yaml")
                save = open_save(path, template)
                (state,) = save.seals
                self.assertTrue(state.holds)
                save.enter("marks", "4321")
                (file,) = make_plan(save).written
                changed = struct.pack("<I", 4321) + body[4:]
                self.assertEqual(bytes(file.patched.read(0, 999)), changed + made(changed))
                path.write_bytes(body + bytes(len(made(body))))
                self.assertEqual([state.holds for state in open_save(path, template).seals], [False])

    def test_the_sheet_says_what_another_program_needs(self) -> None:
        for field, words in (
            ("{algorithm: times, multiplier: 131, start: 17, over: rest}", "times, start 0x11, multiplier 0x83 over"),
            (
                "{algorithm: crc, over: rest, changed: inverted, crc: {width: 32, polynomial: 0x104C11DB, xor_out: 7}}",
                "crc, width 0x20, polynomial 0x104c11db, xor_out 0x7, inverted over",
            ),
            ("{algorithm: crc-32, salt_behind: 62 72, over: rest}", "crc-32, salt behind 62 72 over"),
            ("{algorithm: hmac-md5, key: 62 72, over: rest}", "hmac-md5, key 62 72 over"),
            ("{algorithm: length, over: rest, start: 4}", "length, and 4 more over"),
        ):
            with self.subTest(field):
                text = TEXT.replace("FIELD", f"{{field: sum, as: u32, seal: {field}}}")
                self.assertIn(words, reference_sheet(parse_template(text.encode(), "t.yaml")))

    def test_mistakes_are_named(self) -> None:
        for field, words in (
            ("as: u32, seal: {algorithm: crc-33, over: rest}", "no algorithm “crc-33”; did you mean"),
            ("as: u32, seal: {algorithm: crc, over: rest}", "the parameters `crc` belong to `algorithm: crc`"),
            ("as: u32, seal: {algorithm: hmac-md5, over: rest}", "an hmac has a key"),
            ("as: u32, seal: {algorithm: times, over: rest}", "`algorithm: times` has a multiplier"),
            ("as: u32, seal: {algorithm: djb2, multiplier: 5, over: rest}", "`algorithm: times` has a multiplier"),
            ("as: checksum, size: 0, seal: {algorithm: md5, over: rest}", "a checksum has between 1 and 128 bytes"),
            ("as: checksum, size: 16", "a checksum is a seal; say of what"),
            ("as: u32, seal: {algorithm: crc-32, over: {from: 9, to: 3}}", "from 9 to 3 covers nothing"),
        ):
            with self.subTest(field), self.assertRaises(TemplateError) as caught:
                parse_template(TEXT.replace("FIELD", f"{{field: sum, {field}}}").encode(), "t.yaml")
            self.assertIn(words, str(caught.exception))
