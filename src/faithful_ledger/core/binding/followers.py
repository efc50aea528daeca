"""Followers: fields that are worked out from other parts of a save.

A length, a count, an offset, a seal, and a field that a rule keeps equal to another are one kind of thing: each is
stored in a field, needs the span of other elements, and has a value that is due. Checking compares that with what is
stored, settling puts it there. What a seal sees in its own bytes (zeros, or nothing) is decided in one place.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property
from graphlib import CycleError, TopologicalSorter
from itertools import pairwise
from types import MappingProxyType
from typing import Literal, NamedTuple

from faithful_ledger.core.address import name_in_text
from faithful_ledger.core.binding.lookup import named_from, named_in
from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.binding.spans import field_at
from faithful_ledger.core.edits import Patched
from faithful_ledger.core.errors import AddressError, EntryError
from faithful_ledger.core.seals import LENGTH, own_bytes
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage import Checksum, ChecksumInText, Integer, Value
from faithful_ledger.core.template.model import FieldSpec
from faithful_ledger.core.template.seal_spec import WHOLE_FILE, SealSpec

__all__ = [
    "Follower",
    "Kind",
    "SealState",
    "WorkedOut",
    "dependents",
    "follower",
    "follower_of",
    "followers",
    "in_levels",
]

LARGEST_NUMBER, MOST_DIGITS = 1024, 128  # bits of a number in JSON, and hexadecimal digits that are shown

Kind = Literal["length", "count", "offset", "seal", "rule"]
QUOTES = b"\"'"
SEPARATING = 8  # bytes between what may grow and what is counted from the end
NOTHING: Mapping[str, int] = MappingProxyType({})


class Follower(NamedTuple):
    """A field whose value is worked out from the elements `first` to `last`; None is the border of the file.

    `plus` is added to a length, a count or an offset. What is `elsewhere` is worked out from another file. A seal over
    single `values` has all of them here.
    """

    node: FieldNode
    kind: Kind
    first: Node | None
    last: Node | None
    file_end: int
    plus: int = 0
    elsewhere: bool = False
    values: tuple[Node, ...] = ()

    @property
    def spans(self) -> list[tuple[int, int]]:
        """Each span [start, end) its value is worked out from."""
        return [(each.start, each.end) for each in self.values] or [self.needs]

    @property
    def needs(self) -> tuple[int, int]:
        """The span [start, end) its value is worked out from, or within which all of these are."""
        seal = self.node.spec.seal if self.kind == "seal" else None
        if seal is not None and seal.span is not None:
            start, end = seal.span
            return min(start, self.file_end), min(end if end > 0 else max(self.file_end + end, 0), self.file_end)
        start = self.first.start if self.first is not None else 0
        if seal is not None and seal.behind_first and self.first is not None:
            start = self.first.end
        end = self.file_end - (seal.before_end if seal is not None else 0)
        return start, self.last.end if self.last is not None else max(end, start)

    @property
    def is_by_offset(self) -> bool:
        """Whether its span is said by offsets, so that what moves may come into it, or out of it."""
        return self.kind == "seal" and self.node.spec.seal is not None and self.node.spec.seal.span is not None

    @property
    def depends_on(self) -> list[tuple[int, int]]:
        """The spans [start, end) of the bytes whose values count: none for a length. Where it takes another size, all
        is worked out once more.
        """
        return self.spans if self.algorithm != LENGTH else []

    @property
    def algorithm(self) -> str:
        """The name of a seal's checksum; else its kind."""
        return self.node.spec.seal.algorithm.name if self.kind == "seal" and self.node.spec.seal else self.kind

    @property
    def policy(self) -> str:
        return self.node.spec.seal.policy if self.kind == "seal" and self.node.spec.seal else "renew"

    def due(self, source: Source) -> Value:
        """What the field should say, in the payload it is bound in.

        Raises:
            EntryError: the seal covers itself and the template does not say what it sees there.
            ValueRefused: the field that a rule makes it equal to cannot be read.
        """
        if self.kind == "seal":
            return self._checksum(source)
        if self.kind == "rule":
            assert isinstance(self.first, FieldNode)
            return self.first.value
        if self.kind == "count":
            return (self.first.count if isinstance(self.first, RowsNode) else 1) + self.plus
        start, end = self.needs
        return (end - start if self.kind == "length" else start) + self.plus

    def due_after(self, patched: Patched, counts: Mapping[str, int] = NOTHING) -> int:
        """What a length, count or offset should say after replacements in the payload it is bound in.

        `counts` are the numbers of records of rows that are given anew, by path.
        """
        if self.kind == "count":
            now = self.first.count if isinstance(self.first, RowsNode) else 1
            return counts.get(self.first.path, now) + self.plus if self.first is not None else now
        start, end = span_after(self.first, patched) if self.first is not None else (0, patched.size)
        return (end - start if self.kind == "length" else start) + self.plus

    def _checksum(self, source: Source) -> int:
        assert self.node.spec.seal is not None
        algorithm, storage = self.node.spec.seal.algorithm, self.node.spec.storage
        number = algorithm(self._undone(source) if self.node.spec.seal.unpacked else self._covered(source))
        if isinstance(storage, Checksum | ChecksumInText):
            return algorithm.cut(number, storage.room(self.node.raw))
        if isinstance(storage, Integer) and algorithm.is_digest:
            first = algorithm.cut(number, storage.size).to_bytes(storage.size, "big")
            return int.from_bytes(first, storage.order, signed=storage.signed)
        return as_stored(storage, number) if isinstance(storage, Integer) else number

    def _undone(self, source: Source) -> Iterator[memoryview]:
        """What its bytes unpack to.

        Raises:
            EntryError: they do not.
        """
        from faithful_ledger.core.formats.json_forms import FORMS, STRING, in_form
        from faithful_ledger.core.formats.xml_markup import CONTENT, content_of
        from faithful_ledger.core.wrapping import unwrap

        assert self.node.spec.seal is not None
        data = b"".join(self._covered(source))
        try:
            for kind in self.node.spec.seal.unpacked:
                if kind == CONTENT:
                    data = content_of(data)
                else:
                    data = in_form(data, kind) if kind in (*FORMS, STRING) else unwrap(data, (kind,))[-1].data
            yield memoryview(data)
        except AddressError as error:
            raise EntryError(f"what the seal {self.node.path} covers does not unpack: {error.what}") from error

    def _covered(self, source: Source) -> Iterator[memoryview]:
        if self.values:
            yield memoryview(self._joined(source))
            return
        start, end = self.needs
        first, last = self._own_bytes()
        low, high = max(first, start), min(last, end)
        if low >= high or self.elsewhere:
            yield from source.chunks(start, end)
            return
        own = self.node.spec.seal.own if self.node.spec.seal is not None else None
        if own is None:
            raise EntryError(
                f"the seal {self.node.path} covers its own bytes",
                "say in the template what it sees there: own: zeros, left out, or bytes such as FF",
            )
        yield from source.chunks(start, low)
        yield memoryview(own_bytes(own, high - low))
        yield from source.chunks(high, end)

    def _joined(self, source: Source) -> bytes:
        """Its values joined: texts without quotes and escapes, numbers as they are spelled."""
        seal, said = self.node.spec.seal, list[bytes]()
        assert seal is not None and seal.between is not None
        for each in self.values:
            raw = bytes(source.read(each.start, each.end))
            value = each.spec.storage.decode(raw) if isinstance(each, FieldNode) else raw
            text = value.encode("utf-8", "surrogateescape") if isinstance(value, str) else raw.strip(QUOTES)
            path = each.spec.address.path
            name = name_in_text(path.text) if path is not None else each.spec.name
            said.append((f"{name}{seal.named}".encode() if seal.named is not None else b"") + text)
        return seal.between.encode().join(said)

    def _own_bytes(self) -> tuple[int, int]:
        """The bytes that the seal does not see as they are: its own, in a text without quotes, and what is left out
        with them.
        """
        node = self.node
        first, last = node.start, node.end
        if isinstance(node.spec.storage, ChecksumInText):
            low, high = node.spec.storage.letters(node.raw)
            first, last = node.start + low, node.start + high
        before, behind = node.spec.seal.beside if node.spec.seal is not None else (0, 0)
        return first - before, last + behind


@dataclass(frozen=True, slots=True)
class SealState:
    """What checking a follower found. `algorithm` is a checksum's name, or length, count, offset. What is `stored` may
    be unreadable, which is None.
    """

    name: str
    label: str
    algorithm: str
    holds: bool
    stored: int | None
    computed: int
    policy: str

    @staticmethod
    def in_digits(number: int) -> str:
        """A result in hexadecimal; of a long one how it begins."""
        digits = f"{number:X}"
        return digits if len(digits) <= MOST_DIGITS else f"{digits[:MOST_DIGITS]}…"

    @property
    def says(self) -> str:
        """What is stored, as people read it."""
        return "nothing that can be read" if self.stored is None else _in_words(self.stored)

    @property
    def should_say(self) -> str:
        return _in_words(self.computed)

    @property
    def numbers(self) -> dict[str, int | str | None]:
        """What is stored and what should be, as JSON has it; a copy of a part of the save in hexadecimal."""
        numbers = {"stored": self.stored, "computed": self.computed}
        return {
            name: f"0x{number:X}" if number is not None and number.bit_length() > LARGEST_NUMBER else number
            for name, number in numbers.items()
        }


def _in_words(number: int) -> str:
    return str(number) if number < 1 << 64 else SealState.in_digits(number)


def followers(root: GroupNode, *, measured: bool = True, sealed: bool = True) -> Iterator[Follower]:
    """Every follower of a file, but for those that need what is not in this save."""
    for node in dependents(root, measured=measured, sealed=sealed):
        with suppress(AddressError):
            yield follower(node, root)


def follower(node: FieldNode, root: GroupNode) -> Follower:
    """A field that the template says is a seal, a length, a count or an offset, with what it needs.

    Raises:
        AddressError: an element it needs is not in this save.
    """
    derived, seal = node.spec.derived, node.spec.seal
    if seal is not None:
        found = [None if path in WHOLE_FILE else resolve(node, path) for path in seal.over]
        return _sealing(node, seal, found, root.end)
    assert derived is not None
    target = resolve(node, derived.target) if derived.target not in WHOLE_FILE else None
    return Follower(node, derived.kind, target, target, root.end, derived.plus)


def follower_of(node: FieldNode, other: GroupNode | None, size: int) -> Follower:
    """A field that is worked out from another file of so many bytes; `other` is its root, where it is described.

    Raises:
        AddressError: an element it needs is not in this save.
    """
    derived, seal = node.spec.derived, node.spec.seal
    paths = seal.over if seal is not None else (derived.target, derived.target) if derived is not None else ("", "")
    ends: list[Node | None] = []
    for path in paths:
        found: Node | None = None
        if path not in WHOLE_FILE and other is not None:
            found = named_in(other, path, node)
            if found is None:
                raise AddressError(f"{node.path} depends on {path}, which {node.spec.of_file} does not have", "")
        ends.append(found)
    if seal is not None:
        return _sealing(node, seal, ends, size)._replace(elsewhere=True)
    return Follower(node, "length", ends[0], ends[1], size, derived.plus if derived is not None else 0, elsewhere=True)


def _sealing(node: FieldNode, seal: SealSpec, found: Sequence[Node | None], file_end: int) -> Follower:
    """A seal over what its template names, of which this was found."""
    if seal.between is None:
        return Follower(node, "seal", found[0], found[1], file_end)
    values = tuple(each for each in found if each is not None)
    first, last = min(values, key=lambda each: each.start), max(values, key=lambda each: each.end)
    return Follower(node, "seal", first, last, file_end, values=values)


class WorkedOut:
    """What of a file's bytes is worked out, or counted; nothing where the template does not describe it."""

    def __init__(self, root: GroupNode | None) -> None:
        self._root = root

    @cached_property
    def _followers(self) -> list[Follower]:
        return list(followers(self._root)) if self._root is not None else []

    @cached_property
    def _nodes(self) -> list[FieldNode]:
        root = self._root
        return [*dependents(root), *dependents(root, elsewhere=True)] if root is not None else []

    def has_length_over(self, start: int, end: int) -> bool:
        """Whether a described length covers bytes [start, end), so that it follows when they grow."""
        for each in self._followers:
            first, last = each.needs
            if each.algorithm == "length" and first <= start and end <= last:  # also one that is renewed as a seal
                return True
        return False

    @property
    def says_a_length(self) -> bool:
        """Whether a field says how many bytes a payload in the file has."""
        return any(
            node.spec.of_file
            and (
                node.spec.derived is not None
                or (node.spec.seal is not None and node.spec.seal.algorithm.name == LENGTH)
            )
            for node in self._nodes
        )

    def works_out(self, start: int, end: int) -> bool:
        """Whether one of bytes [start, end) belongs to a field that is worked out."""
        return any(node.start < end and start < node.end for node in self._nodes)

    def is_content(self, start: int, end: int) -> bool:
        """Whether bytes [start, end) are all of a text, or of bytes whose length another field says."""
        field = field_at(self._root, start) if self._root is not None else None
        if field is None or field.end < end:
            return False
        return (field.spec.size is not None and field.spec.size.constant is None) or isinstance(field.value, str)

    def is_from_end(self, start: int) -> bool:
        """Whether elements whose offset counts from the end are all that is behind an offset, but for a few bytes in
        front of them.
        """
        if self._root is None:
            return False
        found = sorted(
            (n.start, n.end) for n in self._root.children if n.spec.address.base == "end" and n.start >= start
        )
        if not found or found[0][0] > start + SEPARATING:
            return False
        return all(end >= begin for (_, end), (begin, _) in pairwise([*found, (self._root.end, self._root.end)]))


def dependents(
    root: GroupNode, *, measured: bool = True, sealed: bool = True, elsewhere: bool = False
) -> Iterator[FieldNode]:
    """Every bound field that is worked out from others of its file, or of another one (`elsewhere`): lengths, counts
    and offsets (`measured`), and seals. Groups and rows are only entered where such a field may be in them.
    """

    def follows(spec: FieldSpec) -> bool:
        if bool(spec.of_file) is not elsewhere:
            return False
        return (sealed and spec.seal is not None) or (measured and spec.derived is not None)

    stack: list[Node] = [root]
    while stack:
        node = stack.pop()
        if isinstance(node, FieldNode):
            if follows(node.spec):
                yield node
        elif any(map(follows, node.spec.worked_out)):
            if isinstance(node, GroupNode):
                stack += reversed(node.children)
            elif isinstance(node, RowsNode):
                stack += reversed(list(node.items()))


def resolve(node: FieldNode, path: str) -> Node:
    """The element a field names, looked up outwards from where it is.

    Raises:
        AddressError: it is not in this save.
    """
    found = named_from(node, path)
    if found is None:
        raise AddressError(f"{node.path} depends on {path}, which this save does not have", "another template may fit")
    return found


def span_after(node: Node, patched: Patched) -> tuple[int, int]:
    """Where an element is in the payload as it will be.

    Bytes that came in at one of its borders are its own if they belong to it or one of its parts, or to nobody; else
    they belong to a neighbour, as the first record of a list that was empty does.
    """
    start = patched.moved(node.start, behind=lambda item: item.element is not None and node.follows(item.element))
    end = patched.moved(
        node.end,
        behind=lambda item: item.element is None or node.follows(item.element) or item.element.is_within(node),
    )
    return start, end


def as_stored(storage: Integer, number: int) -> int:
    """The lowest bits of a checksum as its field says them; the highest of these is the sign where it has one."""
    bits = storage.size * 8
    number &= (1 << bits) - 1
    return number - (1 << bits) if storage.signed and number >> (bits - 1) else number


def in_levels(seals: list[Follower]) -> Iterator[list[Follower]]:
    """Inner seals before the outer ones that need them: each level only depends on seals of those before it.

    Raises:
        EntryError: seals cover each other in a circle; its members are named.
    """
    by_start = sorted(range(len(seals)), key=lambda number: seals[number].node.start)
    starts = [seals[number].node.start for number in by_start]
    longest = max((seal.node.size for seal in seals), default=0)
    order: TopologicalSorter[int] = TopologicalSorter()
    for outer_number, outer in enumerate(seals):
        order.add(outer_number)
        for start, end in outer.depends_on:
            near = by_start[bisect_left(starts, start - longest) : bisect_left(starts, end)]
            order.add(outer_number, *(n for n in near if n != outer_number and start < seals[n].node.end))
    try:
        order.prepare()
    except CycleError as error:
        names = " → ".join(seals[number].node.path for number in error.args[1])
        raise EntryError(
            f"these seals cover each other in a circle: {names}", "one range in the template is wrong"
        ) from error
    while order.is_active():
        level = order.get_ready()
        yield [seals[number] for number in level]
        order.done(*level)
