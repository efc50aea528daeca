"""From numbers that the game showed, over saves nobody has described, to a changed save that a reader of its own takes:
locate, pin, find-seals --accept and post, one after the other. Each format has a writer and a strict reader.
"""

from __future__ import annotations

import base64
import gzip
import hashlib
import io
import json
import lzma
import pickle
import plistlib
import random
import sqlite3
import struct
import tarfile
import tempfile
import zlib
from collections.abc import Callable, Sequence
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple
from urllib.parse import quote, unquote

from tests.cli.test_commands import CommandCase
from tests.core.tagged_samples import document, of_document

NAMES = ("Tamsin", "Oriel", "Ives", "Wren", "Bram", "Maud", "Piran")
ITEMS = ("rope", "lamp", "note", "hose", "bell", "net")


class Format(NamedTuple):
    name: str
    write: Callable[[dict[str, Any]], bytes]
    read: Callable[[bytes], tuple[int, int, str]]  # marks, day, and name
    seal: str = ""  # the algorithm that is looked for, or any, if there is one


def voyage(turn: random.Random) -> list[dict[str, Any]]:
    """A company at four moments of one game."""
    crew = [{"name": turn.choice(NAMES), "air": turn.randrange(20, 100)} for _ in range(turn.randrange(25, 32))]
    state = {"name": f"{turn.choice(NAMES)} & Sons", "day": turn.randrange(3, 40), "marks": turn.randrange(2000, 60000)}
    moments = []
    for _ in range(4):
        lots = [{"item": turn.choice(ITEMS), "many": turn.randrange(1, 30)} for _ in range(turn.randrange(8, 20))]
        moments.append(json.loads(json.dumps({**state, "crew": crew, "lots": lots, "seed": turn.getrandbits(32)})))
        state["marks"] += turn.randrange(130, 800)
        state["day"] += 1
        for diver in crew:
            diver["air"] = turn.randrange(20, 100)
    return moments


def plain(value: dict[str, Any]) -> bytes:
    """A body of numbers, and of texts with their length in front."""
    out = struct.pack("<IId", value["marks"], value["day"], value["seed"] / 7)
    parts = [(value["name"], b""), *((diver["name"], struct.pack("<B", diver["air"])) for diver in value["crew"])]
    parts += [(lot["item"], struct.pack("<H", lot["many"])) for lot in value["lots"]]
    for text, number in parts:
        out += struct.pack("<H", len(text)) + text.encode() + number
    return out


def of_plain(data: bytes) -> tuple[int, int, str]:
    marks, day, _, size = struct.unpack_from("<IIdH", data)
    return marks, day, data[18 : 18 + size].decode()


def of_json(text: bytes) -> tuple[int, int, str]:
    found = json.loads(text)
    return found["marks"], found["day"], found["name"]


def without_seed(value: dict[str, Any]) -> bytes:
    return json.dumps({key: each for key, each in value.items() if key != "seed"}).encode()


def pairs_write(value: dict[str, Any]) -> bytes:
    parts = [f"{key}:{value[key]}" for key in ("marks", "day", "name")]
    parts += [f"diver{number}:{diver['name']},{diver['air']}" for number, diver in enumerate(value["crew"])]
    parts += [f"lot{number}:{lot['item']},{lot['many']}" for number, lot in enumerate(value["lots"])]
    text = ";".join(parts)
    return f"{text};#{sum(text.encode())}".encode()


def pairs_read(content: bytes) -> tuple[int, int, str]:
    text, total = content.decode().rsplit(";#", 1)
    assert int(total) == sum(text.encode())
    found = dict(part.split(":", 1) for part in text.split(";"))
    return int(found["marks"]), int(found["day"]), found["name"]


def counted(value: Any) -> str:
    """A serialised text in which every text has its length and every list its count in front."""
    if isinstance(value, int):
        return f"i:{value};"
    if isinstance(value, str):
        return f's:{len(value.encode())}:"{value}";'
    items = value.items() if isinstance(value, dict) else enumerate(value)
    return f"a:{len(value)}:{{{''.join(counted(key) + counted(each) for key, each in items)}}}"


def counted_write(value: dict[str, Any]) -> bytes:
    return base64.b64encode(counted(value).encode())


def counted_read(content: bytes) -> tuple[int, int, str]:
    text, at = base64.b64decode(content, validate=True).decode(), 0

    def value() -> Any:
        nonlocal at
        kind, (front, _, _) = text[at], text[at + 2 :].partition(";" if text[at] == "i" else ":")
        at += 3 + len(front)
        if kind == "i":
            return int(front)
        begin, size = at + 1, int(front)
        if kind == "s":
            at = begin + size + 2
            assert text[begin - 1] == text[begin + size] == '"' and text[begin + size + 1] == ";"
            return text[begin : begin + size]
        at = begin
        found = {value(): value() for _ in range(size)}
        assert text[at] == "}"
        at += 1
        return found

    found = value()
    assert at == len(text)
    return found["marks"], found["day"], found["name"]


def hashed_write(value: dict[str, Any]) -> bytes:
    text = without_seed(value)
    digest = hashlib.md5(text).hexdigest()
    return json.dumps({"version": 1, "data": base64.b64encode(text).decode(), "hash": digest}).encode()


def hashed_read(content: bytes) -> tuple[int, int, str]:
    whole = json.loads(content)
    text = base64.b64decode(whole["data"])
    assert hashlib.md5(text).hexdigest() == whole["hash"]
    return of_json(text)


def wide_write(value: dict[str, Any]) -> bytes:
    lines = ["[purse]", *(f"{key}={value[key]}" for key in ("marks", "day", "name")), "[lots]"]
    lines += [f"{number}={lot['item']},{lot['many']}" for number, lot in enumerate(value["lots"])]
    text = "".join(f"{line}\r\n" for line in lines).encode("utf-16-le")
    return bytes(byte ^ 0x5C for byte in struct.pack("<I", len(text)) + text)


def wide_read(content: bytes) -> tuple[int, int, str]:
    data = bytes(byte ^ 0x5C for byte in content)
    assert struct.unpack_from("<I", data)[0] == len(data) - 4
    found = dict(line.split("=") for line in data[4:].decode("utf-16-le").split("\r\n") if "=" in line)
    return int(found["marks"]), int(found["day"]), found["name"]


def generated(seed: int, data: bytes) -> bytes:
    out = bytearray()
    for byte in data:
        seed = (seed * 1664525 + 1013904223) & 0xFFFFFFFF
        out.append(byte ^ seed >> 24)
    return bytes(out)


def generated_write(value: dict[str, Any]) -> bytes:
    data = plain(value)
    return struct.pack("<I", value["seed"]) + generated(value["seed"], data + struct.pack("<I", zlib.crc32(data)))


def generated_read(content: bytes) -> tuple[int, int, str]:
    data = generated(struct.unpack_from("<I", content)[0], content[4:])
    assert zlib.crc32(data[:-4]) == struct.unpack("<I", data[-4:])[0]
    return of_plain(data)


def seeded_write(value: dict[str, Any]) -> bytes:
    """Words of two bytes under a generator that is seeded with their sum."""
    body = plain({**value, "lots": value["lots"][:5]}).ljust(700, b"\0")
    total = sum(struct.unpack("<350H", body)) & 0xFFFF
    return struct.pack("<IHH", value["seed"], 3, total) + under_sum(body, total)


def under_sum(body: bytes, number: int) -> bytes:
    out = b""
    for (word,) in struct.iter_unpack("<H", body):
        number = (number * 1_103_515_245 + 24_691) % 2**32
        out += struct.pack("<H", word ^ number >> 16)
    return out


def seeded_read(content: bytes) -> tuple[int, int, str]:
    (total,) = struct.unpack("<H", content[6:8])
    body = under_sum(content[8:], total)
    assert sum(struct.unpack("<350H", body)) & 0xFFFF == total
    return of_plain(body)


def hex_write(value: dict[str, Any]) -> bytes:
    data = plain(value)
    text = json.dumps({"slot": 1, "blob": data.hex().upper(), "blobCrc": f"{zlib.crc32(data):08X}"})
    return gzip.compress(text.encode(), mtime=0)


def hex_read(content: bytes) -> tuple[int, int, str]:
    whole = json.loads(gzip.decompress(content))
    data = bytes.fromhex(whole["blob"])
    assert whole["blob"] == whole["blob"].upper() and whole["blobCrc"] == f"{zlib.crc32(data):08X}"
    return of_plain(data)


CONSTANT = 0x5A17C3B9


def masked_write(value: dict[str, Any]) -> bytes:
    """Two numbers that are hidden: one by the number before it, which is another one in each save, and a constant."""
    key = value["seed"]
    return struct.pack("<4sIII", b"HOLD", key, value["marks"] ^ key, value["day"] ^ CONSTANT) + plain(
        {**value, "marks": 0, "day": 0, "seed": 0}
    )


def masked_read(content: bytes) -> tuple[int, int, str]:
    magic, key, marks, day = struct.unpack_from("<4sIII", content)
    assert magic == b"HOLD"
    return marks ^ key, day ^ CONSTANT, of_plain(content[16:])[2]


def constant_write(value: dict[str, Any]) -> bytes:
    return plain({**value, "marks": value["marks"] ^ CONSTANT})


def constant_read(content: bytes) -> tuple[int, int, str]:
    marks, day, name = of_plain(content)
    return marks ^ CONSTANT, day, name


def inverted_write(value: dict[str, Any]) -> bytes:
    """Behind two bytes, so that the number begins where no word of four does."""
    return b"\x03\0" + plain({**value, "marks": value["marks"] ^ 0xFFFFFFFF})


def inverted_read(content: bytes) -> tuple[int, int, str]:
    marks, day, name = of_plain(content[2:])
    return marks ^ 0xFFFFFFFF, day, name


def twice_write(value: dict[str, Any]) -> bytes:
    """Two halves that are alike, each with a sum of its words and the complement of that sum at its end."""
    air = bytes(diver["air"] for diver in value["crew"])[:24]
    lots = b"".join(bytes((len(lot["item"]), lot["many"])) for lot in value["lots"])
    half = struct.pack(">IHH", value["marks"], value["day"], 3) + value["name"].encode().ljust(20, b"\0") + air + lots
    half = half.ljust(252, b"\0")
    total = sum(struct.unpack(">126H", half)) & 0xFFFF
    return (half + struct.pack(">HH", total, total ^ 0xFFFF)) * 2


def twice_read(content: bytes) -> tuple[int, int, str]:
    half = content[:256]
    total = sum(struct.unpack(">126H", half[:252])) & 0xFFFF
    assert content == half * 2
    assert struct.unpack(">HH", half[252:]) == (total, total ^ 0xFFFF)
    return *struct.unpack(">IH", half[:6]), half[8:28].rstrip(b"\0").decode()


def broken_write(value: dict[str, Any]) -> bytes:
    """Bytes in a text, as a library writes them: base64 in lines with tabs in front."""
    return plistlib.dumps({"version": 3, "profile": json.dumps(value).encode(), "sound": True})


def broken_read(content: bytes) -> tuple[int, int, str]:
    return of_json(plistlib.loads(content)["profile"])


def variable(number: int) -> bytes:
    """Seven bits a byte, the low ones first."""
    out = b""
    while number > 127:
        out += bytes([number & 127 | 128])
        number >>= 7
    return out + bytes([number])


def behind_write(value: dict[str, Any]) -> bytes:
    """A text as a library writes one, its length in front in as many bytes as that needs."""
    text = without_seed(value)
    return b"\1\0\0\0" + variable(len(text)) + text


def behind_read(content: bytes) -> tuple[int, int, str]:
    text = content[content.index(b"{") :]
    assert content[4:] == variable(len(text)) + text
    return of_json(text)


def signed_write(value: dict[str, Any]) -> bytes:
    """With the sum of bytes that have a sign in front."""
    parts = plain(value) + bytes(256 - diver["air"] for diver in value["crew"])
    return struct.pack("<i", sum(struct.unpack(f"{len(parts)}b", parts))) + parts


def signed_read(content: bytes) -> tuple[int, int, str]:
    assert struct.unpack("<i", content[:4])[0] == sum(struct.unpack(f"{len(content) - 4}b", content[4:]))
    return of_plain(content[4:])


def escaped_write(value: dict[str, Any]) -> bytes:
    """As a page makes letters of a text, and of these base64."""
    return base64.b64encode(quote(json.dumps(value), safe="!~*'()").encode())


def escaped_read(content: bytes) -> tuple[int, int, str]:
    return of_json(unquote(base64.b64decode(content, validate=True).decode()).encode())


def tiles_write(value: dict[str, Any]) -> bytes:
    """The numbers of pictures that show digits, of which 0x80 is the first, the lowest digit first."""
    shown = bytes(0x80 + int(digit) for digit in f"{value['marks']:07d}"[::-1])
    parts = shown + plain({**value, "marks": 0})[4:]
    return struct.pack("<I", zlib.crc32(parts)) + parts


def tiles_read(content: bytes) -> tuple[int, int, str]:
    parts = content[4:]
    assert struct.unpack("<I", content[:4])[0] == zlib.crc32(parts)
    _, day, name = of_plain(bytes(4) + parts[7:])
    return int("".join(str(byte - 0x80) for byte in parts[6::-1])), day, name


def lzma_write(value: dict[str, Any]) -> bytes:
    return lzma.compress(without_seed(value), format=lzma.FORMAT_ALONE)


def lzma_read(content: bytes) -> tuple[int, int, str]:
    return of_json(lzma.decompress(content, format=lzma.FORMAT_ALONE))


def tables_write(value: dict[str, Any]) -> bytes:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.db"
        database = sqlite3.connect(path)
        database.execute("create table purse (key text primary key, value)")
        database.execute("create table lots (id integer primary key, item text, many int)")
        database.executemany("insert into purse values (?, ?)", [(key, value[key]) for key in ("marks", "day", "name")])
        lots = [(lot["item"], lot["many"]) for lot in value["lots"]]
        database.executemany("insert into lots (item, many) values (?, ?)", lots)
        database.commit()
        database.close()
        return path.read_bytes()


def tables_read(content: bytes) -> tuple[int, int, str]:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.db"
        path.write_bytes(content)
        database = sqlite3.connect(path)
        assert database.execute("pragma integrity_check").fetchone() == ("ok",)
        found = dict(database.execute("select key, value from purse"))
        database.close()
    return found["marks"], found["day"], found["name"]


def beside_write(value: dict[str, Any]) -> bytes:
    """A text with its checksum in front of it or behind it, in letters or in bytes."""
    return BESIDE[len(value["crew"]) % len(BESIDE)][0](without_seed(value))


def beside_read(content: bytes) -> tuple[int, int, str]:
    for write, cut in BESIDE:
        try:
            text = cut(content)
            if write(text) == content:
                return of_json(text)
        except ValueError:
            continue
    raise AssertionError("no checksum is right")


BESIDE: tuple[tuple[Callable[[bytes], bytes], Callable[[bytes], bytes]], ...] = (
    (lambda text: hashlib.md5(text).hexdigest().encode() + text, lambda content: content[32:]),
    (lambda text: text + b"#" + hashlib.sha1(text).hexdigest().encode(), lambda content: content[:-41]),
    (lambda text: text + struct.pack("<I", zlib.crc32(text)), lambda content: content[:-4]),
    (lambda text: text + b"\n%08x" % zlib.crc32(text), lambda content: content[:-9]),
    (lambda text: struct.pack("<II", len(text), zlib.crc32(text)) + text, lambda content: content[8:]),
)


def lines_write(value: dict[str, Any]) -> bytes:
    lines = ["[purse]", *(f"{key}={value[key]}" for key in ("marks", "day", "name")), "[lots]"]
    lines += [f"lot{number}={lot['item']},{lot['many']}" for number, lot in enumerate(value["lots"])]
    text = "".join(f"{line}\n" for line in lines).encode()
    return text + b"; checksum %d\n" % zlib.adler32(text)


def lines_read(content: bytes) -> tuple[int, int, str]:
    text, checksum = content.split(b"; checksum ")
    assert int(checksum) == zlib.adler32(text)
    found = dict(line.split("=") for line in text.decode().split("\n") if "=" in line)
    return int(found["marks"]), int(found["day"]), found["name"]


def page_write(value: dict[str, Any]) -> bytes:
    """What a page gives to copy: letters that an address may hold, and a word at the end."""
    text = f"2.1||{value['day']};{value['seed']}|{value['name']}|{value['marks']}.5;{value['lots'][0]['many']}"
    return quote(base64.b64encode((text + "|" * 40).encode()).decode(), safe="").encode() + b"%21END%21"


def page_read(content: bytes) -> tuple[int, int, str]:
    text = unquote(content.decode())
    assert text.endswith("!END!")
    parts = base64.b64decode(text[:-5], validate=True).decode().split("|")
    return int(float(parts[4].split(";")[0])), int(parts[2].split(";")[0]), parts[3]


def address_write(value: dict[str, Any]) -> bytes:
    data = zlib.compress(without_seed(value))
    return b"BWK:" + base64.urlsafe_b64encode(struct.pack(">I", zlib.crc32(data)) + data).rstrip(b"=")


def address_read(content: bytes) -> tuple[int, int, str]:
    letters = content[4:]
    assert content[:4] == b"BWK:" and b"=" not in letters
    data = base64.urlsafe_b64decode(letters + b"=" * (-len(letters) % 4))
    assert struct.unpack(">I", data[:4])[0] == zlib.crc32(data[4:])
    return of_json(zlib.decompress(data[4:]))


def keyed_write(value: dict[str, Any]) -> bytes:
    key = f"brine-{value['crew'][0]['name']}".encode()  # of one game
    text = json.dumps(json.loads(without_seed(value)), indent=1).encode()
    return base64.b64encode(bytes(byte ^ key[at % len(key)] for at, byte in enumerate(text)))


def keyed_read(content: bytes) -> tuple[int, int, str]:
    data = base64.b64decode(content, validate=True)
    for name in NAMES:
        key = f"brine-{name}".encode()
        text = bytes(byte ^ key[at % len(key)] for at, byte in enumerate(data))
        with suppress(ValueError):
            return of_json(text)
    raise AssertionError("no key opens it")


def raw_write(value: dict[str, Any]) -> bytes:
    data, packer = plain(value), zlib.compressobj(9, zlib.DEFLATED, -15)
    packed = packer.compress(data) + packer.flush()
    return struct.pack("<4sHHIII", b"BWRD", 1, 0, len(data), len(packed), zlib.crc32(packed)) + packed


def raw_read(content: bytes) -> tuple[int, int, str]:
    _, _, _, unpacked, size, checksum = struct.unpack_from("<4sHHIII", content)
    packer = zlib.decompressobj(-15)
    data = packer.decompress(content[20:])
    assert packer.eof and len(data) == unpacked and len(content) == size + 20 and zlib.crc32(content[20:]) == checksum
    return of_plain(data)


def archive_write(value: dict[str, Any]) -> bytes:
    out, data = io.BytesIO(), plain(value)
    about = json.dumps({"slot": 1, "sum": f"{zlib.crc32(data):08x}"}).encode()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.USTAR_FORMAT) as archive:
        for name, content in (("meta.json", about), ("state.bin", data)):
            member = tarfile.TarInfo(name)
            member.size = len(content)
            archive.addfile(member, io.BytesIO(content))
    return gzip.compress(out.getvalue(), mtime=0)


def archive_read(content: bytes) -> tuple[int, int, str]:
    with tarfile.open(fileobj=io.BytesIO(content), mode="r:gz") as archive:
        data, about = (archive.extractfile(name).read() for name in ("state.bin", "meta.json"))  # type: ignore[union-attr]
    assert json.loads(about)["sum"] == f"{zlib.crc32(data):08x}"
    return of_plain(data)


def bits_write(value: dict[str, Any], *, highest_first: bool = False) -> bytes:
    """Numbers of any width, one directly behind the other."""
    numbers = [(5, 3), (value["day"], 9), (value["marks"], 22), (len(value["crew"]) | 1, 5)]
    numbers += [(diver["air"], 7) for diver in value["crew"]]
    bits = "".join(f"{number:0{width}b}"[:: 1 if highest_first else -1] for number, width in numbers)
    bits = bits.ljust(-(-len(bits) // 8) * 8, "0")
    data = bytes(int(bits[at : at + 8][:: 1 if highest_first else -1], 2) for at in range(0, len(bits), 8))
    return b"BB" + data + value["name"].encode().ljust(24, b"\0")


def bits_read(content: bytes, *, highest_first: bool = False) -> tuple[int, int, str]:
    bits = "".join(f"{byte:08b}"[:: 1 if highest_first else -1] for byte in content[2:-24])
    day, marks = (bits[low:high][:: 1 if highest_first else -1] for low, high in ((3, 12), (12, 34)))
    return int(marks, 2), int(day, 2), content[-24:].rstrip(b"\0").decode()


def banks_write(value: dict[str, Any]) -> bytes:
    """Two banks that take turns, with a counter and a checksum in each."""
    banks = []
    for count, each in ((value["day"], value), (value["day"] - 1, {**value, "marks": value["marks"] - 77})):
        body = struct.pack("<I", count) + plain(each)
        banks.append(body.ljust(1020, b"\xff") + struct.pack("<I", zlib.crc32(body.ljust(1020, b"\xff"))))
    return b"".join(banks if value["day"] % 2 else banks[::-1])


def banks_read(content: bytes) -> tuple[int, int, str]:
    banks = [content[:1024], content[1024:]]
    assert all(struct.unpack("<I", bank[1020:])[0] == zlib.crc32(bank[:1020]) for bank in banks)
    counts = [struct.unpack_from("<I", bank)[0] for bank in banks]
    assert abs(counts[0] - counts[1]) == 1
    marks, day, name = of_plain(banks[counts.index(max(counts))][4:])
    assert of_plain(banks[counts.index(min(counts))][4:])[0] != marks
    return marks, day, name


def sections_write(value: dict[str, Any]) -> bytes:
    """Two halves that take turns; in each the sections begin one further than in the one before."""
    halves = []
    for older in (0, 1):
        count = value["day"] - older
        turn = random.Random(value["seed"] - older)
        name = value["name"].encode().ljust(24, b"\xff")
        purse = struct.pack("<II", value["marks"] - 90 * older, value["day"] - older)
        crew = b"".join(struct.pack("<B", diver["air"]) for diver in value["crew"])
        sections = []
        for number, body in enumerate((name, purse + crew, turn.randbytes(300), turn.randbytes(90))):
            body = body.ljust(1012, b"\0")
            total = sum(struct.unpack("<253I", body))
            folded = (total >> 16) + (total & 0xFFFF) & 0xFFFF
            sections.append(body + struct.pack("<HHII", number, folded, 0x42726E77, count))
        halves.append(b"".join(sections[-count % 4 :] + sections[: -count % 4]))
    return b"".join(halves if value["day"] % 2 else halves[::-1]) + b"\xff" * 2048


def sections_read(content: bytes) -> tuple[int, int, str]:
    newest: dict[int, dict[int, bytes]] = {}
    for at in range(0, 8192, 1024):
        section = content[at : at + 1024]
        number, folded, mark, count = struct.unpack_from("<HHII", section, 1012)
        total = sum(struct.unpack_from("<253I", section))
        assert (mark, folded) == (0x42726E77, (total >> 16) + (total & 0xFFFF) & 0xFFFF)
        newest.setdefault(count, {})[number] = section
    assert all(len(sections) == 4 for sections in newest.values())
    sections = newest[max(newest)]
    marks, day = struct.unpack_from("<II", sections[1])
    return marks, day, sections[0][:24].rstrip(b"\xff").decode()


def mirrored_write(value: dict[str, Any]) -> bytes:
    """Three slots with a sum and its inverse in each, and all of it twice."""
    out = b"BRNW"
    for slot in range(3):
        body = struct.pack("<HI24s", value["day"] + slot, value["marks"] - 7 * slot, value["name"].encode())
        body += bytes(diver["air"] for diver in value["crew"][: 20 + slot])
        total = sum(body := body.ljust(92, b"\0")) & 0xFFFF
        out += body + struct.pack("<HH", total, total ^ 0xFFFF)
    return out.ljust(512, b"\xff") * 2


def mirrored_read(content: bytes) -> tuple[int, int, str]:
    assert content[:512] == content[512:]
    for slot in range(3):
        body = content[4 + 96 * slot : 100 + 96 * slot]
        total = sum(body[:92]) & 0xFFFF
        assert struct.unpack("<HH", body[92:]) == (total, total ^ 0xFFFF)
    day, marks, name = struct.unpack_from("<HI24s", content, 4)
    return marks, day, name.rstrip(b"\0").decode()


def listed_write(value: dict[str, Any]) -> bytes:
    """A directory with a tag, the offset, the size and the checksum of each part."""
    parts = {
        b"HEAD": struct.pack("<II", value["seed"], value["day"]),
        b"PURS": struct.pack("<II", value["marks"], 5),
        b"NAME": value["name"].encode().ljust(24, b"\0"),
        b"CREW": b"".join(struct.pack("<8sI", d["name"].encode(), d["air"]) for d in value["crew"]),
        b"LOTS": b"".join(struct.pack("<8sI", lot["item"].encode(), lot["many"]) for lot in value["lots"]),
    }
    at, listed = 16 + 16 * len(parts), b""
    for tag, part in parts.items():
        listed += tag + struct.pack("<III", at, len(part), zlib.crc32(part))
        at += len(part)
    return b"BLD1" + struct.pack("<III", len(parts), at, zlib.crc32(listed)) + listed + b"".join(parts.values())


def listed_read(content: bytes) -> tuple[int, int, str]:
    count, size, whole = struct.unpack_from("<III", content, 4)
    assert (size, whole) == (len(content), zlib.crc32(content[16 : 16 + 16 * count]))
    parts = {}
    for entry in range(16, 16 + 16 * count, 16):
        at, size, wanted = struct.unpack_from("<III", content, entry + 4)
        parts[content[entry : entry + 4]] = content[at : at + size]
        assert zlib.crc32(content[at : at + size]) == wanted
    (marks, _), (_, day) = struct.unpack("<II", parts[b"PURS"]), struct.unpack("<II", parts[b"HEAD"])
    return marks, day, parts[b"NAME"].rstrip(b"\0").decode()


def between_write(value: dict[str, Any]) -> bytes:
    """Values that say what they are, behind a header and with a checksum behind them."""
    body = document({key: each for key, each in value.items() if key != "seed"})
    return b"HVSD" + struct.pack("<HH", 3, 0) + body + struct.pack(">I", zlib.crc32(body))


def between_read(content: bytes) -> tuple[int, int, str]:
    assert zlib.crc32(content[8:-4]) == int.from_bytes(content[-4:], "big")
    found = of_document(content[8:-4])
    return found["marks"], found["day"], found["name"]


def own_key_write(value: dict[str, Any]) -> bytes:
    """A text under a key that is drawn anew for each save, and is in it."""
    key, text = random.Random(value["seed"]).randbytes(4), without_seed(value)
    hidden = bytes(byte ^ key[at % 4] for at, byte in enumerate(text))
    return b"XK" + key + struct.pack("<I", zlib.crc32(text)) + hidden


def own_key_read(content: bytes) -> tuple[int, int, str]:
    text = bytes(byte ^ content[2 + at % 4] for at, byte in enumerate(content[10:]))
    assert zlib.crc32(text) == int.from_bytes(content[6:10], "little")
    return of_json(text)


def pickle_write(value: dict[str, Any]) -> bytes:
    return zlib.compress(pickle.dumps(value, 2 + len(value["crew"]) % 4))


def pickle_read(content: bytes) -> tuple[int, int, str]:
    found = pickle.loads(zlib.decompress(content))
    return found["marks"], found["day"], found["name"]


def buffer_write(value: dict[str, Any]) -> bytes:
    """The marks in digits in a buffer of nine bytes, which is filled up in one of four ways."""
    text, fill = str(value["marks"]), len(value["crew"]) % 4
    marks = (text.ljust(9, "\0"), text.ljust(9), text.rjust(9), text.zfill(9))[fill]
    return struct.pack("<4sBI24s9s", b"DIGT", fill, value["day"], value["name"].encode(), marks.encode()) + bytes(
        range(1, 60)
    )


def buffer_read(content: bytes) -> tuple[int, int, str]:
    assert len(content) == 42 + 59 and content[42:] == bytes(range(1, 60))
    _, fill, day, name, marks = struct.unpack_from("<4sBI24s9s", content)
    text = marks.decode()
    number = text.strip(" \0")
    assert text == (number.ljust(9, "\0"), number.ljust(9), number.rjust(9), str(int(number)).zfill(9))[fill]
    return int(number), day, name.rstrip(b"\0").decode()


def in_a_list_write(value: dict[str, Any]) -> bytes:
    """A text in a string of a text, which is an item of a list."""
    return json.dumps({"slots": [None, json.dumps({"data": json.dumps(value)})]}).encode()


def in_a_list_read(content: bytes) -> tuple[int, int, str]:
    return of_json(json.loads(json.loads(content)["slots"][1])["data"])


def element_write(value: dict[str, Any]) -> bytes:
    inner = base64.b64encode(gzip.compress(without_seed(value), mtime=0))
    return b"<?xml version='1.0'?>\n<save><stamp>%d</stamp><data>%b</data></save>\n" % (value["seed"], inner)


def element_read(content: bytes) -> tuple[int, int, str]:
    return of_json(gzip.decompress(base64.b64decode(content.split(b"data>")[1].removesuffix(b"</"))))


def settings_write(value: dict[str, Any]) -> bytes:
    lines = [f"{key}={base64.b64encode(str(value[key]).encode()).decode()}" for key in ("name", "day", "marks", "seed")]
    return "\r\n".join(["[company]", *lines, ""]).encode()


def settings_read(content: bytes) -> tuple[int, int, str]:
    found = dict(line.split("=", 1) for line in content.decode().split("\r\n")[1:-1])
    marks, day, name = (base64.b64decode(found[key], validate=True).decode() for key in ("marks", "day", "name"))
    return int(marks), int(day), name


def turned_write(value: dict[str, Any]) -> bytes:
    """Values of any number of bits, each behind its number, and a sum whose bits are turned before each byte."""
    bits = 0
    fields = ((value["day"], 10), (value["marks"], 25), (value["seed"] & 1023, 10), (0, 0))
    width = 0
    for number, (field, size) in enumerate(fields):
        bits |= ((number if size else 0x1FF) | field << 9) << width
        width += 9 + size
    packed = bits.to_bytes((width + 7) // 8, "little")
    body = struct.pack("<I20sI", 96, value["name"].encode(), value["seed"]) + packed
    body += b"".join(lot["item"].encode() + struct.pack("<H", lot["many"]) for lot in value["lots"])
    return b"TURN" + struct.pack("<I", turned_sum(b"TURN" + bytes(4) + body)) + body


def turned_sum(data: bytes) -> int:
    total = 0
    for byte in data:
        total = (total << 1 | total >> 31) + byte & 0xFFFFFFFF
    return total


def turned_read(content: bytes) -> tuple[int, int, str]:
    assert turned_sum(content[:4] + bytes(4) + content[8:]) == int.from_bytes(content[4:8], "little")
    bits = int.from_bytes(content[36:], "little")
    assert (bits & 511, bits >> 19 & 511) == (0, 1)
    return bits >> 28 & 0x1FFFFFF, bits >> 9 & 1023, content[12:32].rstrip(b"\0").decode()


def crossed_write(value: dict[str, Any]) -> bytes:
    """Numbers that are XORed with others drawn for each."""
    turn = random.Random(value["seed"])
    numbers = {"marks": value["marks"], "day": value["day"], "debt": value["seed"] % 900}
    keys = {name: turn.randrange(-(1 << 31), 1 << 31) for name in numbers}
    masked = {name: {"key": keys[name], "hidden": numbers[name] ^ keys[name]} for name in numbers}
    return json.dumps({"name": value["name"], **masked}).encode()


def crossed_read(content: bytes) -> tuple[int, int, str]:
    known = json.loads(content)
    marks, day = (known[name]["hidden"] ^ known[name]["key"] for name in ("marks", "day"))
    return marks, day, known["name"]


def filled_write(value: dict[str, Any]) -> bytes:
    """Columns of letters, with zeros in front of numbers."""
    return f"{value['name']:<24}|{value['day']:05}|{value['marks']:09}|{value['seed'] % 10**9:09}\r\n".encode()


def filled_read(content: bytes) -> tuple[int, int, str]:
    name, day, marks, _ = content.decode().removesuffix("\r\n").split("|")
    assert list(map(len, (name, day, marks))) == [24, 5, 9]
    return int(marks), int(day), name.rstrip()


def record_write(value: dict[str, Any]) -> bytes:
    """A record of .NET that is one text, in base64."""
    text = base64.b64encode(json.dumps(value).encode())
    size, spelled = len(text), b""
    while size > 127:
        spelled += bytes([size & 127 | 128])
        size >>= 7
    head = bytes.fromhex("0001000000ffffffff01000000000000000601000000")
    return head + spelled + bytes([size]) + text + b"\x0b"


def record_read(content: bytes) -> tuple[int, int, str]:
    at, size, shift = 22, 0, 0
    while content[at] > 127:
        size |= (content[at] & 127) << shift
        at, shift = at + 1, shift + 7
    size |= content[at] << shift
    assert content[at + 1 + size :] == b"\x0b"
    return of_json(base64.b64decode(content[at + 1 : -1], validate=True))


def lettered_head_write(value: dict[str, Any]) -> bytes:
    """Letters of a header directly in front of base64."""
    body = zlib.compress(without_seed(value))
    return b"BWICK     1D" + base64.b64encode(struct.pack("<III", 1, 16, len(body)) + body)


def lettered_head_read(content: bytes) -> tuple[int, int, str]:
    assert content[:12] == b"BWICK     1D"
    body = base64.b64decode(content[12:], validate=True)
    assert int.from_bytes(body[8:12], "little") == len(body) - 12
    return of_json(zlib.decompress(body[12:]))


def encoded_write(value: dict[str, Any]) -> bytes:
    """Each value for itself, in base64."""
    texts = {name: str(value[name]).encode() for name in ("name", "marks", "day", "seed")}
    return json.dumps({name: base64.b64encode(text).decode() for name, text in texts.items()}).encode()


def encoded_read(content: bytes) -> tuple[int, int, str]:
    known = {name: base64.b64decode(letters).decode() for name, letters in json.loads(content).items()}
    return int(known["marks"]), int(known["day"]), known["name"]


FORMATS = (
    Format("digits in a buffer", buffer_write, buffer_read),
    Format("a text in an item of a list", in_a_list_write, in_a_list_read),
    Format("a packed text in an element", element_write, element_read),
    Format("settings in base64", settings_write, settings_read),
    Format("a sum whose bits are turned", turned_write, turned_read, "any"),
    Format("a pickle, packed", pickle_write, pickle_read),
    Format("a text under a key that is in the save", own_key_write, own_key_read, "crc-32"),
    Format("sections that change places", sections_write, sections_read, "sum16-of-u32le-folded"),
    Format("slots in a save that is there twice", mirrored_write, mirrored_read, "any"),
    Format("a directory of parts", listed_write, listed_read, "any"),
    Format("values between a header and a checksum", between_write, between_read, "crc-32"),
    Format("a text with a checksum around it", beside_write, beside_read, "any"),
    Format("lines with a checksum in a comment", lines_write, lines_read, "adler-32"),
    Format("base64 in letters of an address", page_write, page_read),
    Format("base64 for addresses, behind a mark", address_write, address_read, "crc-32"),
    Format("a text under a key, in base64", keyed_write, keyed_read),
    Format("a raw stream behind its sizes", raw_write, raw_read, "any"),
    Format("members of a packed archive", archive_write, archive_read, "crc-32"),
    Format("numbers of any bits", bits_write, bits_read),
    Format(
        "numbers of any bits, the highest first",
        partial(bits_write, highest_first=True),
        partial(bits_read, highest_first=True),
    ),
    Format("two banks that take turns", banks_write, banks_read, "crc-32"),
    Format("pairs with a checksum behind them", pairs_write, pairs_read, "sum"),
    Format("a text of no known format in base64", counted_write, counted_read),
    Format("JSON in base64 in JSON, with a hash beside it", hashed_write, hashed_read, "md5"),
    Format("a text in UTF-16 under a key, with its length", wide_write, wide_read, "length"),
    Format("numbers under a generator", generated_write, generated_read, "crc-32"),
    Format("words under a generator seeded with their sum", seeded_write, seeded_read, "sum16-of-u16le"),
    Format("numbers in hexadecimal in packed JSON", hex_write, hex_read, "crc-32"),
    Format("a number XORed with the one before it", masked_write, masked_read),
    Format("a number XORed with a constant", constant_write, constant_read),
    Format("a number of which all bits are inverted", inverted_write, inverted_read),
    Format("digits of a byte each", tiles_write, tiles_read, "crc-32"),
    Format("a sum and its complement, twice", twice_write, twice_read, "any"),
    Format("JSON in base64 in lines of XML", broken_write, broken_read),
    Format("a text behind its length of variable size", behind_write, behind_read, "length"),
    Format("a sum of bytes with a sign", signed_write, signed_read, "sum32-of-i8"),
    Format("escapes of addresses in base64", escaped_write, escaped_read),
    Format("LZMA alone", lzma_write, lzma_read),
    Format("a database", tables_write, tables_read),
    Format("each value in base64", encoded_write, encoded_read),
    Format("masked numbers with their keys", crossed_write, crossed_read),
    Format("numbers filled up with zeros", filled_write, filled_read),
    Format("a text in a record of .NET", record_write, record_read),
    Format("letters in front of base64", lettered_head_write, lettered_head_read, "length"),
)


class SightingsCase(CommandCase):
    """What the game showed is found, pinned with what seals it, and changed so that the game takes it."""

    def changed(self, each: Format, folder: Path, seed: int) -> None:
        turn = random.Random(seed)
        moments = voyage(turn)
        while each.seal == "length" and len({len(each.write(value)) for value in moments}) < 3:
            moments = voyage(turn)  # of two sizes any number that grows might be one
        folder.mkdir()
        saves = [folder / f"{letter}.sav" for letter in "abcd"]
        for path, value in zip(saves, moments, strict=True):
            path.write_bytes(each.write(value))
        path, value, out = saves[-1], moments[-1], folder / "out.sav"
        self.assertTrue(self.pinned("Marks", [(save, now["marks"]) for save, now in zip(saves, moments, strict=True)]))
        if each.seal:
            named = () if each.seal == "any" else ("--algorithm", each.seal)
            found = self.json_of("find-seals", *saves, *named, "--accept")
            self.assertTrue(found["accepted"], found)
        fields = self.json_of("read", path)["fields"]
        (marks,) = [field["path"] for field in fields if field["path"].rpartition(".")[2] == "marks"]
        wanted = value["marks"] + 100_000  # a digit more, where it has digits
        self.json_of("post", path, "--set", f"{marks}={wanted}", "--out", out)
        self.assertEqual(each.read(out.read_bytes()), (wanted, value["day"], value["name"]))
        self.renamed(each, list(zip(saves, moments, strict=True)), folder / "renamed.sav")
        self.played_by_another(each, moments[-1], folder, marks)

    def changed_in_each(self, formats: Sequence[Format]) -> None:
        for number, each in enumerate(formats):
            seed = random.randrange(1 << 32)
            with self.subTest(each.name, seed=seed):
                self.changed(each, self.folder / f"voyage{number}", seed)

    def pinned(self, name: str, seen: Sequence[tuple[Path, object]]) -> bool:
        """Whether what was seen is in a place that a template can hold."""
        status, out, _ = self.run_command("locate", *(f"--seen={path}={shown}" for path, shown in seen), "--json")
        chosen = seen[-1][0].with_suffix(".json")
        chosen.write_text(out)
        return not status and not self.run_command("pin", seen[-1][0], "--place", chosen, "--as", name)[0]

    def renamed(self, each: Format, moments: Sequence[tuple[Path, dict[str, Any]]], out: Path) -> None:
        """A name that is longer is taken by the game, or refused; it never breaks a save."""
        path, value = moments[-1]

        def of_name() -> list[str]:
            fields = self.json_of("read", path)["fields"]
            return [field["path"] for field in fields if field.get("value") == value["name"]]

        names = of_name()
        if not names and self.pinned("Called", [(save, now["name"]) for save, now in moments]):
            names = of_name()
        longer = f"{value['name']} of the outer harbour"
        if names and not self.run_command("post", path, "--set", f"{names[0]}={longer}", "--out", out)[0]:
            self.assertEqual(each.read(out.read_bytes()), (value["marks"], value["day"], longer))

    def played_by_another(self, each: Format, known: dict[str, Any], folder: Path, marks: str) -> None:
        """What was pinned says the right number in the save of a player with another name, and can be changed there."""
        turn = random.Random(known["seed"])
        name, lots = (
            turn.choice(("Maud", "Wren & Daughters", "Tamsin of the Quay")),
            known["lots"][: turn.randrange(2, 8)],
        )
        value = {**known, "name": name, "lots": lots, "marks": turn.randrange(10_000, 60_000), "day": 31}
        path, out = folder / "another.sav", folder / "of another.sav"
        path.write_bytes(each.write(value))
        shown = {field["path"]: field["value"] for field in self.json_of("read", path)["fields"]}
        self.assertEqual(int(shown[marks]), value["marks"], "JSON says numbers in quotes as texts")
        self.json_of("post", path, "--set", f"{marks}={value['marks'] + 7}", "--out", out)
        self.assertEqual(each.read(out.read_bytes()), (value["marks"] + 7, 31, name))


class FromSightingsTest(SightingsCase):
    def test_what_the_game_showed_is_changed_so_that_it_takes_it(self) -> None:
        self.changed_in_each(FORMATS)

    def test_a_value_in_two_banks_without_a_counter_is_refused_with_what_to_describe(self) -> None:
        turn, seen = random.Random(3), []
        for number, marks in enumerate((4321, 5210, 6102, 7777)):
            banks = [turn.randbytes(4) + struct.pack("<I", marks - 9 * step) + turn.randbytes(120) for step in (0, -1)]
            path = self.folder / f"{number}.sav"
            path.write_bytes(b"".join(banks if number % 2 else banks[::-1]))
            seen.append(f"--seen={path}={marks}")
        chosen = self.folder / "place.json"
        chosen.write_text(json.dumps(self.json_of("locate", *seen)))
        words = self.refused(2, "pin", self.folder / "3.sav", "--place", chosen, "--as", "Marks")
        self.assertIn("at 4 in some copies and at 132 in others, as in two banks", words)
        self.assertIn("a group with at: 132 if second > first else 4", words)
        self.assertEqual(list(self.folder.rglob("*.yaml")), [])

    def test_values_that_say_what_they_are_need_no_template(self) -> None:
        """What the file is in is said, and every value has its path, in the file and in a text that holds it."""
        value = {"marks": 1340, "name": "Oriel & Sons", "crew": [{"name": "Wren", "air": 7}]}
        data = pickle.dumps(value, 4)
        for name, content, path in (
            ("a.sav", data, "crew[0].air"),
            (
                "b.sav",
                json.dumps({"slot": 1, "data": base64.b64encode(data).decode()}).encode(),
                "data(text).crew[0].air",
            ),
        ):
            save = self.folder / name
            save.write_bytes(content)
            shown = {field["path"].removeprefix("unpacked."): field for field in self.json_of("read", save)["fields"]}
            self.assertEqual(shown[path]["value"], 7)
            out = self.folder / f"out of {name}"
            self.json_of("post", save, "--set", f"{path}=70000", "--out", out)
            written = out.read_bytes() if name == "a.sav" else base64.b64decode(json.loads(out.read_bytes())["data"])
            wanted = {**value, "crew": [{"name": "Wren", "air": 70000}]}
            self.assertEqual(pickle.loads(written), wanted)
            words = self.refused(2, "post", save, "--set", f"{path}=[1]", "--out", self.folder / "no.sav")
            self.assertIn("nothing was written", words)
        (self.folder / "cut.sav").write_bytes(data[:-9])
        words = self.refused(2, "read", self.folder / "cut.sav")
        self.assertIn("it begins like pickle, but a value goes beyond the end; nothing was changed", words)
        self.assertIn("no template; pickle", self.run_command("read", self.folder / "a.sav")[1])

    def test_a_new_template_replaces_no_other(self) -> None:
        """One that was made for another file of the book does not fit this one: both stay."""
        turn = random.Random(5)
        for name, magic in (("a.sav", b"PURS"), ("b.sav", b"HOLD")):
            path = self.folder / name
            path.write_bytes(magic + struct.pack("<I", 7001 + len(name)) + turn.randbytes(100))
            located = self.json_of("locate", f"--seen={path}=7006")
            chosen = self.folder / "place.json"
            chosen.write_text(json.dumps(located))
            self.json_of("pin", path, "--place", chosen, "--as", f"Marks of {name[0]}")
        templates = sorted((self.folder / "xdg").rglob("*.yaml"))
        self.assertEqual(len(templates), 2)
        for path in ("a.sav", "b.sav"):
            fields = [field["path"] for field in self.json_of("read", self.folder / path)["fields"]]
            self.assertIn(f"marks_of_{path[0]}", fields)
