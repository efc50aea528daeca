"""What records may be made of, guessed from the texts in the first of them.

From one record to the next texts are as far from each other, or farther by what a number between them says: that is a
list in the record, of texts as well or of so many bytes each. How far the next record is may also be what a number in
front of the first text says. Whether it is so shows when all records are read (see `Chain`).
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from itertools import islice, pairwise, product
from typing import NamedTuple

from faithful_ledger.core.in_front.records import (
    COUNTS,
    RUNS,
    Block,
    Form,
    Listed,
    Part,
    Shape,
    without_empty,
)
from faithful_ledger.core.storage import NUMBERS, number_at

__all__ = ["deep_shapes", "flat_shapes", "texts_from"]

LARGEST_GAP, LARGEST_BLOCK = 256, 4096  # bytes between two texts, and of a list or block in a record
MOST_IN_RECORD = 4  # texts
MOST_SEEN, LEAST_SEEN = 40, 3  # texts from which lists in records are known
FARTHEST_SIZE = 64  # bytes in front of the first text in a block, with its size
SURE_BITS = 6.0  # beyond what may be chance


class Text(NamedTuple):
    """Where a text begins, with its length, and where it ends."""

    start: int
    end: int


def flat_shapes(form: Form, content: bytes, first: int) -> Iterator[Shape]:
    """Bytes and texts, as records may be of which the first one has its first text at an offset; few texts first."""
    texts = list(islice(_texts(form, content, first, LARGEST_GAP), MOST_IN_RECORD + 1))
    gaps = _gaps(texts)
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
        records = [texts[at : at + many] for at in range(0, len(texts), many)]
        for window in range(0, len(records) - LEAST_SEEN, LEAST_SEEN):
            seen, following = records[window : window + LEAST_SEEN], records[window + 1 :]
            inner = _gaps(seen[0])
            if any(_gaps(record) != inner for record in seen):
                continue
            lasts = [record[-1] for record in seen]
            far = [after[0].start - last.end for last, after in zip(lasts, following, strict=False)]
            low, high = far.index(min(far)), far.index(max(far))
            for name, step in product(COUNTS, range(far[low])) if far[low] < far[high] else ():
                numbers = [number_at(content, last.end + step, name) or 0 for last in lasts]
                size, over = divmod(far[high] - far[low], max(numbers[high] - numbers[low], 1))
                rests = {
                    apart - step - NUMBERS[name].least_size - n * size for apart, n in zip(far, numbers, strict=True)
                }
                if numbers[high] > numbers[low] and not over and len(rests) == 1 and min(rests) >= 0:
                    listed = Listed(name, (size,))
                    yield Shape((*_joined(form, inner), *without_empty(step), listed), min(rests))


def _gaps(texts: Sequence[Text]) -> list[int]:
    """How far some texts are behind each other."""
    return [after.start - before.end for before, after in pairwise(texts)]


def _with_texts_in_list(form: Form, content: bytes, texts: Sequence[Text]) -> Iterator[Shape]:
    """Records with a list behind their texts in which every record has texts as well."""
    gaps = _gaps(texts)
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
        count = number_at(content, texts[at + many - 1].end + step, name)
        if count is None or count > len(texts):
            break
        kinds = [*names, "into", *item, *["on", *item] * (count - 1), "out"] if count else [*names, "none"]
        apart = _gaps(texts[at : at + len(kinds) + 1])
        pairs = list(zip(kinds, apart, strict=False))
        if len(pairs) < len(kinds) or any(known.setdefault(kind, gap) != gap for kind, gap in pairs):
            break
        if {"into", "out", "none"} <= set(known):
            through = known["into"] + known["out"]
            if known.setdefault("on", through - known["none"]) != through - known["none"]:
                break  # what seems to follow the last record is not one
        sure, at, records = dict(known), at + len(kinds), records + 1
    return sure if records >= LEAST_SEEN and {"into", "on", "out"} <= set(sure) else None


def _in_blocks(form: Form, content: bytes, texts: Sequence[Text]) -> Iterator[Shape]:
    """Records of which a number in front of the first text says how many bytes are behind it."""
    starts = {text.start for text in texts}
    first = texts[0].start
    # Bits that it says that a text is where it should be.
    apart = math.log2((texts[-1].start - first) / (len(texts) - 1))
    for name in COUNTS:
        width = NUMBERS[name].least_size
        for inside in range(width, min(FARTHEST_SIZE, first) + 1):
            size = number_at(content, first - inside, name) or 0
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
    while at in starts and (size := number_at(content, at - inside, name)) is not None:
        sizes.append(size)
        at += size + beside
    return sizes
