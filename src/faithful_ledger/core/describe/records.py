"""What a record in a list is made of: bytes, texts behind their length, and lists in it behind their number.

The texts show it. From one record to the next they are as far from each other, or farther by what a number between them
says: that is a list in the record, of texts as well or of so many bytes each. How far the next record is may also be
what a number in front of the text says.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping, Sequence
from itertools import islice, pairwise, product
from typing import NamedTuple, TypeAlias

from faithful_ledger.core.evidence.text_ends import TextEnd
from faithful_ledger.core.storage import NUMBERS

__all__ = [
    "COUNTS",
    "LONGEST",
    "MOST_RECORDS",
    "RUNS",
    "Block",
    "Chain",
    "Form",
    "Part",
    "Shape",
    "deep_shapes",
    "flat_shapes",
    "is_in_a_gap",
    "texts_from",
    "without_empty",
]

COUNTS = ("u32le", "u16le", "u8", "u16be", "u32be")  # storages of a number of records; one byte before two with a zero
ENCODINGS = {1: "utf-8", 2: "utf-16-le"}
RUNS = {
    1: re.compile(rb"[A-Za-z\xC3-\xF4][\x20-\x7E\x80-\xF4]{2,}"),
    2: re.compile(rb"[A-Za-z]\0(?:[\x20-\x7E]\0){2,}"),
}
LONGEST, LARGEST_GAP = 256, 256  # bytes of a text, and between two texts
MOST_IN_RECORD, MOST_RECORDS = 4, 5000  # texts in a record, and records
LARGEST_BLOCK, FARTHEST_SIZE = (
    4096,
    64,
)  # bytes of a list or block in a record, and how far in front of a text its size is
MOST_SEEN, LEAST_SEEN = 40, 3  # texts from which lists in records are known
SURE_BITS = 6.0  # beyond what may be chance


class Form(NamedTuple):
    """How a text says how long it is: the storage of its length, the bytes of what that counts, whether that counts a
    zero at the end, and the bytes of a letter.
    """

    prefix: str
    each: int
    zeros: int
    unit: int

    @property
    def width(self) -> int:
        return NUMBERS[self.prefix].least_size

    @property
    def encoding(self) -> str:
        return ENCODINGS[self.unit]

    @property
    def end(self) -> TextEnd:
        return TextEnd(self.prefix, self.each > 1, ended_by=bytes(self.zeros * self.unit))

    def raw(self, content: bytes, at: int) -> bytes | None:
        """What is behind the length at an offset; None where that says more than there is, or than a text has."""
        start = at + self.width
        if at < 0 or start > len(content):
            return None
        size = int(NUMBERS[self.prefix].decode(content[at:start])) * self.each
        raw = content[start : start + size] if size <= LONGEST else b""
        is_whole = size <= LONGEST and len(raw) == size
        return raw if is_whole and (not size or raw.endswith(bytes(self.zeros * self.unit))) else None

    def read(self, content: bytes, at: int) -> tuple[str, int] | None:
        """The text whose length is at an offset, and where it ends; None where there is none."""
        if (raw := self.raw(content, at)) is None:
            return None
        try:
            text = raw.removesuffix(bytes(self.zeros * self.unit)).decode(self.encoding)
        except UnicodeDecodeError:
            return None
        return (text, at + self.width + len(raw)) if not text or text.isprintable() else None


class Listed(NamedTuple):
    """Records behind their number."""

    count_as: str
    record: tuple[Part, ...]


class Block(NamedTuple):
    """What is behind a number that says how many bytes it has."""

    size_as: str
    parts: tuple[Part, ...]


Part: TypeAlias = "int | Form | Listed | Block"  # a number of bytes, or what says how many it takes


def _number_at(content: bytes, at: int, storage: str) -> int | None:
    """The number at an offset; None where there is none."""
    raw = content[at : at + NUMBERS[storage].least_size] if at >= 0 else b""
    return int(NUMBERS[storage].decode(raw)) if len(raw) == NUMBERS[storage].least_size else None


def _end_of(parts: Sequence[Part], content: bytes, at: int, gaps: list[tuple[int, int]] | None = None) -> int | None:
    """Where parts that begin at an offset end; None where they are not there. `gaps` takes the spans of the bytes that
    are neither texts nor numbers of something.
    """
    for part in parts:
        begin = at
        if isinstance(part, int):
            at += part
            if gaps is not None:
                gaps.append((begin, at))
        elif isinstance(part, Form):
            if (found := part.read(content, at)) is None:
                return None
            at = found[1]
        elif isinstance(part, Block):
            size = _number_at(content, at, part.size_as)
            at += NUMBERS[part.size_as].least_size
            inner = _end_of(part.parts, content, at, gaps)
            if size is None or inner is None or inner > at + size:
                return None
            at += size
            if gaps is not None:
                gaps.append((inner, at))
        else:
            count = _number_at(content, at, part.count_as)
            if count is None or count > MOST_RECORDS:
                return None
            at += NUMBERS[part.count_as].least_size
            for _ in range(count):
                if (end := _end_of(part.record, content, at, gaps)) is None:
                    return None
                at = end
    return at if at <= len(content) else None


def is_in_a_gap(record: Sequence[Part], content: bytes, at: int, span: tuple[int, int]) -> bool:
    """Whether bytes are between the texts of one of the records that begin at an offset."""
    end: int | None = at
    while end is not None and end <= span[0]:
        gaps: list[tuple[int, int]] = []
        at, end = end, _end_of(record, content, end, gaps)
        if any(low <= span[0] and span[1] <= high for low, high in gaps):
            return True
        if end == at:
            return False
    return False


class Shape(NamedTuple):
    """What a record is made of but for the bytes in front of its first part that shows, and behind its last one. These
    are `between` in all; the first text of the first record is `inside` bytes behind the first part.
    """

    parts: tuple[Part, ...]
    between: int
    inside: int = 0


class Chain:
    """Records of a shape that are one behind the other, the first of them at an offset."""

    def __init__(self, shape: Shape, content: bytes, at: int) -> None:
        self.shape, self.content = shape, content
        self._begins = [at]

    def begin(self, number: int) -> int:
        """Where the first part of a record begins that has so many in front of it; -1 where there are not as many."""
        while len(self._begins) <= number and (at := self._begins[-1]) >= 0:
            end = _end_of(self.shape.parts, self.content, at)
            self._begins.append(end + self.shape.between if end is not None else -1)
        return self._begins[min(number, len(self._begins) - 1)]

    def goes_on(self, number: int) -> bool:
        """Whether there seem to be more records, in which the first text is not empty."""
        return self.begin(number) >= 0 and bool(_first_text(self.shape.parts, self.content, self.begin(number)))


def _first_text(parts: Sequence[Part], content: bytes, at: int) -> str:
    """The first text of a record that would begin at an offset; empty where none is there."""
    for part in parts:
        if isinstance(part, Form):
            return (part.read(content, at) or ("",))[0]
        if isinstance(part, Block):
            return _first_text(part.parts, content, at + NUMBERS[part.size_as].least_size)
        at += part if isinstance(part, int) else 0
    return ""


class Text(NamedTuple):
    start: int
    end: int


def flat_shapes(form: Form, content: bytes, first: int) -> Iterator[Shape]:
    """Bytes and texts, as records may be of which the first one has its first text at an offset; few texts first."""
    texts = list(islice(_texts(form, content, first, LARGEST_GAP), MOST_IN_RECORD + 1))
    gaps = _gaps(texts, 0, len(texts))
    for many, between in enumerate(gaps):
        yield Shape(_joined(form, gaps[:many]), between)


def deep_shapes(form: Form, content: bytes, texts: Sequence[Text]) -> Iterator[Shape]:
    """Records with lists in them, or in blocks, of which the first one begins with the first of some texts."""
    if len(texts) > LEAST_SEEN:
        yield from _with_list(form, content, texts)
        yield from _with_texts_in_list(form, content, texts)
        yield from _in_blocks(form, content, texts)


def texts_from(form: Form, content: bytes, at: int) -> list[Text]:
    """The text whose length is at an offset, and some of those behind it."""
    return list(islice(_texts(form, content, at, LARGEST_BLOCK), MOST_SEEN))


def _joined(form: Form, gaps: Sequence[int]) -> tuple[Part, ...]:
    """Texts with so many bytes between them."""
    parts: list[Part] = [form]
    for gap in gaps:
        parts += [*without_empty(gap), form]
    return tuple(parts)


def without_empty(*parts: Part) -> tuple[Part, ...]:
    return tuple(part for part in parts if part != 0)


def _texts(form: Form, content: bytes, at: int, reach: int) -> Iterator[Text]:
    """Texts from one at an offset on, of which each is no more than so many bytes behind the one before."""
    while (found := form.read(content, at)) is not None and found[0]:
        yield Text(at, found[1])
        runs = RUNS[form.unit].finditer(content, found[1], found[1] + reach)
        starts = (run.start() - form.width for run in runs)
        following = (start for start in starts if start >= found[1] and (form.read(content, start) or ("",))[0])
        at = next(following, -1)


def _with_list(form: Form, content: bytes, texts: Sequence[Text]) -> Iterator[Shape]:
    """Records with a list of so many bytes each behind their texts: a number there explains how far the next one is."""
    for many in range(1, MOST_IN_RECORD):
        heads = texts[::many]
        for window in range(0, len(heads) - LEAST_SEEN, LEAST_SEEN):
            seen = heads[window : window + LEAST_SEEN + 1]
            lasts = texts[(window + 1) * many - 1 :: many][:LEAST_SEEN]
            far = [after.start - last.end for after, last in zip(seen[1:], lasts, strict=False)]
            inner = _gaps(texts, window * many, many)
            if any(_gaps(texts, (window + each) * many, many) != inner for each in range(len(far))):
                continue
            low, high = far.index(min(far)), far.index(max(far))
            for name, step in product(COUNTS, range(far[low])) if far[low] < far[high] else ():
                numbers = [_number_at(content, last.end + step, name) or 0 for last in lasts]
                size, over = divmod(far[high] - far[low], max(numbers[high] - numbers[low], 1))
                rests = {
                    apart - step - NUMBERS[name].least_size - n * size for apart, n in zip(far, numbers, strict=True)
                }
                if numbers[high] > numbers[low] and not over and len(rests) == 1 and min(rests) >= 0:
                    listed = Listed(name, (size,))
                    yield Shape((*_joined(form, inner), *without_empty(step), listed), min(rests))


def _gaps(texts: Sequence[Text], first: int, many: int) -> list[int]:
    """How far some texts are behind each other."""
    return [after.start - before.end for before, after in pairwise(texts[first : first + many])]


def _with_texts_in_list(form: Form, content: bytes, texts: Sequence[Text]) -> Iterator[Shape]:
    """Records with a list behind their texts in which every record has texts as well."""
    gaps = _gaps(texts, 0, len(texts))
    for many, inner, name in product(range(1, 3), range(1, 3), COUNTS):
        for step in range(min(gaps[many - 1], LARGEST_GAP)):
            known = _solved(content, texts, many, inner, step, name)
            if known is None:
                continue
            front = known["into"] - step - NUMBERS[name].least_size
            behind = known["on"] - front
            rest = known["out"] - behind
            if min(front, behind, rest) >= 0:
                names = _joined(form, [known[f"name {n}"] for n in range(1, many)])
                items = _joined(form, [known[f"item {n}"] for n in range(1, inner)])
                listed = Listed(name, without_empty(front, *items, behind))
                yield Shape((*names, *without_empty(step), listed), rest)


def _solved(
    content: bytes, texts: Sequence[Text], many: int, inner: int, step: int, name: str
) -> Mapping[str, int] | None:
    """How far texts are apart in records with so many texts and, in a list behind these, so many in each; None where a
    number so many bytes behind the last of the former does not say how many follow.
    """
    names, item = ([f"{kind} {n}" for n in range(1, most)] for kind, most in (("name", many), ("item", inner)))
    sure, known, at, records = dict[str, int](), dict[str, int](), 0, 0
    while at + many <= len(texts):
        count = _number_at(content, texts[at + many - 1].end + step, name)
        if count is None or count > len(texts):
            break
        kinds = [*names, "into", *item, *["on", *item] * (count - 1), "out"] if count else [*names, "none"]
        apart = _gaps(texts, at, len(kinds) + 1)
        pairs = list(zip(kinds, apart, strict=False))
        if len(pairs) < len(kinds) or any(known.setdefault(kind, gap) != gap for kind, gap in pairs):
            break
        if {"into", "out", "none"} <= set(known):
            through = known["into"] + known["out"]
            if known.setdefault("on", through - known["none"]) != through - known["none"]:
                break  # what seems to follow the last record is no record
        sure, at, records = dict(known), at + len(kinds), records + 1
    return sure if records >= LEAST_SEEN and {"into", "on", "out"} <= set(sure) else None


def _in_blocks(form: Form, content: bytes, texts: Sequence[Text]) -> Iterator[Shape]:
    """Records of which a number in front of the first text says how many bytes are behind it."""
    starts = {text.start for text in texts}
    first = texts[0].start
    apart = math.log2(
        (texts[-1].start - first) / (len(texts) - 1)
    )  # bits that it says that a text is where it should be
    for name in COUNTS:
        width = NUMBERS[name].least_size
        for inside in range(width, min(FARTHEST_SIZE, first) + 1):
            size = _number_at(content, first - inside, name) or 0
            for text in texts[1:] if 0 < size <= LARGEST_BLOCK else ():
                front = text.start - first - size - width
                if not 0 <= front <= LARGEST_GAP:
                    continue
                seen = _go_on(content, starts, first, inside, name, width + front)
                by_chance = math.log2(len(COUNTS) * inside * (front + 1))
                if len(set(seen)) > 1 and len(seen) > LEAST_SEEN and (len(seen) - 1) * apart > by_chance + SURE_BITS:
                    yield Shape((Block(name, (*without_empty(inside - width), form)),), front, inside)


def _go_on(content: bytes, starts: set[int], at: int, inside: int, name: str, beside: int) -> list[int]:
    """The sizes of records of which the next one is where the size of the one before says."""
    sizes = list[int]()
    while at in starts and (size := _number_at(content, at - inside, name)) is not None:
        sizes.append(size)
        at += size + beside
    return sizes
