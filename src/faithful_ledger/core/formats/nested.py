"""Texts within texts: a string whose content is a document itself, as JSON in a string of JSON.

An edit inside replaces just the letters it is about, escaped as the string around escapes them; the rest of the string
keeps its own escapes.
"""

from __future__ import annotations

import re
from typing import Any

from faithful_ledger.core.address.paths import TEXT
from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.formats.document import Document, Span
from faithful_ledger.core.formats.recognise import recognised_text
from faithful_ledger.core.source import MemorySource, Source
from faithful_ledger.core.storage import Storage

__all__ = ["IN_A_STRING", "TEXT", "NestedText", "nested_document"]

IN_A_STRING = " in a string"
LETTER = re.compile(
    rb"\\u[dD][89abAB][0-9A-Fa-f]{2}\\u[dD][c-fC-F][0-9A-Fa-f]{2}|\\u[0-9A-Fa-f]{4}|\\x[0-9A-Fa-f]{2}|\\[0-9]{1,3}"
    rb"|\\(?:\r\n|.)|&[^;&\s]{1,64};|\"\"|''|[\x00-\x7f]|[\xc0-\xff][\x80-\xbf]*|.",
    re.DOTALL,
)
FRAMES = ((b'"', b'"'), (b"'", b"'"), (b"<![CDATA[", b"]]>"))


class NestedText:
    """The content of a string at a span of a payload, as a payload of its own, in UTF-8."""

    def __init__(self, outer: Source, span: Span, storage: Storage) -> None:
        self.outer, self.span, self.storage = outer, span, storage
        self.raw = bytes(outer.read(span.start, span.end))
        value = storage.decode(self.raw)
        self.data = str(value).encode("utf-8", "surrogateescape")
        self.front, self.back = next((f for f in FRAMES if _framed(self.raw, *f)), (b"", b""))

    def wrap(self, inner: Patched, cause: Cause, counted: Any = None) -> list[Replacement]:
        """What has to change around so that `inner` is inside.

        Raises:
            ValueRefused: it cannot be written in the string.
        """
        offsets = self._offsets()
        whole = bytes(inner.read(0, inner.size)).decode("utf-8", "surrogateescape")
        if offsets is not None:
            replaced = [
                Replacement(
                    self.span.start + offsets[item.start],
                    self.span.start + offsets[item.end],
                    self._escaped(item.data.decode("utf-8", "surrogateescape")),
                    (cause,),
                )
                for item in inner.replacements
            ]
            patched = Patched(self.outer, replaced)
            grown = patched.size - self.outer.size
            if self.storage.decode(bytes(patched.read(self.span.start, self.span.end + grown))) == whole:
                return replaced
        return [Replacement(self.span.start, self.span.end, self.storage.encode(whole, self.raw), (cause,))]

    def _escaped(self, text: str) -> bytes:
        """A part of the content as it is written within the string."""
        encoded = self.storage.encode(text, self.raw)
        if self.front and _framed(encoded, self.front, self.back):
            return encoded[len(self.front) : len(encoded) - len(self.back)]
        return encoded

    def _offsets(self) -> dict[int, int] | None:
        """Where the letter at each offset of the content begins in the string; None where that cannot be known."""
        offsets: dict[int, int] = {}
        at, done, end = len(self.front), 0, len(self.raw) - len(self.back)
        while at < end:
            match = LETTER.match(self.raw, at, end)
            assert match is not None
            token = match[0]
            offsets[done] = at
            if len(token) == 1 or token[0] > 127:
                text = token if token[0] > 127 or token not in b"\\&" else None
            else:
                text = self._one(token)
            if text is None or self.data[done : done + len(text)] != text:
                token = token[:1]
                text = token
                if self.data[done : done + 1] != text:
                    return None
            at, done = at + len(token), done + len(text)
        offsets[done] = at
        return offsets if done == len(self.data) else None

    def _one(self, token: bytes) -> bytes | None:
        try:
            return str(self.storage.decode(self.front + token + self.back)).encode("utf-8", "surrogateescape")
        except ValueRefused:
            return None


def _framed(raw: bytes, front: bytes, back: bytes) -> bool:
    return len(raw) >= len(front + back) and raw.startswith(front) and raw.endswith(back)


def nested_document(text: str) -> Document | None:
    """The document that a string holds, where it holds one."""
    if text.lstrip()[:1] not in ("{", "[", "<"):
        return None
    document = recognised_text(MemorySource(text.encode("utf-8", "surrogateescape")))
    return document if document is not None and document.name in ("json", "xml", "relaxed-json") else None
