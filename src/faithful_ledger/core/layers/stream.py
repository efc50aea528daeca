"""What a packed stream is: how it begins, how it is unpacked, and how it is packed again in the way of an old one."""

from __future__ import annotations

import lzma
import zlib
from abc import ABC, abstractmethod
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, NamedTuple, TypeAlias

from faithful_ledger.core.errors import EntryError, LedgerError, TooMuch, place

if TYPE_CHECKING:
    import numpy as np

    Array: TypeAlias = np.ndarray[Any, Any]

__all__ = ["LARGE", "MOST_UNPACKED", "Allowance", "FedStream", "Layer", "Stream"]

MOST_UNPACKED = 256 << 20
LARGE = 1 << 20  # bytes of content for which fewer ways of packing are tried
FIRST_STEP, STEP = 1 << 12, 1 << 20


class Layer(NamedTuple):
    """`size` packed bytes at `offset` unpack to `unpacked_size`."""

    kind: str
    offset: int
    size: int
    unpacked_size: int


@dataclass(slots=True)
class Allowance:
    """How many bytes may still be unpacked, whether a stream comes to its end or not."""

    left: int


class Stream(ABC):
    """One kind of packed stream.

    What an old stream says about itself is kept when its content is packed again. The packed bytes are those of our
    compressor, so only what they unpack to can be promised.
    """

    name: str
    marks: tuple[bytes, ...] = ()  # one of these is at its beginning, or `mark_at` bytes behind it
    mark_at = 0
    pads_behind = False  # `fitting` puts something behind the stream, which not every reader expects

    def begins(self, data: Array, at: Array) -> list[int]:
        """Where a stream may begin, of the offsets in front of marks."""
        found: list[int] = at.tolist()
        return found

    @abstractmethod
    def read(self, data: bytes, offset: int, allowance: Allowance) -> Layer | None:
        """The stream that begins at an offset and comes to its own end; None where there is none."""

    @abstractmethod
    def unpacked(self, packed: bytes, most: int) -> bytes:
        """The first `most` bytes of what a stream unpacks to."""

    @abstractmethod
    def packed(self, data: bytes, old: bytes) -> bytes:
        """A stream that unpacks to `data`, in the way of the `old` one."""

    def fitting(self, data: bytes, old: bytes, room: int) -> Iterator[bytes]:
        """The same in as many bytes as wanted, as far as there are ways to try."""
        yield self.packed(data, old)

    # what all have in common

    def unpack(self, data: bytes, layer: Layer, most: int = MOST_UNPACKED) -> bytes:
        """What a layer that was found unpacks to.

        Raises:
            TooMuch: that is more than `most` bytes.
        """
        unpacked = self.unpacked(data[layer.offset : layer.offset + layer.size], most + 1)
        if len(unpacked) > most:
            raise TooMuch(
                f"the {self.name} stream at {place(layer.offset)} unpacks to more than {most >> 20} MiB",
                "nothing was changed; the file may be made to fill the memory",
            )
        return unpacked

    def pack(self, data: bytes, old: bytes) -> bytes:
        """A stream that unpacks to `data`, in the way of the `old` one.

        Raises:
            EntryError: it does not unpack to the same again.
        """
        packed = self.packed(data, old)
        if not self._unpacks_to(packed, data):
            raise EntryError(f"the new {self.name} stream does not unpack to what was packed", "nothing was written")
        return packed

    def pack_into(self, data: bytes, old: bytes) -> bytes | None:
        """As `pack`, in exactly as many bytes as the old stream: packed harder, or padded where the format allows it.

        None where that cannot be done. Padding is such that every reader skips: blocks without content in deflate and
        zstd, a frame to skip behind LZ4 (all three of their specifications), zeros behind xz.
        """
        for packed in self.fitting(data, old, len(old)):
            if len(packed) == len(old) and self._unpacks_to(packed, data):
                return packed
        return None

    def _unpacks_to(self, packed: bytes, data: bytes) -> bool:
        try:
            return self.unpack(packed, Layer(self.name, 0, len(packed), len(data)), len(data)) == data
        except (zlib.error, OSError, EOFError, lzma.LZMAError, ValueError, RuntimeError, LedgerError):
            return False
        except Exception as error:  # zstandard's own error is known only once it is imported
            if type(error).__module__.startswith(("zstandard", "zstd")):
                return False
            raise


class FedStream(Stream):
    """One that is unpacked step by step, by an object like those of the standard library."""

    @abstractmethod
    def unpacker(self) -> Any: ...

    def read(self, data: bytes, offset: int, allowance: Allowance) -> Layer | None:
        return fed(self, data, offset, allowance)

    def unpacked(self, packed: bytes, most: int) -> bytes:
        return bytes(self.unpacker().decompress(packed, most))


def fed(stream: FedStream, data: bytes, offset: int, allowance: Allowance) -> Layer | None:
    """Feed a stream in steps; it counts when it comes to its own end."""
    unpacker = stream.unpacker()
    unpacked, at, step = 0, offset, FIRST_STEP
    pending = b""
    try:
        while not unpacker.eof:
            piece = pending or data[at : at + step]
            if not pending:
                at += len(piece)
            if not piece and not pending:
                return None
            step = STEP
            out = unpacker.decompress(piece, STEP)
            unpacked += len(out)
            pending = getattr(unpacker, "unconsumed_tail", b"")
            if not pending and not unpacker.eof and not getattr(unpacker, "needs_input", True):
                # bz2 and lzma keep what is left themselves and are asked again with nothing
                while not unpacker.eof and not unpacker.needs_input:
                    unpacked += len(unpacker.decompress(b"", STEP))
                    if unpacked > allowance.left:
                        break
            if unpacked > allowance.left:
                return None
    except (zlib.error, OSError, EOFError, lzma.LZMAError, ValueError, RuntimeError):  # RuntimeError is of lz4
        return None
    finally:
        allowance.left -= unpacked
    size = at - offset - len(unpacker.unused_data or b"")  # LZ4 has None where nothing is left
    return Layer(stream.name, offset, size, unpacked) if unpacked else None
