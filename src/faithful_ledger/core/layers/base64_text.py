"""Base64 text (RFC 4648), without line breaks. It has no mark: Profile looks for long runs of its letters."""

from __future__ import annotations

import binascii
from typing import Any

from faithful_ledger.core.layers.stream import Allowance, Layer, Stream

__all__ = ["STREAMS"]


class Base64(Stream):
    name = "base64"

    def unpacker(self) -> Any:
        raise NotImplementedError("a text is read at once")

    def read(self, data: bytes, offset: int, allowance: Allowance) -> Layer | None:
        return None

    def unpacked(self, packed: bytes, most: int) -> bytes:
        return binascii.a2b_base64(packed)[:most]

    def packed(self, data: bytes, old: bytes) -> bytes:
        return binascii.b2a_base64(data, newline=False)


STREAMS: tuple[Stream, ...] = (Base64(),)
