"""What is written in front of a place, one behind the other: texts with their length in front, and records with their
number in front.

Texts are found by the length that ends them, records by the texts in them: the next one is as far behind the one before
in each of them, and a number in front says how many there are. All saves have to say so, with numbers and lengths of
their own. Records without texts are found where their number is another one in each save, and what is behind moves with
it.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping, Sequence
from itertools import product
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.describe.alike import COUNTS, LARGEST_RECORD, MOST_RECORDS, numbers_in, records_alike
from faithful_ledger.core.evidence.text_ends import FIXED, TextEnd, text_end
from faithful_ledger.core.storage import NUMBERS

__all__ = ["FARTHEST", "CountedRows", "Element", "LeadingText", "in_front"]

Array: TypeAlias = np.ndarray[Any, Any]
ENCODINGS = {1: "utf-8", 2: "utf-16-le"}
RUNS = {
    1: re.compile(rb"[A-Za-z\xC3-\xF4][\x20-\x7E\x80-\xF4]{2,}"),
    2: re.compile(rb"[A-Za-z]\0(?:[\x20-\x7E]\0){2,}"),
}
# Storages of a length, the bytes of what it counts, and whether it counts a zero at the end.
FORMS = tuple(product(FIXED, (1, 2), (0, 1)))
ASCII, LATIN = "\x7e", "\u024f"  # the last letters of scripts, as most texts have them
ENDS_OF_LINES, LINE_ENDS = (9, 10, 13), "\t\n\r"  # which are no lengths between lines
LEAST_ALNUM = 0.6  # of a text; the rest may be blanks and signs
LEAST_BEHIND_WIDE = 3  # letters behind a length of several bytes
LEAST_LETTERS, LEAST_ALONE = 4, 6  # letters behind a length of one byte, where other saves agree, and in one save alone
FEW_BY_CHANCE, LETTER_BITS = 1024, 1.4  # bytes of noise; and bits that a letter says in it
LONGEST, FARTHEST = 256, 1 << 16  # bytes of a text, and bytes that are looked at
MOST_IN_RECORD, LARGEST_GAP = 4, 256  # texts in a record, and bytes between two texts
FARTHEST_COUNT = 4096  # bytes
LEAST_SIZES, SURE_SIZES = 3, 4  # distances that a number of records explains; so many are hardly chance


class LeadingText(NamedTuple):
    """A text behind its length: where that begins in the first save, their bytes together, and how the text ends."""

    start: int
    size: int
    encoding: str
    end: TextEnd


class Form(NamedTuple):
    """How the texts of records say how long they are."""

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

    def read(self, content: bytes, at: int) -> tuple[str, int] | None:
        """The text whose length is at an offset, and where it ends; None where there is none."""
        start, closing = at + self.width, bytes(self.zeros * self.unit)
        size = int(NUMBERS[self.prefix].decode(content[at:start])) * self.each if start <= len(content) else LONGEST + 1
        raw = content[start : start + size] if size <= LONGEST else b""
        if size > LONGEST or len(raw) < size or (size and not raw.endswith(closing)):
            return None
        try:
            text = raw.removesuffix(closing).decode(self.encoding)
        except UnicodeDecodeError:
            return None
        return (text, start + size) if not text or text.isprintable() else None


class CountedRows(NamedTuple):
    """Records behind their number: where that begins in the first save, how many bytes both take, the storage of the
    number, and what a record is: bytes and texts in turns. `gaps` are the bytes in front of each text and behind the
    last one; without a `form` there is no text in it.
    """

    start: int
    size: int
    count_as: str
    gaps: tuple[int, ...]
    form: Form | None = None

    def end_in(self, content: bytes, at: int, count: int) -> int | None:
        """Where so many records end that begin at an offset; None where there are not as many."""
        if self.form is None:
            return at + count * self.gaps[0]
        for _ in range(count):
            for gap in self.gaps[:-1]:
                if (found := self.form.read(content, at + gap)) is None:
                    return None
                at = found[1]
            at += self.gaps[-1]
        return at if at <= len(content) else None

    def is_in_a_gap(self, content: bytes, at: int, span: tuple[int, int]) -> bool:
        """Whether bytes are between the texts of one of the records that begin at an offset."""
        while self.form is not None and at <= span[0]:
            for gap in self.gaps[:-1]:
                if at <= span[0] and span[1] <= at + gap:
                    return True
                if (found := self.form.read(content, at + gap)) is None:
                    return False
                at = found[1]
            if at <= span[0] and span[1] <= at + self.gaps[-1]:
                return True
            at += self.gaps[-1]
        return False

    def goes_on(self, content: bytes, at: int) -> bool:
        """Whether one more record with a text in it is there."""
        found = self.form.read(content, at + self.gaps[0]) if self.form is not None else None
        return found is not None and bool(found[0])


Element: TypeAlias = "LeadingText | CountedRows"


def in_front(
    contents: Sequence[bytes], starts: Sequence[int], lasts: Sequence[int | None], place: tuple[int, int]
) -> tuple[list[Element], list[int]]:
    """The texts and records in some saves, from an offset in each to the last place that is known in it, one behind the
    other; and where the last of them ends in each. The elements have the offsets of the first save, and begin in front
    of a place there; of those that go on behind it only records are given.
    """
    walk, found = _Walk(contents, starts, lasts, place), list[Element]()
    for each in walk.elements():
        if each.start >= place[0] or (each.start + each.size > place[0] and isinstance(each, LeadingText)):
            break
        found.append(each)
    return found, walk.ends


class _Walk:
    """From element to element in all saves at once, between which there are as many bytes in each."""

    def __init__(
        self, contents: Sequence[bytes], starts: Sequence[int], lasts: Sequence[int | None], place: tuple[int, int]
    ) -> None:
        self.place = place
        self.contents = [content[:last] for content, last in zip(contents, lasts, strict=True)]
        self.whole = contents
        self.parts = {j: np.frombuffer(content, np.uint8) for j, content in enumerate(contents)}
        self.ends = list(starts)
        self.lasts = lasts
        reach = [len(content) - start for content, start in zip(self.contents, starts, strict=True)]
        # Of a list in which other saves have nothing the one with most in front shows the most.
        self.guide = reach.index(max(reach)) if None not in lasts else 0

    def elements(self) -> Iterator[Element]:
        for at, unit in _beginnings(self.contents[self.guide]):
            step, before = at - self.ends[self.guide], self.ends
            if step >= 0:
                where = [end + step for end in before]
                if (found := self._rows_at(where, unit) or self._text_at(where, unit)) is not None:
                    if (rows := self._rows_alike(before, found.start - before[0])) is not None:
                        yield rows
                    yield found
            if self.ends[0] >= self.place[0]:
                return
        size = self.place[0] - self.ends[0]
        if (rows := self._rows_without_texts() or self._rows_alike(self.ends, size)) is not None:
            yield rows

    def _text_at(self, where: Sequence[int], unit: int) -> LeadingText | None:
        for prefix, each, zeros in FORMS:
            if each > unit:
                continue
            raws = [
                _text(content, here, prefix, each, zeros * unit)
                for content, here in zip(self.contents, where, strict=True)
            ]
            if not all(raws) or not _convinces(self.whole, where, raws, prefix, unit):
                continue
            end = text_end(self.parts, where, dict(enumerate(raws)), unit)
            if end.prefix and end.room is None:
                width = NUMBERS[end.prefix].least_size
                self.ends = [here + len(raw) + len(end.ended_by) for here, raw in zip(where, raws, strict=True)]
                return LeadingText(where[0] - width, self.ends[0] - where[0] + width, ENCODINGS[unit], end)
        return None

    def _rows_at(self, where: Sequence[int], unit: int) -> CountedRows | None:
        """Records of which the first text begins at these offsets; in front of the place rather than around it."""
        around: tuple[CountedRows, list[int]] | None = None
        for form in (Form(*form, unit) for form in FORMS if form[1] <= unit):
            first = where[self.guide] - form.width
            for inner, between in self._shapes(form, first):
                for front, name in product(range(between + 1), COUNTS):
                    rows = CountedRows(0, 0, name, (front, *inner, between - front), form)
                    begins = [at - form.width - front for at in where]
                    if (ends := self._counted(rows, begins)) is None:
                        continue
                    if ends[0] <= self.place[0]:
                        self.ends = ends
                        return _placed(rows, begins[0], ends[0])
                    if around is None and rows.is_in_a_gap(self.contents[0], begins[0], self.place):
                        around = _placed(rows, begins[0], ends[0]), ends
        if around is not None:
            self.ends = around[1]
        return around[0] if around is not None else None

    def _shapes(self, form: Form, first: int) -> Iterator[tuple[tuple[int, ...], int]]:
        """The bytes between the texts of a record, and those from its last text to the first one of the next record."""
        content, gaps, at = self.contents[self.guide], list[int](), first
        while len(gaps) < MOST_IN_RECORD and (found := form.read(content, at)) is not None and found[0]:
            behind = found[1]
            runs = RUNS[form.unit].finditer(content, behind, behind + LARGEST_GAP)
            starts = (run.start() - form.width for run in runs)
            texts = (start for start in starts if start >= behind and (form.read(content, start) or ("",))[0])
            if (following := next(texts, None)) is None:
                return
            gaps.append(following - behind)
            yield tuple(gaps[:-1]), gaps[-1]
            at = following

    def _counted(self, rows: CountedRows, begins: Sequence[int]) -> list[int] | None:
        """Where these records end, if the number in front of them says in every save how many there are."""
        numbers = _numbers(self.contents, rows.count_as, begins, self.ends)
        most = numbers[self.guide] if numbers else 0
        if not 2 <= most <= max(numbers, default=0) <= MOST_RECORDS:
            return None
        ends = []
        for content, begin, number in zip(self.contents, begins, numbers, strict=True):
            if (end := rows.end_in(content, begin, number)) is None:
                return None
            ends.append(end)
        if len(set(numbers)) == 1:  # then only how many there are says that it is a number of records
            here = self.guide
            if rows.goes_on(self.contents[here], ends[here]) or (most == 2 and rows.gaps[0]):
                return None
        return ends

    def _rows_without_texts(self) -> CountedRows | None:
        """Records whose number explains how far the last place is behind all that was found; where only few saves say
        so, no other number may explain it as well.
        """
        known = [j for j, last in enumerate(self.lasts) if last is not None]
        far = {j: len(self.contents[j]) - self.ends[j] for j in known}
        sizes = len(set(far.values()))
        if sizes < LEAST_SIZES or min(far.values()) < 0:
            return None
        found: dict[int, tuple[int, str, int]] = {}
        for name in COUNTS:
            for step, size in self._explaining(name, far):
                lowest = step - (NUMBERS[name].least_size if name.endswith("le") else 1)
                found.setdefault(lowest, (step, name, size))
        if not found or (sizes < SURE_SIZES and len(found) > 1):
            return None
        step, name, size = found[min(found)]
        begins = [end + step for end in self.ends]
        numbers = _numbers(self.contents, name, begins, self.ends)
        if not numbers:
            return None
        self.ends = [begin + number * size for begin, number in zip(begins, numbers, strict=True)]
        return _placed(CountedRows(0, 0, name, (size,)), begins[0], self.ends[0])

    def _explaining(self, name: str, far: Mapping[int, int]) -> Iterator[tuple[int, int]]:
        """Where records would begin, and the bytes of one, so that all saves are as far behind the last one."""
        least, most = min(far, key=far.__getitem__), max(far, key=far.__getitem__)
        reach = min(far[least], FARTHEST_COUNT)
        parts = [self.parts[j][self.ends[j] : self.ends[j] + reach] for j in far]
        numbers = dict(zip(far, numbers_in(parts, name), strict=True))
        more = numbers[most] - numbers[least]
        sizes = (far[most] - far[least]) // np.maximum(more, 1)
        steps = np.arange(more.size) + NUMBERS[name].least_size
        rests = np.stack([far[j] - steps - numbers[j] * sizes for j in far])
        fits = (more > 0) & (sizes > 0) & (sizes <= LARGEST_RECORD) & (rests == rests[0]).all(axis=0) & (rests[0] >= 0)
        return zip(steps[fits].tolist(), sizes[fits].tolist(), strict=True)

    def _rows_alike(self, starts: Sequence[int], size: int) -> CountedRows | None:
        """Records of numbers within so many bytes."""
        found = records_alike([self.parts[j][start:] for j, start in enumerate(starts)], size)
        if found is None:
            return None
        rows = CountedRows(0, 0, found.count_as, (found.stride,))
        return _placed(rows, starts[0] + found.begin, starts[0] + found.end)


def _placed(rows: CountedRows, begin: int, end: int) -> CountedRows:
    start = begin - NUMBERS[rows.count_as].least_size
    return rows._replace(start=start, size=end - start)


def _numbers(contents: Sequence[bytes], name: str, behind: Sequence[int], floors: Sequence[int]) -> list[int]:
    """What directly in front of some offsets says in each save; nothing where that would begin before the floor."""
    storage = NUMBERS[name]
    starts = [end - storage.least_size for end in behind]
    if any(start < floor for start, floor in zip(starts, floors, strict=True)):
        return []
    raws = [content[start:end] for content, start, end in zip(contents, starts, behind, strict=True)]
    return [int(storage.decode(raw)) for raw in raws] if all(len(raw) == storage.least_size for raw in raws) else []


def _beginnings(data: bytes) -> list[tuple[int, int]]:
    """Where a text may begin, and the bytes of each of its letters."""
    runs = [(match.start(), unit) for unit, run in RUNS.items() for match in run.finditer(data)]
    return sorted(runs)


def _text(content: bytes, at: int, prefix: str, each: int, zeros: int) -> bytes:
    """The text at an offset, as long as the number in front of it says; empty where that is none."""
    storage = NUMBERS[prefix]
    start = at - storage.least_size
    if start < 0:
        return b""
    size = int(storage.decode(content[start:at])) * each - zeros
    raw = content[at : at + size] if 0 < size <= LONGEST else b""
    return raw if len(raw) == size and content[at + size : at + size + zeros] == bytes(zeros) else b""


def _convinces(contents: Sequence[bytes], where: Sequence[int], raws: Sequence[bytes], prefix: str, unit: int) -> bool:
    """Whether texts can be read, end where their length says, and are too long to be chance."""
    try:
        texts = [raw.decode(ENCODINGS[unit]) for raw in raws]
    except UnicodeDecodeError:
        return False
    if not all(text.isprintable() and sum(map(str.isalnum, text)) >= LEAST_ALNUM * len(text) for text in texts):
        return False
    behind = [_letter(content, at + len(raw), unit) for content, at, raw in zip(contents, where, raws, strict=True)]
    width = NUMBERS[prefix].least_size
    if NUMBERS[prefix].decode(contents[0][where[0] - width : where[0]]) in ENDS_OF_LINES:
        before = _letter(contents[0], where[0] - width - unit, unit)
        if before.isprintable() and (unit > 1 or behind[0] in LINE_ENDS):
            return False
    is_cut = len(set(texts)) > 1 and any(a != b and a.startswith(b) for a in texts for b in texts)
    script = ASCII if unit == 1 else LATIN
    stops = any(not _goes_on(text, letter, script) for text, letter in zip(texts, behind, strict=True))
    begins = width > 1 and all(
        text[-1].islower() and letter.isupper() for text, letter in zip(texts, behind, strict=True)
    )
    least: float = LEAST_BEHIND_WIDE if width > 1 else LEAST_LETTERS if len(contents) > 1 else LEAST_ALONE
    few = FEW_BY_CHANCE << 4 * (width > 1)
    least += math.log2(max(where[0] / few, 1.0)) / LETTER_BITS  # the more bytes, the more look like a text
    return (stops or begins) and not is_cut and min(map(len, texts)) >= least


def _goes_on(text: str, letter: str, script: str) -> bool:
    """Whether a letter may belong to a text in front of it: one beyond the last of its script hardly does."""
    return letter.isprintable() and (letter <= script or max(text) > script)


def _letter(content: bytes, at: int, unit: int) -> str:
    """The letter at an offset; a zero where there is none."""
    return (content[max(at, 0) : max(at, 0) + unit] or b"\0").decode("latin-1" if unit == 1 else "utf-16-le", "replace")
