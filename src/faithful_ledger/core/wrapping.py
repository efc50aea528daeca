"""Reaching a payload through named layers, and putting a changed one back through them.

A layer is all packed streams of one kind that a payload holds, joined in their order, or the scrambling over the whole
of it. A stream is found where it is in this save, a key is the one that the template gives or names. On the way back
only streams whose content changed are packed again; every other byte of the outer payload stays.

A stream within a larger payload is packed into the bytes it had, so that nothing around it moves. Where that cannot be
done it may take another size only if what counts it is known: a length that the template describes, or, at
the end of the payload, no number that looks like one. Else the posting is refused.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import NamedTuple, Protocol

from faithful_ledger.core.address import Lookup
from faithful_ledger.core.budget import unpacked_allowance
from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.errors import AddressError, StreamGrows, ValueRefused, place
from faithful_ledger.core.layers import (
    CIPHERS,
    KEYED,
    LINKED,
    LOCAL,
    PADDED,
    SCRAMBLINGS,
    STREAMS,
    SWAPPINGS,
    LayerSpec,
)
from faithful_ledger.core.layers.archives import ARCHIVES, Member, finish_zip, members_of, repacked, unpacked
from faithful_ledger.core.layers.ciphers import BLOCK, Cipher, derived_key, wrong_cipher
from faithful_ledger.core.layers.hex_text import HEX, bytes_of, digits_like, pairs_of
from faithful_ledger.core.layers.linked import Chain, chains_of, length_in_front
from faithful_ledger.core.layers.scrambling import Scrambling, scramble, unscramble, wrong_key
from faithful_ledger.core.layers.sqlite_tables import SQLITE, changed_database, tables_as_json
from faithful_ledger.core.layers.stream import Layer
from faithful_ledger.core.layers.swapping import swapped
from faithful_ledger.core.layers.transcoding import TRANSCODINGS, encoded_from_utf8, utf8_from
from faithful_ledger.core.profile import find_layers
from faithful_ledger.core.profile.layers import stream_at
from faithful_ledger.core.profile.lengths import suspected_lengths
from faithful_ledger.core.source import MemorySource, Source
from faithful_ledger.core.suggest import did_you_mean

__all__ = [
    "COUNTED",
    "UNCOUNTED",
    "Counted",
    "Hidden",
    "Inner",
    "Step",
    "Streams",
    "Unwrapped",
    "cuts",
    "unwrap",
    "wrap_together",
]

ROUND = (256, 1000)  # parts of a multiple of these bytes, but for the last, are of one size by a rule


class Counted(Protocol):
    """What a template says of the payload around."""

    def has_length_over(self, start: int, end: int) -> bool:
        """Whether a described length covers bytes [start, end), so that they may take another size."""
        ...

    def works_out(self, at: int) -> bool:
        """Whether the byte at an offset belongs to a field that is worked out when you post."""
        ...


class Undescribed:
    """Of a payload that no template describes: whether something in it counts all of its parts by itself."""

    def __init__(self, *, counts: bool) -> None:
        self._counts = counts

    def has_length_over(self, start: int, end: int) -> bool:
        return self._counts

    def works_out(self, at: int) -> bool:
        return False


COUNTED, UNCOUNTED = Undescribed(counts=True), Undescribed(counts=False)


class Step(Protocol):
    """One layer: the payload around it, what is inside, and the way back."""

    @property
    def outer(self) -> Source: ...

    @property
    def data(self) -> bytes: ...

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        """What has to change outside so that `inner` is inside. `counted` is about the bytes outside, which may take
        another size where a described length covers them.

        Raises:
            LedgerError: it cannot be wrapped.
        """
        ...


@dataclass(slots=True)
class Streams:
    """All streams of one kind, joined; `starts` are where each begins in `data`."""

    kind: str
    outer: Source
    streams: list[Layer]
    data: bytes
    starts: list[int]

    @classmethod
    def of(cls, outer: bytes, streams: list[Layer]) -> Streams:
        """Raises TooMuch when they unpack to more than a payload of this size is worth."""
        left = unpacked_allowance(len(outer))
        data, starts = bytearray(), []
        for stream in streams:
            starts.append(len(data))
            part = STREAMS[stream.kind].unpack(outer, stream, left)
            left -= len(part)
            data += part
        return cls(streams[0].kind, MemorySource(outer), streams, bytes(data), starts)

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        old, new = [*self.starts, len(self.data)], cuts(self.starts, inner)
        changed = []
        for stream, (old_start, old_end), (start, end) in zip(self.streams, pairwise(old), pairwise(new), strict=True):
            content = bytes(inner.read(start, end))
            if content != self.data[old_start:old_end]:
                span = stream.offset, stream.offset + stream.size
                changed.append(Replacement(*span, self._packed(content, stream, counted), (cause,)))
        return changed

    def _packed(self, content: bytes, stream: Layer, counted: Counted) -> bytes:
        span = stream.offset, stream.offset + stream.size
        before = bytes(self.outer.read(*span))
        packed = STREAMS[self.kind].pack(content, before)
        alone = span == (0, self.outer.size)
        if alone or len(packed) == len(before):
            return packed
        fitted = STREAMS[self.kind].pack_into(content, before)
        if fitted is not None:
            return fitted
        if not counted.has_length_over(*span) and (why := self._why_fixed(stream, counted)):
            raise StreamGrows(
                f"the {self.kind} stream at {place(stream.offset)} would take {len(packed)} bytes in place of "
                f"{stream.size}, and {why}",
                "nothing was written; describe its length in the template (length_of), or enter values that pack as "
                "small as the old ones",
            )
        return packed

    def _why_fixed(self, stream: Layer, counted: Counted) -> str:
        """What would be wrong if the stream took another size, as far as that can be seen; empty where nothing is."""
        behind = self.outer.size - stream.offset - stream.size
        if behind:
            return f"no length that the template describes says where the {behind} bytes behind it begin"
        suspected = suspected_lengths(self.outer, stream.offset, stream.size)
        found = [each for each in suspected if not counted.works_out(each[0])]
        if found:
            at, name = found[0]
            return f"the {name} at {place(at)} looks like its length, which the template does not describe"
        return ""


@dataclass(slots=True)
class Hidden:
    """A whole payload under a scrambling."""

    scrambling: Scrambling
    outer: Source
    data: bytes

    @classmethod
    def of(cls, outer: bytes, scrambling: Scrambling) -> Hidden:
        return cls(scrambling, MemorySource(outer), unscramble(outer, scrambling))

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        old = bytes(self.outer.read(0, self.outer.size))
        new = scramble(bytes(inner.read(0, inner.size)), self.scrambling)
        if self.scrambling.kind not in LOCAL or len(new) != len(old):
            return [Replacement(0, len(old), new, (cause,))]
        return [
            Replacement(piece.start, piece.end, new[piece.start : piece.end], (cause,))
            for piece in inner.pieces
            if piece.replacement is not None and piece.start < piece.end
        ]


@dataclass(slots=True)
class Enciphered:
    """A payload under a cipher, or with its bytes in another order."""

    close: Callable[[bytes], bytes]
    outer: Source
    data: bytes

    @classmethod
    def of(cls, outer: bytes, cipher: Cipher) -> Enciphered:
        """Raises AddressError where the cipher cannot be undone."""
        return cls(lambda content: cipher.closed(content, outer), MemorySource(outer), cipher.opened(outer))

    @classmethod
    def turned(cls, outer: bytes, kind: str) -> Enciphered:
        return cls(lambda content: swapped(content, kind), MemorySource(outer), swapped(outer, kind))

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        """Only the run of bytes that is another one is replaced."""
        old = bytes(self.outer.read(0, self.outer.size))
        new = self.close(bytes(inner.read(0, inner.size)))
        if len(old) != len(new):
            return [Replacement(0, len(old), new, (cause,))]
        return [
            Replacement(start, start + BLOCK, new[start : start + BLOCK], (cause,))
            if start + BLOCK <= len(old)
            else Replacement(start, len(old), new[start:], (cause,))
            for start in range(0, len(old), BLOCK)
            if old[start : start + BLOCK] != new[start : start + BLOCK]
        ]


@dataclass(slots=True)
class Transcoded:
    """A text in another encoding than UTF-8."""

    kind: str
    outer: Source
    data: bytes

    @classmethod
    def of(cls, outer: bytes, kind: str) -> Transcoded:
        return cls(kind, MemorySource(outer), utf8_from(outer, kind))

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        replaced = []
        outer_at = inner_at = 0
        for item in inner.replacements:
            start = outer_at + len(encoded_from_utf8(self.data[inner_at : item.start], self.kind))
            end = start + len(encoded_from_utf8(self.data[item.start : item.end], self.kind))
            replaced.append(Replacement(start, end, encoded_from_utf8(item.data, self.kind), (cause,)))
            outer_at, inner_at = end, item.end
        return replaced


@dataclass(slots=True)
class Hexed:
    """Bytes in hexadecimal."""

    outer: Source
    data: bytes

    @classmethod
    def of(cls, outer: bytes) -> Hexed:
        """Raises AddressError where it is not hexadecimal."""
        return cls(MemorySource(outer), bytes_of(outer))

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        old = bytes(self.outer.read(0, self.outer.size))
        pairs = pairs_of(old)
        digits = digits_like(bytes(inner.read(0, inner.size)), old)
        if len(digits) != len(pairs):
            between = old[pairs[0] + 2 : pairs[1]] if len(pairs) > 1 else b""
            return [Replacement(pairs[0], pairs[-1] + 2, between.join(digits), (cause,))]
        return [
            Replacement(at, at + 2, two, (cause,))
            for number, (at, two) in enumerate(zip(pairs, digits, strict=True))
            if int(two, 16) != self.data[number]
        ]


@dataclass(slots=True)
class Archived:
    """A member of an archive."""

    member: Member
    outer: Source
    data: bytes

    @classmethod
    def of(cls, outer: bytes, layer: LayerSpec) -> Archived:
        """Raises AddressError when the archive does not have it."""
        members = {member.name: member for member in members_of(outer) if member.kind == layer.kind}
        if layer.member not in members:
            hint = did_you_mean(layer.member, members) or f"it has {', '.join(list(members)[:8]) or 'none'}"
            raise AddressError(f"there is no member “{layer.member}” in the {layer.kind} archive", hint)
        member = members[layer.member]
        return cls(member, MemorySource(outer), unpacked(outer, member))

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        return repacked(self.outer, self.member, bytes(inner.read(0, inner.size)), cause)


@dataclass(slots=True)
class Tables:
    """The tables of an SQLite database; what its write-ahead `log` holds is in the new database."""

    outer: Source
    data: bytes
    log: bytes

    @classmethod
    def of(cls, outer: bytes, log: bytes) -> Tables:
        return cls(MemorySource(outer), tables_as_json(outer, log), log)

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        before = bytes(self.outer.read(0, self.outer.size))
        changed = changed_database(before, self.log, self.data, bytes(inner.read(0, inner.size)))
        return [Replacement(0, len(before), changed, (cause,))]


@dataclass(slots=True)
class Padded:
    """A text with zeros behind it, up to a size that stays."""

    outer: Source
    data: bytes

    @classmethod
    def of(cls, outer: bytes) -> Padded:
        return cls(MemorySource(outer), outer.rstrip(b"\0"))

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        if inner.size > self.outer.size:
            what = f"the text would take {inner.size} bytes, and its place has {self.outer.size}"
            raise ValueRefused(what, "nothing was written; enter shorter values")
        grown = inner.size - len(self.data)
        replaced = [item._replace(causes=(cause,)) for item in inner.replacements]
        if grown > 0:
            replaced.append(Replacement(self.outer.size - grown, self.outer.size, b"", (cause,)))
        elif grown < 0:
            replaced.append(Replacement(self.outer.size, self.outer.size, bytes(-grown), (cause,)))
        return replaced


@dataclass(slots=True)
class Linked:
    """The packed bytes of all chains of blocks, one behind the other; `chains` are the spans of their blocks."""

    kind: str
    outer: Source
    data: bytes
    chains: list[Chain]

    @classmethod
    def of(cls, outer: bytes, kind: str) -> Linked:
        """Raises AddressError where no chain of blocks is found."""
        chains = chains_of(outer, kind, STREAMS)
        if not chains:
            raise AddressError(f"no {kind} blocks with a stream were found", "see Profile for what the file holds")
        data = b"".join(outer[low:high] for chain in chains for low, high in chain)
        return cls(kind, MemorySource(outer), data, chains)

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        old = [0]
        for chain in self.chains:
            old.append(old[-1] + sum(high - low for low, high in chain))
        new = [0, *(inner.moved(start) for start in old[1:-1]), inner.size]
        replaced: list[Replacement] = []
        for chain, (old_start, old_end), (start, end) in zip(self.chains, pairwise(old), pairwise(new), strict=True):
            content = bytes(inner.read(start, end))
            if content != self.data[old_start:old_end]:
                replaced += self._in_blocks(chain, content, cause)
        return sorted(replaced, key=lambda item: item.start)

    def _in_blocks(self, chain: Chain, content: bytes, cause: Cause) -> list[Replacement]:
        """A chain with other bytes in the same blocks: all but the last stay as full as they were."""
        *full, (low, high) = chain
        at = sum(end - start for start, end in full)
        last = content[at:]
        room = max(self._room(low, high), high - low)
        if not 0 < len(last) <= room:
            raise StreamGrows(
                f"the stream in the blocks from {place(chain[0][0])} on would take {len(content)} bytes, and its "
                f"{len(chain)} {'block has' if len(chain) == 1 else 'blocks have'} room for {at + 1} to {at + room}",
                "nothing was written; enter values that pack about as small as the old ones",
            )
        pieces, begin = [], 0
        for start, end in full:
            pieces.append((start, end, content[begin : begin + end - start]))
            begin += end - start
        span = max(high - low, len(last))
        pieces.append((low, low + span, last.ljust(span, b"\0")))
        if len(last) != high - low:
            pieces.append(length_in_front(low, len(last), self.kind))
        return [
            Replacement(start, end, piece, (cause,))
            for start, end, piece in pieces
            if piece != bytes(self.outer.read(start, end))
        ]

    def _room(self, low: int, high: int) -> int:
        """How long a last block may be: as long as a full one, as far as only zeros are behind it."""
        full = max((end - start for chain in self.chains for start, end in chain[:-1]), default=0)
        behind = bytes(self.outer.read(high, max(low + full, high)))
        return high - low + len(behind) - len(behind.lstrip(b"\0"))


@dataclass(slots=True)
class LeftOff:
    """A layer that is not put back: the game accepts the payload without it."""

    outer: Source
    data: bytes

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        if self.outer.size == inner.old.size and bytes(self.outer.read(0, self.outer.size)) == self.data:
            return [item._replace(causes=(cause,)) for item in inner.replacements]
        return [Replacement(0, self.outer.size, bytes(inner.read(0, inner.size)), (cause,))]


@dataclass(slots=True)
class Unwrapped:
    """A payload and the steps that led to it, the outermost first."""

    steps: list[Step]

    @property
    def source(self) -> MemorySource:
        return MemorySource(self.steps[-1].data)

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        """As `wrap_together`, of this payload alone."""
        return wrap_together([self.inner(inner, cause)], counted)

    def inner(self, patched: Patched, cause: Cause) -> Inner:
        """This payload as it will be, to be wrapped together with others."""
        return Inner(self.steps, patched, cause)


class Inner(NamedTuple):
    """A payload as it will be, with the steps that lead to it and the cause to give for what changes around it."""

    steps: Sequence[Step]
    patched: Patched
    cause: Cause


def wrap_together(inside: Sequence[Inner], counted: Counted) -> list[Replacement]:
    """What has to change in one outermost payload so that these payloads are inside of it; `counted` is about that.
    Several may be behind the same steps, as members of a packed archive are: these steps are put back once.

    Raises:
        LedgerError: one of them cannot be wrapped.
    """
    groups: dict[object, list[Inner]] = {}
    for each in inside:
        groups.setdefault(_identity(each.steps[0]), []).append(each)
    replaced: list[Replacement] = []
    for group in groups.values():
        step, cause = group[0].steps[0], group[0].cause
        deeper = [Inner(each.steps[1:], each.patched, each.cause) for each in group if len(each.steps) > 1]
        own = next((each.patched for each in group if len(each.steps) == 1), None)
        if own is None:
            lengths = COUNTED if isinstance(step, Linked) else UNCOUNTED  # each linked block has its own
            own = Patched(MemorySource(step.data), wrap_together(deeper, lengths))
        replaced += step.wrap(own, cause, counted)
    first = inside[0]
    archived = next((each.steps[0] for each in inside if isinstance(each.steps[0], Archived)), None)
    if archived is not None and archived.member.kind == "zip":
        replaced += finish_zip(archived.outer, replaced, first.cause)
    return replaced


def cuts(starts: Sequence[int], inner: Patched) -> list[int]:
    """Where the parts that a payload is packed in begin and end as it will be: where they did, moved. Parts that all
    have one round size, but for the last, keep it, because a game may unpack each into as much room.

    Raises:
        StreamGrows: they would be more or fewer parts.
    """
    sizes = [end - start for start, end in pairwise([*starts, inner.old.size])]
    size = sizes[0] if sizes else 0
    is_even = len(set(sizes[:-1])) == 1 and 0 < sizes[-1] <= size and any(size % each == 0 for each in ROUND)
    if not is_even or inner.size == inner.old.size:
        # What comes in where one part ends and the next begins belongs to the next.
        return [0, *(inner.moved(start) for start in starts[1:]), inner.size]
    count = -(-inner.size // size)
    if count != len(sizes):
        raise StreamGrows(
            f"the payload is packed in parts of {size} bytes, and would take {count} of them in place of {len(sizes)}",
            f"nothing was written; enter values with which it takes {len(sizes)} parts",
        )
    return [*range(0, inner.size, size), inner.size]


def _identity(step: Step) -> object:
    """What two steps have in common that lead from the same payload to the same one."""
    if isinstance(step, Archived):
        return step.member
    if isinstance(step, Streams):
        return step.kind, tuple((stream.offset, stream.size) for stream in step.streams)
    return id(step)


def unwrap(
    data: bytes,
    route: Sequence[LayerSpec | str],
    key_of: Callable[[str], bytes] | None = None,
    number_of: Lookup | None = None,
    log: bytes = b"",
) -> list[Step]:
    """Undo layers, the outermost first; a kind alone is a layer without a key. `key_of` gives the bytes of a field of
    the file around, `number_of` its number. `log` is the write-ahead log of a database.

    Raises:
        AddressError: one of them is not there.
    """
    steps: list[Step] = []
    for each in route:
        layer = LayerSpec(each) if isinstance(each, str) else each
        step: Step
        if layer.kind in SCRAMBLINGS:
            step = Hidden.of(data, _scrambling(layer, key_of))
        elif layer.kind in CIPHERS:
            step = Enciphered.of(data, _cipher(layer, key_of, number_of))
        elif layer.kind in SWAPPINGS:
            step = Enciphered.turned(data, layer.kind)
        elif layer.kind == PADDED:
            step = Padded.of(data)
        elif layer.kind in LINKED:
            step = Linked.of(data, layer.kind)
        elif layer.kind == SQLITE:
            step = Tables.of(data, log)
        elif layer.kind in ARCHIVES:
            step = Archived.of(data, layer)
        elif layer.kind == HEX:
            step = Hexed.of(data)
        elif layer.kind in TRANSCODINGS:
            step = Transcoded.of(data, layer.kind)
        elif streams := _streams(data, layer, number_of):
            step = Streams.of(data, streams)
        elif layer.put_back:
            where = "" if layer.at is None else f" at {layer.at.text}"
            raise AddressError(f"no {layer.kind} stream was found{where}", "see Profile for what the file holds")
        else:
            step = LeftOff(MemorySource(data), data)
        steps.append(step if layer.put_back else LeftOff(step.outer, step.data))
        data = steps[-1].data
    return steps


def _streams(data: bytes, layer: LayerSpec, number_of: Lookup | None) -> list[Layer]:
    if layer.at is None:
        known = [found for found in find_layers(data) if found.kind == layer.kind]
        alone = stream_at(data, 0, layer.kind) if not known and data else None  # too small to be noticed in a file
        return [alone] if alone is not None else known
    at = layer.at.constant if layer.at.constant is not None else layer.at.evaluate(number_of or _no_number)
    at += len(data) if at < 0 else 0
    found = stream_at(data, at, layer.kind) if 0 <= at < len(data) else None
    return [found] if found is not None else []


def _no_number(name: str) -> int:
    raise AddressError(f"{name} is not known here", "the stream is not within a described file")


def _cipher(layer: LayerSpec, key_of: Callable[[str], bytes] | None, number_of: Lookup | None) -> Cipher:
    """A cipher with the key that the template gives, names, or derives."""
    key = key_of(layer.key_of) if layer.key_of and key_of is not None else layer.key or b""
    if layer.derived is not None:
        key = derived_key(key, layer.derived)
    if wrong := wrong_cipher(layer.kind, key, layer.iv):
        where = f" (it is taken from {layer.key_of})" if layer.key_of else ""
        raise AddressError(f"{wrong}{where}", "write the key in the template, its key_of, or how it is derived")
    at = layer.at.evaluate(number_of or _no_number) if layer.at is not None else 0
    return Cipher(layer.kind, key, layer.iv, layer.padding, layer.tag_first, at)


def _scrambling(layer: LayerSpec, key_of: Callable[[str], bytes] | None) -> Scrambling:
    """A scrambling with the key that the template gives or names."""
    kind = layer.kind
    key = key_of(layer.key_of) if layer.key_of and key_of is not None else layer.key
    if kind in KEYED and (wrong := wrong_key(kind, key or b"")):
        where = f" (it is taken from {layer.key_of})" if layer.key_of else ""
        raise AddressError(f"{wrong}{where}", "write its key in the template, or its key_of")
    return Scrambling(kind, key or b"", 0.0)
