"""The .NET Remoting Binary Format ([MS-NRBF]), as engines write objects with it: records with the names of members.

An object that a member only refers to comes later in the file: it is shown where it is referred to first, and elsewhere
by its number. Numbers keep their width, and no value comes or goes; texts may take any size.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterator
from typing import NamedTuple

from faithful_ledger.core.layers.tagged.fractions import short_fraction
from faithful_ledger.core.layers.tagged.tree import (
    Codec,
    Cursor,
    Malformed,
    Node,
    as_number,
    refuse,
    utf8,
    varint,
)

__all__ = ["NetObjects"]

HEAD = struct.Struct("<Biiii")
VERSION = (1, 0)
(HEADER, WITH_ID, SYSTEM, PLAIN, SYSTEM_TYPED, TYPED, TEXT, ARRAY, PRIMITIVE, REFERENCE, NOTHING, END, LIBRARY) = range(
    13
)
NOTHING_256, NOTHING_MANY, NUMBERS, OBJECTS, TEXTS = range(13, 18)
OF_PRIMITIVE, OF_TEXT, OF_OBJECT, OF_SYSTEM, OF_CLASS, OF_OBJECTS, OF_TEXTS, OF_NUMBERS = range(8)
BOOLEAN, BYTE, CHAR, DECIMAL, DOUBLE, SINGLE, SAID = 1, 2, 3, 5, 6, 11, 18
WHOLE = {BYTE: "<B", 7: "<h", 8: "<i", 9: "<q", 10: "<b", 12: "<q", 13: "<Q", 14: "<H", 15: "<I", 16: "<Q"}
PROPERTY = re.compile(r"<(.+)>k__BackingField")
MOST_PARTS = 1 << 20
LONGEST_SIZE = 5  # bytes in which the size of a text is written
ALONE = "value"  # the name of a value that is all of a stream


class _Type(NamedTuple):
    """What a member or an element is; of a primitive one, which."""

    kind: int
    primitive: int = 0


UNTYPED = _Type(OF_OBJECT)


class _Class(NamedTuple):
    names: list[str]
    types: list[_Type]


class NetObjects(Codec):
    name = "nrbf"
    has_mark = True

    def may_be(self, data: bytes) -> bool:
        return len(data) > HEAD.size and data[0] == HEADER and HEAD.unpack_from(data)[3:] == VERSION

    def value_at(self, cursor: Cursor) -> Node:
        return _Stream(cursor).root()

    def is_telling(self, root: Node) -> bool:
        return root.keys == [ALONE] or super().is_telling(root)

    def scalar(self, value: int | float | str | bool | bytes | None, like: Node | None) -> bytes:
        kind = like.form if like is not None else 0
        if kind == BOOLEAN and isinstance(value, bool):
            return bytes([value])
        if kind in (SAID, DECIMAL) and isinstance(value, str):
            raw = value.encode("utf-8", "surrogatepass")
            return varint(len(raw)) + raw
        if kind == CHAR and isinstance(value, str) and len(value) == 1:
            return value.encode()
        if (
            like is not None
            and like.kind == "blob"
            and isinstance(value, bytes)
            and len(value) == like.end - like.start
        ):
            return value
        if kind in (SINGLE, DOUBLE) or kind in WHOLE:
            return as_number(value, WHOLE.get(kind) or ("<f" if kind == SINGLE else "<d"))
        raise refuse(value, "a value of the kind that it was")


class _Stream:
    """The records of one stream, up to its end."""

    def __init__(self, cursor: Cursor) -> None:
        self.cursor = cursor
        self.classes: dict[int, _Class] = {}
        self.objects: dict[int, Node] = {}
        self.references: list[tuple[Node, int]] = []

    def root(self) -> Node:
        cursor = self.cursor
        if cursor.byte() != HEADER:
            raise Malformed("something is behind its end")
        root = self._whole(4)
        cursor.take(4)
        if (self._whole(4), self._whole(4)) != VERSION:
            raise Malformed("its version is unknown")
        while cursor.data[cursor.at : cursor.at + 1] != bytes([END]):
            self._record()
        cursor.at += 1
        if root not in self.objects:
            raise Malformed("its first object is missing")
        first = self.objects[root]
        self._resolve(first)
        # A text alone is not JSON that could hold another one.
        return first if first.parts else Node("map", first.start, first.end, parts=[first], keys=[ALONE])

    # records

    def _record(self) -> Node | None:
        """The value of a record; None of one that is only about others."""
        cursor = self.cursor
        cursor.enter()
        cursor.depth += 1
        kind, start = cursor.byte(), cursor.at
        try:
            if kind in (WITH_ID, SYSTEM, PLAIN, SYSTEM_TYPED, TYPED):
                return self._object(kind, start)
            if kind == TEXT:
                number = self._whole(4)
                return self._known(number, self._primitive(SAID))
            if kind in (ARRAY, NUMBERS, OBJECTS, TEXTS):
                return self._array(kind, start)
            if kind == PRIMITIVE:
                return self._primitive(cursor.byte())
            if kind == REFERENCE:
                node = Node("other", start, start)
                self.references.append((node, self._whole(4)))
                return node
            if kind == NOTHING:
                return Node("nothing", start, start, shared=True)
            if kind == LIBRARY:
                self._whole(4)
                self._text()
                return None
        finally:
            cursor.depth -= 1
        raise Malformed("a record is of an unknown kind")

    def _known(self, number: int, node: Node) -> Node:
        self.objects[number] = node
        return node

    def _object(self, kind: int, start: int) -> Node:
        number = self._whole(4)
        if kind == WITH_ID:
            made = self.classes.get(self._whole(4))
            if made is None:
                raise Malformed("a class is used that was never defined")
        else:
            self._text()
            names = [self._text() for _ in range(self._count())]
            types = [UNTYPED] * len(names)
            if kind in (SYSTEM_TYPED, TYPED):
                types = self._types(len(names))
            if kind in (PLAIN, TYPED):
                self._whole(4)
            made = _Class([_shown(name) for name in names], types)
        self.classes[number] = made
        node = self._known(number, Node("map", start, start))
        for name, type_ in zip(made.names, made.types, strict=True):
            again = sum(known == name for known in node.keys)
            node.keys.append(f"{name} {again + 1}" if again else name)
            node.parts.append(self._value(type_))
        node.end = self.cursor.at
        return node

    def _types(self, count: int) -> list[_Type]:
        kinds = [self.cursor.byte() for _ in range(count)]
        return [self._more_of(kind) for kind in kinds]

    def _more_of(self, kind: int) -> _Type:
        if kind > OF_NUMBERS:
            raise Malformed("a member is of an unknown kind")
        if kind in (OF_PRIMITIVE, OF_NUMBERS):
            return _Type(kind, self.cursor.byte())
        if kind in (OF_SYSTEM, OF_CLASS):
            self._text()
        if kind == OF_CLASS:
            self._whole(4)
        return _Type(kind)

    def _array(self, kind: int, start: int) -> Node:
        number, type_ = self._whole(4), UNTYPED
        if kind == ARRAY:
            shape, rank = self.cursor.byte(), self._count()
            size = 1
            for _ in range(rank):
                size *= self._count()
            if shape > 5 or not 0 < rank < 33:
                raise Malformed("an array has an unknown shape")
            if shape > 2:
                self.cursor.take(4 * rank)
            type_ = self._more_of(self.cursor.byte())
        else:
            size = self._count()
            if kind == NUMBERS:
                type_ = _Type(OF_PRIMITIVE, self.cursor.byte())
        if size > MOST_PARTS:
            raise Malformed("an array has more parts than a save")
        node = self._known(number, Node("list", start, start))
        if type_ == _Type(OF_PRIMITIVE, BYTE):
            node.kind, node.start = "blob", self.cursor.at
            node.value = self.cursor.take(size)
        else:
            node.parts = list(self._elements(type_, size))
        node.end = self.cursor.at
        return node

    def _elements(self, type_: _Type, size: int) -> Iterator[Node]:
        left = size
        while left > 0:
            follows = self.cursor.data[self.cursor.at : self.cursor.at + 1]
            if type_.kind != OF_PRIMITIVE and follows in (bytes([NOTHING_256]), bytes([NOTHING_MANY])):
                self.cursor.at += 1
                start, count = self.cursor.at, self._whole(1 if follows[0] == NOTHING_256 else 4)
                if not 0 < count <= left:
                    raise Malformed("more empty parts are counted than an array has")
                self.cursor.enter(count)
                left -= count
                yield from (Node("nothing", start, start, shared=True) for _ in range(count))
            else:
                left -= 1
                yield self._value(type_)

    # values

    def _value(self, type_: _Type) -> Node:
        if type_.kind == OF_PRIMITIVE:
            self.cursor.enter()
            return self._primitive(type_.primitive)
        while True:  # a library may be said in front of an object
            node = self._record()
            if node is not None:
                return node

    def _primitive(self, kind: int) -> Node:
        cursor = self.cursor
        node = Node("number", cursor.at, cursor.at, form=kind)
        if kind == BOOLEAN:
            node.kind, node.value = "switch", cursor.byte() != 0
        elif kind in WHOLE:
            (node.value,) = struct.unpack(WHOLE[kind], cursor.take(struct.calcsize(WHOLE[kind])))
        elif kind == SINGLE:
            node.value = short_fraction(cursor.take(4)[::-1])
        elif kind == DOUBLE:
            (node.value,) = struct.unpack("<d", cursor.take(8))
        elif kind in (SAID, DECIMAL):
            node.kind, node.value = "text", self._text()
        elif kind == CHAR:
            first = cursor.byte()
            more = 0 if first < 128 else 1 if first < 224 else 2 if first < 240 else 3
            node.kind, node.value = "text", utf8(bytes([first]) + cursor.take(more))
        else:
            raise Malformed("a value is of an unknown kind")
        node.end = cursor.at
        return node

    def _whole(self, size: int) -> int:
        return self.cursor.number(size, "little", signed=size > 1)

    def _count(self) -> int:
        count = self._whole(4)
        if not 0 <= count <= MOST_PARTS:
            raise Malformed("an array has more parts than a save")
        return count

    def _text(self) -> str:
        return utf8(self.cursor.take(self.cursor.varint(LONGEST_SIZE)))

    # what refers to what

    def _resolve(self, root: Node) -> None:
        """Put each object where it is referred to first; the tree from the root comes first, in its order."""
        numbers = {id(node): number for node, number in self.references}
        own = (part for node in self.objects.values() for part in node.parts if id(part) not in numbers)
        placed = {id(root), *map(id, own)}
        waiting = [root]
        while waiting:
            node = waiting.pop()
            for at, part in enumerate(node.parts):
                number = numbers.get(id(part))
                if number is None:
                    continue
                target = self.objects.get(number)
                if target is None:
                    raise Malformed("an object is referred to that is missing")
                if target.kind in ("text", "blob") and id(target) in placed:
                    node.parts[at] = Node(target.kind, part.start, part.start, target.value, target.form, shared=True)
                elif id(target) in placed:
                    part.value, part.shared = f"the same as object {number}", True
                else:
                    placed.add(id(target))
                    node.parts[at] = target
            waiting += reversed(node.parts)


def _shown(name: str) -> str:
    """The name of a member; that of a property is in one that the compiler made."""
    found = PROPERTY.fullmatch(name)
    return found[1] if found is not None else name
