"""Formats whose values say themselves what they are: read as JSON, edited at any value, taken by another reader."""

from __future__ import annotations

import copy
import json
import math
import pickle
import plistlib
import random
import struct
from collections.abc import Callable
from functools import partial
from typing import Any, NamedTuple

from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_ledger.core.edits import Patched
from faithful_ledger.core.errors import AddressError, ValueRefused
from faithful_ledger.core.layers.tagged import TAGGED, json_of_tagged, tagged_changes, tagged_kind, why_not_tagged
from faithful_ledger.core.source import MemorySource
from tests.core.tagged_samples import (
    concise,
    document,
    java_objects,
    marshalled,
    message,
    named_properties,
    net_objects,
    of_concise,
    of_document,
    of_marshalled,
    of_message,
    of_packed,
    of_php,
    of_registry,
    of_shared_object,
    of_tags,
    packed,
    php,
    registry,
    shared_object,
    tags,
    title_and_chunks,
)
from tests.support import LedgerCase, dice


class Diver:
    def __init__(self, name: str, air: int) -> None:
        self.name, self.air, self.at = name, air, (1.5, -2.0)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Diver) and vars(self) == vars(other)


class Hold(dict[str, int]):
    """A group that is a class of its own, as engines keep them."""


class Format(NamedTuple):
    """`fit` makes a value one that the format has."""

    kind: str
    write: Callable[[Any], bytes]
    read: Callable[[bytes], Any]
    fit: Callable[[Any], Any] = copy.deepcopy


def as_doubles(value: Any) -> Any:
    """Whole numbers are stored as fractions, and only so exact."""
    if isinstance(value, dict):
        return {key: as_doubles(each) for key, each in value.items()}
    if isinstance(value, list):
        return [as_doubles(each) for each in value]
    is_number = isinstance(value, int | float) and not isinstance(value, bool)
    return int(math.copysign(min(abs(value), 1 << 40), value)) if is_number and value == int(value) else value


def as_tags(value: Any) -> Any:
    """Something is there, and lists have parts of one kind: groups."""
    if isinstance(value, dict):
        return {key: as_tags(each) for key, each in value.items()}
    if isinstance(value, list):
        return [{"part": as_tags(each)} if not isinstance(each, dict) else as_tags(each) for each in value]
    return 0 if value is None or isinstance(value, bool) else value


def as_arrays(value: Any) -> Any:
    """A group without parts is a list."""
    if isinstance(value, dict):
        return {key: as_arrays(each) for key, each in value.items()} or []
    return [as_arrays(each) for each in value] if isinstance(value, list) else value


def archived(value: Any) -> bytes:
    """As programs archive their objects: each is in a list, and equal ones are stored once."""
    objects: list[Any] = ["$null"]
    known: dict[str, int] = {}

    def named(name: str) -> plistlib.UID:
        return kept(f"class {name}", {"$classname": name, "$classes": [name, "NSObject"]})

    def kept(key: str, made: Any) -> plistlib.UID:
        if key not in known:
            known[key] = len(objects)
            objects.append(made)
        return plistlib.UID(known[key])

    def put(each: Any) -> plistlib.UID:
        if each is None:
            return plistlib.UID(0)
        if not isinstance(each, dict | list):
            return kept(repr(each), each)
        objects.append(None)
        place = len(objects) - 1
        values = each.values() if isinstance(each, dict) else each
        made: dict[str, Any] = {"NS.keys": [put(key) for key in each]} if isinstance(each, dict) else {}
        made["NS.objects"] = [put(part) for part in values]
        objects[place] = made | {"$class": named("NSDictionary" if isinstance(each, dict) else "NSArray")}
        return plistlib.UID(place)

    root = put(value)
    whole = {"$version": 100_000, "$archiver": "NSKeyedArchiver", "$top": {"root": root}, "$objects": objects}
    return plistlib.dumps(whole, fmt=plistlib.FMT_BINARY, sort_keys=False)


def unarchived(data: bytes) -> Any:
    whole = plistlib.loads(data)
    objects = whole["$objects"]

    def got(uid: plistlib.UID) -> Any:
        each = objects[uid.data]
        if isinstance(each, dict):
            parts = list(map(got, each["NS.objects"]))
            return dict(zip(map(got, each["NS.keys"]), parts, strict=True)) if "NS.keys" in each else parts
        return None if not uid.data else each

    return got(whole["$top"]["root"])


FORMATS = (
    Format("keyed-archive", archived, unarchived),
    Format("php-serialize", php, of_php, as_arrays),
    Format("msgpack", packed, of_packed),
    Format("cbor", concise, of_concise),
    Format("ruby-marshal", marshalled, of_marshalled),
    Format("bson", document, of_document),
    Format("bplist", partial(plistlib.dumps, fmt=plistlib.FMT_BINARY, sort_keys=False), plistlib.loads),
    Format("nbt", partial(tags, order=">"), partial(of_tags, order=">"), as_tags),
    Format("nbt-le", partial(tags, order="<"), partial(of_tags, order="<"), as_tags),
    Format("amf", partial(shared_object, later=False), partial(of_shared_object, later=False), as_doubles),
    Format("amf", partial(shared_object, later=True), partial(of_shared_object, later=True), as_doubles),
    *(Format("pickle", lambda value, p=protocol: pickle.dumps(value, p), pickle.loads) for protocol in range(2, 6)),  # type: ignore[misc]
)
COUNTED = ("msgpack", "cbor", "bson", "bplist", "php-serialize")  # parts may come and go, of any kind
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
    maxDiff = None

    @settings(max_examples=60)
    @given(VALUES, st.randoms(use_true_random=False))
    def test_any_value_is_changed_and_nothing_else(self, value: dict[str, Any], turn: random.Random) -> None:
        plain = {**value, "marks": 1340, "name": "Oriel & Sons", "x": 0.5}
        for each in FORMATS:
            value = each.fit(plain)
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
                if isinstance(old, str) and (old or each.kind != "amf"):
                    holder[path[-1]] = "Tamsin of the quay" * turn.choice((1, 30))
                elif isinstance(old, float):
                    holder[path[-1]] = turn.uniform(-9, 9)
                elif isinstance(old, int) and not isinstance(old, bool):
                    holder[path[-1]] = turn.choice((0, 127, 128, 70_000, -5, 1 << 39))
            self.assertEqual(each.read(put_back(data, each.kind, changed)), changed)

    def test_parts_come_and_go_where_a_count_is_all_that_says_so(self) -> None:
        value = {"lots": [{"item": "rope", "many": n} for n in range(15)], "marks": 5, "purse": {"a": 1}}
        changed = copy.deepcopy(value)
        changed["lots"] += [{"item": "lamp", "many": 300}, {"item": "rope", "many": 14}]  # type: ignore[operator]
        changed["purse"] = {"b": [1, {"c": None}], "a": 1}
        for each in FORMATS:
            with self.subTest(each.kind):
                data = each.write(value)
                if each.kind in COUNTED:
                    self.assertEqual(each.read(put_back(data, each.kind, changed)), changed)
                    continue
                with self.assertRaisesRegex(ValueRefused, "nothing was written"):
                    put_back(data, each.kind, changed)
                if each.kind.startswith("nbt"):
                    more = {**value, "lots": changed["lots"]}
                    self.assertEqual(each.read(put_back(data, each.kind, more)), more)

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

    def test_values_behind_one_another_are_a_list(self) -> None:
        turn = dice()
        for kind, write in (("msgpack", packed), ("cbor", concise)):
            values = [
                {"name": "Maud", "slot": turn.randrange(9)},
                [{"marks": turn.randrange(1 << 30)}, "rope"],
                {"day": 4},
            ]
            data = b"".join(map(write, values))
            with self.subTest(kind):
                self.assertEqual(tagged_kind(data), kind)
                self.assertEqual(json.loads(json_of_tagged(data, kind)), values)
                values[0]["name"], values[1][0]["marks"] = "Tamsin & Daughters", turn.randrange(200)
                self.assertEqual(put_back(data, kind, values), b"".join(map(write, values)))
                for behind in (b"\x07", b"\0", data[:3]):
                    self.assertIsNone(tagged_kind(data + behind), behind)

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
        turn = dice()
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

    def test_named_properties(self) -> None:
        turn = dice()
        for newer in (False, True, False, True):
            crew = [{"name": turn.choice(("Tamsin", "Märta", "")), "air": turn.randrange(99)} for _ in range(5)]
            value = {"marks": 1340, "name": "Oriel & Sons", "open": True, "crew": crew, "hold": {"rope": 3, "lamp": 4}}
            value |= {"where": {"x": 1.5, "y": -2.0, "z": 9.25}, "flags": [1, -2, 300]}
            data = named_properties(value, newer=newer)
            self.assertEqual(tagged_kind(data), "gvas")
            shown = json.loads(json_of_tagged(data, "gvas"))
            self.assertTrue(shown.pop("odd")["other"].startswith("QuayProperty: 00 01"))
            self.assertEqual(shown, value)
            shown |= {"marks": -70_000, "name": "Wren über dem Kai" * 9, "open": False}
            shown["crew"][1], shown["hold"]["lamp"], shown["flags"][1] = {"name": "Ives", "air": 70_000}, 9, 7
            shown["where"]["y"] = 0.5
            odd = json.loads(json_of_tagged(data, "gvas"))["odd"]
            whole = {key: {**shown, "odd": odd}[key] for key in json.loads(json_of_tagged(data, "gvas"))}
            self.assertEqual(put_back(data, "gvas", whole), named_properties(shown, newer=newer))
            for path, wrong in (("marks", 1 << 31), ("marks", 1.5), ("crew", []), ("odd", 1), ("open", 1)):
                with self.assertRaises(ValueRefused):
                    put_back(data, "gvas", {**whole, path: wrong})
            for end in turn.sample(range(len(data) - 4), 20):  # the zeros at the end are not always there
                self.assertIsNone(tagged_kind(data[:end]))

    def test_registry_exports(self) -> None:
        value: dict[str, Any] = {
            "marks": 1340,
            "quoted": 'C:\\a "b"',
            "name": "Märta & Sons",
            "air": 0.5,
            "day": 1 << 40,
        }
        value["long"] = "Kai"
        for wide in (False, True):
            data = registry(value, wide=wide)
            self.assertEqual(tagged_kind(data), "registry-export")
            whole = json.loads(json_of_tagged(data, "registry-export"))
            ((key, shown),) = whole.items()
            self.assertEqual(key, "HKEY_CURRENT_USER\\Brinewick")
            self.assertEqual({name: shown[f"{name}_h12"] for name in value}, value)
            changed = {
                "marks": 70_000,
                "quoted": 'a "c" \\',
                "name": "Wren of the quay " * 9,
                "air": 2.5,
                "day": 3,
                "long": "Ö",
            }
            shown |= {f"{name}_h12": each for name, each in changed.items()}
            made = put_back(data, "registry-export", whole)
            self.assertEqual(of_registry(made), of_registry(registry({**value, **changed}, wide=wide)))
            for name, wrong in (("marks", 1 << 32), ("marks", "x"), ("air", "x"), ("name", 5), ("odd", 5)):
                with self.assertRaises(ValueRefused):
                    put_back(data, "registry-export", {key: {**shown, f"{name}_h12": wrong}})

    def test_objects_of_java(self) -> None:
        turn = dice()
        crew = [f"Tamsin {turn.randrange(99)} {number}" for number in range(5)]
        value = {
            "marks": 1340,
            "day": 1 << 40,
            "open": True,
            "crew": crew,
            "hold": {"rope": 3, "lamp": 400},
            "name": "O",
        }
        data = java_objects(value)
        self.assertEqual(tagged_kind(data), "java-objects")
        shown = json.loads(json_of_tagged(data, "java-objects"))
        self.assertEqual((shown["crew"]["written"][1:], shown["hold"]["written"]), (crew, value["hold"]))
        self.assertEqual([shown[key] for key in ("marks", "day", "open", "name")], [1340, 1 << 40, True, "O"])
        shown |= {"marks": -5, "day": 3, "open": False, "name": "Oriel & Sons"}
        shown["crew"]["written"][2], shown["hold"]["written"]["lamp"] = "Wren of the quay" * 30, 70_000
        wanted = {
            **value,
            "marks": -5,
            "day": 3,
            "open": False,
            "name": "Oriel & Sons",
            "hold": {"rope": 3, "lamp": 70_000},
        }
        wanted["crew"] = [*crew[:1], "Wren of the quay" * 30, *crew[2:]]
        self.assertEqual(put_back(data, "java-objects", shown), java_objects(wanted))
        twice = data + b"\x71\x00\x7e\x00\x0b"  # a text that is recalled by its number
        again = json.loads(json_of_tagged(twice, "java-objects"))
        again[1] = "another"
        with self.assertRaisesRegex(ValueRefused, "is the same value as another one|keeps its bytes"):
            put_back(twice, "java-objects", again)
        for end in turn.sample(range(len(data)), 20):
            self.assertIsNone(tagged_kind(data[:end]))

    def test_what_is_stored_once_and_said_twice_becomes_two(self) -> None:
        """A property list has equal values as one object: the other ones that refer to it stay."""
        value = {"a": 5, "b": 5, "lots": [{"item": "rope"}, {"item": "rope"}], "c": "rope"}
        data = plistlib.dumps(value, fmt=plistlib.FMT_BINARY)
        for path, new in ((("a",), 70_000), (("lots", 1, "item"), "lamp"), (("c",), "Öl"), (("lots", 0), {"item": 1})):
            changed = copy.deepcopy(value)
            holder: Any = changed
            for key in path[:-1]:
                holder = holder[key]
            holder[path[-1]] = new
            shown = json.loads(json_of_tagged(data, "bplist"))
            text = {key: changed[key] for key in shown}
            self.assertEqual(plistlib.loads(put_back(data, "bplist", text)), changed)
        many = {f"key {number}": number for number in range(254)}
        grown = {**many, "more": list(range(9))}  # references need a second byte
        made = put_back(plistlib.dumps(many, fmt=plistlib.FMT_BINARY, sort_keys=False), "bplist", grown)
        self.assertEqual(plistlib.loads(made), grown)

    def test_messages_without_their_description(self) -> None:
        turn = dice()
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

    def test_chunks_by_their_numbers(self) -> None:
        turn = dice()
        for _ in range(40):
            crew = {
                number: {1: turn.choice(("Tamsin", "Ives")), 31: turn.choice((5, 300, -4))}
                for number in sorted(turn.sample(range(1, 300), turn.randrange(2, 140)))
            }
            purse = {1: turn.randrange(1 << 32), 2: turn.randbytes(turn.randrange(130, 300)), 21: 15345, 32: 7}
            chunks = {100: {1: 45000.5, 11: "Oriel & Sons", 12: 3}, 101: {1: 3}, 108: [crew], 109: purse}
            data = title_and_chunks("BwkSaveData", chunks)
            kind = "numbered-chunks"
            self.assertEqual(tagged_kind(data), kind)
            shown = json.loads(json_of_tagged(data, kind))
            one = turn.choice(list(crew))
            self.assertEqual((shown["109"]["21"], shown["100"]["1"]), (15345, 45000.5))
            new = turn.choice((0, 127, 128, 2**21, 2**31 - 1, -1))
            shown["109"]["21"], shown["100"]["11"] = new, "Tamsin of the quay" * turn.randrange(1, 9)
            shown["108"][str(one)]["1"] = "Maud"
            purse[21], chunks[100][11], crew[one][1] = new, shown["100"]["11"], "Maud"
            self.assertEqual(put_back(data, kind, shown), title_and_chunks("BwkSaveData", chunks))
            for wrong in ({**shown, "title": "Other"}, {**shown, "110": 1}, {**shown, "100": {"1": "late"}}):
                with self.assertRaises(ValueRefused):
                    put_back(data, kind, wrong)
            for cut in (data[:-1], data[:-9], data + b"\1"):
                self.assertNotEqual(tagged_kind(cut), kind)

    def test_what_is_cut_off_or_absurd_is_none_of_them(self) -> None:
        turn = dice()
        value = {"name": "Oriel & Sons", "lots": [{"item": "rope", "many": 3}] * 4, "marks": 1340, "x": math.pi}
        for each in FORMATS:
            data = each.write(value)
            for end in range(len(data)):
                self.assertIsNone(tagged_kind(data[:end]), end)
                with self.assertRaises(AddressError):
                    json_of_tagged(data[:end], each.kind)
            self.assertEqual(why_not_tagged(data[:-3]) is not None, TAGGED[each.kind].has_mark)
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
