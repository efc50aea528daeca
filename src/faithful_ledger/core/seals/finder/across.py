"""Checksums over a payload that are stored outside of it: in the file around the layers that it is in, or in the text
whose string it is.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import replace
from itertools import islice, product

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.seals.algorithms import LENGTH, Algorithm, algorithm
from faithful_ledger.core.seals.finder.finding import Finding, choice_bits, widened, with_sign
from faithful_ledger.core.seals.finder.natural import SLOW, changed_results, held_bits, shortened, spellings
from faithful_ledger.core.seals.finder.numbers import Numbers
from faithful_ledger.core.seals.finder.places import Edge, Place

__all__ = ["across"]

HEADS, TAILS = (0, 4, 8, 12, 16, 32), (0, 4)
LARGEST_SLOW = 1 << 18  # bytes that are taken one after the other in Python
LEAST_COVERED, LEAST_TEXT = 8, 6
MOST_LENGTHS = 16
ELSEWHERE = 2.0  # bits that it costs to cover another payload
CHANGES = ("", "inverted", "negated")


def across(
    contents: Sequence[bytes],
    payloads: Sequence[bytes],
    places: Sequence[Place],
    algorithms: Sequence[Algorithm],
    end: Deadline = NEVER,
) -> Iterator[Finding]:
    """What holds in every save; `places` are those of `contents`, and each save's payload is at the same index. The
    edges of what is covered are offsets in the payload.
    """
    number = min(range(len(payloads)), key=lambda j: len(payloads[j]))
    looking = _Across(contents, payloads, places, number)
    if any(each.name == LENGTH for each in algorithms):
        yield from looking.lengths()
    for each in algorithms:
        slow = each.name in SLOW
        if each.name == LENGTH or (slow and len(payloads[number]) > LARGEST_SLOW):
            continue
        for head, tail in [(0, 0)] if slow else product(HEADS, TAILS):
            if end.over:
                return
            yield from looking.over(each, head, tail)


class _Across:
    def __init__(
        self, contents: Sequence[bytes], payloads: Sequence[bytes], places: Sequence[Place], number: int
    ) -> None:
        self.pairs = list(zip(contents, payloads, strict=True))
        self.content, self.payload = self.pairs[number]
        self.numbers = Numbers(self.payload)
        self.by_value: dict[tuple[int, int], list[Place]] = defaultdict(list)
        for place in places:
            if place.bits >= 16:
                self.by_value[place.bits, place.values[number]].append(place)

    def lengths(self) -> Iterator[Finding]:
        """Where the size of the payload is stored, if it is not the same in all saves. As a small number it looks like
        no checksum, so that its bytes are looked for.
        """
        length, sizes = algorithm(LENGTH), {len(payload) for _, payload in self.pairs}
        assert length is not None
        made = Finding(length, Edge(0), Edge(0, True), Edge(0), 0, "")
        for width, order in product((4, 8, 3, 2) if len(sizes) > 1 else (), ("little", "big")):
            if max(sizes) >> 8 * width:
                continue
            raw = len(self.payload).to_bytes(width, order)  # type: ignore[arg-type]
            form = f"u{8 * width}{order[0]}e"
            for match in islice(re.finditer(re.escape(raw), self.content), MOST_LENGTHS):
                at = match.start()
                for edge in (Edge(at), Edge(len(self.content) - at, True)):
                    yield from self._checked(replace(made, stored=edge, size=width, form=form), 8 * width)

    def over(self, algorithm: Algorithm, head: int, tail: int) -> Iterator[Finding]:
        size = len(self.payload)
        if size - head - tail < LEAST_COVERED:
            return
        result = self.numbers.of(algorithm, head, size - tail, 0, 0, None)
        made = Finding(algorithm, Edge(head), Edge(tail, True), Edge(0), 0, "")
        if not algorithm.is_digest:
            yield from self._numbers(
                made, algorithm.bits, zip(CHANGES, changed_results(result, algorithm.bits), strict=True)
            )
        if algorithm.bits >= 32:
            yield from self._texts(made, result)

    def _numbers(
        self, made: Finding, bits: int, results: Iterator[tuple[str, int]] | list[tuple[str, int]]
    ) -> Iterator[Finding]:
        for changed, number in results:
            for place in self.by_value.get((bits, number), ()):
                each = replace(made.algorithm, changed=changed)  # type: ignore[arg-type]
                yield from self._checked(
                    replace(made, algorithm=each, stored=place.edge, size=place.size, form=place.form), bits
                )

    def _texts(self, made: Finding, result: int) -> Iterator[Finding]:
        for form, text in spellings(made.algorithm, result):
            for size in shortened(form, len(text)) if made.algorithm.is_digest else (len(text),):
                at = self.content.find(text[:size]) if size >= LEAST_TEXT or form == "bytes" else -1
                if at >= 0:
                    for edge in (Edge(at), Edge(len(self.content) - at, True)):
                        yield from self._checked(
                            replace(made, stored=edge, size=size, form=form), held_bits(form, size)
                        )
                    break

    def _checked(self, made: Finding, bits: int) -> Iterator[Finding]:
        if not all(made.holds(content, payload) for content, payload in self.pairs):
            return
        contents, payloads = zip(*self.pairs, strict=True)
        wide = with_sign(widened(made, contents, payloads), contents, payloads)
        made, bits = wide, bits * wide.size // made.size
        values = len({made.stored_in(content) for content, _ in self.pairs})
        at, size = made.stored.at(len(self.content)), len(self.content)
        edges = made.start.at(len(self.payload)), made.end.at(len(self.payload))
        cost = choice_bits(made.algorithm, (0, size), (at, at + made.size), size) + ELSEWHERE
        cost += 0.0 if edges == (0, len(self.payload)) else 2.0 * len(HEADS).bit_length()
        yield replace(made, bits=min(bits, 64) * values - cost, holds_in=len(self.pairs), of=len(self.pairs))
