"""Every checksum of some bytes, and where in the file each is stored: for bytes that somebody has chosen.

In other saves the same bytes may be elsewhere; where a result is stored is then counted from the beginning or the end
of the bytes, or of the file, whichever holds in the most saves.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import NamedTuple

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.seals.algorithms import ALGORITHMS, Algorithm
from faithful_ledger.core.seals.finder.places import apart
from faithful_ledger.core.seals.finder.spelling import spellings

__all__ = ["Chosen", "Stored", "checksums_of"]

NEAR = 64  # bytes from the chosen ones, or from the ends of the file, in which short results are looked for
MOST_PLACES = 64
CONVINCING = 24  # bits


class Chosen(NamedTuple):
    """Bytes [start, end) of one save's content."""

    content: bytes
    start: int
    end: int

    @property
    def bytes(self) -> memoryview:
        return memoryview(self.content)[self.start : self.end]


class Stored(NamedTuple):
    """A checksum of the chosen bytes with where it is stored in the first save, in `size` bytes of a `form`. It holds
    in so many of the saves, with so many different `values`.
    """

    algorithm: Algorithm
    number: int
    at: int
    size: int
    form: str
    holds_in: int
    of: int
    values: int

    @property
    def bits(self) -> int:
        """How much the stored bytes say; zeros say nothing."""
        width = self.algorithm.bits
        said = sum(8 for byte in self.number.to_bytes((width + 7) // 8, "big") if byte)
        return min(said, 8 * self.size) * self.values

    @property
    def is_convincing(self) -> bool:
        """Whether chance is unlikely: wide results, or narrow ones that change and hold each time."""
        return self.holds_in == self.of and self.bits >= CONVINCING


def checksums_of(saves: Sequence[Chosen], until: Deadline = NEVER) -> list[Stored]:
    """Of the chosen bytes of a save and of its copies, the save first; what holds most often comes first."""
    first = saves[0]
    if first.end <= first.start:
        return []
    found: list[Stored] = []
    for algorithm in _all():
        if until.over:
            break
        numbers = [algorithm([each.bytes]) if each.end > each.start else -1 for each in saves]
        ways = [dict(_stored_ways(algorithm, number)) if number >= 0 else {} for number in numbers]
        for form, raw in ways[0].items():
            if not any(raw):
                continue
            raws = [each.get(form) for each in ways]
            for at in _occurrences(first, raw):
                holds = _holding(saves, raws, at - first.start, at - first.end, at)
                values = len({raw for raw, held in zip(raws, holds, strict=True) if held})
                found.append(Stored(algorithm, numbers[0], at, len(raw), form, sum(holds), len(saves), values))
    found.sort(key=lambda each: _rank(each, first))
    return apart(found, lambda each: (each.at, each.at + each.size))  # the best explanation of each place


def _all() -> Iterator[Algorithm]:
    for algorithm in ALGORITHMS.values():
        yield algorithm
        if not algorithm.is_digest:
            yield replace(algorithm, changed="inverted")
            yield replace(algorithm, changed="negated")


def _stored_ways(algorithm: Algorithm, number: int) -> Iterator[tuple[str, bytes]]:
    """The ways a result may be stored, each with its bytes."""
    size = (algorithm.bits + 7) // 8
    sizes = () if algorithm.is_digest else (2, 4) if size == 2 else (size,)  # sums often are in a wider number
    for each in sizes:
        if each == 1:
            yield "u8", number.to_bytes(1, "little")
        elif each in (2, 3, 4, 8):
            yield f"u{8 * each}le", number.to_bytes(each, "little")
            yield f"u{8 * each}be", number.to_bytes(each, "big")
    if algorithm.is_digest or size >= 4:
        yield from spellings(algorithm, number)


def _occurrences(chosen: Chosen, raw: bytes) -> Iterator[int]:
    """Where bytes stand outside of the chosen ones; short ones only near them, and near the ends of the file."""
    found = 0
    content = chosen.content
    for match in re.finditer(b"(?=" + re.escape(raw) + b")", content, re.DOTALL):
        at = match.start()
        if at < chosen.end and chosen.start < at + len(raw):
            continue
        near = min(abs(at - chosen.end), abs(chosen.start - at - len(raw)), at, len(content) - at - len(raw)) <= NEAR
        if len(raw) < 3 and not near:
            continue
        yield at
        found += 1
        if found == MOST_PLACES:
            return


def _holding(saves: Sequence[Chosen], raws: Sequence[bytes | None], begin: int, end: int, at: int) -> list[bool]:
    """In which saves a result stands at the place that holds in the most of them."""
    from_end = len(saves[0].content) - at
    best: list[bool] = []
    for place in (
        lambda each: each.start + begin,
        lambda each: each.end + end,
        lambda each: at,
        lambda each: len(each.content) - from_end,
    ):
        holds = []
        for each, raw in zip(saves, raws, strict=True):
            where = place(each)
            holds.append(raw is not None and where >= 0 and each.content[where : where + len(raw)] == raw)
        if sum(holds) > sum(best):
            best = holds
    return best


def _rank(each: Stored, chosen: Chosen) -> tuple[bool, float, bool, int]:
    gap = min(abs(each.at - chosen.end), abs(chosen.start - each.at - each.size))
    return each.holds_in < each.of, -each.bits, bool(each.algorithm.changed), gap
