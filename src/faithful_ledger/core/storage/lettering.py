"""Letters under bytes: any of Python's encodings, or a table of the user's own.

A table is a small text file, a letter a line: the bytes in hexadecimal, an equals sign, the letter (`8241=あ`, `0A=A`).
Lines that begin with # are notes.
"""

from __future__ import annotations

import codecs
import re
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path

from faithful_ledger.core.errors import LedgerError, ValueRefused
from faithful_ledger.core.source import read_whole

__all__ = ["Lettering", "lettering", "visible"]

LONGEST = 4  # bytes a letter takes
LARGEST_TABLE = 1 << 20
LINE = re.compile(r"((?:[0-9A-Fa-f]{2}){1,4})=(.{1,16})")


class Lettering:
    """Called with bytes, it gives the letter of every byte: at the first byte of each letter, else an empty text.

    `letter` reads bytes of one letter, which takes at least `least`; `spell` gives the bytes of a letter, or None.
    """

    def __init__(self, letter: Callable[[bytes], str], spell: Callable[[str], bytes | None], least: int) -> None:
        self.spell = spell
        self._letter, self._least = letter, least

    def __call__(self, data: bytes) -> list[str]:
        found = [""] * len(data)
        at = 0
        while at < len(data):
            for size in range(self._least, LONGEST + 1):
                if at + size <= len(data) and (text := self._letter(data[at : at + size])):
                    found[at] = text
                    at += size
                    break
            else:
                at += self._least
        return found


def lettering(name: str) -> Lettering:
    """The letters of an encoding, by its name, or of a table, by its path.

    Raises:
        ValueRefused: Python has no such encoding, and there is no such table, or it has a mistake.
    """
    try:
        codec = codecs.lookup(name)
    except (LookupError, ValueError):
        codec = None
    if codec is not None and codec._is_text_encoding:
        return _by_codec(codec.name)
    path = Path(name).expanduser()
    if not path.is_file():
        raise ValueRefused(
            f"“{name[:60]}” is neither an encoding nor a table", "write cp1252, shift_jis, or a table's path"
        )
    return _by_table(path)


def _by_codec(name: str) -> Lettering:
    @lru_cache(maxsize=4096)
    def letter(raw: bytes) -> str:
        try:
            text = raw.decode(name)
        except (UnicodeError, ValueError):
            return ""
        return text if len(text) == 1 and text.isprintable() and not text.isspace() else ""

    def spell(text: str) -> bytes | None:
        try:
            return text.encode(name)
        except (UnicodeError, ValueError):
            return None

    return Lettering(letter, spell, 2 if name.startswith(("utf-16", "utf_16")) else 1)


def _by_table(path: Path) -> Lettering:
    letters: dict[bytes, str] = {}
    try:
        data, _ = read_whole(path)
        lines = data[:LARGEST_TABLE].decode("utf-8-sig").splitlines()
    except (LedgerError, UnicodeDecodeError) as error:
        raise ValueRefused(f"the table {path.name} cannot be read", "it is a text in UTF-8") from error
    for number, line in enumerate(lines, 1):
        if not line.strip() or line.startswith("#"):
            continue
        match = LINE.fullmatch(line.rstrip("\r"))
        if match is None:
            raise ValueRefused(f"the table {path.name}, line {number}: “{line[:30]}”", "write bytes=letter, as 0A=A")
        letters[bytes.fromhex(match[1])] = match[2]
    spelled = {text: raw for raw, text in reversed(letters.items())}
    return Lettering(lambda raw: letters.get(raw, ""), spelled.get, 1)


def visible(text: str) -> str:
    """A text with a dot for each character that no screen shows."""
    return "".join(letter if letter.isprintable() or letter in "\n\t" else "·" for letter in text)
