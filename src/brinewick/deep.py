"""Brinewick, deep edition: one save, packed block by block.

    0   4  "BWD" 1B             9   4  Adler-32 of all that follows the table
    4   1  version, 1          13      the table: for each block its place in the file, 4 bytes, low byte first
    5   4  how often saved      …      the blocks: LEB128 length, then a zstd frame

The first frame holds the company, its crew and the log, the second the hold and the chart. All numbers in them are
LEB128, those that may be negative zigzag; texts and records carry their length in front. Divers are written in another
order each time.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import TypeVar

import zstandard

from brinewick.company import Charter, Company, Diver, LogLine, Lot, SaveRefused, validate
from brinewick.reader import ByteReader
from brinewick.single import SingleFile

MAGIC = b"BWD\x1b"
VERSION = 1
HEAD = struct.Struct("<4sBII")
BLOCKS = 2
MOST_UNPACKED = 1 << 24
T = TypeVar("T")


class Reader(ByteReader):
    """Numbers in LEB128, texts and records with their length in front."""

    def number(self) -> int:
        value = shift = 0
        while True:
            byte = self.take(1)[0]
            value |= (byte & 127) << shift
            if byte < 128:
                return value
            shift += 7
            if shift > 63:
                raise SaveRefused(f"a number in the {self.what} has no end")

    def signed(self) -> int:
        value = self.number()
        return -(value + 1) // 2 if value & 1 else value // 2

    def text(self) -> str:
        return self.letters(self.number())

    def record(self) -> Reader:
        return Reader(self.take(self.number()), self.what)

    def counted(self, one: Callable[[], T]) -> list[T]:
        return [one() for _ in range(self.number())]


def number(value: int) -> bytes:
    out = bytearray()
    while value > 127:
        out.append(value & 127 | 128)
        value >>= 7
    out.append(value)
    return bytes(out)


def signed(value: int) -> bytes:
    return number(value * 2 if value >= 0 else -value * 2 - 1)


def text(value: str) -> bytes:
    raw = value.encode("utf-8")
    return number(len(raw)) + raw


def record(*parts: bytes) -> bytes:
    content = b"".join(parts)
    return number(len(content)) + content


def counted(records: Iterable[bytes]) -> bytes:
    found = list(records)
    return number(len(found)) + b"".join(found)


def build(c: Company) -> bytes:
    """The bytes of a save.

    Raises:
        SaveRefused: when the company breaks a rule of the game.
    """
    validate(c)
    turn = (c.seed >> 16) % len(c.crew)  # the low bits of such a seed repeat soon
    order = [*range(turn, len(c.crew)), *range(turn)]
    company = (
        text(c.name)
        + b"".join(map(number, (c.year, c.month, c.day, c.clock, c.seed, c.marks, c.debt)))
        + signed(c.reputation)
        + number(c.sites)
        + counted(map(number, c.route))
        + counted(record(text(charter.name), number(charter.day)) for charter in c.charters)
    )
    crew = counted(diver_bytes(place, c.crew[place]) for place in order)
    hold = counted(lot_bytes(lot) for lot in c.hold)
    log = counted(record(number(line.day), text(line.text)) for line in c.log)
    packer = zstandard.ZstdCompressor(level=3, write_checksum=False)
    body, places = bytearray(), []
    first = HEAD.size + 4 * BLOCKS
    for content in (company + crew + log, hold + number(c.chart_width) + number(len(c.chart)) + c.chart):
        places.append(first + len(body))
        packed = packer.compress(content)
        body += number(len(packed)) + packed
    table = b"".join(place.to_bytes(4, "little") for place in places)
    return HEAD.pack(MAGIC, VERSION, c.plays, zlib.adler32(body)) + table + body


def diver_bytes(place: int, diver: Diver) -> bytes:
    whole = (diver.air, diver.vigour, diver.injuries, diver.station)
    numbers = b"".join(map(number, whole)) + struct.pack("<ff", diver.x, diver.y) + number(diver.depth_cm)
    return record(number(place), text(diver.name), numbers)


def lot_bytes(lot: Lot) -> bytes:
    numbers = (lot.item, lot.count, lot.wear, lot.kept_for, lot.stowed_day)
    return record(*map(number, numbers), text(lot.tag), number(lot.berth), number(lot.charter))


def parse(data: bytes) -> Company:
    """Read one save.

    Raises:
        SaveRefused: for anything at all that is not exactly as the game writes it.
    """
    first = HEAD.size + 4 * BLOCKS
    if len(data) < first:
        raise SaveRefused("this is too short for a save")
    magic, version, plays, total = HEAD.unpack_from(data)
    if magic != MAGIC or version != VERSION:
        raise SaveRefused("this is not a save of Brinewick, deep edition")
    if zlib.adler32(data[first:]) != total:
        raise SaveRefused("the save is damaged: its blocks do not match their checksum")
    company = Company(name="", slot=0, plays=plays)
    fillers = (read_company, read_hold)
    at = first
    for block, fill in enumerate(fillers):
        if int.from_bytes(data[HEAD.size + 4 * block :][:4], "little") != at:
            raise SaveRefused(f"block {block} is not where the table says")
        reader = Reader(data[at:], f"block {block}")
        packed = reader.take(reader.number())
        try:
            content = zstandard.ZstdDecompressor().decompress(packed, max_output_size=MOST_UNPACKED)
        except zstandard.ZstdError as error:
            raise SaveRefused(f"block {block} cannot be unpacked") from error
        inner = Reader(content, f"block {block}")
        fill(company, inner)
        inner.end()
        at += reader.at
    if at != len(data):
        raise SaveRefused(f"{len(data) - at} bytes too many at the end")
    validate(company)
    return company


def read_company(c: Company, r: Reader) -> None:
    c.name = r.text()
    c.year, c.month, c.day, c.clock, c.seed, c.marks, c.debt = (r.number() for _ in range(7))
    c.reputation, c.sites = r.signed(), r.number()
    c.route = r.counted(r.number)

    def charter() -> Charter:
        inner = r.record()
        found = Charter(inner.text(), inner.number())
        inner.end()
        return found

    c.charters = r.counted(charter)
    read_crew(c, r)
    read_log(c, r)


def read_crew(c: Company, r: Reader) -> None:
    def diver() -> tuple[int, Diver]:
        inner = r.record()
        place, name = inner.number(), inner.text()
        found = Diver(name, inner.number(), inner.number(), inner.number(), inner.number())
        found.x, found.y = struct.unpack("<ff", inner.take(8))
        found.depth_cm = inner.number()
        inner.end()
        return place, found

    crew = sorted(r.counted(diver), key=lambda pair: pair[0])
    if [place for place, _ in crew] != list(range(len(crew))):
        raise SaveRefused("a diver is missing from the crew")
    c.crew = [found for _, found in crew]


def read_hold(c: Company, r: Reader) -> None:
    def lot() -> Lot:
        inner = r.record()
        found = Lot(inner.number(), inner.number(), inner.number(), inner.number(), inner.number())
        found.tag, found.berth, found.charter = inner.text(), inner.number(), inner.number()
        inner.end()
        return found

    c.hold = r.counted(lot)
    c.chart_width = r.number()
    c.chart = r.take(r.number())


def read_log(c: Company, r: Reader) -> None:
    def line() -> LogLine:
        inner = r.record()
        found = LogLine(inner.number(), inner.text())
        inner.end()
        return found

    c.log = r.counted(line)


class Depot(SingleFile):
    """The folder of the deep edition: `company.bwd`, `company-2.bwd`, …; only the name says the slot."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder / "company.bwd", parse)

    def save(self, company: Company) -> None:
        self.write(company.slot, build(company))
