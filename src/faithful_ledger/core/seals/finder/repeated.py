"""The same seal in each of a row of blocks of one size, as in the sectors of a memory card or in slots."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

from faithful_ledger.core.seals.finder.finding import Finding
from faithful_ledger.core.seals.finder.places import Edge

__all__ = ["SealRow", "repeated", "seal_rows"]

STRIDES = tuple(1 << bits for bits in range(7, 18))
MOST_BLOCKS, MOST_MISSES = 256, 2


def repeated(finding: Finding, contents: Sequence[bytes]) -> Iterator[Finding]:
    """What holds as well in every save so many blocks before or behind a finding, of a size that is a power of two."""
    size = min(map(len, contents))
    first = finding.spans(len(contents[0]))
    if any(finding.spans(len(content)) != first for content in contents):
        return
    start, end, at = first
    low, high = min(start, at), max(end, at + finding.size)
    for stride in STRIDES:
        if stride < high - low:
            continue
        found = [each for way in (stride, -stride) for each in _moved(finding, contents, way, size)]
        yield from found
        if found:
            return


def _moved(finding: Finding, contents: Sequence[bytes], way: int, size: int) -> Iterator[Finding]:
    misses = 0
    for number in range(1, MOST_BLOCKS):
        made = _shifted(finding, number * way, size)
        if made is None or misses == MOST_MISSES:
            return
        if not all(map(made.holds, contents)):
            misses += 1
            continue
        misses = 0
        values = len({made.stored_in(content) for content in contents})
        raw = min(8 * made.size, made.algorithm.bits, 64) * values  # the rule itself was chosen once
        yield replace(made, bits=min(finding.bits, raw), holds_in=len(contents))


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
    made = []
    for (start, stride, count), seals in rows.items():
        made.append(SealRow(start, stride, count, tuple(sorted(seals, key=lambda each: each.stored.offset))))
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
        count, last = 1, first
        while (behind := _shifted(last, stride, size)) is not None and all(map(behind.holds, contents)):
            count, last = count + 1, behind
        return replace(first, holds_in=len(contents)), stride, count
    return None


def _shifted(finding: Finding, by: int, size: int) -> Finding | None:
    """The same so many bytes further; None beyond the ends of a file of a size."""
    moved = replace(finding, start=finding.start.moved(by), end=finding.end.moved(by), stored=finding.stored.moved(by))
    start, end, at = moved.spans(size)
    return moved if min(start, at) >= 0 and max(end, at + finding.size) <= size else None
