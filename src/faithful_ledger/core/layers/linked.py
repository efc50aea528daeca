"""Streams broken into linked blocks: in front of each block stand its length and the offset of the block after it.

Both are 32 bits wide; the offset is that of the next block's header, and 0 or all ones behind the last one. What is
inside are the packed bytes of every chain, one chain behind the other, for the layer of their kind to unpack.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from typing import TypeAlias

from faithful_ledger.core.budget import unpacked_allowance
from faithful_ledger.core.layers.stream import Allowance, Stream

__all__ = ["LINKED", "Begins", "Chain", "chains_of", "length_in_front", "stream_begins"]

HEADER = 8
LONGEST = 1 << 16  # blocks of a chain
LEAST_UNPACKED = 16
LAST = (0, 0xFFFFFFFF)
LINKED = {"linked-le": "<II", "linked-be": ">II", "linked-next-le": "<II", "linked-next-be": ">II"}

Begins: TypeAlias = list[tuple[str, int]]
Chain: TypeAlias = list[tuple[int, int]]


def chains_of(data: bytes, kind: str, streams: dict[str, Stream], begins: Begins | None = None) -> list[Chain]:
    """The blocks of each chain, as spans of packed bytes, in the order of their beginnings. A chain is one whose bytes,
    joined, are a stream of a kind in `streams` that comes to its end. `begins` are from `stream_begins`.
    """
    allowance = Allowance(unpacked_allowance(len(data)))
    found: dict[int, Chain] = {}
    for name, start in begins if begins is not None else stream_begins(data, streams):
        if start < HEADER or start in found or allowance.left <= 0:
            continue
        chain = list(_followed(data, start - HEADER, kind))
        joined = b"".join(data[low:high] for low, high in chain)
        layer = streams[name].read(joined, 0, allowance) if chain else None
        if layer is not None and layer.unpacked_size >= LEAST_UNPACKED:
            found[start] = chain
    return [found[start] for start in sorted(found)]


def length_in_front(start: int, size: int, kind: str) -> tuple[int, int, bytes]:
    """Where in front of a block's bytes its length is, and the bytes that say another one."""
    at = start - HEADER + (4 if "next" in kind else 0)
    return at, at + 4, struct.pack(LINKED[kind][0] + "I", size)


def stream_begins(data: bytes, streams: dict[str, Stream]) -> Begins:
    """Where streams may begin by their marks, in one pass; each with its kind."""
    import numpy as np

    from faithful_ledger.core.scan import distinct, scan
    from faithful_ledger.core.source import MemorySource

    marks = [(stream, mark) for stream in streams.values() for mark in stream.marks]
    bytes_ = np.frombuffer(data, np.uint8)
    found: Begins = []
    for hits in scan(MemorySource(data), [mark for _, mark in marks]):
        for number in distinct(hits.runs).tolist():
            stream = marks[number][0]
            at = hits.offsets[hits.runs == number] - stream.mark_at
            found += [(stream.name, offset) for offset in stream.begins(bytes_, at[at >= 0])]
    return found


def _followed(data: bytes, header: int, kind: str) -> Iterator[tuple[int, int]]:
    """The spans of the blocks from a header on; none where a link leads nowhere or back."""
    spans: Chain = []
    seen = set[int]()
    while True:
        if header in seen or header + HEADER > len(data) or len(spans) >= LONGEST:
            return
        seen.add(header)
        size, follows = struct.unpack_from(LINKED[kind], data, header)
        if "next" in kind:
            size, follows = follows, size
        start = header + HEADER
        if not 0 < size <= len(data) - start:
            return
        spans.append((start, start + size))
        if follows in LAST:
            break
        header = follows
    yield from spans
