"""Lines of keys and values as a document: INI files, property files, settings, tagged sections.

A line is a key, a separator (`=`, `:`, a tab or blanks) and a value, which may be in quotes and have a comment behind
it. `[name]` begins a section, to the next one or to `[/name]`; `name {` holds lines up to a `}` of its own. A checksum
in a comment is `#first` on the first line, `#last` on the last one.
"""

from __future__ import annotations

import re
from array import array
from collections import Counter
from collections.abc import Callable, Iterator
from functools import cache, cached_property

from faithful_ledger.core.errors import BindingError, LedgerError, ValueRefused
from faithful_ledger.core.formats.keyed_regions import SECTION, Regions, has_regions
from faithful_ledger.core.formats.line_tables import MARKS, cell_quoting, table_in, without_tables
from faithful_ledger.core.formats.quoting import COUNT, Backslashed, Bare, Counted, Measure
from faithful_ledger.core.formats.relaxed_json import RelaxedJson
from faithful_ledger.core.formats.tree import ARRAY, OBJECT, PART, SCALAR, STRING, Builder, GrowingTree, Tree
from faithful_ledger.core.formats.tree_document import TreeDocument
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.storage import Quoting
from faithful_ledger.core.storage.spelled import is_number

__all__ = ["KeyedLines"]

LINE = re.compile(rb"[^\r\n]*")
ENDS = re.compile(rb"\r\n|\n|\r")
COMMENT = re.compile(rb"[ \t]*(?:#|;|//|--|!)")
TRANSLATED = re.compile(rb'_[ \t]*(?=")')  # in front of a text that a game shows in the player's language
CHECKSUM = re.compile(rb"(?<![\w.])((?=[A-Fa-f]*\d)[0-9A-Fa-f]{8,}|\d{4,})\W*\Z")
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
CELLS = 16  # the style of a table's cell whose mark is the first of all; then the others
LINE_ALONE = 1  # the style of a line without a key; one that goes on with the value before is a part of it
BRACKET, OPEN, CLOSE, COMMENTS = b"["[0], b"{"[0], b"}"[0], b"#;/-!"
MOST_ODD = 0.25  # the share of lines without a separator that a text of keyed lines may have
LEAST_IN_SECTIONS = 0.3  # the share of lines with a separator, where there are sections
SAMPLE = 800  # lines that say which separator it is
SAMPLE_SIZE = 1 << 18
COUNTED_SAMPLE = 1 << 15  # bytes that are looked at for that
MAY_BE_COUNTED = re.compile(rb"[=:\t ][ \t]*\d{1,9}(?:[ \t]*[:;|,/]|[ \t]+)[^\s\d]")
LEAST_COUNTED = 3  # values with their length in front, before that is believed


class KeyedLines(TreeDocument):
    name = "keyed-lines"
    what = "the text"

    @cached_property
    def _named(self) -> Callable[[bytes], str]:
        """A key as text, made once for each."""
        return cache(lambda raw: _name(raw, self.encoding))

    def _section_name(self, raw: bytes) -> str:
        return raw.strip().decode(self.encoding, "replace")

    def quoting(self, style: int) -> Quoting:
        if style >= CELLS:
            return cell_quoting(MARKS[style - CELLS], self.encoding)
        return self._line if style == LINE_ALONE else self._quoting

    @cached_property
    def _quoting(self) -> Quoting:
        plain = self.quoting_of("", self.encoding)
        if not MAY_BE_COUNTED.search(self.data, 0, COUNTED_SAMPLE):
            return plain
        return next((each for each in self._counts(plain) if self._is_counted(each)), plain)

    def _counts(self, plain: Quoting) -> Iterator[Counted]:
        measures: tuple[Measure, ...] = ("bytes", "letters")
        return (Counted(plain, self.encoding, measure) for measure in measures)

    def _is_counted(self, counted: Counted) -> bool:
        """Whether values have their lengths in front: all that begin with a number and a mark, and of several sizes."""
        pattern, fitting = KEYED[self.separator], set[int]()
        count, words = 0, False
        for line in self.data[:COUNTED_SAMPLE].splitlines():
            keyed = pattern.match(line)
            value = line[keyed.end() : _value_end(line, keyed.end(), len(line))] if keyed is not None else b""
            if COUNT.match(value):
                begin = counted.behind_count(value)
                if not begin or _is_aside(line):
                    return False
                fitting.add(len(value) - begin)
                count, words = count + 1, words or not is_number(value[begin:].decode("latin-1"))
        return words and count >= LEAST_COUNTED and len(fitting) > 1  # of numbers alone it may be chance

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
        every = without_tables(self.data[:SAMPLE_SIZE].splitlines()[:SAMPLE])
        lines = [
            line
            for line, following in zip(every, [*every[1:], b""], strict=False)
            if not _is_aside(line) and following.strip() != b"{"
        ]
        begun = [line for line in lines if line[:1] not in (b" ", b"\t")]
        has_sections = any(SECTION.fullmatch(line) for line in every)
        for marks in ((b"=", b":"), (b"\t", b" ")):
            for some in (lines, begun):
                found = {}
                for mark in marks:
                    found[mark] = sum(_keyed(KEYED[mark], line) for line in some)
                    if found[mark] and found[mark] >= len(some) * (1 - MOST_ODD):
                        return mark
            best = max(marks, key=lambda mark: found[mark])
            if has_sections and found[best] >= len(lines) * LEAST_IN_SECTIONS:
                return best  # values of several lines have lines of their own kind
        raise BindingError(self.what, 0, "its lines are not keys with values")

    def parse(self) -> Tree:
        is_tagged = re.search(rb"^[ \t]*\[/[^\]\r\n]+\]", self.data, re.MULTILINE) is not None
        return self._parsed(self.text_start, len(self.data), is_tagged=is_tagged, most_odd=MOST_ODD)

    def grown(self) -> GrowingTree | None:
        if not has_regions(self.data):
            return None
        self._regions = Regions(self.data, self.text_start, self.encoding, self._parsed, self._section_name)
        return self._regions.tree

    def namesakes(self, number: int, name: str) -> array[int]:
        found = self._regions.namesakes(number, name) if isinstance(self.tree, GrowingTree) else None
        return super().namesakes(number, name) if found is None else found

    def has_values(self) -> bool:
        if not isinstance(self.tree, GrowingTree):
            return super().has_values()
        end = self.data.rfind(b"\n", 0, SAMPLE_SIZE)
        return len(self._parsed(self.text_start, max(end, 0), most_odd=MOST_ODD)) > 1

    def _parsed(self, at: int, end_of_all: int, *, is_tagged: bool = False, most_odd: float = 1) -> Tree:
        """The values of some lines: of the whole text, or of a part of it that has no tags and braces."""
        data, builder = self.data, Builder(self.what)
        pattern = KEYED[self.separator]
        builder.begin(OBJECT, None, at, at)
        braces: list[bool] = []  # for each open one whether it is held by braces
        last, odd, count, number = at, 0, 0, 0
        first_odd = no_table = 0
        while at <= end_of_all:
            number += 1
            match = LINE.match(data, at, end_of_all)
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
                    builder.begin(OBJECT, self._section_name(section[2]), head, head)
                    braces.append(False)
                last = at + len(line.rstrip())
            elif first in COMMENTS and COMMENT.match(line):
                if checksum := self._checksum(at, end):
                    while braces and not braces[-1] and not is_tagged:
                        builder.end(last)
                        braces.pop()
                    start, last = checksum
                    builder.leaf(SCALAR, "#last" if at > self.text_start else "#first", start, start, last, last)
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
            elif at >= no_table and (run := self._without_keys(at, end_of_all, pattern)) and self._table(builder, run):
                count += len(run)
                last = end = run[-1][1]
            else:
                no_table = max(no_table, run[-1][1]) if at >= no_table and run else no_table
                is_more = line[:1] in (b" ", b"\t") and builder.tree.kinds[-1] != OBJECT  # of the value in front
                count, odd = count + 1, odd + (not is_more)
                first_odd = first_odd or at
                stop = at + len(line.rstrip())
                begin = at + len(line) - len(line.lstrip())
                builder.leaf(STRING, None, begin, begin, stop, stop, PART if is_more else LINE_ALONE)
                last = stop
            if odd > 8 and odd > count * most_odd:
                raise BindingError(self.what, first_odd, f"line {number} is not a key with a value")
            newline = ENDS.match(data, end, end_of_all)
            if newline is None:
                break
            at = newline.end()
        for is_brace in reversed(braces):
            if is_brace or is_tagged:
                name = builder.tree.names[builder.open_[-1]] or ""
                raise BindingError(self.what, last, f"“{name[:40]}” is not closed before the text ends")
            builder.end(last)
        builder.end(end_of_all)
        return builder.tree

    def _checksum(self, start: int, end: int) -> tuple[int, int] | None:
        """Where a checksum is in a comment that is the first line of the text or the last one."""
        at_an_end = start == self.text_start or not self.data[end : end + 4].strip()
        found = CHECKSUM.search(self.data, start, end) if at_an_end else None
        return found.span(1) if found is not None else None

    def _without_keys(self, at: int, end_of_all: int, pattern: re.Pattern[bytes]) -> list[tuple[int, int]]:
        """The lines from one on that have no key, up to one that has."""
        found = []
        while at < end_of_all:
            match = LINE.match(self.data, at, end_of_all)
            assert match is not None
            line = match[0]
            if not line.strip() or pattern.match(line) or _is_aside(line) or CLOSING.fullmatch(line):
                break
            found.append(match.span())
            newline = ENDS.match(self.data, match.end(), end_of_all)
            if newline is None:
                break
            at = newline.end()
        return found

    def _table(self, builder: Builder, run: list[tuple[int, int]]) -> bool:
        """Take in lines that are a table, where they are below a section or a key that says nothing itself."""
        tree, data = builder.tree, self.data
        holder = len(tree) - 1
        is_key = tree.kinds[holder] == SCALAR and tree.starts[holder] == tree.ends[holder]
        if not is_key and (holder != builder.open_[-1] or not holder):
            return False
        table = table_in([data[start:end] for start, end in run])
        if table is None:
            return False
        if is_key:
            tree.kinds[holder] = ARRAY
            builder.open_.append(holder)
        style = CELLS + MARKS.index(table.mark)
        names = [name.decode(self.encoding, "replace") for name in table.names]
        for (start, _), row in zip(run[1:], table.rows, strict=True):
            first, last = start + row[0][0], start + row[-1][1]
            builder.begin(OBJECT, None, first, first)
            for name, (begin, stop) in zip(names, row, strict=True):
                builder.leaf(SCALAR, name, start + begin, start + begin, start + stop, start + stop, style)
            builder.end(last)
        if is_key:
            builder.end(last)
        return True

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
        wanted = self._section_name(name)
        present = builder.tree.names[builder.open_[-1]] if braces else None
        if present != wanted:
            what = f"line {number}: [/{wanted[:40]}] closes what is not open"
            raise BindingError(self.what, head, what + (f"; [{present[:40]}] is" if present else ""))
        braces.pop()
        builder.end(end)

    def _value(self, builder: Builder, keyed: re.Match[bytes], end: int) -> int:
        data, start = self.data, keyed.end()
        if translated := TRANSLATED.match(data, start, end):
            start = translated.end()
        stop = max(_value_end(data, start, end), start)
        builder.tree.add(SCALAR, self._named(keyed[1]), keyed.start(1), start, stop, stop, 0)
        return stop

    def scalar_text(self, number: int) -> str:
        text = super().scalar_text(number)
        if isinstance(self._quoting, Counted) and self.tree.styles[number] < CELLS:
            raw = self.data[self.tree.starts[number] : self.tree.ends[number]]
            text = raw[self._quoting.behind_count(raw) :].decode(self.encoding, "replace")
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
