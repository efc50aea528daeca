"""Whole numbers of any number of bits that begin at any bit, as in saves that are written bit by bit.

All of a payload is read at each of the eight bits of every byte, with the lowest bit of a byte first and with the
highest one first. A number is where the lowest bits say what was seen, in every snapshot. How wide it is the
sightings leave open: it goes on over the bits that are zero in all snapshots, but for the last of them, which is more
likely one of the next number.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import product
from math import log2

import numpy as np

from faithful_ledger.core.evidence.place import Bits, Place
from faithful_ledger.core.evidence.reading import Array
from faithful_ledger.core.evidence.sightings import Sighting
from faithful_ledger.core.scan import windows

__all__ = ["bit_places"]

LARGEST = 1 << 18  # bytes
WIDEST = 32
LEAST_EVIDENCE = 10  # bits beyond those that chance needs
MOST = 16
SIZES = (1, 2, 4, 8)


def bit_places(data: Sequence[Array], seen: Sequence[Sighting]) -> list[Place]:
    """The places at the same bit of every array where the numbers seen are; none where these would be anywhere by
    chance. Offsets are those of the word that holds the bits.
    """
    size = min(part.size for part in data)
    numbers = {j: sighting.number for j, sighting in enumerate(seen) if sighting.kind != "any"}
    if not SIZES[-1] <= size <= LARGEST or any(n is None or n.denominator != 1 or n < 0 for n in numbers.values()):
        return []
    wanted = {j: int(number) for j, number in numbers.items() if number is not None}
    least = max((number.bit_length() for number in wanted.values()), default=0)
    distinct = len(set(wanted.values()))
    if distinct < 2 or least > WIDEST or distinct * least < log2(16 * size) + LEAST_EVIDENCE:
        return []
    padded = [np.concatenate((part[:size], np.zeros(SIZES[-1], np.uint8))) for part in data]
    found: list[Place] = []
    for lowest_first, shift in product((True, False), range(8)):
        words = [windows(part, np.dtype("<u8" if lowest_first else ">u8"))[:size].astype(np.uint64) for part in padded]
        # As they are written, the bits of a number end at its lowest one where the highest comes first.
        drop = shift if lowest_first else 64 - shift - least
        shifted = [word >> np.uint64(drop) for word in words]
        mask = np.uint64((1 << least) - 1)
        fits = np.logical_and.reduce([shifted[j] & mask == np.uint64(number) for j, number in wanted.items()])
        for at in np.flatnonzero(fits).tolist():
            begin = 8 * at + shift
            room = _room(data, begin, least, size, lowest_first=lowest_first)
            if room is None:
                continue
            begin, width = (begin, room) if lowest_first else (begin + least - room, room)
            if begin % 8 or width % 8:
                values = tuple(float(int(word[at]) & int(mask)) for word in shifted)
                found.append(_place(begin, width, size, values, lowest_first=lowest_first))
    return found if len(found) <= MOST else []


def _room(data: Sequence[Array], begin: int, least: int, size: int, *, lowest_first: bool) -> int | None:
    """How many bits a number has of which the lowest `least` begin at a bit; None where they go beyond the end."""
    if begin + least > 8 * size:
        return None
    width = least
    while width < WIDEST:
        bit = begin + width if lowest_first else begin + least - width - 1
        if not 0 <= bit < 8 * size or any(_bit(part, bit, lowest_first=lowest_first) for part in data):
            break
        width += 1
    edge = begin + width if lowest_first else begin + least - width
    return width if width in (least, WIDEST) or edge % 8 == 0 else width - 1


def _bit(data: Array, number: int, *, lowest_first: bool) -> int:
    at, bit = divmod(number, 8)
    return int(data[at]) >> (bit if lowest_first else 7 - bit) & 1


def _place(begin: int, width: int, size: int, values: tuple[float, ...], *, lowest_first: bool) -> Place:
    """The bits of the smallest word that holds them; of one at a multiple of its size, where there is one."""
    first, last = begin // 8, (begin + width - 1) // 8
    aligned = ((first // bytes_ * bytes_, bytes_) for bytes_ in SIZES)
    anywhere = ((min(first, size - bytes_), bytes_) for bytes_ in SIZES)
    at, bytes_ = next((at, n) for at, n in (*aligned, *anywhere) if last < at + n <= size)
    low = begin - 8 * at
    low = low if lowest_first else 8 * bytes_ - low - width
    name = f"u{8 * bytes_}" + ("" if bytes_ == 1 else "le" if lowest_first else "be")
    return Place((at,) * len(values), name, len(values), len(values), values=values, bits_in=Bits(low, width))
