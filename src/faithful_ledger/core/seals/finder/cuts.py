"""What people cut at in a text: lines, and the member, element or pair that holds a checksum."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

__all__ = ["ALONE", "Cut", "cuts", "line_starts"]

FAR = 160  # bytes that are looked at in front of a checksum and behind it
FIRST_LINES, LAST_LINES = 4, 3
SEPARATORS = b"|:;,#.&=-_ \t\r\n\0"
QUOTES = b"\"'"
MEMBER = re.compile(rb"""(,\s*)?(["']?[\w.$ -]{1,64}["']?\s*:\s*["']?)\Z""")
BEHIND_MEMBER = re.compile(rb"""(["']?)(\s*,\s*)?""")
ELEMENT = re.compile(rb"""(\r?\n[ \t]*|[ \t]*)(<[^<>]{1,64}>\s*)\Z""")
BEHIND_ELEMENT = re.compile(rb"""(\s*</[^<>]{1,64}>)(\r?\n)?""")
ATTRIBUTE = re.compile(rb"""(\s+)([\w:.-]{1,64}\s*=\s*["'])\Z""")
LETTERS = frozenset((9, 10, 13, *range(32, 127), *range(128, 256)))


class Cut(NamedTuple):
    """How many bytes in front of a checksum and behind it belong to it."""

    before: int
    behind: int


ALONE = Cut(0, 0)


def cuts(content: bytes, at: int, end: int) -> list[Cut]:
    """What may be left out with the letters [at, end) of a checksum, the narrowest first; each side is an edge as well.
    Nothing but the letters themselves where they are not within a text.
    """
    front, back = content[max(at - FAR, 0) : at], content[end : end + FAR]
    if not LETTERS.issuperset(front[-8:] + back[:8]):
        return [ALONE]
    return sorted({ALONE, *_quoted(front, back), *_separated(front, back), *_lines(front, back), *_held(front, back)})


def line_starts(content: bytes) -> tuple[list[int], list[int]]:
    """The offsets of the first lines of a text but the first one, and of its last ones counted from its end, which
    come with the end of the text without its last line break.
    """
    firsts: list[int] = []
    at = 0
    while len(firsts) < FIRST_LINES and (at := content.find(b"\n", at, at + 4096) + 1):
        firsts.append(at)
    lasts: list[int] = []
    high = len(content)
    while len(lasts) < LAST_LINES and (high := content.rfind(b"\n", max(high - 4096, 0), high)) >= 0:
        lasts += [len(content) - high, *([len(content) - high - 1] if high + 1 < len(content) else [])]
        if content[high - 1 : high] == b"\r":
            lasts.append(len(content) - high + 1)
    return firsts, lasts


def _quoted(front: bytes, back: bytes) -> Iterator[Cut]:
    if front[-1:] and front[-1:] == back[:1] and front[-1] in QUOTES:
        yield Cut(1, 1)


def _separated(front: bytes, back: bytes) -> Iterator[Cut]:
    if front[-1:] and front[-1] in SEPARATORS:
        yield Cut(1, 0)
    if back[:1] and back[0] in SEPARATORS:
        yield Cut(0, 1)


def _lines(front: bytes, back: bytes) -> Iterator[Cut]:
    """The line it is in, with its line break or the one before."""
    low = front.rfind(b"\n")
    before = len(front) - low - 1 if low >= 0 or len(front) < FAR else -1
    high = back.find(b"\n")
    behind = high if high >= 0 else len(back) if len(back) < FAR else -1
    if before < 0 or behind < 0:
        return
    carriage = back[behind - 1 : behind] == b"\r"
    yield Cut(before, behind + (high >= 0))
    yield Cut(before, behind - carriage)
    if low >= 0:
        yield Cut(before + 1 + (front[low - 1 : low] == b"\r" and low > 0), behind - carriage)


def _held(front: bytes, back: bytes) -> Iterator[Cut]:
    """The member of an object, with a comma before or behind it, the element or attribute of XML."""
    if member := MEMBER.search(front):
        comma, before = len(member[1] or b""), len(member[2])
        rest = BEHIND_MEMBER.match(back)
        quote, following = (len(rest[1]), len(rest[2] or b"")) if rest is not None else (0, 0)
        yield Cut(before, quote)
        if comma:
            yield Cut(before + comma, quote)
        if following:
            yield Cut(before, quote + following)
    if (element := ELEMENT.search(front)) and (closing := BEHIND_ELEMENT.match(back)):
        blank, before, behind = len(element[1]), len(element[2]), len(closing[1])
        yield from (Cut(before, behind), Cut(before + blank, behind), Cut(before, behind + len(closing[2] or b"")))
        within = blank - (element[1].count(b"\n") and element[1].index(b"\n") + 1)
        yield Cut(before + within, behind + len(closing[2] or b""))
    if attribute := ATTRIBUTE.search(front):
        yield Cut(len(attribute[1]) + len(attribute[2]), 1)
