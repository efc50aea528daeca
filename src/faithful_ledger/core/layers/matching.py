"""Streams of new bytes and of matches with what was there before, of which each kind has a code of its own (LZ77: Ziv
and Lempel, 1977).
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from faithful_ledger.core.layers.stream import Allowance, Layer, Stream

__all__ = ["DecodedStream", "Match", "MatchedStream", "copy_back", "copy_new", "matches"]

SEEN = 4  # bytes that must repeat
SEGMENT = 1 << 20  # bytes that are looked at together
STEP = 64
CHAIN, LONG_CHAIN, SMALL = 16, 256, 1 << 16  # earlier places that are looked at, and of so few bytes
TRIES, KEPT = 5, 12  # to come to as many bytes as wanted, and matches in front of those that change


class Match(NamedTuple):
    """The bytes [start, end) as they are, and then `size` bytes that are there `back` bytes before; none at the end."""

    start: int
    end: int
    back: int
    size: int


class DecodedStream(Stream):
    """A kind that is unpacked by going through its codes."""

    @abstractmethod
    def decoded(self, data: bytes, at: int, most: int, out: bytearray) -> int:
        """Put what a stream that begins at an offset unpacks to into `out`, about so many bytes of it at most. Returns
        where it ends.

        Raises:
            ValueError, IndexError: there is none; `out` has what was unpacked until then.
        """

    def read(self, data: bytes, offset: int, allowance: Allowance) -> Layer | None:
        out = bytearray()
        try:
            end = self.decoded(data, offset, allowance.left + 1, out)
        except (ValueError, IndexError):
            end = -1
        allowance.left -= len(out)
        return Layer(self.name, offset, end - offset, len(out)) if out and end >= 0 and allowance.left >= 0 else None

    def unpacked(self, packed: bytes, most: int) -> bytes:
        out = bytearray()
        try:
            self.decoded(packed, 0, most, out)
        except IndexError:
            raise ValueError(f"the {self.name} stream does not come to its end") from None
        return bytes(out[:most])


class MatchedStream(DecodedStream):
    """A kind without marks, whose matches go back at most `window` bytes and have `shortest` to `longest`."""

    window: int
    longest: int
    shortest = SEEN
    has_end = True  # of its own
    mark = b""  # with which each stream ends

    @abstractmethod
    def coded(self, data: bytes, found: Iterable[Match]) -> bytes:
        """A stream of these matches."""

    def packed(self, data: bytes, old: bytes) -> bytes:
        return self.coded(data, matches(data, self.window, self.longest, self.shortest))

    def fitting(self, data: bytes, old: bytes, room: int) -> Iterator[bytes]:
        found = list(matches(data, self.window, self.longest, self.shortest))
        yield (packed := self.coded(data, found))
        spare = room - len(packed)
        for kept in range(KEPT if spare > 0 else 0):  # what a few bytes more are differs from match to match
            more = spare
            for _ in range(TRIES):
                packed = self.coded(data, [*found[:kept], *_loosened(found[kept:], more, self.shortest)])
                yield packed
                more += room - len(packed)
                if more <= 0:
                    break


def _loosened(found: Sequence[Match], more: int, shortest: int) -> Iterator[Match]:
    """The same with so many more bytes as they are that were parts of matches."""
    given = 0
    for match in found:
        start, given = match.start - given, min(max(match.size - shortest, 0), more)
        yield Match(start, match.end, match.back, match.size - given)
        more -= given


def matches(data: bytes, window: int, longest: int, shortest: int = SEEN) -> Iterator[Match]:
    """Cut data into what is new and what was there at most `window` bytes before, `shortest` to `longest` bytes of it.
    Of the last places where its first bytes were, the one counts from which most are the same, the nearest of these;
    and a byte is new where more are the same from the next one on.
    """
    new = at = 0
    for begin in range(0, len(data), SEGMENT):
        end = min(begin + SEGMENT, len(data))
        look = _Earlier(data, begin, end, window, longest, shortest)
        at = max(at, begin)
        while at < end:
            size, before = look.best(at)
            if size < shortest:
                at += 1
                continue
            while size < longest and at + 1 < end:
                longer, other = look.best(at + 1)
                if longer <= size:
                    break
                at, size, before = at + 1, longer, other
            yield Match(new, at, at - before, size)
            at += size
            new = at
    yield Match(new, len(data), 0, 0)


class _Earlier:
    """For each offset of a segment, and of the window in front of it, where its first bytes were before."""

    def __init__(self, data: bytes, begin: int, end: int, window: int, longest: int, shortest: int) -> None:
        import numpy as np

        from faithful_ledger.core.scan import windows

        self.data, self.window, self.longest, self.shortest = data, window, longest, shortest
        self.base, self.most = max(begin - window, 0), LONG_CHAIN if len(data) <= SMALL else CHAIN
        keys = windows(data[self.base : end + SEEN - 1].ljust(SEEN, b"\0"), np.dtype("<u4")) & np.uint32(
            (1 << 8 * min(shortest, SEEN)) - 1
        )
        order = np.argsort(keys, kind="stable")
        found = np.full(keys.size, -1, np.int64)
        same = keys[order[1:]] == keys[order[:-1]]
        found[order[1:][same]] = order[:-1][same]
        self.before: list[int] = found.tolist()

    def best(self, at: int) -> tuple[int, int]:
        """How many bytes at an offset are the same as at an earlier one, and that one."""
        size, found, place = 0, 0, at - self.base
        if place >= len(self.before):
            return 0, 0
        for _ in range(self.most):
            place = self.before[place]
            if place < 0 or at - self.base - place > self.window:
                break
            before = place + self.base
            if self.data[before + size : before + size + 1] != self.data[at + size : at + size + 1]:
                continue
            alike = _alike(self.data, before, at, self.longest)
            if alike > size:
                size, found = alike, before
                if size == self.longest:
                    break
        return size, found


def _alike(data: bytes, before: int, at: int, longest: int) -> int:
    """How many bytes at two offsets are the same."""
    most = min(longest, len(data) - at)
    size = 0
    while size < most:
        step = min(STEP, most - size)
        if data[before + size : before + size + step] != data[at + size : at + size + step]:
            return size + next(n for n in range(step) if data[before + size + n] != data[at + size + n])
        size += step
    return size


def copy_new(out: bytearray, data: bytes, at: int, count: int) -> int:
    """Append so many bytes of a stream as they are. Returns the offset behind them.

    Raises:
        ValueError: there are not so many.
    """
    if at + count > len(data):
        raise ValueError("the stream does not come to its end")
    out += data[at : at + count]
    return at + count


def copy_back(out: bytearray, back: int, size: int) -> None:
    """Append what is `back` bytes before the end; where that is fewer than `size` bytes, they repeat.

    Raises:
        ValueError: there is not so much.
    """
    if not 0 < back <= len(out):
        raise ValueError("a match goes back further than there is something")
    piece = out[-back:][:size]
    out += piece if len(piece) == size else (piece * (size // back + 1))[:size]
