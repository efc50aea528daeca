"""What changes by itself: learned from two snapshots between which nothing was done."""

from __future__ import annotations

from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.compare.align import Difference, align

__all__ = ["Noise"]

Array: TypeAlias = np.ndarray[Any, Any]
AROUND = 3  # a number that counts changes its higher bytes seldom: those beside a noisy byte are noisy too


class Noise:
    """The bytes of `first` that differ in `second` although nothing was done between the two."""

    def __init__(self, first: Array, second: Array) -> None:
        self._first = first
        self._noisy = np.zeros(first.size + 1, bool)
        for item in align(first, second).differences():
            self._noisy[max(item.a0 - AROUND, 0) : max(item.a1, item.a0 + 1) + AROUND] = True

    @property
    def share(self) -> float:
        """How much of the snapshot is noise, from 0 to 1."""
        return float(self._noisy[:-1].mean()) if self._first.size else 0.0

    def without(self, a: Array, differences: list[Difference]) -> list[Difference]:
        """The differences from `a` on to another snapshot that are not noise; moved blocks stay."""
        back = align(a, self._first)

        def noisy(item: Difference) -> bool:
            places = [back.place_of(at) for at in range(item.a0, min(item.a1, item.a0 + 256)) if at < a.size]
            inside = [0 <= place < self._first.size and bool(self._noisy[place]) for place in places]
            return bool(inside) and all(inside)

        return [item for item in differences if item.kind == "moved" or not noisy(item)]
