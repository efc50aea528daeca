"""Numbers that follow another one: what it lacks to a maximum, it and something, it in another storage, or it hidden
under a key. Games keep such shadows to notice that a value was changed from outside.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import pairwise
from math import log2

import numpy as np

from faithful_ledger.core.address import Address
from faithful_ledger.core.evidence.hidden_paths import in_layer
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.evidence.places import MANY, SMALL, hidden_places
from faithful_ledger.core.evidence.reading import STORAGES, Array, read_numbers
from faithful_ledger.core.evidence.sightings import Sighting
from faithful_ledger.core.formats import Document, recognised_together
from faithful_ledger.core.layers import MASKED, LayerSpec
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.storage import NUMBERS
from faithful_ledger.core.wrapping.masked import holder_and_name, whole_number

__all__ = ["shadows_of"]

WHOLE = ("u32le", "u32be", "u64le", "u64be", "u16le", "u16be", "i32le", "i32be", "i64le", "i64be", "i16le", "i16be")
FRACTIONS = ("f64le", "f64be", "f32le", "f32be")
TIMES = (1, -1)  # and something that stays
EXACT = 1 << 53
LARGEST_TEXT = 1 << 18  # bytes
OF_TEXT = 16  # bytes of a text for each number in it
LEAST_EVIDENCE = 10.0  # bits beyond those that chance needs
MOST = 4


def shadows_of(
    place: Place, known: Sequence[Place], contents: Sequence[Array], seen: Sequence[Sighting]
) -> list[Place]:
    """The numbers that follow the whole number at a place in every snapshot, each as far from it in all of them, or
    from the beginning or the end, but for the places that are `known` to say the same; in texts those at the same
    paths. None where too few different numbers were seen, so that chance explains some.
    """
    numbers = _numbers(place, seen)
    size = max(content.size for content in contents)
    largest, tries = (SMALL, size) if place.path is None else (LARGEST_TEXT, size // OF_TEXT)
    if len(set(numbers)) < MANY or size > largest or _evidence(numbers) < log2(max(tries, 2)) + LEAST_EVIDENCE:
        return []
    taken = [_span(each) for each in (place, *known)]
    found = list[Place]()
    every = _in_texts(place, numbers, contents) if place.path is not None else _in_bytes(place, numbers, contents, seen)
    for each in every:
        if len(found) < MOST and not any(_overlap(_span(each), other) for other in taken):
            taken.append(_span(each))
            each.file = place.file
            if not each.within:
                each.layer, each.route = place.layer, place.route
                each.within, each.layers = place.within, place.layers
            found.append(each)
    return found


def _in_bytes(place: Place, numbers: Sequence[int], contents: Sequence[Array], seen: Sequence[Sighting]) -> list[Place]:
    """The likeliest first: those of its own width and order."""
    sizes = [content.size for content in contents]
    found = list[Place]()
    for starts, most in _windows(place.offsets, sizes):
        parts = [content[start : start + most] for content, start in zip(contents, starts, strict=True)]
        for each in (*_counted(place, numbers, parts), *hidden_places(parts, seen)):
            each.offsets = tuple(start + each.offsets[0] for start in starts)
            found.append(each)
    return sorted(found, key=lambda each: each.stored_as[1:] != place.stored_as[1:])


def _windows(offsets: Sequence[int], sizes: Sequence[int]) -> Iterator[tuple[tuple[int, ...], int]]:
    """Where the same part of every snapshot begins, and its size: around the offsets, from the start, to the end."""
    front, behind = min(offsets), min(size - at for size, at in zip(sizes, offsets, strict=True))
    yield tuple(at - front for at in offsets), front + behind
    if len(set(offsets)) > 1:
        yield (0,) * len(sizes), min(sizes)
    if len({size - at for size, at in zip(sizes, offsets, strict=True)}) > 1:
        yield tuple(size - min(sizes) for size in sizes), min(sizes)


def _in_texts(place: Place, numbers: Sequence[int], contents: Sequence[Array]) -> Iterator[Place]:
    """Whole numbers at the same path of every text."""
    documents = recognised_together([MemorySource(content.tobytes()) for content in contents])
    every = [{leaf.path: leaf for leaf in document.leaves() if leaf.is_number} for document in documents]
    held = dict[str, tuple[int, ...]]()
    for path in every[0] if every else ():
        whole = [number for each in every if path in each and (number := whole_number(each[path])) is not None]
        if len(whole) == len(every):
            held[path] = tuple(whole)
    for path, whole_numbers in held.items():
        for times in TIMES if len(set(whole_numbers)) >= MANY else ():
            left = {value - times * number for value, number in zip(whole_numbers, numbers, strict=True)}
            if len(left) == 1 and (times, left) != (1, {0}):
                starts, stored_as = tuple(each[path].start for each in every), every[0][path].stored_as
                values = tuple(map(float, whole_numbers))
                made = Place(starts, stored_as, place.fits, place.of, times, float(left.pop()), values=values)
                made.found_by, made.format = Address.by_path(path), place.format
                yield made
    if not place.route:
        yield from _hidden_in_texts(place, numbers, documents, held)


def _hidden_in_texts(
    place: Place, numbers: Sequence[int], documents: Sequence[Document], held: Mapping[str, tuple[int, ...]]
) -> Iterator[Place]:
    """Numbers of texts that are it XORed with another one beside them, in the layer in which they say the same."""
    keys = {(holder_and_name(path)[0], whole): holder_and_name(path)[1] for path, whole in held.items()}
    done = set[tuple[str, str]]()
    for path, whole in held.items():
        holder, name = holder_and_name(path)
        key = tuple(value ^ number for value, number in zip(whole, numbers, strict=True))
        mask = keys.get((holder, key), name) if any(key) else name
        if mask != name and (mask, name) not in done:  # of two that hide each other the first is the number
            done.add((name, mask))
            layer = LayerSpec(MASKED, number=name, mask=mask)
            if (made := in_layer(documents, layer, path, place)) is not None:
                made.beside.append(f"XORed with {mask}")
                yield made


def _span(place: Place) -> tuple[int, int]:
    return place.offsets[0], place.offsets[0] + place.size(0, b"")


def _overlap(one: tuple[int, int], other: tuple[int, int]) -> bool:
    return one[0] < other[1] and other[0] < one[1]


def _numbers(place: Place, seen: Sequence[Sighting]) -> list[int]:
    """What a plain whole number says in each snapshot; none where it is something else."""
    storage = STORAGES.get(place.stored_as)
    hidden = place.mask or place.bits_in or place.guides or place.rounding
    is_plain = not hidden and (place.scale, place.bias) == (1, 0) and place.fits == place.of == len(seen)
    is_whole = place.path is not None or (storage is not None and storage.family in ("whole", "signed"))
    if (
        not is_plain
        or not is_whole
        or any(not isinstance(value, float) or not value.is_integer() for value in place.values)
    ):
        return []
    return list(map(int, place.values))


def _evidence(numbers: Sequence[int]) -> float:
    """How many bits it says that another number changes as these do."""
    return sum(log2(abs(after - before) + 1) for before, after in pairwise(numbers))


def _counted(place: Place, numbers: Sequence[int], parts: Sequence[Array]) -> Iterator[Place]:
    """Numbers that are these, or their negatives, and something that is the same in all snapshots."""
    changes = next(j for j, number in enumerate(numbers) if number != numbers[0])
    for name in (*WHOLE, *FRACTIONS):
        storage = NUMBERS[name]
        offsets = np.arange(max(parts[0].size - storage.least_size + 1, 0))
        differs = np.convolve(parts[0] != parts[changes], np.ones(storage.least_size, bool))
        offsets = offsets[differs[storage.least_size - 1 :][: offsets.size] > 0]
        columns = [read_numbers(storage, part, offsets)[0] for part in parts]
        for times in TIMES:
            left = [column - times * number for column, number in zip(columns, numbers, strict=True)]
            fits = np.logical_and.reduce([each == left[0] for each in left]) & (np.abs(left[0]) < EXACT)
            if storage.family == "fraction":
                fits &= left[0] == 0
            for index in np.flatnonzero(fits)[:MOST].tolist():
                where = (int(offsets[index]),) * len(parts)
                values = tuple(float(column[index]) for column in columns)
                yield Place(where, name, place.fits, place.of, times, float(left[0][index]), values=values)
