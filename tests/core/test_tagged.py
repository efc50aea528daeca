"""Formats whose values say themselves what they are: read as JSON, edited at any value, taken by another reader."""

from __future__ import annotations

import copy
import json
import math
import pickle
import random
import struct
from collections.abc import Callable
from typing import Any, NamedTuple

from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_ledger.core.edits import Patched
from faithful_ledger.core.errors import AddressError, ValueRefused
from faithful_ledger.core.layers.tagged import TAGGED, json_of_tagged, tagged_changes, tagged_kind, why_not_tagged
from faithful_ledger.core.source import MemorySource
from tests.support import LedgerCase


class Diver:
    def __init__(self, name: str, air: int) -> None:
        self.name, self.air, self.at = name, air, (1.5, -2.0)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Diver) and vars(self) == vars(other)


class Hold(dict[str, int]):
    """A group that is a class of its own, as engines keep them."""


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


class Format(NamedTuple):
    kind: str
    write: Callable[[Any], bytes]
    read: Callable[[bytes], Any]


FORMATS = (
    Format("msgpack", packed, of_packed),
    Format("cbor", concise, of_concise),
    Format("ruby-marshal", marshalled, of_marshalled),
    *(Format("pickle", lambda value, p=protocol: pickle.dumps(value, p), pickle.loads) for protocol in range(2, 6)),  # type: ignore[misc]
)
SCALARS = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(-(1 << 62), 1 << 62),
    st.integers(-300, 70000),
    st.floats(allow_nan=False, allow_infinity=False),
    st.text(max_size=40),
)
NAMES = st.text("abcdefgh_", min_size=1, max_size=6)
VALUES = st.dictionaries(
    NAMES, st.recursive(SCALARS, lambda inner: st.lists(inner, max_size=4) | st.dictionaries(NAMES, inner, max_size=4))
)


def put_back(data: bytes, kind: str, changed: Any) -> bytes:
    text = json.dumps(changed, ensure_ascii=False).encode()
    patched = Patched(MemorySource(data), tagged_changes(data, kind, text, ()))
    return bytes(patched.read(0, patched.size))


def leaves(value: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    """The paths of all values without parts."""
    parts = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    found = [each for key, part in parts for each in leaves(part, (*path, key))]
    return found if isinstance(value, dict | list) else [path]


class TaggedContract(LedgerCase):
    @settings(max_examples=60, deadline=None)
    @given(VALUES, st.randoms(use_true_random=False))
    def test_any_value_is_changed_and_nothing_else(self, value: dict[str, Any], turn: random.Random) -> None:
        value = {**value, "marks": 1340, "name": "Oriel & Sons", "x": 0.5}
        for each in FORMATS:
            data = each.write(value)
            self.assertEqual(tagged_kind(data), each.kind)
            self.assertEqual(json.loads(json_of_tagged(data, each.kind)), value)
            self.assertEqual(tagged_changes(data, each.kind, json_of_tagged(data, each.kind), ()), [])
            changed = copy.deepcopy(value)
            for path in turn.sample(leaves(changed), min(3, len(leaves(changed)))):
                holder = changed
                for key in path[:-1]:
                    holder = holder[key]
                old = holder[path[-1]]
                if isinstance(old, str):
                    holder[path[-1]] = "Tamsin of the quay" * turn.choice((1, 30))
                elif isinstance(old, float):
                    holder[path[-1]] = turn.uniform(-9, 9)
                elif isinstance(old, int) and not isinstance(old, bool):
                    holder[path[-1]] = turn.choice((0, 127, 128, 70_000, -5, 1 << 40))
            self.assertEqual(each.read(put_back(data, each.kind, changed)), changed)

    def test_parts_come_and_go_where_a_count_is_all_that_says_so(self) -> None:
        value = {"lots": [{"item": "rope", "many": n} for n in range(15)], "marks": 5, "purse": {"a": 1}}
        changed = copy.deepcopy(value)
        changed["lots"] += [{"item": "lamp", "many": 300}, {"item": "rope", "many": 14}]  # type: ignore[operator]
        changed["purse"] = {"b": [1, {"c": None}], "a": 1}
        for each in FORMATS:
            with self.subTest(each.kind):
                data = each.write(value)
                if each.kind in ("msgpack", "cbor"):
                    self.assertEqual(each.read(put_back(data, each.kind, changed)), changed)
                else:
                    with self.assertRaisesRegex(ValueRefused, "keeps its parts; nothing was written"):
                        put_back(data, each.kind, changed)

    def test_objects_of_a_game(self) -> None:
        """Classes are never asked for; what a class has is a group."""
        hold = Hold(rope=3)
        hold.captain = "Wren"  # type: ignore[attr-defined]
        value = {"divers": [Diver("Tamsin", 90), Diver("Ives", 80)], "hold": hold, "seen": {4}, "again": hold}
        for protocol in range(2, 6):
            data = pickle.dumps(value, protocol)
            shown = json.loads(json_of_tagged(data, "pickle"))
            self.assertEqual(shown["divers"][1], {"name": "Ives", "air": 80, "at": [1.5, -2.0]})
            shown["divers"][1]["air"], shown["hold"]["rope"], shown["hold"]["captain"] = 300, 70_000, "Maud"
            found = pickle.loads(put_back(data, "pickle", shown))
            self.assertEqual(found["divers"], [Diver("Tamsin", 90), Diver("Ives", 300)])
            self.assertEqual((found["hold"], found["hold"].captain), ({"rope": 70_000}, "Maud"))
            self.assertIs(found["again"], found["hold"])
            shown["again"] = 5
            with self.assertRaisesRegex(ValueRefused, "keeps its bytes"):
                put_back(data, "pickle", shown)

    def test_spellings_that_another_program_chose_stay(self) -> None:
        data = b"\x83\xa5marks\xd2\x00\x00\x05\x3c\xa1x\xca\x3f\x80\x00\x00\xa1y\xd9\x03abc"
        self.assertEqual(json.loads(json_of_tagged(data, "msgpack")), {"marks": 1340, "x": 1.0, "y": "abc"})
        changed = put_back(data, "msgpack", {"marks": 7, "x": 0.1, "y": "abc"})
        self.assertEqual(
            changed, data.replace(b"\x05\x3c", b"\x00\x07").replace(b"\x3f\x80\x00\x00", struct.pack(">f", 0.1))
        )
        self.assertEqual(json.loads(json_of_tagged(changed, "msgpack"))["x"], 0.1)
        odd = json_of_tagged(b"\xa2\x01\x82\xf9\x3e\x00\xf6\x61a\x9f\x01\xff", "cbor")
        self.assertEqual(json.loads(odd), {"1": [1.5, None], "a": [1]})
        two = marshalled({"day": 3}) + marshalled({"marks": 1340})
        self.assertEqual(json.loads(json_of_tagged(two, "ruby-marshal")), [{"day": 3}, {"marks": 1340}])
        self.assertEqual(put_back(two, "ruby-marshal", [{"day": 3}, {"marks": 5}]), two[:-4] + b"i\x0a")
        with self.assertRaises(ValueRefused):
            put_back(data, "msgpack", {"marks": 1 << 70, "x": 1.0, "y": "abc"})

    def test_objects_that_are_referred_to(self) -> None:
        turn = random.Random()
        for _ in range(40):
            names = [f"Tamsin {number}" for number in range(turn.randrange(2, 8))] + ["Tamsin 0"]
            crew = [{"name": n, "air": turn.randrange(9000), "depth": turn.uniform(0, 99)} for n in names]
            value = {"marks": turn.randrange(9000), "name": "Oriel & Sons", "x": 0.1, "open": False, "day": 1 << 40}
            value |= {"crew": [*crew, None, None], "flags": [turn.randrange(-9, 9) for _ in range(9)], "nobody": None}
            data = net_objects(value)
            self.assertEqual(tagged_kind(data), "nrbf")
            shown = json.loads(json_of_tagged(data, "nrbf"))
            self.assertEqual(shown, value)
            shown |= {"marks": -70_000, "name": "Wren of the quay" * 12, "x": 2.5, "open": True, "day": 3}
            shown["flags"][3], shown["crew"][1]["air"], shown["crew"][1]["name"] = 300, 65535, ""
            self.assertEqual(put_back(data, "nrbf", shown), net_objects(shown))
            for path, odd in (("marks", 1 << 31), ("marks", 1.5), ("flags", [1]), ("nobody", 1), ("open", 1)):
                with self.assertRaises(ValueRefused):
                    put_back(data, "nrbf", {**shown, path: odd})
            shown["crew"][-3]["name"] = "Ives"
            with self.assertRaisesRegex(ValueRefused, "is the same value as another one"):
                put_back(data, "nrbf", shown)
            for end in turn.sample(range(len(data)), 20):
                self.assertIsNone(tagged_kind(data[:end]))

    def test_messages_without_their_description(self) -> None:
        turn = random.Random()
        for _ in range(60):
            crew = [
                (
                    4,
                    [
                        (1, turn.choice(("Tamsin", "Ives"))),
                        (2, turn.randrange(1, 100)),
                        (3, [(1, turn.uniform(1, 9)), (2, -5)]),
                    ],
                )
                for _ in range(turn.randrange(3, 9))
            ]
            lots = [(5, [(1, "rope"), (2, turn.randrange(300))]) for _ in range(turn.randrange(2, 9))]
            fields = [(1, turn.randrange(200)), (2, "Oriel & Sons"), *crew, (6, 1.5), *lots, (9, turn.getrandbits(63))]
            turn.shuffle(fields)
            data = message(fields)
            self.assertEqual(tagged_kind(data), "protobuf")
            shown = json.loads(json_of_tagged(data, "protobuf"))
            self.assertEqual((shown["2"], shown["6"], len(shown["4"])), ("Oriel & Sons", 1.5, len(crew)))
            shown["1"], shown["4"][1]["1"], shown["4"][-1]["3"]["2"] = 70_000, "Tamsin of the quay" * 20, 1 << 40
            shown["5"].append({"1": "lamp", "2": 12})
            found = of_message(put_back(data, "protobuf", shown), frozenset((3, 4, 5)))
            wanted = of_message(data, frozenset((3, 4, 5)))
            places = {number: [at for at, (each, _) in enumerate(wanted) if each == number] for number in (1, 4, 5)}
            wanted[places[1][0]] = (1, 70_000)
            second, last = (dict(wanted[places[4][at]][1]) for at in (1, -1))
            wanted[places[4][1]] = (4, list({**second, 1: "Tamsin of the quay" * 20}.items()))
            last = {**dict(wanted[places[4][-1]][1])}
            last[3] = [(1, last[3][0][1]), (2, 1 << 40)]
            wanted[places[4][-1]] = (4, list(last.items()))
            wanted.insert(places[5][-1] + 1, (5, [(1, "lamp"), (2, 12)]))
            self.assertEqual(found, wanted)
            with self.assertRaises(ValueRefused):
                put_back(data, "protobuf", {**shown, "7": 1})
            self.assertIsNone(tagged_kind(data[:-1]))

    def test_what_is_cut_off_or_absurd_is_none_of_them(self) -> None:
        turn = random.Random()
        value = {"name": "Oriel & Sons", "lots": [{"item": "rope", "many": 3}] * 4, "marks": 1340, "x": math.pi}
        for each in FORMATS:
            data = each.write(value)
            for end in range(len(data)):
                self.assertIsNone(tagged_kind(data[:end]), end)
                with self.assertRaises(AddressError):
                    json_of_tagged(data[:end], each.kind)
            marked = each.kind in ("pickle", "ruby-marshal")
            self.assertEqual(why_not_tagged(data[:-3]) is not None, marked)
            self.assertIsNone(why_not_tagged(data))
            for _ in range(200):
                at = turn.randrange(len(data))
                odd = data[:at] + turn.randbytes(2) + data[at + 2 :]
                if (kind := tagged_kind(odd)) is not None:
                    json.loads(json_of_tagged(odd, kind))
        for kind in TAGGED:
            self.assertNotEqual(tagged_kind(turn.randbytes(500)), kind)
        for data in (b"\x91" * 5000, b"\x81" * 5000, b"\x04\x08" + b"[\x06" * 5000, b"\xdd\xff\xff\xff\xff\x01\x02"):
            self.assertIsNone(tagged_kind(data))
        self.assertIsNone(tagged_kind(b"\x80\x04" + b"]\x94" * 3000 + b"e."))
        many = b"".join(b"2\x86" for _ in range(60))  # a pair of pairs of pairs, as two of each
        self.assertIsNone(tagged_kind(b"\x80\x02}X\x02\x00\x00\x00abK\x01" + many + b"s."))
