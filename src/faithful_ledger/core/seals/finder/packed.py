"""One rule for several packed streams: the same numbers are beside each of them, as how long it is, packed and
unpacked, and a checksum of the one or the other.

A number that belongs to the shortest stream of the first save is looked for beside it, and then held against all
streams of all saves.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import NamedTuple

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.seals.algorithms import ALGORITHMS, LENGTH, Algorithm
from faithful_ledger.core.seals.finder.blocks import ORDERS

__all__ = ["MOST_MORE", "Beside", "StreamRule", "Stretch", "stream_rule"]

FRONT, BEHIND = 64, 16  # bytes beside a stream in which its numbers are looked for
NUMBERS = ("u32le", "u32be", "u64le", "u64be", "u16le", "u16be")
MOST_MORE = 64  # bytes that a length may count beyond its stream
LEAST_BITS = 24
IN_FRONT_OF_ALL = 32  # bytes before the first stream's numbers in which their count may be


class Stretch(NamedTuple):
    """A stream at [start, end) of a save, and what it unpacks to."""

    start: int
    end: int
    data: bytes


@dataclass(frozen=True)
class Beside:
    """A number of `size` bytes, `at` bytes from where a stream begins, or with `behind` from where it ends: what
    `algorithm` gives over the stream, or over what it is `unpacked`.
    """

    at: int
    behind: bool
    size: int
    form: str
    algorithm: Algorithm
    unpacked: bool

    def place(self, stream: Stretch) -> int:
        """Where it is stored."""
        return (stream.end if self.behind else stream.start) + self.at

    def holds(self, content: bytes, stream: Stretch) -> bool:
        at = self.place(stream)
        if at < 0 or at + self.size > len(content):
            return False
        return self.spelled(content, stream) == content[at : at + self.size]

    def spelled(self, content: bytes, stream: Stretch) -> bytes:
        """As it is stored."""
        data = memoryview(stream.data if self.unpacked else content[stream.start : stream.end])
        raw = self.algorithm.cut(self.algorithm([data]), self.size).to_bytes(self.size, "big")
        return raw[::-1] if self.form.endswith("le") else raw

    @property
    def is_length(self) -> bool:
        return self.algorithm.name == LENGTH

    @property
    def in_words(self) -> str:
        over = "what it unpacks to" if self.unpacked else "the stream"
        more = f"{self.algorithm.start:+d}" if self.is_length and self.algorithm.start else ""
        where = f"{self.at} bytes behind it" if self.behind else f"{-self.at} bytes in front of it"
        return f"{self.algorithm.name}{more} of {over}, {where} as {self.form}"


@dataclass(frozen=True)
class StreamRule:
    """Beside each of the `streams` of a kind, here those of the first save, are the same `numbers`, in the order of
    their places. With what is beside it a stream begins `header` bytes before it and ends `trailer` bytes behind it;
    they follow one another. Their number is stored at `counted`, an offset and a form, where it is known.
    """

    kind: str
    numbers: tuple[Beside, ...]
    header: int
    trailer: int
    streams: tuple[Stretch, ...]
    counted: tuple[int, str] | None
    of: int

    @property
    def start(self) -> int:
        """Where the first one begins, with what is beside it."""
        return self.streams[0].start - self.header

    @property
    def end(self) -> int:
        return self.streams[-1].end + self.trailer

    @property
    def packed_length(self) -> Beside | None:
        """What says how long a stream is."""
        return next((each for each in self.numbers if each.is_length and not each.unpacked and not each.behind), None)

    @property
    def in_words(self) -> str:
        numbers = "; ".join(each.in_words for each in self.numbers)
        return (
            f"beside each of {len(self.streams)} {self.kind} streams from 0x{self.start + self.header:X} on: {numbers}"
        )


def stream_rule(
    kind: str, saves: Sequence[tuple[bytes, Sequence[Stretch]]], until: Deadline = NEVER
) -> StreamRule | None:
    """The numbers beside the streams of saves, of which each has at least two; None where there are none."""
    gaps = {after.start - before.end for _, streams in saves for before, after in pairwise(streams)}
    if len(gaps) != 1 or any(len(streams) < 2 for _, streams in saves):
        return None
    (gap,) = gaps
    every = [(content, stream) for content, streams in saves for stream in streams]
    numbers = _apart(sorted(_numbers(every, gap, until), key=_rank))
    if not numbers:
        return None
    _, streams = saves[0]
    trailer = max((each.at + each.size for each in numbers if each.behind), default=0)
    header = gap - trailer
    if streams[0].start < header:
        header = max((-each.at for each in numbers if not each.behind), default=0)
        trailer = gap - header
    made = StreamRule(kind, numbers, header, trailer, tuple(streams), None, len(saves))
    return replace(made, counted=_counted(made, saves))


def _numbers(every: Sequence[tuple[bytes, Stretch]], gap: int, until: Deadline) -> Iterator[Beside]:
    """What holds beside every stream, and is not the same beside all of them."""
    for each in _candidates(*min(every, key=lambda part: len(part[1].data)), gap, until):
        if all(each.holds(content, stream) for content, stream in every):
            values = {content[each.place(stream) :][: each.size] for content, stream in every}
            if len(values) > 1 and len(values) * 8 * each.size >= LEAST_BITS:
                yield each


def _candidates(content: bytes, stream: Stretch, gap: int, until: Deadline) -> Iterator[Beside]:
    """Numbers beside one stream that may be about it."""
    front, low = min(FRONT, gap, stream.start), stream.start
    beside = [
        (-front, False, content[low - front : low]),
        (0, True, content[stream.end : stream.end + min(BEHIND, gap)]),
    ]
    packed = content[stream.start : stream.end]
    for begin, behind, held in beside:
        for form in NUMBERS:
            size = int(form[1:3]) // 8
            for at in range(len(held) - size + 1):
                value = int.from_bytes(held[at : at + size], "little" if form.endswith("le") else "big")
                for unpacked, data in ((False, packed), (True, stream.data)):
                    more = value - len(data)
                    if abs(more) <= MOST_MORE:
                        yield Beside(begin + at, behind, size, form, Algorithm(LENGTH, more or None), unpacked)
        for algorithm in ALGORITHMS.values():
            if until.over:
                return
            if algorithm.name == LENGTH or algorithm.bits < 16:
                continue
            for unpacked, data in ((True, stream.data), (False, packed)):
                size = algorithm.bits // 8
                raw = algorithm([memoryview(data)]).to_bytes(size, "big")
                for order in ORDERS if not algorithm.is_digest else ORDERS[1:]:
                    at = held.find(raw if order == "big" else raw[::-1])
                    if at >= 0:
                        form = "bytes" if algorithm.is_digest else f"u{8 * size}{order[0]}e"
                        yield Beside(begin + at, behind, size, form, algorithm, unpacked)


def _rank(each: Beside) -> tuple[bool, int, int]:
    """Checksums before lengths, and exact lengths before those that count more; a number as wide as is usual."""
    usual = NUMBERS.index(each.form) if each.form in NUMBERS else 0
    return each.is_length, abs(each.algorithm.start or 0) if each.is_length else 0, usual


def _apart(found: Sequence[Beside]) -> tuple[Beside, ...]:
    """Those that have no bytes in common with one before them, and the first of what says the same."""
    kept: list[Beside] = []
    for each in found:
        apart = all(
            each.behind is not other.behind or each.at + each.size <= other.at or other.at + other.size <= each.at
            for other in kept
        )
        if apart and not (each.is_length and any(o.is_length and o.unpacked is each.unpacked for o in kept)):
            kept.append(each)
    return tuple(sorted(kept, key=lambda each: (each.behind, each.at)))


def _counted(rule: StreamRule, saves: Sequence[tuple[bytes, Sequence[Stretch]]]) -> tuple[int, str] | None:
    """Where the number of the streams is stored in front of them in every save."""
    start = rule.start
    if any(streams[0].start - rule.header != start for _, streams in saves):
        return None
    for form in ("u32le", "u32be", "u16le", "u16be"):
        size, order = int(form[1:3]) // 8, "little" if form.endswith("le") else "big"
        for at in range(start - size, max(start - IN_FRONT_OF_ALL, 0) - 1, -1):
            if all(int.from_bytes(content[at : at + size], order) == len(streams) for content, streams in saves):  # type: ignore[arg-type]
                return at, form
    return None
