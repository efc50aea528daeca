"""All values of a JSON text (RFC 8259) with their spans, for what looks at every one; and what is wrong with a text.

The text is gone through once by one pattern, a value with what follows it at a time. Kept is not an object for each
value but a row of numbers: its kind, where it begins and ends, where its name begins, and the number of the first value
behind all that is in it. Numbers and strings are not decoded here, a storage does that with the bytes of the span.
"""

from __future__ import annotations

import json
import re
from array import array
from collections.abc import Iterator

from faithful_ledger.core.errors import BindingError

__all__ = ["JsonValues", "json_values", "unquoted"]

DEEPEST = 200
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
STRING_KIND, NUMBER_KIND, WORD_KIND, ARRAY, OBJECT = range(1, 6)
NO_NAME = 0xFFFFFFFF  # texts are smaller (LARGEST_TEXT in formats/text_document)


class JsonValues:
    """All values of a text, in their order: value 0 is the whole."""

    def __init__(self, data: bytes) -> None:
        self.data = data
        self.kinds = bytearray()
        self.starts, self.ends, self.names, self.behind = (array("I") for _ in range(4))

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

    def raw(self, number: int) -> bytes:
        return self.data[self.starts[number] : self.ends[number]]


def json_values(data: bytes) -> JsonValues:
    """All values of a JSON text with their spans (in bytes of `data`).

    Raises:
        BindingError: where the text stops being JSON, is nested deeper than 200 levels, or repeats a name.
    """
    try:
        data.decode("utf-8")
    except UnicodeDecodeError as error:
        raise _broken(error.start, "this is not UTF-8 text") from error
    text = JsonValues(data)
    _read(text, 3 if data.startswith(b"\xef\xbb\xbf") else 0)
    return text


def _read(text: JsonValues, at: int) -> None:
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


def _goes_on(text: JsonValues, at: int) -> BindingError:
    blank = BLANK.match(text.data, at)
    return _long_number(text) or _broken(blank.end() if blank is not None else at, "the text goes on after its value")


def _long_number(text: JsonValues) -> BindingError | None:
    """Whether the last value is the beginning of something that is not a number, as 01 or 1.2.3."""
    if not text.kinds or text.kinds[-1] != NUMBER_KIND:
        return None
    match = ANY_NUMBER.match(text.data, text.starts[-1])
    if match is None or match.end() == text.ends[-1]:
        return None
    return _broken(match.start(), f"{match[0][:30].decode()} is not a number of JSON")


def _expected(text: JsonValues, at: int, within: set[bytes] | None) -> BindingError:
    close = "]" if within is None else "}"
    ended = ", and the text ends" if at >= len(text.data) else ""
    return _long_number(text) or _broken(at, f"a comma or {close} is expected{ended}")


def _complaint(
    text: JsonValues, at: int, open_: list[int], within: set[bytes] | None, *, needed: bool, named: bool
) -> BindingError:
    """What is wrong at an offset where the text stops being JSON."""
    data = text.data
    blank = BLANK.match(data, at)
    at = blank.end() if blank is not None else at
    wanted = needed or named or not open_
    if (match := ANY_STRING.match(data, at)) is not None and TOKEN.match(data, at) is None:
        return _broken(match.start(), "this string has an escape that JSON does not know")
    if wanted and (match := ANY_NUMBER.match(data, at)) is not None:
        return _broken(at, f"{match[0][:30].decode()} is not a number of JSON")
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
