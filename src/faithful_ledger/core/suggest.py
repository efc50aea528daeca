"""The word somebody probably meant."""

from __future__ import annotations

from collections.abc import Iterable

__all__ = ["did_you_mean"]


def did_you_mean(word: str, known: Iterable[str], least: float = 0.6) -> str:
    """“did you mean x?” for the known word closest to `word`, or an empty text where none is `least` alike (0 to 1)."""
    from difflib import get_close_matches

    close = get_close_matches(word, list(known), 3, least)
    close.sort(key=lambda each: sorted(each) != sorted(word))  # letters that changed places are the likeliest mistake
    return f"did you mean “{close[0]}”?" if close else ""
