"""Texts in a file: runs of letters in the common encodings, and whether a length stands before them."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

__all__ = ["TextRun", "find_texts"]

NARROW = re.compile(rb"[\x20-\x7e]{4,}")
WIDE = re.compile(rb"(?:[\x20-\x7e]\x00){4,}")
MOST = 2000
LONGEST = 400
LEAST = 3


class TextRun(NamedTuple):
    """A run of letters. `length_in_front` names the whole number before it that counts its bytes, or None."""

    offset: int
    text: str
    encoding: str
    length_in_front: str | None


def find_texts(data: bytes) -> list[TextRun]:
    """The texts of a file, at most 2000, in order."""
    found = list(_runs(data))
    return sorted(found)[:MOST]


def _runs(data: bytes) -> Iterator[TextRun]:
    wide: list[tuple[int, int]] = []
    for match in WIDE.finditer(data):
        wide.append(match.span())
        text = match[0][: 2 * LONGEST].decode("utf-16-le")
        yield TextRun(
            match.start(), text, "utf-16le", _length(data, match.start(), (len(match[0]), len(match[0]) // 2))
        )
    inside = iter(wide)
    span = next(inside, None)
    for match in NARROW.finditer(data):
        while span is not None and span[1] <= match.start():
            span = next(inside, None)
        if span is None or match.end() <= span[0]:
            run, start = match[0], match.start()
            # The length itself may look like a letter: then it is the first of the run.
            if len(run) > 4 and run[0] == len(run) - 1:
                run, start = run[1:], start + 1
            # What comes behind a text may look like letters too: the length says where it ends.
            lengths = (int.from_bytes(data[start - size : start], "little") for size in (4, 2, 1) if start >= size)
            run = run[: next((told for told in lengths if LEAST <= told <= len(run)), len(run))]
            yield TextRun(start, run[:LONGEST].decode("ascii"), "ascii", _length(data, start, (len(run),)))


def _length(data: bytes, start: int, sizes: tuple[int, ...]) -> str | None:
    for size, order, name in (
        (4, "little", "u32le"),
        (2, "little", "u16le"),
        (1, "little", "u8"),  # before the high-byte-first ones: a zero in front of a length of one byte is common
        (4, "big", "u32be"),
        (2, "big", "u16be"),
    ):
        if start >= size and int.from_bytes(data[start - size : start], order) in sizes:  # type: ignore[arg-type]
            return name
    return None
