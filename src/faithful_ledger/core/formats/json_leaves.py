"""Every value of a JSON text with its path and place, also of JSON inside a string."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Iterator
from fractions import Fraction

from faithful_ledger.core.address.paths import format_name
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.formats.json_text import (
    ARRAY,
    NUMBER_KIND,
    OBJECT,
    STRING_KIND,
    WORD_KIND,
    JsonValues,
    json_values,
    unquoted,
)
from faithful_ledger.core.storage.numbers import parse_decimal
from faithful_ledger.core.storage.spelled import exact_number

__all__ = ["IN_QUOTES", "JsonLeaf", "json_leaf_at", "json_leaves", "json_tree"]

LONGEST_NUMBER = 60
QUOTED_NUMBER = re.compile(rb'"-?[0-9]{1,18}(?:\.[0-9]{1,18})?(?:[eE][+-]?[0-9]{1,2})?"')
SPELLED_NUMBER = re.compile(rb'"(?:0[xX][0-9A-Fa-f]{1,16}|[K-O][A-Za-z0-9+/]{2,31}={0,2})"')  # or like one in base64
IN_QUOTES = "quoted digits"  # how a string is stored that is such a number
DEEPEST_TEXTS = 4  # texts within texts


class JsonLeaf:
    """A number, a text, or true or false, in the bytes [start, end); inside a string, those of the string.

    What it says is worked out when it is asked for: of a large text most values are only passed by.
    """

    __slots__ = ("_around", "_step", "end", "raw", "start", "stored_as")

    def __init__(self, around: str, step: int | str, start: int, end: int, stored_as: str, raw: bytes) -> None:
        self._around, self._step, self.start, self.end = around, step, start, end
        self.stored_as, self.raw = stored_as, raw

    @property
    def path(self) -> str:
        return _joined(self._around, self._step)

    @property
    def kind(self) -> str:
        return (
            "number"
            if self.stored_as.startswith("digits")
            else "word"
            if self.stored_as.startswith(("true", "null"))
            else "string"
        )

    @property
    def text(self) -> str:
        """What it says, without quotes and escapes."""
        return unquoted(self.raw) if self.raw[:1] == b'"' else self.raw.decode("utf-8", "replace")

    @property
    def is_number(self) -> bool:
        """Also of a string that holds nothing else."""
        is_number = self.stored_as.startswith(("digits", IN_QUOTES))
        return is_number or QUOTED_NUMBER.fullmatch(self.raw) is not None

    @property
    def about(self) -> float:
        """A number as the nearest float."""
        return float(self.value) if self.stored_as.startswith(IN_QUOTES) else float(self.raw.strip(b'"'))

    @property
    def value(self) -> Fraction | str:
        if self.stored_as.startswith(IN_QUOTES):
            return exact_number(self.text) or Fraction(0)
        if self.is_number:
            return parse_decimal(self.raw.decode().strip('"')) or Fraction(0)
        return unquoted(self.raw) if self.raw[:1] == b'"' else self.raw.decode()


def _joined(around: str, step: int | str) -> str:
    """A path with one step more: an item by its number, a member by its name."""
    if isinstance(step, int):
        return f"{around}[{step}]"
    return f"{around}.{step}" if around and step else step or around


def json_tree(data: bytes) -> JsonValues | None:
    """The values of a JSON text, or None where it is not one."""
    if data[:64].lstrip(b"\xef\xbb\xbf \t\r\n")[:1] not in (b"{", b"["):
        return None
    try:
        return json_values(data)
    except LedgerError:
        return None


def json_leaves(tree: JsonValues) -> Iterator[JsonLeaf]:
    """Every number and text, in order; a text that is JSON itself is entered, as `name(text).inner`."""
    yield from _leaves(tree, 0)


def json_leaf_at(text: JsonValues, offset: int) -> JsonLeaf | None:
    """The number or text at an offset; None where there is none."""
    number, at, around = bisect_right(text.starts, offset) - 1, 0, ""
    if number < 1 or offset >= text.ends[number] or text.kinds[number] not in (NUMBER_KIND, STRING_KIND):
        return None
    while True:
        child, index = at + 1, 0
        while text.behind[child] <= number:
            child, index = text.behind[child], index + 1
        step = index if text.kinds[at] == ARRAY else format_name(text.name(child))
        if child == number:
            start, end = text.starts[number], text.ends[number]
            stored_as = "digits" if text.kinds[number] == NUMBER_KIND else "utf-8"
            return JsonLeaf(around, step, start, end, stored_as, text.data[start:end])
        at, around = child, _joined(around, step)


def _leaves(text: JsonValues, depth: int) -> Iterator[JsonLeaf]:
    kinds, starts, ends, behind = text.kinds, text.starts, text.ends, text.behind
    open_: list[tuple[int, str, bool]] = []  # where each value that holds others ends, its path, whether it is an array
    counts: list[int] = []
    step: int | str
    for number, kind in enumerate(kinds):
        while open_ and number >= open_[-1][0]:
            open_.pop()
            counts.pop()
        around, step = ("", "") if not open_ else (open_[-1][1], counts[-1])
        if open_ and open_[-1][2]:
            counts[-1] += 1
        elif open_:
            step = format_name(text.name(number))
        start, end = starts[number], ends[number]
        if kind in (ARRAY, OBJECT):
            open_.append((behind[number], _joined(around, step), kind == ARRAY))
            counts.append(0)
        elif kind == NUMBER_KIND and end - start < LONGEST_NUMBER:
            raw = text.data[start:end]
            if not (101 in raw or 69 in raw) or parse_decimal(raw.decode()) is not None:  # e, E
                yield JsonLeaf(around, step, start, end, "digits", raw)
        elif kind == WORD_KIND:
            stored_as = "null" if text.data[start] == 110 else "true or false"
            yield JsonLeaf(around, step, start, end, stored_as, text.data[start:end])
        elif kind == STRING_KIND:
            raw = text.data[start:end]
            is_number = SPELLED_NUMBER.fullmatch(raw) is not None and exact_number(unquoted(raw)) is not None
            leaf = JsonLeaf(around, step, start, end, IN_QUOTES if is_number else "utf-8", raw)
            yield leaf
            yield from _inside(leaf, depth)


def _inside(leaf: JsonLeaf, depth: int) -> Iterator[JsonLeaf]:
    """The values of a text that is JSON itself."""
    if depth >= DEEPEST_TEXTS or leaf.raw.lstrip(b'" \\rnt')[:1] not in (b"{", b"["):
        return
    tree = json_tree(str(leaf.value).encode("utf-8", "replace"))
    for inner in _leaves(tree, depth + 1) if tree is not None else ():
        path = inner.path if inner.path.startswith("[") else f".{inner.path}"
        inside = inner.stored_as.endswith(" in a string")
        kind = inner.stored_as if inside else f"{inner.stored_as} in a string"
        yield JsonLeaf(f"{leaf.path}(text){path}", "", leaf.start, leaf.end, kind, inner.raw)
