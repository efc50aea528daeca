"""A JSON text (RFC 8259) as a document: the spans of its values, found along the path that is asked for.

Nothing is made of what a path passes by. What is within an array or an object is found by scanning it where it is
small, with the scanner of Python's own json module to step over nested values, and by an index of the brackets where
it is large. Whether the whole is JSON is a question of its own, `check`.
"""

from __future__ import annotations

import json
import re
from bisect import bisect_right
from collections import OrderedDict
from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from itertools import chain
from typing import TYPE_CHECKING, cast

from faithful_ledger.core.address import Step, format_name, format_path
from faithful_ledger.core.edits import Replacement
from faithful_ledger.core.errors import AddressError, BindingError, ValueRefused
from faithful_ledger.core.formats.document import Items, NotBalanced, Span
from faithful_ledger.core.formats.json_leaves import JsonLeaf, json_leaf_at, json_leaves
from faithful_ledger.core.formats.json_text import json_values, unquoted
from faithful_ledger.core.formats.text_document import TextDocument
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage import JsonNumber, JsonSwitch, JsonText, JsonWord, NumberInJson, Storage

if TYPE_CHECKING:
    from faithful_ledger.core.formats.json_index import JsonIndex

__all__ = ["JsonDocument"]

SMALL = 1 << 18  # an array or object up to here is scanned; a larger one has its brackets indexed
PIECE = 1 << 20  # bytes that are checked together
KEPT = 1024  # arrays and objects whose content is remembered
NAMED = 12  # members that a message names
BLANK = re.compile(rb"[ \t\r\n]*+")
SCALAR = re.compile(r'"(?:[^"\\]++|\\.)*+"|[^\s,\]}:"{\[]++', re.DOTALL)
HEAD = re.compile(rb'[ \t\r\n]*+("(?:[^"\\]++|\\.)*+")[ \t\r\n]*+:[ \t\r\n]*+', re.DOTALL)
KINDS = {b"{": "object", b"[": "array", b'"': "string", b"t": "word", b"f": "word", b"n": "word"}
KINDS_OF_VALUES: dict[str, Callable[[], Storage]] = {"number": NumberInJson, "text": JsonText, "switch": JsonSwitch}
BRACKETS = {b"{": b"}", b"[": b"]"}


def _refuse_constant(name: str) -> object:
    raise ValueError(name)


SCAN = json.JSONDecoder(parse_constant=_refuse_constant)


class Children:
    """What is directly within an array or object: where each value begins and ends; in an object also where its member
    begins, and its name.
    """

    __slots__ = ("_numbers", "ends", "heads", "names", "starts")

    def __init__(
        self, starts: Sequence[int], ends: Sequence[int], heads: Sequence[int], names: list[str] | None
    ) -> None:
        self.starts, self.ends, self.heads, self.names = starts, ends, heads, names
        self._numbers: dict[str, int] | None = None

    def __len__(self) -> int:
        return len(self.starts)

    def named(self, name: str) -> int | None:
        """The number of the member of a name.

        Raises:
            AddressError: there are several.
        """
        if self._numbers is None:
            self._numbers = {}
            for number, each in enumerate(self.names or ()):
                self._numbers[each] = number if each not in self._numbers else -1
        found = self._numbers.get(name)
        if found is not None and found < 0:
            raise AddressError(f"the name “{name[:40]}” occurs more than once in one object", "nothing was changed")
        return found


class JsonDocument(TextDocument):
    name = "json"
    what = "the JSON text"
    row_kinds: tuple[str, ...] = ("array",)

    def __init__(self, source: Source) -> None:
        super().__init__(source)
        self._known: OrderedDict[int, Children] = OrderedDict()

    @cached_property
    def _index(self) -> JsonIndex:
        from faithful_ledger.core.formats.json_index import JsonIndex  # it needs NumPy, which small texts do without

        return JsonIndex(self.data)

    @cached_property
    def whole(self) -> Span:
        """The span of the one value of the text.

        Raises:
            BindingError: there is none.
        """
        data = self.data
        start = _behind_blank(data, self.text_start)
        try:
            end = self._end_of(start)
        except (NotBalanced, ValueError, RecursionError):
            raise self._complaint(start) from None
        if _behind_blank(data, end) != len(data):
            raise self._complaint(end)
        return self.span(start, end)

    def span(self, start: int, end: int) -> Span:
        return Span(start, end, self._kind(start))

    # whether it is JSON

    def check(self) -> None:
        data = self.data
        try:
            for start in range(0, len(data), PIECE):
                _check_letters(data, start)
            self._check(self.whole)
        except (NotBalanced, ValueError, RecursionError):
            json_values(data)  # says what is wrong; what is only too much for the fast way passes

    def has_values(self) -> bool:
        if self.source.size <= SMALL:
            self.check()
        span = self.whole
        return span.kind in ("object", "array") and bool(len(self.children(span)))

    def _check(self, span: Span) -> None:
        """Raises ValueError where a span is not a value; large ones are looked at in pieces, to save memory."""
        data = self.data
        if span.end - span.start <= PIECE or span.kind not in ("array", "object"):
            SCAN.decode(data[span.start : span.end].decode("latin-1"))
            return
        import numpy as np

        children = self.children(span)
        heads, starts, ends = (np.asarray(each, np.int64) for each in (children.heads, children.starts, children.ends))
        left, right = data[span.start : span.start + 1], data[span.end - 1 : span.end]
        first = 0
        for large in [*np.flatnonzero(ends - starts > PIECE).tolist(), len(children)]:
            while first < large:
                stop = min(max(int(np.searchsorted(ends, heads[first] + PIECE)), first + 1), large)
                SCAN.decode((left + data[heads[first] : ends[stop - 1]] + right).decode("latin-1"))
                first = stop
            if large < len(children):
                start = int(starts[large])
                SCAN.decode((left + data[heads[large] : start] + b"0" + right).decode("latin-1"))  # its name
                self._check(Span(start, int(ends[large]), self._kind(start)))
                first = large + 1

    def _complaint(self, at: int) -> BindingError:
        """The sentence for what is wrong with the text."""
        try:
            json_values(self.data)
        except BindingError as error:
            return error
        return BindingError(self.what, at, "it cannot be read here")

    # along paths

    def at(self, within: Span, steps: tuple[Step, ...]) -> Span:
        span, around = within, None
        for number, step in enumerate(steps):
            found = self._step(span, step)
            if found is None and step.key is not None and around is not None:
                found = self._at_place_of(around, step.key, step.value or "", span)
            if found is None:
                path = format_path(steps[: number + 1])
                raise AddressError(f"{path} is not in this text", self._hint(span, steps[number:]))
            span, around = found, span
        return span

    def _step(self, span: Span, step: Step) -> Span | None:
        if step.name is not None:
            number = self.children(span).named(step.name) if span.kind == "object" else None
            return self._child(span, number) if number is not None else None
        if span.kind != "array":
            return None
        if step.index is not None:
            return self._item(span, step.index)
        return self._keyed(span, step.key or "", step.value or "")

    def _item(self, span: Span, number: int) -> Span | None:
        if span.end - span.start <= SMALL or span.start in self._known:
            return self._child(span, number) if number < len(self.children(span)) else None
        try:
            found = self._index.between(span.start, number)
        except NotBalanced:
            raise self._complaint(span.start) from None
        if found is None:
            return None
        start = _behind_blank(self.data, found[0] + 1)
        end = start + len(self.data[start : found[1]].rstrip(b" \t\r\n"))
        return self.span(start, end) if start < end else None

    def _keyed(self, span: Span, key: str, value: str) -> Span | None:
        """The first object of an array in which a member says so in plain letters, else one that says so with escapes.
        What cannot be it is passed over by its letters.
        """
        children = self.children(span)
        last = -1
        escaped = (match.start() for match in _says(key, value).finditer(self.data, span.start, span.end))
        for at in chain(_plain_hits(self.data, value, span), escaped):
            number = bisect_right(children.starts, at) - 1
            if number == last or number < 0:
                continue
            last = number
            item = self._child(span, number)
            member = self._member(item, key)
            if member is not None and self.plain(self._child(item, member)) == value:
                return item
        return None

    def _member(self, item: Span, key: str) -> int | None:
        """Which of its values an item of a list has under a name; those of a list have their numbers for names."""
        if item.kind == "array" and key.isdecimal():
            return int(key) if int(key) < len(self.children(item)) else None
        return self.children(item).named(key) if item.kind == "object" else None

    def _at_place_of(self, around: Span, name: str, value: str, span: Span) -> Span | None:
        """The item of a list at the place at which another list beside it says something, and nowhere else."""
        number = self.children(around).named(name) if span.kind == "array" and around.kind == "object" else None
        beside = self._child(around, number) if number is not None else None
        if beside is None or beside.kind != "array":
            return None
        places = [at for at in range(len(self.children(beside))) if self.plain(self._child(beside, at)) == value]
        return self._item(span, places[0]) if len(places) == 1 else None

    def plain(self, span: Span) -> str:
        """A value as a key is compared: a string without its quotes and escapes, anything else as it is spelled."""
        raw = self.data[span.start : span.end]
        return unquoted(raw) if span.kind == "string" else raw.decode("utf-8", "replace")

    def _child(self, span: Span, number: int) -> Span:
        children = self.children(span)
        return self.span(int(children.starts[number]), int(children.ends[number]))

    def _kind(self, start: int) -> str:
        return KINDS.get(self.data[start : start + 1], "number")

    def _hint(self, span: Span, steps: tuple[Step, ...]) -> str:
        """What is here instead; a name with a dot in it that was written without quotation marks is recognised."""
        if span.kind == "object":
            names = self.children(span).names or []
            for end in range(2, len(steps) + 1):
                name = ".".join(step.name or "" for step in steps[:end])
                if name in names:
                    return f"there is one name “{name}”; write it in quotation marks: {format_name(name)}"
            return f"here are {', '.join(map(format_name, names[:NAMED])) or 'no members'}"
        if span.kind == "array":
            return f"here are {len(self.children(span))} items"
        return f"here is a {span.kind} and nothing inside"

    # what is within

    def items(self, span: Span) -> Items:
        children = self.children(span)
        return Items(children.starts, children.ends)

    def children(self, span: Span) -> Children:
        """What is directly within an array or object.

        Raises:
            BindingError: it is not JSON there.
        """
        found = self._known.get(span.start)
        if found is None:
            try:
                small = span.end - span.start <= SMALL
                found = Children(*(self._scanned(span) if small else self._indexed(span)))
            except (NotBalanced, ValueError, RecursionError):
                raise self._complaint(span.start) from None
            self._known[span.start] = found
            if len(self._known) > KEPT:
                self._known.popitem(last=False)
        else:
            self._known.move_to_end(span.start)
        return found

    def _scanned(self, span: Span) -> tuple[list[int], list[int], list[int], list[str] | None]:
        data, base, named = self.data, span.start, span.kind == "object"
        text = data[base : span.end].decode("latin-1")
        starts: list[int] = []
        ends: list[int] = []
        heads: list[int] = []
        names: list[str] = []
        close = BRACKETS[data[base : base + 1]]
        at = _behind_blank(data, base + 1)
        if data[at : at + 1] != close:
            while True:
                heads.append(at)
                if named:
                    head = HEAD.match(data, at)
                    if head is None:
                        raise ValueError
                    names.append(unquoted(head[1]))
                    at = head.end()
                starts.append(at)
                at = base + _end_in(text, at - base)
                ends.append(at)
                at = _behind_blank(data, at)
                mark = data[at : at + 1]
                if mark == close:
                    break
                if mark != b",":
                    raise ValueError
                at = _behind_blank(data, at + 1)
        if at != span.end - 1:
            raise ValueError
        return starts, ends, heads, names if named else None

    def _end_of(self, start: int) -> int:
        """Where the value at an offset ends, of which the end is not known yet."""
        data = self.data
        if len(data) - start > SMALL and data[start : start + 1] in BRACKETS:
            return self._index.close_of(start) + 1
        return start + _end_in(data[start:].decode("latin-1"), 0)

    def _indexed(self, span: Span) -> tuple[Sequence[int], Sequence[int], Sequence[int], list[str] | None]:
        import numpy as np

        data, index = self.data, self._index
        commas, close = index.level(span.start)
        if close != span.end - 1 or data[close : close + 1] != BRACKETS[data[span.start : span.start + 1]]:
            raise ValueError
        heads, ends = (np.empty(commas.size + 1, np.uint32) for _ in range(2))
        heads[0], heads[1:] = span.start + 1, commas + np.uint32(1)
        ends[-1], ends[:-1] = close, commas
        if heads.size == 1 and _behind_blank(data, span.start + 1) == close:
            return [], [], [], None if span.kind == "array" else []
        letters = index.data
        blank = np.isin(np.arange(256), np.frombuffer(b" \t\r\n", np.uint8))
        for at, step, look in ((heads, 1, 0), (ends, -1, -1)):
            moving = np.flatnonzero(blank[letters[at.astype(np.int64) + look]])
            while moving.size:
                at[moving] = at[moving].astype(np.int64) + step
                moving = moving[blank[letters[at[moving].astype(np.int64) + look]]]
        if (heads >= ends).any():
            raise ValueError
        if span.kind == "array":
            begins, stops = cast(Sequence[int], heads), cast(Sequence[int], ends)
            return begins, stops, begins, None
        matches = [HEAD.match(data, at) for at in heads.tolist()]
        found = [match for match in matches if match is not None]
        if len(found) != len(matches):
            raise ValueError
        return [m.end() for m in found], ends.tolist(), heads.tolist(), [unquoted(m[1]) for m in found]

    # every value

    def leaves(self) -> Iterator[JsonLeaf]:
        return json_leaves(json_values(self.data))

    def leaves_at(self, offsets: Sequence[int]) -> Iterator[JsonLeaf]:
        values = json_values(self.data)
        found = (json_leaf_at(values, offset) for offset in offsets)
        return (leaf for leaf in found if leaf is not None)

    def value_storage(self, span: Span) -> Storage:
        return {"string": JsonText, "word": JsonWord}.get(span.kind, JsonNumber)()

    @classmethod
    def storage(cls, name: str, path: str, encoding: str) -> Storage | None:
        return KINDS_OF_VALUES[name]() if name in KINDS_OF_VALUES else None

    # changes

    def spell(self, value: object, like: bytes) -> bytes:
        if isinstance(value, bool) or value is None:
            return json.dumps(value).encode()
        if isinstance(value, int | float):
            return JsonNumber().encode(value, like if like[:1] not in (b'"', b"[", b"{") else b"")
        if isinstance(value, str):
            return JsonText().encode(value, like if like[:1] == b'"' else b"")
        if isinstance(value, list | dict):
            wide = (", ", ": ") if b", " in like or b": " in like or not like else (",", ":")
            return json.dumps(value, ensure_ascii=like.isascii(), separators=wide).encode()
        raise ValueRefused(
            f"{value!r} cannot be written in JSON", "give a number, a text, true or false, a list or an object"
        )

    def add(self, holder: Span, position: int, items: Sequence[bytes]) -> Replacement:
        data, children = self.data, self.children(holder)
        count, begin = len(children), holder.start + 1
        if not count:
            blank = data[begin : holder.end - 1]
            indent = blank + b"  " if b"\n" in blank else b""
            between = b"," + (indent or _after_comma(data))
            return Replacement(begin, begin, indent + between.join(items))
        between = b"," + (data[begin : int(children.heads[0])] or _after_comma(data))
        if count > 1:
            between = data[int(children.ends[0]) : int(children.heads[1])]
        if position >= count:
            end = int(children.ends[-1])
            return Replacement(end, end, b"".join(between + item for item in items))
        start = int(children.heads[position])
        return Replacement(start, start, b"".join(item + between for item in items))

    def remove(self, holder: Span, first: int, stop: int) -> Replacement:
        children = self.children(holder)
        if stop < len(children):
            return Replacement(int(children.heads[first]), int(children.heads[stop]), b"")
        begin = int(children.ends[first - 1]) if first else holder.start + 1
        return Replacement(begin, int(children.ends[stop - 1]), b"")


def _end_in(text: str, at: int) -> int:
    """Where the value at a place of a text ends.

    Raises:
        ValueError: there is none.
    """
    if text[at : at + 1] in ("{", "["):
        return SCAN.raw_decode(text, at)[1]
    match = SCALAR.match(text, at)
    if match is None:
        raise ValueError
    return match.end()


def _behind_blank(data: bytes, at: int) -> int:
    match = BLANK.match(data, at)
    return match.end() if match is not None else at


def _after_comma(data: bytes) -> bytes:
    """Whether this text has blanks behind its commas."""
    at = data.find(b",")
    return b" " if at >= 0 and data[at + 1 : at + 2] == b" " else b""


def _plain_hits(data: bytes, value: str, span: Span) -> Iterator[int]:
    """Where the letters of a value occur, as a string or as they are."""
    text = json.dumps(value, ensure_ascii=False).encode("utf-8", "surrogatepass")
    for run in (text, text[1:-1]) if not text[1:-1].isalpha() else (text,):
        at = data.find(run, span.start, span.end)
        while at >= 0:
            yield at
            at = data.find(run, at + 1, span.end)


def _says(key: str, value: str) -> re.Pattern[bytes]:
    """What a member that says so may look like: spelled plainly, or anything where an escape could be."""
    name, text = (json.dumps(part, ensure_ascii=False).encode("utf-8", "surrogatepass") for part in (key, value))
    blank, escaped = rb"[ \t\r\n]*+", rb'"[^"\\]*+\\.(?:[^"\\]++|\\.)*+"'
    plain = re.escape(value.encode("utf-8", "surrogatepass")) + rb"(?=[\s,}\]])"
    says = b"(?:" + b"|".join((re.escape(text), plain, escaped)) + b")"
    return re.compile(b"(?:" + re.escape(name) + b"|" + escaped + b")" + blank + b":" + blank + says, re.DOTALL)


def _check_letters(data: bytes, start: int) -> None:
    """Raises BindingError where a stretch is not UTF-8."""
    end = min(start + PIECE, len(data))
    while end < len(data) and data[end] & 0xC0 == 0x80 and end > start:
        end -= 1
    while start and start < len(data) and data[start] & 0xC0 == 0x80:
        start -= 1
    try:
        data[start:end].decode("utf-8")
    except UnicodeDecodeError as error:
        raise BindingError("the JSON text", start + error.start, "this is not UTF-8 text") from error
