"""Quantities that are pinned already: what belongs together is often stored close by."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple, TypeAlias

__all__ = ["Described", "Known", "Pinned"]

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


class Described(NamedTuple):
    """What a template says of `file`, or of the payload behind `route` in it, in the newest snapshot: the name and the
    span of the field `at` an offset; None where it has none.
    """

    file: str
    route: tuple[str, ...]
    at: Callable[[int], tuple[str, int, int] | None]

    def overlapped(self, start: int, end: int) -> str:
        """The name of a field that has some of the bytes [start, end), but is not these; empty where there is none."""
        found = (self.at(offset) for offset in (start, end - 1))
        return next((name for name, *span in filter(None, found) if span != [start, end]), "")


Known: TypeAlias = "Pinned | Described"
