"""Texts with numbers that are XORed with another one beside them, as `{"hidden": 5678, "key": 1234}`, or with the same
one in every save, so that nobody finds them: the same text, in which they say what they mean.
"""

from __future__ import annotations

import math
import struct
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

__all__ = ["bits_of", "fraction_of", "holder_and_name", "whole_number", "with_masked"]

UNSIGNED, SIGNED = 1 << 64, 1 << 63
WORD, LARGEST_FRACTION = (1 << 32) - 1, 3.4e38


def with_masked(outer: bytes, number: str, mask: str, key: bytes = b"", *, are_fractions: bool = False) -> InPlace:
    """The text inside of a text, in which every value called `number` with one called `mask` beside it is XORed with
    that; or every value called so with the number that `key` is, its highest byte first. What is hidden so may be the
    four bytes of fractions.

    Raises:
        AddressError: this is not a text of a known format, or it has no such values.
    """
    document = recognised_text(MemorySource(outer))
    hiding = _Fractions if are_fractions else _Numbers
    return InPlace.of(outer, _values(document, number, mask, key, hiding) if document is not None else ())


class _Numbers:
    """What a stored number means that is XORed with another one, and how it is stored again."""

    def __init__(self, stored: int, mask: int) -> None:
        self.stored, self.mask = stored, mask

    @property
    def meant(self) -> int | float | None:
        return self.stored ^ self.mask

    def hidden(self, value: Value) -> int:
        """Raises ValueRefused where it cannot be stored so."""
        number = exact_number(str(value))
        if number is None or number.denominator != 1 or not -SIGNED <= number < UNSIGNED:
            raise ValueRefused(f"{value} cannot be XORed with {self.mask}", "nothing was written; enter a whole number")
        return int(number) ^ self.mask


class _Fractions(_Numbers):
    """The same of fractions, of which the four bytes are XORed with the lowest ones of the other number."""

    @property
    def meant(self) -> int | float | None:
        return fraction_of(self.stored ^ self.mask)

    def hidden(self, value: Value) -> int:
        number = exact_number(str(value))
        if number is None or abs(number) > LARGEST_FRACTION:
            raise ValueRefused(
                f"{value} is not a fraction of four bytes", "nothing was written; enter a smaller number"
            )
        bits = bits_of(float(number)) ^ self.mask & WORD
        return bits if self.stored > WORD >> 1 or bits <= WORD >> 1 else bits - WORD - 1


def fraction_of(bits: int) -> float | None:
    """The fraction of four bytes that the lowest bits of a number are; None where it is none."""
    value = float(struct.unpack("<f", struct.pack("<I", bits & WORD))[0])
    return value if math.isfinite(value) else None


def bits_of(value: float) -> int:
    """The four bytes of a fraction as a number."""
    return int(struct.unpack("<I", struct.pack("<f", value))[0])


def _values(
    document: Document, number: str, mask: str, key: bytes, hiding: type[_Numbers]
) -> Iterator[tuple[Span, Meant | None]]:
    leaves = list(document.leaves())
    places = [holder_and_name(leaf.path) for leaf in leaves]
    masks = {holder: whole_number(leaf) for leaf, (holder, name) in zip(leaves, places, strict=True) if name == mask}
    for leaf, (holder, name) in zip(leaves, places, strict=True):
        span = Span(leaf.start, leaf.end, leaf.kind)
        beside = int.from_bytes(key, "big") if key else masks.get(holder)
        stored = whole_number(leaf) if name == number else None
        pair = hiding(stored, beside) if beside is not None and stored is not None else None
        meant = pair.meant if pair is not None else None
        if pair is None or meant is None:
            yield span, None
            continue
        storage = document.value_storage(span)
        yield span, Meant(storage.encode(meant, leaf.raw), storage, partial(_hidden, span, leaf.raw, document, pair))


def _hidden(
    span: Span, old: bytes, document: Document, pair: _Numbers, value: Value, cause: Cause
) -> list[Replacement]:
    stored = pair.hidden(value)
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
