"""A text as a document over the tree of its values.

A format says where values are and how texts are quoted there; what paths, records, edits and leaves mean is the same
for all of them and stands here.
"""

from __future__ import annotations

import re
from abc import abstractmethod
from array import array
from bisect import bisect_left
from collections.abc import Callable, Iterator, Sequence
from functools import cached_property

from faithful_ledger.core.address import Step, format_name, format_path
from faithful_ledger.core.edits import Replacement
from faithful_ledger.core.errors import AddressError, BindingError, ValueRefused
from faithful_ledger.core.formats.document import Items, Leaf, Span
from faithful_ledger.core.formats.text_document import TextDocument
from faithful_ledger.core.formats.tree import (
    ARRAY,
    KINDS,
    NUMBER,
    OBJECT,
    PART,
    SCALAR,
    STRING,
    WORD,
    GrowingTree,
    Tree,
    kind_of,
)
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage import Quoting, SpelledNumber, SpelledSwitch, SpelledText, SpelledValue, Storage

__all__ = ["SMALL", "TreeDocument", "text_encoding_of"]

SMALL = 1 << 18  # a text up to here, or a part of a larger one, is read as a whole
NAMED = 12  # members that a message names
DELIMITERS = (b";", b"|", b",", b"\t", b" ")
NONE = array("I")
KEYS = ("name", "id", "key")  # what distinguishes siblings of one name, likeliest first
LEAST_WITHIN = 2  # elements of different names in one that is not an entry
MOST_OF_ENTRY = 2  # attributes of an entry: its name and its value


class TreeDocument(TextDocument):
    """A text of one format. `parse` finds the values, `quotings` are how texts are quoted in it."""

    name = ""
    row_kinds: tuple[str, ...] = ("array", "object", "string")

    def __init__(self, source: Source) -> None:
        super().__init__(source)
        self.root_name = ""  # a path may begin with it
        self._members: dict[int, dict[str, array[int]]] = {}

    # what a format says

    @abstractmethod
    def parse(self) -> Tree:
        """Raises BindingError, with the offset, where the text stops being of this format."""

    def quoting(self, style: int) -> Quoting:
        """How texts of a style are quoted; in most formats all are quoted alike."""
        return self._quoting

    @cached_property
    def _quoting(self) -> Quoting:
        return self.quoting_of("", self.encoding)

    @classmethod
    def storage(cls, name: str, path: str, encoding: str) -> Storage | None:
        """The storage of a template's field with `as: name`, found by a path; None where it is not a kind of value."""
        kinds: dict[str, Callable[[Quoting], Storage]]
        kinds = {"number": SpelledNumber, "text": SpelledText, "switch": SpelledSwitch}
        return kinds[name](cls.quoting_of(path, encoding)) if name in kinds else None

    @classmethod
    @abstractmethod
    def quoting_of(cls, path: str, encoding: str) -> Quoting:
        """How a text at a path is quoted, as far as that is known without the text."""

    # the same for all

    def fail(self, at: int, what: str) -> BindingError:
        """What is wrong at an offset, with its line."""
        line = self.data.count(b"\n", 0, at) + 1
        return BindingError(self.what, at, f"line {line}: {what}")

    @cached_property
    def tree(self) -> Tree:
        grown = self.grown() if len(self.data) > SMALL else None
        return grown or self.parse()

    def grown(self) -> GrowingTree | None:
        """The tree of a large text, which grows where it is asked; None where this text has to be read as a whole."""
        return None

    def _read_whole(self) -> None:
        """Exchange a tree that grows for the whole one; numbers of values are others then."""
        if isinstance(self.tree, GrowingTree):
            self.tree = self.parse()
            self._members.clear()

    @cached_property
    def encoding(self) -> str:
        """UTF-8 where the text is that; else the usual one of one byte a letter."""
        return text_encoding_of(self.data)

    @cached_property
    def _in_order(self) -> tuple[Sequence[int], Sequence[int] | None]:
        """The starts of all values in their order, and the numbers of these values where that is another one."""
        import numpy as np

        starts = np.frombuffer(self.tree.starts, np.uintc)
        if bool((starts[1:] >= starts[:-1]).all()):
            return self.tree.starts, None
        order = np.argsort(starts, kind="stable")
        return starts[order].tolist(), order.tolist()

    def number_of(self, span: Span) -> int | None:
        """The number of the value at a span, the outermost where several have the same; None where there is none."""
        if isinstance(self.tree, GrowingTree):
            return self.tree.number_at(span.start, span.end)
        if not span.start and span.end == self.tree.ends[0] and not self.tree.starts[0]:
            return 0
        starts, order = self._in_order
        at = bisect_left(starts, span.start)
        while at < len(starts) and starts[at] == span.start:
            number = at if order is None else order[at]
            if self.tree.ends[number] == span.end:
                return number
            at += 1
        return None

    @property
    def whole(self) -> Span:
        return self._span(0)

    def kind(self, number: int) -> int:
        """Of a value; worked out from what it says where nobody has asked before."""
        kind = self.tree.kinds[number]
        if kind == SCALAR:
            kind = self.tree.kinds[number] = kind_of(self.scalar_text(number))
        return kind

    def scalar_text(self, number: int) -> str:
        """What a scalar says, as far as its kind depends on it."""
        return self.data[self.tree.starts[number] : self.tree.ends[number]].decode(self.encoding, "replace")

    def _span(self, number: int) -> Span:
        tree = self.tree
        return Span(tree.starts[number], tree.ends[number], KINDS[self.kind(number)])

    def span(self, start: int, end: int) -> Span:
        number = self.number_of(Span(start, end))
        return self._span(number) if number is not None else Span(start, end, "string")

    def check(self) -> None:
        self._read_whole()

    def has_values(self) -> bool:
        self._read_whole()
        kinds = self.tree.kinds
        return any(kind in kinds for kind in (SCALAR, STRING, NUMBER, WORD))

    # along paths

    def at(self, within: Span, steps: tuple[Step, ...]) -> Span:
        number = self.number_of(within) or 0
        at = 0
        while at < len(steps):
            step = steps[at]
            if self.tree.kinds[number] > ARRAY and step.name is None and at == len(steps) - 1:
                item = self._delimited(number, step)
                if item is not None:
                    return item
            found, used = self._step(number, steps, at)
            if found is None:
                path = format_path(steps[: at + 1])
                raise AddressError(f"{path} is not in this text", self._hint(number, step))
            number, at = found, at + used
        return self._span(self._value_of(number))

    def _value_of(self, number: int) -> int:
        """The value that stands for one with parts, where it is meant itself."""
        return number

    def _step(self, number: int, steps: tuple[Step, ...], at: int) -> tuple[int | None, int]:
        """Where a step leads, and how many steps that took: a name may be followed by a number among its namesakes, and
        one with a dot or brackets in it may be written without quotation marks.
        """
        step = steps[at]
        if step.name is None:
            return self._among(self._items_of(number), step), 1
        namesakes = self.namesakes(number, step.name)
        if not namesakes:
            if not number and step.name == self.root_name:
                return 0, 1
            for stop in range(len(steps), at + 1, -1):
                whole = self.namesakes(number, _as_written(steps[at:stop]))
                if len(whole) == 1:
                    return whole[0], stop - at
            return None, 1
        following = steps[at + 1] if at + 1 < len(steps) else None
        if following is not None and following.name is None and not following.every:
            chosen = self._among(namesakes, following)
            alone = len(namesakes) == 1
            if chosen is not None and (not alone or self._may_be_numbered(namesakes[0])):
                return chosen, 2
        if len(namesakes) > 1:
            name = format_name(step.name)
            raise AddressError(
                f"the name {name} occurs {len(namesakes)} times here",
                f"say which: {name}[0] to {name}[{len(namesakes) - 1}]",
            )
        return namesakes[0], 1

    def _may_be_numbered(self, number: int) -> bool:
        """Whether a number behind a name that occurs once means the one of that name, and not an item in it."""
        names = self.tree.names
        return self.tree.kinds[number] == OBJECT and all(names[child] is not None for child in self._items_of(number))

    def _items_of(self, number: int) -> list[int]:
        styles = self.tree.styles
        return [child for child in self.tree.children(number) if styles[child] != PART]

    def _among(self, numbers: Sequence[int], step: Step) -> int | None:
        if step.index is not None:
            return numbers[step.index] if step.index < len(numbers) else None
        key, wanted = step.key or "", step.value or ""
        for number in numbers:
            for name in (key, f"@{key}"):
                members = self.members(number).get(name)
                if members and self.plain(self._span(self._value_of(members[0]))) == wanted:
                    return number
        return None

    def namesakes(self, number: int, name: str) -> array[int]:
        """The values of a name directly within one."""
        return self.members(number).get(name, NONE)

    def members(self, number: int) -> dict[str, array[int]]:
        """The values directly within one by their names."""
        found = self._members.get(number)
        if found is None:
            found = self._members[number] = {}
            names = self.tree.names
            for child in self.tree.children(number):
                name = names[child]
                if name is not None:
                    found.setdefault(name, array("I")).append(child)
        return found

    def plain(self, span: Span) -> str:
        """A value as a key is compared."""
        number = self.number_of(span) or 0
        raw = self.data[span.start : span.end]
        try:
            return self.quoting(self.tree.styles[number]).decode(raw)
        except ValueRefused:
            return raw.decode(self.encoding, "replace")

    def _hint(self, number: int, step: Step) -> str:
        kind = self.kind(number)
        if kind <= ARRAY and step.name is not None and (names := list(self.members(number))):
            return f"here are {', '.join(map(format_name, names[:NAMED]))}{' …' if len(names) > NAMED else ''}"
        if kind <= ARRAY:
            count = len(self._items_of(number))
            return f"here {'is 1 item' if count == 1 else f'are {count} items'}"
        return f"here is a {KINDS[kind]} and nothing inside"

    # lists within a value

    def _delimited(self, number: int, step: Step) -> Span | None:
        if step.index is None:
            return None
        items = self.items(self._span(number))
        if step.index >= len(items.starts):
            return None
        start, end = items.starts[step.index], items.ends[step.index]
        return Span(start, end, KINDS[kind_of(self.data[start:end].decode(self.encoding, "replace"))])

    # what is within

    def items(self, span: Span) -> Items:
        number = self.number_of(span) or 0
        tree = self.tree
        if tree.kinds[number] <= ARRAY:
            items = self._items_of(number)
            return Items([tree.starts[n] for n in items], [tree.ends[n] for n in items])
        start, end = self._within_quotes(span)
        bounds = [start, *self._delimiters(start, end), end + 1]
        starts, ends = [], []
        for left, right in zip(bounds, (b - 1 for b in bounds[1:]), strict=False):
            text = self.data[left:right]
            starts.append(left + len(text) - len(text.lstrip(b" \t")))
            ends.append(max(right - (len(text) - len(text.rstrip(b" \t"))), starts[-1]))
        return Items(starts, ends)

    def _delimiters(self, start: int, end: int) -> list[int]:
        """Where the items of a delimited list begin, but for the first."""
        text = self.data[start:end]
        mark = next((mark for mark in DELIMITERS if mark in text.strip()), b"")
        return [start + match.end() for match in re.finditer(re.escape(mark), text)] if mark else []

    def _within_quotes(self, span: Span) -> tuple[int, int]:
        raw = self.data[span.start : span.end]
        quoted = len(raw) > 1 and raw[:1] == raw[-1:] and raw[:1] in (b'"', b"'")
        return (span.start + 1, span.end - 1) if quoted else (span.start, span.end)

    # every value

    def leaves(self) -> Iterator[Leaf]:
        """Every value that has no parts, with its path."""
        self._read_whole()
        tree = self.tree
        open_: list[tuple[int, str, dict[int, str]]] = []
        for number in range(len(tree)):
            while open_ and number >= open_[-1][0]:
                open_.pop()
            if number and self.is_part(number):
                continue
            path = open_[-1][1] + open_[-1][2][number] if open_ else ""
            if open_ and not open_[-1][1]:
                path = path.removeprefix(".")
            if tree.kinds[number] <= ARRAY:
                open_.append((tree.behind[number], path, self._steps_of(number)))
            else:
                yield self._leaf(number, path)

    def leaves_at(self, offsets: Sequence[int]) -> Iterator[Leaf]:
        self._read_whole()
        steps: dict[int, dict[int, str]] = {}  # of values with very many within them
        return (leaf for offset in offsets if (leaf := self._leaf_at(offset, steps)) is not None)

    def _leaf_at(self, offset: int, steps: dict[int, dict[int, str]]) -> Leaf | None:
        """The value without parts that is at an offset; None where there is none. `steps` are those known so far."""
        tree, path, number = self.tree, "", 0
        while tree.kinds[number] <= ARRAY:
            around = (child for child in tree.children(number) if tree.heads[child] <= offset < tree.tails[child])
            child = next((child for child in around if not self.is_part(child)), None)
            if child is None:
                return None
            if number not in steps:
                steps[number] = self._steps_of(number)
            step = steps[number][child]
            path, number = path + step if path else step.removeprefix("."), child
        return self._leaf(number, path) if tree.starts[number] <= offset < tree.ends[number] else None

    def _leaf(self, number: int, path: str) -> Leaf:
        """A value without parts; if it is all of the text, it goes by the name of that."""
        tree = self.tree
        path = path if number or not self.root_name else format_name(self.root_name)
        kind, quoting = KINDS[self.kind(number)], self.quoting(tree.styles[number])
        return Leaf(path, tree.starts[number], tree.ends[number], kind, quoting, self.data)

    def is_part(self, number: int) -> bool:
        """Whether a value only serves another one."""
        return self.tree.styles[number] == PART

    def _steps_of(self, number: int) -> dict[int, str]:
        """The step that leads to each value within one."""
        tree, found = self.tree, {}
        if tree.kinds[number] == ARRAY:
            return {child: f"[{index}]" for index, child in enumerate(self._items_of(number))} | self._named_too(number)
        for name, namesakes in self.members(number).items():
            step = f".{format_name(name)}"
            if len(namesakes) == 1:
                is_entry = self.kind(namesakes[0]) == OBJECT and not self._is_named_whole(namesakes[0])
                keyed = self._keys_of(namesakes) if is_entry else None
                found[namesakes[0]] = step + (keyed[0] if keyed else "")
            else:
                keyed = self._keys_of(namesakes)
                found |= {
                    child: step + (keyed[index] if keyed else f"[{index}]") for index, child in enumerate(namesakes)
                }
        for index, child in enumerate(self._items_of(number)):
            found.setdefault(child, f"[{index}]")
        return found

    def _is_named_whole(self, number: int) -> bool:
        """Whether the only element of its name has a name beside several others in it: that of a player, who may be
        called otherwise, where an entry says with it what it is.
        """
        names = self.members(number)
        keys = [key for key in KEYS if f"@{key}" in names]
        within = sum(name[0] not in "@#" for name in names if name)
        beside = sum(name.startswith("@") for name in names if name)
        return keys == [KEYS[0]] and (within >= LEAST_WITHIN or beside > MOST_OF_ENTRY)

    def _named_too(self, number: int) -> dict[int, str]:
        """In an array, what has a name all the same, as an attribute has."""
        names, items = self.tree.names, set(self._items_of(number))
        rest = (child for child in self.tree.children(number) if child not in items)
        return {child: f".{format_name(names[child] or '')}" for child in rest}

    def _keys_of(self, namesakes: Sequence[int]) -> list[str] | None:
        """Steps that distinguish siblings of one name by what they say, where they all differ."""
        for key in KEYS:
            said = []
            for number in namesakes:
                members = self.members(number).get(f"@{key}")
                if not members:
                    break
                said.append(self.plain(self._span(members[0])))
            if len(said) == len(namesakes) == len(set(said)) and all(0 < len(text) <= 60 for text in said):
                return [format_path((Step(key=f"@{key}", value=text),)) for text in said]
        return None

    # changes

    def value_storage(self, span: Span) -> Storage:
        """The storage of a value that no template describes."""
        number = self.number_of(span)
        style = self.tree.styles[number] if number is not None else 0
        quoting = self.quoting(style) if number is not None else self.item_quoting()
        return SpelledValue(quoting, span.kind)

    def item_quoting(self) -> Quoting:
        """How an item of a delimited list is quoted."""
        from faithful_ledger.core.formats.quoting import Bare

        return Bare(self.encoding, forbidden=",;|\t\r\n\"'", where="an item of this list")

    def spell(self, value: object, like: bytes) -> bytes:
        raise ValueRefused(f"{self.what} has no sibling to copy", "add the first one in the game, or enter it as text")

    def add(self, holder: Span, position: int, items: Sequence[bytes]) -> Replacement:
        tree, numbers = self.tree, self._items_of(self.number_of(holder) or 0)
        if not numbers:
            raise ValueRefused(f"{self.what} has no sibling to copy here", "add the first one in the game")
        near = numbers[min(position, len(numbers) - 1)]
        before = self.data[tree.heads[near] : tree.starts[near]]
        after = self.data[tree.ends[near] : tree.tails[near]]
        whole = [before + item + after for item in items]
        if len(numbers) > 1:
            between = self.data[tree.tails[numbers[0]] : tree.heads[numbers[1]]]
        else:
            between = self.default_between(numbers[0])
        if position >= len(numbers):
            end = tree.tails[numbers[-1]]
            return Replacement(end, end, b"".join(between + item for item in whole))
        start = tree.heads[numbers[position]]
        return Replacement(start, start, b"".join(item + between for item in whole))

    def default_between(self, number: int) -> bytes:
        """What is between two siblings where there is only one: the blanks in front of it."""
        data, head = self.data, self.tree.heads[number]
        start = head
        while start and data[start - 1 : start] in (b" ", b"\t", b"\r", b"\n"):
            start -= 1
        return data[start:head]

    def remove(self, holder: Span, first: int, stop: int) -> Replacement:
        tree, numbers = self.tree, self._items_of(self.number_of(holder) or 0)
        if stop < len(numbers):
            return Replacement(tree.heads[numbers[first]], tree.heads[numbers[stop]], b"")
        begin = tree.tails[numbers[first - 1]] if first else self._behind_blank_of(numbers[0])
        return Replacement(begin, tree.tails[numbers[stop - 1]], b"")

    def _behind_blank_of(self, number: int) -> int:
        return self.tree.heads[number] - len(self.default_between(number))


def _as_written(steps: tuple[Step, ...]) -> str:
    """Steps as one name that has dots and brackets in it."""
    return "".join(f".{step.name}" if step.name is not None else f"[{step.index}]" for step in steps).removeprefix(".")


def text_encoding_of(data: bytes) -> str:
    """UTF-8 where a text is that; else the usual one of one byte a letter."""
    try:
        _ = data.isascii() or data.decode("utf-8")
    except UnicodeDecodeError:
        return "cp1252"
    return "utf-8"
