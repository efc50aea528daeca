"""Where a place of one snapshot is in another one, whatever came, went or moved.

A place is carried by hypotheses of shift: the same offset, the same distance from the end, the shifts that most windows
standing once on both sides vote for, and those of the nearest such windows. Each is judged by the surroundings: the
bytes around that agree, weighted by how rare they are. No order is assumed, so blocks may change places. The cost does
not depend on how often something stands in a file.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property
from itertools import chain

import numpy as np

from faithful_ledger.core.evidence.content import FEW, Content, anchors_between
from faithful_ledger.core.evidence.reading import Array

__all__ = ["Carrier"]

AROUND = 96  # bytes looked at on either side
BOXES = ((8, 6), (24, 2), (AROUND, 1))  # within so many bytes agreement counts so much more
WHOLE = 2
FRONT, BEHIND = 5, 4
NEAR = 400  # bytes to an anchor that may carry a place
SIZES = (8, 4)
STEPS = (0, 1, -1, 2, -2)  # the anchors asked, from the last one before a place
MOST_SHIFTS = 8
LEAST_VOTES = 8
AT_ONCE = 1 << 12
GRID = 8  # a map is made for every so many bytes
GATHERED = 1 << 16  # points of a map up to which anchors nearby are asked
WORK = 24 << 20  # bytes compared for a map


class Carrier:
    """From one content to another."""

    def __init__(self, here: Content, there: Content) -> None:
        self.here = here
        self.there = there

    @cached_property
    def anchors(self) -> list[tuple[Array, Array]]:
        """Of windows that stand once, long ones and short ones, then of those that stand a few times: the offsets, in
        order, and how far each is shifted.
        """
        pairs = [anchors_between(self.here, self.there, size) for size in SIZES]
        pairs.append(anchors_between(self.here, self.there, SIZES[0], FEW))
        return [(at, other - at) for at, other in pairs]

    @cached_property
    def shifts(self) -> list[int]:
        """Shifts of whole stretches, the plain ones first."""
        found = [0, self.there.data.size - self.here.data.size]
        for at, shifts in self.anchors:
            if at.size:
                values, votes = np.unique(shifts, return_counts=True)
                likely = np.argsort(-votes, kind="stable")[:MOST_SHIFTS]
                found += [int(values[n]) for n in likely if votes[n] >= LEAST_VOTES]
        return list(dict.fromkeys(found))

    def agreement(self, offsets: Array, where: Array, width: int, around: int = AROUND) -> Array:
        """How far the surroundings agree, the near ones more, in parts of a bit, for values of so many bytes at offsets
        `here`.
        """
        distance = np.concatenate((np.arange(around, 0, -1), np.arange(1, around + 1)))
        steps = np.concatenate((np.arange(-around, 0), np.arange(width, width + around)))
        weights = np.sum([np.where(distance <= reach, weight, 0) for reach, weight in BOXES], axis=0)
        # Where something came in right at a place, it goes with what is in front of it: a label, a key.
        weights *= np.where(steps < 0, FRONT, BEHIND)
        found = np.zeros(offsets.size, np.int64)
        for start in range(0, offsets.size, AT_ONCE):
            mine = offsets[start : start + AT_ONCE, None] + steps
            theirs = where[start : start + AT_ONCE, None] + steps
            inside = (mine >= 0) & (mine < self.here.data.size) & (theirs >= 0) & (theirs < self.there.data.size)
            bytes_ = self.here.data[np.where(inside, mine, 0)]
            same = inside & (bytes_ == self.there.data[np.where(inside, theirs, 0)])
            found[start : start + AT_ONCE] = np.where(same, self.here.rarity[bytes_], 0) @ weights // (WHOLE * BEHIND)
        return found

    def carried(self, offsets: Array, width: int, raw: bytes | None, *, plain: bool = False) -> tuple[Array, Array]:
        """Where each offset is, and how far the surroundings agree; -1 where there is no such place.

        With `raw` only places that hold these bytes come in question. `plain` asks for the same offset only.
        """
        where, agreed = np.full(offsets.size, -1), np.full(offsets.size, -1)
        if not offsets.size:
            return where, agreed
        size = len(raw) if raw is not None else 1
        alone = self.there.only(raw) if raw is not None and not plain else None
        hypotheses = self._hypotheses(offsets, plain=plain)
        for there in hypotheses if alone is None else chain(hypotheses, [np.full(offsets.size, alone)]):
            begins = (there >= 0) & (there + size <= self.there.data.size) & (there != where)
            possible = np.flatnonzero(begins)
            for step, byte in enumerate(raw or b""):
                possible = possible[self.there.data[there[possible] + step] == byte]
            if plain:  # there is nothing to choose from
                where[possible], agreed[possible] = there[possible], 0
            elif possible.size:
                found = self.agreement(offsets[possible], there[possible], width)
                better = found > agreed[possible]
                kept = possible[better]
                where[kept], agreed[kept] = there[kept], found[better]
        return where, agreed

    def _hypotheses(self, offsets: Array, *, plain: bool) -> Iterator[Array]:
        if plain:
            yield offsets
            return
        yield from (offsets + shift for shift in self.shifts)
        yield from self._nearby(offsets)

    def _nearby(self, offsets: Array) -> Iterator[Array]:
        """As the nearest anchors before and behind are shifted; -1 where none is near."""
        for at, shifts in self.anchors:
            if not at.size:
                continue
            before = np.searchsorted(at, offsets, side="right") - 1
            for step in STEPS:
                number = np.clip(before + step, 0, at.size - 1)
                near = np.abs(at[number] - offsets) <= NEAR
                yield np.where(near, offsets + shifts[number], -1)

    def map(self) -> Array:
        """For every offset here the one there whose surroundings agree best; beyond the end where there is none."""
        here, there = self.here.data, self.there.data
        points = np.arange(0, here.size, GRID)
        shift_of = np.zeros(points.size, np.int64)
        best = np.full(points.size, -1, np.int64)
        ends = [
            (np.minimum(points + reach, here.size), np.maximum(points - reach, 0), weight) for reach, weight in BOXES
        ]
        for shift in self.shifts[: max(WORK // max(here.size, 1), 2)]:
            begin, finish = max(0, -shift), min(here.size, there.size - shift)
            summed = np.zeros(here.size + 1, np.int64)
            if finish > begin:
                mine = here[begin:finish]
                same = np.where(mine == there[begin + shift : finish + shift], self.here.rarity[mine], 0)
                np.cumsum(same, out=summed[begin + 1 : finish + 1])
                summed[finish + 1 :] = summed[finish]
            agreed = np.sum([(summed[high] - summed[low]) * weight for high, low, weight in ends], axis=0) // WHOLE
            better = agreed > best
            best[better], shift_of[better] = agreed[better], shift
        if points.size <= GATHERED:
            for where in self._nearby(points):
                inside = np.flatnonzero((where >= 0) & (where != points + shift_of))
                agreed = self.agreement(points[inside], where[inside], 0)
                agrees = agreed > best[inside]
                kept = inside[agrees]
                best[kept], shift_of[kept] = agreed[agrees], where[kept] - points[kept]
        found: Array = np.repeat(shift_of, GRID)[: here.size] + np.arange(here.size)
        known: Array = np.where((found >= 0) & (found < there.size), found, there.size)
        return known
