"""Packed streams without a mark at their beginning: they are believed where they fill all of a file behind its header.

LZ4 blocks without a frame have no end of their own either (LZ4 Block Format), so their sizes have to be known: one is
all of a file, or several follow one another to the end of it, each with a number in front of it, or with all of these
in a table. LZO, Snappy and Brotli streams come to their own ends.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from typing import Any, Literal, TypeAlias

import numpy as np

from faithful_ledger.core.layers import STREAMS, runs
from faithful_ledger.core.layers.brotli_streams import BROTLI, goes_on
from faithful_ledger.core.layers.lz4_blocks import may_begin
from faithful_ledger.core.layers.matching import MatchedStream
from faithful_ledger.core.layers.runs import Runs
from faithful_ledger.core.layers.stream import Allowance, Layer
from faithful_ledger.core.scan import windows

__all__ = ["lone_block", "self_ended", "unmarked_blocks"]

Array: TypeAlias = np.ndarray[Any, Any]
Spans: TypeAlias = list[tuple[int, int]]
Order = Literal["little", "big"]
FORMS: tuple[tuple[int, Order], ...] = ((4, "little"), (4, "big"), (2, "little"), (2, "big"))
FORMS_OF_SIZES: tuple[tuple[int, Order], ...] = (*FORMS, (3, "little"), (3, "big"))
KIND = "lz4-block"
MATCHED = tuple(kind for kind in STREAMS.values() if isinstance(kind, MatchedStream))
SELF_ENDED, ENDLESS = (tuple(kind for kind in MATCHED if kind.has_end is has_end) for has_end in (True, False))
RUNS = {stream.name: stream for stream in runs.STREAMS if isinstance(stream, Runs)}
MOST_WHOLE = 2  # times that a file may be unpacked in trying these
MOST_RUN = 64  # bytes for each that is packed in it
LARGEST_RUNS = 1 << 22  # bytes, in which runs are gone through one by one
BEGUN, FIRST_BYTES = 4096, 64  # bytes of what a stream unpacks to that are looked at, and the first of these
MOST_TRIED, LEAST_TRIED, MUCH_TRIED = 32, 1 << 16, 1 << 19  # times that a file may be unpacked in trying; of its bytes
GAINING = (FIRST_BYTES, 0.5), (512, 0.9), (1 << 14, 1.05)  # unpacked bytes, and how many for each that is packed
GAINED = 1.15  # bytes for each that is packed
LEAST_SAID, WIDEST = 48, 64  # a size that is looked for, and bytes of an entry of a table
FIRST = 64  # offsets from the beginning at which the first size may be
TABLE = 256  # at which a table of sizes may begin
HEADER, TRAILER = 32, 16  # bytes from a size to its block, and from there to the next size
STRIDES = tuple(range(4, 34, 2))  # of a table
BESIDE = (0, 4, 8)  # bytes for each block whose size is in a table: in another table, or behind the block
ENOUGH_SAID = 4  # numbers that say sizes, packed and unpacked, so that chance does not explain them
WORD = 4
GAP = 64  # bytes between a table and the first block
BEHIND = 16  # bytes that may follow the last block
FIRST_SELF_ENDED, DIGEST = 512, 64  # offsets at which the first of these may begin, and bytes that may follow the last
LEAST_BLOCK, LEAST_UNPACKED = 8, 16  # bytes of the first block, and of what each unpacks to on average
LEAST_LONE, LEAST_LONE_UNPACKED = 48, 64  # bytes of a file with a single block, and of that
LEAST, MOST, MOST_LISTED = 2, 4096, 1024  # blocks, and those of a table
LARGEST, LARGEST_SHORT = 64 << 20, 1 << 20  # bytes of a file, and of one whose sizes may have two bytes


def unmarked_blocks(data: bytes, allowance: Allowance) -> list[Layer]:
    """The blocks, in their order; none where there are none."""
    if LEAST * LEAST_BLOCK <= len(data) <= LARGEST and not _is_text(data):
        for spans in (*_in_chains(data), *_in_tables(data)):
            found = _blocks(data, spans, Allowance(allowance.left))
            if found:
                allowance.left -= sum(layer.unpacked_size for layer in found)
                return found
    return []


def _is_text(data: bytes) -> bool:
    """Whether there is no size of four bytes in front, as one of these is small."""
    return min(data[:TABLE], default=0) > LARGEST >> 24


def self_ended(data: bytes, allowance: Allowance) -> list[Layer]:
    """The streams of one kind that come to their own ends, one after the other to the end of the file. What is in front
    of the first may look like its beginning, so that those are believed of which the sizes are said in front.
    """
    likely: list[Layer] = []
    for kind in () if _is_text(data) else SELF_ENDED:
        said: list[Layer] = []
        numbers = 0  # of those that say these sizes
        left = MOST_TRIED * min(max(len(data), LEAST_TRIED), MUCH_TRIED) + 2 * len(data)
        for offset in _by_likelihood(data, kind):
            if left < 0 or (numbers == 2 * len(said) >= ENOUGH_SAID and offset > said[0].offset):
                continue
            own = Allowance(allowance.left)
            for found in _following(data, kind, offset, own):
                if not _is_packed_well(found):
                    continue
                if 2 * len(found) > numbers and (more := _sizes_said(data, found)) > numbers:
                    said, numbers = found, more
                if not likely and 2 * sum(layer.size for layer in found) > len(data):
                    likely = found
            left -= allowance.left - own.left
        if said:
            likely = said
            break
    allowance.left -= sum(layer.unpacked_size for layer in likely)
    return likely


def _is_packed_well(found: Sequence[Layer]) -> bool:
    """Whether streams unpack to more than they have themselves, as records that look like some hardly do."""
    return sum(layer.unpacked_size for layer in found) >= GAINED * sum(layer.size for layer in found)


def _by_likelihood(data: bytes, kind: MatchedStream) -> list[int]:
    """Offsets at which a stream may begin: first, as they follow, those from which a number in front leads to a mark at
    the end of one (the codes of a stream have many such numbers themselves), then where what it unpacks to begins with
    what it repeats, as no codes that are taken for bytes do.
    """
    found: list[tuple[bool, int, int]] = []
    first = min(FIRST_SELF_ENDED, max(len(data) - LEAST_LONE, 0))
    said = _said_by_marks(data, kind.mark, first) if kind.mark else set[int]()
    for at in range(first):
        with suppress(ValueError, IndexError):
            begun = bytearray()
            kind.decoded(data, at, BEGUN, begun)
            repeated = sum(begun[n : n + 2] in begun[n + 2 :] for n in range(FIRST_BYTES))
            found.append((at not in said, 0 if at in said else -repeated, at))
    return [at for _, _, at in sorted(found)]


def _said_by_marks(data: bytes, mark: bytes, first: int) -> set[int]:
    """The first offsets from which a number in front leads to the end of a mark."""
    found: set[int] = set()
    for name in ("<u4", ">u4"):
        for place, number in enumerate(windows(data[:first], np.dtype(name)).tolist()):
            at = data.find(mark, max(place + WORD + number - len(mark), 0), first + number)
            while at >= 0:
                found.add(at + len(mark) - number)
                at = data.find(mark, at + 1, first + number)
    return {at for at in found if at < first}


def _numbers(front: bytes) -> set[int]:
    """The numbers of four bytes in front of something."""
    return {number for name in ("<u4", ">u4") for number in windows(front, np.dtype(name)).tolist()}


def _sizes_said(data: bytes, found: Sequence[Layer], *, strictly: bool = False) -> int:
    """How many numbers in front of streams, or in tables in front of all, say their packed and unpacked sizes: as many
    of the one or the other as there are streams, or none; `strictly` says that only unpacked ones in four bytes count.
    """
    numbers = 0
    for is_packed in (False,) if strictly else (True, False):
        sizes = [layer.size if is_packed else layer.unpacked_size for layer in found]
        forms = FORMS[:2] if strictly else FORMS_OF_SIZES
        if sizes[0] >= LEAST_SAID and any(_is_said(data, found, sizes, *form) for form in forms):
            numbers += len(found)
    return numbers


def _is_said(data: bytes, found: Sequence[Layer], sizes: Sequence[int], width: int, order: Order) -> bool:
    """Whether each stream has its size in so many bytes in front of it, or all of them in a table."""
    if max(sizes) >> 8 * width:
        return False
    first, spelled = found[0], [size.to_bytes(width, order) for size in sizes]
    at = data.find(spelled[0], 0, first.offset)
    while at >= 0:
        for step in (0, *range(width, WIDEST)):
            places = [
                at + number * step if step else at + each.offset - first.offset for number, each in enumerate(found)
            ]
            if all(map(data.startswith, spelled, places)):
                return True
        at = data.find(spelled[0], at + 1, first.offset)
    return False


def _following(data: bytes, kind: MatchedStream, at: int, allowance: Allowance) -> Iterator[list[Layer]]:
    """The streams of a kind from an offset on to the end of the file, with as many bytes between two of them. All that
    is unpacked counts, but each number of bytes may use all of the allowance.
    """
    first = kind.read(data, at, allowance)
    if first is None or first.unpacked_size < LEAST_LONE_UNPACKED:
        return
    last, most = len(data) - DIGEST, allowance.left
    for header in range(HEADER + 1):
        found, own = [first], Allowance(most)
        while layer := kind.read(data, found[-1].offset + found[-1].size + header, own):
            found.append(layer)
        allowance.left -= most - own.left
        if len(found) > 1 and found[-1].offset + found[-1].size >= last:
            yield found
    if first.offset + first.size >= last:
        yield [first]


def lone_block(data: bytes, allowance: Allowance) -> Layer | None:
    """A block that is all of the file behind a header of a few bytes, in which its size is said, or that of what it
    unpacks to; a few bytes may follow it. Other bytes are hardly ever one to their end.
    """
    alone: Layer | None = None
    left = left_of_brotli = MOST_WHOLE * max(len(data), LEAST_TRIED)
    filled = len(data.rstrip(b"\0"))
    for offset in range(1 if _is_text(data) else min(FIRST, max(len(data) - LEAST_LONE, 0))):
        kinds = () if _is_text(data) else (*([KIND] if may_begin(data, offset) else ()), *_endless(data, offset))
        if left_of_brotli >= 0:
            own = Allowance(allowance.left)
            layer = _brotli(data, offset, own)
            left_of_brotli -= allowance.left - own.left
            if layer is not None:
                allowance.left = own.left
                return layer
        for kind in kinds:
            for end in (len(data), *_ends_said(data, offset, filled)):
                if kind != KIND and left < 0:
                    break
                own = Allowance(allowance.left)
                layer = STREAMS[kind].read(data[:end], offset, own)
                left -= allowance.left - own.left if kind != KIND else 0
                if layer is None or layer.unpacked_size < max(LEAST_LONE_UNPACKED, layer.size):
                    continue
                if kind != KIND and not _is_packed_well([layer]):
                    continue
                if kind in RUNS and not _is_of_runs(data, layer):
                    continue
                if _sizes_said(data, [layer], strictly=kind in RUNS):
                    allowance.left -= layer.unpacked_size
                    return layer
                alone = layer if not offset and kind not in RUNS else alone
    return alone


def _brotli(data: bytes, offset: int, allowance: Allowance) -> Layer | None:
    """A stream that comes to its own end, behind which there is no more than a digest."""
    last = len(data) - DIGEST
    layer = STREAMS[BROTLI].read(data, offset, allowance) if goes_on(data, offset, last, allowance) else None
    if layer is None or layer.unpacked_size < LEAST_LONE_UNPACKED or not _is_packed_well([layer]):
        return None
    return layer if len(data) - offset - layer.size <= DIGEST else None


def _is_of_runs(data: bytes, layer: Layer) -> bool:
    """Whether the bytes of a layer are runs as they are written, of which others are often some as well."""
    stream, packed = RUNS[layer.kind], data[layer.offset : layer.offset + layer.size]
    return stream.is_as_written(packed, stream.unpacked(packed, layer.unpacked_size))


def _endless(data: bytes, offset: int) -> Iterator[str]:
    """The kinds without an end of their own that may begin at an offset."""
    for kind in ENDLESS:
        with suppress(ValueError, IndexError):
            for most, gained in GAINING:
                begun = bytearray()
                packed = kind.decoded(data, offset, most, begun) - offset
                if len(begun) <= gained * packed:
                    break
            else:
                yield kind.name
    packed = len(data) - offset
    sizes = _numbers(data[:offset]) if packed <= LARGEST_RUNS else ()
    if any(GAINED * packed <= size <= MOST_RUN * packed for size in sizes):
        yield from RUNS  # which any bytes may be, so that their sizes have to be said


def _ends_said(data: bytes, offset: int, filled: int) -> list[int]:
    """Where something ends, a few bytes before the file does, or with nothing but zeros behind it, if a number in front
    of it is its size. The zeros at the end are from `filled` on.
    """
    ends = (offset + size for size in _numbers(data[:offset]) if offset + LEAST_BLOCK <= offset + size < len(data))
    return sorted(end for end in ends if end >= min(filled, len(data) - BEHIND))


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
