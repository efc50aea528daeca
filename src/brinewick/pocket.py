"""Brinewick, pocket edition: 8 KiB, of which two banks take turns.

    0   4  "BWP" 1B             16   4,088  the first bank
    4   1  version, 2        4,104   4,088  the second bank
    5   1  slot, from 0
    6  10  zeros

All numbers are high byte first. Of the banks the one counts that was written later; 65,535 is followed by 0.

    0      2  turn          6  4,081  the slate, each byte XORed with the key, which repeats and is new each time
    2      4  key       4,087      1  sum of all bytes of the bank before this one, 8 bits

On the slate everything has its place, and records have room that is not taken: zeros.

       0   52  the company; marks and debt are packed decimal
      52    4 charters of 20      1,316   12 lines of the log of 48
     132    8 divers of 28        1,892    1 width and 1 height of the chart, then the chart
     356   48 lots of 20          4,079    2 sum of all bytes of the slate before, 16 bits

Letters are the edition's own; a text is filled up with FF.
"""

from __future__ import annotations

import struct
from pathlib import Path

from brinewick.company import Charter, Company, Diver, LogLine, Lot, SaveRefused, validate
from brinewick.reader import ByteReader
from brinewick.single import SingleFile

MAGIC = b"BWP\x1b"
VERSION = 2
SIZE, FIRST, BANK, SLATE = 8192, 16, 4088, 4081
HEAD = struct.Struct(">16sHBBII3s2sbH12sBBBB")
CHARTER = struct.Struct(">18sH")
DIVER = struct.Struct(">16sBBBBhh3sx")
LOT = struct.Struct(">BHBBHBI8s")
LINE = struct.Struct(">H46s")
CHARTERS, CREW, HOLD, LOG = 4, 8, 48, 12
CHART_AT = HEAD.size + CHARTERS * CHARTER.size + CREW * DIVER.size + HOLD * LOT.size + LOG * LINE.size
FILL = 0xFF
GRAIN = 16  # parts of a metre
LETTERS = {
    **{0x01 + n: letter for n, letter in enumerate("ABCDEFGHIJKLMNOPQRSTUVWXYZ")},
    **{0x21 + n: letter for n, letter in enumerate("abcdefghijklmnopqrstuvwxyz")},
    **{0x40 + n: letter for n, letter in enumerate("0123456789")},
    **{0x50 + n: letter for n, letter in enumerate(" .,'&-!éøå")},
}
CODES = {letter: code for code, letter in LETTERS.items()}


def lettered(value: str, size: int) -> bytes:
    """A text in the edition's letters.

    Raises:
        SaveRefused: it is too long, or has letters this edition lacks.
    """
    if len(value) > size or any(letter not in CODES for letter in value):
        raise SaveRefused(f"“{value}” cannot be written on a slate of {size} letters")
    return bytes(CODES[letter] for letter in value).ljust(size, bytes([FILL]))


def unlettered(raw: bytes, what: str) -> str:
    text = raw.rstrip(bytes([FILL]))
    if any(code not in LETTERS for code in text):
        raise SaveRefused(f"the {what} has a letter that is none")
    return "".join(LETTERS[code] for code in text)


def decimal(value: int, size: int) -> bytes:
    """Packed decimal: a digit in each half of a byte."""
    if value >= 100**size:
        raise SaveRefused(f"{value} has more digits than fit")
    return bytes.fromhex(f"{value:0{2 * size}d}")


def number(packed: bytes) -> int:
    if not packed.hex().isdecimal():
        raise SaveRefused(f"{packed.hex()} is not a decimal number")
    return int(packed.hex())


def mixed(data: bytes, key: bytes) -> bytes:
    return bytes(byte ^ key[place % len(key)] for place, byte in enumerate(data))


def build(c: Company, before: bytes = b"") -> bytes:
    """The bytes of a save. The older bank of what was there before gives way; the other stays.

    Raises:
        SaveRefused: when the company breaks a rule of the game, or has no room here.
    """
    validate(c)
    slate = slate_bytes(c)
    slate += (sum(slate) & 0xFFFF).to_bytes(2, "big")
    banks = [before[at : at + BANK] for at in (FIRST, FIRST + BANK)] if before else [bank_bytes(0, slate, c)] * 2
    newer = newer_bank(banks)
    banks[1 - newer] = bank_bytes(turn_of(banks[newer]) + 1 & 0xFFFF, slate, c)
    return (MAGIC + bytes([VERSION, c.slot - 1])).ljust(FIRST, b"\0") + b"".join(banks)


def bank_bytes(turn: int, slate: bytes, c: Company) -> bytes:
    key = ((c.seed ^ c.clock << 7) * 2_246_822_519 + turn & 0xFFFFFFFF | 0x01010101).to_bytes(4, "big")
    bank = turn.to_bytes(2, "big") + key + mixed(slate, key)
    return bank + bytes([sum(bank) & 0xFF])


def turn_of(bank: bytes) -> int:
    return int.from_bytes(bank[:2], "big")


def newer_bank(banks: list[bytes]) -> int:
    """Which of the banks was written later."""
    ahead = turn_of(banks[1]) - turn_of(banks[0]) & 0xFFFF
    return 1 if 0 < ahead < 0x8000 else 0


def slate_bytes(c: Company) -> bytes:
    for what, found, room in (
        ("charters", c.charters, CHARTERS),
        ("divers", c.crew, CREW),
        ("lots", c.hold, HOLD),
    ):
        if len(found) > room:
            raise SaveRefused(f"a pocket slate has room for {room} {what}")
    log = c.log[-LOG:]
    head = HEAD.pack(
        lettered(c.name, 16), c.year, c.month, c.day, c.clock, c.seed, decimal(c.marks, 3), decimal(c.debt, 2),
        c.reputation, c.sites, bytes(c.route).ljust(12, bytes([FILL])),
        len(c.charters), len(c.crew), len(c.hold), len(log),
    )  # fmt: skip
    charters = b"".join(CHARTER.pack(lettered(each.name, 18), each.day) for each in c.charters)
    crew = b"".join(map(diver_bytes, c.crew))
    hold = b"".join(
        LOT.pack(t.item, t.count, t.wear, t.kept_for, t.stowed_day, t.charter, t.berth, lettered(t.tag, 8))
        for t in c.hold
    )
    lines = b"".join(LINE.pack(line.day, lettered(line.text[:46], 46)) for line in log)
    rooms = CHARTERS * CHARTER.size, CREW * DIVER.size, HOLD * LOT.size, LOG * LINE.size
    records = [part.ljust(room, b"\0") for part, room in zip((charters, crew, hold, lines), rooms, strict=True)]
    height = len(c.chart) // c.chart_width if c.chart_width else 0
    return (head + b"".join(records) + bytes([c.chart_width, height]) + c.chart).ljust(SLATE - 2, b"\0")


def diver_bytes(d: Diver) -> bytes:
    east, north = (round(value * GRAIN) for value in (d.x, d.y))
    depth = d.depth_cm.to_bytes(3, "big")
    return DIVER.pack(lettered(d.name, 16), d.air, d.vigour, d.injuries, d.station, east, north, depth)


def parse(data: bytes) -> Company:
    """Read one save.

    Raises:
        SaveRefused: for anything at all that is not exactly as the game writes it.
    """
    if len(data) != SIZE:
        raise SaveRefused(f"a pocket save has {SIZE} bytes, and this one {len(data)}")
    if data[:4] != MAGIC or data[4] != VERSION or any(data[6:FIRST]):
        raise SaveRefused("this is not a save of Brinewick, pocket edition")
    banks = [data[at : at + BANK] for at in (FIRST, FIRST + BANK)]
    for number_, bank in enumerate(banks):
        if sum(bank[:-1]) & 0xFF != bank[-1]:
            raise SaveRefused(f"bank {number_} is damaged: its sum does not match")
    bank = banks[newer_bank(banks)]
    slate = mixed(bank[6:-1], bank[2:6])
    if sum(slate[:-2]) & 0xFFFF != int.from_bytes(slate[-2:], "big"):
        raise SaveRefused("the slate is damaged: its sum does not match")
    company = read_slate(ByteReader(slate[:-2], "slate"))
    company.plays, company.slot = turn_of(bank), data[5] + 1
    if any(slate[CHART_AT + 2 + len(company.chart) : -2]):
        raise SaveRefused("something is scribbled behind the chart")
    validate(company)
    return company


def read_slate(r: ByteReader) -> Company:
    name, year, month, day, clock, seed, marks, debt, reputation, sites, route, *counts = HEAD.unpack(r.take(HEAD.size))
    c = Company(unlettered(name, "name"), 1, 0, year, month, day, clock, seed, number(marks), number(debt), reputation)
    c.sites, c.route = sites, list(route.rstrip(bytes([FILL])))
    charters, crew, hold, log = counts
    for raw in taken(r, charters, CHARTERS, CHARTER.size, "charters"):
        title, since = CHARTER.unpack(raw)
        c.charters.append(Charter(unlettered(title, "charter"), since))
    for raw in taken(r, crew, CREW, DIVER.size, "divers"):
        title, air, vigour, injuries, station, east, north, depth = DIVER.unpack(raw)
        where = east / GRAIN, north / GRAIN, int.from_bytes(depth, "big")
        c.crew.append(Diver(unlettered(title, "diver"), air, vigour, injuries, station, *where))
    for raw in taken(r, hold, HOLD, LOT.size, "lots"):
        item, count, wear, kept_for, stowed, charter, berth, tag = LOT.unpack(raw)
        c.hold.append(Lot(item, count, wear, kept_for, stowed, unlettered(tag, "tag"), berth, charter))
    for raw in taken(r, log, LOG, LINE.size, "lines"):
        since, text = LINE.unpack(raw)
        c.log.append(LogLine(since, unlettered(text, "log")))
    c.chart_width, height = r.take(1)[0], r.take(1)[0]
    c.chart = r.take(c.chart_width * height)
    return c


def taken(r: ByteReader, count: int, room: int, size: int, what: str) -> list[bytes]:
    """The records that are there; behind them nothing may be written."""
    if count > room:
        raise SaveRefused(f"a pocket slate has room for {room} {what}, and counts {count}")
    raw = [r.take(size) for _ in range(room)]
    if any(any(each) for each in raw[count:]):
        raise SaveRefused(f"something is scribbled behind the {what}")
    return raw[:count]


class Pocket(SingleFile):
    """The folder of the pocket edition: `pocket.bwp`, `pocket-2.bwp`, …; the slot is in the name and inside."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder / "pocket.bwp", parse)

    def save(self, company: Company) -> None:
        try:
            before = self.slot_path(company.slot).read_bytes()
            parse(before)
        except (OSError, SaveRefused):
            before = b""
        self.write(company.slot, build(company, before))
