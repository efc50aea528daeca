"""Named binary tags (NBT, as its public description has them): every value has a kind and a name, in either byte order.

Sizes are counts of parts or of letters, so that nothing has to follow a value that grows. Kinds stay, and with them the
width of every number; a list may get parts of the kind that it has.
"""

from __future__ import annotations

import struct
from typing import Any, Literal

from faithful_ledger.core.layers.tagged.tree import (
    Codec,
    Cursor,
    Malformed,
    Node,
    as_number,
    is_same,
    plain,
    refuse,
    utf8,
)

__all__ = ["NamedTags"]

END, BYTE, SHORT, INT, LONG, FLOAT, DOUBLE, BYTES, TEXT, LIST, MAP, INTS, LONGS = range(13)
CODES = {BYTE: "b", SHORT: "h", INT: "i", LONG: "q", FLOAT: "f", DOUBLE: "d"}
ARRAYS = {BYTES: BYTE, INTS: INT, LONGS: LONG}
LONGEST_NAME = 1 << 10


class NamedTags(Codec):
    def __init__(self, order: Literal["big", "little"] = "big") -> None:
        self.name = "nbt" if order == "big" else "nbt-le"
        self._order: Literal["big", "little"] = order
        self._mark = ">" if order == "big" else "<"

    def may_be(self, data: bytes) -> bool:
        """Whether a group with a name is there, in which another tag is."""
        if len(data) < 8 or data[0] not in (MAP, LIST):
            return False
        size = int.from_bytes(data[1:3], self._order)
        behind = data[3 + size : 6 + size]
        return size < LONGEST_NAME and (len(behind) < 3 or behind[0] <= LONGS)

    def value_at(self, cursor: Cursor) -> Node:
        kind = cursor.byte()
        if kind not in (MAP, LIST):
            raise Malformed("it begins with another tag")
        self._text(cursor)
        return self._value(cursor, kind)

    def _number(self, cursor: Cursor, size: int) -> int:
        return cursor.number(size, self._order)

    def _text(self, cursor: Cursor) -> str:
        return utf8(cursor.take(self._number(cursor, 2)))

    def _value(self, cursor: Cursor, kind: int) -> Node:
        cursor.enter()
        cursor.depth += 1
        node = Node("number", cursor.at, cursor.at, form=kind)
        if kind in CODES:
            code = self._mark + CODES[kind]
            node.value = struct.unpack(code, cursor.take(struct.calcsize(code)))[0]
        elif kind == TEXT:
            node.kind, node.value = "text", self._text(cursor)
        elif kind == LIST:
            node.kind = "list"
            inner, count = cursor.byte(), self._number(cursor, 4)
            self._parts(node, cursor, inner, count)
        elif kind in ARRAYS:
            node.kind = "list"
            self._parts(node, cursor, ARRAYS[kind], self._number(cursor, 4))
        elif kind == MAP:
            self._group(node, cursor)
        else:
            raise Malformed("a tag is of an unknown kind")
        node.end = cursor.at
        cursor.depth -= 1
        return node

    def _parts(self, node: Node, cursor: Cursor, kind: int, count: int) -> None:
        if count > len(cursor.data) - cursor.at or (count and kind == END):
            raise Malformed("a list has more parts than bytes are left")
        node.parts = [self._value(cursor, kind) for _ in range(count)]

    def _group(self, node: Node, cursor: Cursor) -> None:
        node.kind = "map"
        while kind := cursor.byte():
            name = self._text(cursor)
            node.keys.append(name)
            node.parts.append(self._value(cursor, kind))
        if len(set(node.keys)) < len(node.keys):
            raise Malformed("a name stands twice")

    def encoded(self, value: Any, like: Node | None, data: bytes) -> bytes:
        assert like is not None  # whatever comes in has the kind of another one
        if is_same(plain(like), value):
            return data[like.start : like.end]
        if like.form in CODES:
            return as_number(value, self._mark + CODES[like.form])
        if like.form == TEXT and isinstance(value, str):
            raw = value.encode("utf-8", "surrogatepass")
            if len(raw) >= 1 << 16:
                raise refuse(value, "a text of less than 65536 bytes")
            return len(raw).to_bytes(2, self._order) + raw
        if like.kind == "list" and isinstance(value, list):
            return self._list(value, like, data)
        if like.form == MAP and isinstance(value, dict) and set(value) <= set(like.keys):
            parts = dict(zip(like.keys, like.parts, strict=True))
            return b"".join(self._tag(key, value[key], parts[key], data) for key in value) + bytes([END])
        raise refuse(value, "a value of the kind that it was, without new names")

    def _tag(self, name: str, value: Any, like: Node, data: bytes) -> bytes:
        raw = name.encode("utf-8", "surrogatepass")
        return bytes([like.form]) + len(raw).to_bytes(2, self._order) + raw + self.encoded(value, like, data)

    def _list(self, value: list[Any], like: Node, data: bytes) -> bytes:
        head = data[like.start : like.start + 1] if like.form == LIST else b""
        if value and not like.parts:
            raise refuse(value, "an empty list, as it was: nothing shows what its parts are")
        parts = [*like.parts, *like.parts[-1:] * max(len(value) - len(like.parts), 0)]
        content = (self.encoded(each, old, data) for each, old in zip(value, parts, strict=False))
        return head + len(value).to_bytes(4, self._order) + b"".join(content)
