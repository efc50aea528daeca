"""From sightings to places: every way of aligning the snapshots is tried, the places are ranked with their reasons.

Tried are, in this order: the same offset in every snapshot; the same distance from the end where sizes differ; and
the offset that alignment of the snapshots gives, so that a few records in front that make everything behind them shift
are no obstacle. A place that moves is recorded behind an anchor: a run of bytes that stands exactly once in each.
In text saves (JSON) a place is a path, also into JSON inside a string.
"""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import islice, pairwise

import numpy as np

from faithful_ledger.core.compare import align
from faithful_ledger.core.errors import EntryError, LedgerError
from faithful_ledger.core.evidence.exact import SCALES
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.evidence.places import places_at
from faithful_ledger.core.evidence.sightings import Sighting
from faithful_ledger.core.evidence.storages import STORAGES, Array
from faithful_ledger.core.formats import JsonNode, parse_json
from faithful_ledger.core.search import TEXT_ENCODINGS
from faithful_ledger.core.source import MemorySource, Source, offsets_of

__all__ = ["Located", "locate"]

HOPELESS = 0.9
ANCHOR_LENGTHS = (8, 6, 12, 16)
ANCHOR_REACH = 256
MOST_TEXT_HITS = 2000
PREFERRED = {"u32": 1.0, "u16": 0.95, "u8": 0.8, "f32": 0.8, "u64": 0.7, "i32": 0.75, "i16": 0.7, "f64": 0.7}


@dataclass(slots=True)
class Located:
    """Places, best first; what to do in the game next; and a warning where comparing is hopeless."""

    places: list[Place]
    suggestion: str
    warning: str = ""

    @property
    def full(self) -> list[Place]:
        """Those that explain every sighting."""
        return [place for place in self.places if place.fits == place.of]


def locate(snapshots: Sequence[Source], seen: Sequence[Sighting], most: int = 50) -> Located:
    """Find the places that explain what was seen.

    `snapshots[j]` are the bytes kept when `seen[j]` was seen, in the order of time.

    Raises:
        EntryError: nothing was seen that could tell one place from another, or the sightings are of different kinds.
    """
    _check(seen)
    data = [np.frombuffer(source.read(0, source.size), np.uint8) for source in snapshots]
    trees = _json_trees(data)
    found = _json_places(trees, data, seen) if trees is not None else _binary_places(data, seen)
    ranked = _rank(found, data, seen)
    return Located(ranked[:most], _suggest(ranked, seen), _hopeless(data) if not ranked else "")


def _check(seen: Sequence[Sighting]) -> None:
    kinds = {sighting.kind for sighting in seen}
    if "text" in kinds and "number" in kinds:
        texts = next(str(s) for s in seen if s.kind == "text")
        raise EntryError(
            f"“{texts}” is a text and others are numbers", "one quantity is either; put a text of digits into quotes"
        )
    if kinds <= {"any"} or (len(seen) == 1 and kinds & {"more", "less", "same", "changed"}):
        raise EntryError("nothing was seen that tells one place from another", "write down a number or a text")


# binary


def _binary_places(data: list[Array], seen: Sequence[Sighting]) -> list[Place]:
    if any(sighting.kind == "text" for sighting in seen):
        return _text_places(data, seen)
    found = places_at(data, seen)
    sizes = {part.size for part in data}
    if len(sizes) > 1:
        least = min(sizes)
        back = [part[part.size - least :] for part in data]
        found += _moving(places_at(back, seen), data, [part.size - least + np.arange(least) for part in data], "end")
    if len(data) > 1 and (len(sizes) > 1 or not any(place.fits == place.of for place in found)):
        lies = [np.arange(data[0].size)]
        lies += [np.arange(data[0].size) + align(data[0], part).shifts() for part in data[1:]]
        if any((place != lies[0]).any() for place in lies):
            based = [part[np.clip(place, 0, part.size - 1)] for part, place in zip(data, lies, strict=True)]
            found += _moving(places_at(based, seen), data, lies, "aligned")
    return _without_twins(found)


def _moving(found: list[Place], data: list[Array], lies: list[Array], how: str) -> list[Place]:
    """Places found in rearranged snapshots, with their own offsets and anchors; those that do not move are left out.

    `lies[j]` says where each byte of the rearranged snapshot j lies in the snapshot itself.
    """
    contents = [part.tobytes() for part in data]
    kept = []
    for place in found:
        place.offsets = tuple(int(lie[at]) for lie, at in zip(lies, place.offsets, strict=True))
        width = STORAGES[place.stored_as].width
        inside = all(0 <= at <= part.size - width for at, part in zip(place.offsets, data, strict=True))
        if len(set(place.offsets)) == 1 or not inside:
            continue
        if how == "end":
            place.anchor = f"{data[0].size - place.offsets[0]} bytes before the end"
        else:
            _set_anchor(place, contents, "aligned by what surrounds it")
        kept.append(place)
    return kept


def _without_twins(found: list[Place]) -> list[Place]:
    """One place for one way of storing at the same offsets; the one with the fewest conditions stays."""
    kept: dict[tuple[object, ...], Place] = {}
    for place in found:
        kept.setdefault((place.offsets, place.stored_as), place)
    plain = {(place.offsets[0], place.fits) for place in kept.values() if place.scale == 1 and not place.rounding}
    return [place for place in kept.values() if not _is_echo(place, plain)]


def _is_echo(place: Place, plain: set[tuple[int, int]]) -> bool:
    """Whether a place is only a plainer one read with bytes too many, as the same times 256 or 65536."""
    storage = STORAGES.get(place.stored_as)
    if place.scale in (1, 10, 100, 0.1, 0.01) or storage is None:
        return False
    return any((place.offsets[0] + step, place.fits) in plain for step in range(storage.width))


def _set_anchor(place: Place, contents: list[bytes], otherwise: str) -> None:
    """Record how a place that moves is found again."""
    place.behind = _anchor(contents, place.offsets)
    place.anchor = otherwise
    if place.behind is not None:
        run, gap = place.behind
        shown = run.decode("ascii") if run.isascii() and run.decode("ascii").isprintable() else run.hex(" ").upper()
        place.anchor = f"{gap} bytes behind the start of “{shown}”"


def _anchor(contents: list[bytes], offsets: tuple[int, ...]) -> tuple[bytes, int] | None:
    """The nearest run in front that stands exactly once in every snapshot, at the same distance: a word, else bytes."""
    first, at = contents[0], offsets[0]
    words = [match.span() for match in re.finditer(rb"[A-Za-z_][\w -]{3,30}", first[max(at - ANCHOR_REACH, 0) : at])]
    base = max(at - ANCHOR_REACH, 0)
    spans = [(base + start, base + end) for start, end in reversed(words)]
    spans += [(at - far - size, at - far) for far in range(ANCHOR_REACH) for size in ANCHOR_LENGTHS if at >= far + size]
    for start, end in spans:
        run, gap = first[start:end], at - start
        if run.count(run[:1]) == len(run):
            continue
        if all(
            content[offset - gap : offset - gap + len(run)] == run and content.count(run) == 1
            for content, offset in zip(contents, offsets, strict=True)
        ):
            return run, gap
    return None


def _text_places(data: list[Array], seen: Sequence[Sighting]) -> list[Place]:
    """Places of texts: the same text at the same offset, from the end, or aligned."""
    found: list[Place] = []
    known = [j for j, sighting in enumerate(seen) if sighting.kind == "text"]
    contents = [part.tobytes() for part in data]
    shifts: list[list[Array | int]] = [[0] * len(data)]
    if len({part.size for part in data}) > 1:
        shifts.append([part.size - data[0].size for part in data])
    if len(data) > 1:
        shifts.append([0, *(align(data[0], part).shifts() for part in data[1:])])
    for name, codec in TEXT_ENCODINGS.items():
        try:
            raws = {j: seen[j].text.encode(codec) for j in known}
        except UnicodeEncodeError:
            continue
        if codec == "latin-1" and all(raw.isascii() for raw in raws.values()):
            continue
        first = known[0]
        for number, shift in enumerate(shifts):
            for hit in islice(offsets_of(MemorySource(contents[first]), raws[first]), MOST_TEXT_HITS):
                start = _back(hit, shift[first])
                if start is None or not 0 <= start < data[0].size:
                    continue
                where = tuple(start + int(s if isinstance(s, int) else s[start]) for s in shift)
                fits = sum(contents[j][where[j] : where[j] + len(raws[j])] == raws[j] for j in known)
                if fits < len(known) - (1 if len(known) >= 4 else 0) or (number and len(set(where)) == 1):
                    continue
                place = Place(where, name, fits, len(known), values=tuple(s.text for s in seen))
                length = contents[0][where[0] - 1] if where[0] else -1
                if all(where[j] and contents[j][where[j] - 1] == len(raws[j]) for j in known) and length >= 0:
                    place.reasons.append("its length stands directly in front")
                if number:
                    _set_anchor(place, contents, "from the end" if number == 1 else "aligned by what surrounds it")
                found.append(place)
    return _without_twins(found)


def _back(offset: int, shift: Array | int) -> int | None:
    """The offset of the first snapshot that leads to `offset` under a shift."""
    if isinstance(shift, int):
        return offset - shift
    places = np.flatnonzero(np.arange(shift.size) + shift == offset)
    return int(places[0]) if places.size else None


# text saves


def _json_trees(data: list[Array]) -> list[JsonNode] | None:
    trees = []
    for part in data:
        head = part[:64].tobytes().lstrip(b"\xef\xbb\xbf \t\r\n")
        if head[:1] not in (b"{", b"["):
            return None
        try:
            trees.append(parse_json(part.tobytes()))
        except LedgerError:
            return None
    return trees


def _json_places(trees: list[JsonNode], data: list[Array], seen: Sequence[Sighting]) -> list[Place]:
    leaves = [dict(_leaves(tree, part.tobytes(), "", 0, "")) for tree, part in zip(trees, data, strict=True)]
    told = [j for j, sighting in enumerate(seen) if sighting.kind != "any"]
    found = []
    for path, (_, kind, _) in leaves[0].items():
        if not all(path in leaf for leaf in leaves):
            continue
        values = [leaf[path][2] for leaf in leaves]
        offsets = tuple(leaf[path][0] for leaf in leaves)
        for scale in SCALES:
            fits = sum(_says(values, j, seen, Fraction(scale)) for j in told)
            if fits and fits >= len(told) - (1 if len(told) >= 4 else 0):
                shown = tuple(v if isinstance(v, str) else float(v) for v in values)
                place = Place(offsets, kind, fits, len(told), float(scale), path=path, values=shown)
                found.append(place)
                break
    return found


def _says(values: list[Fraction | str], j: int, seen: Sequence[Sighting], scale: Fraction) -> bool:
    now, sighting = values[j], seen[j]
    if sighting.kind == "text":
        return scale == 1 and now == sighting.text
    if sighting.number is not None:
        return not isinstance(now, str) and now == sighting.number * scale
    before = values[j - 1]
    if sighting.kind in ("same", "changed"):
        return (now == before) == (sighting.kind == "same")
    if isinstance(now, str) or isinstance(before, str):
        return False
    return now > before if sighting.kind == "more" else now < before


def _leaves(
    node: JsonNode, data: bytes, path: str, shift: int, within: str
) -> list[tuple[str, tuple[int, str, Fraction | str]]]:
    """Every number and string with its path; a string that is JSON itself is entered, as `name(text).inner`."""
    import json

    if node.kind in ("object", "array"):
        pairs = (
            [(f"{path}.{name}" if path else name, child) for name, child in node.members.items()]
            if node.kind == "object"
            else [(f"{path}[{number}]", child) for number, child in enumerate(node.items)]
        )
        return [leaf for name, child in pairs for leaf in _leaves(child, data, name, shift, within)]
    raw = data[node.start : node.end]
    at = shift + node.start
    if node.kind == "number":
        return [(path, (at, f"digits{within}", Fraction(raw.decode())))] if len(raw) < 60 else []
    if node.kind == "string":
        text = str(json.loads(raw))
        found: list[tuple[str, tuple[int, str, Fraction | str]]] = [(path, (at, f"utf-8{within}", text))]
        if text[:1] in ("{", "[") and not within:
            try:
                inner = text.encode()
                found += [
                    (f"{path}(text){'' if name.startswith('[') else '.'}{name}", (at, kind, value))
                    for name, (_, kind, value) in _leaves(parse_json(inner), inner, "", at, " in a string")
                ]
            except LedgerError:
                pass
        return found
    return []


# ranking


def _rank(found: list[Place], data: list[Array], seen: Sequence[Sighting]) -> list[Place]:
    contents = data[0]
    for place in found:
        place.score = 10.0 * (place.fits - place.of)
        if place.fits < place.of:
            place.reasons.append(f"fits {place.fits} of {place.of}: a stale copy, or a mistyped number?")
        _judge_storage(place, contents)
        if place.anchor is not None:
            place.reasons.append(f"moves: {place.anchor}")
            place.score -= 0.1
    return sorted(found, key=lambda place: (-place.score, place.offsets[0], place.stored_as))


def _judge_storage(place: Place, content: Array) -> None:
    offset, name = place.offsets[0], place.stored_as
    if place.path is not None:
        place.reasons.append(f"by its path {place.path}")
        place.score += 2
    storage = STORAGES.get(name)
    if storage is not None:
        plain = name.removesuffix("le").removesuffix("be")
        place.score += PREFERRED.get(plain, 0.3)
        if storage.width > 1 and offset % storage.width == 0 and storage.family in ("whole", "signed", "fraction"):
            place.score += 0.3
            place.reasons.append("aligned")
        if storage.family == "whole":
            bits = max((float(v) for v in place.values if not isinstance(v, str)), default=0)
            if storage.width > 2 and bits < 256 ** (storage.width - 2):
                place.score -= 0.1 * (storage.width - 2)
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
    if not ranked:
        return "No place explains it. Was a number mistyped? Keep a copy right after you look, and sight it again."
    if not full:
        return "No place explains every sighting; the best one leaves one out. Sight the quantity once more."
    spots = {place.offsets for place in full}
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
