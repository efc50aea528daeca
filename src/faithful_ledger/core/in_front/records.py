"""What a record in a list is made of: bytes, texts behind their length, lists behind their number, and blocks behind
their size; and where each part of it is.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from itertools import pairwise
from typing import NamedTuple, TypeAlias

from faithful_ledger.core.in_front.text_ends import LETTERS, TextEnd
from faithful_ledger.core.storage import NUMBERS, number_at

__all__ = [
    "COUNTS",
    "LONGEST",
    "MOST_RECORDS",
    "RUNS",
    "Block",
    "Chain",
    "Form",
    "Listed",
    "Part",
    "Shape",
    "is_in_a_gap",
    "without_empty",
]

COUNTS = ("u32le", "u16le", "u8", "u16be", "u32be")  # storages of a number of records; one byte before two with a zero
ENCODINGS = {1: "utf-8", 2: "utf-16-le"}
RUNS = {
    1: LETTERS,
    2: re.compile(rb"[A-Za-z]\0(?:[\x20-\x7E]\0){2,}"),
}
LONGEST, MOST_RECORDS = 256, 5000  # bytes of a text, and records
LEAST_TEXT, LEAST_PASSED, MUCH = 3, 2, 4  # letters of a text; records that pass one by, at least and one of so many


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
        number = number_at(content, at, self.prefix)
        if number is None or (size := number * self.each) > LONGEST:
            return None
        raw = content[at + self.width : at + self.width + size]
        return raw if len(raw) == size and (not size or raw.endswith(bytes(self.zeros * self.unit))) else None

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


def without_empty(*parts: Part) -> tuple[Part, ...]:
    return tuple(part for part in parts if part != 0)


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
            size = number_at(content, at, part.size_as)
            at += NUMBERS[part.size_as].least_size
            inner = _end_of(part.parts, content, at, gaps)
            if size is None or inner is None or inner > at + size:
                return None
            at += size
            if gaps is not None:
                gaps.append((inner, at))
        else:
            count = number_at(content, at, part.count_as)
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

    def passes_by_texts(self, number: int) -> bool:
        """Whether many of the first records have a text between their parts: then these are hardly what they are."""
        form = next((part for part in self.shape.parts if isinstance(part, Form)), None)
        if form is None:
            return False
        passing = 0
        for begin, after in pairwise(map(self.begin, range(number + 1))):
            gaps: list[tuple[int, int]] = []
            end = _end_of(self.shape.parts, self.content, begin, gaps)
            gaps += [(end, after)] if end is not None else []
            passing += any(_has_text(form, self.content, *gap) for gap in gaps)
        return passing >= max(LEAST_PASSED, number // MUCH)

    def goes_on(self, number: int) -> bool:
        """Whether there seem to be more records, in which the first text is not empty."""
        return self.begin(number) >= 0 and bool(_first_text(self.shape.parts, self.content, self.begin(number)))


def _has_text(form: Form, content: bytes, low: int, high: int) -> bool:
    """Whether there is a text with its length in front between two offsets."""
    begins = (run.start() for run in RUNS[form.unit].finditer(content, low + form.width, high))
    found = (form.read(content, begin - form.width) for begin in begins)
    return any(text is not None and len(text[0]) >= LEAST_TEXT and text[1] <= high for text in found)


def _first_text(parts: Sequence[Part], content: bytes, at: int) -> str:
    """The first text of a record that would begin at an offset; empty where none is there."""
    for part in parts:
        if isinstance(part, Form):
            return (part.read(content, at) or ("",))[0]
        if isinstance(part, Block):
            return _first_text(part.parts, content, at + NUMBERS[part.size_as].least_size)
        at += part if isinstance(part, int) else 0
    return ""
