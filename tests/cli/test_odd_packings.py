"""The same way through saves that hide everything at once: texts as letters of other bytes, or from their end to their
beginning; streams without a mark; archived objects; bytes that are listed as numbers; and numbers and texts behind
lengths that say more than themselves.
"""

from __future__ import annotations

import base64
import hashlib
import json
import plistlib
import struct
import zlib
from typing import Any

import brotli

from tests.cli.test_from_sightings import Format, SightingsCase, of_json, of_plain, plain, without_seed
from tests.core.test_tagged import archived, unarchived

WORD = "kelp"
Read = tuple[int, int, str]


def lettered(text: str) -> str:
    """Each letter XORed with one of a word and a number."""
    return "".join(chr(ord(letter) ^ ord(WORD[number % len(WORD)]) ^ 200) for number, letter in enumerate(text))


def lettered_write(value: dict[str, Any]) -> bytes:
    return lettered(without_seed(value).decode()).encode()


def lettered_read(content: bytes) -> Read:
    return of_json(lettered(content.decode()).encode())


def turned_write(value: dict[str, Any]) -> bytes:
    return base64.b64encode(without_seed(value)[::-1])


def turned_read(content: bytes) -> Read:
    return of_json(base64.b64decode(content, validate=True)[::-1])


def letters_write(value: dict[str, Any]) -> bytes:
    return base64.b64encode(without_seed(value))[::-1]


def letters_read(content: bytes) -> Read:
    return of_json(base64.b64decode(content[::-1], validate=True))


def packed_write(value: dict[str, Any]) -> bytes:
    body = without_seed(value)
    return b"BWQ1" + struct.pack("<II", len(body), zlib.crc32(body)) + brotli.compress(body)


def packed_read(content: bytes) -> Read:
    body = brotli.decompress(content[12:])
    assert struct.unpack_from("<II", content, 4) == (len(body), zlib.crc32(body))
    return of_json(body)


def objects_write(value: dict[str, Any]) -> bytes:
    return archived({key: each for key, each in value.items() if key != "seed"})


def objects_read(content: bytes) -> Read:
    assert plistlib.loads(content)["$archiver"]
    found = unarchived(content)
    return found["marks"], found["day"], found["name"]


def digits_write(value: dict[str, Any]) -> bytes:
    """Everything is a text behind its length, also numbers."""

    def said(each: object) -> bytes:
        raw = str(each).encode()
        return bytes([len(raw)]) + raw

    lots = b"".join(said(lot["item"]) + said(lot["many"]) for lot in value["lots"])
    crew = b"".join(said(diver["name"]) + said(diver["air"]) for diver in value["crew"])
    head = b"BWD9" + said(value["name"]) + said(value["day"])
    return head + bytes([len(value["lots"])]) + lots + said(value["marks"]) + bytes([len(value["crew"])]) + crew


def digits_read(content: bytes) -> Read:
    at = 4

    def said() -> str:
        nonlocal at
        end = at + 1 + content[at]
        text, at = content[at + 1 : end].decode(), end
        return text

    def pairs() -> None:
        nonlocal at
        count, at = content[at], at + 1
        for _ in range(2 * count):
            said()

    name, day = said(), int(said())
    pairs()
    marks = int(said())
    pairs()
    assert at == len(content)
    return marks, day, name


def twice(text: str) -> bytes:
    """A text behind its number of bytes with all bits turned, and its number of letters."""
    raw = text.encode()
    return struct.pack("<ii", ~len(raw), len(text)) + raw


def twice_write(value: dict[str, Any]) -> bytes:
    lots = b"".join(twice(lot["item"]) + struct.pack("<i", lot["many"]) for lot in value["lots"])
    crew = b"".join(b"\2" + twice(diver["name"]) + struct.pack("<i", diver["air"]) for diver in value["crew"])
    head = b"\5" + struct.pack("<i", value["day"]) + twice(value["name"]) + struct.pack("<i", len(value["lots"]))
    return head + lots + struct.pack("<ii", value["marks"], len(value["crew"])) + crew


def twice_read(content: bytes) -> Read:
    at = 1

    def number() -> int:
        nonlocal at
        at += 4
        return int(struct.unpack_from("<i", content, at - 4)[0])

    def text() -> str:
        nonlocal at
        size, letters = ~number(), number()
        found, at = content[at : at + size].decode(), at + size
        assert len(found) == letters
        return found

    day, name = number(), text()
    for _ in range(number()):
        text()
        number()
    marks = number()
    for _ in range(number()):
        at += 1
        text()
        number()
    assert at == len(content)
    return marks, day, name


def plain_list_write(value: dict[str, Any]) -> bytes:
    body = b"BWL1" + plain(value)
    listed = {"type": "buffer", "data": list(body)}
    return json.dumps({"size": len(body), "hash": hashlib.md5(body).hexdigest(), "body": listed}, indent=1).encode()


def plain_list_read(content: bytes) -> Read:
    found = json.loads(content)
    body = bytes(found["body"]["data"])
    assert (found["size"], found["hash"]) == (len(body), hashlib.md5(body).hexdigest())
    return of_plain(body.removeprefix(b"BWL1"))


def signed_list_write(value: dict[str, Any]) -> bytes:
    body = without_seed(value)
    listed = struct.pack(">I", len(body)) + zlib.compress(body)
    return json.dumps({"slots": [{"id": 1, "blob": [byte - 256 if byte > 127 else byte for byte in listed]}]}).encode()


def signed_list_read(content: bytes) -> Read:
    (slot,) = json.loads(content)["slots"]
    listed = bytes(byte & 255 for byte in slot["blob"])
    body = zlib.decompress(listed[4:])
    assert struct.unpack_from(">I", listed) == (len(body),)
    return of_json(body)


def lines_write(value: dict[str, Any]) -> bytes:
    body = plain(value)
    body += struct.pack("<I", zlib.crc32(body))
    return b"\n".join(" ".join(map(str, body[at : at + 16])).encode() for at in range(0, len(body), 16)) + b"\n"


def lines_read(content: bytes) -> Read:
    body = bytes(map(int, content.split()))
    assert struct.pack("<I", zlib.crc32(body[:-4])) == body[-4:]
    return of_plain(body[:-4])


FORMATS = (
    Format("letters XORed with a word and a number", lettered_write, lettered_read),
    Format("a text turned round, in base64", turned_write, turned_read),
    Format("base64 turned round", letters_write, letters_read),
    Format("brotli behind its size and a checksum", packed_write, packed_read, "any"),
    Format("archived objects", objects_write, objects_read),
    Format("digits behind their length", digits_write, digits_read),
    Format("texts behind two lengths", twice_write, twice_read),
    Format("bytes of JSON, as numbers", plain_list_write, plain_list_read, "md5"),
    Format("a packed text in JSON, as signed numbers", signed_list_write, signed_list_read, "any"),
    Format("bytes as numbers in lines", lines_write, lines_read, "crc-32"),
)


class OddPackingsTest(SightingsCase):
    def test_what_the_game_showed_is_changed_so_that_it_takes_it(self) -> None:
        self.changed_in_each(FORMATS)

    def test_a_length_with_its_bits_turned_is_never_left_stale(self) -> None:
        save, template = self.folder / "a.sav", self.folder / "own.yaml"
        save.write_bytes(b"BWT1" + twice("Oriel & Sons") + struct.pack("<i", 1340))
        template.write_text(
            'ledger: 1\nid: own\ntitle: Own\nfiles: {save: {name: "*.sav", layout: ['
            "{field: name, as: text, length: u32le, at: 8}, {field: marks, as: u32le}]}}\n"
        )
        out = self.folder / "b.sav"
        given = ("--template", template, "--out", out)
        status, _, words = self.run_command("post", save, "--set", "name=Oriel & Daughters", *given)
        self.assertEqual((status, out.exists()), (2, False))
        self.assertRegex(
            words, r"the i32le at 0x4 \(4\) looks like its length with all bits turned, which the template"
        )
        self.json_of("post", save, "--set", "name=Tamsin & Son", *given)
        self.assertEqual(out.read_bytes(), b"BWT1" + twice("Tamsin & Son") + struct.pack("<i", 1340))
