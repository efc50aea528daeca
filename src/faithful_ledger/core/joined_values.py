"""Checksums over several values of a text that are joined, as `42|Oriel|1340`."""

from __future__ import annotations

import base64
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from itertools import islice, permutations, product
from math import log2
from typing import NamedTuple

from faithful_ledger.core.address import name_in_text
from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.hashed_values import WIDEST, Leaves, said_by
from faithful_ledger.core.placed_seals import Placed
from faithful_ledger.core.seal_parts import Part, Value
from faithful_ledger.core.seal_values import bare_span, is_hash
from faithful_ledger.core.seals.algorithms import Algorithm
from faithful_ledger.core.seals.finder import Edge, Finding
from faithful_ledger.core.seals.finder.spelling import spellings
from faithful_ledger.core.wrapping.masked import holder_and_name

__all__ = ["joined_values"]

MARKS = ("", "|", ":", ",", ";", "-", "_", " ", "&", "/", "#", "+", ".", "\n")
NAMED = ((None, MARKS), ("=", ("&", ";", ",", "|", "\n", "")), (":", (",", ";", "|", "\n", "")))  # behind each name
MOST_HASHES, MOST_GROUPS = 4, 8
MOST_IN_ORDER, MOST_IN_ANY, LONGEST = 32, 10, 3  # values of a group; those of which any so many are tried in any order
MOST_TOGETHER = 64  # values of one checksum
NOTHING = "null"  # no field holds it
MOST_TRIED = 1 << 18  # for each checksum


class _Way(NamedTuple):
    """Values in an order, with a mark between two; each with its name and something behind that, if it is `named`."""

    paths: tuple[str, ...]
    mark: str
    named: str | None

    def text(self, said: Mapping[str, bytes], names: Mapping[str, bytes]) -> bytes:
        mark = self.mark.encode()
        if self.named is None:
            return mark.join([said[path] for path in self.paths])
        behind = self.named.encode()
        return mark.join([names[path] + behind + said[path] for path in self.paths])


class _Values(NamedTuple):
    """The values that all saves have: where they are, what they say in each save, and how they are called."""

    leaves: Leaves
    said: Sequence[Mapping[str, bytes]]
    names: Mapping[str, bytes]

    def texts(self, way: _Way) -> list[bytes]:
        return [way.text(said, self.names) for said in self.said]


def joined_values(
    part: Part, leaves: Leaves, algorithms: Sequence[Algorithm], explained: set[tuple[int, int]], end: Deadline
) -> Iterator[Placed]:
    """What holds in every save, of checksums in a text that are not `explained`, by where they are in the first save.
    The values are those of one object, element or section in the order of the text, or some of them in any order;
    `leaves` are all of the part.
    """
    if not leaves:
        return
    common = [path for path in leaves[0] if all(path in each and each[path].text != NOTHING for each in leaves)]
    changing = [path for path in common if len({each[path].text for each in leaves}) > 1]
    hashes = [
        path
        for path in changing
        if is_hash(leaves[0][path]) and bare_span(part.contents[0], leaves[0][path]) not in explained
    ]
    said = [{path: said_by(each[path]) for path in common} for each in leaves]
    values = _Values(leaves, said, {path: name_in_text(path).encode() for path in common})
    for path in hashes[:MOST_HASHES]:
        numbers = _as_numbers(leaves[0][path].text)
        known = [each for each in algorithms if not numbers.keys().isdisjoint(_widths(each))]
        orders = dict.fromkeys(_orders([other for other in common if other != path], set(changing)))
        ways = (_Way(order, mark, named) for order in orders for named, marks in NAMED for mark in marks)
        for tried, (way, algorithm) in enumerate(islice(product(ways, known), MOST_TRIED), 1):
            if end.over:
                return
            result = algorithm([memoryview(way.text(said[0], values.names))])
            if all(result != numbers.get(width) for width in _widths(algorithm)):
                continue
            if (placed := _placed(part, values, path, way, algorithm, tried)) is not None:
                yield placed
                break


def _orders(paths: Sequence[str], changing: set[str]) -> Iterator[tuple[str, ...]]:
    """Values that may be covered together, the likeliest first; at least one of them changes from save to save."""
    groups = defaultdict[str, list[str]](list)
    for path in paths:
        groups[holder_and_name(path)[0]].append(path)
    for group in islice(groups.values(), MOST_GROUPS):
        runs = [
            tuple(group[start:stop])
            for start in range(min(len(group), MOST_IN_ORDER))
            for stop in range(len(group), start + 1, -1)
            if len(group) <= MOST_IN_ORDER or (start, stop) == (0, min(len(group), MOST_TOGETHER))
        ]
        by_name = tuple(sorted(group, key=holder_and_name)) if len(group) <= MOST_TOGETHER else ()
        some = [order for size in range(2, LONGEST + 1) for order in permutations(group[:MOST_IN_ANY], size)]
        yield from (order for order in (*runs, by_name, *some) if not changing.isdisjoint(order))
    if 1 < len(groups) <= len(paths) <= MOST_TOGETHER:
        yield tuple(paths)


def _widths(algorithm: Algorithm) -> tuple[int, ...]:
    """How many bits what is stored of it may have; 0 stands for a decimal number."""
    return (algorithm.bits,) if algorithm.is_digest else (algorithm.bits, 0)


def _as_numbers(text: str) -> dict[int, int]:
    """The results that a text may spell, by how many bits they have; 0 stands for a decimal number."""
    found: dict[int, int] = {}
    digits = text.replace("-", "")
    if digits.isdigit() and text.lstrip("-") == digits:
        found[0] = int(text) if int(text) >= 0 else int(text) + (1 << (32 if int(text) >= -(1 << 31) else 64))
    with suppress(ValueError):
        found[4 * len(digits)] = int(digits, 16)
    with suppress(ValueError):
        raw = base64.b64decode(text, validate=True)
        found.setdefault(8 * len(raw), int.from_bytes(raw, "big"))
    return found


def _placed(part: Part, values: _Values, path: str, way: _Way, algorithm: Algorithm, tried: int) -> Placed | None:
    """A checksum that was found in the first save, if it holds in all of them."""
    texts, leaves = values.texts(way), values.leaves
    spelled = [dict(spellings(algorithm, algorithm([memoryview(text)]))) for text in texts]
    stored = [each[path].text.encode() for each in leaves]
    holding = (form for form in spelled[0] if [each[form] for each in spelled] == stored)
    if (form := next(holding, None)) is None:
        return None
    start, end = bare_span(part.contents[0], leaves[0][path])
    bits = min(algorithm.bits, WIDEST) * len(set(texts)) - log2(tried)
    count = len(texts)
    found = Finding(
        algorithm, Edge(0), Edge(0, True), Edge(start), end - start, form, holds_in=count, of=count, bits=bits
    )
    value = Value(paths=way.paths, between=way.mark, named=way.named)
    words = value.joined_in_words + (f" of {part.words}" if part.words else "")
    over = Part(tuple(texts), words, part.layers, "", part, value=value)
    return Placed(found, part, over)
