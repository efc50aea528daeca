"""Places whose bytes are known: a number as it is or times a usual scale, or a text.

In the snapshot that tells most all spellings are found in one pass. Each hit is carried to the others, and stays where
the bytes of what was seen there are in its place.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from fractions import Fraction
from itertools import islice
from typing import NamedTuple

import numpy as np

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.evidence.carrying import Carrier
from faithful_ledger.core.evidence.content import Content
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.evidence.reading import FEW_SCALES, SCALES, STORAGES, Array, read_numbers
from faithful_ledger.core.evidence.sightings import Sighting
from faithful_ledger.core.in_front.text_ends import TextEnd, length_in_front, text_end
from faithful_ledger.core.scan import distinct, scan_array
from faithful_ledger.core.search import TEXT_ENCODINGS
from faithful_ledger.core.storage import NUMBERS
from faithful_ledger.core.storage.digits import buffer_around
from faithful_ledger.core.storage.text import unit_of

__all__ = ["ENOUGH_TO_DOUBT", "beginning_with", "exact_places", "follows", "telling"]

ENOUGH_TO_DOUBT = 4  # sightings needed before one of them is doubted
MOST_HITS = 1 << 18
MOST_LEFT = 1 << 12
LEAST_SEARCHED = 2  # bytes
IN_NUMBER = frozenset(bytes([letter]) for letter in b"0123456789.")
MOST_WIDTHS, LONGEST_FILLED = 8, 20  # hits that are looked at, and digits, of numbers with zeros in front
LETTERS = ("digits", "utf-8")


class _Form(NamedTuple):
    """A way to store all that was seen: its bytes at each sighting."""

    name: str
    scale: Fraction
    raws: dict[int, bytes]


def telling(seen: Sequence[Sighting], but: int | None = None) -> int:
    """The snapshot in which what was seen is rarest: the longest text, or the largest number; not snapshot `but`."""
    others = (j for j in range(len(seen)) if j != but)
    return max(others, key=lambda j: (len(seen[j].text), abs(seen[j].number or Fraction(0))))


def exact_places(
    contents: Sequence[Content],
    carriers: dict[int, Carrier],
    seen: Sequence[Sighting],
    most: int,
    end: Deadline = NEVER,
    *,
    plain: bool = False,
    doubted: int | None = None,
    in_letters: bool = False,
) -> list[Place]:
    """Places that hold every number or text seen, and keep what else was seen; all but one of at least four. About as
    many as `most`. `carriers` lead from the snapshot `telling` to each other one; `plain` looks at the same offsets
    only. What was seen at snapshot `doubted` is left out. With `in_letters` numbers are looked for as letters only.
    """
    first = telling(seen, doubted)
    known = [j for j, s in enumerate(seen) if (s.number is not None or s.kind == "text") and j != doubted]
    used = [j for j, sighting in enumerate(seen) if sighting.kind != "any"]
    forms: dict[bytes, list[tuple[_Form, int]]] = {}
    for form in _forms(seen, known):
        if in_letters and form.name not in LETTERS:
            continue
        run, lead = _searched(form, first)
        forms.setdefault(run, []).append((form, lead))
    runs = list(forms)
    hits = scan_array(contents[first].data, runs)
    found: dict[tuple[tuple[int, ...], str], Place] = {}
    for number in distinct(hits.runs).tolist():
        offsets = hits.offsets[hits.runs == number][:MOST_HITS]
        plain_forms = forms[runs[number]]
        for form, lead in (*plain_forms, *_filled_up(plain_forms, contents[first].data, first, offsets)):
            if end.over or len(found) >= most:
                return list(found.values())
            at = offsets
            if form.raws[first] != runs[number]:
                at = beginning_with(form.raws[first], contents[first].data, offsets - lead)
            for place in _of_form(form, contents, carriers, seen, used, first, at, plain=plain):
                place.doubts = doubted if doubted is not None else place.doubts
                found.setdefault((place.offsets, place.stored_as), place)
    return list(found.values())


def _forms(seen: Sequence[Sighting], known: list[int]) -> Iterator[_Form]:
    """Each storage and scale that can hold all that was seen."""
    if any(seen[j].kind == "text" for j in known):
        for name, codec in TEXT_ENCODINGS.items():
            try:
                raws = {j: seen[j].text.encode(codec) for j in known}
            except UnicodeEncodeError:
                continue
            if codec != "latin-1" or not all(raw.isascii() for raw in raws.values()):
                yield _Form(name, Fraction(1), raws)
        return
    signed = any((seen[j].number or 0) < 0 for j in known)
    others = "whole" if signed else "signed"
    for name, storage in NUMBERS.items():
        if storage.family == others:
            continue
        for scale in FEW_SCALES.get(storage.family, SCALES):
            spelled: dict[int, bytes] = {}
            for j in known:
                raw = storage.spell((seen[j].number or Fraction(0)) * scale)
                if raw is None:
                    break
                spelled[j] = raw
            else:
                yield _Form(name, scale, spelled)


def _filled_up(
    forms: Sequence[tuple[_Form, int]], data: Array, first: int, offsets: Array
) -> Iterator[tuple[_Form, int]]:
    """Those of digits that have zeros in front, for each width that they have at some offsets of one of the snapshots;
    each with how many zeros that are there.
    """
    for form, _ in forms:
        size = len(form.raws[first])
        if form.name != "digits" or form.scale != 1 or not form.raws[first].isdigit():
            continue
        behind_zeros = offsets[(offsets > 0) & (data[offsets - 1] == ord("0"))]
        for width in sorted(set(islice(_widths(data, behind_zeros, size), MOST_WIDTHS))):
            if all(each.isdigit() and len(each) <= width <= LONGEST_FILLED for each in form.raws.values()):
                filled = {j: each.rjust(width, b"0") for j, each in form.raws.items()}
                yield form._replace(raws=filled), width - size


def _widths(data: Array, offsets: Array, size: int) -> Iterator[int]:
    """How many letters digits have with the zeros in front of them, wherever these are not within another number."""
    for at in offsets.tolist():
        low = max(at - LONGEST_FILLED, 0)
        front = data[low:at].tobytes()
        zeros = len(front) - len(front.rstrip(b"0"))
        around = front[len(front) - zeros - 1 :][:1] if zeros < len(front) else b"", data[at + size :][:1].tobytes()
        if not IN_NUMBER.intersection(around):
            yield zeros + size


def _searched(form: _Form, first: int) -> tuple[bytes, int]:
    """The run of bytes a form is looked for by, and where in its bytes that begins: digits in binary have zeros in
    front, so that all widths of them are looked for at once.
    """
    raw = form.raws[first]
    if form.name in NUMBERS and NUMBERS[form.name].family in ("packed", "unpacked"):
        run = raw.rstrip(b"\0") if form.name.endswith("le") else raw.lstrip(b"\0")
        if len(run) >= LEAST_SEARCHED:
            return run, 0 if form.name.endswith("le") else len(raw) - len(run)
    return raw, 0


def beginning_with(raw: bytes, data: Array, at: Array) -> Array:
    """Those of some offsets at which these bytes are."""
    at = at[(at >= 0) & (at + len(raw) <= data.size)]
    for place, byte in enumerate(raw):
        at = at[data[at + place] == byte]
    return at


def _of_form(
    form: _Form,
    contents: Sequence[Content],
    carriers: dict[int, Carrier],
    seen: Sequence[Sighting],
    used: list[int],
    first: int,
    offsets: Array,
    *,
    plain: bool,
) -> Iterator[Place]:
    known = [j for j in used if seen[j].number is not None or seen[j].kind == "text"]
    most = len(used) - (len(known) - len(form.raws))
    least = len(used) - (len(known) >= ENOUGH_TO_DOUBT)
    width = max(map(len, form.raws.values()))
    where = {first: offsets}
    fits = np.full(offsets.size, most, np.int64)
    doubts = np.full(offsets.size, -1)
    for j, raw in sorted(form.raws.items(), key=lambda item: -len(item[1])):
        if j != first:
            at, _ = carriers[j].carried(where[first], width, raw, plain=plain)
            fits[at < 0] -= 1
            doubts[at < 0] = j
            where[j] = at
            kept = fits >= least
            fits, doubts = fits[kept], doubts[kept]
            where = {k: each[kept] for k, each in where.items()}
    if not fits.size:
        return
    if fits.size > MOST_LEFT:  # of so many, those whose surroundings agree best
        agreed = [
            carriers[j].agreement(where[first], np.maximum(at, 0), width) for j, at in where.items() if j != first
        ]
        best = np.argsort(-np.sum(agreed, axis=0), kind="stable") if agreed else np.arange(fits.size)
        best = np.sort(best[:MOST_LEFT])
        fits, doubts = fits[best], doubts[best]
        where = {k: each[best] for k, each in where.items()}
    for j in range(len(contents)):
        missing = np.flatnonzero(where[j] < 0) if j in where else np.arange(fits.size)
        if missing.size:
            at, _ = carriers[j].carried(where[first][missing], width, None, plain=plain)
            where.setdefault(j, np.full(fits.size, -1))[missing] = at
    begins_there: Array = np.all([where[j] >= 0 for j in range(len(contents))], axis=0)
    if form.name not in STORAGES:
        for index in np.flatnonzero(begins_there).tolist():
            yield _text_place(
                form, contents, seen, tuple(int(where[j][index]) for j in range(len(contents))), int(fits[index])
            )
        return
    columns = []
    for j, content in enumerate(contents):
        values, begins = read_numbers(NUMBERS[form.name], content.data, np.maximum(where[j], 0))
        columns.append(values)
        begins_there &= begins
    raws = [content.data.tobytes() for content in contents] if form.name == "digits" else []
    for index in np.flatnonzero(begins_there).tolist():
        held = tuple(float(column[index]) for column in columns)
        if follows(held, seen, used):
            place_at = tuple(int(where[j][index]) for j in range(len(contents)))
            place = Place(place_at, form.name, int(fits[index]), len(used), float(form.scale), values=held)
            place.doubts = int(doubts[index]) if doubts[index] >= 0 else None
            if raws and len(set(place_at)) == 1 and (buffer := buffer_around(raws, place_at[0])) is not None:
                place.end, place.lead = TextEnd(room=buffer[1] - buffer[0]), place_at[0] - buffer[0]
            elif raws:
                parts = {j: contents[j].data for j in used}
                digits = {j: raws[j][place_at[j] :][: len(NUMBERS["digits"].encode(int(held[j])))] for j in used}
                place.end = length_in_front(parts, place_at, digits)
            yield place


def follows(values: tuple[float, ...], seen: Sequence[Sighting], used: list[int]) -> bool:
    """Whether values keep what was seen as more, less, same or changed."""
    for j in used:
        before, now = values[max(j - 1, 0)], values[j]
        kept = {"more": now > before, "less": now < before, "same": now == before, "changed": now != before}
        if not kept.get(seen[j].kind, True):
            return False
    return True


def _text_place(
    form: _Form, contents: Sequence[Content], seen: Sequence[Sighting], where: tuple[int, ...], fits: int
) -> Place:
    raws = form.raws
    place = Place(where, form.name, fits, len(raws), values=tuple(sighting.text for sighting in seen))
    parts = {j: contents[j].data for j in raws}
    place.end = text_end(parts, where, raws, unit_of(TEXT_ENCODINGS[form.name]))
    return place
