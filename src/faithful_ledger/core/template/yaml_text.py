"""YAML as templates use it: mappings, lists and plain values with the line of each, and nothing that could grow.

The text is read by libyaml, through PyYAML's events: from these, plain containers are built here, so that a stranger's
file can be bounded while it is read. Aliases, tags and keys with parts are refused; plain values mean what the core
schema of YAML 1.2 says (a number of more digits than any storage holds stays a text).
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any, NamedTuple, TypeAlias

from faithful_ledger.core.errors import TemplateError

__all__ = ["LARGEST_TEMPLATE", "Document", "Where", "read_yaml"]

LARGEST_TEMPLATE = 2 << 20
DEEPEST = 60
MOST_PARTS = 100_000
LONGEST_NUMBER = 40
NO_PARTS: dict[Any, Any] = {}
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


class Document(NamedTuple):
    """A YAML text as plain mappings, lists and values. `lines` has the same shape."""

    value: dict[Any, Any]
    lines: Lines

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


def read_yaml(text: bytes, name: str) -> Document:
    """Raises TemplateError, with a line, for a text that is not YAML, or not of the kind that is read here."""
    import yaml

    if len(text) > LARGEST_TEMPLATE:
        raise TemplateError(name, [(0, f"it is larger than {LARGEST_TEMPLATE >> 20} MiB")])
    try:
        decoded = text.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = text[: error.start].count(b"\n") + 1
        raise TemplateError(name, [(line, "this is not UTF-8 text")]) from error
    try:
        reader = _Reader(name, yaml.parse(decoded, Loader=getattr(yaml, "CSafeLoader", yaml.SafeLoader)))
        value, lines = reader.document()
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        problem = " ".join(str(error.problem or error.context).split())
        begin = error.context_mark or mark
        raise TemplateError(name, [(begin.line + 1 if begin else 0, f"this is not YAML: {problem}")]) from error
    except (yaml.YAMLError, ValueError, RecursionError) as error:
        raise TemplateError(name, [(0, f"this is not YAML: {str(error).splitlines()[0][:200]}")]) from error
    if not isinstance(value, dict):
        raise TemplateError(name, [(1, "a template is a mapping that begins with “ledger: 1”")])
    return Document(value, lines)


class _Reader:
    def __init__(self, name: str, events: Iterator[Any]) -> None:
        import yaml

        self.name, self.next = name, events.__next__
        self.parts = 0
        self.scalar, self.alias, self.sequence = yaml.ScalarEvent, yaml.AliasEvent, yaml.SequenceStartEvent
        self.document_start, self.stream_end = yaml.DocumentStartEvent, yaml.StreamEndEvent
        self.ends = (yaml.SequenceEndEvent, yaml.MappingEndEvent)

    def document(self) -> tuple[Any, Lines]:
        found: tuple[Any, Lines] = (None, Lines(1, {}))
        documents = 0
        while type(event := self.next()) is not self.stream_end:
            if type(event) is self.document_start:
                documents += 1
                if documents > 1:
                    raise self.mistake(event, "a template is one document, without “---” in it")
                found = self.value(self.next(), 0)
        return found

    def value(self, event: Any, depth: int) -> tuple[Any, Lines]:
        self.parts += 1
        if self.parts > MOST_PARTS:
            raise self.mistake(event, f"it has more than {MOST_PARTS} parts")
        kind = type(event)
        if kind is self.alias:
            raise self.mistake(event, "aliases (*name) are not allowed; use records")
        if event.tag is not None:
            raise self.mistake(event, f"tags ({event.tag[:60]}) are not allowed; write the value alone")
        line = event.start_mark.line + 1
        if kind is self.scalar:
            return (_plain(event.value) if event.implicit[0] else event.value), Lines(line, NO_PARTS)
        if depth >= DEEPEST:
            raise self.mistake(event, f"it is nested deeper than {DEEPEST} levels")
        parts: dict[Any, Lines] = {}
        if kind is self.sequence:
            items: list[Any] = []
            while type(inner := self.next()) not in self.ends:
                item, parts[len(items)] = self.value(inner, depth + 1)
                items.append(item)
            return items, Lines(line, parts)
        members: dict[Any, Any] = {}
        while type(inner := self.next()) not in self.ends:
            if type(inner) is not self.scalar and type(inner) is not self.alias:
                raise self.mistake(inner, "a key is a word or a number, not something with parts")
            key, (begins, _) = self.value(inner, depth + 1)
            if key in members:
                raise self.mistake(inner, f"the key “{str(key)[:40]}” is here twice")
            members[key], inside = self.value(self.next(), depth + 1)
            parts[key] = Lines(begins, inside.parts)
        return members, Lines(line, parts)

    def mistake(self, event: Any, text: str) -> TemplateError:
        return TemplateError(self.name, [(event.start_mark.line + 1, text)])


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
