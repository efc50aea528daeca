"""Numbers that look like lengths reaching over a place: up to the end of the file, or the size of the whole."""

from __future__ import annotations

import re
from collections.abc import Iterator
from fractions import Fraction
from itertools import product
from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.scan import scan, windows
from faithful_ledger.core.source import MemorySource, Source
from faithful_ledger.core.storage import NUMBERS, number_at

__all__ = [
    "TAG",
    "container_of",
    "entry_of",
    "is_flatbuffer",
    "length_in_head",
    "listed_at",
    "offsets_behind",
    "offsets_within",
    "said_turned",
    "spelled_sizes",
    "suspected_lengths",
    "unpacked_sizes",
]

Array: TypeAlias = np.ndarray[Any, Any]
TAG = re.compile(rb"(?=[A-Za-z][A-Za-z0-9_ ]{3})")  # of a container
HEAD_LINE = re.compile(rb"[^\0-\x1F=:{}<>\[\]\"']+\r?\n")
TAIL_LINE = re.compile(rb"(?<=\n)[A-Za-z#.-]{1,16}\r?\n?\Z")
DIGITS = re.compile(rb"(?<![\w.])[1-9][0-9]{2,9}(?![\w.])")
LOOKED_AT = 1 << 16
MOST = 4
AROUND, AROUND_LETTERS = 64, 256  # bytes in front of a stream, also in which numbers are spelled
LEAST_SPELLED = 100  # smaller ones are other numbers of a text by chance
LEAST_UNPACKED, LEAST_WIDE = 256, 32  # smaller sizes are other numbers by chance, in two bytes and in four
NAMES = ("u32le", "u32be", "u16le", "u16be")
MOST_LISTED = 16 << 20  # bytes of a save in which a directory is looked for
LEAST = 16  # smaller numbers say the rest of a file by chance
FIRST_OFFSETS, MOST_OFFSETS, STRIDES = 256, 1024, (4, 8, 12, 16, 20, 24, 28, 32)  # of a table of offsets
MOST_ENTRIES, LONGEST_ENTRY = 256, 96  # that may be of a part, and bytes of one
FEWEST_ENDS = 3  # in a table of them
MUCH = 4  # parts are one of so many bytes of a file
LEAST_LISTED = 6  # bytes of a table with a field, and of the list of its fields
MANY_OFFSETS = 4  # in front of what begins further behind
UNITS = (2, 4)  # bytes that a length of all may count as one
LEAST_SHIFT = 64  # numbers that lead to less than this far behind the beginning of a file are others by chance
LEAD = 16  # what a length counts may begin so many bytes behind it, after a checksum or another number


def unpacked_sizes(source: Source, at: int, size: int, least: int = 0) -> list[tuple[int, str]]:
    """Offsets in front of a stream at `at`, or at the beginning of the file, and how a number is stored there that says
    to how many bytes it unpacks. With a `least` offset only what is behind that counts, as behind another stream.
    """
    found: dict[int, str] = {}
    names = NAMES if size >= LEAST_UNPACKED else NAMES[:2] if size >= LEAST_WIDE else ()
    near = max(at - AROUND, least), at
    for start, end in (near,) if least else ((0, min(AROUND, at)), near):
        data = bytes(source.read(start, end))
        for name in names:
            raw = NUMBERS[name].spell(Fraction(size))
            place = data.find(raw) if raw is not None else -1
            if (
                raw is not None
                and place >= 0
                and not any(start + place <= known < start + place + 4 for known in found)
            ):
                found.setdefault(start + place, name)
    spelled = {place: name for place, name in spelled_sizes(source, at, size) if place >= least}
    return sorted({**spelled, **found}.items())


def said_turned(source: Source, at: int, size: int) -> tuple[int, str] | None:
    """Where four bytes directly in front of something say its size with every bit turned, or as a negative number, and
    how they are stored.
    """
    before = bytes(source.read(max(at - 4, 0), at))
    for order in (("little", "i32le"), ("big", "i32be")) if size else ():
        if before in {number.to_bytes(4, order[0], signed=True) for number in (~size, -size)}:
            return at - 4, order[1]
    return None


def spelled_sizes(source: Source, at: int, size: int) -> list[tuple[int, str]]:
    """Offsets in front of what is at `at`, or at the beginning of the file, where a size is spelled in decimal or
    hexadecimal digits, and which of them.
    """
    if size < LEAST_SPELLED:
        return []
    pattern = re.compile(
        rb"(?<![0-9.])(0*%d)(?![0-9.])|(?<![0-9A-Fa-f])(?:%04x|%06x|%08x)(?![0-9A-Fa-f])" % (size, size, size, size),
        re.IGNORECASE,
    )
    found: dict[int, str] = {}
    for start, end in ((0, min(AROUND_LETTERS, at)), (max(at - AROUND_LETTERS, 0), at)):
        for match in pattern.finditer(bytes(source.read(start, end))):
            found[start + match.start()] = "number in digits" if match[1] else "number in hexadecimal digits"
    return sorted(found.items())


def length_in_head(source: Source) -> tuple[int, int] | None:
    """Where the digits begin and end that say, in the first line of a text, how long all of it is, or what is behind
    that line, perhaps up to a last line; None where a line of names and values is the first.
    """
    head = bytes(source.read(0, min(source.size, AROUND_LETTERS)))
    line = HEAD_LINE.match(head)
    if line is None:
        return None
    rest = source.size - line.end()
    tail = bytes(source.read(max(source.size - AROUND, line.end()), source.size))
    last = TAIL_LINE.search(tail)
    lengths = {source.size, rest, rest - len(last[0]) if last is not None else rest}
    return next((match.span() for match in DIGITS.finditer(line[0]) if int(match[0]) in lengths), None)


def listed_at(source: Source, at: int, size: int) -> tuple[int, str] | None:
    """Where two numbers side by side say that something begins at an offset and has a size, or ends behind it, and how
    they are stored: an entry of a directory, wherever that is.
    """
    if not at or size < LEAST:
        return None
    pairs: dict[bytes, str] = {}
    for name in NAMES[:2]:
        begin, many, end = (NUMBERS[name].spell(Fraction(number)) or b"" for number in (at, size, at + size))
        pairs |= dict.fromkeys((begin + many, many + begin, begin + end) if end else (), name)
    runs = list(pairs)
    hits = (
        (run, place)
        for found in scan(MemorySource(source.read(0, MOST_LISTED)), runs)
        for place, run in zip(found.offsets.tolist(), found.runs.tolist(), strict=True)
        if not at <= place < at + size
    )
    likeliest = min(hits, default=None)  # in the order of the pairs: zeros in front make one of the other order
    return (likeliest[1], pairs[runs[likeliest[0]]]) if likeliest is not None else None


def container_of(source: Source, start: int, end: int) -> tuple[int, str] | None:
    """Where the length of a container is that bytes [start, end) are in, and how it is stored: with a tag of letters in
    front of it, and behind the container others, each with its tag and its length, up to the end of the file.
    """
    data = bytes(source.read(0, min(source.size, MOST_LISTED >> 4)))
    if source.size > len(data):
        return None
    for match in TAG.finditer(data, max(start - LOOKED_AT, 0), start):
        at = match.start() + 4
        for name in NAMES[:2]:
            behind = at + 4 + (number_at(data, at, name) or 0)
            if at + 4 <= start and end <= behind < len(data) and _are_containers(data, behind, name):
                return at, name
    return None


def _are_containers(data: bytes, at: int, name: str) -> bool:
    """Whether containers are one behind the other from an offset up to the end, or to the next even one each."""
    for _ in range(MOST_OFFSETS):
        if at == len(data):
            return True
        size = number_at(data, at + 4, name)
        if TAG.match(data, at) is None or size is None:
            return False
        at += 8 + size
        at += at % 2 if at < len(data) and TAG.match(data, at) is None else 0
    return False


def entry_of(source: Source, start: int, end: int) -> tuple[int, int, str] | None:
    """Where the entry of a directory begins and ends that says at which offset the part begins that bytes [start, end)
    are in, and its size, and how they are stored. The parts of the entries beside it are beside that part: of three, or
    of two that go on up to the directory or the end of the file; they are much of the file.
    """
    data = bytes(source.read(0, min(source.size, MOST_LISTED >> 4)))
    for name, sizes_first in product(NAMES[:2], (False, True)):
        values = windows(data, np.dtype(NUMBERS[name].dtype)).astype(np.int64)
        if values.size <= 4:
            return None
        offsets, sizes = (values[4:], values[:-4]) if sizes_first else (values[:-4], values[4:])
        around = (offsets >= 4) & (offsets <= start) & (end <= offsets + sizes) & (offsets + sizes <= source.size)
        for at in np.flatnonzero(around)[:MOST_ENTRIES].tolist():
            if offsets[at] <= at < offsets[at] + sizes[at]:
                continue
            for stride in range(8, LONGEST_ENTRY):
                first, count = _entries(offsets, sizes, at, stride)
                last = first + (count - 1) * stride
                begun, reached = int(offsets[first]), int(offsets[last] + sizes[last])
                directory = last + 8 if begun >= last + 8 else first
                ends = begun - directory if begun >= last + 8 else directory - reached
                is_edge = 0 <= ends < LEAD or 0 <= source.size - reached < LEAD
                if (reached - begun) * MUCH >= source.size and (count >= 3 or (count == 2 and is_edge)):
                    return at, at + 8, name
    return None


def _entries(offsets: Array, sizes: Array, at: int, stride: int) -> tuple[int, int]:
    """The first of the entries around one whose parts are one behind the other, and how many these are."""

    def follows(here: int) -> bool:
        there = here + stride
        if here < 0 or there >= offsets.size or offsets[here] < 4 or not sizes[here] > 0 or not sizes[there] > 0:
            return False
        return bool(0 <= offsets[there] - offsets[here] - sizes[here] < LEAD)

    first = last = at
    while follows(first - stride):
        first -= stride
    while follows(last):
        last += stride
    return first, (last - first) // stride + 1


def offsets_behind(source: Source, at: int) -> list[tuple[int, str]]:
    """Where the numbers are, of a table of offsets in the first bytes, that lead to something behind an offset, and how
    they are stored. The numbers of a table grow, and the first of them leads to where it ends, or little further; or
    they are where parts end, of which the last one is the size of the file.
    """
    data = bytes(source.read(0, min(at, FIRST_OFFSETS + MOST_OFFSETS * STRIDES[-1])))
    for name in NAMES[:2]:
        values = windows(data, np.dtype(NUMBERS[name].dtype)).astype(np.int64)
        for find in (_begins, _ends):
            for place, stride, count in find(values, source.size):
                table = values[place : place + count * stride : stride]
                grows = table.size == count and bool((table[1:] > table[:-1]).all())
                leads = table[:-1] if find is _ends else table
                if grows and at < leads[-1] <= source.size:
                    found = np.flatnonzero(table > at).tolist()
                    return [(place + number * stride, name) for number in found]
    return []


def _begins(values: Array, size: int) -> Iterator[tuple[int, int, int]]:
    """Tables whose first number says where they end: their offset, the bytes from one number to the next, how many."""
    for place, stride in product(range(0, min(FIRST_OFFSETS, values.size), 2), STRIDES):
        first = int(values[place])
        count = (first - place) // stride
        lead = LEAD if count >= MANY_OFFSETS else 0
        if 2 <= count <= MOST_OFFSETS and first - place - count * stride <= lead:
            yield place, stride, count


def _ends(values: Array, size: int) -> Iterator[tuple[int, int, int]]:
    """Those whose last number is the size of all."""
    for last in np.flatnonzero(values[: FIRST_OFFSETS + MOST_OFFSETS] == size).tolist():
        for stride in STRIDES[:2]:
            place, behind = last, size
            while place >= 0 and last + stride <= values[place] <= behind and (place == last or values[place] < behind):
                behind, place = int(values[place]), place - stride
            count = (last - place) // stride
            if count >= FEWEST_ENDS:
                yield place + stride, stride, count


def offsets_within(payload: Source, begins: int) -> tuple[int, str] | None:
    """Where a payload that begins at an offset of a file has offsets that count from the beginning of that file, as if
    it were not packed, and how they are stored: the first of two leads a little behind itself, the next one further.
    """
    if begins < LEAST_SHIFT:
        return None
    head = bytes(payload.read(0, min(payload.size, FIRST_OFFSETS)))
    for name in NAMES[:2]:
        leads = windows(head, np.dtype(NUMBERS[name].dtype)).astype(np.int64) - begins
        places = np.arange(leads.size)
        for at in np.flatnonzero((leads > places + 4) & (leads <= places + AROUND)).tolist():
            further = leads[at + 4 : at + AROUND : 4]
            if ((further > leads[at]) & (further < payload.size)).any():
                return at, name
    return None


def is_flatbuffer(source: Source) -> bool:
    """Whether a file begins as a FlatBuffer does (the FlatBuffers binary format): with the offset of a table, which
    leads to the list of its fields. All offsets count from where they are, so that each of them says how far something
    is.
    """
    head = bytes(source.read(0, min(source.size, LOOKED_AT)))

    def number(at: int, size: int, *, signed: bool = False) -> int:
        raw = head[at : at + size] if at >= 0 else b""
        return int.from_bytes(raw, "little", signed=signed) if len(raw) == size else -1

    table = number(0, 4)
    fields = table - number(table, 4, signed=True)
    listed, size = number(fields, 2), number(fields + 2, 2)
    if table % 4 or fields % 2 or listed % 2 or listed < LEAST_LISTED or size < LEAST_LISTED or fields < 4:
        return False
    if not (fields + listed <= table or table + size <= fields) or table + size > len(head):
        return False
    offsets = [number(at, 2) for at in range(fields + 4, fields + listed, 2)]
    return any(offsets) and all(not offset or 4 <= offset < size for offset in offsets)


def suspected_lengths(source: Source, at: int, size: int = 0) -> list[tuple[int, str]]:
    """Offsets in front of `at`, and how a number is stored there that says how much follows it or how long all is.

    With a `size` also what stands directly in front and says so many bytes.
    """
    data = bytes(source.read(0, min(at, LOOKED_AT)))
    found: list[tuple[int, str]] = []
    if size >= LEAST:
        before = bytes(source.read(max(at - LEAD, 0), at))
        spelled = [(NUMBERS[name].spell(Fraction(size)), name) for name in (*NAMES, "uleb128")]
        found += [(at - len(raw), name) for raw, name in spelled if raw is not None and before.endswith(raw)][:1]
    for name in NAMES:
        kind = np.dtype(NUMBERS[name].dtype)
        values = windows(data, kind).astype(np.int64)
        rest = source.size - kind.itemsize - np.arange(values.size) - values
        in_words = np.isin(values, [source.size // unit for unit in UNITS if source.size % unit == 0])
        all_of_it = (values == source.size) | (in_words & (np.arange(values.size) % kind.itemsize == 0))
        hits = np.flatnonzero((values >= LEAST) & (all_of_it | ((rest >= 0) & (rest <= LEAD))))
        wider = [(offset, offset + NUMBERS[known].least_size) for offset, known in found]
        found += [
            (offset, name)
            for offset in hits.tolist()
            if not any(offset < end and start < offset + kind.itemsize for start, end in wider)
        ]
    return sorted(found)[:MOST]
