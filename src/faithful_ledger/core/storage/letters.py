"""A character set of a game's own, as a template writes it down: a byte for each letter, or for a few letters together.

Bytes that are not letters are shown, and typed, as their number in braces: {9F}. So every text reads back to its bytes.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

__all__ = ["Letters"]

NUMBERED = re.compile(r"\{([0-9A-Fa-f]{2})\}")


class Letters:
    """Stands in for the name of an encoding. `names` gives letters by byte; of two bytes with one letter the first is
    written.
    """

    def __init__(self, name: str, names: Mapping[int, str]) -> None:
        self.name = name
        self.by_byte = {code: letter for code, letter in names.items() if letter}
        self.by_letter: dict[str, int] = {}
        for code, letter in sorted(self.by_byte.items()):
            self.by_letter.setdefault(letter, code)
        self._longest = max(map(len, self.by_letter), default=1)

    def __str__(self) -> str:
        return self.name

    def decode(self, raw: bytes) -> str:
        return "".join(self.by_byte.get(byte, f"{{{byte:02X}}}") for byte in raw)

    def encode(self, text: str) -> bytes:
        """Raises UnicodeEncodeError where a letter is none of them."""
        found = bytearray()
        at = 0
        while at < len(text):
            for size in range(min(self._longest, len(text) - at), 0, -1):
                code = self.by_letter.get(text[at : at + size])
                if code is not None:
                    found.append(code)
                    at += size
                    break
            else:
                match = NUMBERED.match(text, at)
                if match is None:
                    raise UnicodeEncodeError(self.name, text, at, at + 1, "no such letter")
                found.append(int(match[1], 16))
                at = match.end()
        return bytes(found)
