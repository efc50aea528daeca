"""Shared objects of pages and players (files with the mark TCSO): values in the action message format, AMF 0 and AMF 3
(the specifications of 2006 and 2007).

A number of AMF 3 takes as many bytes as it needs. A text that is recalled by its number elsewhere keeps its bytes.
"""

from __future__ import annotations

import struct
from datetime import UTC, datetime, timedelta

from faithful_ledger.core.layers.tagged.tree import Codec, Count, Cursor, Malformed, Node, as_number, refuse, utf8

__all__ = ["SharedObject"]

MARK, HEAD = b"TCSO\x00\x04\x00\x00\x00\x00", b"\x00\xbf"
NUMBER, SWITCH, TEXT, OBJECT, CLIP, NIL, UNDEFINED, REFERENCE, ECMA, END, STRICT, DATE, LONG, UNSUPPORTED = range(14)
XML, TYPED, AVM_PLUS = 0x0F, 0x10, 0x11
(UNDEFINED_3, NIL_3, NO, YES, INTEGER, DOUBLE, TEXT_3, DOCUMENT, DATE_3, ARRAY, OBJECT_3, XML_3, BYTES, INTS, WHOLES,
 DOUBLES, OBJECTS, DICTIONARY) = range(0x12)  # fmt: skip
LATER = 0x100  # on the form of a value of AMF 3
EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
SMALLEST, LARGEST = -(1 << 28), (1 << 28) - 1


class SharedObject(Codec):
    name = "amf"
    has_mark = True

    def may_be(self, data: bytes) -> bool:
        return data.startswith(HEAD) and data[6:16] == MARK

    def value_at(self, cursor: Cursor) -> Node:
        return _Reader(cursor).root()

    def is_telling(self, root: Node) -> bool:
        return True

    def scalar(self, value: int | float | str | bool | bytes | None, like: Node | None) -> bytes:
        form = like.form if like is not None else -1
        is_number = isinstance(value, int | float) and not isinstance(value, bool)
        if form in (NUMBER, LATER | INTEGER, LATER | DOUBLE) and is_number:
            whole = form == LATER | INTEGER and isinstance(value, int)
            if whole and SMALLEST <= value <= LARGEST:  # type: ignore[operator]
                return bytes([INTEGER]) + _number_29(int(value) & 0x1FFFFFFF)  # type: ignore[arg-type]
            return bytes([NUMBER if form == NUMBER else DOUBLE]) + as_number(value, ">d")
        if form in (SWITCH, LATER | YES) and isinstance(value, bool):
            return bytes([SWITCH, value]) if form == SWITCH else bytes([YES if value else NO])
        if form in (TEXT, LONG) and isinstance(value, str):
            raw = value.encode("utf-8", "surrogatepass")
            is_long = form == LONG or len(raw) >= 1 << 16
            return bytes([LONG if is_long else TEXT]) + struct.pack(">I" if is_long else ">H", len(raw)) + raw
        if like is not None and form == LATER | TEXT_3 and isinstance(value, str):
            if bool(value) is not bool(like.value):  # an empty one has no number, by which others are recalled
                raise refuse(
                    value or "an empty text", "possible here: the others behind it are recalled by their number"
                )
            raw = value.encode("utf-8", "surrogatepass")
            return bytes([TEXT_3]) + _number_29(len(raw) << 1 | 1) + raw
        raise refuse(value, "a value of the kind that it was")


def _number_29(value: int) -> bytes:
    """A number of 29 bits in one to four bytes, the highest bits first."""
    if value >= 1 << 29:
        raise refuse(value, "a size below 2 to the power of 29")
    if value < 1 << 21:
        groups = [value & 127]
        while value := value >> 7:
            groups.append(value & 127 | 128)
        return bytes(reversed(groups))
    return bytes([value >> 22 & 127 | 128, value >> 15 & 127 | 128, value >> 8 & 127 | 128, value & 255])


class _Reader:
    """One file. `texts` and `objects` are what AMF 3 recalls by number."""

    def __init__(self, cursor: Cursor) -> None:
        self.cursor = cursor
        self.texts: list[Node | None] = []
        self.said: list[str] = []
        self.traits: list[tuple[list[str], bool]] = []

    def root(self) -> Node:
        cursor, start = self.cursor, self.cursor.at
        if cursor.take(len(HEAD)) != HEAD:
            raise Malformed("something is behind its end")
        end = cursor.number(4) + cursor.at
        if end > len(cursor.data) or cursor.take(len(MARK)) != MARK:
            raise Malformed("it is cut off")
        self._name()
        version = cursor.number(4)
        node = Node("map", start, end, counts=[Count(start + 2, start + 6, start + 6, end, big=True)])
        while cursor.at < end:
            node.keys.append(self._text_3()[0] if version == 3 else self._name())
            node.parts.append(self._later() if version == 3 else self._value())
            cursor.take(1)
        if cursor.at != end or len(set(node.keys)) < len(node.keys):
            raise Malformed("its values do not end where it says")
        return node

    def _name(self) -> str:
        return utf8(self.cursor.take(self.cursor.number(2)))

    def _value(self) -> Node:
        """A value of AMF 0."""
        cursor = self.cursor
        cursor.enter()
        cursor.depth += 1
        start, kind = cursor.at, cursor.byte()
        node = Node("other", start, start, form=kind)
        if kind == NUMBER:
            node.kind, node.value = "number", _fraction(cursor)
        elif kind == SWITCH:
            node.kind, node.value = "switch", bool(cursor.byte())
        elif kind in (TEXT, LONG, XML):
            node.kind, node.value = "text", utf8(cursor.take(cursor.number(2 if kind == TEXT else 4)))
        elif kind in (OBJECT, ECMA, TYPED):
            if kind == ECMA:
                cursor.take(4)
            elif kind == TYPED:
                self._name()
            self._pairs(node)
        elif kind == STRICT:
            node.kind = "list"
            node.parts = [self._value() for _ in range(self._counted(cursor.number(4)))]
        elif kind == DATE:
            node.value = _moment(_fraction(cursor))
            cursor.take(2)
        elif kind in (NIL, UNDEFINED, UNSUPPORTED):
            node.kind = "nothing"
        elif kind == REFERENCE:
            node.value = f"the same as value {cursor.number(2)}"
        elif kind == AVM_PLUS:
            node = self._later()
        else:
            raise Malformed("a value is of an unknown kind")
        node.end = cursor.at
        cursor.depth -= 1
        return node

    def _pairs(self, node: Node) -> None:
        node.kind = "map"
        while True:
            name = self._name()
            if not name and self.cursor.data[self.cursor.at : self.cursor.at + 1] == bytes([END]):
                self.cursor.at += 1
                break
            node.keys.append(name)
            node.parts.append(self._value())
        if len(set(node.keys)) < len(node.keys):
            raise Malformed("a name stands twice")

    def _counted(self, count: int) -> int:
        if count > len(self.cursor.data) - self.cursor.at:
            raise Malformed("a list has more parts than bytes are left")
        return count

    # AMF 3

    def _number(self) -> int:
        value = 0
        for step in range(4):
            byte = self.cursor.byte()
            if step == 3:
                return value << 8 | byte
            value = value << 7 | byte & 127
            if byte < 128:
                break
        return value

    def _text_3(self, node: Node | None = None) -> tuple[str, bool]:
        """A text, and whether it is said here. `node` is the value that it is; a name is none."""
        size = self._number()
        if not size & 1:
            if size >> 1 >= len(self.said):
                raise Malformed("a text is recalled that was never said")
            known = self.texts[size >> 1]
            if known is not None:
                known.shared = True
            return self.said[size >> 1], False
        text = utf8(self.cursor.take(size >> 1))
        if text:
            self.said.append(text)
            self.texts.append(node)
        return text, True

    def _later(self) -> Node:
        """A value of AMF 3."""
        cursor = self.cursor
        cursor.enter()
        cursor.depth += 1
        start, kind = cursor.at, cursor.byte()
        node = Node("other", start, start, form=LATER | kind)
        if kind in (UNDEFINED_3, NIL_3):
            node.kind = "nothing"
        elif kind in (NO, YES):
            node.kind, node.value, node.form = "switch", kind == YES, LATER | YES
        elif kind == INTEGER:
            number = self._number()
            node.kind, node.value = "number", number - (1 << 29) if number >> 28 else number
        elif kind == DOUBLE:
            node.kind, node.value = "number", _fraction(cursor)
        elif kind == TEXT_3:
            node.kind = "text"
            node.value, is_said = self._text_3(node)
            node.shared = node.shared or not is_said
        else:
            self._referred(node, kind)
        node.end = cursor.at
        cursor.depth -= 1
        return node

    def _referred(self, node: Node, kind: int) -> None:
        """What may be recalled by its number."""
        cursor = self.cursor
        if kind not in (DOCUMENT, DATE_3, ARRAY, OBJECT_3, XML_3, BYTES, INTS, WHOLES, DOUBLES, OBJECTS, DICTIONARY):
            raise Malformed("a value is of an unknown kind")
        size = self._number()
        if not size & 1:
            node.value = f"the same as value {size >> 1}"
        elif kind == ARRAY:
            self._array(node, self._counted(size >> 1))
        elif kind == OBJECT_3:
            self._object(node, size)
        elif kind == DATE_3:
            node.value = _moment(_fraction(cursor))
        elif kind in (DOCUMENT, XML_3):
            node.value = utf8(cursor.take(size >> 1))
        elif kind == BYTES:
            node.value = cursor.take(size >> 1).hex(" ").upper()
        elif kind in (INTS, WHOLES, DOUBLES):
            cursor.take(1)
            node.value = cursor.take((8 if kind == DOUBLES else 4) * (size >> 1)).hex(" ").upper()
        elif kind == OBJECTS:
            cursor.take(1)
            self._text_3()
            node.kind = "list"
            node.parts = [self._later() for _ in range(self._counted(size >> 1))]
        else:
            cursor.take(1)
            node.kind = "list"
            node.parts = [self._later() for _ in range(2 * self._counted(size >> 1))]

    def _array(self, node: Node, count: int) -> None:
        names = []
        while name := self._text_3()[0]:
            names.append(name)
            node.parts.append(self._later())
        dense = [self._later() for _ in range(count)]
        if names:
            node.kind, node.keys = "map", [*names, *map(str, range(count))]
        else:
            node.kind = "list"
        node.parts += dense

    def _object(self, node: Node, size: int) -> None:
        node.kind = "map"
        if not size & 2:
            if size >> 2 >= len(self.traits):
                raise Malformed("a class is recalled that was never said")
            names, is_open = self.traits[size >> 2]
        else:
            if size & 4:
                raise Malformed("a value is written by its own class")
            self._text_3()
            names = [self._text_3()[0] for _ in range(self._counted(size >> 4))]
            is_open = bool(size & 8)
            self.traits.append((names, is_open))
        node.keys = list(names)
        node.parts = [self._later() for _ in names]
        while is_open and (name := self._text_3()[0]):
            node.keys.append(name)
            node.parts.append(self._later())
        if len(set(node.keys)) < len(node.keys):
            raise Malformed("a name stands twice")


def _fraction(cursor: Cursor) -> int | float:
    """A number; as a whole one where it is, as people write it."""
    (value,) = struct.unpack(">d", cursor.take(8))
    return int(value) if abs(value) < 1 << 53 and value == int(value) and str(value) != "-0.0" else float(value)


def _moment(milliseconds: float) -> str:
    try:
        return (EPOCH + timedelta(milliseconds=milliseconds)).isoformat()
    except (OverflowError, ValueError):
        return str(milliseconds)
