"""Texts that hide values in their strings: each for itself, or one whose key or vector is in another."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from functools import lru_cache
from itertools import islice, permutations
from typing import NamedTuple

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.formats import looks_like_text, recognised_text
from faithful_ledger.core.layers import JOINED, STREAMS, STRINGS, LayerSpec
from faithful_ledger.core.layers.base64_text import BASE64
from faithful_ledger.core.layers.hex_text import HEX, is_hex
from faithful_ledger.core.profile.layers import whole_stream
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.unlocking import Keys, find_unlocking, find_unlocking_each, gained
from faithful_ledger.core.wrapping.joined import SIZES, spelled_parts
from faithful_ledger.core.wrapping.strings import may_be_hidden, says_letters

__all__ = ["find_hidden_strings", "find_parts_under_key"]

SPELLINGS = (BASE64, HEX)
LEAST_BYTES = 16  # that strings hold together, to be no words that look so by chance
LEAST_STRINGS = 2
SHORTEST = 2  # letters that spell a byte
LEAST_DIGITS = 8  # in hexadecimal, which letters of base64 are hardly by chance
LARGEST = 1 << 20  # bytes of a text that is looked into
MOST_READ = 1000  # strings of a text
MOST_TRIED = 12  # strings of a save a key is tried on
LONGEST_TRIED = 4096  # bytes
TAG, VECTORS = 16, (12, 16)  # bytes


class _Spelled(NamedTuple):
    """The strings of a text that spell bytes, as these; of `strings` there are so many."""

    values: list[bytes]
    strings: int


def find_hidden_strings(contents: Sequence[bytes]) -> LayerSpec | None:
    """The layer through which the strings of all texts say what they hold, where most of them only spell letters."""
    if max(map(len, contents)) > LARGEST or not all(map(looks_like_text, contents)):
        return None
    for kind in SPELLINGS:
        found = _spelled(contents, kind)
        if found and all(map(_say_letters, found)):
            return LayerSpec(STRINGS, through=(LayerSpec(kind),))
    return None


def find_parts_under_key(contents: Sequence[bytes], keys: Keys, end: Deadline = NEVER) -> tuple[LayerSpec, ...]:
    """The layers through which the secret of `keys` opens what texts hide in their strings; none where that is in one
    string for itself, or the secret opens nothing.
    """
    if not keys.secret or not all(map(looks_like_text, contents)) or find_hidden_strings(contents) is not None:
        return ()
    for as_it_is in (True, False):
        for find in (_each, _joined):
            if layers := find(contents, keys, end, as_it_is=as_it_is):
                return layers
    return ()


def _each(contents: Sequence[bytes], keys: Keys, end: Deadline, *, as_it_is: bool) -> tuple[LayerSpec, ...]:
    """Through which each string of the texts opens for itself."""
    for kind in SPELLINGS:
        found = _spelled(contents, kind)
        if not found or any(len(each.values) < LEAST_STRINGS for each in found):
            continue
        values = list(dict.fromkeys(value for each in found for value in _longest(each.values)))
        layer = find_unlocking_each(values, keys, end, as_it_is=as_it_is)
        if layer is not None:
            return (LayerSpec(STRINGS, through=(LayerSpec(kind), layer)),)
    return ()


def _joined(contents: Sequence[bytes], keys: Keys, end: Deadline, *, as_it_is: bool) -> tuple[LayerSpec, ...]:
    """Through which what the texts spell in several places opens, an initial vector, a salt or a tag beside the
    content; none where the content alone opens as well.
    """
    parts = [spelled_parts(content) for content in contents]
    sizes = {tuple(len(each.data) if len(each.data) in SIZES else 0 for each in of_one) for of_one in parts}
    if len(sizes) != 1 or not all(parts):
        return ()
    order = sizes.pop()
    longest = max(range(len(order)), key=lambda number: len(parts[0][number].data))
    if any(len(of_one[longest].data) < max(len(each.data) for each in of_one) for of_one in parts):
        return ()
    for chosen in _orders(order, longest):
        if end.over:
            break
        joined = LayerSpec(JOINED, parts=tuple(number + 1 for number in chosen))
        bodies = [b"".join(of_one[number].data for number in chosen) for of_one in parts]
        for layer in find_unlocking(bodies, keys, end, as_it_is=as_it_is)[:1]:
            alone = [of_one[longest].data for of_one in parts]
            without = find_unlocking(alone, keys, end, as_it_is=as_it_is)[:1]
            if not without or gained(bodies, layer) > gained(alone, without[0]):
                return joined, layer
    return ()


def _orders(sizes: Sequence[int], longest: int) -> Iterator[tuple[int, ...]]:
    """In which order parts of some sizes may go with the longest one: a vector or a salt in front, or both, and a tag
    behind.
    """
    others = [number for number in range(len(sizes)) if number != longest]
    yield from ((number, longest) for number in others)
    for first, second in permutations(others, 2):
        if sizes[second] == TAG and sizes[first] in VECTORS:
            yield first, longest, second
        if sizes[second] in VECTORS:
            yield first, second, longest
    for salt, vector, tag in permutations(others, 3):
        if sizes[tag] == TAG and sizes[vector] in VECTORS:
            yield salt, vector, longest, tag


def _longest(values: list[bytes]) -> list[bytes]:
    return sorted((value for value in values if len(value) <= LONGEST_TRIED), key=len, reverse=True)[:MOST_TRIED]


def _spelled(contents: Sequence[bytes], kind: str) -> list[_Spelled]:
    """What the strings of each text spell; nothing where one is in no known format."""
    found = list[_Spelled]()
    for content in contents:
        texts = _strings(content) if len(content) <= LARGEST else None
        if texts is None:
            return []
        values = [value for text in texts if len(text) >= SHORTEST and (value := _bytes_of(text, kind))]
        found.append(_Spelled(values, len(texts)))
    return found


@lru_cache(maxsize=8)  # of the saves that are looked into together, which is asked for each spelling, and with a key
def _strings(content: bytes) -> tuple[bytes, ...] | None:
    """The first strings of a text that may spell bytes; None where it is in no known format."""
    document = recognised_text(MemorySource(content))
    if document is None:
        return None
    leaves = (leaf for leaf in islice(document.leaves(), MOST_READ) if may_be_hidden(document, leaf))
    return tuple(leaf.text.encode("utf-8", "replace") for leaf in leaves)


def _bytes_of(text: bytes, kind: str) -> bytes:
    """What letters spell; nothing where not all of them do."""
    with suppress(LedgerError):
        is_digest = kind == BASE64 and len(text) >= LEAST_DIGITS and is_hex(text)
        if not is_digest and (layer := whole_stream(text, kind)) is not None:
            return STREAMS[kind].unpack(text, layer, len(text))
    return b""


def _say_letters(spelled: _Spelled) -> bool:
    """Whether most strings of a text spell letters. Digits alone spell other digits, so they do not count."""
    saying = [value for value in spelled.values if says_letters(value)]
    return len(saying) >= LEAST_STRINGS and sum(map(len, saying)) >= LEAST_BYTES and 2 * len(saying) > spelled.strings
