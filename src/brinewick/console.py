"""Brinewick, console edition: a save is exported as two files of one name, a descriptor and the data.

The descriptor (`voyage.bwx`), 64 bytes, numbers high byte first:

    0   4  "BWX" 1B          8   4  title number     24   4  size of the data
    4   2  version, 1       12   4  region           28   4  CRC-32 of the data
    6   2  slot             16   8  owner number     32  32  the company's name, filled up with zeros

The data (`voyage.bwy`):

    0   4  "BWY" 1B         24   4  bytes unpacked
    4   4  title number     28  32  signature: HMAC-SHA-256, with the published key, of the wrapper without it
    8   4  region           60      the body, packed with zlib
   12   8  owner number
   20   4  how often saved

The body is a list of chunks: 4 size of the content, 4 tag, content, 4 CRC-32 of tag and content. Chunks the game does
not know are kept and written again behind the others. In it, numbers are high byte first, and texts have their length
in front.
"""

from __future__ import annotations

import hashlib
import hmac
import struct
import zlib
from collections.abc import Callable
from pathlib import Path

from brinewick.company import Charter, Company, Diver, LogLine, Lot, SaveRefused, validate
from brinewick.reader import ByteReader

DESCRIPTOR = struct.Struct(">4sHHI4sQII32s")
WRAPPER = struct.Struct(">4sI4sQII32s")
MAGIC, DATA_MAGIC, VERSION, TITLE = b"BWX\x1b", b"BWY\x1b", 1, 0x0B21_4E57
PUBLISHED_KEY = b"the bell rings at slack water"
REGIONS = (b"MOLE", b"REEF")
OWNERS = {"oriel": 0x0041_0000_5EA1_0007, "tamsin": 0x0041_0000_0BE1_1002, "brock": 0x0041_0000_71DE_0310}
REGION, OWNER = REGIONS[0], OWNERS["oriel"]
MOST_UNPACKED = 1 << 24
LOT = struct.Struct(">HHBBHBI")
DIVER = struct.Struct(">BBBBffI")


class Reader(ByteReader):
    """Numbers high byte first, texts with their length in front."""

    def number(self, size: int) -> int:
        return int.from_bytes(self.take(size), "big")

    def text(self) -> str:
        return self.letters(self.number(1))


def text(value: str) -> bytes:
    raw = value.encode("utf-8")
    return bytes([len(raw)]) + raw


def build(c: Company) -> tuple[bytes, bytes]:
    """The bytes of descriptor and data.

    Raises:
        SaveRefused: when the company breaks a rule of the game.
    """
    validate(c)
    region, owner = c.region or REGION, c.owner or OWNER
    body = b"".join(chunk(tag, write(c)) for tag, (write, _) in CHUNKS.items())
    body += b"".join(chunk(tag, content) for tag, content in c.kept)
    packed = zlib.compress(body, 6)

    def wrapper(signature: bytes) -> bytes:
        return WRAPPER.pack(DATA_MAGIC, TITLE, region, owner, c.plays, len(body), signature) + packed

    data = wrapper(signed(wrapper(b"")))
    name = c.name.encode("utf-8")
    return DESCRIPTOR.pack(MAGIC, VERSION, c.slot, TITLE, region, owner, len(data), zlib.crc32(data), name), data


def signed(data: bytes) -> bytes:
    return hmac.new(PUBLISHED_KEY, data[:28] + data[60:], hashlib.sha256).digest()


def chunk(tag: bytes, content: bytes) -> bytes:
    return len(content).to_bytes(4, "big") + tag + content + zlib.crc32(tag + content).to_bytes(4, "big")


def parse(descriptor: bytes, data: bytes) -> Company:
    """Read one save.

    Raises:
        SaveRefused: for anything at all that is not exactly as the game writes it.
    """
    if len(descriptor) != DESCRIPTOR.size or descriptor[:4] != MAGIC:
        raise SaveRefused("this is not a descriptor of Brinewick")
    _, version, slot, title, region, owner, size, crc, name = DESCRIPTOR.unpack(descriptor)
    if version != VERSION or title != TITLE:
        raise SaveRefused(
            f"the descriptor is of title {title:08X}, version {version}, and this game reads {TITLE:08X}, 1"
        )
    if len(data) < WRAPPER.size or data[:4] != DATA_MAGIC:
        raise SaveRefused("this is not the data of a save of Brinewick")
    if size != len(data) or crc != zlib.crc32(data):
        raise SaveRefused("descriptor and data do not belong together")
    _, *same, plays, unpacked, signature = WRAPPER.unpack_from(data)
    if same != [title, region, owner]:
        raise SaveRefused("descriptor and data are of different titles, regions or owners")
    if not hmac.compare_digest(signed(data), signature):
        raise SaveRefused("the signature is not the publisher's")
    engine = zlib.decompressobj()
    try:
        body = engine.decompress(data[WRAPPER.size :], MOST_UNPACKED)
    except zlib.error as error:
        raise SaveRefused("the body cannot be unpacked") from error
    if not engine.eof or engine.unused_data or len(body) != unpacked:
        raise SaveRefused("the body is not as long as the wrapper says")
    c = Company("", slot, plays, region=region, owner=owner)
    read_body(c, Reader(body, "body"))
    if name.rstrip(b"\0") != c.name.encode("utf-8"):
        raise SaveRefused("the descriptor names another company")
    validate(c)
    return c


def read_body(c: Company, r: Reader) -> None:
    expected = list(CHUNKS)
    while r.at < len(r.data):
        size, tag = r.number(4), r.take(4)
        content, crc = r.take(size), r.number(4)
        what = f"chunk {tag.decode('latin-1')}"
        if zlib.crc32(tag + content) != crc:
            raise SaveRefused(f"the {what} is damaged: its checksum does not match")
        if expected:
            if tag != expected.pop(0):
                raise SaveRefused(f"the {what} is not where it belongs")
            inner = Reader(content, what)
            CHUNKS[tag][1](c, inner)
            inner.end()
        elif tag in CHUNKS:
            raise SaveRefused(f"the {what} is there twice")
        else:
            c.kept.append((tag, content))
    if expected:
        raise SaveRefused(f"the chunk {expected[0].decode()} is missing")


def read_company(c: Company, r: Reader) -> None:
    c.name = r.text()
    c.year, c.month, c.day = r.number(2), r.number(1), r.number(1)
    c.clock, c.seed = r.number(4), r.number(4)


def write_company(c: Company) -> bytes:
    return text(c.name) + struct.pack(">HBBII", c.year, c.month, c.day, c.clock, c.seed)


def read_purse(c: Company, r: Reader) -> None:
    c.marks, c.debt, c.reputation = struct.unpack(">IIb", r.take(9))


def write_purse(c: Company) -> bytes:
    return struct.pack(">IIb", c.marks, c.debt, c.reputation)


def read_crew(c: Company, r: Reader) -> None:
    for _ in range(r.number(1)):
        name = r.text()
        c.crew.append(Diver(name, *DIVER.unpack(r.take(DIVER.size))))


def write_crew(c: Company) -> bytes:
    crew = (text(d.name) + DIVER.pack(d.air, d.vigour, d.injuries, d.station, d.x, d.y, d.depth_cm) for d in c.crew)
    return bytes([len(c.crew)]) + b"".join(crew)


def read_hold(c: Company, r: Reader) -> None:
    for _ in range(r.number(2)):
        item, count, wear, kept_for, stowed, charter, berth = LOT.unpack(r.take(LOT.size))
        c.hold.append(Lot(item, count, wear, kept_for, stowed, r.text(), berth, charter))


def write_hold(c: Company) -> bytes:
    lots = (
        LOT.pack(t.item, t.count, t.wear, t.kept_for, t.stowed_day, t.charter, t.berth) + text(t.tag) for t in c.hold
    )
    return len(c.hold).to_bytes(2, "big") + b"".join(lots)


def read_sites(c: Company, r: Reader) -> None:
    c.sites = r.number(2)
    c.route = list(r.take(r.number(1)))


def write_sites(c: Company) -> bytes:
    return c.sites.to_bytes(2, "big") + bytes([len(c.route), *c.route])


def read_log(c: Company, r: Reader) -> None:
    for _ in range(r.number(2)):
        c.log.append(LogLine(r.number(2), r.text()))


def write_log(c: Company) -> bytes:
    return len(c.log).to_bytes(2, "big") + b"".join(line.day.to_bytes(2, "big") + text(line.text) for line in c.log)


def read_charters(c: Company, r: Reader) -> None:
    for _ in range(r.number(1)):
        c.charters.append(Charter(r.text(), r.number(2)))


def write_charters(c: Company) -> bytes:
    return bytes([len(c.charters)]) + b"".join(text(each.name) + each.day.to_bytes(2, "big") for each in c.charters)


def read_chart(c: Company, r: Reader) -> None:
    c.chart_width, height = r.number(2), r.number(2)
    c.chart = r.take(c.chart_width * height)


def write_chart(c: Company) -> bytes:
    return struct.pack(">HH", c.chart_width, len(c.chart) // c.chart_width if c.chart_width else 0) + c.chart


CHUNKS: dict[bytes, tuple[Callable[[Company], bytes], Callable[[Company, Reader], None]]] = {
    b"comp": (write_company, read_company),
    b"purs": (write_purse, read_purse),
    b"crew": (write_crew, read_crew),
    b"hold": (write_hold, read_hold),
    b"site": (write_sites, read_sites),
    b"logb": (write_log, read_log),
    b"chtr": (write_charters, read_charters),
    b"chrt": (write_chart, read_chart),
}


def check_owner(company: Company, region: bytes, owner: int) -> None:
    """Raises SaveRefused when a save is of another region than the console, or of somebody else."""
    if company.region != region:
        theirs, mine = (each.decode("ascii", "replace") for each in (company.region, region))
        raise SaveRefused(f"the save is of region {theirs}, and this console of {mine}")
    if company.owner != owner:
        raise SaveRefused(f"the save belongs to owner {company.owner:016X}, and this console to {owner:016X}")


class Export:
    """The folder of the console edition: two files for each slot, `voyage.bwx` and `voyage.bwy`, `voyage-2.bwx`, …; and
    whose console it is.
    """

    def __init__(self, folder: Path, region: bytes = REGION, owner: int = OWNER) -> None:
        self.folder, self.region, self.owner = folder, region, owner

    def paths(self, slot: int) -> tuple[Path, Path]:
        """Descriptor and data."""
        stem = self.folder / ("voyage" if slot == 1 else f"voyage-{slot}")
        return stem.with_suffix(".bwx"), stem.with_suffix(".bwy")

    def load(self, slot: int = 1) -> Company:
        """Raises SaveRefused when the save is not as the game left it."""
        try:
            descriptor, data = (path.read_bytes() for path in self.paths(slot))
        except OSError as error:
            raise SaveRefused(f"there is no save in slot {slot}, or half of it is missing") from error
        company = parse(descriptor, data)
        if company.slot != slot:
            raise SaveRefused(f"the save belongs in slot {company.slot}")
        check_owner(company, self.region, self.owner)
        return company

    def save(self, company: Company) -> None:
        company.region, company.owner = self.region, self.owner
        contents = build(company)
        self.folder.mkdir(parents=True, exist_ok=True)
        for path, content in zip(self.paths(company.slot), contents, strict=True):
            path.write_bytes(content)
