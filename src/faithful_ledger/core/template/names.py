"""How elements are called."""

from __future__ import annotations

import re
from collections.abc import Collection

__all__ = ["field_name", "free_name", "has_no_name", "unnamed_bits"]

UNNAMED = re.compile(r"bits_[0-9]+(?:_beside_.*)?")


def field_name(name: str) -> str:
    """A name for a field out of any words: “Diver's air” becomes diver_s_air."""
    cleaned = re.sub(r"[^a-z0-9]+", "_", name.casefold()).strip("_")[:60]
    return cleaned if cleaned[:1].isalpha() else f"field_{cleaned}".rstrip("_")


def free_name(taken: Collection[str], wanted: str) -> str:
    """A name that is not taken yet."""
    name, number = wanted, 2
    while name in taken:
        name = f"{wanted}_{number}"
        number += 1
    return name


def unnamed_bits(first: int, beside: str = "") -> str:
    """What bits of a whole number that nobody has named are called: from bit `first` on, `beside` those of a field."""
    return f"bits_{first}_beside_{beside}" if beside else f"bits_{first}"


def has_no_name(name: str) -> bool:
    """Whether a field of a whole number is only the bits between others."""
    return UNNAMED.fullmatch(name) is not None
