"""How the bytes of saves are arranged, where they are not one behind the other: of words with their bytes turned round
the letters show it, and of a memory that has only every second byte those between.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from faithful_ledger.core.layers.swapping import HALVES, SWAPPINGS, swapped

__all__ = ["arrangement_of"]

LOOKED_AT = 1 << 16
LEAST = 64  # bytes of a save
FILLING = (b"\xff", b"\0")  # what is between the bytes that count
LEAST_WORDS, MANY = 4, 4  # words that begin with a capital, and how many times fewer the other way round
CAPITAL = re.compile(rb"(?<![A-Za-z])[A-Z][a-z]{2}")
TURNED = re.compile(rb"[a-z][A-Z]")


def arrangement_of(saves: Sequence[bytes]) -> str | None:
    """The layer that arranges the bytes of all `saves`; None where nothing says that there is one."""
    samples = [save[:LOOKED_AT] for save in saves]
    if min(map(len, samples), default=0) < LEAST:
        return None
    for kind, own in HALVES.items():
        if all(_is_half(sample, own) for sample in samples):
            return kind
    if sum(len(TURNED.findall(sample)) for sample in samples) < LEAST_WORDS * len(samples):
        return None
    found = {
        kind: _words([swapped(sample, kind) for sample in samples])
        for kind, size in SWAPPINGS.items()
        if all(len(save) % size == 0 for save in saves)
    }
    best = max(found, key=lambda kind: found[kind], default=None)
    least = max(LEAST_WORDS * len(samples), MANY * _words(samples))
    return best if best is not None and found[best] >= least else None


def _is_half(sample: bytes, own: int) -> bool:
    """Whether the bytes at every second offset count, and those between are all alike, or say the same again."""
    counting, between = sample[own::2], sample[1 - own :: 2]
    if len(sample) % 2 or len(set(counting)) <= 2:
        return False
    return (own == 1 and between == counting) or any(not between.strip(filling) for filling in FILLING)


def _words(samples: Sequence[bytes]) -> int:
    """How many words begin with a capital, less what looks like the end of one that is turned round."""
    return sum(len(CAPITAL.findall(sample)) - len(TURNED.findall(sample)) for sample in samples)
