"""What strings of texts hold: texts themselves, as they are or in hexadecimal, base64 or lz-string, packed or not.

Each is a payload of its own behind the path of its string, as in `blob(text).marks`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import suppress
from fractions import Fraction
from typing import TYPE_CHECKING, NamedTuple

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.formats import Document, looks_like_text, recognised_text
from faithful_ledger.core.formats.document import TextLeaf
from faithful_ledger.core.formats.json_leaves import json_tree
from faithful_ledger.core.formats.nested import IN_A_STRING, TEXT, nested_document
from faithful_ledger.core.layers import STREAMS, marked_kind
from faithful_ledger.core.layers.base64_text import BASE64
from faithful_ledger.core.layers.hex_text import HEX
from faithful_ledger.core.layers.lz_string import LZ_STRING
from faithful_ledger.core.layers.percent import PERCENT
from faithful_ledger.core.layers.stream import Allowance
from faithful_ledger.core.layers.tagged import tagged_kind

if TYPE_CHECKING:
    from faithful_ledger.core.wrapping import Step

__all__ = ["Opened", "all_leaves", "opened_string", "spelled_as"]

DEEPEST = 4
HEXADECIMAL = re.compile(r"(?:[0-9A-F]{2} ?){20,}|(?:[0-9a-f]{2} ?){20,}")
LETTERED = re.compile(r"[A-Za-z0-9+/_%-]{24,}={0,3}")
LARGEST = 16 << 20
SHORTEST = 24  # letters of a packed string
INSIDE = ("json", "relaxed-json", "xml", "keyed-lines", "pairs")  # what a string may be taken for when it is unpacked


class Opened(NamedTuple):
    """The document that a string holds, the steps that lead to it, and the kinds of layers within the string."""

    steps: list[Step]
    document: Document
    layers: tuple[str, ...] = ()


def opened_string(text: str, first: Sequence[Step] = ()) -> Opened | None:
    """What a string holds, behind the steps `first` that lead to it; None where it is not a document."""
    document = nested_document(text)
    if document is not None:
        return Opened(list(first), document)
    if len(text) > LARGEST:
        return None
    outer = spelled_as(text)
    if not outer:
        return None
    from faithful_ledger.core.wrapping import unwrap

    data, kind = text.encode("utf-8", "surrogatepass"), outer
    steps, layers = list(first), list[str]()
    with suppress(LedgerError):
        while kind and len(layers) < DEEPEST:
            steps += unwrap(data, (kind,))
            layers.append(kind)
            data = steps[-1].data
            if looks_like_text(data) and marked_kind(data) != PERCENT:
                return _recognised(steps, tuple(layers))
            kind = marked_kind(data) or tagged_kind(data) or ""
    return None


def spelled_as(text: str) -> str:
    """The layer in which a text spells bytes: hex, base64, lz-string, percent; else empty, as for digits of a hash."""
    if HEXADECIMAL.fullmatch(text):
        return HEX
    kinds: tuple[str, ...] = ()
    if text.startswith("%"):
        kinds = (PERCENT,)
    elif not text.isascii():
        kinds = (LZ_STRING,)
    elif LETTERED.fullmatch(text) and not text.islower() and not text.isupper():
        kinds = (LZ_STRING, BASE64)
    letters = text.encode("utf-8", "surrogatepass") if kinds else b""
    for kind in kinds:
        layer = STREAMS[kind].read(letters, 0, Allowance(LARGEST))
        if layer is not None and layer.size == len(letters):
            return kind
    return ""


def _recognised(steps: list[Step], layers: tuple[str, ...]) -> Opened | None:
    from faithful_ledger.core.wrapping import Unwrapped

    document = recognised_text(Unwrapped(steps).source)
    return Opened(steps, document, layers) if document is not None and document.name in INSIDE else None


class _Within:
    """A leaf of a text within a string; its span is that of the string."""

    def __init__(self, holder: TextLeaf, inner: TextLeaf) -> None:
        self.holder, self.inner = holder, inner
        self.start, self.end = holder.start, holder.end

    @property
    def path(self) -> str:
        inner = self.inner.path
        return f"{self.holder.path}{TEXT}{'' if inner.startswith('[') or not inner else '.'}{inner}"

    @property
    def kind(self) -> str:
        return self.inner.kind

    @property
    def raw(self) -> bytes:
        return self.inner.raw

    @property
    def text(self) -> str:
        return self.inner.text

    @property
    def is_number(self) -> bool:
        return self.inner.is_number

    @property
    def about(self) -> float:
        return self.inner.about

    @property
    def value(self) -> Fraction | str:
        return self.inner.value

    @property
    def stored_as(self) -> str:
        return f"{self.inner.stored_as.removesuffix(IN_A_STRING)}{IN_A_STRING}"


def all_leaves(document: Document, depth: int = 0) -> Iterator[TextLeaf]:
    """Every value of a text, also of the texts within its strings, each behind the string it is in."""
    for leaf in document.leaves():
        yield leaf
        if leaf.kind == "string" and depth < DEEPEST and _may_hold(document, leaf):
            found = opened_string(leaf.text)
            if found is not None:
                yield from (_Within(leaf, each) for each in all_leaves(found.document, depth + 1))


def _may_hold(document: Document, leaf: TextLeaf) -> bool:
    """Whether a string is worth looking into; most are passed by for their letters alone. JSON enters strings that are
    JSON itself.
    """
    raw = leaf.raw
    if len(raw) < SHORTEST and not any(mark in raw for mark in (b"<", b"{", b"[", b"\\", b"&")):
        return False
    return document.name != "json" or json_tree(leaf.text.encode("utf-8", "replace")) is None
