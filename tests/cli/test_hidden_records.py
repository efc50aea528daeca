"""The same way through saves in which a part of each record is hidden under a key of its own, with a checksum of what
it says when it is opened.
"""

from __future__ import annotations

import random
import struct
from collections.abc import Callable
from typing import Any

from faithful_ledger.core.layers.generators import Generator
from tests.cli.test_from_sightings import SightingsCase, voyage

Diver = dict[str, Any]
Opened = tuple[list[bytes], int, str]  # what the records say, the day, the name of the company

NUMBERS = 48  # bytes of a record that are hidden
EARNED = 4  # where in these the marks are that a diver has earned
MOST = 6


def crc_16(data: bytes) -> int:
    """CRC-16/CCITT-FALSE, bit by bit."""
    register = 0xFFFF
    for byte in data:
        register ^= byte << 8
        for _ in range(8):
            register = (register << 1 ^ (0x1021 if register & 0x8000 else 0)) & 0xFFFF
    return register


def total(body: bytes) -> int:
    return sum(struct.unpack(f"<{len(body) // 2}H", body)) & 0xFFFF


def numbers_of(diver: Diver, marks: int, day: int) -> bytes:
    """What a record says of a diver: most of it is nothing yet."""
    air = diver["air"]
    body = struct.pack("<HHIHBB", air % 7 + 1, 5, marks, air, day % 9, 0)
    body += struct.pack("<4HI", 10 + air % 5, 11, 0, 0, air << 3)
    return (body + bytes([air % 30, day % 20, 3])).ljust(NUMBERS, b"\0")


def earned(body: bytes) -> int:
    return int(struct.unpack_from("<I", body, EARNED)[0])


def of_own(diver: Diver) -> tuple[bytes, bytes]:
    """The number of a diver and of who hired them, which stay."""
    turn = random.Random(diver["name"])
    return turn.randbytes(4), turn.randbytes(4)


def under_two_numbers(diver: Diver, body: bytes) -> bytes:
    one, other = of_own(diver)
    key = bytes(a ^ b for a, b in zip(one, other, strict=True))
    hidden = bytes(byte ^ key[at % 4] for at, byte in enumerate(body))
    head = one + other + diver["name"].encode().ljust(10, b"\0")[:10] + struct.pack("<HH", total(body), 0)
    return head + hidden + bytes([diver["air"], 0, 60, 0])


def opened_by_two_numbers(record: bytes) -> bytes:
    key = bytes(a ^ b for a, b in zip(record[:4], record[4:8], strict=True))
    body = bytes(byte ^ key[at % 4] for at, byte in enumerate(record[22 : 22 + NUMBERS]))
    assert struct.unpack_from("<HH", record, 18) == (total(body), 0)
    return body


def mask_of(seed: int) -> bytes:
    generator = Generator(1_103_515_245, 24_691, taken=2, first=2, seed_size=2)
    return generator.stream(struct.pack("<H", seed), NUMBERS).tobytes()


def from_checksum(diver: Diver, body: bytes) -> bytes:
    hidden = bytes(a ^ b for a, b in zip(body, mask_of(total(body)), strict=True))
    return of_own(diver)[0] + struct.pack("<HH", 0, total(body)) + hidden


def opened_from_checksum(record: bytes) -> bytes:
    (seed,) = struct.unpack_from("<H", record, 6)
    body = bytes(a ^ b for a, b in zip(record[8:], mask_of(seed), strict=True))
    assert total(body) == seed
    return body


FORMATS: dict[str, tuple[Callable[[Diver, bytes], bytes], Callable[[bytes], bytes]]] = {
    "two of their numbers": (under_two_numbers, opened_by_two_numbers),
    "a generator that their checksum seeds": (from_checksum, opened_from_checksum),
}


def written(value: dict[str, Any], hide: Callable[[Diver, bytes], bytes]) -> bytes:
    crew = value["crew"][:MOST]
    marks = [value["marks"], *(diver["air"] * 100 + value["day"] for diver in crew[1:])]
    records = [hide(diver, numbers_of(diver, each, value["day"])) for diver, each in zip(crew, marks, strict=True)]
    body = struct.pack("<24sHH", value["name"].encode(), value["day"], len(records))
    body += b"".join(records).ljust(MOST * len(records[0]), b"\0") + bytes(40)
    return b"BWHR" + body + struct.pack("<H", crc_16(body))


def read(content: bytes, opened: Callable[[bytes], bytes]) -> Opened:
    """Raises AssertionError as the game refuses: a checksum of a record or of the save is not right."""
    body = content[4:-2]
    assert struct.unpack("<H", content[-2:])[0] == crc_16(body)
    name, day, count = struct.unpack_from("<24sHH", body)
    size = (len(body) - 28 - 40) // MOST
    records = [body[28 + number * size : 28 + (number + 1) * size] for number in range(count)]
    return [opened(record) for record in records], day, name.rstrip(b"\0").decode()


class HiddenRecordsTest(SightingsCase):
    def test_what_a_record_says_is_changed_with_its_checksum(self) -> None:
        for number, (under, (hide, opened)) in enumerate(FORMATS.items()):
            seed = random.randrange(1 << 32)
            with self.subTest(under, seed=seed):
                moments = voyage(random.Random(seed))
                folder = self.folder / f"voyage{number}"
                folder.mkdir()
                saves = [folder / f"{letter}.sav" for letter in "abcd"]
                for path, value in zip(saves, moments, strict=True):
                    path.write_bytes(written(value, hide))
                bodies, day, name = read(saves[-1].read_bytes(), opened)
                seen = [(path, value["marks"]) for path, value in zip(saves, moments, strict=True)]
                self.assertTrue(self.pinned("Earned", seen))
                self.assertTrue(self.json_of("find-seals", *saves, "--accept")["accepted"])
                fields = self.json_of("read", saves[-1])["fields"]
                paths = [field["path"] for field in fields if field["path"].endswith("earned")]
                out = folder / "out.sav"
                self.json_of("post", saves[-1], "--set", f"{paths[0]}=123456", "--out", out)
                after, *rest = read(out.read_bytes(), opened)
                self.assertEqual(rest, [day, name])
                self.assertEqual([earned(body) for body in after], [123_456, *map(earned, bodies[1:])])
                self.assertEqual([body[8:] for body in after], [body[8:] for body in bodies])
                if len(paths) > 1:  # pinned as what each record has
                    self.json_of("post", out, "--set", f"{paths[2]}=77", "--out", folder / "third.sav")
                    third, *_ = read((folder / "third.sav").read_bytes(), opened)
                    self.assertEqual([earned(body) for body in third[:3]], [123_456, earned(bodies[1]), 77])
                damaged = bytearray(saves[-1].read_bytes())
                damaged[40] ^= 0xFF
                (folder / "damaged.sav").write_bytes(damaged)
                with self.assertRaises(AssertionError):
                    read(bytes(damaged), opened)
