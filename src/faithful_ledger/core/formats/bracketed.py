"""Texts nested by brackets as documents: tables with keys in brackets, S-expressions, braces.

One pass over the tokens makes the tree of each; a `Grammar` says how names are tied to values, what divides the values,
and what comments and strings look like.

- `keyed-tables`: `name = { ["key"] = value, other = value, value }`, as scripts write tables.
- `expressions`: `(name value (inner value))`.
- `braces`: `name = { inner = value value "a text" }` or `name { … }`.
"""

from __future__ import annotations

import re
from typing import NamedTuple

from faithful_ledger.core.errors import BindingError
from faithful_ledger.core.formats.quoting import Backslashed, Bare
from faithful_ledger.core.formats.tree import ARRAY, NUMBER, OBJECT, PART, STRING, WORD, Builder, Tree, kind_of
from faithful_ledger.core.formats.tree_document import TreeDocument
from faithful_ledger.core.storage import Quoting

__all__ = ["STRINGS", "BracedText", "Bracketed", "Expressions", "Grammar", "KeyedTables", "Opened"]

RETURN = re.compile(rb"return\b")
KEY_BRACKET = re.compile(rb"\[(?!\[)")
STRINGS = rb'"(?:[^"\\]|\\.)*"|\'(?:[^\'\\]|\\.)*\''
MOST_NAMELESS = 0.2  # the share of words without a name that a text of braces may have outside of them


class Grammar(NamedTuple):
    blank: re.Pattern[bytes]  # blanks and comments
    string: re.Pattern[bytes]
    word: re.Pattern[bytes]
    brackets: dict[bytes, bytes]
    ties: tuple[bytes, ...]  # between a name and its value
    dividers: tuple[bytes, ...]  # between values; where there are none blanks do
    decimal: bool = False  # escapes of strings are decimal


TABLE_GRAMMAR = Grammar(
    re.compile(rb"(?:[ \t\r\n]|--\[\[.*?\]\]|--[^\r\n]*)*", re.DOTALL),
    re.compile(STRINGS + rb"|\[\[.*?\]\]", re.DOTALL),
    re.compile(rb"[^\s,;={}\[\]\"']+"),
    {b"{": b"}"},
    (b"=",),
    (b",", b";"),
    decimal=True,
)
EXPRESSION_GRAMMAR = Grammar(
    re.compile(rb"(?:[ \t\r\n]|;[^\r\n]*|#\|.*?\|#)*", re.DOTALL),
    re.compile(rb'"(?:[^"\\]|\\.)*"', re.DOTALL),
    re.compile(rb"[^\s()\"\[\]]+"),
    {b"(": b")", b"[": b"]"},
    (),
    (),
)
BRACE_GRAMMAR = Grammar(
    re.compile(rb"(?:[ \t\r\n]|#[^\r\n]*|//[^\r\n]*)*"),
    re.compile(rb'"(?:[^"\\]|\\.)*"', re.DOTALL),
    re.compile(rb"[^\s={}\"#;,]+"),
    {b"{": b"}"},
    (b"=",),
    (),
)


class Opened(NamedTuple):
    """A bracket that is not closed yet: what will close it, and where it is."""

    close: bytes
    start: int


class Bracketed(TreeDocument):
    grammar: Grammar
    typed = True  # its quotes set a text apart from a number

    @classmethod
    def quoting_of(cls, path: str, encoding: str) -> Quoting:
        bare = Bare(encoding, forbidden=" \t\r\n,;:={}[]()\"'#", where="a value without quotes")
        return Backslashed(encoding, bare, decimal=cls.grammar.decimal)

    def blank(self, at: int) -> int:
        match = self.grammar.blank.match(self.data, at)
        return match.end() if match is not None else at

    def scalar(self, at: int) -> tuple[int, int]:
        """Where a string or a word at an offset ends, and its kind.

        Raises:
            BindingError: there is none.
        """
        data, grammar = self.data, self.grammar
        match = grammar.string.match(data, at)
        if match is not None:
            text = data[at + 1 : match.end() - 1].decode(self.encoding, "replace")
            return match.end(), STRING if self.typed else kind_of(text)
        match = grammar.word.match(data, at)
        if match is None:
            mark = data[at : at + 1].decode(self.encoding, "replace")
            raise self.fail(at, f"“{mark}” is not expected here" if mark else "the text ends in the middle of a value")
        text = match[0].decode(self.encoding, "replace")
        if text in ("null", "nil", "None"):
            return match.end(), WORD
        return match.end(), kind_of(text)

    def default_between(self, number: int) -> bytes:
        blank = super().default_between(number)
        return self.grammar.dividers[0] + blank if self.grammar.dividers else blank or b" "

    def text_of(self, start: int, end: int) -> str:
        return self._quoting.decode(self.data[start:end])

    def expect_close(self, at: int, opened: list[Opened]) -> None:
        """Raises BindingError where the text ends before the innermost bracket is closed."""
        if at >= len(self.data):
            close, start = opened[-1]
            line = self.data.count(b"\n", 0, start) + 1
            mark = self.data[start : start + 1].decode()
            raise self.fail(at, f"the text ends and the {mark} of line {line} is not closed by {close.decode()}")

    def divided(self, at: int, opened: list[Opened]) -> int:
        """Behind what divides values, where it is there; else the bracket has to close.

        Raises:
            BindingError: neither is the case.
        """
        if self.data[at : at + 1] in self.grammar.dividers:
            return self.blank(at + 1)
        self.expect_close(at, opened)
        close = opened[-1].close
        if self.data[at : at + 1] != close:
            raise self.fail(at, f"a comma or {close.decode()} is expected")
        return at

    def _close(self, builder: Builder, end: int) -> None:
        """What is in brackets and has no name within it is a list."""
        number = builder.end(end)
        tree = builder.tree
        if all(tree.names[child] is None for child in tree.children(number)) and tree.behind[number] > number + 1:
            tree.kinds[number] = ARRAY


class KeyedTables(Bracketed):
    name = "keyed-tables"
    what = "the tables"
    grammar = TABLE_GRAMMAR

    def parse(self) -> Tree:
        data, builder = self.data, Builder(self.what)
        at = self.blank(self.text_start)
        returned = RETURN.match(data, at)
        if returned is not None or data[at : at + 1] == b"{":
            at = self.blank(returned.end()) if returned is not None else at
            if data[at : at + 1] != b"{":
                raise self.fail(at, "a table in braces is expected")
            at = self.blank(self._value(builder, at, None, at))
        else:
            builder.begin(OBJECT, None, at, at)
            while at < len(data):
                head = at
                end, _ = self.scalar(at)
                name = self.text_of(at, end)
                at = self.blank(end)
                if name == "local":
                    end, _ = self.scalar(at)
                    name, at = self.text_of(at, end), self.blank(end)
                if data[at : at + 1] != b"=":
                    raise self.fail(at, f"an equals sign is expected behind “{name[:40]}”")
                at = self.blank(self._value(builder, self.blank(at + 1), name, head))
                if data[at : at + 1] in self.grammar.dividers:
                    at = self.blank(at + 1)
            builder.end(len(data))
        if at < len(data):
            raise self.fail(at, "the text goes on after its table")
        return builder.tree

    def _value(self, builder: Builder, at: int, name: str | None, head: int) -> int:
        data, grammar = self.data, self.grammar
        opened: list[Opened] = []
        while True:
            mark = data[at : at + 1]
            if mark == b"{":
                builder.begin(OBJECT, name, head, at)
                opened.append(Opened(self.grammar.brackets[mark], at))
                at = self.blank(at + 1)
            else:
                end, kind = self.scalar(at)
                if kind == STRING and data[at : at + 1] not in (b'"', b"'", b"["):
                    raise self.fail(at, "a text is in quotes")
                builder.leaf(kind, name, head, at, end, end)
                if not opened:
                    return end
                at = self.divided(self.blank(end), opened)
            while opened and data[at : at + 1] == b"}":
                self._close(builder, at + 1)
                opened.pop()
                if not opened:
                    return at + 1
                at = self.divided(self.blank(at + 1), opened)
            self.expect_close(at, opened)
            head, name = at, None
            if mark_of_key := KEY_BRACKET.match(data, at):
                inner = self.blank(mark_of_key.end())
                end, _ = self.scalar(inner)
                name = self.text_of(inner, end)
                at = self.blank(end)
                if data[at : at + 1] != b"]":
                    raise self.fail(at, "a ] is expected behind the key")
                at = self.blank(at + 1)
                if data[at : at + 1] != b"=":
                    raise self.fail(at, "an equals sign is expected behind the key")
                at = self.blank(at + 1)
            elif (word := grammar.word.match(data, at)) and data[(tie := self.blank(word.end())) : tie + 1] == b"=":
                name = word[0].decode(self.encoding, "replace")
                at = self.blank(tie + 1)


class Expressions(Bracketed):
    name = "expressions"
    what = "the expressions"
    grammar = EXPRESSION_GRAMMAR

    def parse(self) -> Tree:
        data, builder = self.data, Builder(self.what)
        at = self.blank(self.text_start)
        builder.begin(OBJECT, None, at, at)
        opened: list[Opened] = []
        while at < len(data):
            mark = data[at : at + 1]
            if mark in self.grammar.brackets:
                builder.begin(OBJECT, None, at, at)
                opened.append(Opened(self.grammar.brackets[mark], at))
                at += 1
            elif opened and mark == opened[-1].close:
                self._close(builder, at + 1)
                opened.pop()
                at += 1
            else:
                end, kind = self.scalar(at)
                builder.leaf(kind, None, at, at, end, end)
                at = end
            at = self.blank(at)
        if opened:
            self.expect_close(at, opened)
        builder.end(len(data))
        tree = builder.tree
        if len(list(tree.children(0))) == 1 and tree.kinds[1] <= ARRAY and tree.names[1] is None:
            tree.kinds[0] = ARRAY
        return tree

    def _close(self, builder: Builder, end: int) -> None:
        """A list that begins with a word goes by it; with one value behind the word it is that value."""
        number = builder.end(end)
        tree = builder.tree
        children = list(tree.children(number))
        if not children or tree.kinds[children[0]] > WORD or tree.kinds[children[0]] in (OBJECT, ARRAY, NUMBER):
            tree.kinds[number] = ARRAY
            return
        first = children[0]
        tree.names[number] = self.text_of(tree.starts[first], tree.ends[first])
        tree.styles[first] = PART
        if len(children) == 2 and tree.kinds[children[1]] > ARRAY:
            value = children[1]
            tree.kinds[number], tree.styles[value] = tree.kinds[value], PART
            tree.starts[number], tree.ends[number] = tree.starts[value], tree.ends[value]


class BracedText(Bracketed):
    name = "braces"
    what = "the text"
    grammar = BRACE_GRAMMAR
    typed = False

    def parse(self) -> Tree:
        data, builder = self.data, Builder(self.what)
        at = self.blank(self.text_start)
        builder.begin(OBJECT, None, at, at)
        opened: list[Opened] = []
        while at < len(data):
            mark = data[at : at + 1]
            if mark in (b";", b","):
                at = self.blank(at + 1)
                continue
            if mark == b"}":
                if not opened:
                    raise self.fail(at, "this brace closes nothing")
                self._close(builder, at + 1)
                opened.pop()
                at = self.blank(at + 1)
                continue
            head, name = at, None
            if mark != b"{":
                end, kind = self.scalar(at)
                if data[end - 1 : end] == b":":
                    raise self.fail(at, "this is not a name of such a text")
                tie = self.blank(end)
                follows = data[tie : tie + 1]
                if follows == b"=":
                    name, at = self.text_of(at, end), self.blank(tie + 1)
                    mark = data[at : at + 1]
                elif follows == b"{":
                    name, at, mark = self.text_of(at, end), tie, follows
                else:
                    builder.leaf(kind, None, head, at, end, end)
                    at = tie
                    continue
            if mark == b"{":
                builder.begin(OBJECT, name, head, at)
                opened.append(Opened(self.grammar.brackets[mark], at))
                at = self.blank(at + 1)
            else:
                end, kind = self.scalar(at)
                builder.leaf(kind, name, head, at, end, end)
                at = self.blank(end)
        if opened:
            self.expect_close(at, opened)
        builder.end(len(data))
        tree = builder.tree
        tops = [tree.names[child] for child in tree.children(0)]
        if tops.count(None) > len(tops) * MOST_NAMELESS:
            raise BindingError(self.what, 0, "most of it has neither a name nor braces")
        return tree
