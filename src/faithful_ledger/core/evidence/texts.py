"""Places in text saves, which are paths."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Container, Iterable, Iterator, Sequence
from fractions import Fraction
from itertools import islice, product
from typing import NamedTuple, TypeAlias

from faithful_ledger.core.address import Address, parse_path
from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.evidence.exact import ENOUGH_TO_DOUBT, telling
from faithful_ledger.core.evidence.hidden_paths import constant_masks, masks_beside
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.evidence.reading import SCALES
from faithful_ledger.core.evidence.sightings import Sighting, is_shown_as, says_much
from faithful_ledger.core.formats import Document
from faithful_ledger.core.formats.document import TextLeaf
from faithful_ledger.core.formats.keyed_paths import KeyedPaths
from faithful_ledger.core.formats.nested import TEXT
from faithful_ledger.core.nesting import all_leaves
from faithful_ledger.core.storage.grouped import grouped_number
from faithful_ledger.core.storage.numbers import parse_decimal
from faithful_ledger.core.storage.spelled import exact_number

__all__ = ["path_places"]

AT_ONCE = 1 << 12
LARGE, MOST_AT_ONCE = 1 << 20, 200  # bytes of a text; and numbers in it that are looked at where they are
LARGEST_KEYED, MOST_ALIKE = 4 << 20, 64  # bytes of a text whose records are compared; values that say what was seen
MOST_TIMES = 10_000  # as much as what was seen
HAIR = 1e-6  # by which a fraction may be off
ROUNDED_SCALES = (1.0, 0.01)
ROUNDED = (("nearest", -HAIR), ("floor", HAIR), ("nearest", HAIR))  # a half in every save was cut off


class _Held(NamedTuple):
    """What is at a path in one snapshot."""

    start: int
    value: Fraction | str


_Candidate: TypeAlias = tuple[str, str, list[_Held]]  # a path, how it is stored, and what is there in each snapshot


def path_places(documents: Sequence[Document], seen: Sequence[Sighting], end: Deadline = NEVER) -> list[Place]:
    """Numbers and texts at the same path in the text of every snapshot; those found until the time is up."""
    sighted = [j for j, sighting in enumerate(seen) if sighting.kind != "any"]
    doubting = len(sighted) >= ENOUGH_TO_DOUBT
    least = max(len(sighted) - doubting, 1)
    is_large = all(document.source.size >= LARGE for document in documents)
    # Going through all values of a large text takes long; the digits of a number are found at once.
    for values_of in (_with_digits, _with_values) if is_large else (_with_values,):
        candidates = _candidates(documents, seen, end, values_of, doubting=doubting)
        if found := list(_fitting(candidates, documents[0], seen, sighted, least)):
            return [_keyed(place, documents) for place in found]
    if not is_large and (found := list(_in_other_records(documents, seen, end))):
        return found
    found = list(_grouped(documents, seen, sighted, end)) or list(_rounded(documents, seen, sighted, end))
    if not found and not is_large and not end.over:
        found = list(masks_beside(documents, seen)) or list(constant_masks(documents, seen))
        if found or not says_much([seen[j].number for j in sighted]):
            return found
        found = list(_apart(documents, seen, sighted, end))
    return [_keyed(place, documents) for place in found]


def _fitting(
    candidates: Iterable[_Candidate], document: Document, seen: Sequence[Sighting], sighted: list[int], least: int
) -> Iterator[Place]:
    """Those of some values of a text that explain at least so many sightings, each by the first scale that does."""
    for path, stored_as, held in candidates:
        if not _may_fit(held, seen, sighted, least):
            continue
        values = [each.value for each in held]
        for scale in SCALES:
            fits = sum(_says(values, j, seen, scale) for j in sighted)
            if fits >= least:
                place = Place(tuple(each.start for each in held), stored_as, fits, len(sighted), float(scale))
                yield _described(place, document, path, values)
                break


def _keyed(place: Place, documents: Sequence[Document]) -> Place:
    """A place in a record of a list by the keys of that, where it has some: in other saves it may be another one."""
    path = place.path
    if path is None or "[" not in path or max(document.source.size for document in documents) > LARGEST_KEYED:
        return place
    keyed = KeyedPaths({leaf.path: leaf for leaf in documents[0].leaves()})
    for known in keyed.of(path, moved=False):
        if [each.start for each in _held_in_all(documents, known)] == list(place.offsets):
            place.found_by = Address.by_path(known)
            break
    return place


def _in_other_records(documents: Sequence[Document], seen: Sequence[Sighting], end: Deadline) -> Iterator[Place]:
    """Values in the record of a list that says the same of itself in every snapshot, wherever it is in the list."""
    exact = all(sighting.number is not None or sighting.kind == "text" for sighting in seen)
    if not exact or max(document.source.size for document in documents) > LARGEST_KEYED:
        return
    paths: list[list[str]] = []
    for document, sighting in zip(documents, seen, strict=True):
        leaves = {leaf.path: leaf for leaf in _leaves(document, end)}
        keyed, wanted = KeyedPaths(leaves), sighting.number if sighting.number is not None else sighting.text
        here = [path for path, leaf in leaves.items() if "[" in path and leaf.value == wanted][:MOST_ALIKE]
        paths.append([known for path in here for known in keyed.of(path, moved=True)])
        if not paths[-1]:
            return
    for path in paths[0]:
        held = _held_in_all(documents, path) if all(path in each for each in paths[1:]) else []
        if held:
            first = next(iter(documents[0].leaves_at([held[0].start])))
            place = Place(tuple(each.start for each in held), first.stored_as, len(seen), len(seen))
            yield _described(place, documents[0], path, [each.value for each in held])
            return


def _apart(
    documents: Sequence[Document], seen: Sequence[Sighting], sighted: list[int], end: Deadline
) -> Iterator[Place]:
    """Numbers that are what was seen and any constant, or the rest to one, or any number of times it."""
    numbers = [seen[j].number or Fraction(0) for j in sighted]
    leaves = [{leaf.path: leaf for leaf in _leaves(document, end) if leaf.is_number} for document in documents]
    for path, leaf in leaves[0].items():
        held = [each[path] for each in leaves if path in each]
        values = [held[j].value for j in sighted] if len(held) == len(leaves) else []
        stored = [value for value in values if isinstance(value, Fraction)]
        if len(stored) < len(sighted) or len(set(stored)) < len(set(numbers)):
            continue
        first, second = (numbers.index(each) for each in sorted(set(numbers))[:2])
        scale = (stored[second] - stored[first]) / (numbers[second] - numbers[first])
        bias = stored[first] - scale * numbers[first]
        is_plain = abs(scale) == 1 or (bias == 0 and 1 / MOST_TIMES <= abs(scale) <= MOST_TIMES)
        if is_plain and all(each == scale * number + bias for each, number in zip(stored, numbers, strict=True)):
            starts = tuple(each.start for each in held)
            place = Place(starts, leaf.stored_as, len(sighted), len(sighted), float(scale), float(bias))
            yield _described(place, documents[0], path, [each.value for each in held])


def _grouped(
    documents: Sequence[Document], seen: Sequence[Sighting], sighted: list[int], end: Deadline
) -> Iterator[Place]:
    """Texts in which a number is written with its thousands apart, as people read it."""
    if not sighted or any(seen[j].number is None for j in sighted):
        return
    first = sighted[0]
    for leaf in _leaves(documents[first], end):
        if grouped_number(leaf.text) != seen[first].number:
            continue
        held = _held_in_all(documents, leaf.path)
        texts = [str(each.value) for each in held]
        if held and all(grouped_number(texts[j]) == seen[j].number for j in sighted):
            place = Place(tuple(each.start for each in held), "utf-8", len(sighted), len(sighted))
            yield _described(place, documents[0], leaf.path, texts)


def _rounded(
    documents: Sequence[Document], seen: Sequence[Sighting], sighted: list[int], end: Deadline
) -> Iterator[Place]:
    """Fractions of which the game shows whole numbers, or percent; and what it shows shortened, or as a time."""
    known = [j for j in sighted if seen[j].number is not None]
    if len(known) < 2 or len(known) < len(sighted):
        return
    first = telling(seen)
    scales = (*ROUNDED_SCALES, *map(float, seen[first].scales))
    rounds = any(seen[j].scales or seen[j].decimals < 0 for j in known)
    for leaf in _leaves(documents[first], end):
        if not leaf.is_number or (leaf.about.is_integer() and not rounds) or not _near(leaf.about, seen[first], scales):
            continue
        held = _held_in_all(documents, leaf.path)
        numbers = [float(each.value) for each in held if not isinstance(each.value, str)]
        if len(numbers) < len(documents):
            continue
        for scale, (how, hair) in product(scales, ROUNDED):
            if all(is_shown_as(numbers[j], seen[j], scale, how, hair) for j in known):
                starts = tuple(each.start for each in held)
                place = Place(starts, leaf.stored_as, len(known), len(known), scale, rounding=how)
                yield _described(place, documents[0], leaf.path, numbers)
                break


def _described(place: Place, document: Document, path: str, values: Sequence[Fraction | float | str]) -> Place:
    """With what all places in a text have: its path, its format, and what it says in each snapshot."""
    place.found_by, place.format = Address.by_path(path), document.name
    place.values = tuple(value if isinstance(value, str) else float(value) for value in values)
    return place


def _near(about: float, sighting: Sighting, scales: Sequence[float]) -> bool:
    shown = float(sighting.number or 0)
    return any(abs(about / scale - shown) < sighting.unit + HAIR for scale in scales)


def _with_values(document: Document, wanted: Container[float], end: Deadline) -> Iterator[TextLeaf]:
    """The numbers of a text that are one of these."""
    return (leaf for leaf in _leaves(document, end) if leaf.is_number and leaf.about in wanted)


def _with_digits(document: Document, wanted: Collection[float], end: Deadline) -> Iterator[TextLeaf]:
    """The same, where they are whole and written in decimal digits; none where there are very many."""
    spelled = b"|".join(str(int(number)).encode() for number in wanted if number.is_integer())
    if not spelled:
        return
    data = document.source.read(0, document.source.size)
    found = islice(re.finditer(rb"(?<![0-9.])(?:%b)(?![0-9.])" % spelled, data), MOST_AT_ONCE + 1)
    offsets = [match.start() for match in found]
    for leaf in document.leaves_at(offsets) if len(offsets) <= MOST_AT_ONCE else ():
        if end.over:
            return
        if leaf.is_number and leaf.about in wanted:
            yield leaf


def _candidates(
    documents: Sequence[Document],
    seen: Sequence[Sighting],
    end: Deadline,
    values_of: Callable[[Document, set[float], Deadline], Iterator[TextLeaf]],
    *,
    doubting: bool,
) -> Iterator[_Candidate]:
    """Paths that are in every snapshot, how the value is stored, and what is there. Where numbers were seen, only one
    snapshot is read whole, and two if one of the sightings may be doubted; the others are asked for its paths.
    """
    known = [j for j, sighting in enumerate(seen) if sighting.number is not None]
    if not known:
        every = [{leaf.path: leaf for leaf in _leaves(document, end)} for document in documents]
        for path, leaf in every[0].items():
            if all(path in each for each in every):
                yield path, leaf.stored_as, [_Held(each[path].start, each[path].value) for each in every]
        return
    done = set[str]()
    first = telling(seen)
    for j in (first, telling(seen, first)) if doubting and len(known) > 1 else (first,):
        number = seen[j].number
        wanted = {float(number * scale) for scale in SCALES} if number is not None else set()
        for leaf in values_of(documents[j], wanted, end):
            if (path := leaf.path) not in done:
                done.add(path)
                own = _Held(leaf.start, leaf.value)
                held = [own if k == j else _held_at(document, path) for k, document in enumerate(documents)]
                if all(held):
                    yield path, leaf.stored_as, [each for each in held if each is not None]


def _leaves(document: Document, end: Deadline) -> Iterator[TextLeaf]:
    for number, leaf in enumerate(all_leaves(document)):
        if number % AT_ONCE == 0 and end.over:
            return
        yield leaf


def _held_in_all(documents: Sequence[Document], path: str) -> list[_Held]:
    """What is at a path in each of some documents; nothing where it is not in all of them."""
    held = [each for document in documents if (each := _held_at(document, path)) is not None]
    return held if len(held) == len(documents) else []


def _held_at(document: Document, path: str) -> _Held | None:
    """What is at a path, or None where nothing is."""
    if TEXT in path:
        leaf = next((leaf for leaf in all_leaves(document) if leaf.path == path), None)
        return _Held(leaf.start, leaf.value) if leaf is not None else None
    try:
        span = document.at(document.whole, parse_path(path))
        storage = document.value_storage(span)
        text = storage.to_text(storage.decode(bytes(document.source.read(span.start, span.end))))
    except LedgerError:
        return None
    number = parse_decimal(text)
    if number is None:
        number = exact_number(text)
    return _Held(span.start, text if number is None else number)


def _may_fit(held: list[_Held], seen: Sequence[Sighting], sighted: list[int], least: int) -> bool:
    numbers = [j for j in sighted if seen[j].number is not None]
    missing = sum(isinstance(held[j].value, str) for j in numbers)
    return missing <= len(sighted) - least


def _says(values: list[Fraction | str], j: int, seen: Sequence[Sighting], scale: Fraction) -> bool:
    now, sighting = values[j], seen[j]
    if sighting.kind == "text":
        return scale == 1 and (
            now == sighting.text or (now in ("true", "false") and (now == "true") == sighting.switched)
        )
    if sighting.number is not None:
        return not isinstance(now, str) and now == sighting.number * scale
    before = values[j - 1]
    if sighting.kind in ("same", "changed"):
        return (now == before) == (sighting.kind == "same")
    if isinstance(now, str) or isinstance(before, str):
        return False
    return now > before if sighting.kind == "more" else now < before
