"""Whole numbers of texts that are hidden under a key, in the layer in which they say what they mean."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from itertools import islice, permutations

from faithful_ledger.core.address import Address
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.evidence.sightings import Sighting
from faithful_ledger.core.formats import Document, recognised_together
from faithful_ledger.core.layers import MASKED, MASKED_FRACTIONS, LayerSpec
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.wrapping import unwrap
from faithful_ledger.core.wrapping.masked import bits_of, holder_and_name, whole_number

__all__ = ["constant_masks", "in_layer", "masks_beside"]

LEAST_DIFFERENT, MOST_READ = 3, 20_000  # numbers that were seen; values of a text
MOST_NAMES, LARGEST_WHOLE, WORD = 8, 3e38, (1 << 32) - 1  # whole numbers of one group; of four bytes
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


def masks_beside(documents: Sequence[Document], seen: Sequence[Sighting]) -> Iterator[Place]:
    """Values that are what was seen, XORed with another one beside them: whole numbers, and the bytes of fractions."""
    numbers = [float(each.number) for each in seen if each.number is not None]
    if len(numbers) < len(seen) or len(set(numbers)) < LEAST_DIFFERENT or max(map(abs, numbers)) > LARGEST_WHOLE:
        return
    every = [dict(islice(_whole_numbers(each), MOST_READ)) for each in documents]
    hidden = {MASKED: [int(number) for number in numbers] if all(map(float.is_integer, numbers)) else []}
    hidden |= {MASKED_FRACTIONS: [bits_of(number) for number in numbers]}
    groups = defaultdict[str, list[str]](list)
    for path in every[0]:
        if all(path in each for each in every):
            groups[holder_and_name(path)[0]].append(path)
    for paths in groups.values():
        for path, other in permutations(paths, 2) if len(paths) <= MOST_NAMES else ():
            for kind, wanted in hidden.items():
                counting = WORD if kind == MASKED_FRACTIONS else -1  # of the bits
                if wanted and all(
                    (each[path] ^ each[other] ^ bits) & counting == 0 for each, bits in zip(every, wanted, strict=True)
                ):
                    layer = LayerSpec(kind, number=holder_and_name(path)[1], mask=holder_and_name(other)[1])
                    like = Place((), "", len(seen), len(seen), values=tuple(numbers))
                    if (made := in_layer(documents, layer, path, like)) is not None:
                        yield made


def _whole_numbers(document: Document) -> Iterator[tuple[str, int]]:
    for leaf in document.leaves():
        if (number := whole_number(leaf)) is not None:
            yield leaf.path, number


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
