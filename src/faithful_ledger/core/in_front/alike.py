"""Records of numbers behind their number, which nothing names: at some of their offsets all say the same, as the high
bytes of small numbers do, and neither does what is in front of them nor what is behind.

Followed by an empty one they are the taken places of a table with room for more, which has a size of its own.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core import scan
from faithful_ledger.core.in_front.records import COUNTS, MOST_RECORDS
from faithful_ledger.core.storage import NUMBERS

__all__ = ["LARGEST_RECORD", "numbers_in", "records_alike"]

Array: TypeAlias = np.ndarray[Any, Any]
LARGEST_RECORD, FARTHEST = 128, 1 << 13  # bytes of a record, and of all
LEAST_ALIKE, LEAST_RECORD, LEAST_ROOM = 4, 2, 8  # records, bytes of one, and of all
ALIKE_BITS = 7.0  # of what is the same in all of them, beyond what chance gives somewhere
MOST_ALIKE = 0.65  # of it that may be the same in what is beside them
LEAST_PART = 4  # times as many bytes are in a record as are the same in all
MOST_COMPARED = 8  # places for records of one size and one storage of their number
LETTERS, MOST_LETTERS = slice(0x20, 0x7F), 0.8  # a text has no records


class Alike(NamedTuple):
    """Records of `stride` bytes that begin behind their number and end where the last one does."""

    begin: int
    end: int
    stride: int
    count_as: str


def records_alike(contents: Sequence[Array], size: int) -> Alike | None:
    """Records within so many first bytes of some saves, as many in each as the number in front of them says; the
    likeliest ones, or None where they may be chance.
    """
    size = min(size, FARTHEST)
    parts = [content[:size] for content in contents]
    if not LEAST_ROOM <= size <= min(map(len, parts)):
        return None
    counts = {name: _counts(parts, name) for name in COUNTS}
    first = parts[0]
    frequency = np.bincount(first, minlength=256) / size
    if frequency[LETTERS].sum() > MOST_LETTERS:
        return None
    chance = float(np.square(frequency).sum())  # that two bytes are the same
    strides = range(LEAST_RECORD, min(LARGEST_RECORD, size // LEAST_ALIKE) + 1)
    places = sum(len(begins) for begins, _ in counts.values())
    best, most = None, ALIKE_BITS + math.log2(max(places * len(strides), 1))
    for stride in strides:
        same = np.append(0, np.cumsum(first[:-stride] == first[stride:]))
        for name, (begins, numbers) in counts.items():
            fits = begins + numbers * stride <= size
            begins, ends = begins[fits], (begins + numbers * stride)[fits]
            found = same[ends - stride] - same[begins]
            bits = _odds(found, ends - begins - stride, chance) * (found * LEAST_PART >= ends - begins - stride)
            for at in np.argsort(-bits)[: int(min((bits > most).sum(), MOST_COMPARED))].tolist():
                begin, end = int(begins[at]), int(ends[at])
                bits_here = _bits(contents, frequency, begin, end, stride)
                if bits_here > most:
                    best, most = Alike(begin, end, stride, name), bits_here
    return best


def _odds(found: Array, of: Array, chance: Array | float) -> Array:
    """Bits that it says that so many of some bytes are the same, where by chance so large a part of them is."""
    part, chance = (np.clip(each, 1e-9, 1 - 1e-9) for each in (found / np.maximum(of, 1), chance))
    bits = found * np.log2(part / chance) + (of - found) * np.log2((1 - part) / (1 - chance))
    return np.where(part > chance, bits, 0.0)


def _bits(parts: Sequence[Array], frequency: Array, begin: int, end: int, stride: int) -> float:
    """What it says for records that in all of them the same is at some offsets; nothing where all of each is the same,
    where what is in front of them or behind them is as they are, or where one of them or what is behind is empty.
    """
    tables = [part[begin:end].reshape(-1, stride) for part in parts]
    alike = np.logical_and.reduce([(table == table[0]).all(axis=0) for table in tables])
    first, usual = parts[0], tables[0][0]
    rarity = -np.log2(frequency + 1 / 256)[usual] * alike
    behind, before = first[end : end + stride], first[max(begin - stride, 0) : begin]
    for other, own, weights in (
        (behind, usual[: behind.size], rarity[: behind.size]),
        (before, usual[stride - before.size :], rarity[stride - before.size :]),
    ):
        if float(weights[other == own].sum()) > MOST_ALIKE * float(weights.sum()):
            return 0.0
    has_room = not (behind.any() and all(table.any(axis=1).all() for table in tables))
    if alike.all() or alike.sum() * LEAST_PART < stride or has_room:
        return 0.0
    by_chance = float(np.power(frequency, len(tables[0])).sum())
    return float(_odds(alike.sum(), np.asarray(stride), by_chance))


def _counts(parts: Sequence[Array], name: str) -> tuple[Array, Array]:
    """Where records may begin that are within all of some bytes, and how many the number in front says in each."""
    first, *others = numbers_in(parts, name)
    fits = np.logical_and.reduce([first >= LEAST_ALIKE, first <= MOST_RECORDS, *(other == first for other in others)])
    return np.flatnonzero(fits) + NUMBERS[name].least_size, first[fits]


def numbers_in(parts: Sequence[Array], name: str) -> list[Array]:
    """The numbers of a storage at every offset of some parts, which are as long as each other."""
    kind = np.dtype(NUMBERS[name].dtype)
    return [scan.windows(part, kind).astype(np.int64) for part in parts]
