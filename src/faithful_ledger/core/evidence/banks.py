"""Two banks of a save that take turns: the one whose counter is one higher is the newer one, and counts.

The counter is what has the same distance from the value in both banks, and is one higher in the bank that the value
was found in, in every snapshot. A mark that is set in the newer bank only is one as well.
"""

from __future__ import annotations

from collections.abc import Sequence

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


def set_banks(place: Place, contents: Sequence[Content]) -> None:
    """Say where a place is by the counters of the two banks it is in, where it is at two offsets in turn, and bytes
    that count are found.
    """
    ends = sorted(set(place.offsets))
    if len(ends) != 2 or len(contents) < LEAST_SNAPSHOTS:
        return
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
