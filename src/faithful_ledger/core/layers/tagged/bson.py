"""BSON (the specification 1.1 of its website): documents of elements, each with its kind, its name and its value.

Every document begins with its size. An element that changes is written anew with its kind and its name, so that a
number may take another width.
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from typing import Any

from faithful_ledger.core.layers.tagged.tree import (
    BLOB,
    Codec,
    Count,
    Cursor,
    Malformed,
    Node,
    as_number,
    blob_of,
    is_same,
    plain,
    refuse,
    utf8,
)

__all__ = ["Bson"]

DOUBLE, TEXT, MAP, LIST, BINARY, UNDEFINED, ID, SWITCH, MOMENT, NOTHING = range(1, 11)
PATTERN, POINTER, CODE, SYMBOL, SCOPED, SMALL, STAMP, LARGE, DECIMAL = range(0x0B, 0x14)
TEXTS = TEXT, CODE, SYMBOL
NUMBERS = {DOUBLE: "<d", SMALL: "<i", LARGE: "<q", MOMENT: "<q", STAMP: "<Q"}
FIXED = {ID: 12, DECIMAL: 16, UNDEFINED: 0, 0xFF: 0, 0x7F: 0}
LEAST = 5  # bytes of a document: its size, and the zero at its end


class Bson(Codec):
    name = "bson"

    def may_be(self, data: bytes) -> bool:
        size = int.from_bytes(data[:4], "little")
        return len(data) > LEAST and size > LEAST and data[4] in (*range(DOUBLE, DECIMAL + 1), 0xFF, 0x7F)

    def value_at(self, cursor: Cursor) -> Node:
        counts: list[Count] = []
        node = self._document(cursor, "map", counts)
        node.counts = counts
        return node

    def _document(self, cursor: Cursor, kind: Any, counts: list[Count]) -> Node:
        cursor.enter()
        cursor.depth += 1
        start = cursor.at
        size = cursor.number(4, "little")
        end = start + size
        if size < LEAST or end > len(cursor.data):
            raise Malformed("a document goes beyond the end")
        counts.append(Count(start, start + 4, start, end))
        node = Node(kind, start, end)
        while cursor.at < end - 1:
            self._element(node, cursor, counts)
        if cursor.at != end - 1 or cursor.byte() != 0:
            raise Malformed("a document does not end where it says")
        if len(set(node.keys)) < len(node.keys):
            raise Malformed("a name stands twice")
        if kind == "list":
            node.keys = []
        cursor.depth -= 1
        return node

    def _element(self, holder: Node, cursor: Cursor, counts: list[Count]) -> None:
        cursor.enter()
        start, kind = cursor.at, cursor.byte()
        name = _name(cursor)
        if kind in (MAP, LIST):
            part = self._document(cursor, "map" if kind == MAP else "list", counts)
        else:
            part = Node("other", start, start, form=kind)
            self._value(part, cursor, kind, counts)
        part.start, part.end, part.form = start, cursor.at, kind
        holder.keys.append(name)
        holder.parts.append(part)

    def _value(self, node: Node, cursor: Cursor, kind: int, counts: list[Count]) -> None:
        if kind in NUMBERS:
            node.kind, node.value = "number", struct.unpack(NUMBERS[kind], cursor.take(8 if kind != SMALL else 4))[0]
        elif kind in TEXTS:
            raw = cursor.take(cursor.number(4, "little"))
            if raw[-1:] != b"\0":
                raise Malformed("a text does not end with a zero")
            node.kind, node.value = "text", utf8(raw[:-1])
        elif kind == BINARY:
            size = cursor.number(4, "little")
            node.kind, node.value = "blob", cursor.take(size + 1)[1:]
        elif kind == SWITCH:
            node.kind, node.value = "switch", bool(cursor.byte())
        elif kind == NOTHING:
            node.kind = "nothing"
        elif kind in FIXED:
            node.value = cursor.take(FIXED[kind]).hex().upper()
        elif kind == PATTERN:
            node.value = f"/{_name(cursor)}/{_name(cursor)}"
        elif kind == SCOPED:
            size = cursor.number(4, "little")
            node.value = cursor.take(size - 4).hex(" ").upper()
        else:
            raise Malformed("an element is of an unknown kind")

    def encoded(self, value: Any, like: Node | None, data: bytes) -> bytes:
        """An element of which there is one, with its kind and name, or the whole document."""
        if like is None or not like.form:
            return self._spelled(value, like, data)
        if is_same(plain(like), value):
            return data[like.start : like.end]
        return self._as_element(_name_of(like, data), value, like, data)

    def _as_element(self, name: bytes, value: Any, like: Node | None, data: bytes) -> bytes:
        if like is not None and (is_same(plain(like), value) or like.kind == "other"):
            if not is_same(plain(like), value):
                raise refuse(value, "a value of the kind that it was")
            kind, content = like.form, data[like.start + 2 + len(_name_of(like, data)) : like.end]
        else:
            kind = self._kind(value, like)
            content = self._spelled(value, like if like is not None and like.form == kind else None, data, kind)
        return bytes([kind]) + name + b"\0" + content

    def _kind(self, value: Any, like: Node | None) -> int:
        """The kind that an element gets: the one it had, if that takes the value."""
        old = like.form if like is not None else 0
        if isinstance(value, bool):
            return SWITCH
        if value is None:
            return NOTHING
        if isinstance(value, int):
            fits = old in (DOUBLE, LARGE, MOMENT, STAMP) or (old == SMALL and -(1 << 31) <= value < 1 << 31)
            return old if fits else SMALL if -(1 << 31) <= value < 1 << 31 else LARGE
        if isinstance(value, float):
            return DOUBLE
        if isinstance(value, str):
            return old if old in TEXTS else TEXT
        if isinstance(value, dict):
            return BINARY if set(value) == {BLOB} else MAP
        return LIST

    def _spelled(self, value: Any, like: Node | None, data: bytes, kind: int = MAP) -> bytes:
        if kind in NUMBERS:
            return as_number(value, NUMBERS[kind])
        if kind in TEXTS:
            raw: bytes = value.encode("utf-8", "surrogatepass") + b"\0"
            return struct.pack("<I", len(raw)) + raw
        if kind == BINARY:
            raw = blob_of(value)
            at = like.start + 2 + len(_name_of(like, data)) + 4 if like is not None else 0
            return struct.pack("<I", len(raw)) + (data[at : at + 1] if at else b"\0") + raw
        if kind in (SWITCH, NOTHING):
            return bytes([value]) if kind == SWITCH else b""
        if isinstance(value, list):
            return _document(self._items(value, like, data))
        old = dict(zip(like.keys, like.parts, strict=True)) if like is not None else {}
        return _document([self._as_element(_key(key), each, old.get(key), data) for key, each in value.items()])

    def _items(self, value: list[Any], like: Node | None, data: bytes) -> list[bytes]:
        """The parts of a list, whose names are their numbers."""
        old: list[Node | None] = list(like.parts) if like is not None else []
        old += [old[-1] if old else None] * (len(value) - len(old))
        each: Callable[[int], bytes] = lambda n: self._as_element(b"%d" % n, value[n], old[n], data)  # noqa: E731
        return list(map(each, range(len(value))))


def _document(elements: list[bytes]) -> bytes:
    content = b"".join(elements) + b"\0"
    return struct.pack("<I", len(content) + 4) + content


def _name(cursor: Cursor) -> str:
    end = cursor.data.find(b"\0", cursor.at)
    if end < 0:
        raise Malformed("a name has no end")
    raw = cursor.take(end - cursor.at)
    cursor.at += 1
    return utf8(raw)


def _name_of(node: Node, data: bytes) -> bytes:
    return data[node.start + 1 : data.index(b"\0", node.start + 1)]


def _key(name: str) -> bytes:
    if "\0" in name:
        raise refuse(name, "a name without a zero in it")
    return name.encode("utf-8", "surrogatepass")
