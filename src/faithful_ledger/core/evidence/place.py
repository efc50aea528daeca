"""A place: where a quantity may be stored, and how."""

from __future__ import annotations

from dataclasses import dataclass, field

__all__ = ["Place"]


@dataclass(slots=True)
class Place:
    """Stored = seen × scale + bias; with `rounding` what was seen is stored / scale, cut off or rounded.

    `offsets` are where it lies in each snapshot, `values` what is stored there. `anchor` says how a place that moves is
    found again: `behind` is the run of bytes and the distance from its beginning, `before` the run and how many bytes
    in front of it the value ends, `from_end` the distance from the end, where one of them is the way. With a `layer`
    the offsets are those of what was unwrapped. `file` is the file of a set it lies in. It `strayed` if what surrounds
    it lies elsewhere in some snapshot; `doubts` is the number of the sighting it does not fit. `room` is how many bytes
    a text may take where it is: as many as the longest one, if zeros fill up behind the shorter ones; else None.
    """

    offsets: tuple[int, ...]
    stored_as: str
    fits: int
    of: int
    scale: float = 1
    bias: float = 0
    rounding: str | None = None
    path: str | None = None
    anchor: str | None = None
    behind: tuple[bytes, int] | None = None
    before: tuple[bytes, int] | None = None
    from_end: int | None = None
    layer: str | None = None
    route: tuple[str, ...] = ()
    values: tuple[float | str, ...] = ()
    strayed: bool = False
    doubts: int | None = None
    file: str = ""
    room: int | None = None
    reasons: list[str] = field(default_factory=list)
    score: float = 0
