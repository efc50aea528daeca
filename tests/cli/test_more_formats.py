"""The same way, from sightings to a save that a reader of its own takes, through packings of fewer bytes, checksums with
a constant or over what a number says, files of a size of their own, and values without names.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import json
import lzma
import random
import re
import struct
import zlib
from collections.abc import Callable
from contextlib import suppress
from functools import partial
from typing import Any

from tests.cli.test_another_player import chunk, short
from tests.cli.test_from_sightings import FORMATS, Format, SightingsCase, listed_read, of_json, voyage, without_seed
from tests.support import dice

Tokens = list[tuple[int, bytes]]  # whether one is a new byte, and its bytes


def matched(data: bytes, at: int, window: int, longest: int) -> tuple[int, int]:
    """How many bytes at an offset were there before, if they are three, and how far before."""
    best = 0, 0
    for back in range(1, min(at, window) + 1):
        size = 0
        while size < longest and at + size < len(data) and data[at + size] == data[at + size - back]:
            size += 1
        best = max(best, (size, -back))
    return (best[0], -best[1]) if best[0] >= 3 else (0, 0)


def in_tokens(data: bytes, window: int, longest: int, spell: Callable[[int, int, int], bytes]) -> Tokens:
    found: Tokens = []
    at = 0
    while at < len(data):
        size, back = matched(data, at, window, longest)
        found.append((0, spell(at, size, back)) if size else (1, data[at : at + 1]))
        at += size or 1
    return found


def lzf(data: bytes) -> bytes:
    out, new = b"", b""

    def spell(at: int, size: int, back: int) -> bytes:
        high, low = divmod(back - 1, 256)
        return bytes((size - 2 << 5 | high, low)) if size < 9 else bytes((7 << 5 | high, size - 9, low))

    for is_new, raw in [*in_tokens(data, 8192, 264, spell), (0, b"")]:
        if is_new and len(new) < 32:
            new += raw
            continue
        out += (bytes((len(new) - 1,)) if new else b"") + new + (b"" if is_new else raw)
        new = raw if is_new else b""
    return out


def of_lzf(data: bytes) -> bytes:
    out, at = bytearray(), 0
    while at < len(data):
        code, at = data[at], at + 1
        if code < 32:
            out += data[at : at + code + 1]
            at += code + 1
            continue
        size = code >> 5
        if size == 7:
            size, at = size + data[at], at + 1
        back, at = ((code & 31) << 8 | data[at]) + 1, at + 1
        assert back <= len(out)
        for _ in range(size + 2):
            out.append(out[-back])
    return bytes(out)


def ringed(data: bytes) -> bytes:
    """LZSS as Okumura published it, its ring filled with zeros."""

    def spell(at: int, size: int, back: int) -> bytes:
        place = 0xFEE + at - back & 0xFFF
        return bytes((place & 255, place >> 4 & 0xF0 | size - 3))

    tokens, out = in_tokens(data, 4078, 18, spell), b""
    for first in range(0, len(tokens), 8):
        eight = tokens[first : first + 8]
        out += bytes((sum(is_new << number for number, (is_new, _) in enumerate(eight)),))
        out += b"".join(raw for _, raw in eight)
    return out


def of_ringed(data: bytes) -> bytes:
    ring, place, out, at = bytearray(4096), 0xFEE, bytearray(), 0
    while at < len(data):
        flags, at = data[at], at + 1
        for number in range(8):
            if at >= len(data):
                break
            if flags >> number & 1:
                new, at = data[at : at + 1], at + 1
            else:
                begin, size = data[at] | (data[at + 1] & 0xF0) << 4, (data[at + 1] & 15) + 3
                new, at = b"", at + 2
                for step in range(size):  # each byte goes into the ring before the next is taken
                    byte = ring[begin + step & 0xFFF]
                    ring[place], place = byte, place + 1 & 0xFFF
                    out.append(byte)
            for byte in new:
                ring[place], place = byte, place + 1 & 0xFFF
                out.append(byte)
    return bytes(out)


def in_runs(data: bytes) -> bytes:
    out, at = b"", 0
    while at < len(data):
        run = re.match(rb"(?s)(.)\1{0,127}", data[at:])
        assert run is not None
        if len(run[0]) > 2:
            out, at = out + bytes((257 - len(run[0]), data[at])), at + len(run[0])
            continue
        new = re.match(rb"(?s)(?:(.)(?!\1\1)){1,128}|.", data[at:])
        assert new is not None
        out, at = out + bytes((len(new[0]) - 1,)) + new[0], at + len(new[0])
    return out


def of_runs(data: bytes) -> bytes:
    out, at = b"", 0
    while at < len(data):
        code, at = data[at], at + 1
        if code < 128:
            out, at = out + data[at : at + code + 1], at + code + 1
        else:
            out, at = out + data[at : at + 1] * (257 - code), at + 1
    return out


def chart(value: dict[str, Any]) -> bytes:
    """A body of fixed size: numbers, names in fields of 32 and 16 bytes, and a chart of stretches of one ground."""
    turn, ground = random.Random(value["seed"]), bytearray(3072)
    for _ in range(70):
        at, size = turn.randrange(3000), turn.randrange(3, 60)
        ground[at : at + size] = bytes((turn.randrange(1, 9),)) * size
    crew = b"".join(
        diver["name"].encode().ljust(16, b"\0") + struct.pack("<HH", diver["air"], 0) for diver in value["crew"]
    )
    head = struct.pack("<II", value["marks"], value["day"]) + value["name"].encode().ljust(40, b"\0")
    return head + crew.ljust(640, b"\0") + bytes(ground[:3072])


def of_chart(data: bytes) -> tuple[int, int, str]:
    assert len(data) == 48 + 640 + 3072
    return (*struct.unpack_from("<II", data), data[8:48].rstrip(b"\0").decode())


def small(value: dict[str, Any]) -> bytes:
    """A body of which a length is small, texts behind a length of one byte."""
    out = struct.pack("<I", 7)
    out += (
        bytes((len(value["name"]),)) + value["name"].encode() + struct.pack("<fdH", 0.5, value["marks"], value["day"])
    )
    for diver in value["crew"][: value["seed"] % 9 + 9]:
        out += bytes((len(diver["name"]),)) + diver["name"].encode() + struct.pack("<I", diver["air"])
    return out


def of_small(data: bytes) -> tuple[int, int, str]:
    size = data[4]
    _, marks, day = struct.unpack_from("<fdH", data, 5 + size)
    at = 19 + size
    while at < len(data):
        at += 5 + data[at]
    assert at == len(data)
    return int(marks), day, data[5 : 5 + size].decode()


def lzf_write(value: dict[str, Any]) -> bytes:
    return json.dumps({"v": 1, "data": base64.b64encode(lzf(without_seed(value))).decode()}).encode()


def lzf_read(content: bytes) -> tuple[int, int, str]:
    return of_json(of_lzf(base64.b64decode(json.loads(content)["data"], validate=True)))


def ringed_write(value: dict[str, Any]) -> bytes:
    data = chart(value)
    packed = ringed(struct.pack("<HH", binascii.crc_hqx(data, 0xFFFF), 0x8FF) + data)
    return struct.pack("<I", len(packed)) + packed


def ringed_read(content: bytes) -> tuple[int, int, str]:
    assert struct.unpack_from("<I", content)[0] == len(content) - 4
    data = of_ringed(content[4:])
    assert struct.unpack_from("<HH", data) == (binascii.crc_hqx(data[4:], 0xFFFF), 0x8FF)
    return of_chart(data[4:])


def runs_write(value: dict[str, Any]) -> bytes:
    packed = in_runs(chart(value))
    return packed + struct.pack("<I", sum(packed) + 108_156)


def runs_read(content: bytes) -> tuple[int, int, str]:
    assert struct.unpack("<I", content[-4:])[0] == sum(content[:-4]) + 108_156
    return of_chart(of_runs(content[:-4]))


def constant_write(value: dict[str, Any]) -> bytes:
    data = small(value)
    return b"BW" + struct.pack("<I", zlib.crc32(data) ^ 0x5B2E91C7) + data


def constant_read(content: bytes) -> tuple[int, int, str]:
    assert struct.unpack_from("<I", content, 2)[0] == zlib.crc32(content[6:]) ^ 0x5B2E91C7
    return of_small(content[6:])


def digest_write(value: dict[str, Any]) -> bytes:
    data = small(value)
    return struct.pack("<i", len(data)) + data + struct.pack("<i", 64) + hashlib.sha512(data).digest()


def digest_read(content: bytes) -> tuple[int, int, str]:
    (size,) = struct.unpack_from("<i", content)
    data = content[4 : 4 + size]
    assert content[4 + size :] == struct.pack("<i", 64) + hashlib.sha512(data).digest()
    return of_small(data)


def filled_write(value: dict[str, Any], *, rubbish: bool = False) -> bytes:
    data, turn = small(value), random.Random(value["seed"])
    behind = turn.randbytes(2036 - len(data)) if rubbish else bytes(2036 - len(data))
    return b"BWFX" + struct.pack("<II", len(data), zlib.crc32(data)) + data + behind


def filled_read(content: bytes) -> tuple[int, int, str]:
    size, checksum = struct.unpack_from("<II", content, 4)
    data = content[12 : 12 + size]
    assert len(content) == 2048 and zlib.crc32(data) == checksum
    return of_small(data)


def fixed_write(value: dict[str, Any]) -> bytes:
    """A stream in a file of a fixed size, with its sizes and an inverted checksum of its packed bytes."""
    data = chart(value)
    packed = zlib.compress(data)
    head = struct.pack(
        "<8I", 21, len(data), len(packed), 860_693_325, 0, 860_700_740, ~zlib.crc32(packed) & 0xFFFFFFFF, 9
    )
    return (head + packed).ljust(4096, b"\0")


def fixed_read(content: bytes) -> tuple[int, int, str]:
    _, unpacked, size, _, _, _, checksum, _ = struct.unpack_from("<8I", content)
    packed, behind = content[32 : 32 + size], content[32 + size :]
    assert len(content) == 4096 and not any(behind) and ~zlib.crc32(packed) & 0xFFFFFFFF == checksum
    data = zlib.decompress(packed)
    assert len(data) == unpacked
    return of_chart(data)


def digits_write(value: dict[str, Any]) -> bytes:
    """Names and numbers as texts, each with its length in front."""
    pairs = [("name", value["name"]), ("marks", value["marks"]), ("day", value["day"])]
    pairs += [(f"air{number}", diver["air"]) for number, diver in enumerate(value["crew"])]
    texts = [str(text).encode() for pair in pairs for text in pair]
    return struct.pack("<i", len(pairs)) + b"".join(bytes((len(text),)) + text for text in texts)


def digits_read(content: bytes) -> tuple[int, int, str]:
    at, texts = 4, []
    while at < len(content):
        texts.append(content[at + 1 : at + 1 + content[at]].decode())
        at += 1 + content[at]
    found = dict(zip(texts[::2], texts[1::2], strict=True))
    assert len(found) == struct.unpack_from("<i", content)[0]
    return int(found["marks"]), int(found["day"]), found["name"]


def divided_write(value: dict[str, Any]) -> bytes:
    crew = ";".join(f"{diver['name']},{diver['air']}" for diver in value["crew"])
    text = f"2.052||{value['seed']};{value['name']};ab|1011|{value['marks']};{value['day']};0.5|{crew}|"
    return base64.b64encode(text.encode())


def divided_read(content: bytes) -> tuple[int, int, str]:
    parts = base64.b64decode(content, validate=True).decode().split("|")
    marks, day, _ = parts[4].split(";")
    return int(marks), int(day), parts[2].split(";")[1]


def tags_write(value: dict[str, Any]) -> bytes:
    crew = "".join(
        f'\t\t[unit]\n\t\t\tname="{d["name"]}"\n\t\t\tair="{d["air"]}"\n\t\t[/unit]\n' for d in value["crew"]
    )
    side = f'\t[side]\n\t\tgold="{value["marks"]}"\n\t\tname=_"{value["name"]}"\n{crew}\t[/side]\n'
    return f'version="1.16"\n[snapshot]\n\tday={value["day"]}\n{side}[/snapshot]\n'.encode()


def tags_read(content: bytes) -> tuple[int, int, str]:
    found = re.search(r'day=(\d+)\n\t\[side\]\n\t\tgold="(\d+)"\n\t\tname=_"(.*)"\n', content.decode())
    assert found is not None and content.count(b"[unit]") == content.count(b"[/unit]")
    return int(found[2]), int(found[1]), found[3]


def behind_write(value: dict[str, Any]) -> bytes:
    return b"BWTX" + struct.pack(">HH", 218, 0) + lzma.compress(small(value))


def behind_read(content: bytes) -> tuple[int, int, str]:
    return of_small(lzma.decompress(content[8:]))


def wide_write(value: dict[str, Any]) -> bytes:
    """As consoles write it: the highest byte first, names of 32 letters of two bytes."""
    body = value["name"].encode("utf-16-be").ljust(64, b"\0") + struct.pack(
        ">IHHf", value["marks"], value["day"], 3, 1.5
    )
    body += b"".join(
        d["name"].encode("utf-16-be").ljust(32, b"\0") + struct.pack(">HBB", d["air"], 1, 0) for d in value["crew"]
    )
    return b"BWSV" + struct.pack(">III", 2, len(body), zlib.crc32(body)) + body


def wide_read(content: bytes) -> tuple[int, int, str]:
    _, size, checksum = struct.unpack_from(">III", content, 4)
    body = content[16:]
    assert size == len(body) and checksum == zlib.crc32(body)
    return (*struct.unpack_from(">IH", body, 64), body[:64].decode("utf-16-be").rstrip("\0"))


def offsets_write(value: dict[str, Any]) -> bytes:
    """Parts whose offsets are in front of them, and how long all is."""
    name = value["name"].encode()
    parts = [struct.pack("<II", value["marks"], value["day"]) + bytes((len(name),)) + name]
    parts += [bytes(diver["air"] for diver in value["crew"]), b"\n".join(lot["item"].encode() for lot in value["lots"])]
    ends = [24 + sum(map(len, parts[:number])) for number in range(4)]
    return b"BWOT" + struct.pack("<II", ends[3], 3) + struct.pack("<3I", *ends[:3]) + b"".join(parts)


def offsets_read(content: bytes) -> tuple[int, int, str]:
    whole, count, *starts = struct.unpack_from("<5I", content, 4)
    first, crew, lots = (content[start:end] for start, end in zip(starts, [*starts[1:], whole], strict=True))
    assert (whole, count, 9 + first[8]) == (len(content), 3, len(first))
    assert all(20 <= air < 100 for air in crew) and lots.replace(b"\n", b"").isalpha()
    return (*struct.unpack_from("<II", first), first[9:].decode())


def blocks_write(value: dict[str, Any]) -> bytes:
    """Two JSON texts, each behind its length, with the size of the file in front and a checksum behind."""
    texts = [
        json.dumps(part).encode()
        for part in (
            {key: value[key] for key in ("name", "marks")},
            {key: value[key] for key in ("day", "crew", "lots")},
        )
    ]
    body = b"".join(struct.pack("<I", len(text)) + text for text in texts)
    return b"BWJB" + struct.pack("<I", len(body) + 12) + body + struct.pack("<I", zlib.crc32(body))


def blocks_read(content: bytes) -> tuple[int, int, str]:
    size, first = struct.unpack_from("<II", content, 4)
    second = int.from_bytes(content[12 + first : 16 + first], "little")
    assert size == len(content) == 20 + first + second
    assert zlib.crc32(content[8:-4]) == int.from_bytes(content[-4:], "little")
    front, rest = json.loads(content[12 : 12 + first]), json.loads(content[16 + first : -4])
    return front["marks"], rest["day"], front["name"]


def spelled_write(value: dict[str, Any]) -> bytes:
    """Packed JSON in hexadecimal digits, with its length and its checksum in front in such digits."""
    text = json.dumps(value).encode()
    return b"BW1:%08X:%08X:%b" % (len(text), zlib.crc32(text), zlib.compress(text, 9).hex().upper().encode())


def spelled_read(content: bytes) -> tuple[int, int, str]:
    _, size, checksum, packed = content.split(b":")
    text = zlib.decompress(bytes.fromhex(packed.decode()))
    assert (int(size, 16), int(checksum, 16)) == (len(text), zlib.crc32(text))
    return of_json(text)


def positions_write(value: dict[str, Any], mark: str = "\r\n") -> bytes:
    """Values without names, and two lists with their number in front."""
    lots = [text for lot in value["lots"] for text in (lot["item"], lot["many"])]
    crew = [text for diver in value["crew"] for text in (diver["name"], diver["air"])]
    listed = [value["name"], value["day"], len(value["lots"]), *lots, value["marks"], 7, len(value["crew"]), *crew]
    return mark.join(map(str, listed)).encode()


def positions_read(content: bytes, mark: str = "\r\n") -> tuple[int, int, str]:
    listed = content.decode().split(mark)
    behind = 3 + 2 * int(listed[2])
    assert len(listed) == behind + 3 + 2 * int(listed[behind + 2])
    return int(listed[behind]), int(listed[1]), listed[0]


def contained(content: bytes) -> dict[bytes, bytes]:
    """What is in a container: bodies by their tags, each behind its length."""
    found, at = dict[bytes, bytes](), 0
    while at < len(content):
        size = int.from_bytes(content[at + 4 : at + 8], "little")
        found[content[at : at + 4]] = content[at + 8 : at + 8 + size]
        at += 8 + size
    assert at == len(content)
    return found


def containers_write(value: dict[str, Any]) -> bytes:
    """Containers in a container in a container, of which each says how long it is."""
    lots = b"".join(short(lot["item"]) + bytes([lot["many"]]) for lot in value["lots"])
    crew = b"".join(short(diver["name"]) + bytes([diver["air"]]) for diver in value["crew"])
    stat = struct.pack("<II", value["marks"], value["day"])
    play = chunk(b"NAME", value["name"].encode()) + chunk(b"STAT", stat) + chunk(b"PACK", lots)
    return chunk(b"ROOT", chunk(b"PLAY", play) + chunk(b"WRLD", chunk(b"CREW", crew)))


def containers_read(content: bytes) -> tuple[int, int, str]:
    root = contained(contained(content)[b"ROOT"])
    play = contained(root[b"PLAY"])
    assert set(contained(root[b"WRLD"])) == {b"CREW"}
    marks, day = struct.unpack("<II", play[b"STAT"])
    return marks, day, play[b"NAME"].decode()


def slots_write(value: dict[str, Any]) -> bytes:
    """Slots with a digest in front of each, behind a header."""
    out = b"BWSL".ljust(16, b"\1")
    for slot in range(4):
        marks, name = (value["marks"], value["name"]) if not slot else (1000 * slot + value["day"], f"slot {slot}")
        body = struct.pack("<QII", 9, marks, value["day"] + slot) + name.encode().ljust(48, b"\0")
        body = (body + random.Random(value["seed"] + slot).randbytes(200)).ljust(0x3F0, b"\0")
        out += hashlib.md5(body).digest() + body
    return out


def slots_read(content: bytes) -> tuple[int, int, str]:
    for at in range(16, len(content), 0x400):
        assert hashlib.md5(content[at + 16 : at + 0x400]).digest() == content[at : at + 16]
    marks, day = struct.unpack_from("<II", content, 40)
    return marks, day, content[48:96].rstrip(b"\0").decode()


def halves_write(value: dict[str, Any]) -> bytes:
    """A header with a wide name and its checksum, then a body behind its length, with its digest behind it."""
    head = struct.pack("<4sIQI", b"BWTK", 3, value["seed"] * 10_000_000, value["day"])
    name = value["name"].encode("utf-16-le")
    head += struct.pack("<I", len(name)) + name
    body = struct.pack("<fI", value["day"] * 1.5, value["marks"])
    body += b"".join(short(diver["name"]) + struct.pack("<f", diver["air"]) for diver in value["crew"])
    front = head + struct.pack("<I", zlib.crc32(head)) + struct.pack("<I", len(body))
    return front + body + hashlib.sha1(body).digest()


def halves_read(content: bytes) -> tuple[int, int, str]:
    end = 24 + int.from_bytes(content[20:24], "little")
    checksum, size = struct.unpack_from("<II", content, end)
    body = content[end + 8 : end + 8 + size]
    assert checksum == zlib.crc32(content[:end]) and hashlib.sha1(body).digest() == content[end + 8 + size :]
    return (
        struct.unpack_from("<I", body, 4)[0],
        struct.unpack_from("<I", content, 16)[0],
        content[24:end].decode("utf-16-le"),
    )


def mapped(items: list[tuple[str, Any]]) -> str:
    """Names and values behind their number, each with its kind, in hexadecimal digits."""

    def one(value: Any) -> bytes:
        if isinstance(value, str):
            return struct.pack("<II", 1, len(value.encode())) + value.encode()
        return struct.pack("<Id", 0, value)

    return (struct.pack("<II", 403, len(items)) + b"".join(one(key) + one(each) for key, each in items)).hex().upper()


def maps_write(value: dict[str, Any]) -> bytes:
    company = mapped([(key, value[key]) for key in ("marks", "day", "name")])
    lots = mapped([(lot["item"], lot["many"]) for lot in value["lots"]])
    return f'[save]\r\nversion="1.2"\r\ncompany="{company}"\r\nlots="{lots}"\r\n'.encode()


def maps_read(content: bytes) -> tuple[int, int, str]:
    found = re.search(rb'company="([^"]*)"', content)
    assert found is not None
    data, at, values = bytes.fromhex(found[1].decode()), 8, list[Any]()
    while at < len(data):
        kind, size = struct.unpack_from("<II", data, at)
        values.append(data[at + 8 : at + 8 + size].decode() if kind else struct.unpack_from("<d", data, at + 4)[0])
        at += 8 + size if kind else 12
    assert struct.unpack_from("<II", data) == (403, len(values) // 2) and at == len(data)
    company = dict(zip(values[::2], values[1::2], strict=True))
    return company["marks"], company["day"], company["name"]


HEAPED = ("marks", "day", "seed", "version")


def heap_write(value: dict[str, Any]) -> bytes:
    """A table of values by the CRC of their names, and behind it the texts, of which a number says how long they are."""
    numbers = {**value, "seed": value["seed"] & 0xFFFF, "version": 9}
    table = sorted((zlib.crc32(name.encode()), numbers[name]) for name in HEAPED)
    table += [(0xFFFF0000 + number, diver["air"]) for number, diver in enumerate(value["crew"])]
    heap = b"".join(text.encode() + b"\0" for text in (value["name"], *(lot["item"] for lot in value["lots"])))
    body = struct.pack("<II", len(table), len(heap)) + b"".join(struct.pack("<III", key, 1, n) for key, n in table)
    return b"BWTV" + struct.pack("<I", zlib.crc32(body + heap)) + body + heap


def heap_read(content: bytes) -> tuple[int, int, str]:
    body = content[8:]
    assert zlib.crc32(body) == struct.unpack_from("<I", content, 4)[0]
    count, size = struct.unpack_from("<II", body)
    found = {key: number for key, _, number in struct.iter_unpack("<III", body[8 : 8 + 12 * count])}
    heap = body[8 + 12 * count :]
    assert len(heap) == size
    marks, day = (found[zlib.crc32(name.encode())] for name in HEAPED[:2])
    return marks, day, heap.partition(b"\0")[0].decode()


DOUBT = "is known, so nothing says that the game will accept it"
MORE_FORMATS = (
    Format("containers in containers", containers_write, containers_read, "length"),
    Format("slots with a digest in front of each", slots_write, slots_read, "md5"),
    Format("a checksum of the header, a digest of the body", halves_write, halves_read, "any"),
    Format("lines without keys behind a list", positions_write, positions_read),
    Format("values without keys behind a list", partial(positions_write, mark=","), partial(positions_read, mark=",")),
    Format("JSON in blocks of a binary file", blocks_write, blocks_read, "any"),
    Format("a length and a checksum in hexadecimal digits", spelled_write, spelled_read, "any"),
    Format("LZF in base64 in JSON", lzf_write, lzf_read),
    Format("LZSS behind its size", ringed_write, ringed_read, "any"),
    Format("runs with a sum that begins with a constant", runs_write, runs_read, "sum32"),
    Format("a CRC with a constant of its own", constant_write, constant_read, "crc"),
    Format("a digest behind its length", digest_write, digest_read, "any"),
    Format("as many bytes as a number says, and zeros", filled_write, filled_read, "any"),
    Format("the same, and rubbish", lambda value: filled_write(value, rubbish=True), filled_read, "crc-32"),
    Format("a stream in a file of fixed size", fixed_write, fixed_read, "crc-32"),
    Format("digits behind their length", digits_write, digits_read),
    Format("values between marks, in base64", divided_write, divided_read),
    Format("tags with a translated text", tags_write, tags_read),
    Format("xz behind a header", behind_write, behind_read),
    Format("parts behind their offsets", offsets_write, offsets_read),
    Format("wide letters, the highest byte first", wide_write, wide_read, "any"),
    Format("maps in hexadecimal digits", maps_write, maps_read),
    Format("a table of values and a heap of texts", heap_write, heap_read, "any"),
)


class MoreFormatsTest(SightingsCase):
    def test_what_the_game_showed_is_changed_so_that_it_takes_it(self) -> None:
        self.changed_in_each(MORE_FORMATS)


class FewCopiesTest(SightingsCase):
    """Of one or two copies little is known for sure: what is not sealed then is said, and what is sure is right."""

    def changed(self, each: Format, copies: int) -> tuple[bool, str]:
        """Whether the game takes the change of a save of which so many copies are known, and what the commands say. Of
        what is not pinned or not posted it is not asked.
        """
        seed = random.randrange(1 << 32)
        folder = self.folder / f"voyage{seed}"
        folder.mkdir()
        moments = voyage(random.Random(seed))[-copies:]
        saves = [folder / f"{letter}.sav" for letter in "ab"[:copies]]
        for path, value in zip(saves, moments, strict=True):
            path.write_bytes(each.write(value))
        if not self.pinned("Marks", [(path, now["marks"]) for path, now in zip(saves, moments, strict=True)]):
            return True, ""
        _, found, _ = self.run_command("find-seals", *saves, "--accept")
        (marks,) = [
            field["path"]
            for field in self.json_of("read", saves[-1])["fields"]
            if field["path"].rpartition(".")[2] == "marks"
        ]
        now, out = moments[-1] | {"marks": moments[-1]["marks"] + 100_000}, folder / "out.sav"
        status, said, refused = self.run_command("post", saves[-1], "--set", f"{marks}={now['marks']}", "--out", out)
        self.assertTrue(status or "in balance" in said or DOUBT in said, said)
        is_taken = bool(status)
        with suppress(Exception):  # whatever a reader finds wrong
            is_taken = is_taken or each.read(out.read_bytes()) == (now["marks"], now["day"], now["name"])
        return is_taken, f"{found}{said}{refused}"

    def test_what_two_copies_leave_open_is_said(self) -> None:
        fixed = next(each for each in MORE_FORMATS if each.read is fixed_read)
        others = [each for each in (*FORMATS, *MORE_FORMATS) if each.seal and each is not fixed]
        is_taken, said = self.changed(fixed, 2)
        self.assertTrue(is_taken and "◆ in balance" in said, said)
        for each in dice().sample(others, 6):
            with self.subTest(each.name):
                is_taken, said = self.changed(each, 2)
                self.assertTrue(is_taken or DOUBT in said, said)

    def test_what_one_copy_leaves_open_is_said(self) -> None:
        listed = next(each for each in FORMATS if each.read is listed_read)
        others = [each for each in (*FORMATS, *MORE_FORMATS) if each.seal and each is not listed]
        is_taken, said = self.changed(listed, 1)
        self.assertFalse(is_taken, "the checksum of the directory is only likely")
        self.assertRegex(said, r"Likely, and not put in: crc-32 at 0xC \(12\).*; accept one with --stored-at")
        (save,) = self.folder.glob("voyage*/a.sav")
        _, said, _ = self.run_command("find-seals", save, "--stored-at", "0xC", "--accept")
        self.assertIn("seal_c is a seal in the template", said)
        self.assertNotIn("not put in", said)
        for each in dice().sample(others, 5):
            with self.subTest(each.name):
                is_taken, said = self.changed(each, 1)
                self.assertTrue(is_taken or DOUBT in said or "Likely, and not put in" in said, said)
