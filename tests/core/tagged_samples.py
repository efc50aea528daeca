"""Writers and readers of their own for formats whose values say what they are, which know nothing of the product."""

from __future__ import annotations

import struct
from typing import Any

# MessagePack


def packed(value: Any) -> bytes:
    if value is None or isinstance(value, bool):
        return b"\xc0" if value is None else b"\xc3" if value else b"\xc2"
    if isinstance(value, int):
        if -32 <= value < 128:
            return struct.pack("b", value)
        for tag, kind, most in ((0xCC, ">B", 1 << 8), (0xCD, ">H", 1 << 16), (0xCE, ">I", 1 << 32)):
            if 0 <= value < most:
                return bytes([tag]) + struct.pack(kind, value)
        for tag, kind, most in ((0xD0, ">b", 1 << 7), (0xD1, ">h", 1 << 15), (0xD2, ">i", 1 << 31)):
            if -most <= value < 0:
                return bytes([tag]) + struct.pack(kind, value)
        return b"\xd3" + struct.pack(">q", value)
    if isinstance(value, float):
        return b"\xcb" + struct.pack(">d", value)
    if isinstance(value, str):
        raw = value.encode()
        head = bytes([0xA0 | len(raw)]) if len(raw) < 32 else b"\xda" + struct.pack(">H", len(raw))
        return (b"\xd9" + bytes([len(raw)]) if 32 <= len(raw) < 256 else head) + raw
    count = len(value)
    if isinstance(value, list):
        head = bytes([0x90 | count]) if count < 16 else b"\xdc" + struct.pack(">H", count)
        return head + b"".join(map(packed, value))
    head = bytes([0x80 | count]) if count < 16 else b"\xde" + struct.pack(">H", count)
    return head + b"".join(packed(key) + packed(each) for key, each in value.items())


def of_packed(data: bytes) -> Any:
    at = 0

    def take(size: int) -> bytes:
        nonlocal at
        at += size
        assert at <= len(data)
        return data[at - size : at]

    def value() -> Any:
        tag = take(1)[0]
        if tag < 0x80 or tag >= 0xE0:
            return tag - 256 if tag >= 0xE0 else tag
        if tag < 0x90:
            return {value(): value() for _ in range(tag & 15)}
        if tag < 0xA0:
            return [value() for _ in range(tag & 15)]
        if tag < 0xC0:
            return take(tag & 31).decode()
        if tag in (0xC0, 0xC2, 0xC3):
            return {0xC0: None, 0xC2: False, 0xC3: True}[tag]
        numbers = dict(zip(range(0xCA, 0xD4), ("f", "d", "B", "H", "I", "Q", "b", "h", "i", "q"), strict=True))
        if tag in numbers:
            return struct.unpack(">" + numbers[tag], take(struct.calcsize(numbers[tag])))[0]
        size = int.from_bytes(take({0xD9: 1, 0xDA: 2, 0xDC: 2, 0xDE: 2}[tag]), "big")
        if tag == 0xDC:
            return [value() for _ in range(size)]
        return {value(): value() for _ in range(size)} if tag == 0xDE else take(size).decode()

    found = value()
    assert at == len(data)
    return found


# CBOR


def concise(value: Any) -> bytes:
    def head(major: int, count: int) -> bytes:
        if count < 24:
            return bytes([major << 5 | count])
        info = next(info for info in range(4) if count < 1 << (8 << info))
        return bytes([major << 5 | 24 + info]) + count.to_bytes(1 << info, "big")

    if value is None or isinstance(value, bool):
        return b"\xf6" if value is None else b"\xf5" if value else b"\xf4"
    if isinstance(value, int):
        return head(0, value) if value >= 0 else head(1, -1 - value)
    if isinstance(value, float):
        return b"\xfb" + struct.pack(">d", value)
    if isinstance(value, str):
        return head(3, len(value.encode())) + value.encode()
    if isinstance(value, list):
        return head(4, len(value)) + b"".join(map(concise, value))
    return head(5, len(value)) + b"".join(concise(key) + concise(each) for key, each in value.items())


def of_concise(data: bytes) -> Any:
    at = 0

    def value() -> Any:
        nonlocal at
        first = data[at]
        at += 1
        if first in (0xF4, 0xF5, 0xF6):
            return {0xF4: False, 0xF5: True, 0xF6: None}[first]
        if first == 0xFB:
            at += 8
            return struct.unpack(">d", data[at - 8 : at])[0]
        count, more = first & 31, 0
        if count >= 24:
            more = 1 << count - 24
            count = int.from_bytes(data[at : at + more], "big")
        at += more
        major = first >> 5
        if major == 3:
            at += count
            return data[at - count : at].decode()
        if major < 2:
            return -1 - count if major else count
        return [value() for _ in range(count)] if major == 4 else {value(): value() for _ in range(count)}

    found = value()
    assert at == len(data)
    return found


# Ruby's Marshal


class Marshalled:
    """A writer with the links by number that Ruby writes."""

    def __init__(self) -> None:
        self.names: dict[str, int] = {}

    def number(self, value: int) -> bytes:
        if not value:
            return b"\0"
        if -124 < value < 123:
            return bytes([value + (5 if value > 0 else -5) & 255])
        size = next(size for size in range(1, 5) if -(1 << 8 * size) <= value < 1 << 8 * size)
        return bytes([(size if value > 0 else -size) & 255]) + (value & (1 << 8 * size) - 1).to_bytes(size, "little")

    def name(self, text: str) -> bytes:
        if text in self.names:
            return b";" + self.number(self.names[text])
        self.names[text] = len(self.names)
        return b":" + self.number(len(text)) + text.encode()

    def value(self, value: Any) -> bytes:
        if value is None or isinstance(value, bool):
            return b"0" if value is None else b"T" if value else b"F"
        if isinstance(value, int) and -(1 << 30) <= value < 1 << 30:
            return b"i" + self.number(value)
        if isinstance(value, int):
            words = -(-abs(value).bit_length() // 16)
            sign = b"-" if value < 0 else b"+"
            return b"l" + sign + self.number(words) + abs(value).to_bytes(2 * words, "little")
        if isinstance(value, float):
            text = repr(value).encode()
            return b"f" + self.number(len(text)) + text
        if isinstance(value, str):
            raw = value.encode()
            return b'I"' + self.number(len(raw)) + raw + self.number(1) + self.name("E") + b"T"
        if isinstance(value, list):
            return b"[" + self.number(len(value)) + b"".join(map(self.value, value))
        head = b"o" + self.name("Company") + self.number(len(value))
        return head + b"".join(self.name(f"@{key}") + self.value(each) for key, each in value.items())


def marshalled(value: Any) -> bytes:
    return b"\x04\x08" + Marshalled().value(value)


def of_marshalled(data: bytes) -> Any:
    at, names = 2, list[str]()

    def take(size: int) -> bytes:
        nonlocal at
        at += size
        assert at <= len(data)
        return data[at - size : at]

    def number() -> int:
        (first,) = struct.unpack("b", take(1))
        if -5 < first < 5 and first:
            raw = int.from_bytes(take(abs(first)), "little")
            return raw if first > 0 else raw - (1 << -8 * first)
        return int(first) - (5 if first > 0 else -5 if first else 0)

    def name() -> str:
        if take(1) == b";":
            return names[number()]
        names.append(take(number()).decode())
        return names[-1]

    def value() -> Any:
        letter = take(1)
        if letter in b"0TF":
            return {b"0": None, b"T": True, b"F": False}[letter]
        if letter == b"i":
            return number()
        if letter == b"l":
            sign = -1 if take(1) == b"-" else 1
            return sign * int.from_bytes(take(2 * number()), "little")
        if letter == b"f":
            return float(take(number()))
        if letter == b"I":
            assert take(1) == b'"'
            text = take(number()).decode()
            assert (number(), name(), take(1)) == (1, "E", b"T")
            return text
        if letter == b"[":
            return [value() for _ in range(number())]
        assert letter == b"o"
        assert name() == "Company"
        return {name()[1:]: value() for _ in range(number())}

    found = value()
    assert at == len(data)
    return found


# Protocol Buffers


def varint(value: int) -> bytes:
    out = bytearray()
    while value > 127:
        out.append(value & 127 | 128)
        value >>= 7
    return bytes([*out, value])


def message(fields: list[tuple[int, Any]]) -> bytes:
    """Fields by their numbers, in their order; a list is a message."""
    out = b""
    for number, value in fields:
        if isinstance(value, int):
            out += varint(number << 3) + varint(value & (1 << 64) - 1)
        elif isinstance(value, float):
            out += varint(number << 3 | 5) + struct.pack("<f", value)
        else:
            content = value.encode() if isinstance(value, str) else message(value)
            out += varint(number << 3 | 2) + varint(len(content)) + content
    return out


def of_message(data: bytes, messages: frozenset[int]) -> list[tuple[int, Any]]:
    """The fields, of which some numbers are messages wherever they are."""
    found, at = list[tuple[int, Any]](), 0

    def number() -> int:
        nonlocal at
        value, step = 0, 0
        while True:
            at += 1
            value |= (data[at - 1] & 127) << step
            step += 7
            if data[at - 1] < 128:
                return value

    while at < len(data):
        tag = number()
        if tag & 7 == 0:
            value = number()
            found.append((tag >> 3, value - (1 << 64) if value >> 63 else value))
        elif tag & 7 == 5:
            at += 4
            found.append((tag >> 3, struct.unpack("<f", data[at - 4 : at])[0]))
        else:
            size = number()
            at += size
            raw = data[at - size : at]
            found.append((tag >> 3, of_message(raw, messages) if tag >> 3 in messages else raw.decode()))
    assert at == len(data)
    return found


# Objects of .NET


def sized(text: str) -> bytes:
    return varint(len(text.encode())) + text.encode()


def net_objects(value: dict[str, Any]) -> bytes:
    """A company with its divers, who are only referred to, and of whom some have a name that was said before."""
    out = struct.pack("<Biiii", 0, 1, -1, 1, 0) + struct.pack("<Bi", 12, 2) + sized("Brinewick, Version=1.0.0.0")
    members = {"<marks>k__BackingField": 0, "name": 1, "x": 0, "open": 0, "crew": 4, "flags": 7, "day": 0, "nobody": 2}
    out += struct.pack("<Bi", 5, 1) + sized("Brinewick.Company") + struct.pack("<i", len(members))
    out += b"".join(map(sized, members)) + bytes(members.values())
    out += bytes([8, 11, 1]) + sized("Brinewick.Diver[]") + struct.pack("<i", 2) + bytes([7, 9]) + struct.pack("<i", 2)
    out += struct.pack("<i", value["marks"]) + struct.pack("<Bi", 6, 3) + sized(value["name"])
    out += struct.pack("<fBBiBiqB", value["x"], value["open"], 9, 4, 9, 5, value["day"], 10)
    crew = [diver for diver in value["crew"] if diver is not None]
    out += struct.pack("<BiBiiB", 7, 4, 0, 1, len(value["crew"]), 4) + sized("Brinewick.Diver") + struct.pack("<i", 2)
    out += b"".join(struct.pack("<Bi", 9, 10 + number) for number in range(len(crew)))
    out += bytes([13, len(value["crew"]) - len(crew)])
    out += struct.pack("<BiiB", 15, 5, len(value["flags"]), 7) + struct.pack(
        f"<{len(value['flags'])}h", *value["flags"]
    )
    said: dict[str, int] = {}
    for number, diver in enumerate(crew):
        if not number:
            out += struct.pack("<Bi", 5, 10) + sized("Brinewick.Diver") + struct.pack("<i", 3)
            out += sized("name") + sized("air") + sized("depth") + bytes([1, 0, 0, 14, 6]) + struct.pack("<i", 2)
        else:
            out += struct.pack("<Bii", 1, 10 + number, 10)
        if diver["name"] in said:
            out += struct.pack("<Bi", 9, said[diver["name"]])
        else:
            said[diver["name"]] = 100 + number
            out += struct.pack("<Bi", 6, 100 + number) + sized(diver["name"])
        out += struct.pack("<Hd", diver["air"], diver["depth"])
    return out + bytes([11])


# BSON


def document(value: dict[str, Any]) -> bytes:
    out = b""
    for key, each in value.items():
        name = key.encode() + b"\0"
        if each is None:
            out += b"\x0a" + name
        elif isinstance(each, bool):
            out += b"\x08" + name + bytes([each])
        elif isinstance(each, int):
            small = -(1 << 31) <= each < 1 << 31
            out += (b"\x10" if small else b"\x12") + name + struct.pack("<i" if small else "<q", each)
        elif isinstance(each, float):
            out += b"\x01" + name + struct.pack("<d", each)
        elif isinstance(each, str):
            out += b"\x02" + name + struct.pack("<i", len(each.encode()) + 1) + each.encode() + b"\0"
        elif isinstance(each, list):
            out += b"\x04" + name + document({str(number): part for number, part in enumerate(each)})
        else:
            out += b"\x03" + name + document(each)
    return struct.pack("<i", len(out) + 5) + out + b"\0"


def of_document(data: bytes) -> dict[str, Any]:
    """Strict: every size is right, and the names of a list are its numbers."""

    def parts(at: int, *, listed: bool) -> tuple[Any, int]:
        (size,) = struct.unpack_from("<i", data, at)
        end, at, found = at + size - 1, at + 4, dict[str, Any]()
        assert data[end] == 0
        while at < end:
            kind, stop = data[at], data.index(b"\0", at + 1)
            name, at = data[at + 1 : stop].decode(), stop + 1
            codes = {0x01: "<d", 0x08: "<?", 0x10: "<i", 0x12: "<q"}
            if kind in codes:
                (found[name],) = struct.unpack_from(codes[kind], data, at)
                at += struct.calcsize(codes[kind])
            elif kind == 0x02:
                (length,) = struct.unpack_from("<i", data, at)
                found[name] = data[at + 4 : at + 3 + length].decode()
                at += 4 + length
                assert data[at - 1] == 0
            elif kind == 0x0A:
                found[name] = None
            else:
                found[name], at = parts(at, listed=kind == 0x04)
        assert at == end
        assert not listed or list(found) == [str(number) for number in range(len(found))]
        return (list(found.values()) if listed else found), end + 1

    found, end = parts(0, listed=False)
    assert end == len(data)
    return dict(found)


# Named binary tags: whole numbers are of eight bytes


def tags(value: dict[str, Any], order: str) -> bytes:
    def text(each: str) -> bytes:
        return struct.pack(order + "H", len(each.encode())) + each.encode()

    def kind(each: Any) -> int:
        kinds = {bool: 1, int: 4, float: 6, str: 8, list: 9, dict: 10}
        return kinds[type(each)]

    def content(each: Any) -> bytes:
        if isinstance(each, str):
            return text(each)
        if isinstance(each, list):
            inner = kind(each[0]) if each else 0
            return bytes([inner]) + struct.pack(order + "i", len(each)) + b"".join(map(content, each))
        if isinstance(each, dict):
            return b"".join(bytes([kind(part)]) + text(key) + content(part) for key, part in each.items()) + b"\0"
        return struct.pack(order + {1: "b", 4: "q", 6: "d"}[kind(each)], each)

    return b"\x0a" + text("") + content(value)


def of_tags(data: bytes, order: str) -> dict[str, Any]:
    at = 3

    def take(code: str) -> Any:
        nonlocal at
        (found,) = struct.unpack_from(order + code, data, at)
        at += struct.calcsize(order + code)
        return found

    def text() -> str:
        nonlocal at
        size = take("H")
        at += size
        return data[at - size : at].decode()

    def content(kind: int) -> Any:
        if kind == 8:
            return text()
        if kind == 9:
            inner = take("b")
            return [content(inner) for _ in range(take("i"))]
        if kind == 10:
            found = {}
            while inner := take("b"):
                name = text()
                found[name] = content(inner)
            return found
        return take({1: "b", 4: "q", 6: "d"}[kind])

    assert data[:3] == b"\x0a\0\0"
    found = content(10)
    assert at == len(data)
    return dict(found)


# Shared objects, in AMF 0 and AMF 3


def shared_object(value: dict[str, Any], *, later: bool) -> bytes:
    known: list[str] = []

    def text(each: str) -> bytes:
        return struct.pack(">H", len(each.encode())) + each.encode()

    def early(each: Any) -> bytes:
        if each is None:
            return b"\x05"
        if isinstance(each, bool):
            return b"\x01" + bytes([each])
        if isinstance(each, int | float):
            return b"\x00" + struct.pack(">d", each)
        if isinstance(each, str):
            return b"\x02" + text(each)
        if isinstance(each, list):
            return b"\x0a" + struct.pack(">I", len(each)) + b"".join(map(early, each))
        return b"\x03" + b"".join(text(key) + early(part) for key, part in each.items()) + b"\0\0\x09"

    def number(each: int) -> bytes:
        if each < 0x80:
            return bytes([each])
        if each < 0x4000:
            return bytes([each >> 7 | 0x80, each & 0x7F])
        if each < 0x200000:
            return bytes([each >> 14 | 0x80, each >> 7 & 0x7F | 0x80, each & 0x7F])
        return bytes([each >> 22 | 0x80, each >> 15 & 0x7F | 0x80, each >> 8 & 0x7F | 0x80, each & 0xFF])

    def name(each: str) -> bytes:
        if each in known:
            return number(known.index(each) << 1)
        if each:
            known.append(each)
        return said(each)

    def said(each: str) -> bytes:
        return number(len(each.encode()) << 1 | 1) + each.encode()

    def late(each: Any) -> bytes:
        if each is None:
            return b"\x01"
        if isinstance(each, bool):
            return b"\x03" if each else b"\x02"
        if isinstance(each, int) and -(1 << 28) <= each < 1 << 28:
            return b"\x04" + number(each & 0x1FFFFFFF)
        if isinstance(each, int | float):
            return b"\x05" + struct.pack(">d", each)
        if isinstance(each, str):
            known.extend([f"\0{len(known)}"] if each else [])  # values are never recalled by this writer
            return b"\x06" + said(each)
        if isinstance(each, list):
            return b"\x09" + number(len(each) << 1 | 1) + b"\x01" + b"".join(map(late, each))
        return b"\x0a\x0b\x01" + b"".join(name(key) + late(part) for key, part in each.items()) + b"\x01"

    out = b"TCSO\0\4\0\0\0\0" + text("quay") + struct.pack(">I", 3 if later else 0)
    for key, each in value.items():
        out += (name(key) + late(each) if later else text(key) + early(each)) + b"\0"
    return b"\0\xbf" + struct.pack(">I", len(out)) + out


def of_shared_object(data: bytes, *, later: bool) -> dict[str, Any]:
    at, known = 26, list[str]()

    def take(size: int) -> bytes:
        nonlocal at
        at += size
        assert at <= len(data)
        return data[at - size : at]

    def text() -> str:
        return take(int.from_bytes(take(2), "big")).decode()

    def early() -> Any:
        kind = take(1)[0]
        if kind == 0:
            return struct.unpack(">d", take(8))[0]
        if kind in (1, 2, 5):
            return {1: lambda: bool(take(1)[0]), 2: text, 5: lambda: None}[kind]()
        if kind == 0x0A:
            return [early() for _ in range(int.from_bytes(take(4), "big"))]
        assert kind == 3
        found = {}
        while key := text():
            found[key] = early()
        assert take(1) == b"\x09"
        return found

    def number() -> int:
        value = 0
        for _ in range(3):
            byte = take(1)[0]
            value = value << 7 | byte & 0x7F
            if byte < 0x80:
                return value
        return value << 8 | take(1)[0]

    def name() -> str:
        size = number()
        if not size & 1:
            return known[size >> 1]
        found = take(size >> 1).decode()
        known.extend([found] if found else [])
        return found

    def late() -> Any:
        kind = take(1)[0]
        if kind in (1, 2, 3):
            return {1: None, 2: False, 3: True}[kind]
        if kind == 4:
            value = number()
            return value - (1 << 29) if value >> 28 else value
        if kind == 5:
            return struct.unpack(">d", take(8))[0]
        if kind == 6:
            return name()
        if kind == 9:
            count = number() >> 1
            assert name() == ""
            return [late() for _ in range(count)]
        assert (kind, take(2)) == (0x0A, b"\x0b\x01")
        found = {}
        while key := name():
            found[key] = late()
        return found

    assert data[:2] == b"\0\xbf"
    assert struct.unpack_from(">I", data, 2)[0] == len(data) - 6
    found = {}
    while at < len(data):
        key = name() if later else text()
        found[key] = late() if later else early()
        assert take(1) == b"\0"
    return found


# Named properties


def named_properties(value: dict[str, Any], *, newer: bool) -> bytes:
    """A company, its divers as structures in a list, its hold as a map, where it is, and what nobody understands."""

    def text(each: str) -> bytes:
        if not each.isascii():
            raw = each.encode("utf-16-le") + b"\0\0"
            return struct.pack("<i", -(len(raw) // 2)) + raw
        return struct.pack("<i", len(each) + 1 if each else 0) + (each.encode() + b"\0" if each else b"")

    def tree(kind: str, *inner: str) -> bytes:
        return text(kind) + struct.pack("<i", len(inner)) + b"".join(text(each) + bytes(4) for each in inner)

    def named(name: str, kind: str, content: bytes, *inner: str, more: bytes = b"") -> bytes:
        if newer:
            about = {"StructProperty": (*inner, "/Script/Quay")}.get(kind, inner)
            return text(name) + tree(kind, *about) + struct.pack("<iB", len(content), 0) + content
        kinds = b"".join(map(text, inner)) + more
        return text(name) + text(kind) + struct.pack("<ii", len(content), 0) + kinds + b"\0" + content

    def whole(name: str, each: int) -> bytes:
        return named(name, "IntProperty", struct.pack("<i", each))

    crew = b""
    for diver in value["crew"]:
        crew += named("name", "StrProperty", text(diver["name"])) + whole("air", diver["air"]) + text("None")
    listed = struct.pack("<i", len(value["crew"]))
    if not newer:
        listed += text("crew") + text("StructProperty") + struct.pack("<ii", len(crew), 0) + text("Diver") + bytes(17)
    hold = struct.pack("<ii", 0, len(value["hold"]))
    hold += b"".join(text(key) + struct.pack("<i", many) for key, many in value["hold"].items())
    where = struct.pack("<fff" if not newer else "<ddd", *value["where"].values())
    out = b"GVAS" + (struct.pack("<iii", 3, 522, 1012) if newer else struct.pack("<ii", 2, 522))
    out += struct.pack("<HHHI", 4, 2, 0, 99) + text("quay") + struct.pack("<ii", 3, 1) + bytes(20)
    out += text("/Game/Ledger") + (b"\0" if newer else b"")
    out += whole("marks", value["marks"]) + named("name", "StrProperty", text(value["name"]))
    if newer:
        out += text("open") + tree("BoolProperty") + struct.pack("<iB", 0, 16 * value["open"])
    else:
        out += text("open") + text("BoolProperty") + bytes(8) + bytes([value["open"], 0])
    out += named("crew", "ArrayProperty", listed + crew, "StructProperty")
    out += named("hold", "MapProperty", hold, "StrProperty", "IntProperty")
    out += named("where", "StructProperty", where, "Vector", more=bytes(16))
    out += named("odd", "QuayProperty", bytes(range(9)))
    out += named("flags", "ArrayProperty", struct.pack("<i3h", 3, *value["flags"]), "Int16Property")
    return out + text("None") + bytes(4)


# Objects of Java


def java_objects(value: dict[str, Any]) -> bytes:
    """A company of its own class; its crew are a list that writes itself, its hold a map that does."""

    def text(each: str) -> bytes:
        return struct.pack(">H", len(each.encode())) + each.encode()

    def about(name: str, flags: int, *fields: tuple[str, str], above: bytes = b"\x70") -> bytes:
        out = b"\x72" + text(name) + bytes(8) + struct.pack(">BH", flags, len(fields))
        for code, field in fields:
            out += code[:1].encode() + text(field) + (b"\x74" + text(code) if code[0] in "L[" else b"")
        return out + b"\x78" + above

    def boxed(each: int) -> bytes:
        above = about("java.lang.Number", 2)
        return b"\x73" + about("java.lang.Integer", 2, ("I", "value"), above=above) + struct.pack(">i", each)

    fields = (("I", "marks"), ("J", "day"), ("Z", "open"), ("Lcrew;", "crew"), ("Lhold;", "hold"), ("Lname;", "name"))
    out = b"\xac\xed\0\x05\x73" + about("Company", 2, *fields)
    out += struct.pack(">iq?", value["marks"], value["day"], value["open"])
    out += b"\x73" + about("java.util.ArrayList", 3, ("I", "size")) + struct.pack(">i", len(value["crew"]))
    out += b"\x77\x04" + struct.pack(">i", len(value["crew"]))
    out += b"".join(b"\x74" + text(each) for each in value["crew"]) + b"\x78"
    out += b"\x73" + about("java.util.HashMap", 3, ("F", "loadFactor")) + struct.pack(">f", 0.75)
    out += b"\x77\x08" + struct.pack(">ii", 16, len(value["hold"]))
    out += b"".join(b"\x74" + text(key) + boxed(many) for key, many in value["hold"].items()) + b"\x78"
    return out + b"\x74" + text(value["name"])


# PHP


def php(value: Any) -> bytes:
    if value is None or isinstance(value, bool):
        return b"N;" if value is None else b"b:1;" if value else b"b:0;"
    if isinstance(value, int | float):
        return f"{'i' if isinstance(value, int) else 'd'}:{value!r};".encode()
    if isinstance(value, str):
        return b's:%d:"%b";' % (len(value.encode()), value.encode())
    pairs = list(value.items() if isinstance(value, dict) else enumerate(value))
    return b"a:%d:{%b}" % (len(pairs), b"".join(php(key) + php(part) for key, part in pairs))


def of_php(data: bytes) -> Any:
    at = 0

    def until(mark: bytes) -> bytes:
        nonlocal at
        end = data.index(mark, at)
        at, found = end + 1, data[at:end]
        return found

    def value() -> Any:
        nonlocal at
        kind = chr(data[at])
        at += 2
        if kind == "N":
            return None
        if kind in "ibd":
            return {"i": int, "d": float, "b": lambda raw: raw == b"1"}[kind](until(b";"))
        size = int(until(b":"))
        if kind == "s":
            text = data[at + 1 : at + 1 + size].decode()
            assert data[at] == data[at + 1 + size] == ord('"')
            at += size + 3
            return text
        at += 1
        found = {}
        for _ in range(size):
            key = value()
            found[key] = value()
        assert data[at] == ord("}")
        at += 1
        return list(found.values()) if list(found) == list(range(size)) else found

    found = value()
    assert at == len(data)
    return found


# Registry exports


def registry(value: dict[str, Any], *, wide: bool) -> bytes:
    """Numbers, texts in quotes, texts as bytes with a zero behind them, fractions, large numbers, and bytes."""

    def listed(kind: str, raw: bytes) -> str:
        pairs = [f"{byte:02x}" for byte in raw]
        lines = [",".join(pairs[at : at + 20]) for at in range(0, len(pairs), 20)]
        return f"{kind}:" + ",\\\r\n  ".join(lines)

    quoted = value["quoted"].replace("\\", "\\\\").replace('"', '\\"')
    parts = {
        "marks": f"dword:{value['marks']:08x}",
        "quoted": f'"{quoted}"',
        "name": listed("hex", value["name"].encode() + b"\0"),
        "air": listed("hex(4)", struct.pack("<d", value["air"])),
        "day": listed("hex(b)", struct.pack("<Q", value["day"])),
        "long": listed("hex(2)", f"{value['long']}\0".encode("utf-16-le")),
        "odd": listed("hex(3)", bytes(range(30))),
    }
    head = "Some Registry Editor Version 5.00\r\n\r\n[HKEY_CURRENT_USER\\Brinewick]\r\n"
    text = head + "".join(f'"{name}_h12"={part}\r\n' for name, part in parts.items()) + "\r\n"
    return b"\xff\xfe" + text.encode("utf-16-le") if wide else text.encode()


def of_registry(data: bytes) -> dict[str, str | bytes]:
    """Every value, bytes joined over lines."""
    text = data.decode("utf-16") if data.startswith(b"\xff\xfe") else data.decode()
    assert all(len(line) <= 80 for line in text.splitlines())
    found: dict[str, str | bytes] = {}
    for line in text.replace("\\\r\n  ", "").splitlines():
        name, _, said = line.partition("=")
        if said.startswith("hex"):
            found[name.strip('"')] = bytes.fromhex(said.partition(":")[2].replace(",", ""))
        elif said:
            found[name.strip('"')] = said
    return found


# chunks with a number and a size of variable length


def seven_bits(number: int) -> bytes:
    """The highest bits first."""
    number &= 0xFFFFFFFF
    out = [number & 127]
    while number := number >> 7:
        out.append(number & 127 | 128)
    return bytes(out[::-1])


def numbered_chunks(chunks: dict[int, Any]) -> bytes:
    """A list holds one dictionary, that of objects by their numbers."""
    out = b""
    for number, value in chunks.items():
        if isinstance(value, dict):
            value = numbered_chunks(value) + b"\0"
        elif isinstance(value, list):
            objects = (seven_bits(key) + numbered_chunks(each) + b"\0" for key, each in value[0].items())
            value = seven_bits(len(value[0])) + b"".join(objects)
        elif isinstance(value, float):
            value = struct.pack("<d", value)
        else:
            value = value.encode() if isinstance(value, str) else value
        raw = seven_bits(value) if isinstance(value, int) else value
        out += seven_bits(number) + seven_bits(len(raw)) + raw
    return out


def title_and_chunks(title: str, chunks: dict[int, Any]) -> bytes:
    return bytes((len(title),)) + title.encode() + numbered_chunks(chunks)


# what the chunks of a save of the tests hold
HOLDS: dict[int, Any] = {
    100: {1: float, 11: str, 12: int},
    101: {1: int, 32: int},
    108: [{1: str, 31: int}],
    109: {1: int, 2: bytes, 11: int, 12: bytes, 21: int, 23: int, 32: int},
}


def of_numbered_chunks(data: bytes) -> tuple[str, dict[int, Any]]:
    at = 1 + data[0]

    def number() -> int:
        nonlocal at
        found = 0
        while True:
            at += 1
            found = found << 7 | data[at - 1] & 127
            if data[at - 1] < 128:
                return found

    def chunks(holds: dict[int, Any], end: int | None) -> dict[int, Any]:
        nonlocal at
        found: dict[int, Any] = {}
        while at < len(data) if end is None else True:
            key = number()
            if not key and end is not None:
                break
            size = number()
            begin = at
            kind = holds[key]
            if isinstance(kind, dict):
                found[key] = chunks(kind, begin + size)
            elif isinstance(kind, list):
                found[key] = [{number(): chunks(kind[0], begin + size) for _ in range(number())}]
            elif kind is int:
                found[key] = number()
            else:
                at, raw = begin + size, data[begin : begin + size]
                found[key] = raw if kind is bytes else raw.decode() if kind is str else struct.unpack("<d", raw)[0]
            assert at == begin + size <= len(data)
        return found

    return data[1 : 1 + data[0]].decode(), chunks(HOLDS, None)
