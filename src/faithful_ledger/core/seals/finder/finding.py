"""What was found: which algorithm over which bytes gives which stored ones, in how many saves."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import reduce
from itertools import repeat
from operator import or_
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.seals.algorithms import ALGORITHMS, COPY, LENGTH, Algorithm, own_bytes
from faithful_ledger.core.seals.finder.cuts import ALONE, Cut
from faithful_ledger.core.seals.finder.places import DECIMAL, DIGITS, VARIABLE, Edge, span_of
from faithful_ledger.core.seals.sums import SUMS
from faithful_ledger.core.storage import NUMBERS, WRITTEN, Checksum, ChecksumInText

__all__ = [
    "SURE",
    "Finding",
    "Said",
    "as_written",
    "choice_bits",
    "edge_bits",
    "edges_bits",
    "less_plain",
    "name_bits",
    "naturalness",
    "open_ends",
    "own_bits",
    "place_bits",
    "said_bits",
    "spelled",
    "spread_bits",
    "stored_bits",
    "varied_bits",
    "widened",
]

Array: TypeAlias = np.ndarray[Any, Any]
SURE = 24.0  # bits beyond what was tried
NEAR = 64  # bytes from an end of the file
ALIGNED = np.array([2, *(3 if at % 16 == 0 else 4 if at % 4 == 0 else 6 for at in range(1, 256))], np.int8)
FIRST = 16
ENDS = Edge(0, True)
SIGNED = frozenset(("times-31",))  # a number with a sign where it comes from
UNUSUAL = 3.0
DOUBTED, DOUBTED_XOR = 1 / 64, 1 / 4096  # as many other ranges with the right sum by chance
PLACED, UNCOMMON, TURNED, NEARBY, ANYWHERE = 5.0, 5.0, 1.0, 2.0, 7.0  # bits that it costs to be so
COMMON = frozenset(
    ("crc-32", "md5", "sha-1", "sha-256", "adler-32", "crc-16-ccitt-false", "crc-16-arc", "crc-16-xmodem")
)
COMMON |= frozenset(("sum8", "sum16", "sum32", "xor8"))


class Said(NamedTuple):
    """Where a range ends: the number of `width` bytes at an offset, counted from `behind`."""

    at: int
    width: int
    order: str
    behind: int

    @property
    def form(self) -> str:
        return f"u{8 * self.width}{self.order}"

    def end(self, content: bytes) -> int:
        number = NUMBERS[self.form].decode(content[self.at : self.at + self.width])
        return self.behind + int(number)


@dataclass(frozen=True)
class Finding:
    """`algorithm` over [start, end) is stored at `stored`, in `size` bytes of a `form`. What it sees in its own bytes
    is `own`: None where they are not covered, else zeros, left out, or bytes in hexadecimal; `beside` is what is left
    out with them. `bits` say how unlikely chance is. `freedom` says what no save could decide; `constant_only` that the
    start of the computation is known only together with what its result was XORed with, or only for the sizes seen;
    `undecided` that the saves hold as well with the seal somewhere else, which `freedom` names. With `said` a number in
    the file says where the range ends, and `end` is that of the first save.
    """

    algorithm: Algorithm
    start: Edge
    end: Edge
    stored: Edge
    size: int
    form: str
    own: str | None = None
    beside: Cut = ALONE
    holds_in: int = 0
    of: int = 0
    bits: float = 0.0
    freedom: str = ""
    constant_only: bool = False
    undecided: bool = False
    said: Said | None = None

    @property
    def sure(self) -> bool:
        return self.holds_in == self.of and self.bits >= SURE and not self.undecided

    @property
    def is_likely(self) -> bool:
        return not self.sure and self.bits >= SURE / 2

    @property
    def parameters(self) -> dict[str, int | bool | str]:
        """What a template says beside the name of the algorithm."""
        found = self.algorithm.parameters
        if self.own is not None:
            found["own"] = self.own
        if any(self.beside):
            found["beside"] = f"{self.beside.before} {self.beside.behind}"
        return found

    @property
    def name_in_words(self) -> str:
        return self.algorithm.in_words

    def covers_in_words(self, size: int, base: int = 0) -> str:
        """Which bytes of a file of this size, that begins at an offset of what people see."""
        start, end, _ = self.spans(size)
        behind = " (the end)" if end == size else f" ({size - end} before the end)" if self.end.from_end else ""
        behind = f" (as the {self.said.form} at 0x{self.said.at:X} says)" if self.said is not None else behind
        return f"0x{base + start:X} to 0x{base + end:X}{behind}{self.own_in_words}"

    @property
    def own_in_words(self) -> str:
        """What it sees of itself, as the end of a sentence."""
        if any(self.beside):
            return f", without its own bytes, {self.beside.before} before and {self.beside.behind} behind them"
        own = {None: "", "zeros": ", its own bytes as zeros", "left out": ", without its own bytes"}
        return own.get(self.own, f", its own bytes as {self.own}")

    @property
    def sureness_in_words(self) -> str:
        words = "sure" if self.sure else "likely" if self.is_likely else "may be chance"
        if 1.0 <= self.bits < SURE:
            odds = f"1 in {float(f'{2.0**self.bits:.2g}'):,.0f}"
            words += f", {odds}" if self.bits < SURE / 2 else f", by chance {odds}"
        if self.constant_only:
            words += "; its constants are known for this size only"
        return f"{words}; {self.freedom}" if self.freedom else words

    def spans(self, size: int) -> tuple[int, int, int]:
        """Start, end and where it is stored, in a file of a size."""
        return self.start.at(size), self.end.at(size), self.stored.at(size)

    def place_in(self, content: bytes) -> tuple[int, int]:
        """Where it is stored; a decimal number takes as many digits as it has, up to the same place from the end of the
        file where it is counted from there.
        """
        return span_of(self.stored, self.size, self.form, content)

    def stored_in(self, content: bytes) -> bytes:
        at, end = self.place_in(content)
        return content[at:end] if at >= 0 else b""

    def written(self, content: bytes, payload: bytes | None = None) -> bytes | None:
        """The bytes that belong where it is stored; None where its range does not fit in the file. `payload` is what
        its range is in, where that is not the file itself.
        """
        held = content if payload is None else payload
        start, end, (at, stored_end) = self.start.at(len(held)), self.end_in(held), self.place_in(content)
        if not 0 <= start < end <= len(held) or not 0 <= at < stored_end <= len(content):
            return None
        pieces = self._seen(content, start, end, at, stored_end) if payload is None else (payload[start:end],)
        number = self.algorithm(map(memoryview, pieces))
        return spelled(self.algorithm, number, self.size, self.form, content[at:stored_end])

    def covered(self, content: bytes) -> Iterator[bytes]:
        """The bytes of its range as the seal sees them."""
        return self._seen(content, self.start.at(len(content)), self.end_in(content), *self.place_in(content))

    def end_in(self, content: bytes) -> int:
        """Where its range ends."""
        return self.end.at(len(content)) if self.said is None else self.said.end(content)

    def _seen(self, content: bytes, start: int, end: int, at: int, behind: int) -> Iterator[bytes]:
        low, high = max(at - self.beside.before, start), min(behind + self.beside.behind, end)
        if low >= high or self.own is None:
            yield content[start:end]
            return
        yield content[start:low]
        yield own_bytes(self.own, high - low)
        yield content[high:end]

    def holds(self, content: bytes, payload: bytes | None = None) -> bool:
        return self.written(content, payload) == self.stored_in(content)

    def checked(self, contents: Sequence[bytes]) -> Finding:
        """With the number of saves in which it holds."""
        return replace(self, holds_in=sum(map(self.holds, contents)), of=len(contents))


def spelled(algorithm: Algorithm, number: int, size: int, form: str, old: bytes) -> bytes | None:
    """A result as it is stored; None where it does not fit."""
    if form in WRITTEN:
        as_many_digits = form in DECIMAL and DIGITS.fullmatch(old) is not None
        storage = ChecksumInText(form) if as_many_digits else Checksum(size, form)
        try:
            return storage.encode(algorithm.cut(number, storage.room(old)), old)
        except ValueRefused:
            return None
    if form == VARIABLE:
        return NUMBERS[VARIABLE].encode(number)
    raw = algorithm.cut(number, size).to_bytes(size, "big")
    return raw[::-1] if form.endswith("le") else raw


def as_written(finding: Finding, contents: Sequence[bytes], payloads: Sequence[bytes] | None = None) -> Finding:
    """The finding as a template should say it, as far as the saves allow: with all of its bytes or digits and its sign.
    `payloads` are what it covers, where that is not in the files themselves.
    """
    if finding.form == "u8" and finding.algorithm.name == LENGTH:
        return _in_two_bytes(finding, contents, payloads)
    if finding.form not in DECIMAL:
        return widened(finding, contents, payloads)
    return _with_sign(_of_any_digits(finding, contents) if payloads is None else finding, contents)


def less_plain(finding: Finding, contents: Sequence[bytes]) -> Finding:
    """The finding with fewer bits for stored values that others are often as well: for each that is one byte several
    times, as in a map or what is filled, since such bytes are sums of others nearby; for the zeros among their bytes,
    since a hash that begins with zero is, behind zeros, the number itself; and for sums that are nearly the same.
    """
    if finding.algorithm.name in (LENGTH, COPY) or finding.form in WRITTEN:
        return finding
    every = set(map(finding.stored_in, contents))
    plain = 8.0 * (finding.size - 1) * sum(len(set(stored)) == 1 for stored in every)
    zeros = 8.0 * sum(stored.count(0) for stored in every)
    if not finding.form.startswith("u"):
        return replace(finding, bits=finding.bits - plain)
    if finding.algorithm.name not in SUMS:
        return replace(finding, bits=finding.bits - max(plain, zeros))
    numbers = [int.from_bytes(stored, "little" if finding.form.endswith("le") else "big") for stored in every]
    most = said_bits(finding.algorithm, numbers, 8 * finding.size) * len(every)
    return replace(finding, bits=min(finding.bits, most, 8.0 * finding.size * len(every) - zeros) - plain)


def widened(finding: Finding, contents: Sequence[bytes], payloads: Sequence[bytes] | None = None) -> Finding:
    """The same sum in more bytes, where these say its highest bits in every save: those of a short sum would not."""
    name, width = finding.algorithm.name, 8 * finding.size
    for wider in (64, 32):
        order = finding.form[-2:]
        other = name.replace(f"sum{width}", f"sum{wider}", 1)
        if wider <= width or not name.startswith(f"sum{width}") or other not in ALGORITHMS or order not in ("le", "be"):
            continue
        size, stored = wider // 8, finding.stored
        if order == "be":
            more = size - finding.size
            stored = stored._replace(offset=stored.offset + (more if stored.from_end else -more))
        algorithm = replace(finding.algorithm, name=other)
        made = replace(finding, algorithm=algorithm, stored=stored, size=size, form=f"u{wider}{order}")
        start, end, at = made.spans(len(contents[0]))
        if payloads is None and at < start < at + size:  # its highest bytes, which were zeros
            made = replace(made, start=stored.moved(size))
        elif payloads is None and at < end < at + size:
            made = replace(made, end=stored)
        starts = [algorithm.start]
        starts += [algorithm.start + (1 << wider) - (1 << width)] if algorithm.start else []  # one below zero
        for begun in starts:
            started = replace(made, algorithm=replace(algorithm, start=begun))
            if all(map(started.holds, contents, payloads or repeat(None))):
                return started
    return finding


def _in_two_bytes(finding: Finding, contents: Sequence[bytes], payloads: Sequence[bytes] | None) -> Finding:
    """The same length in two bytes, if the other one, by which its offset is even, is zero in every save and is not
    covered: then it may grow beyond 255.
    """
    at = finding.stored
    low_first = at.offset % 2 == (0 if not at.from_end else len(contents[0]) % 2)
    stored = at if low_first else at._replace(offset=at.offset + (1 if at.from_end else -1))
    made = replace(finding, stored=stored, size=2, form="u16le" if low_first else "u16be")
    start, end, begin = made.spans(len(contents[0]))
    apart = payloads is not None or start >= begin + 2 or end <= begin
    return made if apart and all(map(made.holds, contents, payloads or repeat(None))) else finding


def _of_any_digits(finding: Finding, contents: Sequence[bytes]) -> Finding:
    """The same for a decimal number of however many digits: what is in front of it, or behind it, is all but the number
    and the rest, so that no edge is counted over its digits.
    """
    size = len(contents[0])
    start, end, _ = finding.spans(size)
    at, behind = finding.place_in(contents[0])
    if finding.own is not None:
        return finding
    if end <= at and 2 * at > size:
        beside, stored, start_edge, end_edge = Cut(at - end, size - behind), Edge(size - at, True), finding.start, ENDS
    elif behind <= start and 2 * at < size:
        beside, stored, start_edge, end_edge = Cut(at, start - behind), Edge(at), Edge(0), finding.end
    else:
        return finding
    made = replace(
        finding, start=start_edge, end=end_edge, stored=stored, size=behind - at, own="left out", beside=beside
    )
    return made if all(map(made.holds, contents)) else finding


def _with_sign(finding: Finding, contents: Sequence[bytes]) -> Finding:
    """As a signed number, if that is usual for the algorithm and the highest bit of a decimal one is never set. Such
    numbers say as little for the one as for the other: half of all would be negative, or high.
    """
    bits = finding.algorithm.bits
    if (
        finding.form != "decimal"
        or bits not in (32, 64)
        or finding.algorithm.is_digest
        or finding.algorithm.name == LENGTH
    ):
        return finding
    if any(int(text) >> (bits - 1) for text in map(finding.stored_in, contents) if text.isdigit()):
        return finding
    usual = finding.algorithm.name in SIGNED
    undecided = "" if usual else "whether one with the highest bit is negative, no save says"
    return replace(finding, form="signed" if usual else "decimal", freedom=finding.freedom or undecided)


def edge_bits(natures: Array, size: int) -> Array:
    """What it costs to choose edges: little for the ends of the file and of the seal, all of its bits for any."""
    costs: Array = np.array([1.5, 4.0, 6.0, *[float(size.bit_length())] * 4])[natures]
    return costs


def naturalness(offsets: Array, place: tuple[int, int], size: int) -> Array:
    """How far edges are from those that people choose, 0 for the nearest: the ends of the file, and of the seal."""
    found: Array = ALIGNED[offsets & 255]
    near = np.flatnonzero((offsets <= NEAR) | (offsets >= size - NEAR))
    away = np.minimum(offsets[near], size - offsets[near])
    found[near] = np.where(away % 4 == 0, 1, 2)
    for chosen in (0, size, *place):
        found[offsets == chosen] = 0
    return found


def edges_bits(edges: tuple[int, int], place: tuple[int, int], size: int) -> float:
    """What it costs to choose both edges of a range."""
    return float(edge_bits(naturalness(np.array(edges), place, size), size).sum())


def choice_bits(algorithm: Algorithm, edges: tuple[int, int], place: tuple[int, int], size: int) -> float:
    """What it costs to choose an algorithm, the edges of its range, and a place from its start to its end."""
    return edges_bits(edges, place, size) + name_bits(algorithm) + stored_bits(place, size)


def name_bits(algorithm: Algorithm) -> float:
    """What it costs to choose an algorithm."""
    return (0.0 if algorithm.name in COMMON else UNCOMMON) + (TURNED if algorithm.changed else 0.0)


def stored_bits(place: tuple[int, int], size: int) -> float:
    """What it costs to choose where a seal is stored."""
    return PLACED + place_bits(place, size)


def open_ends(
    starts: Array, ends: Array, costs: tuple[Array, Array], cost: float, bits: float, *, carries: bool
) -> str:
    """What to say of a sum that begins and ends within stretches that stay the same, where other edges that are as easy
    to choose would give the right sum by chance as well; empty where these are too few. `bits` are those of one sum,
    which are more than it seems where it `carries`.
    """
    others = int(np.searchsorted(np.sort(costs[1]), cost - costs[0], side="right").sum())
    if others / 2.0**bits <= (DOUBTED if carries else DOUBTED_XOR):
        return ""
    return f"it may begin within 0x{starts[0]:X} to 0x{starts[-1]:X}, and end within 0x{ends[0]:X} to 0x{ends[-1]:X}"


def own_bits(own: str | None) -> float:
    """What it costs to see its own bytes as anything but zeros."""
    return UNUSUAL if own not in (None, "zeros") else 0.0


def said_bits(algorithm: Algorithm, values: Sequence[int], bits: int) -> float:
    """How many bits each of some stored values says, which have so many: of a sum or an XOR of what changes little some
    are always the same.
    """
    kind = SUMS[algorithm.name].kind if algorithm.name in SUMS else ""
    if kind in ("sum", "weighted"):
        return spread_bits(values, min(bits, 64))
    return varied_bits(values, min(bits, 64)) if kind == "xor" else float(min(bits, 64))


def varied_bits(values: Sequence[int], bits: int) -> float:
    """How many bits of an XOR of so many say something: all, unless few are not the same in every save."""
    varied = reduce(or_, (value ^ values[0] for value in values), 0).bit_count()
    return float(bits) if 2 * varied >= bits else varied + 3.0


def spread_bits(values: Sequence[int], bits: int) -> float:
    """How many bits of a sum of so many say something: the highest ones are zero in every save."""
    return min(float(bits), max(max(values) - min(values), 1).bit_length() + 3.0)


def place_bits(place: tuple[int, int], size: int) -> float:
    """What it costs to store a seal at a place: least at the end of the file, and among the first numbers."""
    is_byte = place[1] - place[0] == 1
    if place[1] == size or (place[0] <= FIRST and place[0] % 4 == 0):
        return 0.0
    if is_byte:  # which begins at any offset
        return NEARBY if place[0] <= FIRST else ANYWHERE
    is_near = place[0] < NEAR or place[0] >= size - NEAR
    return NEARBY if is_near and place[0] % 4 == 0 else ANYWHERE
