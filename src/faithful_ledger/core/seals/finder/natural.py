"""Checksums over the ranges that people choose: the whole file, what is behind a header, before or behind the seal.

Everything that cannot be searched over any range is looked for here: digests, hashes that mix, sums of eight bits; and
all algorithms where saves differ in size. Hashes that take byte after byte are followed from each natural start to
every end; CRCs are differences of prefixes.
"""

from __future__ import annotations

import base64
import re
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.seals.algorithms import ALGORITHMS, Algorithm
from faithful_ledger.core.seals.crc import CATALOGUE, Crc, mirrored, mirrored_bytes
from faithful_ledger.core.seals.finder.finding import Finding, spelled
from faithful_ledger.core.seals.finder.places import Edge, Place
from faithful_ledger.core.seals.finder.rings import polynomials
from faithful_ledger.core.seals.hashes import DIGESTS, HASHES

__all__ = ["natural"]

Array: TypeAlias = np.ndarray[Any, Any]
HEADS = (0, 4, 8, 12, 16, 20, 24, 28, 32, 36, 40, 48, 56, 60, 64, 80, 96, 100, 128, 256, 512, 1024)
TAILS = (0, 4, 8, 2, 16, 1, 12, 20, 32, 64)
FEW_HEADS, FEW_TAILS = 8, 5
OWN = ("zeros", "left out", "FF", "20")
SLOW = ("fnv-1-32", "fnv-1a-32", "fnv-1-64", "fnv-1a-64", "djb2-xor", "one-at-a-time")
MOST_PLACES, MOST_SLOW = 40, 10
MOST_BYTES = 10  # places of a single byte: there are many, and they say little
LEAST_TEXT = 6  # letters
TRIED = 15.0
M32 = np.uint64(0xFFFFFFFF)


def natural(
    contents: Sequence[bytes], places: Sequence[Place], algorithms: Sequence[Algorithm], end: Deadline = NEVER
) -> Iterator[Finding]:
    """Findings that hold in every save, the quick algorithms first."""
    number = min(range(len(contents)), key=lambda j: len(contents[j]))
    looking = _Natural(contents, number, places, end)
    quick = [each for each in algorithms if each.name not in SLOW]
    slow = [each for each in algorithms if each.name in SLOW]
    for algorithm in quick:
        if end.over:
            return
        yield from looking.fixed(algorithm)
        yield from looking.beside(algorithm)
    for algorithm in slow:
        if end.over:
            return
        yield from looking.followed(algorithm)
    for algorithm in slow:
        if end.over:
            return
        yield from looking.beside(algorithm, MOST_SLOW, covering=True)


class _Natural:
    def __init__(self, contents: Sequence[bytes], number: int, places: Sequence[Place], end: Deadline) -> None:
        self.contents, self.number, self.until = contents, number, end
        self.content = contents[number]
        self.size = len(self.content)
        self.by_bits: dict[int, list[Place]] = defaultdict(list)
        self.by_value: dict[tuple[int, int], list[Place]] = defaultdict(list)
        for place in places:
            if place.restless:
                self.by_bits[place.bits].append(place)
                self.by_value[place.bits, place.values[number]].append(place)
        self.prefixes: dict[tuple[int, int, bool], Array] = {}
        self.fillings: dict[tuple[tuple[int, int, bool], int, bytes], int] = {}
        self.heads = [head for head in HEADS if head <= self.size // 2]
        self.tails = [tail for tail in TAILS if tail <= self.size // 2]

    def fixed(self, algorithm: Algorithm) -> Iterator[Finding]:
        """Over ranges that do not depend on where it is stored."""
        for head in self.heads:
            for tail in self.tails:
                if self.until.over:
                    return
                start, end = Edge(head), Edge(tail, True)
                result = self._number(algorithm, head, self.size - tail, 0, 0, None)
                yield from self._stored(algorithm, result, start, end)

    def _stored(self, algorithm: Algorithm, result: int, start: Edge, end: Edge) -> Iterator[Finding]:
        """Where a result is stored, outside of its range."""
        if algorithm.is_digest:
            yield from self._digest(algorithm, result, start, end)
            return
        mask = (1 << algorithm.bits) - 1
        if algorithm.bits >= 32:
            yield from self._texts(algorithm, result, start, end)
        for changed, number in (("", result), ("inverted", ~result & mask), ("negated", -result & mask)):
            for place in self.by_value.get((algorithm.bits, number), ()):
                made = replace(algorithm, changed=changed)  # type: ignore[arg-type]
                yield from self._checked(made, start, end, place, None)

    def _texts(self, algorithm: Algorithm, result: int, start: Edge, end: Edge) -> Iterator[Finding]:
        """The same in letters."""
        raw = result.to_bytes(algorithm.bits // 8, "big")
        for form, text in (
            ("hex", raw.hex().encode()),
            ("HEX", raw.hex().upper().encode()),
            ("base64", base64.b64encode(raw)),
            ("decimal", str(result).encode()),
        ):
            at = self.content.find(text) if len(text) >= LEAST_TEXT else -1
            if at >= 0:
                values = tuple(range(len(self.contents)))  # as many as there are saves
                for edge in (Edge(at), Edge(self.size - at, True)):
                    place = Place(edge, len(text), form, algorithm.bits, values, True, True)
                    yield from self._checked(algorithm, start, end, place, None)

    def _digest(self, algorithm: Algorithm, result: int, start: Edge, end: Edge) -> Iterator[Finding]:
        raw = result.to_bytes(algorithm.bits // 8, "big")
        for form, text in (("bytes", raw), ("hex", raw.hex().encode()), ("HEX", raw.hex().upper().encode())):
            for size in (len(text), *((8, 4) if form == "bytes" else (16, 8))):
                at = self.content.find(text[:size])
                if at < 0:
                    continue
                bits = 8 * size if form == "bytes" else 4 * size
                for edge in (Edge(at), Edge(self.size - at, True)):
                    values = tuple(range(len(self.contents)))  # as many as there are saves
                    place = Place(edge, size, form, bits, values, True, True)
                    yield from self._checked(algorithm, start, end, place, None)
                break

    def beside(self, algorithm: Algorithm, most: int = MOST_PLACES, *, covering: bool = False) -> Iterator[Finding]:
        """Over ranges that begin or end at the seal, or cover it."""
        for place in self._places(algorithm)[:most]:
            if self.until.over:
                return
            at = place.edge.at(self.size)
            behind = place.edge._replace(
                offset=place.edge.offset - place.size if place.edge.from_end else place.edge.offset + place.size
            )
            if not covering:
                for tail in self.tails[:FEW_TAILS]:
                    if self.size - tail > at + place.size:
                        yield from self._checked(algorithm, behind, Edge(tail, True), place, None)
                for head in self.heads:
                    if head < at:
                        yield from self._checked(algorithm, Edge(head), place.edge, place, None)
            for head in self.heads[:FEW_HEADS] if not covering else self.heads[:2]:
                for tail in self.tails[:2] if not covering else self.tails[:1]:
                    if head <= at and at + place.size <= self.size - tail:
                        for own in OWN[: 3 if covering else 4]:
                            yield from self._checked(algorithm, Edge(head), Edge(tail, True), place, own)

    def _places(self, algorithm: Algorithm) -> list[Place]:
        if not algorithm.is_digest:
            known = self.by_bits.get(algorithm.bits, [])[: MOST_BYTES if algorithm.bits == 8 else None]
            return [place for place in known if place.mixed] if algorithm.name in CATALOGUE else known
        size = algorithm.bits // 8
        return [*self._digest_places(size), *self._digest_texts(size)]

    def _digest_texts(self, size: int) -> list[Place]:
        """Where so many bytes are spelled in hexadecimal, and not the same in all saves."""
        found = []
        values = tuple(range(len(self.contents)))
        for form, digit in (("hex", b"[0-9a-f]"), ("HEX", b"[0-9A-F]")):
            for match in list(re.finditer(b"(?<!%b)%b{%d}(?!%b)" % (digit, digit, 2 * size, digit), self.content))[:4]:
                for edge in (Edge(match.start()), Edge(self.size - match.start(), True)):
                    found.append(Place(edge, 2 * size, form, 8 * size, values, True, True))
        return found

    def _digest_places(self, size: int) -> list[Place]:
        """Where so many bytes in a row differ between the saves, from the beginning or from the end."""
        found = []
        for from_end in (False, True):
            shortest = self.size
            cut = [c[len(c) - shortest :] if from_end else c[:shortest] for c in self.contents]
            arrays = np.stack([np.frombuffer(each, np.uint8) for each in cut])
            varies = (arrays != arrays[0]).any(axis=0).astype(np.int64)
            total = np.concatenate(([0], np.cumsum(varies)))
            for at in np.flatnonzero(total[size:] - total[:-size] >= size - 1)[:6].tolist():
                edge = Edge(shortest - at, True) if from_end else Edge(at)
                found.append(Place(edge, size, "bytes", 8 * size, tuple(range(len(cut))), True, True))
            if len({len(content) for content in self.contents}) == 1:
                break
        return found

    def _checked(
        self, algorithm: Algorithm, start: Edge, end: Edge, place: Place, own: str | None
    ) -> Iterator[Finding]:
        made = Finding(algorithm, start, end, place.edge, place.size, place.form, own)
        first, last, at = made.spans(self.size)
        covers = first < at + place.size and at < last
        if covers is not (own is not None) or (covers and not (first <= at and at + place.size <= last)):
            return
        stored = made.stored_in(self.content)
        number = self._number(algorithm, first, last, at, place.size, own)
        mask = (1 << algorithm.bits) - 1
        changes = [("", number)] if algorithm.is_digest else [("", number), ("inverted", ~number), ("negated", -number)]
        for changed, result in changes:
            each = algorithm if not changed else replace(algorithm, changed=changed)  # type: ignore[arg-type]
            if spelled(each, result & mask, place.size, place.form, stored) != stored:
                continue
            checked = replace(made, algorithm=each)
            if all(map(checked.holds, self.contents)):
                checked = checked.checked(self.contents)
                values = len({checked.stored_in(content) for content in self.contents})
                yield replace(checked, bits=min(place.bits, 64) * values - 4.0 - TRIED)

    def _number(self, algorithm: Algorithm, start: int, end: int, at: int, size: int, own: str | None) -> int:
        """The result over a range, in which what is stored is seen as `own`."""
        if algorithm.name in CATALOGUE:
            return self._crc(CATALOGUE[algorithm.name][0], start, end, at, size, own)
        data = memoryview(self.content)
        if own is None:
            return algorithm([data[start:end]])
        fill = b"" if own == "left out" else bytes.fromhex("00" if own == "zeros" else own) * size
        return algorithm([data[start:at], memoryview(fill), data[at + size : end]])

    def _crc(self, crc: Crc, start: int, end: int, at: int, size: int, own: str | None) -> int:
        """The same from prefixes (rings.py)."""
        ring = polynomials(crc.width, crc.polynomial)
        key = crc.width, crc.polynomial, crc.reflected
        if key not in self.prefixes:
            data = self.content if crc.reflected else mirrored_bytes(self.content)
            terms = ring.carried(np.frombuffer(data, np.uint8), ring.inverses(self.size))
            self.prefixes[key] = ring.summed(terms)
        whole = self.prefixes[key]
        total = int(whole[end]) ^ int(whole[start])
        left = size if own == "left out" else 0
        if own == "left out":
            behind = ring.product(int(whole[end]) ^ int(whole[at + size]), ring.power(size))
            total = int(whole[at]) ^ int(whole[start]) ^ behind
        elif own is not None:
            total ^= int(whole[at + size]) ^ int(whole[at])
            if own != "zeros":
                total ^= self._filling(crc, key, at, bytes.fromhex(own) * size)
        powers = ring.powers(self.size + 1)
        state = ring.product(int(powers[end - left]), total)
        if crc.start:
            state ^= ring.product(int(powers[end - start - left]), mirrored(crc.start, crc.width))
        return crc.finished(state)

    def _filling(self, crc: Crc, key: tuple[int, int, bool], at: int, fill: bytes) -> int:
        """What the bytes that stand for the seal's own add to a prefix."""
        found = self.fillings.get((key, at, fill))
        if found is None:
            ring = polynomials(crc.width, crc.polynomial)
            data = np.frombuffer(fill if crc.reflected else mirrored_bytes(fill), np.uint8)
            terms = ring.carried(data, ring.inverses(self.size)[at : at + len(fill)])
            found = self.fillings[key, at, fill] = int(np.bitwise_xor.reduce(terms))
        return found

    # hashes that take byte after byte

    def followed(self, algorithm: Algorithm) -> Iterator[Finding]:
        """From each natural start to every end."""
        places = self.by_bits.get(algorithm.bits, [])
        wanted = np.unique(np.array([place.values[self.number] for place in places], np.uint64))
        if not wanted.size:
            return
        behind = [place.edge.at(self.size) + place.size for place in places[:MOST_SLOW]]
        for start in dict.fromkeys([*self.heads[:14], *behind]):
            if self.until.over:
                return
            states = _states(algorithm.name, self.content[start:])
            for count in np.flatnonzero(np.isin(states, wanted)).tolist():
                value, end = int(states[count]), start + count
                for place in self.by_value[algorithm.bits, value]:
                    at = place.edge.at(self.size)
                    if not start < at + place.size or not at < end:
                        for edge in self._edges(end, place):
                            yield from self._checked(algorithm, self._begin(start, place), edge, place, None)

    def _begin(self, start: int, place: Place) -> Edge:
        if start == place.edge.at(self.size) + place.size and place.edge.from_end:
            return place.edge._replace(offset=place.edge.offset - place.size)
        return Edge(start)

    def _edges(self, end: int, place: Place) -> list[Edge]:
        """What an end may be counted from."""
        if end == place.edge.at(self.size):
            return [place.edge]
        same = len({len(content) for content in self.contents}) == 1
        return [Edge(self.size - end, True)] if same else [Edge(self.size - end, True), Edge(end)]


def _states(name: str, data: bytes) -> Array:
    """The results over 0, 1, 2 … bytes."""
    state = HASHES[name].start
    states = [state]
    keep = states.append
    if name == "one-at-a-time":
        for byte in data:
            state = state + byte & 0xFFFFFFFF
            state = state + (state << 10) & 0xFFFFFFFF
            state ^= state >> 6
            keep(state)
        found = np.array(states, np.uint64)
        found = found + (found << np.uint64(3)) & M32
        found ^= found >> np.uint64(11)
        ended: Array = found + (found << np.uint64(15)) & M32
        return ended
    wide = name.endswith("64")
    mask = (1 << 64) - 1 if wide else 0xFFFFFFFF
    prime = 0x100000001B3 if wide else 33 if name == "djb2-xor" else 0x01000193
    if name.startswith("fnv-1a"):
        for byte in data:
            state = (state ^ byte) * prime & mask
            keep(state)
    else:
        for byte in data:
            state = (state * prime & mask) ^ byte
            keep(state)
    return np.array(states, np.uint64)


def all_natural() -> list[Algorithm]:
    """The algorithms that are looked for over natural ranges, the commonest first."""
    first = ("crc-32", "md5", "sha-1", "adler-32", "sha-256", "crc-16-ccitt-false", "crc-16-xmodem", "crc-16-arc")
    others = [name for name in ALGORITHMS if name not in first]
    known = [name for name in others if name in DIGESTS or name in HASHES or ALGORITHMS[name].bits == 8]
    return [ALGORITHMS[name] for name in (*first, *known, *(name for name in others if name not in known))]
