"""Some bits of a whole number as a field of their own: the number becomes a group of bits, the others unnamed."""

from __future__ import annotations

import re
from typing import Any

from faithful_ledger.core.binding import FieldNode, GroupNode, Node
from faithful_ledger.core.describe.placing import UNCHANGED, free_name
from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.storage import BitRange
from faithful_ledger.core.template.names import has_no_name, unnamed_bits
from faithful_ledger.core.template.rewriting import YamlText

__all__ = ["bit_word", "bits_typed", "name_bits"]

TYPED = re.compile(r"\s*([0-9]{1,2})\s*(?:[-–…]|\.\.|to)?\s*([0-9]{1,2})?\s*")
WORDS = {1: "u8", 2: "u16", 4: "u32", 8: "u64"}


def bits_typed(text: str) -> tuple[int, int]:
    """The first and the last bit out of what somebody typed: 4, or 4-6; bit 0 is the lowest.

    Raises:
        EntryError: it says no bits.
    """
    match = TYPED.fullmatch(text)
    low = int(match[1]) if match is not None else 64
    high = int(match[2]) if match is not None and match[2] else low
    if not low <= high < 64:
        raise EntryError(f"“{text}” says no bits", "write one, as 4, or from the lowest to the highest, as 4-6")
    return low, high


def bit_word(name: str, size: int, low: int, high: int) -> dict[str, Any]:
    """The keys of a group of bits for a whole number of `size` bytes, with the bits from `low` to `high` as a field.

    Raises:
        EntryError: a number of so many bytes has no such bits.
    """
    if size not in WORDS or high >= 8 * size:
        raise EntryError(
            f"{size} {'byte has' if size == 1 else 'bytes have'} no bit {high} to name",
            f"{UNCHANGED}; select 1, 2, 4 or 8 bytes",
        )
    parts = _parts(0, 8 * size - 1, low, high, name)
    return {"group": f"{name}_bits", "word": WORDS[size], "flat": True, "layout": parts}


def _parts(first: int, last: int, low: int, high: int, name: str) -> list[dict[str, Any]]:
    """The bits from `first` to `last` as fields, of which `low` to `high` have a name."""
    found: list[dict[str, Any]] = []
    if low > first:
        found.append({"field": unnamed_bits(first), "as": f"u{low - first}"})
    found.append({"field": name, "as": f"u{high - low + 1}"})
    if high < last:
        found.append({"field": unnamed_bits(high + 1), "as": f"u{last - high}"})
    return found


def name_bits(text: YamlText, node: Node, low: int, high: int, name: str) -> None:
    """Name bits of a group of bits that are not named yet.

    Raises:
        EntryError: some of them have a name.
    """
    word = node if isinstance(node, GroupNode) else node.parent
    if not isinstance(word, GroupNode) or word.spec.word is None:
        raise EntryError(f"{node.path} is not a group of bits", UNCHANGED)
    for child in word.children:
        storage = child.spec.storage if isinstance(child, FieldNode) else None
        if not isinstance(storage, BitRange):
            continue
        first, last = storage.low, storage.low + storage.bits - 1
        if first <= low and high <= last and has_no_name(child.spec.name):
            *before, index = child.spec.where
            assert isinstance(index, int)
            where = tuple(before)
            for number, part in enumerate(_parts(first, last, low, high, free_name(word.spec, name))):
                text.insert(where, index + 1 + number, part)
            text.remove(where, index)
            return
    raise EntryError(
        f"bits {low} to {high} of {word.path} have a name, or are in two fields", f"{UNCHANGED}; remove it first"
    )
