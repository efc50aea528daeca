"""Searching bytes: a number in every storage, a text in every encoding, a group of numbers, a pattern."""

from __future__ import annotations

import re
import struct
from collections import Counter
from collections.abc import Iterator, Sequence
from fractions import Fraction
from typing import NamedTuple

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.source import Source, offsets_of

__all__ = ["TEXT_ENCODINGS", "Hit", "parse_pattern", "search_bytes", "search_group", "search_number", "search_text"]

SCALES = (1, 10, 100)
SIZES = (1, 2, 3, 4, 8)
# The encodings texts are looked for in: how results name them, and Python's name.
TEXT_ENCODINGS = {"utf-8": "utf-8", "utf-16le": "utf-16-le", "utf-16be": "utf-16-be", "latin-1": "latin-1"}
FARTHEST = 256  # between two numbers of a group, in bytes
CHUNK = 1 << 22


class Hit(NamedTuple):
    """`size` bytes at `offset` hold what was wanted, stored so; with a scale, times that much."""

    offset: int
    stored_as: str
    size: int
    scale: int = 1


def search_number(source: Source, number: Fraction) -> Iterator[Hit]:
    """Every place that holds a number, in any storage, also times ten and a hundred."""
    for scale in SCALES:
        for stored_as, raw in _spellings(number * scale, plain=scale == 1):
            for offset in offsets_of(source, raw):
                if stored_as.startswith("digits") and not _alone(source, offset, len(raw), stored_as):
                    continue
                yield Hit(offset, stored_as, len(raw), scale)


def search_text(source: Source, text: str) -> Iterator[Hit]:
    """Every place that holds a text, in any usual encoding.

    Raises:
        ValueRefused: the text is empty.
    """
    if not text:
        raise ValueRefused("the text is empty", "give at least one letter")
    known: set[bytes] = set()
    for name, codec in TEXT_ENCODINGS.items():
        try:
            raw = text.encode(codec)
        except UnicodeEncodeError:
            continue
        if raw not in known:
            known.add(raw)
            yield from (Hit(offset, name, len(raw)) for offset in offsets_of(source, raw))


def search_group(source: Source, numbers: Sequence[int]) -> Iterator[Hit]:
    """Places where numbers stand at a constant distance, in the given or in any order; `size` is from first to last.

    Raises:
        ValueRefused: fewer than two numbers are given.
    """
    import numpy as np

    if len(numbers) < 2:
        raise ValueRefused("a group has at least two numbers", "give them as 10,20,30")
    data = np.frombuffer(source.read(0, source.size), np.uint8)
    wanted = Counter(numbers)
    for size in (1, 2, 4, 8):
        for order in ("<", ">") if size > 1 else ("<",):
            signed = min(numbers) < 0
            kind = np.dtype(f"{order}{'i' if signed else 'u'}{size}")
            limits = np.iinfo(kind)
            if min(numbers) < limits.min or max(numbers) > limits.max or data.size < size:
                continue
            values = np.ndarray((data.size - size + 1,), kind, np.ascontiguousarray(data), strides=(1,))
            member = np.isin(values, np.array(sorted(wanted), dtype=kind.newbyteorder("=")))
            name = f"{'i' if signed else 'u'}{size * 8}{'' if size == 1 else 'le' if order == '<' else 'be'}"
            places = np.flatnonzero(member)
            for distance in range(size, FARTHEST + 1):
                span = (len(numbers) - 1) * distance
                starts = places[places + span < values.size]
                for step in range(1, len(numbers)):
                    starts = starts[member[starts + step * distance]]
                for start in starts.tolist():
                    if Counter(values[start : start + span + 1 : distance].tolist()) == wanted:
                        yield Hit(start, name, span + size)


def parse_pattern(text: str) -> re.Pattern[bytes]:
    """Bytes in hexadecimal, ?? for any byte.

    Raises:
        ValueRefused: it is none, or nothing but wildcards.
    """
    words = text.split()
    if not words or not all(re.fullmatch(r"[0-9A-Fa-f]{2}|\?\?", word) for word in words):
        raise ValueRefused(f"“{text[:40]}” is no row of bytes", "write it like 0A ?? FF")
    if all(word == "??" for word in words):
        raise ValueRefused("a pattern of nothing but wildcards is everywhere", "give at least one byte")
    parts = [b"." if word == "??" else re.escape(bytes.fromhex(word)) for word in words]
    return re.compile(b"(?=(" + b"".join(parts) + b"))", re.DOTALL)


def search_bytes(source: Source, text: str) -> Iterator[Hit]:
    """Every place where a pattern stands, overlapping ones too.

    Raises:
        ValueRefused: it is no pattern.
    """
    pattern = parse_pattern(text)
    size = len(text.split())
    for start in range(0, source.size, CHUNK):
        data = bytes(source.read(start, start + CHUNK + size - 1))
        for match in pattern.finditer(data):
            if match.start() < CHUNK:
                yield Hit(start + match.start(), "bytes", size)


def _spellings(number: Fraction, *, plain: bool) -> Iterator[tuple[str, bytes]]:
    """How a number is written in each storage that can hold it; `plain` adds those that are never scaled."""
    if plain:
        for size, letter in ((4, "f"), (8, "d")):
            for order, ending in (("<", "le"), (">", "be")):
                try:
                    yield f"f{size * 8}{ending}", struct.pack(order + letter, float(number))
                except OverflowError:
                    continue
    if number.denominator != 1:
        if plain:
            yield "digits", f"{float(number):g}".encode()
        return
    whole = int(number)
    for size in SIZES:
        for order, ending in (("little", "le"), ("big", "be")) if size > 1 else (("little", ""),):
            try:
                raw = whole.to_bytes(size, order, signed=whole < 0)  # type: ignore[arg-type]
            except OverflowError:
                continue
            yield f"{'i' if whole < 0 else 'u'}{size * 8}{ending}", raw
    if whole >= 0:
        digits = str(whole)
        for size in range(max((len(digits) + 1) // 2, 2), 9):
            raw = bytes.fromhex(digits.zfill(size * 2))
            yield f"bcd{size}", raw
            yield f"bcd{size}le", raw[::-1]
        if whole > 127:
            yield "uleb128", _leb128(whole)
    if plain:
        yield "digits", str(whole).encode()
        yield "digits-utf16le", str(whole).encode("utf-16-le")


def _leb128(value: int) -> bytes:
    out = bytearray()
    while value > 127:
        out.append(value & 127 | 128)
        value >>= 7
    out.append(value)
    return bytes(out)


def _alone(source: Source, offset: int, size: int, stored_as: str) -> bool:
    """Whether a run of digits is a number of its own and not part of a longer one."""
    step = 2 if stored_as.endswith("utf16le") else 1
    around = bytes(source.read(max(offset - step, 0), offset))[:1] + bytes(
        source.read(offset + size, offset + size + 1)
    )
    return not any(48 <= byte <= 57 for byte in around)
