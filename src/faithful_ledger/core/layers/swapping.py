"""Bytes in another order, as a layer: the bytes of every word of 2, 4 or 8 are stored the other way round, as programs
for machines of the other byte order do with the memory of a console.
"""

from __future__ import annotations

import re

__all__ = ["SWAPPINGS", "swapped", "swapping_of"]

SWAPPINGS = {"swap-bytes-2": 2, "swap-bytes-4": 4, "swap-bytes-8": 8}
WORD, VOWEL = re.compile(rb"[A-Za-z][a-z]{3,}"), re.compile(rb"[AEIOUYaeiouy]")
SAMPLE = 1 << 16  # bytes that are looked at
LEAST_LETTERS, BY_CHANCE = 6, 0.004  # letters in words, and as many more for each byte
FAR_MORE = 3  # times as many as without


def swapping_of(data: bytes) -> str | None:
    """The swapping after which far more words can be read; None where there is none."""
    sample = data[:SAMPLE]
    least = max(LEAST_LETTERS + BY_CHANCE * len(sample), FAR_MORE * _letters(sample))
    letters = {kind: _letters(swapped(sample, kind)) for kind, size in SWAPPINGS.items() if len(data) % size == 0}
    best = max(letters, key=lambda kind: letters[kind], default="")
    return best if best and letters[best] > least else None


def _letters(data: bytes) -> int:
    """How many letters are in different words."""
    return sum(len(word) for word in {*WORD.findall(data)} if VOWEL.search(word))


def swapped(data: bytes, kind: str) -> bytes:
    """The same with the bytes of every word turned round; what is left at the end stays. It undoes itself."""
    size = SWAPPINGS[kind]
    whole = len(data) // size * size
    turned = bytearray(data)
    for place in range(size):
        turned[place:whole:size] = data[size - 1 - place : whole : size]
    return bytes(turned)
