"""Hashes: short ones that games write themselves, and digests of libraries.

FNV is that of Fowler, Noll and Vo; one-at-a-time and the multiply-by-33 and -31 hashes are as their authors published
them (Jenkins, 1997; Bernstein; Kernighan and Ritchie, 1988, for 31; 65599 is that of the ndbm substitute sdbm). The sum
of BSD is that of its sum(1), and pjw-32 that of object files (System V ABI, "Hash Table"). A rotated sum turns its bits
to the left, by one or by five, before each byte.
"""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import lru_cache, reduce
from itertools import accumulate, pairwise
from types import MappingProxyType
from typing import TYPE_CHECKING, Any, NamedTuple

from faithful_ledger.core.seals.crc import CATALOGUE

if TYPE_CHECKING:
    import numpy as np

__all__ = ["DIGESTS", "HASHES", "Hash", "Lane", "digest", "multiplied", "murmur_seed", "running_digest"]

SMALL = 256  # bytes that are not worth an array
M16, M32, M64 = (1 << 16) - 1, (1 << 32) - 1, (1 << 64) - 1


class Lane(NamedTuple):
    """One range of many, and the bytes within it that are seen as others: `size` of them at `at`, each as the one byte
    of `fill`, or left out where that is empty.
    """

    start: int
    end: int
    at: int
    size: int
    fill: bytes


Step = Callable[[int, int], int]  # of a state and a byte, or of those of several lanes
Undo = Callable[[Any, Any], Any]  # of arrays, as wide as a state


class Hash(NamedTuple):
    """Made byte by byte, by a step and an `end`, or as a `whole`, or of a `crc` by its `end`. `multiplier` where a byte
    does: state × multiplier + byte, modulo 2³²; else 0. `undo` makes of states, and the byte that led to each, those
    before it, and `undo_end` of results the states at the end.

    Several lanes are followed in one large integer, in which each has a field of its own that is wider than a state:
    for few lanes that takes a tenth of the time of arrays. `step(ones)` makes the step for lanes that have a 1 in
    `ones`, at the lowest bit of their field.
    """

    bits: int
    start: int = 0
    step: Callable[[int], Step] | None = None
    end: Callable[[Any], Any] = int  # of one state, or of an array of them
    whole: Callable[[Iterable[memoryview], int], int] | None = None
    multiplier: int = 0
    crc: str = ""
    undo: Undo | None = None
    undo_end: Callable[[Any], Any] = lambda results: results

    def compute(self, chunks: Iterable[memoryview], state: int) -> int:
        if self.whole is not None:
            return self.whole(chunks, state)
        if self.crc:
            return int(self.end(CATALOGUE[self.crc][0](chunks)))
        assert self.step is not None
        step = self.step(1)
        for chunk in chunks:
            state = reduce(step, chunk, state)
        return int(self.end(state))

    @property
    def field(self) -> int:
        """The bits of a lane: those of a state, and those of the largest product."""
        return 64 if self.bits <= 32 else 128

    def _together(self, count: int) -> tuple[Step, list[int]]:
        """The step of so many lanes, and each byte as all of them get it."""
        assert self.step is not None
        ones = sum(1 << self.field * lane for lane in range(count))
        return self.step(ones), [byte * ones for byte in range(256)]

    def results_from(self, data: bytes, starts: Sequence[int]) -> Iterator[tuple[int, np.ndarray[Any, Any]]]:
        """From each start the results over the first 0, 1, 2 … bytes behind it; all starts are followed together."""
        import numpy as np

        order = sorted(starts)
        if not order:
            return
        states = 0
        rows: list[int] = []
        for lane, (low, high) in enumerate(pairwise([*order, len(data)])):
            states |= self.start << self.field * lane
            step, spread = self._together(lane + 1)
            *rows[len(rows) :], states = accumulate(map(spread.__getitem__, data[low:high]), step, initial=states)
        size = self.field // 8 * len(order)
        packed = b"".join(row.to_bytes(size, "little") for row in (*rows, states))
        table = np.frombuffer(packed, "<u8").reshape(len(rows) + 1, len(order), -1)
        for lane, start in enumerate(order):
            found = np.ascontiguousarray(table[start - order[0] :, lane, 0])
            yield start, found if self.end is int else self.end(found)

    def results_over(self, data: bytes, lanes: Sequence[Lane]) -> list[int]:
        """The result of each lane; all are followed together, as far as they see the same bytes."""
        states = [self.start] * len(lanes)
        bounds = sorted({edge for lane in lanes for edge in (lane.start, lane.end, lane.at, lane.at + lane.size)})
        for low, high in pairwise(bounds):
            alike: dict[bytes | None, list[int]] = {}  # lanes by what they see in the place of these bytes
            for number, lane in enumerate(lanes):
                if lane.start <= low < lane.end:
                    is_own = lane.at <= low < lane.at + lane.size
                    alike.setdefault(lane.fill if is_own else None, []).append(number)
            for fill, numbers in alike.items():
                step, spread = self._together(len(numbers))
                packed = sum(states[number] << self.field * lane for lane, number in enumerate(numbers))
                seen = data[low:high] if fill is None else fill * (high - low)
                packed = reduce(step, map(spread.__getitem__, seen), packed)
                for number in numbers:
                    states[number], packed = packed & (1 << self.bits) - 1, packed >> self.field
        return [int(self.end(state)) for state in states]


@lru_cache(maxsize=64)
def multiplied(multiplier: int) -> Hash:
    """The hash that takes each byte by state × multiplier + byte, modulo 2³²."""

    def whole(chunks: Iterable[memoryview], state: int) -> int:
        for chunk in chunks:
            if len(chunk) > SMALL:
                import numpy as np

                data = np.frombuffer(chunk, np.uint8).astype(np.uint32)
                factors = np.full(data.size, multiplier, np.uint32)
                factors[0] = 1
                powers = np.multiply.accumulate(factors, dtype=np.uint32)
                total = int((data[::-1] * powers).sum(dtype=np.uint64))
                state = state * int(powers[-1]) * multiplier + total & M32
                continue
            for byte in chunk:
                state = state * multiplier + byte & M32
        return state

    return Hash(32, {33: 5381}.get(multiplier, 0), whole=whole, multiplier=multiplier)


def _multiplied_first(prime: int, start: int, mask: int) -> Hash:
    def steps(ones: int) -> Step:
        masks = mask * ones
        return lambda state, byte: (state * prime & masks) ^ byte

    inverse = pow(prime, -1, mask + 1)
    return Hash(mask.bit_length(), start, steps, undo=lambda states, bytes_: (states ^ bytes_) * inverse)


def _mixed_first(prime: int, start: int, mask: int) -> Hash:
    def steps(ones: int) -> Step:
        masks = mask * ones
        return lambda state, byte: (state ^ byte) * prime & masks

    inverse = pow(prime, -1, mask + 1)
    return Hash(mask.bit_length(), start, steps, undo=lambda states, bytes_: states * inverse ^ bytes_)


def _rotated(turned: int, *, added: bool) -> Hash:
    def steps(ones: int) -> Step:
        masks, back = M32 * ones, 32 - turned
        if added:
            return lambda state, byte: ((state << turned | state >> back) & masks) + byte & masks
        return lambda state, byte: (state << turned | state >> back) & masks ^ byte

    def undo(states: Any, bytes_: Any) -> Any:
        states = states - bytes_ if added else states ^ bytes_
        return states >> turned | states << 32 - turned

    return Hash(32, 0, steps, undo=undo)


def _bsd_steps(ones: int) -> Step:
    masks = M16 * ones
    return lambda state, byte: (state >> 1 | (state & ones) << 15) + byte & masks


def _pjw_steps(ones: int) -> Step:
    masks, high, low = M32 * ones, 0xF0000000 * ones, 0x0FFFFFFF * ones

    def step(state: int, byte: int) -> int:
        state = (state << 4) + byte & masks
        return (state ^ (state & high) >> 24) & low

    return step


def _jenkins_steps(ones: int) -> Step:
    masks = M32 * ones

    def step(state: int, byte: int) -> int:
        state = state + byte & masks
        state = state + (state << 10) & masks
        return state ^ state >> 6 & masks

    return step


def _jenkins_end(state: int) -> int:
    state = state + (state << 3) & M32
    state ^= state >> 11
    return state + (state << 15) & M32


def _undo_jenkins(states: Any, bytes_: Any) -> Any:
    states = states ^ states >> 6
    states = states ^ states >> 12
    return (states ^ states >> 24) * pow(1 + (1 << 10), -1, 1 << 32) - bytes_


def _undo_jenkins_end(results: Any) -> Any:
    results = results * pow(1 + (1 << 15), -1, 1 << 32)
    results = results ^ results >> 11
    return (results ^ results >> 22) * pow(1 + (1 << 3), -1, 1 << 32)


def _xxhash(bits: int, name: str) -> Hash:
    def whole(chunks: Iterable[memoryview], seed: int) -> int:
        import xxhash

        running = getattr(xxhash, name)(seed=seed)
        for chunk in chunks:
            running.update(bytes(chunk))
        return int(running.intdigest())

    return Hash(bits, whole=whole)


def _murmur(chunks: Iterable[memoryview], seed: int) -> int:
    import mmh3

    return int(mmh3.hash(b"".join(chunks), seed, signed=False))


def murmur_seed(data: bytes, result: int) -> int:
    """The seed with which Murmur3 (32 bits, Appleby, 2011) gives a result: each of its steps can be undone."""
    import numpy as np

    whole = len(data) // 4 * 4
    last = data[whole:] + bytes(4 - len(data) % 4)
    first: Any = np.frombuffer(data[:whole] + last, "<u4") * np.uint32(0xCC9E2D51)
    words: list[int] = ((first << 15 | first >> 17) * np.uint32(0x1B873593)).tolist()
    state = result
    state ^= state >> 16
    state = state * pow(0xC2B2AE35, -1, 1 << 32) & M32
    state ^= state >> 13 ^ state >> 26
    state = state * pow(0x85EBCA6B, -1, 1 << 32) & M32
    state ^= state >> 16 ^ len(data)
    state ^= words.pop()
    fifth = pow(5, -1, 1 << 32)
    for word in reversed(words):
        state = (state - 0xE6546B64) * fifth & M32
        state = (state >> 13 | state << 19) & M32 ^ word
    return state


def _masked(number: int) -> int:
    """A CRC turned right by 15 bits, and a constant added: for bytes that hold such checksums themselves (Snappy
    framing format, section 3).
    """
    return (number >> 15 | number << 17) + 0xA282EAD8 & M32


HASHES: Mapping[str, Hash] = MappingProxyType(
    {
        "fnv-1-32": _multiplied_first(0x01000193, 0x811C9DC5, M32),
        "fnv-1a-32": _mixed_first(0x01000193, 0x811C9DC5, M32),
        "fnv-1-64": _multiplied_first(0x100000001B3, 0xCBF29CE484222325, M64),
        "fnv-1a-64": _mixed_first(0x100000001B3, 0xCBF29CE484222325, M64),
        "djb2": multiplied(33),
        "djb2-xor": _multiplied_first(33, 5381, M32),
        "times-31": multiplied(31),
        "times-65599": multiplied(65_599),
        "one-at-a-time": Hash(32, 0, _jenkins_steps, _jenkins_end, undo=_undo_jenkins, undo_end=_undo_jenkins_end),
        "bsd-16": Hash(16, 0, _bsd_steps),
        "rotated-sum32": _rotated(1, added=True),
        "rotated-xor32": _rotated(1, added=False),
        "rotated-xor32-by-5": _rotated(5, added=False),
        "pjw-32": Hash(32, 0, _pjw_steps),
        "xxhash-32": _xxhash(32, "xxh32"),
        "xxhash-64": _xxhash(64, "xxh64"),
        "xxh3-64": _xxhash(64, "xxh3_64"),
        "murmur3-32": Hash(32, whole=_murmur),
        "crc-32c-masked": Hash(32, end=_masked, crc="crc-32c"),
    }
)

DIGESTS: Mapping[str, str] = MappingProxyType(
    {
        "md5": "md5",
        "sha-1": "sha1",
        "sha-224": "sha224",
        "sha-256": "sha256",
        "sha-384": "sha384",
        "sha-512": "sha512",
        "sha3-224": "sha3_224",
        "sha3-256": "sha3_256",
        "sha3-384": "sha3_384",
        "sha3-512": "sha3_512",
        "blake2s": "blake2s",
        "blake2b": "blake2b",
    }
)
"""Digests by name, each with its name in hashlib."""


def running_digest(name: str, key: bytes = b"") -> Any:
    """One that takes bytes with `update`, and says with `digest` what it is by then, as those of hashlib do."""
    known = DIGESTS[name]
    return hmac.new(key, digestmod=known) if key else hashlib.new(known, usedforsecurity=False)


def digest(name: str, chunks: Iterable[memoryview], key: bytes = b"") -> bytes:
    """A digest; with a key, the HMAC (RFC 2104) that is made with it."""
    running = running_digest(name, key)
    for chunk in chunks:
        running.update(chunk)
    found: bytes = running.digest()
    return found
