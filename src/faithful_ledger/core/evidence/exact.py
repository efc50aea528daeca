"""Places in large files: what can be said without decoding every offset.

Where the number is stored as it is or times a usual scale, its bytes in one snapshot are known: all spellings are found
there in one pass, and what is found is compared in the others. A bias that is the same everywhere shows in the
differences of the lowest bytes, a scale in their products (modulo 256), whatever the width and byte order.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from fractions import Fraction

import numpy as np

from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.evidence.reading import STORAGES, Array, read_numbers
from faithful_ledger.core.evidence.sightings import Sighting
from faithful_ledger.core.scan import scan_array
from faithful_ledger.core.storage import spellings

__all__ = ["SCALES", "biased_lanes", "changed_words", "exact_places", "scaled_lanes"]

SCALES = tuple(map(Fraction, ("1", "10", "100", "256", "65536", "1/10", "1/100")))
FEW_SCALES = SCALES[:3]  # for storages that are written digit by digit or in steps of seven bits
CHUNK = 1 << 17
WORD = 8
MOST_LOWS = 1 << 22


def exact_places(
    data: list[Array], seen: Sequence[Sighting], used: list[int], of: int, most: int = 1 << 20
) -> list[Place]:
    """Places that hold every number of `used` as it is or times a usual scale, and keep its other sightings; about as
    many as `most`.
    """
    known = [j for j in used if seen[j].number is not None]
    first = max(known, key=lambda j: abs(seen[j].number or Fraction(0)))
    forms: dict[bytes, list[tuple[str, Fraction, dict[int, bytes]]]] = {}
    for name, scale, data_of in _forms(seen, known):
        forms.setdefault(data_of[first], []).append((name, scale, data_of))
    runs = list(forms)
    hits = scan_array(data[first], runs)
    found: list[Place] = []
    done: set[tuple[int, str]] = set()
    for number in np.unique(hits.runs).tolist():
        offsets = hits.offsets[hits.runs == number]
        for name, scale, data_of in forms[runs[number]]:
            held = _held(data, offsets, [(j, data_of[j]) for j in known if j != first])
            for offset, values in _values(data, name, held[: most - len(found)]):
                if (offset, name) not in done and _follows(values, seen, used):
                    done.add((offset, name))
                    where = (offset,) * len(data)
                    found.append(Place(where, name, len(used), of, float(scale), values=values))
    return found


def _forms(seen: Sequence[Sighting], known: list[int]) -> Iterator[tuple[str, Fraction, dict[int, bytes]]]:
    """Each storage and scale that can hold every number, with its bytes in each snapshot."""
    signed = any((seen[j].number or 0) < 0 for j in known)
    for scale in SCALES:
        spelled = []
        for j in known:
            number = (seen[j].number or Fraction(0)) * scale
            spelled.append(dict(spellings(number, signed)))
        for name in spelled[0]:
            plain = STORAGES[name].family in ("whole", "signed", "fraction")
            if all(name in each for each in spelled) and (plain or scale in FEW_SCALES):
                yield name, scale, {j: each[name] for j, each in zip(known, spelled, strict=True)}


def _held(data: list[Array], offsets: Array, wanted: list[tuple[int, bytes]]) -> Array:
    """The offsets at which every snapshot holds the bytes wanted of it."""
    for j, run in wanted:
        offsets = offsets[offsets + len(run) <= data[j].size]
        for place, byte in enumerate(run):
            offsets = offsets[data[j][offsets + place] == byte]
    return offsets


def _values(data: list[Array], name: str, offsets: Array) -> Iterator[tuple[int, tuple[float, ...]]]:
    """What is at these offsets in every snapshot, where such a value can begin in all of them."""
    if not offsets.size:
        return
    read = [read_numbers(STORAGES[name], part, offsets) for part in data]
    inside = np.all([valid for _, valid in read], axis=0)
    columns = [value[inside].tolist() for value, _ in read]
    for offset, *values in zip(offsets[inside].tolist(), *columns, strict=True):
        yield offset, tuple(map(float, values))


def _follows(values: tuple[float, ...], seen: Sequence[Sighting], used: list[int]) -> bool:
    """Whether values keep what was seen as more, less, same or changed."""
    for j in used:
        before, now = values[max(j - 1, 0)], values[j]
        kept = {"more": now > before, "less": now < before, "same": now == before, "changed": now != before}
        if not kept.get(seen[j].kind, True):
            return False
    return True


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
