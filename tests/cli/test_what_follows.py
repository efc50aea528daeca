"""The same way through saves in which a value takes others with it: sizes of blocks within blocks, digests of pages,
banks that take turns, and bytes in another order; and what is stored twice.
"""

from __future__ import annotations

import base64
import gzip
import hashlib
import json
import random
import re
import struct
import zlib
from collections.abc import Callable
from typing import Any

import lz4.block

from tests.cli.test_from_sightings import Format, SightingsCase

PAGE = 1024
Read = tuple[int, int, str]


def short(text: str) -> bytes:
    return struct.pack("<H", len(text.encode())) + text.encode()


def long(text: str) -> bytes:
    return struct.pack("<I", len(text.encode())) + text.encode()


def filled_up(raw: bytes, size: int) -> bytes:
    return raw + bytes(size - len(raw))


def text_of(raw: bytes, encoding: str = "utf-8") -> str:
    return raw.decode(encoding).rstrip("\0")


# bytes in another order, and among others


def memory_write(value: dict[str, Any]) -> bytes:
    """A memory of which only every second byte counts, with a sum at its end."""
    body = struct.pack(">HIH", 0x4257, value["marks"], value["day"]) + filled_up(value["name"].encode(), 40)
    body += b"".join(filled_up(x["name"].encode(), 8) + bytes([x["air"]]) for x in value["crew"][:24])
    body = filled_up(body, 510)
    return b"".join(bytes([0xFF, byte]) for byte in body + struct.pack(">H", sum(body) & 0xFFFF))


def memory_read(content: bytes) -> Read:
    body = content[1::2]
    assert set(content[::2]) == {0xFF}
    assert len(body) == 512
    assert struct.unpack(">H", body[-2:])[0] == sum(body[:-2]) & 0xFFFF
    _, marks, day = struct.unpack_from(">HIH", body)
    return marks, day, text_of(body[8:48])


def turned(data: bytes) -> bytes:
    return b"".join(data[at : at + 4][::-1] for at in range(0, len(data), 4))


def turned_write(value: dict[str, Any]) -> bytes:
    body = struct.pack(">IIH", 0x42570001, value["marks"], value["day"]) + filled_up(value["name"].encode(), 40)
    for number, x in enumerate(value["crew"][:24]):
        body += filled_up(x["name"].encode(), 8) + struct.pack(">HH", x["air"], number)
    body = filled_up(body, 508)
    return turned(body + struct.pack(">I", zlib.crc32(body)))


def turned_read(content: bytes) -> Read:
    body = turned(content)
    assert struct.unpack(">I", body[-4:])[0] == zlib.crc32(body[:-4])
    _, marks, day = struct.unpack_from(">IIH", body)
    return marks, day, text_of(body[10:50])


# what a stream needs around it


def spelled(value: Any) -> bytes:
    """A table of names and values that say their kind."""
    if isinstance(value, str):
        return b"S" + long(value)
    if isinstance(value, int):
        return b"N" + struct.pack("<d", value)
    parts = list(enumerate(value, 1)) if isinstance(value, list) else list(value.items())
    return b"T" + struct.pack("<I", len(parts)) + b"".join(spelled(key) + spelled(each) for key, each in parts)


def parsed(data: bytes, at: int) -> tuple[Any, int]:
    kind, at = data[at : at + 1], at + 1
    if kind == b"N":
        return int(struct.unpack_from("<d", data, at)[0]), at + 8
    size, at = struct.unpack_from("<I", data, at)[0], at + 4
    if kind == b"S":
        return data[at : at + size].decode(), at + size
    assert kind == b"T"
    found = {}
    for _ in range(size):
        key, at = parsed(data, at)
        found[key], at = parsed(data, at)
    return found, at


def tables_write(value: dict[str, Any]) -> bytes:
    """Tables in an LZ4 block of which only the packed size is said, in a file of one size."""
    state = {key: value[key] for key in ("marks", "day", "name")}
    packed = lz4.block.compress(spelled({"run": {"crew": value["crew"], "lots": value["lots"]}, "state": state}))
    packed = packed[4:]  # without the size that the library puts in front
    body = (
        struct.pack("<IQ", 16, value["day"] * 86400) + long(f"Quay {value['day'] % 7}") + struct.pack("<I", len(packed))
    )
    body = filled_up(body + packed, 8184)
    return b"BWB1" + struct.pack("<I", zlib.adler32(body)) + body


def tables_read(content: bytes) -> Read:
    assert len(content) == 8192
    assert struct.unpack_from("<I", content, 4)[0] == zlib.adler32(content[8:])
    at = 24 + struct.unpack_from("<I", content, 20)[0]
    (size,) = struct.unpack_from("<I", content, at)
    data = lz4.block.decompress(content[at + 4 : at + 4 + size], uncompressed_size=1 << 20)
    found, end = parsed(data, 0)
    assert end == len(data)
    return found["state"]["marks"], found["state"]["day"], found["state"]["name"]


def members_write(value: dict[str, Any]) -> bytes:
    head = {key: value[key] for key in ("name", "marks", "day")}
    return b"".join(gzip.compress(json.dumps(each).encode() + b"\n", mtime=0) for each in (head, *value["crew"][:9]))


def members_read(content: bytes) -> Read:
    found = json.loads(gzip.decompress(content).splitlines()[0])
    return found["marks"], found["day"], found["name"]


def letters_write(value: dict[str, Any]) -> bytes:
    head = {"kind": "company", **{key: value[key] for key in ("name", "marks", "day")}}
    return b"".join(base64.b64encode(json.dumps(x).encode()) + b"\n" for x in (head, *value["crew"], *value["lots"]))


def letters_read(content: bytes) -> Read:
    found = [json.loads(base64.b64decode(line, validate=True)) for line in content.splitlines()]
    return found[0]["marks"], found[0]["day"], found[0]["name"]


# blocks, pages and banks


def blocks_write(value: dict[str, Any]) -> bytes:
    """Blocks with a tag, a length and a checksum each, and a digest of all behind them."""
    contents = {
        b"INFO": struct.pack("<I", value["day"]) + short(value["name"]),
        b"PURS": struct.pack("<I", value["marks"]),
        b"CREW": b"".join(short(x["name"]) + bytes([x["air"]]) for x in value["crew"]),
        b"LOTS": b"".join(short(x["item"]) + bytes([x["many"]]) for x in value["lots"]),
    }
    body = b"".join(tag + struct.pack("<II", len(raw), zlib.crc32(raw)) + raw for tag, raw in contents.items())
    return b"BWMB\x02\0\0\0" + body + hashlib.md5(body).digest()


def blocks_read(content: bytes) -> Read:
    body, found, at = content[8:-16], {}, 0
    assert hashlib.md5(body).digest() == content[-16:]
    while at < len(body):
        size, checksum = struct.unpack_from("<II", body, at + 4)
        found[body[at : at + 4]] = raw = body[at + 12 : at + 12 + size]
        assert zlib.crc32(raw) == checksum
        at += 12 + size
    info = found[b"INFO"]
    assert struct.unpack_from("<H", info, 4)[0] == len(info) - 6
    return struct.unpack("<I", found[b"PURS"])[0], struct.unpack_from("<I", info)[0], info[6:].decode()


def seven_bits(number: int) -> bytes:
    out = b""
    while number > 127:
        out, number = out + bytes([number & 127 | 128]), number >> 7
    return out + bytes([number])


def nested(kind: int, *parts: bytes) -> bytes:
    return bytes([kind]) + seven_bits(sum(map(len, parts))) + b"".join(parts)


def parts_of(data: bytes) -> list[tuple[int, bytes]]:
    found, at = [], 0
    while at < len(data):
        kind, size, shift, at = data[at], 0, 0, at + 1
        while True:
            byte, at = data[at], at + 1
            size, shift = size | (byte & 127) << shift, shift + 7
            if byte < 128:
                break
        assert at + size <= len(data)
        found.append((kind, data[at : at + size]))
        at += size
    return found


def nested_write(value: dict[str, Any]) -> bytes:
    """Blocks within blocks, each with its size in seven bits a byte, and a checksum behind the outermost."""
    head = nested(
        1,
        nested(1, value["name"].encode()),
        nested(2, struct.pack("<I", value["marks"])),
        nested(3, struct.pack("<H", value["day"])),
    )
    crew = nested(2, *(nested(1, nested(1, x["name"].encode()), nested(2, bytes([x["air"]]))) for x in value["crew"]))
    lots = nested(3, *(nested(1, x["item"].encode() + bytes([x["many"]])) for x in value["lots"]))
    return b"BWNB" + nested(0, head, crew, lots) + struct.pack("<I", zlib.crc32(head + crew + lots))


def nested_read(content: bytes) -> Read:
    ((_, body),) = parts_of(content[4:-4])
    assert struct.unpack("<I", content[-4:])[0] == zlib.crc32(body)
    outer = dict(parts_of(body))
    head = dict(parts_of(outer[1]))
    for _, diver in parts_of(outer[2]):
        parts_of(diver)
    return struct.unpack("<I", head[2])[0], struct.unpack("<H", head[3])[0], head[1].decode()


def words_write(value: dict[str, Any]) -> bytes:
    """A length that counts words of four bytes, and their sum."""
    body = struct.pack("<II", value["marks"], value["day"]) + short(value["name"])
    body += bytes(x["air"] for x in value["crew"])
    body += b"".join(short(x["item"]) + bytes([x["many"]]) for x in value["lots"])
    body += bytes(-len(body) % 4)
    total = sum(number for (number,) in struct.iter_unpack("<I", body))
    return b"BWLW" + struct.pack("<HHI", (len(body) + 12) // 4, 7, total & 0xFFFFFFFF) + body


def words_read(content: bytes) -> Read:
    count, _, total = struct.unpack_from("<HHI", content, 4)
    assert count * 4 == len(content)
    assert sum(number for (number,) in struct.iter_unpack("<I", content[12:])) & 0xFFFFFFFF == total
    marks, day, size = struct.unpack_from("<IIH", content, 12)
    return marks, day, content[22 : 22 + size].decode()


def pages_write(value: dict[str, Any]) -> bytes:
    """Digests of pages in a page of their own, and of that in front of it."""
    body = struct.pack(">IIH", 0x42574B31, value["marks"], value["day"])
    body += filled_up(value["name"].encode("utf-16be"), 80)
    body += b"".join(filled_up(x["name"].encode(), 12) + struct.pack(">HI", x["air"], 0) for x in value["crew"])
    body = filled_up(body, 4 * PAGE)
    digests = (hashlib.sha1(body[at : at + PAGE]).digest() for at in range(0, len(body), PAGE))
    table = filled_up(b"".join(each + struct.pack(">I", number) for number, each in enumerate(digests)), PAGE)
    head = filled_up(hashlib.sha1(table).digest() + struct.pack(">II", 1, len(body)), PAGE - 24)
    return b"BWCN" + hashlib.sha1(head).digest() + head + table + body


def pages_read(content: bytes) -> Read:
    assert content[4:24] == hashlib.sha1(content[24:PAGE]).digest()
    assert content[24:44] == hashlib.sha1(content[PAGE : 2 * PAGE]).digest()
    body = content[2 * PAGE :]
    for number in range(4):
        at = PAGE + 24 * number
        assert content[at : at + 20] == hashlib.sha1(body[number * PAGE : (number + 1) * PAGE]).digest()
    _, marks, day = struct.unpack_from(">IIH", body)
    return marks, day, text_of(body[10:90], "utf-16be")


def banks(count: int) -> tuple[Callable[[dict[str, Any]], bytes], Callable[[bytes], Read]]:
    """So many banks that take turns."""

    def bank(value: dict[str, Any], turn: int) -> bytes:
        raw = struct.pack("<IIH", turn, value["marks"], value["day"]) + filled_up(value["name"].encode(), 50)
        raw += b"".join(bytes([x["air"]]) + filled_up(x["name"].encode(), 9) for x in value["crew"][:24])
        raw = filled_up(raw, 1020)
        return raw + struct.pack("<I", zlib.crc32(raw))

    def write(value: dict[str, Any]) -> bytes:
        turn = 40 + value["day"]
        before = [{**value, "marks": value["marks"] - 150 * n, "day": max(value["day"] - n, 1)} for n in range(count)]
        found = {(turn - number) % count: bank(each, turn - number) for number, each in enumerate(before)}
        return b"".join(found[number] for number in range(count))

    def read(content: bytes) -> Read:
        raws = [content[at : at + 1024] for at in range(0, len(content), 1024)]
        whole = [raw for raw in raws if struct.unpack("<I", raw[1020:])[0] == zlib.crc32(raw[:1020])]
        newest = max(whole, key=lambda raw: struct.unpack_from("<I", raw)[0])
        _, marks, day = struct.unpack_from("<IIH", newest)
        return marks, day, text_of(newest[10:60])

    return write, read


def attribute_write(value: dict[str, Any]) -> bytes:
    name = value["name"].replace("&", "&amp;")
    inner = f'<company name="{name}"><marks>{value["marks"]}</marks><day>{value["day"]}</day>'
    inner += "".join(f'<diver name="{x["name"]}" air="{x["air"]}"/>' for x in value["crew"]) + "</company>"
    return f'<?xml version="1.0"?>\n<save hash="{hashlib.md5(inner.encode()).hexdigest()}">{inner}</save>\n'.encode()


def attribute_read(content: bytes) -> Read:
    match = re.fullmatch(r'<\?xml version="1.0"\?>\n<save hash="(\w+)">(.*)</save>\n', content.decode())
    assert match is not None
    assert match[1] == hashlib.md5(match[2].encode()).hexdigest()
    inner = re.match(r'<company name="([^"]*)"><marks>(\d+)</marks><day>(\d+)</day>', match[2])
    assert inner is not None
    return int(inner[2]), int(inner[3]), inner[1].replace("&amp;", "&")


def doubled_write(value: dict[str, Any]) -> bytes:
    """A header that repeats what is in the body, with its own length in front."""
    head = short(value["name"]) + struct.pack("<I", value["marks"])
    body = (
        struct.pack("<I", value["day"]) + head + b"".join(short(x["name"]) + bytes([x["air"]]) for x in value["crew"])
    )
    return b"BWDH" + struct.pack("<HI", len(head), zlib.crc32(body)) + head + body


def doubled_read(content: bytes) -> Read:
    size, checksum = struct.unpack_from("<HI", content, 4)
    head, body = content[10 : 10 + size], content[10 + size :]
    assert zlib.crc32(body) == checksum
    assert body[4:].startswith(head)
    return struct.unpack("<I", head[-4:])[0], struct.unpack_from("<I", body)[0], head[2:-4].decode()


FOLLOWING = (
    Format("a memory of every second byte", memory_write, memory_read, "any"),
    Format("words turned round", turned_write, turned_read, "crc-32"),
    Format("tables in a buffer", tables_write, tables_read, "any"),
    Format("members one behind the other", members_write, members_read),
    Format("base64 in every line", letters_write, letters_read),
    Format("blocks, and a digest of all", blocks_write, blocks_read, "any"),
    Format("blocks within blocks", nested_write, nested_read, "crc-32"),
    Format("a length in words", words_write, words_read, "any"),
    Format("digests of pages", pages_write, pages_read, "sha-1"),
    Format("three banks that take turns", *banks(3), "crc-32"),
    Format("four banks that take turns", *banks(4), "crc-32"),
    Format("a digest in an attribute", attribute_write, attribute_read, "md5"),
)


class WhatFollowsTest(SightingsCase):
    def test_what_the_game_showed_is_changed_so_that_it_takes_it(self) -> None:
        self.changed_in_each(FOLLOWING)

    def test_a_value_that_is_stored_twice_is_pinned_with_its_copy(self) -> None:
        from tests.cli.test_from_sightings import voyage

        moments = voyage(random.Random(random.randrange(1 << 32)))
        saves = [self.folder / f"{letter}.sav" for letter in "abcd"]
        for path, value in zip(saves, moments, strict=True):
            path.write_bytes(doubled_write(value))
        last, place, out = moments[-1], self.folder / "place.json", self.folder / "out.sav"

        def locate(name: str) -> None:
            seen = (f"--seen={path}={value[name]}" for path, value in zip(saves, moments, strict=True))
            place.write_text(self.run_command("locate", *seen, "--json")[1])

        locate("marks")
        status, _, words = self.run_command("pin", saves[-1], "--place", place, "--as", "Marks")
        self.assertEqual(status, 0, words)
        self.assertRegex(words, r"note: 0x[0-9A-F]+ \(\d+\) said the same in every copy; --copies pins it as well")
        status, _, words = self.run_command("post", saves[-1], "--set", "marks=777777", "--dry-run")
        self.assertEqual(status, 0, words)
        self.assertRegex(words, r"note: marks: the same value is at 0x[0-9A-F]+ \(\d+\) of save, and stays as it is")

        own = self.folder / "own.yaml"
        own.write_text('ledger: 1\nid: own\ntitle: Own\nfiles: {save: {name: "*.sav", layout: []}}\n')
        for name, called in (("marks", "Marks"), ("name", "Called")):
            locate(name)
            given = ("--place", place, "--as", called, "--copies", "--template", own)
            self.assertEqual(self.run_command("pin", saves[-1], *given)[0], 0)
        found = self.json_of("find-seals", *saves, "--accept", "--template", own)
        self.assertTrue(found["accepted"], found)
        self.json_of("post", saves[-1], "--set", "marks=777777", "--out", out, "--template", own)
        self.assertEqual(doubled_read(out.read_bytes()), (777777, last["day"], last["name"]))
        status, _, words = self.run_command(
            "post", saves[-1], "--set", "called=Maud of the outer harbour", "--template", own, "--dry-run"
        )
        self.assertEqual(status, 2, "the length of the header is not described")
        self.assertRegex(
            words, r"the u16le at 0x4 \(4\) looks like the length of what is in front of what a seal covers"
        )
