"""Ruby's Marshal, version 4.8 (documentation of its class Marshal): every value begins with a letter for its kind.

Names and values that come again are links by number, so that no value may come in or go: what is changed is changed in
its place. Several dumps behind one another, as games write them, are a list.
"""

from __future__ import annotations

import json

from faithful_ledger.core.layers.tagged.tree import Codec, Cursor, Malformed, Node, plain, refuse

__all__ = ["RubyMarshal"]

VERSION = b"\x04\x08"
SMALL, LARGEST = 123, (1 << 30) - 1  # numbers of one byte are below; larger ones than the other are of any size


class RubyMarshal(Codec):
    name = "ruby-marshal"
    has_mark = True

    def may_be(self, data: bytes) -> bool:
        return data.startswith(VERSION)

    def value_at(self, cursor: Cursor) -> Node:
        if cursor.take(len(VERSION)) != VERSION:
            raise Malformed("something is behind its end")
        return _Dump(cursor).value()

    def scalar(self, value: int | float | str | bool | bytes | None, like: Node | None) -> bytes:
        if value is None or isinstance(value, bool):
            return b"0" if value is None else b"T" if value else b"F"
        if isinstance(value, float) or (like is not None and like.form == ord("f") and isinstance(value, int)):
            text = (str(int(value)) if float(value).is_integer() and abs(value) < 1e16 else repr(value)).encode()
            return b"f" + _spelled(len(text)) + text
        if isinstance(value, int):
            return b"i" + _spelled(value) if -LARGEST - 1 <= value <= LARGEST else _large(value)
        if like is None or like.kind not in ("text", "blob"):
            raise refuse(value, "a text that was one before")
        raw = value.encode("utf-8", "surrogateescape") if isinstance(value, str) else value
        return b'"' + _spelled(len(raw)) + raw


class _Dump:
    """One dump: the names in it by their numbers."""

    def __init__(self, cursor: Cursor) -> None:
        self.cursor = cursor
        self.names: list[str] = []

    def value(self) -> Node:
        cursor = self.cursor
        cursor.enter()
        cursor.depth += 1
        start, kind = cursor.at, cursor.byte()
        node = Node("other", start, start, form=kind)
        letter = chr(kind)
        if letter in "0TF":
            node.kind, node.value = ("nothing", None) if letter == "0" else ("switch", letter == "T")
        elif letter == "i":
            node.kind, node.value = "number", self._number()
        elif letter == "l":
            node.kind, node.value = "number", self._large()
        elif letter == "f":
            node.kind, node.value = "number", _fraction(self._bytes())
        elif letter == '"':
            raw = self._bytes()
            node.kind, node.value = ("text", raw.decode()) if _is_text(raw) else ("blob", raw)
        elif letter == "[":
            node.kind = "list"
            node.parts = [self.value() for _ in range(self._count())]
        elif letter in "{}":
            self._pairs(node)
            if letter == "}":
                self.value()  # what a key that is missing would say
        elif letter in "oS":
            self._name()
            self._fields(node)
        elif letter in "IeUC":
            node = self._wrapped(letter)
        else:
            node.value = self._other(letter)
        node.end = max(node.end, cursor.at) if letter not in "IeUC" else node.end
        cursor.depth -= 1
        return node

    def _wrapped(self, letter: str) -> Node:
        """A value with something said about it: its encoding, its class."""
        if letter != "I":
            self._name()
        node = self.value()
        if letter == "I":
            for _ in range(self._count()):
                self._name()
                self.value()
        return node

    def _other(self, letter: str) -> str:
        """What keeps its bytes."""
        if letter in ":;":
            self.cursor.at -= 1
            return f":{self._name()}"
        if letter == "@":
            return f"the same as value {self._number()}"
        if letter == "u":
            return f"{self._name()} {self._bytes().hex(' ').upper()}"
        if letter in "cmM":
            return self._bytes().decode("utf-8", "replace")
        if letter == "/":
            raw = self._bytes()
            return f"{raw.decode('utf-8', 'replace')} {self.cursor.byte()}"
        raise Malformed("a value has an unknown letter")

    def _pairs(self, node: Node) -> None:
        node.kind = "map"
        for _ in range(self._count()):
            key = self.value()
            is_name = isinstance(key.value, str) and key.form in b":;"
            said = str(key.value)[1:] if is_name else key.value if key.kind == "text" else json.dumps(plain(key))
            self._take(node, str(said))

    def _fields(self, node: Node) -> None:
        node.kind = "map"
        for _ in range(self._count()):
            self._take(node, self._name().removeprefix("@"))

    def _take(self, node: Node, key: str) -> None:
        number = 1 + sum(known == key for known in node.keys[-8:])
        node.keys.append(key if number == 1 else f"{key} {number}")
        node.parts.append(self.value())

    def _name(self) -> str:
        letter = self.cursor.byte()
        if letter == ord(":"):
            self.names.append(self._bytes().decode("utf-8", "replace"))
            return self.names[-1]
        number = self._number() if letter == ord(";") else -1
        if not 0 <= number < len(self.names):
            raise Malformed("a name is used that was never defined")
        return self.names[number]

    def _number(self) -> int:
        first = self.cursor.number(1, signed=True)
        if -5 < first < 5 and first:
            size = abs(first)
            raw = self.cursor.number(size, "little")
            return raw if first > 0 else raw - (1 << 8 * size)
        return first - (5 if first > 0 else -5 if first < 0 else 0)

    def _count(self) -> int:
        count = self._number()
        if not 0 <= count <= len(self.cursor.data) - self.cursor.at:
            raise Malformed("a list or group has more parts than bytes are left")
        return count

    def _bytes(self) -> bytes:
        return self.cursor.take(self._count())

    def _large(self) -> int:
        sign = self.cursor.byte()
        value = int.from_bytes(self.cursor.take(2 * self._count()), "little")
        return -value if sign == ord("-") else value


def _spelled(value: int) -> bytes:
    """A whole number behind its letter, and every count."""
    if not value:
        return b"\0"
    if -SMALL <= value < SMALL:
        return bytes([value + (5 if value > 0 else -5) & 255])
    size = next(size for size in range(1, 5) if -(1 << 8 * size) <= value < 1 << 8 * size)
    return bytes([(size if value > 0 else -size) & 255]) + (value & (1 << 8 * size) - 1).to_bytes(size, "little")


def _large(value: int) -> bytes:
    words = -(-abs(value).bit_length() // 16)
    return b"l" + (b"-" if value < 0 else b"+") + _spelled(words) + abs(value).to_bytes(2 * words, "little")


def _fraction(raw: bytes) -> float:
    try:
        return float(raw.split(b"\0")[0])
    except ValueError as error:
        raise Malformed("a number cannot be read") from error


def _is_text(raw: bytes) -> bool:
    try:
        raw.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True
