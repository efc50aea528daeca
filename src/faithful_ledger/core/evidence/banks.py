"""Two banks of a save that take turns: the one whose counter is one higher is the newer one, and counts.

The counter is what has the same distance from the value in both banks, and is one higher in the bank that the value
was found in, in every snapshot. A mark that is set in the newer bank only is one as well.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from faithful_ledger.core.address import Address, Expression
from faithful_ledger.core.evidence.content import Content
from faithful_ledger.core.evidence.place import Banks, Place
from faithful_ledger.core.storage import NUMBERS

__all__ = ["set_banks"]

LEAST_SNAPSHOTS = 3
COUNTERS = ("u32le", "u32be", "u16le", "u16be", "u8")
MOST = 1 << 20  # saves that a counter may have counted


def set_banks(place: Place, contents: Sequence[Content]) -> None:
    """Say where a place is by the counters of the two banks it is in, where it is at two offsets in turn, and bytes
    that count are found.
    """
    ends = sorted(set(place.offsets))
    if len(ends) != 2 or len(contents) < LEAST_SNAPSHOTS:
        return
    low, high = ends
    step = high - low
    wanted = np.array([1 if at == high else -1 for at in place.offsets])
    size = min(content.data.size for content in contents)
    for name in COUNTERS:
        storage = NUMBERS[name]
        offsets = np.arange(max(low - step + 1, 0), min(low + step, size - step - storage.least_size + 1))
        fits = np.ones(offsets.size, bool)
        numbers = []
        for content, more in zip(contents, wanted, strict=True):
            columns = [storage.column(content.data, at) for at in (offsets, offsets + step)]
            first, second = (column[0].astype(np.int64) for column in columns if column is not None)
            fits &= (second - first == more) & (np.maximum(first, second) < MOST)
            numbers.append(first)
        counted = np.any([each != numbers[0] for each in numbers], axis=0)
        found = offsets[fits & counted]
        if found.size:
            at = int(found[0])
            place.banks = Banks(at, at + step, name)
            first_name, second_name = place.banks.names
            place.found_by = Address("start", Expression(f"{high} if {second_name} > {first_name} else {low}"))
            return
