"""Exports of a registry (.reg, version 5.00 in UTF-16 or UTF-8, and REGEDIT4): keys in brackets with their values.

A value is a text in quotes, a number (`dword:`, `hex(b):`), or bytes, which are a text where they are letters with a
zero behind them, as engines keep their texts. A number of eight bytes of the kind of four is a fraction, as they keep
theirs.
"""

from __future__ import annotations

import re
import struct
from typing import Any

from faithful_ledger.core.layers.tagged.tree import (
    BLOB,
    Codec,
    Cursor,
    Malformed,
    Node,
    as_number,
    blob_of,
    is_same,
    plain,
    put,
    refuse,
)

__all__ = ["RegistryExport"]

BOM = b"\xff\xfe"
HEAD = re.compile(r"\ufeff?(?:[^\r\n]{1,40}Registry Editor Version 5\.00|REGEDIT4)[ \t]*\r?\n")
LINE = re.compile(
    r'(?:\[(?P<key>-?HK[^\r\n]*)\]|(?P<name>@|"(?:[^"\\\r\n]|\\.)*")=(?P<value>"(?:[^"\\]|\\.)*"|-|dword:[0-9A-Fa-f]{8}'
    r"|hex(?:\([0-9a-f]+\))?:(?:[0-9A-Fa-f]{2}(?:,(?:\\\r?\n[ \t]*)?)?|\\\r?\n[ \t]*)*)|;[^\r\n]*|)[ \t]*(?:\r?\n|\Z)"
)
PAIR = re.compile(r"[0-9A-Fa-f]{2}")
TEXT, WHOLE, BYTES, LONG, FRACTION, WIDE, RAW = range(1, 8)
KINDS = {"hex(b)": LONG, "hex(2)": WIDE, "hex(1)": WIDE}
WIDEST = 77  # letters of a line with bytes, in front of the mark that it goes on


class RegistryExport(Codec):
    name = "registry-export"
    has_mark = True

    def may_be(self, data: bytes) -> bool:
        return HEAD.match(_letters(data[:200])[0]) is not None

    def is_telling(self, root: Node) -> bool:
        return True

    def parse(self, data: bytes) -> Node:
        text, first, width = _letters(data)
        head = HEAD.match(text)
        if head is None:
            raise Malformed("its first line is another one")
        cursor, at = Cursor(data), head.end()
        root, holder = Node("map", 0, len(data)), None
        keys, names = set[str](), set[str]()
        while at < len(text):
            line = LINE.match(text, at)
            if line is None or line.end() == at:
                raise Malformed(f"line {text.count(chr(10), 0, at) + 1} is none of a key or a value")
            at = line.end()
            if line["key"] is not None:
                holder, names = Node("map", first + width * line.start(), 0), set()
                put(root, keys, line["key"], holder)
            elif line["name"] is not None:
                if holder is None:
                    raise Malformed("a value is in front of all keys")
                cursor.enter()
                span = (first + width * at for at in line.span("value"))
                name = line["name"] if line["name"] == "@" else _unescaped(line["name"])
                put(holder, names, name, _value(line["value"], *span))
        return root

    def encoded(self, value: Any, like: Node | None, data: bytes) -> bytes:
        """A value as the text of the export has it."""
        if like is None or like.form not in range(TEXT, RAW + 1):
            raise refuse(value, "a value of the kind that it was")
        if is_same(plain(like), value):
            return data[like.start : like.end]
        width = 2 if data.startswith(BOM) else 1
        old = _letters(data[like.start : like.end], width)[0]
        said = _spelled(value, like.form, old)
        if said is None:
            line = data.rfind(b"\n", 0, like.start) + width
            newline = "\r\n" if b"\r" in data[:200] else "\n"
            said = _as_list(_bytes(value, like), old, (like.start - line) // width, newline)
        return said.encode("utf-16-le" if width == 2 else "utf-8", "surrogatepass")


def _letters(data: bytes, width: int = 0) -> tuple[str, int, int]:
    """The letters of an export, where they begin, and how many bytes each has: of UTF-8 each byte is one."""
    if data.startswith(BOM) or width == 2:
        first = 2 if data.startswith(BOM) else 0
        units = memoryview(data[first : len(data) - (len(data) - first) % 2]).cast("H")
        return "".join(map(chr, units)), first, 2
    return data.decode("latin-1"), 0, 1


def _unescaped(quoted: str) -> str:
    return re.sub(r"\\(.)", r"\1", quoted[1:-1], flags=re.DOTALL)


def _value(said: str, start: int, end: int) -> Node:
    kind, _, content = said.partition(":")
    if said.startswith('"'):
        return Node("text", start, end, _in_utf8(_unescaped(said)), TEXT)
    if kind == "dword":
        return Node("number", start, end, int(content, 16), WHOLE)
    if not kind.startswith("hex"):
        return Node("other", start, end, said)
    raw = bytes.fromhex("".join(PAIR.findall(content)))
    form = KINDS.get(kind, BYTES)
    if form == LONG and len(raw) == 8:
        return Node("number", start, end, int.from_bytes(raw, "little"), LONG)
    if kind == "hex(4)" and len(raw) == 8:
        return Node("number", start, end, struct.unpack("<d", raw)[0], FRACTION)
    if form == WIDE and len(raw) % 2 == 0 and raw[-2:] == b"\0\0":
        return Node("text", start, end, raw[:-2].decode("utf-16-le", "surrogatepass"), WIDE)
    try:
        text = raw[:-1].decode("utf-8")
        if raw[-1:] == b"\0" and "\0" not in text:
            return Node("text", start, end, text, BYTES)
    except UnicodeDecodeError:
        pass
    return Node("blob", start, end, raw, RAW)


def _in_utf8(text: str) -> str:
    """Letters that stand for bytes as those that the bytes are in UTF-8; others as they are."""
    try:
        return text.encode("latin-1").decode("utf-8")
    except (UnicodeEncodeError, UnicodeDecodeError):
        return text


def _spelled(value: Any, form: int, old: str) -> str | None:
    """A text or a number; None for what is a list of bytes."""
    if form == TEXT and isinstance(value, str):
        escaped = re.sub(r'(["\\])', r"\\\1", value)
        return f'"{escaped}"'
    if form == WHOLE and isinstance(value, int) and not isinstance(value, bool) and -(1 << 31) <= value < 1 << 32:
        digits = f"{value & 0xFFFFFFFF:08x}"
        return f"dword:{digits.upper() if old[6:] != old[6:].lower() else digits}"
    if form in (TEXT, WHOLE):
        raise refuse(value, "a text, as it was" if form == TEXT else "a whole number of 4 bytes")
    return None


def _bytes(value: Any, like: Node) -> bytes:
    if like.form == LONG:
        return as_number(value, "<q" if isinstance(value, int) and value < 0 else "<Q")
    if like.form == FRACTION:
        return as_number(value, "<d")
    if like.form in (BYTES, WIDE) and isinstance(value, str) and "\0" not in value:
        return f"{value}\0".encode("utf-8" if like.form == BYTES else "utf-16-le", "surrogatepass")
    if like.form == RAW and isinstance(value, dict) and set(value) == {BLOB}:
        return blob_of(value)
    raise refuse(value, "a value of the kind that it was")


def _as_list(raw: bytes, old: str, column: int, newline: str) -> str:
    """Bytes behind the mark of their kind, in lines of the usual width."""
    head = f"{old.partition(':')[0]}:"
    is_upper = old != old.lower()
    lines, line = list[str](), head
    for number, byte in enumerate(raw):
        pair = f"{byte:02X}" if is_upper else f"{byte:02x}"
        pair += "," if number < len(raw) - 1 else ""
        if len(line) + (column if not lines else 0) + len(pair) > WIDEST:
            lines.append(f"{line}\\")
            line = "  "
        line += pair
    return newline.join([*lines, line])
