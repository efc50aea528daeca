"""Two or more banks of a save that take turns: the one whose counter is the highest is the newest one, and counts.

The counter is what has the same distance from the value in all banks, and is one higher in the bank that the value
was found in than in the one before it, in every snapshot. Of two banks, a mark that is set in the newer one only is one
as well.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import product
from math import gcd

import numpy as np

from faithful_ledger.core.address import Address, Expression
from faithful_ledger.core.errors import place as at
from faithful_ledger.core.evidence.content import Content
from faithful_ledger.core.evidence.place import Guide, Guides, Place
from faithful_ledger.core.storage import NUMBERS

__all__ = ["COUNTERS", "counters", "set_banks"]

LEAST_SNAPSHOTS = 3
COUNTERS = ("u32le", "u32be", "u16le", "u16be", "u8")
MOST = 1 << 20  # saves that a counter may have counted
NOTE = "counts the saves: of two banks that with the higher counter is the newer one"
NOTE_OF_MANY = "counts the saves: the bank with the highest counter is the newest one"
MOST_BANKS = 8
LEAST_STEP, LARGEST_STEP = 64, 1 << 16  # bytes of each of more than two banks


def set_banks(place: Place, contents: Sequence[Content]) -> None:
    """Say where a place is by the counters of the banks it is in, where it is at a few offsets in turn, and bytes that
    count are found.
    """
    ends = sorted(set(place.offsets))
    if not 2 <= len(ends) <= MOST_BANKS or len(contents) < LEAST_SNAPSHOTS:
        return
    if len(ends) == 2:
        low, high = ends
        step = high - low
        is_second = [offset == high for offset in place.offsets]
        found = counters(contents, is_second, range(max(low - step + 1, 0), low + step), step)
        if found is not None:
            first, second = found
            place.guides = Guides(
                found, f"in the newer of two banks, by the counters at {at(int(first.at))} and {at(int(second.at))}"
            )
            place.found_by = Address("start", Expression(f"{high} if {second.name} > {first.name} else {low}"))
            return
    _set_many(place, contents, ends)


def _set_many(place: Place, contents: Sequence[Content], ends: Sequence[int]) -> None:
    """The same for more than two banks, which are written one after the other."""
    widest = gcd(*(end - ends[0] for end in ends[1:]))
    size = min(content.data.size for content in contents)
    for parts, many in product((1, 2, 3), range(3, MOST_BANKS + 1)):
        step = widest // parts
        if widest % parts or not LEAST_STEP <= step <= LARGEST_STEP or (ends[-1] - ends[0]) // step >= many:
            continue
        before = (ends[-1] - ends[0]) // step  # banks between the first and the last that were seen
        for first in range(many - before):
            low = ends[0] - first * step
            if low < 0 or low + (many - 1) * step >= size:
                continue
            turns = [(offset - low) // step for offset in place.offsets]
            found = _counting_in_turn(contents, turns, range(max(low - step + 1, 0), low + step), (step, many))
            if found is None:
                continue
            guides, lead = found
            names = ", ".join(guide.name for guide in guides)
            newest = f"max({names})" if not lead else f"(max({names}) + {lead})"
            place.guides = Guides(guides, f"in the newest of {many} banks, by the counters from {guides[0].at} on")
            place.found_by = Address("start", Expression(f"{newest} % {many} * {step}{f' + {low}' if low else ''}"))
            return


def _counting_in_turn(
    contents: Sequence[Content], turns: Sequence[int], offsets: range, banks: tuple[int, int]
) -> tuple[tuple[Guide, ...], int] | None:
    """The counters of banks of so many bytes, that many, the first at one of these offsets, and what has to be added to
    the highest so that the rest of its division by their number is the newest bank: the highest is that of the bank
    whose turn it was, and the one before is one lower.
    """
    step, many = banks
    size = min(content.data.size for content in contents)
    for name in COUNTERS:
        storage = NUMBERS[name]
        places = np.arange(offsets.start, min(offsets.stop, size - (many - 1) * step - storage.least_size + 1))
        leads = highest = np.zeros(0, np.int64)
        counted = np.zeros(places.size, bool)
        for snapshot, (content, turn) in enumerate(zip(contents, turns, strict=True)):
            columns = [storage.column(content.data, places + number * step) for number in range(many)]
            numbers = np.array([column[0].astype(np.int64) for column in columns if column is not None])
            newest, others = numbers[turn], np.delete(numbers, turn, axis=0)
            fits = (numbers[turn - 1] == newest - 1) & (others < newest).all(axis=0) & (newest < MOST)
            if snapshot:
                fits &= (turn - newest) % many == leads
                counted |= newest != highest
            leads, highest = (turn - newest) % many if not snapshot else leads, newest if not snapshot else highest
            places, leads, highest, counted = places[fits], leads[fits], highest[fits], counted[fits]
            if not places.size:
                break
        found = np.flatnonzero(counted)
        if found.size:
            first = int(places[found[0]])
            each = (first + number * step for number in range(many))
            return tuple(Guide(f"counter_{at_:x}", at_, name, NOTE_OF_MANY) for at_ in each), int(leads[found[0]])
    return None


def counters(
    contents: Sequence[Content], is_second: Sequence[bool], offsets: range, step: int
) -> tuple[Guide, Guide] | None:
    """The counters of two banks that are `step` bytes apart, the first at one of these offsets: the one of the bank
    that counts is one higher in every snapshot. None where nothing counts.
    """
    wanted = np.where(is_second, 1, -1)
    size = min(content.data.size for content in contents)
    for name in COUNTERS:
        storage = NUMBERS[name]
        places = np.arange(offsets.start, min(offsets.stop, size - step - storage.least_size + 1))
        fits = np.ones(places.size, bool)
        numbers = []
        for content, more in zip(contents, wanted, strict=True):
            columns = [storage.column(content.data, each) for each in (places, places + step)]
            first, second = (column[0].astype(np.int64) for column in columns if column is not None)
            fits &= (second - first == more) & (np.maximum(first, second) < MOST)
            numbers.append(first)
        counted = np.any([each != numbers[0] for each in numbers], axis=0)
        found = places[fits & counted]
        if found.size:
            both = int(found[0]), int(found[0]) + step
            first_guide, second_guide = (Guide(f"counter_{each:x}", each, name, NOTE) for each in both)
            return first_guide, second_guide
    return None
