"""Two sets of files, one compared with the other: which files differ, and how their bytes do."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

from faithful_ledger.core.compare.align import Difference
from faithful_ledger.core.compare.large import compare_sources
from faithful_ledger.core.inside import look_inside
from faithful_ledger.core.source import MemorySource, Source

__all__ = ["ComparedFile", "compare_sets"]

LARGEST = 64 << 20  # bytes of a file that is looked into


class ComparedFile(NamedTuple):
    """One file of two sets, or what is `inside` one, in words. `equal` bytes are the same at their aligned places, of
    `largest`.
    """

    name: str
    equal: int
    largest: int
    differences: list[Difference]
    same: bool
    inside: str = ""


def compare_sets(a: Mapping[str, Source], b: Mapping[str, Source]) -> list[ComparedFile]:
    """All files of both, by name; one that a side does not have was removed or inserted as a whole."""
    found = []
    for name in [*a, *(name for name in b if name not in a)]:
        if name not in a or name not in b:
            size = (a if name in a else b)[name].size
            gone = Difference("removed", 0, size, 0, 0) if name in a else Difference("inserted", 0, 0, 0, size)
            found.append(ComparedFile(name, 0, size, [gone], same=False))
            continue
        before, now = a[name], b[name]
        equal, differences = compare_sources(before, now)
        same = not differences and before.size == now.size
        found.append(ComparedFile(name, equal, max(before.size, now.size), differences, same))
        if not same and max(before.size, now.size) <= LARGEST:
            found += _inside(name, before, now)
    return found


def _inside(name: str, before: Source, now: Source) -> Iterator[ComparedFile]:
    """What differs in what both sides are packed or scrambled around."""
    contents = [bytes(source.read(0, source.size)) for source in (before, now)]
    for a, b in look_inside(contents, alternatives=1):
        if a.data != b.data:
            equal, differences = compare_sources(MemorySource(a.data), MemorySource(b.data))
            largest = max(len(a.data), len(b.data))
            yield ComparedFile(name, equal, largest, differences, same=False, inside=a.layer)
