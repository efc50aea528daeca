"""Evidence: planted values are found in every storage and relation, and decoys are not believed."""

from __future__ import annotations

import base64
import json
import random
import struct
import warnings
import zlib
from collections.abc import Callable
from fractions import Fraction
from itertools import accumulate
from operator import xor
from pathlib import Path
from typing import NamedTuple
from unittest import mock

import numpy
from hypothesis import given, settings
from hypothesis import strategies as st
from ruamel.yaml import YAML

from brinewick import deep
from brinewick.company import Company
from brinewick.deep import Depot
from brinewick.harbour import Harbour
from faithful_ledger.core.binding import FieldNode, bind_files
from faithful_ledger.core.book import Book
from faithful_ledger.core.compare import align
from faithful_ledger.core.errors import EntryError, ValueRefused
from faithful_ledger.core.evidence import Located, Sighting, locate, parse_sighting, places
from faithful_ledger.core.evidence.content import Content
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.evidence.plausible import place_in, plausible_readings
from faithful_ledger.core.evidence.reading import STORAGES, read_numbers
from faithful_ledger.core.inside import payloads_inside
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.refused import leads, restless
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.template import Library, parse_template
from faithful_ledger.core.template.extend import with_place, without_field
from faithful_ledger.core.template.fresh import Shared, shared_by
from tests.support import LedgerCase, dice, play

SIZE = 4000
AT = 1237


def saves(values: list[bytes], seed: int, at: int = AT, size: int = SIZE) -> list[bytearray]:
    """Save-like data with the values planted at one offset, and noise that changes from save to save."""
    rng = random.Random(seed)
    base = bytearray(rng.choice([0, 0, 0, 1, 2, 65, 101, rng.randrange(256)]) for _ in range(size))
    found = []
    for value in values:
        data = bytearray(base)
        for _ in range(size // 60):
            data[rng.randrange(size)] = rng.randrange(256)
        data[at - 1] = data[at + len(value)] = 0
        data[at : at + len(value)] = value
        found.append(data)
    return found


def located(data: list[bytearray], seen: list[object]) -> Located:
    return locate([MemorySource(bytes(part)) for part in data], [parse_sighting(str(value)) for value in seen])


def leb128(value: int) -> bytes:
    out = bytearray()
    while True:
        out.append(value & 127 | (128 if value > 127 else 0))
        value >>= 7
        if not value:
            return bytes(out)


def sleb128(value: int) -> bytes:
    out = bytearray()
    while True:
        byte, value = value & 127, value >> 7
        done = (value == 0 and not byte & 64) or (value == -1 and byte & 64)
        out.append(byte | (0 if done else 128))
        if done:
            return bytes(out)


def packed(size: int, little: bool) -> Callable[[int], bytes]:
    def write(value: int) -> bytes:
        raw = bytes.fromhex(f"{value:0{2 * size}d}")
        return raw[::-1] if little else raw

    return write


def whole(size: int, order: str, signed: bool = False) -> Callable[[int], bytes]:
    return lambda value: value.to_bytes(size, order, signed=signed)  # type: ignore[arg-type]


def unpacked(size: int, halves: int, little: bool) -> Callable[[int], bytes]:
    return lambda value: bytes(halves + int(digit) for digit in f"{value:0{size}d}"[:: -1 if little else 1])


class Planted(NamedTuple):
    """How a value is written, the numbers shown, and what the place must say."""

    stored_as: str
    write: Callable[[int], bytes]
    shown: list[int]


LARGE = [81_253, 81_311, 68_234, 71_002, 70_003]
MIDDLE = [1340, 1432, 1386, 1394, 1410]
SMALL = [77, 57, 100, 93, 12]
PLANTED = [
    Planted("u8", whole(1, "little"), SMALL),
    Planted("i8", whole(1, "little", True), [-5, 7, -90, 44, 3]),
    *(Planted(f"u{8 * n}{e[:1]}e", whole(n, {"l": "little", "b": "big"}[e[0]]), MIDDLE) for n in (2, 3, 4, 8) for e in ("l", "b")),
    *(Planted(f"i{8 * n}{e}e", whole(n, {"l": "little", "b": "big"}[e], True), [-1340, 1432, -7, 94, 410]) for n in (2, 3, 4, 8) for e in ("l", "b")),
    Planted("f32le", lambda v: struct.pack("<f", v), MIDDLE),
    Planted("f32be", lambda v: struct.pack(">f", v), MIDDLE),
    Planted("f64le", lambda v: struct.pack("<d", v), MIDDLE),
    Planted("f64be", lambda v: struct.pack(">d", v), MIDDLE),
    *(Planted(f"bcd{n}", packed(n, False), MIDDLE) for n in (2, 3, 4, 6, 8)),
    *(Planted(f"bcd{n}le", packed(n, True), MIDDLE) for n in (2, 3, 4, 8)),
    *(Planted(f"unpacked{n}", unpacked(n, 0, False), LARGE) for n in (5, 6, 8)),
    *(Planted(f"unpacked{n}le", unpacked(n, 0x80, True), MIDDLE) for n in (4, 7)),
    Planted("uleb128", leb128, LARGE),
    Planted("sleb128", sleb128, [-1340, 1432, -7, 94, 410]),
    Planted("vlq", lambda v: bytes(v >> 7 * n & 127 | 128 * (n > 0) for n in range(9, -1, -1) if n == 0 or v >> 7 * n), [1340, 1432, 70, 20_000, 410]),
    Planted("zigzag", lambda v: leb128(v * 2 if v >= 0 else -v * 2 - 1), [-1340, 1432, -7, 94, 410]),
    Planted("sized-high", lambda v: (v | 2 << 30).to_bytes(4) if v >= 1 << 14 else (v | 1 << 14).to_bytes(2), LARGE),
    Planted("sized-low", lambda v: (v << 2 | 2).to_bytes(4, "little") if v >= 1 << 14 else (v << 2 | 1).to_bytes(2, "little"), LARGE),
    Planted("sized-front", lambda v: b"\xfe" + v.to_bytes(4, "little") if v >= 1 << 16 else b"\xfd" + v.to_bytes(2, "little"), LARGE),
    Planted("digits", lambda v: str(v).encode(), MIDDLE),
    Planted("digits-utf16le", lambda v: str(v).encode("utf-16-le"), MIDDLE),
]  # fmt: skip


class StorageTest(LedgerCase):
    def setUp(self) -> None:
        super().setUp()
        warnings.simplefilter("error")

    def best(self, found: Located, at: int = AT) -> list[str]:
        return [place.stored_as for place in found.full if place.offsets[0] == at]

    def test_a_planted_value_is_found_in_every_storage(self) -> None:
        for seed, planted in enumerate(PLANTED):
            with self.subTest(stored_as=planted.stored_as):
                found = located(saves([planted.write(v) for v in planted.shown], seed), list(planted.shown))
                self.assertIn(planted.stored_as, self.best(found))
                strangers = [p for p in found.full if abs(p.offsets[0] - AT) > 8]
                self.assertEqual(strangers, [], "decoys")
                place = next(p for p in found.full if p.stored_as == planted.stored_as and p.offsets[0] == AT)
                self.assertEqual((place.scale, place.bias, place.rounding, place.fits, place.of), (1, 0, None, 5, 5))
                self.assertEqual(list(place.values), planted.shown)

    def test_relations_between_what_is_shown_and_what_is_stored(self) -> None:
        for number, (write, expected) in enumerate(
            (
                (lambda v: struct.pack("<I", v * 10), ("u32le", 10.0, 0.0, None)),
                (lambda v: struct.pack("<I", v * 100), ("u32le", 100.0, 0.0, None)),
                (lambda v: struct.pack("<I", v + 17), ("u32le", 1.0, 17.0, None)),
                (lambda v: struct.pack(">H", v - 3), ("u16be", 1.0, -3.0, None)),
                (lambda v: struct.pack("<I", v * 37), ("u32le", 37.0, 0.0, None)),
                (lambda v: struct.pack("<f", v + 0.625), ("f32le", 1.0, 0.0, "floor")),
                (lambda v: struct.pack("<f", v - 0.25), ("f32le", 1.0, 0.0, "nearest")),
                (lambda v: struct.pack("<I", v * 100 + 34 + v % 7), ("u32le", 100.0, 0.0, "floor")),
                (lambda v: struct.pack("<I", v * 10 - 2), ("u32le", 10.0, 0.0, "nearest")),
                (lambda v: struct.pack("<d", v / 100), ("f64le", 0.01, 0.0, None)),
            )
        ):
            with self.subTest(expected=expected):
                found = located(saves([write(v) for v in MIDDLE], 50 + number), list(MIDDLE))
                told = [(p.stored_as, p.scale, p.bias, p.rounding) for p in found.full if p.offsets[0] == AT]
                self.assertIn(expected, told)

    def test_large_files_are_judged_as_small_ones(self) -> None:
        """Forms with a bias or a scale, and those that are exact, by both ways of looking."""
        for seed, (write, shown, expected) in enumerate(
            [(planted.write, planted.shown, (planted.stored_as, 1.0, 0.0)) for planted in PLANTED]
            + [
                (lambda v: struct.pack("<I", v * 100), MIDDLE, ("u32le", 100.0, 0.0)),
                (lambda v: struct.pack("<I", v + 17), MIDDLE, ("u32le", 1.0, 17.0)),
                (lambda v: struct.pack(">H", v - 3), MIDDLE, ("u16be", 1.0, -3.0)),
                (lambda v: struct.pack("<I", v * 37), MIDDLE, ("u32le", 37.0, 0.0)),
                (lambda v: struct.pack("<f", v * 0.37), MIDDLE, ("f32le", 0.37, 0.0)),
            ]
        ):
            with self.subTest(expected=expected), mock.patch.object(places, "SMALL", 0):
                found = located(saves([write(v) for v in shown], seed), list(shown))
                here = {(p.stored_as, round(p.scale, 4), p.bias) for p in found.full if p.offsets[0] == AT}
                self.assertIn(expected, here)
                self.assertEqual([p for p in found.full if abs(p.offsets[0] - AT) > 8], [], "decoys")
        with mock.patch.object(places, "SMALL", 0):
            stale = [*MIDDLE[:4], 1399]
            found = located(saves([struct.pack("<I", v) for v in MIDDLE], 3), list(stale))
            self.assertEqual((found.places[0].offsets[0], found.places[0].fits, found.places[0].of), (AT, 4, 5))

    def test_fractions_are_seen_as_fractions(self) -> None:
        shown = ["12.5", "89.1", "3.75", "4.5"]
        found = located(saves([struct.pack("<f", float(v)) for v in shown], 3), list(shown))
        self.assertIn("f32le", self.best(found))
        tenths = located(saves([struct.pack("<H", round(float(v) * 100)) for v in shown], 4), list(shown))
        self.assertIn(("u16le", 100.0), [(p.stored_as, p.scale) for p in tenths.full if p.offsets[0] == AT])

    def test_only_more_less_same_and_changed_are_known(self) -> None:
        data = saves([struct.pack("<H", v) for v in (500, 700, 700, 650, 20)], 9)
        found = located(data, ["any", "more", "same", "less", "changed"])
        self.assertIn((AT, "u16le"), [(p.offsets[0], p.stored_as) for p in found.full])
        for place in found.full:
            values = place.values
            self.assertTrue(values[1] > values[0] and values[2] == values[1] and values[3] < values[2])
            self.assertNotEqual(values[4], values[3])

    def test_what_moved_inside_a_large_file_of_one_size_is_found_by_relations(self) -> None:
        at, dense = 700_000, bytes(byte >> 1 for byte in random.Random(3).randbytes(1_200_000))
        for moved in (0, 12):
            data = []
            for number, value in enumerate((500, 700, 700, 650, 20)):
                to = moved * (number % 2)
                part = bytearray(dense)
                part[at + to : at + to + 9000] = dense[at : at + 9000]
                part[at + to + 4000 : at + to + 4004] = struct.pack("<I", value)
                data.append(part)
            with self.subTest(moved=moved):
                found = located(data, ["any", "more", "same", "less", "less"])
                wanted = tuple(at + 4000 + moved * (number % 2) for number in range(5))
                self.assertIn((wanted, "u32le"), [(place.offsets, place.stored_as) for place in found.full])

    def test_a_stale_copy_and_a_mistyped_number_leave_one_out(self) -> None:
        data = saves([struct.pack("<I", v) for v in LARGE], 11)
        for part, value in zip(data, [LARGE[0], *LARGE[:-1]], strict=True):
            part[3001:3005] = struct.pack("<I", value)
        found = located(data, [*LARGE[:2], 99_999, *LARGE[3:]])
        self.assertEqual(found.full, [])
        best = found.places[0]
        self.assertEqual((best.offsets[0], best.stored_as, best.fits, best.of), (AT, "u32le", 4, 5))
        self.assertIn("fits all but copy 3: a stale copy, or a mistyped number?", best.reasons)
        self.assertIn("the best one leaves one out", found.suggestion)

    def test_where_no_byte_changed_each_time_there_is_no_place(self) -> None:
        base, data = bytearray(random.Random(9).randbytes(20_000) + bytes(40_000)), []
        for number in range(len(LARGE)):
            base[number * 1000] ^= 255
            data.append(bytearray(base))
        self.assertEqual(located(data, list(LARGE)).places, [])

    def test_a_label_in_front_and_alignment_rank_higher(self) -> None:
        data = saves([struct.pack("<I", v) for v in LARGE], 12)
        for part, value in zip(data, LARGE, strict=True):
            part[1999:2012] = b"\0purse\0\0\0" + struct.pack("<I", value)
        found = located(data, list(LARGE))
        self.assertEqual(found.places[0].offsets[0], 2008)
        self.assertIn("behind the text “purse”", found.places[0].reasons)
        self.assertIn("hold the same in every snapshot: copies", found.suggestion)

    def test_texts(self) -> None:
        names = ["Brock", "Brock", "Brockwell"]
        for codec, stored_as in (("utf-8", "utf-8"), ("utf-16-le", "utf-16le"), ("utf-16-be", "utf-16be")):
            raws = [name.encode(codec) for name in names]
            data = saves([bytes([len(raw)]) + raw + bytes(20 - len(raw)) for raw in raws], 20)
            found = located(data, list(names))
            self.assertEqual((found.places[0].offsets[0], found.places[0].stored_as), (AT + 1, stored_as))
            self.assertIn("its length is directly in front (u8)", found.places[0].reasons)
        latin = located(saves(["Sø".encode("latin-1") + bytes(4)] * 2, 21), ["Sø", "Sø"])
        self.assertIn("latin-1", [place.stored_as for place in latin.places])

    def test_every_reader_agrees_with_a_plain_one(self) -> None:
        data = numpy.random.default_rng(4).integers(0, 256, 400, numpy.uint8)
        raw = data.tobytes()
        offsets = numpy.arange(400)
        for name, size, signed, order in (
            ("u16be", 2, False, "big"),
            ("i24le", 3, True, "little"),
            ("u24be", 3, False, "big"),
            ("i32be", 4, True, "big"),
            ("i8", 1, True, "big"),
        ):
            values, valid = read_numbers(STORAGES[name], data, offsets)
            for at in range(400):
                inside = at + size <= 400
                self.assertEqual(bool(valid[at]), inside)
                if inside:
                    self.assertEqual(int(values[at]), int.from_bytes(raw[at : at + size], order, signed=signed))  # type: ignore[arg-type]

    @settings(max_examples=60)
    @given(st.lists(st.integers(-(1 << 40), 1 << 40), min_size=1, max_size=20))
    def test_variable_numbers_read_back(self, numbers: list[int]) -> None:
        for name in ("sleb128", "zigzag"):
            for number in numbers:
                data = numpy.frombuffer(STORAGES[name].encode(number) + b"\x55", numpy.uint8)
                values, valid = read_numbers(STORAGES[name], data, numpy.zeros(1, numpy.int64))
                self.assertEqual((bool(valid[0]), int(values[0])), (True, number), name)


class MovingTest(LedgerCase):
    def played(self) -> tuple[list[MemorySource], list[MemorySource], list[dict[str, object]]]:
        """Five save moments of Brinewick in which names in front grow twice."""
        folder = self.folder / "played"
        slots, accounts, shown = [], [], []
        for actions in (
            [["start", "Oriel & Sons"]],
            [["sell", "brass lamp", "2"]],
            [["dive", "Tamsin"]],
            [["rename", "Oriel", "Oriel the Elder"], ["buy", "air hose"]],
            [["rename", "Brock", "Brockwell"], ["sell", "oyster knife"], ["heal", "Tamsin"]],
        ):
            for action in actions:
                self.assertEqual(play(folder, *action).status, 0)
            slots.append(MemorySource((folder / "harbour.bwk").read_bytes()))
            accounts.append(MemorySource((folder / "account.json").read_bytes()))
            company = Harbour(folder).load(1)
            shown.append({"marks": company.marks, "air": company.crew[1].air, "name": company.crew[2].name})
        return slots, accounts, shown

    def test_marks_air_and_name_are_pinned_though_everything_moves(self) -> None:
        slots, _, shown = self.played()
        for quantity, stored_as, run in (
            ("marks", "u32le", b"PURS"),
            ("air", "u8", b"Tamsin"),
            ("name", "utf-8", None),
        ):
            with self.subTest(quantity=quantity):
                found = locate(slots, [parse_sighting(str(moment[quantity])) for moment in shown])
                self.assertEqual(len({place.offsets for place in found.full}), 1, found.full)
                self.assertIn(stored_as, [place.stored_as for place in found.full])
                for slot, moment, at in zip(slots, shown, found.full[0].offsets, strict=True):
                    data = bytes(slot.read(0, slot.size))
                    if quantity == "name":
                        name = str(moment["name"]).encode()
                        self.assertEqual(data[at : at + len(name)], name)
                    else:
                        self.assertEqual(data[at], int(str(moment[quantity])) & 255)
                        self.assertIn(run, data[max(at - 12, 0) : at])
                if quantity != "marks":
                    self.assertIsNotNone(found.full[0].anchor)
                self.assertIn("One place is left", found.suggestion)

    def test_from_the_end(self) -> None:
        data = []
        for number, value in enumerate(MIDDLE):
            rng = random.Random(7)
            tail = bytes(rng.randrange(256) for _ in range(300))
            front = random.Random(number).randbytes(400 + 13 * number)
            data.append(bytearray(front + tail[:100] + struct.pack("<H", value) + tail[102:]))
        found = located(data, list(MIDDLE))
        self.assertEqual({len(part) - at for part, at in zip(data, found.full[0].offsets, strict=True)}, {200})

    def test_what_a_text_shows_rounded_is_found(self) -> None:
        held = (89.1, 77.4, 80.25)
        texts = [
            MemorySource(json.dumps({"t": 7 * n, "hp": value, "x": [1, 2]}).encode()) for n, value in enumerate(held)
        ]
        for shown, scale in (("89 77 80", 1), ("8910 7740 8025", 0.01)):
            found = locate(texts, list(map(parse_sighting, shown.split())))
            self.assertEqual((found.places[0].path, found.places[0].scale), ("hp", scale))
        self.assertEqual(found.spots, 1)

    def test_text_saves_give_a_path(self) -> None:
        _, accounts, shown = self.played()
        found = locate(accounts, [parse_sighting(str(moment["marks"])) for moment in shown])
        self.assertEqual([place.path for place in found.full], ["slots[0].marks"])
        texts = []
        for air in (23, 77, 51):
            inner = json.dumps({"divers": [{"air": air}, {"air": 9}]})
            texts.append(bytearray(json.dumps({"world": inner, "noise": air * 3}, indent=2).encode()))
        nested = located(texts, [23, 77, 51])
        self.assertEqual(nested.full[0].path, "world(text).divers[0].air")

    def test_hopeless_comparison_is_said(self) -> None:
        data = [bytearray(random.Random(n).randbytes(3000)) for n in range(4)]
        found = located(data, [70_123, 70_456, 70_789, 71_234])
        self.assertEqual(found.places, [])
        self.assertRegex(found.warning, r"^(99|100)% of the bytes differ .* comparing is hopeless")


class OrderTest(LedgerCase):
    def test_the_lengths_of_texts_say_the_order_of_a_small_save(self) -> None:
        turn = random.Random(8)
        names = [b"Colette", b"Old Sedge", b"Hester Lowe"]
        for order in ("le", "be", ""):
            form = {"le": "<IH", "be": ">IH"}.get(order, ">BH")
            parts = [
                struct.pack(form, len(name), 1)[: struct.calcsize(form) - 2] + name + turn.randbytes(3)
                for name in names
            ]
            content = Content(numpy.frombuffer(bytes(40) + b"\xff".join(parts), numpy.uint8))
            with self.subTest(order=order):
                self.assertEqual(
                    content.order, "le" if order == "le" else "", "a zero in front may be of another number"
                )


class SightingTest(LedgerCase):
    def test_what_people_write(self) -> None:
        for text, expected in (
            ("1340", Sighting("number", Fraction(1340))),
            (" -3 ", Sighting("number", Fraction(-3))),
            ("12.5", Sighting("number", Fraction(25, 2))),
            ("1\u202f340", Sighting("number", Fraction(1340))),
            ("More", Sighting("more")),
            ('"more"', Sighting("text", text="more")),
            ("1/2", Sighting("text", text="1/2")),
            ("Oriel", Sighting("text", text="Oriel")),
        ):
            self.assertEqual(parse_sighting(text), expected)
        with self.assertRaises(ValueRefused):
            parse_sighting("  ")

    def test_how_much_is_chance_is_told_where_little_was_seen(self) -> None:
        data = saves([bytes([value]) for value in (77, 57)], 4)
        (place,) = [p for p in located(data, [77, 57]).full if p.offsets[0] == AT and p.stored_as == "u8"]
        self.assertFalse(
            any("by chance" in reason for reason in place.reasons), "4000 bytes, two values of a byte each"
        )
        one = next(p for p in located(data[:1], [77]).full if p.offsets[0] == AT and p.stored_as == "u8")
        self.assertIn("by chance about 16 places of its kind would fit as well", one.reasons)

    def test_contradictions_are_told(self) -> None:
        data = saves([b"\1\2"] * 2, 1)
        for seen, words in (
            ([5, "Oriel"], "“Oriel” is a text and others are numbers"),
            (["any", "any"], "nothing was seen that tells one place from another"),
        ):
            with self.assertRaisesRegex(EntryError, words):
                located(data, seen)
        self.assertIn("No place explains it", located(data, [10**15, 10**15 + 5]).suggestion)
        self.assertIn("No storage holds a number as large as 1", located(data, [10**25, 10**25 + 5]).suggestion)
        same = [data[0], data[1], data[0]]
        told = located(same, [5, 6, 7]).suggestion
        self.assertIn("copy 1 and copy 3 hold the same bytes, but 5 was seen at one and 7 at the other", told)
        self.assertIn("copy 1 and copy 2 hold the same bytes", located([data[0]] * 2, ["any", "more"]).suggestion)
        values = [struct.pack("<I", value) for value in MIDDLE]
        found = located(saves(values, 5), [*MIDDLE[:3], 1999, MIDDLE[4]])
        self.assertIn("It leaves out what was seen at copy 4", found.suggestion)
        self.assertEqual(located([bytearray(), bytearray()], [5, 6]).places, [])


class PinnedTest(LedgerCase):
    def test_a_place_is_recorded_as_it_moves_and_read_back_in_every_save(self) -> None:
        rng = random.Random(2)
        shown = [1340, 1432, 1386, 1410]
        flags = [0b0101, 0b0111, 0b0101, 0b0111]
        from_end = [
            rng.randbytes(n) + struct.pack("<I", v) + bytes(8) for n, v in zip((100, 131, 90, 150), shown, strict=True)
        ]
        behind = [
            rng.randbytes(n) + b"PURSE" + struct.pack("<I", v) + rng.randbytes(n // 2)
            for n, v in zip((100, 131, 90, 150), shown, strict=True)
        ]
        switch = [b"HEAD" + bytes([flag]) + rng.randbytes(200) for flag in flags]
        for data, seen, stored_as, address, expected in (
            (from_end, shown, "u32le", {"at": -12}, shown),
            (behind, shown, "u32le", {"behind": "50 55 52 53 45", "at": 5}, shown),
            ([b"HEAD" + leb128(v) + rng.randbytes(99) for v in shown], shown, "uleb128", {"at": 4}, shown),
            ([b"HEAD" + packed(3, False)(v) + rng.randbytes(99) for v in shown], shown, "bcd3", {"at": 4}, shown),
            (switch, ["no", "yes", "no", "yes"], "bit1", {"at": 4}, [False, True, False, True]),
        ):
            with self.subTest(address=address):
                sources = [MemorySource(part) for part in data]
                found = locate(sources, [parse_sighting(str(value)) for value in seen])
                place = next(
                    p for p in found.full if p.stored_as == stored_as and (p.offsets[0] == 4 or stored_as != "bit1")
                )
                text, path = with_place(None, place, "Quantity", Path("voyage.sav"), "a game", Shared(100, 0))
                template = parse_template(text, "pinned.yaml")
                (spec,) = template.main.root.layout
                for source, value in zip(sources, expected, strict=True):
                    bound = bind_files(template, {template.main.name: source})
                    node = bound[template.main.name].root.names[path]
                    assert isinstance(node, FieldNode)
                    self.assertEqual(node.value if type(value) is int else "yes" in str(node.value), value)
                document = YAML(typ="safe").load(text.decode())["files"]["save"]["layout"][0]
                self.assertEqual({key: document[key] for key in address}, address)
                self.assertEqual(spec.name, "quantity")


class RefusedTest(LedgerCase):
    """After a refusal: bytes that behave as a checksum does are pointed at, others are not."""

    def test_what_differs_in_every_copy_is_a_lead(self) -> None:
        rng = random.Random(9)
        for name, at in (("front", 6), ("back", -10)):
            copies = []
            body = bytearray(rng.randrange(256) for _ in range(3000))
            for number in range(5):
                body[100:102] = (500 + number).to_bytes(2, "little")  # a counter: only its low byte always differs
                body[400 + rng.randrange(500)] ^= 255
                body[2000:2200] = rng.randbytes(200)  # packed content
                whole = bytearray(b"HEAD.." + body + bytes(rng.randrange(40)) + b"tail")
                whole[at if at > 0 else len(whole) + at : 0 if at == -4 else (at + 4) or None] = b""
                sealed = zlib.crc32(whole).to_bytes(4, "little")
                cut = at if at > 0 else len(whole) + at + 4
                copies.append(MemorySource(bytes(whole[:cut] + sealed + whole[cut:])))
            with self.subTest(name=name):
                expected = at if at > 0 else copies[-1].size + at
                self.assertEqual(restless(copies), [(expected, 4)])
                self.assertEqual(restless(copies[:2]), [], "two copies say too little")

    def test_leads_name_what_is_not_known_and_numbers_that_may_count(self) -> None:
        path = self.folder / "a.sav"
        rng = random.Random(1)
        contents = []
        for number in range(4):
            body = bytes(40) + number.to_bytes(2, "little") + bytes(60)
            contents.append(zlib.crc32(body).to_bytes(4, "big") + struct.pack("<I", len(body)) + body)
        path.write_bytes(contents[-1])
        save = open_save(path, None)
        del rng
        found = list(leads(save, {"file": list(map(MemorySource, contents))}, [("file", 50, 3)]))
        self.assertIn("a checksum that nobody knows yet", found[0].text)
        self.assertEqual([(lead.file, lead.start, lead.end) for lead in found[1:]], [("file", 0, 4), ("file", 4, 6)])
        self.assertIn("a.sav grew by +3 bytes", found[2].text)
        sealed = "ledger: 1\nid: s\ntitle: S\nfiles: {file: {name: a.sav, layout: [{field: crc, as: u32be, seal: "
        sealed += "{algorithm: crc-32, over: rest}}, {group: rest, layout: [{unknown: u, size: 106}]}]}}\n"
        known = open_save(path, parse_template(sealed.replace("106", "102").encode(), "s.yaml"))
        again = list(leads(known, {"file": list(map(MemorySource, contents))}, []))
        self.assertEqual(again, [], "what a seal covers already is no lead")


class SharedTest(LedgerCase):
    def test_what_a_template_made_from_a_pin_recognises(self) -> None:
        place = locate(
            [MemorySource(b"SAVE" + bytes(8) + struct.pack("<I", 1340))], [Sighting("number", Fraction(1340))]
        )
        for contents, sizes, lines in (
            ([b"SAVE\1\2\3\4\5", b"SAVE\1\2\x09\4"], [500, 500], ["least: 500, most: 500", "53 41 56 45"]),
            ([b"SAVE\1", b"SAVE\2"], [500, 700], ["{least: 1}", "53 41 56 45"]),
            ([bytes(40), bytes(40)], [500, 700], ["{least: 1}"]),
            ([b"SAVE"], [16], ["{least: 1}", "53 41 56 45"]),
        ):
            with self.subTest(contents=contents):
                shared = shared_by(contents, sizes)
                text, _ = with_place(None, place.places[0], "Marks", Path("/x/a.sav"), "g", shared)
                for line in lines:
                    self.assertIn(line, text.decode())
                self.assertEqual(b"magic" in text, len(lines) == 2)

    def test_a_pin_is_taken_back(self) -> None:
        place = locate(
            [MemorySource(b"SAVE" + bytes(8) + struct.pack("<I", 1340))], [Sighting("number", Fraction(1340))]
        )
        one, first = with_place(None, place.places[0], "Marks", Path("/x/a.sav"), "g", Shared(1, 0))
        other = place.places[0]
        other.offsets = (4,)
        both, second = with_place(one, other, "Air", Path("/x/a.sav"), "g", Shared(1, 0))
        self.assertEqual(without_field(both, second), one)
        self.assertIsNone(without_field(one, first))
        with self.assertRaisesRegex(EntryError, "was not pinned"):
            without_field(both, "purse")
        described = both.replace(b"explains 1 of 1 sightings", b"by hand")
        with self.assertRaisesRegex(EntryError, "was not pinned"):
            without_field(described, first)

    def test_what_was_described_beside_a_pinned_value_goes_with_it(self) -> None:
        turn = dice()
        key = turn.getrandbits(32)
        shown = [turn.randrange(3000, 60000) for _ in range(5)]
        bits = [[(5, 3), (number, 9), (marks, 22), (turn.randrange(32) | 1, 6)] for number, marks in enumerate(shown)]
        packed = [
            sum(n << sum(width for _, width in row[:at]) for at, (n, _) in enumerate(row)).to_bytes(5, "little")
            for row in bits
        ]
        banks = [
            struct.pack("<II", count, marks - 5 * (number + 1 - count)) + bytes(56)
            for number, marks in enumerate(shown)
            for count in ((number + 1, number) if number % 2 else (number, number + 1))
        ]
        for kind, contents in (
            ("bits_in", [b"BRINE" + each + turn.randbytes(40) for each in packed]),
            ("mask", [b"BRINE" + struct.pack("<I", marks ^ key) + turn.randbytes(40) for marks in shown]),
            ("guides", [b"".join(banks[at : at + 2]) for at in range(0, len(banks), 2)]),
        ):
            with self.subTest(kind):
                found = locate([MemorySource(each) for each in contents], [parse_sighting(str(m)) for m in shown])
                place = found.places[0]
                self.assertIsNotNone(getattr(place, kind), place)
                before, _ = with_place(None, Place((40,), "u8", 1, 1), "Air", Path("/x/a.sav"), "g", Shared(1, 0))
                both, path = with_place(before, place, "Marks", Path("/x/a.sav"), "g", Shared(1, 0))
                self.assertEqual(without_field(both, path), before)

    def test_bits_that_share_a_word_are_pinned_one_after_the_other(self) -> None:
        turn = dice()
        book = Book(self.folder / "book")
        self.addCleanup(book.close)
        path = self.folder / "a.sav"
        rows = [(turn.randrange(300, 500), turn.randrange(3000, 60000)) for _ in range(5)]
        contents = []
        for days, marks in rows:
            number = 5 | days << 3 | marks << 12 | 1 << 34
            contents.append(b"BRINEWCK" + number.to_bytes(8, "little") + bytes(8))
        for column, name in enumerate(("Days", "Marks")):
            seen = [parse_sighting(str(row[column])) for row in rows]
            place = locate([MemorySource(each) for each in contents], seen).places[0]
            path.write_bytes(contents[-1])
            library = Library((book.folder / "templates",))
            template = library.recognise(path, MemorySource(contents[-1])) if column else None
            book.templates.add_place(open_save(path, template), library, place, name)
        save = open_save(path, Library((book.folder / "templates",)).recognise(path, MemorySource(contents[-1])))
        self.assertEqual([save.fields(each)[0].value for each in ("days", "marks")], list(rows[-1]))
        save.enter("days", "7")
        after = int.from_bytes(make_plan(save).files[0].patched.read(8, 16), "little")
        self.assertEqual(after, int.from_bytes(contents[-1][8:16], "little") & ~(511 << 3) | 7 << 3)
        with self.assertRaises(ValueRefused):
            save.enter("days", "65536")


class PlausibleTest(LedgerCase):
    """Of all ways to read some bytes the plausible ones come first, and a place is followed into other copies."""

    def test_what_games_store_comes_first(self) -> None:
        for name, raws, size in (
            ("4 bytes", [struct.pack("<I", value) for value in (1340, 1432, 1394)], 4),
            ("2 bytes, high first", [struct.pack(">H", value) for value in (300, 310, 305)], 2),
            ("fraction 4", [struct.pack("<f", value) for value in (100.0, 87.5, 92.25)], 4),
            ("fraction 8", [struct.pack("<d", value) for value in (0.5, 0.75, 0.5)], 8),
            ("text", [b"Oriel\0\0\0", b"Brock\0\0\0", b"Tamsin\0\0"], 8),
            ("1 byte", [b"\x07", b"\x09", b"\x08"], 1),
        ):
            with self.subTest(name=name):
                *before, now = (MemorySource(raw + b"\xee\x91\x80\xa7" * 8) for raw in raws)
                found = plausible_readings(now, 0, size, [(copy, 0) for copy in before])
                self.assertEqual(found[0].reading.name, name)
                self.assertTrue(found[0].likely)
                self.assertLessEqual(sum(each.likely for each in found), 5)
                self.assertEqual(len(found[0].before), 2)

    @given(st.integers(0, 400), st.integers(0, 60), st.integers(0, 1 << 30))
    @settings(max_examples=25)
    def test_a_place_is_followed(self, start: int, shift: int, seed: int) -> None:
        turn = random.Random(seed)
        data = turn.randbytes(500)
        at = turn.randrange(0, max(start - 96, 0) + 1)  # right in front of it nobody could say what it goes with
        moved = data[:at] + turn.randbytes(shift) + data[at:]
        found = place_in(MemorySource(data), start, 4, MemorySource(moved))
        self.assertEqual(found, start + (shift if at <= start else 0))
        self.assertIsNone(place_in(MemorySource(data), start, 4, MemorySource(b"")))


class InsideTest(LedgerCase):
    """An edition nobody has described: packed, with records in another order each time."""

    def played(self) -> tuple[list[MemorySource], list[Company]]:
        folder, slots, companies = self.folder / "deep", [], []
        for actions in (
            [["start", "Oriel & Sons"]],
            [["sell", "brass lamp", "2"]],
            [["dive", "Tamsin"]],
            [["rename", "Oriel", "Oriel the Elder"], ["buy", "air hose"]],
            [["rename", "Brock", "Brockwell"], ["sell", "oyster knife"], ["heal", "Tamsin"]],
            [["dive", "Tamsin"], ["buy", "bell weight", "3"]],
        ):
            for action in actions:
                self.assertEqual(play(folder, "--edition", "deep", *action).status, 0)
            slots.append(MemorySource(Depot(folder).path.read_bytes()))
            companies.append(Depot(folder).load())
        return slots, companies

    def test_letters_of_base64_by_chance_do_not_hide_a_scrambling(self) -> None:
        rng = random.Random(3)
        plain = bytearray(rng.choice((0, 0, 0, rng.randrange(256))) for _ in range(8000))
        copies, chance = [], b"QUJDREVGR0hJSktMTU5PUFFSU1RVVldYWVowMTIzNDU2"
        for number, value in enumerate((1340, 977, 2211)):
            plain[5000:5004] = value.to_bytes(4, "little")
            hidden = bytearray(accumulate(plain, xor))
            if number == 1:  # as a run of the chain may look; the game wrote it, so it is undone like all the rest
                hidden[2000 : 2000 + len(chance)] = chance
            copies.append(MemorySource(bytes(hidden)))
        found = locate(copies, [parse_sighting(str(value)) for value in (1340, 977, 2211)])
        self.assertEqual((found.places[0].offsets, found.places[0].layer), ((5000,) * 3, "XOR with the byte before"))

    def test_marks_air_name_and_a_switch_are_pinned_through_the_layers(self) -> None:
        slots, companies = self.played()
        for stored_as, shown in (
            ("uleb128", [c.marks for c in companies]),
            ("u8", [c.crew[1].air for c in companies]),
            ("utf-8", [c.crew[2].name for c in companies]),
            ("bit1", ["yes" if c.crew[1].injuries & 2 else "no" for c in companies]),
        ):
            with self.subTest(shown=shown):
                found = locate(slots, [parse_sighting(str(value)) for value in shown])
                best = next(place for place in found.full if place.stored_as == stored_as and place.anchor)
                self.assertIn("2 zstd streams", str(best.layer))
                self.assertIn("in stream 1", str(best.layer))
                for source, at, company in zip(found.payloads_of(best) or (), best.offsets, companies, strict=True):
                    inner = bytes(source.read(0, source.size))
                    name = company.crew[1].name.encode()
                    if stored_as == "uleb128":
                        self.assertEqual(inner[at : at + 2], deep.number(company.marks))
                    elif stored_as == "utf-8":
                        self.assertEqual(inner.find(company.crew[2].name.encode()), at)
                    else:
                        self.assertEqual(at - inner.find(name), len(name) + (2 if stored_as == "bit1" else 0))
                text, field = with_place(None, best, "Quantity", Path("company.bwd"), "a game", Shared(100, 0))
                template = parse_template(text, "pinned.yaml")
                for source, value in zip(slots, shown, strict=True):
                    root = bind_files(template, {"save": source})["unpacked"].root
                    (node,) = root.names.values()
                    assert isinstance(node, FieldNode)
                    self.assertEqual(field, "unpacked.quantity")
                    expected = ("yes",) if value == "yes" else () if value == "no" else value
                    self.assertEqual(node.value, expected, "pinned as it moves, and read back in every save")
                if stored_as != "bit1":
                    self.assertEqual(len({place.offsets for place in found.full}), 1, found.full)

    def test_each_save_scrambled_with_another_key(self) -> None:
        rng = random.Random(8)
        data = [bytes(part) for part in saves([struct.pack("<I", value) for value in MIDDLE], 3)]
        hidden = []
        for number, part in enumerate(data):
            key = rng.randbytes(5 + number)
            hidden.append(bytes(byte ^ key[at % len(key)] for at, byte in enumerate(part)))
        found = locate([MemorySource(part) for part in hidden], [parse_sighting(str(value)) for value in MIDDLE])
        self.assertEqual({place.offsets[0] for place in found.full if place.stored_as[0] == "u"}, {AT})
        self.assertIn("u32le", [place.stored_as for place in found.full])
        self.assertIn("XOR with", str(found.places[0].layer))

    def test_what_lies_inside_is_reached_layer_by_layer_and_bounded(self) -> None:
        plain = b"marks=1340;" * 50
        packed = base64.b64encode(zlib.compress(plain))
        (outer, inner) = payloads_inside(b"\x01\x02 " + packed + b" \x00")
        self.assertEqual((outer.route, inner.route), (("base64",), ("base64", "zlib")))
        self.assertEqual(inner.data, plain)
        chunks = b"\x05".join(zlib.compress(plain[at : at + 200]) for at in range(0, 550, 200))
        (joined,) = payloads_inside(chunks)
        self.assertEqual(joined.data, plain)
        self.assertIn("in stream 3, 50 bytes from its beginning", joined.spot(450))
        self.assertEqual(payloads_inside(random.Random(1).randbytes(5000)), [])
        depths = b"".join(struct.pack("<BB", n * 5 & 255, n * 7 & 255) for n in range(1200))
        self.assertEqual(len(payloads_inside(zlib.compress(depths))), 1, "what was unpacked is not scrambled as well")
        self.assertEqual(payloads_inside(b""), [])


class AlignmentTest(LedgerCase):
    def test_insertions_removals_and_edits_are_told_as_such(self) -> None:
        for seed in range(12):
            rng = numpy.random.default_rng(seed)
            a = rng.integers(0, 256, 20_000, numpy.uint8)
            if seed % 2:
                a = a.reshape(-1, 20)
                a[:, 4:12] = 0
                a[:, 12:] = rng.integers(65, 70, (1000, 8))
                a = a.ravel()
            parts, at, planted = [], 0, 0
            for place in sorted(rng.choice(19_000, 8, replace=False).tolist()):
                if place < at:
                    continue
                parts.append(a[at:place])
                planted += place - at
                at = place
                length = int(rng.integers(1, 60))
                if rng.random() < 0.5:
                    parts.append(rng.integers(0, 256, length, numpy.uint8))
                else:
                    at += length
            parts.append(a[at:])
            planted += a.size - at
            b = numpy.concatenate(parts)
            edits = rng.choice(b.size, 30, replace=False)
            b[edits] ^= 255
            with self.subTest(seed=seed):
                alignment = align(a, b)
                self.assertGreaterEqual(alignment.equal, planted - 30)
                self.rebuilt(a, b, alignment.differences(), alignment.moved)

    def rebuilt(self, a: numpy.ndarray, b: numpy.ndarray, differences: list, moved: list) -> None:  # type: ignore[type-arg]
        """Every byte of both that is in no difference is the same at its aligned place."""
        out_a, out_b = numpy.zeros(a.size, bool), numpy.zeros(b.size, bool)
        for item in differences:
            out_a[item.a0 : item.a1] = True
            out_b[item.b0 : item.b1] = True
        numpy.testing.assert_array_equal(a[~out_a], b[~out_b])
        self.assertTrue(all(item.a1 > item.a0 or item.b1 > item.b0 for item in differences))

    def test_a_moved_block_is_moved_and_not_different(self) -> None:
        rng = numpy.random.default_rng(3)
        a = rng.integers(0, 256, 9000, numpy.uint8)
        b = numpy.concatenate([a[:1000], a[1400:6000], a[1000:1400], a[6000:]])
        alignment = align(a, b)
        self.assertEqual(alignment.equal, 9000)
        self.assertEqual(
            [(d.kind, d.a0, d.a1, d.b0, d.b1) for d in alignment.differences()], [("moved", 1000, 1400, 5600, 6000)]
        )

    def test_a_short_insertion_in_front_of_bytes_that_are_all_alike_is_no_change(self) -> None:
        for seed in range(6):
            rng = numpy.random.default_rng(seed)
            noise = rng.integers(1, 256, 6000, numpy.uint8)
            alike = numpy.full(16_384, seed % 3, numpy.uint8)
            a = numpy.concatenate([noise[:3000], alike, noise[3000:]])
            short, long_ = rng.integers(4, 256, 15, numpy.uint8), rng.integers(4, 256, 867, numpy.uint8)
            b = numpy.concatenate([noise[:3000], short, alike, long_, noise[3000:]])
            for x, y in ((a, b), (b, a)):
                with self.subTest(seed=seed, first=x.size):
                    self.assertGreaterEqual(align(x, y).equal, a.size)

    def test_odd_cases(self) -> None:
        for left, right in (
            (b"", b""),
            (b"", b"abc"),
            (b"abc", b""),
            (b"a" * 500, b"a" * 700),
            (b"abc", b"abd"),
            (b"x", b"y"),
        ):
            a, b = numpy.frombuffer(left, numpy.uint8), numpy.frombuffer(right, numpy.uint8)
            alignment = align(a, b)
            self.rebuilt(a, b, alignment.differences(), alignment.moved)
            self.assertEqual(not alignment.differences(), left == right)

    @settings(max_examples=80)
    @given(st.binary(max_size=300), st.binary(max_size=300))
    def test_any_two_byte_strings_are_explained(self, left: bytes, right: bytes) -> None:
        a, b = numpy.frombuffer(left, numpy.uint8), numpy.frombuffer(right, numpy.uint8)
        alignment = align(a, b)
        self.rebuilt(a, b, alignment.differences(), alignment.moved)
        rebased = alignment.rebased()
        self.assertEqual(rebased.size, a.size)
        for at in range(a.size):
            place = alignment.place_of(at)
            self.assertEqual(int(rebased[at]), int(b[place]) if 0 <= place < b.size else int(a[at]))
