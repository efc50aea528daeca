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
from typing import TypeAlias

from faithful_ledger.core.errors import LedgerError, ValueRefused
from faithful_ledger.core.source import read_whole

__all__ = ["Lettering", "lettering"]

Lettering: TypeAlias = Callable[[bytes], list[str]]
LONGEST = 4  # bytes a letter takes
LARGEST_TABLE = 1 << 20
LINE = re.compile(r"((?:[0-9A-Fa-f]{2}){1,4})=(.{1,16})")


def lettering(name: str) -> Lettering:
    """What gives the letter of every byte, by an encoding's name or a table's path.

    The letter stands at its first byte; bytes that begin none have an empty text.

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
        raise ValueRefused(f"“{name[:60]}” is no encoding and no table", "write cp1252, shift_jis, or a table's path")
    return _by_table(path)


def _by_codec(name: str) -> Lettering:
    @lru_cache(maxsize=4096)
    def letter(raw: bytes) -> str:
        try:
            text = raw.decode(name)
        except (UnicodeError, ValueError):
            return ""
        return text if len(text) == 1 and text.isprintable() and not text.isspace() else ""

    return lambda data: _letters(data, letter, 2 if name.startswith(("utf-16", "utf_16")) else 1)


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
    return lambda data: _letters(data, lambda raw: letters.get(raw, ""), 1)


def _letters(data: bytes, letter: Callable[[bytes], str], least: int) -> list[str]:
    found = [""] * len(data)
    at = 0
    while at < len(data):
        for size in range(least, LONGEST + 1):
            if at + size <= len(data) and (text := letter(data[at : at + size])):
                found[at] = text
                at += size
                break
        else:
            at += least
    return found
