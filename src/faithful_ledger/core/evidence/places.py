"""Places whose values follow what was seen under some relation.

Offsets are thinned out before anything is decoded: where two different numbers were seen, a byte of the value must
differ between those two snapshots. Each storage is then read at the offsets that are left, first in two snapshots and
only where their order is right in the next; what survives is compared exactly under each relation: as it is, times a
usual scale, with a small bias, with one free scale, or as the rounded or cut-off form of what is stored.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from fractions import Fraction
from itertools import pairwise, product
from typing import NamedTuple

import numpy as np

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.evidence.lanes import biased_lanes, changed_words, scaled_lanes
from faithful_ledger.core.evidence.place import Mask, Place
from faithful_ledger.core.evidence.reading import FEW_SCALES, SCALES, Array, read_numbers, words_at
from faithful_ledger.core.evidence.sightings import Sighting, are_switches, is_shown_as, says_much
from faithful_ledger.core.storage import NUMBERS, Float, WholeNumber

__all__ = ["MANY", "SMALL", "hidden_places", "related_places"]

SMALL = 1 << 20  # up to so many bytes everything is tried
REACH = 8  # a value that was seen to change has a changed byte within so many from where it begins: a word
AT_ONCE = 1 << 20
LARGEST_BIAS = 256
LARGEST_SCALE = 100_000
APART = ("u32le", "i32le", "u32be", "i32be", "u16le", "u16be", "i16le", "i16be", "u64le", "i64le", "u64be", "i64be")
MOST_PLACES = 4000
MOST_PAIRS = 3
ROUNDED = tuple(map(Fraction, (10, 100, 256, 65536)))
ROUNDED_FRACTIONS = tuple(map(Fraction, ("1", "1/100", "10", "100", "256", "1/60")))
MASKED = ("u32le", "u32be", "u64le", "u64be", "u16le", "u16be")
MASKED_FRACTIONS = {"f32le": "u32le", "f32be": "u32be", "f64le": "u64le", "f64be": "u64be"}  # by their bits
MASK_REACH, MOST_MASKED = 16, 50  # bytes to what a number is XORed with; places of one kind
MANY = 3  # distinct numbers needed before a free scale is believed


class _Relation(NamedTuple):
    scale: Fraction
    rounding: str | None


class _Pair(NamedTuple):
    """What is known about the values in two snapshots: the second is `more`, `less`, `same`, `changed` or `equal`."""

    first: int
    second: int
    kind: str


def related_places(data: Sequence[Array], seen: Sequence[Sighting], end: Deadline = NEVER) -> list[Place]:
    """All places at the same offset of every array whose values follow what was seen; the arrays are cut to the
    shortest. Numbers alone that are all alike have only exact forms, and give none.

    In data of more than `SMALL` bytes those with a bias or a scale are looked for first, and others only when there was
    none. Offsets in the result are offsets of these arrays.
    """
    size = min(part.size for part in data)
    if not size:
        return []
    cut = [part[:size] for part in data]
    if are_switches(seen):
        return list(_switches(cut, seen))[:MOST_PLACES]
    sighted = [j for j, sighting in enumerate(seen) if sighting.kind != "any"]
    known = [j for j in sighted if seen[j].number is not None]
    if known and not _pairs(seen, sighted):
        return []
    found = _by_lanes(cut, seen, sighted) if known and size > SMALL else []
    found = found or _with(cut, seen, sighted, len(sighted), end)
    found = [*hidden_places(cut, seen, end), *found]
    return (found or list(_apart(cut, seen, known, end)))[:MOST_PLACES]


def _apart(data: list[Array], seen: Sequence[Sighting], known: list[int], end: Deadline) -> Iterator[Place]:
    """Whole numbers that are what was seen and any constant, or the rest to one, where the sightings change so much
    that hardly another number changes as they do; for want of anything closer.
    """
    if data[0].size > SMALL or not says_much([seen[j].number for j in known]):
        return
    numbers = np.array([float(seen[j].number or 0) for j in known])
    turned = {"more": "less", "less": "more"}
    for times in (1, -1):
        pairs = _pairs(seen, known)
        pairs = [pair._replace(kind=turned.get(pair.kind, pair.kind)) for pair in pairs] if times < 0 else pairs
        for offsets, name in product(_possible(data, pairs), APART):
            if end.over:
                return
            here, values = _survivors(NUMBERS[name], data, known, pairs, offsets, seen)
            stored = np.stack([values[j] for j in known]) if here.size else np.empty((len(known), 0))
            rest = stored - times * numbers[:, None]
            for index in np.flatnonzero((rest == rest[0]).all(axis=0)):
                plain = _Relation(Fraction(times), None)
                place = _place(NUMBERS[name], here, int(index), data, values, len(known), len(known), plain)
                place.bias = float(rest[0][index])
                yield place


def hidden_places(data: Sequence[Array], seen: Sequence[Sighting], end: Deadline = NEVER) -> Iterator[Place]:
    """Whole numbers that are XORed with the same key in every array, or with what stands before them, as games do that
    hide a value in memory: of two such numbers either hides the other one; the same of fractions. None in data of more
    than `SMALL` bytes.
    """
    if data[0].size > SMALL:
        return
    sighted = [j for j, sighting in enumerate(seen) if sighting.kind != "any"]
    numbers = [seen[j].number for j in sighted]
    if any(number is None or number.denominator != 1 or number < 0 for number in numbers):
        return
    wanted = [int(number) for number in numbers if number is not None]
    if len(set(wanted)) < MANY:
        return
    possible = np.concatenate([np.empty(0, np.int64), *_possible(data, _pairs(seen, sighted))])
    for shown in map(NUMBERS.__getitem__, (*MASKED, *MASKED_FRACTIONS)):
        storage = NUMBERS[MASKED_FRACTIONS.get(shown.name, shown.name)]
        width = storage.least_size
        offsets = possible[possible <= data[0].size - width]
        if end.over or not offsets.size or max(wanted) >> 8 * width:
            continue
        words = [words_at(storage, part, offsets) for part in data]
        stored = [int(storage.decode(shown.encode(number))) for number in wanted]
        if [shown.decode(storage.encode(bits)) for bits in stored] != wanted:
            continue
        keys = [words[j] ^ np.uint64(number) for j, number in zip(sighted, stored, strict=True)]
        for step in range(0, MASK_REACH + 1, width):
            if step:  # of both something changes, or one is the number itself
                hiding = [words_at(storage, part, np.maximum(offsets - step, 0)) for part in data]
                fits = offsets >= step
                for each in (words, hiding):
                    fits &= np.logical_or.reduce([each[j] != each[sighted[0]] for j in sighted])
            else:  # one key for all
                hiding = [keys[0]] * len(data)
                fits = keys[0] != 0
            fits = fits & np.logical_and.reduce([key == hiding[j] for key, j in zip(keys, sighted, strict=True)])
            for index in np.flatnonzero(fits)[:MOST_MASKED].tolist():
                mask = Mask(beside=-step) if step else Mask(storage.encode(int(keys[0][index])))
                values = tuple(
                    float(shown.decode(storage.encode(int(word[index]) ^ int(key[index]))))
                    for word, key in zip(words, hiding, strict=True)
                )
                where = (int(offsets[index]),) * len(data)
                yield Place(where, shown.name, len(sighted), len(sighted), values=values, mask=mask)


def _switches(data: list[Array], seen: Sequence[Sighting]) -> Iterator[Place]:
    """Bits that are set where yes was seen and not where no was."""
    sighted = [j for j, sighting in enumerate(seen) if sighting.switched is not None]
    held = np.full(data[0].size, 255, np.uint8)
    for j in sighted:
        held &= data[j] if seen[j].switched else ~data[j]
    for offset in np.flatnonzero(held).tolist():
        for bit in range(8):
            if held[offset] >> bit & 1:
                values = tuple(float(part[offset] >> bit & 1) for part in data)
                yield Place((offset,) * len(data), f"bit{bit}", len(sighted), len(sighted), values=values)


def _by_lanes(data: list[Array], seen: Sequence[Sighting], used: list[int]) -> list[Place]:
    """Whole numbers with a bias, else those with a free scale, found by their lowest byte alone at first."""
    pairs = _pairs(seen, used)
    signed = any((seen[j].number or 0) < 0 for j in used)
    for lanes in (biased_lanes, scaled_lanes):
        lows = lanes(data, seen, used)
        found: list[Place] = []
        for storage in NUMBERS.values():
            if storage.family == ("signed" if signed else "whole"):
                starts = lows - (storage.least_size - 1 if storage.name.endswith("be") else 0)
                found += _of_storage(storage, data, seen, used, pairs, starts[starts >= 0], len(used))
        if found:
            return found
    return []


def _with(data: list[Array], seen: Sequence[Sighting], used: list[int], of: int, end: Deadline = NEVER) -> list[Place]:
    """Places that fit the sightings in `used`, in any storage and relation."""
    pairs = _pairs(seen, used)
    negative = any(seen[j].number is not None and (seen[j].number or 0) < 0 for j in used)
    found: list[Place] = []
    for offsets in _possible(data, pairs):
        for storage in NUMBERS.values():
            if end.over:
                return found
            if storage.family != "signed" or negative or not any(seen[j].number is not None for j in used):
                found += _of_storage(storage, data, seen, used, pairs, offsets, of)
            if len(found) >= MOST_PLACES:
                return found
    return found


def _pairs(seen: Sequence[Sighting], used: list[int]) -> list[_Pair]:
    """What the sightings say about two snapshots at a time, the telling ones first."""
    pairs = []
    known = [j for j in used if seen[j].number is not None]
    for i, j in pairwise(known):
        a, b = seen[i].number or 0, seen[j].number or 0
        pairs.append(_Pair(i, j, "more" if b > a else "less" if b < a else "equal"))
    pairs += [_Pair(j - 1, j, seen[j].kind) for j in used if j and seen[j].kind in ("more", "less", "same", "changed")]
    order = {"more": 0, "less": 0, "changed": 1, "same": 2, "equal": 3}
    return sorted(pairs, key=lambda pair: order[pair.kind])


def _possible(data: Sequence[Array], pairs: list[_Pair]) -> Iterator[Array]:
    """Offsets with a changed byte near enough in every pair that was seen to change, at most `AT_ONCE` at a time."""
    size = data[0].size
    telling = [pair for pair in pairs if pair.kind in ("more", "less", "changed")][:MOST_PAIRS]
    if not telling:
        yield from (np.arange(start, min(start + AT_ONCE, size)) for start in range(0, size, AT_ONCE))
        return
    possible = np.ones(-(-size // REACH), bool)
    for pair in telling:
        changed = changed_words(data[pair.first], data[pair.second])
        changed[:-1] |= changed[1:]
        possible &= changed
    words = np.flatnonzero(possible)
    for start in range(0, words.size, AT_ONCE // REACH):
        some = words[start : start + AT_ONCE // REACH]
        offsets = (some[:, None] * REACH + np.arange(REACH)).ravel()
        yield offsets[offsets < size]


def _of_storage(
    storage: WholeNumber | Float,
    data: list[Array],
    seen: Sequence[Sighting],
    used: list[int],
    pairs: list[_Pair],
    offsets: Array,
    of: int,
) -> Iterator[Place]:
    known = [j for j in used if seen[j].number is not None]
    offsets, values = _survivors(storage, data, used, pairs, offsets, seen)
    if not offsets.size:
        return
    distinct = len({seen[j].number for j in known})
    done = np.zeros(offsets.size, bool)
    for relation in _usual(storage, known, seen, distinct):
        fits = np.ones(offsets.size, bool)
        for j in known:
            fits &= _match(values[j], seen[j], relation)
        for index in np.flatnonzero(fits & ~done):
            done[index] = True
            yield _place(storage, offsets, int(index), data, values, len(used), of, relation)
    if distinct >= 2:
        yield from _free(storage, offsets, data, values, seen, known, ~done, len(used), of)


def _survivors(
    storage: WholeNumber | Float,
    data: list[Array],
    used: list[int],
    pairs: list[_Pair],
    offsets: Array,
    seen: Sequence[Sighting],
) -> tuple[Array, dict[int, Array]]:
    """Offsets where every pair stands in the right order, and the values there."""
    values: dict[int, Array] = {}

    def keep(mask: Array) -> None:
        nonlocal offsets
        offsets = offsets[mask]
        for number in values:
            values[number] = values[number][mask]

    def read(j: int) -> None:
        if j not in values and offsets.size:
            value, valid = read_numbers(storage, data[j], offsets)
            values[j] = value
            keep(valid)

    if not pairs and used and seen[used[0]].number is not None:
        # One sighting, or all alike: only exact forms are looked for, so most offsets go at once.
        read(used[0])
        number = seen[used[0]].number or Fraction(0)
        keep(
            np.isin(values[used[0]], [float(number * Fraction(scale)) for scale in SCALES])
            if offsets.size
            else offsets > 0
        )
    for pair in pairs:
        read(pair.first)
        read(pair.second)
        if not offsets.size:
            return offsets, {}
        before, now = values[pair.first], values[pair.second]
        if pair.kind == "more":
            keep(now > before)
        elif pair.kind == "less":
            keep(now < before)
        elif pair.kind == "same":
            keep(now == before)
        elif pair.kind == "changed":
            keep(now != before)
    for j in range(len(data)):
        if j in used or not offsets.size:
            read(j)
    for j in set(range(len(data))) - set(values):
        values[j] = read_numbers(storage, data[j], offsets)[0] if offsets.size else np.empty(0)
    return offsets, values


def _usual(storage: WholeNumber | Float, known: list[int], seen: Sequence[Sighting], distinct: int) -> list[_Relation]:
    """The relations tried one after the other, the plainest first."""
    if not known:
        return [_Relation(Fraction(1), None)]
    relations = [_Relation(Fraction(scale), None) for scale in SCALES]
    if storage.family in FEW_SCALES:
        return relations[: len(FEW_SCALES[storage.family])]
    fraction = storage.family == "fraction"
    more = seen[known[0]].scales
    relations += [_Relation(scale, None) for scale in more]
    if distinct >= 2 and (fraction or all(seen[j].decimals <= 0 for j in known)):
        scales = (*(ROUNDED_FRACTIONS if fraction else ROUNDED), *more)
        if not fraction and any(seen[j].decimals < 0 for j in known):
            scales = (Fraction(1), *scales)
        relations += [_Relation(scale, how) for how in ("floor", "nearest") for scale in scales]
    elif fraction and len(known) >= 2:
        relations += [_Relation(Fraction(1), how) for how in ("floor", "nearest")]
    return relations


def _match(values: Array, sighting: Sighting, relation: _Relation) -> Array:
    number = sighting.number
    assert number is not None
    held: Array
    if relation.rounding is None:
        wanted = float(number * relation.scale)
        held = values == wanted if number.denominator == 1 else np.abs(values - wanted) <= abs(wanted) * 1e-6
        return held
    # A fraction of four bytes may be a hair off a step, as 0.29 * 100 and 0.895 * 100 are.
    hair = 1e-6 * max(abs(float(number)) / sighting.unit, 1.0)
    held = is_shown_as(values, sighting, float(relation.scale), relation.rounding, hair)
    return held


def _free(
    storage: WholeNumber | Float,
    offsets: Array,
    data: list[Array],
    values: dict[int, Array],
    seen: Sequence[Sighting],
    known: list[int],
    left: Array,
    fits: int,
    of: int,
) -> Iterator[Place]:
    """Places with a small bias, and with one scale that the sightings pin down."""
    numbers = np.array([float(seen[j].number or 0) for j in known])
    stored = np.stack([values[j] for j in known])
    bias = stored - numbers[:, None]
    biased = left & (bias == bias[0]).all(axis=0) & (np.abs(bias[0]) <= LARGEST_BIAS) & (bias[0] != 0)
    plain = _Relation(Fraction(1), None)
    if storage.family in ("whole", "signed", "variable", "fraction") and np.ptp(numbers) >= 2:
        for index in np.flatnonzero(biased):
            place = _place(storage, offsets, int(index), data, values, fits, of, plain)
            place.bias = float(bias[0][index])
            yield place
        left = left & ~biased
    if len(set(numbers.tolist())) < MANY or storage.family not in ("whole", "signed", "fraction"):
        return
    largest = int(np.abs(numbers).argmax())
    scale = stored[largest] / numbers[largest]
    straight = (np.abs(stored - scale * numbers[:, None]) <= np.abs(stored) * 1e-6).all(axis=0)
    straight &= (np.abs(scale) <= LARGEST_SCALE) & (np.abs(scale) >= 1 / LARGEST_SCALE)
    for index in np.flatnonzero(left & straight):
        place = _place(storage, offsets, int(index), data, values, fits, of, plain)
        place.scale = float(scale[index])
        yield place


def _place(
    storage: WholeNumber | Float,
    offsets: Array,
    index: int,
    data: list[Array],
    values: dict[int, Array],
    fits: int,
    of: int,
    relation: _Relation,
) -> Place:
    where = (int(offsets[index]),) * len(data)
    stored = tuple(float(values[j][index]) for j in range(len(data)))
    return Place(where, storage.name, fits, of, float(relation.scale), 0, relation.rounding, values=stored)
