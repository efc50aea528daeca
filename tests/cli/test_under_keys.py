"""Saves under a key or a password that somebody knows, but not how the game uses it."""

from __future__ import annotations

import base64
import gzip
import hashlib
import json
import random
import struct
import zlib
from collections.abc import Sequence
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from faithful_ledger.core.layers.ciphers import Cipher
from tests.cli.test_from_sightings import Format, SightingsCase, of_json, of_plain, plain, voyage

PASSWORD = "slack water 42"
SECRET = PASSWORD.encode()


def hidden(kind: str, key: bytes, vector: bytes, content: bytes) -> bytes:
    return Cipher(kind, key, vector).closed(content, bytes(16) if kind == "aes-gcm" else b"")  # its tag


def opened(kind: str, key: bytes, vector: bytes, body: bytes) -> bytes:
    return Cipher(kind, key, vector).opened(body)


def drawn(value: dict[str, Any], size: int = 16) -> bytes:
    """What a game draws anew for each save."""
    return random.Random(value["seed"]).randbytes(size)


def salted_write(value: dict[str, Any]) -> bytes:
    """A key derived with the initial vector as its salt."""
    vector = drawn(value)
    key = hashlib.pbkdf2_hmac("sha1", SECRET, vector, 100, 16)
    return vector + hidden("aes-cbc", key, vector, json.dumps(value).encode())


def salted_read(content: bytes) -> tuple[int, int, str]:
    key = hashlib.pbkdf2_hmac("sha1", SECRET, content[:16], 100, 16)
    return of_json(opened("aes-cbc", key, content[:16], content[16:]))


def lettered_write(value: dict[str, Any]) -> bytes:
    """Packed, under the digest of a password, in base64."""
    key, vector = hashlib.sha256(SECRET).digest(), drawn(value)
    packed = gzip.compress(json.dumps(value).encode())
    return base64.b64encode(vector + hidden("aes-cfb", key, vector, packed))


def lettered_read(content: bytes) -> tuple[int, int, str]:
    body, key = base64.b64decode(content), hashlib.sha256(SECRET).digest()
    return of_json(gzip.decompress(opened("aes-cfb", key, body[:16], body[16:])))


def checked_write(value: dict[str, Any]) -> bytes:
    """Behind a header, with a checksum inside."""
    body = plain(value)
    sealed = body + struct.pack("<I", zlib.crc32(body))
    return b"BWEN\1\0\0\0" + hidden("aes-ecb", hashlib.md5(SECRET).digest(), b"", sealed)


def checked_read(content: bytes) -> tuple[int, int, str]:
    sealed = opened("aes-ecb", hashlib.md5(SECRET).digest(), b"", content[8:])
    assert zlib.crc32(sealed[:-4]) == int.from_bytes(sealed[-4:], "little")
    return of_plain(sealed)


def hidden_each(value: dict[str, Any]) -> dict[str, str]:
    """Each value for itself, in base64, with a vector of its own in front."""
    turn, key = random.Random(value["seed"]), hashlib.sha256(SECRET).digest()
    shown = {name: str(value[name]).encode() for name in ("name", "day", "marks", "seed")}
    bodies = {name: (vector := turn.randbytes(16)) + hidden("aes-cbc", key, vector, shown[name]) for name in shown}
    return {name: base64.b64encode(body).decode() for name, body in bodies.items()}


def opened_each(spelled: dict[str, str]) -> tuple[int, int, str]:
    bodies = {name: base64.b64decode(letters) for name, letters in spelled.items()}
    key = hashlib.sha256(SECRET).digest()
    shown = {name: opened("aes-cbc", key, body[:16], body[16:]).decode() for name, body in bodies.items()}
    return int(shown["marks"]), int(shown["day"]), shown["name"]


def strings_write(value: dict[str, Any]) -> bytes:
    return json.dumps({"version": 4, **hidden_each(value)}, indent=1).encode()


def strings_read(content: bytes) -> tuple[int, int, str]:
    known = json.loads(content)
    assert known.pop("version") == 4
    return opened_each(known)


def named_write(value: dict[str, Any]) -> bytes:
    """In XML, where the names of the values are digests."""
    lines = (
        f'    <string name="{hashlib.md5(name.encode()).hexdigest()}">{letters}</string>\n'
        for name, letters in hidden_each(value).items()
    )
    return f"<?xml version='1.0' encoding='utf-8'?>\n<map>\n{''.join(lines)}</map>\n".encode()


def named_read(content: bytes) -> tuple[int, int, str]:
    names = {hashlib.md5(name.encode()).hexdigest(): name for name in ("name", "day", "marks", "seed")}
    return opened_each({names[each.attrib["name"]]: each.text or "" for each in ElementTree.fromstring(content)})


def digits_write(value: dict[str, Any]) -> bytes:
    """XORed, in hexadecimal, so that some of it looks like numbers."""
    lines = (f"{name}={xored(str(value[name]).encode()).hex()}\r\n" for name in ("name", "day", "marks", "seed"))
    return "[player]\r\n{}".format("".join(lines)).encode()


def digits_read(content: bytes) -> tuple[int, int, str]:
    shown = dict(line.split("=") for line in content.decode().splitlines()[1:])
    known = {name: xored(bytes.fromhex(digits)).decode() for name, digits in shown.items()}
    return int(known["marks"]), int(known["day"]), known["name"]


def xored(content: bytes) -> bytes:
    return bytes(byte ^ SECRET[number % len(SECRET)] for number, byte in enumerate(content))


def tagged_write(value: dict[str, Any]) -> bytes:
    """The nonce, the tag and the content in strings of their own."""
    nonce, key = drawn(value, 12), hashlib.sha256(SECRET).digest()
    body = hidden("aes-gcm", key, nonce, json.dumps(value).encode())
    return json.dumps({"iv": nonce.hex(), "tag": body[-16:].hex(), "content": body[:-16].hex()}).encode()


def tagged_read(content: bytes) -> tuple[int, int, str]:
    known = {name: bytes.fromhex(digits) for name, digits in json.loads(content).items()}
    body = known["content"] + known["tag"]
    return of_json(opened("aes-gcm", hashlib.sha256(SECRET).digest(), known["iv"], body))


def beside_write(value: dict[str, Any]) -> bytes:
    """The vector in front of a sign, and what it is the vector of behind it."""
    vector, key = drawn(value), hashlib.sha256(SECRET).digest()
    return f"{vector.hex()}:{hidden('aes-cbc', key, vector, json.dumps(value).encode()).hex()}".encode()


def beside_read(content: bytes) -> tuple[int, int, str]:
    vector, body = (bytes.fromhex(part) for part in content.decode().split(":"))
    return of_json(opened("aes-cbc", hashlib.sha256(SECRET).digest(), vector, body))


def stretched_write(value: dict[str, Any]) -> bytes:
    """A salt beside the content, with which OpenSSL derives the key and the vector, which is there as well."""
    salt = drawn(value, 8)
    key, vector = stretched(salt)
    body = base64.b64encode(hidden("aes-cbc", key, vector, json.dumps(value).encode())).decode()
    return json.dumps({"ct": body, "iv": vector.hex(), "s": salt.hex()}).replace("/", "\\/").encode()


def stretched_read(content: bytes) -> tuple[int, int, str]:
    known = json.loads(content)
    key, vector = stretched(bytes.fromhex(known["s"]))
    assert known["iv"] == vector.hex()
    return of_json(opened("aes-cbc", key, vector, base64.b64decode(known["ct"])))


def stretched(salt: bytes) -> tuple[bytes, bytes]:
    made = last = b""
    while len(made) < 48:
        last = hashlib.md5(last + SECRET + salt).digest()
        made += last
    return made[:32], made[32:48]


def wide_write(value: dict[str, Any]) -> bytes:
    """A password as .NET keeps it, which is the vector as well."""
    wide = PASSWORD.encode("utf-16-le")[:16]
    return hidden("aes-cbc", wide, wide, json.dumps(value).encode())


def wide_read(content: bytes) -> tuple[int, int, str]:
    wide = PASSWORD.encode("utf-16-le")[:16]
    return of_json(opened("aes-cbc", wide, wide, content))


def headed_write(value: dict[str, Any]) -> bytes:
    """A header with a vector and, between it and the content, the size to which that unpacks."""
    vector, key, body = drawn(value), hashlib.sha256(SECRET).digest(), json.dumps(value).encode()
    sealed = hidden("aes-cbc", key, vector, zlib.compress(body))
    return b"BWCC" + hashlib.sha256(sealed).digest() + vector + struct.pack("<I", len(body)) + sealed


def headed_read(content: bytes) -> tuple[int, int, str]:
    digest, vector, size, sealed = content[4:36], content[36:52], content[52:56], content[56:]
    assert hashlib.sha256(sealed).digest() == digest
    body = zlib.decompress(opened("aes-cbc", hashlib.sha256(SECRET).digest(), vector, sealed))
    assert len(body) == int.from_bytes(size, "little")
    return of_json(body)


def trailing_write(value: dict[str, Any]) -> bytes:
    """The vector behind the content."""
    return hidden("aes-cbc", hashlib.md5(SECRET).digest(), drawn(value), json.dumps(value).encode()) + drawn(value)


def trailing_read(content: bytes) -> tuple[int, int, str]:
    return of_json(opened("aes-cbc", hashlib.md5(SECRET).digest(), content[-16:], content[:-16]))


def turned_write(value: dict[str, Any]) -> bytes:
    """Blowfish over words whose lowest byte is first, with a checksum inside."""
    body = plain(value)
    body += bytes(-(len(body) + 4) % 8)
    sealed = struct.pack("<I", zlib.crc32(body)) + body
    return Cipher("blowfish-le-ecb", SECRET, b"", "none").closed(sealed, b"")


def turned_read(content: bytes) -> tuple[int, int, str]:
    sealed = Cipher("blowfish-le-ecb", SECRET, b"", "none").opened(content)
    assert zlib.crc32(sealed[4:]) == int.from_bytes(sealed[:4], "little")
    return of_plain(sealed[4:])


SLOT = 2048


def container_write(value: dict[str, Any]) -> bytes:
    """Slots that a directory lists, each with a digest and a vector in front."""
    turn = random.Random(value["seed"])
    slots = []
    for body in (bytes(90), plain(value), plain({**value, "name": "Nobody", "marks": 7})):
        vector = turn.randbytes(16)
        sealed = vector + hidden("aes-cbc", hashlib.md5(SECRET).digest(), vector, body.ljust(SLOT - 33, b"\0"))
        slots.append(hashlib.md5(sealed).digest() + sealed)
    entries = ((0x50, len(slot), 112 + SLOT * number, number) for number, slot in enumerate(slots))
    head = b"BWN4" + struct.pack("<III48x", 3, 64, 112) + b"".join(struct.pack("<IIII", *entry) for entry in entries)
    return head + b"".join(slots)


def container_read(content: bytes) -> tuple[int, int, str]:
    slots = []
    for number in range(3):
        _, size, start, _ = struct.unpack_from("<IIII", content, 64 + 16 * number)
        digest, sealed = content[start : start + 16], content[start + 16 : start + size]
        assert hashlib.md5(sealed).digest() == digest
        slots.append(opened("aes-cbc", hashlib.md5(SECRET).digest(), sealed[:16], sealed[16:]))
    assert len(content) == 112 + 3 * SLOT and all(len(slot) == SLOT - 33 for slot in slots)
    return of_plain(slots[1])


FORMATS = (
    Format("a password whose salt is the vector", salted_write, salted_read),
    Format("packed and in letters", lettered_write, lettered_read),
    Format("a checksum inside", checked_write, checked_read, "crc-32"),
    Format("each string for itself", strings_write, strings_read),
    Format("each string for itself, under digests", named_write, named_read),
    Format("each string for itself, in digits", digits_write, digits_read),
    Format("nonce, tag and content", tagged_write, tagged_read),
    Format("a vector beside the content", beside_write, beside_read),
    Format("a salt beside the content", stretched_write, stretched_read),
    Format("a password in two bytes a letter", wide_write, wide_read),
    Format("a vector in a header", headed_write, headed_read, "any"),
    Format("a vector at the end", trailing_write, trailing_read),
    Format("Blowfish in words turned round", turned_write, turned_read, "crc-32"),
    Format("slots of a container", container_write, container_read, "any"),
)


class UnderKeysTest(SightingsCase):
    def pinned(self, name: str, seen: Sequence[tuple[Path, object]]) -> bool:
        """The key is given once; then the template says it."""
        if name != "Marks":
            return super().pinned(name, seen)
        where = [f"--seen={path}={shown}" for path, shown in seen]
        self.assertEqual(self.run_command("locate", *where, "--json")[0], 1, "without its key it is noise")
        chosen = seen[-1][0].with_suffix(".json")
        chosen.write_text(json.dumps(self.json_of("locate", *where, "--key", PASSWORD)))
        self.json_of("pin", seen[-1][0], "--place", chosen, "--as", name)
        return True

    def test_what_the_game_showed_is_changed_so_that_it_takes_it(self) -> None:
        self.changed_in_each(FORMATS)

    def test_a_key_opens_what_it_hides_and_puts_it_back(self) -> None:
        """With the salt of a password; a wrong key opens nothing, and nothing is written."""
        value, salt = voyage(random.Random(7))[0], b"quay no. 9"
        made = hashlib.pbkdf2_hmac("sha256", SECRET, salt, 1000, 48)
        save, out, again = (self.folder / name for name in ("a.sav", "out", "again.sav"))
        save.write_bytes(hidden("aes-cbc", made[:32], made[32:], plain(value)))
        with_key = "--key", PASSWORD, "--salt", salt.hex()
        (way,) = self.json_of("profile", save, *with_key)["opened"]
        derived = {"by": "pbkdf2", "salt": salt.hex(" ").upper()}
        self.assertEqual(
            way["layers"][0] | {"key": ""}, {"layer": "aes-cbc", "key": "", "iv": "derived", "derive": derived}
        )
        self.json_of("unwrap", save, "-o", out, *with_key)
        self.assertEqual(out.read_bytes(), plain(value))
        self.json_of("wrap", out, "--like", save, "-o", again, *with_key)
        self.assertEqual(again.read_bytes(), save.read_bytes())
        self.assertEqual(self.json_of("profile", save, "--key", "high water")["opened"], [])
        self.assertIn("the key opens nothing", self.run_command("profile", save, "--key", "high water")[1])
        words = self.refused(2, "unwrap", save, "-o", self.folder / "none", "--key", "high water")
        self.assertIn("nothing was written", words)
        for given in ("--salt", "--iv"):
            self.assertIn("says nothing without its key", self.refused(2, "profile", save, given, "00"))
        self.assertFalse((self.folder / "none").exists())
