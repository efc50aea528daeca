"""Saves of named properties behind the mark GVAS: every property has a name, a type, a size and a value.

The layout is that which its readers have in common. A value whose type nobody knows keeps its bytes. Sizes follow where
a text inside them grows.
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from typing import Any

from faithful_ledger.core.layers.tagged.fractions import short_fraction
from faithful_ledger.core.layers.tagged.tree import (
    Codec,
    Count,
    Cursor,
    Malformed,
    Node,
    as_number,
    put,
    refuse,
)

__all__ = ["NamedProperties"]

MARK = b"GVAS"
END = "None"
GUID = 16
LONGEST, MOST_VERSIONS = 1 << 16, 4096  # units of a text; and versions in the head
NUMBERS = {
    "Int8Property": "<b",
    "Int16Property": "<h",
    "IntProperty": "<i",
    "Int64Property": "<q",
    "UInt16Property": "<H",
    "UInt32Property": "<I",
    "UInt64Property": "<Q",
    "FloatProperty": "<f",
    "DoubleProperty": "<d",
}
TEXTS = ("StrProperty", "NameProperty", "ObjectProperty", "EnumProperty", "ClassProperty")
PATHS = ("SoftObjectProperty", "SoftClassProperty")  # a text, and one within it
CODES = dict(enumerate(NUMBERS.values(), 1))  # a node's form
TEXT, SWITCH, BYTE, FLAG = 20, 21, 22, 23
HAS_INDEX, HAS_GUID, IS_SET = 1, 2, 16  # flags of the newer kind
# structures without properties: what they are made of, in one width or the other
PARTS = {
    "Vector": "xyz",
    "Rotator": ("pitch", "yaw", "roll"),
    "Quat": "xyzw",
    "Vector2D": "xy",
    "Vector4": "xyzw",
    "LinearColor": "rgba",
    "IntPoint": "xy",
    "IntVector": "xyz",
    "Color": "bgra",
    "DateTime": ("ticks",),
    "Timespan": ("ticks",),
}
WHOLE_PARTS = {"IntPoint": "<i", "IntVector": "<i", "Color": "<B", "DateTime": "<q", "Timespan": "<q"}


class NamedProperties(Codec):
    name = "gvas"
    has_mark = True

    def may_be(self, data: bytes) -> bool:
        return data.startswith(MARK)

    def value_at(self, cursor: Cursor) -> Node:
        return _Reader(cursor).root()

    def is_telling(self, root: Node) -> bool:
        return True

    def encoded(self, value: Any, like: Node | None, data: bytes) -> bytes:
        if like is not None and like.form == FLAG and isinstance(value, bool):
            return bytes([data[like.start] & ~IS_SET | IS_SET * value])
        return super().encoded(value, like, data)

    def scalar(self, value: int | float | str | bool | bytes | None, like: Node | None) -> bytes:
        form = like.form if like is not None else 0
        if form in CODES:
            return as_number(value, CODES[form])
        if form == BYTE:
            return as_number(value, "<B")
        if form == SWITCH and isinstance(value, bool):
            return bytes([value])
        if form == TEXT and isinstance(value, str):
            return _spelled(value)
        raise refuse(value, "a value of the kind that it was")


def _spelled(text: str) -> bytes:
    """A text with its length in front, which is negative where it is in UTF-16; a zero is at its end."""
    if not text:
        return bytes(4)
    if text.isascii():
        return struct.pack("<i", len(text) + 1) + text.encode("ascii") + b"\0"
    raw = text.encode("utf-16-le", "surrogatepass") + b"\0\0"
    return struct.pack("<i", -(len(raw) // 2)) + raw


class _Reader:
    """The properties of one save. Since a version the type of each is a tree of names, and what it has is in flags."""

    def __init__(self, cursor: Cursor) -> None:
        self.cursor = cursor
        self.counts: list[Count] = []
        self.is_newer = False

    def root(self) -> Node:
        cursor, start = self.cursor, self.cursor.at
        if cursor.take(len(MARK)) != MARK:
            raise Malformed("something is behind its end")
        version = self._whole("<i")
        self._whole("<i")
        if version >= 3:
            self._whole("<i")
        cursor.take(10)  # the engine's version
        self._text()
        self._whole("<i")
        count = self._whole("<i")
        if not 0 <= count <= MOST_VERSIONS:
            raise Malformed("its head makes no sense")
        cursor.take(count * (GUID + 4))
        self._text()
        behind = cursor.at
        for self.is_newer in (False, True):  # the newer kind has one byte more in front
            cursor.at, self.counts = behind + self.is_newer, []
            try:
                node = self._properties(start)
                break
            except Malformed:
                if self.is_newer:
                    raise
        cursor.at += 4 if cursor.data[cursor.at : cursor.at + 4] == bytes(4) else 0
        node.start, node.end, node.counts = start, cursor.at, self.counts
        return node

    # what properties are made of

    def _whole(self, code: str) -> int:
        (number,) = struct.unpack(code, self.cursor.take(struct.calcsize(code)))
        return int(number)

    def _text(self) -> str:
        size = self._whole("<i")
        if not -LONGEST <= size <= LONGEST:
            raise Malformed("a text has an unusual length")
        raw = self.cursor.take(size if size >= 0 else -2 * size)
        try:
            text = raw.decode("utf-8") if size >= 0 else raw.decode("utf-16-le", "surrogatepass")
        except UnicodeDecodeError:
            text = raw.decode("latin-1")
        if text and not text.endswith("\0"):
            raise Malformed("a text does not end with a zero")
        return text[:-1]

    def _properties(self, start: int) -> Node:
        cursor = self.cursor
        cursor.enter()
        cursor.depth += 1
        node, known = Node("map", start, start), set[str]()
        while (name := self._text()) != END:
            if not name:
                raise Malformed("a property has no name")
            put(node, known, name, self._property())
        cursor.depth -= 1
        node.end = cursor.at
        return node

    def _property(self) -> Node:
        self.cursor.enter()
        return self._newer() if self.is_newer else self._older()

    def _older(self) -> Node:
        cursor, kind = self.cursor, self._text()
        at = cursor.at
        size, _ = self._whole("<i"), self._whole("<i")
        inner: tuple[str, ...] = ()
        if kind == "StructProperty":
            inner = (self._text(),)
            cursor.take(GUID)
        elif kind in ("ByteProperty", "EnumProperty", "ArrayProperty", "SetProperty"):
            inner = (self._text(),)
        elif kind == "MapProperty":
            inner = self._text(), self._text()
        switch = Node("switch", cursor.at, cursor.at + 1, form=SWITCH)
        if kind == "BoolProperty":
            switch.value = bool(cursor.byte())
        if cursor.byte():
            cursor.take(GUID)
        return switch if kind == "BoolProperty" else self._sized(at, size, kind, inner)

    def _newer(self) -> Node:
        cursor, kinds = self.cursor, self._kinds()
        at = cursor.at
        size, flags_at = self._whole("<i"), cursor.at
        flags = cursor.byte()
        cursor.take((4 if flags & HAS_INDEX else 0) + (GUID if flags & HAS_GUID else 0))
        if kinds[0] == "BoolProperty":
            if size:
                raise Malformed("a switch has a size")
            return Node("switch", flags_at, flags_at + 1, bool(flags & IS_SET), FLAG)
        inner = [kind for kind in kinds[1:] if kind.endswith("Property") or kinds[0] == "StructProperty"]
        if kinds[0] in ("ByteProperty", "EnumProperty"):
            inner = list(kinds[1:2]) or [END]
        return self._sized(at, size, kinds[0], tuple(inner))

    def _kinds(self) -> list[str]:
        """The names of a type's tree, the outer ones first."""
        found, waiting = [], 1
        while waiting:
            found.append(self._text())
            count = self._whole("<i")
            if not 0 <= count <= 8 or len(found) > 32:
                raise Malformed("a type has too many parts")
            waiting += count - 1
        return found

    def _sized(self, at: int, size: int, kind: str, inner: tuple[str, ...]) -> Node:
        """A value of so many bytes; one that cannot be read keeps them."""
        cursor, start = self.cursor, self.cursor.at
        if not 0 <= size <= len(cursor.data) - start:
            raise Malformed("a property goes beyond the end")
        self.counts.append(Count(at, at + 4, start, start + size))
        known, depth = len(self.counts), cursor.depth
        try:
            node = self._value(kind, inner, start + size)
            if cursor.at == start + size:
                return node
        except (Malformed, struct.error):
            pass
        del self.counts[known:]
        cursor.at, cursor.depth = start + size, depth
        return Node("other", start, start + size, f"{kind}: {cursor.data[start : start + size].hex(' ').upper()}")

    def _value(self, kind: str, inner: tuple[str, ...], end: int) -> Node:
        cursor = self.cursor
        if kind == "StructProperty":
            return self._structure(inner[0] if inner else "", end - cursor.at)
        if kind == "ByteProperty":
            return self._scalar("byte" if not inner or inner[0] == END else "StrProperty")
        if kind in ("ArrayProperty", "SetProperty"):
            return self._list(kind, inner[0] if inner else "", end)
        if kind == "MapProperty":
            return self._map(inner, end)
        return self._scalar(kind)

    def _scalar(self, kind: str) -> Node:
        cursor, start = self.cursor, self.cursor.at
        cursor.enter()
        if kind in NUMBERS:
            code = NUMBERS[kind]
            raw = cursor.take(struct.calcsize(code))
            value = short_fraction(raw[::-1]) if code == "<f" else struct.unpack(code, raw)[0]
            return Node("number", start, cursor.at, value, list(NUMBERS).index(kind) + 1)
        if kind in TEXTS:
            text = self._text()
            return Node("text", start, cursor.at, text, TEXT)
        if kind in PATHS:
            parts = [self._scalar("StrProperty"), self._scalar("StrProperty")]
            return Node("list", start, cursor.at, parts=parts)
        if kind == "BoolProperty":
            return Node("switch", start, start + 1, bool(cursor.byte()), SWITCH)
        if kind == "byte":
            return Node("number", start, start + 1, cursor.byte(), BYTE)
        raise Malformed("a value is of an unknown type")

    def _structure(self, name: str, size: int) -> Node:
        cursor, start = self.cursor, self.cursor.at
        if name == "Guid" or (name in ("", "Guid") and size == GUID):
            return Node("other", start, start + GUID, cursor.take(GUID).hex().upper())
        if name in PARTS and size in (width * len(PARTS[name]) for width in self._widths(name)):
            code = WHOLE_PARTS.get(name, "<f" if size == 4 * len(PARTS[name]) else "<d")
            kind = next((kind for kind, known in NUMBERS.items() if known == code), "byte")
            return Node(
                "map", start, start + size, parts=[self._scalar(kind) for _ in PARTS[name]], keys=list(PARTS[name])
            )
        return self._properties(start)

    @staticmethod
    def _widths(name: str) -> tuple[int, ...]:
        return (struct.calcsize(WHOLE_PARTS[name]),) if name in WHOLE_PARTS else (4, 8)

    def _list(self, kind: str, inner: str, end: int) -> Node:
        cursor, start = self.cursor, self.cursor.at
        if kind == "SetProperty" and self._whole("<i"):
            raise Malformed("parts of a set were removed")
        count = self._whole("<i")
        if not 0 <= count <= end - cursor.at:
            raise Malformed("a list has more parts than bytes are left")
        if inner == "ByteProperty" and end - cursor.at == count:
            return Node("blob", cursor.at, end, cursor.take(count), SWITCH)
        if inner == "StructProperty" and kind == "ArrayProperty" and not self.is_newer:
            return self._structures(start, count)
        read = self._part_reader(inner, (end - cursor.at) // count if count else 0)
        return Node("list", start, end, parts=[read() for _ in range(count)])

    def _structures(self, start: int, count: int) -> Node:
        """Structures in a list, which is one property once more in front of them."""
        cursor = self.cursor
        self._text(), self._text()
        at = cursor.at
        size, _ = self._whole("<i"), self._whole("<i")
        name = self._text()
        cursor.take(GUID)
        if cursor.byte():
            cursor.take(GUID)
        first = cursor.at
        self.counts.append(Count(at, at + 4, first, first + size))
        each = size // count if count else 0
        parts = [self._structure(name, each) for _ in range(count)]
        if cursor.at != first + size:
            raise Malformed("structures do not end where they say")
        return Node("list", start, cursor.at, parts=parts)

    def _part_reader(self, kind: str, size: int) -> Callable[[], Node]:
        if kind == "StructProperty":
            return lambda: self._structure("Guid" if size == GUID else "", size)
        return lambda: self._scalar("byte" if kind == "ByteProperty" else kind)

    def _map(self, inner: tuple[str, ...], end: int) -> Node:
        cursor, start = self.cursor, self.cursor.at
        if self._whole("<i"):
            raise Malformed("parts of a map were removed")
        count = self._whole("<i")
        if len(inner) < 2 or not 0 <= count <= end - cursor.at:
            raise Malformed("a map has more parts than bytes are left")
        begun = cursor.at
        for key_size in (0, GUID):  # a structure is a key of properties, or of sixteen bytes
            cursor.at = begun
            try:
                return self._pairs(start, count, inner, key_size)
            except Malformed:
                if inner[0] != "StructProperty" or key_size:
                    raise
        raise Malformed("a map is of an unknown type")

    def _pairs(self, start: int, count: int, inner: tuple[str, ...], key_size: int) -> Node:
        node, names = Node("map", start, start), set[str]()
        known, read_key = len(self.counts), self._part_reader(inner[0], key_size)
        read = self._part_reader(inner[1], 0)
        try:
            for _ in range(count):
                key = read_key()
                said = str(key.value) if not key.parts else f"key {len(node.keys)}"
                put(node, names, said, read())
        except Malformed:
            del self.counts[known:]
            raise
        node.end = self.cursor.at
        return node
