"""Named blocks that follow one another to the end of a file: a name, a size, the content, sometimes a checksum.

Nothing says how such a list is laid out, so every usual order of name and size is followed from each offset near the
beginning. It is believed when its sizes lead from block to block to the end: sizes that mean something else miss it.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterator
from contextlib import suppress
from itertools import product
from typing import Literal, NamedTuple

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.layers.archives import members_of

__all__ = ["Block", "find_blocks"]

FIRST = 256  # offsets from the beginning at which a list may begin
LEAST, MOST = 2, 4096
BEHIND = 16  # bytes that may follow the last block
HELD = 0.5  # the share of the list that content has to be
LEAST_NAME, LONGEST_NAME = 3, 64
MARKED = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_-. ")
SUMS: tuple[tuple[str, Callable[[bytes], int]], ...] = (("CRC-32", zlib.crc32), ("Adler-32", zlib.adler32))


class Block(NamedTuple):
    """`size` bytes of content at `start`, in a block that begins at `offset`; `checksum` says what was stored behind
    it, and whether it holds. It is empty where there is none.
    """

    name: str
    offset: int
    start: int
    size: int
    checksum: str = ""


class _Layout(NamedTuple):
    """`name_size` is the width of the length in front of a name, 0 for a name of four letters. A size counts the
    content and `counted` bytes more; `trailer` bytes follow, and then as many as `align` asks for.
    """

    order: Literal["little", "big"]
    name_size: int
    size_first: bool
    whole: bool
    trailer: int
    align: int

    @property
    def name_at(self) -> int:
        """Where the name begins within a block."""
        return 4 if self.size_first else self.name_size


ORDERS: tuple[Literal["little", "big"], ...] = ("little", "big")
LAYOUTS = [
    _Layout(*each)
    for each in product(ORDERS, (0, 1, 2, 4), (False, True), (False, True), (0, 4), (1, 2, 4))
    if not (each[1] and each[2])
]
PLACED = [(layout.name_at, layout) for layout in LAYOUTS]


def find_blocks(data: bytes) -> list[Block]:
    """The blocks of the list that covers most of a file, or the members of an archive; else none."""
    with suppress(LedgerError):
        members = members_of(data)
        if members:
            return [Block(each.name, each.head, each.start, each.end - each.start) for each in members]
    best: list[Block] = []
    named = _named(data[: FIRST + 4 + LEAST_NAME])
    for start in range(min(FIRST, len(data))):
        if best and start > best[0].offset:
            break  # a list within the first block, or behind it, is not the outer one
        for layout in (each for at, each in PLACED if start + at in named):
            found = list(_followed(data, start, layout))
            if len(found) >= LEAST and _rank(found) > _rank(best):
                best = found
    return best


def _named(head: bytes) -> frozenset[int]:
    """The offsets at which a name may begin."""
    marked = [letter in MARKED for letter in head]
    return frozenset(at for at in range(len(head) - LEAST_NAME + 1) if all(marked[at : at + LEAST_NAME]))


def _rank(blocks: list[Block]) -> tuple[int, int]:
    return sum("holds" in each.checksum for each in blocks), sum(each.size for each in blocks)


def _followed(data: bytes, start: int, layout: _Layout) -> Iterator[Block]:
    """The blocks from an offset on, if they lead to the end; none where they do not."""
    found: list[Block] = []
    at = start
    while at < len(data) and len(found) < MOST:
        block = _block(data, at, layout)
        if block is None and len(data) - at <= BEHIND:
            break
        if block is None:
            return
        found.append(block)
        end = block.start + block.size + layout.trailer
        at = end + -(end - start) % layout.align
    if sum(each.size for each in found) >= HELD * (len(data) - start):
        for each in found:
            yield _checked(data, each, layout)


def _block(data: bytes, at: int, layout: _Layout) -> Block | None:
    name_at = at + layout.name_at
    size_at = at if layout.size_first else at + 4
    length = 4
    if layout.name_size:
        length = int.from_bytes(data[at : at + layout.name_size], layout.order)
        size_at = name_at + length
        if not 0 < length <= LONGEST_NAME:
            return None
    name = data[name_at : name_at + length]
    if len(name) < max(length, LEAST_NAME) or not MARKED.issuperset(name) or len(name.strip()) < LEAST_NAME:
        return None
    start = max(size_at + 4, name_at + length)
    size = int.from_bytes(data[size_at : size_at + 4], layout.order)
    size -= start - at + layout.trailer if layout.whole else 0
    if size < 0 or start + size + layout.trailer > len(data):
        return None
    return Block(name.rstrip().decode("ascii"), at, start, size)


def _checked(data: bytes, block: Block, layout: _Layout) -> Block:
    if not layout.trailer:
        return block
    end = block.start + block.size
    content = data[block.start : end]
    name = data[block.start - 4 : block.start] if layout.size_first else data[block.offset : block.start - 4]
    spans = {"its content": content, "name and content": name[layout.name_size :] + content}
    spans["all of it"] = data[block.offset : end]
    stored = {int.from_bytes(data[end : end + 4], order) for order in ORDERS}
    for words, sum_of in SUMS:
        for over, span in spans.items():
            if sum_of(span) in stored:
                return block._replace(checksum=f"{words} over {over} holds")
    return block._replace(checksum=f"{data[end : end + 4].hex(' ').upper()}, which is not a CRC-32 or Adler-32 of it")
