"""LZO1X: matches and new bytes in turns, to a mark at the end ("LZO stream format as understood by Linux' LZO
decompressor", Documentation/staging/lzo.rst). It has no mark at its beginning.
"""

from __future__ import annotations

from collections.abc import Iterable

from faithful_ledger.core.layers.matching import Match, MatchedStream, copy_back, copy_new
from faithful_ledger.core.layers.stream import Stream

__all__ = ["STREAMS"]

END = b"\x11\0\0"
NEAR, MIDDLE, FAR = 0x800, 0x4000, 0xBFFF  # bytes that the three kinds of matches go back at most
FIRST_LITERALS, LONGEST_SHORT = 238, 8
MOST_ZEROS = 1 << 16  # of a length that goes on


class Lzo(MatchedStream):
    name = "lzo"
    window, longest = FAR, 1 << 16
    mark = END

    def decoded(self, data: bytes, at: int, most: int, out: bytearray) -> int:
        state = 0  # how many new bytes were copied last, 4 for all that are more than three
        if data[at] > 17:
            count = data[at] - 17
            at, state = copy_new(out, data, at + 1, count), min(count, 4)
        while len(out) < most:
            code = data[at]
            at += 1
            if code < 16 and not state:
                count, at = _counted(data, at, code, 15)
                at, state = copy_new(out, data, at, min(count + 3, most)), 4
                continue
            if code < 16:
                back, size = (data[at] << 2) + (code >> 2) + 1, 2
                if state == 4:
                    back, size = back + NEAR, 3
                state, at = code & 3, at + 1
            elif code < 64:
                is_far = code < 32
                size, at = _counted(data, at, code & 7, 7) if is_far else _counted(data, at, code & 31, 31)
                tail = data[at] | data[at + 1] << 8
                back, size, state, at = (tail >> 2) + 1, size + 2, tail & 3, at + 2
                if is_far:
                    back += MIDDLE - 1 + ((code & 8) << 11)
                    if back == MIDDLE:
                        return at
            else:
                size = (code >> 5) + 1
                back, state, at = (data[at] << 3) + (code >> 2 & 7) + 1, code & 3, at + 1
            copy_back(out, back, min(size, most - len(out)))
            at = copy_new(out, data, at, state)
        return at

    def coded(self, data: bytes, found: Iterable[Match]) -> bytes:
        out = bytearray()
        for match in found:
            _put_new(out, data[match.start : match.end])
            if match.size:
                _put_match(out, match)
        return bytes(out + END)


STREAMS: tuple[Stream, ...] = (Lzo(),)


def _counted(data: bytes, at: int, number: int, most: int) -> tuple[int, int]:
    """A length that is zero where it goes on in further bytes, of which all but the last are zero."""
    if number:
        return number, at
    ahead = data[at : at + MOST_ZEROS]
    zeros = len(ahead) - len(ahead.lstrip(b"\0"))
    at += zeros
    return most + 255 * zeros + data[at], at + 1


def _put_new(out: bytearray, new: bytes) -> None:
    """New bytes: up to three belong to the match before."""
    count = len(new)
    if not out and 0 < count <= FIRST_LITERALS:
        out.append(17 + count)
    elif out and count <= 3:
        out[-2] |= count
    elif count:
        _put_counted(out, 0, count - 3, 15)
    out += new


def _put_match(out: bytearray, match: Match) -> None:
    back, size = match.back - 1, match.size
    if size <= LONGEST_SHORT and match.back <= NEAR:
        out += bytes(((size - 1) << 5 | (back & 7) << 2, back >> 3))
        return
    if match.back <= MIDDLE:
        _put_counted(out, 32, size - 2, 31)
    else:
        back = match.back - MIDDLE
        _put_counted(out, 16 | (back >> 14) << 3, size - 2, 7)
    out += ((back & 0x3FFF) << 2).to_bytes(2, "little")


def _put_counted(out: bytearray, code: int, number: int, most: int) -> None:
    """A code with a length, which goes on in further bytes where it has no room."""
    if number <= most:
        out.append(code | number)
        return
    zeros, last = divmod(number - most - 1, 255)
    out.append(code)
    out += bytes(zeros)
    out.append(last + 1)
