"""One rule for several packed streams: for each there are the same numbers, beside it or in a table in front of all of
them, as how long it is, packed and unpacked, and a checksum of the one or the other.

A number that belongs to the shortest stream is looked for beside it, and those of the first two streams in front of
all; what is found is held against all streams of all saves.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise, product
from typing import NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.scan import windows
from faithful_ledger.core.seals.algorithms import ALGORITHMS, LENGTH, Algorithm
from faithful_ledger.core.seals.finder.blocks import ORDERS
from faithful_ledger.core.storage import NUMBERS
from faithful_ledger.core.storage.numbers import Integer

__all__ = ["MOST_MORE", "Beside", "Counted", "StreamRule", "Stretch", "Table", "stream_rule"]

FRONT, BEHIND = 64, 16  # bytes beside a stream in which its numbers are looked for
FORMS = tuple(Integer(size, False, order) for size, order in product((4, 8, 2), ORDERS))
NAMES = tuple(form.name for form in FORMS)
COUNTS = tuple(form for form in FORMS if form.size <= 4)
TOTALS = tuple(sorted((form for form in FORMS if form.size >= 4), key=lambda form: -form.size))
WIDEST = 64  # bytes of an entry of a table
MOST_MORE = 64  # bytes that a length may count beyond its stream
LEAST_BITS = 24
IN_FRONT_OF_ALL = 32  # bytes before the first stream's numbers in which their count may be


class Stretch(NamedTuple):
    """A stream at [start, end) of a save, what it unpacks to, and which `of` how many it is, from 0."""

    start: int
    end: int
    data: bytes
    number: int
    of: int

    def about(self, content: bytes, *, unpacked: bool) -> bytes:
        """What a number may be about: the stream in its save, or what it is unpacked."""
        return self.data if unpacked else content[self.start : self.end]


Save: TypeAlias = tuple[bytes, Sequence[Stretch]]  # one with its streams


@dataclass(frozen=True)
class Beside:
    """A number of `size` bytes, `at` bytes from where a stream begins, or with `behind` from where it ends: what
    `algorithm` gives over the stream, or over what it is `unpacked`. With a `stride` it is in a table: `at` is the
    offset of that of the first stream, from where those of the others are so many bytes apart. Where other tables are
    in front of it, which grow with the streams, `shift` bytes for each of these are added to the offset.
    """

    at: int
    behind: bool
    size: int
    form: str
    algorithm: Algorithm
    unpacked: bool
    stride: int = 0
    shift: int = 0

    def place(self, stream: Stretch) -> int:
        """Where it is stored."""
        if self.stride:
            return self.at + stream.of * self.shift + stream.number * self.stride
        return (stream.end if self.behind else stream.start) + self.at

    def holds(self, content: bytes, stream: Stretch) -> bool:
        at = self.place(stream)
        if at < 0 or at + self.size > len(content):
            return False
        return self.spelled(content, stream) == content[at : at + self.size]

    def spelled(self, content: bytes, stream: Stretch) -> bytes:
        """As it is stored."""
        data = stream.about(content, unpacked=self.unpacked)
        raw = self.algorithm.cut(self.algorithm([memoryview(data)]), self.size).to_bytes(self.size, "big")
        return raw[::-1] if self.form.endswith("le") else raw

    @property
    def is_length(self) -> bool:
        return self.algorithm.name == LENGTH

    @property
    def in_words(self) -> str:
        over = "what it unpacks to" if self.unpacked else "the stream"
        more = f"{self.algorithm.start:+d}" if self.is_length and self.algorithm.start else ""
        where = f"{self.at} bytes behind it" if self.behind else f"{-self.at} bytes in front of it"
        if self.stride:
            where = f"in a table, {self.stride} bytes for each"
        return f"{self.algorithm.name}{more} of {over} ({self.form}, {where})"


class Counted(NamedTuple):
    """Where it is stored how many streams or parts there are, and as what. With `part` the number counts the bytes to
    which all of them unpack: each to `part` bytes, but for the last, which has the rest.
    """

    at: int
    form: str
    part: int = 0

    @property
    def end(self) -> int:
        return self.at + NUMBERS[self.form].least_size


class Table(NamedTuple):
    """Entries of `stride` bytes from an offset of the first save on, one for each stream, with `numbers` in them."""

    start: int
    stride: int
    numbers: tuple[Beside, ...]

    def end(self, count: int) -> int:
        return self.start + count * self.stride


@dataclass(frozen=True)
class StreamRule:
    """Beside each of the `streams` of a kind, here those of the first save, are the same `numbers`, in the order of
    their places, or in `tables` in front of all. With what is beside it a stream begins `header` bytes before it and
    ends `trailer` bytes behind it; they follow one another. Their number is `counted`, and `total` the bytes of all,
    where these are known. Each unpacks to `part` bytes, but for the last, in all saves, or 0 where that differs.
    `ended_by` are zeros behind the last one: the header of a stream that is not there.
    """

    kind: str
    numbers: tuple[Beside, ...]
    header: int
    trailer: int
    streams: tuple[Stretch, ...]
    counted: Counted | None
    of: int
    tables: tuple[Table, ...] = ()
    total: Counted | None = None
    part: int = 0
    ended_by: bytes = b""

    @property
    def start(self) -> int:
        """Where the first one begins, with what is beside it."""
        return self.streams[0].start - self.header

    @property
    def begins(self) -> int:
        """The same with the tables in front of them."""
        return min([self.start, *(table.start for table in self.tables)])

    @property
    def end(self) -> int:
        return self.streams[-1].end + self.trailer

    @property
    def every(self) -> tuple[Beside, ...]:
        """All numbers, beside the streams and in tables."""
        return (*self.numbers, *(each for table in self.tables for each in table.numbers))

    @property
    def packed_length(self) -> Beside | None:
        """What says how long a stream is."""
        return next((each for each in self.every if each.is_length and not each.unpacked and not each.behind), None)

    def table_of(self, number: Beside) -> int:
        """In which of the tables a number is."""
        return next(index for index, table in enumerate(self.tables) if number in table.numbers)

    @property
    def in_words(self) -> str:
        numbers = "; ".join(each.in_words for each in self.every)
        first = self.start + self.header
        if len(self.streams) == 1:
            return f"for the {self.kind} stream at 0x{first:X}: {numbers}"
        return f"for each of {len(self.streams)} {self.kind} streams from 0x{first:X} on: {numbers}"


def stream_rule(kind: str, saves: Sequence[Save], until: Deadline = NEVER) -> StreamRule | None:
    """The numbers of the streams of saves, of which one at least has several, or each one in a buffer filled up with
    zeros; None where there are none.
    """
    gaps = {after.start - before.end for _, streams in saves for before, after in pairwise(streams)}
    if len(gaps) > 1 or (not gaps and not _is_in_buffer(saves)):
        return None
    alone = not gaps
    gap = FRONT if alone else gaps.pop()
    every = [(content, stream) for content, streams in saves for stream in streams]
    numbers = _apart(sorted(_numbers(every, gap, until), key=_rank))
    _, streams = saves[0]
    trailer = max((each.at + each.size for each in numbers if each.behind), default=0)
    header = gap - trailer
    if streams[0].start < header or alone:
        header = max((-each.at for each in numbers if not each.behind), default=0)
        trailer = gap - header if not alone else 0
    tables: tuple[Table, ...] = ()
    if not alone:
        tables = _tables(saves, header, [(each.algorithm.name, each.unpacked) for each in numbers], until)
    if not numbers and not tables:
        return None
    made = StreamRule(kind, numbers, header, trailer, tuple(streams), None, len(saves), tables)
    made = replace(made, part=_part(saves), ended_by=_end_mark(made, saves))
    if alone and not made.ended_by:
        return None
    return replace(made, counted=_counted(made, saves), total=_total(made, saves))


def _is_in_buffer(saves: Sequence[Save]) -> bool:
    """Whether every save has a stream that ends elsewhere in each, with nothing but zeros behind it."""
    if any(len(streams) != 1 for _, streams in saves):
        return False
    left = {len(content) - streams[0].end for content, streams in saves}
    return len(left) > 1 and min(left) > 0 and not any(any(content[streams[0].end :]) for content, streams in saves)


def _end_mark(rule: StreamRule, saves: Sequence[Save]) -> bytes:
    """The zeros behind the last stream of every save, as many as its header has, or fewer where the save ends."""
    rest = {content[several[-1].end + rule.trailer :][: rule.header] for content, several in saves}
    mark = rest.pop() if len(rest) == 1 else b""
    lengths = [-each.at for each in rule.numbers if each.is_length and not each.unpacked and not each.behind]
    return mark if lengths and mark and not any(mark) and len(mark) >= rule.header - min(lengths) else b""


def _part(saves: Sequence[Save]) -> int:
    """To how many bytes each stream unpacks, but for the last, which has no more."""
    parts = {len(stream.data) for _, streams in saves for stream in streams[:-1]}
    most = max(len(streams[-1].data) for _, streams in saves)
    return max(parts) if len(parts) == 1 and most <= max(parts) else 0


def _tables(saves: Sequence[Save], header: int, known: Sequence[object], until: Deadline) -> tuple[Table, ...]:
    """The tables in front of the streams, with what is not `known` from beside them, in their order."""
    every = [(content, stream) for content, streams in saves for stream in streams]
    content, streams = max(saves, key=lambda save: len(save[1]))
    found = []
    for each in _entries(content[: streams[0].start - header], content, streams, until):
        new = (each.algorithm.name, each.unpacked) not in known
        if not new or not all(each.holds(content, stream) for stream in streams):
            continue
        for made in _shifted(each, streams[0].of):
            fits = all(made.place(several[-1]) + made.size <= several[0].start - header for _, several in saves)
            if fits and all(made.holds(whole, stream) for whole, stream in every) and _differs(made, every):
                found.append(made)
                break
    _, streams = saves[0]
    tables: list[Table] = []
    for each in _apart(sorted(found, key=_rank)):
        table = next((t for t in tables if t.stride == each.stride and _is_of(t, each)), None)
        numbers = tuple(sorted((*(table.numbers if table is not None else ()), each), key=lambda number: number.at))
        tables = [*(t for t in tables if t is not table), Table(numbers[0].place(streams[0]), each.stride, numbers)]
    return _placed(sorted(tables, key=lambda table: table.start), streams[0].of, streams[0].start - header)


def _placed(tables: Sequence[Table], count: int, end: int) -> tuple[Table, ...]:
    """Tables that end where the next one begins, or the streams: what is in front of the first number that was found
    may be of its entry.
    """
    placed: list[Table] = []
    for table in reversed(tables):
        end = min(table.start, end - count * table.stride)
        placed.insert(0, table._replace(start=end))
    return tuple(placed)


def _shifted(each: Beside, count: int) -> Iterator[Beside]:
    """A number where the same is behind other tables, of which these saves have so many entries each."""
    for shift in range(min(WIDEST, each.at // count) + 1):
        yield replace(each, at=each.at - shift * count, shift=shift)


def _is_of(table: Table, each: Beside) -> bool:
    """Whether a number is within the entries of a table, as wide as these are."""
    numbers = [*table.numbers, each]
    if any(number.shift != each.shift for number in table.numbers):
        return False
    return max(n.at + n.size for n in numbers) - min(n.at for n in numbers) <= table.stride


def _entries(front: bytes, content: bytes, streams: Sequence[Stretch], until: Deadline) -> Iterator[Beside]:
    """Numbers in front of all streams that may be about the first, with another one like it for the second."""
    first, second = streams[:2]
    for form in FORMS:
        numbers = windows(front, np.dtype(form.dtype)).astype(np.int64)
        for unpacked in (False, True):
            lengths = [len(each.about(content, unpacked=unpacked)) for each in (first, second)]
            begins, others = (np.flatnonzero(np.abs(numbers - length) <= MOST_MORE) for length in lengths)
            for at, other in product(begins.tolist(), others.tolist()):
                more = int(numbers[at]) - lengths[0]
                if form.size <= other - at <= WIDEST and int(numbers[other]) - lengths[1] == more:
                    yield Beside(at, False, form.size, form.name, Algorithm(LENGTH, more or None), unpacked, other - at)
    for algorithm, unpacked in product(_checksums(), (True, False)):
        if until.over:
            return
        own, following = (each.about(content, unpacked=unpacked) for each in (first, second))
        for number, (raw, name) in enumerate(_spelled(algorithm, own)):
            at, size = front.find(raw), len(raw)
            if at >= 0:
                other = front.find(_spelled(algorithm, following)[number][0], at + size, at + WIDEST + size)
                if other >= 0:
                    yield Beside(at, False, size, name, algorithm, unpacked, other - at)


def _checksums() -> list[Algorithm]:
    """Those whose results say enough beside a stream."""
    return [each for each in ALGORITHMS.values() if each.name != LENGTH and each.bits >= 16]


def _spelled(algorithm: Algorithm, data: bytes) -> list[tuple[bytes, str]]:
    """A result as it may be stored, in both orders, with the form of each; a digest as it is."""
    raw = algorithm([memoryview(data)]).to_bytes(algorithm.bits // 8, "big")
    if algorithm.is_digest:
        return [(raw, "bytes")]
    return [(raw[::-1], f"u{algorithm.bits}le"), (raw, f"u{algorithm.bits}be")]


def _numbers(every: Sequence[tuple[bytes, Stretch]], gap: int, until: Deadline) -> Iterator[Beside]:
    """What holds beside every stream, and is not the same beside all of them."""
    for each in _candidates(*min(every, key=lambda part: len(part[1].data)), gap, until):
        if all(each.holds(content, stream) for content, stream in every) and _differs(each, every):
            yield each


def _differs(each: Beside, every: Sequence[tuple[bytes, Stretch]]) -> bool:
    """Whether it says enough that chance cannot explain it."""
    values = {content[each.place(stream) :][: each.size] for content, stream in every}
    return len(values) > 1 and len(values) * 8 * each.size >= LEAST_BITS


def _candidates(content: bytes, stream: Stretch, gap: int, until: Deadline) -> Iterator[Beside]:
    """Numbers beside one stream that may be about it."""
    front, low = min(FRONT, gap, stream.start), stream.start
    beside = [
        (-front, False, content[low - front : low]),
        (0, True, content[stream.end : stream.end + min(BEHIND, gap)]),
    ]
    for (begin, behind, held), form, unpacked in product(beside, FORMS, (False, True)):
        length = len(stream.about(content, unpacked=unpacked))
        for at in range(len(held) - form.size + 1):
            more = form.decode(held[at : at + form.size]) - length
            if abs(more) <= MOST_MORE:
                yield Beside(begin + at, behind, form.size, form.name, Algorithm(LENGTH, more or None), unpacked)
    for algorithm, unpacked in product(_checksums(), (True, False)):
        if until.over:
            return
        for raw, name in _spelled(algorithm, stream.about(content, unpacked=unpacked)):
            for begin, behind, held in beside:
                at = held.find(raw)
                if at >= 0:
                    yield Beside(begin + at, behind, len(raw), name, algorithm, unpacked)


def _rank(each: Beside) -> tuple[bool, int, int, bool, int, int]:
    """Checksums before lengths, and exact lengths before those that count more; a number as wide as is usual; in a
    table at a multiple of its size, as the high bytes of the next one may be taken for its own; and a narrow table, as
    a constant in front of it may look like the first of a wide one.
    """
    usual = NAMES.index(each.form) if each.form in NAMES else 0
    counted = abs(each.algorithm.start or 0) if each.is_length else 0
    width = usual // len(ORDERS)
    return each.is_length, counted, width, bool(each.stride and each.at % each.size), usual, each.stride


def _apart(found: Sequence[Beside]) -> tuple[Beside, ...]:
    """Those that have no bytes in common with one before them, and of lengths of the same the first, with those that
    say it again in the same form; in tables, with entries of the same size.
    """
    kept: list[Beside] = []
    for each in found:
        lengths = (other for other in kept if other.is_length and other.unpacked is each.unpacked)
        same = next(lengths, None) if each.is_length else None
        again = same is None or _as_said(same) == _as_said(each)
        if again and all(each.behind is not other.behind or not _in_common(each, other) for other in kept):
            kept.append(each)
    return tuple(sorted(kept, key=lambda each: (each.behind, each.at)))


def _as_said(each: Beside) -> tuple[Algorithm, str, int]:
    return each.algorithm, each.form, each.stride


def _in_common(each: Beside, other: Beside) -> bool:
    if each.stride and (each.shift != other.shift or abs(each.at - other.at) >= each.stride):
        return False  # of different tables
    return each.at < other.at + other.size and other.at < each.at + each.size


def _counted(rule: StreamRule, saves: Sequence[Save]) -> Counted | None:
    """Where the number of the streams is stored in front of them, and of their tables, in every save; or the size of
    what they unpack to, where all but the last unpack to as many bytes.
    """
    start = rule.begins
    if not rule.tables and any(streams[0].start - rule.header != start for _, streams in saves):
        return None
    part = rule.part
    counts = [len(streams) for _, streams in saves]
    totals = [sum(len(stream.data) for stream in streams) for _, streams in saves]
    tried = [(0, counts), (part, totals)] if part else [(0, counts)]
    if len(set(counts)) == 1:  # any constant may look like it
        tried.reverse()
    found = [
        place._replace(part=each)
        for each, wanted in tried
        if (place := _stored(wanted, TOTALS if each else COUNTS, start, saves)) is not None
    ]
    if len(found) == 2 and found[0].at < found[1].end and found[1].at < found[0].end:  # of a size the high bytes
        return next(place for place in found if place.part)
    return found[0] if found else None


def _total(rule: StreamRule, saves: Sequence[Save]) -> Counted | None:
    """Where the bytes of all streams are counted, with what is beside each, behind tables whose size differs."""
    wanted = [several[-1].end - several[0].start + rule.header + rule.trailer for _, several in saves]
    if not rule.tables or len(set(wanted)) == 1:
        return None
    return _stored(wanted, TOTALS, rule.begins, saves)


def _stored(wanted: Sequence[int], forms: Sequence[Integer], end: int, saves: Sequence[Save]) -> Counted | None:
    """The nearest place in front of an offset at which every save has its number."""
    for form in (form for form in forms if max(wanted) <= form.most):
        spelled = [form.encode(number) for number in wanted]
        for at in range(end - form.size, max(end - IN_FRONT_OF_ALL, 0) - 1, -1):
            if all(content.startswith(number, at) for (content, _), number in zip(saves, spelled, strict=True)):
                return Counted(at, form.name)
    return None
