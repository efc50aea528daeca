"""What is written in front of a place, one behind the other: texts with their length in front, and records with their
number in front.

Texts are found by the length that ends them, records by the texts in them: the next one is as far behind the one before
in each of them, and a number in front says how many there are. All saves have to say so, with numbers and lengths of
their own. Records without texts are found where their number is another one in each save, and what is behind moves with
it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from itertools import product, takewhile
from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.in_front.alike import LARGEST_RECORD, numbers_in, records_alike
from faithful_ledger.core.in_front.convincing import beginnings, convinces
from faithful_ledger.core.in_front.elements import (
    CountedRows,
    Element,
    Header,
    LeadingBytes,
    LeadingText,
    rows_between,
)
from faithful_ledger.core.in_front.keyed_rows import LEAST_KEYED, Table, key_of
from faithful_ledger.core.in_front.records import (
    COUNTS,
    MOST_RECORDS,
    RUNS,
    Chain,
    Form,
    Shape,
    is_in_a_gap,
    without_empty,
)
from faithful_ledger.core.in_front.shapes import deep_shapes, flat_shapes, texts_from
from faithful_ledger.core.in_front.text_ends import FIXED, TextEnd, text_end
from faithful_ledger.core.storage import NUMBERS, number_at

__all__ = ["FARTHEST", "FORMS", "headers_of", "in_front"]

Array: TypeAlias = np.ndarray[Any, Any]
FORMS = {  # by the bytes of a letter
    unit: [Form(prefix, each, zeros, unit) for prefix, each, zeros in product(FIXED, (1, 2), (0, 1)) if each <= unit]
    for unit in RUNS
}
FARTHEST, FARTHEST_COUNT = 1 << 16, 4096  # bytes that are looked at, and up to a number of records
MOST_HEADS = 4
LEAST_TRIED, MOST_TRIALS = 16, 1  # bytes that a length counts which is tried; and how many are, one behind the other
PICTURES = ((b"\x89PNG\r\n\x1a\n", b"IEND\xaeB`\x82"), (b"\xff\xd8\xff", b"\xff\xd9"))  # how they begin and end
NEAR = 96  # bytes up to a length that is looked for first
LATE = 4  # texts behind the first of several records, which hardly is the second
LEAST_SIZES, SURE_SIZES = 3, 4  # distances that a number of records explains; so many are hardly chance
WITHIN_LETTERS = re.compile(rb"[\x20-\x7E]{4}")  # where no record ends


def in_front(
    contents: Sequence[bytes], starts: Sequence[int], lasts: Sequence[int | None], place: tuple[int, int]
) -> tuple[list[Element], list[int]]:
    """The texts and records in some saves, from an offset in each to the last place that is known in it, one behind the
    other; and where the last of them ends in each. The elements have the offsets of the first save, and begin in front
    of a place there; of those that go on behind it only records are given.
    None are where texts are filled up to multiples of some bytes.
    """
    walk, found = _Walk(contents, starts, lasts, place), list[Element]()
    for each in walk.elements():
        if each.start >= place[0] or (each.start + each.size > place[0] and isinstance(each, LeadingText)):
            break
        found.append(each)
    return (found if not walk.is_aligned else []), walk.ends


def headers_of(contents: Sequence[bytes], lasts: Sequence[int | None]) -> list[Header]:
    """What saves begin with, of another length in each, up to a place in each that it explains; where none is known
    up to the end of each of the first texts behind their lengths.
    """
    starts, known = [0] * len(contents), [last for last in lasts if last is not None]
    if len(known) == len(lasts):
        found, ends = in_front(contents, starts, lasts, (known[0], known[0]))
        return [Header(tuple(found), tuple(ends))] if _are_as_far(ends, known) and len(set(ends)) > 1 else []
    size = len(contents[0])
    walk = _Walk([content[:FARTHEST] for content in contents], starts, lasts, (size, size))
    texts = list[Element]()
    made = [Header((), tuple(starts))]
    for each in takewhile(lambda each: isinstance(each, LeadingText), walk.elements()):
        texts.append(each)
        if not _are_as_far(made[-1].ends, walk.ends):
            made.append(Header(tuple(texts), tuple(walk.ends)))
        if len(made) > MOST_HEADS:
            break
    return made[1:]


class _Walk:
    """From element to element in all saves at once, between which there are as many bytes in each."""

    def __init__(
        self,
        contents: Sequence[bytes],
        starts: Sequence[int],
        lasts: Sequence[int | None],
        place: tuple[int, int],
        trials: int = MOST_TRIALS,
    ) -> None:
        self.place, self.trials = place, trials
        self.contents = [content[:last] for content, last in zip(contents, lasts, strict=True)]
        self.whole = contents
        self.parts = {j: np.frombuffer(content, np.uint8) for j, content in enumerate(contents)}
        self.ends = list(starts)
        self.lasts = lasts
        self.late = set[tuple[Form, int]]()
        self.is_aligned = False  # what fills texts up would have to grow and shrink with them
        reach = [len(content) - start for content, start in zip(self.contents, starts, strict=True)]
        # Of a list in which other saves have nothing the one with most in front shows the most.
        self.guide = reach.index(max(reach)) if None not in lasts else 0

    def elements(self) -> Iterator[Element]:
        while self.ends[0] < self.place[0]:
            if (counted := self._near()) is not None:
                yield from self._until(counted)
                continue
            if (picture := self._picture()) is not None:
                yield from self._until(picture)
                continue
            before = self.ends
            yield from self._with_texts()
            if self.ends[0] >= self.place[0]:
                return
            if self.ends != before:
                continue
            if (text := self._ended()) is not None:
                yield text
                continue
            if (counted := self._trial()) is not None:
                yield from self._until(counted)
                continue
            if (rows := self._rows_without_texts()) is None:
                rows = self._rows_by_key() or self._rows_alike(self.ends, self.place[0] - self.ends[0])
                if rows is not None:
                    yield rows
                return
            yield rows

    def _near(self) -> tuple[int, str] | None:
        """How far ahead a length near by ends that explains how far the last place is, and its storage. It comes first,
        as much in the bytes that it counts may look like texts.
        """
        far = self._far()
        if not far:
            return None
        found: list[tuple[int, int, str]] = [
            (far[0] - step - number, step, name)
            for name in COUNTS
            for step, size in self._explaining(name, far, NEAR)
            if size == 1
            and (number := number_at(self.contents[0], self.ends[0] + step - NUMBERS[name].least_size, name))
        ]
        _, step, name = min(found, key=lambda each: each[:2], default=(0, 0, ""))
        return (int(step), name) if name else None

    def _picture(self) -> tuple[int, str] | None:
        """How far ahead a length near by ends behind which a picture begins that is as long in every save, and its
        storage.
        """
        guide, end = self.contents[self.guide], self.ends[self.guide]
        for mark, last in PICTURES:
            step = guide.find(mark, end, end + NEAR) - end
            begins = [at + step for at in self.ends]
            found = zip(self.contents, begins, strict=True)
            if step < 0 or not all(content.startswith(mark, begin) for content, begin in found):
                continue
            for name in COUNTS:
                sizes = _numbers(self.contents, name, begins, self.ends)
                each = zip(self.contents, begins, sizes, strict=False)
                if sizes and all(content.endswith(last, begin, begin + size) for content, begin, size in each):
                    return step, name
        return None

    def _trial(self) -> tuple[int, str] | None:
        """How far ahead a length near by ends that counts bytes behind which what follows explains where the last place
        is, and its storage.
        """
        if not self._far() or not self.trials:
            return None
        reach = min([NEAR, *(len(content) - end for content, end in zip(self.contents, self.ends, strict=True))])
        for step, name in product(range(reach), COUNTS):
            begins = [end + step for end in self.ends]
            sizes = _numbers(self.contents, name, begins, self.ends)
            landed = [begin + size for begin, size in zip(begins, sizes, strict=False)]
            within = zip(landed, self.contents, strict=False)
            if len(set(sizes)) < LEAST_SIZES or min(sizes) < LEAST_TRIED or not all(at <= len(c) for at, c in within):
                continue
            walk = _Walk(self.whole, landed, self.lasts, self.place, self.trials - 1)
            if list(walk.elements()) and _are_as_far(walk.ends, list(map(len, self.contents))):
                return step, name
        return None

    def _far(self) -> dict[int, int]:
        """How far the last place is in each save; nothing where these are too few to be explained by one number."""
        far = {j: len(self.contents[j]) - end for j, end in enumerate(self.ends)}
        sizes = len(set(far.values()))
        enough = sizes >= LEAST_SIZES or (sizes > 1 and len(far) >= SURE_SIZES)
        return far if enough and None not in self.lasts and min(far.values()) >= 0 else {}

    def _ended(self) -> LeadingText | None:
        """A text near by that a zero ends, if that explains how far the last place is."""
        far = self._far()
        for step in range(min([NEAR, *far.values()]) if far else 0):
            begins = [end + step for end in self.ends]
            raws = [content[at:].partition(b"\0")[0] for content, at in zip(self.contents, begins, strict=True)]
            rests = {far[j] - step - len(raw) - 1 for j, raw in enumerate(raws)}
            if (
                len(rests) == 1
                and min(rests) >= 0
                and all(raw.isascii() and raw.decode().isprintable() for raw in raws)
            ):
                self.ends = [at + len(raw) + 1 for at, raw in zip(begins, raws, strict=True)]
                return LeadingText(begins[0], len(raws[0]) + 1, "utf-8", TextEnd(ended_by=b"\0"))
        return None

    def _until(self, counted: tuple[int, str]) -> Iterator[Element]:
        """What is in front of a length, and the bytes or the text that it counts."""
        step, name = counted
        width, whole = NUMBERS[name].least_size, self.contents
        begins = [end + step for end in self.ends]
        self.contents = [content[: begin - width] for content, begin in zip(whole, begins, strict=True)]
        yield from self._with_texts()
        self.contents = whole
        texts = (text for unit in FORMS if (text := self._text_at(begins, unit)) is not None)
        if (text := next(texts, None)) is not None:
            yield text
            return
        sizes = (number_at(content, begin - width, name) or 0 for content, begin in zip(whole, begins, strict=True))
        self.ends = [begin + size for begin, size in zip(begins, sizes, strict=True)]
        start, size = begins[0] - width, self.ends[0] - begins[0] + width
        raws = [content[begin:end] for content, begin, end in zip(whole, begins, self.ends, strict=True)]
        is_text = all(raw.isascii() and raw.decode().isprintable() for raw in raws)
        yield LeadingText(start, size, "utf-8", TextEnd(name)) if is_text else LeadingBytes(start, size, name)

    def _with_texts(self) -> Iterator[Element]:
        """As far as there are texts, each as far behind what is in front of it in all saves."""
        for at, unit in beginnings(self.contents[self.guide]):
            step, before = at - self.ends[self.guide], self.ends
            if step >= 0:
                where = [end + step for end in before]
                if (found := self._rows_at(where, unit) or self._text_at(where, unit)) is not None:
                    if (rows := self._rows_alike(before, found.start - before[0])) is not None:
                        yield rows
                    yield found
            if self.ends[0] >= self.place[0]:
                return

    def _shapes(self, form: Form, first: int) -> Iterator[Shape]:
        """What records may be whose first text begins at an offset of the guide; lists in them are looked for only
        where it is not one of many texts that were seen behind another one.
        """
        content = self.contents[self.guide]
        yield from flat_shapes(form, content, first)
        if (form, first) not in self.late:
            texts = texts_from(form, content, first)
            self.late |= {(form, text.start) for text in texts[LATE:]}
            yield from deep_shapes(form, content, texts)

    def _text_at(self, where: Sequence[int], unit: int) -> LeadingText | None:
        for form in FORMS[unit]:
            raws = [form.raw(content, at - form.width) for content, at in zip(self.contents, where, strict=True)]
            closing = bytes(form.zeros * unit)
            texts = [raw.removesuffix(closing) for raw in raws if raw]
            if len(texts) < len(raws) or not all(texts) or not convinces(self.whole, where, texts, form):
                continue
            end = text_end(self.parts, where, dict(enumerate(texts)), unit)
            if end.align > 1:
                self.is_aligned = True
                return None
            if end.prefix and end.room is None:
                width = NUMBERS[end.prefix].least_size
                self.ends = [at + len(text) + len(end.ended_by) for at, text in zip(where, texts, strict=True)]
                return LeadingText(where[0] - width, self.ends[0] - where[0] + width, form.encoding, end)
        return None

    def _rows_at(self, where: Sequence[int], unit: int) -> CountedRows | None:
        """Records of which the first text begins at these offsets; in front of the place rather than around it."""
        around: tuple[CountedRows, list[int]] | None = None
        for form in FORMS[unit]:
            for shape in self._shapes(form, where[self.guide] - form.width):
                firsts = [at - form.width - shape.inside for at in where]
                chains = [Chain(shape, content, at) for content, at in zip(self.contents, firsts, strict=True)]
                for front, name in product(range(shape.between + 1), COUNTS):
                    if (ends := self._counted(chains, front, name)) is None:
                        continue
                    record = without_empty(front, *shape.parts, shape.between - front)
                    rows = rows_between(name, record, firsts[0] - front, ends[0])
                    if ends[0] <= self.place[0]:
                        self.ends = ends
                        return rows
                    if around is None and is_in_a_gap(record, self.contents[0], firsts[0] - front, self.place):
                        around = rows, ends
        if around is not None:
            self.ends = around[1]
        return around[0] if around is not None else None

    def _counted(self, chains: Sequence[Chain], front: int, name: str) -> list[int] | None:
        """Where records with so many bytes in front of their first part end, if the number in front of them says in
        every save how many there are.
        """
        begins = [chain.begin(0) - front for chain in chains]
        numbers = _numbers(self.contents, name, begins, self.ends)
        most = numbers[self.guide] if numbers else 0
        if not 2 <= most <= max(numbers, default=0) <= MOST_RECORDS:
            return None
        # Where all say the same, only how many there are says that it is a number of records.
        if len(set(numbers)) == 1 and (chains[self.guide].goes_on(most) or (most == 2 and front)):
            return None
        if any(chain.passes_by_texts(number) for chain, number in zip(chains, numbers, strict=True)):
            return None
        ends = [chain.begin(number) - front for chain, number in zip(chains, numbers, strict=True)]
        behind = zip(self.whole, ends, strict=True)
        if all(WITHIN_LETTERS.fullmatch(content, end - 2, end + 2) for content, end in behind):
            return None
        within = (begin <= end <= len(each) for begin, end, each in zip(begins, ends, self.contents, strict=True))
        return ends if all(within) else None

    def _rows_without_texts(self) -> CountedRows | LeadingBytes | None:
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
            for step, size in self._explaining(name, far, FARTHEST_COUNT):
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
        rows = rows_between(name, (size,), begins[0], self.ends[0])
        return rows if size > 1 else LeadingBytes(rows.start, rows.size, name)

    def _explaining(self, name: str, far: Mapping[int, int], farthest: int) -> Iterator[tuple[int, int]]:
        """Where records would begin whose number is up to `farthest` bytes ahead, and the bytes of one, so that all
        saves are as far behind the last one.
        """
        least, most = min(far, key=far.__getitem__), max(far, key=far.__getitem__)
        reach = min(far[least], farthest)
        parts = [self.parts[j][self.ends[j] : self.ends[j] + reach] for j in far]
        numbers = dict(zip(far, numbers_in(parts, name), strict=True))
        more = numbers[most] - numbers[least]
        sizes = (far[most] - far[least]) // np.maximum(more, 1)
        steps = np.arange(more.size) + NUMBERS[name].least_size
        rests = np.stack([far[j] - steps - numbers[j] * sizes for j in far])
        fits = (more > 0) & (sizes > 0) & (sizes <= LARGEST_RECORD) & (rests == rests[0]).all(axis=0) & (rests[0] >= 0)
        return zip(steps[fits].tolist(), sizes[fits].tolist(), strict=True)

    def _rows_by_key(self) -> CountedRows | None:
        """Records of numbers around the place, of which some saves have others and more, but where it is always in the
        one with the same key: a number that no two of them have in common.
        """
        lasts = {j: last for j, last in enumerate(self.lasts) if last is not None}
        reach = min((last - self.ends[j] for j, last in lasts.items()), default=0)
        ways: list[tuple[int, int, list[int], CountedRows]] = []
        for name in COUNTS if len(lasts) > 1 else ():
            if reach < NUMBERS[name].least_size:
                continue
            parts = [self.parts[j][self.ends[j] : self.ends[j] + reach] for j in lasts]
            numbers = np.stack(numbers_in(parts, name))
            fits = ((numbers >= LEAST_KEYED) & (numbers <= MOST_RECORDS)).all(axis=0)
            fits &= (numbers != numbers[0]).any(axis=0)
            for at in np.flatnonzero(fits).tolist():
                begins = [end + at + NUMBERS[name].least_size for end in self.ends]
                tables = [
                    Table(self.whole[j], begins[j], lasts[j] - begins[j], count)
                    for j, count in zip(lasts, numbers[:, at].tolist(), strict=True)
                ]
                found = key_of(tables, self.place[1] - self.place[0])
                every = _numbers(self.whole, name, begins, self.ends)
                if found is not None and every:
                    size, key = found
                    ends = [begin + number * size for begin, number in zip(begins, every, strict=True)]
                    rows = rows_between(name, (size,), begins[0], ends[0])._replace(key=key)
                    ways.append((key[0] - key[1], COUNTS.index(name), ends, rows))
        if not ways:
            return None
        *_, self.ends, rows = min(ways, key=lambda way: way[:2])  # part of a key, or of a number, seems to be one
        return rows

    def _rows_alike(self, starts: Sequence[int], size: int) -> CountedRows | None:
        """Records of numbers within so many bytes."""
        found = records_alike([self.parts[j][start:] for j, start in enumerate(starts)], size)
        if found is None:
            return None
        return rows_between(found.count_as, (found.stride,), starts[0] + found.begin, starts[0] + found.end)


def _are_as_far(offsets: Sequence[int], others: Sequence[int]) -> bool:
    """Whether from one offset to the other there are as many bytes in every save."""
    return len({other - offset for offset, other in zip(offsets, others, strict=True)}) == 1


def _numbers(contents: Sequence[bytes], name: str, behind: Sequence[int], floors: Sequence[int]) -> list[int]:
    """What directly in front of some offsets says in each save; nothing where that would begin before the floor."""
    starts = [end - NUMBERS[name].least_size for end in behind]
    if any(start < floor for start, floor in zip(starts, floors, strict=True)):
        return []
    found = [number_at(content, start, name) for content, start in zip(contents, starts, strict=True)]
    numbers = [number for number in found if number is not None]
    return numbers if len(numbers) == len(found) else []
