"""Lengths of blocks that bytes are in: of blocks one behind the other up to the end of a file, or within one that has a
length itself. That they lead exactly from one to the next, and to an end, is what speaks for them.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from itertools import product
from typing import NamedTuple

from faithful_ledger.core.source import Source
from faithful_ledger.core.storage import NUMBERS, number_at

__all__ = ["lengths_around", "lengths_up_to", "offsets_to", "text_around"]

LARGEST = 16 << 20  # bytes of a save in which this is looked for
LONGEST_TEXT, LEAST_LETTERS = 1 << 10, 4  # bytes on either side of a place in a text, and letters of one
LINE_ENDS = b"\t\r\n"
FIRST = 64  # offsets at which the first length may be
TRAILERS = (0, 4, 8, 16, 20, 32)  # bytes behind the last block, as a checksum of all is
TAGS = (1, 0, 2, 4)  # bytes between a block and the length of the next
APART = tuple(range(17))  # the same with what else a header has
LEAST_INSIDE, LEAST_OUTSIDE = 3, 3  # blocks
LEAST_OFFSET = 16  # smaller numbers in four bytes are others by chance; larger ones in two bytes less often
LEAST = 8  # bytes of a block that others are in
MOST, MOST_EMPTY = 1 << 12, 256  # blocks; zeros lead through whatever is filled with them
LEAST_SHORT = 2  # of a byte each, of which one has others in it
VARIABLE = ("uleb128", "vlq")
WIDE = ("u32le", "u32be")
SHORT = ("u16le", "u16be", *WIDE)
FORMS = (*WIDE, *VARIABLE, "u16le", "u16be")  # the low half of a wide one looks like a short one
MUCH = 2  # blocks with something in them are one of so many bytes that they lead over


class _Block(NamedTuple):
    """Where the length of a block is, and where what it counts begins and ends."""

    at: int
    start: int
    end: int


def lengths_around(source: Source, start: int, end: int) -> Iterator[tuple[int, str]]:
    """Where the lengths of blocks are that bytes [start, end) are in, the outermost first, and how they are stored."""
    data = bytes(source.read(0, min(source.size, LARGEST)))
    if source.size > len(data):
        return
    for name, at in product(FORMS, range(min(FIRST, start))):
        outer = _block(data, at, name)
        if outer is None or not (outer.start <= start and end <= outer.end) or outer.end - outer.start < LEAST:
            continue
        if len(data) - outer.end in TRAILERS and _row(data, outer, name):
            yield from _inwards(data, outer, name, (start, end))
            return
    for name, at, apart in product(WIDE, range(min(FIRST, start)), APART):
        blocks = list(_blocks(data, at, name, apart, len(data)))
        ends = len(data) - blocks[-1].end if blocks else -1
        around = _around(blocks, (start, end))
        if around is not None and ends - apart in (*TRAILERS, -apart) and _are_much(blocks, LEAST_OUTSIDE):
            yield around.at, name
            return
    yield from _in_short_blocks(data, start, end)


def _in_short_blocks(data: bytes, start: int, end: int) -> Iterator[tuple[int, str]]:
    """The same for blocks behind a byte each, up to the end of the file, whose lengths are short: that one of them has
    such blocks in it speaks for them.
    """
    for name, at in product(VARIABLE, range(min(FIRST, start))):
        blocks = list(_blocks(data, at, name, 1, len(data)))
        if len(blocks) < LEAST_SHORT or not _ends(data, blocks[-1].end, len(data)):
            continue
        within = _around(blocks, (start, end))
        if within is not None and _row(data, within, name):
            yield from _inwards(data, within, name, (start, end))
            return


def _inwards(data: bytes, block: _Block | None, name: str, span: tuple[int, int]) -> Iterator[tuple[int, str]]:
    """Where the lengths of a block and of those within it are that a span is in, the outermost first."""
    while block is not None:
        yield block.at, name
        block = _around(_row(data, block, name), span)


def _around(blocks: Sequence[_Block], span: tuple[int, int]) -> _Block | None:
    """The block that a span is in."""
    return next((each for each in blocks if each.start <= span[0] and span[1] <= each.end), None)


def _ends(data: bytes, end: int, limit: int) -> bool:
    """Whether blocks that end at an offset are all up to another one, but for a zero in place of one more."""
    return end == limit or (end == limit - 1 and data[end] == 0)


def lengths_up_to(
    source: Source, start: int, ends: Collection[int], known: Collection[tuple[int, int]]
) -> Iterator[tuple[int, str]]:
    """Numbers in front of an offset that say how much is from behind them, or behind the `known` bytes that follow, up
    to one of some offsets: where they are, and how they are stored.
    """
    data = bytes(source.read(0, min(start, FIRST)))
    behind = dict(known)
    for name, at in product(SHORT if ends else (), range(len(data))):
        block = _block(data, at, name, within=source.size)
        if block is not None and block.end - block.start >= LEAST:
            begins = {block.start, behind.get(block.start, block.start)}
            if any(begin <= start and begin + block.end - block.start in ends for begin in begins):
                yield at, name


def text_around(source: Source, start: int, end: int) -> tuple[int, str] | None:
    """Where a number is, and how it is stored, that says directly in front of a text how long all of it is, in bytes or
    in letters, where [start, end) is part of that text; None where none does.
    """
    first = max(start - LONGEST_TEXT, 0)
    data = bytes(source.read(first, min(end + LONGEST_TEXT, source.size)))
    low, high = start - first, end - first
    for letter in (1, 2):
        begin, stop = low, high
        while begin >= letter and _is_letter(data, begin - letter, letter):
            begin -= letter
        while _is_letter(data, stop, letter):
            stop += letter
        # A length between 32 and 126 looks like the first letter itself.
        for at, name, each in product((begin, begin + letter), ("u8", *SHORT), {1, letter}):
            number = number_at(data, at - NUMBERS[name].least_size, name)
            if (
                at <= low
                and number
                and number * each >= max(high - at, LEAST_LETTERS * letter)
                and number * each == stop - at
            ):
                return first + at - NUMBERS[name].least_size, name
    return None


def _is_letter(data: bytes, at: int, size: int) -> bool:
    raw = data[at : at + size]
    return len(raw) == size and (32 <= raw[0] < 127 or raw[0] in LINE_ENDS) and not any(raw[1:])


def offsets_to(source: Source, start: int, ends: Collection[int]) -> Iterator[tuple[int, str]]:
    """Numbers among the first bytes in front of an offset that are one of some offsets: where they are, and how they
    are stored.
    """
    data = bytes(source.read(0, min(start, FIRST)))
    for name, at in product(SHORT if ends else (), range(len(data))):
        least = LEAST_OFFSET if name in WIDE else 1 << 8
        number = number_at(data, at, name)
        if number is not None and number >= least and number in ends:
            yield at, name


def _block(data: bytes, at: int, name: str, within: int = 0) -> _Block | None:
    storage = NUMBERS[name]
    width = storage.least_size
    if name in VARIABLE:
        width = next((size for size in (1, 2, 3, 4) if data[at + size - 1 : at + size] < b"\x80"), 0)
    raw = data[at : at + width]
    if not width or len(raw) < width:
        return None
    begin = at + width
    end = begin + int(storage.decode(raw))
    return _Block(at, begin, end) if end <= (within or len(data)) else None


def _row(data: bytes, outer: _Block, name: str) -> list[_Block]:
    """The blocks with such lengths that another one is a row of, exactly to its end; none where it is not."""
    for tag in TAGS:
        blocks = list(_blocks(data, outer.start + tag, name, tag, outer.end))
        if blocks and _ends(data, blocks[-1].end, outer.end) and _are_much(blocks, LEAST_INSIDE):
            return blocks
    return []


def _blocks(data: bytes, at: int, name: str, apart: int, limit: int) -> Iterator[_Block]:
    """The blocks from the length at an offset on, with so many bytes between each and the next length."""
    empty = 0
    for _ in range(MOST):
        block = _block(data, at, name) if at < limit else None
        if block is None or block.end > limit or empty > MOST_EMPTY:
            return
        empty += block.start == block.end
        yield block
        at = block.end + apart


def _are_much(blocks: list[_Block], least: int) -> bool:
    """Whether enough blocks have something in them, which is much of what they lead over."""
    filled = [block for block in blocks if block.end > block.start]
    held = sum(block.end - block.start for block in filled)
    return len(filled) >= least and MUCH * held >= blocks[-1].end - blocks[0].at
