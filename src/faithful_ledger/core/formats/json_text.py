"""JSON (RFC 8259) with the span of every value, so that one value can give way and every other byte stays.

The standard library's reader forgets where a value stood; this one keeps nothing else. Numbers and strings are not
decoded here, a codec does that with the bytes of the span.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from types import MappingProxyType

from faithful_ledger.core.errors import AddressError, BindingError
from faithful_ledger.core.paths import Step, format_name, format_path

__all__ = ["JsonNode", "parse_json"]

DEEPEST = 200
NO_MEMBERS: Mapping[str, JsonNode] = MappingProxyType({})
TOKEN = re.compile(
    rb'[ \t\r\n]*+(?:(?P<string>"[^"\\\x00-\x1f]*+(?:\\.[^"\\\x00-\x1f]*+)*+")|(?P<number>-?[0-9][0-9.eE+-]*)'
    rb"|(?P<word>true|false|null)|(?P<mark>[\[\]{}:,]))",
    re.DOTALL,
)
BLANK = re.compile(rb"[ \t\r\n]*")


class JsonNode:
    """A value: `kind` is object, array, string, number or word (true, false, null); its bytes are [start, end)."""

    __slots__ = ("end", "items", "kind", "members", "start")

    def __init__(self, kind: str, start: int, end: int = 0) -> None:
        self.kind, self.start, self.end = kind, start, end
        self.members: Mapping[str, JsonNode] = NO_MEMBERS
        self.items: Sequence[JsonNode] = ()

    def find(self, steps: tuple[Step, ...], data: bytes) -> JsonNode:
        """The value a path leads to.

        Raises:
            AddressError: naming the step that has no counterpart, and what is there instead.
        """
        node = self
        for number, step in enumerate(steps):
            found = node._step(step, data)
            if found is None:
                raise AddressError(
                    f"{format_path(steps[: number + 1])} is not in this text", node._hint(steps[number:])
                )
            node = found
        return node

    def _step(self, step: Step, data: bytes) -> JsonNode | None:
        if step.name is not None:
            return self.members.get(step.name)
        if step.index is not None:
            return self.items[step.index] if step.index < len(self.items) else None
        for item in self.items:
            member = item.members.get(step.key or "")
            if member is not None and member.plain(data) == step.value:
                return item
        return None

    def plain(self, data: bytes) -> str:
        """The value as a key is compared: a string without its quotes and escapes, anything else as spelled."""
        raw = data[self.start : self.end]
        return str(json.loads(raw)) if self.kind == "string" else raw.decode("utf-8", "replace")

    def _hint(self, steps: tuple[Step, ...]) -> str:
        """What is here instead; a name with a dot in it that was written without quotation marks is recognised."""
        for end in range(2, len(steps) + 1):
            name = ".".join(step.name or "" for step in steps[:end])
            if name in self.members:
                return f"there is one name “{name}”; write it in quotation marks: {format_name(name)}"
        return f"here are {self._told()}"

    def _told(self) -> str:
        if self.kind == "object":
            return ", ".join(map(format_name, list(self.members)[:12])) or "no members"
        return f"{len(self.items)} items" if self.kind == "array" else f"a {self.kind} and nothing inside"


def parse_json(data: bytes) -> JsonNode:
    """All values of a JSON text with their spans (in bytes of `data`).

    Raises:
        BindingError: where the text stops being JSON, is nested deeper than 200 levels, or repeats a key.
    """
    try:
        data.decode("utf-8")
    except UnicodeDecodeError as error:
        raise _broken(error.start, "this is no UTF-8 text") from error
    start = 3 if data.startswith(b"\xef\xbb\xbf") else 0
    reader = _Reader(data, start)
    root = reader.value(0)
    blank = BLANK.match(data, reader.at)
    if blank is not None and blank.end() != len(data):
        raise _broken(blank.end(), "the text goes on after its value")
    return root


class _Reader:
    def __init__(self, data: bytes, at: int) -> None:
        self.data, self.at = data, at

    def token(self, wanted: str) -> re.Match[bytes]:
        match = TOKEN.match(self.data, self.at)
        if match is None:
            at = min(self.at, len(self.data))
            raise _broken(at, f"{wanted} is expected" + (", and the text ends" if at >= len(self.data) else ""))
        self.at = match.end()
        return match

    def value(self, depth: int) -> JsonNode:
        if depth > DEEPEST:
            raise _broken(self.at, f"it is nested deeper than {DEEPEST} levels")
        match = self.token("a value")
        kind = match.lastgroup or ""
        start = match.start(kind)
        if kind != "mark":
            if kind == "string":
                _check_string(match[kind], start)
            elif kind == "number":
                _check_number(match[kind], start)
            return JsonNode(kind, start, match.end())
        if match[kind] == b"[":
            node = JsonNode("array", start)
            node.items = [self.value(depth + 1) for _ in self.separated(b"]")]
        elif match[kind] == b"{":
            node = JsonNode("object", start)
            node.members = members = dict[str, JsonNode]()
            for _ in self.separated(b"}"):
                name = self.token("a name in quotes")
                if name.lastgroup != "string" or self.token("a colon")["mark"] != b":":
                    raise _broken(name.end(), "a name in quotes and a colon are expected")
                key = _check_string(name["string"], name.start("string"))
                if key in members:
                    raise _broken(name.start("string"), f"the name “{key[:40]}” stands here twice")
                members[key] = self.value(depth + 1)
        else:
            raise _broken(start, "a value is expected")
        node.end = self.at
        return node

    def separated(self, close: bytes) -> Iterator[None]:
        match = TOKEN.match(self.data, self.at)
        if match is not None and match["mark"] == close:
            self.at = match.end()
            return
        while True:
            yield
            mark = self.token(f"a comma or {close.decode()}")
            if mark["mark"] == close:
                return
            if mark["mark"] != b",":
                raise _broken(mark.end() - 1, f"a comma or {close.decode()} is expected")


def _check_string(raw: bytes, at: int) -> str:
    try:
        return str(json.loads(raw))
    except ValueError as error:
        raise _broken(at, "this string has an escape that JSON does not know") from error


def _check_number(raw: bytes, at: int) -> None:
    if not re.fullmatch(rb"-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?", raw):
        raise _broken(at, f"{raw[:30].decode()} is no number of JSON")


def _broken(at: int, what: str) -> BindingError:
    return BindingError("the JSON text", at, what)
