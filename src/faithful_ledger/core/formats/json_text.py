"""JSON (RFC 8259) with the span of every value, so that one value can give way and every other byte stays.

The text is gone through once by one pattern, a value with what follows it at a time. Kept is not an object for each
value but a row of numbers: its kind, where it begins and ends, where its name begins, and the number of the first value
behind all that is in it. Numbers and strings are not decoded here, a storage does that with the bytes of the span.
"""

from __future__ import annotations

import json
import re
from array import array
from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import overload

from faithful_ledger.core.errors import AddressError, BindingError
from faithful_ledger.core.paths import Step, format_name, format_path

__all__ = ["JsonNode", "JsonText", "parse_json", "unquoted"]

DEEPEST = 200
NAMED = 12  # members that a message names
STRING = rb'"[^"\\\x00-\x1f]*+(?:\\(?:["\\/bfnrt]|u[0-9a-fA-F]{4})[^"\\\x00-\x1f]*+)*+"'
NUMBER = rb"-?(?:0|[1-9][0-9]*+)(?:\.[0-9]++)?(?:[eE][+-]?[0-9]++)?"
# A value, or a bracket, with the comma or colon behind it.
TOKEN = re.compile(
    rb"[ \t\r\n]*+(?:(" + STRING + rb")|(" + NUMBER + rb")|(true|false|null)|([\[{])|([\]}]))[ \t\r\n]*+[,:]?"
)
STRINGS, NUMBERS, WORDS, OPENING, CLOSING = range(1, 6)  # its groups
COMMA, COLON = b",:"
BLANK = re.compile(rb"[ \t\r\n]*+")
ANY_STRING = re.compile(rb'"(?:[^"\\\x00-\x1f]|\\.)*+"', re.DOTALL)
ANY_NUMBER = re.compile(rb"-?[0-9][0-9.eE+-]*")
KINDS = ("", "string", "number", "word", "array", "object")
STRING_KIND, NUMBER_KIND, WORD_KIND, ARRAY, OBJECT = range(1, 6)
NO_NAME = 0xFFFFFFFF  # texts are smaller (binding/document)


class JsonText:
    """All values of a text, in their order: value 0 is the whole."""

    def __init__(self, data: bytes) -> None:
        self.data = data
        self.kinds = bytearray()
        self.starts, self.ends, self.names, self.behind = (array("I") for _ in range(4))
        self._members: dict[int, dict[str, int]] = {}

    def children(self, number: int) -> Iterator[int]:
        """The values directly in an array or object."""
        at, end, behind = number + 1, self.behind[number], self.behind
        while at < end:
            yield at
            at = behind[at]

    def name(self, number: int) -> str:
        """The name of a member of an object."""
        begin = self.names[number]
        match = ANY_STRING.match(self.data, begin)
        assert match is not None
        return unquoted(match[0])

    def members(self, number: int) -> dict[str, int]:
        """The values of an object by their names."""
        found = self._members.get(number)
        if found is None:
            found = {self.name(child): child for child in self.children(number)}
            self._members[number] = found
        return found

    def raw(self, number: int) -> bytes:
        return self.data[self.starts[number] : self.ends[number]]


class JsonNode:
    """A value: `kind` is object, array, string, number or word (true, false, null); its bytes are [start, end)."""

    __slots__ = ("number", "text")

    def __init__(self, text: JsonText, number: int = 0) -> None:
        self.text, self.number = text, number

    @property
    def kind(self) -> str:
        return KINDS[self.text.kinds[self.number]]

    @property
    def start(self) -> int:
        return self.text.starts[self.number]

    @property
    def end(self) -> int:
        return self.text.ends[self.number]

    @property
    def members(self) -> Mapping[str, JsonNode]:
        if self.text.kinds[self.number] != OBJECT:
            return {}
        return {name: JsonNode(self.text, child) for name, child in self.text.members(self.number).items()}

    @property
    def items(self) -> Items:
        return Items(self.text, self.number)

    def find(self, steps: tuple[Step, ...], data: bytes) -> JsonNode:
        """The value a path leads to.

        Raises:
            AddressError: naming the step that has no counterpart, and what is there instead.
        """
        node = self
        for number, step in enumerate(steps):
            found = node._step(step)
            if found is None:
                raise AddressError(
                    f"{format_path(steps[: number + 1])} is not in this text", node._hint(steps[number:])
                )
            node = found
        return node

    def _step(self, step: Step) -> JsonNode | None:
        text, kind = self.text, self.text.kinds[self.number]
        if step.name is not None:
            child = text.members(self.number).get(step.name) if kind == OBJECT else None
            return JsonNode(text, child) if child is not None else None
        if step.index is not None:
            items = self.items
            return items[step.index] if step.index < len(items) else None
        for item in text.children(self.number) if kind == ARRAY else ():
            member = text.members(item).get(step.key or "") if text.kinds[item] == OBJECT else None
            if member is not None and JsonNode(text, member).plain(text.data) == step.value:
                return JsonNode(text, item)
        return None

    def plain(self, data: bytes) -> str:
        """The value as a key is compared: a string without its quotes and escapes, anything else as spelled."""
        raw = self.text.raw(self.number)
        return unquoted(raw) if self.kind == "string" else raw.decode("utf-8", "replace")

    def _hint(self, steps: tuple[Step, ...]) -> str:
        """What is here instead; a name with a dot in it that was written without quotation marks is recognised."""
        if self.kind == "object":
            members = self.text.members(self.number)
            for end in range(2, len(steps) + 1):
                name = ".".join(step.name or "" for step in steps[:end])
                if name in members:
                    return f"there is one name “{name}”; write it in quotation marks: {format_name(name)}"
            return f"here are {', '.join(map(format_name, list(members)[:NAMED])) or 'no members'}"
        return (
            f"here are {len(self.items)} items" if self.kind == "array" else f"here is a {self.kind} and nothing inside"
        )


class Items(Sequence[JsonNode]):
    """The items of an array; none of anything else."""

    def __init__(self, text: JsonText, number: int) -> None:
        self._text, self._number = text, number

    @cached_property
    def _numbers(self) -> array[int]:
        is_array = self._text.kinds[self._number] == ARRAY
        return array("I", self._text.children(self._number) if is_array else ())

    def __len__(self) -> int:
        return len(self._numbers)

    @overload
    def __getitem__(self, index: int) -> JsonNode: ...
    @overload
    def __getitem__(self, index: slice) -> list[JsonNode]: ...
    def __getitem__(self, index: int | slice) -> JsonNode | list[JsonNode]:
        if isinstance(index, slice):
            return [JsonNode(self._text, number) for number in self._numbers[index]]
        return JsonNode(self._text, self._numbers[index])


def parse_json(data: bytes) -> JsonNode:
    """All values of a JSON text with their spans (in bytes of `data`).

    Raises:
        BindingError: where the text stops being JSON, is nested deeper than 200 levels, or repeats a name.
    """
    try:
        data.decode("utf-8")
    except UnicodeDecodeError as error:
        raise _broken(error.start, "this is no UTF-8 text") from error
    text = JsonText(data)
    _read(text, 3 if data.startswith(b"\xef\xbb\xbf") else 0)
    return JsonNode(text)


def _read(text: JsonText, at: int) -> None:
    """Fill in the values of a text from an offset on."""
    data, kinds = text.data, text.kinds
    starts, ends, names, behind = text.starts, text.ends, text.names, text.behind
    match_token, name = TOKEN.match, NO_NAME
    open_: list[int] = []  # the values that are not closed yet
    used: list[set[bytes] | None] = []  # the names of each; None for an array
    within: set[bytes] | None = None  # the last of them
    needed = True  # a value or a name has to come, so nothing may close here
    while True:
        match = match_token(data, at)
        if match is None:
            raise _complaint(text, at, open_, within, needed=needed, named=name != NO_NAME)
        group = match.lastindex or 0
        begin, end = match.span(group)
        at = match.end()
        mark = data[at - 1] if at > end else 0
        if group == CLOSING:
            if not open_ or (needed and behind[open_[-1]] != len(kinds)) or name != NO_NAME:
                raise _complaint(text, begin, open_, within, needed=True, named=name != NO_NAME)
            if (within is None) != (data[begin] == 93):  # ]
                raise _expected(text, begin, within)
            done = open_.pop()
            used.pop()
            within = used[-1] if used else None
            ends[done], behind[done] = end, len(kinds)
        elif within is not None and name == NO_NAME:
            if not needed:
                raise _expected(text, begin, within)
            if group != STRINGS or mark != COLON:
                raise _broken(end, "a name in quotes and a colon are expected")
            key = data[begin:end]
            key = key if b"\\" not in key else json.dumps(json.loads(key)).encode()
            if key in within:
                raise _broken(begin, f"the name “{unquoted(data[begin:end])[:40]}” stands here twice")
            within.add(key)
            name = begin
            continue
        else:
            if not needed and name == NO_NAME:
                raise _expected(text, begin, within)
            names.append(name)
            starts.append(begin)
            name = NO_NAME
            if group == OPENING:
                kinds.append(ARRAY if data[begin] == 91 else OBJECT)  # [
                ends.append(0)
                behind.append(len(kinds))
                open_.append(len(kinds) - 1)
                within = None if data[begin] == 91 else set()
                used.append(within)
                if len(open_) > DEEPEST:
                    raise _broken(begin, f"it is nested deeper than {DEEPEST} levels")
                if mark in (COMMA, COLON):
                    raise _complaint(text, at - 1, open_, within, needed=True, named=False)
                needed = True
                continue
            kinds.append(group)
            ends.append(end)
            behind.append(len(kinds))
        if not open_:
            if at != len(data):
                raise _goes_on(text, end)
            if mark in (COMMA, COLON):
                raise _broken(at - 1, "the text goes on after its value")
            return
        if mark == COLON:
            raise _expected(text, at - 1, within)
        needed = mark == COMMA


def _goes_on(text: JsonText, at: int) -> BindingError:
    blank = BLANK.match(text.data, at)
    return _long_number(text) or _broken(blank.end() if blank is not None else at, "the text goes on after its value")


def _long_number(text: JsonText) -> BindingError | None:
    """Whether the last value is the beginning of something that is no number, as 01 or 1.2.3."""
    if not text.kinds or text.kinds[-1] != NUMBER_KIND:
        return None
    match = ANY_NUMBER.match(text.data, text.starts[-1])
    if match is None or match.end() == text.ends[-1]:
        return None
    return _broken(match.start(), f"{match[0][:30].decode()} is no number of JSON")


def _expected(text: JsonText, at: int, within: set[bytes] | None) -> BindingError:
    close = "]" if within is None else "}"
    ended = ", and the text ends" if at >= len(text.data) else ""
    return _long_number(text) or _broken(at, f"a comma or {close} is expected{ended}")


def _complaint(
    text: JsonText, at: int, open_: list[int], within: set[bytes] | None, *, needed: bool, named: bool
) -> BindingError:
    """What is wrong at an offset where the text stops being JSON."""
    data = text.data
    blank = BLANK.match(data, at)
    at = blank.end() if blank is not None else at
    wanted = needed or named or not open_
    if (match := ANY_STRING.match(data, at)) is not None and TOKEN.match(data, at) is None:
        return _broken(match.start(), "this string has an escape that JSON does not know")
    if wanted and (match := ANY_NUMBER.match(data, at)) is not None:
        return _broken(at, f"{match[0][:30].decode()} is no number of JSON")
    if not wanted:
        return _expected(text, at, within)
    ended = ", and the text ends" if at >= len(data) else ""
    what = "a name in quotes and a colon are" if within is not None and not named else "a value is"
    return _broken(at, f"{what} expected{ended}")


def unquoted(raw: bytes) -> str:
    """The text of a string with its quotation marks."""
    return str(json.loads(raw)) if b"\\" in raw else raw[1:-1].decode("utf-8")


def _broken(at: int, what: str) -> BindingError:
    return BindingError("the JSON text", at, what)
