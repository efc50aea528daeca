"""What a Brinewick save holds, in the game's own terms, whatever the edition."""

from __future__ import annotations

from dataclasses import dataclass, field


class SaveRefused(Exception):
    """The game will not load this save; the message is the reason a player sees."""


ITEMS = {
    1: "lamp oil",
    2: "brass lamp",
    3: "hemp line",
    4: "sealed jar",
    5: "bell weight",
    6: "wax plug",
    7: "copper helm",
    8: "air hose",
    9: "tide table",
    10: "drowned coin",
    11: "oyster knife",
    12: "cork vest",
}
PRICES = {1: 12, 2: 46, 3: 9, 4: 30, 5: 25, 6: 2, 7: 140, 8: 38, 9: 18, 10: 5, 11: 16, 12: 22}
STATIONS = {0: "ashore", 1: "winch", 2: "bell", 3: "pump", 4: "lookout"}
INJURIES = {0: "burn", 1: "tired", 2: "bends", 3: "chill", 4: "cut"}
SITES = (
    "Old Wharf",
    "Bell Rock",
    "Salt Nave",
    "Low Chapel",
    "Kiln Stairs",
    "Reed Vault",
    "Tin Arcade",
    "Glass Pier",
    "Rope Court",
    "Mint Steps",
    "Long Sluice",
    "Heron Gate",
)
MOST_MARKS = 60_000
NAME_BYTES = 24


@dataclass
class Diver:
    name: str
    air: int = 100
    vigour: int = 80
    injuries: int = 0
    station: int = 0
    x: float = 0.0
    y: float = 0.0
    depth_cm: int = 0


@dataclass
class Lot:
    item: int
    count: int
    wear: int = 0
    kept_for: int = 0
    stowed_day: int = 0
    tag: str = ""
    berth: int = 0
    charter: int = 0  # the charter it belongs to, from 1; 0 is none


@dataclass
class LogLine:
    day: int
    text: str


@dataclass
class Charter:
    name: str
    day: int


@dataclass
class Company:
    name: str
    slot: int = 1
    plays: int = 0
    year: int = 1203
    month: int = 4
    day: int = 11
    clock: int = 0
    seed: int = 0x5EA1
    marks: int = 1340
    debt: int = 40
    reputation: int = 12
    crew: list[Diver] = field(default_factory=list)
    hold: list[Lot] = field(default_factory=list)
    sites: int = 0
    log: list[LogLine] = field(default_factory=list)
    route: list[int] = field(default_factory=list)
    charters: list[Charter] = field(default_factory=list)
    chart_width: int = 0
    chart: bytes = b""
    region: bytes = b""
    owner: int = 0
    kept: list[tuple[bytes, bytes]] = field(default_factory=list)  # chunks of others, with their tags

    @property
    def date(self) -> str:
        return f"{self.year:04}-{self.month:02}-{self.day:02}"


def shown_vigour(diver: Diver) -> int:
    """The game shows 40 for a vigour above 100; it loads such a save all the same."""
    return diver.vigour if diver.vigour <= 100 else 40


def validate(company: Company) -> None:
    """Refuse what the rules of the game rule out.

    Raises:
        SaveRefused: with the reason, in the words of the game.
    """
    if company.marks > MOST_MARKS:
        raise SaveRefused(f"the purse bursts: {company.marks} marks, and it holds {MOST_MARKS}")
    if not -100 <= company.reputation <= 100:
        raise SaveRefused(f"nobody has a reputation of {company.reputation}")
    if not company.crew:
        raise SaveRefused("a company without a crew")
    names = [diver.name for diver in company.crew]
    if len(set(names)) != len(names):
        raise SaveRefused("two divers of one name")
    for diver in company.crew:
        check_name("diver", diver.name)
        if diver.air > 100:
            raise SaveRefused(f"{diver.name} has more air ({diver.air}) than a tank holds")
        if diver.station not in STATIONS:
            raise SaveRefused(f"{diver.name} stands at no known station ({diver.station})")
        if diver.injuries >= 1 << len(INJURIES):
            raise SaveRefused(f"{diver.name} has an injury no surgeon knows")
    check_name("company", company.name)
    for number, lot in enumerate(company.hold):
        if lot.item not in ITEMS:
            raise SaveRefused(f"lot {number} holds an unknown thing ({lot.item})")
        if lot.wear > 100:
            raise SaveRefused(f"lot {number} is worn {lot.wear} per cent")
        if lot.charter > len(company.charters):
            raise SaveRefused(f"lot {number} belongs to a charter that is not installed ({lot.charter})")
        if lot.kept_for > len(company.crew):
            raise SaveRefused(f"lot {number} is kept for nobody ({lot.kept_for})")
    if company.sites >= 1 << len(SITES):
        raise SaveRefused("a site that is on no map is open")
    for site in company.route:
        if site >= len(SITES) or not company.sites >> site & 1:
            raise SaveRefused(f"the route leads to a site that is not open ({site})")


def check_name(what: str, name: str) -> None:
    if not 1 <= len(name.encode()) <= NAME_BYTES:
        raise SaveRefused(f"a {what}'s name has 1 to {NAME_BYTES} bytes, and this one {len(name.encode())}")
    if not name.isprintable():
        raise SaveRefused(f"a {what}'s name holds something that cannot be written on a slate")
