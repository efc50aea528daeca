"""PackBits: runs of one byte, and bytes as they are (TIFF 6.0, section 9). It has no mark and no end of
its own: a stream ends where what holds it ends.
"""

from __future__ import annotations

import re

from faithful_ledger.core.layers.matching import DecodedStream, copy_new
from faithful_ledger.core.layers.stream import Stream

__all__ = ["STREAMS"]

NOTHING, MOST = 128, 128
RUN = re.compile(rb"(.)\1{2,127}", re.DOTALL)  # what is worth a run of its own


class PackBits(DecodedStream):
    name = "packbits"

    def decoded(self, data: bytes, at: int, most: int, out: bytearray) -> int:
        while at < len(data) and len(out) < most:
            code, at = data[at], at + 1
            if code < NOTHING:
                at = copy_new(out, data, at, code + 1)
            elif code > NOTHING:
                out += bytes((data[at],)) * (257 - code)
                at += 1
        return at

    def packed(self, data: bytes, old: bytes) -> bytes:
        out, at = bytearray(), 0
        for run in RUN.finditer(data):
            _put_new(out, data[at : run.start()])
            out += bytes((257 - len(run[0]), run[0][0]))
            at = run.end()
        _put_new(out, data[at:])
        return bytes(out)


STREAMS: tuple[Stream, ...] = (PackBits(),)


def _put_new(out: bytearray, new: bytes) -> None:
    for start in range(0, len(new), MOST):
        part = new[start : start + MOST]
        out.append(len(part) - 1)
        out += part
