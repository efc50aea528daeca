"""Places that move: where snapshots differ in length or in the order of what they hold.

They are looked for from the end; by alignment, so that a few records in front that make everything behind them shift
do not matter; and around anchors, runs of bytes that stand exactly once in every snapshot, so that records in another
order are found by their keys. A place is recorded behind such an anchor where there is one.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from itertools import takewhile

import numpy as np

from faithful_ledger.core.address import Address
from faithful_ledger.core.compare import align
from faithful_ledger.core.compare.resync import single_windows
from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.evidence.places import places_at
from faithful_ledger.core.evidence.reading import STORAGES, Array
from faithful_ledger.core.evidence.sightings import Sighting

__all__ = ["explained", "moving_places", "set_anchor", "without_twins"]

ANCHOR_LENGTHS = (8, 6, 12, 16)
ANCHOR_REACH = 256
WORD = re.compile(rb"[A-Za-z_][\w -]{3,30}")
KEYED = 1 << 22  # up to so many bytes are looked into around anchors
BEFORE, BEHIND = 32, 96
MOST_ANCHORS = 2048
APART = 12
LONGEST = 10  # bytes of a number of variable length
LEAST_WORD = 4

WhereOf = Callable[[int], tuple[int, ...]]


def moving_places(
    data: list[Array], seen: Sequence[Sighting], found: list[Place], end: Deadline = NEVER
) -> list[Place]:
    """Places at different offsets. `found` are those at the same offset of every snapshot; where what surrounds one of
    them is elsewhere in another snapshot, it is marked as `strayed`.
    """
    moving: list[Place] = []
    sizes = {part.size for part in data}
    if len(data) == 1 or (len(sizes) == 1 and explained(found)):
        return moving
    if len(sizes) > 1:
        least = min(sizes)
        back = [part[part.size - least :] for part in data]
        moving += _settled(places_at(back, seen, end), data, lambda at: tuple(p.size - least + at for p in data), "end")
    if end.over:
        return moving
    alignments = [align(data[0], part) for part in data]
    if any(stretch.a != stretch.b for each in alignments for stretch in each.stretches):
        based = [each.rebased() for each in alignments]

        def where_of(at: int) -> tuple[int, ...]:
            return tuple(each.place_of(at) for each in alignments)

        for place in [*found, *moving]:
            place.strayed = where_of(place.offsets[0]) != place.offsets
        moving += _settled(places_at(based, seen, end), data, where_of, "aligned by what surrounds it")
    telling = any(sighting.number is not None for sighting in seen)  # a switch or “more” fits many places by chance
    if max(sizes) <= KEYED and not (telling and explained([*found, *moving])):
        moving += _keyed(data, seen, end)
    return moving


def explained(found: list[Place]) -> bool:
    """Whether some place explains all that was seen, and did not stray."""
    return any(place.fits == place.of and not place.strayed for place in found)


def _keyed(data: list[Array], seen: Sequence[Sighting], end: Deadline) -> list[Place]:
    """Places near runs that stand once in every snapshot, wherever."""
    anchors = np.array(list(_common_anchors([part.tobytes() for part in data])), np.int64).reshape(-1, len(data))
    anchors = anchors[(anchors != anchors[:, :1]).any(axis=1)]
    if not anchors.size:
        return []
    reach = np.arange(-BEFORE, BEHIND)
    where_of = [(anchors[:, j, None] + reach).ravel() for j in range(len(data))]
    inside = np.all([(lie >= 0) & (lie < part.size) for lie, part in zip(where_of, data, strict=True)], axis=0)
    where_of = [lie[inside] for lie in where_of]
    based = [part[lie] for part, lie in zip(data, where_of, strict=True)]
    found = places_at(based, seen, end)
    kept = []
    for place in found:
        # A value that runs over the end of its surroundings would be read with bytes of the next ones.
        width, at = STORAGES[place.stored_as].least_size, place.offsets[0]
        if all(int(lie[min(at + width, lie.size) - 1]) - int(lie[at]) == width - 1 for lie in where_of):
            kept.append(place)
    return _settled(kept, data, lambda at: tuple(int(lie[at]) for lie in where_of), "beside what stands once in each")


def _common_anchors(contents: list[bytes]) -> Iterator[tuple[int, ...]]:
    """Where runs that stand once in every snapshot lie in each: words first, then any eight or four bytes."""
    count, last = 0, -APART
    for match in WORD.finditer(contents[0]):
        if all(content.count(match[0]) == 1 for content in contents):
            count += 1
            yield tuple(content.find(match[0]) for content in contents)
        if count == MOST_ANCHORS:
            return
    for size in (8, 4):
        singles = [single_windows(content, size) for content in contents]
        common = singles[0][0]
        for words, _ in singles[1:]:
            common = np.intersect1d(common, words, assume_unique=True)
        places = [at[np.searchsorted(words, common)] for words, at in singles]
        for number in np.argsort(places[0]).tolist():
            if places[0][number] >= last + APART:
                last = int(places[0][number])
                count += 1
                yield tuple(int(each[number]) for each in places)
            if count >= MOST_ANCHORS:
                return
        last = -APART


def _settled(found: list[Place], data: list[Array], where_of: WhereOf, how: str) -> list[Place]:
    """Places found in rearranged snapshots, with their own offsets and anchors; those that do not move are left out.

    `where_of` says where an offset of the rearranged snapshots is in each of them.
    """
    contents = [part.tobytes() for part in data]
    kept = []
    for place in found:
        place.offsets = where_of(place.offsets[0])
        width = STORAGES[place.stored_as].least_size
        inside = all(0 <= at <= part.size - width for at, part in zip(place.offsets, data, strict=True))
        if len(set(place.offsets)) == 1 or not inside:
            continue
        if how == "end":
            place.found_by = Address.from_end(data[0].size - place.offsets[0])
        else:
            set_anchor(place, contents, how)
        kept.append(place)
    return kept


def without_twins(found: list[Place]) -> list[Place]:
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
    return any((place.offsets[0] + step, place.fits) in plain for step in range(storage.least_size))


def set_anchor(place: Place, contents: list[bytes], otherwise: str) -> None:
    """Record how a place that moves is found again."""
    places = enumerate(zip(contents, place.offsets, strict=True))
    ends = tuple(at + place.size(j, content[at : at + LONGEST]) for j, (content, at) in places)
    place.how = otherwise
    if (found := _anchor(contents, place.offsets)) is not None:
        place.found_by = Address.behind(*found)
    elif not place.end_is_known:
        widest = max(end - offset for end, offset in zip(ends, place.offsets, strict=True))
        if (found := _anchor_after(contents, place.offsets, widest)) is not None:
            place.found_by = Address.behind(*found)
    elif (found := _anchor_after(contents, ends, 0)) is not None:
        place.found_by = Address.before(found[0], -found[1])


def _anchor(contents: list[bytes], offsets: tuple[int, ...]) -> tuple[bytes, int] | None:
    """The nearest run in front that stands exactly once in every snapshot, at the same distance: a word, else bytes.

    A word counts as far as it is the same in all of them: letters may follow it that are really numbers.
    """
    first, at = contents[0], offsets[0]
    base = max(at - ANCHOR_REACH, 0)
    words = [(base + match.start(), base + match.end()) for match in WORD.finditer(first[base:at])]
    for start, end in reversed(words):
        gap = at - start
        if min(offsets) < gap:
            continue
        parts = [content[offset - gap : offset - at + end] for content, offset in zip(contents, offsets, strict=True)]
        run = _alike(parts)
        if len(run) >= LEAST_WORD and all(content.count(run) == 1 for content in contents):
            return run, gap
    for far in range(min(ANCHOR_REACH, min(offsets))):
        for size in ANCHOR_LENGTHS:
            if (nearest := _common(contents, offsets, -far - size, size)) is not None:
                return nearest, far + size
    return None


def _alike(parts: list[bytes]) -> bytes:
    """The beginning that all have in common."""
    same = (len(set(column)) == 1 for column in zip(*parts, strict=False))
    return parts[0][: len(list(takewhile(bool, same)))]


def _anchor_after(contents: list[bytes], offsets: tuple[int, ...], nearest: int) -> tuple[bytes, int] | None:
    """The nearest such run behind, from so many bytes on; its distance, counted from its beginning, is negative."""
    for far in range(nearest, ANCHOR_REACH):
        for size in ANCHOR_LENGTHS:
            if (run := _common(contents, offsets, far, size)) is not None:
                return run, -far
    return None


def _common(contents: list[bytes], offsets: tuple[int, ...], step: int, size: int) -> bytes | None:
    """The bytes so far from the offsets, where they are the same in every snapshot and stand nowhere else."""
    if min(offsets) + step < 0:
        return None
    begin = offsets[0] + step
    run = contents[0][begin : begin + size]
    if len(run) < size or run.count(run[:1]) == size:
        return None
    for content, offset in zip(contents, offsets, strict=True):
        if content[offset + step : offset + step + size] != run or content.count(run) != 1:
            return None
    return run
