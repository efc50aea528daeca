"""Sections of a save that change places: each save writes them one further, with the number of each in it, as games do
that spare the memory they are kept in; and often into one of two halves in turn, of which the newer one counts.

The number of a section is at the same offset in all of them, and one higher from each to the next, from the last to the
first. So where a section is follows from the number of the first one.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.address import Address, Expression
from faithful_ledger.core.evidence.banks import COUNTERS, counters
from faithful_ledger.core.evidence.content import Content
from faithful_ledger.core.evidence.place import Guide, Guides, Place
from faithful_ledger.core.scan import windows
from faithful_ledger.core.storage import NUMBERS

__all__ = ["in_order", "set_sections"]

Array: TypeAlias = np.ndarray[Any, Any]
SIZES = tuple(1 << bits for bits in (12, 13, 11, 10, 9, 8, 7, 14, 15, 16))
LEAST, MOST = 3, 64  # sections
NOTE = "the number of the first section: the others follow it in their order"


class _Layout(NamedTuple):
    """So `many` sections of `size` bytes in each of one or two `halves`; the number of each is `at` an offset in it,
    and the place in the section of a `number`.
    """

    size: int
    many: int
    at: int
    stored_as: str
    number: int
    halves: int

    @property
    def width(self) -> int:
        return NUMBERS[self.stored_as].least_size


def in_order(contents: Sequence[Content]) -> tuple[int, list[list[int]]] | None:
    """The bytes of each of the sections that change places, and where those of every snapshot begin that count, in the
    order of their numbers; None where there are none.
    """
    if len({content.data.size for content in contents}) != 1:
        return None
    for size in SIZES:
        blocks = contents[0].data.size // size
        for name, numbers in _columns(contents, size, blocks) if blocks >= LEAST else ():
            width = NUMBERS[name].least_size
            for count in range(min(blocks, MOST), LEAST - 1, -1):
                every = [(0,) * len(contents), *([(count,) * len(contents)] if 2 * count <= blocks else [])]
                possible = np.ones(numbers[0].shape[1], bool)
                ats = [_numbered(numbers, first, count, possible, width) for first in every]
                if ats[0] is None or len(set(ats)) > 1:
                    continue
                newer = _newer(contents, count, size) if len(ats) == 2 else [0] * len(contents)
                if newer is not None:
                    firsts = [half * count for half in newer]
                    ids = [each[first : first + count, ats[0]] for each, first in zip(numbers, firsts, strict=True)]
                    orders = [np.argsort(each) + first for each, first in zip(ids, firsts, strict=True)]
                    return size, [(order * size).tolist() for order in orders]
    return None


def _newer(contents: Sequence[Content], count: int, size: int) -> list[int] | None:
    """Which of two halves counts in every snapshot: the one with the higher number that is the same in all sections of
    a half, and one lower in those of the other half. None where there is no such number.
    """
    for name in COUNTERS[:-1]:
        fits: Array | None = None
        steps = []
        for content in contents:
            numbers = _numbers(content.data[: 2 * count * size].reshape(2 * count, size), np.dtype(NUMBERS[name].dtype))
            first, second = numbers[:count], numbers[count:]
            step = second[0] - first[0]
            same = (first == first[0]).all(axis=0) & (second == second[0]).all(axis=0) & (np.abs(step) == 1)
            fits = same if fits is None else fits & same
            steps.append(step)
        hits = np.flatnonzero(fits) if fits is not None else ()
        if len(hits):
            at = min(map(int, hits), key=lambda at: at % NUMBERS[name].least_size > 0)
            return [int(step[at] > 0) for step in steps]
    return None


def set_sections(place: Place, contents: Sequence[Content]) -> None:
    """Say where a place is by the numbers of sections that change places, where it is in one of these."""
    sizes = {content.data.size for content in contents}
    if len(sizes) != 1 or len(set(place.offsets)) < 2:
        return
    for layout in sorted(_layouts(place, contents), key=lambda layout: layout.at % layout.width > 0):
        half = layout.many * layout.size
        within = place.offsets[0] % layout.size
        behind = f" + {within}" if within else ""
        ids = [Guide(f"section_{at:x}", at, layout.stored_as, NOTE) for at in (layout.at, layout.at + half)]
        if layout.halves == 1:
            index = f"({layout.number} - {ids[0].name}) % {layout.many}"
            place.guides = Guides((ids[0],), _words(layout, "section"))
            place.found_by = Address("start", Expression(f"{index} * {layout.size}{behind}"))
            return
        is_second = [offset >= half for offset in place.offsets]
        counting = counters(contents, is_second, range(layout.size), half)
        if counting is not None:
            is_newer = f"{counting[1].name} > {counting[0].name}"
            index = f"({layout.number} - ({ids[1].name} if {is_newer} else {ids[0].name})) % {layout.many}"
            place.guides = Guides((*ids, *counting), _words(layout, "newer half: section"))
            where = f"({half} if {is_newer} else 0) + {index} * {layout.size}{behind}"
            place.found_by = Address("start", Expression(where))
            return


def _words(layout: _Layout, where: str) -> str:
    return f"in {where} {layout.number} of {layout.many} that change places, by the number at {layout.at} of each"


def _layouts(place: Place, contents: Sequence[Content]) -> Iterator[_Layout]:
    """The ways to see sections with numbers around a place."""
    for size in SIZES:
        blocks = contents[0].data.size // size
        within = {offset % size for offset in place.offsets}
        if len(within) > 1 or blocks < LEAST or max(within) + place.size(-1, b"") > size:
            continue
        mine = [offset // size for offset in place.offsets]
        for name, numbers in _columns(contents, size, blocks):
            width = NUMBERS[name].least_size
            own = np.stack([each[block] for each, block in zip(numbers, mine, strict=True)])
            same = (own == own[0]).all(axis=0) & (own[0] < MOST)
            for count in range(min(blocks, MOST), LEAST - 1, -1):
                at = _numbered(numbers, mine, count, same & (own[0] < count), width)
                if at is not None and not at <= next(iter(within)) < at + width:
                    halves = 2 if max(mine) >= count else 1
                    yield _Layout(size, count, at, name, int(own[0][at]), halves)


def _columns(contents: Sequence[Content], size: int, blocks: int) -> Iterator[tuple[str, list[Array]]]:
    """In every storage that a number of a section may have, the number at each offset of each section of a save."""
    for name in COUNTERS:
        rows = (content.data[: blocks * size].reshape(blocks, size) for content in contents)
        yield name, [_numbers(each, np.dtype(NUMBERS[name].dtype)) for each in rows]


def _numbers(rows: Array, kind: np.dtype[Any]) -> Array:
    """The number at each offset of each section."""
    return np.stack([windows(row, kind).astype(np.int64) for row in rows])


def _numbered(numbers: Sequence[Array], mine: Sequence[int], count: int, possible: Array, width: int) -> int | None:
    """The first offset, aligned where one is, at which the sections of the half that each save uses have their numbers
    in a circle.
    """
    fits = possible.copy()
    for each, block in zip(numbers, mine, strict=True):
        first = block // count * count
        if first + count > len(each) or first > count or not fits.any():
            return None
        half = each[first : first + count]
        fits &= (half == (half[0] + np.arange(count)[:, None]) % count).all(axis=0)
    hits = np.flatnonzero(fits)
    return min(hits.tolist(), key=lambda at: at % width > 0, default=None)
