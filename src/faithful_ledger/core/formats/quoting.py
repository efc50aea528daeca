"""How texts are quoted and escaped in the formats of texts.

Each decodes the bytes of a value to its text and encodes another text in the way of the old one. Bytes that are not of
the encoding pass unchanged (as surrogates, PEP 383), so what is not touched is written as it was.
"""

from __future__ import annotations

import json
import re
from abc import ABC, abstractmethod
from typing import TYPE_CHECKING, Literal

from faithful_ledger.core.errors import ValueRefused

if TYPE_CHECKING:
    from faithful_ledger.core.storage import Quoting

__all__ = ["COUNT", "Backslashed", "Bare", "Counted", "Doubled", "Measure", "encoded_text"]

ESCAPES = {"n": "\n", "t": "\t", "r": "\r", "b": "\b", "f": "\f", "v": "\v", "a": "\a", "0": "\0"}
BACK = {value: key for key, value in ESCAPES.items() if key not in "0av"}
BACKSLASHED = re.compile(r"\\(?:u([0-9A-Fa-f]{4})|x([0-9A-Fa-f]{2})|([0-9]{1,3})|(\r\n|.))", re.DOTALL)


def decoded_text(raw: bytes, encoding: str) -> str:
    return raw.decode(encoding, "surrogateescape")


def encoded_text(text: str, encoding: str) -> bytes:
    """Raises ValueRefused when a letter is not in the encoding."""
    try:
        return text.encode(encoding, "surrogateescape")
    except UnicodeEncodeError as error:
        letter = text[error.start]
        raise ValueRefused(
            f"“{letter}” is not a letter of this file's encoding ({encoding})", "enter letters that it has"
        ) from error


class Bare:
    """A text without quotes; some letters cannot be in it."""

    def __init__(self, encoding: str, forbidden: str = "\r\n", where: str = "a value without quotes") -> None:
        self.encoding, self.forbidden, self.where = encoding, forbidden, where

    def decode(self, raw: bytes) -> str:
        return decoded_text(raw, self.encoding)

    def encode(self, text: str, old: bytes) -> bytes:
        self.refuse(text)
        return encoded_text(text, self.encoding)

    def refuse(self, text: str) -> None:
        wrong = next((letter for letter in text if letter in self.forbidden), None)
        if wrong is not None:
            shown = {"\n": "a line break", "\r": "a line break", "\t": "a tab", " ": "a blank"}.get(wrong, f"“{wrong}”")
            raise ValueRefused(f"{shown} cannot be in {self.where}", "leave it out")
        if text != text.strip(" \t"):
            raise ValueRefused(f"{self.where} cannot begin or end with a blank", "leave it out")


class _Quoted(ABC):
    """Quotation marks around a text, where it has them; what has none is bare."""

    def __init__(self, encoding: str, bare: Bare | None, quotes: str = "\"'") -> None:
        self.encoding, self.bare, self.quotes = encoding, bare, quotes

    def mark_of(self, raw: bytes) -> str:
        """The quotation mark around a value; empty where there is none."""
        mark = raw[:1].decode("latin-1")
        return mark if len(raw) > 1 and mark and mark in self.quotes and raw[-1:] == raw[:1] else ""

    def decode(self, raw: bytes) -> str:
        mark = self.mark_of(raw)
        text = decoded_text(raw, self.encoding)
        return self.opened(text[1:-1], mark) if mark else text

    def encode(self, text: str, old: bytes) -> bytes:
        mark = self.mark_of(old)
        if mark or self.bare is None or self.needs_quotes(text):
            mark = mark or self.quotes[0]
            return encoded_text(mark + self.closed(text, mark, old) + mark, self.encoding)
        return self.bare.encode(text, old)

    def needs_quotes(self, text: str) -> bool:
        """Whether a bare text gets quotes, because the format reads it so."""
        return False

    @abstractmethod
    def opened(self, text: str, mark: str) -> str:
        """What is between quotation marks, without its escapes."""

    @abstractmethod
    def closed(self, text: str, mark: str, old: bytes) -> str:
        """A text as it is written between quotation marks."""


class Doubled(_Quoted):
    """A quotation mark within quotes is doubled, as in CSV (RFC 4180); a text that needs quotes gets them."""

    def __init__(self, encoding: str, bare: Bare, quotes: str = '"', *, quotes_itself: bool = True) -> None:
        super().__init__(encoding, bare, quotes)
        self.quotes_itself = quotes_itself

    def needs_quotes(self, text: str) -> bool:
        assert self.bare is not None
        return self.quotes_itself and any(letter in self.bare.forbidden + self.quotes for letter in text)

    def opened(self, text: str, mark: str) -> str:
        return text.replace(mark * 2, mark)

    def closed(self, text: str, mark: str, old: bytes) -> str:
        return text.replace(mark, mark * 2)


class Backslashed(_Quoted):
    """Escapes with a backslash. Letters beyond ASCII are escaped where the old text escaped some and had none plain."""

    def __init__(self, encoding: str, bare: Bare | None, quotes: str = "\"'", *, decimal: bool = False) -> None:
        super().__init__(encoding, bare, quotes)
        self.decimal = decimal  # \65 is a letter by its decimal number, as in tables with keys in brackets

    def opened(self, text: str, mark: str) -> str:
        if "\\" not in text:
            return text
        found = BACKSLASHED.sub(self._letter, text)
        try:
            return found.encode("utf-16-le", "surrogatepass").decode("utf-16-le")  # joins pairs of \u escapes
        except UnicodeDecodeError:
            return found

    def _letter(self, match: re.Match[str]) -> str:
        four, two, digits, other = match.groups()
        if four or two:
            return chr(int(four or two, 16))
        if digits:
            if not self.decimal:
                return "\0" + digits[1:] if digits.startswith("0") else digits
            return chr(min(int(digits), 255))
        return ESCAPES.get(other, "" if other in ("\n", "\r\n") else other)

    def closed(self, text: str, mark: str, old: bytes) -> str:
        escape = b"\\u" in old and old.isascii()
        slash = b"\\/" in old
        parts = []
        for letter in text:
            if letter in (mark, "\\"):
                parts.append("\\" + letter)
            elif letter in BACK:
                parts.append("\\" + BACK[letter])
            elif letter == "/" and slash:
                parts.append("\\/")
            elif letter < " " or (escape and letter > "~"):
                parts.append(f"\\{ord(letter):03d}" if self.decimal else json.dumps(letter)[1:-1])
            else:
                parts.append(letter)
        return "".join(parts)


COUNT = re.compile(rb"(\d{1,9})(?:[ \t]*[:;|,/][ \t]*|[ \t]+)")
Measure = Literal["bytes", "letters"]


class Counted:
    """A text with its own length in front, as in `6:Tamsin` or `6 "Tamsin"`; another text gets its own. Quotes are not
    counted. What does not begin with its length is read as it is.
    """

    def __init__(self, inner: Quoting, encoding: str, measure: Measure = "bytes") -> None:
        self.inner, self.encoding, self.measure = inner, encoding, measure

    def behind_count(self, raw: bytes) -> int:
        """Where the text itself begins; 0 where no length is in front that fits it."""
        match = COUNT.match(raw)
        return match.end() if match is not None and int(match[1]) == self._length(raw[match.end() :]) else 0

    def _length(self, raw: bytes) -> int:
        quoted = len(raw) > 1 and raw[:1] == raw[-1:] and raw[:1] in (b'"', b"'")
        raw = raw[1:-1] if quoted else raw
        return len(raw) if self.measure == "bytes" else len(decoded_text(raw, self.encoding))

    def decode(self, raw: bytes) -> str:
        return self.inner.decode(raw[self.behind_count(raw) :])

    def encode(self, text: str, old: bytes) -> bytes:
        behind = self.behind_count(old)
        written = self.inner.encode(text, old[behind:])
        match = COUNT.match(old)
        if not behind or match is None:
            return written
        number = str(self._length(written)).zfill(len(match[1]) if match[1].startswith(b"0") else 1)
        whole = number.encode() + old[match.end(1) : behind] + written
        if not self.behind_count(whole):
            raise ValueRefused(f"“{text[:40]}” would not be read back behind its length", "enter a text")
        return whole
