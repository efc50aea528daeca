"""The same way through saves that begin with something of any length: the name of a company, a picture of the deck, the
party; what is packed, counted and sealed behind it is at another place in each save.
"""

from __future__ import annotations

import gzip
import hashlib
import json
import random
import struct
import zlib
from collections.abc import Callable
from typing import Any

import zstandard

from tests.cli.test_from_sightings import Format, SightingsCase, of_json, of_plain, plain
from tests.core.test_headers import picture

CREW = ("Ives", "Maud", "Tamsin", "Wren", "Oriel of the Quay", "Pell")
Value = dict[str, Any]
Read = tuple[int, int, str]


def body_of(value: Value) -> bytes:
    return json.dumps({key: value[key] for key in ("name", "day", "marks", "crew", "lots")}).encode()


def title(value: Value) -> bytes:
    turn = random.Random(value["seed"])
    return f"{value['name']} in {value['seed'] ** 2 % 10 ** turn.randrange(1, 7)}".encode()


def photograph(value: Value) -> bytes:
    turn = random.Random(value["seed"])
    return (
        b"\xff\xd8\xff\xe0\0\x10JFIF\0" + turn.randbytes(turn.randrange(600, 900)).replace(b"\xff", b"\0") + b"\xff\xd9"
    )


def unpacked(raw: bytes, size: int, packed: bytes, length: int) -> bytes:
    assert (len(raw), len(packed)) == (size, length)
    return raw


def pictured(value: Value) -> bytes:
    front, packed = picture(random.Random(value["seed"])), zlib.compress(body_of(value))
    return front + struct.pack("<II", len(packed), len(body_of(value))) + packed


def of_pictured(content: bytes) -> Read:
    at = content.index(b"IEND") + 8
    length, size = struct.unpack_from("<II", content, at)
    packed = content[at + 8 :]
    return of_json(unpacked(zlib.decompress(packed), size, packed, length))


def with_party(value: Value) -> bytes:
    turn, front, packed = random.Random(value["seed"] + 1), photograph(value), zlib.compress(body_of(value))
    names = [turn.choice(CREW).encode() for _ in range(turn.randrange(1, 5))]
    party = bytes([len(names)]) + b"".join(bytes([len(name)]) + name for name in names)
    numbers = struct.pack("<III", len(body_of(value)), len(packed), zlib.adler32(body_of(value)))
    return b"BWSS" + struct.pack("<HHI", 640, 360, len(front)) + front + party + numbers + packed


def of_party(content: bytes) -> Read:
    at = 12 + struct.unpack_from("<I", content, 8)[0]
    count, at = content[at], at + 1
    for _ in range(count):
        at += 1 + content[at]
    size, length, adler = struct.unpack_from("<III", content, at)
    raw = unpacked(zlib.decompress(content[at + 12 :]), size, content[at + 12 :], length)
    assert zlib.adler32(raw) == adler
    return of_json(raw)


def wide(value: Value) -> bytes:
    name = f"{value['name']}, day {value['day'] + value['seed'] % 3 * 1000}"
    packed = gzip.compress(plain(value), mtime=0)
    rest = struct.pack("<I", len(name)) + name.encode("utf-16-le")
    rest += struct.pack("<II", len(plain(value)), len(packed)) + packed
    return b"BWTT" + hashlib.md5(rest).digest() + rest


def of_wide(content: bytes) -> Read:
    assert hashlib.md5(content[20:]).digest() == content[4:20]
    at = 24 + 2 * struct.unpack_from("<I", content, 20)[0]
    size, length = struct.unpack_from("<II", content, at)
    return of_plain(unpacked(gzip.decompress(content[at + 8 :]), size, content[at + 8 :], length))


def trailed(value: Value) -> bytes:
    packed = zlib.compress(plain(value))
    return (
        b"BWOO" + struct.pack("<H", len(title(value))) + title(value) + packed + struct.pack("<I", zlib.crc32(packed))
    )


def of_trailed(content: bytes) -> Read:
    packed = content[6 + struct.unpack_from("<H", content, 4)[0] : -4]
    assert struct.unpack("<I", content[-4:])[0] == zlib.crc32(packed)
    return of_plain(zlib.decompress(packed))


def ended(value: Value) -> bytes:
    packed = zlib.compress(plain(value))
    return (
        b"BWRR\2\0\0\0" + title(value) + b"\0" + struct.pack("<HH", len(plain(value)), len(packed)) + packed + b"\1\2\3"
    )


def of_ended(content: bytes) -> Read:
    at = content.index(b"\0", 8) + 1
    size, length = struct.unpack_from("<HH", content, at)
    assert content.endswith(b"\1\2\3")
    return of_plain(unpacked(zlib.decompress(content[at + 4 : -3]), size, content[at + 4 : -3], length))


def led(value: Value) -> bytes:
    packed = zstandard.compress(plain(value))
    front = b"BWNN" + struct.pack("<III", 3, 28 + len(title(value)), len(title(value))) + title(value)
    return front + struct.pack("<III", zlib.crc32(front), len(packed), len(plain(value))) + packed + b"\0\0END"


def of_led(content: bytes) -> Read:
    _, begin, length = struct.unpack_from("<III", content, 4)
    assert begin == 28 + length
    crc, packed, size = struct.unpack_from("<III", content, 16 + length)
    assert crc == zlib.crc32(content[: 16 + length])
    assert content[begin + packed :] == b"\0\0END"
    return of_plain(unpacked(zstandard.decompress(content[begin:-5]), size, content[begin:-5], packed))


def open_(value: Value) -> bytes:
    body = plain(value)
    front = b"BWQQ" + struct.pack("<H", len(title(value))) + title(value)
    return front + struct.pack("<II", len(body), zlib.crc32(body)) + body


def of_open(content: bytes) -> Read:
    at = 6 + struct.unpack_from("<H", content, 4)[0]
    body = content[at + 8 :]
    assert struct.unpack_from("<II", content, at) == (len(body), zlib.crc32(body))
    return of_plain(body)


def counted(value: Value) -> bytes:
    packed, name = zlib.compress(plain(value)), value["name"].encode()
    numbers = struct.pack("<IIIII", 3, 24 + len(name), len(packed), len(plain(value)), len(name))
    return b"BWGG" + numbers + name + packed


def of_counted(content: bytes) -> Read:
    _, begin, length, size, name = struct.unpack_from("<IIIII", content, 4)
    assert begin == 24 + name
    return of_plain(unpacked(zlib.decompress(content[begin:]), size, content[begin:], length))


def formats(*parts: tuple[str, Callable[[Value], bytes], Callable[[bytes], Read]]) -> tuple[Format, ...]:
    return tuple(Format(name, write, read, "any") for name, write, read in parts)


PICTURES = formats(("a picture", pictured, of_pictured), ("a photograph and names", with_party, of_party))
TEXTS = formats(("a name in letters of two bytes", wide, of_wide), ("a checksum behind", trailed, of_trailed))
OTHERS = formats(("a zero ends it", ended, of_ended), ("its offset and its checksum", led, of_led))
SAME = formats(("nothing packed", open_, of_open), ("the same in all copies", counted, of_counted))


class PictureInFrontTest(SightingsCase):
    def test_what_is_packed_behind_a_picture_is_changed_so_that_the_game_takes_it(self) -> None:
        self.changed_in_each(PICTURES)


class NameInFrontTest(SightingsCase):
    def test_what_is_behind_a_name_is_changed_so_that_the_game_takes_it(self) -> None:
        self.changed_in_each(TEXTS)


class HeaderSealedTest(SightingsCase):
    def test_what_a_header_says_of_itself_follows(self) -> None:
        self.changed_in_each(OTHERS)


class HeaderOfAnotherPlayerTest(SightingsCase):
    def test_a_header_that_is_longer_for_another_player_moves_what_is_behind_it(self) -> None:
        self.changed_in_each(SAME)
