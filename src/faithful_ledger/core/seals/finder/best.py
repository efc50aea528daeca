"""The best explanation of each place, of all that was found.

What overlaps a surer finding is chance. What follows from one says no more than it: where words and their negated sum
come to a constant, each of these words looks like the seal of all the others; and a CRC over bytes and their CRC is the
same for all bytes, so that some within look like their own seal.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import replace
from functools import reduce
from itertools import islice
from operator import and_, or_
from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.seals.algorithms import COPY, LENGTH
from faithful_ledger.core.seals.crc import CATALOGUE
from faithful_ledger.core.seals.finder.finding import Finding, choice_bits, edges_bits, said_bits
from faithful_ledger.core.seals.finder.places import Edge, alike, apart, numbered
from faithful_ledger.core.seals.sums import SUMS, words_of
from faithful_ledger.core.storage import NUMBERS

__all__ = ["Best", "is_repetition", "mirrored", "order"]

Array: TypeAlias = np.ndarray[Any, Any]
LEAST_SEEN = 3  # saves
USUAL_EDGES = 8.0  # bits
EDITS = 3
STEPS = 29  # edits are tried at so many offsets, spread over what is covered
NOISE_BITS = 4.0  # what it says for a place if one more of its bytes differs between saves, as those of a seal do
ENOUGH_TO_MOVE = 4  # saves
STAYS, MOVES, MOST_STILL = -0.4, -2.0, 24.0  # log2 of how often a bit of a count stays, and moves; bits at most
LEAST_OF_TWO = 12.0  # bits of one of two that say the same
NEAR_AN_END = 64  # bytes, of a header or a footer
CLOSER = 3.0  # bits
RIVAL = 6.0  # bits by which a place must be likelier than others that would do as well


class Best:
    """Chooses among the findings of some saves; what was compared once is remembered."""

    def __init__(self, contents: Sequence[bytes]) -> None:
        self.contents = contents
        self.size = len(contents[0]) if contents else 0
        self._known: dict[tuple[Finding, Finding], bool] = {}

    def of(self, found: Sequence[Finding]) -> list[Finding]:
        """The best finding of each place, the surest first."""
        groups: list[list[Finding]] = []
        for finding in sorted(self._in_one_order(self._with_one_of_two(found)), key=order):
            if any(self._overlaps(group[0], finding) for group in groups):
                continue
            group = next((group for group in groups if self._follows(group[0], finding)), None)
            if group is None:
                groups.append([finding])
            else:
                group.append(finding)
        firsts = [group[0] for group in groups]
        chosen = (self._chosen(self._outside(group, firsts)) for group in groups)
        return apart(sorted(chosen, key=order), self._place)

    def _outside(self, group: list[Finding], firsts: Sequence[Finding]) -> list[Finding]:
        """Those of a group that may be the seal: not within what a surer one of `firsts` covers, where the surest of
        the group is outside of that.
        """
        for sure in firsts[: firsts.index(group[0])]:
            start, end, _ = sure.spans(self.size)
            if sure.sure and not start <= group[0].stored.at(self.size) < end:
                group = [each for each in group if not start <= each.stored.at(self.size) < end]
        return group

    def _with_one_of_two(self, found: Sequence[Finding]) -> list[Finding]:
        """Of a sum and its inverse the sum, and a copy of it: not a copy of the inverse, and no second sum."""
        of_place: dict[tuple[int, int], list[Finding]] = {}
        for finding in found:
            if finding.algorithm.name != COPY and finding.bits >= LEAST_OF_TWO:
                of_place.setdefault(self._place(finding), []).append(finding)
        left = list(found)
        for copy in found:
            start, end, at = copy.spans(self.size)
            if copy.algorithm.name != COPY or copy.algorithm.changed != "inverted" or copy not in left:
                continue
            base, own = (
                min(of_place.get(place, []), key=order, default=None) for place in ((start, end), (at, at + copy.size))
            )
            if own is not None and (base is None or base.algorithm.changed > own.algorithm.changed):
                left.remove(copy)
            elif base is not None:
                left = [each for each in left if self._place(each) != self._place(copy)] + [copy]
        return left

    def _in_one_order(self, found: Sequence[Finding]) -> list[Finding]:
        """Where sums changed so little that no byte carried into the next one, they hold with the bytes of words the
        other way round as well, and their values lie far apart then. Those in which they are close stay.
        """
        spread = {number: self._spread(finding) for number, finding in enumerate(found)}
        sums = {number: bits for number, bits in spread.items() if bits}

        def is_turned(number: int) -> bool:
            mine = found[number]
            return any(
                bits + CLOSER <= sums[number]
                and found[other].bits >= max(mine.bits / 2, LEAST_OF_TWO)
                and found[other].form[-2:] != mine.form[-2:]
                and self._overlaps(found[other], mine)
                for other, bits in sums.items()
            )

        return [finding for number, finding in enumerate(found) if number not in sums or not is_turned(number)]

    def _spread(self, finding: Finding) -> float:
        """How far apart the stored values of a sum of words are, in bits; 0 for anything else."""
        kind = SUMS.get(finding.algorithm.name)
        if kind is None or kind.kind != "sum" or kind.word < 2 or finding.form not in NUMBERS:
            return 0.0
        values = [int(NUMBERS[finding.form].decode(finding.stored_in(content))) for content in self.contents]
        return math.log2(max(values) - min(values) + 1)

    def _place(self, finding: Finding) -> tuple[int, int]:
        at = finding.stored.at(self.size)
        return at, at + finding.size

    def _overlaps(self, other: Finding, finding: Finding) -> bool:
        (low, high), (at, end) = self._place(other), self._place(finding)
        return at < high and low < end

    def _follows(self, other: Finding, finding: Finding) -> bool:
        """Whether edits of what both cover, renewed by one finding, leave the other one true."""
        if _kind(other) != _kind(finding) or finding.algorithm.name == LENGTH:  # which no edit changes
            return False
        key = other, finding
        if key not in self._known:
            self._known[key] = self._still_holds(other, finding)
        return self._known[key]

    def _still_holds(self, other: Finding, finding: Finding) -> bool:
        start, end, _ = finding.spans(self.size)
        there = other.stored.at(self.size)
        if not start <= there < end:  # it would see the edit, and not what was renewed
            return False
        tried = 0
        for edited, renewed in islice(self._edited(other, finding), EDITS):
            if not finding.holds(renewed) or finding.holds(edited):
                return False
            tried += 1
        return tried == EDITS

    def _edited(self, other: Finding, finding: Finding) -> Iterator[tuple[bytes, bytes]]:
        """The first save with one byte changed that both cover, and the same renewed by one of them."""
        first, mine = other.spans(self.size), finding.spans(self.size)
        low, high = max(first[0], mine[0]), min(first[1], mine[1])
        stored = {*range(first[2], first[2] + other.size), *range(mine[2], mine[2] + finding.size)}
        for step in range(STEPS):
            where = low + (high - low) * (2 * step + 1) // (2 * STEPS)
            if where >= high or where in stored:
                continue
            edited = bytearray(self.contents[0])
            edited[where] ^= 1 + 37 * step % 255
            written = other.written(bytes(edited))
            if written is not None:
                plain = bytes(edited)
                edited[first[2] : first[2] + other.size] = written
                yield plain, bytes(edited)

    def _chosen(self, group: Sequence[Finding]) -> Finding:
        """The likeliest of those that follow from each other, with the places that would do as well."""
        if len(group) == 1:
            return group[0]
        first, *others = group
        rivals = sorted([first, *(each for each in others if self._follows(each, first))], key=self._likely)
        chosen = rivals.pop()
        rivals = [each for each in rivals if each.stored.at(self.size) != chosen.stored.at(self.size)]
        if not rivals:
            return chosen
        places = sorted({other.stored.at(self.size) for other in rivals})
        rest = f" or {len(places) - 2} more" if len(places) > 2 else ""
        words = " or ".join(f"0x{at:X}" for at in places[:2])
        close = self._likely(rivals[-1]) > self._likely(chosen) - RIVAL
        how = "" if close else ", which is less likely"
        freedom = f"the same holds with the seal at {words}{rest}{how}"
        both = f"{chosen.freedom}; {freedom}" if chosen.freedom else freedom
        return replace(chosen, undecided=chosen.undecided or close, freedom=both)

    def _likely(self, finding: Finding) -> float:
        places = [finding.stored_in(content) for content in self.contents]
        differ = sum(len(set(column)) > 1 for column in zip(*places, strict=True))
        odd = finding.stored.offset > self.size // 2 and not alike(self.contents)  # from the end that is farther
        start, end, at = finding.spans(self.size)
        adjoins = RIVAL if finding.own is None and (at + finding.size == start or at == end) else 0.0
        if _kind(finding) == "xor":  # every byte of one is as restless as all that it covers together
            adjoins *= _mixed(places)
        still = _stillness(places, finding) if len(places) >= ENOUGH_TO_MOVE else 0.0
        name = finding.algorithm.name
        straddles = name in SUMS and start <= at < end and (at - start) % min(SUMS[name].word, finding.size)
        unlikely = RIVAL * (bool(odd) + bool(straddles))  # games store a sum in a word of what they sum
        inside = max(min(at, self.size - at - finding.size), 0)
        unlikely += min(math.log2(1 + inside / NEAR_AN_END), RIVAL)
        return finding.bits + NOISE_BITS * differ - unlikely + adjoins - still


def _mixed(stored: Sequence[bytes]) -> float:
    """How many of the values that each byte could have in so many saves it has, from 0 to 1."""
    columns = [len(set(column)) - 1 for column in zip(*stored, strict=True)]
    return sum(columns) / max(len(columns) * (len(stored) - 1), 1)


def _stillness(stored: Sequence[bytes], finding: Finding) -> float:
    """The bits that speak for a count or a flag, and against a sum, as so many bits of the lowest byte are the same in
    every save: each of a sum is in one of 2 ** (saves - 1) cases. Of an XOR each byte says so, and together they say it
    better.
    """
    if not finding.form.startswith("u") or not all(stored):
        return 0.0
    columns = list(zip(*stored, strict=True))
    if _kind(finding) != "xor":
        columns = columns[:1] if finding.form.endswith("le") else columns[-1:]
    moving: float = sum((reduce(and_, column) ^ reduce(or_, column)).bit_count() for column in columns) / len(columns)
    return min(max((8 - moving) * (len(stored) - 1 + STAYS) + moving * MOVES, 0.0), MOST_STILL)


def mirrored(finding: Finding, contents: Sequence[bytes]) -> Finding | None:
    """The same sum with the seal at the other end of what it covers, where all together come to a constant; None where
    that does not hold.
    """
    size = len(contents[0])
    start, end, at = finding.spans(size)
    is_plain = finding.own is None and finding.said is None
    if not is_plain or finding.algorithm.name not in SUMS or finding.size * 2 > end - start:
        return None
    if at + finding.size == start:
        stored = Edge(size - end + finding.size, True)
        made = replace(finding, start=finding.stored, end=stored, stored=stored)
    elif at == end and not finding.start.from_end:
        first = finding.start
        made = replace(finding, start=first.moved(finding.size), end=Edge(size - at - finding.size, True), stored=first)
    else:
        return None
    made = replace(made, bits=finding.bits + _choice(finding, size) - _choice(made, size))
    if made.checked(contents).holds_in < len(contents):
        return None
    values = [int.from_bytes(made.stored_in(content), "big") for content in contents]
    if made.form.endswith("le"):
        values = [int.from_bytes(made.stored_in(content), "little") for content in contents]
    most = said_bits(made.algorithm, values, 8 * made.size) * len(set(values))  # what is stored there says no more
    return replace(made, bits=min(made.bits, most))


def _choice(finding: Finding, size: int) -> float:
    start, end, at = finding.spans(size)
    return choice_bits(finding.algorithm, (start, end), (at, at + finding.size), size)


def is_repetition(finding: Finding, contents: Sequence[bytes]) -> bool:
    """Whether a finding only says that something is there twice, as in a file with a copy of itself, or of two numbers
    one of which is the complement of the other; or whether a checksum covers another copy of itself, which none can.
    """
    if finding.algorithm.name in (LENGTH, COPY):
        return False
    if alike(contents) and _covers_itself(finding, contents):
        return True
    if _is_the_same(finding, contents):
        return True
    if finding.algorithm.name not in SUMS:
        return False
    kind = SUMS[finding.algorithm.name].kind
    if kind in ("xor", "internet") and alike(contents) and _comes_in_pairs(finding, contents):
        return True
    return kind == "xor" and all(_cancels_out(finding, content) for content in contents)


def _covers_itself(finding: Finding, contents: Sequence[bytes]) -> bool:
    """Whether what is stored is there once more, at one offset within what is covered."""
    start, end, at = finding.spans(len(contents[0]))
    saves = np.stack([np.frombuffer(content, np.uint8) for content in contents])
    stored = saves[:, at : at + finding.size]
    if len(contents) < LEAST_SEEN or not (stored != stored[0]).any():
        return False
    same = np.ones(max(end - start - finding.size + 1, 0), bool)
    for lane in range(finding.size):
        same &= (saves[:, start + lane : start + lane + same.size] == stored[:, lane : lane + 1]).all(axis=0)
    places = start + np.flatnonzero(same)
    return bool((abs(places - at) >= finding.size).any())


def _is_the_same(finding: Finding, contents: Sequence[bytes]) -> bool:
    """Whether the bytes that differ in what is summed are those that are stored, or the inverse of them, or come in
    pairs themselves: a number beside its inverse adds nothing.
    """
    covered = [b"".join(finding.covered(content)) for content in contents]
    stored = [finding.stored_in(content) for content in contents]
    if not alike(covered) or not alike(stored):
        return False
    summed, kept = _restless(covered), _restless(stored)
    _, counts = np.unique(np.concatenate((summed, kept)), return_counts=True)
    return bool(summed.size and kept.size and np.isin(kept, summed).all() and not (counts % 2).any())


def _restless(contents: Sequence[bytes]) -> Array:
    """What stands at each offset at which some contents differ, as a number: the same for the inverse of it."""
    saves = np.stack([np.frombuffer(content, np.uint8) for content in contents])
    return _as_numbers(saves[:, (saves != saves[0]).any(axis=0)])


def _as_numbers(columns: Array) -> Array:
    """The bytes of each offset in all saves as a number: the same for the inverse of them."""
    return numbered(columns ^ np.where(columns[0] < 128, 0, 255).astype(np.uint8))


def _comes_in_pairs(finding: Finding, contents: Sequence[bytes]) -> bool:
    """Whether all bytes that differ between saves come in pairs that are the same, or the inverse, in every save; of a
    range that nobody would choose also the same XORed with anything, as what is hidden under one key is.
    """
    name = finding.algorithm.name
    if finding.size != SUMS[name].word:
        return False
    word = SUMS[name].word
    start, end, at = finding.spans(len(contents[0]))
    offsets = np.arange(start, end)
    lanes = (offsets - start) % word
    outside = (offsets < at) | (offsets >= at + word)
    turned = word > 1 and finding.form.endswith("be") == (SUMS[name].order == "little")
    own = np.arange(word)
    offsets = np.concatenate((offsets[outside], at + own))
    lanes = np.concatenate((lanes[outside], own[::-1] if turned else own))
    saves = np.stack([np.frombuffer(content, np.uint8) for content in contents])[:, offsets]
    differs = (saves != saves[0]).any(axis=0)
    saves, lanes = saves[:, differs], lanes[differs]
    is_chosen = edges_bits((start, end), (at, at + word), len(contents[0])) <= USUAL_EDGES
    columns = _as_numbers(saves if is_chosen else saves ^ saves[0])
    return bool(lanes.size) and not any(int(np.bitwise_xor.reduce(columns[lanes == lane])) for lane in range(word))


def _cancels_out(finding: Finding, content: bytes) -> bool:
    """Whether what is covered is the same words twice each, but for the one that is stored: a text that repeats."""
    size = SUMS[finding.algorithm.name].word
    words = words_of(b"".join(finding.covered(content)), size)
    different, counts = np.unique(words, return_counts=True)
    odd = different[counts % 2 == 1]
    return int(np.count_nonzero(odd)) <= 1


def _kind(finding: Finding) -> object:
    """What findings must have in common for one to follow from the other."""
    algorithm = finding.algorithm
    if algorithm.name in SUMS:
        kind = SUMS[algorithm.name].kind
        return {"xor": kind, "weighted": algorithm.name}.get(kind, "sum")
    crc = algorithm.crc or (CATALOGUE[algorithm.name][0] if algorithm.name in CATALOGUE else None)
    return (crc.width, crc.polynomial, crc.reflected) if crc is not None else algorithm.name


def order(finding: Finding) -> tuple[float, bool, bool, bool, int]:
    """The surest first, and of those the plainest; of sums of words those whose words are as wide as what is stored."""
    word = SUMS[finding.algorithm.name].word if finding.algorithm.name in SUMS else 1
    odd = abs(finding.size - word) if word > 1 else 0
    return -finding.bits, finding.own is not None, bool(finding.algorithm.changed), finding.constant_only, odd
