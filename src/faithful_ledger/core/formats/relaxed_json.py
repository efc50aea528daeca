"""JSON (RFC 8259) as people and programs write it, as a document.

With comments, trailing commas, single quotes, names without quotes, round brackets; behind a first line or an
assignment that is not JSON, in front of a last line that is none; several documents one behind the other.
"""

from __future__ import annotations

import re

from faithful_ledger.core.formats.bracketed import STRINGS, Bracketed, Grammar, Opened
from faithful_ledger.core.formats.tree import ARRAY, NUMBER, OBJECT, STRING, Builder, Tree

__all__ = ["ASSIGNED", "PREFIXED", "RelaxedJson"]

ASSIGNED = re.compile(rb"(?:(?:var|let|const)\s+)?[A-Za-z_$][\w.$]*\s*=\s*(?=[{\[])")  # a script that holds JSON
# A word that is not JSON directly in front of it, as a checksum.
PREFIXED = re.compile(rb"[^\s{}()\[\]\"',]{1,256}[ :;|,]?(?=\{\s*[\"}]|\[\s*[\[{\"])")
LEADING_ZERO = re.compile(rb"[+-]?0[0-9]")
JSON_GRAMMAR = Grammar(
    re.compile(rb"(?:[ \t\r\n\f\v]|//[^\r\n]*|/\*.*?\*/|#[^\r\n]*)*", re.DOTALL),
    re.compile(STRINGS, re.DOTALL),
    re.compile(rb"[^\s,:{}()\[\]\"'#/;][^\s,:{}()\[\]\"'#;]*"),
    {b"{": b"}", b"[": b"]", b"(": b")"},
    (b":",),
    (b",",),
)
LETTERED = re.compile(rb"[ -~]{6,}")


class RelaxedJson(Bracketed):
    name = "relaxed-json"
    what = "the JSON text"
    grammar = JSON_GRAMMAR

    def parse(self) -> Tree:
        builder = Builder(self.what)
        start = self._beginning()
        first = self.blank(start)
        if first >= len(self.data):
            raise self.fail(first, "there is no value")
        at = self._behind(self._value(builder, first))
        if at >= len(self.data) or self._is_last_line(at):
            return builder.tree
        builder = Builder(self.what)  # there are several, so the whole is a list of them
        builder.begin(ARRAY, None, start, first)
        at = first
        while at < len(self.data) and not (at > first and self._is_last_line(at)):
            at = self._behind(self._value(builder, at))
        builder.end(len(self.data))
        return builder.tree

    def _behind(self, at: int) -> int:
        """Where the next value may begin behind one: blanks and a divider are passed."""
        at = self.blank(at)
        return self.blank(at + 1) if self.data[at : at + 1] in (b",", b";") else at

    def _beginning(self) -> int:
        """Behind a byte order mark and a first line that is not JSON."""
        data = self.data
        start = self.text_start
        at = self.blank(start)
        if assigned := ASSIGNED.match(data, at):
            return assigned.end()
        if data[at : at + 1] in (b"{", b"[", b"("):
            return start
        if prefixed := PREFIXED.match(data, at):
            return prefixed.end()
        end = data.find(b"\n", at)
        following = self.blank(end + 1) if end >= 0 else len(data)
        if data[following : following + 1] in (b"{", b"["):
            return end + 1
        return start

    def _is_last_line(self, at: int) -> bool:
        """Whether what is left is one line that is not JSON, as a checksum in letters behind it; one in bytes may look
        like a few letters.
        """
        rest = self.data[at:].strip()
        in_letters = LETTERED.fullmatch(rest) is not None or self.data[at - 1 : at] == b"\n"
        return in_letters and b"\n" not in rest and rest[:1] not in (b"{", b"[", b"(", b",", b"}", b"]", b":")

    def _kind_of(self, at: int) -> int:
        """Of a value in brackets; in round ones names may be before the values, or not."""
        mark = self.data[at : at + 1]
        if mark == b"(":
            word = self.grammar.word.match(self.data, self.blank(at + 1))
            named = word is not None and self.data[(tie := self.blank(word.end())) : tie + 1] == b":"
            return OBJECT if named else ARRAY
        return OBJECT if mark == b"{" else ARRAY

    def _value(self, builder: Builder, at: int) -> int:
        """Take in one value with all within it; returns where it ends."""
        data, brackets = self.data, self.grammar.brackets
        opened: list[Opened] = []
        kinds: list[int] = []
        name: str | None = None
        head = at
        while True:
            mark = data[at : at + 1]
            if mark in brackets:
                kinds.append(self._kind_of(at))
                builder.begin(kinds[-1], name, head, at)
                opened.append(Opened(brackets[mark], at))
                at = self.blank(at + 1)
            else:
                end, kind = self.scalar(at)
                if kind == STRING and data[at : at + 1] not in (b'"', b"'"):
                    raise self.fail(at, "a text is in quotes")
                if kind == NUMBER and LEADING_ZERO.match(data, at):
                    raise self.fail(at, f"{data[at:end][:30].decode()} is not a number of JSON")
                builder.leaf(kind, name, head, at, end, end)
                at = self.blank(end)
                if not opened:
                    return end
                at = self.divided(at, opened)
            while opened and data[at : at + 1] == opened[-1].close:
                builder.end(at + 1)
                opened.pop()
                kinds.pop()
                if not opened:
                    return at + 1
                at = self.divided(self.blank(at + 1), opened)
            self.expect_close(at, opened)
            head, name = at, None
            if kinds[-1] == OBJECT:
                end, _ = self.scalar(at)
                name = self.text_of(at, end)
                at = self.blank(end)
                if data[at : at + 1] != b":":
                    raise self.fail(at, f"a colon is expected behind the name “{name[:40]}”")
                at = self.blank(at + 1)
