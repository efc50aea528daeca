"""Where the seals of saves are: in the files themselves, in what is packed or scrambled inside them, in the strings of
texts, and from one to the other, as a checksum in a header over what is unpacked behind it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from itertools import chain, product
from time import thread_time
from types import MappingProxyType
from typing import NamedTuple, TypeAlias

from faithful_ledger.core.budget import unpacked_allowance
from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.hashed_values import hashed_values, leaves_of
from faithful_ledger.core.inside import strong_layers
from faithful_ledger.core.joined_values import joined_values
from faithful_ledger.core.layers import ENCLOSED, STREAMS
from faithful_ledger.core.layers.enclosed import enclosed_span
from faithful_ledger.core.layers.stream import Layer
from faithful_ledger.core.layers.tagged import tagged_kind
from faithful_ledger.core.listed_sizes import with_listed_sizes
from faithful_ledger.core.placed_seals import Placed, best_placed, in_rows
from faithful_ledger.core.profile import find_layers
from faithful_ledger.core.seal_parts import UNMARKED, Part, parts_behind, parts_inside, text_of
from faithful_ledger.core.seal_values import stored_values, values_of
from faithful_ledger.core.seals.algorithms import LENGTH, Algorithm
from faithful_ledger.core.seals.finder import Edge, Edges, Finding, Hints, algorithms_for, find_seals
from faithful_ledger.core.seals.finder.across import across
from faithful_ledger.core.seals.finder.blocks import BlockRule, find_block_rules
from faithful_ledger.core.seals.finder.directories import DirectoryRule, find_directories
from faithful_ledger.core.seals.finder.finding import SURE, edges_bits
from faithful_ledger.core.seals.finder.packed import MOST_MORE, StreamRule, Stretch, stream_rule
from faithful_ledger.core.seals.finder.places import Place, places
from faithful_ledger.core.seals.finder.repeated import SealRow
from faithful_ledger.core.seals.finder.sectors import are_elsewhere, find_sectors
from faithful_ledger.core.unexplained import Unexplained, unexplained
from faithful_ledger.core.unlocking import NO_KEYS, Keys

__all__ = ["Found", "Nearly", "SealSearch"]

LEAST_SEARCHED = 64  # bytes of a part, within which a seal of its own is looked for
LARGEST_BESIDE = 1 << 20  # bytes of a file in which checksums of other files are looked for
USUAL = ("crc-32", "adler-32", "fnv-1a-32", "fnv-1-32", "djb2", "times-31", "xxhash-32", "xxhash-64", "murmur3-32")
LARGEST_CLOSELY = 1 << 16  # bytes of a part; in larger ones only natural ranges may nearly hold
LARGEST_PLAIN = 1 << 16  # bytes of a value, over which every algorithm is looked for
LEAST_WITH_ONE_ODD = 4  # saves
LEAST_NEARLY = 4.0  # seconds; else it takes no longer than what came before
MOST_STREAMS = 4  # of a file, in front of which a header may end
MOST_EDGES = 8  # of streams, that ranges may begin or end at
Streams: TypeAlias = Sequence[Sequence[tuple[int, int]]]  # of each save, where they begin and end
Report: TypeAlias = Callable[[list[Placed]], None]
NOTHING_BESIDE: Mapping[str, Sequence[bytes]] = MappingProxyType({})


class Nearly(NamedTuple):
    """A seal that holds in all saves but one, and the number of that one among the saves."""

    placed: Placed
    odd: int


class Found(NamedTuple):
    """What a search found in the `files`: single seals, rows of blocks that have the same seals in each, rules for
    blocks that follow one another, for parts that a directory lists, and for packed streams; what nearly holds; the
    texts that are packed or scrambled inside the files; and what changes like a checksum, and is explained by none.
    """

    files: Part

    seals: list[Placed]
    rows: list[SealRow]
    blocks: list[BlockRule]
    directories: list[DirectoryRule]
    streams: list[StreamRule]
    nearly: list[Nearly]
    texts: list[Part]
    unexplained: list[Unexplained]

    @property
    def unexplained_in_words(self) -> str:
        """The beginning of a sentence."""
        words = "; ".join(each.in_words for each in self.unexplained)
        return f"Like a checksum or a random number, and not explained: {words}"


class SealSearch:
    """A search for the seals of saves of one game. What was found until the time is up counts.

    Of files `beside` the saves, one for each of them by name, what covers all of another file is found; the saves are
    `called` so then. With a range or a place in `hints` only the files themselves are looked at: an offset is one of
    theirs. What is hidden under `keys` is opened.
    """

    def __init__(
        self,
        saves: Sequence[bytes],
        hints: Hints | None = None,
        end: Deadline = NEVER,
        beside: Mapping[str, Sequence[bytes]] = NOTHING_BESIDE,
        called: str = "the save",
        keys: Keys = NO_KEYS,
    ) -> None:
        self.keys = keys
        self.saves, self.hints, self.end, self.beside, self.called = saves, hints or Hints(), end, beside, called
        self.algorithms = algorithms_for(self.hints)
        self.lengths = [Algorithm(LENGTH)] if LENGTH.startswith(self.hints.algorithm) and not self.hints.key else []
        together = dict.fromkeys(zip(saves, *beside.values(), strict=True))
        contents = tuple(dict.fromkeys(saves)) if not beside else tuple(each[0] for each in together)
        self.files = Part(contents)
        self.others = [
            Part(tuple(each[number] for each in together), name, beside=name) for number, name in enumerate(beside, 1)
        ]
        self.looks_inside = self.hints.over is None and self.hints.stored_at is None and bool(contents)
        self._stored: dict[tuple[bytes, ...], list[Place]] = {}  # by the contents of a part
        self._values: dict[tuple[bytes, ...], list[list[tuple[int, int]]]] = {}
        self._layers: dict[bytes, list[Layer]] = {}

    def everything(self, report: Report = lambda found: None) -> Found:
        """All that can be found. `report` is given the seals that are known whenever there are more."""
        begun = thread_time()
        # Where saves have little in common at one offset, a search for that would only take long.
        elsewhere = are_elsewhere(self.files.contents)
        sectors = self.sectors() if elsewhere else []
        behind = self.behind(self._moving_starts()) if not sectors else []
        seals = self.seals(report, without_files=bool(sectors), closely=not behind)
        rows, seals = in_rows(with_listed_sizes(seals) if self.lengths else seals)
        rows = sectors or rows
        blocks, directories, streams = self.blocks(), self.directories(), self.streams()
        seals = [each for each in seals if not self._is_listed(each, directories)]
        sure = any(each.finding.sure and each.finding.algorithm.name != LENGTH for each in seals)
        if not (elsewhere or sure or rows or blocks or directories or streams):
            rows = self.sectors()
        if rows or blocks or directories or streams:
            behind = []
        elif not (behind or sure) and self._is_plain:
            behind = self.behind([[None] * len(self.files.contents)])
        seals = [each for each in seals if not self._is_of_header(each, behind)]
        taken = {each.place_in_file for each in seals if each.held is self.files and each.finding.sure}
        seals = [*(each for each in behind if each.place_in_file not in taken), *seals]
        sure = sure or bool(behind)
        nearly: list[Nearly] = []
        if not (sure or rows or blocks or directories or streams):
            nearly = self.nearly(self.end.limited(max(thread_time() - begun, LEAST_NEARLY), thread_time))
        texts = [part for part in self.parts[1:] if part.is_unpacked and text_of(part.contents[0]) is not None]
        left = self._unexplained(seals) if not (rows or blocks or directories or streams or nearly) else []
        return Found(self.files, seals, rows, blocks, directories, streams, nearly, texts, left)

    def _unexplained(self, seals: Sequence[Placed]) -> list[Unexplained]:
        """What changes like a checksum, where nothing narrowed the search."""
        if not self.looks_inside or self.hints.algorithm or self.hints.key:
            return []
        parts = [each for each in self._searched() if not each.path or text_of(each.contents[0]) is not None]
        taken = [(each.held, each.stored) for each in seals if each.finding.sure]
        taken += [(part, span) for part in parts for span in self._streams_of(part, part.contents[:1])[0]]
        return unexplained(parts, taken)

    def seals(
        self, report: Report = lambda found: None, *, without_files: bool = False, closely: bool = True
    ) -> list[Placed]:
        """The seals, the surest first; those of the files before those inside of them, or only the latter. Where not
        looked at `closely`, the files have only ranges that people choose.
        """
        found: list[Placed] = []
        for placed in chain.from_iterable(map(self._from_outside, self.parts[1:])):
            found.append(placed)
            if placed.finding.sure:
                report(best_placed(found))
        found += self._among_members()
        for part in self.parts if self.looks_inside else ():
            found += self._over_values(part)
            leaves = leaves_of(part)
            single = list(hashed_values(part, leaves, self._usual, self.end))
            if single:  # which say more of the same than what is inside of a text
                places = {(placed.held, placed.stored) for placed in single}
                found = [*(each for each in found if (each.held, each.stored) not in places), *single]
            if not part.is_view:
                explained = {placed.stored for placed in found if placed.held is part and placed.finding.sure}
                found += joined_values(part, leaves, self._usual, explained, self.end)
        if self.beside and self.looks_inside:
            found += self._between()
        if found:
            report(best_placed(found))
        searched = [part for part in self._searched() if part is not self.files or not without_files]
        for number, part in enumerate(searched):
            hints = self.hints if closely or part is not self.files else self.hints.naturally
            found += self._within(part, list(found), self.end.share(len(searched) - number), report, hints)
        found += self._of_listings(found)
        return best_placed(found)

    def _of_listings(self, found: Sequence[Placed]) -> list[Placed]:
        """The seals of other files that hold checksums, and will change with these: over ranges that people choose."""
        hints = Hints(self.hints.algorithm, natural=True)
        listings = [part for part in self.others if any(each.held is part and each.finding.sure for each in found)]
        return [
            Placed(each, part) for part in listings for each in find_seals(part.contents, hints, self.end) if each.sure
        ]

    def behind(self, lasts: Sequence[Sequence[int | None]]) -> list[Placed]:
        """What is surely sealed behind a header that is longer in some files than in others, and ends in front of a
        place in each; over ranges that people choose.
        """
        hints = self.hints.naturally
        inside = [part for part in self.parts[1:] if part.around is self.files and not part.is_same]
        for tail, fronts in chain.from_iterable(parts_behind(self.files, each) for each in lasts):
            found = self._within(tail, [], self.end, lambda _: None, hints)
            found += (each for each in self._across(self.files, tail) if each.at < tail.offset)
            pairs = [*((tail, over) for over in inside), *product((self.files, tail), fronts)]
            found += chain.from_iterable(self._across(held, over) for held, over in pairs)
            if sure := [each for each in best_placed(found) if each.finding.sure]:
                return sure
        return []

    def _is_of_header(self, placed: Placed, behind: Sequence[Placed]) -> bool:
        """Whether it is stored in the files within what their header is made of, as the length of a text there is."""
        header = behind[0].header if behind and placed.held is self.files else None
        elements = header.elements if header is not None else ()
        return any(each.start <= placed.at < each.start + each.size for each in elements)

    def _moving_starts(self) -> list[list[int]]:
        """Where packed streams begin in all files, but not at the same offset."""
        if not self.looks_inside or len(self.files.contents) < 2:
            return []
        starts = [[layer.offset for layer in self._strong(content)] for content in self.files.contents]
        return [list(each) for each in zip(*starts, strict=False) if len(set(each)) > 1][:MOST_STREAMS]

    @property
    def _is_plain(self) -> bool:
        """Whether the files are neither texts nor have something packed in them."""
        is_text = text_of(self.files.contents[0]) is not None
        return self.looks_inside and not is_text and not any(map(self._strong, self.files.contents))

    def _strong(self, content: bytes) -> list[Layer]:
        """The packed streams of a file; none in a text, where they are strings."""
        return strong_layers(self._layers_of(content), content) if text_of(content) is None else []

    def blocks(self) -> list[BlockRule]:
        """Rules for a row of blocks with a checksum in each, where nothing narrows the search to one place."""
        if not self._takes_rules:
            return []
        return [rule for rule in find_block_rules(self.files.contents, self.end) if self._wanted(rule.algorithm)]

    def sectors(self) -> list[SealRow]:
        """Rows of blocks with a seal in each, seen from the blocks alone."""
        if not self._takes_rules:
            return []

        def find(blocks: Sequence[bytes], end: Deadline) -> list[Finding]:
            return find_seals(blocks, Hints(self.hints.algorithm, natural=True), end)

        return find_sectors(self.files.contents, find, self.end)

    def directories(self) -> list[DirectoryRule]:
        """The directory of parts that follow one another, where checksums of these are looked for."""
        if not self._takes_rules or any(part.is_member or part.is_view for part in self.parts):
            return []
        found = find_directories(self.files.contents, self.end)
        return [rule for rule in found if self._wanted(*(each.algorithm for each in rule.sums if each.algorithm))]

    def _is_listed(self, placed: Placed, directories: Sequence[DirectoryRule]) -> bool:
        """Whether it is one of the numbers of a directory of the files."""
        return placed.held is self.files and any(rule.explains(placed.at) for rule in directories)

    def streams(self) -> list[StreamRule]:
        """The numbers of several packed streams of every save, as one rule for each kind of these."""
        found: list[StreamRule] = []
        inside = [part for part in self.parts if part.around is self.files]
        if not self._takes_rules or any(part.is_member or part.is_view for part in inside):
            return found  # what an archive says of its members follows them
        layers = [self._layers_of(content) for content in self.files.contents]
        for kind in sorted({layer.kind for layer in layers[0]}):
            saves = []
            for content, every in zip(self.files.contents, layers, strict=True):
                left, streams = unpacked_allowance(len(content)), list[Stretch]()
                of_kind = [layer for layer in every if layer.kind == kind]
                for number, layer in enumerate(of_kind):
                    data = STREAMS[kind].unpack(content, layer, left)
                    left -= len(data)
                    streams.append(Stretch(layer.offset, layer.offset + layer.size, data, number, len(of_kind)))
                saves.append((content, streams))
            rule = stream_rule(kind, saves, self.end)
            if rule is not None and self._wanted(*(each.algorithm for each in rule.every)):
                found.append(rule)
        return found

    def nearly(self, end: Deadline = NEVER) -> list[Nearly]:
        """What holds in all saves but one, which may be damaged, or of another version, and would be sure without it.
        At least four different saves are needed: the odd one is in one half of them, and what holds in all of the other
        half is held against the rest.
        """
        contents = self.files.contents
        if len(contents) < LEAST_WITH_ONE_ODD or self.beside:
            return []
        found: dict[tuple[object, ...], Nearly] = {}
        hints = self.hints
        if max(len(part.contents[0]) for part in self.parts) > LARGEST_CLOSELY:
            hints = hints.naturally
        middle = len(contents) // 2
        for number, half in enumerate((contents[:middle], contents[middle:])):
            for placed in SealSearch(half, hints, end.share(2 - number), keys=self.keys).seals():
                held, over = self._of_all(placed.held), self._of_all(placed.over) if placed.over is not None else None
                if held is None or (placed.over is not None and over is None):
                    continue
                made = Placed(placed.finding, held, over)
                holding = made.holding
                if len(holding) == len(contents) - 1:
                    made = made.counted(holding, len(half))
                    odd = next(each for each in range(len(contents)) if each not in holding)
                    if made.finding.bits >= SURE and not made.finding.undecided:
                        key = id(held), id(over), made.stored, made.covered
                        found.setdefault(key, Nearly(made, list(self.saves).index(contents[odd])))
        best = best_placed([each.placed for each in found.values()])
        return [each for each in found.values() if each.placed in best]

    def _of_all(self, part: Part) -> Part | None:
        """The part of all saves that is what another search, of some of them, calls so."""
        same = (
            each for each in self.parts if (each.words, each.layers, each.path) == (part.words, part.layers, part.path)
        )
        return next(same, None) if part.value is None else None

    # what is searched

    @cached_property
    def parts(self) -> list[Part]:
        """The files, and what is inside of them."""
        return [self.files, *(self._inside(self.files) if self.looks_inside else ())]

    def _inside(self, files: Part) -> list[Part]:
        return parts_inside(files, [self._layers_of(content) for content in files.contents], self.end, self.keys)

    def _searched(self) -> list[Part]:
        """The parts in which seals of their own may be; what is in archives and databases themselves follows their
        members and tables, and a text that only says what these hold is nowhere in the bytes.
        """
        packed = [part.around for part in self.parts if part.is_member or part.is_view]
        packed += [part for part in self.parts if part.is_view]
        enough = [part for part in self.parts if part.around is None or len(part.contents[0]) >= LEAST_SEARCHED]
        return [part for part in enough if part not in packed and not self._is_one_stream(part)]

    def _is_one_stream(self, part: Part) -> bool:
        """Whether a packed stream is all of it in every save, so that there is no place for anything else."""
        whole = [[(0, len(content))] for content in part.contents]
        return self.looks_inside and self._streams_of(part, part.contents) == whole

    @property
    def _takes_rules(self) -> bool:
        return self.looks_inside and not self.hints.key and bool(self.files.contents[0])

    def _wanted(self, *algorithms: Algorithm) -> bool:
        return any(each.name.startswith(self.hints.algorithm) for each in algorithms)

    def _places(self, part: Part) -> list[Place]:
        """Where something may be stored in a part."""
        if part.contents not in self._stored:
            self._stored[part.contents] = places(part.contents)
        return self._stored[part.contents]

    def _layers_of(self, content: bytes) -> list[Layer]:
        if content not in self._layers:
            self._layers[content] = find_layers(content)
        return self._layers[content]

    def _streams_of(self, part: Part, contents: Sequence[bytes]) -> list[list[tuple[int, int]]]:
        """Where the packed streams of a part are, in these of its contents: of kinds that show where they begin or are
        checked, and of those that were unpacked in all saves; and values between other bytes, which follow themselves.
        """
        inside = {each.layers[-1].kind for each in self.parts if each.around is part and each.layers and not each.path}
        found = []
        for content in contents:
            layers = [each for each in self._layers_of(content) if each.kind in inside or each.kind not in UNMARKED]
            spans = [(layer.offset, layer.offset + layer.size) for layer in layers]
            values = enclosed_span(content) if ENCLOSED in inside else None
            found.append([values] if values is not None and tagged_kind(content[slice(*values)]) else spans)
        return found

    # what is found

    def _within(
        self, part: Part, known: list[Placed], end: Deadline, report: Report, hints: Hints | None = None
    ) -> list[Placed]:
        """The seals of a part that are stored in it; none is within a packed stream, or covers a piece of one."""
        streams = self._streams_of(part, part.contents)
        edges = _edges_of(part, streams)
        hints = hints or self.hints
        is_packed = all(_is_mostly(spans, content) for spans, content in zip(streams, part.contents, strict=True))
        if is_packed and self.looks_inside:
            hints = hints.naturally  # nearly all other ranges would cover a piece of a stream

        def placed(more: list[Finding]) -> list[Placed]:
            found = [_of_streams(each, part, edges) if each.algorithm.name == LENGTH else each for each in more]
            return [Placed(each, part) for each in found if not _cuts_through(each, part, streams)]

        def so_far(more: list[Finding]) -> None:
            report(best_placed([*known, *placed(more)]))

        return placed(find_seals(part.contents, hints, end, so_far, edges))

    def _from_outside(self, part: Part) -> Iterator[Placed]:
        """Checksums over a part that are stored in what it is in, and its length."""
        if part.is_same or part.is_view:
            return
        for outer, inner in zip(part.outer, (part, *part.outer), strict=False):
            if inner.is_member or inner.is_arranged:  # what an archive says of it follows it; the other has its bytes
                continue
            yield from self._across(outer, part)
            yield from self._in_values(outer, part)

    def _across(self, held: Part, over: Part) -> Iterator[Placed]:
        """Checksums over a part, and its length, that are stored in another one, and not in a stream there."""
        own = self._streams_of(held, held.contents[:1])[0]
        for finding in across(
            held.contents, over.contents, self._places(held), [*self.algorithms, *self.lengths], self.end
        ):
            placed = Placed(finding, held, over)
            in_a_stream = any(low <= placed.at < high for low, high in own)
            enough = len(over.contents) > 1 or finding.algorithm.bits >= 32
            if enough and not in_a_stream and not placed.is_in_both:
                yield placed

    def _in_values(self, held: Part, over: Part) -> Iterator[Placed]:
        """Checksums over all of a part, and its length, that are values of a text wherever these are in each save."""
        results: dict[Algorithm, int] = {}
        for spans in self._values_in(held):
            letters = [content[low:high] for content, (low, high) in zip(held.contents, spans, strict=True)]
            algorithms = [*self.algorithms, *self.lengths]
            for finding in across(letters, over.contents, (), algorithms, self.end, results=results):
                if finding.place_in(letters[0]) == (0, len(letters[0])):
                    yield Placed(replace(finding, stored=Edge(spans[0][0])), held, over)

    def _values_in(self, part: Part) -> list[list[tuple[int, int]]]:
        if part.contents not in self._values:
            self._values[part.contents] = stored_values(part)
        return self._values[part.contents]

    def _over_values(self, part: Part) -> Iterator[Placed]:
        """Checksums over values of a JSON text, or over all of it but one, that are stored in it; in other forms those
        that people choose for a text.
        """
        if part.is_view:  # which is JSON only here
            return
        for over in values_of(part):
            if self.end.over:
                return
            is_form = over.value is not None and bool(over.value.form)
            algorithms = self._usual if is_form or len(over.contents[0]) > LARGEST_PLAIN else self.algorithms
            stored = self._places(part)
            for finding in across(part.contents, over.contents, stored, algorithms, self.end, results={}):
                placed = Placed(finding, part, over)
                if len(over.contents) > 1 and placed.is_stored_apart:
                    yield placed

    @property
    def _usual(self) -> list[Algorithm]:
        """Those that people choose for a text."""
        return [each for each in self.algorithms if each.is_digest or each.name in USUAL]

    def _among_members(self) -> Iterator[Placed]:
        """Checksums over all of a member of an archive, or of what is packed in it, that are stored in another one."""
        inside = self.parts[1:]
        members = [part for part in inside if part.is_member]
        for over in inside:
            own = [over, *over.outer]
            if any(each.is_member for each in own):
                yield from self._over_all(
                    over, [each for each in members if each not in own and over not in each.outer]
                )

    def _between(self) -> Iterator[Placed]:
        """Checksums over all of a file, or of what is packed in one, that are stored in another one."""
        inside = [
            inner._replace(words=f"{other.words} → {inner.words}")
            for other in self.others
            for inner in self._inside(other)
        ]
        named = self.files._replace(words=self.called)
        for over in (named, *self.parts[1:], *self.others, *inside):
            outermost = [over, *over.outer][-1]
            own = self.files if outermost is named else outermost
            every = (self.files, *self.others, *(each for each in inside if each.beside))
            yield from self._over_all(over, [each for each in every if each is not own])

    def _over_all(self, over: Part, held_in: Sequence[Part]) -> Iterator[Placed]:
        """Checksums over all of a part that are stored in others of moderate size."""
        if over.is_same:
            return
        results: dict[Algorithm, int] = {}
        for held in (each for each in held_in if len(each.contents[0]) <= LARGEST_BESIDE):
            stored = self._places(held)
            algorithms = [*self.algorithms, *(self.lengths if text_of(held.contents[0]) is not None else ())]
            for finding in across(held.contents, over.contents, stored, algorithms, self.end, results=results):
                if len(over.contents) > 1 or finding.algorithm.bits >= 32:
                    yield Placed(finding, held, over)


def _edges_of(part: Part, streams: Streams) -> Edges:
    """Where a stream begins in every save, and how far from the end one ends in every save."""
    heads = set.intersection(*({low for low, _ in each} for each in streams))
    tails = [{len(content) - high for _, high in each} for content, each in zip(part.contents, streams, strict=True)]
    return Edges(tuple(sorted(heads))[:MOST_EDGES], tuple(sorted(set.intersection(*tails)))[:MOST_EDGES])


def _of_streams(finding: Finding, part: Part, edges: Edges) -> Finding:
    """A length as that of what is from the beginning of a stream to the end of one, where it counts little more."""
    first, last, _ = finding.spans(len(part.contents[0]))
    value, size = last - first + (finding.algorithm.start or 0), len(part.contents[0])
    for head, tail in product(edges.heads, edges.tails):
        more = value - (size - tail - head)
        if finding.algorithm.unit == 1 and 0 <= more <= MOST_MORE and head < size - tail:
            algorithm = replace(finding.algorithm, start=more or None)
            made = replace(finding, algorithm=algorithm, start=Edge(head), end=Edge(tail, True))
            if all(map(made.holds, part.contents)):
                place = finding.place_in(part.contents[0])
                likelier = edges_bits((first, last), place, size) - edges_bits((0, size), place, size)
                return replace(made, bits=finding.bits + likelier)
    return finding


def _is_mostly(streams: Sequence[tuple[int, int]], content: bytes) -> bool:
    """Whether streams are at least three quarters of a content."""
    return 4 * sum(high - low for low, high in streams) >= 3 * len(content) > 0


def _cuts_through(finding: Finding, part: Part, streams: Streams) -> bool:
    """Whether it is stored within a stream, or is a checksum of a piece of one, in every save: as no game has it."""
    is_length = finding.algorithm.name == LENGTH
    for content, each in zip(part.contents, streams, strict=True):
        first, last = finding.start.at(len(content)), finding.end_in(content)
        at, stored_end = finding.place_in(content)
        within = any(low < stored_end and at < high for low, high in each)
        if not within and (is_length or not any(low < edge < high for low, high in each for edge in (first, last))):
            return False
    return True
