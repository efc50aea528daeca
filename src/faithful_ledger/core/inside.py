"""What is inside: payloads reached by undoing scrambling and unpacking streams, one in the other.

Several streams of one kind (a container in chunks) are joined in their order, so that what moves from one chunk to the
next stays findable; `Payload.spot` says which chunk an offset is in.
"""

from __future__ import annotations

from bisect import bisect_right
from contextlib import suppress
from itertools import groupby
from typing import NamedTuple

from faithful_ledger.core.budget import unpacked_allowance
from faithful_ledger.core.errors import LedgerError, TooMuch, place
from faithful_ledger.core.layers import STREAMS, LayerSpec
from faithful_ledger.core.layers.archives import archive_of, members_of, unpacked
from faithful_ledger.core.layers.scrambling import unscramble
from faithful_ledger.core.layers.stream import Layer
from faithful_ledger.core.profile import find_layers, find_scrambling
from faithful_ledger.core.wrapping import Streams

__all__ = ["Payload", "payloads_inside"]

DEEPEST = 3
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


def payloads_inside(data: bytes, layers: list[Layer] | None = None) -> list[Payload]:
    """All payloads, the outer ones first. Together they hold no more than a file of this size is worth; what would be
    more is left out.

    `layers` are those of the data itself, where they were looked for already.
    """
    found: list[Payload] = []
    left = unpacked_allowance(len(data))
    waiting = [Payload((), "", data)]
    while waiting:
        outer = waiting.pop(0)
        for inner in _within(outer, layers if outer.data is data and layers is not None else find_layers(outer.data)):
            if len(inner.data) <= left and inner.data != outer.data:
                left -= len(inner.data)
                found.append(inner)
                if len(inner.route) < DEEPEST:
                    waiting.append(inner)
    return found


def _within(outer: Payload, layers: list[Layer]) -> list[Payload]:
    """The payloads one layer further in."""
    data = outer.data
    if archive_of(data):
        return _members(outer)
    found = []
    for kind, group in groupby(sorted(layers, key=lambda layer: layer.kind), key=lambda layer: layer.kind):
        try:
            inner = Streams.of(data, list(group))
        except TooMuch:
            continue
        words = _joined(outer.layer, _streams(kind, inner.streams))
        found.append(Payload((*outer.layers, LayerSpec(kind)), words, inner.data, tuple(inner.starts)))
    scrambling = None if any(_is_strong(layer, data) for layer in layers) else find_scrambling(data)
    if scrambling is not None:
        key = scrambling.key.hex(" ").upper()
        words_of = {"xor": f"XOR with {key}", "add": f"{key} added", "xor-previous": "XOR with the byte before"}
        shown = _joined(outer.layer, words_of[scrambling.kind])
        layer = LayerSpec(scrambling.kind, scrambling.key or None)
        found.append(Payload((*outer.layers, layer), shown, unscramble(data, scrambling)))
    return found


def _is_strong(layer: Layer, data: bytes) -> bool:
    """Whether a stream shows that the bytes around it are not scrambled. One without a mark of its own may be chance in
    scrambled bytes, unless it is much of them.
    """
    return bool(STREAMS[layer.kind].marks) or layer.size * MUCH >= len(data)


def _members(outer: Payload) -> list[Payload]:
    """The members of an archive; none of one that cannot be read."""
    found, left = [], unpacked_allowance(len(outer.data))
    with suppress(LedgerError):
        for member in members_of(outer.data):
            with suppress(LedgerError):
                content = unpacked(outer.data, member, left)
                left -= len(content)
                words = _joined(outer.layer, f"{member.kind} member {member.name}")
                layer = LayerSpec(member.kind, member=member.name)
                found.append(Payload((*outer.layers, layer), words, content))
    return found


def _streams(kind: str, streams: list[Layer]) -> str:
    at = place(streams[0].offset)
    return f"{kind} at {at}" if len(streams) == 1 else f"{len(streams)} {kind} streams from {at} on, joined"


def _joined(outer: str, inner: str) -> str:
    return f"{outer} → {inner}" if outer else inner
