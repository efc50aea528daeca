"""The places in one payload of every snapshot: the ways of looking, the plain ones first."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cached_property, partial
from typing import NamedTuple

import numpy as np

from faithful_ledger.core.compare import align
from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.evidence.bit_numbers import bit_places
from faithful_ledger.core.evidence.carrying import Carrier
from faithful_ledger.core.evidence.content import Content
from faithful_ledger.core.evidence.counted_paths import counted_places
from faithful_ledger.core.evidence.exact import ENOUGH_TO_DOUBT, exact_places, telling
from faithful_ledger.core.evidence.far_keys import far_keyed_places, in_sections
from faithful_ledger.core.evidence.judging import USUAL_SCALES, is_clear, judge, without_echoes
from faithful_ledger.core.evidence.moving_records import places_in_records
from faithful_ledger.core.evidence.own_letters import places_in_own_letters
from faithful_ledger.core.evidence.parallel_lists import places_in_lists
from faithful_ledger.core.evidence.pinned import Known
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.evidence.places import MOST_PLACES, SMALL, related_places
from faithful_ledger.core.evidence.reading import STORAGES, Array
from faithful_ledger.core.evidence.sightings import Sighting, are_switches
from faithful_ledger.core.evidence.texts import path_places
from faithful_ledger.core.formats import Document, recognised_together
from faithful_ledger.core.profile.entropy import entropy
from faithful_ledger.core.source import MemorySource

__all__ = ["RELATED", "Search", "Step"]

RELATED = "with a bias, any scale, rounded, by more and less, and from any bit on"
NOISE = 7.95  # bits a byte
PLAIN = ", at the same offset"
MAPPED = 4 << 20  # bytes; larger payloads are aligned instead
BLOCK, MOST_CHANGED = 256, 32  # bytes; where something moved in or out, more of a block differ


class Step(NamedTuple):
    """A way of looking; those of a lower rank are taken first, in all payloads."""

    rank: int
    look: Callable[[], None]


@dataclass
class Search:
    """What is looked for in one payload of each snapshot, and what was found.

    `tried` are the ways of looking in words, `not_tried` those for which the time was up.
    """

    payloads: Sequence[bytes]
    seen: Sequence[Sighting]
    end: Deadline = NEVER
    pinned: Sequence[Known] = ()
    found: list[Place] = field(default_factory=list)
    tried: list[str] = field(default_factory=list)
    not_tried: list[str] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.contents = [Content(np.frombuffer(payload, np.uint8)) for payload in self.payloads]
        self.first = telling(self.seen)
        self.carriers = self._carriers(self.first)

    def run(self) -> None:
        """Look in every way that is needed, as long as there is time."""
        for step in sorted(self.steps(), key=lambda step: step.rank):
            if not self.clear:
                step.look()

    def steps(self) -> list[Step]:
        """The ways of looking that these payloads and sightings allow."""
        if documents := recognised_together([MemorySource(payload) for payload in self.payloads]):
            return [Step(0, partial(self._paths, documents)), Step(1, self._letters)]
        exact = any(sighting.number is not None for sighting in self.seen)
        text = any(sighting.kind == "text" for sighting in self.seen) and not are_switches(self.seen)
        sizes = {content.data.size for content in self.contents}
        large = max(sizes) > SMALL
        found = []
        if len(sizes) == 1:  # most often nothing moved
            found += [Step(0, partial(self._exact, plain=True))] if exact or text else []
            found += [Step(1, partial(self._related, plain=True))] if large and not text else []
        rank = 2 if found and large else 0  # in large payloads what moved is looked for last
        found += [Step(rank, partial(self._exact, plain=False))] if exact or text else []
        found += [Step(rank + 1, partial(self._related, plain=False) if not text else self._own_letters)]
        return found

    def _paths(self, documents: list[Document]) -> None:
        if self._has_time("values at paths of the text"):
            self.found = path_places(documents, self.seen, self.end)
            if not any(place.fits == place.of for place in self.found):
                self.found = counted_places(documents, self.seen, self.end) or self.found
            self._judge()

    def _letters(self) -> None:
        """What is at no path of a text may still be in it, as in one of a format that only looks like another."""
        if not self.found and self._has_time("anywhere in the text"):
            self.found = exact_places(self.contents, self.carriers, self.seen, MOST_PLACES, self.end, in_letters=True)
            self._judge()

    def _own_letters(self) -> None:
        """A text that is in no known encoding may be in letters of the game's own."""
        if not self.found and self._has_time("in letters of the game's own"):
            self.found = places_in_own_letters(self.contents, self.seen, self.first)
            self._judge()

    def _carriers(self, first: int) -> dict[int, Carrier]:
        here = self.contents[first]
        return {j: Carrier(here, there) for j, there in enumerate(self.contents) if j != first}

    def _judge(self, *, plain: bool = False) -> None:
        """Rank what was found. At the same offsets of large payloads no other spot is asked about."""
        judge(self.found, self.contents, self.carriers, self.first, self.seen, self.pinned, closely=not plain)
        self.found = without_echoes(self.found)

    @property
    def is_noise(self) -> bool:
        """Whether every snapshot is as even as noise: only what is exactly known stands out from chance then."""
        return all(entropy(content.sample) >= NOISE for content in self.contents)

    @property
    def clear(self) -> bool:
        return is_clear(self.found)

    def _exact(self, *, plain: bool) -> None:
        what = "as it is and times 10, 100, 256, 65536" + (PLAIN if plain else "")
        if not self._has_time(what):
            return
        self.found = exact_places(self.contents, self.carriers, self.seen, MOST_PLACES, self.end, plain=plain)
        if not self.found and not plain:
            self._doubt_the_first()
        self._judge(plain=plain)

    def _doubt_the_first(self) -> None:
        """The sighting that tells most may be the one that is mistyped."""
        known = [j for j, sighting in enumerate(self.seen) if sighting.number is not None or sighting.kind == "text"]
        if len(known) >= ENOUGH_TO_DOUBT:
            carriers = self._carriers(telling(self.seen, self.first))
            self.found = exact_places(self.contents, carriers, self.seen, MOST_PLACES, self.end, doubted=self.first)

    def _has_time(self, what: str) -> bool:
        (self.not_tried if self.end.over else self.tried).append(what)
        return not self.end.over

    def _related(self, *, plain: bool) -> None:
        """Places by how their values follow what was seen: with a bias or a scale, rounded, more or less."""
        if not self._has_time(RELATED + (PLAIN if plain else "")):
            return
        if not plain and self._nothing_moved():
            return
        maps = {} if plain else {j: self._map(j) for j in self.carriers}
        parts: list[Array] = []
        for j, content in enumerate(self.contents):
            parts.append(content.data if j not in maps else np.append(content.data, np.uint8(0))[maps[j]])
        known = {(place.offsets, place.stored_as) for place in self.found}
        for place in related_places(parts, self.seen, self.end):
            at, width = place.offsets[0], STORAGES[place.stored_as].least_size
            last = min(at + width, parts[0].size) - 1
            # A value that runs over the end of what moved together would be read with bytes of something else.
            whole = all(int(each[last]) - int(each[at]) == last - at for each in maps.values())
            place.offsets = tuple(int(maps[j][at]) if j in maps else at for j in range(len(self.contents)))
            if whole and (place.offsets, place.stored_as) not in known:
                self.found.append(place)
        if not any(place.scale == 1 and not place.bias and place.bits_in is None for place in self.found):
            self._bits()
        if not any(place.fits == place.of and place.scale == 1 and not place.bias for place in self.found):
            hidden = far_keyed_places([content.data for content in self.contents], self.seen)
            hidden = hidden or in_sections(self.contents, self.seen)
            self.found += hidden or self.in_records
        self._judge(plain=plain)

    @cached_property
    def in_records(self) -> list[Place]:
        """The number in records that change places, or in a list beside another one, if it is in some."""
        data = [content.data for content in self.contents]
        return places_in_records(data, self.seen) or places_in_lists(data, self.seen)

    def _bits(self) -> None:
        """Take in numbers that begin within a byte. What is these very bits with others below them, times as much as
        those make it, says no more.
        """
        bits = bit_places([content.data for content in self.contents], self.seen)
        words = [(place.offsets[0], place.offsets[0] + STORAGES[place.stored_as].least_size) for place in bits]
        self.found = [
            place
            for place in self.found
            if place.scale in USUAL_SCALES or not any(low <= place.offsets[0] < high for low, high in words)
        ]
        self.found += bits

    def _nothing_moved(self) -> bool:
        """Whether large payloads are so alike at the same offsets that the places there are all there are."""
        here, *others = (content.data for content in self.contents)
        if here.size <= SMALL or any(there.size != here.size for there in others):
            return False
        whole = here.size // BLOCK * BLOCK
        changed = ((here[:whole] != there[:whole]).reshape(-1, BLOCK) for there in others)
        return all(int(blocks.sum(axis=1, dtype=np.uint16).max()) <= MOST_CHANGED for blocks in changed)

    def _map(self, j: int) -> Array:
        """For every offset of the first snapshot the one of snapshot j."""
        here, there = self.contents[self.first].data, self.contents[j].data
        if here.size <= MAPPED and there.size <= MAPPED:
            return self.carriers[j].map()
        found = np.full(here.size, there.size)
        for run in align(here, there).stretches:
            found[run.a : run.a + run.length] = np.arange(run.b, run.b + run.length)
        return np.where((found >= 0) & (found < there.size), found, there.size)
