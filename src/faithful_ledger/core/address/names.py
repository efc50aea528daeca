"""Names by which elements of a layout refer to each other: `crew_count`, `head.size`, and those of records, as
`sizes[3].packed`, or `sizes[row].packed`: of the record with the same number as the one that refers to it.
"""

from __future__ import annotations

import re
from functools import lru_cache
from typing import NamedTuple

from faithful_ledger.core.errors import AddressError

__all__ = ["ROW", "NamePart", "Number", "name_parts"]

ROW = "row"  # the number of the record in which a name stands
PART = re.compile(
    r"(?P<name>[A-Za-z]\w*)"
    r"(?:\[\s*(?:(?P<fixed>\d{1,9})|(?P<row>row)(?:\s*(?P<sign>[+-])\s*(?P<more>\d{1,9}))?)\s*\])?",
    re.ASCII,
)


class Number(NamedTuple):
    """Which record: `steps`, from 0, or `steps` behind the one in which the name stands."""

    steps: int
    is_relative: bool

    def within(self, row: int | None) -> int:
        """The number of the record, seen from the one with the number `row`.

        Raises:
            AddressError: it is counted from a record, and the name does not stand in one.
        """
        if not self.is_relative:
            return self.steps
        if row is None:
            raise AddressError(f"[{ROW}] is only known within a record", "write the number of the record")
        return row + self.steps


class NamePart(NamedTuple):
    name: str
    number: Number | None  # of a record, where it names rows

    def __str__(self) -> str:
        if self.number is None:
            return self.name
        steps, is_relative = self.number
        sign = "-" if steps < 0 else "+"
        inside = str(steps) if not is_relative else f"{ROW} {sign} {abs(steps)}" if steps else ROW
        return f"{self.name}[{inside}]"


@lru_cache(maxsize=4096)
def name_parts(path: str) -> tuple[NamePart, ...]:
    """The parts of a name, which are separated by dots.

    Raises:
        AddressError: it is not a name.
    """
    parts = []
    for text in path.split("."):
        match = PART.fullmatch(text.strip())
        if match is None:
            raise AddressError(
                f"“{path[:80]}” is not a name of an element",
                f"write it like head.size, sizes[3].packed or sizes[{ROW}].packed",
            )
        number = Number(int(match["fixed"]), is_relative=False) if match["fixed"] else None
        if match["row"]:
            number = Number(int(f"{match['sign']}{match['more']}") if match["more"] else 0, is_relative=True)
        parts.append(NamePart(match["name"], number))
    return tuple(parts)
