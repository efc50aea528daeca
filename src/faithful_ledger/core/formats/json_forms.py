"""JSON text spelled in another way: without blanks, with the usual ones, indented, its members sorted. Games hash a
text as their library writes it, whatever it looks like in the file.

Numbers and strings stay as they are spelled; only what is between them changes. A string alone may be what it says.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from contextlib import suppress
from typing import NamedTuple

from faithful_ledger.core.errors import AddressError
from faithful_ledger.core.formats.document import BOM

__all__ = ["FORMS", "STRING", "JsonNode", "in_form", "parsed", "spelled"]

TOKEN = re.compile(rb'[{}\[\],:]|"(?:[^"\\]|\\.)*"|[^\s{}\[\],:"]+', re.DOTALL)
INDENTS = {"indented-2": b"  ", "indented-4": b"    ", "indented-tab": b"\t"}
PLAIN = ("compact", "spaced", *INDENTS)
SORTED = "sorted-"
FORMS = (*PLAIN, *(f"{SORTED}{form}" for form in PLAIN))
STRING = "string"  # what a string says, without quotes and escapes
DEEPEST = 200


class JsonNode(NamedTuple):
    """A value at [start, end) of a text: `raw` of a single one; else its members, each with its name, with the quotes,
    or none in a list.
    """

    start: int
    end: int
    raw: bytes
    members: list[tuple[bytes, JsonNode]] | None = None

    @property
    def is_list(self) -> bool:
        return self.raw == b"["


def parsed(data: bytes) -> JsonNode:
    """Raises AddressError where it is not a JSON text."""
    tokens = _Tokens(data)
    node = tokens.value(0)
    if next(tokens.every, None) is not None:
        raise AddressError("more follows behind the end of the JSON text")
    return node


class _Tokens:
    def __init__(self, data: bytes) -> None:
        self.every: Iterator[re.Match[bytes]] = TOKEN.finditer(data, len(BOM) if data.startswith(BOM) else 0)

    def next(self) -> re.Match[bytes]:
        found = next(self.every, None)
        if found is None:
            raise AddressError("the JSON text is cut off")
        return found

    def value(self, depth: int, first: re.Match[bytes] | None = None) -> JsonNode:
        token = first or self.next()
        raw = token[0]
        if raw in (b"{", b"["):
            return self.members(token, depth + 1)
        if raw in b"}],:":
            raise AddressError(f"a value is missing at {token.start()} of the JSON text")
        return JsonNode(token.start(), token.end(), raw)

    def members(self, begin: re.Match[bytes], depth: int) -> JsonNode:
        if depth > DEEPEST:
            raise AddressError(f"the JSON text is nested deeper than {DEEPEST} levels")
        closing = b"}" if begin[0] == b"{" else b"]"
        members: list[tuple[bytes, JsonNode]] = []
        token = self.next()
        while token[0] != closing:
            name = b""
            if closing == b"}":
                name, colon = token[0], self.next()
                if not name.startswith(b'"') or colon[0] != b":":
                    raise AddressError(f"a member has no name at {token.start()} of the JSON text")
                token = self.next()
            members.append((name, self.value(depth, token)))
            token = self.next()
            if token[0] == b",":
                token = self.next()
                if token[0] == closing:
                    raise AddressError(f"a value is missing at {token.start()} of the JSON text")
            elif token[0] != closing:
                raise AddressError(f"a comma is missing at {token.start()} of the JSON text")
        return JsonNode(begin.start(), token.end(), begin[0], members)


def in_form(data: bytes, form: str) -> bytes:
    """Raises AddressError where it is not a JSON text, or not a string whose letters are wanted."""
    if form != STRING:
        return spelled(parsed(data), form)
    with suppress(ValueError):
        text = json.loads(data)
        if isinstance(text, str):
            return text.encode("utf-8", "surrogateescape")
    raise AddressError("it is not a string of a JSON text")


def spelled(node: JsonNode, form: str) -> bytes:
    """A value in a form."""
    sorts, plain = form.startswith(SORTED), form.removeprefix(SORTED)
    return b"".join(_spelled(node, plain, b"\n", sorts=sorts))


def _spelled(node: JsonNode, form: str, line: bytes, *, sorts: bool) -> Iterator[bytes]:
    if node.members is None:
        yield node.raw
        return
    opening, closing = (b"[", b"]") if node.is_list else (b"{", b"}")
    yield opening
    inner = line + INDENTS[form] if form in INDENTS else b""
    colon = b":" if form == "compact" else b": "
    between = b"," if form in ("compact", *INDENTS) else b", "
    members = sorted(node.members, key=lambda member: member[0]) if sorts and not node.is_list else node.members
    for number, (name, value) in enumerate(members):
        yield between if number else b""
        yield inner
        yield name + colon if name else b""
        yield from _spelled(value, form, inner, sorts=sorts)
    yield line if members and form in INDENTS else b""
    yield closing
