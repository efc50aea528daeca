"""How elements are called."""

from __future__ import annotations

import re

__all__ = ["field_name"]


def field_name(name: str) -> str:
    """A name for a field out of any words: “Diver's air” becomes diver_s_air."""
    cleaned = re.sub(r"[^a-z0-9]+", "_", name.casefold()).strip("_")[:60]
    return cleaned if cleaned[:1].isalpha() else f"field_{cleaned}".rstrip("_")
