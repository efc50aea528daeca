"""Where the seals of saves are: in the files themselves, in what is packed or scrambled inside them, in the strings of
texts, and from one to the other, as a checksum in a header over what is unpacked behind it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import product
from types import MappingProxyType
from typing import NamedTuple, TypeAlias

from faithful_ledger.core.budget import unpacked_allowance
from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.errors import place
from faithful_ledger.core.layers import STREAMS
from faithful_ledger.core.profile import find_layers
from faithful_ledger.core.seal_parts import Part, parts_inside, streams_of, text_of
from faithful_ledger.core.seal_values import values_of
from faithful_ledger.core.seals.algorithms import LENGTH, Algorithm
from faithful_ledger.core.seals.finder import Edge, Edges, Finding, Hints, algorithms_for, find_seals
from faithful_ledger.core.seals.finder.across import across
from faithful_ledger.core.seals.finder.packed import MOST_MORE, StreamRule, Stretch, stream_rule
from faithful_ledger.core.seals.finder.places import Place, apart, places
from faithful_ledger.core.seals.finder.repeated import SealRow, seal_rows

__all__ = ["Placed", "in_rows", "search_seals", "stream_rules"]

LEAST_SEARCHED = 64  # bytes of a part, within which a seal of its own is looked for
LARGEST_BESIDE = 1 << 20  # bytes of a file in which checksums of other files are looked for
USUAL = ("crc-32", "adler-32", "fnv-1a-32", "fnv-1-32", "djb2", "times-31", "xxhash-32", "xxhash-64", "murmur3-32")
LARGEST_PLAIN = 1 << 16  # bytes of a value, over which every algorithm is looked for
MOST_EDGES = 8  # of streams, that ranges may begin or end at
Stored: TypeAlias = Callable[[Part], Sequence[Place]]  # where something may be stored in a part, looked for once
Streams: TypeAlias = Sequence[Sequence[tuple[int, int]]]  # of each save, where they begin and end
NOTHING_BESIDE: Mapping[str, Sequence[bytes]] = MappingProxyType({})


class Placed(NamedTuple):
    """A seal that is stored in a part and covers bytes of it; or of another part, if there is one in `over`."""

    finding: Finding
    held: Part
    over: Part | None = None

    @property
    def at(self) -> int:
        """Where it is stored in the first save, an offset in its part."""
        return self.stored[0]

    @property
    def stored(self) -> tuple[int, int]:
        """The bytes [start, end) in which it is stored in the first save."""
        return self.finding.place_in(self.held.contents[0])

    @property
    def covered(self) -> tuple[int, int]:
        """The bytes [start, end) that it covers in the first save, of its part or of `over`."""
        start, end, _ = self.finding.spans(len((self.over or self.held).contents[0]))
        return start, end

    @property
    def is_whole(self) -> bool:
        """Whether it covers all of another part."""
        return self.over is not None and self.covered == (0, len(self.over.contents[0]))

    @property
    def is_stored_apart(self) -> bool:
        """Whether it is not within the value that it covers, and is what is left out of a text that is covered."""
        value = self.over.value if self.over is not None else None
        document = text_of(self.held.contents[0])
        if value is None or document is None:
            return True
        at, end = self.stored
        leaf = next((each for each in document.leaves() if each.start <= at and end <= each.end), None)
        if leaf is None or value.without:
            return leaf is not None and leaf.path == value.without
        return not leaf.path.startswith((f"{value.path}.", f"{value.path}["))

    @property
    def in_words(self) -> str:
        """What it is, in one sentence without its point."""
        finding = self.finding
        within = f" of {self.held.words}" if self.held.words else ""
        return (
            f"{finding.name_in_words} over {self.covers_in_words()}, stored at {place(self.at)}{within} as "
            f"{finding.form}; holds in {finding.holds_in} of {finding.of} copies: {finding.sureness_in_words}"
        )

    def covers_in_words(self) -> str:
        """Which bytes of what it covers, in the first save."""
        finding, part = self.finding, self.over or self.held
        if self.over is None:
            words = finding.covers_in_words(len(part.contents[0]))
            return f"{words}, inside {part.words}" if part.words else words
        size = len(part.contents[0])
        if self.is_whole:
            return f"all of {part.words}, {size} bytes"
        return f"{finding.covers_in_words(size)} of {part.words}"


def search_seals(
    saves: Sequence[bytes],
    hints: Hints | None = None,
    end: Deadline = NEVER,
    report: Callable[[list[Placed]], None] = lambda found: None,
    beside: Mapping[str, Sequence[bytes]] = NOTHING_BESIDE,
    called: str = "the save",
) -> list[Placed]:
    """The seals of saves of one game, the surest first; those of the files before those inside of them. `report` is
    given what is known whenever there is more. What is found until the time is up is returned. Of files `beside` the
    saves, one for each of them by name, what covers all of another file is found; the saves are `called` so then.

    With a range or a place in `hints` only the files themselves are looked at: an offset is one of theirs.
    """
    hints = hints or Hints()
    together = list(dict.fromkeys(zip(saves, *beside.values(), strict=True)))
    contents = tuple(dict.fromkeys(saves)) if not beside else tuple(each[0] for each in together)
    files = Part(contents)
    looks_inside = hints.over is None and hints.stored_at is None and bool(contents)
    parts = [files, *(parts_inside(files, end) if looks_inside else ())]
    known: dict[int, list[Place]] = {}

    def stored(part: Part) -> list[Place]:
        if id(part) not in known:
            known[id(part)] = places(part.contents)
        return known[id(part)]

    found: list[Placed] = []
    for part in parts[1:]:
        found += _from_outside(part, stored, hints, end)
    found += _among_members(parts[1:], stored, hints, end)
    for part in parts if looks_inside else ():
        found += _over_values(part, stored, hints, end)
    if beside and looks_inside:
        others = [
            Part(tuple(each[number] for each in together), name, beside=name) for number, name in enumerate(beside, 1)
        ]
        inside = [
            inner._replace(words=f"{other.words} → {inner.words}")
            for other in others
            for inner in parts_inside(other, end)
        ]
        found += _between(files, files._replace(words=called), [*parts[1:], *others, *inside], stored, hints, end)
    if found:
        report(_best(found))
    packed = [part.around for part in parts if part.is_member]  # what is in archives themselves follows their members
    searched = [part for part in parts if len(part.contents[0]) >= LEAST_SEARCHED and part not in packed]
    for number, part in enumerate(searched):
        found += _within(part, list(found), hints, end.share(len(searched) - number), report)
    return _best(found)


def _within(
    part: Part, known: list[Placed], hints: Hints, end: Deadline, report: Callable[[list[Placed]], None]
) -> list[Placed]:
    """The seals of a part that are stored in it; none is within a packed stream, or covers a piece of one."""
    streams = streams_of(part.contents)
    edges = _edges_of(part, streams)

    def placed(more: list[Finding]) -> list[Placed]:
        found = [_of_streams(each, part, edges) if each.algorithm.name == LENGTH else each for each in more]
        return [Placed(each, part) for each in found if not _cuts_through(each, part, streams)]

    def so_far(more: list[Finding]) -> None:
        report(_best([*known, *placed(more)]))

    return placed(find_seals(part.contents, hints, end, so_far, edges))


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
                return made
    return finding


def _cuts_through(finding: Finding, part: Part, streams: Streams) -> bool:
    """Whether it is stored within a stream, or is a checksum of a piece of one, in every save: as no game has it."""
    is_length = finding.algorithm.name == LENGTH
    for content, each in zip(part.contents, streams, strict=True):
        first, last, _ = finding.spans(len(content))
        at, stored_end = finding.place_in(content)
        within = any(low < stored_end and at < high for low, high in each)
        if not within and (is_length or not any(low < edge < high for low, high in each for edge in (first, last))):
            return False
    return True


def in_rows(found: Sequence[Placed]) -> tuple[list[SealRow], list[Placed]]:
    """The rows of blocks that have the same seals in each, as one rule each, and what is in none of them."""
    of_files = [placed for placed in found if placed.held.around is None and placed.over is None]
    if not of_files:
        return [], list(found)
    rows = seal_rows([placed.finding for placed in of_files], of_files[0].held.contents)
    explained = [placed for placed in of_files if any(row.explains(placed.at) for row in rows)]
    return rows, [placed for placed in found if placed not in explained]


def stream_rules(contents: Sequence[bytes], end: Deadline = NEVER) -> list[StreamRule]:
    """The numbers that are beside each of several packed streams of every save, as one rule for each kind of these."""
    found: list[StreamRule] = []
    layers = [find_layers(content) for content in contents]
    for kind in sorted({layer.kind for layer in layers[0]} if layers else ()):
        saves = []
        for content, every in zip(contents, layers, strict=True):
            left, streams = unpacked_allowance(len(content)), list[Stretch]()
            of_kind = [layer for layer in every if layer.kind == kind]
            for number, layer in enumerate(of_kind):
                data = STREAMS[kind].unpack(content, layer, left)
                left -= len(data)
                streams.append(Stretch(layer.offset, layer.offset + layer.size, data, number, len(of_kind)))
            saves.append((content, streams))
        rule = stream_rule(kind, saves, end)
        found += [rule] if rule is not None else []
    return found


def _best(found: Sequence[Placed]) -> list[Placed]:
    """One for each place: what is surer stays."""
    parts = {id(placed.held): placed.held for placed in found}
    kept: list[Placed] = []
    for part in parts.values():
        of_part = [placed for placed in found if placed.held is part]
        kept += apart(sorted(of_part, key=lambda each: -each.finding.bits), lambda each: each.stored)
    return sorted(kept, key=lambda each: (not each.finding.sure, len(list(each.held.outer)), -each.finding.bits))


def _from_outside(part: Part, stored: Stored, hints: Hints, end: Deadline) -> Iterator[Placed]:
    """Checksums over a part that are stored in what it is in."""
    lengths = [Algorithm(LENGTH)] if LENGTH.startswith(hints.algorithm) and not hints.key else []
    algorithms = [*algorithms_for(hints), *lengths]
    if part.is_same:
        return
    for outer, inner in zip(part.outer, (part, *part.outer), strict=False):
        if inner.is_member:  # what an archive says of it follows it
            continue
        kind = inner.layers[-1].kind if inner.layers and not inner.path else ""
        own = streams_of(outer.contents[:1], kind)[0]
        for finding in across(outer.contents, part.contents, stored(outer), algorithms, end):
            placed = Placed(finding, outer, part)
            in_a_stream = any(low <= placed.at < high for low, high in own)
            if not in_a_stream and (len(part.contents) > 1 or finding.algorithm.bits >= 32):
                yield placed


def _over_values(part: Part, stored: Stored, hints: Hints, end: Deadline) -> Iterator[Placed]:
    """Checksums over values of a JSON text, or over all of it but one, that are stored in it; in other forms those that
    people choose for a text.
    """
    every = algorithms_for(hints)
    usual = [each for each in every if each.is_digest or each.name in USUAL]
    for over in values_of(part):
        if end.over:
            return
        is_form = over.value is not None and bool(over.value.form)
        algorithms = usual if is_form or len(over.contents[0]) > LARGEST_PLAIN else every
        for finding in across(part.contents, over.contents, stored(part), algorithms, end, results={}):
            placed = Placed(finding, part, over)
            if len(over.contents) > 1 and placed.is_stored_apart:
                yield placed


def _among_members(parts: Sequence[Part], stored: Stored, hints: Hints, end: Deadline) -> Iterator[Placed]:
    """Checksums over all of a member of an archive, or of what is packed in it, that are stored in another one."""
    members = [part for part in parts if part.is_member]
    algorithms = algorithms_for(hints)
    for over in parts:
        own = [over, *over.outer]
        if any(each.is_member for each in own):
            others = [each for each in members if each not in own and over not in each.outer]
            yield from _over_all(over, others, stored, algorithms, end)


def _between(
    files: Part, named: Part, others: Sequence[Part], stored: Stored, hints: Hints, end: Deadline
) -> Iterator[Placed]:
    """Checksums over all of a file, or of what is packed in one, that are stored in another one. The first files are
    `named` so where they are covered.
    """
    algorithms = algorithms_for(hints)
    for over in (named, *others):
        outermost = [over, *over.outer][-1]
        own = files if outermost is named else outermost
        every = (files, *(each for each in others if each.beside))
        yield from _over_all(over, [each for each in every if each is not own], stored, algorithms, end)


def _over_all(
    over: Part, held_in: Sequence[Part], stored: Stored, algorithms: Sequence[Algorithm], end: Deadline
) -> Iterator[Placed]:
    """Checksums over all of a part that are stored in others of moderate size."""
    if over.is_same:
        return
    results: dict[Algorithm, int] = {}
    for held in (each for each in held_in if len(each.contents[0]) <= LARGEST_BESIDE):
        for finding in across(held.contents, over.contents, stored(held), algorithms, end, results=results):
            if len(over.contents) > 1 or finding.algorithm.bits >= 32:
                yield Placed(finding, held, over)
