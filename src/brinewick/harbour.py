"""The folder a company's saves lie in: slots, the account that repeats part of them, options, and a cached index.

harbour.bwk, harbour-2.bwk, …   one slot each; the slot's number is in the name and inside
account.json                    a line for each slot, with the marks and the company's name once more
options.cfg                     what the player set; never checked against the saves
slots.idx                       a cache of the slots' checksums; the game makes it anew when it is missing
"""

from __future__ import annotations

import json
import re
import zlib
from pathlib import Path

from brinewick import desktop
from brinewick.company import Company, SaveRefused

INDEX_MAGIC = b"BWKIDX\n"
OPTIONS = "lamp_light = 7\nbell_sound = on\nshow_tides = yes\n"


class Harbour:
    """The saves in one folder. Loading checks everything; saving writes slot, account and index."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def slot_path(self, slot: int) -> Path:
        return self.folder / ("harbour.bwk" if slot == 1 else f"harbour-{slot}.bwk")

    @property
    def account_path(self) -> Path:
        return self.folder / "account.json"

    @property
    def index_path(self) -> Path:
        return self.folder / "slots.idx"

    def load(self, slot: int) -> Company:
        """Raises SaveRefused when the slot, the account or the index is not as the game left it."""
        path = self.slot_path(slot)
        try:
            data = path.read_bytes()
        except OSError as error:
            raise SaveRefused(f"there is no save in slot {slot}") from error
        company = desktop.parse(data)
        if company.slot != slot:
            raise SaveRefused(f"{path.name} says it belongs in slot {company.slot}")
        self._check_account(company)
        self._check_index(slot, data)
        return company

    def save(self, company: Company) -> None:
        data = desktop.build(company)
        self.folder.mkdir(parents=True, exist_ok=True)
        account = self._read_account() if self.account_path.exists() else {}
        account[company.slot] = (company.name, company.marks, company.date)
        self.slot_path(company.slot).write_bytes(data)
        self.account_path.write_text(account_text(account), "utf-8")
        index = self._read_index()
        index[company.slot] = zlib.crc32(data)
        lines = "".join(f"{slot} {crc:08x}\n" for slot, crc in sorted(index.items()))
        self.index_path.write_bytes(INDEX_MAGIC + lines.encode())
        options = self.folder / "options.cfg"
        if not options.exists():
            options.write_text(OPTIONS, "utf-8")

    def _check_account(self, company: Company) -> None:
        account = self._read_account()
        if company.slot not in account:
            raise SaveRefused(f"the account knows no slot {company.slot}")
        name, marks, _ = account[company.slot]
        if marks != company.marks:
            raise SaveRefused(f"the account says {marks} marks, the save says {company.marks}")
        if name != company.name:
            raise SaveRefused(f"the account belongs to {name!r}, the save to {company.name!r}")

    def _read_account(self) -> dict[int, tuple[str, int, str]]:
        try:
            text = self.account_path.read_text("utf-8")
            document = json.loads(text, parse_float=whole_marks, parse_int=str)
            lines = {int(line["slot"]): (line["company"], line["marks"], line["day"]) for line in document["slots"]}
        except (OSError, ValueError, KeyError, TypeError, RecursionError) as error:
            raise SaveRefused(f"the account cannot be read ({error})") from error
        if any(not isinstance(marks, int) for _, marks, _ in lines.values()):
            raise SaveRefused("the account cannot be read (marks are written with two decimals)")
        return lines

    def _read_index(self) -> dict[int, int]:
        if not self.index_path.exists():
            return {}
        data = self.index_path.read_bytes()
        if not data.startswith(INDEX_MAGIC):
            raise SaveRefused("the index of slots cannot be read")
        rows = [line.split() for line in data[len(INDEX_MAGIC) :].decode("ascii", "replace").splitlines()]
        try:
            return {int(slot): int(crc, 16) for slot, crc in rows}
        except ValueError as error:
            raise SaveRefused("the index of slots cannot be read") from error

    def _check_index(self, slot: int, data: bytes) -> None:
        index = self._read_index()
        if slot in index and index[slot] != zlib.crc32(data):
            raise SaveRefused("the cached index knows another save in this slot: the save was changed from outside")


def whole_marks(spelled: str) -> int:
    """Marks as the account spells them: a whole number with two decimals, "1340.00"."""
    if not re.fullmatch(r"\d+\.00", spelled):
        raise ValueError(f"marks spelled {spelled}")
    return int(spelled[:-3])


def account_text(account: dict[int, tuple[str, int, str]]) -> str:
    """The account in the game's own hand: three blanks, a blank before each colon, two decimals, escapes for å."""
    rows = ",\n".join(
        f'      {{ "slot" :{slot}, "company" :{json.dumps(name)}, "marks" :{marks}.00, "day" :"{day}" }}'
        for slot, (name, marks, day) in sorted(account.items())
    )
    return f'{{\n   "what" :"brinewick account",\n   "style" :2,\n   "slots" :[\n{rows}\n   ]\n}}\n'
