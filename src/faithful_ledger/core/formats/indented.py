"""Lines of a name and its values, with what belongs to them deeper, as a document.

A value is in quotes only where it needs them. One value goes by the name; several by `#1`, `#2`, ….
"""

from __future__ import annotations

import re

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.formats.quoting import decoded_text, encoded_text
from faithful_ledger.core.formats.tree import OBJECT, PART, Builder, Tree, kind_of
from faithful_ledger.core.formats.tree_document import TreeDocument
from faithful_ledger.core.storage import Quoting

__all__ = ["IndentedText"]

LINES = re.compile(rb"[^\r\n]*(?:\r\n|\n|\r|\Z)")


class IndentedText(TreeDocument):
    name = "indented"
    what = "the text"

    @classmethod
    def quoting_of(cls, path: str, encoding: str) -> Quoting:
        return IndentedToken(encoding)

    def parse(self) -> Tree:
        data, builder = self.data, Builder(self.what)
        token = re.compile(rb"\"[^\"\r\n]*\"(?=\s|\Z)|`[^`\r\n]*`(?=\s|\Z)|[^\s]+")
        at = self.text_start
        builder.begin(OBJECT, None, at, at)
        levels: list[int] = []
        last = at
        for line in LINES.finditer(data, at):
            text = line[0]
            content = text.lstrip(b" \t")
            if not content.strip() or content.startswith((b"#", b"//")):
                continue
            begin = line.start() + len(text) - len(content)
            indent = len(text[: len(text) - len(content)].expandtabs(8))
            while levels and indent <= levels[-1]:
                self._close(builder, last)
                levels.pop()
            stop = begin + len(content.rstrip())
            spans: list[tuple[int, int]] = []
            for match in token.finditer(data, begin, stop):
                if match[0].startswith(b"#") and spans:
                    break
                spans.append(match.span())
            name = IndentedToken(self.encoding).decode(data[spans[0][0] : spans[0][1]])
            builder.begin(OBJECT, name, begin, begin)
            levels.append(indent)
            for number, (start, end) in enumerate(spans[1:], 1):
                word = IndentedToken(self.encoding).decode(data[start:end])
                builder.leaf(kind_of(word), f"#{number}", start, start, end, end)
            last = spans[-1][1]
        while levels:
            self._close(builder, last)
            levels.pop()
        builder.end(len(data))
        return builder.tree

    def _close(self, builder: Builder, last: int) -> None:
        """A line of one value and nothing deeper is that value; one of a name alone says that it is there."""
        number = builder.end(last)
        tree = builder.tree
        children = list(tree.children(number))
        if len(children) == 1 and tree.names[children[0]] == "#1":
            value = children[0]
            tree.kinds[number], tree.styles[value] = tree.kinds[value], PART
            tree.starts[number], tree.ends[number] = tree.starts[value], tree.ends[value]

    def _items_of(self, number: int) -> list[int]:
        names = self.tree.names
        return [child for child in self.tree.children(number) if not (names[child] or "").startswith("#")]


class IndentedToken:
    """A word, in quotes where it has a blank in it, in backquotes where it has quotes."""

    def __init__(self, encoding: str) -> None:
        self.encoding = encoding

    def decode(self, raw: bytes) -> str:
        text = decoded_text(raw, self.encoding)
        return text[1:-1] if len(text) > 1 and text[0] == text[-1] and text[0] in '"`' else text

    def encode(self, text: str, old: bytes) -> bytes:
        if any(letter in text for letter in "\r\n"):
            raise ValueRefused("a line break cannot be in a value on one line", "leave it out")
        mark = old[:1].decode("latin-1") if old[:1] in (b'"', b"`") and len(old) > 1 else ""
        if not mark and (not text or any(letter.isspace() for letter in text) or text[0] in '"`#'):
            mark = '"'
        if mark == '"' and '"' in text:
            mark = "`"
        if mark and mark in text:
            raise ValueRefused("a value cannot have both kinds of quotation marks", "leave one out")
        return encoded_text(mark + text + mark, self.encoding)
