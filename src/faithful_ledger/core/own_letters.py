"""Texts in letters of a game's own, whose numbers nobody knows: those of the alphabet follow one another there, too.

A text is looked for by how far its letters are from each other, capitals, small letters and digits each by themselves.
Where it is found it says the numbers of them all, and of each other sign in it.
"""

from __future__ import annotations

import string
from collections.abc import Iterator, Mapping
from itertools import pairwise
from typing import Any, TypeAlias

import numpy as np

__all__ = ["OWN_LETTERS", "read_as", "texts_in_own_letters"]

Array: TypeAlias = np.ndarray[Any, Any]
OWN_LETTERS = "own-letters"  # how such a text is stored
ALPHABETS = (string.ascii_uppercase, string.ascii_lowercase, string.digits)
LEAST_STEPS = 3  # distances between letters, each of which says eight bits
MOST_HITS = 256


def texts_in_own_letters(data: Array, text: str) -> Iterator[tuple[int, dict[int, str]]]:
    """Offsets at which bytes (uint8) are a text in letters that are not those of ASCII, with the letters by byte that
    it says. A text of few letters is nowhere: chance would put it everywhere.
    """
    for at in _hits(data, text):
        if letters := _letters_at(data, at, text):
            yield at, letters


def read_as(letters: Mapping[int, str], raw: Array, text: str) -> dict[int, str] | None:
    """Letters by byte with the other signs of a text that some bytes are; None where they say another text."""
    made = dict(letters)
    for code, letter in zip(raw.tolist(), text, strict=False):
        if made.setdefault(code, letter) != letter:
            return None
    return made if len(made) == len(set(made.values())) and raw.size == len(text) else None


def _steps(text: str) -> list[tuple[int, int, int]]:
    """Pairs of letters of one alphabet in a text, and how far the second is behind the first; and of the same signs."""
    signs = [letter for letter in dict.fromkeys(text) if not any(letter in alphabet for alphabet in ALPHABETS)]
    found = []
    for alphabet in (*ALPHABETS, *signs):
        of_one = [number for number, letter in enumerate(text) if letter in alphabet]
        found += [(a, b, alphabet.index(text[b]) - alphabet.index(text[a])) for a, b in pairwise(of_one)]
    return found


def _hits(data: Array, text: str) -> list[int]:
    """Offsets at which the letters of a text may be."""
    steps = _steps(text)
    if len(steps) < LEAST_STEPS or data.size < len(text):
        return []
    a, b, distance = max(steps, key=lambda step: abs(step[2]))
    last = data.size - len(text) + 1
    differences = data[b : b + last].astype(np.int16) - data[a : a + last]
    offsets = np.flatnonzero(differences == distance)
    for a, b, distance in steps:
        offsets = offsets[data[offsets + b].astype(np.int16) - data[offsets + a] == distance]
    found: list[int] = offsets[:MOST_HITS].tolist()
    return found


def _letters_at(data: Array, at: int, text: str) -> dict[int, str]:
    """The letters by byte that a text at an offset says; nothing where two would be one byte, or they are of ASCII."""
    letters: dict[int, str] = {}
    for alphabet in ALPHABETS:
        number = next((number for number, letter in enumerate(text) if letter in alphabet), None)
        if number is None:
            continue
        begin = int(data[at + number]) - alphabet.index(text[number])
        codes = range(begin, begin + len(alphabet))
        if begin < 0 or codes[-1] > 255 or not letters.keys().isdisjoint(codes):
            return {}
        letters |= dict(zip(codes, alphabet, strict=True))
    if all(ord(letter) == code for code, letter in letters.items()):
        return {}
    return read_as(letters, data[at : at + len(text)], text) or {}
