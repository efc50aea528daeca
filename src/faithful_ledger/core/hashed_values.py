"""Checksums of single values of a text, which are other values of it: of a number or a text alone, or with its name in
front.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import product
from math import log2
from typing import NamedTuple, TypeAlias

from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.formats.document import TextLeaf
from faithful_ledger.core.formats.json_forms import STRING
from faithful_ledger.core.nesting import spelled_as
from faithful_ledger.core.placed_seals import Placed
from faithful_ledger.core.seal_parts import SHORTEST, Part, Value, text_of
from faithful_ledger.core.seal_values import bare_span, is_hash
from faithful_ledger.core.seals.algorithms import Algorithm
from faithful_ledger.core.seals.finder import Edge, Finding
from faithful_ledger.core.seals.finder.finding import SURE
from faithful_ledger.core.seals.finder.spelling import spellings
from faithful_ledger.core.wrapping.masked import holder_and_name

__all__ = ["WIDEST", "Leaves", "hashed_values", "leaves_of", "said_by"]

LARGEST = 1 << 20  # bytes of a text
MOST_HASHES, MOST_VALUES = 256, 1024  # values that may be a checksum, and that may have one
WIDEST = 64  # bits of a checksum that count
Leaves: TypeAlias = Sequence[Mapping[str, TextLeaf]]  # of each save, by their paths


class _Rule(NamedTuple):
    """A value called `value` has its checksum beside it, called `stored`."""

    value: str
    stored: str
    algorithm: Algorithm
    form: str

    def beside(self, path: str) -> str:
        """Where the checksum of another value would be; empty where none would."""
        holder, name = holder_and_name(path)
        if self.value and self.value in self.stored:
            stored = self.stored.replace(self.value, name)
        else:
            stored = self.stored if name == self.value else ""
        return f"{holder}.{stored}" if holder and stored else stored

    def algorithm_for(self, path: str) -> Algorithm:
        name = holder_and_name(path)[1].encode()
        return replace(self.algorithm, salt_before=name) if self.algorithm.salt_before else self.algorithm


def hashed_values(part: Part, leaves: Leaves, algorithms: Sequence[Algorithm], end: Deadline) -> Iterator[Placed]:
    """What holds in every save, of values that are not the same in all of them, and then of others that have their
    checksums in the same way. `leaves` are those of the part.
    """
    if not leaves:
        return
    common = [path for path in leaves[0] if all(path in each for each in leaves)]
    changing = [path for path in common if len({each[path].text for each in leaves}) > 1]
    hashes = {path for path in changing if is_hash(leaves[0][path])}
    if not 0 < len(hashes) <= MOST_HASHES:
        return
    sealed = set[str]()
    rules = dict[_Rule, None]()
    for path, other, algorithm, form in _hashed(leaves, changing[:MOST_VALUES], hashes, algorithms, end):
        if (placed := _placed(part, leaves, (path, other), algorithm, form)) is not None:
            (holder, name), (beside, stored) = holder_and_name(path), holder_and_name(other)
            if holder == beside:
                rules[_Rule(name, stored, algorithm, form)] = None
            sealed.add(path)
            yield placed
    for rule, path in product(rules, common):
        other = rule.beside(path)
        if path not in sealed and other in leaves[0] and other != path and all(other in each for each in leaves):
            placed = _placed(part, leaves, (path, other), rule.algorithm_for(path), rule.form)
            if placed is not None:
                sealed.add(path)
                yield placed._replace(finding=replace(placed.finding, bits=max(placed.finding.bits, SURE)))


def leaves_of(part: Part) -> list[dict[str, TextLeaf]]:
    """The values of the texts of several saves by their paths; none where one is not a text, or is too large."""
    documents = [text_of(content) for content in part.contents if len(content) <= LARGEST]
    if len(documents) < len(part.contents) or None in documents or len(documents) < 2:
        return []
    return [{leaf.path: leaf for leaf in document.leaves()} for document in documents if document is not None]


def _hashed(
    leaves: Leaves, values: Sequence[str], hashes: Collection[str], algorithms: Sequence[Algorithm], end: Deadline
) -> Iterator[tuple[str, str, Algorithm, str]]:
    """The values of the first save whose checksums are other ones, with these, and how they are made and spelled."""
    by_text = defaultdict[bytes, list[str]](list)
    for path in hashes:
        by_text[leaves[0][path].text.encode()].append(path)
    for path in values:
        text, name = said_by(leaves[0][path]), holder_and_name(path)[1].encode()
        for algorithm in algorithms:
            if end.over:
                return
            for each in (algorithm, replace(algorithm, salt_before=name)) if name else (algorithm,):
                for form, stored in dict(spellings(each, each([memoryview(text)]))).items():
                    yield from ((path, other, each, form) for other in by_text.get(stored, ()) if other != path)


def said_by(leaf: TextLeaf) -> bytes:
    """What a value says, without quotes and escapes."""
    return leaf.text.encode("utf-8", "surrogateescape")


def _placed(part: Part, leaves: Leaves, paths: tuple[str, str], algorithm: Algorithm, form: str) -> Placed | None:
    """The checksum of a value, if it is what the other one is in every save. A value that is a text or packed itself
    has its seals with what is inside of it.
    """
    (path, other), texts = paths, [said_by(each[paths[0]]) for each in leaves]
    is_long = len(texts[0]) >= SHORTEST
    if is_long and (spelled_as(leaves[0][path].text) or text_of(texts[0]) is not None):
        return None
    for each, text in zip(leaves, texts, strict=True):
        if dict(spellings(algorithm, algorithm([memoryview(text)]))).get(form) != each[other].text.encode():
            return None
    start, end = bare_span(part.contents[0], leaves[0][other])
    count = len(texts)
    bits = min(algorithm.bits, WIDEST) * len(set(texts)) - log2(MOST_HASHES * MOST_VALUES)
    edges = Edge(0), Edge(0, True), Edge(start)
    found = Finding(algorithm, *edges, end - start, form, holds_in=count, of=count, bits=bits)
    return Placed(found, part, _over(part, leaves[0][path], path, texts))


def _over(part: Part, leaf: TextLeaf, path: str, texts: Sequence[bytes]) -> Part:
    """The value as a part of the text; where it is spelled in another way than JSON, what is inside of it."""
    within = f" of {part.words}" if part.words else ""
    in_quotes = leaf.raw != texts[0]
    if in_quotes and leaf.raw[:1] != b'"':
        return Part(tuple(texts), f"the text {path}{within}", part.layers, path, part)
    value = Value(path, STRING if in_quotes else "", is_single=True)
    return Part(tuple(texts), f"the value {path}{within}", part.layers, "", part, value=value)
