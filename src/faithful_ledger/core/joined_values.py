"""Checksums over several values of a text that are joined, as `42|Oriel|1340`."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from itertools import islice, permutations, product
from math import log2
from typing import NamedTuple

from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.hashed_values import WIDEST, Leaves, leaves_of, said_by
from faithful_ledger.core.placed_seals import Placed
from faithful_ledger.core.seal_parts import Part, Value
from faithful_ledger.core.seal_values import bare_span, is_hash
from faithful_ledger.core.seals.algorithms import Algorithm
from faithful_ledger.core.seals.finder import Edge, Finding
from faithful_ledger.core.seals.finder.spelling import spellings
from faithful_ledger.core.wrapping.masked import holder_and_name

__all__ = ["joined_values"]

MARKS = ("", "|", ":", ",", ";", "-", "_", " ", "&", "/", "#", "+", ".", "\n")
MOST_HASHES, MOST_GROUPS = 4, 8
MOST_IN_ORDER, MOST_IN_ANY, LONGEST = 32, 10, 3  # values of a group; those of which any so many are tried in any order
NOTHING = "null"  # no field holds it
MOST_TRIED = 1 << 18  # for each checksum


class _Way(NamedTuple):
    """Values in an order, with a mark between two."""

    paths: tuple[str, ...]
    mark: str

    def text(self, leaves: Mapping[str, bytes]) -> bytes:
        return self.mark.encode().join([leaves[path] for path in self.paths])


def joined_values(
    part: Part, algorithms: Sequence[Algorithm], explained: set[tuple[int, int]], end: Deadline
) -> Iterator[Placed]:
    """What holds in every save, of checksums in a text that are not `explained`, by where they are in the first save.
    The values are those of one object, element or section in the order of the text, or some of them in any order.
    """
    leaves = leaves_of(part)
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
    for path in hashes[:MOST_HASHES]:
        wanted = leaves[0][path].text.encode()
        known = [each for each in algorithms if _may_be(wanted, each)]
        orders = dict.fromkeys(_orders([other for other in common if other != path], set(changing)))
        ways = (_Way(order, mark) for order in orders for mark in MARKS[: None if len(order) > 1 else 1])
        for tried, (way, algorithm) in enumerate(islice(product(ways, known), MOST_TRIED), 1):
            if end.over:
                return
            forms = dict(spellings(algorithm, algorithm([memoryview(way.text(said[0]))])))
            form = next((form for form, text in forms.items() if text == wanted), "")
            if form and (placed := _placed(part, leaves, said, path, way, algorithm, form, tried)) is not None:
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
            if len(group) <= MOST_IN_ORDER or (start, stop) == (0, len(group))
        ]
        by_name = tuple(sorted(group, key=holder_and_name))
        some = [order for size in range(2, LONGEST + 1) for order in permutations(group[:MOST_IN_ANY], size)]
        yield from (order for order in (*runs, by_name, *some) if not changing.isdisjoint(order))
    if len(groups) > 1:
        yield tuple(paths)


def _may_be(text: bytes, algorithm: Algorithm) -> bool:
    """Whether a text has the length of a result."""
    decimal = () if algorithm.is_digest else range(7, len(str(1 << algorithm.bits)) + 1)
    return len(text) in decimal or any(len(text) == len(each) for _, each in spellings(algorithm, 0))


def _placed(
    part: Part,
    leaves: Leaves,
    said: Sequence[Mapping[str, bytes]],
    path: str,
    way: _Way,
    algorithm: Algorithm,
    form: str,
    tried: int,
) -> Placed | None:
    """A checksum that was found in the first save, if it holds in all of them."""
    texts = [way.text(each) for each in said]
    for each, text in zip(leaves, texts, strict=True):
        if dict(spellings(algorithm, algorithm([memoryview(text)])))[form] != each[path].text.encode():
            return None
    start, end = bare_span(part.contents[0], leaves[0][path])
    bits = min(algorithm.bits, WIDEST) * len(set(texts)) - log2(tried)
    count = len(texts)
    found = Finding(
        algorithm, Edge(0), Edge(0, True), Edge(start), end - start, form, holds_in=count, of=count, bits=bits
    )
    value = Value(paths=way.paths, between=way.mark)
    words = value.joined_in_words + (f" of {part.words}" if part.words else "")
    over = Part(tuple(texts), words, part.layers, "", part, value=value)
    return Placed(found, part, over)
