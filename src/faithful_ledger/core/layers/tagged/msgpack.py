"""MessagePack (the specification of 2013): every value has a first byte that says its kind, and often its size."""

from __future__ import annotations

import struct

from faithful_ledger.core.layers.tagged.fractions import short_fraction
from faithful_ledger.core.layers.tagged.tree import Codec, Cursor, Kind, Malformed, Node, refuse, utf8

__all__ = ["MessagePack"]

NIL, NO, YES, FLOAT32, FLOAT64 = 0xC0, 0xC2, 0xC3, 0xCA, 0xCB
UNSIGNED, SIGNED = {0xCC: 1, 0xCD: 2, 0xCE: 4, 0xCF: 8}, {0xD0: 1, 0xD1: 2, 0xD2: 4, 0xD3: 8}
BLOBS, TEXTS = {0xC4: 1, 0xC5: 2, 0xC6: 4}, {0xD9: 1, 0xDA: 2, 0xDB: 4}
LISTS, MAPS = {0xDC: 2, 0xDD: 4}, {0xDE: 2, 0xDF: 4}
EXTENSIONS, FIXED_EXTENSIONS = {0xC7: 1, 0xC8: 2, 0xC9: 4}, {0xD4: 1, 0xD5: 2, 0xD6: 4, 0xD7: 8, 0xD8: 16}
SHORT_TEXT, SHORT_LIST, SHORT_MAP = 0xA0, 0x90, 0x80
NEGATIVE = 0xE0


class MessagePack(Codec):
    name = "msgpack"
    goes_on = True

    def may_be(self, data: bytes) -> bool:
        return len(data) > 1 and (0x80 <= data[0] <= 0x9F or data[0] in LISTS or data[0] in MAPS)

    def value_at(self, cursor: Cursor) -> Node:
        return self._value(cursor)

    def _value(self, cursor: Cursor) -> Node:
        cursor.enter()
        start, tag = cursor.at, cursor.byte()
        node = Node("number", start, start, form=tag)
        if tag < SHORT_MAP or tag >= NEGATIVE:
            node.value = tag - 256 if tag >= NEGATIVE else tag
        elif tag in UNSIGNED or tag in SIGNED:
            node.value = cursor.number(UNSIGNED.get(tag) or SIGNED[tag], signed=tag in SIGNED)
        elif tag in (FLOAT32, FLOAT64):
            raw = cursor.take(4 if tag == FLOAT32 else 8)
            node.value = short_fraction(raw) if tag == FLOAT32 else struct.unpack(">d", raw)[0]
        elif tag in (NO, YES):
            node.kind, node.value = "switch", tag == YES
        elif tag == NIL:
            node.kind = "nothing"
        elif SHORT_TEXT <= tag < NIL or tag in TEXTS:
            size = cursor.number(TEXTS[tag]) if tag in TEXTS else tag - SHORT_TEXT
            node.kind, node.value = "text", utf8(cursor.take(size))
        elif tag in BLOBS:
            node.kind, node.value = "blob", cursor.take(cursor.number(BLOBS[tag]))
        elif tag in LISTS or SHORT_LIST <= tag < SHORT_TEXT:
            self._parts(node, cursor, cursor.number(LISTS[tag]) if tag in LISTS else tag - SHORT_LIST, "list")
        elif tag in MAPS or tag < SHORT_LIST:
            self._parts(node, cursor, cursor.number(MAPS[tag]) if tag in MAPS else tag - SHORT_MAP, "map")
        elif tag in EXTENSIONS or tag in FIXED_EXTENSIONS:
            size = cursor.number(EXTENSIONS[tag]) if tag in EXTENSIONS else FIXED_EXTENSIONS[tag]
            kind = cursor.number(1, signed=True)
            node.kind, node.value = "other", f"{kind}: {cursor.take(size).hex(' ').upper()}"
        else:
            raise Malformed("a value has an unknown first byte")
        node.end = cursor.at
        return node

    def _parts(self, node: Node, cursor: Cursor, count: int, kind: Kind) -> None:
        if count > len(cursor.data) - cursor.at:
            raise Malformed("a list or group has more parts than bytes are left")
        node.kind = kind
        cursor.depth += 1
        for _ in range(count):
            if kind == "map":
                key = self._value(cursor)
                if key.kind not in ("text", "number") or isinstance(key.value, float):
                    raise Malformed("a key is neither a text nor a whole number")
                node.keys.append(str(key.value))
            node.parts.append(self._value(cursor))
        cursor.depth -= 1
        if len(set(node.keys)) < len(node.keys):
            raise Malformed("a key stands twice")

    def scalar(self, value: int | float | str | bool | bytes | None, like: Node | None) -> bytes:
        form = like.form if like is not None else -1
        if value is None or isinstance(value, bool):
            return bytes([NIL if value is None else YES if value else NO])
        if form in (FLOAT32, FLOAT64) and isinstance(value, int | float):
            return bytes([form]) + struct.pack(">f" if form == FLOAT32 else ">d", value)
        if isinstance(value, float):
            return bytes([FLOAT64]) + struct.pack(">d", value)
        if isinstance(value, int):
            return _whole(value, form)
        raw = value.encode("utf-8", "surrogateescape") if isinstance(value, str) else value
        if isinstance(value, str) and len(raw) < 32:
            return bytes([SHORT_TEXT + len(raw)]) + raw
        return _sized(TEXTS if isinstance(value, str) else BLOBS, len(raw)) + raw

    def holder(self, kind: Kind, count: int, like: Node | None) -> bytes:
        short, sizes = (SHORT_MAP, MAPS) if kind == "map" else (SHORT_LIST, LISTS)
        return bytes([short + count]) if count < 16 else _sized(sizes, count)


def _whole(value: int, form: int) -> bytes:
    """In as few bytes as it takes; in those of the old one where that took more than it had to."""
    if not -(1 << 63) <= value < 1 << 64:
        raise refuse(value, "a whole number of eight bytes")
    sizes = SIGNED if form in SIGNED or value < 0 else UNSIGNED
    if form not in SIGNED and -32 <= value < 128:
        return bytes([value & 255])
    for tag, size in sizes.items():
        least, most = (-(1 << 8 * size - 1), (1 << 8 * size - 1) - 1) if sizes is SIGNED else (0, (1 << 8 * size) - 1)
        if least <= value <= most and (form not in SIGNED or size >= SIGNED[form]):
            return bytes([tag]) + value.to_bytes(size, "big", signed=sizes is SIGNED)
    return bytes([0xCF]) + value.to_bytes(8, "big")


def _sized(sizes: dict[int, int], count: int) -> bytes:
    tag, size = next(((tag, size) for tag, size in sizes.items() if count < 1 << 8 * size), (0, 0))
    if not size:
        raise refuse(count, "a size of four bytes")
    return bytes([tag]) + count.to_bytes(size, "big")
