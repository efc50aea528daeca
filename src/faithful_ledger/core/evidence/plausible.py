"""Which readings of some bytes are plausible, judged over the copies that were kept.

What a game stores is mostly small, moves little from one save to the next, and is a fraction with few digits if it is
one; read at the wrong width or in the wrong order it is large and jumps.
"""

from __future__ import annotations

import hashlib
import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np

from faithful_ledger.core.evidence.carrying import Carrier
from faithful_ledger.core.evidence.content import Content
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage.base import Order
from faithful_ledger.core.storage.readings import Reading, readings

if TYPE_CHECKING:
    from faithful_ledger.core.storage import Storage

__all__ = ["Plausible", "place_in", "plausible_readings"]

LARGEST = 8 << 20  # bytes of a file in which a place is followed; in larger ones it stays where it is
USUAL_FRACTION = (1e-3, 1e6)
LIKELY = 6.0  # how far a likely reading may be behind the best
MOST_LIKELY = 5
LEAST_LETTERS = 3
WHOLE_SELECTION, BEHIND_IT = 4.0, 2.0
SIGN, OTHER_ORDER, PACKED, BITS = 1.5, 1.5, 5.0, 3.0
SMOOTH = 4.0
REMEMBERED = 256
_LATELY: dict[tuple[bytes | int, ...], int] = {}  # by the digests of two contents, an offset and a size


@dataclass(slots=True)
class Plausible:
    """A reading, what it gives in each copy, and whether it is among the likely ones."""

    reading: Reading
    before: list[str]
    points: float
    likely: bool = False


def place_in(source: Source, start: int, size: int, copy: Source) -> int | None:
    """Where a place of one source is in a copy of it from another time; None where it is in none. Places that were
    asked for lately are remembered by what is in both.
    """
    if max(source.size, copy.size) > LARGEST:
        return start if start + size <= copy.size else None
    contents = [bytes(each.read(0, each.size)) for each in (source, copy)]
    asked: tuple[bytes | int, ...] = (*(hashlib.sha256(each).digest() for each in contents), start, size)
    found = _LATELY.get(asked)
    if found is None:
        here, there = (Content(np.frombuffer(each, np.uint8)) for each in contents)
        where, _ = Carrier(here, there).carried(np.array([start]), size, None)
        found = int(where[0])
        if len(_LATELY) >= REMEMBERED:
            _LATELY.clear()
        _LATELY[asked] = found
    return found if found >= 0 else None


def plausible_readings(
    source: Source,
    start: int,
    end: int,
    copies: Sequence[tuple[Source, int | None]] = (),
    order: Order = "little",
) -> list[Plausible]:
    """The readings of the selected bytes, the most plausible first; `order` is the usual one of the file. `copies` are
    kept ones, each with the offset of the same place, or None.
    """
    found = []
    for reading in readings(source, start, end):
        held = [_read(reading, copy, at, end - start) for copy, at in copies]
        points = _points(reading, [text for text in (*held, reading.text) if text != "–"], end - start, order)
        found.append(Plausible(reading, held, points))
    found.sort(key=lambda each: -each.points)
    for each in found[:MOST_LIKELY]:
        each.likely = each.points >= found[0].points - LIKELY
    return found


def _read(reading: Reading, copy: Source, at: int | None, size: int) -> str:
    """What a reading gives in a copy."""
    if at is None:
        return "–"
    if reading.storage is None:
        same = (each.text for each in readings(copy, at, at + size) if each.name == reading.name)
        return next(same, "–")
    raw = bytes(copy.read(at, at + reading.size))
    return _shown(reading.storage, raw) if len(raw) == reading.size else "–"


def _shown(storage: Storage, raw: bytes) -> str:
    value = storage.decode(raw)
    return f"{value:.7g}" if isinstance(value, float) else str(value)


def _points(reading: Reading, texts: list[str], selected: int, order: Order) -> float:
    if reading.storage is None:
        if reading.name.startswith("text"):
            letters = min((len(text.partition("·")[0]) for text in texts), default=0)
            return 1.5 * min(letters, 8) if letters >= LEAST_LETTERS else -8.0
        return -PACKED if reading.name.startswith("packed") else -BITS
    values = [float(text.replace("−", "-")) for text in texts]
    points = (
        WHOLE_SELECTION if reading.size == selected else -BEHIND_IT * abs(math.log2(reading.size / max(selected, 1)))
    )
    points = points if selected > 1 else 0.0
    points -= SIGN if "signed" in reading.name and min(values) < -1e6 else 0
    if reading.size > 1 and getattr(reading.storage, "order", order) != order:
        points -= OTHER_ORDER * (3 if "fraction" in reading.name else 1)  # any four bytes are some fraction
    if "fraction" in reading.name:
        least, most = USUAL_FRACTION
        usual = all(value == 0 or least < abs(value) < most for value in values)
        points += 0 if usual else -8
        points += 3 if all(round(value, 3) == value for value in values) else 0
    else:
        points -= math.log2(max(map(abs, values), default=0) + 1) / 4
    steps = [abs(after - before) for before, after in pairwise(values)]
    if any(steps):
        share = max(steps) / (max(map(abs, values)) + 1)
        points += min(-math.log2(share), SMOOTH) if share < 1 else -1
    return points
