"""Whole numbers as people read them, with their thousands apart: 15,345 or 15 345."""

from __future__ import annotations

import re

__all__ = ["grouped_like", "grouped_number"]

GROUPED = re.compile(r"-?[0-9]{1,3}(?:([,'’ \u00a0\u202f])[0-9]{3}(?:\1[0-9]{3})*)?")
PLAIN = re.compile(r"-?[0-9]{1,18}")


def grouped_number(text: str) -> int | None:
    """The number that a text says with its thousands apart, also one that is too small for that; None for others."""
    plain = text.strip()
    if GROUPED.fullmatch(plain) is None:
        return None
    return int("".join(filter(str.isdigit, plain))) * (-1 if plain.startswith("-") else 1)


def grouped_like(text: str, old: object) -> str:
    """A text; if it is a plain number in place of one with its thousands apart, with them apart as well."""
    before = GROUPED.fullmatch(old.strip()) if isinstance(old, str) else None
    if before is None or before[1] is None or PLAIN.fullmatch(text) is None:
        return text
    return f"{int(text):,}".replace(",", before[1])
