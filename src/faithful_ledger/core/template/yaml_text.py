"""YAML as templates use it: mappings, lists and plain values with the line of each, and nothing that could grow.

The text is read by libyaml, through PyYAML's events: from these, plain containers are built here, so that a stranger's
file can be bounded while it is read. Aliases, tags and keys with parts are refused; plain values mean what the core
schema of YAML 1.2 says (a number of more digits than any storage holds stays a text).
"""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Iterator
from copy import deepcopy
from functools import cached_property
from threading import Lock
from typing import Any, NamedTuple, TypeAlias

from faithful_ledger.core.errors import TemplateError

__all__ = ["LARGEST_TEMPLATE", "Document", "Where", "lately_read", "put_at", "read_yaml", "value_at"]

LARGEST_TEMPLATE = 2 << 20
DEEPEST = 60
MOST_PARTS = 100_000
LONGEST_NUMBER = 40
MOST_LATELY = 4
NO_PARTS: dict[Any, Any] = {}
ODD_BREAK = re.compile("[\r\x85\u2028\u2029]")  # what YAML takes for the end of a line as well
WHOLE = re.compile(r"[-+]?[0-9]+|0x[0-9a-fA-F]+|0o[0-7]+")
FRACTION = re.compile(r"[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]{1,3})?")
NUMERIC = frozenset("+-.0123456789")
WORDS = {"": None, "~": None, **dict.fromkeys(("null", "Null", "NULL"))}
WORDS |= dict.fromkeys(("true", "True", "TRUE"), True) | dict.fromkeys(("false", "False", "FALSE"), False)

Where: TypeAlias = tuple[str | int, ...]  # the way to a part of a document


class Lines(NamedTuple):
    """The line of a part, and those of its own parts by key or number."""

    line: int
    parts: dict[Any, Lines]


def _has_plain_lines(text: str) -> bool:
    """Whether the lines of a text are what is between line feeds, and each has one."""
    return text.endswith("\n") and ODD_BREAK.search(text) is None


class Block(NamedTuple):
    """A list in block style: the way to it, the column of its dashes, the line where each item begins and the one where
    the last ends, counted from 0.
    """

    where: Where
    column: int
    starts: list[int]
    end: int

    def is_item(self, row: str) -> bool:
        """Whether an item begins in a line with its dash and, behind it, something of what it says."""
        return row[self.column : self.column + 2] == "- " and row[self.column + 2 :].lstrip()[:1] not in ("", "#")

    def has_plain_items(self, rows: list[str]) -> bool:
        return all(self.is_item(rows[start]) for start in self.starts)

    def lines(self, number: int) -> tuple[int, int]:
        """The lines of an item, half-open."""
        return self.starts[number], self.starts[number + 1] if number + 1 < len(self.starts) else self.end

    def holding(self, first: int, last: int) -> int | None:
        """The item whose lines hold these, if one does."""
        number = bisect_right(self.starts, first) - 1
        return number if number >= 0 and last <= self.lines(number)[1] else None


class Document:
    """A YAML text as plain mappings, lists and values, with its lists in block style. `like` is the text that it was
    read by the help of, and the way to the one item of a list in which it differs from that.
    """

    def __init__(
        self, text: str, value: Any, parts: int, blocks: list[Block], like: tuple[str, Where] | None = None
    ) -> None:
        self.text, self.value, self.parts, self.blocks, self.like = text, value, parts, blocks, like

    @classmethod
    def read(cls, text: str, name: str) -> Document:
        """Errors as for `read_yaml`."""
        import yaml

        try:
            reader = _Reader(name, text)
            value = reader.document()
        except yaml.MarkedYAMLError as error:
            mark = error.problem_mark or error.context_mark
            problem = " ".join(str(error.problem or error.context).split())
            begin = error.context_mark or mark
            raise TemplateError(name, [(begin.line + 1 if begin else 0, f"this is not YAML: {problem}")]) from error
        except (yaml.YAMLError, ValueError, RecursionError) as error:
            raise TemplateError(name, [(0, f"this is not YAML: {str(error).splitlines()[0][:200]}")]) from error
        if not isinstance(value, dict):
            raise TemplateError(name, [(1, "a template is a mapping that begins with “ledger: 1”")])
        rows = text.split("\n") if _has_plain_lines(text) else []
        return cls(text, value, reader.parts, [each for each in reader.blocks if rows and each.has_plain_items(rows)])

    def copy(self) -> Document:
        """The same with a value of its own, to be changed."""
        return Document(self.text, deepcopy(self.value), self.parts, [])

    @cached_property
    def lines(self) -> Lines:
        """The line of each part; of the same shape as the value."""
        import yaml

        return _lines(yaml.compose(self.text, Loader=getattr(yaml, "CSafeLoader", yaml.SafeLoader)))

    def walk(self, where: Where) -> Iterator[tuple[Any, str | int]]:
        """Each container on the way to a key and the step taken from it.

        pydantic puts the alternative it tried into the way (“field” behind the number of an element, “int” behind a
        value); that is not a key of the document, even where an element has a key of that name with a plain value.
        """
        holder: Any = self.value
        for number, step in enumerate(where):
            known = isinstance(step, int) and step < len(holder) if isinstance(holder, list) else step in holder
            if not known:
                continue
            plain = not isinstance(holder[step], dict | list)
            behind_number = number > 0 and isinstance(where[number - 1], int)
            if plain and behind_number and number < len(where) - 1:
                continue
            yield holder, step
            if plain:
                return
            holder = holder[step]

    def line(self, where: Where) -> int:
        """The line of a key, or of the nearest thing around it."""
        lines = self.lines
        for _, step in self.walk(where):
            lines = lines.parts.get(step, lines)
        return lines.line

    def item_at(self, where: Where) -> tuple[Block, int] | None:
        """The innermost list in block style on the way to a place, and the number of the item."""
        on_the_way = [each for each in self.blocks if each.where == where[: len(each.where)] != where]
        block = max(on_the_way, key=lambda each: len(each.where), default=None)
        number = where[len(block.where)] if block is not None else None
        return (block, number) if block is not None and isinstance(number, int) and number < len(block.starts) else None

    def span(self, block: Block, number: int) -> tuple[int, int]:
        """The offsets between which the lines of an item are."""
        rows = self.text.split("\n")
        first, end = block.lines(number)
        begin = sum(map(len, rows[:first])) + first
        return begin, min(begin + sum(map(len, rows[first:end])) + end - first, len(self.text))

    def changed(self, text: str) -> Document | None:
        """What a text says that differs from this one in one item of a list in block style; None where it does not, or
        where that is not certain from the lines of the item alone.
        """
        import yaml

        before, after = self.text.split("\n"), text.split("\n")
        shorter = min(len(before), len(after))
        head = next((n for n in range(shorter) if before[n] != after[n]), shorter)
        tail = next((n for n in range(shorter - head) if before[~n] != after[~n]), shorter - head)
        holding = [(each, each.holding(head, len(before) - tail)) for each in self.blocks]
        found = [(block, number) for block, number in holding if number is not None]
        if not found or not _has_plain_lines(text):
            return None
        block, number = max(found, key=lambda each: len(each[0].where))
        first, end = block.lines(number)
        longer = len(after) - len(before)
        where = (*block.where, number)
        rows = after[first : end + longer]
        if not rows or rows[0][: block.column].strip() or not block.is_item(rows[0]):
            return None
        reader = _Reader("", "".join(row + "\n" for row in rows), len(where) - 1)
        try:
            items = reader.document()
        except (TemplateError, yaml.YAMLError, ValueError, RecursionError):
            return None
        if not isinstance(items, list) or len(items) != 1 or self.parts + reader.parts > MOST_PARTS:
            return None
        inner = [
            Block((*where, *each.where[1:]), each.column, [first + n for n in each.starts], first + each.end)
            for each in reader.blocks
            if each.where and each.has_plain_items(rows)
        ]
        outer = [_moved(each, end, longer) for each in self.blocks if each.where[: len(where)] != where]
        value = put_at(self.value, where, items[0])
        return Document(text, value, self.parts + reader.parts, [*outer, *inner], (self.text, where))


def _moved(block: Block, behind: int, lines: int) -> Block:
    """A list of which what begins behind a line has moved by some lines."""
    starts = [each + lines if each >= behind else each for each in block.starts]
    return Block(block.where, block.column, starts, block.end + lines if block.end >= behind else block.end)


def value_at(value: Any, where: Where) -> Any:
    """The part of a value at a place."""
    for step in where:
        value = value[step]
    return value


def put_at(value: Any, where: Where, part: Any) -> Any:
    """A value with another part at a place; what is around it is made anew, and all else is shared."""
    if not where:
        return part
    step, *rest = where
    fresh = list(value) if isinstance(value, list) else dict(value)
    fresh[step] = put_at(value[step], tuple(rest), part)  # type: ignore[index]
    return fresh


class _Lately:
    """The texts that were read last: while one is changed by hand, most of it is as it was."""

    def __init__(self) -> None:
        self._all: list[Document] = []
        self._lock = Lock()

    def find(self, text: str) -> Document | None:
        """What is known of a text, by itself or by one that is much like it."""
        with self._lock:
            known = list(self._all)
        found = next((each for each in known if each.text == text), None)
        if found is None:
            found = next((made for each in known if (made := each.changed(text)) is not None), None)
        if found is not None:
            self.add(found)
        return found

    def add(self, document: Document) -> None:
        with self._lock:
            self._all = [document, *(each for each in self._all if each.text != document.text)][:MOST_LATELY]


_LATELY = _Lately()


def lately_read(text: str) -> Document | None:
    """What is known of a text without reading all of it: it was read lately, or differs little from one that was."""
    return _LATELY.find(text)


def read_yaml(text: bytes, name: str) -> Document:
    """Raises TemplateError, with a line, for a text that is not YAML, or not of the kind that is read here."""
    if len(text) > LARGEST_TEMPLATE:
        raise TemplateError(name, [(0, f"it is larger than {LARGEST_TEMPLATE >> 20} MiB")])
    try:
        decoded = text.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = text[: error.start].count(b"\n") + 1
        raise TemplateError(name, [(line, "this is not UTF-8 text")]) from error
    if (known := lately_read(decoded)) is not None:
        return known
    document = Document.read(decoded, name)
    _LATELY.add(document)
    return document


class _Reader:
    """Builds plain values from events. `blocks` are the lists in block style that were met."""

    def __init__(self, name: str, text: str, depth: int = 0) -> None:
        import yaml

        self.name, self.depth = name, depth
        self.next = yaml.parse(text, Loader=getattr(yaml, "CSafeLoader", yaml.SafeLoader)).__next__
        self.parts = 0
        self.blocks: list[Block] = []
        self.scalar, self.alias, self.sequence = yaml.ScalarEvent, yaml.AliasEvent, yaml.SequenceStartEvent
        self.document_start, self.stream_end = yaml.DocumentStartEvent, yaml.StreamEndEvent
        self.ends = (yaml.SequenceEndEvent, yaml.MappingEndEvent)

    def document(self) -> Any:
        found = None
        documents = 0
        while type(event := self.next()) is not self.stream_end:
            if type(event) is self.document_start:
                documents += 1
                if documents > 1:
                    raise self.mistake(event, "a template is one document, without “---” in it")
                found = self.value(self.next(), ())
        return found

    def value(self, event: Any, where: Where) -> Any:
        self.parts += 1
        if self.parts > MOST_PARTS:
            raise self.mistake(event, f"it has more than {MOST_PARTS} parts")
        kind = type(event)
        if kind is self.alias:
            raise self.mistake(event, "aliases (*name) are not allowed; use records")
        if event.tag is not None:
            raise self.mistake(event, f"tags ({event.tag[:60]}) are not allowed; write the value alone")
        if kind is self.scalar:
            return _plain(event.value) if event.implicit[0] else event.value
        if len(where) + self.depth >= DEEPEST:
            raise self.mistake(event, f"it is nested deeper than {DEEPEST} levels")
        if kind is self.sequence:
            return self.list_of(event, where)
        members: dict[Any, Any] = {}
        while type(inner := self.next()) not in self.ends:
            if type(inner) is not self.scalar and type(inner) is not self.alias:
                raise self.mistake(inner, "a key is a word or a number, not something with parts")
            key = self.value(inner, where)
            if key in members:
                raise self.mistake(inner, f"the key “{str(key)[:40]}” is here twice")
            members[key] = self.value(self.next(), (*where, key))
        return members

    def list_of(self, event: Any, where: Where) -> list[Any]:
        inner: Any
        items: list[Any] = []
        starts: list[int] = []
        while type(inner := self.next()) not in self.ends:
            starts.append(inner.start_mark.line)
            items.append(self.value(inner, (*where, len(items))))
        if not event.flow_style and starts:
            self.blocks.append(Block(where, event.start_mark.column, starts, inner.start_mark.line))
        return items

    def mistake(self, event: Any, text: str) -> TemplateError:
        return TemplateError(self.name, [(event.start_mark.line + 1, text)])


def _lines(node: Any) -> Lines:
    """The lines of a node of libyaml and of its parts."""
    line, parts = node.start_mark.line + 1, {}
    if isinstance(node.value, str):
        return Lines(line, NO_PARTS)
    for number, part in enumerate(node.value):
        if isinstance(part, tuple):
            key, value = part
            parts[_plain(key.value) if key.style is None else key.value] = Lines(
                key.start_mark.line + 1, _lines(value).parts
            )
        else:
            parts[number] = _lines(part)
    return Lines(line, parts)


def _plain(text: str) -> Any:
    """What a value without quotation marks means."""
    if text in WORDS:
        return WORDS[text]
    if text[0] in NUMERIC and len(text) <= LONGEST_NUMBER:
        if WHOLE.fullmatch(text):
            return int(text, 0) if text[:2] in ("0x", "0o") else int(text)
        if FRACTION.fullmatch(text):
            number = float(text)
            return number if abs(number) != float("inf") else text
    return text
