"""Where the blocks of a card lead: a table with a number for each block, or a directory whose records are the blocks.

Both answer the same: which block follows, which are free, and which entries make chains of blocks, or set them free.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property

from faithful_ledger.core.binding import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.binding.spans import all_fields
from faithful_ledger.core.entries import Entry
from faithful_ledger.core.save import value_entry
from faithful_ledger.core.template.carries import CardSpec

__all__ = ["Chains", "RecordChains", "TableChains", "emptied", "saying"]


def saying(node: FieldNode, text: str) -> Entry:
    """The entry that makes a field say what a person would type.

    Raises:
        ValueRefused: it cannot say it.
    """
    return value_entry(node, node.spec.storage.from_text(text))


def emptied(rows: RowsNode, record: Node) -> Iterator[Entry]:
    """The entries that make a record one that the template calls empty."""
    says = dict(rows.spec.empty)
    for node in all_fields(record):
        if node.spec.name in says:
            yield saying(node, says[node.spec.name])


def _saying_number(node: object, number: int) -> Entry:
    assert isinstance(node, FieldNode)
    return value_entry(node, number)


class Chains(ABC):
    """The blocks of a card by their numbers."""

    def __init__(self, spec: CardSpec) -> None:
        self.spec = spec

    @property
    @abstractmethod
    def following(self) -> Sequence[int]:
        """The number of the block behind each one."""

    @abstractmethod
    def is_free(self, block: int) -> bool:
        """Whether a block is nobody's."""

    @abstractmethod
    def linked(self, blocks: Sequence[int]) -> Iterator[Entry]:
        """The entries that make blocks a chain."""

    @abstractmethod
    def freed(self, blocks: Sequence[int]) -> Iterator[Entry]:
        """The entries that set blocks free."""

    def free_among(self, used: set[int]) -> list[int]:
        """The blocks that are free, without those that are used all the same, as by a damaged chain."""
        return [number for number in range(len(self.following)) if self.is_free(number) and number not in used]

    def chain(self, first: int, count: int) -> tuple[list[int], str]:
        """The blocks of a chain as far as it can be followed, and what is wrong with it."""
        blocks: list[int] = []
        number, seen = first, set[int]()
        while number != self.spec.last:
            if not 0 <= number < len(self.following):
                return blocks, f"its chain leads to block {number}, and the card has {len(self.following)}"
            if number in seen:
                return blocks, f"its chain leads in a circle, back to block {number}"
            blocks.append(number)
            seen.add(number)
            if self.is_free(number):
                return blocks, f"its chain leads to block {number}, which is free"
            if len(blocks) > count:
                return blocks, f"its chain has more than the {count} blocks of its size"
            number = self.following[number]
        if len(blocks) != count:
            return blocks, f"its chain has {len(blocks)} blocks, and its size needs {count}"
        return blocks, ""


class TableChains(Chains):
    """A table has the number of the block behind each block."""

    def __init__(self, spec: CardSpec, table: RowsNode) -> None:
        super().__init__(spec)
        self.table = table

    @cached_property
    def following(self) -> Sequence[int]:
        import numpy

        stride, storage = self.table.stride, getattr(self.table.spec.item, "storage", None)
        if stride and storage is not None:
            offsets = numpy.arange(self.table.count, dtype=numpy.int64) * stride
            found = storage.column(numpy.frombuffer(self.table.raw, numpy.uint8), offsets)
            if found is not None and found[1].all():
                return list(map(int, found[0]))
        return [item.number for item in self.table.items() if isinstance(item, FieldNode)]

    def is_free(self, block: int) -> bool:
        return self.following[block] == self.spec.free

    def free_among(self, used: set[int]) -> list[int]:
        """Without a block whose number the table could not tell from `free` or `last`."""
        return super().free_among(used | {self.spec.free, self.spec.last})

    def linked(self, blocks: Sequence[int]) -> Iterator[Entry]:
        for block, after in zip(blocks, [*blocks[1:], self.spec.last], strict=True):
            yield _saying_number(self.table.item(block), after)

    def freed(self, blocks: Sequence[int]) -> Iterator[Entry]:
        for block in blocks:
            yield _saying_number(self.table.item(block), self.spec.free)


class RecordChains(Chains):
    """Each record of the directory is a block: it says which one is behind it, and whether it is the first of a chain,
    one in the middle, or the last.
    """

    def __init__(self, spec: CardSpec, directory: RowsNode, field: str) -> None:
        super().__init__(spec)
        self.directory, self.field = directory, field

    @cached_property
    def following(self) -> Sequence[int]:
        return [self._node(block, self.field).number for block in range(self.directory.count)]

    def _node(self, block: int, name: str) -> FieldNode:
        record = self.directory.item(block)
        node = record.names[name] if isinstance(record, GroupNode) else None
        assert isinstance(node, FieldNode)
        return node

    @cached_property
    def _free(self) -> Mapping[int, bool]:
        return {number: self.directory.is_empty(item) for number, item in enumerate(self.directory.items())}

    def is_free(self, block: int) -> bool:
        return self._free[block]

    def is_first(self, block: int) -> bool:
        """Whether a chain begins with a block."""
        node = self._node(block, self.spec.state)
        said = {node.spec.storage.to_text(node.value), str(node.number)}
        return self.spec.states[0] in said

    def linked(self, blocks: Sequence[int]) -> Iterator[Entry]:
        first, middle, last = self.spec.states
        for place, (block, after) in enumerate(zip(blocks, [*blocks[1:], self.spec.last], strict=True)):
            state = first if place == 0 else last if place == len(blocks) - 1 else middle
            yield saying(self._node(block, self.spec.state), state)
            yield _saying_number(self._node(block, self.field), after)

    def freed(self, blocks: Sequence[int]) -> Iterator[Entry]:
        for block in blocks:
            yield from emptied(self.directory, self.directory.item(block))
