"""CBOR (RFC 8949): the first byte of a value has its kind in three bits and its size, or where that is, in five."""

from __future__ import annotations

import struct

from faithful_ledger.core.layers.tagged.fractions import short_fraction
from faithful_ledger.core.layers.tagged.tree import Codec, Cursor, Kind, Malformed, Node, refuse, utf8

__all__ = ["Cbor"]

WHOLE, NEGATIVE, BLOB, TEXT, LIST, MAP, TAG, SIMPLE = range(8)
SIZES = {24: 1, 25: 2, 26: 4, 27: 8}
OPEN, BREAK = 31, 0xFF
NO, YES, NIL, UNDEFINED, HALF, SINGLE, DOUBLE = 20, 21, 22, 23, 25, 26, 27
MARK = b"\xd9\xd9\xf7"  # the tag 55799, which says only that it is CBOR


class Cbor(Codec):
    name = "cbor"
    goes_on = True  # RFC 8742

    def may_be(self, data: bytes) -> bool:
        return data.startswith(MARK) or (len(data) > 1 and data[0] >> 5 in (LIST, MAP))

    def value_at(self, cursor: Cursor) -> Node:
        cursor.at += len(MARK) if cursor.data.startswith(MARK, cursor.at) else 0
        return self._value(cursor)

    def _value(self, cursor: Cursor) -> Node:
        cursor.enter()
        start, first = cursor.at, cursor.byte()
        major, info = first >> 5, first & 31
        node = Node("number", start, start, form=first)
        if major == SIMPLE:
            self._simple(node, cursor, info)
        elif info == OPEN and BLOB <= major <= MAP:
            self._open(node, cursor, major)
        else:
            count = info if info < 24 else cursor.number(SIZES[info]) if info in SIZES else -1
            if count < 0:
                raise Malformed("a value has an unknown size")
            self._counted(node, cursor, major, count)
        node.end = cursor.at
        return node

    def _counted(self, node: Node, cursor: Cursor, major: int, count: int) -> None:
        if major in (WHOLE, NEGATIVE):
            node.value = -1 - count if major == NEGATIVE else count
        elif major == BLOB:
            node.kind, node.value = "blob", cursor.take(count)
        elif major == TEXT:
            node.kind, node.value = "text", utf8(cursor.take(count))
        elif major == TAG:  # what a value is tagged with is kept with it
            cursor.depth += 1
            inner = self._value(cursor)
            cursor.depth -= 1
            node.kind, node.value = "other", f"{count}: {cursor.data[inner.start : inner.end].hex(' ').upper()}"
        else:
            if count > len(cursor.data) - cursor.at:
                raise Malformed("a list or group has more parts than bytes are left")
            node.kind = "list" if major == LIST else "map"
            cursor.depth += 1
            for _ in range(count):
                self._part(node, cursor)
            cursor.depth -= 1
            _check_keys(node)

    def _part(self, node: Node, cursor: Cursor) -> None:
        if node.kind == "map":
            key = self._value(cursor)
            if key.kind not in ("text", "number") or isinstance(key.value, float):
                raise Malformed("a key is neither a text nor a whole number")
            node.keys.append(str(key.value))
        node.parts.append(self._value(cursor))

    def _open(self, node: Node, cursor: Cursor, major: int) -> None:
        """A list or a map up to its end mark; a text or bytes in pieces keep theirs."""
        node.kind = "list" if major == LIST else "map" if major == MAP else "other"
        cursor.depth += 1
        while cursor.data[cursor.at : cursor.at + 1] != bytes([BREAK]):
            if node.kind == "other":
                self._value(cursor)
            else:
                self._part(node, cursor)
        cursor.depth -= 1
        cursor.at += 1
        if node.kind == "other":
            node.value = cursor.data[node.start : cursor.at].hex(" ").upper()
        _check_keys(node)

    def _simple(self, node: Node, cursor: Cursor, info: int) -> None:
        if info in (NO, YES):
            node.kind, node.value = "switch", info == YES
        elif info in (NIL, UNDEFINED):
            node.kind = "nothing"
        elif info in (HALF, SINGLE, DOUBLE):
            raw = cursor.take(SIZES[info])
            single = info == SINGLE
            node.value = short_fraction(raw) if single else struct.unpack(">e" if info == HALF else ">d", raw)[0]
        else:
            raise Malformed("a value is of an unknown kind")

    def scalar(self, value: int | float | str | bool | bytes | None, like: Node | None) -> bytes:
        form = like.form if like is not None and like.kind == "number" else 0
        if value is None or isinstance(value, bool):
            return bytes([SIMPLE << 5 | (NIL if value is None else YES if value else NO)])
        if form >> 5 == SIMPLE and isinstance(value, int | float):
            kind = {HALF: ">e", SINGLE: ">f", DOUBLE: ">d"}[form & 31]
            try:
                return bytes([form]) + struct.pack(kind, value)
            except OverflowError as error:
                raise refuse(value, f"a fraction of {SIZES[form & 31]} bytes") from error
        if isinstance(value, float):
            return bytes([SIMPLE << 5 | DOUBLE]) + struct.pack(">d", value)
        if isinstance(value, int):
            return _head(WHOLE if value >= 0 else NEGATIVE, value if value >= 0 else -1 - value)
        raw = value.encode("utf-8", "surrogateescape") if isinstance(value, str) else value
        return _head(TEXT if isinstance(value, str) else BLOB, len(raw)) + raw

    def holder(self, kind: Kind, count: int, like: Node | None) -> bytes:
        if like is not None and like.form & 31 == OPEN:
            raise refuse(kind, "one that says how many parts it has")
        return _head(MAP if kind == "map" else LIST, count)


def _head(major: int, count: int) -> bytes:
    if count < 24:
        return bytes([major << 5 | count])
    info = next((info for info, size in SIZES.items() if count < 1 << 8 * size), None)
    if info is None:
        raise refuse(count, "a whole number of eight bytes")
    return bytes([major << 5 | info]) + count.to_bytes(SIZES[info], "big")


def _check_keys(node: Node) -> None:
    if len(set(node.keys)) < len(node.keys):
        raise Malformed("a key stands twice")
