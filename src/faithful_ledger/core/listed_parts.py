"""Parts of a container under a key: a directory at its beginning says where each begins and how long it is."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from contextlib import suppress
from dataclasses import replace
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.address import Expression
from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.layers import LayerSpec
from faithful_ledger.core.layers.ciphers import KINDS
from faithful_ledger.core.scan import windows
from faithful_ledger.core.unlocking import Keys, find_unlocking
from faithful_ledger.core.wrapping import unwrap

__all__ = ["Part", "find_parts_listed", "listed_parts"]

Array: TypeAlias = np.ndarray[Any, Any]
HEAD = 1 << 13  # bytes in which a directory is looked for
NEAR = 24  # bytes between the offset and the size of a part
FIRST, LEAST = 16, 128  # where a part may begin, and its bytes
GAP = 64  # bytes by which a part may be aligned
LEAST_PARTS, MOST_PARTS = 2, 64
MOST_TRIED = 4  # parts on which a key is tried; the others are hidden like the one that opens


class Part(NamedTuple):
    """Bytes [start, end) of a container."""

    start: int
    end: int

    @property
    def size(self) -> int:
        return self.end - self.start


def listed_parts(contents: Sequence[bytes]) -> list[Part]:
    """The parts that a directory lists, the same in all of some containers and one behind the other; none where it is
    no container.
    """
    first = contents[0]
    if any(len(each) != len(first) or each[:GAP] != first[:GAP] for each in contents):
        return []
    for kind in map(np.dtype, ("<u4", ">u4")):
        parts = _chained(set(_pairs(first, kind)), len(first))
        if LEAST_PARTS <= len(parts) <= MOST_PARTS and 2 * _extent(parts)[1] > len(first):
            return [part for part in parts if all(part in set(_pairs(each, kind)) for each in contents)]
    return []


def _chained(parts: Collection[Part], end: int) -> list[Part]:
    """Those of which each begins where another ends, up to the end of the file: the chain of most parts."""
    chains: dict[Part, list[Part]] = {}
    for part in sorted(parts, reverse=True):
        behind = [chain for each, chain in chains.items() if 0 <= each.start - part.end < GAP]
        if behind or 0 <= end - part.end < GAP:
            chains[part] = [part, *max(behind, key=_extent, default=[])]
    return max(chains.values(), key=_extent, default=[])


def _extent(parts: Sequence[Part]) -> tuple[int, int]:
    return len(parts), sum(part.size for part in parts)


def _pairs(data: bytes, kind: np.dtype[Any]) -> Iterator[Part]:
    """An offset and a size near each other, of a part that is in the file."""
    numbers = windows(data[:HEAD], kind)[::4].astype(np.int64)
    offsets = np.flatnonzero((numbers >= FIRST) & (numbers < len(data)) & (numbers % 4 == 0))
    for at in offsets.tolist():
        start = int(numbers[at])
        for beside in range(max(at - NEAR // 4, 0), min(at + NEAR // 4 + 1, numbers.size)):
            size = int(numbers[beside])
            if beside != at and LEAST <= size <= len(data) - start and 4 * max(at, beside) < start:
                yield Part(start, start + size)


def find_parts_listed(contents: Sequence[bytes], keys: Keys, end: Deadline = NEVER) -> list[LayerSpec]:
    """The layers of the parts that the secret of `keys` opens, each over one part."""
    parts = listed_parts(contents) if keys.secret else []
    for tried in sorted(parts, key=lambda part: -part.size)[:MOST_TRIED]:
        bodies = [content[slice(*tried)] for content in contents]
        for layer in find_unlocking(bodies, keys, end, as_it_is=True)[:1]:
            found = [_in_container(layer, part) for part in parts]
            return [each for each in found if each is not None and _opens(contents, each)]
        if end.over:
            break
    return []


def _in_container(layer: LayerSpec, part: Part) -> LayerSpec | None:
    """A layer of a part as one of the container around."""
    at = layer.at.constant or 0 if layer.at is not None else 0
    if layer.kind not in KINDS:
        return None
    iv_at = layer.iv_at
    if iv_at is not None:
        iv_at += part.start if iv_at >= 0 else part.end
    end = part.end - KINDS[layer.kind].iv if layer.iv_at is not None and layer.iv_at < 0 else part.end
    start = part.start + at
    return replace(layer, at=Expression(start), size=Expression(end - start), iv_at=iv_at)


def _opens(contents: Sequence[bytes], layer: LayerSpec) -> bool:
    with suppress(LedgerError):
        return all(unwrap(content, [layer]) for content in contents)
    return False
