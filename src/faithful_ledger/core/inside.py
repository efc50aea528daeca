"""What is inside: payloads reached by reversing scrambling and unpacking streams, one in the other.

Several saves of one game are looked into together: what opens in all of them is believed, a stream without a mark of
its own or a scrambling only then. Several streams of one kind (a container in chunks) are joined in their order, so
that what moves from one chunk to the next stays findable; `Payload.spot` says which chunk an offset is in.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import suppress
from typing import NamedTuple, TypeAlias

from faithful_ledger.core.address import Expression
from faithful_ledger.core.budget import unpacked_allowance
from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.errors import LedgerError, TooMuch, place
from faithful_ledger.core.formats import looks_like_text, recognised_text
from faithful_ledger.core.hidden_strings import find_hidden_strings, find_parts_under_key
from faithful_ledger.core.layers import ENCLOSED, IN_LETTERS, LINKED, PADDED, STREAMS, LayerSpec
from faithful_ledger.core.layers.archives import archive_of, members_of, unpacked
from faithful_ledger.core.layers.enclosed import enclosed_span, holds_checksum
from faithful_ledger.core.layers.linked import Begins, Chain, chains_of, stream_begins
from faithful_ledger.core.layers.sqlite_tables import SQLITE, is_database
from faithful_ledger.core.layers.stream import Layer
from faithful_ledger.core.layers.swapping import BYTE_LETTERS, HALVES, REVERSED, SWAPPINGS
from faithful_ledger.core.layers.tagged import TAGGED, tagged_kind
from faithful_ledger.core.layers.transcoding import TRANSCODINGS, transcoding_of
from faithful_ledger.core.listed_parts import find_parts_listed
from faithful_ledger.core.masked_numbers import find_masked
from faithful_ledger.core.profile import find_layers
from faithful_ledger.core.profile.arrangement import arrangement_of, whole_arrangement_of
from faithful_ledger.core.profile.descrambling import find_descramblings, step_in_words
from faithful_ledger.core.profile.layers import stream_at
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.unlocking import NO_KEYS, Keys, find_unlocking
from faithful_ledger.core.wrapping import Streams, unwrap

__all__ = [
    "Payload",
    "layer_of_whole",
    "look_inside",
    "payloads_inside",
    "strong_layers",
]

DEEPEST = 3
WHOLE_IN_WORDS = {
    SQLITE: "the tables of the database",
    **{kind: f"with the bytes of words of {size} turned round" for kind, size in SWAPPINGS.items()},
    **{kind: f"the bytes at {kind.partition('-')[0]} offsets" for kind in HALVES},
    REVERSED: "the bytes from the last to the first",
    BYTE_LETTERS: "the letters of the text as bytes",
    PADDED: "the text without zeros behind it",
    ENCLOSED: "what is between the bytes around it",
    **{kind: f"{kind} as utf-8" for kind in TRANSCODINGS},
    **{kind: f"{kind} as JSON" for kind in TAGGED},
}
MUCH = 8  # the part of the bytes, one of so many, that a stream without a mark has to be


class Payload(NamedTuple):
    """Bytes reached through `layers`. `route` is their kinds from the outside in, the same for saves of one kind;
    `layer` says it in words, with places; `starts` are where the chunks of the innermost layer begin in `data`.
    """

    layers: tuple[LayerSpec, ...]
    layer: str
    data: bytes
    starts: tuple[int, ...] = (0,)

    @property
    def route(self) -> tuple[str, ...]:
        return tuple(layer.step for layer in self.layers)

    def spot(self, offset: int) -> str:
        """The layers as words, with the chunk an offset is in."""
        if len(self.starts) == 1:
            return self.layer
        chunk = bisect_right(self.starts, offset)
        return f"{self.layer}; in stream {chunk}, {offset - self.starts[chunk - 1]} bytes from its beginning"


Together: TypeAlias = tuple[Payload, ...]  # one payload of each save, reached in the same way


def payloads_inside(data: bytes, end: Deadline = NEVER, keys: Keys = NO_KEYS) -> list[Payload]:
    """All payloads of one save; those found until the time is up."""
    return [alone for (alone,) in look_inside([data], alternatives=1, end=end, keys=keys)]


def look_inside(
    saves: Sequence[bytes],
    layers: Sequence[list[Layer]] | None = None,
    partial: list[tuple[str, int]] | None = None,
    *,
    alternatives: int = 12,
    end: Deadline = NEVER,
    keys: Keys = NO_KEYS,
) -> Iterator[Together]:
    """All payloads that can be reached in every save, the outer ones first. Those of one save together hold no more
    than a file of its size is worth; what would be more is left out. Of several ways to undo a scrambling that fit
    alike as many as `alternatives` are followed. `partial` takes the layers that open in some saves only, and in how
    many. `layers` are those of the saves themselves, where they were looked for already. What `keys` open comes first.
    """
    left = [unpacked_allowance(len(save)) for save in saves]
    waiting: list[Together] = [tuple(Payload((), "", save) for save in saves)]
    seen = {tuple(saves)}
    known = layers
    partial = [] if partial is None else partial
    while waiting and not end.over:
        outer = waiting.pop(0)
        begins = [stream_begins(each.data, STREAMS) for each in outer]
        streams = known or [find_layers(each.data, at) for each, at in zip(outer, begins, strict=True)]
        known = None
        under_keys = _under_keys(outer, streams, keys, end) if keys != NO_KEYS else []
        for inner in under_keys or _within(outer, begins, streams, partial, alternatives):
            fits = all(len(each.data) <= rest for each, rest in zip(inner, left, strict=True))
            contents = tuple(each.data for each in inner)
            if fits and contents not in seen:
                seen.add(contents)
                left = [rest - len(each.data) for each, rest in zip(inner, left, strict=True)]
                yield inner
                if len(inner[0].layers) < DEEPEST:
                    waiting.append(inner)


def _under_keys(outer: Together, streams: Sequence[list[Layer]], keys: Keys, end: Deadline) -> list[Together]:
    """The payloads that keys open, where nothing was opened by them yet and no stream shows that nothing is hidden."""
    if any(layer.has_key for layer in outer[0].layers):
        return []
    contents = [each.data for each in outer]
    is_open = any(strong_layers(each, payload.data) for each, payload in zip(streams, outer, strict=True))
    known = [way for way in keys.ways if not is_open or way[0].kind in IN_LETTERS]  # these are streams themselves
    if not outer[0].layers and (opened := list(_opened(outer, known))):
        return opened
    if parts := find_parts_under_key(contents, keys, end):
        return [tuple(_undone(each, parts) for each in outer)]
    if is_open:
        return []
    if listed := find_parts_listed(contents, keys, end):
        return [tuple(_undone(each, (layer,)) for each in outer) for layer in listed]
    found = find_unlocking(contents, keys, end) if keys.secret else []
    return list(_opened(outer, [(layer,) for layer in found]))


def _opened(outer: Together, ways: Sequence[tuple[LayerSpec, ...]]) -> Iterator[Together]:
    for way in ways:
        with suppress(LedgerError):
            yield tuple(_undone(each, way) for each in outer)


def strong_layers(layers: Sequence[Layer], data: bytes) -> list[Layer]:
    """Those of the streams in some bytes that are hardly chance, and show that these are not scrambled: with a mark of
    their own, or much of all, less the zeros at the end.
    """
    filled = len(data.rstrip(b"\0")) if layers else 0
    return [layer for layer in layers if STREAMS[layer.kind].marks or layer.size * MUCH >= filled]


def _within(
    outer: Together,
    begins: Sequence[Begins],
    streams: Sequence[list[Layer]],
    partial: list[tuple[str, int]],
    alternatives: int,
) -> Iterator[Together]:
    """The payloads one layer further in."""
    if all(archive_of(each.data) for each in outer):
        yield from _members(outer)
        return
    if (whole := _of_whole(outer)) is not None:
        yield whole
        return
    if (linked := _linked(outer, begins)) is not None:
        yield linked
        return
    if (order := whole_arrangement_of([each.data for each in outer])) is not None:
        yield tuple(_undone(each, (LayerSpec(order),)) for each in outer)
        return
    for find in (find_hidden_strings, find_masked):
        if (in_place := find([each.data for each in outer])) is not None:
            yield tuple(_undone(each, (in_place,)) for each in outer)
    strong = False
    for kind in sorted({layer.kind for each in streams for layer in each}):
        of_kind = [[layer for layer in each if layer.kind == kind] for each in streams]
        believed = [bool(strong_layers(each, o.data)) for each, o in zip(of_kind, outer, strict=True)]
        strong = strong or any(believed)
        if all(of_kind):
            at_one = _at_one_offset(outer, kind, of_kind)
            spec = LayerSpec(kind, at=Expression(at_one[0].offset) if at_one else None)
            of_kind = [[layer] for layer in at_one] or of_kind
            with suppress(TooMuch):
                yield tuple(_joined(each, spec, layers) for each, layers in zip(outer, of_kind, strict=True))
        elif any(believed):
            partial.append((_then(outer[0].layer, kind), sum(map(bool, of_kind))))
    if not strong and (order := arrangement_of([each.data for each in outer])) is not None:
        yield tuple(_undone(each, (LayerSpec(order),)) for each in outer)
    # What was unpacked is rarely scrambled as well, and one save alone shows little: there it would be chance.
    if not strong and (len(outer) > 1 or not outer[0].layers):
        found = find_descramblings([each.data for each in outer], unpacked=bool(outer[0].layers))
        for way in found[:alternatives]:
            yield tuple(_undone(each, steps) for each, steps in zip(outer, way.steps, strict=True))


def layer_of_whole(data: bytes) -> str | None:
    """The kind of a layer that all of a payload is in: a database, a text in another encoding, values that say
    themselves what they are, a text with zeros behind it, or a text or such values with a header or a checksum around.
    """
    if is_database(data):
        return SQLITE
    if (kind := tagged_kind(data) or transcoding_of(data)) is not None:
        return kind
    if data[-1:] == b"\0" and looks_like_text(data.rstrip(b"\0")):
        return PADDED
    span = enclosed_span(data)
    if span is not None and _is_alone(data[: span[0]], data[span[1] :]):
        inner = data[slice(*span)]
        if recognised_text(MemorySource(inner)) is not None or tagged_kind(inner):
            return ENCLOSED
    return None


def _is_alone(head: bytes, tail: bytes) -> bool:
    """Whether what is around a text may be a checksum or another number, and is neither packed nor another text."""
    return holds_checksum(head, tail) and not (
        any(map(enclosed_span, (b"\0" + head, b"\0" + tail))) or strong_layers(find_layers(tail), tail)
    )


def _of_whole(outer: Together) -> Together | None:
    """What is in the layer that all of every payload is in, where that is a database or leaves a text."""
    kinds = {layer_of_whole(each.data) for each in outer}
    kind = kinds.pop() if len(kinds) == 1 else None
    if kind is None:
        return None
    with suppress(LedgerError):
        inner = tuple(_undone(each, (LayerSpec(kind),)) for each in outer)
        if kind == SQLITE or all(looks_like_text(each.data) or tagged_kind(each.data) for each in inner):
            return inner
    return None


def _at_one_offset(outer: Together, kind: str, found: Sequence[list[Layer]]) -> list[Layer]:
    """The only stream of every save, where a kind without a mark begins at one offset in all of several; none else. A
    byte in front of it may by chance begin a stream as well.
    """
    has_begin = bool(STREAMS[kind].marks) or kind in IN_LETTERS
    if has_begin or len(found) < 2 or any(len(layers) > 1 for layers in found):
        return []
    alone = [layer for (layer,) in found]
    for offset, _ in Counter(layer.offset for layer in alone).most_common():
        at_one = [stream_at(each.data, offset, kind) for each in outer]
        enough = [
            here for here, other in zip(at_one, alone, strict=True) if here is not None and 2 * here.size > other.size
        ]
        if len(enough) == len(found):
            return enough
    return []


def _joined(outer: Payload, spec: LayerSpec, layers: list[Layer]) -> Payload:
    inner = Streams.of(outer.data, layers)
    at = place(layers[0].offset)
    words = f"{spec.kind} at {at}" if len(layers) == 1 else f"{len(layers)} {spec.kind} streams from {at} on, joined"
    return Payload((*outer.layers, spec), _then(outer.layer, words), inner.data, tuple(inner.starts))


def _linked(outer: Together, begins: Sequence[Begins]) -> Together | None:
    """What is in chains of blocks, where streams run over several of them: with the header that most chains follow."""
    best: tuple[int, str, list[list[Chain]]] = (0, "", [])
    for kind in LINKED if all(begins) else ():
        chains = [chains_of(e.data, kind, STREAMS, at) for e, at in zip(outer, begins, strict=True)]
        broken = sum(len(chain) > 1 for each in chains for chain in each)
        if all(chains) and broken > best[0]:
            best = (broken, kind, chains)
    count, kind, chains = best
    if not count:
        return None
    return tuple(_in_blocks(each, kind, of_it) for each, of_it in zip(outer, chains, strict=True))


def _in_blocks(outer: Payload, kind: str, chains: list[Chain]) -> Payload:
    data = b"".join(outer.data[low:high] for chain in chains for low, high in chain)
    words = _then(outer.layer, f"{sum(map(len, chains))} linked blocks in {len(chains)} chains")
    return Payload((*outer.layers, LayerSpec(kind)), words, data)


def _undone(outer: Payload, steps: tuple[LayerSpec, ...]) -> Payload:
    data, words = outer.data, outer.layer
    for step in steps:
        data = unwrap(data, [step])[-1].data
        words = _then(words, WHOLE_IN_WORDS.get(step.kind) or step_in_words(step))
    return Payload((*outer.layers, *steps), words, data)


def _members(outer: Together) -> Iterator[Together]:
    """The members that all archives have; none of one that cannot be read."""
    contents = [dict(_unpacked(each.data)) for each in outer]
    for name in contents[0]:
        if all(name in each for each in contents):
            yield tuple(_member(each, name, content[name]) for each, content in zip(outer, contents, strict=True))


def _unpacked(archive: bytes) -> Iterator[tuple[str, tuple[str, bytes]]]:
    """The members by their names, each with its kind and content."""
    left = unpacked_allowance(len(archive))
    with suppress(LedgerError):
        for member in members_of(archive):
            with suppress(LedgerError):
                content = unpacked(archive, member, left)
                left -= len(content)
                yield member.name, (member.kind, content)


def _member(outer: Payload, name: str, found: tuple[str, bytes]) -> Payload:
    kind, content = found
    words = _then(outer.layer, f"{kind} member {name}")
    return Payload((*outer.layers, LayerSpec(kind, member=name)), words, content)


def _then(outer: str, inner: str) -> str:
    return f"{outer} → {inner}" if outer else inner
