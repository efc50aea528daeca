"""PackBits: runs of one byte, and bytes as they are (TIFF 6.0, section 9). It has no mark and no end of
its own: a stream ends where what holds it ends.
"""

from __future__ import annotations

import re

from faithful_ledger.core.layers.stream import Allowance, Layer, Stream

__all__ = ["STREAMS"]

NOTHING, MOST = 128, 128
RUN = re.compile(rb"(.)\1{2,127}", re.DOTALL)  # what is worth a run of its own


class PackBits(Stream):
    name = "packbits"

    def read(self, data: bytes, offset: int, allowance: Allowance) -> Layer | None:
        try:
            found = _unpacked(data, offset, allowance.left + 1)
        except (ValueError, IndexError):
            return None
        allowance.left -= len(found)
        return Layer(self.name, offset, len(data) - offset, len(found)) if found and allowance.left >= 0 else None

    def unpacked(self, packed: bytes, most: int) -> bytes:
        try:
            return bytes(_unpacked(packed, 0, most)[:most])
        except IndexError:
            raise ValueError("the packbits stream does not come to its end") from None

    def packed(self, data: bytes, old: bytes) -> bytes:
        out, at = bytearray(), 0
        for run in RUN.finditer(data):
            _put_new(out, data[at : run.start()])
            out += bytes((257 - len(run[0]), run[0][0]))
            at = run.end()
        _put_new(out, data[at:])
        return bytes(out)


STREAMS: tuple[Stream, ...] = (PackBits(),)


def _unpacked(data: bytes, at: int, most: int) -> bytearray:
    out = bytearray()
    while at < len(data) and len(out) < most:
        code, at = data[at], at + 1
        if code < NOTHING:
            if at + code + 1 > len(data):
                raise ValueError("the packbits stream does not come to its end")
            out += data[at : at + code + 1]
            at += code + 1
        elif code > NOTHING:
            out += bytes((data[at],)) * (257 - code)
            at += 1
    return out


def _put_new(out: bytearray, new: bytes) -> None:
    for start in range(0, len(new), MOST):
        part = new[start : start + MOST]
        out.append(len(part) - 1)
        out += part
