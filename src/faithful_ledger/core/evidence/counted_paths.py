"""Places in texts whose values have numbers for names, behind lists of which each says how many it has: what is behind
one is as many values further on.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from faithful_ledger.core.address import Address, format_path, parse_path
from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.evidence.place import Guide, Guides, Place
from faithful_ledger.core.evidence.sightings import Sighting
from faithful_ledger.core.formats import Document
from faithful_ledger.core.formats.document import TextLeaf

__all__ = ["counted_places"]

LARGEST_ITEM, MOST_ITEMS = 8, 10_000  # values of one item of a list, and items
LEAST_COUNTS = 3  # different numbers of items; with fewer the list has to begin directly behind its number
MOST_ALIKE = 64  # values of a text that say what was seen

Leaves = Mapping[str, Mapping[int, TextLeaf]]  # by what is behind their first number, and by that number


class _Rule(NamedTuple):
    """The first number of a path is `first` and `size` times what the value `counted_at` another one says."""

    first: int
    size: int
    counted_at: int

    @property
    def gap(self) -> int:
        """How many values are between the number and the list."""
        return self.first - self.counted_at - 1


def counted_places(documents: Sequence[Document], seen: Sequence[Sighting], end: Deadline = NEVER) -> list[Place]:
    """Where what was seen is, if a number in front says in every snapshot how many values are before it."""
    exact = all(sighting.number is not None or sighting.kind == "text" for sighting in seen)
    leaves = [_leaves(document) for document in documents] if exact and len(documents) > 1 else []
    if not leaves or not all(leaves):
        return []
    found = list[Place]()
    for rest in leaves[0]:
        places = [_saying(each.get(rest, {}), sighting) for each, sighting in zip(leaves, seen, strict=True)]
        if end.over or not all(places) or max(map(len, places)) > MOST_ALIKE:
            continue
        rule = min(_rules(leaves, places), key=lambda each: (each.gap, each.size), default=None)
        if rule is not None:
            found.append(_place(rule, rest, leaves, documents[0]))
    return found


def _leaves(document: Document) -> Leaves:
    """The values of a text by their paths, if all of these begin with a number."""
    found: dict[str, dict[int, TextLeaf]] = defaultdict(dict)
    for leaf in document.leaves():
        first, *rest = parse_path(leaf.path) if leaf.path.startswith("[") else (None,)
        if first is None or first.index is None:
            return {}
        found[format_path(tuple(rest)) if rest else ""][first.index] = leaf
    return found


def _saying(leaves: Mapping[int, TextLeaf], sighting: Sighting) -> set[int]:
    """The numbers of the values that say what was seen."""
    wanted = sighting.number if sighting.number is not None else sighting.text
    return {number for number, leaf in leaves.items() if leaf.value == wanted}


def _rules(leaves: Sequence[Leaves], places: Sequence[set[int]]) -> Iterator[_Rule]:
    for count in range(min(map(min, places))):
        counts = [_count(each.get("", {}).get(count)) for each in leaves]
        numbers = [number for number in counts if number is not None]
        if len(numbers) < len(counts) or len(set(numbers)) < 2:
            continue
        for size in range(1, LARGEST_ITEM + 1):
            firsts = [{at - size * many for at in each} for each, many in zip(places, numbers, strict=True)]
            for first in set.intersection(*firsts):
                rule = _Rule(first, size, count)
                if rule.gap >= 0 and (len(set(numbers)) >= LEAST_COUNTS or rule.gap == 0):
                    yield rule


def _count(leaf: TextLeaf | None) -> int | None:
    value = leaf.value if leaf is not None else None
    if value is None or isinstance(value, str) or value.denominator != 1 or not 0 <= value <= MOST_ITEMS:
        return None
    return int(value)


def _place(rule: _Rule, rest: str, leaves: Sequence[Leaves], document: Document) -> Place:
    name = f"count_{rule.counted_at}"
    many = [_count(each[""][rule.counted_at]) or 0 for each in leaves]
    held = [each[rest][rule.first + rule.size * number] for each, number in zip(leaves, many, strict=True)]
    times = f"{rule.size}*{name}" if rule.size > 1 else name
    place = Place(tuple(leaf.start for leaf in held), held[0].stored_as, len(held), len(held))
    place.found_by, place.format = Address.by_path(f"[{{{rule.first} + {times}}}]{rest}"), document.name
    place.values = tuple(value if isinstance(value := leaf.value, str) else float(value) for leaf in held)
    items = f"{rule.size} values each" if rule.size > 1 else "one value each"
    words = f"behind a list whose number is at [{rule.counted_at}], {items}"
    place.guides = Guides((Guide(name, f"[{rule.counted_at}]", "number", "how many there are in a list"),), words)
    return place
