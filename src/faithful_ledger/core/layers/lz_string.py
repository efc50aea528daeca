"""The dictionary coder lz-string in letters, as pages keep texts with it: LZW over UTF-16 units, in codes that grow.

Codes are written with their lowest bit first, six bits a letter with the first one highest; or fifteen bits a letter
from the blank on, with a blank behind, which is here met in UTF-8. The first three codes announce a new unit of 8 bits,
one of 16 bits, and the end; the others are phrases in the order in which they were met.
The format is that of the library's public description (MIT licence); this is written from it. Inside is the text in
UTF-8.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import islice

from faithful_ledger.core.layers.stream import Allowance, Layer, Stream

__all__ = ["LZ_STRING", "STREAMS"]

LZ_STRING = "lz-string"
SHORT, LONG, END = 0, 1, 2  # a new unit of 8 bits, of 16 bits, the end
FIRST = 3  # the code of the first phrase
LETTERS = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789"
PLAIN, FOR_ADDRESSES = LETTERS + b"+/", LETTERS + b"+-"
BITS = {byte: f"{value:06b}" for letters in (PLAIN, FOR_ADDRESSES) for value, byte in enumerate(letters)}
RUN = re.compile(rb"[A-Za-z0-9+/-]++={0,3}")
BLANK, WIDE_BITS = 0x20, 15
WIDE_RUN = re.compile(
    rb"(?:[ -\x7f]|[\xc2-\xdf][\x80-\xbf]|\xe0[\xa0-\xbf][\x80-\xbf]|[\xe1-\xe7][\x80-\xbf]{2}"
    rb"|\xe8\x80[\x80-\x9f])++"
)
LOOKED_AT = 48  # bytes that show whether letters are of fifteen bits: few of them are ASCII
LONGEST = 8 << 20  # bytes
ASCII = bytes(range(128))


class LzString(Stream):
    name = LZ_STRING

    def read(self, data: bytes, offset: int, allowance: Allowance) -> Layer | None:
        looked_at = data[offset : offset + LOOKED_AT]
        is_wide = len(looked_at.translate(None, ASCII)) * 2 > len(looked_at)
        match = (WIDE_RUN if is_wide else RUN).match(data, offset, offset + LONGEST)
        run = match[0] if match is not None and match[0].isascii() is not is_wide else b""
        unpacked = len(_unpacked(run, allowance.left) or b"") if run else 0
        allowance.left -= unpacked
        return Layer(self.name, offset, len(run), unpacked) if unpacked else None

    def unpacked(self, packed: bytes, most: int) -> bytes:
        return (_unpacked(packed, most) or b"")[:most]

    def packed(self, data: bytes, old: bytes) -> bytes:
        bits, is_wide = _packed(data.decode("utf-8", "surrogatepass")), not old.isascii()
        width = WIDE_BITS if is_wide else 6
        bits += "0" * (width - len(bits) % width)
        numbers = (int(bits[at : at + width], 2) for at in range(0, len(bits), width))
        if is_wide:
            return "".join(chr(BLANK + number) for number in numbers).encode() + b" " * old.endswith(b" ")
        text = bytes(map((FOR_ADDRESSES if b"-" in old else PLAIN).__getitem__, numbers))
        is_padded = b"=" in old or (len(old) % 4 == 0 and b"-" not in old)
        return text + b"=" * (-len(text) % 4) if is_padded else text


def _unpacked(packed: bytes, most: int) -> bytes | None:
    """The text in UTF-8; None where a code is not one, the end is missing, or something follows it."""
    codes = _Codes(packed)
    phrases: list[str] = [""] * FIRST  # by their codes
    before, parts, size = "", [], 0
    while (code := codes.take(len(phrases).bit_length())) != END:
        if code in (SHORT, LONG):
            unit = codes.take(16 if code else 8)
            if unit is None:
                return None
            entry = chr(unit)
            phrases.append(entry)
        elif code is not None and code < len(phrases):
            entry = phrases[code]
        elif code == len(phrases) and before:
            entry = before + before[0]
        else:
            return None
        if before:
            phrases.append(before + entry[0])
        parts.append(entry)
        size += len(entry)
        if size > most:
            return None
        before = entry
    if not codes.are_at_end():
        return None
    units = "".join(parts).encode("utf-16-le", "surrogatepass")
    return units.decode("utf-16-le", "surrogatepass").encode("utf-8", "surrogatepass")


class _Codes:
    """The bits of letters, taken as they are needed: most letters that could be such a text are none after a few."""

    def __init__(self, packed: bytes) -> None:
        self._bits = ""
        if packed.isascii() and not packed.rstrip(b"=").translate(None, bytes(BITS)):
            self._letters = (BITS[letter] for letter in packed.rstrip(b"="))
            self._most_left = 6
        else:
            self._letters = (f"{ord(letter) - BLANK:0{WIDE_BITS}b}" for letter in packed.decode())
            self._most_left = 2 * WIDE_BITS

    def take(self, width: int) -> int | None:
        """The next number of so many bits, the lowest first; None where the letters end before."""
        while len(self._bits) < width:
            letter = next(self._letters, None)
            if letter is None:
                return None
            self._bits += letter
        taken, self._bits = self._bits[:width], self._bits[width:]
        return int(taken[::-1], 2)

    def are_at_end(self) -> bool:
        """Whether only zeros are left, of the last letter or of one more, and a blank behind wide ones."""
        left = self._bits + "".join(islice(self._letters, 3))
        return len(left) <= self._most_left and "1" not in left


def _packed(text: str) -> str:
    """The codes of a text, as zeros and ones."""
    codes: dict[str, int] = {}
    announced: set[str] = set()
    written: list[str] = []
    known, phrase = FIRST, ""  # how many codes a reader knows, one phrase later than they are given

    def write(number: int, width: int) -> None:
        written.append(f"{number:0{width}b}"[::-1])

    def end_phrase() -> None:
        nonlocal known
        if len(phrase) == 1 and phrase not in announced:
            announced.add(phrase)
            kind = SHORT if ord(phrase) < 256 else LONG
            write(kind, known.bit_length())
            write(ord(phrase), 16 if kind else 8)
            known += 1
        else:
            write(codes[phrase], known.bit_length())
        known += len(written) > 2  # the first unit is written in two parts, and has nothing before it

    for unit in _units(text):
        codes.setdefault(unit, FIRST + len(codes))
        if phrase + unit in codes:
            phrase += unit
        else:
            end_phrase()
            codes[phrase + unit] = FIRST + len(codes)
            phrase = unit
    if phrase:
        end_phrase()
    write(END, known.bit_length())
    return "".join(written)


def _units(text: str) -> Iterator[str]:
    """The UTF-16 units of a text, each as a letter."""
    return map(chr, memoryview(text.encode("utf-16-le", "surrogatepass")).cast("H"))


STREAMS: tuple[Stream, ...] = (LzString(),)
