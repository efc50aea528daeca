"""Packed streams at any offset: zlib, gzip, bzip2, xz, LZMA, zstd, LZ4 frames, raw deflate, and text in base64,
hexadecimal or lz-string, or that lists bytes as numbers.

Each is believed only when it unpacks to its own end. Raw deflate (RFC 1951) has no mark. In files of up to 4 MiB it is
tried wherever a block with its own codes may begin: the lengths of these codes make a complete code (Kraft, 1949). In
larger ones, and for blocks with the fixed codes, it is tried near the beginning, and where open bytes give way to dense
ones. What a stream unpacks to is bounded, so a small file cannot fill the memory.
"""

from __future__ import annotations

import binascii
import re
from collections.abc import Iterator
from contextlib import suppress
from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.budget import unpacked_allowance
from faithful_ledger.core.formats import recognised_text
from faithful_ledger.core.layers import STREAMS, marked_kind
from faithful_ledger.core.layers.base64_text import BASE64, ESCAPED
from faithful_ledger.core.layers.linked import Begins, stream_begins
from faithful_ledger.core.layers.lz_string import LZ_STRING
from faithful_ledger.core.layers.number_lists import NUMBER_LIST
from faithful_ledger.core.layers.sqlite_tables import is_database
from faithful_ledger.core.layers.stream import Allowance, Layer
from faithful_ledger.core.layers.tagged import tagged_kind
from faithful_ledger.core.layers.xz import lzma_begins
from faithful_ledger.core.profile.entropy import unevenness
from faithful_ledger.core.profile.pictures import pixel_spans
from faithful_ledger.core.profile.unmarked import lone_block, self_ended, unmarked_blocks
from faithful_ledger.core.scan import windows
from faithful_ledger.core.source import MemorySource

__all__ = ["find_layers", "stream_at", "whole_stream"]

Array: TypeAlias = np.ndarray[Any, Any]
LEAST_UNPACKED = 1  # every kind with a mark has a checksum, or a mark of four bytes; deflate see below
LEAST_BASE64 = 32
FIRST_STEP = 1 << 12
MIXED = [set(b"ABCDEFGHIJKLMNOPQRSTUVWXYZ"), set(b"abcdefghijklmnopqrstuvwxyz"), set(b"0123456789+/-_")]
CAPITALS, FEWEST_CAPITALS = bytes(range(65, 91)), 8  # one of so many
BASE64_FLAGS = bytes((chr(byte).isalnum() and byte < 128) or byte in b"+/-_" for byte in range(256))
PLAIN = bytes.maketrans(b"-_", b"+/")
MARKED = 64  # letters in which a stream begins, behind a header
ESCAPED_FLAGS = bytes(flag or byte == ord("%") for byte, flag in enumerate(BASE64_FLAGS))
LETTERS_LOOKED_AT, LZMA_LOOKED_AT = 4 << 20, 1 << 20
IN_TEXTS = bytes([9, 10, 13, *range(32, 127), *range(128, 256)])
ALNUM = frozenset(byte for byte in range(128) if chr(byte).isalnum())
HEX_FLAGS = bytes(chr(byte) in "0123456789abcdefABCDEF" for byte in range(256))
LEAST_HEX = 130  # digits
LIST_FLAGS = bytes(chr(byte) in "0123456789-,; \t\r\n" for byte in range(256))
NOT_LISTED = re.compile(rb"[^0-9,; \t\r\n-]")
BETWEEN_NUMBERS = b",; \t\r\n"
LEAST_LISTED = 64  # numbers of a list
EVEN, ENOUGH_EVEN = 8.0, 256  # standard deviations; bytes
WORD = re.compile(rb"[A-Za-z][A-Za-z &'-]{3,}")
FEWEST_WORDS = 3
OPENING = (b"{", b"[", b"<")
FEWEST_DIGITS = 4  # different ones; of fewer it is a row of numbers that are alike
RAW_BEGIN = 64  # offsets from the beginning at which raw deflate is tried
EDGE = 256  # bytes in which dense bytes are distinguished from open ones
OPEN, DENSE = 0.45, 0.55  # shares of different bytes among `EDGE` of them
MOST_EDGES, MOST_ROWS = 32, 1 << 10
EVERYWHERE = 4 << 20
# What four code lengths of three bits each take up of a code; 128 is all of it.
KRAFT = sum(np.array([0, 64, 32, 16, 8, 4, 2, 1])[np.arange(4096) >> 3 * place & 7] for place in range(4))
LEAST_RAW = 48  # packed bytes; shorter streams come to their end by chance
LEAST_RAW_UNPACKED = 64


def find_layers(data: bytes, begins: Begins | None = None) -> list[Layer]:
    """All packed streams, in order; none is within another, or the pixels of a picture beside something else. Together
    they unpack to no more than a file of this size is worth (core/budget.py); what would be more is not looked at.
    `begins` is where marks stand, if that is known.
    """
    found: list[Layer] = []
    end = 0
    pixels = pixel_spans(data)
    allowance = Allowance(unpacked_allowance(len(data)))
    begins = stream_begins(data, STREAMS) if begins is None else begins
    unmarked = [("lzma", offset) for offset in lzma_begins(data[:LZMA_LOOKED_AT])]
    for offset, kind in sorted((offset, name) for name, offset in [*begins, *unmarked]):
        if offset < end or _is_in(pixels, offset):
            continue
        if (layer := _read(data, offset, kind, allowance)) is not None:
            found.append(layer)
            end = layer.offset + layer.size
    for offset in _raw_offsets(data):
        if not (_within(found, offset, offset + 1) or _is_in(pixels, offset)):
            layer = _read(data, offset, "deflate", allowance)
            if layer is not None and not _within(found, offset, offset + layer.size):
                found.append(layer)
    if is_database(data):  # whose pages have codes enough that look like the beginning of something
        return sorted(found, key=lambda layer: layer.offset)
    texts = list(_lettered(data, found))
    if not data[:FIRST_STEP].translate(None, IN_TEXTS):
        texts += [*_hex(data, found), *_listed(data, found)]
    if not found:
        found = unmarked_blocks(data, allowance)
    if all(layer.kind == "deflate" for layer in found):  # which may begin within anything that is packed
        found = self_ended(data, allowance) or found
    if not found and (block := lone_block(data, allowance)) is not None:
        found.append(block)
    found += [text for text in texts if not _within(found, text.offset, text.offset + text.size)]
    return sorted(found, key=lambda layer: layer.offset)


def stream_at(data: bytes, offset: int, kind: str) -> Layer | None:
    """The stream of a kind that begins at an offset, whatever it looks like; None where it does not come to its end."""
    allowance = Allowance(unpacked_allowance(len(data)))
    return STREAMS[kind].read(data, offset, allowance)


def whole_stream(data: bytes, kind: str) -> Layer | None:
    """The stream of a kind that is all of some bytes."""
    layer = stream_at(data, 0, kind) if data else None
    return layer if layer is not None and layer.size == len(data) else None


def _raw_offsets(data: bytes) -> Iterator[int]:
    """Where raw deflate may begin: its first bits are neither a stored block nor a kind that does not exist."""
    likely = list(range(min(RAW_BEGIN, len(data))))
    whole = len(data) // EDGE
    if whole:
        rows = np.sort(np.frombuffer(data[: min(whole, MOST_ROWS) * EDGE], np.uint8).reshape(-1, EDGE), axis=1)
        different = (rows[:, 1:] != rows[:, :-1]).mean(axis=1)
        edges = np.flatnonzero((different[1:] > DENSE) & (different[:-1] < OPEN)) + 1
        for edge in edges[:MOST_EDGES].tolist():
            likely += range(max((edge - 1) * EDGE, RAW_BEGIN), (edge + 1) * EDGE)
    tried = {offset for offset in likely if data[offset] & 6 in (2, 4)}
    if len(data) <= EVERYWHERE:
        tried.update(_coded_blocks(data).tolist())
    return (offset for offset in sorted(tried) if len(data) - offset >= LEAST_RAW)


def _coded_blocks(data: bytes) -> Array:
    """Where a deflate block with codes of its own may begin (RFC 1951, 3.2.7)."""
    padded = data + bytes(16)
    head = windows(padded, np.dtype("<u4"))[: len(data)]
    # block type 2, at most 286 codes for letters and lengths and 30 for distances
    begins = np.flatnonzero((head & 6 == 4) & (head >> 3 & 31 <= 29) & (head >> 8 & 31 <= 29))
    words = windows(padded, np.dtype("<u8"))
    low, high = words[begins], words[begins + 8]
    lengths = low >> np.uint64(17) | high << np.uint64(47)
    used = 3 * ((low >> np.uint64(13) & np.uint64(15)) + np.uint64(4))
    lengths &= (np.uint64(1) << used) - np.uint64(1)
    total = np.zeros(begins.size, np.int64)
    for shift in range(0, 60, 12):
        total += KRAFT[lengths >> np.uint64(shift) & np.uint64(4095)]
    found: Array = begins[total == 128]
    return found


def _is_in(spans: list[tuple[int, int]], offset: int) -> bool:
    return any(low <= offset < high for low, high in spans)


def _within(layers: list[Layer], start: int, end: int) -> bool:
    return any(layer.offset < end and start < layer.offset + layer.size for layer in layers)


def _read(data: bytes, offset: int, kind: str, allowance: Allowance) -> Layer | None:
    """A stream that comes to its end and is more than chance, or None."""
    layer = STREAMS[kind].read(data, offset, allowance) if allowance.left > 0 else None
    if layer is None or layer.unpacked_size < LEAST_UNPACKED:
        return None
    if kind == "deflate":
        enough = layer.size >= LEAST_RAW and layer.unpacked_size >= max(LEAST_RAW_UNPACKED, layer.size)
        return layer if enough else None
    return layer


def _hex(data: bytes, taken: list[Layer]) -> Iterator[Layer]:
    """Long runs of hexadecimal digits in a text, longer than that of any digest."""
    for start, end in _runs(data[:LETTERS_LOOKED_AT].translate(HEX_FLAGS), LEAST_HEX):
        digits, beside = data[start:end], data[max(start - 1, 0) : start] + data[end : end + 1]
        is_one_case = digits in (digits.lower(), digits.upper()) and len(set(digits)) > FEWEST_DIGITS
        if is_one_case and not any(map(ALNUM.__contains__, beside)) and not _within(taken, start, end):
            yield Layer("hex", start, (end - start) // 2 * 2, (end - start) // 2)


def _listed(data: bytes, taken: list[Layer]) -> Iterator[Layer]:
    """Long lists of numbers in a text that are the bytes of something else, and not values for themselves."""
    for start, end in _runs(data[:LETTERS_LOOKED_AT].translate(LIST_FLAGS), 2 * LEAST_LISTED):
        if end == LETTERS_LOOKED_AT:  # it may go on
            behind = NOT_LISTED.search(data, end)
            end = behind.start() if behind is not None else len(data)
        numbers = data[start:end].rstrip(BETWEEN_NUMBERS)
        begin = start + len(numbers) - len(numbers.lstrip(BETWEEN_NUMBERS))
        layer = STREAMS[NUMBER_LIST].read(data, begin, Allowance(unpacked_allowance(len(data))))
        if layer is None or layer.offset + layer.size != start + len(numbers) or layer.unpacked_size < LEAST_LISTED:
            continue
        if not _within(taken, begin, start + len(numbers)) and _is_content(STREAMS[NUMBER_LIST].unpack(data, layer)):
            yield layer


def _is_content(listed: bytes) -> bool:
    """Whether bytes that are listed are a stream, or values or a text that say so themselves, or as even as what is
    packed or enciphered, or have words with their length in front, or a zero behind.
    """
    if marked_kind(listed) or tagged_kind(listed):
        return True
    if len(listed) >= ENOUGH_EVEN and unevenness(np.frombuffer(listed, np.uint8)) < EVEN:
        return True
    if listed[:1] in OPENING and recognised_text(MemorySource(listed)) is not None:
        return True
    words = [word.span() for word in WORD.finditer(listed)]
    bounded = [at for at, end in words if listed[end : end + 1] == b"\0" or end - at in (*listed[max(at - 4, 0) : at],)]
    return len(bounded) >= FEWEST_WORDS and 2 * len(bounded) >= len(words)


def _runs(flags: bytes, least: int) -> Iterator[tuple[int, int]]:
    """Where at least so many ones are in a row."""
    run = b"\1" * least
    at = flags.find(run)
    while at >= 0:
        end = flags.find(0, at)
        end = len(flags) if end < 0 else end
        yield at, end
        at = flags.find(run, end)


def _is_mixed(letters: bytes) -> bool:
    """Whether letters are not a long word or number; words with `-` or `_` between them have few capitals."""
    marks = letters.count(b"-") + letters.count(b"_")
    capitals = len(letters) - len(letters.translate(None, CAPITALS))
    return all(set(letters) & kind for kind in MIXED) and (not marks or capitals * FEWEST_CAPITALS >= len(letters))


def _aligned(data: bytes, start: int, end: int) -> int:
    """Where a text in base64 begins among letters [start, end): letters of something else may be in front of it, so
    that those that are left are a multiple of four with the padding behind them.
    """
    padded = end + len(data[end : end + 2]) - len(data[end : end + 2].lstrip(b"="))
    over = (padded - start) % 4
    if not over or (over == 1 and padded == end):
        return start
    shown = [_marked(data[at : at + MARKED]) for at in (start, start + over)]
    return start + over if padded > end or shown == [False, True] else start


def _marked(letters: bytes) -> bool:
    """Whether what is spelled at the beginning of a text has the mark of a stream in it."""
    spelled = b""
    with suppress(binascii.Error):
        spelled = binascii.a2b_base64(letters.translate(PLAIN)[: len(letters) // 4 * 4])
    return any(mark in spelled for stream in STREAMS.values() for mark in stream.marks if len(mark) > 1)


def _lettered(data: bytes, taken: list[Layer]) -> Iterator[Layer]:
    looked_at, behind = data[:LETTERS_LOOKED_AT], 0
    if not looked_at[:FIRST_STEP].isascii():  # what lz-string writes in wide letters is all of a text
        layer = STREAMS[LZ_STRING].read(data, 0, Allowance(unpacked_allowance(len(data))))
        if layer is not None and layer.size >= LEAST_BASE64:
            yield layer
            return
    flags = BASE64_FLAGS if ESCAPED.search(looked_at) is None else ESCAPED_FLAGS
    for at, end in _runs(looked_at.translate(flags), LEAST_BASE64):
        if at >= behind and _is_mixed(data[at : min(end, at + FIRST_STEP)]):
            for kind, begin in ((LZ_STRING, at), (BASE64, _aligned(data, at, end))):
                layer = STREAMS[kind].read(data, begin, Allowance(unpacked_allowance(len(data))))
                if layer is not None and layer.size >= LEAST_BASE64:
                    behind = begin + layer.size
                    if not _within(taken, begin, behind):
                        yield layer
                    break
