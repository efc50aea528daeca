"""A bound save: every element of the template at its span. Values are decoded when they are looked at.

Records are not made in advance. Where all have one size, rows know only their start, stride and count,
and a whole column can be had as one NumPy array; where sizes vary, only the records' offsets are kept.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any

from faithful_ledger.core.address import Step
from faithful_ledger.core.errors import AddressError, LedgerError
from faithful_ledger.core.formats import Document
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage import FixedText, Value
from faithful_ledger.core.suggest import did_you_mean
from faithful_ledger.core.template.model import ElementSpec, FieldSpec, GroupSpec, RowsSpec

if TYPE_CHECKING:
    import numpy as np

__all__ = ["FieldNode", "GroupNode", "Node", "RowsNode", "find"]


class Node:
    """A span of one file: bytes [start, end) of its payload. `file` is the name of the file in the template."""

    __slots__ = ("end", "file", "index", "parent", "spec", "start")

    spec: ElementSpec

    def __init__(self, spec: ElementSpec, parent: GroupNode | RowsNode | None, file: str, start: int) -> None:
        self.spec, self.parent, self.file, self.start = spec, parent, file, start
        self.end = start
        self.index: int | None = None

    @property
    def size(self) -> int:
        return self.end - self.start

    @property
    def path(self) -> str:
        """The way from the root, as people write it; flat groups leave no trace in it."""
        if self.parent is None:
            return self.spec.name
        if self.index is not None:
            return f"{self.parent.path}[{self.index}]"
        holder: GroupNode | RowsNode | None = self.parent
        while isinstance(holder, GroupNode) and holder.parent is not None and holder.spec.flat:
            holder = holder.parent
        before = holder.path if holder is not None else ""
        dot = "." if before and not self.spec.name.startswith("[") else ""  # a value of a text may go by a path
        return f"{before}{dot}{self.spec.name}"

    @property
    def title(self) -> str:
        return self.spec.title

    @property
    def record(self) -> Node | None:
        """The innermost record that this is, or is in; None outside of rows."""
        node: Node | None = self
        while node is not None and node.index is None:
            node = node.parent
        return node

    @property
    def row(self) -> int | None:
        """The number of that record."""
        record = self.record
        return record.index if record is not None else None

    @property
    def of_records(self) -> str:
        """How many records have the same, in words that follow its path; nothing outside of rows."""
        rows = self.record.parent if self.record is not None else None
        return f", and so in each of {rows.count} records" if isinstance(rows, RowsNode) else ""

    def scope(self, name: str) -> Node | None:
        """The nearest element of this name, looking outwards from here."""
        holder: Node | None = self
        while holder is not None:
            if isinstance(holder, GroupNode):
                if name in holder.names:
                    return holder.names[name]
                if holder.spec.name == name:
                    return holder
            holder = holder.parent
        return None

    def is_same(self, other: Node) -> bool:
        """Whether two nodes are one element; records are bound anew each time they are looked at."""
        return self is other or (
            self.spec is other.spec
            and self.start == other.start
            and self.index == other.index
            and self.file == other.file
        )

    def is_within(self, holder: Node) -> bool:
        """Whether this is the element, or one of its parts."""
        return any(node.is_same(holder) for node in self._from_root())

    def follows(self, other: Node) -> bool:
        """Whether this stands behind another element in the order of the template; a part does not follow its whole."""
        mine, theirs = self._from_root(), other._from_root()
        for number, (left, right) in enumerate(zip(mine, theirs, strict=False)):
            if not left.is_same(right):
                return number > 0 and _rank(mine[number - 1], left) > _rank(theirs[number - 1], right)
        return False

    def _from_root(self) -> list[Node]:
        chain: list[Node] = [self]
        while chain[-1].parent is not None:
            chain.append(chain[-1].parent)
        return chain[::-1]


def _rank(holder: Node, part: Node) -> int:
    if part.index is not None or not isinstance(holder, GroupNode):
        return part.index or 0
    return next(number for number, child in enumerate(holder.children) if child is part)


class FieldNode(Node):
    __slots__ = ("source",)

    spec: FieldSpec

    def __init__(
        self, spec: FieldSpec, parent: GroupNode | RowsNode | None, file: str, start: int, source: Source
    ) -> None:
        # As in Node, without another call: there are as many of these as a save has values.
        self.spec, self.parent, self.file, self.start, self.source = spec, parent, file, start, source
        self.end = start
        self.index = None

    @property
    def raw(self) -> bytes:
        return bytes(self.source.read(self.start, self.end))

    @property
    def value(self) -> Value:
        """Raises ValueRefused when the bytes are not such a value."""
        return self.spec.storage.decode(self.raw)

    @property
    def number(self) -> int:
        """The whole number behind the value, also of a choice or a row of switches.

        Raises:
            AddressError: this field is not a whole number.
        """
        number = self.spec.storage.whole(self.raw)
        if number is not None:
            return number
        raise AddressError(f"{self.path} is not a whole number", "use another field in the expression")


class GroupNode(Node):
    __slots__ = ("children", "names")

    spec: GroupSpec

    def __init__(self, spec: GroupSpec, parent: GroupNode | RowsNode | None, file: str, start: int) -> None:
        super().__init__(spec, parent, file, start)
        self.children: list[Node] = []
        self.names: dict[str, Node] = {}

    def add(self, child: Node) -> None:
        """Take in a child; a flat group's names are those of the group around it as well."""
        self.children.append(child)
        if not self.spec.flat:
            self.names.setdefault(child.spec.name, child)
            return
        holder: GroupNode | RowsNode | None = self
        while isinstance(holder, GroupNode):
            holder.names.setdefault(child.spec.name, child)
            if not holder.spec.flat:
                return
            holder = holder.parent

    @property
    def key_field(self) -> FieldNode | None:
        """The field that tells this record from the others, where the rows name one."""
        rows_node = self.parent
        key = self.names.get(rows_node.spec.key or "") if isinstance(rows_node, RowsNode) else None
        return key if isinstance(key, FieldNode) else None

    def counterpart(self, other: Node, *, by_number: bool = False) -> Node | None:
        """The element of this tree that has the place of one of another tree of the same template; in a record only
        where these have the same number in both and are at hand (`by_number`).
        """
        found: Node | None = self
        for node in other._from_root()[1:]:
            if node.index is None:
                found = found.names.get(node.spec.name) if isinstance(found, GroupNode) else None
            else:
                found = found.at_hand(node.index) if by_number and isinstance(found, RowsNode) else None
        return found if found is not None and found.spec is other.spec else None


class RowsNode(Node):
    """Records in a row. Either `stride` is their size in bytes, or `offsets` says where each begins; in a text `ends`
    says where it ends.
    """

    __slots__ = ("_kept", "_make", "count", "document", "ends", "offsets", "stride")

    spec: RowsSpec

    def __init__(
        self,
        spec: RowsSpec,
        parent: GroupNode | RowsNode | None,
        file: str,
        start: int,
        document: Document,
        make: Callable[[RowsNode, int, int, int | None], Node],
    ) -> None:
        super().__init__(spec, parent, file, start)
        self.document = document
        self.count = 0
        self.stride: int | None = None
        self.offsets: Sequence[int] | None = None
        self.ends: Sequence[int] | None = None
        self._make = make
        self._kept: list[Node] = []

    def keep(self, items: list[Node]) -> None:
        """Have the first records at hand, which had to be bound to find where they end."""
        self._kept = items

    def at_hand(self, index: int) -> Node | None:
        """A record that need not be bound."""
        return self._kept[index] if index < len(self._kept) else None

    def take_over(self, other: RowsNode) -> None:
        """Have the records where other rows have them."""
        self.count, self.end = other.count, other.end
        self.stride, self.offsets, self.ends = other.stride, other.offsets, other.ends

    @property
    def source(self) -> Source:
        return self.document.source

    @property
    def raw(self) -> bytes:
        return bytes(self.source.read(self.start, self.end))

    @property
    def places_left(self) -> int | None:
        """How many records there is room for; None where there is no limit."""
        return None if self.spec.places is None else self.spec.places - self.count

    @property
    def free_place(self) -> bytes:
        """What a place without a record is filled with."""
        return self.spec.free * ((self.stride or 0) // len(self.spec.free))

    def __len__(self) -> int:
        return self.count

    def item(self, index: int) -> Node:
        """One record, bound now, or kept.

        Raises:
            AddressError: there are not so many.
        """
        if not 0 <= index < self.count:
            raise AddressError(
                f"{self.path}[{index}] does not exist",
                f"there are {self.count}, numbered from 0" if self.count else "there are none",
            )
        if (kept := self.at_hand(index)) is not None:
            return kept
        start = int(self.offsets[index]) if self.offsets is not None else self.start + index * (self.stride or 0)
        return self._make(self, index, start, int(self.ends[index]) if self.ends is not None else None)

    def item_at(self, index: int, start: int) -> Node:
        """A record as it would be if one began at an offset, be it behind the last one.

        Raises:
            BindingError: none does.
        """
        return self._make(self, index, start, None)

    def is_empty(self, item: Node) -> bool:
        """Whether one of these records holds nothing, by what the template says of such."""
        return bool(self.spec.empty) and all(_says(item, name, text) for name, text in self.spec.empty)

    def items(self) -> Iterator[Node]:
        return (self.item(index) for index in range(self.count))

    def index_at(self, offset: int) -> int | None:
        """The number of the record that holds a byte."""
        if not self.start <= offset < self.end:
            return None
        if self.offsets is None:
            number = (offset - self.start) // self.stride if self.stride else self.count
            return number if number < self.count else None  # behind the last one are free places
        from bisect import bisect_right

        index = bisect_right(self.offsets, offset) - 1
        return index if index >= 0 and offset < self.item(index).end else None

    def records(self) -> np.ndarray[Any, Any]:
        """All records as one structured array over the payload's own bytes, nothing copied or looked at; of the fields
        those that are in the same place of every record.

        Raises:
            AddressError: the records differ in size, or are not groups.
        """
        import numpy

        if self.stride is None or not isinstance(self.spec.item, GroupSpec):
            raise AddressError(f"{self.path} has records of different sizes", "take them one by one")
        parts = [part for part in _columns(self.spec.item, 0) if part[2] is not None]
        layout = numpy.dtype(
            {
                "names": [name for name, _, _ in parts],
                "formats": [_dtype(field) for _, field, _ in parts],
                "offsets": [offset or 0 for _, _, offset in parts],
                "itemsize": self.stride,
            }
        )
        return numpy.frombuffer(self.source.read(self.start, self.end), layout, self.count)

    def column(self, name: str) -> np.ndarray[Any, Any]:
        """The numbers of one field in all records, as an array of `count` values.

        Raises:
            AddressError: as for `records`, or there is no such field.
        """
        item = self.spec.item.named(name) if isinstance(self.spec.item, GroupSpec) else None
        if self.stride is not None and isinstance(item, FieldSpec) and item.storage.dtype is not None:
            records = self.records()
            if name in (records.dtype.names or ()):
                return records[name]  # a view, without a copy
        found = self.column_at(name)
        return self.records()[name] if found is None else found[0]

    def column_at(self, name: str) -> tuple[np.ndarray[Any, Any], np.ndarray[Any, Any]] | None:
        """The numbers of one field in all records, and a mask of those that can be read; None where they have to be
        read one by one.

        Raises:
            AddressError: there is no such field, or it is not in the same place of every record.
        """
        import numpy

        item = self.spec.item
        found = (
            next((part for part in _columns(item, 0) if part[0] == name), None) if isinstance(item, GroupSpec) else None
        )
        if found is None:
            raise AddressError(f"the records of {self.path} have no field {name}", "")
        _, field, inside = found
        if inside is None:
            raise AddressError(f"{self.path}: {name} is not in the same place of every record", "take them one by one")
        if self.offsets is not None:
            at = numpy.asarray(self.offsets, numpy.int64) - self.start + inside
        else:
            at = numpy.arange(self.count, dtype=numpy.int64) * (self.stride or 0) + inside
        return field.storage.column(numpy.frombuffer(self.source.read(self.start, self.end), numpy.uint8), at)


def _says(item: Node, name: str, text: str) -> bool:
    """Whether a field of a record says something, as a number or in words."""
    node = item.names.get(name) if isinstance(item, GroupNode) else None
    if not isinstance(node, FieldNode):
        return False
    try:
        number = node.spec.storage.whole(node.raw)
        return text in (str(number), node.spec.storage.to_text(node.value))
    except LedgerError:
        return False


def _columns(group: GroupSpec, at: int | None) -> Iterator[tuple[str, FieldSpec, int | None]]:
    """The fields of a record, each with its offset within the record where that is always the same."""
    for element, inside in group.placed(at):
        if isinstance(element, FieldSpec):
            yield element.name, element, inside
        elif isinstance(element, GroupSpec) and element.flat:
            yield from _columns(element, inside)


def _dtype(spec: FieldSpec) -> str | tuple[str, tuple[int, ...]]:
    if spec.storage.dtype is not None:
        return spec.storage.dtype
    size = spec.fixed_size or 0
    return f"V{size}" if isinstance(spec.storage, FixedText) else ("u1", (size,))


def find(root: Node, steps: tuple[Step, ...], path: str) -> list[Node]:
    """The nodes a path leads to: one, or several where it has a `[*]`.

    Raises:
        AddressError: a step leads nowhere; the sentence says what is there.
    """
    nodes = [root]
    for step in steps:
        nodes = [found for node in nodes for found in _follow(node, step, path)]
    return nodes


def _follow(node: Node, step: Step, path: str) -> list[Node]:
    if step.name is not None and isinstance(node, GroupNode):
        child = node.names.get(step.name)
        if child is not None:
            return [child]
        known = list(node.names)
        hint = did_you_mean(step.name, known) or f"here are {', '.join(known[:12]) or 'no elements'}"
        raise AddressError(f"“{path}”: there is no {step.name}", hint)
    if step.name is None and isinstance(node, RowsNode):
        if step.every:
            return list(node.items())
        if step.index is not None:
            return [node.item(step.index)]
        return [_keyed(node, step, path)]
    what = "its records are numbered: write [0]" if isinstance(node, RowsNode) else "it has no parts"
    raise AddressError(f"“{path}” cannot go on after {node.path}", what)


def _with_key(node: RowsNode, name: str) -> Iterator[tuple[int, FieldNode]]:
    """The numbers of records, with the field of a name in each; where they have none, with what rows of that name
    beside them say at the same place.
    """
    is_own = isinstance(node.spec.item, GroupSpec) and node.spec.item.named(name) is not None
    beside = node.parent.names.get(name) if isinstance(node.parent, GroupNode) and not is_own else None
    rows = beside if isinstance(beside, RowsNode) else node
    for number, item in enumerate(rows.items()):
        if rows is node:
            field = item.names.get(name) if isinstance(item, GroupNode) else None
        else:
            field = next(iter(item.names.values()), None) if isinstance(item, GroupNode) else item
        if isinstance(field, FieldNode) and number < node.count:
            yield number, field


def _keyed(node: RowsNode, step: Step, path: str) -> Node:
    fitting: list[Node] = []
    seen: list[str] = []
    for number, field in _with_key(node, step.key or ""):
        text = field.spec.storage.to_text(field.value)
        if text == step.value:
            fitting.append(node.item(number))
        if len(seen) < 12:
            seen.append(text)
    if len(fitting) == 1:
        return fitting[0]
    if fitting:
        numbers = ", ".join(str(item.index) for item in fitting[:8])
        raise AddressError(
            f"“{path}”: {len(fitting)} records have {step.key}={step.value}", f"choose one by number: {numbers}"
        )
    hint = did_you_mean(step.value or "", seen) or (
        f"there are {', '.join(seen)}" if seen else f"no record has a {step.key}"
    )
    raise AddressError(f"“{path}”: no record has {step.key}={step.value}", hint)
