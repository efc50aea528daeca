"""An object as what differs from another one: a large save is kept before each posting, and hardly changes between two.

Both are zstd files on disk as well (RFC 8878). Behind the frame of a large object that is kept whole, a skippable frame
says what is in its blocks, so that another one can be compared with it without unpacking it; all numbers are
little-endian:

    magic 0x184D2A5B, size of what follows                                         4 bytes each
    the fingerprint of each block of 16 KiB                                        16 bytes each
    seed of these fingerprints, drawn anew for each object                         8 bytes
    SHA-256 of the bytes, which is the object's name                               32 bytes
    fingerprint of the frame in front (without a seed), size of what is here       16 and 4 bytes

The fingerprints are XXH3 of 128 bits. In front of the frame of an object of which only the blocks are kept that differ
from those of another one, a skippable frame says where they go:

    magic 0x184D2A5A, size of what follows                                         4 bytes each
    SHA-256 of the other object, size of the bytes                                 32 and 8 bytes
    for each run of blocks that differ: the first one, how many                    4 bytes each

Nothing here is trusted when it is read: the vault compares the SHA-256 of the result with the object's name.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Iterable, Iterator
from itertools import groupby
from pathlib import Path
from typing import NamedTuple

import xxhash

from faithful_ledger.core.source import Source

__all__ = ["HEAD", "Blocks", "Difference", "Index", "index_of", "other_object", "put_together"]

MAGIC, INDEX_MAGIC = 0x184D2A5A, 0x184D2A5B
HEAD = struct.Struct("<II32sQ")
RUN = struct.Struct("<II")
TAIL = struct.Struct("<Q32s16sI")
BLOCK = 16384  # bytes: four times as many fingerprints would take longer than they save writing
PRINT = 16  # bytes of a fingerprint
PIECE = 1 << 20  # bytes of a file that are read at once
MOST = 1 / 4  # of the bytes: where more differs, the object is kept whole


class Difference(NamedTuple):
    """What is in the frame in front, and the blocks that go into the one behind it."""

    head: bytes
    blocks: list[memoryview]


class Blocks(NamedTuple):
    """The fingerprints of the blocks of some bytes, with their seed."""

    seed: int
    prints: bytes

    @classmethod
    def of(cls, source: Source, seed: int | None = None) -> Blocks:
        seed = int.from_bytes(os.urandom(8)) if seed is None else seed
        return cls(seed, b"".join(_prints(source, seed)))

    def as_index(self, name: str, frame: bytes) -> bytes:
        """The frame behind that of an object of this name, whose own has this fingerprint."""
        size = len(self.prints) + TAIL.size
        tail = TAIL.pack(self.seed, bytes.fromhex(name), frame, size)
        return struct.pack("<II", INDEX_MAGIC, size) + self.prints + tail


class Index(NamedTuple):
    """What is known about an object that is kept whole."""

    name: str
    blocks: Blocks

    def difference(self, source: Source) -> Difference | None:
        """What of a source differs from this object; None where that is too much to be worth it."""
        ours, theirs = Blocks.of(source, self.blocks.seed).prints, self.blocks.prints
        differ = (at // PRINT for at in range(0, len(ours), PRINT) if ours[at : at + PRINT] != theirs[at : at + PRINT])
        runs = list(_runs(differ))
        if sum(count for _, count in runs) * BLOCK > source.size * MOST:
            return None
        body = b"".join(RUN.pack(first, count) for first, count in runs)
        head = HEAD.pack(MAGIC, HEAD.size - 8 + len(body), bytes.fromhex(self.name), source.size) + body
        ends = (min((first + count) * BLOCK, source.size) for first, count in runs)
        return Difference(head, [source.read(first * BLOCK, end) for (first, _), end in zip(runs, ends, strict=True)])


def _prints(source: Source, seed: int) -> Iterator[bytes]:
    for chunk in source.chunks(0, source.size):
        for at in range(0, len(chunk), BLOCK):
            yield xxhash.xxh3_128_digest(chunk[at : at + BLOCK], seed)


def _runs(blocks: Iterable[int]) -> Iterator[tuple[int, int]]:
    """The first one and the number of blocks in a row."""
    for _, pairs in groupby(enumerate(blocks), lambda pair: pair[1] - pair[0]):
        run = [block for _, block in pairs]
        yield run[0], len(run)


def index_of(path: Path) -> Index | None:
    """What the file of an object that is kept whole says about it; None where it does not, or where it is damaged.

    Raises:
        OSError: it cannot be read.
    """
    size = path.stat().st_size
    with path.open("rb", buffering=0) as file:
        file.seek(max(size - TAIL.size, 0))
        tail = file.read(TAIL.size)
        if len(tail) < TAIL.size:
            return None
        seed, name, frame, length = TAIL.unpack(tail)
        index_at = size - length - 8
        if index_at < 0 or length < TAIL.size:
            return None
        file.seek(index_at)
        index = file.read(size - index_at)
        if len(index) != length + 8 or struct.unpack_from("<II", index) != (INDEX_MAGIC, length):
            return None
        file.seek(0)
        running, piece = xxhash.xxh3_128(), memoryview(bytearray(PIECE))
        while index_at > 0 and (got := file.readinto(piece[:index_at])):
            running.update(piece[:got])
            index_at -= got
    if running.digest() != frame or index_at or name.hex() != path.stem:
        return None
    return Index(path.stem, Blocks(seed, index[8 : -TAIL.size]))


def other_object(data: bytes) -> str:
    """The name of the object that these bytes of a file are to be put together with; empty where it is kept whole."""
    if len(data) < HEAD.size:
        return ""
    magic, _, name, _ = HEAD.unpack_from(data)
    return bytes(name).hex() if magic == MAGIC else ""


def put_together(data: bytes, other: bytes) -> bytearray:
    """The bytes of an object that is kept as a difference.

    Raises:
        ValueError: the difference is damaged.
        zstandard.ZstdError: its blocks are.
    """
    import zstandard

    _, length, _, size = HEAD.unpack_from(data)
    blocks_at = 8 + length
    if not HEAD.size <= blocks_at <= len(data) or (blocks_at - HEAD.size) % RUN.size:
        raise ValueError("its sizes make no sense")
    blocks = memoryview(zstandard.ZstdDecompressor().decompress(data[blocks_at:]))
    if size > len(other) + len(blocks):
        raise ValueError("its blocks are not all there")
    result = bytearray(other[:size].ljust(size, b"\0"))
    for first, count in RUN.iter_unpack(data[HEAD.size : blocks_at]):
        end = min((first + count) * BLOCK, size)
        length = end - first * BLOCK
        if not 0 <= length <= len(blocks):
            raise ValueError("its blocks are not all there")
        result[first * BLOCK : end] = blocks[:length]
        blocks = blocks[length:]
    return result
