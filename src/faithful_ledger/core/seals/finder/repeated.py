"""The same seal in each of a row of blocks of one size, as in the sectors of a memory card or in slots."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

from faithful_ledger.core.seals.algorithms import COPY, LENGTH, Algorithm
from faithful_ledger.core.seals.finder.cuts import ALONE
from faithful_ledger.core.seals.finder.finding import SURE, Finding
from faithful_ledger.core.seals.finder.places import Edge

__all__ = ["SealRow", "seal_rows", "with_others"]

STRIDES = tuple(1 << bits for bits in range(7, 18))
MOST_BLOCKS, MOST_MISSES = 256, 2
LEAST_LIKELY = 8.0  # bits
OF_A_BLOCK, STRIDE_CHOSEN, INVERSE = 6.0, 6.0, 8.0  # bits of a value in another block; and of what is beside a seal
MOST_BETWEEN, LARGEST_NEAR = 32, 1 << 14  # bytes between blocks of any size; and the largest ones that are tried


def with_others(finding: Finding, contents: Sequence[bytes]) -> tuple[Finding, list[Finding]]:
    """A finding that is sure or likely, and what holds because it does: the same in other blocks, and the inverse of
    each beside it. Blocks that hold something else say it once more. Of what ends where a number says there are none.
    """
    if finding.said is not None:
        return finding, []
    if finding.undecided or finding.bits < LEAST_LIKELY or finding.algorithm.name in (LENGTH, COPY):
        return finding, list(repeated(finding, contents)) if finding.sure else []
    row = list(repeated(finding, contents))
    if finding.constant_only and len(row) == 1 and len(set(map(row[0].stored_in, contents))) == 1 < len(contents):
        row = []  # with a start of its own, chance explains one other block that stays the same
    inverse = {id(each): list(complement(each, contents)) for each in (finding, *row)}
    if not finding.sure:
        known = set(map(finding.stored_in, contents))
        stored = {each.stored_in(content) for each in row for content in contents}
        stored = {each for each in stored if all(each)}  # small numbers are often the sum of others beside them
        more = OF_A_BLOCK * len(stored - known) - STRIDE_CHOSEN if row else 0.0
        more += INVERSE if inverse[id(finding)] else 0.0
        if finding.bits + more >= SURE:  # barely: what is sure by itself comes first, and the likelier of two others
            finding = replace(finding, bits=SURE + finding.bits / SURE)
    if not finding.sure:
        return finding, []
    others = [each for of_one in inverse.values() for each in of_one]
    return finding, [replace(each, bits=finding.bits) for each in (*row, *others)]


def repeated(finding: Finding, contents: Sequence[bytes]) -> Iterator[Finding]:
    """What holds as well in every save so many blocks before or behind a finding: of blocks that follow each other, or
    of a size that is a power of two.
    """
    size = min(map(len, contents))
    first = finding.spans(len(contents[0]))
    if any(finding.spans(len(content)) != first for content in contents):
        return
    start, end, at = first
    least = max(end, at + finding.size) - min(start, at)
    near = range(least, least + MOST_BETWEEN + 1) if least <= LARGEST_NEAR else ()
    for stride in dict.fromkeys((*near, *(stride for stride in STRIDES if stride >= least))):
        found = [each for way in (stride, -stride) for each in _moved(finding, contents, way, size)]
        yield from found
        if found:
            return


def complement(finding: Finding, contents: Sequence[bytes]) -> Iterator[Finding]:
    """The inverse of a checksum that is stored directly behind it, or in front of it, in every save."""
    for by in (finding.size, -finding.size):
        made = replace(
            finding,
            algorithm=Algorithm(COPY, changed="inverted"),
            start=finding.stored,
            end=finding.stored.moved(finding.size),
            stored=finding.stored.moved(by),
            form="bytes",
            own=None,
            beside=ALONE,
            freedom="",
        )
        places = [made.spans(len(content)) for content in contents]
        if all(min(spans) >= 0 for spans in places) and all(map(made.holds, contents)):
            yield replace(made, holds_in=len(contents), of=len(contents))


def _moved(finding: Finding, contents: Sequence[bytes], way: int, size: int) -> list[Finding]:
    """The same so many bytes on, and again. A block of zeros alone says nothing: of those between others they are
    believed where they are fewer, and of those behind the last one as many as there are others. A distance at which
    many blocks do not hold is none.
    """
    found: list[Finding] = []
    empty: list[Finding] = []
    between: list[Finding] = []
    misses = missed = 0
    for number in range(1, MOST_BLOCKS):
        made = _shifted(finding, number * way, size)
        if made is None or misses == MOST_MISSES or len(empty) > len(found) + 1:
            break
        holds = all(map(made.holds, contents))
        if _is_empty(made, contents):
            empty += [replace(made, holds_in=len(contents))] if holds else []
        elif holds:
            found.append(replace(made, holds_in=len(contents)))
            between += empty
            empty, misses = [], 0
        else:
            misses, missed = misses + 1, missed + 1
    if missed > len(found) / 2 + MOST_MISSES:
        return []
    return [*found, *between, *empty[: len(found)]] if len(between) < len(found) else found


def _is_empty(finding: Finding, contents: Sequence[bytes]) -> bool:
    """Whether there are only zeros in what is covered, and where that is stored."""
    for content in contents:
        start, end, at = finding.spans(len(content))
        if any(content[start:end]) or any(content[at : at + finding.size]):
            return False
    return True


@dataclass(frozen=True)
class SealRow:
    """`count` blocks of `size` bytes from `start` on, in each of which the same `seals` hold: those of the first one,
    in the order of their places.
    """

    start: int
    size: int
    count: int
    seals: tuple[Finding, ...]

    @property
    def in_words(self) -> str:
        parts = []
        for each in self.seals:
            start, end, at = (offset - self.start for offset in each.spans(0))
            over = f"0x{start:X} to 0x{end:X}{each.own_in_words}"
            parts.append(f"{each.name_in_words} over {over}, stored at 0x{at:X} as {each.form}")
        first = self.seals[0]
        return (
            f"in each of {self.count} blocks of {self.size} bytes from 0x{self.start:X} on: {'; '.join(parts)}; "
            f"holds in {first.holds_in} of {first.of}"
        )

    @property
    def each(self) -> list[Finding]:
        """The seals of all blocks, one by one."""
        size = self.start + (self.count + 1) * self.size
        shifted = (_shifted(seal, number * self.size, size) for number in range(self.count) for seal in self.seals)
        return [seal for seal in shifted if seal is not None]

    def to_end_of(self, content: bytes) -> SealRow:
        """The same with the blocks that follow up to the end of a save, if all of it is such blocks."""
        count, rest = divmod(len(content) - self.start, self.size)
        longer = replace(self, count=count)
        return longer if not rest and count > self.count and all(each.holds(content) for each in longer.each) else self

    def takes(self, start: int, size: int, count: int, seals: Sequence[Finding]) -> bool:
        """Whether other seals, of as many blocks of the same size, are all within its blocks."""
        last = max(max(each.spans(0)[1], each.stored.offset + each.size) for each in seals)
        return (size, count) == (self.size, self.count) and self.start <= start and last <= self.start + self.size

    def explains(self, place: int) -> bool:
        """Whether one of its seals is stored at an offset."""
        block, within = divmod(place - self.start, self.size)
        return 0 <= block < self.count and any(within == each.spans(0)[2] - self.start for each in self.seals)


def seal_rows(found: Sequence[Finding], contents: Sequence[bytes]) -> list[SealRow]:
    """The rows of blocks that findings are in, which are sure and of which three or more are alike."""
    size = min(map(len, contents), default=0)
    alike: dict[object, list[Finding]] = defaultdict(list)
    for each in found:
        first = each.spans(len(contents[0]))
        if each.sure and not any(each.beside) and all(each.spans(len(content)) == first for content in contents):
            start, end, at = first
            fixed = replace(each, start=Edge(start), end=Edge(end), stored=Edge(at), freedom="")
            alike[each.algorithm, each.size, each.form, each.own, start - at, end - at].append(fixed)
    rows: dict[tuple[int, int, int], list[Finding]] = defaultdict(list)
    for members in alike.values():
        if (row := _row_of(members, contents, size)) is not None:
            first_one, stride, count = row
            start, end, at = first_one.spans(0)
            low, high = min(start, at), max(end, at + first_one.size)
            block = low // stride * stride
            rows[block if high <= block + stride else low, stride, count].append(first_one)
    made: list[SealRow] = []
    for (start, stride, count), seals in sorted(rows.items(), key=lambda row: row[0]):
        same = next((row for row in made if row.takes(start, stride, count, seals)), None)
        joined = (*same.seals, *seals) if same is not None else tuple(seals)
        begin = same.start if same is not None else start
        made = [row for row in made if row is not same]
        made.append(SealRow(begin, stride, count, tuple(sorted(joined, key=lambda each: each.stored.offset))))
    return sorted(made, key=lambda row: -row.count * row.size)


def _row_of(members: Sequence[Finding], contents: Sequence[bytes], size: int) -> tuple[Finding, int, int] | None:
    """The first of findings that are alike, how far the next one is, and how many there are: with those before and
    behind them of which the saves say the same.
    """
    by_place = {each.stored.offset: each for each in members}
    places = sorted(by_place)
    start, end, at = members[0].spans(0)
    span = max(end, at + members[0].size) - min(start, at)
    for stride in sorted({b - a for a, b in pairwise(places)}):
        run = next((n for n in places if {n + stride, n + 2 * stride} <= set(places)), None)
        if run is None or stride < span:
            continue
        first = by_place[run]
        while (before := _shifted(first, -stride, size)) is not None and all(map(before.holds, contents)):
            first = before
        count, last, filled = 1, first, 1
        while (behind := _shifted(last, stride, size)) is not None and all(map(behind.holds, contents)):
            if _is_empty(behind, contents) and count >= 2 * filled:
                break
            count, last, filled = count + 1, behind, filled + (not _is_empty(behind, contents))
        return replace(first, holds_in=len(contents)), stride, count
    return None


def _shifted(finding: Finding, by: int, size: int) -> Finding | None:
    """The same so many bytes further; None beyond the ends of a file of a size."""
    moved = replace(finding, start=finding.start.moved(by), end=finding.end.moved(by), stored=finding.stored.moved(by))
    start, end, at = moved.spans(size)
    return moved if min(start, at) >= 0 and max(end, at + finding.size) <= size else None
