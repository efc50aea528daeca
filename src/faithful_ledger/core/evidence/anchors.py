"""How a place that moves is found again: by a run of bytes near it that stands once in every snapshot."""

from __future__ import annotations

import re
from collections.abc import Sequence
from itertools import takewhile

import numpy as np

from faithful_ledger.core.address import Address
from faithful_ledger.core.evidence.content import Content
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.storage import NUMBERS

__all__ = ["is_behind_word", "set_anchor", "set_label"]

WINDOWS = (8, 4)
REACH = 256
WORD = re.compile(rb"[A-Za-z_][\w -]{3,30}")
LONGEST = 10  # bytes of a number of variable length
LEAST_WORD = 4
# Words that name what is behind them: directly in front of digits, and, in letters of one case, in front of a number.
KEY = re.compile(
    rb"(?<![\w \x80-\xFF])(?:([A-Za-z_]\w{3,30})[\"']?[ \t]?[:=][ \t]?[\"']?"
    rb"|(?P<bare>[a-z_]{4,30})[ \t]?[\"']?)"  # with nothing between, in letters that a name hardly has alone
)
TAG = re.compile(rb"(?<![\w \x80-\xFF])([A-Z][A-Z0-9_]{3,15}|[a-z][a-z0-9_]{3,30})(?![\w ]).{0,8}", re.DOTALL)
FARTHEST_LABEL = 48


def set_anchor(place: Place, contents: Sequence[Content]) -> None:
    """Record the anchor of a place that moves; in words where there is none."""
    bytes_ = [content.bytes_ for content in contents]
    places = enumerate(zip(bytes_, place.offsets, strict=True))
    ends = tuple(at + place.size(j, content[at : at + LONGEST]) for j, (content, at) in places)
    place.how = "by what surrounds it"
    width = NUMBERS[place.end.prefix].least_size if place.end.prefix else 0
    begins = tuple(at - width for at in place.offsets)  # a length in front changes with its text
    if (found := _word_before(bytes_, begins)) is not None:
        place.found_by = Address.behind(found[0], found[1] + width)
    elif (found := _run(contents, begins, -1)) is not None:
        place.found_by = Address.behind(found[0], width - found[1])
    elif not place.end_is_known:
        widest = max(end - offset for end, offset in zip(ends, place.offsets, strict=True))
        if (found := _run(contents, place.offsets, 1, widest)) is not None:
            place.found_by = Address.behind(found[0], -found[1])
    elif (found := _run(contents, ends, 1)) is not None:
        place.found_by = Address.before(*found)
    if place.found_by is None and len({c.data.size - at for c, at in zip(contents, place.offsets, strict=True)}) == 1:
        place.found_by = Address.from_end(contents[0].data.size - place.offsets[0])


def is_behind_word(place: Place) -> bool:
    """Whether a place is found behind a word, which hardly anything else has in front of it, or by other fields."""
    found = place.found_by
    return place.guides is not None or (found is not None and WORD.fullmatch(found.run) is not None)


def set_label(place: Place, contents: Sequence[Content]) -> None:
    """Let a place that is at one offset be found behind the label directly in front of it: what says the same in these
    saves may be longer in another one. What other fields lead to, or hide, is found by these.
    """
    if place.mask is not None or place.bits_in is not None or place.guides is not None:
        return
    bytes_ = [content.bytes_ for content in contents]
    at = place.offsets[0] - place.lead
    base = max(at - FARTHEST_LABEL, 0)
    front = bytes_[0][base:at]
    label = KEY if place.stored_as == "digits" else TAG
    match = next((match for match in label.finditer(front) if match.end() == len(front)), None)
    if match is None or any(content[base + match.start() : at] != match[0] for content in bytes_):
        return
    run = match[1] or match["bare"]
    gap = match[0][len(run) :]
    is_filled = len(gap) > 1 and len(set(gap)) == 1  # a name in a buffer
    is_name = not run.islower() and (not gap or front[: match.start()].endswith(bytes([len(run)])))
    if not is_filled and not is_name and all(_once(content, run) for content in bytes_):
        place.found_by = Address.behind(run, place.offsets[0] - base - match.start())


def _word_before(contents: list[bytes], offsets: tuple[int, ...]) -> tuple[bytes, int] | None:
    """The nearest word in front that stands exactly once in every snapshot, at the same distance.

    A word counts as far as it is the same in all of them: letters may follow it that are really numbers.
    """
    first, at = contents[0], offsets[0]
    base = max(at - REACH, 0)
    words = [(base + match.start(), base + match.end()) for match in WORD.finditer(first[base:at])]
    for start, end in reversed(words):
        gap = at - start
        if min(offsets) < gap:
            continue
        parts = [content[offset - gap : offset - at + end] for content, offset in zip(contents, offsets, strict=True)]
        run = _alike(parts)
        if len(run) >= LEAST_WORD and all(_once(content, run) for content in contents):
            return run, gap
    return None


def _once(content: bytes, run: bytes) -> bool:
    at = content.find(run)
    return at >= 0 and content.find(run, at + 1) < 0


def _alike(parts: list[bytes]) -> bytes:
    """The beginning that all have in common."""
    same = (len(set(column)) == 1 for column in zip(*parts, strict=False))
    return parts[0][: len(list(takewhile(bool, same)))]


def _run(
    contents: Sequence[Content], offsets: tuple[int, ...], side: int, nearest: int = 0
) -> tuple[bytes, int] | None:
    """The nearest run that stands once in every snapshot, before (`side` -1) or behind; and how far from the offsets it
    begins.
    """
    for size in WINDOWS:
        steps = -size - np.arange(REACH) if side < 0 else nearest + np.arange(REACH)
        kept = np.ones(steps.size, bool)
        for content, offset in zip(contents, offsets, strict=True):
            at = offset + steps
            kept &= (at >= 0) & (at + size <= content.data.size) & content.stands_once(size, at)
        for step in steps[kept].tolist():
            runs = {c.data[at + step : at + step + size].tobytes() for c, at in zip(contents, offsets, strict=True)}
            if len(runs) == 1:
                return runs.pop(), step
    return None
