"""Places of texts in letters of a game's own, and the letters that they say."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import islice

from faithful_ledger.core.evidence.content import Content
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.evidence.reading import Array
from faithful_ledger.core.evidence.sightings import Sighting
from faithful_ledger.core.in_front.text_ends import text_end
from faithful_ledger.core.own_letters import OWN_LETTERS, read_as, texts_in_own_letters

__all__ = ["places_in_own_letters"]

MOST_PLACES = 32
FILLED = 3  # same bytes behind a text that fill a buffer up


def places_in_own_letters(contents: Sequence[Content], seen: Sequence[Sighting], first: int) -> list[Place]:
    """Places that hold every text that was seen, with the letters that say so; `first` is the snapshot that tells most.
    A text that is elsewhere in some snapshot is found where it stands only once.
    """
    known = [j for j, sighting in enumerate(seen) if sighting.kind == "text"]
    hits = texts_in_own_letters(contents[first].data, seen[first].text)
    places = (_place(contents, seen, known, first, at, letters) for at, letters in hits)
    return list(islice(filter(None, places), MOST_PLACES))


def _place(
    contents: Sequence[Content],
    seen: Sequence[Sighting],
    known: list[int],
    first: int,
    at: int,
    letters: dict[int, str],
) -> Place | None:
    where = {first: at}
    for j in known:
        here = next(_places_of(contents[j].data, at, seen[j].text, letters), None) if j != first else (at, letters)
        if here is None:
            return None
        where[j], letters = here
    offsets = tuple(where.get(j, at) for j in range(len(contents)))
    place = Place(offsets, OWN_LETTERS, len(known), len(known), values=tuple(sighting.text for sighting in seen))
    raws = {j: contents[j].data[where[j] : where[j] + len(seen[j].text)].tobytes() for j in known}
    parts = {j: contents[j].data for j in known}
    place.end = text_end(parts, offsets, raws, 1, _filling(parts, where, raws))
    place.letters = tuple(sorted(letters.items()))
    return place


def _places_of(data: Array, at: int, text: str, letters: dict[int, str]) -> Iterator[tuple[int, dict[int, str]]]:
    """Where a text in these letters is, with those that it adds: at an offset, or at the only other one."""
    if (made := read_as(letters, data[at : at + len(text)], text)) is not None:
        yield at, made
    others = (other for other, _ in texts_in_own_letters(data, text))
    found = [(other, made) for other in others if (made := read_as(letters, data[other : other + len(text)], text))]
    if len(found) == 1:
        yield found[0]


def _filling(parts: Mapping[int, Array], where: Mapping[int, int], raws: Mapping[int, bytes]) -> bytes:
    """The byte that stands several times behind every text, as the end of a text does in a buffer."""
    behind = {parts[j][where[j] + len(raw) :][:FILLED].tobytes() for j, raw in raws.items()}
    filling = next(iter(behind))
    return filling[:1] if len(behind) == 1 and len(set(filling)) == 1 and len(filling) == FILLED else b""
