"""Digests directly in front of what they cover, which may end anywhere: a running digest says what each end gives."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.seals.algorithms import KEYED, Algorithm
from faithful_ledger.core.seals.finder.finding import COMMON, Finding, choice_bits
from faithful_ledger.core.seals.finder.places import Edge, restless_runs
from faithful_ledger.core.seals.hashes import running_digest

__all__ = ["digests_up_front"]

LEAST_COVERED, MOST_PLACES, MOST_OTHERS = 16, 12, 4
MOST_STEPS = 16_000  # ends that are tried of one place
LARGE = 1 << 17  # bytes from which on only common digests are tried
STEPS = (1, 4, 16, 64, 256, 1024, 4096)  # bytes between them
ENDS_BITS, MOST_BITS = 8.0, 64  # what it costs that the end may be anywhere, and bits that a digest says in a save


def digests_up_front(
    contents: Sequence[bytes], algorithms: Sequence[Algorithm], end: Deadline = NEVER
) -> Iterator[Finding]:
    """What holds in every save; the range begins where the digest ends."""
    shortest = min(contents, key=len)
    digests = [each for each in algorithms if each.is_digest and not each.is_salted] if len(contents) > 1 else []
    digests = [each for each in digests if each.name in COMMON or len(shortest) <= LARGE]
    taken = set[int]()
    for each in digests:
        for at in _places(contents, each.bits // 8):
            if end.over:
                return
            if at not in taken and (stop := _end_of(each, shortest, at)) is not None:
                size = each.bits // 8
                made = Finding(each, Edge(at + size), Edge(stop), Edge(at), size, "bytes")
                if all(map(made.holds, contents)):
                    taken.add(at)
                    values = len(set(map(made.stored_in, contents)))
                    cost = choice_bits(each, (at + size, stop), (at, at + size), len(shortest)) + ENDS_BITS
                    yield replace(made, bits=MOST_BITS * values - cost)


def _places(contents: Sequence[bytes], size: int) -> list[int]:
    """Offsets from which on nearly all of so many bytes differ between saves, first those behind one that does not."""
    shortest = min(map(len, contents))
    hits, varies = restless_runs([content[:shortest] for content in contents], size)
    is_first = np.concatenate(([True], ~varies[:-1]))[hits]
    others = hits[~is_first & (hits % 4 == 0)]
    return [*hits[is_first][:MOST_PLACES].tolist(), *others[:MOST_OTHERS].tolist()]


def _end_of(algorithm: Algorithm, content: bytes, at: int) -> int | None:
    """Where the range of a digest that is stored at an offset ends; None where it ends nowhere."""
    size = algorithm.bits // 8
    stored, start = content[at : at + size], at + size
    left = len(content) - start
    step = next((each for each in STEPS if left <= each * MOST_STEPS), STEPS[-1])
    running = running_digest(algorithm.name.removeprefix(KEYED), algorithm.key)
    view = memoryview(content)
    for stop in range(start + step, len(content) + 1, step):
        running.update(view[stop - step : stop])
        if stop - start >= LEAST_COVERED and running.copy().digest() == stored:
            return stop
    return None
