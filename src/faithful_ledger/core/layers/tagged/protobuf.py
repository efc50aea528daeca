"""Messages of Protocol Buffers (the encoding of its documentation) without their description: fields by their numbers.

What bytes are is not said in them: letters are a text, what is a message to its end is one, and a number of four or
eight bytes is a fraction where that is a usual one. A field that stands more than once is a list. A message that
changes is written anew around the fields that stay, in the order they had.
"""

from __future__ import annotations

import struct
from collections import Counter
from typing import Any

from faithful_ledger.core.edits import Cause, Replacement
from faithful_ledger.core.layers.tagged.fractions import is_usual, short_fraction
from faithful_ledger.core.layers.tagged.tree import (
    Codec,
    Cursor,
    Malformed,
    Node,
    is_same,
    one_replacement,
    plain,
    refuse,
    varint,
)

__all__ = ["Protobuf"]

VARINT, EIGHT, SIZED, FOUR = 0, 1, 2, 5
FRACTION = 8  # beside the kind of a field
LARGEST_FIELD, LONGEST_VARINT = 1 << 12, 10
LEAST_FIELDS, LEAST_LETTERS = 4, 4  # of a whole payload that is believed to be a message


class Protobuf(Codec):
    name = "protobuf"

    def may_be(self, data: bytes) -> bool:
        return len(data) > 1 and data[0] & 7 in (VARINT, EIGHT, SIZED, FOUR) and 0 < data[0] >> 3 < 16

    def is_telling(self, root: Node) -> bool:
        """Some fields, of which texts are letters: bytes of another kind are hardly ever all that."""
        waiting, letters = [root], 0
        while waiting and letters < LEAST_LETTERS:
            node = waiting.pop()
            waiting += node.parts
            letters += sum(map(str.isalpha, node.value)) if isinstance(node.value, str) else 0
        return sum(len(part.parts) or 1 for part in root.parts) >= LEAST_FIELDS and letters >= LEAST_LETTERS

    def parse(self, data: bytes) -> Node:
        return _message(Cursor(data), 0, len(data))

    def scalar(self, value: int | float | str | bool | bytes | None, like: Node | None) -> bytes:
        kind = like.form if like is not None else -1
        if kind == VARINT and isinstance(value, int) and not isinstance(value, bool):
            if not -(1 << 63) <= value < 1 << 64:
                raise refuse(value, "a whole number of eight bytes")
            return varint(value & (1 << 64) - 1)
        if kind & 7 in (FOUR, EIGHT) and isinstance(value, int | float) and not isinstance(value, bool):
            size = 4 if kind & 7 == FOUR else 8
            try:
                if kind & FRACTION:
                    return struct.pack("<f" if size == 4 else "<d", value)
                return int(value).to_bytes(size, "little", signed=value < 0)
            except OverflowError as error:
                raise refuse(value, f"a number of {size} bytes") from error
        if kind == SIZED and isinstance(value, str | bytes):
            return value.encode("utf-8", "surrogateescape") if isinstance(value, str) else value
        raise refuse(value, "a value of the kind that it was")

    def replaced(self, data: bytes, root: Node, new: Any, cause: Cause) -> list[Replacement]:
        return one_replacement(data, self._written(root, new, data), cause)

    def _written(self, node: Node, new: Any, data: bytes) -> bytes:
        """What a field holds, without its number and its size."""
        if is_same(plain(node), new):
            return data[node.start : node.end]
        if node.kind != "map":
            return self.encoded(new, node, data)
        if not isinstance(new, dict) or list(new) != node.keys:
            raise refuse(list(new) if isinstance(new, dict) else new, "a message with the fields it had")
        out, left = (
            bytearray(),
            {key: _as_list(part, new[key]) for key, part in zip(node.keys, node.parts, strict=True)},
        )
        fields = [(key, each) for key, part in zip(node.keys, node.parts, strict=True) for each in _each(part)]
        fields.sort(key=lambda field: field[1].start)
        behind = Counter(key for key, _ in fields)
        for key, field in fields:
            behind[key] -= 1
            values = left[key]
            taken, left[key] = (values[:1], values[1:]) if behind[key] else (values, [])
            for value in taken:
                content = self._written(field, value, data)
                size = varint(len(content)) if field.form & 7 == SIZED else b""
                out += varint(int(key) << 3 | field.form & 7) + size + content
        return bytes(out)


def _each(part: Node) -> list[Node]:
    return part.parts if part.kind == "list" else [part]


def _as_list(part: Node, value: Any) -> list[Any]:
    """The values of a field; what occurs only once is not a list any more."""
    if part.kind != "list":
        return [value]
    if not isinstance(value, list) or len(value) < 2:
        raise refuse(value, "a list of two values at least")
    return value


def _message(cursor: Cursor, start: int, end: int) -> Node:
    """Raises Malformed where the bytes are not fields to their end."""
    cursor.enter()
    cursor.depth += 1
    cursor.at = start
    node = Node("map", start, end, form=SIZED)
    found: dict[str, Node] = {}
    while cursor.at < end:
        tag = _number(cursor)
        number, kind = tag >> 3, tag & 7
        if not 0 < number < LARGEST_FIELD:
            raise Malformed("a field has an unusual number")
        value = _field(cursor, kind, end)
        if cursor.at > end:
            raise Malformed("a field goes beyond its message")
        known = found.setdefault(str(number), value)
        if known is not value:
            if known.kind != "list":
                found[str(number)] = known = Node("list", known.start, known.end, parts=[known])
            known.parts.append(value)
    cursor.depth -= 1
    node.keys, node.parts = list(found), list(found.values())
    return node


def _field(cursor: Cursor, kind: int, end: int) -> Node:
    cursor.enter()
    if kind == SIZED:
        size = _number(cursor)
        start = cursor.at
        raw = cursor.take(size)
        node = _of_bytes(cursor, raw, start, start + size) if cursor.at <= end else Node("blob", start, start, raw)
        cursor.at, node.form = start + size, SIZED
        return node
    start = cursor.at
    if kind == VARINT:
        value = _number(cursor)
        return Node("number", start, cursor.at, value - (1 << 64) if value >> 63 else value, VARINT)
    if kind not in (FOUR, EIGHT):
        raise Malformed("a field is of an unknown kind")
    raw = cursor.take(4 if kind == FOUR else 8)
    fraction = short_fraction(raw[::-1]) if kind == FOUR else struct.unpack("<d", raw)[0]
    if is_usual(fraction) or raw == bytes(len(raw)):
        return Node("number", start, cursor.at, fraction, kind | FRACTION)
    return Node("number", start, cursor.at, int.from_bytes(raw, "little"), kind)


def _of_bytes(cursor: Cursor, raw: bytes, start: int, end: int) -> Node:
    try:
        text = raw.decode("utf-8")
        if text.isprintable() or not text.strip("\t\r\n").strip():
            return Node("text", start, end, text)
    except UnicodeDecodeError:
        pass
    depth = cursor.depth
    try:
        return _message(cursor, start, end)
    except Malformed:
        cursor.depth = depth
        return Node("blob", start, end, raw)


def _number(cursor: Cursor) -> int:
    return cursor.varint(LONGEST_VARINT) & (1 << 64) - 1
