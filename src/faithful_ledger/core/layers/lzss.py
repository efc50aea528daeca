"""LZSS: a flag for each of the next eight, whether it is a new byte or two bytes that name a match (Storer and
Szymanski, 1982). It has no mark and no end of its own: a stream ends where what holds it ends.

`lzss` and `lzss-zeros` are those of Okumura's LZSS.C (1989), whose matches are places in a ring of 4096 bytes, filled
with blanks or with zeros before it begins. In `lzss-back` and `lzss-long`, as consoles have them, a match says how far
it goes back; in the second one a third byte says the size of what is longer.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable

from faithful_ledger.core.layers.matching import Match, MatchedStream, copy_back
from faithful_ledger.core.layers.stream import Stream

__all__ = ["STREAMS"]

FLAGS, SHORTEST = 8, 3
RING, FIRST, FILLED = 4096, 0xFEE, 18  # bytes, where the first one goes, and bytes in front of it that may be matched
LONGEST, LONGEST_LONG, IN_THIRD = 18, 273, 18


class Lzss(MatchedStream):
    """Flags begin with the `highest` bit or with the lowest; `new` is the flag of a new byte."""

    has_end = False
    window, longest, shortest = RING - FILLED, LONGEST, SHORTEST
    highest = False
    new = 1

    @abstractmethod
    def match_at(self, data: bytes, at: int, made: int) -> tuple[int, int, int]:
        """How far a match goes back and how many bytes it has, and where it ends, when so many bytes are there."""

    @abstractmethod
    def spelled(self, match: Match, made: int) -> bytes:
        """The bytes of a match."""

    def decoded(self, data: bytes, at: int, most: int, out: bytearray) -> int:
        while at < len(data) and len(out) < most:
            flags, at = data[at], at + 1
            for number in range(FLAGS):
                if at >= len(data) or len(out) >= most:
                    break
                flag = flags >> (7 - number if self.highest else number) & 1
                if flag == self.new:
                    out.append(data[at])
                    at += 1
                else:
                    back, size, at = self.match_at(data, at, len(out))
                    self.copy(out, back, size)
        return at

    def copy(self, out: bytearray, back: int, size: int) -> None:
        copy_back(out, back, size)

    def coded(self, data: bytes, found: Iterable[Match]) -> bytes:
        out, held = bytearray(), bytearray()
        flags = count = 0
        for match in found:
            for number in range(match.start, match.end + bool(match.size)):
                is_new = number < match.end
                held += data[number : number + 1] if is_new else self.spelled(match, match.end)
                flags |= (self.new if is_new else 1 - self.new) << (7 - count if self.highest else count)
                count += 1
                if count == FLAGS:
                    out.append(flags)
                    out += held
                    held.clear()
                    flags = count = 0
        if count:
            out.append(flags)
            out += held
        return bytes(out)


class Ringed(Lzss):
    """Okumura's: the place in the ring in twelve bits, of which the last four are above the size."""

    def __init__(self, name: str, fill: bytes) -> None:
        self.name, self.fill = name, fill

    def match_at(self, data: bytes, at: int, made: int) -> tuple[int, int, int]:
        place, size = data[at] | (data[at + 1] & 0xF0) << 4, (data[at + 1] & 15) + SHORTEST
        return (FIRST + made - place - 1) % RING + 1, size, at + 2

    def copy(self, out: bytearray, back: int, size: int) -> None:
        """Raises ValueError for what is so far in front of the beginning that no packer would name it."""
        before = back - len(out)
        if before > FILLED:
            raise ValueError("a match goes back further than there is something")
        if before > 0:
            filled = min(before, size)
            out += self.fill * filled
            size -= filled
            back = len(out) if size else back
        if size:
            copy_back(out, back, size)

    def spelled(self, match: Match, made: int) -> bytes:
        place = (FIRST + made - match.back) % RING
        return bytes((place & 255, place >> 4 & 0xF0 | match.size - SHORTEST))


class Backward(Lzss):
    """The size in the four highest bits, and how far it goes back in twelve."""

    name = "lzss-back"
    window, highest, new = RING, True, 0

    def match_at(self, data: bytes, at: int, made: int) -> tuple[int, int, int]:
        return ((data[at] & 15) << 8 | data[at + 1]) + 1, (data[at] >> 4) + SHORTEST, at + 2

    def spelled(self, match: Match, made: int) -> bytes:
        back = match.back - 1
        return bytes((match.size - SHORTEST << 4 | back >> 8, back & 255))


class Long(Backward):
    """The same, where the size begins at two, and without one a third byte says it."""

    name = "lzss-long"
    longest, new = LONGEST_LONG, 1

    def match_at(self, data: bytes, at: int, made: int) -> tuple[int, int, int]:
        back = ((data[at] & 15) << 8 | data[at + 1]) + 1
        if size := data[at] >> 4:
            return back, size + 2, at + 2
        return back, data[at + 2] + IN_THIRD, at + 3

    def spelled(self, match: Match, made: int) -> bytes:
        back = match.back - 1
        if match.size < IN_THIRD:
            return bytes((match.size - 2 << 4 | back >> 8, back & 255))
        return bytes((back >> 8, back & 255, match.size - IN_THIRD))


STREAMS: tuple[Stream, ...] = (Ringed("lzss", b" "), Ringed("lzss-zeros", b"\0"), Backward(), Long())
