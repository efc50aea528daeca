"""Lines of keys and values as a document: INI files, property files, settings, tagged sections.

A line is a key, a separator (`=`, `:`, a tab or blanks) and a value, which may be in quotes and have a comment behind
it. `[name]` begins a section, to the next one or to `[/name]`; `name {` holds lines up to a `}` of its own.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable
from functools import cache, cached_property

from faithful_ledger.core.errors import BindingError, LedgerError, ValueRefused
from faithful_ledger.core.formats.quoting import Backslashed, Bare
from faithful_ledger.core.formats.relaxed_json import RelaxedJson
from faithful_ledger.core.formats.tree import OBJECT, PART, SCALAR, STRING, Builder, Tree
from faithful_ledger.core.formats.tree_document import TreeDocument
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.storage import Quoting

__all__ = ["KeyedLines"]

LINE = re.compile(rb"[^\r\n]*")
ENDS = re.compile(rb"\r\n|\n|\r")
COMMENT = re.compile(rb"[ \t]*(?:#|;|//|--|!)")
SECTION = re.compile(rb"[ \t]*\[(/?)\[?([^\[\]\r\n]*)\]?\][ \t]*(?:[#;].*)?")
OPENING = re.compile(rb"[ \t]*(\"[^\"\r\n]*\"|[^={}\r\n]*?)[ \t]*=?[ \t]*\{[ \t]*")
CLOSING = re.compile(rb"[ \t]*\}[,;]?[ \t]*")
KEYED = {
    b"=": re.compile(rb"[ \t]*(\"[^\"\r\n]*\"|[^=\r\n]*?)[ \t]*=[ \t]*"),
    b":": re.compile(rb"[ \t]*(\"[^\"\r\n]*\"|[^:\r\n]*?)[ \t]*:[ \t]*"),
    b"\t": re.compile(rb"[ ]*([^\t\r\n]*?)[ ]*\t[ \t]*"),
    b" ": re.compile(rb"[ \t]*(\"[^\"\r\n]*\"|[^ \t\r\n]+)[ \t]+(?:=[ \t]*)?"),
}
# A name, and below it a brace alone.
LONE = re.compile(rb"[ \t]*([^\r\n{}]+?)[ \t]*(?:\r\n|\n|\r)[ \t]*\{[ \t]*(?=\r|\n|\Z)")
BEHIND = re.compile(rb"[ \t]+(?:#|//|;)(?=[ \t]|$|[^\d#;/ \t][^;]*$)")
BRACKETS = re.compile(rb"\"(?:[^\"\\]|\\.)*\"|[\[\]{}]", re.DOTALL)
LONGEST_VALUE = 1 << 20
LINE_ALONE = 1  # the style of a line without a key; one that goes on with the value before is a part of it
BRACKET, OPEN, CLOSE, COMMENTS = b"["[0], b"{"[0], b"}"[0], b"#;/-!"
MOST_ODD = 0.25  # the share of lines without a separator that a text of keyed lines may have
LEAST_IN_SECTIONS = 0.3  # the share of lines with a separator, where there are sections
SAMPLE = 4000  # lines that say which separator it is


class KeyedLines(TreeDocument):
    name = "keyed-lines"
    what = "the text"

    @cached_property
    def _named(self) -> Callable[[bytes], str]:
        """A key as text, made once for each."""
        return cache(lambda raw: _name(raw, self.encoding))

    def quoting(self, style: int) -> Quoting:
        return self._line if style == LINE_ALONE else self._quoting

    @cached_property
    def _line(self) -> Quoting:
        return LineAlone(self.encoding, KEYED[self.separator])

    @classmethod
    def quoting_of(cls, path: str, encoding: str) -> Quoting:
        return LineValue(encoding, Bare(encoding, where="a value on one line"))

    @cached_property
    def separator(self) -> bytes:
        """What is between a key and its value in most lines.

        Raises:
            BindingError: hardly any line has one.
        """
        every = self.data.splitlines()[:SAMPLE]
        lines = [
            line
            for line, following in zip(every, [*every[1:], b""], strict=False)
            if not _is_aside(line) and following.strip() != b"{"
        ]
        begun = [line for line in lines if line[:1] not in (b" ", b"\t")]
        has_sections = any(SECTION.fullmatch(line) for line in every)
        for marks in ((b"=", b":"), (b"\t", b" ")):
            for some in (lines, begun):
                found = {mark: sum(_keyed(KEYED[mark], line) for line in some) for mark in marks}
                for mark in marks:
                    if found[mark] and found[mark] >= len(some) * (1 - MOST_ODD):
                        return mark
            best = max(marks, key=lambda mark: found[mark])
            if has_sections and found[best] >= len(lines) * LEAST_IN_SECTIONS:
                return best  # values of several lines have lines of their own kind
        raise BindingError(self.what, 0, "its lines are not keys with values")

    def parse(self) -> Tree:
        data, builder = self.data, Builder(self.what)
        pattern = KEYED[self.separator]
        is_tagged = re.search(rb"^[ \t]*\[/[^\]\r\n]+\]", data, re.MULTILINE) is not None
        at = self.text_start
        builder.begin(OBJECT, None, at, at)
        braces: list[bool] = []  # for each open one whether it is held by braces
        last, odd, count, number = at, 0, 0, 0
        first_odd = 0
        while at <= len(data):
            number += 1
            match = LINE.match(data, at)
            end = match.end() if match is not None else len(data)
            line = data[at:end]
            stripped = line.strip()
            first = stripped[0] if stripped else 0
            if not first:
                pass
            elif first == BRACKET and (section := SECTION.fullmatch(line)):
                head = at + len(line) - len(line.lstrip())
                if section[1]:
                    self._close_tag(builder, braces, section[2], head, at + len(line.rstrip()), number)
                else:
                    if braces and not is_tagged and not braces[-1]:
                        builder.end(last)
                        braces.pop()
                    name = section[2].strip().decode(self.encoding, "replace")
                    builder.begin(OBJECT, name, head, head)
                    braces.append(False)
                last = at + len(line.rstrip())
            elif first in COMMENTS and COMMENT.match(line):
                pass
            elif first == CLOSE and True in braces and CLOSING.fullmatch(line):
                while braces and not braces.pop():
                    builder.end(last)
                last = at + len(line.rstrip())
                builder.end(last)
            elif (
                stripped[-1] == OPEN
                and (opening := OPENING.fullmatch(line))
                and opening[1]
                and not self._end_of_brackets(at + line.rindex(b"{"), end)
            ):
                head = at + len(line) - len(line.lstrip())
                builder.begin(OBJECT, _name(opening[1], self.encoding), head, head)
                braces.append(True)
                last = at + len(line.rstrip())
            elif lone := LONE.match(data, at):
                head = lone.start(1)
                builder.begin(OBJECT, _name(lone[1], self.encoding), head, head)
                braces.append(True)
                last = end = lone.end()
            elif keyed := pattern.match(data, at, end):
                count += 1
                end = max(end, self._end_of_brackets(keyed.end(), end))
                last = self._value(builder, keyed, end)
            else:
                is_more = line[:1] in (b" ", b"\t") and count > 0  # of a value on several lines
                count, odd = count + 1, odd + (not is_more)
                first_odd = first_odd or at
                stop = at + len(line.rstrip())
                begin = at + len(line) - len(line.lstrip())
                builder.leaf(STRING, None, begin, begin, stop, stop, PART if is_more else LINE_ALONE)
                last = stop
            if odd > 8 and odd > count * MOST_ODD:
                raise BindingError(self.what, first_odd, f"line {number} is not a key with a value")
            newline = ENDS.match(data, end)
            if newline is None:
                break
            at = newline.end()
        for is_brace in reversed(braces):
            if is_brace or is_tagged:
                name = builder.tree.names[builder.open_[-1]] or ""
                raise BindingError(self.what, last, f"“{name[:40]}” is not closed before the text ends")
            builder.end(last)
        builder.end(len(data))
        return builder.tree

    def _end_of_brackets(self, at: int, end: int) -> int:
        """Where a value ends that begins with a bracket and goes over several lines, as JSON in settings; 0 where it is
        on one line, or no such value.
        """
        data = self.data
        if data[at : at + 1] not in (b"{", b"[") or data[at:end].rstrip()[-1:] in (b"}", b"]"):
            return 0
        depth, place = 0, at
        for match in BRACKETS.finditer(data, at, min(at + LONGEST_VALUE, len(data))):
            mark = match[0]
            depth += mark in b"{[" if len(mark) == 1 else 0
            depth -= mark in b"}]" if len(mark) == 1 else 0
            if depth == 0:
                place = match.end()
                break
        if place == at or not (b":" in data[at:place] or data[at : at + 1] == b"["):
            return 0
        try:
            RelaxedJson(MemorySource(data[at:place])).check()
        except LedgerError:
            return 0
        return place

    def _close_tag(self, builder: Builder, braces: list[bool], name: bytes, head: int, end: int, number: int) -> None:
        wanted = name.strip().decode(self.encoding, "replace")
        present = builder.tree.names[builder.open_[-1]] if braces else None
        if present != wanted:
            what = f"line {number}: [/{wanted[:40]}] closes what is not open"
            raise BindingError(self.what, head, what + (f"; [{present[:40]}] is" if present else ""))
        braces.pop()
        builder.end(end)

    def _value(self, builder: Builder, keyed: re.Match[bytes], end: int) -> int:
        data, start = self.data, keyed.end()
        stop = max(_value_end(data, start, end), start)
        builder.tree.add(SCALAR, self._named(keyed[1]), keyed.start(1), start, stop, stop, 0)
        return stop

    def scalar_text(self, number: int) -> str:
        text = super().scalar_text(number)
        quoted = len(text) > 1 and text[0] == text[-1] and text[0] in "\"'"
        return text[1:-1] if quoted else text


class LineValue(Backslashed):
    """A value behind its key; what would be read as a comment cannot be in it without quotes."""

    def encode(self, text: str, old: bytes) -> bytes:
        written = super().encode(text, old)
        if _value_end(written, 0, len(written)) != len(written):
            raise ValueRefused(f"“{text[:40]}” would be read only in part on this line", "leave out # ; // and quotes")
        return written


class LineAlone(Bare):
    """A line without a key, which must not be read as one."""

    def __init__(self, encoding: str, keyed: re.Pattern[bytes]) -> None:
        super().__init__(encoding, where="a line without a key")
        self.keyed = keyed

    def encode(self, text: str, old: bytes) -> bytes:
        written = super().encode(text, old)
        if not text or _keyed(self.keyed, written) or _is_aside(written) or CLOSING.fullmatch(written):
            raise ValueRefused(f"“{text[:40]}” would be read as something else on its line", "enter one word")
        return written


def _value_end(data: bytes, start: int, end: int) -> int:
    """Where a value on a line ends that goes up to `end` at most: behind its quotes, or in front of a comment."""
    if data[start : start + 1] in (b'"', b"'"):
        close = _closing_quote(data, start, end)
        rest = data[close:end].strip() if close else b"x"
        if close and (not rest or COMMENT.match(rest) or rest in (b",", b";")):
            return close
    value = data[start:end]
    if value[:1] in (b"{", b"[") and b"\n" in value:
        return end
    if b"#" in value or b";" in value or b"//" in value:
        behind = BEHIND.search(data, start, end)
        value = data[start : behind.start()] if behind is not None else value
    return start + len(value.rstrip(b" \t"))


def _name(raw: bytes, encoding: str) -> str:
    raw = raw.strip()
    return (raw[1:-1] if len(raw) > 1 and raw[:1] == raw[-1:] == b'"' else raw).decode(encoding, "replace")


def _closing_quote(data: bytes, start: int, end: int) -> int:
    """Behind the quotation mark that closes the one at `start`; 0 where none does."""
    mark, at = data[start], start + 1
    while at < end:
        if data[at] == 92:
            at += 1
        elif data[at] == mark:
            return at + 1
        at += 1
    return 0


def _is_aside(line: bytes) -> bool:
    """Whether a line has no key of its own: blank, a comment, a section, a brace."""
    stripped = line.strip()
    if not stripped or COMMENT.match(line) or SECTION.fullmatch(line):
        return True
    return stripped in (b"{", b"}", b"};", b"},") or stripped.endswith(b"{")


def _keyed(pattern: re.Pattern[bytes], line: bytes) -> bool:
    match = pattern.match(line)
    return match is not None and bool(match[1].strip()) and len(match[1]) <= 200


def separators_of(lines: list[bytes]) -> Counter[bytes]:
    """How many lines have each separator."""
    return Counter(mark for mark, pattern in KEYED.items() for line in lines if _keyed(pattern, line))
