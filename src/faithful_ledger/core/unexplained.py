"""What changes from save to save as a checksum does, and is explained by none that was found: a few bytes of which all
are others in every save, between bytes that stay; and values of a text that are digits of a digest, or are named so.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Collection, Iterator, Sequence
from itertools import pairwise
from math import isfinite
from typing import NamedTuple

from faithful_ledger.core.errors import place
from faithful_ledger.core.hashed_values import leaves_of
from faithful_ledger.core.seal_parts import Part, text_of
from faithful_ledger.core.seal_values import bare_span, is_hash

__all__ = ["Unexplained", "unexplained"]

SIZES = frozenset((4, 8, 16, 20, 28, 32, 48, 64))
DIGITS = frozenset((8, 16, 32, 40, 56, 64, 96, 128))
HEX = re.compile(r"[0-9a-f]+|[0-9A-F]+")
NAMED = re.compile(r"(?i)hash|check|crc|sum\b|sig|md5|sha\d|digest|hmac|mac\b|seal|verif")
LEAST_SAVES, MOST = 3, 4
NEAR = 4096  # bytes from either end of saves of different sizes
RESTLESS = 0.8  # of the values that bytes of a checksum could have, how many they have at least
USUAL = (1e-4, 1e7)  # fractions that are no checksum


class Unexplained(NamedTuple):
    """The bytes [start, end) of a part, in the first save; `name` is the path of a value of a text."""

    part: Part
    start: int
    end: int
    name: str = ""

    @property
    def in_words(self) -> str:
        within = f" of {self.part.words}" if self.part.words else ""
        size = self.end - self.start
        if self.name:
            return f"{self.name}{within}, {size} letters"
        return f"{place(self.start + self.part.offset)}{within}, {size} bytes"


def unexplained(parts: Sequence[Part], taken: Collection[tuple[Part, tuple[int, int]]]) -> list[Unexplained]:
    """What may be a checksum, and is not `taken`; nothing where so much is that it says nothing."""
    found: list[Unexplained] = []
    for part in parts:
        if len(part.contents) < LEAST_SAVES or part.is_view:
            continue
        looked = _values(part) if text_of(part.contents[0]) is not None else _runs(part)
        spans = [span for held, span in taken if held is part]
        found += (each for each in looked if not any(low < each.end and each.start < high for low, high in spans))
    return found if len(found) <= MOST else []


def _values(part: Part) -> Iterator[Unexplained]:
    """Values of a text that all differ."""
    leaves = leaves_of(part)
    for path, first in leaves[0].items() if leaves else ():
        texts = {each[path].text for each in leaves if path in each}
        if len(texts) < len(leaves) or not is_hash(first):
            continue
        is_digest = len({len(text) for text in texts}) == 1 and len(first.text) in DIGITS
        is_digest = is_digest and all(map(HEX.fullmatch, texts)) and not all(map(str.isdigit, texts))
        if is_digest or NAMED.search(path.rpartition(".")[2]):
            yield Unexplained(part, *bare_span(part.contents[0], first), path)


def _runs(part: Part) -> Iterator[Unexplained]:
    """Bytes of the usual sizes, from the beginning of the saves on, and from their end where they differ in size."""
    contents = part.contents
    shortest = min(map(len, contents))
    alike = len(set(map(len, contents))) == 1
    room = shortest if alike else min(shortest, NEAR)
    for from_end in (False,) if alike else (False, True):
        cut = [content[-room:] if from_end else content[:room] for content in contents]
        for start, end in _restless(cut):
            whole = alike or (start > 0 if from_end else end < room)  # what goes on is longer
            if whole and end - start in SIZES and not _are_fractions([each[start:end] for each in cut]):
                first = len(contents[0]) - room if from_end else 0
                yield Unexplained(part, first + start, first + end)


def _restless(cut: Sequence[bytes]) -> Iterator[tuple[int, int]]:
    """Bytes that change, as many as there are between two that do not, of which nearly all are others each time."""
    kinds = [len(set(column)) for column in zip(*cut, strict=True)]
    still = [-1, *(at for at, many in enumerate(kinds) if many == 1), len(kinds)]
    for before, behind in pairwise(still):
        size = behind - before - 1
        if size and sum(kinds[before + 1 : behind]) - size >= RESTLESS * size * (len(cut) - 1):
            yield before + 1, behind


def _are_fractions(raws: Sequence[bytes]) -> bool:
    """Whether four or eight bytes are usual fractions in every save."""
    code = {4: "f", 8: "d"}.get(len(raws[0]))
    if code is None:
        return False
    for order in "<>":
        values = [struct.unpack(f"{order}{code}", raw)[0] for raw in raws]
        if all(isfinite(value) and USUAL[0] <= abs(value) <= USUAL[1] for value in values):
            return True
    return False
