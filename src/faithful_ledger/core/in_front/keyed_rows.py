"""Records of numbers in which a value is always in the one with the same key: a number that no two of them have in
common. In saves with more records, and other ones, that shows how many bytes each has, and where its key is.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import product
from typing import NamedTuple

__all__ = ["LEAST_KEYED", "Table", "key_of"]

LEAST_KEYED = 4  # records
LARGEST, NEAR_END = 64, 4  # bytes of a record, and bytes behind the last one that stay
KEYS = (4, 2, 1)  # bytes of a key


class Table(NamedTuple):
    """So many records of a save, if they begin at an offset, and how far behind that a value in one of them is."""

    content: bytes
    begin: int
    far: int
    many: int

    def end(self, size: int) -> int:
        return self.begin + self.many * size

    def keys(self, size: int, start: int, width: int) -> list[bytes]:
        """The bytes at an offset of each of them, if a record has so many."""
        return [self.content[at + start : at + start + width] for at in range(self.begin, self.end(size), size)]


def key_of(tables: Sequence[Table], value: int) -> tuple[int, tuple[int, int]] | None:
    """The bytes of a record, with a value of so many in it, and where the number is that tells it from all others."""
    for size in range(max(value + 1, 2), LARGEST + 1):
        within, own = tables[0].far % size, [each.far // size for each in tables]
        fits = within + value <= size and all(each.far >= 0 and each.far % size == within for each in tables)
        if not fits or any(each.end(size) > len(each.content) for each in tables):
            continue
        behind = {each.content[each.end(size) : each.end(size) + NEAR_END] for each in tables}
        if len(behind) > 1 or any(at >= each.many for at, each in zip(own, tables, strict=True)):
            continue
        for width, start in product(KEYS, range(size)):
            if start + width <= size and (start + width <= within or within + value <= start):
                keys = [each.keys(size, start, width) for each in tables]
                is_one = len({each[at] for each, at in zip(keys, own, strict=True)}) == 1
                if is_one and all(len(set(each)) == len(each) for each in keys):
                    return size, (start, start + width)
    return None
