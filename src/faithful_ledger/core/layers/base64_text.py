"""Base64 text (RFC 4648), without line breaks. It has no mark: Profile looks for long runs of its letters."""

from __future__ import annotations

import binascii
import re

from faithful_ledger.core.layers.stream import Allowance, Layer, Stream

__all__ = ["STREAMS"]

RUN = re.compile(rb"[A-Za-z0-9+/]++={0,2}")


class Base64(Stream):
    name = "base64"

    def read(self, data: bytes, offset: int, allowance: Allowance) -> Layer | None:
        match = RUN.match(data, offset)
        size = len(match[0]) // 4 * 4 if match is not None else 0
        try:
            unpacked = len(binascii.a2b_base64(data[offset : offset + size], strict_mode=True))
        except binascii.Error:
            return None
        allowance.left -= unpacked
        return Layer(self.name, offset, size, unpacked) if unpacked and allowance.left >= 0 else None

    def unpacked(self, packed: bytes, most: int) -> bytes:
        return binascii.a2b_base64(packed)[:most]

    def packed(self, data: bytes, old: bytes) -> bytes:
        return binascii.b2a_base64(data, newline=False)


STREAMS: tuple[Stream, ...] = (Base64(),)
