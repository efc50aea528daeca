"""Brinewick, desktop edition: how one save slot is in its file.

All numbers are low byte first. A head of 24 bytes, then the body: nine sections in a fixed order.

    0   4  "BWK" 1A            8   4  length of the body          16  4  CRC-32 of the body
    4   2  version, 3          12  4  where the hold section is   20  4  how often it was saved
    6   1  edition, 1          (counted from the file's start)
    7   1  slot

    section: 4 tag, 4 length of the content, 2 sum of the content's bytes (16 bits), content
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable
from typing import TypeVar

from brinewick.company import Charter, Company, Diver, LogLine, Lot, SaveRefused, validate
from brinewick.reader import ByteReader

MAGIC = b"BWK\x1a"
VERSION = 3
EDITION = 1
HEAD = struct.Struct("<4sHBBIIII")
LOT = struct.Struct("<HHBBH12sI")
ROUTE_END = 0xFF
T = TypeVar("T")


class Reader(ByteReader):
    """Numbers low byte first, texts with their length in front."""

    def number(self, size: int, signed: bool = False) -> int:
        return int.from_bytes(self.take(size), "little", signed=signed)

    def real(self) -> float:
        value: float = struct.unpack("<f", self.take(4))[0]
        return value

    def text(self, length_size: int = 1) -> str:
        return self.letters(self.number(length_size))

    def counted(self, length_size: int, one: Callable[[], T]) -> list[T]:
        return [one() for _ in range(self.number(length_size))]


def parse(data: bytes) -> Company:
    """Read one save.

    Raises:
        SaveRefused: for anything at all that is not exactly as the game writes it.
    """
    if len(data) < HEAD.size:
        raise SaveRefused("this is too short for a save")
    magic, version, edition, slot, length, hold_at, crc, plays = HEAD.unpack_from(data)
    if magic != MAGIC:
        raise SaveRefused("this is not a save of Brinewick")
    if (version, edition) != (VERSION, EDITION):
        raise SaveRefused(f"a save of version {version}, edition {edition}, and this game reads {VERSION}, {EDITION}")
    body = data[HEAD.size :]
    if len(body) != length:
        raise SaveRefused(f"the body should have {length} bytes and has {len(body)}")
    if zlib.crc32(body) != crc:
        raise SaveRefused("the save is damaged: its body does not match its checksum")
    company = Company(name="", slot=slot, plays=plays)
    reader = Reader(body, "body")
    for tag, fill in SECTIONS:
        at = HEAD.size + reader.at
        if tag == b"HOLD" and at != hold_at:
            raise SaveRefused(f"the hold should be at {hold_at} and is at {at}")
        fill(company, section(reader, tag))
    reader.end()
    validate(company)
    return company


def section(body: Reader, tag: bytes) -> Reader:
    name = tag.decode().lower()
    if body.take(4) != tag:
        raise SaveRefused(f"the section '{name}' is not where it belongs")
    size, total = body.number(4), body.number(2)
    content = body.take(size)
    if sum(content) & 0xFFFF != total:
        raise SaveRefused(f"the section '{name}' is damaged: its sum does not match")
    return Reader(content, f"section '{name}'")


def read_company(c: Company, r: Reader) -> None:
    c.name = r.text()
    c.year, c.month, c.day = r.number(2), r.number(1), r.number(1)
    c.clock, c.seed = r.number(4), r.number(4)
    r.end()


def read_purse(c: Company, r: Reader) -> None:
    c.marks, c.debt, c.reputation = r.number(4), r.number(4), r.number(2, signed=True)
    r.end()


def read_crew(c: Company, r: Reader) -> None:
    def diver() -> Diver:
        name = r.text()
        air, vigour, injuries, station = r.number(1), r.number(1), r.number(2), r.number(1)
        return Diver(name, air, vigour, injuries, station, r.real(), r.real(), r.number(3))

    c.crew = r.counted(1, diver)
    r.end()


def read_hold(c: Company, r: Reader) -> None:
    def lot() -> Lot:
        item, count, wear, kept_for, day, tag, berth = LOT.unpack(r.take(LOT.size))
        return Lot(item, count, wear, kept_for, day, tag.rstrip(b"\0").decode("latin-1"), berth)

    c.hold = r.counted(4, lot)
    r.end()


def read_sites(c: Company, r: Reader) -> None:
    c.sites = r.number(4)
    r.end()


def read_log(c: Company, r: Reader) -> None:
    while r.at < len(r.data):
        c.log.append(LogLine(r.number(2), r.text(2)))


def read_route(c: Company, r: Reader) -> None:
    while (site := r.number(1)) != ROUTE_END:
        c.route.append(site)
    r.end()


def read_charters(c: Company, r: Reader) -> None:
    c.charters = r.counted(1, lambda: Charter(r.text(), r.number(2)))
    r.end()


def read_chart(c: Company, r: Reader) -> None:
    c.chart_width, height = r.number(2), r.number(2)
    c.chart = r.take(c.chart_width * height)
    r.end()


SECTIONS: tuple[tuple[bytes, Callable[[Company, Reader], None]], ...] = (
    (b"COMP", read_company),
    (b"PURS", read_purse),
    (b"CREW", read_crew),
    (b"HOLD", read_hold),
    (b"SITE", read_sites),
    (b"LOGB", read_log),
    (b"ROUT", read_route),
    (b"CHTR", read_charters),
    (b"CHRT", read_chart),
)


def build(c: Company) -> bytes:
    """The bytes of a save.

    Raises:
        SaveRefused: when the company breaks a rule of the game.
    """
    validate(c)
    height = len(c.chart) // c.chart_width if c.chart_width else 0
    contents = (
        text(c.name) + struct.pack("<HBBII", c.year, c.month, c.day, c.clock, c.seed),
        struct.pack("<IIh", c.marks, c.debt, c.reputation),
        bytes([len(c.crew)]) + b"".join(map(diver_bytes, c.crew)),
        len(c.hold).to_bytes(4, "little") + b"".join(map(lot_bytes, c.hold)),
        c.sites.to_bytes(4, "little"),
        b"".join(line.day.to_bytes(2, "little") + text(line.text, 2) for line in c.log),
        bytes([*c.route, ROUTE_END]),
        bytes([len(c.charters)]) + b"".join(text(h.name) + h.day.to_bytes(2, "little") for h in c.charters),
        struct.pack("<HH", c.chart_width, height) + c.chart,
    )
    body, hold_at = bytearray(), 0
    for (tag, _), content in zip(SECTIONS, contents, strict=True):
        if tag == b"HOLD":
            hold_at = HEAD.size + len(body)
        body += tag + struct.pack("<IH", len(content), sum(content) & 0xFFFF) + content
    return HEAD.pack(MAGIC, VERSION, EDITION, c.slot, len(body), hold_at, zlib.crc32(body), c.plays) + body


def text(value: str, length_size: int = 1) -> bytes:
    raw = value.encode("utf-8")
    return len(raw).to_bytes(length_size, "little") + raw


def diver_bytes(d: Diver) -> bytes:
    numbers = struct.pack("<BBHBff", d.air, d.vigour, d.injuries, d.station, d.x, d.y)
    return text(d.name) + numbers + d.depth_cm.to_bytes(3, "little")


def lot_bytes(lot: Lot) -> bytes:
    return LOT.pack(lot.item, lot.count, lot.wear, lot.kept_for, lot.stowed_day, lot.tag.encode("latin-1"), lot.berth)
