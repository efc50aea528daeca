"""Digests of the pages of a file: blocks of one size, each with its digest in a table somewhere else,
as the wrappers of memory cards and consoles have them, and the page that is that table.

Few pages that differ between the saves are hashed, and looked for everywhere; what is found leads to the digests of the
other pages beside it, also of those that are the same in all saves.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import product
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.scan import windows
from faithful_ledger.core.seals.algorithms import Algorithm
from faithful_ledger.core.seals.finder.finding import Finding, choice_bits
from faithful_ledger.core.seals.finder.places import Edge, alike, changed_offsets

__all__ = ["digests_of_pages"]

Array: TypeAlias = np.ndarray[Any, Any]
SIZES = tuple(1 << bits for bits in range(8, 17))
LARGEST = 16 << 20  # bytes of a save in which all of this is looked for
HASHED = 24  # pages of a size that differ between the saves, and are looked for
MOST_PAGES = 256  # of a table
MORE = tuple(range(0, 68, 4))  # bytes beside each digest of a table
WORD = 8  # bytes of a digest by which it is looked for


class _Page(NamedTuple):
    start: int
    end: int


def digests_of_pages(contents: Sequence[bytes], algorithms: Sequence[Algorithm], until: Deadline) -> Iterator[Finding]:
    """Those that hold in every save, not yet counted, from saves of one size."""
    if not alike(contents) or len(contents) < 2 or not 2 * SIZES[0] <= len(contents[0]) <= LARGEST:
        return
    content = contents[0]
    changed = changed_offsets(contents)
    words = windows(content, np.dtype("<u8"))
    order = np.argsort(words, kind="stable")
    ordered = words[order]
    found: set[tuple[str, int]] = set()
    for size, algorithm in product(SIZES, [each for each in algorithms if each.is_digest]):
        if until.over:
            return
        for first in sorted({0, len(content) % size}):
            pages = _pages(len(content), size, first)
            differing = sorted(set(((changed[changed >= first] - first) // size).tolist()))[:HASHED]
            for number in differing if len(pages) > 1 else ():
                digest = _digest(algorithm, content, pages[number])
                for at in _places(digest, content, ordered, order):
                    if (algorithm.name, at) in found:
                        continue
                    for page, place in _listed(algorithm, contents, pages, number, at):
                        if (algorithm.name, place) not in found:
                            found.add((algorithm.name, place))
                            yield _finding(algorithm, contents, page, place)


def _pages(size: int, page: int, first: int) -> list[_Page]:
    """The pages of a file from an offset on; the last one may be shorter."""
    return [_Page(start, min(start + page, size)) for start in range(first, size, page)]


def _digest(algorithm: Algorithm, content: bytes, page: _Page) -> bytes:
    return algorithm([memoryview(content)[slice(*page)]]).to_bytes(algorithm.bits // 8, "big")


def _places(digest: bytes, content: bytes, ordered: Array, order: Array) -> list[int]:
    """Where a digest stands in a file, of which the words are `ordered`."""
    word = np.frombuffer(digest[:WORD], "<u8")[0]
    low, high = np.searchsorted(ordered, word), np.searchsorted(ordered, word, "right")
    return [at for at in sorted(order[low:high].tolist()) if content.startswith(digest, at)]


def _listed(
    algorithm: Algorithm, contents: Sequence[bytes], pages: Sequence[_Page], number: int, at: int
) -> Iterator[tuple[_Page, int]]:
    """The page whose digest is at an offset, and those that have theirs in a table with it, where that is so in every
    save.
    """
    size = algorithm.bits // 8

    def holds(other: int, place: int) -> bool:
        if not 0 <= other < len(pages) or place < 0 or (pages[other].start < place + size and place < pages[other].end):
            return False
        return all(content.startswith(_digest(algorithm, content, pages[other]), place) for content in contents)

    if not holds(number, at):
        return
    yield pages[number], at
    for stride in (size + more for more in MORE):
        beside = [step for step in (-1, 1) if holds(number + step, at + step * stride)]
        for step in beside:
            other = number + step
            while abs(other - number) < MOST_PAGES and holds(other, at + (other - number) * stride):
                yield pages[other], at + (other - number) * stride
                other += step
        if beside:
            return


def _finding(algorithm: Algorithm, contents: Sequence[bytes], page: _Page, at: int) -> Finding:
    """A page that is the same in all saves says as much as one that differs: nothing else has its digest."""
    place = at, at + algorithm.bits // 8
    bits = algorithm.bits - choice_bits(algorithm, page, place, len(contents[0]))
    return Finding(algorithm, Edge(page.start), Edge(page.end), Edge(at), algorithm.bits // 8, "bytes", bits=bits)
