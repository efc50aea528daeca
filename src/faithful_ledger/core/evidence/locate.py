"""From sightings to places: every way of looking is tried, and the places are ranked with their reasons.

Looked for are numbers and texts in the bytes as they are, wherever they moved; in text saves only values at paths; and
the same in what is packed or scrambled, as far as it opens in every snapshot. What is found until the time is up is
returned, with what was tried and what was not.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import pairwise
from typing import NamedTuple

import numpy as np

from faithful_ledger.core.compare import align
from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.evidence.anchors import is_behind_word, set_anchor, set_label
from faithful_ledger.core.evidence.banks import set_banks
from faithful_ledger.core.evidence.judging import CLEAR_LEAD, copies_of, into_spots, is_clear, reasons_for
from faithful_ledger.core.evidence.moving_records import set_record
from faithful_ledger.core.evidence.pinned import Known
from faithful_ledger.core.evidence.place import Guides, Place
from faithful_ledger.core.evidence.reading import STORAGES, Array
from faithful_ledger.core.evidence.searching import RELATED, Search
from faithful_ledger.core.evidence.sections import set_sections
from faithful_ledger.core.evidence.shadows import shadows_of
from faithful_ledger.core.evidence.shown import read_as, readings
from faithful_ledger.core.evidence.sightings import Sighting
from faithful_ledger.core.evidence.stored_keys import stored_key
from faithful_ledger.core.formats import looks_like_text
from faithful_ledger.core.hidden_strings import find_hidden_strings
from faithful_ledger.core.inside import Payload, layer_of_whole, look_inside, strong_layers
from faithful_ledger.core.layers import ENCLOSED, LayerSpec
from faithful_ledger.core.layers.archives import archive_of
from faithful_ledger.core.layers.enclosed import enclosed_span
from faithful_ledger.core.layers.sqlite_tables import SQLITE
from faithful_ledger.core.layers.stream import Layer
from faithful_ledger.core.layers.swapping import SWAPPINGS
from faithful_ledger.core.layers.tagged import TAGGED
from faithful_ledger.core.layers.transcoding import TRANSCODINGS
from faithful_ledger.core.profile import find_layers
from faithful_ledger.core.profile.arrangement import arrangement_of
from faithful_ledger.core.source import MemorySource, Source
from faithful_ledger.core.unlocking import NO_KEYS, Keys

__all__ = ["Located", "NotTried", "locate", "locate_in_set", "locate_shown"]

HOPELESS = 0.9
RANKS = 4  # of the ways of looking
MOST_EACH = 20  # places a payload for each spot that is shown
IN_PATHS = (SQLITE, ENCLOSED, *TAGGED, *TRANSCODINGS)  # layers of a whole file whose values have paths
MOSTLY_PACKED = 0.9
BEHIND = CLEAR_LEAD + 1  # bits by which what follows a place comes behind it
HARDLY = 1e-6  # what fits so rarely by chance is believed without a look at what may be inside


class NotTried(NamedTuple):
    """A way of looking that was not taken, and why."""

    what: str
    why: str


@dataclass(slots=True)
class Located:
    """Places, the likeliest first, those of one spot together; what to do in the game next; and a warning where
    comparing is hopeless.

    `by_spot` are the same places, a list for each spot. `payloads` are the unwrapped snapshots by the file and the
    layers of the places found in them. `tried` are the ways of looking that were taken.
    """

    by_spot: list[list[Place]]
    suggestion: str
    warning: str = ""
    payloads: dict[tuple[str, tuple[LayerSpec, ...]], list[Source]] = field(default_factory=dict)
    tried: list[str] = field(default_factory=list)
    not_tried: list[NotTried] = field(default_factory=list)

    def payloads_of(self, place: Place) -> list[Source] | None:
        """The snapshots as they were unwrapped, where a place is inside of layers."""
        return self.payloads.get((place.file, place.within))

    @property
    def places(self) -> list[Place]:
        return [place for spot in self.by_spot for place in spot]

    @property
    def full(self) -> list[Place]:
        """Those that explain every sighting."""
        return [place for place in self.places if place.fits == place.of]

    def copies_of(self, place: Place) -> list[Place]:
        """Other places that said the same in every snapshot."""
        return copies_of(place, self.places)

    @property
    def spots(self) -> int:
        """How many spots explain every sighting about as well as the likeliest one."""
        return len(_rivals(self.by_spot))

    @property
    def settled(self) -> bool:
        """Whether place, width and order are known: nothing else is as likely."""
        rivals = _rivals(self.by_spot)
        return len(rivals) == 1 and is_clear(self.places) and not _width_open(rivals[0])


def _rivals(spots: list[list[Place]]) -> list[list[Place]]:
    full = [spot for spot in spots if spot[0].fits == spot[0].of]
    return [spot for spot in full if spot[0].bits > full[0][0].bits - CLEAR_LEAD and not spot[0].strayed] or full


def _width_open(spot: list[Place]) -> int:
    """The number that has to be passed before the width is known, or 0."""
    best = spot[0]
    storage = STORAGES.get(best.stored_as)
    if storage is None or storage.family not in ("whole", "signed"):
        return 0
    likely = [place for place in spot if place.fits == place.of and place.scale == best.scale and not place.bias]
    sizes = {
        s.least_size
        for place in likely
        if (s := STORAGES.get(place.stored_as)) is not None and s.family == storage.family
    }
    held = max((abs(float(value)) for value in best.values if not isinstance(value, str)), default=0)
    # A number below 65536 may always have two more bytes that are zero; games store either in four.
    return 0 if len(sizes) < 2 else 255 if held < 256 else 65535 if held < 65536 else 0


def locate(snapshots: Sequence[Source], seen: Sequence[Sighting], most: int = 50, end: Deadline = NEVER) -> Located:
    """Find the places that explain what was seen.

    `snapshots[j]` are the bytes kept when `seen[j]` was seen, in the order of time.

    Raises:
        EntryError: nothing was seen that could tell one place from another, or the sightings are of different kinds.
    """
    return locate_in_set([{"": source} for source in snapshots], seen, most, end)


def locate_in_set(
    snapshots: Sequence[Mapping[str, Source]],
    seen: Sequence[Sighting],
    most: int = 50,
    end: Deadline = NEVER,
    report: Callable[[Located], None] | None = None,
    pinned: Sequence[Known] = (),
    keys: Keys = NO_KEYS,
) -> Located:
    """As `locate`, where each snapshot is a set of files by their names; each place says which `file` it is in.

    A file that is missing in a snapshot, or the same in two snapshots between which the quantity changed, is left out.
    When the time is up, or `end` is cancelled, what was found until then is returned. `report` is given what is known
    whenever there is more. Places close to quantities that are `pinned` already are likelier. What is hidden under
    `keys` is opened.
    """
    _check(seen)
    looking = _Looking(seen, most, end, report, pinned, keys)
    for name in snapshots[0]:
        if all(name in files for files in snapshots):
            looking.in_file(name, [files[name] for files in snapshots])
        else:
            missing = sum(name in files for files in snapshots)
            looking.not_tried.append(NotTried(name, f"it is in {missing} of {len(snapshots)} copies only"))
    return looking.located()


def locate_shown(
    snapshots: Sequence[Mapping[str, Source]],
    texts: Sequence[str],
    most: int = 50,
    end: Deadline = NEVER,
    report: Callable[[Located], None] | None = None,
    pinned: Sequence[Known] = (),
    keys: Keys = NO_KEYS,
) -> Located:
    """As `locate_in_set`, for what people copied from the screen: `1,340`, `45%`, `1:02:30`. Of several readings the
    first one is taken under which a place holds what was seen as it is, else the one with the likeliest place.

    Raises:
        ValueRefused: one of the texts is empty.
    """
    best: Located | None = None
    for seen in readings(texts):
        found = locate_in_set(snapshots, seen, most, end, report, pinned, keys)
        if said := read_as(texts, seen):
            found.suggestion = f"{said} {found.suggestion}"
        if best is None or (found.full and (not best.full or found.full[0].bits > best.full[0].bits)):
            best = found
        if found.full and found.full[0].scale == 1:
            break
    assert best is not None
    return best


class _Part:
    """One payload of all snapshots, or the file itself; `streams` are the packed streams in it, by snapshot."""

    def __init__(
        self,
        file: str,
        search: Search,
        streams: list[list[Layer]] | None = None,
        payloads: tuple[Payload, ...] | None = None,
        contents: Sequence[bytes] = (),
    ) -> None:
        self.file = file
        self.search = search
        self.steps = search.steps()
        self._known = streams
        self.payloads = payloads
        self.contents = contents
        self.found: list[Place] = []

    @cached_property
    def _ways(self) -> tuple[tuple[LayerSpec, ...] | None, Guides | None]:
        """The layers that lead to it in every snapshot; with the key that each has in it, where they differ in that."""
        ways = [payload.layers for payload in self.payloads or ()]
        if len(set(ways)) == 1:
            return ways[0], None
        return stored_key(ways, self.contents) or (None, None)

    @cached_property
    def _streams(self) -> list[list[Layer]]:
        """The packed streams in it, by snapshot."""
        if self._known is not None:
            return self._known
        return [strong_layers(find_layers(payload.data), payload.data) for payload in self.payloads or ()]

    @property
    def key(self) -> tuple[str, tuple[LayerSpec, ...]]:
        return self.file, self.payloads[0].layers if self.payloads else ()

    @property
    def sources(self) -> list[Source]:
        return [MemorySource(payload.data) for payload in self.payloads or ()]

    @property
    def is_beyond_doubt(self) -> bool:
        """Whether nothing else need be looked at."""
        return bool(self.found) and self.found[0].by_chance < HARDLY

    def said(self, whats: list[str]) -> list[str]:
        """Ways of looking with the place where."""
        where = " ".join(part for part in (self.file, self.payloads[0].layer if self.payloads else "") if part)
        return [f"{where}: {what}" if where else what for what in whats]

    def keep(self) -> None:
        """Take over what the search has found."""
        self.found = self.search.found
        if self.found and all(self._streams):  # a stream in some snapshots only is one by chance
            # What is seen in packed bytes themselves is chance: they say the same in other bytes each time.
            self.found = [place for place in self.found if not any(map(_within, self._streams, place.offsets))]
        for place in self.found:
            place.file = self.file
            if self.payloads:
                first = self.payloads[0]
                depth = len(first.layers)
                own = place.within[depth:] if place.within[:depth] == first.layers else place.within
                words = [first.spot(place.offsets[0]), *(layer.kind for layer in own)]
                place.layer, place.within = " → ".join(words), (*first.layers, *own)
                place.route = tuple(layer.step for layer in place.within)
                layers, guides = self._ways
                place.layers = (*layers, *own) if layers is not None else None
                place.guides = place.guides or guides


class _Looking:
    """The files of a set, one after the other."""

    def __init__(
        self,
        seen: Sequence[Sighting],
        most: int,
        end: Deadline,
        report: Callable[[Located], None] | None,
        pinned: Sequence[Known],
        keys: Keys,
    ) -> None:
        self.keys = keys
        self.seen = seen
        self.pinned = pinned
        self.most = most
        self.end = end
        self.report = report
        self.parts: list[_Part] = []
        self.reasons: list[str] = []
        self.searched: list[list[bytes]] = []
        self.tried: list[str] = []
        self.not_tried: list[NotTried] = []

    @property
    def _why(self) -> str:
        return "it was stopped" if self.end.cancelled else "the time was up"

    def in_file(self, name: str, sources: list[Source]) -> None:
        """Look in one file, and in what is packed or scrambled in it."""
        if self.end.over:
            self.not_tried.append(NotTried(name or "the file", self._why))
            return
        contents = [bytes(source.read(0, source.size)) for source in sources]
        if contradiction := _contradiction(contents, self.seen):
            self.reasons.append(contradiction)
            self.not_tried.append(NotTried(name or "the file", contradiction))
            return
        self.searched.append(contents)
        layers = [find_layers(content) for content in contents]
        strong = [strong_layers(each, content) for each, content in zip(layers, contents, strict=True)]
        # What is packed in a string of a text is reached by the path of the string.
        is_text = all(map(looks_like_text, contents))
        if _is_in_paths(contents):  # a value is in its tables, members or paths: raw offsets may move
            is_text = False
            enclosed = all(layer_of_whole(content) == ENCLOSED for content in contents)
            spans = (enclosed_span(content) if enclosed else (0, len(content)) for content in contents)
            strong = [[Layer(ENCLOSED, low, high - low, high - low)] for low, high in filter(None, spans)]
        packed = min(
            sum(layer.size for layer in each) / max(len(c), 1) for each, c in zip(strong, contents, strict=True)
        )
        outside = [each for each in self.pinned if (each.file, each.route) == (name, ())]
        parts: list[_Part] = []
        # A number in words that are turned round is one in the other order as well, but not what belongs to it.
        if (packed < MOSTLY_PACKED and arrangement_of(contents) not in SWAPPINGS) or is_text:
            parts.append(_Part(name, Search(contents, self.seen, self.end, outside), strong))
            # Chained bytes may show a small number as well, with other bytes that belong to it: then look further.
            if self._take(parts, 0) and (is_text or not any(strong)) and parts[0].is_beyond_doubt:
                return
        partial: list[tuple[str, int]] = []
        is_opened = not self.keys.secret
        for payloads in look_inside(contents, layers, partial, end=self.end, keys=self.keys):
            is_opened = is_opened or any(layer.has_key for layer in payloads[0].layers)
            if _is_in_paths([payload.data for payload in payloads]):
                continue  # what is in it comes next
            known = [each for each in self.pinned if (each.file, each.route) == (name, payloads[0].route)]
            search = Search([payload.data for payload in payloads], self.seen, self.end, known)
            parts.append(_Part(name, search, None, payloads, contents))
            # Of ways back that fit alike another one may explain more: only what is beyond doubt ends this.
            if self._take(parts[-1:], 0) and parts[-1].is_beyond_doubt:
                return
        if not is_opened:
            self.not_tried.append(NotTried(name or "what is hidden", "the key opens nothing in a way that is known"))
        for kind, count in partial:
            what = f"{name} {kind}".lstrip()
            self.not_tried.append(NotTried(what, f"it opens in {count} of {len(contents)} copies only"))
        if not parts:
            parts.append(_Part(name, Search(contents, self.seen, self.end, outside), strong))
            self._take(parts, 0)
        open_ = [part for part in parts if not part.search.is_noise]
        for part in parts:
            if part.search.is_noise:
                why = "its bytes are as even as noise: packed, or encrypted"
                self.not_tried += [NotTried(what, why) for what in part.said([RELATED])]
        for rank in range(1, RANKS):
            if self._take(open_, rank):
                return

    def _take(self, parts: list[_Part], rank: int) -> bool:
        """Take the steps of a rank in some payloads; say whether one of them has a clear answer."""
        for part in parts:
            for step in part.steps:
                if step.rank == rank and not part.search.clear:
                    step.look()
            part.keep()
            self.tried = list(dict.fromkeys([*self.tried, *part.said(part.search.tried)]))
            self.not_tried += [NotTried(what, self._why) for what in part.said(part.search.not_tried)]
            part.search.not_tried.clear()
            if part not in self.parts:
                self.parts.append(part)
            if self.report is not None and part.search.found and not self.end.over:
                self.report(self.located(final=False))
        return any(part.search.clear for part in parts)

    def located(self, *, final: bool = True) -> Located:
        """What is known by now."""
        if self.reasons and not self.searched:
            reason = min(self.reasons)
            return Located([], reason, reason, not_tried=self.not_tried)
        found = [(place, part.search) for part in self.parts for place in part.found[: self.most * MOST_EACH]]
        search_of = {id(place): search for place, search in found}
        ranked = sorted((place for place, _ in found), key=lambda p: (-p.bits, p.file, p.offsets, p.stored_as))
        spots = into_spots(ranked)[: self.most]
        shadows: list[Place] = []
        if final and is_clear(ranked):
            search = search_of[id(ranked[0])]
            shadows = shadows_of(ranked[0], copies_of(ranked[0], ranked), [c.data for c in search.contents], self.seen)
            for shadow in shadows:
                shadow.bits = ranked[0].bits - BEHIND
                spots.append([shadow])
                search_of[id(shadow)] = search
        for spot in spots:
            for place in spot:
                _say_how_it_is_found(place, search_of[id(place)])
                # Another list, because the window may be reading the one it was given.
                place.reasons = reasons_for(place)
        if spots and (record := _in_record_instead(spots[0][0], search_of[id(spots[0][0])])) is not None:
            spots = [[record], *(spot for spot in spots[1:] if spot[0].records is None)]
        warning = ""
        if not spots:
            arrays = ([np.frombuffer(content, np.uint8) for content in contents] for contents in self.searched)
            warning = next(filter(None, map(_hopeless, arrays)), "")
        suggestion = _suggest(spots, self.seen)
        if shadows:
            one = "Another number follows it" if len(shadows) == 1 else f"{len(shadows)} numbers follow it"
            suggestion += f" {one}: if the game compares them, pin all and keep them equal."
        if self.end.over and final:
            why = "It was stopped" if self.end.cancelled else f"The time of {self.end.seconds:g} s was up"
            suggestion = f"{why} before everything was tried. {suggestion}"
        shown = {(place.file, place.within) for spot in spots for place in spot}
        payloads = {part.key: part.sources for part in self.parts if part.payloads and part.key in shown}
        return Located(spots, suggestion, warning, payloads, self.tried, list(self.not_tried))


def _say_how_it_is_found(place: Place, search: Search) -> None:
    """By what surrounds a place, by counters, by the key of its record, or by the numbers of sections."""
    if place.records is not None:
        return
    if place.moves and place.found_by is None:
        set_anchor(place, search.contents)
        set_banks(place, search.contents)
        if not is_behind_word(place):
            set_record(place, search.in_records)
    elif place.found_by is None:
        set_label(place, search.contents)
    if place.moves and place.guides is None and place.records is None:
        set_sections(place, search.contents)


def _in_record_instead(place: Place, search: Search) -> Place | None:
    """The same number in a record or a list that is sorted, if nothing says where the likeliest place is in other
    saves: where several things have the same number, that of another one may be taken for it.
    """
    if place.address is not None or place.guides is not None or place.records is not None or place.fits < place.of:
        return None
    found = next(iter(search.in_records), None)
    if found is None or found.values != place.values:
        return None
    found.file, found.layer, found.route, found.bits = place.file, place.layer, place.route, place.bits
    found.within, found.layers = place.within, place.layers
    found.reasons = reasons_for(found)
    return found


def _is_in_paths(contents: Sequence[bytes]) -> bool:
    """Whether these are archives, or of a format whose values have paths within it, so that offsets say little."""
    return (
        all(map(archive_of, contents))
        or all(layer_of_whole(each) in IN_PATHS for each in contents)
        or find_hidden_strings(contents) is not None
    )


def _within(layers: list[Layer], offset: int) -> bool:
    return any(layer.offset <= offset < layer.offset + layer.size for layer in layers)


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


def _check(seen: Sequence[Sighting]) -> None:
    kinds = {sighting.kind for sighting in seen}
    if "text" in kinds and "number" in kinds:
        texts = next(str(s) for s in seen if s.kind == "text")
        raise EntryError(
            f"“{texts}” is a text and others are numbers", "one quantity is either; put a text of digits into quotes"
        )
    if kinds <= {"any"} or (len(seen) == 1 and kinds & {"more", "less", "same", "changed"}):
        raise EntryError("nothing was seen that tells one place from another", "write down a number or a text")


def _suggest(spots: list[list[Place]], seen: Sequence[Sighting]) -> str:
    """What to do in the game next, so that the remaining places are split best."""
    if not spots:
        return "No place explains it. Was a number mistyped? Keep a copy right after you look, and sight it again."
    rivals = _rivals(spots)
    if not rivals:
        doubted = spots[0][0].doubts
        which = f" It leaves out what was seen at {_letter(doubted)}: look there again." if doubted is not None else ""
        return f"No place explains every sighting; the best one leaves one out.{which} Sight the quantity once more."
    if len(rivals) == 1:
        wide = _width_open(rivals[0])
        width = f" Let it pass {wide} to learn how wide it is." if wide else ""
        if not is_clear([place for spot in spots for place in spot]):
            return "One place is likelier than all others, but may be chance. Sight the quantity once more." + width
        return f"One place is left. Post a change there and look whether the game shows it.{width}"
    numbers = [sighting.number for sighting in seen if sighting.number is not None]
    count = len(rivals)
    if len(set(numbers)) < 2:
        return f"{count} places are left. Change the quantity in the game by an odd number and sight it again."
    if len({spot[0].values[-1] for spot in rivals}) == 1 and rivals[0][0].by_chance < 1:
        return (
            f"{count} places hold the same in every snapshot: copies, or one follows the other. "
            "Post a change to one of them and look what the game shows, or pin them all and keep them equal."
        )
    return (
        f"{count} places are left. Change only this quantity, by a number you have not used before, "
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
