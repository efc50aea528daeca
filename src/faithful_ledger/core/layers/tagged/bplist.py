"""Binary property lists (version 00, as the published source of its reader has them): objects, a table of where each
begins, and a trailer that says where the table is.

Values that are the same are often stored once. Where one of several that share an object changes, it gets an object of
its own; the table and the trailer follow. All other objects keep their bytes and their order.
"""

from __future__ import annotations

import math
import struct
from collections import Counter
from typing import Any

from faithful_ledger.core.edits import Cause, Replacement
from faithful_ledger.core.layers.tagged.tree import (
    BLOB,
    OTHER,
    Codec,
    Cursor,
    Malformed,
    Node,
    blob_of,
    is_same,
    one_replacement,
    plain,
    refuse,
)

__all__ = ["LIST", "MAP", "MARK", "UID", "BinaryPropertyList", "Rewriting", "Table", "head_of", "scalar_of"]

MARK, TRAILER = b"bplist00", 32
NOTHING, NO, YES = 0x00, 0x08, 0x09
WHOLE, REAL, DATE, BLOBS, ASCII, WIDE, UID, LIST, SET, MAP = 0x1, 0x2, 0x3, 0x4, 0x5, 0x6, 0x8, 0xA, 0xC, 0xD
MANY = 15  # the count follows as a number


class Table:
    """The objects of a list, by their numbers: where each begins and ends, and what refers to which."""

    offset_size: int
    ref_size: int
    top: int

    def __init__(self, data: bytes) -> None:
        if len(data) < len(MARK) + TRAILER + 2 or not data.startswith(MARK):
            raise Malformed("it is too short")
        self.data = data
        count: int
        self.offset_size, self.ref_size, count, self.top, table = struct.unpack_from(
            ">6xBBQQQ", data, len(data) - TRAILER
        )
        if not (1 <= self.offset_size <= 8 and 1 <= self.ref_size <= 8 and 0 < count <= len(data)):
            raise Malformed("its trailer makes no sense")
        if self.top >= count or table + count * self.offset_size + TRAILER != len(data):
            raise Malformed("its table of offsets is not in front of its trailer")
        raw = data[table : table + count * self.offset_size]
        self.starts = [
            int.from_bytes(raw[at : at + self.offset_size], "big") for at in range(0, len(raw), self.offset_size)
        ]
        self.end = table
        if any(not len(MARK) <= start < table for start in self.starts):
            raise Malformed("an object is outside")

    def count(self, number: int) -> tuple[int, int, int]:
        """The kind of an object, the count in its first byte or behind it, and where its content begins."""
        at = self.starts[number]
        kind, count = self.data[at] >> 4, self.data[at] & 15
        at += 1
        if count == MANY and kind not in (0, WHOLE, REAL, DATE, UID):
            size = 1 << (self.data[at] & 15)
            if self.data[at] >> 4 != WHOLE or size > 8:
                raise Malformed("a count is not a number")
            count = int.from_bytes(self.data[at + 1 : at + 1 + size], "big")
            at += 1 + size
        return kind, count, at

    def refs(self, at: int, count: int) -> list[int]:
        if count > (self.end - at) // self.ref_size:
            raise Malformed("an object has more parts than bytes are left")
        size = self.ref_size
        found = [int.from_bytes(self.data[low : low + size], "big") for low in range(at, at + count * size, size)]
        if any(number >= len(self.starts) for number in found):
            raise Malformed("an object refers to one that is not there")
        return found

    def has_parts(self, number: int) -> bool:
        return self.count(number)[0] in (LIST, SET, MAP)

    def node(self, number: int) -> Node:
        """An object, with its value where it has no parts."""
        kind, count, at = self.count(number)
        end = at + self.size(kind, count)
        if end > self.end:
            raise Malformed("an object goes beyond the end")
        node = Node("other", self.starts[number], end)
        if not self.has_parts(number):
            _scalar_into(node, kind, count, self.data[at:end])
        return node

    def refs_of(self, number: int) -> list[int]:
        """The numbers of the objects that one refers to, keys first; none of one without parts."""
        kind, count, at = self.count(number)
        if kind not in (LIST, SET, MAP):
            return []
        return self.refs(at, count * (2 if kind == MAP else 1))

    def taken(self, number: int) -> bytes:
        """The bytes of an object."""
        kind, count, at = self.count(number)
        return self.data[self.starts[number] : at + self.size(kind, count)]

    def size(self, kind: int, count: int) -> int:
        if kind in (LIST, SET, MAP):
            return count * self.ref_size * (2 if kind == MAP else 1)
        if kind in (WHOLE, REAL, DATE):
            return 1 << count
        sizes = {BLOBS: count, ASCII: count, WIDE: 2 * count, UID: count + 1}
        return sizes.get(kind, 0)


def _scalar_into(node: Node, kind: int, count: int, raw: bytes) -> None:
    """Let a node be a value without parts."""
    if kind == 0 and count in (NOTHING, NO, YES):
        node.kind, node.value = ("nothing", None) if count == NOTHING else ("switch", count == YES)
    elif kind == WHOLE and len(raw) <= 16:
        node.kind, node.value = "number", int.from_bytes(raw, "big", signed=len(raw) >= 8)
    elif kind in (REAL, DATE) and len(raw) in (4, 8):
        value = struct.unpack(">f" if len(raw) == 4 else ">d", raw)[0]
        node.kind, node.value = "number", value
    elif kind == BLOBS:
        node.kind, node.value = "blob", raw
    elif kind in (ASCII, WIDE):
        node.kind, node.value = "text", raw.decode("ascii" if kind == ASCII else "utf-16-be", "surrogatepass")
    elif kind == UID:
        node.value = f"uid {int.from_bytes(raw, 'big')}"
    else:
        raise Malformed("an object is of an unknown kind")


class BinaryPropertyList(Codec):
    name = "bplist"
    has_mark = True

    def may_be(self, data: bytes) -> bool:
        return data.startswith(MARK)

    def parse(self, data: bytes) -> Node:
        table = Table(data)
        return self._node(table, table.top, Cursor(data), ())

    def _node(self, table: Table, number: int, cursor: Cursor, around: tuple[int, ...]) -> Node:
        """An object as a value; `form` is its number."""
        if number in around:
            raise Malformed("an object is within itself")
        cursor.enter()
        cursor.depth += 1
        node = table.node(number)
        node.form = number
        if table.has_parts(number):
            self._parts(node, table, table.count(number)[0], table.refs_of(number), cursor, (*around, number))
        cursor.depth -= 1
        return node

    def _parts(
        self, node: Node, table: Table, kind: int, refs: list[int], cursor: Cursor, around: tuple[int, ...]
    ) -> None:
        node.kind = "map" if kind == MAP else "list"
        values = refs
        if kind == MAP:
            keys, values = refs[: len(refs) // 2], refs[len(refs) // 2 :]
            for key in keys:
                name = self._node(table, key, cursor, around)
                if name.kind != "text":
                    raise Malformed("a key is not a text")
                node.keys.append(str(name.value))
        node.parts = [self._node(table, value, cursor, around) for value in values]

    def replaced(self, data: bytes, root: Node, new: Any, cause: Cause) -> list[Replacement]:
        if is_same(plain(root), new):
            return []
        return one_replacement(data, _ListRewriting(Table(data)).with_root(root, new), cause)


class Rewriting:
    """The objects of a list as they will be."""

    def __init__(self, table: Table) -> None:
        self.table = table
        self.objects = [table.taken(number) for number in range(len(table.starts))]
        self.refs: dict[int, list[int]] = {}  # of objects that are written anew
        self.users: Counter[int] = Counter()
        for number in range(len(table.starts)):
            self.users.update(table.refs_of(number))

    def written(self, top: int) -> bytes:
        size = max(self.table.ref_size, _bytes_for(len(self.objects)))
        for number in range(len(self.objects)):
            refs = self.refs.get(number)
            if refs is None and number < len(self.table.starts) and size != self.table.ref_size:
                refs = self.table.refs_of(number)
                self.objects[number] = self.objects[number][
                    : len(self.objects[number]) - len(refs) * self.table.ref_size
                ]
            if refs is not None:
                self.objects[number] += b"".join(ref.to_bytes(size, "big") for ref in refs)
        starts, at = [], len(MARK)
        for each in self.objects:
            starts.append(at)
            at += len(each)
        width = max(self.table.offset_size, _bytes_for(at))
        offsets = b"".join(start.to_bytes(width, "big") for start in starts)
        head = self.table.data[-TRAILER : -TRAILER + 6]
        trailer = head + struct.pack(">BBQQQ", width, size, len(starts), top, at)
        return MARK + b"".join(self.objects) + offsets + trailer

    def added(self, content: bytes, refs: list[int] | None = None) -> int:
        self.objects.append(content)
        if refs is not None:
            self.refs[len(self.objects) - 1] = refs
        return len(self.objects) - 1


class _ListRewriting(Rewriting):
    def with_root(self, root: Node, new: Any) -> bytes:
        return self.written(self._changed(root, new))

    def _changed(self, node: Node, new: Any) -> int:
        """The number of the object that says a new value in place of an old one."""
        if is_same(plain(node), new):
            return node.form
        if node.kind == "other":
            raise refuse(new, "a value that can be changed here")
        if node.kind == "list" and isinstance(new, list):
            old: list[Node | None] = [*node.parts, *[None] * max(len(new) - len(node.parts), 0)]
            refs = [self._new(each, part) for each, part in zip(new, old, strict=False)]
            kind = self.table.count(node.form)[0]
            return self._put(node, head_of(kind, len(new)), refs)
        if node.kind == "map" and isinstance(new, dict) and set(new) not in ({BLOB}, {OTHER}):
            parts = dict(zip(node.keys, node.parts, strict=True))
            names = dict(zip(node.keys, self.table.refs_of(node.form), strict=False))  # keys come first
            keys = [names[key] if key in names else self.added(scalar_of(key, None)) for key in new]
            values = [self._new(each, parts.get(key)) for key, each in new.items()]
            return self._put(node, head_of(MAP, len(new)), [*keys, *values])
        return self._put(node, scalar_of(new, self.objects[node.form]), None)

    def _new(self, value: Any, like: Node | None) -> int:
        if like is not None:
            return self._changed(like, value)
        if isinstance(value, list):
            return self.added(head_of(LIST, len(value)), [self._new(each, None) for each in value])
        if isinstance(value, dict) and set(value) != {BLOB}:
            keys = [self.added(scalar_of(key, None)) for key in value]
            return self.added(head_of(MAP, len(value)), [*keys, *(self._new(each, None) for each in value.values())])
        return self.added(scalar_of(value, None))

    def _put(self, node: Node, content: bytes, refs: list[int] | None) -> int:
        """In place of an object that only one other refers to; else as a new one."""
        number = node.form
        if self.users[number] > 1 or number in self.refs:
            return self.added(content, refs)
        self.objects[number] = content
        if refs is not None:
            self.refs[number] = refs
        return number


def head_of(kind: int, count: int) -> bytes:
    if count < MANY:
        return bytes([kind << 4 | count])
    power = next(power for power in range(4) if count < 1 << (8 << power))
    return bytes([kind << 4 | MANY, WHOLE << 4 | power]) + count.to_bytes(1 << power, "big")


def _bytes_for(number: int) -> int:
    return next(size for size in (1, 2, 4, 8) if number < 1 << 8 * size)


def scalar_of(value: Any, old: bytes | None) -> bytes:
    """An object without parts, of the kind of an old one where that takes the value."""
    kind = old[0] >> 4 if old else -1
    if value is None or isinstance(value, bool):
        return bytes([NOTHING if value is None else YES if value else NO])
    if isinstance(value, int | float) and (isinstance(value, float) or kind in (REAL, DATE)):
        code = ">f" if old and kind == REAL and len(old) == 5 else ">d"
        if not math.isfinite(value) or abs(value) > 3e38:
            code = ">d"
        raw = struct.pack(code, value)
        return bytes([(kind if kind in (REAL, DATE) else REAL) << 4 | (2 if code == ">f" else 3)]) + raw
    if isinstance(value, int):
        if not -(1 << 63) <= value < 1 << 64:
            raise refuse(value, "a whole number of eight bytes")
        if value < 0 or value >= 1 << 63:
            size = 8 if value < 0 else 16
        else:
            size = max(_bytes_for(value), len(old) - 1 if old and kind == WHOLE else 1)
        return bytes([WHOLE << 4 | size.bit_length() - 1]) + value.to_bytes(size, "big", signed=value < 0)
    if isinstance(value, str):
        if value.isascii():
            return head_of(ASCII, len(value)) + value.encode("ascii")
        raw = value.encode("utf-16-be", "surrogatepass")
        return head_of(WIDE, len(raw) // 2) + raw
    if isinstance(value, dict) and set(value) == {BLOB}:
        raw = blob_of(value)
        return head_of(BLOBS, len(raw)) + raw
    raise refuse(value, "a value that such a list has")
