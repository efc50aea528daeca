"""Searching bytes: a number in every storage, a text in every encoding, a group of numbers, a pattern."""

from __future__ import annotations

import re
from bisect import bisect_left, bisect_right
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from fractions import Fraction
from typing import NamedTuple

from faithful_ledger.core.address import Address
from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.formats import Document, Span, TextLeaf, recognised_text
from faithful_ledger.core.formats.tree_document import TreeDocument
from faithful_ledger.core.nesting import all_leaves
from faithful_ledger.core.source import MemorySource, Source
from faithful_ledger.core.storage import NUMBERS, Integer, Spelling, parse_decimal, parse_whole, spellings

__all__ = [
    "TEXT_ENCODINGS",
    "Hit",
    "is_behind_text",
    "likelihood",
    "parse_number",
    "parse_pattern",
    "search_bytes",
    "search_everywhere",
    "search_group",
    "search_number",
    "search_text",
]

SCALES = (1, 10, 100)
USUAL = {
    "u32": 2.0,
    "i32": 1.5,
    "u16": 1.0,
    "i16": 0.5,
    "u64": 1.0,
    "f32": 1.5,
    "f64": 1.0,
    "digits": 2.0,
    "utf-8": 2.0,
}
LABEL = 24  # bytes in which a label may be in front
# The encodings texts are looked for in: how results name them, and Python's name.
TEXT_ENCODINGS = {"utf-8": "utf-8", "utf-16le": "utf-16-le", "utf-16be": "utf-16-be", "latin-1": "latin-1"}
LARGEST_UNWRAPPED = 256 << 20
LARGEST_TEXT = 32 << 20
FARTHEST = 256  # between two numbers of a group, in bytes
CHUNK, GROUP_CHUNK = 1 << 22, 64 << 20


class Hit(NamedTuple):
    """`size` bytes at `offset` hold what was wanted, stored so; with a scale, times that much.

    With a `layer` the offset is that in what was unwrapped. `path` names it in a text save.
    """

    offset: int
    stored_as: str
    size: int
    scale: int = 1
    layer: str | None = None
    path: str | None = None

    @property
    def address(self) -> Address:
        """Where it is in its payload, as a template says it."""
        return Address.by_path(self.path) if self.path is not None else Address.at(self.offset)


def search_everywhere(source: Source, find: Callable[[Source], Iterator[Hit]]) -> Iterator[Hit]:
    """What `find` finds in a source and in all that is packed or scrambled in it; named by paths in texts."""
    from faithful_ledger.core.inside import payloads_inside

    yield from _named(source, find(source))
    if source.size <= LARGEST_UNWRAPPED:
        for payload in payloads_inside(bytes(source.read(0, source.size))):
            inner = MemorySource(payload.data)
            for hit in _named(inner, find(inner)):
                yield hit._replace(layer=payload.spot(hit.offset))


def _named(source: Source, hits: Iterator[Hit]) -> Iterator[Hit]:
    """Hits with the paths of the values they lie in, where the source is a text of a known format."""
    data = bytes(source.read(0, source.size)) if source.size <= LARGEST_TEXT else b""
    leaves: list[TextLeaf] | None = None
    document: Document | None = None
    starts: list[int] = []
    for hit in hits:
        if leaves is None:  # only now is it worth reading the text
            document = recognised_text(MemorySource(data)) if data else None
            leaves = sorted(all_leaves(document), key=lambda leaf: leaf.start) if document is not None else []
            starts = [leaf.start for leaf in leaves]
        if not leaves:
            yield hit
            continue
        last = bisect_right(starts, hit.offset) - 1
        around = leaves[bisect_left(starts, starts[last]) : last + 1] if last >= 0 else []
        yield hit._replace(path=_path(around, hit, data, document))


def _path(around: list[TextLeaf], hit: Hit, data: bytes, document: Document | None) -> str | None:
    """The path of the value a hit is in; of a string that is JSON itself, that of the value inside that says it; of a
    list within a value, that of the item.
    """
    wanted = data[hit.offset : hit.offset + hit.size].decode("latin-1")
    inside = [leaf for leaf in around if hit.offset + hit.size <= leaf.end]
    telling = [leaf for leaf in inside[1:] if wanted in leaf.text]
    if telling or not inside:
        return telling[0].path if telling else None
    leaf = inside[0]
    items = document.items(Span(leaf.start, leaf.end, leaf.kind)) if isinstance(document, TreeDocument) else None
    if items is not None and len(items.starts) > 1:
        for number, (start, end) in enumerate(zip(items.starts, items.ends, strict=True)):
            if start <= hit.offset and hit.offset + hit.size <= end:
                return f"{leaf.path}[{number}]"
    return leaf.path


def is_behind_text(source: Source, offset: int) -> bool:
    """Whether something that can be read ends a few bytes in front: a label, perhaps."""
    before = bytes(source.read(max(offset - LABEL, 0), offset)).rstrip(b"\0\x01\x02\x03\x04 :=\"'")
    return len(before) >= 3 and all(32 < byte < 127 for byte in before[-3:])


def likelihood(hit: Hit, source: Source) -> float:
    """How likely a hit is what somebody looks for: a value at a path, or behind a label, aligned, in a usual width,
    with zeros behind it, rather than some of a larger number or a text. `source` is what it is in, if it is in no
    layer.
    """
    if hit.path is not None:
        return 10.0 - (hit.scale > 1)
    points = USUAL.get(hit.stored_as.removesuffix("le").removesuffix("be"), -1.0)
    points -= 1.0 if hit.stored_as.endswith("be") else 0.0
    points -= 2.0 if hit.scale > 1 else 0.0
    if hit.layer is not None:
        return points
    points += 1.0 if hit.size in (2, 4, 8) and hit.offset % hit.size == 0 else 0.0
    around = bytes(source.read(max(hit.offset - 1, 0), hit.offset + hit.size + 2))
    points += 2.0 if is_behind_text(source, hit.offset) else 0.0
    return points + 0.5 * around[-2:].count(0)


def search_number(source: Source, number: Fraction, scales: Sequence[int] = SCALES) -> Iterator[Hit]:
    """Every place that holds a number, in any storage, also times ten and a hundred; in order of offsets."""
    from faithful_ledger.core.scan import scan

    forms = list(_forms(number, scales))
    for found in scan(source, [spelling.data for spelling, _ in forms]):
        for offset, form in zip(found.offsets.tolist(), found.runs.tolist(), strict=True):
            (stored_as, data), scale = forms[form]
            if NUMBERS[stored_as].family != "digits" or _alone(
                source, offset, len(data), NUMBERS[stored_as].least_size
            ):
                yield Hit(offset, stored_as, len(data), scale)


def _forms(number: Fraction, scales: Sequence[int]) -> Iterator[tuple[Spelling, int]]:
    """The spellings looked for, each byte run once: the plainest name for it, and not times what is 0 anyway."""
    known: set[bytes] = set()
    for scale in scales:
        for spelling in spellings(number * scale):
            # One byte of variable length is the same byte as u8, or as common as any; scaled forms are whole numbers.
            family = NUMBERS[spelling.stored_as].family
            short = len(spelling.data) == 1 and family in ("variable", "packed")
            scaled = scale == 1 or family not in ("fraction", "digits", "unpacked")
            if scaled and not short and spelling.data not in known:
                known.add(spelling.data)
                yield spelling, scale


def search_text(source: Source, text: str) -> Iterator[Hit]:
    """Every place that holds a text, in any usual encoding; in order of offsets. Where none does, those in letters of
    a game's own.

    Raises:
        ValueRefused: the text is empty.
    """
    from faithful_ledger.core.scan import scan

    if not text:
        raise ValueRefused("the text is empty", "give at least one letter")
    known: dict[bytes, str] = {}
    for name, codec in TEXT_ENCODINGS.items():
        with suppress(UnicodeEncodeError):
            known.setdefault(text.encode(codec), name)
    runs = list(known)
    nowhere = True
    for found in scan(source, runs):
        for offset, run in zip(found.offsets.tolist(), found.runs.tolist(), strict=True):
            nowhere = False
            yield Hit(offset, known[runs[run]], len(runs[run]))
    if nowhere and source.size <= LARGEST_TEXT:
        yield from _in_own_letters(source, text)


def _in_own_letters(source: Source, text: str) -> Iterator[Hit]:
    import numpy as np

    from faithful_ledger.core.own_letters import OWN_LETTERS, texts_in_own_letters

    data = np.frombuffer(source.read(0, source.size), np.uint8)
    for offset, _ in texts_in_own_letters(data, text):
        yield Hit(offset, OWN_LETTERS, len(text))


def search_group(source: Source, numbers: Sequence[int]) -> Iterator[Hit]:
    """Places where numbers stand at a constant distance, in the given or in any order; `size` is from first to last.

    Raises:
        ValueRefused: fewer than two numbers are given.
    """
    if len(numbers) < 2:
        raise ValueRefused("a group has at least two numbers", "give them as 10,20,30")
    reach = len(numbers) * FARTHEST + 8
    for start in range(0, max(source.size, 1), GROUP_CHUNK):
        part = MemorySource(source.read(start, min(start + GROUP_CHUNK + reach, source.size)))
        for hit in _groups(part, numbers):
            if hit.offset < GROUP_CHUNK:
                yield hit._replace(offset=hit.offset + start)


def _groups(source: Source, numbers: Sequence[int]) -> Iterator[Hit]:
    import numpy as np

    from faithful_ledger.core.scan import windows

    data = np.frombuffer(source.read(0, source.size), np.uint8)
    wanted = Counter(numbers)
    least, most, signed = min(numbers), max(numbers), min(numbers) < 0
    for storage in NUMBERS.values():
        if not isinstance(storage, Integer) or storage.dtype is None or storage.signed is not signed:
            continue
        if least >= storage.least and most <= storage.most and data.size >= storage.size:
            kind = np.dtype(storage.dtype)
            values = windows(data, kind)
            member = np.isin(values, np.array(sorted(wanted), dtype=kind.newbyteorder("=")))
            places = np.flatnonzero(member)
            for distance in range(storage.size, FARTHEST + 1):
                span = (len(numbers) - 1) * distance
                starts = places[places + span < values.size]
                for step in range(1, len(numbers)):
                    starts = starts[member[starts + step * distance]]
                for start in starts.tolist():
                    if Counter(values[start : start + span + 1 : distance].tolist()) == wanted:
                        yield Hit(start, storage.name, span + storage.size)


def parse_number(text: str) -> Fraction:
    """A number as people type it: decimal, a fraction with a point, or hexadecimal with 0x.

    Raises:
        ValueRefused: it is none.
    """
    cleaned = text.strip().replace("−", "-")
    number = Fraction(parse_whole(cleaned)) if cleaned.casefold().startswith("0x") else parse_decimal(cleaned)
    if number is None:
        raise ValueRefused(
            f"“{text[:40]}” is not a number that can be searched", "write it like 1340, -3, 12.5 or 0x53C"
        )
    return number


def parse_pattern(text: str) -> re.Pattern[bytes]:
    """Bytes in hexadecimal, ?? for any byte.

    Raises:
        ValueRefused: it is none, or nothing but wildcards.
    """
    words = text.split()
    if not words or not all(re.fullmatch(r"[0-9A-Fa-f]{2}|\?\?", word) for word in words):
        raise ValueRefused(f"“{text[:40]}” is not bytes in hexadecimal", "write it like 0A ?? FF")
    if all(word == "??" for word in words):
        raise ValueRefused("a pattern of nothing but wildcards is everywhere", "give at least one byte")
    parts = [b"." if word == "??" else re.escape(bytes.fromhex(word)) for word in words]
    return re.compile(b"(?=(" + b"".join(parts) + b"))", re.DOTALL)


def search_bytes(source: Source, text: str) -> Iterator[Hit]:
    """Every place where a pattern stands, overlapping ones too.

    Raises:
        ValueRefused: it is not a pattern.
    """
    pattern = parse_pattern(text)
    size = len(text.split())
    for start in range(0, source.size, CHUNK):
        data = bytes(source.read(start, start + CHUNK + size - 1))
        for match in pattern.finditer(data):
            if match.start() < CHUNK:
                yield Hit(start + match.start(), "bytes", size)


def _alone(source: Source, offset: int, size: int, step: int) -> bool:
    """Whether a run of digits of `step` bytes each is a number of its own and not part of a longer one."""
    around = bytes(source.read(max(offset - step, 0), offset))[:1] + bytes(
        source.read(offset + size, offset + size + 1)
    )
    return not any(48 <= byte <= 57 for byte in around)
