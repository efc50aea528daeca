"""Whether numbers of a text are XORed with others beside them: two of the same names, again and again, that are both
large and agree in their highest bits. Times and limits look like that as well, so it is asked only where nothing else
explains what was seen.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from itertools import islice, permutations

from faithful_ledger.core.formats import looks_like_text, recognised_text
from faithful_ledger.core.layers import MASKED, LayerSpec
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.wrapping.masked import holder_and_name, whole_number

__all__ = ["find_masked"]

LARGEST = 4 << 20  # bytes of a text that is looked into
MOST_READ = 20_000  # values of a text
MOST_NAMES = 8  # whole numbers of one group
ENOUGH = 24  # bits by which masks agree with what they mask


def find_masked(contents: Sequence[bytes]) -> LayerSpec | None:
    """The layer through which the numbers of all texts say what they mean."""
    if max(map(len, contents)) > LARGEST or not all(map(looks_like_text, contents)):
        return None
    bits: dict[tuple[str, str], float] = defaultdict(float)
    for content in sorted(contents, key=len, reverse=True):
        for group in _groups(content):
            for number, mask in permutations(group, 2):
                bits[number, mask] += _agreement(group[number], group[mask])
        if max(bits.values(), default=0.0) <= 0:  # the longest text has whatever others have
            return None
    # Of two that mask each other, the one called a key is the mask, or the one that is written first.
    best = max(bits, key=lambda pair: (bits[pair], "key" in pair[1].lower()), default=None)
    if best is None or bits[best] < ENOUGH:
        return None
    return LayerSpec(MASKED, number=best[0], mask=best[1])


def _groups(content: bytes) -> list[dict[str, int]]:
    """The whole numbers of each group of a text, by their names."""
    document = recognised_text(MemorySource(content))
    groups: dict[str, dict[str, int]] = defaultdict(dict)
    for leaf in islice(document.leaves(), MOST_READ) if document is not None else ():
        if (number := whole_number(leaf)) is not None:
            holder, name = holder_and_name(leaf.path)
            groups[holder][name] = number
    return [group for group in groups.values() if 2 <= len(group) <= MOST_NAMES]


def _agreement(number: int, mask: int) -> float:
    """How many of the highest bits of two numbers are the same, beyond those of chance; below 0 where they differ."""
    longest = max(number.bit_length(), mask.bit_length())
    if (number < 0) != (mask < 0) or not longest:
        return -longest / 2
    return float(longest - (number ^ mask).bit_length()) - 2
