"""The steps of a way into a payload, each with the way back: streams, scramblings, ciphers, archives, and texts."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Protocol

from faithful_ledger.core.budget import unpacked_allowance
from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.errors import AddressError, StreamGrows, ValueRefused, place
from faithful_ledger.core.formats import looks_like_text
from faithful_ledger.core.layers import IN_LETTERS, LOCAL, STREAMS, LayerSpec
from faithful_ledger.core.layers.archives import Member, members_of, repacked, unpacked
from faithful_ledger.core.layers.ciphers import BLOCK, Cipher
from faithful_ledger.core.layers.enclosed import enclosed_span
from faithful_ledger.core.layers.hex_text import bytes_of, digits_like, pairs_of
from faithful_ledger.core.layers.linked import Chain, chains_of, length_in_front
from faithful_ledger.core.layers.scrambling import OF_RECORDS, Scrambling, hidden_parts, scramble, unscramble
from faithful_ledger.core.layers.sqlite_tables import changed_database, tables_as_json
from faithful_ledger.core.layers.stream import Layer
from faithful_ledger.core.layers.swapping import ARRANGEMENTS, arranged, rearranged
from faithful_ledger.core.layers.tagged import json_of_tagged, tagged_changes
from faithful_ledger.core.layers.tagged.tree import one_replacement
from faithful_ledger.core.layers.transcoding import encoded_from_utf8, utf8_from
from faithful_ledger.core.source import MemorySource, Source
from faithful_ledger.core.suggest import did_you_mean
from faithful_ledger.core.wrapping.growing import Counted, decimal_length, suspected_length, why_fixed

__all__ = [
    "Archived",
    "Enciphered",
    "Enclosed",
    "Hexed",
    "Hidden",
    "LeftOff",
    "Linked",
    "Padded",
    "Step",
    "Streams",
    "Tables",
    "Tagged",
    "Transcoded",
    "changed_parts",
]

ROUND = (256, 1000)  # parts of a multiple of these bytes, but for the last, are of one size by a rule


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
        changed = []
        for number, _, content in changed_parts(self.starts, inner):
            stream = self.streams[number]
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
        why = "" if counted.has_length_over(*span) else self._why_fixed(stream, counted)
        fitted = STREAMS[self.kind].pack_into(content, before) if why or not STREAMS[self.kind].pads_behind else None
        if fitted is not None:
            return fitted
        if why:
            raise StreamGrows(
                f"the {self.kind} stream at {place(stream.offset)} would take {len(packed)} bytes in place of "
                f"{stream.size}, and {why}",
                "nothing was written; find the seals, describe its length (length_of), or enter values that pack as "
                "small as the old ones",
            )
        return packed

    @property
    def _are_all(self) -> bool:
        """Whether the streams follow one another, and are all of what they are in."""
        ends = [0, *(each.offset + each.size for each in self.streams)]
        return ends == [*(each.offset for each in self.streams), self.outer.size]

    def _why_fixed(self, stream: Layer, counted: Counted) -> str:
        """As below; what is letters among letters ends where others begin, and of streams that show their end each is
        where the one before it ends.
        """
        span = stream.offset, stream.offset + stream.size
        if STREAMS[self.kind].marks and self._are_all:
            return ""
        if self.kind in IN_LETTERS and looks_like_text(bytes(self.outer.read(0, self.outer.size))):
            return decimal_length(self.outer, stream.offset, (stream.size, stream.unpacked_size))
        return why_fixed(self.outer, *span, counted)


@dataclass(slots=True)
class Hidden:
    """A payload under a scrambling, which begins `at` an offset and goes on to the end of what it is in."""

    scrambling: Scrambling
    outer: Source
    data: bytes
    at: int = 0

    @classmethod
    def of(cls, outer: bytes, scrambling: Scrambling, at: int = 0) -> Hidden:
        """Raises AddressError where it would begin outside."""
        if not 0 <= at <= len(outer):
            what = f"{scrambling.kind} should begin at {place(at)}, and there are {len(outer)} bytes"
            raise AddressError(what, "see Profile for what the file holds")
        return cls(scrambling, MemorySource(outer), unscramble(outer[at:], scrambling), at)

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        at, end = self.at, self.outer.size
        if self.is_of_records and inner.size != end - at:
            raise ValueRefused(
                f"{inner.size} bytes would be there in place of {end - at}, and records with keys of their own are at "
                "offsets that stay",
                "nothing was written; enter values as long as the old ones",
            )
        new = scramble(bytes(inner.read(0, inner.size)), self.scrambling)
        if len(new) != end - at:
            return [Replacement(at, end, new, (cause,))]
        if self.scrambling.kind not in LOCAL:
            size = 1 if self.is_of_records else BLOCK  # what is between its parts is the file's as well
            return _changed_blocks(bytes(self.outer.read(at, end)), new, at, cause, size)
        return [
            Replacement(at + piece.start, at + piece.end, new[piece.start : piece.end], (cause,))
            for piece in inner.pieces
            if piece.replacement is not None and piece.start < piece.end
        ]

    @property
    def is_of_records(self) -> bool:
        """Whether only parts of records are hidden."""
        return self.scrambling.kind == OF_RECORDS

    def agrees(self, inner: Patched, after: Hidden) -> bool:
        """Whether the hidden parts of records that were written hold what `inner` has there. What is beside them may
        have changed in the file itself.
        """
        before = bytes(inner.read(0, inner.size))
        return hidden_parts(before, self.scrambling) == hidden_parts(after.data, self.scrambling)


def _changed_blocks(old: bytes, new: bytes, begin: int, cause: Cause, size: int = BLOCK) -> list[Replacement]:
    """What differs of bytes that begin at an offset, in blocks of a size; those that follow one another as one."""
    starts = [at for at in range(0, len(new), size) if new[at : at + size] != old[at : at + size]]
    runs: list[tuple[int, int]] = []
    for at in starts:
        first = runs.pop()[0] if runs and runs[-1][1] == at else at
        runs.append((first, min(at + size, len(new))))
    return [Replacement(begin + start, begin + end, new[start:end], (cause,)) for start, end in runs]


@dataclass(slots=True)
class Enciphered:
    """A payload under a cipher, or with its bytes in another order."""

    kind: str
    close: Callable[[bytes], bytes]
    outer: Source
    data: bytes
    span: tuple[int, int]

    @classmethod
    def of(cls, outer: bytes, cipher: Cipher) -> Enciphered:
        """Raises AddressError where the cipher cannot be undone."""
        data = cipher.opened(outer)
        return cls(
            cipher.kind, lambda content: cipher.closed(content, outer), MemorySource(outer), data, cipher.span(outer)
        )

    @classmethod
    def arranged(cls, outer: bytes, kind: str) -> Enciphered:
        span = 0, len(outer)
        return cls(
            kind, lambda content: rearranged(content, kind, outer), MemorySource(outer), arranged(outer, kind), span
        )

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        """Only the run of bytes that is another one is replaced.

        Raises:
            StreamGrows: it would take another size, and a number around looks as if it said the old one.
        """
        old = bytes(self.outer.read(0, self.outer.size))
        new = self.close(bytes(inner.read(0, inner.size)))
        if len(old) != len(new):
            start, end = self.span
            if why := "" if counted.has_length_over(start, end) else suspected_length(self.outer, start, end, counted):
                raise StreamGrows(
                    f"the {self.kind} layer at {place(start)} would take {end - start + len(new) - len(old)} bytes in "
                    f"place of {end - start}, and {why}",
                    "nothing was written; find the seals, describe its length (length_of), or enter values as long as "
                    "the old ones",
                )
            if self.kind in ARRANGEMENTS:  # which a value changes where it is
                return one_replacement(old, new, cause)
            return [Replacement(start, end, new[start : len(new) - len(old) + end], (cause,))]
        start, end = self.span
        return _changed_blocks(old[start:end], new[start:end], start, cause)


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
        if not members:
            what = f"the {layer.kind} archive is not there, or not whole"
            raise AddressError(what, "nothing was changed; the save may be cut off, or another template may fit it")
        if layer.member not in members:
            hint = did_you_mean(layer.member, members) or f"it has {', '.join(list(members)[:8])}"
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
class Tagged:
    """Values that say themselves what they are, as JSON."""

    kind: str
    outer: Source
    data: bytes

    @classmethod
    def of(cls, outer: bytes, kind: str) -> Tagged:
        """Raises AddressError where the bytes are not of the format."""
        return cls(kind, MemorySource(outer), json_of_tagged(outer, kind))

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        old = bytes(self.outer.read(0, self.outer.size))
        return tagged_changes(old, self.kind, bytes(inner.read(0, inner.size)), cause)


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
class Enclosed:
    """A text between other bytes, which begins `at` an offset."""

    outer: Source
    data: bytes
    at: int

    @classmethod
    def of(cls, outer: bytes) -> Enclosed:
        """Raises AddressError where there is none."""
        span = enclosed_span(outer)
        if span is None:
            raise AddressError("no text is between other bytes here", "see Profile for what the file holds")
        return cls(MemorySource(outer), outer[slice(*span)], span[0])

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        span = self.at, self.at + len(self.data)
        has_room = inner.size == len(self.data) or counted.has_length_over(*span)
        if not has_room and (why := suspected_length(self.outer, *span, counted)):  # it shows where it ends itself
            raise StreamGrows(
                f"the text at {place(self.at)} would take {inner.size} bytes in place of {len(self.data)}, and {why}",
                "nothing was written; find the seals, describe its length (length_of), or enter values as long as the "
                "old ones",
            )
        at = self.at
        return [Replacement(at + item.start, at + item.end, item.data, (cause,)) for item in inner.replacements]


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


def changed_parts(starts: Sequence[int], inner: Patched, part_size: int = 0) -> Iterator[tuple[int, bytes, bytes]]:
    """The parts of a payload, beginning at `starts`, that are no longer as they were: the number of each, and its bytes
    before and now. Where each has `part_size` bytes, but for the last, it keeps them.

    Raises:
        StreamGrows: they would be more or fewer parts.
    """
    old = pairwise([*starts, inner.old.size])
    for number, (before, now) in enumerate(zip(old, pairwise(_cuts(starts, inner, part_size)), strict=True)):
        was, content = bytes(inner.old.read(*before)), bytes(inner.read(*now))
        if content != was:
            yield number, was, content


def _cuts(starts: Sequence[int], inner: Patched, part_size: int) -> list[int]:
    """Where the parts that a payload is packed in begin and end as it will be: where they did, moved. Parts that all
    have one size, which is known or round, but for the last, keep it, because a game may unpack each into as much room.
    """
    sizes = [end - start for start, end in pairwise([*starts, inner.old.size])]
    size = part_size or (sizes[0] if sizes else 0)
    is_even = set(sizes[:-1]) <= {size} and bool(sizes) and 0 < sizes[-1] <= size
    is_even &= bool(part_size) or (len(sizes) > 1 and any(size % each == 0 for each in ROUND))
    if not is_even or inner.size == inner.old.size:
        # What comes in where one part ends and the next begins belongs to the next.
        return [0, *(inner.moved(start) for start in starts[1:]), inner.size]
    count = -(-inner.size // size)
    if count != len(sizes):
        raise StreamGrows(
            f"the payload is packed in parts of {size} bytes, and would take {count} of them in place of {len(sizes)}",
            "nothing was written; enter values with which it takes as many parts as before",
        )
    return [*range(0, inner.size, size), inner.size]
