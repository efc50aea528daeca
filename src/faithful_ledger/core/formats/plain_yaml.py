"""The plain part of YAML 1.2 as a document.

Block and flow maps and lists, plain and quoted scalars, block scalars, tags and anchors (which stay as they are), and
several documents, which are items of a list.
"""

from __future__ import annotations

import re

from faithful_ledger.core.errors import BindingError, ValueRefused
from faithful_ledger.core.formats.quoting import Backslashed, decoded_text, encoded_text
from faithful_ledger.core.formats.tree import ARRAY, OBJECT, STRING, WORD, Builder, Tree, kind_of
from faithful_ledger.core.formats.tree_document import TreeDocument
from faithful_ledger.core.storage import Quoting

__all__ = ["PlainYaml"]

LINES = re.compile(rb"[^\r\n]*(?:\r\n|\n|\r|\Z)")
KEY = re.compile(
    rb"(\"(?:[^\"\\]|\\.)*\"|'(?:[^']|'')*'|[^\s#\[\]{},\"'&*!|>%@`-][^\r\n]*?"
    rb"|-[^\s\r\n][^\r\n]*?)[ \t]*:(?=[ \t\r\n]|\Z)"
)
PROPERTIES = re.compile(rb"(?:[!&][^\s,\[\]{}]*[ \t]+)*(?:[!&][^\s,\[\]{}]*(?=[ \t]*(?:\r|\n|\Z)))?")
BLOCK = re.compile(rb"[|>][+-]?[0-9]?[+-]?[ \t]*(?:#[^\r\n]*)?(?=\r|\n|\Z)")
DOUBLE = re.compile(rb'"(?:[^"\\]|\\.)*"', re.DOTALL)
SINGLE = re.compile(rb"'(?:[^']|'')*'", re.DOTALL)
PLAIN_END = re.compile(rb"[ \t]+#|[ \t]*(?:\r|\n|\Z)")
FLOW_WORD = re.compile(rb"[^\s,\[\]{}:\"'#][^,\[\]{}\r\n:]*(?::(?![\s,\]}])[^,\[\]{}\r\n:]*)*")
FLOW_BLANK = re.compile(rb"(?:[ \t\r\n]|(?<=[ \t\r\n])#[^\r\n]*)*")
TEXT, BLOCK_TEXT, FLOW_TEXT = range(3)


class _Frame:
    """A map or list that is open: `indent` is the column of its entries, `under` that of the line that opened it."""

    def __init__(self, number: int, under: int, indent: int | None) -> None:
        self.number, self.under, self.indent = number, under, indent


class PlainYaml(TreeDocument):
    name = "yaml"
    what = "the YAML text"

    def quoting(self, style: int) -> Quoting:
        return (
            BlockText(self.encoding) if style == BLOCK_TEXT else YamlScalar(self.encoding, in_flow=style == FLOW_TEXT)
        )

    @classmethod
    def quoting_of(cls, path: str, encoding: str) -> Quoting:
        return YamlScalar(encoding, in_flow=True)

    def parse(self) -> Tree:
        data = self.data
        self.builder = builder = Builder(self.what)
        at = self.text_start
        documents = len(re.findall(rb"^---(?:[ \t]|\r|\n|\Z)", data, re.MULTILINE))
        several = documents > 1 or (documents == 1 and self._has_content_before(at))
        root = builder.begin(ARRAY if several else OBJECT, None, at, at)
        self.frames = [_Frame(root, -1, None)]
        if several:
            self.frames = [_Frame(root, -2, -1)]
            self._open_document(at)
        self.last = at
        self.leaf: int | None = None
        begun = False
        while at < len(data):
            line = LINES.match(data, at)
            assert line is not None
            end = line.end()
            text = data[at:end]
            stripped = text.strip()
            if re.match(rb"---(?:[ \t\r\n]|\Z)", text) or re.match(rb"\.\.\.(?:[ \t\r\n]|\Z)", text):
                if text.startswith(b"---") and several and begun:
                    self._close_to(1)
                    self._open_document(at)
                begun = begun or text.startswith(b"---")
            elif stripped and not stripped.startswith(b"#") and not text.startswith(b"%"):
                indent = len(text) - len(text.lstrip(b" "))
                column = indent if begun else self._column_of_first(at + indent, indent)
                begun = True
                if data[at + indent : at + indent + 1] == b"\t":
                    raise self.fail(at + indent, "a tab cannot indent a line of YAML")
                end = self._entry(at + indent, column)
            at = end
        self._close_to(0)
        tree = builder.tree
        tree.ends[0] = tree.tails[0] = len(data)
        if tree.behind[0] == 1:
            raise BindingError(self.what, 0, "there is no key with a value")
        return tree

    def _column_of_first(self, at: int, indent: int) -> int:
        """The column of the first line: that of the next key where it is deeper, as in an item cut out of a list."""
        match = KEY.match(self.data, at)
        if match is None or not self.data[match.end() : self._line_end(match.end())].strip():
            return indent
        following = LINES.match(self.data, self._line_end(at))
        text = following[0] if following is not None else b""
        deeper = len(text) - len(text.lstrip(b" "))
        return deeper if deeper > indent and KEY.match(text, deeper) else indent

    def _has_content_before(self, at: int) -> bool:
        first = re.search(rb"^---(?:[ \t]|\r|\n|\Z)", self.data, re.MULTILINE)
        before = self.data[at : first.start()] if first is not None else b""
        return any(line.strip() and not line.lstrip().startswith((b"#", b"%")) for line in before.splitlines())

    def _open_document(self, at: int) -> None:
        self.frames.append(_Frame(self.builder.begin(OBJECT, None, at, at), -1, None))

    def _close_to(self, depth: int) -> None:
        while len(self.frames) > depth:
            self._close()

    def _close(self) -> None:
        frame = self.frames.pop()
        tree = self.builder.tree
        self.builder.end(max(self.last, tree.starts[frame.number]))
        if frame.indent is None and frame.under >= 0:
            number = frame.number
            tree.kinds[number] = STRING  # nothing: a key without a value
            tree.starts[number] = tree.ends[number] = tree.tails[number] = self._empty_at(number)

    def _empty_at(self, number: int) -> int:
        """Where the value of a key without one would be."""
        return self.builder.tree.starts[number]

    def _entry(self, at: int, column: int) -> int:
        """Take in the line from an offset on, which is in a column; returns where the next line begins."""
        data, builder = self.data, self.builder
        while True:
            is_item = data[at : at + 1] == b"-" and data[at + 1 : at + 2] in (b" ", b"\t", b"\r", b"\n", b"")
            top = self.frames[-1]
            if top.indent is None:
                if column > top.under or (column == top.under and is_item):
                    top.indent = column
                    builder.tree.kinds[top.number] = ARRAY if is_item else OBJECT
                    if top.under >= 0:
                        builder.tree.starts[top.number] = at
                else:
                    self._close()
                    continue
            is_list = builder.tree.kinds[top.number] == ARRAY
            if top.indent > column or (top.indent == column and is_list and not is_item and len(self.frames) > 1):
                self._close()
                continue
            if top.indent < column:
                return self._continued(at)
            if is_item and not is_list:
                raise self.fail(at, "a list item is not expected here")
            break
        if is_item:
            return self._item(at, column)
        return self._pair(at, column)

    def _item(self, at: int, column: int) -> int:
        data, builder = self.data, self.builder
        head = at
        inner = at + 1
        while data[inner : inner + 1] in (b" ", b"\t"):
            inner += 1
        if data[inner : inner + 1] in (b"\r", b"\n", b"", b"#"):
            self.frames.append(_Frame(builder.begin(OBJECT, None, head, head), column, None))
            self.last = at + 1
            return self._line_end(inner)
        nested = data[inner : inner + 1] == b"-" and data[inner + 1 : inner + 2] in (b" ", b"\r", b"\n", b"")
        if nested or KEY.match(data, inner):
            frame = _Frame(builder.begin(OBJECT, None, head, inner), column, None)
            self.frames.append(frame)
            return self._entry(inner, column + inner - at)
        return self._value(None, head, inner, column)

    def _pair(self, at: int, column: int) -> int:
        data, match = self.data, KEY.match(self.data, at)
        if match is None:
            if self.builder.tree.behind[0] <= 1 and len(self.frames) == 1:
                raise self.fail(at, "this line is not a key with a value")
            raise self.fail(at, "a key and a colon are expected")
        name = YamlScalar(self.encoding).decode(match[1])
        inner = match.end()
        while data[inner : inner + 1] in (b" ", b"\t"):
            inner += 1
        return self._value(name, at, inner, column)

    def _value(self, name: str | None, head: int, at: int, column: int) -> int:
        """The value behind a key or a dash."""
        data, builder = self.data, self.builder
        properties = PROPERTIES.match(data, at)
        start = properties.end() if properties is not None else at
        while data[start : start + 1] in (b" ", b"\t"):
            start += 1
        mark = data[start : start + 1]
        if mark in (b"\r", b"\n", b"", b"#"):
            begin = at if at == start else start
            self.frames.append(_Frame(builder.begin(OBJECT, name, head, begin), column, None))
            self.last = max(head + 1, begin)
            return self._line_end(start)
        if mark in (b"{", b"["):
            end = self._flow(name, head, start)
        elif mark in (b'"', b"'"):
            match = (DOUBLE if mark == b'"' else SINGLE).match(data, start)
            if match is None:
                raise self.fail(start, "this text is not closed by its quotation mark")
            end = match.end()
            builder.leaf(STRING, name, head, start, end, end)
        elif block := BLOCK.match(data, start):
            return self._block(name, head, start, block.end(), column)
        else:
            found = PLAIN_END.search(data, start)
            end = found.start() if found is not None else len(data)
            text = data[start:end].decode(self.encoding, "replace")
            kind = WORD if text in ("null", "~") else kind_of(text)
            self.leaf = builder.leaf(kind, name, head, start, end, end)
            self.last = end
            return self._line_end(end)
        self.leaf, self.last = None, end
        rest = data[end : self._line_end(end)].strip()
        if rest and not rest.startswith(b"#"):
            raise self.fail(end, "something is behind this value")
        return self._line_end(end)

    def _continued(self, at: int) -> int:
        """A line that goes on with the text of the one before."""
        if self.leaf is None:
            raise self.fail(at, "this line is deeper than it can be")
        found = PLAIN_END.search(self.data, at)
        end = found.start() if found is not None else len(self.data)
        tree = self.builder.tree
        tree.ends[self.leaf] = tree.tails[self.leaf] = self.last = end
        tree.kinds[self.leaf] = STRING
        return self._line_end(end)

    def _block(self, name: str | None, head: int, start: int, at: int, column: int) -> int:
        data = self.data
        at = end = self._line_end(at)
        while at < len(data):
            line = LINES.match(data, at)
            assert line is not None
            text = line[0]
            if text.strip() and len(text) - len(text.lstrip(b" ")) <= column:
                break
            at = line.end()
            end = at if text.strip() else end
        stop = start + len(data[start:end].rstrip(b"\r\n"))
        self.builder.leaf(STRING, name, head, start, stop, stop, BLOCK_TEXT)
        self.leaf, self.last = None, stop
        return at

    def _flow(self, name: str | None, head: int, at: int) -> int:
        """A map or list in brackets, over as many lines as it takes; returns where it ends."""
        data, builder = self.data, self.builder
        opened: list[bytes] = []
        while True:
            mark = data[at : at + 1]
            if mark in (b"{", b"["):
                builder.begin(OBJECT if mark == b"{" else ARRAY, name, head, at)
                opened.append(b"}" if mark == b"{" else b"]")
                at = self._flow_blank(at + 1)
            else:
                start = at
                at, kind = self._flow_scalar(at)
                builder.leaf(kind, name, head, start, at, at, FLOW_TEXT)
                at = self._flow_comma(at, opened[-1])
            while opened and data[at : at + 1] == opened[-1]:
                builder.end(at + 1)
                opened.pop()
                at += 1
                if not opened:
                    return at
                at = self._flow_comma(at, opened[-1])
            if at >= len(data):
                raise self.fail(at, f"the text ends and a {opened[-1].decode()} is missing")
            head, name = at, None
            if opened[-1] == b"}":
                start = at
                at, _ = self._flow_scalar(at)
                name = YamlScalar(self.encoding).decode(data[start:at])
                at = self._flow_blank(at)
                if data[at : at + 1] != b":":
                    raise self.fail(at, f"a colon is expected behind “{name[:40]}”")
                at = self._flow_blank(at + 1)

    def _flow_scalar(self, at: int) -> tuple[int, int]:
        data = self.data
        match = DOUBLE.match(data, at) or SINGLE.match(data, at)
        if match is not None:
            return match.end(), STRING
        match = FLOW_WORD.match(data, at)
        if match is None:
            raise self.fail(at, "a value is expected")
        text = match[0].rstrip()
        return at + len(text), WORD if text in (b"null", b"~") else kind_of(text.decode(self.encoding, "replace"))

    def _flow_comma(self, at: int, close: bytes) -> int:
        at = self._flow_blank(at)
        if self.data[at : at + 1] == b",":
            return self._flow_blank(at + 1)
        if self.data[at : at + 1] != close:
            raise self.fail(at, f"a comma or {close.decode()} is expected")
        return at

    def _flow_blank(self, at: int) -> int:
        match = FLOW_BLANK.match(self.data, at)
        return match.end() if match is not None else at

    def _line_end(self, at: int) -> int:
        line = LINES.match(self.data, at)
        return line.end() if line is not None else len(self.data)


class YamlScalar:
    """A scalar of YAML: plain, in single quotes, or in double quotes. In flow maps and lists fewer texts are plain."""

    def __init__(self, encoding: str, *, in_flow: bool = False) -> None:
        self.encoding, self.in_flow = encoding, in_flow
        self.double = Backslashed(encoding, None, '"')

    def decode(self, raw: bytes) -> str:
        text = decoded_text(raw, self.encoding)
        if len(raw) > 1 and raw[:1] == raw[-1:] == b'"':
            return self.double.decode(raw)
        if len(raw) > 1 and raw[:1] == raw[-1:] == b"'":
            return text[1:-1].replace("''", "'")
        return " ".join(text.split()) if "\n" in text else "" if text in ("null", "~") else text

    def encode(self, text: str, old: bytes) -> bytes:
        if self.decode(old) == text:
            return old
        if old[:1] == b'"':
            return self.double.encode(text, old)
        if old[:1] == b"'" and "\n" not in text:
            return encoded_text("'" + text.replace("'", "''") + "'", self.encoding)
        plain = (
            text == text.strip()
            and text
            and "\n" not in text
            and ": " not in text
            and " #" not in text
            and not text.endswith(":")
            and text[0] not in "#[]{},\"'&*!|>%@`"
            and not text.startswith(("- ", "? "))
            and (kind_of(text) == STRING or kind_of(self.decode(old)) != STRING)  # a text stays one
            and not (self.in_flow and _has_flow_marks(text) and not _has_flow_marks(self.decode(old)))
        )
        written = encoded_text(text, self.encoding) if plain else self.double.encode(text, b'"x"')
        return written if old else b" " + written  # behind a key without a value


def _has_flow_marks(text: str) -> bool:
    """Whether a plain text has letters that would end it within brackets; where one has, there are no brackets."""
    return any(letter in text for letter in "[]{},")


class BlockText:
    """A block scalar, with its `|` or `>` and its indented lines."""

    def __init__(self, encoding: str) -> None:
        self.encoding = encoding

    def decode(self, raw: bytes) -> str:
        lines = decoded_text(raw, self.encoding).splitlines()[1:]
        indent = min((len(line) - len(line.lstrip(" ")) for line in lines if line.strip()), default=0)
        return "\n".join(line[indent:] for line in lines)

    def encode(self, text: str, old: bytes) -> bytes:
        lines = decoded_text(old, self.encoding).splitlines(keepends=True)
        if len(lines) < 2:
            raise ValueRefused("this block has no lines to copy the indentation from", "enter it in the game first")
        newline = "\r\n" if lines[0].endswith("\r\n") else "\n"
        first = next((line for line in lines[1:] if line.strip()), lines[1])
        indent = first[: len(first) - len(first.lstrip(" "))]
        body = newline.join(indent + line if line else "" for line in text.split("\n"))
        return encoded_text(lines[0] + body, self.encoding)
