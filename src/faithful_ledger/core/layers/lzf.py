"""LZF: runs of new bytes and matches in turns (liblzf, lzf_d.c). It has no mark and no end of its own: a stream ends
where what holds it ends.
"""

from __future__ import annotations

from collections.abc import Iterable

from faithful_ledger.core.layers.matching import Match, MatchedStream, copy_back, copy_new
from faithful_ledger.core.layers.stream import Stream

__all__ = ["STREAMS"]

MOST_NEW, SIZE_GOES_ON = 32, 7
WINDOW, LONGEST = 1 << 13, 264


class Lzf(MatchedStream):
    name = "lzf"
    has_end = False
    window, longest, shortest = WINDOW, LONGEST, 3

    def decoded(self, data: bytes, at: int, most: int, out: bytearray) -> int:
        while at < len(data) and len(out) < most:
            code, at = data[at], at + 1
            if code < MOST_NEW:
                at = copy_new(out, data, at, code + 1)
                continue
            size = code >> 5
            if size == SIZE_GOES_ON:
                size, at = size + data[at], at + 1
            copy_back(out, ((code & 31) << 8 | data[at]) + 1, size + 2)
            at += 1
        return at

    def coded(self, data: bytes, found: Iterable[Match]) -> bytes:
        out = bytearray()
        for match in found:
            for start in range(match.start, match.end, MOST_NEW):
                new = data[start : min(start + MOST_NEW, match.end)]
                out.append(len(new) - 1)
                out += new
            if match.size:
                back, size = match.back - 1, match.size - 2
                out.append(min(size, SIZE_GOES_ON) << 5 | back >> 8)
                out += bytes((size - SIZE_GOES_ON,)) if size >= SIZE_GOES_ON else b""
                out.append(back & 255)
        return bytes(out)


STREAMS: tuple[Stream, ...] = (Lzf(),)
