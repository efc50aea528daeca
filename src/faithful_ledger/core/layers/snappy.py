"""Snappy without a frame: the size of the content, then new bytes and matches in turns until that is reached (Snappy
compressed format description, format_description.txt). It has no mark.
"""

from __future__ import annotations

from collections.abc import Iterable

from faithful_ledger.core.layers.matching import Match, MatchedStream, copy_back, copy_new
from faithful_ledger.core.layers.stream import Stream

__all__ = ["STREAMS"]

SHORT = 60


class Snappy(MatchedStream):
    name = "snappy"
    window, longest = (1 << 16) - 1, 64  # so that every match has an offset of two bytes

    def decoded(self, data: bytes, at: int, most: int, out: bytearray) -> int:
        whole, at = _size(data, at)
        while len(out) < min(whole, most):
            code = data[at]
            at += 1
            kind, number = code & 3, code >> 2
            if kind == 0:
                if number >= SHORT:
                    width = number - SHORT + 1
                    number, at = int.from_bytes(data[at : at + width], "little"), at + width
                at = copy_new(out, data, at, number + 1)
            elif kind == 1:
                copy_back(out, (code >> 5) << 8 | data[at], (number & 7) + 4)
                at += 1
            else:
                width = 2 if kind == 2 else 4
                copy_back(out, int.from_bytes(data[at : at + width], "little"), number + 1)
                at += width
        if len(out) > whole or at > len(data):
            raise ValueError("the stream unpacks to more than it says")
        return at

    def coded(self, data: bytes, found: Iterable[Match]) -> bytes:
        out, size = bytearray(), len(data)
        while size > 127:
            out.append(size & 127 | 128)
            size >>= 7
        out.append(size)
        for match in found:
            _put_new(out, data[match.start : match.end])
            if match.size:
                _put_match(out, match.back, match.size)
        return bytes(out)


STREAMS: tuple[Stream, ...] = (Snappy(),)


def _size(data: bytes, at: int) -> tuple[int, int]:
    """The size of the content, seven bits in each byte, the lowest first; and where it ends."""
    size = shift = 0
    while True:
        byte = data[at]
        size, shift, at = size | (byte & 127) << shift, shift + 7, at + 1
        if byte < 128:
            return size, at
        if shift > 28:
            raise ValueError("the size has more than 32 bits")


def _put_new(out: bytearray, new: bytes) -> None:
    count = len(new) - 1
    if count < 0:
        return
    if count < SHORT:
        out.append(count << 2)
    else:
        width = (count.bit_length() + 7) // 8
        out.append((SHORT + width - 1) << 2)
        out += count.to_bytes(width, "little")
    out += new


def _put_match(out: bytearray, back: int, size: int) -> None:
    if size < 12 and back < 1 << 11:
        out += bytes(((back >> 8) << 5 | (size - 4) << 2 | 1, back & 255))
    else:
        out.append((size - 1) << 2 | 2)
        out += back.to_bytes(2, "little")
