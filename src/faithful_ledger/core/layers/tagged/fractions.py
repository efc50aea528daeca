"""Fractions, as people write them, and which of them saves usually have."""

from __future__ import annotations

import struct

__all__ = ["is_usual", "short_fraction"]

USUAL = (1e-4, 1e7)  # fractions beyond these are numbers of another kind


def is_usual(fraction: float) -> bool:
    """Whether bytes that would be this fraction hardly are anything else."""
    return USUAL[0] < abs(fraction) < USUAL[1]


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
