"""Text in the letters that an address may hold (RFC 3986, 2.1): what begins JSON or XML, then letters, and all others
as `%` and two hexadecimal digits of their UTF-8; also with `+` for a blank.
"""

from __future__ import annotations

import re

from faithful_ledger.core.layers.stream import Allowance, Layer, Stream

__all__ = ["PERCENT", "STREAMS"]

PERCENT = "percent"
RUN = re.compile(rb"(?:[A-Za-z0-9_.!~*'()@+/:,;-]|%[0-9A-Fa-f]{2})++")
ESCAPE = re.compile(rb"%([0-9A-Fa-f]{2})")
ALWAYS_PLAIN = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_.-")
MAYBE_PLAIN = b"!~*'()@+/:,;"
USUALLY_PLAIN = frozenset(b"!~*'()")  # as browsers leave them
CLOSING = (b"%7D", b"%5D", b"%3E")
LEAST = 32  # bytes
BLANK, PLUS = 0x20, 0x2B


class Percent(Stream):
    name = PERCENT
    marks = (b"%7B%22", b"%7b%22", b"%5B", b"%5b", b"%3C", b"%3c")

    def read(self, data: bytes, offset: int, allowance: Allowance) -> Layer | None:
        match = RUN.match(data, offset) if data.startswith(self.marks, offset) else None
        if match is None:
            return None
        allowance.left -= len(match[0])  # whether it comes to an end or not
        size = max(match[0].upper().rfind(closing) for closing in CLOSING) + len(CLOSING[0])
        if size < LEAST or allowance.left < 0:
            return None
        return Layer(self.name, offset, size, len(_unescaped(match[0][:size])))

    def unpacked(self, packed: bytes, most: int) -> bytes:
        return _unescaped(packed)[:most]

    def packed(self, data: bytes, old: bytes) -> bytes:
        """With the letters escaped that are so in the old text, in digits of its case."""
        escapes = set(ESCAPE.findall(old))
        form = "%%%02x" if any(digits != digits.upper() for digits in escapes) else "%%%02X"
        letters = [form % byte for byte in range(256)]
        escaped = {int(digits, 16) for digits in escapes}
        plain = {byte for byte in MAYBE_PLAIN if byte in ESCAPE.sub(b"", old)}
        blank = PLUS in plain and BLANK not in escaped
        for byte in {*ALWAYS_PLAIN, *plain, *(USUALLY_PLAIN - escaped)} - ({PLUS} if blank else set()):
            letters[byte] = chr(byte)
        letters[BLANK] = "+" if blank else letters[BLANK]
        return "".join(map(letters.__getitem__, data)).encode()


def _unescaped(packed: bytes) -> bytes:
    """A `+` is a blank where no blank is escaped."""
    text = packed if b"%20" in packed else packed.replace(b"+", b" ")
    return ESCAPE.sub(lambda escape: bytes([int(escape[1], 16)]), text)


STREAMS: tuple[Stream, ...] = (Percent(),)
