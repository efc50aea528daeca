"""LZ4 blocks without a frame that follow one another to the end of a file, with their sizes in front of them.

A block has no mark and no end of its own (LZ4 Block Format), so its size has to be known: it is a number in front of
each block, or in a table in front of all of them. What is believed leads to the end of the file, and every block in it
is one.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, Literal, TypeAlias

import numpy as np

from faithful_ledger.core.layers import STREAMS
from faithful_ledger.core.layers.lz4_blocks import may_begin
from faithful_ledger.core.layers.stream import Allowance, Layer
from faithful_ledger.core.scan import windows

__all__ = ["unmarked_blocks"]

Array: TypeAlias = np.ndarray[Any, Any]
Spans: TypeAlias = list[tuple[int, int]]
Order = Literal["little", "big"]
FORMS: tuple[tuple[int, Order], ...] = ((4, "little"), (4, "big"), (2, "little"), (2, "big"))
KIND = "lz4-block"
FIRST = 64  # offsets from the beginning at which the first size may be
TABLE = 256  # at which a table of sizes may begin
HEADER, TRAILER = 32, 16  # bytes from a size to its block, and from there to the next size
STRIDES = tuple(range(4, 34, 2))  # of a table
BESIDE = (0, 4, 8)  # bytes for each block whose size is in a table: in another table, or behind the block
GAP = 64  # bytes between a table and the first block
BEHIND = 16  # bytes that may follow the last block
LEAST_BLOCK, LEAST_UNPACKED = 8, 16  # bytes of the first block, and of what each unpacks to on average
LEAST, MOST, MOST_LISTED = 2, 4096, 1024  # blocks, and those of a table
LARGEST, LARGEST_SHORT = 64 << 20, 1 << 20  # bytes of a file, and of one whose sizes may have two bytes


def unmarked_blocks(data: bytes, allowance: Allowance) -> list[Layer]:
    """The blocks, in their order; none where there are none."""
    is_text = min(data[:TABLE], default=0) > LARGEST >> 24  # a size of four bytes has one that is small
    if LEAST * LEAST_BLOCK <= len(data) <= LARGEST and not is_text:
        for spans in (*_in_chains(data), *_in_tables(data)):
            found = _blocks(data, spans, Allowance(allowance.left))
            if found:
                allowance.left -= sum(layer.unpacked_size for layer in found)
                return found
    return []


def _in_chains(data: bytes) -> Iterator[Spans]:
    """Where blocks begin and end that each have their size in front of them."""
    for width, order in FORMS if len(data) <= LARGEST_SHORT else FORMS[:2]:
        for at in range(min(FIRST, len(data))):
            size = int.from_bytes(data[at : at + width], order)
            last = min(HEADER, len(data) - at - size) if size >= LEAST_BLOCK else 0
            for header in range(width, last + 1):
                if may_begin(data, at + header, at + header + size):
                    for trailer in range(TRAILER + 1):
                        spans = _followed(data, at, header, trailer, width, order)
                        if len(spans) >= LEAST:
                            yield spans


def _followed(data: bytes, at: int, header: int, trailer: int, width: int, order: Order) -> Spans:
    """The blocks behind sizes that lead from one to the next; none where they do not lead to the end."""
    found: Spans = []
    while at + width <= len(data) and len(found) < MOST:
        start = at + header
        end = start + int.from_bytes(data[at : at + width], order)
        if not start < end <= len(data):
            break
        found.append((start, end))
        at = end + trailer
    return found if found and len(data) - found[-1][1] <= BEHIND else []


def _in_tables(data: bytes) -> Iterator[Spans]:
    """Where blocks begin and end whose sizes are in a table in front of them."""
    size = len(data)
    for name in ("<u4", ">u4"):
        numbers = windows(data[: TABLE + MOST_LISTED * STRIDES[-1]], np.dtype(name))
        fits = (numbers >= 1) & (numbers <= size)
        for stride in STRIDES:
            begins = np.flatnonzero((fits[:-stride] & fits[stride:])[:TABLE])
            for phase in np.unique(begins % stride).tolist():
                sizes = numbers[phase::stride][: TABLE // stride + MOST_LISTED].astype(np.int64)
                sizes[~fits[phase::stride][: sizes.size]] = size + 1  # too much for any table that has it
                for more in BESIDE:
                    for first, behind in _filling(sizes + more, phase, stride, size):
                        listed = sizes[first:behind]
                        ends = np.cumsum(listed)
                        yield _spans(size - int(ends[-1]), ends, listed)
                        if more:
                            apart = more * np.arange(1, listed.size + 1)
                            yield _spans(size - int((ends + apart)[-1]), ends + apart - more, listed)


def _spans(start: int, ends: Array, sizes: Array) -> Spans:
    """Of blocks that begin at an offset, where they end from there on, and their sizes."""
    return list(zip((start + ends - sizes).tolist(), (start + ends).tolist(), strict=True))


def _filling(sizes: Array, phase: int, stride: int, end: int) -> Iterator[tuple[int, int]]:
    """The entries [first, behind) of a table whose blocks fill what is between it and the end. A size may be anywhere
    in its entry, so that the last entry seems to go beyond the table.
    """
    taken = np.concatenate(([0], np.cumsum(sizes + stride)))
    firsts = np.arange(min(sizes.size, -(-(TABLE - phase) // stride)))
    most = end - phase - firsts * stride + taken[firsts]
    low, high = np.searchsorted(taken, most - GAP), np.searchsorted(taken, most + stride, "right")
    for first in np.flatnonzero(high > np.maximum(low, firsts + LEAST)).tolist():
        for behind in range(max(int(low[first]), first + LEAST), int(high[first])):
            yield first, behind


def _blocks(data: bytes, spans: Spans, allowance: Allowance) -> list[Layer]:
    """The layers at these spans; none where one of them is not a block, or they are hardly anything."""
    found: list[Layer] = []
    if spans[0][1] - spans[0][0] < LEAST_BLOCK:
        return found
    for start, end in spans:
        layer = STREAMS[KIND].read(data[start:end], 0, allowance)
        if layer is None:
            return []
        found.append(layer._replace(offset=start))
    return found if sum(each.unpacked_size for each in found) >= LEAST_UNPACKED * len(found) else []
