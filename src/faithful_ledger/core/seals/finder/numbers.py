"""What algorithms give over ranges of one content, as quickly as possible: CRCs and multiplying hashes from prefixes
(rings.py), sums from running sums, everything else from its bytes.
"""

from __future__ import annotations

from collections import Counter
from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.bit_order import mirrored
from faithful_ledger.core.seals.algorithms import Algorithm, own_bytes
from faithful_ledger.core.seals.crc import CATALOGUE, Crc
from faithful_ledger.core.seals.finder.rings import Prefixes, Ranges, multiplying, polynomials
from faithful_ledger.core.seals.finder.running import RunningSums
from faithful_ledger.core.seals.hashes import HASHES, Hash
from faithful_ledger.core.seals.sums import SUMS

__all__ = ["Numbers"]

Array: TypeAlias = np.ndarray[Any, Any]
MOST_STATES = 100_000
FAMILIES = Counter((crc.width, crc.polynomial, crc.reflected) for crc, _ in CATALOGUE.values())
SHARED_POLYNOMIALS = frozenset(family for family, count in FAMILIES.items() if count > 1)


class Numbers:
    """What algorithms give over ranges of one content, as quickly as they can be had."""

    def __init__(self, content: bytes) -> None:
        self.content = content
        self.running = RunningSums(content)
        self.prefixes: dict[tuple[int, int, bool], Prefixes] = {}
        self.states: dict[object, int] = {}
        self.begun: dict[object, int] = {}
        self.many: dict[tuple[object, int], Array] = {}

    def of(self, algorithm: Algorithm, start: int, end: int, at: int, size: int, own: str | None) -> int:
        """The result over a range, in which what is stored is seen as `own`."""
        if algorithm.name in CATALOGUE:
            return self._crc(CATALOGUE[algorithm.name][0], start, end, at, size, own)
        if algorithm.name in SUMS and algorithm.start is None:
            found = self.running.number(algorithm.name, start, end, at, size, own)
            if found is not None:
                return found
        if algorithm.name in HASHES and HASHES[algorithm.name].multiplier and algorithm.start is None:
            return self._multiplied(HASHES[algorithm.name], start, end, at, size, own)
        data = memoryview(self.content)
        if own is None:
            return algorithm([data[start:end]])
        return algorithm([data[start:at], memoryview(own_bytes(own, size)), data[at + size : end]])

    def crc_states(self, crc: Crc, over: Ranges) -> Array:
        """What a CRC is after many ranges, in front of what comes last."""
        key = crc.width, crc.polynomial, crc.reflected
        if (key, id(over)) not in self.many:
            self.many[key, id(over)] = self._prefixes(crc).states(over)
        plain = self.many[key, id(over)]
        if not crc.start:
            return plain
        powers = polynomials(crc.width, crc.polynomial).powers(len(self.content) + 1)
        started: Array = self._prefixes(crc).ring.times(powers[over.lengths], mirrored(crc.start, crc.width))
        return plain ^ started

    def _prefixes(self, crc: Crc) -> Prefixes:
        key = crc.width, crc.polynomial, crc.reflected
        if key not in self.prefixes:
            ring = polynomials(crc.width, crc.polynomial)
            self.prefixes[key] = Prefixes(ring, self.content, flipped=not crc.reflected)
        return self.prefixes[key]

    def _crc(self, crc: Crc, start: int, end: int, at: int, size: int, own: str | None) -> int:
        """The same from prefixes (rings.py)."""
        key = crc.width, crc.polynomial, crc.reflected
        left = size if own == "left out" else 0
        place = (key, start, end, at if own is not None else 0, own)
        state = self.states.get(place)
        if state is None:  # others with this polynomial differ in what they start with, and in what comes last
            prefixes = self._prefixes(crc)
            ring = prefixes.ring
            total = ring.minus_one(prefixes.end(end, at, size, own), int(prefixes.whole[start]))
            state = ring.product(int(ring.powers(len(self.content) + 1)[end - left]), total)
            if key in SHARED_POLYNOMIALS and len(self.states) < MOST_STATES:
                self.states[place] = state
        if crc.start:
            state ^= self._started(crc, end - start - left)
        return crc.finished(state)

    def _multiplied(self, hashing: Hash, start: int, end: int, at: int, size: int, own: str | None) -> int:
        """A hash that multiplies and adds each byte, from prefixes as well."""
        ring, left = multiplying(hashing.multiplier), size if own == "left out" else 0
        key = 32, hashing.multiplier, False
        if key not in self.prefixes:
            self.prefixes[key] = Prefixes(ring, self.content, flipped=False)
        prefixes, powers = self.prefixes[key], ring.powers(len(self.content) + 1)
        total = ring.minus_one(prefixes.end(end, at, size, own), int(prefixes.whole[start]))
        begun = ring.product(int(powers[end - start - left]), hashing.start)
        return ring.product(int(powers[end - left]), total) + begun & 0xFFFFFFFF

    def _started(self, crc: Crc, length: int) -> int:
        """What the number that a CRC starts with is after so many bytes."""
        key = crc.width, crc.polynomial, crc.start, length
        if key not in self.begun:
            ring = polynomials(crc.width, crc.polynomial)
            power = int(ring.powers(len(self.content) + 1)[length])
            self.begun[key] = ring.product(power, mirrored(crc.start, crc.width))
        return self.begun[key]
