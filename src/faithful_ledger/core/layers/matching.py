"""Streams of new bytes and of matches with what was there before, of which each kind has a code of its own (LZ77: Ziv
and Lempel, 1977).
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from faithful_ledger.core.layers.stream import Allowance, Layer, Stream

__all__ = ["Match", "MatchedStream", "copy_back", "matches"]

SEEN = 4  # bytes that must repeat
SEGMENT = 1 << 20  # bytes that are looked at together
STEP = 64
TRIES = 6  # to come to as many bytes as wanted


class Match(NamedTuple):
    """The bytes [start, end) as they are, and then `size` bytes that are there `back` bytes before; none at the end."""

    start: int
    end: int
    back: int
    size: int


class MatchedStream(Stream):
    """A kind without marks, whose matches go back at most `window` bytes and have at most `longest`."""

    window: int
    longest: int

    @abstractmethod
    def decoded(self, data: bytes, at: int, most: int, out: bytearray) -> int:
        """Put what a stream that begins at an offset unpacks to into `out`, about so many bytes of it at most. Returns
        where it ends.

        Raises:
            ValueError, IndexError: there is none; `out` has what was unpacked until then.
        """

    def ends(self, data: bytes, end: int) -> bool:
        """Whether a mark at the end of a stream is in front of an offset."""
        return False

    @abstractmethod
    def coded(self, data: bytes, found: Iterable[Match]) -> bytes:
        """A stream of these matches."""

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

    def packed(self, data: bytes, old: bytes) -> bytes:
        return self.coded(data, matches(data, self.window, self.longest))

    def fitting(self, data: bytes, old: bytes, room: int) -> Iterator[bytes]:
        found, more = list(matches(data, self.window, self.longest)), 0
        for _ in range(TRIES):
            yield (packed := self.coded(data, _loosened(found, more)))
            more += room - len(packed)
            if more <= 0:
                return


def _loosened(found: Sequence[Match], more: int) -> Iterator[Match]:
    """The same with so many more bytes as they are that were parts of matches."""
    given = 0
    for match in found:
        start, given = match.start - given, min(max(match.size - SEEN, 0), more)
        yield Match(start, match.end, match.back, match.size - given)
        more -= given


def matches(data: bytes, window: int, longest: int) -> Iterator[Match]:
    """Cut data into what is new and what was there at most `window` bytes before. The nearest place counts, and up to
    `longest` bytes of it.
    """
    new = at = 0
    for begin in range(0, len(data), SEGMENT):
        end = min(begin + SEGMENT, len(data))
        earlier, base = _earlier(data, begin, end, window)
        at = max(at, begin)
        while at < end:
            before = earlier[at - base] if at - base < len(earlier) else -1
            size = _alike(data, base + before, at, longest) if before >= 0 and at - base - before <= window else 0
            if size < SEEN:
                at += 1
                continue
            yield Match(new, at, at - base - before, size)
            at += size
            new = at
    yield Match(new, len(data), 0, 0)


def _earlier(data: bytes, begin: int, end: int, window: int) -> tuple[list[int], int]:
    """For each offset of a segment, and of the window in front of it, where the next four bytes were before, or -1;
    counted from an offset, which is given as well.
    """
    import numpy as np

    from faithful_ledger.core.scan import windows

    base = max(begin - window, 0)
    keys = windows(data[base : end + SEEN - 1], np.dtype("<u4"))
    order = np.argsort(keys, kind="stable")
    found = np.full(keys.size, -1, np.int64)
    same = keys[order[1:]] == keys[order[:-1]]
    found[order[1:][same]] = order[:-1][same]
    return found.tolist(), base


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


def copy_back(out: bytearray, back: int, size: int) -> None:
    """Append what is `back` bytes before the end; where that is fewer than `size` bytes, they repeat.

    Raises:
        ValueError: there is not so much.
    """
    if not 0 < back <= len(out):
        raise ValueError("a match goes back further than there is something")
    piece = out[-back:][:size]
    out += piece if len(piece) == size else (piece * (size // back + 1))[:size]
