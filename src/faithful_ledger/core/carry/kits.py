"""Kits: values of chosen fields as a small file, or as one line of text to paste. A kit never holds a save.

The file is JSON. The line is the same, deflated, in base64 for addresses, with its CRC-32 behind it, so that one that
was cut off on its way is noticed.
"""

from __future__ import annotations

import base64
import binascii
import json
import zlib
from pathlib import Path
from typing import Any, NamedTuple

from faithful_ledger.core.carry.values import Carried
from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.source import read_whole

__all__ = ["LINE", "Kit", "kit_of_text", "read_kit"]

VERSION = 1
LINE = "ledger-kit1."  # what a line begins with
LARGEST, MOST_VALUES, LONGEST = 1 << 20, 10_000, 4000
UNTOUCHED = "nothing was changed; ask for it again"


class Kit(NamedTuple):
    """Values, the game they are of, and the template by which they were taken."""

    game: str
    template: str
    values: tuple[Carried, ...]

    def document(self) -> dict[str, Any]:
        values = [{key: part for key, part in each._asdict().items() if part} for each in self.values]
        return {"kit": VERSION, "game": self.game, "template": self.template, "values": values}

    def file(self) -> bytes:
        """The kit as a file."""
        return json.dumps(self.document(), ensure_ascii=False, indent=1).encode() + b"\n"

    def line(self) -> str:
        """The kit as one line of text."""
        data = json.dumps(self.document(), ensure_ascii=False, separators=(",", ":")).encode()
        packed = base64.urlsafe_b64encode(zlib.compress(data, 9)).decode().rstrip("=")
        return f"{LINE}{packed}.{zlib.crc32(data):08x}"


def read_kit(path: Path) -> Kit:
    """A kit from its file.

    Raises:
        LedgerError: it cannot be read, or is not a kit.
    """
    if path.is_file() and path.stat().st_size > LARGEST:
        raise EntryError(f"{path} is larger than a kit can be ({LARGEST >> 20} MiB)", UNTOUCHED)
    data = read_whole(path)[0]
    try:
        return kit_of_text(data.decode("utf-8-sig"), str(path))
    except UnicodeDecodeError as error:
        raise EntryError(f"{path} is not a kit", UNTOUCHED) from error


def kit_of_text(text: str, name: str = "the text") -> Kit:
    """A kit from its line, or from what is in its file.

    Raises:
        EntryError: it is not a kit, or was cut off.
    """
    found = text.strip()
    if found.startswith(LINE):
        found = _unpacked("".join(found.removeprefix(LINE).split()))
    try:
        document = json.loads(found)
    except (ValueError, RecursionError) as error:
        raise EntryError(f"{name} is not a kit", UNTOUCHED) from error
    if not isinstance(document, dict) or not isinstance(document.get("values"), list):
        raise EntryError(f"{name} is not a kit", UNTOUCHED)
    if document.get("kit") != VERSION:
        what = f"{name} is a kit of version {str(document.get('kit'))[:20]}, and only {VERSION} is known here"
        raise EntryError(what, "nothing was changed; a newer program may read it")
    values = document["values"]
    if len(values) > MOST_VALUES:
        raise EntryError(f"{name} has more than {MOST_VALUES} values", UNTOUCHED)
    return Kit(
        str(document.get("game", ""))[:LONGEST],
        str(document.get("template", ""))[:LONGEST],
        tuple(_value(each, number, name) for number, each in enumerate(values)),
    )


def _value(given: Any, number: int, name: str) -> Carried:
    known = given if isinstance(given, dict) else {}
    parts = {key: known.get(key, "") for key in Carried._fields}
    fits = all(isinstance(part, str) and len(part) <= LONGEST for part in parts.values())
    if not fits or not parts["path"] or not parts["name"]:
        raise EntryError(f"value {number + 1} of {name} lacks its path, or is not one", UNTOUCHED)
    return Carried(**parts)


def _unpacked(packed: str) -> str:
    cut = EntryError("the line of the kit is not complete", "nothing was changed; copy all of it, to its last letter")
    body, _, check = packed.rpartition(".")
    try:
        unpacking = zlib.decompressobj()
        data = unpacking.decompress(base64.urlsafe_b64decode(body + "=" * (-len(body) % 4)), LARGEST)
        if f"{zlib.crc32(data):08x}" != check.casefold() or not unpacking.eof:
            raise cut
        return data.decode("utf-8")
    except (ValueError, binascii.Error, zlib.error) as error:
        raise cut from error
