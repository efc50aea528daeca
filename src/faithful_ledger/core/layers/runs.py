"""Runs of one byte, in the ways that writers have of saying them. None has a mark or an end of its own: a stream ends
where what holds it ends.

In `packbits` (TIFF 6.0, section 9) and `runs-1-1` (Truevision TGA 2.0), `runs-1-3`, `runs-0-1` and `runs-0-0` a byte
says how many bytes follow as they are, or how often the next one is repeated; in `zero-runs-0` and `zero-runs-1` the
byte behind a zero says how many zeros there are; in `run-pairs` and `run-pairs-back` every byte has its count in front
of it, or behind it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from faithful_ledger.core.layers.matching import DecodedStream, copy_new
from faithful_ledger.core.layers.stream import Stream

__all__ = ["STREAMS", "Runs"]

REPEATED = re.compile(rb"(.)\1*", re.DOTALL)
WORTH = 3  # bytes that are worth a run of their own between bytes as they are
MOST_COUNTED = 255


class Runs(DecodedStream):
    """A kind of runs."""

    def is_as_written(self, packed: bytes, data: bytes) -> bool:
        """Whether bytes that unpack to `data` are what any writer makes of it, where there is only one way."""
        return self.packed(data, b"") == packed


class Controlled(Runs):
    """A byte for each number of bytes as they are (`new`), and one for each number of times that a byte is there
    (`again`), both from the smallest number on.
    """

    def __init__(self, name: str, new: Mapping[int, int], again: Mapping[int, int], nothing: int = -1) -> None:
        self.name, self.new, self.again, self.nothing = name, new, again, nothing
        self.means = {code: (count, True) for count, code in again.items()}
        self.means |= {code: (count, False) for count, code in new.items()}

    def decoded(self, data: bytes, at: int, most: int, out: bytearray) -> int:
        while at < len(data) and len(out) < most:
            code, at = data[at], at + 1
            if code == self.nothing:
                continue
            if code not in self.means:
                raise ValueError(f"{code} says no number of bytes")
            count, is_run = self.means[code]
            if is_run:
                out += bytes((data[at],)) * count
                at += 1
            else:
                at = copy_new(out, data, at, count)
        return at

    def packed(self, data: bytes, old: bytes) -> bytes:
        out, new = bytearray(), bytearray()
        most = max(self.again)
        for byte, size in _runs(data, most):
            if size < max(WORTH, min(self.again)):
                new += bytes((byte,)) * size
                continue
            self._put_new(out, new)
            new.clear()
            out += bytes((self.again[size], byte))
        self._put_new(out, new)
        return bytes(out)

    def is_as_written(self, packed: bytes, data: bytes) -> bool:
        return True  # writers differ in what is worth a run

    def _put_new(self, out: bytearray, new: bytearray) -> None:
        most = max(self.new)
        for start in range(0, len(new), most):
            part = new[start : start + most]
            out.append(self.new[len(part)])
            out += part


class OfZeros(Runs):
    """Zeros are one and their number, less `least`."""

    def __init__(self, name: str, least: int) -> None:
        self.name, self.least = name, least

    def decoded(self, data: bytes, at: int, most: int, out: bytearray) -> int:
        while at < len(data) and len(out) < most:
            zero = data.find(0, at)
            plain = data[at : zero if zero >= 0 else len(data)]
            out += plain
            at += len(plain)
            if zero >= 0:
                if not data[at + 1] + self.least:
                    raise ValueError("a run has nothing in it")
                out += bytes(data[at + 1] + self.least)
                at += 2
        return at

    def packed(self, data: bytes, old: bytes) -> bytes:
        out = bytearray()
        for byte, size in _runs(data, MOST_COUNTED + self.least):
            out += bytes((byte,)) * size if byte else bytes((0, size - self.least))
        return bytes(out)


class Pairs(Runs):
    """Each byte has its count `behind` it, or in front."""

    def __init__(self, name: str, behind: bool) -> None:
        self.name, self.behind = name, behind

    def decoded(self, data: bytes, at: int, most: int, out: bytearray) -> int:
        while at < len(data) and len(out) < most:
            byte, count = data[at + 1 - self.behind], data[at + self.behind]
            if not count:
                raise ValueError("a run has nothing in it")
            out += bytes((byte,)) * count
            at += 2
        return at

    def packed(self, data: bytes, old: bytes) -> bytes:
        out = bytearray()
        for byte, size in _runs(data, MOST_COUNTED):
            out += bytes((byte, size) if self.behind else (size, byte))
        return bytes(out)


def _runs(data: bytes, most: int) -> Iterator[tuple[int, int]]:
    """Each byte and how often it is there, so often at most."""
    for run in REPEATED.finditer(data):
        left = len(run[0])
        while left:
            yield run[0][0], min(left, most)
            left -= min(left, most)


def _counted(new: int, again: int) -> Controlled:
    """Those whose bytes below 128 say how many follow less `new`, and from 128 on how often the next one is there less
    `again`.
    """
    as_they_are = {code + new: code for code in range(128) if code + new}
    repeated = {code + again: 128 + code for code in range(128) if code + again}
    return Controlled(f"runs-{new}-{again}", as_they_are, repeated)


STREAMS: tuple[Stream, ...] = (
    Controlled(
        "packbits", {size: size - 1 for size in range(1, 129)}, {size: 257 - size for size in range(2, 129)}, 128
    ),
    *(_counted(new, again) for new, again in ((1, 1), (1, 3), (0, 1), (0, 0))),
    *(OfZeros(f"zero-runs-{least}", least) for least in (0, 1)),
    Pairs("run-pairs", behind=False),
    Pairs("run-pairs-back", behind=True),
)
