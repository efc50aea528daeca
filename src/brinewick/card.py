"""Brinewick, a memory card of the console: an image of 192 blocks of 256 bytes, numbers high byte first.

    block 0   0  4  "BWC" 1B       8  2  blocks            16  4  title number
              4  2  version, 1    10  2  the first of data  20  4  CRC-32 of the blocks 1 to 8
              6  2  block size    12  4  region
    block 1   the table: for each block the number of the one after it; 0 is free, FFFE the card's own, FFFF the last
    block 3   the directory: 48 entries of 32 bytes
              0  1  state: 0 free, 1 taken    4  4  size in bytes    12  20  name, filled up with zeros
              1  1  icon                      8  4  title number
              2  2  the first block
    block 9   what the entries hold, in chains of blocks

A voyage is two entries, `voyage.bwx` and `voyage.bwy`, as they are exported. A card with a trial voyage (`trial.bwx`)
has no other one.
"""

from __future__ import annotations

import struct
import zlib
from pathlib import Path

from brinewick import console
from brinewick.company import Company, SaveRefused

MAGIC, VERSION = b"BWC\x1b", 1
BLOCK, BLOCKS, TABLE_AT, DIRECTORY_AT, DATA_AT = 256, 192, 1, 3, 9
HEAD = struct.Struct(">4sHHHH4sII")
ENTRY = struct.Struct(">BBHII20s")
ENTRIES = (DATA_AT - DIRECTORY_AT) * BLOCK // ENTRY.size
FREE, OWN, LAST = 0, 0xFFFE, 0xFFFF
ICONS = {".bwx": 1, ".bwy": 2}

Files = dict[str, bytes]


def blank(region: bytes = console.REGION) -> bytes:
    """An image with nothing on it."""
    return build({}, bytes(BLOCK * BLOCKS), region)


def build(files: Files, before: bytes, region: bytes) -> bytes:
    """An image with these files. What is in blocks that nobody uses stays as it was.

    Raises:
        SaveRefused: there is no room.
    """
    table = [OWN] * DATA_AT + [FREE] * (BLOCKS - DATA_AT)
    data = bytearray(before)
    entries = []
    if len(files) > ENTRIES:
        raise SaveRefused(f"the card has room for {ENTRIES} entries")
    free = iter(range(DATA_AT, BLOCKS))
    for name, content in files.items():
        chain = []
        for at in range(0, max(len(content), 1), BLOCK):
            number = next(free, None)
            if number is None:
                raise SaveRefused("the card is full")
            data[number * BLOCK : number * BLOCK + len(content[at : at + BLOCK])] = content[at : at + BLOCK]
            chain.append(number)
        for number, after in zip(chain, [*chain[1:], LAST], strict=True):
            table[number] = after
        icon = ICONS.get(Path(name).suffix, 0)
        entries.append(ENTRY.pack(1, icon, chain[0], len(content), console.TITLE, name.encode()))
    system = b"".join(number.to_bytes(2, "big") for number in table).ljust((DIRECTORY_AT - TABLE_AT) * BLOCK, b"\0")
    system += b"".join(entries).ljust(ENTRIES * ENTRY.size, b"\0")
    head = HEAD.pack(MAGIC, VERSION, BLOCK, BLOCKS, DATA_AT, region, console.TITLE, zlib.crc32(system))
    data[: DATA_AT * BLOCK] = head.ljust(BLOCK, b"\0") + system
    return bytes(data)


def parse(image: bytes, region: bytes) -> Files:
    """The files on a card.

    Raises:
        SaveRefused: for anything that is not as the console writes it.
    """
    if len(image) != BLOCK * BLOCKS or image[:4] != MAGIC:
        raise SaveRefused("this is not a card of Brinewick")
    _, version, block, blocks, data_at, its_region, title, crc = HEAD.unpack_from(image)
    if (version, block, blocks, data_at, title) != (VERSION, BLOCK, BLOCKS, DATA_AT, console.TITLE):
        raise SaveRefused("the card is of another version or another title")
    if its_region != region:
        raise SaveRefused(f"the card is of region {its_region.decode('ascii', 'replace')}")
    if zlib.crc32(image[BLOCK : DATA_AT * BLOCK]) != crc:
        raise SaveRefused("the card's directory is damaged: its checksum does not match")
    table = [int.from_bytes(image[at : at + 2], "big") for at in range(BLOCK, BLOCK + 2 * BLOCKS, 2)]
    used = set(range(DATA_AT))
    files: Files = {}
    for number in range(ENTRIES):
        state, _, first, size, its_title, raw = ENTRY.unpack_from(image, DIRECTORY_AT * BLOCK + number * ENTRY.size)
        if state == 0:
            continue
        name = raw.rstrip(b"\0").decode("ascii", "replace")
        if state != 1 or its_title != console.TITLE or name in files:
            raise SaveRefused(f"the entry {name!r} is not one of this card, or is there twice")
        files[name] = follow(image, table, first, size, used, name)
    if lost := [number for number in range(BLOCKS) if (table[number] == FREE) is (number in used)]:
        raise SaveRefused(f"block {lost[0]} is taken and belongs to nothing, or the other way round")
    check_pairs(files)
    return files


def follow(image: bytes, table: list[int], first: int, size: int, used: set[int], name: str) -> bytes:
    """What a chain of blocks holds."""
    data, number = b"", first
    while number != LAST:
        if not DATA_AT <= number < BLOCKS or number in used:
            raise SaveRefused(f"the chain of {name} leads to block {number}, which is not its own")
        used.add(number)
        data += image[number * BLOCK : (number + 1) * BLOCK]
        number = table[number]
    if not 0 <= len(data) - size < BLOCK or not data:
        raise SaveRefused(f"the chain of {name} has {len(data)} bytes, and its entry says {size}")
    return data[:size]


def check_pairs(files: Files) -> None:
    """Raises SaveRefused for half a voyage, and for a trial voyage beside another one."""
    for name in files:
        stem, _, ending = name.rpartition(".")
        other = f"{stem}.{'bwy' if ending == 'bwx' else 'bwx'}"
        if ending in ("bwx", "bwy") and other not in files:
            raise SaveRefused(f"{name} is on the card without {other}")
    voyages = [name for name in files if name.endswith(".bwx")]
    if "trial.bwx" in voyages and len(voyages) > 1:
        raise SaveRefused("a trial voyage is on the card beside another one")


class Card:
    """A console that plays from a card, `card.bwc`; and whose console it is."""

    def __init__(self, folder: Path, region: bytes = console.REGION, owner: int = console.OWNER) -> None:
        self.path, self.region, self.owner = folder / "card.bwc", region, owner

    def names(self, slot: int) -> tuple[str, str]:
        stem = "voyage" if slot == 1 else f"voyage-{slot}"
        return f"{stem}.bwx", f"{stem}.bwy"

    def load(self, slot: int = 1) -> Company:
        """Raises SaveRefused when card or save are not as the console left them."""
        try:
            files = parse(self.path.read_bytes(), self.region)
        except OSError as error:
            raise SaveRefused("there is no card") from error
        if any(name not in files for name in self.names(slot)):
            raise SaveRefused(f"there is no save in slot {slot} on the card")
        company = console.parse(*(files[name] for name in self.names(slot)))
        if company.slot != slot:
            raise SaveRefused(f"the save belongs in slot {company.slot}")
        console.check_owner(company, self.region, self.owner)
        return company

    def save(self, company: Company) -> None:
        company.region, company.owner = self.region, self.owner
        before = self.path.read_bytes() if self.path.exists() else blank(self.region)
        files = parse(before, self.region) | dict(zip(self.names(company.slot), console.build(company), strict=True))
        self.path.parent.mkdir(parents=True, exist_ok=True)
        self.path.write_bytes(build(files, before, self.region))
