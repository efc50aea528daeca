"""Storages: one contract for all, over a table of samples."""

from __future__ import annotations

import math
import random
from fractions import Fraction
from itertools import accumulate
from typing import NamedTuple

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.storage import (
    NUMBERS,
    SWITCHES,
    BitRange,
    Choice,
    Colour,
    Coordinates,
    CutOff,
    Digits,
    DosMoment,
    EndedText,
    FixedBytes,
    FixedText,
    Float,
    Formed,
    Guid,
    Integer,
    JsonNumber,
    JsonSwitch,
    JsonText,
    Leb128,
    Letters,
    Moment,
    PackedDecimal,
    PrefixedText,
    Scaled,
    SizedNumber,
    Storage,
    Switches,
    Value,
    number_storage,
    parse_whole,
    spellings,
    text_encoding,
)
from faithful_ledger.core.storage.readings import readings
from tests.support import LedgerCase, hexed

U8, U16, U16BE = Integer(1, False, "little"), Integer(2, False, "little"), Integer(2, False, "big")
STATIONS = Choice(U8, {0: "ashore", 1: "winch", 2: "bell"})
INJURIES = Switches(U16, {0: "burn", 1: "tired", 2: "bends"})
ITEMS_BE = Choice(U16BE, {1: "lamp oil", 513: "brass lamp"})


class Sample(NamedTuple):
    """Bytes, what they say, and how that is shown."""

    storage: Storage
    raw: bytes
    value: Value
    text: str


SAMPLES = [
    Sample(U8, hexed("FF"), 255, "255"),
    Sample(Integer(1, True, "little"), hexed("80"), -128, "-128"),
    Sample(U16, hexed("3C 05"), 1340, "1340"),
    Sample(Integer(2, False, "big"), hexed("05 3C"), 1340, "1340"),
    Sample(Integer(3, False, "little"), hexed("04 00 01"), 65540, "65540"),
    Sample(Integer(3, True, "big"), hexed("FF FF FE"), -2, "-2"),
    Sample(Integer(4, True, "little"), hexed("FE FF FF FF"), -2, "-2"),
    Sample(Integer(8, False, "big"), hexed("00 00 00 00 00 00 01 00"), 256, "256"),
    Sample(Float(4, "little"), hexed("CD CC CC 3D"), 0.1, "0.1"),
    Sample(Float(4, "big"), hexed("C1 08 00 00"), -8.5, "-8.5"),
    Sample(Float(8, "little"), hexed("00 00 00 00 00 00 29 40"), 12.5, "12.5"),
    Sample(FixedText(8, "latin-1", b"\0"), hexed("42 2D 30 31 00 00 00 00"), "B-01", "B-01"),
    Sample(FixedText(4, "latin-1", b" "), hexed("41 42 20 20"), "AB", "AB"),
    Sample(FixedText(6, "utf-16-le", b"\0\0"), hexed("D8 00 62 00 00 00"), "Øb", "Øb"),
    Sample(PrefixedText(U8, "utf-8"), hexed("04 53 C3 B8 6E"), "Søn", "Søn"),
    Sample(PrefixedText(Leb128("uleb128"), "utf-8"), hexed("03 42 65 6C"), "Bel", "Bel"),
    Sample(PrefixedText(Leb128("uleb128"), "latin-1"), b"\xac\x02" + b"bell" * 75, "bell" * 75, "bell" * 75),
    Sample(Choice(Leb128("uleb128"), {5: "quay", 300: "kiln"}), hexed("AC 02"), "kiln", "kiln"),
    Sample(Switches(Leb128("uleb128"), {0: "burn", 9: "chill"}), hexed("81 04"), ("burn", "chill"), "burn, chill"),
    Sample(Choice(PackedDecimal(2, False), {12: "noon"}), hexed("00 12"), "noon", "noon"),
    Sample(PrefixedText(U16, "utf-16-le", 2), hexed("02 00 53 00 F8 00"), "Sø", "Sø"),
    Sample(PrefixedText(U8, "utf-8", room=6), hexed("03 42 65 6C 6C 73 78"), "Bel", "Bel"),
    Sample(
        FixedText(4, Letters("own", {1: "A", 2: "Bé", 3: "n"}), b"\xff"), hexed("02 01 09 FF"), "BéA{09}", "BéA{09}"
    ),
    Sample(EndedText("utf-8", b"\0"), hexed("42 65 6C 00"), "Bel", "Bel"),
    Sample(EndedText("utf-16-le", b"\0\0"), hexed("42 00 00 01 00 00"), "BĀ", "BĀ"),
    Sample(
        Moment(Integer(4, False, "little"), "1970-01-01", "seconds"),
        hexed("E9 48 27 69"),
        "2025-11-26 18:37:29",
        "2025-11-26 18:37:29",
    ),
    Sample(
        Moment(Integer(8, True, "big"), "1601-01-01", "ticks"),
        hexed("01 DC 5F 02 6F A4 E6 81"),
        "2025-11-26 18:28:18.1923457",
        "2025-11-26 18:28:18.1923457",
    ),
    Sample(
        Moment(Float(8, "little"), "1899-12-30", "days"),
        hexed("00 00 00 00 40 78 E6 40"),
        "2025-12-27 00:00:00",
        "2025-12-27 00:00:00",
    ),
    Sample(
        Moment(Integer(2, False, "little"), "2000-01-01", "days"),
        hexed("01 00"),
        "2000-01-02 00:00:00",
        "2000-01-02 00:00:00",
    ),
    Sample(DosMoment("little"), hexed("6A 9E 7A 5B"), "2025-11-26 19:51:20", "2025-11-26 19:51:20"),
    Sample(
        Guid(little=False),
        bytes(range(16)),
        "00010203-0405-0607-0809-0a0b0c0d0e0f",
        "00010203-0405-0607-0809-0a0b0c0d0e0f",
    ),
    Sample(
        Guid(little=True),
        bytes(range(16)),
        "03020100-0504-0706-0809-0a0b0c0d0e0f",
        "03020100-0504-0706-0809-0a0b0c0d0e0f",
    ),
    Sample(Colour("bgra"), hexed("80 C0 20 FF"), "#20C080FF", "#20C080FF"),
    Sample(Colour("rgb"), hexed("20 C0 80"), "#20C080", "#20C080"),
    Sample(FixedBytes(3), hexed("0A FF 00"), "0A FF 00", "0A FF 00"),
    Sample(
        Coordinates("xyz", Float(4, "little")), hexed("00 00 48 41 00 00 40 C0 CD CC CC 3D"), *2 * ("12.5, -3.0, 0.1",)
    ),
    Sample(Coordinates("xy", Integer(2, True, "big")), hexed("FF FE 00 07"), "-2, 7", "-2, 7"),
    Sample(Formed(U16, "hex"), hexed("2A 00"), 42, "0x002A"),
    Sample(Formed(Integer(1, True, "little"), "hex"), hexed("FE"), -2, "-0x02"),
    Sample(Formed(U8, "binary"), hexed("16"), 22, "0b00010110"),
    Sample(Formed(Integer(4, True, "little"), "duration"), hexed("8D 0E 00 00"), 3725, "1:02:05"),
    Sample(Formed(Float(4, "little"), "duration"), hexed("00 00 83 C2"), -65.5, "-0:01:05.5"),
    Sample(Formed(Scaled(U16, Fraction(60), Fraction(0), None), "duration"), hexed("76 0E"), 61.7, "0:01:01.7"),
    Sample(BitRange(U16, 3, 5), hexed("6F 12"), 13, "13"),
    Sample(BitRange(U16BE, 9, 4, signed=True), hexed("1E 00"), -1, "-1"),
    Sample(Choice(BitRange(U8, 4, 2), {1: "winch", 3: "bell"}), hexed("3A"), "bell", "bell"),
    Sample(Switches(BitRange(U8, 5, 3), {0: "burn", 2: "bends"}), hexed("A1"), ("burn", "bends"), "burn, bends"),
    Sample(Integer(5, True, "big"), hexed("FF FF FF FF FE"), -2, "-2"),
    Sample(Scaled(U16, Fraction(10), Fraction(5), None), hexed("4F 00"), 7.4, "7.4"),
    Sample(Scaled(U16, Fraction(10), Fraction(0), "floor"), hexed("50 00"), 8, "8"),
    Sample(STATIONS, hexed("02"), "bell", "bell"),
    Sample(STATIONS, hexed("09"), 9, "9"),
    Sample(ITEMS_BE, hexed("02 01"), "brass lamp", "brass lamp"),
    Sample(INJURIES, hexed("05 00"), ("burn", "bends"), "burn, bends"),
    Sample(INJURIES, hexed("02 80"), ("tired", "bit 15"), "tired, bit 15"),
    Sample(PackedDecimal(3, little=False), hexed("00 13 40"), 1340, "1340"),
    Sample(PackedDecimal(2, little=True), hexed("40 13"), 1340, "1340"),
    Sample(Leb128("uleb128"), hexed("BC 0A"), 1340, "1340"),
    Sample(Leb128("sleb128"), hexed("C4 75"), -1340, "-1340"),
    Sample(Leb128("zigzag"), hexed("F7 14"), -1340, "-1340"),
    Sample(Leb128("vlq"), hexed("8A 3C"), 1340, "1340"),
    Sample(SizedNumber("sized-high"), hexed("45 3C"), 1340, "1340"),
    Sample(SizedNumber("sized-high"), hexed("9D 7F 3E 7D"), 494_878_333, "494878333"),  # RFC 9000, A.1
    Sample(SizedNumber("sized-high"), hexed("C2 19 7C 5E FF 14 E8 8C"), 151_288_809_941_952_652, "151288809941952652"),
    Sample(SizedNumber("sized-low"), hexed("F1 14"), 1340, "1340"),
    Sample(SizedNumber("sized-low"), hexed("FE FF 03 00"), 65_535, "65535"),
    Sample(SizedNumber("sized-front"), hexed("FD 3C 05"), 1340, "1340"),
    Sample(SizedNumber("sized-front"), hexed("FE 70 11 01 00"), 70_000, "70000"),
    Sample(JsonNumber(), b"1340.00", 1340, "1340"),
    Sample(JsonNumber(), b"-0.5", -0.5, "-0.5"),
    Sample(JsonText(), b'"S\\u00f8n"', "Søn", "Søn"),
    Sample(JsonSwitch(), b"true", True, "on"),
]

REFUSED = [
    (U8, 256, "256 does not fit u8 (0 to 255); enter a value in that range"),
    (U16, -1, "-1 does not fit u16le (0 to 65535); enter a value in that range"),
    (Float(4, "little"), 1e300, "1e+300 does not fit f32le; enter a smaller number"),
    (FixedText(4, "latin-1", b"\0"), "Tamsin", "“Tamsin” takes 6 bytes and 4 are there; enter a shorter text"),
    (FixedText(4, "latin-1", b"\0"), "a\0b", "“a\0b” would not read back the same; leave out padding characters"),
    (FixedText(4, "ascii", b"\0"), "Søn", "“Søn” cannot be written in ascii; use other letters"),
    (PrefixedText(U8, "utf-8"), "x" * 256, None),
    (PackedDecimal(2, little=False), 10_000, "10000 does not fit bcd2 (0 to 9999); enter a value in that range"),
    (Leb128("uleb128"), -1, "-1 does not fit uleb128 (0 to 18446744073709551615); enter a value in that range"),
    (Leb128("zigzag"), 1.5, "1.5 is not a whole number; enter one"),
    (STATIONS, "bel", "“bel” is not a name in this list; did you mean “bell”?"),
    (INJURIES, ("bruise",), "“bruise” is not a switch here; the switches are burn, tired, bends"),
    (JsonNumber(), math.nan, None),
    (JsonText(), "\ud800", None),
    (PrefixedText(U8, "utf-8", room=4), "Tamsin", "“Tamsin” takes 6 bytes and the buffer has 4; enter a shorter text"),
    (EndedText("utf-8", b"\0"), "a\0b", "“a\0b” holds the terminator itself; leave it out"),
    (BitRange(U8, 2, 3), 8, "8 does not fit bits2-4 of u8 (0 to 7); enter a value in that range"),
]

TYPED = [
    (U16, "0x53C", None, 1340),
    (U16, " 1340 ", None, 1340),
    (Integer(2, True, "little"), "−5", None, -5),
    (STATIONS, "BELL", None, "bell"),
    (STATIONS, "7", None, 7),
    (INJURIES, "burn, bends", (), ("burn", "bends")),
    (INJURIES, "+bends -burn", ("burn", "tired"), ("tired", "bends")),
    (INJURIES, "none", ("burn",), ()),
    (INJURIES, "-bit 15", ("tired", "bit 15"), ("tired",)),
    (JsonSwitch(), "yes", None, True),
    (Float(4, "little"), "12.5", None, 12.5),
]


class StorageContract(LedgerCase):
    def test_each_sample_reads_and_writes_back_to_the_same_bytes(self) -> None:
        for storage, raw, value, text in SAMPLES:
            with self.subTest(storage=storage.name, raw=raw.hex()):
                self.assertEqual(storage.decode(raw), value)
                self.assertEqual(storage.encode(storage.decode(raw), raw), raw)
                self.assertEqual(storage.to_text(value), text)
                self.assertEqual(storage.encode(storage.from_text(text, value), raw), raw)

    def test_the_extent_is_right_with_bytes_behind_and_a_cut_at_each_length_is_noticed(self) -> None:
        for storage, raw, _, _ in SAMPLES:
            if storage.name.startswith("json"):
                continue  # the document says where a JSON value ends
            with self.subTest(storage=storage.name, raw=raw.hex()):
                self.assertEqual(storage.extent(MemorySource(b"\7" + raw + b"\7\7"), 1, len(raw) + 3), len(raw))
                for cut in range(len(raw)):
                    with self.assertRaises(CutOff):
                        storage.extent(MemorySource(raw[:cut]), 0, cut)

    def test_what_does_not_fit_is_refused_in_one_sentence(self) -> None:
        for storage, value, sentence in REFUSED:
            with self.subTest(storage=storage.name, value=value):
                with self.assertRaises(ValueRefused) as caught:
                    storage.encode(value, b"0")
                if sentence is not None:
                    self.assertEqual(str(caught.exception), sentence)

    def test_what_a_person_types(self) -> None:
        for storage, text, old, value in TYPED:
            with self.subTest(storage=storage.name, text=text):
                self.assertEqual(storage.from_text(text, old), value)
        for storage, text in (
            (U16, "12x"),
            (U16, "70000"),
            (U16, "1e3"),
            (INJURIES, "+burn tired"),
            (JsonSwitch(), "so"),
        ):
            with self.subTest(storage=storage.name, text=text), self.assertRaises(ValueRefused):
                storage.from_text(text, ())

    def test_a_value_keeps_what_is_beside_it(self) -> None:
        buffered = PrefixedText(U8, "latin-1", room=8)
        self.assertEqual(buffered.encode("Ro", b"\x06TamsinXY"), b"\x02RomsinXY", "old letters stay behind the end")
        self.assertEqual(buffered.encode("Margaret", b"\x06TamsinXY"), b"\x08Margaret")
        self.assertEqual(BitRange(U16, 3, 5).encode(2, hexed("6F 12")), hexed("17 12"))
        with self.assertRaises(ValueRefused):
            buffered.decode(b"\x09TamsinXY")

    @settings(max_examples=300)
    @given(st.binary(max_size=60), st.data())
    def test_a_column_says_what_reading_one_by_one_says(self, data: bytes, draw: st.DataObject) -> None:
        storages = [*NUMBERS.values(), *SWITCHES.values(), Integer(5, True, "big"), STATIONS, INJURIES]
        storages += [BitRange(U16BE, 5, 7, signed=True), Scaled(U16, Fraction(3, 7), Fraction(1, 2), None)]
        storages += [Scaled(PackedDecimal(2, True), Fraction(10), Fraction(-3), "nearest")]
        storage = draw.draw(st.sampled_from(storages))
        at = np.arange(len(data) + 3)
        found = storage.column(np.frombuffer(data, np.uint8), at)
        self.assertIsNotNone(found)
        values, begins = found or ((), ())
        for offset, value, begin in zip(at.tolist(), values, begins, strict=True):
            try:
                raw = data[offset : offset + storage.extent(MemorySource(data), offset, len(data))]
                one = storage.whole(raw) if isinstance(storage, Choice | Switches) else storage.decode(raw)
                written = storage.encode(storage.decode(raw), raw) == raw
            except (CutOff, ValueRefused):
                self.assertFalse(begin, f"{storage.name} at {offset} of {data.hex()}")
                continue
            if begin:
                self.assertTrue(one == value or one != one or np.float32(one) == value, f"{one} {value} {storage.name}")
            elif storage.family not in ("digits", "leb128"):
                self.assertFalse(written, f"{storage.name} at {offset} of {data.hex()}")

    @settings(max_examples=200)
    @given(st.sampled_from(sorted(NUMBERS)), st.integers(-(1 << 40), 1 << 40), st.sampled_from((1, 4, 10)))
    def test_what_is_searched_for_is_what_a_program_writes(self, name: str, value: int, below: int) -> None:
        storage, number = NUMBERS[name], Fraction(value, below)
        raw = storage.spell(number)
        whole = number.denominator == 1
        if raw is None:
            self.assertTrue(not whole or not storage.least <= value <= storage.most, name)  # type: ignore[union-attr]
            return
        found = storage.column(np.frombuffer(raw, np.uint8), np.zeros(1, np.int64))
        assert found is not None
        if whole:
            self.assertTrue(found[1][0], name)
        if whole and storage.family != "fraction":
            self.assertEqual((int(found[0][0]), storage.decode(raw)), (number, number))
        self.assertEqual(dict(spellings(number, storage.family == "signed"))[name], raw)

    def test_a_number_in_json_keeps_its_spelling(self) -> None:
        storage = JsonNumber()
        for old, value, new in (
            (b"1340.00", 5200, b"5200.00"),
            (b"1340.00", 0.125, b"0.125"),
            (b"7", 12, b"12"),
            (b"7", 1.5, b"1.5"),
            (b"1e3", 2500, b"2.5e3"),
            (b"1e5", 200000, b"2e5"),
            (b"1E+05", 123456, b"1.23456E+05"),
            (b"1.50e-3", 2, b"2.00e0"),
            (b"1.0e2", -350, b"-3.5e2"),
            (b"0.5", -2, b"-2.0"),
            (b"1.0", 10**17, b"100000000000000000.0"),
        ):
            with self.subTest(old=old, value=value):
                self.assertEqual(storage.encode(value, old), new)

    def test_a_string_in_json_is_escaped_unless_the_old_one_was_plain(self) -> None:
        self.assertEqual(JsonText().encode("Ø", b'"o"'), b'"\\u00d8"')
        self.assertEqual(JsonText().encode("Ø", '"ø"'.encode()), '"Ø"'.encode())

    def test_encodings_that_unpack_or_are_slow_are_none(self) -> None:
        for name in ("utf-8", "cp437", "latin-1", "shift_jis", "utf-16-be"):
            self.assertIsNotNone(text_encoding(name), name)
        for name in ("zlib", "bz2", "hex", "rot13", "idna", "punycode", "undefined", "no such", "x" * 500):
            self.assertIsNone(text_encoding(name), name)

    def test_names_of_numbers(self) -> None:
        for name, order, expected in (
            ("u8", "big", "u8"),
            ("i24", "big", "i24be"),
            ("u32le", "big", "u32le"),
            ("f64", "little", "f64le"),
        ):
            storage = number_storage(name, order)  # type: ignore[arg-type]
            self.assertIsNotNone(storage)
            self.assertEqual(storage and storage.name, expected)
        for name in ("f24", "u12", "int", "u8x", "f16"):
            self.assertIsNone(number_storage(name, "little"), name)

    @settings(max_examples=150)
    @given(st.integers(1, 8), st.booleans(), st.booleans(), st.data())
    def test_whole_numbers_of_any_width(self, size: int, signed: bool, little: bool, data: st.DataObject) -> None:
        storage = Integer(size, signed, "little" if little else "big")
        value = data.draw(st.integers(storage.least, storage.most))
        self.assertEqual(storage.decode(storage.encode(value)), value)
        self.assertEqual(parse_whole(storage.to_text(value)), value)
        for outside in (storage.least - 1, storage.most + 1):
            with self.assertRaises(ValueRefused):
                storage.encode(outside)

    @settings(max_examples=200)
    @given(
        st.sampled_from(
            [f"{kind}{n}{e}" for kind in ("bcd", "unpacked") for n in range(1, 9) for e in ("", "le")]
            + ["uleb128", "sleb128", "zigzag", "vlq", "digits", "digits-utf16le", "digits8"]
            + ["sized-high", "sized-low", "sized-front"]
        ),
        st.integers(-(1 << 62), 1 << 62),
    )
    def test_packed_variable_and_spelled_numbers(self, name: str, value: int) -> None:
        storage = number_storage(name)
        assert storage is not None
        if name.startswith("bcd"):
            value = abs(value) % 10 ** (2 * int(name[3]))
        elif name.startswith("unpacked"):
            value = abs(value) % 10 ** int(name[8])
        elif name in ("uleb128", "vlq"):
            value = abs(value)
        elif name == "digits8":
            value = value % 10**8
        elif name.startswith("sized"):
            value = abs(value) % (storage.most + 1)  # type: ignore[union-attr]
        raw = storage.encode(value)
        self.assertEqual((storage.decode(raw), storage.name), (value, name))
        self.assertEqual(storage.extent(MemorySource(b"\x07" + raw + b"\x07\x07"), 1, len(raw) + 3), len(raw))
        self.assertEqual(storage.from_text(storage.to_text(value)), value)
        spelled = {spelling.stored_as: spelling.data for spelling in spellings(Fraction(value))}
        self.assertEqual(spelled.get(name, raw), raw, "search looks for what the storage writes")

    def test_numbers_that_say_their_size_keep_more_bytes_than_they_need(self) -> None:
        for name, wide, value in (
            ("sized-high", hexed("80 00 00 07"), 9),
            ("sized-low", hexed("1E 00 00 00"), 9),
            ("sized-front", hexed("FD 07 00"), 9),
        ):
            storage = NUMBERS[name]
            self.assertEqual(storage.decode(wide), 7)
            again = storage.encode(value, wide)
            self.assertEqual((len(again), storage.decode(again)), (len(wide), value))
            largest = storage.encode(storage.most, wide)  # type: ignore[union-attr]
            self.assertEqual(storage.decode(largest), storage.most)  # type: ignore[union-attr]

    def test_a_column_of_numbers_that_say_their_size_is_what_each_of_them_says(self) -> None:
        turn = random.Random(random.randrange(1 << 32))
        for name in ("sized-high", "sized-low", "sized-front"):
            storage = NUMBERS[name]
            assert isinstance(storage, SizedNumber)
            bits = [turn.randrange(1, storage.most.bit_length() + 1) for _ in range(400)]
            raws = [storage.encode(turn.getrandbits(each)) for each in bits]
            ends = list(accumulate(map(len, raws), initial=0))
            values, whole = storage.column(np.frombuffer(b"".join(raws), np.uint8), np.array(ends[:-1]))
            self.assertTrue(whole.all())
            self.assertEqual(values.tolist(), list(map(storage.decode, raws)))
            noise = turn.randbytes(3000)
            values, whole = storage.column(np.frombuffer(noise, np.uint8), np.arange(3000))
            for at in np.flatnonzero(whole).tolist():
                raw = noise[at : at + storage.size_in(noise[at:])]
                self.assertEqual((storage.decode(raw), storage.encode(int(values[at]))), (int(values[at]), raw))

    def test_what_is_no_number_of_its_kind(self) -> None:
        tiles = number_storage("unpacked3le")
        assert tiles is not None
        self.assertEqual(tiles.encode(70, hexed("81 82 83")), hexed("80 87 80"), "the high halves stay")
        digits = [("unpacked2", raw) for raw in ("01 12", "0A 01", "31 32")]
        for name, raw in (
            *digits,
            ("bcd2", "1A 00"),
            ("uleb128", "80 80"),
            ("digits", "41"),
            ("digits-utf16le", "31 31"),
        ):
            storage = number_storage(name)
            assert storage is not None
            with self.subTest(name=name), self.assertRaises(ValueRefused):
                storage.decode(hexed(raw))
        self.assertEqual(Digits(wide=False).encode(77, b"0001340"), b"0000077")
        buffer = number_storage("digits6")
        assert buffer is not None
        for old, new in (
            (b"1340\0\0", b"77\0\0\0\0"),
            (b"  1340", b"    77"),
            (b"134000", b"000077"),
            (b"1340  ", b"77    "),
        ):
            self.assertEqual((buffer.encode(77, old), buffer.decode(old)), (new, int(old.strip(b"\0 "))))
        for text in ("1234567", "-123456"):
            with self.assertRaisesRegex(ValueRefused, "does not fit digits6"):
                buffer.encode(int(text), b"1340  ")
        for name in ("bcd0", "bcd9", "unpacked0", "bcd2be", "leb128", "digit"):
            self.assertIsNone(number_storage(name), name)
        with self.assertRaises(CutOff):
            Digits(wide=True).extent(MemorySource(b"x"), 0, 1)

    @settings(max_examples=150)
    @given(st.floats(width=32, allow_nan=False))
    def test_floats_are_shown_with_digits_that_read_back(self, value: float) -> None:
        storage = Float(4, "big")
        raw = storage.encode(value)
        self.assertEqual(storage.encode(storage.from_text(storage.to_text(storage.decode(raw)))), raw)

    @settings(max_examples=150)
    @given(st.text(max_size=40))
    def test_texts_with_a_length_in_front(self, text: str) -> None:
        storage = PrefixedText(U8, "utf-8")
        try:
            raw = storage.encode(text)
        except ValueRefused:
            self.assertTrue(any("\ud800" <= letter <= "\udfff" for letter in text))
            return
        self.assertEqual(storage.extent(MemorySource(raw), 0, len(raw)), len(raw))
        self.assertEqual(storage.decode(raw), text)

    def test_readings_tell_what_a_practitioner_looks_for(self) -> None:
        told = [(reading.name, reading.text) for reading in readings(MemorySource(hexed("3C 05 00 00 54 61 6D")), 0, 2)]
        shown = dict(told)
        at = told.index(("2 bytes", "1340"))
        self.assertEqual(told[at + 1], ("2 bytes, high first", "15365"))
        self.assertEqual(shown["4 bytes"], "1340")
        self.assertNotIn("8 bytes", shown)
        signed = [reading.text for reading in readings(MemorySource(hexed("FE FF")), 0, 1)]
        self.assertIn("−2", signed)
        self.assertEqual(readings(MemorySource(b""), 0, 0), [])
