"""Values as PHP serializes them: a letter for the kind, and the size of every text and group in front of it."""

from __future__ import annotations

import re
from typing import Any

from faithful_ledger.core.layers.tagged.tree import Codec, Cursor, Malformed, Node, is_same, plain, refuse

__all__ = ["PhpValues"]

BEGINNING = re.compile(rb'(?:a:\d+:\{|O:\d+:"[^"]+":\d+:\{)')
NUMBER = re.compile(rb"[-+]?(?:\d+(?:\.\d*)?(?:[eE][-+]?\d+)?|INF)|NAN")
WHOLE, FRACTION, SWITCH, NOTHING, TEXT, LIST, GROUP = b"idbNsaO"


class PhpValues(Codec):
    name = "php-serialize"

    def may_be(self, data: bytes) -> bool:
        return BEGINNING.match(data) is not None

    def value_at(self, cursor: Cursor) -> Node:
        cursor.enter()
        cursor.depth += 1
        start, kind = cursor.at, cursor.byte()
        node = Node("other", start, start, form=kind)
        if kind == NOTHING:
            node.kind = "nothing"
            self._expect(cursor, b";")
        elif kind in (WHOLE, FRACTION, SWITCH):
            self._expect(cursor, b":")
            said = self._until(cursor, b";")
            if NUMBER.fullmatch(said) is None:
                raise Malformed("a number is none")
            node.kind = "switch" if kind == SWITCH else "number"
            node.value = said == b"1" if kind == SWITCH else int(said) if kind == WHOLE else float(said)
        elif kind == TEXT:
            node.kind, raw = "text", self._text(cursor)
            self._expect(cursor, b";")
            try:
                node.value = raw.decode("utf-8")
            except UnicodeDecodeError:
                node.kind, node.value = "blob", raw
        elif kind in (LIST, GROUP):
            if kind == GROUP:
                self._text(cursor)
            self._pairs(node, cursor)
        elif kind in b"rRE":
            self._expect(cursor, b":")
            node.value = f"{chr(kind)} {self._until(cursor, b';').decode('latin-1')}"
        else:
            raise Malformed("a value has an unknown letter")
        node.end = cursor.at
        cursor.depth -= 1
        return node

    def _pairs(self, node: Node, cursor: Cursor) -> None:
        self._expect(cursor, b":")
        count = self._count(cursor)
        self._expect(cursor, b"{")
        for _ in range(count):
            key = self.value_at(cursor)
            if key.kind not in ("text", "number", "blob"):
                raise Malformed("a key is neither a text nor a number")
            name = str(plain(key)) if key.kind != "blob" else (key.value or b"").decode("latin-1")  # type: ignore[union-attr]
            node.keys.append(name.rpartition("\0")[2])  # in front of it is the class that it is private to
            node.parts.append(self.value_at(cursor))
        self._expect(cursor, b"}")
        if node.form == LIST and node.keys == list(map(str, range(count))):
            node.kind, node.keys = "list", []
            return
        node.kind = "map"
        if len(set(node.keys)) < count:
            raise Malformed("a key stands twice")

    def _text(self, cursor: Cursor) -> bytes:
        self._expect(cursor, b":")
        size = self._count(cursor)
        self._expect(cursor, b'"')
        raw = cursor.take(size)
        self._expect(cursor, b'"')
        return raw

    def _count(self, cursor: Cursor) -> int:
        said = self._until(cursor, b":")
        if not said.isdigit() or len(said) > 9 or int(said) > len(cursor.data):
            raise Malformed("a size is none")
        return int(said)

    @staticmethod
    def _expect(cursor: Cursor, what: bytes) -> None:
        if cursor.take(len(what)) != what:
            raise Malformed("a mark is missing")

    @staticmethod
    def _until(cursor: Cursor, mark: bytes) -> bytes:
        end = cursor.data.find(mark, cursor.at, cursor.at + 400)
        if end < 0:
            raise Malformed("a value has no end")
        raw = cursor.take(end - cursor.at)
        cursor.at += 1
        return raw

    def encoded(self, value: Any, like: Node | None, data: bytes) -> bytes:
        if like is not None and is_same(plain(like), value):
            return data[like.start : like.end]
        if like is not None and like.form == LIST and isinstance(value, list | dict):
            pairs = value.items() if isinstance(value, dict) else enumerate(value)
            old = dict(zip(like.keys or map(str, range(len(like.parts))), like.parts, strict=True))
            last = like.parts[-1] if like.kind == "list" and like.parts else None
            spelled = (self._key(key) + self.encoded(each, old.get(str(key), last), data) for key, each in pairs)
            return b"a:%d:{" % len(value) + b"".join(spelled) + b"}"
        if like is not None and (like.form == GROUP or like.kind == "other"):
            raise refuse(value, "a value of the kind that it was")
        if like is None and isinstance(value, dict | list):
            return self.encoded(value, Node("map", 0, 0, form=LIST), b"")
        return self.scalar(value, like)

    @staticmethod
    def _key(key: str | int) -> bytes:
        said = str(key)
        if re.fullmatch(r"0|-?[1-9]\d{0,17}", said):
            return f"i:{said};".encode()
        raw = said.encode("utf-8", "surrogatepass")
        return b's:%d:"' % len(raw) + raw + b'";'

    def scalar(self, value: int | float | str | bool | bytes | None, like: Node | None) -> bytes:
        if value is None or isinstance(value, bool):
            return b"N;" if value is None else b"b:%d;" % value
        if isinstance(value, float) or (like is not None and like.form == FRACTION and isinstance(value, int)):
            return f"d:{value!r};".encode()
        if isinstance(value, int):
            return f"i:{value};".encode()
        raw = value.encode("utf-8", "surrogatepass") if isinstance(value, str) else value
        return b's:%d:"' % len(raw) + raw + b'";'
