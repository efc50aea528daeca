"""Bytes that a text spells in several places, as `{"iv": "…", "data": "…", "tag": "…"}` or `iv:data` in hexadecimal or
base64: joined in the order in which a cipher takes them.

They are numbered from 1 on, in the order of the text: the longest, and those that are as long as a salt, an initial
vector or a tag. Only the longest one takes another size.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from itertools import accumulate, pairwise
from typing import NamedTuple

from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.errors import AddressError, LedgerError, StreamGrows, place
from faithful_ledger.core.formats import looks_like_text, recognised_text
from faithful_ledger.core.formats.document import Span
from faithful_ledger.core.formats.nested import NestedText
from faithful_ledger.core.layers import STREAMS
from faithful_ledger.core.layers.base64_text import BASE64
from faithful_ledger.core.layers.hex_text import HEX, is_hex
from faithful_ledger.core.profile.layers import whole_stream
from faithful_ledger.core.source import MemorySource, Source
from faithful_ledger.core.wrapping.growing import Counted, decimal_length
from faithful_ledger.core.wrapping.strings import may_be_hidden

__all__ = ["SIZES", "Joined", "Spelled", "spelled_parts"]

SIZES = (8, 12, 16, 24, 32)  # bytes of salts, initial vectors and tags
LEAST = 24  # bytes of the longest part
SHORTEST = 11  # letters
RUN = re.compile(rb"[A-Za-z0-9+/_-]{11,}={0,2}")
MOST = 8  # parts of a text
LARGEST = 64 << 20


class Spelled(NamedTuple):
    """Bytes that are spelled in the letters at [start, end) of a text, or in a string there that has escapes."""

    start: int
    end: int
    kind: str
    letters: bytes
    data: bytes
    string: NestedText | None = None


def spelled_parts(outer: bytes) -> list[Spelled]:
    """The parts of a text that may belong together; none where the longest one is short, or there are very many."""
    if len(outer) > LARGEST or not looks_like_text(outer):
        return []
    found = list(_all_spelled(outer))
    longest = max((len(each.data) for each in found), default=0)
    parts = [each for each in found if len(each.data) in SIZES or len(each.data) == longest]
    return parts if longest >= LEAST and 1 < len(parts) <= MOST else []


def _all_spelled(outer: bytes) -> Iterator[Spelled]:
    document = recognised_text(MemorySource(outer))
    if document is None or document.name != "json":
        for match in RUN.finditer(outer):
            yield from _spelled(match.start(), match.end(), match[0])
        return
    for leaf in document.leaves():
        if leaf.end - leaf.start >= SHORTEST and may_be_hidden(document, leaf):
            span = Span(leaf.start, leaf.end, "string")
            string = NestedText(document.source, span, document.value_storage(span))
            yield from _spelled(leaf.start, leaf.end, string.data, string)


def _spelled(start: int, end: int, letters: bytes, string: NestedText | None = None) -> Iterator[Spelled]:
    kind = HEX if is_hex(letters) else BASE64
    with suppress(LedgerError):
        if (layer := whole_stream(letters, kind)) is not None:
            yield Spelled(start, end, kind, letters, STREAMS[kind].unpack(letters, layer, len(letters)), string)


@dataclass(slots=True)
class Joined:
    """Some of the parts that a text spells, in an order of their own."""

    outer: Source
    parts: list[Spelled]
    data: bytes

    @classmethod
    def of(cls, outer: bytes, order: Sequence[int]) -> Joined:
        """Raises AddressError where there are not as many parts, or the longest is not among them."""
        found = spelled_parts(outer)
        if max(order) > len(found):
            what = f"{max(order)} parts in hexadecimal or base64 belong together, and there are {len(found)}"
            raise AddressError(f"this text cannot be read: {what}", "see Profile for what the file holds")
        parts = [found[number - 1] for number in order]
        return cls(MemorySource(outer), parts, b"".join(part.data for part in parts))

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        """Raises StreamGrows where a number in the text says how long a part is that would take another size."""
        sizes = [len(part.data) for part in self.parts]
        longest = sizes.index(max(sizes))
        sizes[longest] += inner.size - len(self.data)
        changed: list[Replacement] = []
        for part, (start, end) in zip(self.parts, pairwise(accumulate(sizes, initial=0)), strict=True):
            content = bytes(inner.read(start, end))
            if content != part.data:
                changed += self._spelled_again(part, content, cause)
        return sorted(changed, key=lambda each: each.start)

    def _spelled_again(self, part: Spelled, content: bytes, cause: Cause) -> list[Replacement]:
        letters = STREAMS[part.kind].pack(content, part.letters)
        if len(letters) != len(part.letters) and (
            why := decimal_length(self.outer, part.start, (len(part.letters), len(part.data)))
        ):
            raise StreamGrows(
                f"the {part.kind} text at {place(part.start)} would take {len(letters)} letters in place of "
                f"{len(part.letters)}, and {why}",
                "nothing was written; describe its length in the template (length_of)",
            )
        if part.string is None:
            return [Replacement(part.start, part.end, letters, (cause,))]
        whole = Replacement(0, len(part.letters), letters, (cause,))
        return part.string.wrap(Patched(MemorySource(part.letters), [whole]), cause)
