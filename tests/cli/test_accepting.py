"""From saves nobody has described to one that a game accepts, by two commands: what find-seals --accept puts into the
template is renewed by a posting. Each format has a writer of its own, and a reader that refuses what does not agree.
"""

from __future__ import annotations

import base64
import gzip
import hashlib
import json
import random
import struct
import zlib
from collections.abc import Callable
from typing import Any, NamedTuple

import lz4.block

from tests.cli.test_commands import CommandCase

NAMES = ("Tamsin", "Oriel", "Ives", "Wren", "Bram")
PART = 700  # bytes of a payload that are packed by themselves


class Format(NamedTuple):
    name: str
    write: Callable[[dict[str, Any]], bytes]
    read: Callable[[bytes], dict[str, Any]]


def company(turn: random.Random) -> dict[str, Any]:
    """One whose text leaves room for more in its last part: one part more than there were is refused."""
    while True:
        crew = [{"name": turn.choice(NAMES), "air": turn.randrange(100)} for _ in range(turn.randrange(30, 50))]
        value = {"marks": turn.randrange(1 << 16), "day": turn.randrange(400), "crew": crew}
        if 0 < len(text_of(value)) % PART < PART - 60:
            return value


def text_of(value: dict[str, Any]) -> bytes:
    return json.dumps(value).encode()


def cut(data: bytes) -> list[bytes]:
    return [data[at : at + PART] for at in range(0, len(data), PART)]


def table_write(value: dict[str, Any]) -> bytes:
    data = text_of(value)
    parts = cut(data)
    packed = [zlib.compress(part) for part in parts]
    listed = b"".join(struct.pack("<II", len(each), len(part)) for each, part in zip(packed, parts, strict=True))
    return struct.pack("<QQQ", PART, sum(map(len, packed)), len(data)) + listed + b"".join(packed)


def table_read(content: bytes) -> dict[str, Any]:
    part, packed, total = struct.unpack_from("<QQQ", content)
    count, at, data = -(-total // part), 24, b""
    sizes = [struct.unpack_from("<II", content, at + 8 * number) for number in range(count)]
    at += 8 * count
    assert sum(size for size, _ in sizes) == packed == len(content) - at
    for size, unpacked in sizes:
        piece = zlib.decompress(content[at : at + size])
        assert len(piece) == unpacked == min(part, total - len(data))
        data, at = data + piece, at + size
    found: dict[str, Any] = json.loads(data)
    return found


def chain_write(value: dict[str, Any]) -> bytes:
    out = b"BWK4"
    for part in cut(text_of(value)):
        packed = lz4.block.compress(part, store_size=False)
        out += struct.pack(">III", len(packed), len(part), zlib.crc32(part)) + packed
    return out


def chain_read(content: bytes) -> dict[str, Any]:
    at, data = 4, b""
    while at < len(content):
        size, unpacked, checksum = struct.unpack_from(">III", content, at)
        at += 12
        piece = lz4.block.decompress(content[at : at + size], uncompressed_size=unpacked)
        assert len(piece) == unpacked and zlib.crc32(piece) == checksum
        data, at = data + piece, at + size
    found: dict[str, Any] = json.loads(data)
    return found


def raw_write(value: dict[str, Any]) -> bytes:
    packer, data = zlib.compressobj(9, zlib.DEFLATED, -15), text_of(value)
    packed = packer.compress(data) + packer.flush()
    return struct.pack("<4sII", b"BWRD", len(data), len(packed)) + packed + b"END!"


def raw_read(content: bytes) -> dict[str, Any]:
    _, unpacked, size = struct.unpack_from("<4sII", content)
    data = zlib.decompress(content[12 : 12 + size], -15)
    assert len(data) == unpacked and content[12 + size :] == b"END!"
    found: dict[str, Any] = json.loads(data)
    return found


def hidden(data: bytes) -> bytes:
    return bytes(byte ^ b"brine"[at % 5] for at, byte in enumerate(data))


def hidden_write(value: dict[str, Any]) -> bytes:
    data = hidden(text_of(value))
    return struct.pack("<4sHHII", b"BWXR", 3, 0, len(data), zlib.crc32(data)) + data


def hidden_read(content: bytes) -> dict[str, Any]:
    _, _, _, size, checksum = struct.unpack_from("<4sHHII", content)
    data = content[16:]
    assert len(data) == size and zlib.crc32(data) == checksum
    found: dict[str, Any] = json.loads(hidden(data))
    return found


def lettered_write(value: dict[str, Any]) -> bytes:
    """A text in a text, with its checksum and its length in decimal beside it."""
    text = base64.b64encode(gzip.compress(text_of(value), mtime=0)).decode()
    return json.dumps({"size": len(text_of(value)), "crc": zlib.crc32(text.encode()), "data": text}).encode()


def lettered_read(content: bytes) -> dict[str, Any]:
    whole = json.loads(content)
    data = gzip.decompress(base64.b64decode(whole["data"]))
    assert zlib.crc32(whole["data"].encode()) == whole["crc"] and len(data) == whole["size"]
    found: dict[str, Any] = json.loads(data)
    return found


def hashed_write(value: dict[str, Any]) -> bytes:
    digest = hashlib.sha256(json.dumps(value, separators=(",", ":")).encode()).hexdigest()
    return json.dumps({"unpacked": value, "digest": digest}, indent=1).encode()


def hashed_read(content: bytes) -> dict[str, Any]:
    whole = json.loads(content)
    value: dict[str, Any] = whole["unpacked"]
    assert hashlib.sha256(json.dumps(value, separators=(",", ":")).encode()).hexdigest() == whole["digest"]
    return value


FORMATS = (
    Format("a table of sizes", table_write, table_read),
    Format("LZ4 blocks with headers", chain_write, chain_read),
    Format("raw deflate with something behind it", raw_write, raw_read),
    Format("a hash in the text", hashed_write, hashed_read),
    Format("a text under a key behind a header", hidden_write, hidden_read),
    Format("a packed text in a text", lettered_write, lettered_read),
)


class AcceptingTest(CommandCase):
    def test_what_is_accepted_is_renewed_by_a_posting(self) -> None:
        for number, each in enumerate(FORMATS):
            seed = random.randrange(1 << 32)
            turn = random.Random(seed)
            folder = self.folder / str(number)
            folder.mkdir()
            values = [company(turn) for _ in range(5)]
            saves = [folder / f"{letter}.sav" for letter in "abcde"]
            for path, value in zip(saves, values, strict=True):
                path.write_bytes(each.write(value))
            with self.subTest(each.name, seed=seed):
                found = self.json_of("find-seals", *saves, "--accept")
                self.assertTrue(found["template"])
                for path, value in zip(saves[:2], values, strict=False):
                    before = path.read_bytes()
                    out = folder / f"{path.stem}.out"
                    shown = [field["path"] for field in self.json_of("read", path)["fields"]]
                    (marks,) = [shown_path for shown_path in shown if shown_path.endswith("marks")]
                    (name,) = [shown_path for shown_path in shown if shown_path.endswith("crew[1].name")]
                    entries = ("--set", f"{marks}=1234567890", "--set", f"{name}=Tamsin of the quay")
                    posted = self.json_of("post", path, *entries, "--out", out)
                    self.assertTrue(posted["in_balance"])
                    value["marks"], value["crew"][1]["name"] = 1234567890, "Tamsin of the quay"
                    self.assertEqual(each.read(out.read_bytes()), value)
                    self.assertEqual(path.read_bytes(), before)

    def test_nothing_that_may_be_chance_is_put_in(self) -> None:
        turn = random.Random(7)
        saves = [self.folder / f"{letter}.sav" for letter in "abcd"]
        for path in saves:
            path.write_bytes(turn.randbytes(200))
        found = self.json_of("find-seals", *saves, "--accept", "--algorithm", "sum", status=1)
        self.assertEqual((found["template"], found["accepted"]), (None, []))
        self.assertEqual(list(self.folder.rglob("*.yaml")), [])
