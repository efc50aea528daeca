"""Texts with numbers that are XORed with another one beside them, as `{"hidden": 5678, "key": 1234}`, or with the same
one in every save, so that nobody finds them: the same text, in which they say what they mean.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from faithful_ledger.core.edits import Cause, Replacement
from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.formats import Document, recognised_text
from faithful_ledger.core.formats.document import Span, TextLeaf
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.storage import Value
from faithful_ledger.core.storage.spelled import exact_number
from faithful_ledger.core.wrapping.in_place import InPlace, Meant

__all__ = ["holder_and_name", "whole_number", "with_masked"]

UNSIGNED, SIGNED = 1 << 64, 1 << 63


def with_masked(outer: bytes, number: str, mask: str, key: bytes = b"") -> InPlace:
    """The text inside of a text, in which every value called `number` with one called `mask` beside it is XORed with
    that; or every value called so with the number that `key` is, its highest byte first.

    Raises:
        AddressError: this is not a text of a known format, or it has no such values.
    """
    document = recognised_text(MemorySource(outer))
    return InPlace.of(outer, _values(document, number, mask, key) if document is not None else ())


def _values(document: Document, number: str, mask: str, key: bytes) -> Iterator[tuple[Span, Meant | None]]:
    leaves = list(document.leaves())
    places = [holder_and_name(leaf.path) for leaf in leaves]
    masks = {holder: whole_number(leaf) for leaf, (holder, name) in zip(leaves, places, strict=True) if name == mask}
    for leaf, (holder, name) in zip(leaves, places, strict=True):
        span = Span(leaf.start, leaf.end, leaf.kind)
        beside = int.from_bytes(key, "big") if key else masks.get(holder)
        stored = whole_number(leaf) if name == number else None
        if beside is None or stored is None:
            yield span, None
            continue
        storage = document.value_storage(span)
        raw = storage.encode(stored ^ beside, leaf.raw)
        yield span, Meant(raw, storage, partial(_hidden, span, leaf.raw, document, beside))


def _hidden(span: Span, old: bytes, document: Document, mask: int, value: Value, cause: Cause) -> list[Replacement]:
    number = exact_number(str(value))
    if number is None or number.denominator != 1 or not -SIGNED <= number < UNSIGNED:
        raise ValueRefused(f"{value} cannot be XORed with {mask}", "nothing was written; enter a whole number")
    stored = int(number) ^ mask
    return [Replacement(span.start, span.end, document.value_storage(span).encode(stored, old), (cause,))]


def holder_and_name(path: str) -> tuple[str, str]:
    """The path of what a value is in, and what it is called there; of an element of XML its text is the value."""
    holder, _, name = path.removesuffix(".#text").rpartition(".")
    return holder, name.removeprefix("@")


def whole_number(leaf: TextLeaf) -> int | None:
    """A value as a whole number, also one in quotes; None where it is none."""
    number = exact_number(leaf.text) if leaf.is_number else None
    is_whole = number is not None and number.denominator == 1 and abs(number) < UNSIGNED
    return int(number) if number is not None and is_whole else None
