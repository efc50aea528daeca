"""What players copy from the screen: how it is read, and that the stored number is found by it."""

import json
import random
import struct
import zlib
from collections.abc import Callable
from typing import NamedTuple

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.evidence import Located, locate_shown
from faithful_ledger.core.evidence.shown import readings
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.source import MemorySource
from tests.support import LedgerCase, dice

AT = 304
COPIES = 4


def clock(seconds: int) -> str:
    return f"{seconds // 3600}:{seconds // 60 % 60:02}:{seconds % 60:02}"


class Quantity(NamedTuple):
    """How a game stores a quantity, how it shows it, and the storage and scale that explain it."""

    name: str
    drawn: Callable[[random.Random], float]
    stored: Callable[[float], bytes]
    shown: Callable[[float], str]
    stored_as: str
    scale: float = 1


def packed(code: str) -> Callable[[float], bytes]:
    return lambda value: struct.pack(f"<{code}", value if code in "fd" else int(value))


def whole(low: int, high: int) -> Callable[[random.Random], float]:
    return lambda turn: turn.randrange(low, high)


def within(low: float, high: float) -> Callable[[random.Random], float]:
    return lambda turn: turn.uniform(low, high)


QUANTITIES = (
    Quantity("digits in groups", whole(10_000, 900_000), packed("I"), lambda v: f"{v:,}", "u32le"),
    Quantity("grouped with points", whole(10_000, 900_000), packed("I"), lambda v: f"{v:,}".replace(",", "."), "u32le"),
    Quantity("a unit behind", whole(300, 30_000), packed("H"), lambda v: f"{v} marks", "u16le"),
    Quantity("a unit in front", whole(300, 30_000), packed("H"), lambda v: f"Depth {v}", "u16le"),
    Quantity("percent of a byte", whole(10, 250), packed("B"), lambda v: f"{round(v * 100 / 255)}%", "u8", 2.55),
    Quantity("percent of one", within(0, 1), packed("f"), lambda v: f"{int(v * 100)} %", "f32le", 0.01),
    Quantity("of a maximum", within(10, 120), packed("f"), lambda v: f"{int(v)}/120", "f32le"),
    Quantity("frames", whole(300_000, 30_000_000), packed("I"), lambda v: clock(int(v) // 60), "u32le", 60),
    Quantity(
        "seconds in words",
        whole(4000, 90_000),
        packed("I"),
        lambda v: f"{v // 3600:.0f}h {v // 60 % 60:.0f}m",
        "u32le",
        60,
    ),
    Quantity("a fraction of seconds", within(3000, 90_000), packed("d"), lambda v: clock(int(v)), "f64le"),
    Quantity("in thousands", whole(100_000, 9_000_000), packed("I"), lambda v: f"{v / 1000:.1f}k", "u32le"),
    Quantity("in millions", within(1e6, 1e8), packed("d"), lambda v: f"{int(v / 1e4) / 100:.2f}M", "f64le"),
)


def found_for(saves: list[bytes], shown: list[str]) -> Located:
    return locate_shown([{"": MemorySource(save)} for save in saves], shown)


class ShownTest(LedgerCase):
    def test_every_notation_leads_to_the_stored_number(self) -> None:
        for quantity in QUANTITIES:
            seed = random.randrange(1 << 32)
            turn = random.Random(seed)
            values = [quantity.drawn(turn) for _ in range(COPIES)]
            head = turn.randbytes(AT)
            saves = [head + quantity.stored(value) + turn.randbytes(150) for value in values]
            shown = list(map(quantity.shown, values))
            packing = turn.choice((bytes, zlib.compress))
            with self.subTest(quantity=quantity.name, seed=seed, shown=shown):
                found = found_for(list(map(packing, saves)), shown)
                fitting = [(p.stored_as, round(p.scale, 6)) for p in found.full if set(p.offsets) == {AT}]
                self.assertIn((quantity.stored_as, quantity.scale), fitting)
                self.assertEqual(found.full[0].offsets[0], AT)
                self.assertIn(f"{shown[0]}” was read as", found.suggestion)

    def test_in_a_text_as_well(self) -> None:
        turn = random.Random(5)
        seconds = [turn.uniform(4000, 90_000) for _ in range(COPIES)]
        for name, stored in (
            ("seconds", lambda v: v),
            ("milliseconds", lambda v: int(v * 1000)),
            ("text", lambda v: clock(int(v))),
        ):
            with self.subTest(stored=name):
                saves = [
                    json.dumps({"slot": 3, "played": stored(v), "marks": turn.randrange(9999)}).encode()
                    for v in seconds
                ]
                found = found_for(saves, [clock(int(value)) for value in seconds])
                self.assertEqual([place.path for place in found.full], ["played"])

    def test_a_text_with_thousands_apart_is_found_and_stays_so(self) -> None:
        turn = dice()
        for mark, text in (
            (",", "Day: 3\nMarks: {}\n"),
            (" ", '{{"Day": 3, "Marks": "{}"}}'),
            ("'", "Day=3\nMarks={}\n"),
        ):
            values = [turn.randrange(900, 900_000) for _ in range(2)] + [turn.randrange(1000, 9000)]
            saves = [text.format(f"{value:,}".replace(",", mark)).encode() for value in values]
            with self.subTest(text, values=values):
                found = found_for(saves, list(map(str, values)))
                self.assertEqual([place.path for place in found.full], ["Marks"])
                path = self.folder / "a.sav"
                path.write_bytes(saves[2])
                save = open_save(path, None)
                save.enter("Marks", "1234567")
                patched = make_plan(save).files[0].patched
                self.assertEqual(bytes(patched.read(0, patched.size)), text.format(f"1{mark}234{mark}567").encode())

    def test_a_text_with_an_exponent_is_found_and_stays_so(self) -> None:
        turn = dice()
        for form, after in (
            (lambda v: f"{v:.15e}", "1.234567000000000e+06"),
            (lambda v: f"{v / 1e4:.9f}E4".replace("E4", "E04"), "1.234567000E06"),
        ):
            values = [turn.randrange(10_000, 99_999) for _ in range(3)]
            saves = [json.dumps({"day": 3, "marks": form(value)}).encode() for value in values]
            with self.subTest(after, values=values):
                self.assertEqual([place.path for place in found_for(saves, list(map(str, values))).full], ["marks"])
                path = self.folder / "a.sav"
                path.write_bytes(saves[2])
                save = open_save(path, None)
                save.enter("marks", "1234567")
                patched = make_plan(save).files[0].patched
                self.assertEqual(json.loads(bytes(patched.read(0, patched.size)))["marks"], after)

    def test_a_text_that_looks_like_a_number_with_a_unit_is_still_found(self) -> None:
        turn = random.Random(6)
        names = ["Slot 12", "Slot 7", "Slot 31", "Slot 9"]
        saves = [turn.randbytes(40) + name.encode().ljust(16, b"\0") + turn.randbytes(90) for name in names]
        found = found_for(saves, names)
        self.assertEqual((found.full[0].stored_as, found.full[0].offsets[0]), ("utf-8", 40))


class ReadingTest(LedgerCase):
    def test_all_that_was_typed_is_read_together(self) -> None:
        for typed, likeliest in (
            ("1,340|987|12,345,678", "1340 987 12345678"),
            ("12,5|13,0", "12.5 13"),
            ("1.340|1.500", "1.34 1.5"),
            ("1.340.000|987", "1340000 987"),
            ("12,34,567|1,340", "1234567 1340"),
            ("$1,340.50|$20", "1340.5 20"),
            ("1.2k|950|3M", "1200 950 3000000"),
            ("1,340 / 2,000|900 / 2,000", "1340 900"),
            ("1:02:30|59:10", "3750 3550"),
            ("−1,200|5", "-1200 5"),
            ("more|1,340|any", "more 1340 any"),
            ("Lv. 12|Lv. 13", "Lv. 12 Lv. 13"),
            ('"12:34"|"12:35"', "12:34 12:35"),
            ("yes|no", "yes no"),
            ("Oriel 2|Ives", "Oriel 2 Ives"),
            ("1340|1e3", "1340 1000"),
        ):
            with self.subTest(typed=typed):
                self.assertEqual(" ".join(map(str, readings(typed.split("|"))[0])), likeliest)

    def test_what_may_be_meant_otherwise_is_read_so_next(self) -> None:
        for typed, others in (
            ("1.340|1.500", ["1340 1500"]),
            ("1,340|1,500", ["1.34 1.5", "1,340 1,500"]),
            ("Lv. 12|Lv. 13", ["12 13"]),
            ("12 m|13 m", ["12 13", "12000000 13000000"]),
            ("1h|2h 5m", ["60 125"]),
            ("12 m|13 kg", []),
            ("Oriel 2|Ives", []),
        ):
            with self.subTest(typed=typed):
                self.assertEqual([" ".join(map(str, each)) for each in readings(typed.split("|"))[1:]], others)

    def test_an_empty_one_is_refused(self) -> None:
        with self.assertRaisesRegex(ValueRefused, "a sighting is empty"):
            readings(["1,340", " "])
