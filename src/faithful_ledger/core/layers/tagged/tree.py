"""Values that say themselves what they are, as one JSON text: a tree of spans, and what changes in the bytes.

Only what differs from the old text is written; every other byte stays, whatever spelling another program chose for it.
A value keeps its kind: what was a fraction of four bytes is one afterwards.
"""

from __future__ import annotations

import json
import math
import struct
from abc import ABC, abstractmethod
from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from itertools import accumulate
from typing import Any, Literal, NamedTuple

from faithful_ledger.core.edits import Cause, Replacement
from faithful_ledger.core.errors import ValueRefused, place
from faithful_ledger.core.storage.leb128 import Leb128

__all__ = [
    "LONGEST_MARK",
    "Codec",
    "Count",
    "Cursor",
    "Malformed",
    "Node",
    "as_number",
    "blob_of",
    "changes",
    "is_same",
    "one_replacement",
    "plain",
    "put",
    "refuse",
    "text_of",
    "utf8",
    "varint",
]


class Count(NamedTuple):
    """A whole number at [at, end), its highest byte first if it is `big`, that says how many bytes [first, last) are,
    and perhaps a constant more.
    """

    at: int
    end: int
    first: int
    last: int
    big: bool = False


Kind = Literal["number", "text", "switch", "nothing", "blob", "list", "map", "other"]
BLOB, OTHER = "blob", "other"
ULEB128 = Leb128("uleb128")
MOST, DEEPEST = 1_000_000, 100  # values, and values in values
FEW, MOST_EACH = 10_000, 16  # values that a few bytes may have, and each byte more: most say nothing, or the same again
LONGEST_MARK = 64  # bytes that show which format it is
LEAST_NAMES = 2  # of bytes that say so much about themselves hardly any are chance
KEPT = "nothing was written; it stays as it is"


class Malformed(ValueError):
    """The bytes are not of the format."""


@dataclass(slots=True)
class Node:
    """A value at [start, end), with its parts; those of a map have `keys`. `form` is how it is spelled, as the codec
    knows it. A `shared` one only says what another one is, and cannot be changed alone. `counts` are the numbers in it
    that follow where what they count takes another size.
    """

    kind: Kind
    start: int
    end: int
    value: int | float | str | bool | bytes | None = None
    form: int = 0
    parts: list[Node] = field(default_factory=list)
    keys: list[str] = field(default_factory=list)
    shared: bool = False
    counts: Sequence[Count] = ()


class Cursor:
    """A place in bytes from which values are taken.

    Raises:
        Malformed: by each method, where the bytes end before.
    """

    __slots__ = ("at", "data", "depth", "left")

    def __init__(self, data: bytes, at: int = 0) -> None:
        self.data, self.at, self.depth = data, at, 0
        self.left = min(MOST, FEW + MOST_EACH * len(data))

    def byte(self) -> int:
        if self.at >= len(self.data):
            raise Malformed("it ends within a value")
        self.at += 1
        return self.data[self.at - 1]

    def take(self, size: int) -> bytes:
        if not 0 <= size <= len(self.data) - self.at:
            raise Malformed("a value goes beyond the end")
        self.at += size
        return self.data[self.at - size : self.at]

    def number(self, size: int, order: Literal["big", "little"] = "big", *, signed: bool = False) -> int:
        return int.from_bytes(self.take(size), order, signed=signed)

    def varint(self, longest: int) -> int:
        """A whole number, seven bits a byte, the lowest first, of so many bytes at most."""
        value = 0
        for step in range(longest):
            byte = self.byte()
            value |= (byte & 127) << 7 * step
            if byte < 128:
                return value
        raise Malformed("a number has too many bytes")

    def enter(self, count: int = 1) -> None:
        """So many values more, within those that are open."""
        self.left -= count
        if self.depth >= DEEPEST or self.left < 0:
            raise Malformed("it has more values than a save")


class Codec(ABC):
    """A format of such values. One with a mark shows by its first bytes that it is nothing else. Values behind one
    another are a list where it has a mark, or `goes_on`.
    """

    name: str
    has_mark = False
    goes_on = False

    @abstractmethod
    def may_be(self, data: bytes) -> bool:
        """Whether the first bytes are like those of the format."""

    def value_at(self, cursor: Cursor) -> Node:
        """The value that begins at the cursor, which is behind its end afterwards.

        Raises:
            Malformed: there is none, or nothing says where it ends.
        """
        raise Malformed("nothing says where it ends")

    def parse(self, data: bytes) -> Node:
        """The value that all of the bytes are; a list where several are behind one another and the format goes on.

        Raises:
            Malformed: they are not.
        """
        if self.has_mark or self.goes_on:
            return self._one_behind_another(data)
        return _all_of(Cursor(data), self.value_at)

    def _one_behind_another(self, data: bytes) -> Node:
        """The value, or a list of those that follow one another to the end; without a mark each has parts."""
        cursor, found = Cursor(data), list[Node]()
        while cursor.at < len(data):
            if found and not self.has_mark and not self.may_be(data[cursor.at : cursor.at + LONGEST_MARK]):
                raise Malformed("something else is behind its values")
            found.append(self.value_at(cursor))
        if not found:
            raise Malformed("there are no bytes")
        return found[0] if len(found) == 1 else Node("list", 0, len(data), parts=found)

    def scalar(self, value: int | float | str | bool | bytes | None, like: Node | None) -> bytes:
        """A value without parts, in the way of an old one.

        Raises:
            ValueRefused: the format has no such value.
        """
        raise refuse(value, "a value of the kind that it was")

    def holder(self, kind: Kind, count: int, like: Node | None) -> bytes:
        """What is in front of so many parts.

        Raises:
            ValueRefused: a part more or less would need more than that.
        """
        raise ValueRefused(f"a list or a group in {self.name} keeps its parts", KEPT)

    def is_telling(self, root: Node) -> bool:
        """Whether values say so much that they are hardly chance: there are names in them, all of them of letters."""
        found, waiting = 0, [root]
        while waiting:
            node = waiting.pop()
            if not all(map(str.isprintable, node.keys)):
                return False
            found += sum(key[:1].isalpha() or key.startswith(("_", "@", "$")) for key in node.keys)
            waiting += node.parts
        return found >= LEAST_NAMES

    def replaced(self, data: bytes, root: Node, new: Any, cause: Cause) -> list[Replacement]:
        """What differs from a changed value of JSON, in order.

        Raises:
            ValueRefused: a value cannot be stored so.
        """
        found = [
            Replacement(node.start, node.end, self.encoded(value, node, data), (cause,))
            for node, value in sorted(_changed(root, new), key=lambda pair: pair[0].start)
        ]
        return _with_counts(data, root.counts, found, cause)

    # what all have in common

    def encoded(self, value: Any, like: Node | None, data: bytes) -> bytes:
        """A value as bytes; where the old one says the same, its own."""
        if like is not None and is_same(plain(like), value):
            return data[like.start : like.end]
        if like is not None and like.shared:
            raise ValueRefused(f"{str(plain(like))[:40]} is the same value as another one", KEPT)
        if like is not None and like.kind == OTHER:
            raise ValueRefused("what nobody has understood keeps its bytes", KEPT)
        if isinstance(value, dict) and set(value) == {BLOB}:
            return self.scalar(blob_of(value), like)
        if isinstance(value, dict):
            old = dict(zip(like.keys, like.parts, strict=True)) if like is not None and like.kind == "map" else {}
            spelled = (self.scalar(k, None) + self.encoded(v, old.get(k), data) for k, v in value.items())
            return self.holder("map", len(value), like) + b"".join(spelled)
        if isinstance(value, list):
            olds: list[Node | None] = list(like.parts) if like is not None and like.kind == "list" else []
            olds += [olds[-1] if olds else None] * (len(value) - len(olds))
            parts = (self.encoded(each, old, data) for each, old in zip(value, olds, strict=False))
            return self.holder("list", len(value), like) + b"".join(parts)
        return self.scalar(value, like)


def plain(node: Node) -> Any:
    """A value as JSON has it."""
    if node.kind == "list":
        return list(map(plain, node.parts))
    if node.kind == "map":
        return dict(zip(node.keys, map(plain, node.parts), strict=True))
    if node.kind == "blob":
        return {BLOB: bytes(node.value or b"").hex(" ").upper()}  # type: ignore[arg-type]
    if node.kind == "other" or (isinstance(node.value, float) and not math.isfinite(node.value)):
        return {OTHER: str(node.value)}
    return node.value


def text_of(root: Node) -> bytes:
    """All of it as a JSON text."""
    return json.dumps(plain(root), ensure_ascii=False, indent=1).encode("utf-8", "surrogatepass")


def changes(codec: Codec, data: bytes, root: Node, text: bytes, cause: Cause) -> list[Replacement]:
    """What differs from a changed JSON text. Errors as for `Codec.replaced`."""
    return codec.replaced(data, root, json.loads(text.decode("utf-8", "surrogatepass")), cause)


def _with_counts(data: bytes, counts: Sequence[Count], found: list[Replacement], cause: Cause) -> list[Replacement]:
    """What was replaced, with the numbers that say how many bytes that is."""
    if not counts or all(len(item.data) == item.end - item.start for item in found):
        return found
    starts = [item.start for item in found]
    grown = [0, *accumulate(len(item.data) - (item.end - item.start) for item in found)]
    more = []
    for count in counts:
        by = grown[bisect_left(starts, count.last)] - grown[bisect_left(starts, count.first)]
        before = bisect_right(starts, count.at) - 1
        is_written_anew = before >= 0 and count.at < found[before].end
        if by and not is_written_anew:
            order: Literal["big", "little"] = "big" if count.big else "little"
            number = int.from_bytes(data[count.at : count.end], order) + by
            if number >> 8 * (count.end - count.at):
                raise refuse(number, f"a number of bytes that the {count.end - count.at} bytes take", count.at)
            raw = number.to_bytes(count.end - count.at, order)
            more.append(Replacement(count.at, count.end, raw, (cause,)))
    return sorted([*found, *more], key=lambda item: item.start)


def _changed(node: Node, new: Any) -> Iterator[tuple[Node, Any]]:
    if node.kind == "list" and isinstance(new, list) and len(new) == len(node.parts):
        for part, value in zip(node.parts, new, strict=True):
            yield from _changed(part, value)
    elif node.kind == "map" and isinstance(new, dict) and list(new) == node.keys:
        for part, value in zip(node.parts, new.values(), strict=True):
            yield from _changed(part, value)
    elif not is_same(plain(node), new):
        yield node, new


def is_same(one: Any, other: Any) -> bool:
    """Whether two values of JSON are the same; 1 is neither true nor 1.0."""
    if type(one) is not type(other):
        return False
    if isinstance(one, list):
        return len(one) == len(other) and all(map(is_same, one, other))
    if isinstance(one, dict):
        return list(one) == list(other) and all(map(is_same, one.values(), other.values()))
    return bool(one == other)


def blob_of(value: Any) -> bytes:
    """The bytes that a blob spells.

    Raises:
        ValueRefused: it is not a blob, or not in hexadecimal.
    """
    try:
        return bytes.fromhex(value[BLOB])
    except (ValueError, TypeError, KeyError) as error:
        raise ValueRefused("a blob is written in hexadecimal", KEPT) from error


def put(holder: Node, known: set[str], name: str, part: Node) -> None:
    """A part more of a group, by a name of its own."""
    while name in known:
        name += " 2"
    known.add(name)
    holder.keys.append(name)
    holder.parts.append(part)


def one_replacement(data: bytes, made: bytes, cause: Cause) -> list[Replacement]:
    """All that differs between bytes and those they become, as one replacement from the first to the last."""
    if data == made:
        return []
    most = min(len(data), len(made))
    start = next((at for at in range(most) if data[at] != made[at]), most)
    same = next((count for count in range(most - start) if data[-1 - count] != made[-1 - count]), most - start)
    return [Replacement(start, len(data) - same, made[start : len(made) - same], (cause,))]


def as_number(value: Any, code: str) -> bytes:
    """A number as `struct` writes it with this code.

    Raises:
        ValueRefused: it is none, or one that does not fit.
    """
    is_whole = isinstance(value, int) and not isinstance(value, bool)
    if is_whole or (isinstance(value, float) and code[-1] in "fd"):
        with suppress(struct.error, OverflowError):
            return struct.pack(code, value)
    kind = "fraction" if code[-1] in "fd" else "whole number"
    size = struct.calcsize(code)
    raise refuse(value, f"a {kind} of {size} byte{'s' if size > 1 else ''}")


def refuse(value: object, what: str, at: int = 0) -> ValueRefused:
    """The error for a value that a format does not have."""
    where = f" at {place(at)}" if at else ""
    return ValueRefused(f"{str(value)[:40]} is not {what}{where}", KEPT)


def _all_of(cursor: Cursor, read: Callable[[Cursor], Node]) -> Node:
    """The value that a reader takes, if it is all there is.

    Raises:
        Malformed: it is none, or something is behind it.
    """
    root = read(cursor)
    if cursor.at != len(cursor.data):
        raise Malformed("something is behind its end")
    return root


def utf8(raw: bytes) -> str:
    """Raises Malformed where the bytes are not a text."""
    try:
        return raw.decode("utf-8", "surrogatepass")
    except UnicodeDecodeError as error:
        raise Malformed("a text is not in UTF-8") from error


def varint(value: int) -> bytes:
    """A whole number of at most 64 bits, seven bits a byte, the lowest first."""
    return ULEB128.encode(value)
