"""Checksums over as many bytes as a number in the file says, behind which is something else: zeros, or what was there
before. The range ends elsewhere in each save.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import replace
from itertools import islice, product
from math import log2

import numpy as np

from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.seals.algorithms import Algorithm
from faithful_ledger.core.seals.finder.chosen import LEAST_COVERED
from faithful_ledger.core.seals.finder.finding import Finding, Said, choice_bits, said_bits
from faithful_ledger.core.seals.finder.lengths import numbers_in_front
from faithful_ledger.core.seals.finder.natural import SLOW
from faithful_ledger.core.seals.finder.numbers import Numbers
from faithful_ledger.core.seals.finder.places import Edge, Place, is_text
from faithful_ledger.core.seals.finder.spelling import changes, written_in
from faithful_ledger.core.storage import WRITTEN

__all__ = ["over_said"]

FIRST = 64  # bytes in which the number is looked for
GAPS = (0, 4, 8, 12, 16, 20, 24, 28, 32, 36, 48, 64)  # from the number to what it counts
LEAST_SHARE = {4: 1 / 64, 2: 1 / 8}  # of a file; smaller numbers of so many bytes are something else
MOST_RANGES = 48
LARGEST_SLOW = 1 << 12  # bytes that are taken one after the other in Python


def over_said(
    contents: Sequence[bytes], places: Sequence[Place], algorithms: Sequence[Algorithm], until: Deadline
) -> Iterator[Finding]:
    """What holds in every save, not yet counted; nothing from one save alone, which cannot say that it ends there."""
    has_numbers = len(contents) > 1 and not all(map(is_text, contents))
    ranges = list(islice(_ranges(contents), MOST_RANGES)) if has_numbers else []
    if not ranges:
        return
    content, numbers = contents[0], Numbers(contents[0])
    by_value: dict[tuple[int, int], list[Place]] = defaultdict(list)
    for place in places:
        if place.restless and place.form not in WRITTEN:
            by_value[place.bits, place.values[0]].append(place)
    for algorithm, (start, said) in product(algorithms, ranges):
        if until.over:
            return
        end = said.end(content)
        if algorithm.name in SLOW and end - start > LARGEST_SLOW:
            continue
        result = numbers.of(algorithm, start, end, 0, 0, None)
        made = Finding(algorithm, Edge(start), Edge(end), Edge(0), 0, "", said=said)
        for found in _stored(made, result, content, by_value):
            at = found.stored.at(len(content))
            apart = at + found.size <= start or end <= at
            if apart and all(map(found.holds, contents)):
                values = [found.stored_in(each) for each in contents]
                cost = choice_bits(found.algorithm, (start, len(content)), (at, at + found.size), len(content))
                bits = found.bits * len(set(values)) - cost - log2(len(ranges))
                yield replace(found, bits=bits)


def _ranges(contents: Sequence[bytes]) -> Iterator[tuple[int, Said]]:
    """Where ranges begin, and what says their ends: never the same distance from the end of every save."""
    sizes = np.array(list(map(len, contents)))
    for width, order, numbers in numbers_in_front(contents, LEAST_SHARE, FIRST):
        enough = (
            (numbers >= LEAST_COVERED) & (numbers >= LEAST_SHARE[width] * sizes[:, None]) & (numbers <= sizes[:, None])
        )
        for at in np.flatnonzero(enough.all(axis=0)).tolist():
            for gap in GAPS:
                start = at + width + gap
                for behind in (start, 0):
                    left = sizes - behind - numbers[:, at]
                    varies = len(set(left.tolist())) > 1
                    if varies and (left >= 0).all() and (numbers[:, at] + behind >= start + LEAST_COVERED).all():
                        yield start, Said(at, width, order, behind)


def _stored(
    made: Finding, result: int, content: bytes, by_value: dict[tuple[int, int], list[Place]]
) -> Iterator[Finding]:
    """Where a result is stored, each with the bits that one value of it says."""
    algorithm = made.algorithm
    if algorithm.is_digest:
        for at, size, form, said in written_in(content, algorithm, result):
            yield replace(made, stored=Edge(at), size=size, form=form, bits=float(said))
        return
    for changed, number in changes(algorithm, result):
        for place in by_value.get((algorithm.bits, number), ()):
            bits = said_bits(algorithm, place.values, place.bits)
            each = replace(algorithm, changed=changed)
            yield replace(made, algorithm=each, stored=place.edge, size=place.size, form=place.form, bits=bits)
