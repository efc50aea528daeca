"""Where a seal may be stored: bytes, or digits, that differ between saves."""

from __future__ import annotations

import base64
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import islice
from typing import Any, Final, NamedTuple, TypeAlias, TypeVar

import numpy as np

__all__ = [
    "DECIMAL",
    "DIGITS",
    "VARIABLE",
    "Edge",
    "Place",
    "alike",
    "apart",
    "changed_offsets",
    "is_text",
    "numbered",
    "places",
    "restless_runs",
    "span_of",
]

Array: TypeAlias = np.ndarray[Any, Any]
T = TypeVar("T")
WIDTHS = (4, 2, 8, 3, 1)
MIXED = 3  # values that each byte of a checksum has in four saves, all but surely
NATURAL_HEAD, NATURAL_TAIL = 64, 64
AROUND, SMALLEST_BLOCK = 8, 512  # bytes around a place; and of blocks that end with a checksum
MOST, USUAL = 4000, 256
FEWEST = 100  # of each form
HEX = re.compile(rb"[0-9a-f]{4,}"), re.compile(rb"[0-9A-F]{4,}")
VARIABLE: Final = "uleb128"
LONG_NUMBER = re.compile(rb"[\x80-\xff]{0,9}[\0-\x7f]")
DECIMAL = frozenset(("decimal", "signed"))
WHOLE = re.compile(rb"(?<![0-9.])(?:(?<![0-9A-Za-z)\]])-)?[0-9]{3,20}(?![0-9.])")
DIGITS, LAST_DIGITS, LONGEST = re.compile(rb"-?[0-9]+"), re.compile(rb"-?[0-9]+\Z"), 24
BASE64 = re.compile(
    rb"(?<![A-Za-z0-9+/=])(?:[A-Za-z0-9+/]{6}==|[A-Za-z0-9+/]{3}=|[A-Za-z0-9+/]{11}=)(?![A-Za-z0-9+/=])"
)
IN_TEXTS = bytes((9, 10, 13, *range(32, 127), *range(128, 256)))
DIGIT_BITS = {4: 16, 8: 32, 12: 48, 16: 64}


class Edge(NamedTuple):
    """A place in files of any size: an offset from their beginning, or how far in front of their end."""

    offset: int
    from_end: bool = False

    def at(self, size: int) -> int:
        return size - self.offset if self.from_end else self.offset

    def moved(self, by: int) -> Edge:
        """So many bytes nearer to the end."""
        return self._replace(offset=self.offset - by if self.from_end else self.offset + by)


class Place(NamedTuple):
    """`size` bytes that hold a number of `bits`, in a form: u16le … u64be, hex, HEX, decimal, base64. `values` are
    those of the saves. It is `mixed` if every byte of it has several values in the saves, as in a checksum that mixes
    well, and `restless` if its lowest one has, as in a sum, or if it is mixed.
    """

    edge: Edge
    size: int
    form: str
    bits: int
    values: tuple[int, ...]
    mixed: bool
    restless: bool


def span_of(edge: Edge, size: int, form: str, content: bytes) -> tuple[int, int]:
    """Where what is stored at an edge begins and ends. A number of variable length takes what it has, and a decimal
    one as many digits as it has, up to the same place from the end of the file where it is counted from there.
    """
    at = edge.at(len(content))
    end = at + size
    if form == VARIABLE and 0 <= at < len(content) and not edge.from_end:
        match = LONG_NUMBER.match(content, at)
        return match.span() if match is not None else (at, end)
    if form not in DECIMAL or at < 0:
        return at, end
    if not edge.from_end:
        match = DIGITS.match(content, at)
        return match.span() if match is not None else (at, end)
    last = LAST_DIGITS.search(content[max(end - LONGEST, 0) : end])
    return (end - len(last[0]) if last is not None else at), end


def apart(items: Iterable[T], span: Callable[[T], tuple[int, int]]) -> list[T]:
    """The items of which none overlaps one in front of it; `span` says which bytes each takes."""
    kept: list[T] = []
    taken: list[tuple[int, int]] = []
    for item in items:
        low, high = span(item)
        if not any(low < end and start < high for start, end in taken):
            kept.append(item)
            taken.append((low, high))
    return kept


def changed_offsets(contents: Sequence[bytes]) -> Array:
    """The offsets at which saves of one size differ."""
    arrays = [np.frombuffer(content, np.uint8) for content in contents]
    differs = np.zeros(arrays[0].size, bool)
    for other in arrays[1:]:
        differs |= other != arrays[0]
    return np.flatnonzero(differs)


def restless_runs(contents: Sequence[bytes], size: int) -> tuple[Array, Array]:
    """The offsets from which on nearly all of so many bytes differ between saves of one size, and whether each does."""
    varies = np.zeros(len(contents[0]), bool)
    varies[changed_offsets(contents)] = True
    total = np.concatenate(([0], np.cumsum(varies, dtype=np.int64)))
    return np.flatnonzero(total[size:] - total[:-size] >= size - 1), varies


def numbered(saves: Array) -> Array:
    """What stands at each offset in all saves, a row for each, as one number that is another for other bytes."""
    found = np.zeros(saves.shape[1], np.uint64)
    for row in saves:
        found = (found ^ row) * np.uint64(0x9E3779B97F4A7C15)
        found ^= found >> np.uint64(29)
    return found


def alike(contents: Sequence[bytes]) -> bool:
    """Whether saves have one size, so that every edge is at the same offset."""
    return len(set(map(len, contents))) == 1


def places(contents: Sequence[bytes], at: int | None = None) -> list[Place]:
    """Places that may hold a seal, the likeliest first; with `at` only those at this offset of the first save. In texts
    these are numbers in letters.
    """
    plain = all(map(is_text, contents))
    found: dict[tuple[int, bool, int, str, int], Place] = {}
    for from_end in (False, True):
        if from_end and alike(contents):
            break
        for place in _in_order(contents, from_end=from_end, in_bytes=not plain):
            key = (*place.edge, place.size, place.form, place.bits)
            if at is None or place.edge.at(len(contents[0])) == at:
                found.setdefault(key, place)
    shortest = min(map(len, contents))
    changed = changed_offsets([content[:shortest] for content in contents])
    ranked = sorted(found.values(), key=lambda place: _rank(place, contents, changed))
    if at is not None or len(ranked) <= MOST:
        return ranked
    rest: dict[str, list[Place]] = {}
    for place in ranked[MOST:]:
        rest.setdefault(place.form, []).append(place)
    return ranked[:MOST] + [place for each in rest.values() for place in each[:FEWEST]]


def is_text(content: bytes) -> bool:
    """Whether all of it is text in UTF-8, in which no number is stored as bytes."""
    if content.translate(None, IN_TEXTS):
        return False
    try:
        content.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True


def _in_order(contents: Sequence[bytes], *, from_end: bool, in_bytes: bool) -> Iterator[Place]:
    shortest = min(map(len, contents))
    cut = [content[len(content) - shortest :] if from_end else content[:shortest] for content in contents]
    if in_bytes:
        yield from _in_bytes(cut, shortest, from_end)
    yield from _spelled(cut, shortest, from_end)


def _in_bytes(cut: Sequence[bytes], shortest: int, from_end: bool) -> Iterator[Place]:
    """Numbers of each width, in either order."""
    arrays = np.stack([np.frombuffer(content, np.uint8) for content in cut])
    varies = (arrays != arrays[0]).any(axis=0) if len(cut) > 1 else np.ones(shortest, bool)
    ordered = np.sort(arrays, axis=0)
    kinds = 1 + (ordered[1:] != ordered[:-1]).sum(axis=0)
    wanted = min(len(cut), MIXED)
    restless = kinds >= wanted
    several = np.where(kinds >= min(wanted, 2), np.minimum(kinds, wanted), 0)
    total = np.concatenate(([0], np.cumsum(several)))
    for width in WIDTHS:
        if shortest < width:
            continue
        fewer = width > 1 and len(cut) == MIXED  # of three values of a byte two are the same now and then
        mixed = total[width:] - total[:-width] >= width * wanted - fewer
        for order in ("le", "be") if width > 1 else ("le",):
            least = 0 if order == "le" else width - 1  # the byte that counts least differs in a sum as in a checksum
            offsets = np.flatnonzero(varies[least : shortest - width + 1 + least])
            if offsets.size > MOST:  # everything differs: only the usual places are left
                offsets = offsets[(offsets < USUAL) | (offsets >= shortest - USUAL)]
            for offset in offsets.tolist():
                raws = [content[offset : offset + width] for content in cut]
                if width > 1 < len(raws) and all(raw == raw[:1] * width for raw in raws):
                    continue  # what is filled is a sum of what is filled nearby
                values = tuple(int.from_bytes(raw, "little" if order == "le" else "big") for raw in raws)
                name = f"u{8 * width}{order}" if width > 1 else "u8"
                edge = _edge(offset, shortest, from_end)
                is_mixed = bool(mixed[offset])
                yield Place(edge, width, name, 8 * width, values, is_mixed, is_mixed or bool(restless[offset + least]))


def _edge(offset: int, shortest: int, from_end: bool) -> Edge:
    return Edge(shortest - offset, True) if from_end else Edge(offset)


def _spelled(cut: Sequence[bytes], shortest: int, from_end: bool) -> Iterator[Place]:
    """Numbers in letters that differ between the saves."""
    yield from _decimals(cut, shortest, from_end)
    for pattern, form in (*((each, "hex") for each in HEX), (BASE64, "base64")):
        spans = [match.span() for match in pattern.finditer(cut[0])][:MOST]
        if form == "hex":  # at either end of a run of digits
            runs = [(low, high, n) for low, high in spans for n in DIGIT_BITS if high - low >= n]
            spans = list(dict.fromkeys(span for low, high, n in runs for span in ((low, low + n), (high - n, high))))
        for start, end in spans:
            texts = [content[start:end] for content in cut]
            if len(cut) > 1 and len(set(texts)) < 2:
                continue
            values = [_number(text, form) for text in texts]
            if any(value is None for value in values):
                continue
            upper = form == "hex" and any(text.upper() == text and not text.isdigit() for text in texts)
            bits = DIGIT_BITS.get(end - start, 0)
            if form == "base64":
                bits = 8 * len(base64.b64decode(texts[0]))
            edge = _edge(start, shortest, from_end)
            known = tuple(v for v in values if v is not None)
            differ = len(set(texts)) == len(texts)
            yield Place(edge, end - start, "HEX" if upper else form, bits, known, differ, differ)


def _decimals(cut: Sequence[bytes], shortest: int, from_end: bool) -> Iterator[Place]:
    """Decimal numbers that differ between the saves, of as many digits as each has."""
    for match in islice(WHOLE.finditer(cut[0]), MOST):
        start, size = match.start(), match.end() - match.start()
        edge = _edge(start, shortest, from_end)
        spans = [span_of(edge, size, "decimal", content) for content in cut]
        texts = [content[low:high] for content, (low, high) in zip(cut, spans, strict=True)]
        if (len(cut) > 1 and len(set(texts)) < 2) or not all(DIGITS.fullmatch(text) for text in texts):
            continue
        numbers = list(map(int, texts))
        signed = min(numbers) < 0
        wide = 64 if max(numbers) >> 32 or min(numbers) < -(1 << 31) else 32
        if max(map(abs, numbers)) >> 64:
            continue
        values = tuple(number + (1 << wide) if number < 0 else number for number in numbers)
        differ = len(set(texts)) == len(texts)
        for bits in (wide, 16) if max(values) >> 16 == 0 else (wide,):
            yield Place(edge, size, "signed" if signed else "decimal", bits, values, differ, differ)


def _number(text: bytes, form: str) -> int | None:
    try:
        if form == "base64":
            return int.from_bytes(base64.b64decode(text, validate=True), "big")
        return int(text, 16) if text.isalnum() else None  # a sign or a blank in another save is no digit
    except ValueError:
        return None


def _is_alone(at: int, size: int, changed: Array) -> bool:
    """Whether hardly a byte around a place changes, as around a checksum behind a part of a save that is hidden."""
    before, here, behind, end = np.searchsorted(changed, (at - AROUND, at, at + size, at + size + AROUND))
    return bool(here - before + end - behind <= 1)


def _rank(place: Place, contents: Sequence[bytes], changed: Array) -> tuple[float, int, int]:
    """Checksums look like noise, and are usually near the beginning or the end of a save or of a block of it, at a
    multiple of their size, and apart from other bytes that change.
    """
    size = len(contents[0])
    at = place.edge.at(size)
    noise = 0.0
    if place.bits >= 16:
        digits = [value.to_bytes((place.bits + 7) // 8, "big") for value in place.values if value >> place.bits == 0]
        columns = list(zip(*digits, strict=True)) if digits else []
        noise = sum(len(set(column)) > 1 for column in columns) / max(len(columns), 1)
        highest = max(place.values).bit_length() / place.bits
        noise += 0.5 * min(highest, 1.0)
    points = 2 * noise + place.mixed + (place.form not in DECIMAL) * 0.2
    points += 0.8 if at < NATURAL_HEAD or at >= size - NATURAL_TAIL else 0.0
    points += 1.0 if at in (0, size - place.size) else 0.0
    points += 0.3 if at % place.size == 0 else 0.0
    points += 0.6 if at % SMALLEST_BLOCK == 0 or (at + place.size) % SMALLEST_BLOCK == 0 else 0.0
    points += 0.6 if at + place.size <= min(map(len, contents)) and _is_alone(at, place.size, changed) else 0.0
    points += {32: 0.4, 16: 0.2, 64: 0.1}.get(place.bits, 0.0)
    points += place.restless
    points -= place.edge.from_end and place.edge.offset > size // 2  # counted from the end that is farther
    return -points, at, place.size
