"""Checksums over a payload that are stored outside of it: in the file around the layers that it is in, or in the text
whose string it is.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import replace
from itertools import chain, islice, product

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.seals.algorithms import LENGTH, Algorithm
from faithful_ledger.core.seals.finder.blocks import ORDERS
from faithful_ledger.core.seals.finder.chosen import LEAST_COVERED
from faithful_ledger.core.seals.finder.finding import Finding, as_written, choice_bits, place_bits, said_bits
from faithful_ledger.core.seals.finder.natural import SLOW
from faithful_ledger.core.seals.finder.numbers import Numbers
from faithful_ledger.core.seals.finder.own_hashes import over_all
from faithful_ledger.core.seals.finder.places import DECIMAL, VARIABLE, Edge, Place
from faithful_ledger.core.seals.finder.spelling import changes, written_in
from faithful_ledger.core.seals.hashes import HASHES
from faithful_ledger.core.seals.sums import SUMS
from faithful_ledger.core.storage import NUMBERS

__all__ = ["across"]

NUMBER = re.compile(rb"[0-9]+")
HEADS, TAILS = (0, 4, 8, 12, 16, 32), (0, 4)
LARGEST_SLOW = 1 << 18  # bytes that are taken one after the other in Python
MOST_LENGTHS, HEX_WIDTHS = 16, (8, 4, 6, 16)  # found of one form, and digits
ELSEWHERE = 2.0  # bits that it costs to cover another payload


def across(
    contents: Sequence[bytes],
    payloads: Sequence[bytes],
    places: Sequence[Place],
    algorithms: Sequence[Algorithm],
    end: Deadline = NEVER,
    *,
    results: dict[Algorithm, int] | None = None,
) -> Iterator[Finding]:
    """What holds in every save; `places` are those of `contents`, and each save's payload is at the same index. The
    edges of what is covered are offsets in the payload. With `results`, which remembers those of the payload, only what
    covers all of it is looked for.
    """
    looking = _Across(contents, payloads, places, results)
    hashes = [each.name for each in algorithms if each.name in HASHES]
    for each in algorithms:
        if each.name == LENGTH:
            yield from looking.lengths(each)
            continue
        slow = each.name in SLOW
        if slow and len(looking.payload) > LARGEST_SLOW:
            continue
        for head, tail in [(0, 0)] if slow or results is not None else product(HEADS, TAILS):
            if end.over:
                return
            yield from looking.over(each, head, tail)
    if results is None and len(hashes) > 1:
        yield from looking.begun_otherwise(end)


class _Across:
    """The shortest payload is looked at first; what is found there is checked in the others."""

    def __init__(
        self,
        contents: Sequence[bytes],
        payloads: Sequence[bytes],
        places: Sequence[Place],
        results: dict[Algorithm, int] | None = None,
    ) -> None:
        self.results = results if results is not None else {}
        number = min(range(len(payloads)), key=lambda j: len(payloads[j]))
        self.contents, self.payloads = contents, payloads
        self.content, self.payload = contents[number], payloads[number]
        self.numbers = Numbers(self.payload)
        self.by_value: dict[tuple[int, int], list[Place]] = defaultdict(list)
        for place in places:
            if place.bits >= 16:
                self.by_value[place.bits, place.values[number]].append(place)

    def lengths(self, length: Algorithm) -> Iterator[Finding]:
        """Where the size of the payload is stored, if it is not the same in all saves. As a small number it looks like
        no checksum, so that its bytes are looked for.
        """
        sizes = set(map(len, self.payloads))
        if len(sizes) < 2:
            return
        size, spelled = len(self.payload), list[tuple[bytes, str, int]]()  # with its form, and what it says
        for width, order in product((4, 8, 3, 2), ORDERS):
            if not max(sizes) >> 8 * width:
                spelled.append((size.to_bytes(width, order), f"u{8 * width}{order[0]}e", 8 * width))
        variable = NUMBERS[VARIABLE].encode(size)
        spelled += [(variable, VARIABLE, 7 * len(variable))] if len(variable) > 1 else []
        for raw, form, bits in spelled:
            for match in islice(re.finditer(re.escape(raw), self.content), MOST_LENGTHS):
                yield from self._at(length, 0, 0, (match.start(), len(raw), form, bits))
        for width, (form, letter) in product(HEX_WIDTHS, (("HEX", "X"), ("hex", "x"))):
            if not max(sizes) >> 4 * width:
                pattern = rb"(?<![0-9A-Fa-f])%b(?![0-9A-Fa-f])" % f"{size:0{width}{letter}}".encode()
                for match in islice(re.finditer(pattern, self.content), MOST_LENGTHS):
                    yield from self._at(length, 0, 0, (match.start(), width, form, 4 * width))
        digits = str(size).encode()
        pattern = rb"(?<![0-9.])" + digits + rb"(?![0-9.])"
        for match in islice(re.finditer(pattern, self.content), MOST_LENGTHS):
            bits = (10 ** len(digits)).bit_length() - 1
            yield from self._at(length, 0, 0, (match.start(), len(digits), "decimal", bits))

    def over(self, algorithm: Algorithm, head: int, tail: int) -> Iterator[Finding]:
        size = len(self.payload)
        if size - head - tail < LEAST_COVERED:
            return
        if head or tail or (result := self.results.get(algorithm)) is None:
            result = self.numbers.of(algorithm, head, size - tail, 0, 0, None)
            self.results |= {algorithm: result} if not head and not tail else {}
        for changed, number in changes(algorithm, result) if not algorithm.is_digest else ():
            for place in self.by_value.get((algorithm.bits, number), ()):
                each = replace(algorithm, changed=changed)
                made = Finding(each, Edge(head), Edge(tail, True), place.edge, place.size, place.form)
                yield from self._checked(made, place.bits)
        if algorithm.bits >= 32:
            for written in written_in(self.content, algorithm, result):
                yield from self._at(algorithm, head, tail, written)

    def begun_otherwise(self, until: Deadline) -> Iterator[Finding]:
        """Hashes over all of the payload with a start value or a multiplier of the game's own."""
        places = list(chain.from_iterable(self.by_value.values()))
        for algorithm, place, constant in over_all(self.payloads, places, until):
            made = Finding(algorithm, Edge(0), Edge(0, True), place.edge, place.size, place.form)
            for each in self._checked(made, place.bits):
                yield replace(each, bits=each.bits - constant)

    def _at(self, algorithm: Algorithm, head: int, tail: int, written: tuple[int, int, str, int]) -> Iterator[Finding]:
        """What is written at an offset, counted from the beginning and from the end."""
        at, size, form, bits = written
        for edge in (Edge(at), Edge(len(self.content) - at, True)):
            yield from self._checked(Finding(algorithm, Edge(head), Edge(tail, True), edge, size, form), bits)

    def _checked(self, made: Finding, bits: int) -> Iterator[Finding]:
        if not all(map(made.holds, self.contents, self.payloads)):
            return
        wide = as_written(made, self.contents, self.payloads)
        made, bits = wide, bits * wide.size // made.size
        values = len(set(map(made.stored_in, self.contents)))
        at, size = made.stored.at(len(self.content)), len(self.content)
        edges = made.start.at(len(self.payload)), made.end.at(len(self.payload))
        cost = choice_bits(made.algorithm, (0, size), (at, at + made.size), size) + ELSEWHERE
        cost += 0.0 if edges == (0, len(self.payload)) else 2.0 * len(HEADS).bit_length()
        if made.algorithm.name == LENGTH and made.form in DECIMAL:  # it is one of the numbers of a text
            cost += len(NUMBER.findall(self.content)).bit_length() - place_bits((at, at + made.size), size)
        count = len(self.contents)
        if made.form in NUMBERS and made.algorithm.name in SUMS:  # of which not all bits say something
            stored = [int(NUMBERS[made.form].decode(made.stored_in(content))) for content in self.contents]
            bits = int(said_bits(made.algorithm, stored, bits))
        yield replace(made, bits=min(bits, 64) * values - cost, holds_in=count, of=count)
