"""From sightings to places: every way of looking is tried, and the places are ranked with their reasons.

Looked for are places at the same offset of every snapshot and places that move; in text saves (JSON) paths, also into
JSON inside a string; and where none of these explains all sightings, the same inside what is packed or scrambled.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np

from faithful_ledger.core.compare import align
from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.evidence.moving import explained, moving_places, without_twins
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.evidence.places import places_at
from faithful_ledger.core.evidence.reading import STORAGES, Array
from faithful_ledger.core.evidence.sightings import Sighting, are_switches
from faithful_ledger.core.evidence.texts import path_places, text_places
from faithful_ledger.core.formats import recognised_text
from faithful_ledger.core.inside import Payload, payloads_inside
from faithful_ledger.core.layers.stream import Layer
from faithful_ledger.core.profile import find_layers
from faithful_ledger.core.source import MemorySource, Source

__all__ = ["Located", "locate", "locate_in_set"]

HOPELESS = 0.9
TOLD_CHANCE = 0.5
PREFERRED = {
    "u32": 1.0,
    "u16": 0.95,
    "u8": 0.8,
    "f32": 0.8,
    "u64": 0.7,
    "i32": 0.75,
    "i16": 0.7,
    "f64": 0.7,
    "uleb128": 0.35,
}


@dataclass(slots=True)
class Located:
    """Places, best first; what to do in the game next; and a warning where comparing is hopeless.

    `payloads` are the unwrapped snapshots by the file and the route of the places found in them.
    """

    places: list[Place]
    suggestion: str
    warning: str = ""
    payloads: dict[tuple[str, tuple[str, ...]], list[Source]] = field(default_factory=dict)

    @property
    def full(self) -> list[Place]:
        """Those that explain every sighting."""
        return [place for place in self.places if place.fits == place.of]

    @property
    def spots(self) -> int:
        """At how many different spots these lie."""
        return len({(place.file, place.offsets) for place in self.full})


def locate(snapshots: Sequence[Source], seen: Sequence[Sighting], most: int = 50, end: Deadline = NEVER) -> Located:
    """Find the places that explain what was seen.

    `snapshots[j]` are the bytes kept when `seen[j]` was seen, in the order of time.

    Raises:
        EntryError: nothing was seen that could tell one place from another, or the sightings are of different kinds.
    """
    return locate_in_set([{"": source} for source in snapshots], seen, most, end)


def locate_in_set(
    snapshots: Sequence[Mapping[str, Source]], seen: Sequence[Sighting], most: int = 50, end: Deadline = NEVER
) -> Located:
    """As `locate`, where each snapshot is a set of files by their names; each place says which `file` it is in.

    A file that is missing in a snapshot, or the same in two snapshots between which the quantity changed, is left out.
    When the time is up, what was found until then is returned, and the suggestion says so.
    """
    _check(seen)
    found: list[Place] = []
    payloads: dict[tuple[str, tuple[str, ...]], list[Source]] = {}
    reasons: set[str] = set()
    searched: list[list[bytes]] = []
    for name in snapshots[0]:
        if not all(name in files for files in snapshots):
            continue
        sources = [files[name] for files in snapshots]
        contents = [bytes(source.read(0, source.size)) for source in sources]
        if contradiction := _contradiction(contents, seen):
            reasons.add(contradiction)
            continue
        searched.append(contents)
        if end.over:
            break
        places, inside = _places_in_file(contents, seen, end)
        for place in places:
            place.file = name
        found += places
        payloads |= {(name, route): inner for route, inner in inside.items()}
    if reasons and not searched:
        reason = min(reasons)
        return Located([], reason, reason)
    ranked = sorted(found, key=lambda place: (-place.score, place.file, place.offsets[0], place.stored_as))
    warning = ""
    if not ranked:
        hopeless = (_hopeless([np.frombuffer(content, np.uint8) for content in contents]) for contents in searched)
        warning = next(filter(None, hopeless), "")
    suggestion = _suggest(ranked, seen)
    if end.over:
        suggestion = f"The time of {end.seconds:g} s was up before everything was tried. {suggestion}"
    return Located(ranked[:most], suggestion, warning, payloads)


def _places_in_file(
    contents: list[bytes], seen: Sequence[Sighting], end: Deadline
) -> tuple[list[Place], dict[tuple[str, ...], list[Source]]]:
    """The places in one file, also inside what is packed or scrambled; and the payloads of those, by their route."""
    found = _places(contents, seen, end)
    layers = [find_layers(content) for content in contents]
    packed = [[layer for layer in each if layer.kind != "base64"] for each in layers]
    if packed[0]:
        # What is seen in packed bytes themselves is chance: they say the same in other bytes each time.
        found = [place for place in found if not any(map(_inside, packed, place.offsets))]
        for place in found:
            place.score -= sum(layer.size for layer in packed[0]) / len(contents[0])
    payloads: dict[tuple[str, ...], list[Source]] = {}
    if packed[0] or not explained(found):
        for route, inner in _unwrapped(contents, layers).items():
            if end.over:
                break
            inside = _places([payload.data for payload in inner], seen, end)
            for place in inside:
                place.layer, place.route = inner[0].spot(place.offsets[0]), route
                place.layers = inner[0].layers if len({payload.layers for payload in inner}) == 1 else None
                place.reasons.append(f"inside {inner[0].layer}")
            if inside:
                payloads[route] = [MemorySource(payload.data) for payload in inner]
            found += inside
    return found, payloads


def _contradiction(contents: list[bytes], seen: Sequence[Sighting]) -> str:
    """Said where two snapshots hold the same bytes but not the same was seen, or where no storage is wide enough."""
    for j, now in enumerate(seen):
        if now.number is not None and abs(now.number) >= 1 << 64:
            return f"No storage holds a number as large as {now}, seen at {_letter(j)}. Was it typed wrong?"
        for i in range(j):
            differs = now.kind == seen[i].kind and now.kind in ("number", "text") and str(now) != str(seen[i])
            changed = i == j - 1 and now.kind in ("more", "less", "changed")
            if (differs or changed) and contents[i] == contents[j]:
                return (
                    f"{_letter(i)} and {_letter(j)} hold the same bytes, but {seen[i]} was seen at one and {now} at "
                    "the other. One of the two is wrong, or the game had not saved yet."
                )
    return ""


def _letter(number: int) -> str:
    """How people name a snapshot among those that were sighted."""
    return f"copy {number + 1}"


def _places(contents: list[bytes], seen: Sequence[Sighting], end: Deadline) -> list[Place]:
    """Places in payloads as they are, judged."""
    data = [np.frombuffer(content, np.uint8) for content in contents]
    documents = [text for content in contents if (text := recognised_text(MemorySource(content))) is not None]
    if len(documents) == len(contents) and len({document.name for document in documents}) == 1:
        found = path_places(documents, seen)
    elif any(sighting.kind == "text" for sighting in seen) and not are_switches(seen):
        found = text_places(data, seen)
    else:
        found = places_at(data, seen, end)
        found = without_twins([*found, *moving_places(data, seen, found, end)])
    _judge(found, data)
    return found


def _inside(layers: list[Layer], offset: int) -> bool:
    return any(layer.offset <= offset < layer.offset + layer.size for layer in layers)


def _unwrapped(contents: list[bytes], layers: list[list[Layer]]) -> dict[tuple[str, ...], list[Payload]]:
    """What is inside, by routes that lead to something in every snapshot."""
    pairs = zip(contents, layers, strict=True)
    inside = [{payload.route: payload for payload in payloads_inside(*pair)} for pair in pairs]
    return {route: [each[route] for each in inside] for route in inside[0] if all(route in each for each in inside)}


def _check(seen: Sequence[Sighting]) -> None:
    kinds = {sighting.kind for sighting in seen}
    if "text" in kinds and "number" in kinds:
        texts = next(str(s) for s in seen if s.kind == "text")
        raise EntryError(
            f"“{texts}” is a text and others are numbers", "one quantity is either; put a text of digits into quotes"
        )
    if kinds <= {"any"} or (len(seen) == 1 and kinds & {"more", "less", "same", "changed"}):
        raise EntryError("nothing was seen that tells one place from another", "write down a number or a text")


# ranking


def _judge(found: list[Place], data: list[Array]) -> None:
    """Give each place its score and its reasons."""
    for place in found:
        place.score = 10.0 * (place.fits - place.of)
        if place.fits < place.of:
            which = f"all but {_letter(place.doubts)}" if place.doubts is not None else f"{place.fits} of {place.of}"
            place.reasons.append(f"fits {which}: a stale copy, or a mistyped number?")
        _judge_storage(place, data[0])
        chance = _by_chance(place, data[0].size)
        if chance >= TOLD_CHANCE:
            place.reasons.append(f"by chance about {chance:.2g} places of its kind would fit as well")
        if place.stored_as.startswith("bit"):
            mask = ~(1 << int(place.stored_as[3:]))
            others = {int(part[at]) & mask for part, at in zip(data, place.offsets, strict=True)}
            if len(others) == 1:
                place.reasons.append("nothing else in its byte changes")
                place.score += 0.6
        if place.strayed:
            place.reasons.append("what surrounds it is elsewhere in another snapshot: chance?")
            place.score -= 2
        if place.anchor is not None:
            place.reasons.append(f"moves: {place.anchor}")
            place.score -= 0.1


def _by_chance(place: Place, size: int) -> float:
    """How many places of the same storage would hold these values in bytes that mean nothing, about."""
    storage = STORAGES.get(place.stored_as)
    numbers = {value for value in place.values if not isinstance(value, str)}
    if storage is None or not numbers:
        return 0.0
    if storage.family == "switch":
        return size * 8 * 0.5 ** len(place.values)
    bits = [
        8 * storage.least_size if storage.least_size > 1 else max(abs(int(value)).bit_length(), 8) for value in numbers
    ]
    return float(size * 0.5 ** min(sum(bits), 500))


def _judge_storage(place: Place, content: Array) -> None:
    offset, name = place.offsets[0], place.stored_as
    if place.path is not None:
        place.reasons.append(f"by its path {place.path}")
        place.score += 2
    storage = STORAGES.get(name)
    if storage is not None:
        plain = name.removesuffix("le").removesuffix("be")
        place.score += PREFERRED.get(plain, 0.3)
        if (
            storage.least_size > 1
            and offset % storage.least_size == 0
            and storage.family in ("whole", "signed", "fraction")
        ):
            place.score += 0.3
            place.reasons.append("aligned")
        if storage.family == "whole":
            bits = max((float(v) for v in place.values if not isinstance(v, str)), default=0)
            if storage.least_size > 2 and bits < 256 ** (storage.least_size - 2):
                place.score -= 0.1 * (storage.least_size - 2)
        if storage.family == "switch":
            place.reasons.append(f"bit {name[3:]} of its byte, the lowest is 0")
        if storage.family == "digits":
            place.score += 0.2
    label = _label(content, offset)
    if label:
        place.score += 0.5
        place.reasons.append(f"behind the text “{label}”")
    if place.rounding is not None:
        place.score -= 1.0
        how = "cut off" if place.rounding == "floor" else "rounded"
        place.reasons.append(
            f"what was seen is it divided by {place.scale:g}, {how}" if place.scale != 1 else f"shown {how}"
        )
    elif place.scale != 1:
        place.score -= 0.3 if place.scale in (10, 100) else 0.8
        place.reasons.append(f"stored times {place.scale:g}")
    if place.bias:
        place.score -= 0.8 + math.log10(abs(place.bias) + 1) / 4
        place.reasons.append(f"stored {'plus' if place.bias > 0 else 'minus'} {abs(place.bias):g}")


def _label(content: Array, offset: int) -> str:
    """A word that ends at most four bytes in front."""
    before = content[max(offset - 24, 0) : offset].tobytes()
    trimmed = before.rstrip(bytes(range(32)) + b"\"':= \xff")
    if len(before) - len(trimmed) > 10:
        return ""
    word = b""
    for byte in reversed(trimmed):
        if not (chr(byte).isalnum() or byte == 95) or byte > 126:
            break
        word = bytes([byte]) + word
    return word.decode() if len(word) >= 3 and word.isascii() and word.decode().isalpha() else ""


def _suggest(ranked: list[Place], seen: Sequence[Sighting]) -> str:
    """What to do in the game next, so that the remaining places are split best."""
    full = [place for place in ranked if place.fits == place.of]
    full = [place for place in full if not place.strayed] or full
    if not ranked:
        return "No place explains it. Was a number mistyped? Keep a copy right after you look, and sight it again."
    if not full:
        doubted = ranked[0].doubts
        which = f" It leaves out what was seen at {_letter(doubted)}: look there again." if doubted is not None else ""
        return f"No place explains every sighting; the best one leaves one out.{which} Sight the quantity once more."
    spots = {(place.file, place.offsets) for place in full}
    if len(spots) == 1:
        width = "" if len(full) == 1 else " Let it grow beyond 255 or 65535 to learn how wide it is."
        return f"One place is left. Post a change there and look whether the game shows it.{width}"
    numbers = [sighting.number for sighting in seen if sighting.number is not None]
    if len(set(numbers)) < 2:
        return f"{len(spots)} places are left. Change the quantity in the game by an odd number and sight it again."
    if len({place.values[-1] for place in full}) == 1:
        return (
            f"{len(spots)} places hold the same in every snapshot: copies, or one follows the other. "
            "Post a change to one of them and look what the game shows."
        )
    return (
        f"{len(spots)} places are left. Change only this quantity, by a number you have not used before, "
        "and keep a copy right afterwards."
    )


def _hopeless(data: list[Array]) -> str:
    """Said when nearly every byte differs between two snapshots of the same size."""
    for before, now in pairwise(data):
        size = min(before.size, now.size)
        if size < 256:
            continue
        differing = float((before[:size] != now[:size]).mean())
        if differing > HOPELESS and align(before, now).equal < size * (1 - HOPELESS):
            return (
                f"{differing:.0%} of the bytes differ between two snapshots, also after looking for moved parts: "
                "comparing is hopeless. The save is probably packed, or scrambled with a new key each time."
            )
    return ""
