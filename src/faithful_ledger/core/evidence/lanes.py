"""What lowest bytes say without decoding every offset: for large files.

A bias that is the same everywhere shows in the differences of the lowest bytes, a scale in their products (modulo 256),
whatever the width and byte order.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from faithful_ledger.core.evidence.reading import Array
from faithful_ledger.core.evidence.sightings import Sighting

__all__ = ["biased_lanes", "changed_words", "scaled_lanes"]

CHUNK = 1 << 17
WORD = 8
MOST_LOWS = 1 << 22


def biased_lanes(data: list[Array], seen: Sequence[Sighting], used: list[int]) -> Array:
    """Offsets where the lowest byte follows the whole numbers seen, but for a constant; none if they tell nothing."""
    numbers = _whole_numbers(seen, used)
    steps = [((b - a) & 255, i, j) for i, a in numbers.items() for j, b in numbers.items() if i < j]
    telling = [step for step in steps if step[0]]
    if not telling:
        return np.empty(0, np.int64)
    wanted, i, j = telling[0]
    byte = np.uint8(wanted)
    difference, flags = np.empty(CHUNK, np.uint8), np.empty(CHUNK, bool)

    def filtered(start: int, end: int) -> Array:
        size = end - start
        np.subtract(data[j][start:end], data[i][start:end], out=difference[:size])
        return np.equal(difference[:size], byte, out=flags[:size])

    def kept(lows: Array) -> Array:
        for step, a, b in steps:
            lows = lows[data[b][lows] - data[a][lows] == np.uint8(step)]
        return lows

    return _lows(data[0].size, filtered, kept)


def scaled_lanes(data: list[Array], seen: Sequence[Sighting], used: list[int]) -> Array:
    """Offsets where the lowest byte is that of the whole numbers seen times some constant."""
    numbers = _whole_numbers(seen, used)
    if len(numbers) < 2:
        return np.empty(0, np.int64)
    low = {j: np.uint8(number & 255) for j, number in numbers.items()}
    # An odd factor can be undone modulo 256, so an odd number, and one at an odd distance from it, tell most.
    i = max(numbers, key=lambda j: numbers[j] & 1)
    others = sorted((j for j in numbers if j != i), key=lambda j: -((numbers[j] - numbers[i]) & 1))
    j = others[0]
    left, right = np.empty(CHUNK, np.uint8), np.empty(CHUNK, np.uint8)
    flags, some = np.empty(CHUNK, bool), np.empty(CHUNK, bool)

    def filtered(start: int, end: int) -> Array:
        size = end - start
        base = data[i][start:end]
        np.multiply(data[j][start:end], low[i], out=left[:size])
        np.multiply(base, low[j], out=right[:size])
        np.equal(left[:size], right[:size], out=flags[:size])
        np.not_equal(base, 0, out=some[:size])
        return np.logical_and(flags[:size], some[:size], out=flags[:size])

    def kept(lows: Array) -> Array:
        for other in others:
            lows = lows[data[other][lows] * low[i] == data[i][lows] * low[other]]
        return lows

    return _lows(data[0].size, filtered, kept)


def _whole_numbers(seen: Sequence[Sighting], used: list[int]) -> dict[int, int]:
    numbers = {j: seen[j].number for j in used}
    return {j: int(n) for j, n in numbers.items() if n is not None and n.denominator == 1}


def _lows(size: int, filtered, kept) -> Array:  # type: ignore[no-untyped-def]
    """The offsets that pass both: `filtered` gives flags of a stretch, `kept` thins offsets out."""
    found, count = [], 0
    for start in range(0, size, CHUNK):
        hits = np.flatnonzero(filtered(start, min(start + CHUNK, size)))
        if hits.size and (lows := kept(hits + start)).size:
            found.append(lows)
            count += lows.size
            if count > MOST_LOWS:
                break
    return np.concatenate(found) if found else np.empty(0, np.int64)


def changed_words(a: Array, b: Array) -> Array:
    """For every eight bytes whether any of them differs; the last word may be shorter."""
    whole = a.size // WORD * WORD
    changed = np.empty(-(-a.size // WORD), bool)
    np.not_equal(a[:whole].view(np.uint64), b[:whole].view(np.uint64), out=changed[: whole // WORD])
    if whole < a.size:
        changed[-1] = bool((a[whole:] != b[whole:]).any())
    return changed
