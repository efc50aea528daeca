"""Where the seals of saves are: in the files themselves, in what is packed or scrambled inside them, in the strings of
texts, and from one to the other, as a checksum in a header over what is unpacked behind it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from types import MappingProxyType
from typing import NamedTuple

from faithful_ledger.core.budget import unpacked_allowance
from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.errors import LedgerError, place
from faithful_ledger.core.formats import Document, recognised_text
from faithful_ledger.core.formats.document import TextLeaf
from faithful_ledger.core.inside import look_inside
from faithful_ledger.core.layers import STREAMS, LayerSpec
from faithful_ledger.core.nesting import spelled_as
from faithful_ledger.core.profile import find_layers
from faithful_ledger.core.seals.algorithms import LENGTH, Algorithm
from faithful_ledger.core.seals.finder import Finding, Hints, algorithms_for, find_seals
from faithful_ledger.core.seals.finder.across import across
from faithful_ledger.core.seals.finder.packed import StreamRule, Stretch, stream_rule
from faithful_ledger.core.seals.finder.places import apart, places
from faithful_ledger.core.seals.finder.repeated import SealRow, seal_rows
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.wrapping import unwrap

__all__ = ["Part", "Placed", "in_rows", "search_seals", "stream_rules", "text_of"]

MOST_STRINGS, SHORTEST = 12, 16  # strings of a text that are looked at, the longest first; letters of one
LEAST_SEARCHED = 64  # bytes of a part, within which a seal of its own is looked for
LARGEST_TEXT = 16 << 20
LARGEST_BESIDE = 1 << 20  # bytes of a file in which checksums of other files are looked for
NOTHING_BESIDE: Mapping[str, Sequence[bytes]] = MappingProxyType({})


class Part(NamedTuple):
    """Bytes of each save that can be searched: the files, or a payload inside another part, which is reached through
    `layers`, or is the string at `path` of a text with the layers it is in; or the files `beside` them that have this
    name. `words` say it for people.
    """

    contents: tuple[bytes, ...]
    words: str = ""
    layers: tuple[LayerSpec, ...] = ()
    path: str = ""
    around: Part | None = None
    beside: str = ""

    @property
    def outer(self) -> Iterator[Part]:
        """What it is in, the nearest first."""
        part = self.around
        while part is not None:
            yield part
            part = part.around


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
    parts = [files, *(_parts_inside(files, end) if looks_inside else ())]
    found: list[Placed] = []
    for part in parts[1:]:
        found += _from_outside(part, hints, end)
    if beside and looks_inside:
        others = [
            Part(tuple(each[number] for each in together), name, beside=name) for number, name in enumerate(beside, 1)
        ]
        inside = [
            inner._replace(words=f"{other.words} → {inner.words}")
            for other in others
            for inner in _parts_inside(other, end)
        ]
        found += _between(files, files._replace(words=called), [*parts[1:], *others, *inside], hints, end)
    if found:
        report(_best(found))
    searched = [part for part in parts if len(part.contents[0]) >= LEAST_SEARCHED]
    for number, part in enumerate(searched):
        known = list(found)

        def so_far(more: list[Finding], known: list[Placed] = known, part: Part = part) -> None:
            report(_best([*known, *(Placed(each, part) for each in more)]))

        share = end.share(len(searched) - number)
        found += [Placed(each, part) for each in find_seals(part.contents, hints, share, so_far)]
    return _best(found)


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
            left, streams = unpacked_allowance(len(content)), []
            for layer in (layer for layer in every if layer.kind == kind):
                data = STREAMS[kind].unpack(content, layer, left)
                left -= len(data)
                streams.append(Stretch(layer.offset, layer.offset + layer.size, data))
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


def _from_outside(part: Part, hints: Hints, end: Deadline) -> Iterator[Placed]:
    """Checksums over a part that are stored in what it is in."""
    lengths = [Algorithm(LENGTH)] if LENGTH.startswith(hints.algorithm) and not hints.key else []
    algorithms = [*algorithms_for(hints), *lengths]
    if len(set(part.contents)) < 2 <= len(part.contents):
        return
    for outer in part.outer:
        own = _streams(outer, part)
        for finding in across(outer.contents, part.contents, places(outer.contents), algorithms, end):
            placed = Placed(finding, outer, part)
            in_a_stream = any(low <= placed.at < high for low, high in own)
            if not in_a_stream and (len(part.contents) > 1 or finding.algorithm.bits >= 32):
                yield placed


def _between(files: Part, named: Part, others: Sequence[Part], hints: Hints, end: Deadline) -> Iterator[Placed]:
    """Checksums over all of a file, or of what is packed in one, that are stored in another one. The first files are
    `named` so where they are covered.
    """
    algorithms = algorithms_for(hints)
    for over in (named, *others):
        if len(set(over.contents)) < 2 <= len(over.contents):
            continue
        outermost = [over, *over.outer][-1]
        results: dict[Algorithm, int] = {}
        for held in (files, *(each for each in others if each.beside)):
            own = held is outermost or (held is files and outermost is named)
            if own or len(held.contents[0]) > LARGEST_BESIDE:
                continue
            stored = places(held.contents)
            for finding in across(held.contents, over.contents, stored, algorithms, end, results=results):
                if len(over.contents) > 1 or finding.algorithm.bits >= 32:
                    yield Placed(finding, held, over)


def _streams(outer: Part, part: Part) -> list[tuple[int, int]]:
    """Where the packed streams of a part are in the first save: the checksums in them are renewed by packing."""
    kind = part.layers[-1].kind if part.layers and not part.path else ""
    if part.around is not outer or kind not in STREAMS:
        return []
    return [(each.offset, each.offset + each.size) for each in find_layers(outer.contents[0]) if each.kind == kind]


def _parts_inside(files: Part, end: Deadline) -> list[Part]:
    """Every payload inside the files, and the strings of texts, also of texts inside."""
    known: dict[tuple[str, ...], Part] = {(): files}
    found: list[Part] = []
    for payloads in look_inside(files.contents, end=end):
        first = payloads[0]
        outer = next(known[first.route[:n]] for n in range(len(first.route) - 1, -1, -1) if first.route[:n] in known)
        part = Part(tuple(each.data for each in payloads), first.layer, first.layers, "", outer)
        known.setdefault(first.route, part)
        found.append(part)
    parts: list[Part] = []
    through: dict[tuple[bytes, ...], Part] = {}  # strings, which can grow where a stream in the bytes of a text cannot
    moved: dict[int, Part] = {}

    def add(part: Part) -> None:
        strings = list(_strings(part))
        parts.extend(strings)
        through.update((string.contents, string) for string in strings)

    add(files)
    for part in found:
        if part.contents in through:
            moved[id(part)] = through[part.contents]
        else:
            around = moved.get(id(part.around)) if part.around is not None else None
            if part.around is not None and around is not None:
                layers = (*around.layers, *part.layers[len(part.around.layers) :])
                moved[id(part)] = part = part._replace(around=around, layers=layers, path=around.path)
            parts.append(part)
        add(moved.get(id(part), part))
    return parts


def _strings(part: Part) -> Iterator[Part]:
    """The long strings that a text has in every save, without quotes and escapes, and what is base64 or hexadecimal in
    them.
    """
    documents = [text_of(content) for content in part.contents]
    if None in documents:
        return
    leaves = [_long_leaves(document) for document in documents if document is not None]
    common = [path for path in leaves[0] if all(path in each for each in leaves)]
    common.sort(key=lambda path: -len(leaves[0][path].raw))
    for path in common[:MOST_STRINGS]:
        texts = tuple(each[path].text.encode("utf-8", "surrogateescape") for each in leaves)
        if len(set(texts)) < min(len(texts), 2):
            continue
        words = f"{part.words} → the text {path}" if part.words else f"the text {path}"
        string = Part(texts, words, part.layers, path, part)
        yield string
        (kind, *others) = {spelled_as(each[path].text) for each in leaves}
        if kind and not others:
            with suppress(LedgerError):
                data = tuple(unwrap(text, (kind,))[-1].data for text in texts)
                yield Part(data, f"{words} → {kind}", (*part.layers, LayerSpec(kind)), path, string)


def text_of(content: bytes) -> Document | None:
    """The document of a text; None for what is not one, or too large to look into."""
    return recognised_text(MemorySource(content)) if len(content) <= LARGEST_TEXT else None


def _long_leaves(document: Document) -> dict[str, TextLeaf]:
    return {
        leaf.path: leaf for leaf in document.leaves() if leaf.kind == "string" and leaf.end - leaf.start >= SHORTEST
    }
