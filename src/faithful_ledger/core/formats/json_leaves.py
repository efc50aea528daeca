"""Every value of a JSON text with its path and place, also of JSON inside a string."""

from __future__ import annotations

import json
from collections.abc import Iterator
from fractions import Fraction
from typing import NamedTuple

from faithful_ledger.core.codecs.numbers import parse_decimal
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.formats.json_text import JsonNode, parse_json
from faithful_ledger.core.paths import format_name

__all__ = ["JsonLeaf", "json_leaves", "json_tree"]

LONGEST_NUMBER = 60
DEEPEST_TEXTS = 4  # texts within texts


class JsonLeaf(NamedTuple):
    """A number, a text, or true or false, in the bytes [start, end); inside a string, those of the string."""

    path: str
    start: int
    end: int
    stored_as: str
    value: Fraction | str


def json_tree(data: bytes) -> JsonNode | None:
    """The tree of a JSON text, or None where it is none."""
    if data[:64].lstrip(b"\xef\xbb\xbf \t\r\n")[:1] not in (b"{", b"["):
        return None
    try:
        return parse_json(data)
    except LedgerError:
        return None


def json_leaves(tree: JsonNode, data: bytes) -> Iterator[JsonLeaf]:
    """Every number and text; a text that is JSON itself is entered, as `name(text).inner`."""
    yield from _leaves(tree, data, "", 0)


def _leaves(node: JsonNode, data: bytes, path: str, depth: int) -> Iterator[JsonLeaf]:
    for name, child in node.members.items():
        yield from _leaves(child, data, f"{path}.{format_name(name)}" if path else format_name(name), depth)
    for number, child in enumerate(node.items):
        yield from _leaves(child, data, f"{path}[{number}]", depth)
    raw = data[node.start : node.end]
    if node.kind == "number" and len(raw) < LONGEST_NUMBER:
        exact = parse_decimal(raw.decode())
        if exact is not None:
            yield JsonLeaf(path, node.start, node.end, "digits", exact)
    elif node.kind == "word" and raw != b"null":
        yield JsonLeaf(path, node.start, node.end, "true or false", raw.decode())
    elif node.kind == "string":
        text = str(json.loads(raw))
        yield JsonLeaf(path, node.start, node.end, "utf-8", text)
        inner = text.encode("utf-8", "replace")
        tree = json_tree(inner) if depth < DEEPEST_TEXTS else None
        if tree is not None:
            for leaf in _leaves(tree, inner, "", depth + 1):
                name = leaf.path if leaf.path.startswith("[") else f".{leaf.path}"
                kind = leaf.stored_as if leaf.stored_as.endswith(" in a string") else f"{leaf.stored_as} in a string"
                yield JsonLeaf(f"{path}(text){name}", node.start, node.end, kind, leaf.value)
