"""The same seal in each of a row of blocks of one size, as in the sectors of a memory card or in slots."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from faithful_ledger.core.seals.finder.finding import Finding

__all__ = ["repeated"]

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
        found = [each for way in (stride, -stride) for each in _moved(finding, contents, (low, high), way, size)]
        yield from found
        if found:
            return


def _moved(
    finding: Finding, contents: Sequence[bytes], span: tuple[int, int], way: int, size: int
) -> Iterator[Finding]:
    misses = 0
    for number in range(1, MOST_BLOCKS):
        by = number * way
        if not 0 <= span[0] + by <= span[1] + by <= size or misses == MOST_MISSES:
            return
        made = replace(
            finding,
            start=finding.start.moved(by),
            end=finding.end.moved(by),
            stored=finding.stored.moved(by),
            freedom="",
        )
        if not all(map(made.holds, contents)):
            misses += 1
            continue
        misses = 0
        values = len({made.stored_in(content) for content in contents})
        raw = min(8 * made.size, made.algorithm.bits, 64) * values  # the rule itself was chosen once
        yield replace(made, bits=min(finding.bits, raw), holds_in=len(contents))
