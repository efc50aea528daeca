"""Places of texts in bytes, and places in text saves, which are paths."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from fractions import Fraction
from itertools import islice

from faithful_ledger.core.address import Address
from faithful_ledger.core.compare import align
from faithful_ledger.core.evidence.exact import SCALES
from faithful_ledger.core.evidence.moving import set_anchor, without_twins
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.evidence.reading import Array
from faithful_ledger.core.evidence.sightings import Sighting
from faithful_ledger.core.formats import Document
from faithful_ledger.core.nesting import all_leaves
from faithful_ledger.core.search import TEXT_ENCODINGS
from faithful_ledger.core.source import MemorySource, offsets_of
from faithful_ledger.core.storage import NUMBERS

__all__ = ["path_places", "text_places"]

MOST_TEXT_HITS = 2000
PREFIXES = ("u8", "u16le", "u32le", "u16be", "u32be")
FROM_END = "from the end"
ENOUGH_TO_DOUBT = 4


def text_places(data: list[Array], seen: Sequence[Sighting]) -> list[Place]:
    """The text seen at the same offset of every snapshot, from the end, aligned, or where it stands once in each."""
    known = [j for j, sighting in enumerate(seen) if sighting.kind == "text"]
    contents = [part.tobytes() for part in data]
    ways: list[tuple[str, Callable[[int], tuple[int, ...]]]] = [("", lambda at: (at,) * len(data))]
    if len({part.size for part in data}) > 1:
        ways.append((FROM_END, lambda at: tuple(at + part.size - data[0].size for part in data)))
    if len(data) > 1:
        aligned = [align(data[0], part) for part in data]
        around = "aligned by what surrounds it"
        ways.append((around, lambda at: tuple(each.place_of(at) for each in aligned)))
    found: list[Place] = []
    for name, codec in TEXT_ENCODINGS.items():
        try:
            raws = {j: seen[j].text.encode(codec) for j in known}
        except UnicodeEncodeError:
            continue
        if codec == "latin-1" and all(raw.isascii() for raw in raws.values()):
            continue
        hits = {j: list(islice(offsets_of(MemorySource(contents[j]), raws[j]), MOST_TEXT_HITS)) for j in known}
        for how, where_of in ways:
            for start in hits.get(0, ()) or _first_offsets(data, known, hits):
                where = where_of(start)
                fits = sum(contents[j][where[j] : where[j] + len(raws[j])] == raws[j] for j in known)
                if fits >= len(known) - (1 if len(known) >= ENOUGH_TO_DOUBT else 0) and (
                    not how or len(set(where)) > 1
                ):
                    found.append(_text_place(contents, seen, where, name, raws, fits, how))
        if len(known) == len(data) and all(len(offsets) == 1 for offsets in hits.values()):
            where = tuple(hits[j][0] for j in known)
            if len(set(where)) > 1:
                found.append(_text_place(contents, seen, where, name, raws, len(known), "stands once in each"))
    return without_twins(found)


def _first_offsets(data: list[Array], known: list[int], hits: dict[int, list[int]]) -> list[int]:
    """Offsets of the first snapshot from which the hits of the first that tells a text are reached."""
    first = known[0]
    if first == 0:
        return []
    back = align(data[first], data[0])
    return sorted({back.place_of(at) for at in hits[first]} | set(hits[first]))


def _text_place(
    contents: list[bytes],
    seen: Sequence[Sighting],
    where: tuple[int, ...],
    name: str,
    raws: dict[int, bytes],
    fits: int,
    how: str,
) -> Place:
    place = Place(where, name, fits, len(raws), values=tuple(sighting.text for sighting in seen))
    place.prefix = next((name for name in PREFIXES if _has_prefix(name, contents, where, raws)), "")
    if place.prefix:
        place.reasons.append(f"its length is directly in front ({place.prefix})")
    longest = max(len(raw) for raw in raws.values())
    behind = (contents[j][where[j] + len(raw) : where[j] + longest] for j, raw in raws.items())
    if all(not any(rest) and len(rest) == longest - len(raw) for rest, raw in zip(behind, raws.values(), strict=True)):
        place.room = longest
    if how:
        set_anchor(place, contents, how)
    if how == FROM_END and place.found_by is None:
        place.found_by = Address.from_end(len(contents[0]) - where[0])
    return place


def _has_prefix(name: str, contents: list[bytes], where: tuple[int, ...], raws: dict[int, bytes]) -> bool:
    """Whether the length of a text is stored so in front of it, in every snapshot that shows the text."""
    for j, raw in raws.items():
        prefix = NUMBERS[name].spell(Fraction(len(raw)))
        if prefix is None or not contents[j].endswith(prefix, 0, where[j]):
            return False
    return True


def path_places(documents: list[Document], seen: Sequence[Sighting]) -> list[Place]:
    """Numbers and texts at the same path in the text of every snapshot."""
    sighted = [j for j, sighting in enumerate(seen) if sighting.kind != "any"]
    least = max(len(sighted) - (1 if len(sighted) >= ENOUGH_TO_DOUBT else 0), 1)
    shown = {j: {float(number * scale) for scale in SCALES} for j in sighted if (number := seen[j].number) is not None}
    leaves = []
    for j, document in enumerate(documents):
        every = all_leaves(document)
        if least == len(sighted) and j in shown:  # it must fit here, and floats rule out nearly all numbers
            every = (leaf for leaf in every if leaf.is_number and leaf.about in shown[j])
        leaves.append({leaf.path: leaf for leaf in every})
    found = []
    for path, first in leaves[0].items():
        if not all(path in others for others in leaves):
            continue
        same = [others[path] for others in leaves]
        likely = sum(same[j].is_number and same[j].about in floats for j, floats in shown.items())
        if likely < least - (len(sighted) - len(shown)):
            continue
        values = [leaf.value for leaf in same]
        offsets = tuple(leaf.start for leaf in same)
        for scale in SCALES:
            fits = sum(_says(values, j, seen, scale) for j in sighted)
            if fits >= least:
                numbers = tuple(v if isinstance(v, str) else float(v) for v in values)
                found.append(
                    Place(
                        offsets,
                        first.stored_as,
                        fits,
                        len(sighted),
                        float(scale),
                        found_by=Address.by_path(path),
                        values=numbers,
                        format=documents[0].name,
                    )
                )
                break
    return found


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
