"""Whole numbers of texts that are hidden under a key, in the layer in which they say what they mean."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice

from faithful_ledger.core.address import Address
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.evidence.sightings import Sighting
from faithful_ledger.core.formats import Document, recognised_together
from faithful_ledger.core.layers import MASKED, LayerSpec
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.wrapping import unwrap
from faithful_ledger.core.wrapping.masked import holder_and_name, whole_number

__all__ = ["constant_masks", "in_layer"]

LEAST_DIFFERENT, MOST_READ = 3, 20_000  # numbers that were seen; values of a text
LEAST_KEY = 256  # a smaller one is hardly a key


def in_layer(documents: Sequence[Document], layer: LayerSpec, path: str, like: Place) -> Place | None:
    """The place at a path of the texts that are inside of others; it explains and says as much as another one."""
    data = [unwrap(bytes(each.source.read(0, each.source.size)), [layer])[-1].data for each in documents]
    inner = recognised_together([MemorySource(each) for each in data])
    leaves = [next((leaf for leaf in each.leaves() if leaf.path == path), None) for each in inner]
    starts = tuple(leaf.start for leaf in leaves if leaf is not None)
    if not leaves or leaves[0] is None or len(starts) < len(documents):
        return None
    made = Place(starts, leaves[0].stored_as, like.fits, like.of, values=like.values, layer=layer.kind)
    made.found_by, made.format = Address.by_path(path), inner[0].name
    made.layers = made.within = (layer,)
    made.route = (layer.step,)
    return made


def constant_masks(documents: Sequence[Document], seen: Sequence[Sighting]) -> Iterator[Place]:
    """Values that are what was seen, XORed with one number in all texts."""
    numbers = [int(each.number) for each in seen if each.number is not None and each.number.denominator == 1]
    if len(numbers) < len(seen) or len(set(numbers)) < LEAST_DIFFERENT or min(numbers) < 0:
        return
    first, *others = ({leaf.path: leaf for leaf in islice(each.leaves(), MOST_READ)} for each in documents)
    for path, leaf in first.items():
        stored = whole_number(leaf)
        if stored is None or (key := stored ^ numbers[0]) < LEAST_KEY:
            continue
        there = [whole_number(each[path]) if path in each else None for each in others]
        if all(value is not None and value ^ key == number for value, number in zip(there, numbers[1:], strict=True)):
            name = holder_and_name(path)[1]
            layer = LayerSpec(MASKED, key.to_bytes(-(-key.bit_length() // 8), "big"), number=name)
            values = tuple(map(float, numbers))
            made = in_layer(documents, layer, path, Place((), "", len(seen), len(seen), values=values))
            if made is not None:
                yield made
