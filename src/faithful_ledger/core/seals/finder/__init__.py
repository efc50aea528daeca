"""Which algorithm over which bytes gives which stored ones: found from saves of one game.

The likeliest comes first: natural ranges, then any range of what takes one byte after the other, then of sums. What is
found more than once at a place is listed with its best explanation.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from functools import partial
from itertools import chain, groupby, product
from time import monotonic, thread_time

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.seals.algorithms import ALGORITHMS, COPY, KEYED, LENGTH, TIMES, Algorithm, algorithm
from faithful_ledger.core.seals.finder.anchored import anchored
from faithful_ledger.core.seals.finder.best import Best, is_repetition, mirrored, order
from faithful_ledger.core.seals.finder.chosen import NO_EDGES, Edges
from faithful_ledger.core.seals.finder.constants import once_more, with_constants
from faithful_ledger.core.seals.finder.copies import copies
from faithful_ledger.core.seals.finder.finding import (
    Finding,
    as_written,
    edges_bits,
    less_plain,
    name_bits,
    stored_bits,
)
from faithful_ledger.core.seals.finder.lengths import lengths, lengths_of, of_what_follows, with_said
from faithful_ledger.core.seals.finder.natural import SLOW, all_natural, natural
from faithful_ledger.core.seals.finder.own_hashes import with_own_hashes
from faithful_ledger.core.seals.finder.pages import digests_of_pages
from faithful_ledger.core.seals.finder.places import Edge, Place, alike, is_text, places
from faithful_ledger.core.seals.finder.ranges import Differences, any_range, chains
from faithful_ledger.core.seals.finder.repeated import with_others
from faithful_ledger.core.seals.finder.said import over_said
from faithful_ledger.core.seals.finder.sums import Further, any_sum, summings
from faithful_ledger.core.seals.finder.unknown import LEAST_SAVES, WIDTHS, unknown_crc, with_own_start
from faithful_ledger.core.seals.finder.up_front import digests_up_front
from faithful_ledger.core.seals.finder.weighted import WEIGHTED, any_weighted
from faithful_ledger.core.seals.hashes import DIGESTS
from faithful_ledger.core.seals.sums import SUMS

__all__ = ["Edge", "Edges", "Finding", "Hints", "algorithms_for", "find_seals"]

MIXED, DENSE_PLACES = 96, 24
RESTLESS = {16: 320, 32: 160, 64: 48}  # places of each width; a narrow sum has more that look like it
MUCH_CHANGED = 1024  # bytes, with which a place takes longer and a third of them are looked at
UNKNOWN_PLACES, UNKNOWN_SECONDS = 12, 6.0  # where saves differ all over, dividing takes long
MOST_KEPT, BETWEEN_REPORTS = 300, 0.5
ENOUGH = 3  # saves of one size for a search over any range


class Hints:
    """What is known already: the name of an algorithm, the range, where it is stored, a key; or that ranges begin and
    end where people choose, and no others are worth a look.
    """

    def __init__(
        self,
        algorithm: str = "",
        over: tuple[int, int] | None = None,
        stored_at: int | None = None,
        key: bytes = b"",
        *,
        natural: bool = False,
    ) -> None:
        self.algorithm, self.over, self.stored_at, self.key, self.natural = algorithm, over, stored_at, key, natural

    @property
    def naturally(self) -> Hints:
        """The same, where ranges begin and end where people choose."""
        return Hints(self.algorithm, self.over, self.stored_at, self.key, natural=True)

    def fits(self, finding: Finding, size: int) -> bool:
        """Whether a finding is within them; `size` is that of the first save."""
        start, end, at = finding.spans(size)
        named = not self.algorithm or finding.algorithm.name.startswith(self.algorithm)
        placed = self.stored_at is None or at == self.stored_at
        return named and placed and (self.over is None or (start, end) == self.over)

    def credited(self, finding: Finding, size: int) -> Finding:
        """A finding within them with the bits that it did not cost to choose what is known."""
        start, end, at = finding.spans(size)
        if finding.algorithm.name in (LENGTH, COPY):
            return finding
        place = at, at + finding.size
        known = stored_bits(place, size) if self.stored_at is not None else 0.0
        known += name_bits(finding.algorithm) if self.algorithm else 0.0
        known += edges_bits((start, end), place, size) if self.over is not None else 0.0
        return replace(finding, bits=finding.bits + known) if known else finding


def find_seals(
    saves: Sequence[bytes],
    hints: Hints | None = None,
    end: Deadline = NEVER,
    report: Callable[[list[Finding]], None] = lambda found: None,
    edges: Edges = NO_EDGES,
) -> list[Finding]:
    """The seals of saves of one game, the surest first. `report` is given what is known whenever there is more. Where
    parts of the saves are known to begin and end (`edges`), what is covered may as well.

    Saves that are the same count once. When the time is up, what was found until then is returned.
    """
    hints = hints or Hints()
    contents = list(dict.fromkeys(saves))
    found: dict[tuple[object, ...], Finding] = {}
    explained: set[int] = set()
    best = Best(contents)
    reported = monotonic()
    for finding in _all(contents, hints, explained, end, edges):
        checked = less_plain(as_written(finding, contents).checked(contents), contents)
        known = found.get(_rule(checked))
        better = known is None or known.bits < checked.bits
        fits = checked.holds_in == checked.of and better and hints.fits(checked, len(saves[0]))
        if fits and not is_repetition(checked, contents):
            checked = hints.credited(checked, len(saves[0]))
            checked, others = with_others(checked, contents)
            found[_rule(checked)] = checked
            if (other := mirrored(checked, contents)) is not None and hints.fits(other, len(saves[0])):
                found.setdefault(_rule(other), other)
            if len(found) > 2 * MOST_KEPT:  # chance finds more and more in few saves
                found = dict(sorted(found.items(), key=lambda item: order(item[1]))[:MOST_KEPT])
            if checked.sure:
                for other in others:
                    known = found.get(_rule(other))
                    if hints.fits(other, len(saves[0])) and (known is None or known.bits < other.bits):
                        found[_rule(other)] = other
                at = checked.stored.at(len(contents[0]))
                explained.update(range(at, at + checked.size))
            if checked.sure or monotonic() > reported + BETWEEN_REPORTS:
                report(best.of(list(found.values())))
                reported = monotonic()
    sure = [each for each in found.values() if each.sure and each.algorithm.name not in (LENGTH, COPY)]
    following = lengths_of(contents, sure) if LENGTH.startswith(hints.algorithm) and not hints.key else ()
    again = once_more(sure, places(contents, hints.stored_at), contents[0]) if sure and not hints.key else ()
    for finding in chain(following, again):
        checked = finding.checked(contents)
        if hints.fits(checked, len(saves[0])) and checked.holds_in == checked.of:
            found.setdefault(_rule(checked), checked)
    return best.of([of_what_follows(each, sure, contents) for each in found.values()])


def _rule(finding: Finding) -> tuple[object, ...]:
    """What findings have in common that say the same."""
    return finding.algorithm, finding.start, finding.end, finding.stored, finding.own, finding.said


def _all(contents: list[bytes], hints: Hints, explained: set[int], end: Deadline, edges: Edges) -> Iterator[Finding]:
    """Everything that may be found; `explained` are the offsets in the first save of what is sure already."""
    if not contents or min(map(len, contents)) < 8:
        return
    spots = places(contents, hints.stored_at)
    group = _same_size(contents)
    enough = len(group) >= ENOUGH
    algorithms = algorithms_for(hints)
    if len(contents) == 1 and hints.stored_at is None and hints.over is None and not hints.algorithm:
        algorithms = [each for each in algorithms if each.bits > 8]  # chance explains any byte
    slow = [each for each in algorithms if each.name in SLOW]
    quick = [each for each in algorithms if (each.is_digest or each.bits == 8 or not enough) and each not in slow]
    known = [each for each in algorithms if each not in quick and each not in slow]
    if LENGTH.startswith(hints.algorithm) and not hints.key and not all(map(is_text, contents)):
        yield from lengths(contents, end)
    if COPY.startswith(hints.algorithm) and not hints.key:
        yield from copies(contents, end)
    edges = with_said(edges, contents)
    if hints.natural:
        yield from natural(contents, spots, [*known, *quick], end, edges)
        return
    yield from natural(contents, spots, [*known[:6], *quick], end, edges)
    if len(group) > 1:
        of_group = spots if len(group) == len(contents) else places(group, hints.stored_at)
        for finding in _over_any_range(group, of_group, end, hints.algorithm):
            yield from _of_all_sizes(finding, group, contents)
    if not enough or len(group) < len(contents):
        for finding in () if hints.key else anchored(contents, spots, end, hints.algorithm):
            yield finding if not alike(contents) else _counted(finding, len(group[0]))
    if not alike(contents) and not hints.key:
        yield from with_constants(contents, spots, end, edges, hints.algorithm)
    yield from over_said(contents, spots, algorithms, end)
    if not any(map(is_text, contents)) and hints.over is None:
        yield from digests_up_front(contents, algorithms, end)
        yield from digests_of_pages(contents, algorithms, end)
    yield from natural(contents, spots, [*known[6:], *slow], end, edges)
    if not hints.key:
        yield from with_own_hashes(contents, spots, end, edges, hints.algorithm, explained)
    if len(group) >= LEAST_SAVES and (not hints.algorithm or "crc".startswith(hints.algorithm[:3])) and not hints.key:
        for finding in _of_unknown_polynomials(group, places(group, hints.stored_at), explained, end):
            yield from _of_all_sizes(finding, group, contents)


def _over_any_range(group: list[bytes], spots: list[Place], end: Deadline, named: str) -> Iterator[Finding]:
    """From saves of one size; with a name only what begins so."""
    differences = Differences(group)
    dense = differences.at.size > max(len(group[0]) // 4, 2048)
    mixed = [place for place in spots if place.mixed][: DENSE_PLACES if dense else MIXED]
    if len(group) < ENOUGH:  # two saves tell little apart
        mixed = [place for place in mixed if place.bits >= 32][:DENSE_PLACES]
    for way, place in product(chains(named), mixed):
        if end.over:
            return
        yield from any_range(differences, place, way)
    least = 16 if len(group) >= ENOUGH else 32
    few = dense or len(group) < ENOUGH
    part = 3 if differences.at.size > MUCH_CHANGED else 1
    by_bits = groupby(sorted(spots, key=lambda place: place.bits), lambda place: place.bits)
    restless = {
        bits: [place for place in of_size if place.restless][: DENSE_PLACES if few else RESTLESS.get(bits, 0) // part]
        for bits, of_size in by_bits
    }
    further = Further()
    ways = [(way.name, way.bits, partial(any_sum, differences, way=way, further=further)) for way in summings()]
    ways += [(name, SUMS[name].bits, partial(any_weighted, differences, name=name)) for name in WEIGHTED]
    for name, bits, found_at in ways:
        for place in restless.get(bits, []) if name.startswith(named) and bits >= least else ():
            if end.over:
                return
            yield from found_at(place)


def _of_unknown_polynomials(
    group: list[bytes], spots: list[Place], taken: set[int], end: Deadline
) -> Iterator[Finding]:
    """From saves of one size, at places that nothing explains; parts of a wide one look like narrow ones."""
    differences = Differences(group)
    mixed = [place for place in spots if place.mixed]
    own = Deadline(UNKNOWN_SECONDS, thread_time)
    for bits in WIDTHS:
        for place in [place for place in mixed if place.bits == bits][:UNKNOWN_PLACES]:
            if end.over or own.over:
                return
            at = place.edge.at(differences.size)
            if not taken.intersection(range(at, at + place.size)):
                yield from unknown_crc(differences, place, own)


def algorithms_for(hints: Hints) -> list[Algorithm]:
    """Those to look for, the commonest first; with a key those that it is part of."""
    if hints.key:
        hashed = [ALGORITHMS[name] for name in (*DIGESTS, "crc-32")]
        every = [Algorithm(f"{KEYED}{name}", key=hints.key) for name in DIGESTS]
        every += [replace(each, salt_behind=hints.key) for each in hashed]
        every += [replace(each, salt_before=hints.key) for each in hashed]
        return [each for each in every if each.name.startswith(hints.algorithm)]
    named = algorithm(hints.algorithm) if hints.algorithm not in ("", TIMES) else None
    if named is not None:
        return [named]
    return [each for each in all_natural() if each.name.startswith(hints.algorithm)]


def _same_size(contents: list[bytes]) -> list[bytes]:
    """The largest group of saves of one size."""
    by_size: dict[int, list[bytes]] = defaultdict(list)
    for content in contents:
        by_size[len(content)].append(content)
    return max(by_size.values(), key=len)


def _of_all_sizes(finding: Finding, group: list[bytes], contents: list[bytes]) -> Iterator[Finding]:
    """A finding in saves of one size, with edges counted so that it may hold in the others as well."""
    size = len(group[0])
    if finding.constant_only and not alike(contents):
        solved = with_own_start(finding, [*group, *(each for each in contents if len(each) != size)])
        if solved is not None:
            yield solved
            return
    if alike(contents):
        yield _counted(finding, size)
        return
    edges = [(Edge(offset), Edge(size - offset, True)) for offset in finding.spans(size)]
    for start, end, stored in product(*edges):
        yield replace(finding, start=start, end=end, stored=stored)


def _counted(finding: Finding, size: int) -> Finding:
    """An end that is at the end of the file, or near it, is counted from there."""
    _, end, at = finding.spans(size)
    last = Edge(size - end, True) if end > size // 2 and end != at else finding.end
    stored = Edge(size - at, True) if at > size // 2 else finding.stored
    if end == at:
        last = stored
    return replace(finding, end=last, stored=stored)
