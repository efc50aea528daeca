"""Where the values of a text are: a tree of spans, kept as rows of numbers, and what makes it."""

from __future__ import annotations

from array import array
from collections.abc import Iterator

from faithful_ledger.core.errors import BindingError
from faithful_ledger.core.storage.spelled import is_number, spelled_switch

__all__ = ["ARRAY", "KINDS", "NUMBER", "OBJECT", "PART", "SCALAR", "STRING", "WORD", "Builder", "Tree", "kind_of"]

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
