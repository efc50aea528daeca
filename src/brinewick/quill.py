"""Brinewick, quill edition: a voyage in texts, also in a zip or in an SQLite database.

voyage/world.json         the day, the purse, the log, the chart; “water” is JSON inside a string: how deep each site is
voyage/tally.txt          the foreman's tally: lists with semicolons, no blanks, nothing twice, sites in their order
voyage/tides.cfg          key = value; “permits” is a row of switches, one for each site
voyage/yard/divers.xml    the crew
voyage/yard/hold.xml      the lots
voyage/register.txt       what the voyage is called, and its marks
registers/voyages.xml     the register of all voyages, in a folder beside it: slot, folder, name and marks once more

A site is open when its permit is granted, its water is 0 and the foreman counts it; the game refuses anything between.
The zip edition keeps the folder in `voyage.qlz`, the SQLite edition the same texts and tables in `voyage.db`.
"""

from __future__ import annotations

import io
import json
import re
import sqlite3
import xml.etree.ElementTree as ET
import zipfile
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any
from xml.sax.saxutils import quoteattr

from brinewick.company import ITEMS, SITES, STATIONS, Charter, Company, Diver, LogLine, Lot, SaveRefused, validate

Files = dict[str, bytes]
FLOODED = 315  # centimetres of water over a site that was never opened
NUMBERS = {name: number for number, name in ITEMS.items()}
PLACES = {name: number for number, name in STATIONS.items()}


def build(c: Company) -> Files:
    """The texts of a voyage, by their names.

    Raises:
        SaveRefused: when the company breaks a rule of the game.
    """
    validate(c)
    is_open = [bool(c.sites >> site & 1) for site in range(len(SITES))]
    water = {"pump": 2, "levels": {name: 0 if is_open[site] else FLOODED + site for site, name in enumerate(SITES)}}
    world = {
        "edition": "quill",
        "style": 3,
        "voyage": c.name,
        "slot": c.slot,
        "date": c.date,
        "clock": c.clock,
        "seed": c.seed,
        "plays": c.plays,
        "purse": {"marks": c.marks, "debt": c.debt, "reputation": c.reputation},
        "route": c.route,
        "water": json.dumps(water, ensure_ascii=False, separators=(",", ":")),
        "charters": [{"name": charter.name, "day": charter.day} for charter in c.charters],
        "log": [{"day": line.day, "text": line.text} for line in c.log],
        "chart": {"width": c.chart_width, "depths": c.chart.hex()},
    }
    opened = [name for site, name in enumerate(SITES) if is_open[site]]
    tally = f"foreman={c.crew[-1].name}\r\nopen={';'.join(opened)}\r\ncount={len(opened)}\r\nhands={len(c.crew)}\r\n"
    tides = (
        f"; tides of the drowned town\nvoyage = {c.name}\npermits = {c.sites}   ; one bit a site\n"
        "lamp_light = 7\nbell_sound = on\n"
    )
    divers = "".join(
        f'  <diver name={quoteattr(d.name)} air="{d.air}" vigour="{d.vigour}" injuries="{d.injuries}" '
        f'station="{STATIONS[d.station]}">\n'
        f'    <at x="{d.x:.2f}" y="{d.y:.2f}" depth="{d.depth_cm}"/>\n  </diver>\n'
        for d in c.crew
    )
    lots = "".join(
        f'  <lot item="{ITEMS[lot.item]}" count="{lot.count}" wear="{lot.wear}" kept="{lot.kept_for}" '
        f'day="{lot.stowed_day}" tag={quoteattr(lot.tag)} berth="{lot.berth}"/>\n'
        for lot in c.hold
    )
    return {
        "world.json": (json.dumps(world, indent=2, ensure_ascii=False) + "\n").encode(),
        "tally.txt": tally.encode(),
        "tides.cfg": tides.encode(),
        "yard/divers.xml": f'<?xml version="1.0" encoding="utf-8"?>\n<divers>\n{divers}</divers>\n'.encode(),
        "yard/hold.xml": f'<?xml version="1.0" encoding="utf-8"?>\n<hold>\n{lots}</hold>\n'.encode(),
        "register.txt": f"name: {c.name}\nmarks: {c.marks}\n".encode(),
    }


def parse(files: Files) -> Company:
    """Raises SaveRefused when the texts do not agree, or one is not as the game writes it."""
    try:
        world = json.loads(files["world.json"])
        water = json.loads(world["water"])
        tally = _lines(files["tally.txt"], "=", "the foreman's tally")
        tides = _lines(files["tides.cfg"], " = ", "the tides")
        register = _lines(files["register.txt"], ": ", "the register")
        company = _company(world, files)
        permits, levels = int(tides["permits"].split(";")[0]), water["levels"]
    except KeyError as error:
        raise SaveRefused(f"{error.args[0]} is missing") from error
    except (ValueError, TypeError, AttributeError, ET.ParseError) as error:
        raise SaveRefused(f"the voyage cannot be read ({error})") from error
    for what, name in (("the tides", tides["voyage"]), ("the register", register["name"])):
        if name != company.name:
            raise SaveRefused(f"{what} belong to {name!r}, the world to {company.name!r}")
    if register["marks"] != f"{company.marks}":
        raise SaveRefused(f"the register says {register['marks']} marks, the world says {company.marks}")
    if tally["hands"] != f"{len(company.crew)}":
        raise SaveRefused(f"the foreman counts {tally['hands']} hands, and there are {len(company.crew)}")
    opened = _strict_list(tally["open"])
    if tally["count"] != f"{len(opened)}":
        raise SaveRefused(f"the foreman says {tally['count']} sites and names {len(opened)}")
    if set(levels) != set(SITES):
        raise SaveRefused("the water of a site is not measured")
    for site, name in enumerate(SITES):
        permit, dry, counted = bool(permits >> site & 1), levels[name] == 0, name in opened
        if permit != dry:
            where = "has a permit and is under water" if permit else "is dry and has no permit"
            raise SaveRefused(f"{name} {where}")
        if permit != counted:
            raise SaveRefused(f"the foreman {'does not count' if permit else 'counts'} {name}")
    company.sites = permits
    validate(company)
    return company


def _company(world: Any, files: Files) -> Company:
    if world["edition"] != "quill" or world["style"] != 3:
        raise SaveRefused("this is not a voyage of the quill edition")
    year, month, day = map(int, world["date"].split("-"))
    c = Company(world["voyage"], world["slot"], world["plays"], year, month, day, world["clock"], world["seed"])
    c.marks, c.debt, c.reputation = (world["purse"][key] for key in ("marks", "debt", "reputation"))
    for number in (c.marks, c.debt, c.reputation):
        if not isinstance(number, int):
            raise SaveRefused(f"{number} is not a number of marks")
    c.route = list(world["route"])
    c.charters = [Charter(each["name"], each["day"]) for each in world["charters"]]
    c.log = [LogLine(each["day"], each["text"]) for each in world["log"]]
    c.chart_width, c.chart = world["chart"]["width"], bytes.fromhex(world["chart"]["depths"])
    for diver in ET.fromstring(files["yard/divers.xml"]):
        at = diver[0]
        found = Diver(diver.attrib["name"], *(int(diver.attrib[key]) for key in ("air", "vigour", "injuries")))
        found.station = PLACES[diver.attrib["station"]]
        found.x, found.y, found.depth_cm = float(at.attrib["x"]), float(at.attrib["y"]), int(at.attrib["depth"])
        c.crew.append(found)
    for lot in ET.fromstring(files["yard/hold.xml"]):
        count, wear, kept, stowed, berth = (int(lot.attrib[key]) for key in ("count", "wear", "kept", "day", "berth"))
        c.hold.append(Lot(NUMBERS[lot.attrib["item"]], count, wear, kept, stowed, lot.attrib["tag"], berth))
    return c


def _lines(text: bytes, separator: str, what: str) -> dict[str, str]:
    found = {}
    for line in text.decode("utf-8").splitlines():
        if line.startswith(";") or not line:
            continue
        key, mark, value = line.partition(separator)
        if not mark or key in found:
            raise SaveRefused(f"a line of {what} cannot be read: {line!r}")
        found[key] = value.split("   ;")[0]
    return found


def _strict_list(text: str) -> list[str]:
    """The foreman writes semicolons and nothing else between names, each once, in the order of the chart."""
    names = text.split(";") if text else []
    if any(name not in SITES for name in names):
        wrong = next(name for name in names if name not in SITES)
        raise SaveRefused(f"the foreman's tally names {wrong!r}, which is not a site")
    if names != [name for name in SITES if name in names]:
        raise SaveRefused("the foreman's tally is out of order, or names a site twice")
    return names


# where the texts are


def _read_folder(folder: Path) -> Files:
    return {path.relative_to(folder).as_posix(): path.read_bytes() for path in folder.rglob("*") if path.is_file()}


def _write_folder(folder: Path, files: Files) -> None:
    for name, data in files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)


def _read_zip(path: Path) -> Files:
    try:
        with zipfile.ZipFile(path) as archive:
            if archive.testzip() is not None:
                raise SaveRefused(f"the sum of {archive.testzip()} in the zip is wrong")
            return {name: archive.read(name) for name in archive.namelist()}
    except zipfile.BadZipFile as error:
        raise SaveRefused(f"the zip cannot be read ({error})") from error


def _write_zip(path: Path, files: Files) -> None:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.comment = b"quill 3"
        for name, data in files.items():
            archive.writestr(zipfile.ZipInfo(name, (1983, 4, 11, 0, 0, 0)), data, zipfile.ZIP_DEFLATED)
    path.write_bytes(out.getvalue())


def _read_database(path: Path) -> Files:
    try:
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as database:
            if database.execute("pragma integrity_check").fetchone() != ("ok",):
                raise SaveRefused("the database is damaged")
            files = dict(database.execute("select name, body from papers"))
            (marks,) = database.execute("select amount from purse where what = 'marks'").fetchone()
            world = json.loads(files["world.json"])
            if world["purse"]["marks"] != marks:
                raise SaveRefused(f"the purse says {marks} marks, the world says {world['purse']['marks']}")
            return {name: body if isinstance(body, bytes) else body.encode() for name, body in files.items()}
    except (sqlite3.Error, TypeError, ValueError, KeyError) as error:
        raise SaveRefused(f"the database cannot be read ({error})") from error


def _write_database(path: Path, files: Files) -> None:
    with closing(sqlite3.connect(path)) as database:
        database.executescript(
            "create table if not exists papers (name text primary key, body text not null);"
            "create table if not exists purse (what text primary key, amount integer not null check (amount >= 0));"
        )
        for name, data in files.items():
            database.execute("insert or replace into papers values (?, ?)", (name, data.decode()))
        marks = json.loads(files["world.json"])["purse"]["marks"]
        database.execute("insert or replace into purse values ('marks', ?)", (marks,))
        database.commit()


class Quill:
    """The saves of the quill edition in one folder, as texts, in a zip, or in a database: `voyage`, `voyage-2`, …"""

    def __init__(self, folder: Path, kind: str = "quill") -> None:
        self.folder, self.kind = folder, kind
        self.path = folder / {"quill": "voyage", "quill-zip": "voyage.qlz", "quill-db": "voyage.db"}[kind]

    def slot_path(self, slot: int) -> Path:
        return self.path if slot == 1 else self.path.with_stem(f"voyage-{slot}")

    @property
    def register_path(self) -> Path:
        return self.folder / "registers" / "voyages.xml"

    def load(self, slot: int = 1) -> Company:
        """Raises SaveRefused when the voyage is not as the game left it."""
        path = self.slot_path(slot)
        if not path.exists():
            raise SaveRefused(f"there is no voyage in slot {slot}")
        read: Callable[[Path], Files] = {"quill": _read_folder, "quill-zip": _read_zip, "quill-db": _read_database}[
            self.kind
        ]
        company = parse(read(path))
        if company.slot != slot:
            raise SaveRefused(f"{path.name} says it belongs in slot {company.slot}")
        if self.kind == "quill":
            self._check_register(company, path.name)
        return company

    def save(self, company: Company) -> None:
        files = build(company)
        self.folder.mkdir(parents=True, exist_ok=True)
        write: Callable[[Path, Files], None]
        write = {"quill": _write_folder, "quill-zip": _write_zip, "quill-db": _write_database}[self.kind]
        path = self.slot_path(company.slot)
        write(path, files)
        if self.kind == "quill":
            self.register_path.parent.mkdir(exist_ok=True)
            others = self._voyages() if self.register_path.exists() else []
            kept = [each.attrib for each in others if each.attrib.get("slot") != str(company.slot)]
            mine = {"slot": str(company.slot), "name": company.name, "folder": path.name, "marks": str(company.marks)}
            lines = "".join(
                f"  <voyage {' '.join(f'{key}={quoteattr(value)}' for key, value in each.items())}/>\n"
                for each in sorted([*kept, mine], key=lambda each: int(each["slot"]))
            )
            self.register_path.write_text(f"<register>\n{lines}</register>\n", "utf-8")

    def _voyages(self) -> list[ET.Element]:
        try:
            return list(ET.fromstring(self.register_path.read_bytes()))
        except (OSError, ET.ParseError) as error:
            raise SaveRefused(f"the register of voyages cannot be read ({error})") from error

    def _check_register(self, company: Company, folder: str) -> None:
        mine = [each for each in self._voyages() if each.attrib.get("slot") == str(company.slot)]
        if len(mine) != 1 or mine[0].attrib.get("name") != company.name or mine[0].attrib.get("folder") != folder:
            raise SaveRefused(f"the register of voyages does not know {company.name!r}")
        marks = mine[0].attrib.get("marks", "")
        if not re.fullmatch(r"[0-9]+", marks) or int(marks) != company.marks:
            raise SaveRefused(f"the register of voyages says {marks} marks, the world says {company.marks}")
