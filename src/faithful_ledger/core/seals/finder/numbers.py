"""What algorithms give over ranges of one content, as quickly as possible: CRCs and multiplying hashes from prefixes
(rings.py), sums from running sums, everything else from its bytes.
"""

from __future__ import annotations

from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.bit_order import mirrored
from faithful_ledger.core.seals.algorithms import KEYED, Algorithm, own_bytes
from faithful_ledger.core.seals.crc import CATALOGUE, Crc
from faithful_ledger.core.seals.finder.digests import Digests
from faithful_ledger.core.seals.finder.kept import NUMBER, Kept
from faithful_ledger.core.seals.finder.rings import Prefixes, Ranges, multiplying, polynomials
from faithful_ledger.core.seals.finder.running import RunningSums
from faithful_ledger.core.seals.hashes import HASHES, Hash
from faithful_ledger.core.seals.sums import SUMS

__all__ = ["Numbers", "is_plain_sum"]

Array: TypeAlias = np.ndarray[Any, Any]
MOST_KEPT = 1 << 27  # bytes of prefixes


def is_plain_sum(algorithm: Algorithm) -> bool:
    """Whether its results are differences of running sums."""
    return algorithm.name in SUMS and algorithm.start is None and not algorithm.is_salted


class Numbers:
    """What algorithms give over ranges of one content, as quickly as they can be had."""

    def __init__(self, content: bytes) -> None:
        self.content = content
        self.running = RunningSums(content)
        self.digests = Digests(content)
        self.prefixes: Kept[tuple[int, int, bool], Prefixes] = Kept(MOST_KEPT)
        self._filled: Array | None = None
        self.states: dict[tuple[object, Ranges], Array] = {}

    def of(self, algorithm: Algorithm, start: int, end: int, at: int, size: int, own: str | None) -> int:
        """The result over a range, in which what is stored is seen as `own`."""
        if algorithm.is_salted:
            return self._from_bytes(algorithm, start, end, at, size, own)
        if algorithm.name in CATALOGUE:
            return self._crc(CATALOGUE[algorithm.name][0], start, end, at, size, own)
        if is_plain_sum(algorithm):
            found = self.running.number(algorithm.name, start, end, at, size, own)
            if found is not None:
                return found
        if algorithm.name in HASHES and algorithm.start is None:
            hashing = HASHES[algorithm.name]
            if hashing.multiplier:
                return self._multiplied(hashing, start, end, at, size, own)
            if hashing.crc:
                return int(hashing.end(self._crc(CATALOGUE[hashing.crc][0], start, end, at, size, own)))
        return self._from_bytes(algorithm, start, end, at, size, own)

    def _from_bytes(self, algorithm: Algorithm, start: int, end: int, at: int, size: int, own: str | None) -> int:
        if algorithm.is_digest and not algorithm.is_salted and not algorithm.changed:
            name = algorithm.name.removeprefix(KEYED)
            if own is None:
                found = self.digests.over(name, algorithm.key, start, end)
            else:
                found = self.digests.around(name, algorithm.key, start, end, at, size, own_bytes(own, size))
            return int.from_bytes(found, "big")
        data = memoryview(self.content)
        if own is None:
            return algorithm([data[start:end]])
        return algorithm([data[start:at], memoryview(own_bytes(own, size)), data[at + size : end]])

    def has_content(self, starts: Array, ends: Array) -> Array:
        """Which ranges have a byte that is not zero: what is over the others is stored wherever nothing is."""
        if self._filled is None:
            filled = np.frombuffer(self.content, np.uint8) != 0
            self._filled = np.concatenate(([0], np.cumsum(filled)))
        found: Array = self._filled[ends] > self._filled[starts]
        return found

    def crc_states(self, crc: Crc, over: Ranges) -> Array:
        """What a CRC is after many ranges, in front of what comes last. Others with its polynomial begin with another
        number only, so that the rest is remembered.
        """
        prefixes = self._prefixes(crc)
        key = (crc.width, crc.polynomial, crc.reflected), over
        if key not in self.states:
            self.states[key] = prefixes.states(over)
        if not crc.start:
            return self.states[key]
        powers = prefixes.ring.powers(len(self.content) + 1)
        started: Array = prefixes.ring.times(powers[over.lengths], mirrored(crc.start, crc.width))
        return self.states[key] ^ started

    def _prefixes(self, crc: Crc) -> Prefixes:
        key = crc.width, crc.polynomial, crc.reflected

        def make() -> Prefixes:
            return Prefixes(polynomials(crc.width, crc.polynomial), self.content, flipped=not crc.reflected)

        return self.prefixes.get(key, NUMBER * len(self.content), make)

    def _crc(self, crc: Crc, start: int, end: int, at: int, size: int, own: str | None) -> int:
        """The same from prefixes (rings.py)."""
        prefixes, left = self._prefixes(crc), size if own == "left out" else 0
        ring, powers = prefixes.ring, prefixes.ring.powers(len(self.content) + 1)
        total = ring.minus_one(prefixes.end(end, at, size, own), int(prefixes.whole[start]))
        state = ring.product(int(powers[end - left]), total)
        if crc.start:
            state ^= ring.product(int(powers[end - start - left]), mirrored(crc.start, crc.width))
        return crc.finished(state)

    def _multiplied(self, hashing: Hash, start: int, end: int, at: int, size: int, own: str | None) -> int:
        """A hash that multiplies and adds each byte, from prefixes as well."""
        ring, left = multiplying(hashing.multiplier), size if own == "left out" else 0
        key = 32, hashing.multiplier, False
        prefixes = self.prefixes.get(
            key, NUMBER * len(self.content), lambda: Prefixes(ring, self.content, flipped=False)
        )
        powers = ring.powers(len(self.content) + 1)
        total = ring.minus_one(prefixes.end(end, at, size, own), int(prefixes.whole[start]))
        begun = ring.product(int(powers[end - start - left]), hashing.start)
        return ring.product(int(powers[end - left]), total) + begun & 0xFFFFFFFF
