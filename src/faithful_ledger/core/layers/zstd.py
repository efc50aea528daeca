"""zstd frames (RFC 8878); whether a frame has a check and says its size is kept."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from faithful_ledger.core.layers.stream import LARGE, STEP, Allowance, FedStream, Layer, Stream

__all__ = ["STREAMS"]


LARGEST_WINDOW = 1 << 27
FED = 1 << 10  # bytes at a time
LEVELS, LEVELS_LARGE = (3, 9, 15, 19, 1), (3, 9)
# Blocks of no bytes: raw ones, and a run of nothing (RFC 8878, 3.1.1.2).
EMPTY, EMPTY_RUN = b"\x00\x00\x00", b"\x02\x00\x00\x00"


class Zstd(FedStream):
    name = "zstd"
    marks = (b"\x28\xb5\x2f\xfd",)

    def unpacker(self) -> Any:
        import zstandard

        return zstandard.ZstdDecompressor(max_window_size=LARGEST_WINDOW).decompressobj()

    def read(self, data: bytes, offset: int, allowance: Allowance) -> Layer | None:
        import zstandard

        unpacker = self.unpacker()
        unpacked, at, step = 0, offset, FED
        try:
            while not unpacker.eof and at < len(data):
                piece = data[at : at + step]
                at += len(piece)
                out = len(unpacker.decompress(piece))
                unpacked += out
                # What so many bytes unpack to is not bounded by the library: little is fed where much comes out.
                step = max(FED * len(piece) // max(out, 1), 64) if out > STEP else FED
                if unpacked > allowance.left:
                    return None
        except zstandard.ZstdError:
            return None
        finally:
            allowance.left -= unpacked
        if not unpacker.eof or not unpacked:
            return None
        return Layer(self.name, offset, at - offset - len(unpacker.unused_data), unpacked)

    def unpacked(self, packed: bytes, most: int) -> bytes:
        import zstandard

        with zstandard.ZstdDecompressor(max_window_size=LARGEST_WINDOW).stream_reader(packed) as reader:
            return bytes(reader.read(most))

    def packed(self, data: bytes, old: bytes) -> bytes:
        return _like(old).compress(data)  # type: ignore[no-any-return]

    def fitting(self, data: bytes, old: bytes, room: int) -> Iterator[bytes]:
        for level in LEVELS if len(data) < LARGE else LEVELS_LARGE:
            whole = _like(old, level).compress(data)
            left = room - len(whole)
            runs = left % 3  # so many blocks of four bytes, the others of three
            if left >= runs * 4:
                at = _last_block(whole)
                yield whole[:at] + EMPTY * ((left - runs * 4) // 3) + EMPTY_RUN * runs + whole[at:]


STREAMS: tuple[Stream, ...] = (Zstd(),)


def _like(old: bytes, level: int = 3) -> Any:
    """A packer whose frames have what an old one has."""
    import zstandard

    flags = zstandard.get_frame_parameters(old)
    has_size = flags.content_size != zstandard.CONTENTSIZE_UNKNOWN
    return zstandard.ZstdCompressor(level=level, write_checksum=flags.has_checksum, write_content_size=has_size)


def _last_block(frame: bytes) -> int:
    """Where the last block of a frame begins (RFC 8878, 3.1.1.2): blocks with nothing in them may stand before it."""
    import zstandard

    at = int(zstandard.frame_header_size(frame))
    while True:
        header = int.from_bytes(frame[at : at + 3], "little")
        if header & 1:
            return at
        kind, size = header >> 1 & 3, header >> 3
        at += 3 + (1 if kind == 1 else size)
