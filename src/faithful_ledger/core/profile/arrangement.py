"""How the bytes of saves are arranged, where they are not one behind the other: of words with their bytes turned round
the letters show it, of a memory that has only every second byte those between, of a text from its end to its beginning
the brackets, and of bytes that are stored as letters that no language has so many of them beyond ASCII.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.formats import recognised_text
from faithful_ledger.core.layers import STREAMS
from faithful_ledger.core.layers.base64_text import BASE64
from faithful_ledger.core.layers.swapping import BYTE_LETTERS, HALVES, REVERSED, SWAPPINGS, arranged, swapped
from faithful_ledger.core.profile.layers import whole_stream
from faithful_ledger.core.source import MemorySource

__all__ = ["arrangement_of", "whole_arrangement_of"]

LOOKED_AT = 1 << 16
LEAST = 64  # bytes of a save
FILLING = (b"\xff", b"\0")  # what is between the bytes that count
LEAST_WORDS, MANY = 4, 4  # words that begin with a capital, and how many times fewer the other way round
CAPITAL = re.compile(rb"(?<![A-Za-z])[A-Z][a-z]{2}")
TURNED = re.compile(rb"[a-z][A-Z]")
CLOSED = (b"}", b"]", b">")  # with what a text that is turned round begins, behind line breaks
ONLY_BASE64 = re.compile(rb"={0,2}[A-Za-z0-9+/_-]{32,}+={0,2}")
MOST_PLAIN = 0.6  # the share of letters of ASCII in a text that is bytes; of those of a language there are more
CONTROLS = bytes([*range(9), 11, 12, *range(14, 32), *range(127, 160)])
LEAST_CONTROLS = 50  # one of so many letters is one of these, as in no text


def whole_arrangement_of(saves: Sequence[bytes]) -> str | None:
    """The layer that all of each of the `saves` is in, whatever else may seem to be in them: a text turned round, also
    in base64, or bytes as letters of a text.
    """
    if all(map(_is_of_letters, saves)):
        return BYTE_LETTERS
    return REVERSED if all(map(_is_turned_text, saves)) else None


def _is_of_letters(data: bytes) -> bool:
    try:
        letters = arranged(data, BYTE_LETTERS) if len(data) >= LEAST and not data.isascii() else b""
    except LedgerError:
        return False
    if len(letters) < LEAST:
        return False
    controls = len(letters) - len(letters.translate(None, CONTROLS))
    is_plain = sum(byte < 128 for byte in letters) >= MOST_PLAIN * len(letters)
    return not is_plain or controls * LEAST_CONTROLS >= len(letters)


def _is_turned_text(data: bytes) -> bool:
    turned = data[::-1]
    if len(data) >= LEAST and data.lstrip().startswith(CLOSED):
        return recognised_text(MemorySource(turned)) is not None and recognised_text(MemorySource(data)) is None
    if not ONLY_BASE64.fullmatch(data):
        return False
    return _spells(turned) and not _spells(data)


def _spells(letters: bytes) -> bool:
    """Whether a text in base64 spells another text, or a stream with a mark."""
    layer = whole_stream(letters, BASE64)
    spelled = STREAMS[BASE64].unpack(letters, layer) if layer is not None else b""
    marks = tuple(mark for stream in STREAMS.values() for mark in stream.marks if len(mark) > 1 and not stream.mark_at)
    return spelled.startswith(marks) or recognised_text(MemorySource(spelled)) is not None


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
