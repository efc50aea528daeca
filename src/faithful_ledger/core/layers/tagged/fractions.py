"""Fractions of four bytes, as people write them."""

from __future__ import annotations

import struct

__all__ = ["short_fraction"]


def short_fraction(raw: bytes) -> float:
    """The number with the fewest digits that is stored as these four bytes, the highest first."""
    (value,) = struct.unpack(">f", raw)
    for digits in range(1, 10):
        shorter = float(f"{value:.{digits}g}")
        try:
            if struct.pack(">f", shorter) == raw:
                return shorter
        except OverflowError:
            continue
    return float(value)
