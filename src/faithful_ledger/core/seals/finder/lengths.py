"""Numbers that say how long the rest of a file is, or how many records it has, from saves of different sizes: size −
unit × number is always the same.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from itertools import product
from math import log2
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.scan import windows
from faithful_ledger.core.seals.algorithms import LENGTH, Algorithm
from faithful_ledger.core.seals.finder.chosen import Edges
from faithful_ledger.core.seals.finder.finding import Finding
from faithful_ledger.core.seals.finder.places import VARIABLE, Edge
from faithful_ledger.core.storage.leb128 import Leb128

__all__ = ["lengths", "lengths_of", "numbers_in_front", "of_what_follows", "with_said"]

Array: TypeAlias = np.ndarray[Any, Any]
WIDTHS = (4, 2, 1)  # what is wider has zeros in its highest bytes
LEAST_COUNTED = 3  # sizes: of two any number that grows would be a count
MOST_ADDED = 64
COUNT_BITS, UNIT_BITS, ADDED_BITS = 4, 4, 6
HEAD, TAIL = 1 << 16, 1 << 12  # bytes in which such numbers are looked for
FIRST = 16  # bytes, at the beginning of which most headers say a length
LONGEST_HEADER = 32  # bytes between a length and what it counts
LEAST_FIXED = 8  # bytes of a save by which another beginning has to be better than either end
SMALL = 64  # what is usually in front of that which is counted
LEAST_VARIABLE = 128  # smaller numbers of variable length are one byte, as others are
TRAILERS = (0, 4, 8, 16, 20, 32)  # bytes behind what such a number counts
SAID, GAPS, LONGEST_TAIL, MOST_SAID = 64, (0, 4, 8, 12, 16, 20, 32), 1 << 10, 4
LEAST_SAID = 16  # bytes: fewer are said by many numbers


def lengths(contents: Sequence[bytes], until: Deadline = NEVER) -> Iterator[Finding]:
    """Every number that is as long as the file from some offset on, or as that is in records of some size, the same in
    all saves; something may always be added to it.
    """
    sizes = np.array([len(content) for content in contents], np.int64)
    distinct = len(set(sizes.tolist()))
    if distinct < 2:
        return
    variable = list(_variable(contents, sizes))
    yield from variable
    within = {at for each in variable for at in range(each.stored.offset, each.stored.offset + each.size)}
    for width, order, from_end in product(WIDTHS, ("le", "be"), (False, True)):
        if until.over:
            return
        room = min(int(sizes.min()), TAIL if from_end else HEAD)
        if room < width:
            continue
        numbers = np.stack([_numbers(content, room, width, order, from_end=from_end) for content in contents])
        units = np.ones(numbers.shape[1], np.int64)
        for counted in (False, True):
            if counted and distinct < LEAST_COUNTED:
                break
            if counted:
                units = _units(numbers, sizes)
            left = sizes[:, None] - units * numbers
            fits = (left == left[0]).all(axis=0) & (left[0] < sizes.min()) & (numbers > 0).all(axis=0) & (units > 0)
            fits &= left[0] >= -MOST_ADDED * units
            for place in np.flatnonzero(fits).tolist():
                stored = Edge(room - place, True) if from_end else Edge(place)
                found = _Found(
                    stored, width, order, int(units[place]), int(left[0, place]), int(numbers[:, place].max())
                )
                made = _finding(found, contents, distinct)
                is_far = made.start.offset > place + width + LONGEST_HEADER or made.own is not None
                if from_end or not is_far or not within.intersection(range(place, place + width)):
                    yield made


def _variable(contents: Sequence[bytes], sizes: Array) -> Iterator[Finding]:
    """Numbers of variable length, of as many bytes in all saves, that count what is behind them to the end, or to where
    a checksum may begin: part of one looks like a fixed number that counts less.
    """
    storage = Leb128(VARIABLE)
    room = min(int(sizes.min()), HEAD)
    places = np.arange(room)
    columns = [storage.column(np.frombuffer(content, np.uint8), places) for content in contents]
    numbers = np.stack([values.astype(np.int64) for values, _ in columns])
    fits = np.all([whole for _, whole in columns], axis=0) & (numbers >= LEAST_VARIABLE).all(axis=0)
    widths = np.where(fits, np.ceil(np.log2(np.maximum(numbers, 1) + 1.0) / 7), 0).astype(np.int64)
    left = sizes[:, None] - numbers - widths - places
    fits &= (widths == widths[0]).all(axis=0) & (left == left[0]).all(axis=0) & np.isin(left[0], TRAILERS)
    wide, distinct = int(sizes.max()).bit_length(), len(set(sizes.tolist()))
    for at in np.flatnonzero(fits).tolist():
        bits = distinct * min(7 * int(widths[0, at]), wide) - log2(room * len(TRAILERS))
        start, end = Edge(at + int(widths[0, at])), Edge(int(left[0, at]), True)
        yield Finding(Algorithm(LENGTH), start, end, Edge(at), int(widths[0, at]), VARIABLE, bits=bits)


def numbers_in_front(contents: Sequence[bytes], widths: Iterable[int], most: int) -> Iterator[tuple[int, str, Array]]:
    """The numbers of each width in either order at the first offsets of every save, a row for each save; `most` bytes
    are looked at.
    """
    room = min(*map(len, contents), most)
    for width, order in product(widths, ("le", "be")):
        if room >= width:
            yield width, order, np.stack([_numbers(each, room, width, order, from_end=False) for each in contents])


def lengths_of(contents: Sequence[bytes], findings: Sequence[Finding]) -> Iterator[Finding]:
    """Numbers in the first bytes that say how many bytes each of some findings covers, in every save."""
    known = list(numbers_in_front(contents, WIDTHS[:2], SAID)) if findings else []
    for finding in findings:
        starts = [finding.start.at(len(content)) for content in contents]
        covered = [finding.end_in(content) - start for content, start in zip(contents, starts, strict=True)]
        if finding.said is not None or finding.own is not None or min(covered) < LEAST_SAID:
            continue
        for width, order, numbers in known:
            for at in np.flatnonzero((numbers == np.array(covered)[:, None]).all(axis=0)).tolist():
                if at + width <= min(starts):
                    tried = len(WIDTHS) * 4 * min(*map(len, contents), SAID)
                    bits, form = 8.0 * width * len(set(covered)) - log2(tried), f"u{8 * width}{order}"
                    yield Finding(Algorithm(LENGTH), finding.start, finding.end, Edge(at), width, form, bits=bits)
        for match in re.finditer(rb"(?<![0-9.])%d(?![0-9.])" % covered[0], contents[0][: min(*starts, SAID)]):
            bits = log2(10) * (match.end() - match.start()) * len(set(covered)) - log2(starts[0])
            length = Finding(
                Algorithm(LENGTH), finding.start, finding.end, Edge(match.start()), len(match[0]), "decimal"
            )
            yield replace(length, bits=bits)


def of_what_follows(length: Finding, seals: Iterable[Finding], contents: Sequence[bytes]) -> Finding:
    """The length of the rest from some bytes behind its number on is as well that of all behind it up to as many bytes
    before the end. It is that where a seal has these, and where they are more than a header has in front of the rest,
    unless saves of other sizes show that bytes behind the number stay where they are. Where only some of them do, what
    it counts begins there, or nearby.
    """
    behind = length.stored.offset + length.size
    more = length.start.offset - behind
    simple = not any(edge.from_end for edge in (length.stored, length.start)) and length.end == Edge(0, True)
    if not simple or length.algorithm != Algorithm(LENGTH):
        return length
    if any(each.stored == Edge(more, True) and each.size == more for each in seals):
        return replace(length, start=Edge(behind), end=Edge(more, True))
    if more <= LONGEST_HEADER:
        return length
    fixed = _fixed(contents, behind, more)
    if fixed == more:
        return length
    made = replace(length, start=Edge(behind + fixed), end=Edge(more - fixed, True))
    return replace(made, undecided=True, freedom="what it counts may begin elsewhere") if fixed else made


def _fixed(contents: Sequence[bytes], begin: int, size: int) -> int:
    """How many of so many bytes from an offset on stay there in saves of other sizes, where the others stay as far
    before the end: as clearly most of them say, else none.
    """
    first = np.frombuffer(contents[0], np.uint8)
    stays, moves = np.zeros(size, np.int64), np.zeros(size, np.int64)
    for content in contents[1:]:
        other = np.frombuffer(content, np.uint8)
        if other.size != first.size:
            stays += other[begin : begin + size] == first[begin : begin + size]
            moves += other[-size:] == first[-size:]
    agree = np.concatenate(([0], np.cumsum(stays))) + np.concatenate((np.cumsum(moves[::-1])[::-1], [0]))
    best, clearly = int(agree.argmax()), LEAST_FIXED * (len(contents) - 1)
    edge = size if agree[-1] - agree[0] > clearly else 0
    return best if agree[best] - agree[edge] > clearly else edge


def with_said(edges: Edges, contents: Sequence[bytes]) -> Edges:
    """The edges of parts, and of what a number in the first bytes of every save says the length of, or the end."""
    least = min(map(len, contents)) // 2
    heads, tails = dict.fromkeys(edges.heads), dict.fromkeys(edges.tails)
    for width, _, numbers in numbers_in_front(contents, WIDTHS[:2], SAID):
        left = np.array(list(map(len, contents)))[:, None] - numbers
        for at in np.flatnonzero((numbers >= least).all(axis=0) & (left == left[0]).all(axis=0)).tolist():
            for gap in (*GAPS, -at - width):
                head = at + width + gap
                tail = int(left[0, at]) - head
                if 0 <= tail <= LONGEST_TAIL and len(tails) < len(edges.tails) + MOST_SAID:
                    heads |= {head: None} if head else {}
                    tails |= {tail: None} if tail else {}
    return Edges(tuple(heads), tuple(tails))


class _Found(NamedTuple):
    """A number: where and how it is stored, how many bytes count as one, how many bytes of a file are not counted or,
    below 0, counted beyond it, and the largest there is.
    """

    stored: Edge
    width: int
    order: str
    unit: int
    left: int
    most: int


def _units(numbers: Array, sizes: Array) -> Array:
    """How many bytes count as one at each place, from the shortest and the longest save; 0 where that is nothing."""
    low, high = int(sizes.argmin()), int(sizes.argmax())
    more, longer = numbers[high] - numbers[low], int(sizes[high] - sizes[low])
    step = np.where(more > 0, more, longer + 1)
    units = np.where(longer % step == 0, longer // step, 0)
    found: Array = np.where(units > 1, units, 0)
    return found


def _finding(found: _Found, contents: Sequence[bytes], distinct: int) -> Finding:
    size = min(map(len, contents))
    wide = max(map(len, contents)).bit_length()
    start = max(found.left, 0)
    added = -(-max(-found.left, 0) // found.unit)
    start = found.left + added * found.unit if added else start
    said = min(8 * found.width, wide) if found.unit == 1 else min(8 * found.width, found.most.bit_length() + COUNT_BITS)
    bits = (distinct - 1 - (found.unit > 1)) * said + (wide if 0 <= found.left <= SMALL else wide - start.bit_length())
    at = found.stored.at(size)
    # A length in a header, of all that follows the header, is where people put it: few others are as likely.
    between = start - at - found.width
    is_usual = at <= FIRST and at % found.width == start % found.width == 0 and 0 <= between <= FIRST
    tried = min(size, HEAD) + min(size, TAIL)
    is_usual |= at <= FIRST and at % found.width == 0 and found.left == 0  # of all of the file
    if is_usual:
        tried = (FIRST // found.width) * (FIRST // found.width if between and found.left else 1)
    chance = log2(len(WIDTHS) * 4 * tried) + (ADDED_BITS if added else 0)
    if found.unit > 1:  # the first difference gives the unit, and it is a whole number
        chance += UNIT_BITS - log2((max(map(len, contents)) - size) // found.unit)
    # What counts itself as well counts all, or what a header is in front of.
    is_odd = at + found.width > start > LONGEST_HEADER and at - start > LONGEST_HEADER
    return Finding(
        Algorithm(LENGTH, added or None, unit=found.unit),
        Edge(start),
        Edge(0, True),
        found.stored,
        found.width,
        f"u{8 * found.width}{found.order}" if found.width > 1 else "u8",
        "zeros" if at + found.width > start else None,
        bits=bits - chance + 12,
        freedom="what it counts may begin elsewhere" if is_odd else "",
        undecided=is_odd,
    )


def _numbers(content: bytes, room: int, width: int, order: str, *, from_end: bool) -> Array:
    """The number at each offset of the first, or of the last, `room` bytes."""
    part = content[len(content) - room :] if from_end else content[:room]
    return windows(part, np.dtype(f"{'<' if order == 'le' else '>'}u{width}")).astype(np.int64)
