"""Bytes listed as numbers in a text, as in `[66, 82, 255]`, also as signed ones. A list has no mark: Profile looks for
long ones whose bytes show what they are.
"""

from __future__ import annotations

import re
from collections import Counter
from itertools import chain, repeat

from faithful_ledger.core.layers.stream import Allowance, Layer, Stream

__all__ = ["NUMBER_LIST", "STREAMS"]

NUMBER_LIST = "number-list"
NUMBER, BETWEEN = rb"(?:0|-?[1-9][0-9]{0,2})", rb"(?:[ \t\r\n]*+[,;][ \t\r\n]*+|[ \t\r\n]++)"
LIST = re.compile(rb"%b(?:%b%b(?![0-9.eE]))++" % (NUMBER, BETWEEN, NUMBER))
NUMBERS, BETWEENS = re.compile(rb"-?[0-9]+"), re.compile(rb"[^-0-9]+")


class NumberList(Stream):
    name = NUMBER_LIST

    def read(self, data: bytes, offset: int, allowance: Allowance) -> Layer | None:
        match = LIST.match(data, offset)
        if match is None:
            return None
        allowance.left -= len(match[0])
        numbers = _numbers(match[0])
        if allowance.left < 0 or not all(-128 <= number < 256 for number in numbers):
            return None
        if min(numbers) < 0 and max(numbers) >= 128:
            return None
        return Layer(self.name, offset, len(match[0]), len(numbers))

    def unpacked(self, packed: bytes, most: int) -> bytes:
        return bytes(number & 255 for number in _numbers(packed)[:most])

    def packed(self, data: bytes, old: bytes) -> bytes:
        """With the blanks of the old list, and signed where that is."""
        is_signed = min(_numbers(old)) < 0
        between = BETWEENS.findall(old)
        usual = Counter(between).most_common(1)[0][0]
        parts = [b"%d" % (byte - 256 if is_signed and byte >= 128 else byte) for byte in data]
        blanks = chain((b"",), between, repeat(usual))
        return b"".join(blank + part for blank, part in zip(blanks, parts, strict=False))


def _numbers(text: bytes) -> list[int]:
    return list(map(int, NUMBERS.findall(text)))


STREAMS: tuple[Stream, ...] = (NumberList(),)
