"""Brinewick, atlas edition: harbours, each a folder of 25 files on a map of its own, and two registers that name them.

west-quay/harbour.cfg          what the harbour is called, and which version of the map it has
west-quay/session/…            what was played: the six texts of the quill edition, and mark.txt with the session's mark
west-quay/map/sheet-01.map …   twelve sheets of the map
west-quay/sites/*.site         what was done at a site; one that an add-on brought needs addons/*.cht of the same name
west-quay/addons/*.cht         add-ons
west-quay/cache/*.cache        two caches of the session; the game makes them anew when they are missing
harbours.json                  the register: name, folder, mark and marks of each harbour
registers/marks.xml            the other one, in a folder beside: name and mark

A session may be played in another harbour: its mark must then be in both registers, under the name of that harbour.
"""

from __future__ import annotations

import json
import re
import xml.etree.ElementTree as ET
import zlib
from pathlib import Path
from xml.sax.saxutils import quoteattr

from brinewick import quill
from brinewick.company import Company, SaveRefused
from brinewick.play import next_random

SHEETS = range(1, 13)
CACHES = ("tiles.cache", "paths.cache")
FIRST_MAP_ADDONS = ("low-chapel",)
STYLE, OWN_STYLE = b'"edition": "quill"', b'"edition": "atlas"'


class Atlas:
    """The harbours in one folder, of which one is played."""

    def __init__(self, folder: Path, harbour: str = "west-quay", version: int = 1) -> None:
        self.folder, self.harbour, self.version = folder, folder / harbour, version

    @property
    def name(self) -> str:
        """What the harbour is called, when it is new."""
        return self.harbour.name.replace("-", " ").title()

    def load(self, slot: int = 1) -> Company:
        """Raises SaveRefused when a harbour is not as the game left it."""
        if not self.harbour.is_dir():
            raise SaveRefused(f"there is no harbour {self.harbour.name}")
        name, version = self._head()
        session = {path.relative_to(self.harbour / "session").as_posix(): path.read_bytes() for path in self._session()}
        mark = self._mark(session.pop("mark.txt", b""))
        if not session.get("world.json", b"").count(OWN_STYLE):
            raise SaveRefused("there is no session of the atlas edition in this harbour")
        world = session["world.json"]
        company = quill.parse(session | {"world.json": world.replace(OWN_STYLE, STYLE)})
        self._check_map(version)
        self._check_addons()
        for cache in CACHES:
            path = self.harbour / "cache" / cache
            if path.exists() and path.read_text("utf-8") != self._cache(cache, world):
                raise SaveRefused(f"{cache} is of another session")
        self._check_registers(name, mark, company)
        return company

    def save(self, company: Company) -> None:
        if not self.harbour.is_dir():
            self._found(company)
        name, _ = self._head()
        texts = quill.build(company)
        texts["world.json"] = texts["world.json"].replace(STYLE, OWN_STYLE)
        for path, data in texts.items():
            target = self.harbour / "session" / path
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(data)
        for cache in CACHES:
            (self.harbour / "cache").mkdir(exist_ok=True)
            (self.harbour / "cache" / cache).write_text(self._cache(cache, texts["world.json"]), "utf-8")
        mark = self._mark((self.harbour / "session" / "mark.txt").read_bytes())
        register, marks = self._registers()
        register[name] = {"name": name, "folder": self.harbour.name, "mark": mark, "marks": company.marks}
        marks[name] = mark
        rows = ",\n".join(f"    {json.dumps(each, ensure_ascii=False)}" for each in register.values())
        (self.folder / "harbours.json").write_text(f'{{\n  "harbours": [\n{rows}\n  ]\n}}\n', "utf-8")
        lines = "".join(f"  <harbour name={quoteattr(each)} mark={quoteattr(of)}/>\n" for each, of in marks.items())
        (self.folder / "registers").mkdir(exist_ok=True)
        (self.folder / "registers" / "marks.xml").write_text(f"<marks>\n{lines}</marks>\n", "utf-8")

    def _found(self, company: Company) -> None:
        """A new harbour on its map."""
        files = {"harbour.cfg": f"name = {self.name}\nmap = {self.version}\n"}
        files |= {f"map/sheet-{n:02}.map": f"map {self.version} sheet {n}\n{'~' * (40 + n)}\n" for n in SHEETS}
        files["sites/old-wharf.site"] = f"swept {company.seed % 7}\n"
        for addon in FIRST_MAP_ADDONS if self.version == 1 else ():
            files |= {f"addons/{addon}.cht": f"add-on {addon}\n", f"sites/{addon}.site": "swept 2\n"}
        files["session/mark.txt"] = f"mark = {next_random(company) ^ zlib.crc32(self.name.encode()):08X}\n"
        for path, text in files.items():
            (self.harbour / path).parent.mkdir(parents=True, exist_ok=True)
            (self.harbour / path).write_text(text, "utf-8")

    def _session(self) -> list[Path]:
        return [path for path in (self.harbour / "session").rglob("*") if path.is_file()]

    def _head(self) -> tuple[str, int]:
        try:
            text = (self.harbour / "harbour.cfg").read_text("utf-8")
        except OSError as error:
            raise SaveRefused("there is no harbour.cfg") from error
        found = re.fullmatch(r"name = (.+)\nmap = ([12])\n", text)
        if found is None:
            raise SaveRefused("harbour.cfg cannot be read")
        return found[1], int(found[2])

    @staticmethod
    def _mark(data: bytes) -> str:
        found = re.fullmatch(rb"mark = ([0-9A-F]{8})\n", data)
        if found is None:
            raise SaveRefused("the session has no mark")
        return found[1].decode()

    @staticmethod
    def _cache(name: str, world: bytes) -> str:
        return f"{name} {zlib.crc32(world):08x}\n"

    def _check_map(self, version: int) -> None:
        for number in SHEETS:
            path = self.harbour / "map" / f"sheet-{number:02}.map"
            first = path.read_text("utf-8").partition("\n")[0] if path.exists() else "missing"
            if first != f"map {version} sheet {number}":
                raise SaveRefused(f"{path.name} is not of map {version}: {first}")

    def _check_addons(self) -> None:
        for path in sorted((self.harbour / "sites").glob("*.site")):
            addon = self.harbour / "addons" / f"{path.stem}.cht"
            if path.stem in FIRST_MAP_ADDONS and not addon.exists():
                raise SaveRefused(f"{path.name} needs the add-on {addon.name}, which is not here")

    def _registers(self) -> tuple[dict[str, dict[str, object]], dict[str, str]]:
        register, marks = self.folder / "harbours.json", self.folder / "registers" / "marks.xml"
        try:
            rows = json.loads(register.read_text("utf-8"))["harbours"] if register.exists() else []
            lines = list(ET.fromstring(marks.read_bytes())) if marks.exists() else []
            return {row["name"]: row for row in rows}, {line.attrib["name"]: line.attrib["mark"] for line in lines}
        except (ValueError, KeyError, TypeError, ET.ParseError) as error:
            raise SaveRefused(f"a register cannot be read ({error})") from error

    def _check_registers(self, name: str, mark: str, company: Company) -> None:
        register, marks = self._registers()
        entry = register.get(name)
        if entry is None or name not in marks:
            raise SaveRefused(f"a register does not know {name}")
        if entry["folder"] != self.harbour.name:
            raise SaveRefused(f"the register has {name} in the folder {entry['folder']}")
        for what, said in (("harbours.json", entry["mark"]), ("marks.xml", marks[name])):
            if said != mark:
                raise SaveRefused(f"{what} has {name} under the mark {said}, and the session there has {mark}")
        if entry["marks"] != company.marks:
            raise SaveRefused(f"the register says {entry['marks']} marks, the session says {company.marks}")
