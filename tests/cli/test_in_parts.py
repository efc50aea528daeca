"""The same way through saves of parts that are not alike: a text in front of an archive, records in front of a text,
parts with a tag and a checksum each, numbers beside their inverse, hashes of the game's own.
"""

from __future__ import annotations

import io
import json
import random
import re
import struct
import zipfile
from functools import reduce
from typing import Any

from faithful_ledger.core.errors import AddressError
from faithful_ledger.core.layers import LayerSpec
from faithful_ledger.core.layers.archives import members_of, unpacked
from faithful_ledger.core.seals import ALGORITHMS
from faithful_ledger.core.wrapping import unwrap
from tests.cli.test_from_sightings import Format, SightingsCase, of_json, of_plain, plain
from tests.support import dice

Value = dict[str, Any]
Read = tuple[int, int, str]
SIZE, NAME = struct.Struct("<I"), 24


def described(value: Value) -> bytes:
    return f'version="1.4"\nday={value["day"]}\nname="{value["name"]}"\n'.encode()


def zipped_write(value: Value) -> bytes:
    """A header of letters, what the list of saves shows, and the state of the game in a zip."""
    meta, held = described(value), io.BytesIO()
    crew = "".join(f'\t{{ name="{each["name"]}" air={each["air"]} }}\n' for each in value["crew"])
    state = meta + f"marks={value['marks']}\ncrew={{\n{crew}}}\n".encode()
    with zipfile.ZipFile(held, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in (("meta", meta), ("state", state)):
            archive.writestr(zipfile.ZipInfo(name, (2026, 1, 1, 0, 0, 0)), content, zipfile.ZIP_DEFLATED)
    return b"BWV1 %08x\n" % len(meta) + meta + held.getvalue()


def zipped_read(content: bytes) -> Read:
    size = int(content[5:13], 16)
    meta, archive = content[14 : 14 + size], zipfile.ZipFile(io.BytesIO(content[14 + size :]))
    assert archive.testzip() is None and archive.read("meta") == meta
    state = archive.read("state").decode()
    found = {key: re.search(rf"^{key}=(.*)$", state, re.MULTILINE)[1] for key in ("marks", "day", "name")}  # type: ignore[index]
    return int(found["marks"]), int(found["day"]), found["name"].strip('"')


def behind_records_write(value: Value) -> bytes:
    """Records and a picture, JSON behind them, and its size at the end."""
    turn = random.Random(value["seed"])
    front = b"".join(struct.pack("<HB", number, each["air"]) for number, each in enumerate(value["crew"]))
    text = json.dumps({key: value[key] for key in ("name", "day", "marks", "lots")}).encode()
    return b"BWJT" + front + turn.randbytes(turn.randrange(200, 260)) + text + SIZE.pack(len(text)) + b"TAIL"


def behind_records_read(content: bytes) -> Read:
    (size,) = SIZE.unpack(content[-8:-4])
    assert content.endswith(b"TAIL")
    return of_json(content[-8 - size : -8])


def of_crc(data: bytes) -> bytes:
    return ALGORITHMS["crc-16-ccitt-false"]((memoryview(data),)).to_bytes(2, "big")


def tagged_write(value: Value) -> bytes:
    """Parts with a tag of one byte, a size and a checksum of all that."""
    bodies = {
        1: value["name"].encode(),
        2: struct.pack(">IHI", value["marks"], value["day"], value["seed"]),
        3: b"".join(
            bytes([len(each["name"])]) + each["name"].encode() + bytes([each["air"]]) for each in value["crew"]
        ),
        4: b"".join(
            bytes([len(each["item"])]) + each["item"].encode() + bytes([each["many"]]) for each in value["lots"]
        ),
        255: b"",
    }
    parts = [struct.pack(">BH", tag, len(body)) + body for tag, body in bodies.items()]
    return b"BWTL" + b"".join(part + of_crc(part) for part in parts)


def tagged_read(content: bytes) -> Read:
    found, at = {}, 4
    while at < len(content):
        tag, size = struct.unpack_from(">BH", content, at)
        end = at + 3 + size
        assert content[end : end + 2] == of_crc(content[at:end])
        found[tag], at = content[at + 3 : end], end + 2
    assert found.keys() == {1, 2, 3, 4, 255}
    marks, day, _ = struct.unpack(">IHI", found[2])
    return marks, day, found[1].decode()


def beside_inverse_write(value: Value) -> bytes:
    def twice(number: int) -> bytes:
        return struct.pack("<II", number, number ^ 0xFFFFFFFF)

    numbers = b"".join(map(twice, (value["day"], value["marks"], value["seed"])))
    crew = b"".join(twice(each["air"]) for each in value["crew"])
    return b"BWIV" + numbers + value["name"].encode().ljust(NAME, b"\0") + crew + bytes(64)


def beside_inverse_read(content: bytes) -> Read:
    pairs = list(struct.iter_unpack("<II", content[4:28] + content[28 + NAME : -64]))
    assert all(number ^ inverse == 0xFFFFFFFF for number, inverse in pairs)
    return pairs[1][0], pairs[0][0], content[28 : 28 + NAME].rstrip(b"\0").decode()


def hashed(data: bytes) -> bytes:
    """With a start and a multiplier that nobody publishes."""
    return SIZE.pack(reduce(lambda state, byte: state * 137 + byte & 0xFFFFFFFF, data, 17))


def hashed_write(value: Value) -> bytes:
    return b"BWHM" + hashed(plain(value)) + plain(value)


def hashed_read(content: bytes) -> Read:
    assert content[4:8] == hashed(content[8:])
    return of_plain(content[8:])


def of_letters(text: str) -> int:
    """As programs hash a text that begin with 7 in place of 0, with a sign."""
    number = reduce(lambda state, letter: state * 31 + ord(letter) & 0xFFFFFFFF, text, 7)
    return number - (number >> 31 << 32)


def hashed_text_write(value: Value) -> bytes:
    text = json.dumps({key: value[key] for key in ("name", "day", "marks", "crew", "lots")})
    return json.dumps({"version": 3, "data": text, "hash": of_letters(text)}).encode()


def hashed_text_read(content: bytes) -> Read:
    found = json.loads(content)
    assert of_letters(found["data"]) == found["hash"]
    return of_json(found["data"].encode())


FORMATS = (
    Format("a text in front of a zip", zipped_write, zipped_read),
    Format("JSON behind records, its size last", behind_records_write, behind_records_read, "any"),
    Format("tags with a checksum each", tagged_write, tagged_read, "any"),
    Format("numbers beside their inverse", beside_inverse_write, beside_inverse_read, "any"),
    Format("a hash with a start of its own", hashed_write, hashed_read, "any"),
    Format("the same of a text in a text", hashed_text_write, hashed_text_read, "any"),
)


class InPartsTest(SightingsCase):
    def test_what_the_game_showed_is_changed_so_that_it_takes_it(self) -> None:
        self.changed_in_each(FORMATS)

    def test_a_zip_counts_from_where_it_says(self) -> None:
        """Behind a header some archives count from their own beginning, some from that of the file."""
        turn = dice()
        for from_file in (False, True):
            header, held = turn.randbytes(turn.randrange(5, 90)), io.BytesIO()
            held.write(header if from_file else b"")
            with zipfile.ZipFile(held, "a", zipfile.ZIP_DEFLATED) as archive:
                archive.writestr("state", b"marks=1340\n" * 9)
            content = held.getvalue() if from_file else header + held.getvalue()
            with self.subTest(from_file=from_file):
                self.assertEqual([unpacked(content, each) for each in members_of(content)], [b"marks=1340\n" * 9])
                self.assertEqual(members_of(content[:-3]), [])
                with self.assertRaisesRegex(AddressError, "the zip archive is not there, or not whole"):
                    unwrap(content[:-3], (LayerSpec("zip", member="state"),))


if __name__ == "__main__":
    import unittest

    unittest.main()
