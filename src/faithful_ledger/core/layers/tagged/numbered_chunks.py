"""Chunks with a number and a size in front of each, both of variable length, as game engines write their objects: a
title with its length, and then chunks to the end.

What a chunk holds is not said. Bytes that are all of one number of variable length are a number; letters are a text;
chunks behind one another in ascending order with a zero behind them are an object; and so many objects as a number in
front says, each with its own number in front, are objects by their numbers. Eight bytes may be a fraction.
"""

from __future__ import annotations

import struct
from typing import Any

from faithful_ledger.core.edits import Cause, Replacement
from faithful_ledger.core.layers.tagged.fractions import is_usual
from faithful_ledger.core.layers.tagged.tree import (
    Codec,
    Cursor,
    Malformed,
    Node,
    as_number,
    is_same,
    one_replacement,
    plain,
    refuse,
)
from faithful_ledger.core.storage.leb128 import Leb128

__all__ = ["NumberedChunks"]

NUMBER, FRACTION, LETTERS, OBJECT, OBJECTS = 1, 2, 3, 4, 5  # what a chunk holds
LONGEST_NUMBER, WORD = 5, 32  # bytes, and bits of a whole number with a sign
TITLE = range(4, 33)  # letters
LEAST_CHUNKS, LARGEST_CHUNK = 3, 1 << 20  # of a file; and the largest number of one
TITLE_KEY = "title"


class NumberedChunks(Codec):
    def __init__(self, name: str, numbers: Leb128) -> None:
        self.name, self.numbers = name, numbers

    def may_be(self, data: bytes) -> bool:
        return bool(data) and data[0] in TITLE and data[1 : 1 + data[0]].isalnum() and data[1:2].isalpha()

    def is_telling(self, root: Node) -> bool:
        """An object and some chunks more, which end where the file does: hardly ever chance."""
        return len(root.parts) > LEAST_CHUNKS and any(each.form in (OBJECT, OBJECTS) for each in root.parts)

    def parse(self, data: bytes) -> Node:
        if not self.may_be(data):
            raise Malformed("there is no title")
        title = Node("text", 1, 1 + data[0], data[1 : 1 + data[0]].decode(), LETTERS, shared=True)
        cursor = Cursor(data, title.end)
        root = self._chunks(cursor, title.end, len(data), closed=False)
        root.start, root.keys, root.parts = 0, [TITLE_KEY, *root.keys], [title, *root.parts]
        return root

    def _number(self, cursor: Cursor) -> int:
        start = cursor.at
        while cursor.byte() > 127:
            if cursor.at - start == LONGEST_NUMBER:
                raise Malformed("a number has too many bytes")
        return int(self.numbers.decode(cursor.data[start : cursor.at]))

    def _chunks(self, cursor: Cursor, start: int, end: int, *, closed: bool) -> Node:
        """Chunks from an offset up to a zero, which is the last byte, or to the end."""
        node = Node("map", start, end, form=OBJECT)
        cursor.depth += 1
        cursor.at, last = start, 0
        while closed or cursor.at < end:
            cursor.enter()
            number = self._number(cursor)
            if closed and not number:
                break
            if not last < number < LARGEST_CHUNK:
                raise Malformed("the numbers of chunks do not ascend")
            size = self._number(cursor)
            begin, last = cursor.at, number
            if begin + size > end:
                raise Malformed("a chunk goes beyond what it is in")
            node.keys.append(str(number))
            node.parts.append(self._content(cursor, begin, begin + size))
            cursor.at = begin + size
        cursor.depth -= 1
        node.end = cursor.at
        return node

    def _content(self, cursor: Cursor, start: int, end: int) -> Node:
        raw = cursor.data[start:end]
        if 0 < len(raw) <= LONGEST_NUMBER and raw[-1] < 128 and all(byte > 127 for byte in raw[:-1]):
            value = int(self.numbers.decode(raw))
            if self.numbers.encode(value) == raw:
                signed = value - (1 << WORD) if value >> WORD - 1 == 1 else value
                return Node("number", start, end, signed, NUMBER)
        try:
            if raw and (text := raw.decode("utf-8")).isprintable():
                return Node("text", start, end, text, LETTERS)
        except UnicodeDecodeError:
            pass
        depth = cursor.depth
        for read in (self._object, self._objects) if raw[-1:] == b"\0" else ():
            try:
                return read(cursor, start, end)
            except Malformed:
                cursor.depth = depth
        if len(raw) == 8 and is_usual(fraction := struct.unpack("<d", raw)[0]):
            return Node("number", start, end, fraction, FRACTION)
        return Node("blob", start, end, raw)

    def _object(self, cursor: Cursor, start: int, end: int) -> Node:
        node = self._chunks(cursor, start, end, closed=True)
        if cursor.at != end or not node.parts:
            raise Malformed("something is behind the object")
        return node

    def _objects(self, cursor: Cursor, start: int, end: int) -> Node:
        """As many objects as a number says, in the order of the numbers in front of them."""
        cursor.at = start
        count, last = self._number(cursor), -1
        node = Node("map", start, end, form=OBJECTS)
        cursor.enter(count)
        for _ in range(count):
            number = self._number(cursor)
            if number <= last:
                raise Malformed("the numbers of objects do not ascend")
            last = number
            node.keys.append(str(number))
            node.parts.append(self._chunks(cursor, cursor.at, end, closed=True))
        if cursor.at != end or not count:
            raise Malformed("something is behind the objects")
        return node

    def scalar(self, value: int | float | str | bool | bytes | None, like: Node | None) -> bytes:
        form = like.form if like is not None else 0
        if form == NUMBER and isinstance(value, int) and not isinstance(value, bool):
            if not -(1 << WORD - 1) <= value < 1 << WORD:
                raise refuse(value, "a whole number of 32 bits")
            return self.numbers.encode(value % (1 << WORD))
        if form == FRACTION:
            return as_number(value, "<d")
        if form == LETTERS and isinstance(value, str):
            return value.encode("utf-8", "surrogateescape")
        if like is not None and like.kind == "blob" and isinstance(value, bytes):
            return value
        raise refuse(value, "a value of the kind that it was")

    def replaced(self, data: bytes, root: Node, new: Any, cause: Cause) -> list[Replacement]:
        if not isinstance(new, dict) or list(new) != root.keys or new[TITLE_KEY] != root.parts[0].value:
            raise refuse(list(new) if isinstance(new, dict) else new, "the chunks with the title they had")
        return one_replacement(data, data[: root.parts[0].end] + self._written(root, new, data), cause)

    def _written(self, node: Node, new: Any, data: bytes) -> bytes:
        """What a chunk holds, without its number and its size; of all of the file without the title."""
        if node.kind != "map":
            return self.encoded(new, node, data)
        if node.keys[0] != TITLE_KEY and is_same(plain(node), new):
            return data[node.start : node.end]
        if not isinstance(new, dict) or list(new) != node.keys:
            raise refuse(list(new) if isinstance(new, dict) else new, "an object with the chunks it had")
        written = [
            (int(key), self._written(part, new[key], data))
            for key, part in zip(node.keys, node.parts, strict=True)
            if key != TITLE_KEY
        ]
        if node.form == OBJECTS:
            return self.numbers.encode(len(written)) + b"".join(
                self.numbers.encode(key) + each for key, each in written
            )
        chunks = b"".join(self.numbers.encode(key) + self.numbers.encode(len(each)) + each for key, each in written)
        return chunks if node.keys[0] == TITLE_KEY else chunks + b"\0"
