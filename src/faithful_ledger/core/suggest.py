"""The word somebody probably meant."""

from __future__ import annotations

from collections.abc import Iterable

__all__ = ["did_you_mean"]


def did_you_mean(word: str, known: Iterable[str]) -> str:
    """“did you mean x?” for the known word closest to `word`, or an empty text where none is close."""
    from difflib import get_close_matches

    close = get_close_matches(word, list(known), 1, 0.6)
    return f"did you mean “{close[0]}”?" if close else ""
