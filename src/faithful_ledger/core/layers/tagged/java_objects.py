"""Objects of Java (the Object Serialization Stream Protocol, version 5): classes with their fields, then the values.

What an object writes by itself, behind its fields, is the list `written`. Texts and objects are recalled by number; a
text that is keeps its bytes. No value may come in or go.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass, field

from faithful_ledger.core.layers.tagged.fractions import short_fraction
from faithful_ledger.core.layers.tagged.tree import Codec, Cursor, Malformed, Node, as_number, plain, put, refuse, utf8

__all__ = ["JavaObjects"]

MARK = b"\xac\xed\x00\x05"
(NOTHING, REFERENCE, CLASS_ABOUT, OBJECT, TEXT, ARRAY, CLASS, BLOCK, END, RESET, LONG_BLOCK, _EXCEPTION, LONG_TEXT,
 PROXY, ENUM) = range(0x70, 0x7F)  # fmt: skip
FIRST_HANDLE = 0x7E0000
WRITES, SERIALIZES, EXTERNAL, BLOCKS = 1, 2, 4, 8
BOXES = frozenset(f"java.lang.{name}" for name in ("Integer", "Long", "Short", "Byte", "Double", "Float", "Boolean"))
MAPS = frozenset(f"java.util.{name}" for name in ("HashMap", "LinkedHashMap", "TreeMap", "Hashtable"))
CODES = {"B": ">b", "C": ">H", "D": ">d", "F": ">f", "I": ">i", "J": ">q", "S": ">h", "Z": ">?"}


@dataclass(slots=True)
class _Class:
    name: str
    flags: int = 0
    fields: list[tuple[str, str]] = field(default_factory=list)  # type and name
    above: _Class | None = None


class JavaObjects(Codec):
    name = "java-objects"
    has_mark = True

    def may_be(self, data: bytes) -> bool:
        return data.startswith(MARK)

    def value_at(self, cursor: Cursor) -> Node:
        if cursor.take(len(MARK)) != MARK:
            raise Malformed("something is behind its end")
        start, reader, found = cursor.at, _Reader(cursor), list[Node]()
        while cursor.at < len(cursor.data) and (not found or cursor.data[cursor.at] in range(NOTHING, ENUM + 1)):
            found.append(reader.value())
        return found[0] if len(found) == 1 else Node("list", start, cursor.at, parts=found)

    def scalar(self, value: int | float | str | bool | bytes | None, like: Node | None) -> bytes:
        form = chr(like.form) if like is not None and like.form < 128 else ""
        if form == "Z" and isinstance(value, bool):
            return bytes([value])
        if form in CODES and form != "Z":
            return as_number(value, CODES[form])
        if like is not None and like.form in (TEXT, LONG_TEXT) and isinstance(value, str):
            raw = value.encode("utf-8", "surrogatepass").replace(b"\0", b"\xc0\x80")
            is_long = like.form == LONG_TEXT or len(raw) >= 1 << 16
            return bytes([LONG_TEXT if is_long else TEXT]) + struct.pack(">Q" if is_long else ">H", len(raw)) + raw
        raise refuse(value, "a value of the kind that it was")


class _Reader:
    """One stream. `handles` are what was met, by number: values, and classes."""

    def __init__(self, cursor: Cursor) -> None:
        self.cursor = cursor
        self.handles: list[Node | _Class] = []

    def value(self) -> Node:
        cursor = self.cursor
        cursor.enter()
        cursor.depth += 1
        start, kind = cursor.at, cursor.byte()
        node = Node("other", start, start, form=kind)
        if kind == NOTHING:
            node.kind = "nothing"
        elif kind in (TEXT, LONG_TEXT):
            self.handles.append(node)
            node.kind, node.value = "text", self._text(8 if kind == LONG_TEXT else 2)
        elif kind == REFERENCE:
            self._recalled(node)
        elif kind == OBJECT:
            node = self._object(node)
        elif kind == ARRAY:
            self._array(node)
        elif kind == ENUM:
            about = self._class()
            self.handles.append(node)
            node.value = f"{about.name if about else ''} {plain(self.value())}"
        elif kind in (BLOCK, LONG_BLOCK):
            node.value = cursor.take(cursor.number(1 if kind == BLOCK else 4)).hex(" ").upper()
        elif kind in (CLASS, CLASS_ABOUT, PROXY):
            cursor.at = start + (kind == CLASS)
            about = self._class()
            if kind == CLASS:
                self.handles.append(node)
            node.value = about.name if about else ""
        elif kind == RESET:
            self.handles.clear()
        else:
            raise Malformed("a value is of an unknown kind")
        node.end = cursor.at
        cursor.depth -= 1
        return node

    def _text(self, size: int = 2) -> str:
        raw = self.cursor.take(self.cursor.number(size))
        try:
            return utf8(raw.replace(b"\xc0\x80", b"\0"))
        except Malformed:
            return raw.decode("latin-1")

    def _recalled(self, node: Node) -> None:
        known = self._known()
        if isinstance(known, Node):
            known.shared = known.shared or known.kind == "text"
            is_text = known.kind == "text"
            node.kind, node.value = ("text", known.value) if is_text else ("other", "the same as another value")
            node.shared = is_text
        else:
            node.value = known.name

    def _known(self) -> Node | _Class:
        number = self.cursor.number(4) - FIRST_HANDLE
        if not 0 <= number < len(self.handles):
            raise Malformed("a value is recalled that was never there")
        return self.handles[number]

    def _class(self) -> _Class | None:
        cursor, kind = self.cursor, self.cursor.byte()
        if kind == NOTHING:
            return None
        if kind == REFERENCE:
            known = self._known()
            if isinstance(known, Node):
                raise Malformed("a value is recalled as a class")
            return known
        cursor.enter()
        if kind == PROXY:
            found = _Class("proxy")
            self.handles.append(found)
            for _ in range(cursor.number(4)):
                self._text()
        elif kind == CLASS_ABOUT:
            found = _Class(self._text())
            cursor.take(8)
            self.handles.append(found)
            found.flags = cursor.byte()
            for _ in range(cursor.number(2)):
                code, name = chr(cursor.byte()), self._text()
                found.fields.append((code, name))
                if code in "[L":
                    self.value()
        else:
            raise Malformed("a class is missing")
        self._written()
        cursor.depth += 1
        found.above = self._class()
        cursor.depth -= 1
        return found

    def _written(self) -> list[Node]:
        """What is written by hand, up to its end."""
        found = []
        while self.cursor.data[self.cursor.at : self.cursor.at + 1] != bytes([END]):
            found.append(self.value())
        self.cursor.at += 1
        return found

    def _object(self, node: Node) -> Node:
        """An object as its fields; a number that is one as that number."""
        about = self._class()
        self.handles.append(node)
        node.kind = "map"
        classes: list[_Class] = []
        while about is not None:
            classes.append(about)
            about = about.above
        known: set[str] = set()
        for each in reversed(classes):
            if each.flags & SERIALIZES:
                for code, name in each.fields:
                    put(node, known, name, self._field(code))
            by_hand = each.flags & WRITES if each.flags & SERIALIZES else each.flags & BLOCKS
            if each.flags & EXTERNAL and not by_hand:
                raise Malformed("an object is written by its own class")
            if by_hand:
                parts = self._written()
                if parts:
                    put(node, known, "written", _as_written(each.name, parts))
        return node.parts[0] if len(node.parts) == 1 and classes[0].name in BOXES else node

    def _field(self, code: str) -> Node:
        if code in "[L":
            return self.value()
        if code not in CODES:
            raise Malformed("a field is of an unknown type")
        cursor, start = self.cursor, self.cursor.at
        cursor.enter()
        raw = cursor.take(struct.calcsize(CODES[code]))
        value = short_fraction(raw) if code == "F" else struct.unpack(CODES[code], raw)[0]
        return Node("switch" if code == "Z" else "number", start, cursor.at, value, ord(code))

    def _array(self, node: Node) -> None:
        about = self._class()
        self.handles.append(node)
        code = about.name[1:2] if about else ""
        count = self.cursor.number(4)
        if count > len(self.cursor.data) - self.cursor.at:
            raise Malformed("a list has more parts than bytes are left")
        if code == "B":
            node.value = self.cursor.take(count).hex(" ").upper()
            return
        node.kind = "list"
        node.parts = [self._field(code) for _ in range(count)]


def _as_written(name: str, parts: list[Node]) -> Node:
    """What a class wrote by hand: of the usual maps by the names, where all are texts."""
    keys = [part.value for part in parts[1::2]]
    if name in MAPS and len(parts) % 2 and all(isinstance(key, str) for key in keys) and len({*keys}) == len(keys):
        return Node("map", parts[0].start, parts[-1].end, parts=parts[2::2], keys=list(map(str, keys)))
    return Node("list", parts[0].start, parts[-1].end, parts=parts)
