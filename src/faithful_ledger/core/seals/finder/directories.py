"""A directory: a table in front of the parts of a save that lists where each begins, how long it is, and its checksum.

Parts follow one another, so that where one begins is where the one before ends, rounded up to an alignment. Two columns
of the table with whom that comes true for every entry up to the end of the file are a directory.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import chain, pairwise, product, starmap
from typing import Any, Literal, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.scan import windows
from faithful_ledger.core.seals.algorithms import ALGORITHMS, Algorithm
from faithful_ledger.core.seals.finder.blocks import ORDERS, Order
from faithful_ledger.core.seals.finder.packed import Counted
from faithful_ledger.core.storage import NUMBERS

__all__ = ["Column", "DirectoryRule", "find_directories", "tag_of"]

Array: TypeAlias = np.ndarray[Any, Any]
FRONT = 4096  # bytes of a file in which a directory begins
WIDEST, LEAST, MOST = 64, 2, 4096  # bytes of an entry; entries
LARGEST_GAP = 4096  # bytes to which parts are rounded up
LEAST_ALIGNED = 8  # how many times the alignment of parts has to fit into a file
LARGEST_LISTED = 4 << 20  # bytes of parts, over which every checksum is looked for
COUNT_WIDTHS = (4, 2, 1)
MOST_TRIED = 200
LEAST_SAID = 32.0  # bits
TAG = 4
FORMS = tuple(product((4, 2), ORDERS))


class Column(NamedTuple):
    """A number at an offset in every entry: where the part begins (`start`), how many bytes it has (`size`), where it
    ends (`end`), or a checksum of it.
    """

    at: int
    width: int
    order: Order
    says: Literal["start", "size", "end", "sum"]
    algorithm: Algorithm | None = None

    @property
    def form(self) -> str:
        if self.algorithm is not None and self.algorithm.is_digest:
            return "bytes"
        return f"u{8 * self.width}{'le' if self.order == 'little' else 'be'}" if self.width > 1 else "u8"

    def of(self, content: bytes, entry: int) -> int:
        return int.from_bytes(content[entry + self.at : entry + self.at + self.width], self.order)


@dataclass(frozen=True)
class DirectoryRule:
    """Entries of `stride` bytes from `start` on, of which the first save has `count`, and the parts that they list. An
    offset counts from `base`. Each part begins at a multiple of `align`. `counted` is the number of how many
    there are; without it there are as many in all saves.
    """

    start: int
    stride: int
    columns: tuple[Column, ...]
    count: int
    base: int
    align: int
    first: int
    counted: Counted | None = None
    of: int = 0

    @property
    def sums(self) -> list[Column]:
        return [column for column in self.columns if column.says == "sum"]

    @property
    def end(self) -> int:
        """Where the directory ends."""
        return self.start + self.count * self.stride

    def parts(self, content: bytes, count: int) -> list[tuple[int, int]]:
        """Where each part of a save begins and ends; nothing where the entries do not lead through the file."""
        begin, other = self.columns_of_places
        found: list[tuple[int, int]] = []
        at = self.start + count * self.stride
        for entry in range(self.start, at, self.stride):
            at += -(at - self.base) % self.align if found else 0
            low = begin.of(content, entry) + self.base
            high = other.of(content, entry) + (low if other.says == "size" else self.base)
            if not at <= low <= high <= len(content) or (found and low != at):
                return []
            found.append((low, high))
            at = high
        return found

    @property
    def columns_of_places(self) -> tuple[Column, Column]:
        """What says where a part begins, and how long it is or where it ends."""
        begin, other = sorted(
            (each for each in self.columns if each.says != "sum"), key=lambda each: each.says != "start"
        )
        return begin, other

    def count_in(self, content: bytes) -> int:
        """How many entries a save has."""
        if self.counted is None:
            return self.count
        return int(NUMBERS[self.counted.form].decode(content[self.counted.at : self.counted.end]))

    def holds(self, content: bytes) -> bool:
        """Whether it is so in a save, and its checksums are right."""
        return self.holds_for(content, self.count_in(content))

    def holds_for(self, content: bytes, count: int) -> bool:
        """The same where so many entries are said to be there."""
        parts = self.parts(content, count) if 0 < count <= MOST else []
        ends = [high for _, high in parts[-1:]]
        if not parts or not all(0 <= len(content) - end < self.align for end in ends):
            return False
        return all(
            _cut(column, content[low:high]) == column.of(content, self.start + number * self.stride)
            for column in self.sums
            for number, (low, high) in enumerate(parts)
        )

    def explains(self, place: int) -> bool:
        """Whether one of its numbers is stored at an offset, or says how many entries it has."""
        if self.counted is not None and self.counted.at == place:
            return True
        at = place - self.start
        return 0 <= at < self.count * self.stride and any(at % self.stride == column.at for column in self.columns)

    @property
    def in_words(self) -> str:
        what = {"start": "where it begins", "size": "its size", "end": "where it ends"}
        said = [
            f"{what[c.says] if c.algorithm is None else f'its {c.algorithm.name}'} ({c.form} at {c.at})"
            for c in self.columns
        ]
        return (
            f"a directory of {self.count} parts from 0x{self.start:X} on, {self.stride} bytes each: {', '.join(said)}"
        )


def find_directories(contents: Sequence[bytes], until: Deadline = NEVER) -> list[DirectoryRule]:
    """The directory of saves, if they have one; of several ways to read it the one with checksums that hold."""
    plain: list[DirectoryRule] = []
    for rule in _candidates(contents[0]):
        if until.over:
            return []
        holding = chain.from_iterable(_counted(each, contents) for each in _rounded(rule))
        made = next(holding, None)  # another count says nothing else of the parts
        if made is None:
            continue
        if sums := list(_sums(made, contents, until)):
            return [_begun(replace(made, columns=(*made.columns, *sums), of=len(contents)))]
        plain.append(made)
    enough = [rule for rule in plain if _says(rule, contents) >= LEAST_SAID]
    best = min(enough, key=lambda rule: _spare(rule, contents), default=None)
    return [_begun(replace(best, of=len(contents)))] if best is not None else []


def _spare(rule: DirectoryRule, contents: Sequence[bytes]) -> tuple[int, int, int]:
    """How many bytes are behind the last parts, whether the first begins at an odd place; and fewer are better."""
    behind = sum(len(content) - rule.parts(content, rule.count_in(content))[-1][1] for content in contents)
    return behind, rule.first % rule.align, -rule.count


def _rounded(rule: DirectoryRule) -> Iterator[DirectoryRule]:
    """The rule with every alignment that the parts of one save allow, the smallest first: where the parts of that save
    happen to end at multiples of it, only the other saves show that there is one.
    """
    align = rule.align
    while align <= LARGEST_GAP:
        yield replace(rule, align=align)
        align *= 2


def _begun(rule: DirectoryRule) -> DirectoryRule:
    """The rule with its columns in order, and entries that begin with the first where that is in front of them."""
    front = min(0, *(column.at for column in rule.columns))
    columns = (column._replace(at=column.at - front) for column in rule.columns)
    return replace(rule, start=rule.start + front, columns=tuple(sorted(columns, key=lambda column: column.at)))


def _says(rule: DirectoryRule, contents: Sequence[bytes]) -> float:
    """How many bits say so: those of each offset that had to be where it is, in every table that is another one."""
    tables = {content[rule.start : rule.start + rule.count_in(content) * rule.stride] for content in contents}
    return sum(len(table) // rule.stride for table in tables) * math.log2(max(len(contents[0]) / rule.align, 2))


def _candidates(content: bytes) -> list[DirectoryRule]:
    """Pairs of columns that lead through one save, those with most entries and the widest numbers first."""
    found: list[DirectoryRule] = []
    for width, order in FORMS:
        form = NUMBERS[f"u{8 * width}{'le' if order == 'little' else 'be'}"]
        numbers = windows(content[: FRONT + WIDEST * LEAST], np.dtype(form.dtype)).astype(np.int64)
        for stride in range(2 * width, WIDEST + 1, 2):
            found += _with_stride(content, numbers, width, order, stride)
    return sorted(found, key=lambda rule: (-rule.count, -rule.columns[0].width, rule.align))[:MOST_TRIED]


def _with_stride(content: bytes, numbers: Array, width: int, order: Order, stride: int) -> Iterator[DirectoryRule]:
    places = np.arange(max(numbers.size - 2 * stride, 0))
    largest_gap = min(LARGEST_GAP, len(content) // LEAST_ALIGNED)
    for apart in range(-(stride // width) * width, stride, width):
        at = places[(places + apart >= 0) & (places + apart + stride < numbers.size)]
        if not apart or not at.size:
            continue
        begins, other, following = numbers[at], numbers[at + apart], numbers[at + stride]
        fits = (begins < following) & (following <= len(content)) & (other > 0)
        for is_end, ends in ((False, begins + other), (True, other)):
            gap = following - ends
            chosen = fits & (gap >= 0) & ((gap == 0) | ((gap < following & -following) & (gap < largest_gap)))
            hits = at[chosen].tolist()
            leading = _leading(hits, gap[chosen].tolist(), stride)
            for place, last, is_close in leading:
                if is_close and last <= at[-1]:  # there, what the last entry says is known, and has to lead to the end
                    start, end = int(numbers[last]), int(numbers[last + apart])
                    end += 0 if is_end else start
                    if end <= start:
                        last -= stride
                        end = int(numbers[last + apart]) + (0 if is_end else int(numbers[last]))
                    left, table_end = len(content) - end, last + max(apart, 0) + width
                    if left if numbers[place] else not table_end <= left <= table_end + stride:
                        continue
                low = min(place, place + apart)
                begin = Column(place - low, width, order, "start")
                column = Column(place + apart - low, width, order, "end" if is_end else "size")
                yield from _followed(content, low, stride, begin, column)


def _leading(hits: list[int], gaps: list[int], stride: int) -> Iterator[tuple[int, int, bool]]:
    """The first entries of rows of entries that lead from one to the next: where each is, where the last one of its row
    is, and whether the parts of that row are close together.
    """
    rows: dict[int, tuple[int, bool]] = {}
    for place, gap in zip(reversed(hits), reversed(gaps), strict=True):
        last, is_close = rows.get(place + stride, (place + stride, True))
        rows[place] = last, is_close and not gap
    return ((place, *rows[place]) for place in hits if place - stride not in rows)


def _followed(content: bytes, low: int, stride: int, begin: Column, other: Column) -> Iterator[DirectoryRule]:
    """The directories with two columns, of which the first entry is at `low`, that lead to the end of the file."""
    size, spans = len(content), list[tuple[int, int]]()
    while len(spans) < MOST and low + (len(spans) + 1) * stride <= size:
        entry = low + len(spans) * stride
        start, end = begin.of(content, entry), other.of(content, entry)
        end += start if other.says == "size" else 0
        if end <= start or (spans and not 0 <= start - spans[-1][1] < LARGEST_GAP):
            break
        align = _alignment([*spans, (start, end)])
        if not align:
            break
        spans.append((start, end))
    count, align = len(spans), _alignment(spans)
    if count < LEAST:
        return
    end = spans[-1][1]
    table_end = low + (count - 1) * stride + max(begin.at, other.at) + begin.width
    bases = [0] if spans[0][0] else range(table_end, table_end + stride + align)
    for base in bases:  # offsets count from the beginning of the file, or from that of the parts
        first = spans[0][0] + base
        reaches = 0 <= size - (end + base) < align
        if reaches and table_end <= first < table_end + FRONT:
            start = first - count * stride  # a table usually ends where the parts begin
            start = start if low - stride < start <= low else min(low, start)
            columns = tuple(column._replace(at=column.at + low - start) for column in (begin, other))
            if low - start < stride and start >= 0:
                yield DirectoryRule(start, stride, columns, count, base, align, first)


def _alignment(spans: Sequence[tuple[int, int]]) -> int:
    """The smallest power of two to which all parts but the first are rounded up; 0 where there is none."""
    gaps = [after[0] - before[1] for before, after in pairwise(spans)]
    align = 1 << max(gaps, default=0).bit_length()
    align = 1 if not any(gaps) else align
    fits = all(start == end + -end % align for (_, end), (start, _) in pairwise(spans))
    return align if fits and align <= LARGEST_GAP else 0


def _counted(rule: DirectoryRule, contents: Sequence[bytes]) -> Iterator[DirectoryRule]:
    """The rule with a number that says how many entries there are, and with none, where it holds in every save."""
    known = {(0, rule.count): rule.holds_for(contents[0], rule.count)}

    def holds(number: int, count: int) -> bool:
        if (number, count) not in known:
            known[number, count] = rule.holds_for(contents[number], count)
        return known[number, count]

    if not holds(0, rule.count):
        return
    for width, order in product(COUNT_WIDTHS, ORDERS if rule.start else ()):
        form = f"u{8 * width}{'' if width == 1 else 'le' if order == 'little' else 'be'}"
        spelled = rule.count.to_bytes(width, order) if rule.count < 1 << 8 * width else b""
        at = contents[0].rfind(spelled, 0, rule.start) if spelled else -1
        while at >= 0:
            counts = [int.from_bytes(content[at : at + width], order) for content in contents]
            if all(starmap(holds, enumerate(counts))):
                yield replace(rule, counted=Counted(at, form))
            at = contents[0].rfind(spelled, 0, at + width - 1)
    if all(holds(number, rule.count) for number in range(len(contents))):
        yield rule


def _sums(rule: DirectoryRule, contents: Sequence[bytes], until: Deadline) -> Iterator[Column]:
    """The checksums of the parts that the entries hold."""
    content = contents[0]
    parts = rule.parts(content, rule.count)
    if sum(high - low for low, high in parts) > LARGEST_LISTED:
        return
    taken = [(column.at, column.at + column.width) for column in rule.columns]
    largest = max(range(len(parts)), key=lambda number: parts[number][1] - parts[number][0])
    low, high = parts[largest]
    entry = rule.start + largest * rule.stride
    for algorithm in ALGORITHMS.values():
        if until.over or algorithm.bits < 16:
            continue
        width = algorithm.bits // 8
        raw = algorithm([memoryview(content)[low:high]]).to_bytes(width, "big")
        for order in ORDERS[1:] if algorithm.is_digest else ORDERS:
            spelled = raw if order == "big" else raw[::-1]
            front = max(entry - rule.stride + 1, 0)  # where an entry begins is not known
            at = content.find(spelled, front, entry + rule.stride) - entry
            column = Column(at, width, order, "sum", algorithm)
            within = (
                max(at + width, *(end for _, end in taken)) - min(at, *(start for start, _ in taken)) <= rule.stride
            )
            if at < front - entry or not within or any(at < end and start < at + width for start, end in taken):
                continue
            if all(map(replace(rule, columns=(*rule.columns, column)).holds, contents)):
                taken.append((at, at + width))
                yield column


def _cut(column: Column, data: bytes) -> int:
    assert column.algorithm is not None
    return column.algorithm.cut(column.algorithm([memoryview(data)]), column.width)


def tag_of(rule: DirectoryRule, content: bytes) -> int | None:
    """Where in an entry four letters are, in every one of them and with none twice; None where there are none."""
    taken = [(column.at, column.at + column.width) for column in rule.columns]
    for at in range(rule.stride - TAG + 1):
        if any(at < end and start < at + TAG for start, end in taken):
            continue
        tags = [content[entry + at : entry + at + TAG] for entry in range(rule.start, rule.end, rule.stride)]
        if all(tag.isascii() and tag.decode().isprintable() and tag.strip() for tag in tags):
            return at
    return None
