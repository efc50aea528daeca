"""Texts in a file: runs of letters in the common encodings, and whether a length stands before them."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

__all__ = ["TextRun", "find_texts"]

NARROW = re.compile(rb"(?:[\x20-\x7e]|[\xc3-\xdf][\x80-\xbf]|[\xe1-\xef][\x80-\xbf]{2}){4,}")
# The letter behind a run tells the two orders apart, which else fit the same bytes one further.
LOW_FIRST = re.compile(rb"(?:[\x20-\x7e]\x00){4,}+(?![\x20-\x7e](?:[^\x00]|\Z))", re.DOTALL)
HIGH_FIRST = re.compile(rb"(?:\x00[\x20-\x7e]){4,}+(?!\x00)")
MOST = 2000
LOOKED_AT, STRETCH = 16 << 20, 1 << 11
LONGEST = 400
LEAST = 3
PLAIN = 0.5  # of the letters of a UTF-8 text; in noise there are more of the others
NO_LETTERS = bytes((*range(32), 127))
GAP = re.compile(rb"[\x01-\x1f\x80-\xff]{2}")


class TextRun(NamedTuple):
    """A run of letters. `length_in_front` names the whole number before it that counts its bytes, or None."""

    offset: int
    text: str
    encoding: str
    length_in_front: str | None


def find_texts(data: bytes) -> list[TextRun]:
    """The texts in the first `LOOKED_AT` bytes, at most 2000, in order."""
    found: list[TextRun] = []
    start = 0
    while start < min(len(data), LOOKED_AT) and len(found) < MOST:
        # A stretch ends between texts, if that is near: a pattern over many MiB would hold up every other thread.
        latest = min(start + 2 * STRETCH, len(data))
        gap = GAP.search(data, start + STRETCH, latest)
        end = gap.end() if gap is not None else latest
        if len(data[start:end].translate(None, NO_LETTERS)) >= LEAST:
            found += sorted(_runs(data, start, end))
        start = end
    return found[:MOST]


def _runs(data: bytes, start: int, end: int) -> Iterator[TextRun]:
    wide: list[tuple[int, int]] = []
    for pattern, name, codec in ((LOW_FIRST, "utf-16le", "utf-16-le"), (HIGH_FIRST, "utf-16be", "utf-16-be")):
        for match in pattern.finditer(data, start, end):
            wide.append(match.span())
            text, size = match[0][: 2 * LONGEST].decode(codec), len(match[0])
            yield TextRun(match.start(), text, name, _length(data, match.start(), (size, size // 2)))
    inside = iter(sorted(wide))
    span = next(inside, None)
    for match in NARROW.finditer(data, start, end):
        while span is not None and span[1] <= match.start():
            span = next(inside, None)
        if span is None or match.end() <= span[0]:
            yield from _narrow(data, match.start(), match[0])


def _narrow(data: bytes, start: int, run: bytes) -> Iterator[TextRun]:
    # The length itself may look like a letter: then it is the first of the run.
    if len(run) > 4 and run[0] == len(run) - 1:
        run, start = run[1:], start + 1
    # What comes behind a text may look like letters too: the length says where it ends.
    lengths = (int.from_bytes(data[start - size : start], "little") for size in (4, 2, 1) if start >= size)
    run = run[: next((length for length in lengths if LEAST <= length <= len(run)), len(run))]
    if run.isascii():
        yield TextRun(start, run[:LONGEST].decode("ascii"), "ascii", _length(data, start, (len(run),)))
        return
    text = run.decode("utf-8", "ignore")
    plain = sum(letter.isascii() for letter in text)
    if len(text) >= LEAST and text.isprintable() and plain >= PLAIN * len(text):
        yield TextRun(start, text[:LONGEST], "utf-8", _length(data, start, (len(run),)))


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
