"""Many byte runs found in one pass over a source.

Two bytes at a time are looked up in a table of 65536 flags (a filter in the sense of Wu and Manber, "A Fast Algorithm
for Multi-Pattern Searching", 1994): of each run the pair that is rarest in a sample of the data is entered, once for
runs that begin at an even offset and once for odd ones. What passes is compared in full. The cost hardly depends on how
many runs there are. Blocks are scanned by two threads; NumPy works without the interpreter's lock.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.source import Source

__all__ = ["Found", "distinct", "scan", "scan_array", "windows"]

Array: TypeAlias = np.ndarray[Any, Any]
BLOCK = 16 << 20
LOOKUP = 1 << 16
SAMPLE = 1 << 16
COMMON = 1 / 64  # a pair that is more frequent than this is looked for at the other half of the offsets, if rarer there
RARE = 1 / 256
SHORT = 2  # runs up to this length are compared directly
THREADS = 2


class Found(NamedTuple):
    """`offsets[k]` is where run number `runs[k]` stands; in order of offsets."""

    offsets: Array
    runs: Array


class _Key(NamedTuple):
    """A run shows itself by the pair `value`, `inside` bytes behind its beginning, in pairs that begin at `start`."""

    run: int
    inside: int
    start: int
    value: int


def windows(data: Array | bytes, kind: np.dtype[Any]) -> Array:
    """The values of a type that begin at every offset, as one view (NumPy reads unaligned views of stride 1)."""
    size = data.size if isinstance(data, np.ndarray) else len(data)
    count = max(size - kind.itemsize + 1, 0)
    if not count:
        return np.empty(0, kind)
    return np.ndarray((count,), kind, data if isinstance(data, bytes) else np.ascontiguousarray(data), strides=(1,))


def distinct(numbers: Array) -> Array:
    """What of some numbers is different, in order. NumPy's own `unique` takes seventy times as long over a million."""
    ordered = np.sort(numbers)
    fresh = np.ones(ordered.size, bool)
    np.not_equal(ordered[1:], ordered[:-1], out=fresh[1:])
    found: Array = ordered[fresh]
    return found


def scan(source: Source, runs: Sequence[bytes]) -> Iterator[Found]:
    """Every place of every run, overlapping ones too, a few MiB at a time in order of offsets. Empty runs are none."""
    longest = max((len(run) for run in runs), default=0)
    if not longest or not source.size:
        return
    sample = np.frombuffer(source.read(0, min(source.size, BLOCK)), np.uint8)
    plan = _Plan(runs, sample)
    starts = iter(range(0, source.size, BLOCK))
    with ThreadPoolExecutor(THREADS) as pool:
        waiting: deque[Future[Found]] = deque()
        try:
            while True:
                while len(waiting) <= THREADS and (start := next(starts, None)) is not None:
                    data = np.frombuffer(source.read(start, start + BLOCK + longest - 1), np.uint8)
                    waiting.append(pool.submit(plan.find, data, start, min(BLOCK, source.size - start)))
                if not waiting:
                    return
                found = waiting.popleft().result()
                if found.offsets.size:
                    yield found
        finally:
            for future in waiting:
                future.cancel()


def scan_array(data: Array, runs: Sequence[bytes]) -> Found:
    """The same over an array of bytes (uint8), all at once."""
    from faithful_ledger.core.source import MemorySource

    parts = list(scan(MemorySource(np.ascontiguousarray(data).data), runs))
    if not parts:
        return Found(np.empty(0, np.int64), np.empty(0, np.int64))
    return Found(np.concatenate([part.offsets for part in parts]), np.concatenate([part.runs for part in parts]))


class _Plan:
    """Which pair of which run is looked up."""

    def __init__(self, runs: Sequence[bytes], sample: Array) -> None:
        self.runs = [np.frombuffer(run, np.uint8) for run in runs]
        step = max(sample.size // SAMPLE, 1) | 1
        pairs = _pairs(sample, 0)[::step]
        share = np.bincount(pairs, minlength=65536) / max(pairs.size, 1)
        keys = [
            self._key(number, run, parity, share)
            for number, run in enumerate(runs)
            if len(run) > SHORT
            for parity in (0, 1)
        ]
        self.tables: dict[int, Array] = {}
        for start in {key.start for key in keys}:
            table = np.zeros(65536, bool)
            table[[key.value for key in keys if key.start == start]] = True
            self.tables[start] = table
        first = np.bincount(pairs & 255, minlength=256) / max(pairs.size, 1)
        short = [number for number, run in enumerate(runs) if 0 < len(run) <= SHORT]
        # Pairs of bytes are looked up as well if they all begin with one rare byte; else too much would pass.
        begins = {runs[number][0] for number in short if len(runs[number]) == SHORT}
        alone = len(begins) == 1 and first[min(begins)] < RARE
        self.pairs = [number for number in short if alone and len(runs[number]) == SHORT]
        self.short = [number for number in short if number not in self.pairs]
        if self.pairs:
            table = self.tables.setdefault(0, np.zeros(65536, bool))
            for number in self.pairs:
                table[runs[number][0] | runs[number][1] << 8] = True
                table[np.arange(256) | runs[number][0] << 8] = True
        self.keys: dict[tuple[int, int], list[_Key]] = {}
        self.known = np.zeros(65536, bool)  # which pairs of those that begin at even offsets belong to longer runs
        for key in keys:
            self.keys.setdefault((key.start, key.value), []).append(key)
            self.known[key.value] |= key.start == 0

    def _key(self, number: int, run: bytes, parity: int, share: Array) -> _Key:
        """The rarest pair of a run that begins at an even (0) or odd (1) offset."""
        values = [run[at] | run[at + 1] << 8 for at in range(len(run) - 1)]
        even = min(range(parity, len(values), 2), key=lambda at: share[values[at]])
        if share[values[even]] > COMMON:
            odd = min(range(1 - parity, len(values), 2), key=lambda at: share[values[at]], default=even)
            if share[values[odd]] < share[values[even]] / 4:
                return _Key(number, odd, 1, values[odd])
        return _Key(number, even, 0, values[even])

    def find(self, data: Array, base: int, size: int) -> Found:
        """Runs that begin in the first `size` bytes of `data`; `base` is the offset of `data`."""
        offsets, numbers = [], []
        for start, table in self.tables.items():
            pairs = _pairs(data, start)
            places = _looked_up(pairs, table)
            if not places.size:
                continue
            values = pairs[places]
            if start == 0 and self.pairs:
                for number in self.pairs:
                    offsets.append(self._pair(data, places, values, number, size))
                    numbers.append(np.full(offsets[-1].size, number))
                known = self.known[values]
                places, values = places[known], values[known]
                if not places.size:
                    continue
            order = np.argsort(values, kind="stable")
            places, (distinct, first) = places[order] * 2 + start, np.unique(values[order], return_index=True)
            for value, some in zip(distinct.tolist(), np.split(places, first[1:]), strict=True):
                for key in self.keys[start, value]:
                    hits = self._whole(data, some - key.inside, key.run, size)
                    offsets.append(hits)
                    numbers.append(np.full(hits.size, key.run))
        for number in self.short:
            run = self.runs[number]
            equal = data[: max(data.size - run.size + 1, 0)] == run[0]
            if run.size > 1:
                equal &= data[1:] == run[1]
            hits = np.flatnonzero(equal[:size])
            offsets.append(hits)
            numbers.append(np.full(hits.size, number))
        if not offsets:
            return Found(np.empty(0, np.int64), np.empty(0, np.int64))
        at, which = np.concatenate(offsets), np.concatenate(numbers)
        order = np.lexsort((which, at))
        return Found(at[order] + base, which[order])

    def _pair(self, data: Array, places: Array, values: Array, number: int, size: int) -> Array:
        """Where two bytes stand, by the pairs that passed: as one of them, or over the border of two."""
        run = self.runs[number].astype(np.int64)
        even = places[values == (run[0] | run[1] << 8)] * 2
        odd = places[values >> 8 == run[0]] * 2 + 1
        odd = odd[odd + 1 < data.size]
        hits = np.concatenate([even, odd[data[odd + 1] == run[1]]])
        return hits[hits < size]

    def _whole(self, data: Array, starts: Array, number: int, size: int) -> Array:
        run = self.runs[number]
        starts = starts[(starts >= 0) & (starts < size) & (starts + run.size <= data.size)]
        for place, byte in enumerate(run.tolist()):
            if not starts.size:
                break
            starts = starts[data[starts + place] == byte]
        return starts


def _pairs(data: Array, start: int) -> Array:
    """Every second two bytes as one number, from `start` on."""
    whole = (data.size - start) // 2 * 2 if data.size > start else 0
    return np.ndarray((whole // 2,), np.dtype("<u2"), data, start) if whole else np.empty(0, np.dtype("<u2"))


def _looked_up(pairs: Array, table: Array) -> Array:
    """The indexes of the pairs whose flag is set."""
    index, flags = np.empty(LOOKUP, np.intp), np.empty(LOOKUP, bool)
    found = []
    for at in range(0, pairs.size, LOOKUP):
        part = pairs[at : at + LOOKUP]
        np.copyto(index[: part.size], part)
        np.take(table, index[: part.size], out=flags[: part.size], mode="clip")
        hits = np.flatnonzero(flags[: part.size])
        if hits.size:
            found.append(hits + at)
    return np.concatenate(found) if found else np.empty(0, np.int64)
