"""Where the values of a text are: a tree of spans, kept as rows of numbers, and what makes it."""

from __future__ import annotations

from array import array
from bisect import bisect_right
from collections.abc import Callable, Iterator, Sequence
from itertools import chain, islice
from typing import TYPE_CHECKING, Any, TypeAlias

from faithful_ledger.core.errors import BindingError
from faithful_ledger.core.storage.spelled import is_number, spelled_switch

if TYPE_CHECKING:
    import numpy as np

    Numbers: TypeAlias = np.ndarray[Any, Any]

__all__ = [
    "ARRAY",
    "KINDS",
    "NUMBER",
    "OBJECT",
    "PART",
    "SCALAR",
    "STRING",
    "WORD",
    "Builder",
    "GrowingTree",
    "Tree",
    "kind_of",
]

OBJECT, ARRAY, STRING, NUMBER, WORD, SCALAR = range(6)
PART = 9  # the style of a value that only serves another one, as the text of a name does
KINDS = ("object", "array", "string", "number", "word")  # what is only SCALAR is one of the last three, by what it says
DEEPEST = 200


class Tree:
    """The values of a text in their order; value 0 is the whole.

    `starts` and `ends` are the span of a value, `heads` and `tails` that of all that belongs to it: its name, its
    tags. `behind` is the number of the first value that is not within it. `styles` says which quoting it has.
    """

    def __init__(self) -> None:
        self.kinds, self.styles = bytearray(), bytearray()
        self.starts, self.ends, self.heads, self.tails, self.behind = (array("I") for _ in range(5))
        self.names: list[str | None] = []

    def __len__(self) -> int:
        return len(self.kinds)

    def add(self, kind: int, name: str | None, head: int, start: int, end: int, tail: int, style: int) -> int:
        """Take in the next value, which has nothing within it as yet; returns its number."""
        self.kinds.append(kind)
        self.styles.append(style)
        self.names.append(name)
        self.starts.append(start)
        self.ends.append(end)
        self.heads.append(head)
        self.tails.append(tail)
        number = len(self.behind)
        self.behind.append(number + 1)
        return number

    def children(self, number: int) -> Iterator[int]:
        """The values directly within one."""
        at, end, behind = number + 1, self.behind[number], self.behind
        while at < end:
            yield at
            at = behind[at]


UNREAD = 0  # `behind` of a value of which nobody has asked yet what is within it


class GrowingTree(Tree):
    """The tree of a large text, of which only what is asked for is made.

    `read` finds what is directly within a value that was added as unread, and adds it; it returns the numbers of these.
    Values are numbered as they are found, so no longer in the order of the text.
    """

    def __init__(self, read: Callable[[int], Sequence[int]]) -> None:
        super().__init__()
        self._read = read
        self._within: dict[int, Sequence[int]] = {}
        self._known: dict[tuple[int, int], int] = {}

    def unread(self, kind: int, name: str | None, head: int, start: int, end: int, tail: int) -> int:
        number = self.add(kind, name, head, start, end, tail, 0)
        self.behind[number] = UNREAD
        return number

    def add_all(
        self,
        kinds: Numbers,
        styles: Numbers,
        names: list[str | None],
        heads: Numbers,
        spans: tuple[Numbers, Numbers],
        tails: Numbers,
    ) -> Sequence[int]:
        """Take in the next values, in their order; objects as unread. Returns their numbers."""
        import numpy as np

        first = len(self)
        behind = np.arange(first + 1, first + 1 + len(kinds), dtype=np.uintc)
        behind[kinds == OBJECT] = UNREAD
        rows = (self.heads, heads), (self.starts, spans[0]), (self.ends, spans[1]), (self.tails, tails)
        for row, values in (*rows, (self.behind, behind)):
            row.frombytes(values.astype(np.uintc).tobytes())
        self.kinds += kinds.astype(np.uint8).tobytes()
        self.styles += styles.astype(np.uint8).tobytes()
        self.names += names
        return range(first, len(self))

    def take_in(self, part: Tree, *, whole: bool = False) -> Sequence[int]:
        """Take in what is within value 0 of a tree, or that value as well; returns the numbers of the outer ones."""
        first = 0 if whole else 1
        shift = len(self) - first
        for row, other in (
            (self.heads, part.heads),
            (self.starts, part.starts),
            (self.ends, part.ends),
            (self.tails, part.tails),
        ):
            row.extend(islice(other, first, None))
        self.behind.extend(behind + shift for behind in islice(part.behind, first, None))
        self.kinds += part.kinds[first:]
        self.styles += part.styles[first:]
        self.names += part.names[first:]
        return [shift] if whole else [child + shift for child in part.children(0)]

    def put(self, number: int, part: Tree) -> None:
        """Say what an unread value is after all, where a tree of it alone has nothing within value 0."""
        if len(part) == 1:
            self.kinds[number], self.styles[number] = part.kinds[0], part.styles[0]
            self.starts[number], self.ends[number] = part.starts[0], part.ends[0]
            self.behind[number] = number + 1

    def remember(self, number: int) -> int:
        """Keep where a value is that was found without what is beside it."""
        self._known[self.starts[number], self.ends[number]] = number
        return number

    def children(self, number: int) -> Iterator[int]:
        if self.behind[number] == UNREAD:
            self.behind[number] = number + 1
            self._within[number] = self._read(number)
        within = self._within.get(number)
        return iter(within) if within is not None else super().children(number)

    def number_at(self, start: int, end: int) -> int | None:
        """The number of the value at a span, the outermost where several have the same; None where there is none."""
        number: int | None = 0
        if (self.starts[0], self.ends[0]) != (start, end):
            number = self._known.get((start, end), 0)
        while number is not None and (self.starts[number], self.ends[number]) != (start, end):
            number = self._around(number, start, end)
        return number

    def _around(self, number: int, start: int, end: int) -> int | None:
        """The value directly within one that a span is within."""
        likely: list[int] = []
        if isinstance(within := self._within.get(number), range) and within:
            likely = [max(bisect_right(self.heads, start, within[0], within[-1] + 1) - 1, within[0])]
        for child in chain(likely, self.children(number)):
            if self.heads[child] <= start and end <= self.tails[child]:
                return child
        return None


class Builder:
    """Makes a tree in the order of the text.

    Raises:
        BindingError: it is nested deeper than 200 levels.
    """

    def __init__(self, what: str) -> None:
        self.tree = Tree()
        self.what = what
        self.open_: list[int] = []

    def begin(self, kind: int, name: str | None, head: int, start: int, style: int = 0) -> int:
        """A value that holds others; `end` says where it ends."""
        number = self.leaf(kind, name, head, start, start, start, style)
        self.open_.append(number)
        if len(self.open_) > DEEPEST:
            raise BindingError(self.what, head, f"it is nested deeper than {DEEPEST} levels")
        return number

    def end(self, end: int, tail: int | None = None) -> int:
        tree, number = self.tree, self.open_.pop()
        tree.ends[number], tree.tails[number] = end, end if tail is None else tail
        tree.behind[number] = len(tree)
        return number

    def leaf(self, kind: int, name: str | None, head: int, start: int, end: int, tail: int, style: int = 0) -> int:
        return self.tree.add(kind, name, head, start, end, tail, style)


def kind_of(text: str) -> int:
    """What a value without quotes is."""
    return NUMBER if is_number(text) else WORD if spelled_switch(text) is not None else STRING
