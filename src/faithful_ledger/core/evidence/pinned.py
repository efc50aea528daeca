"""Quantities that are pinned already: what belongs together is often stored close by."""

from __future__ import annotations

from typing import NamedTuple

__all__ = ["Pinned"]

NEAR = ((16, 3.0), (256, 1.5))  # within so many bytes, worth so many bits


class Pinned(NamedTuple):
    """Bytes [start, end) of `file`, or of the payload behind `route` in it, in the newest snapshot."""

    name: str
    file: str
    route: tuple[str, ...]
    start: int
    end: int

    def distance(self, start: int, end: int) -> int:
        """How many bytes are between it and bytes [start, end); negative where these are in front of it."""
        return start - self.end if start >= self.end else end - self.start if end <= self.start else 0

    def bits(self, distance: int) -> float:
        """What it says for a place at a distance."""
        return next((bits for most, bits in NEAR if abs(distance) <= most), 0.0)
