"""Binding a binary payload: the template is walked once, each element gets its span.

A count or a length that points outside is found before anything is made of it, so a damaged number costs nothing. What
was bound before the first mistake stays, for looking at; `BoundFile.problem` says what stopped it.
"""

from __future__ import annotations

from array import array
from dataclasses import dataclass, field
from functools import cached_property
from itertools import islice
from typing import TYPE_CHECKING

from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.binding.sizes import Sizer, sizer
from faithful_ledger.core.budget import Budget
from faithful_ledger.core.errors import AddressError, BindingError, LedgerError, TooMuch
from faithful_ledger.core.source import Source, first_bytes, offsets_of
from faithful_ledger.core.storage import CutOff
from faithful_ledger.core.template.expressions import Expression
from faithful_ledger.core.template.model import ElementSpec, FieldSpec, FileSpec, GroupSpec, RowsSpec

if TYPE_CHECKING:
    from faithful_ledger.core.wrapping import Unwrapped

__all__ = ["BoundFile", "bind_binary", "number_at"]

NODE, MEASURED = 4, 1  # steps of work: an element that is bound, a record of which only the end is looked for
LARGEST_MEASURED = 256 << 20
LONGEST_BEFORE = 1 << 10  # bytes of a value that is found by its end


@dataclass(slots=True)
class BoundFile:
    """A file's elements at their spans; with a `problem` the tree is only what came before it.

    `unwrapped` is the way back for a payload that lies inside another file. `missing` are elements left out, because
    the bytes they are found by do not stand exactly once.
    """

    spec: FileSpec
    source: Source
    root: GroupNode
    problem: LedgerError | None = None
    unwrapped: Unwrapped | None = None
    missing: list[BindingError] = field(default_factory=list)


def bind_binary(spec: FileSpec, source: Source, outer: GroupNode | None = None) -> BoundFile:
    """Bind one binary file. `outer` is the root of the save's first file, whose fields expressions may use."""
    binder = _Binder(spec, source, outer)
    try:
        binder.group(binder.root, source.size)
    except TooMuch as error:
        return BoundFile(spec, source, binder.root, BindingError(spec.name, 0, error.what, error.remedy))
    except LedgerError as error:
        return BoundFile(spec, source, binder.root, error)
    finally:
        binder.root.end = max(binder.root.end, source.size)
        binder.budget.lift()
    return BoundFile(spec, source, binder.root, missing=binder.missing)


def number_at(group: GroupNode, path: str, outer: GroupNode | None = None) -> int:
    """The number of the field an expression names, looked up outwards from a group.

    Raises:
        AddressError: it leads to no whole number.
    """
    first, *rest = path.split(".")
    node = group.scope(first) or (outer.scope(first) if outer is not None else None)
    for name in rest:
        node = node.names.get(name) if isinstance(node, GroupNode) else None
    if not isinstance(node, FieldNode):
        raise AddressError(f"{path} is not bound here", "the template refers to a field that this save does not have")
    return node.number


class _Binder:
    def __init__(self, spec: FileSpec, source: Source, outer: GroupNode | None) -> None:
        self.file, self.source, self.outer = spec.name, source, outer
        self.root = GroupNode(spec.root, None, spec.name, 0)
        self.missing: list[BindingError] = []
        self.budget = Budget(source.size)
        self.runs: dict[bytes, list[int]] = {}

    @cached_property
    def data(self) -> bytes:
        """All bytes, for what goes through them one by one."""
        return first_bytes(self.source, self.source.size)

    def group(self, node: GroupNode, limit: int) -> None:
        """Bind a group's content from `node.start`; sets `node.end`."""
        spec = node.spec
        if spec.size is not None:
            limit = node.start + self.whole(spec.size, node, node.start, limit)
        at = node.start
        for element in spec.layout:
            self.budget.spend(NODE)
            if isinstance(element.at, Expression):
                try:
                    self.addressed(element, element.at, node, at)
                except TooMuch:
                    raise
                except BindingError as error:
                    if element.behind is None and element.before is None and not self.is_missing(element):
                        raise
                    self.missing.append(error)
            elif element.when is None or self.evaluate(element.when, node, at, element):
                end = self.element(element, node, at, limit)
                at = at if spec.word is not None else end
                node.end = max(node.end, end)
            node.end = max(node.end, at)
        if spec.size is not None:
            node.end = limit
        elif node.parent is None:
            node.end = self.source.size

    def addressed(self, element: ElementSpec, at: Expression, node: GroupNode, here: int) -> None:
        """Bind an element that says where it is."""
        if element.when is not None and not self.evaluate(element.when, node, here, element):
            return
        start = self.evaluate(at, node, here, element) + self.anchor(element, node, here)
        if element.before is not None:
            start = self.beginning(element, node, start)
        elif element.behind is None and at.constant is not None and start < 0:
            start += self.source.size
        if not 0 <= start <= self.source.size:
            raise self.error(node, element, here, f"it points to {start}, outside the {self.source.size} bytes")
        self.element(element, node, start, self.source.size)

    def is_missing(self, element: ElementSpec) -> bool:
        """Whether an element is placed by one that is missing itself."""
        names = element.at.names if isinstance(element.at, Expression) else ()
        return any(error.path.rpartition(".")[2] == name.partition(".")[0] for error in self.missing for name in names)

    def element(self, spec: ElementSpec, parent: GroupNode, at: int, limit: int) -> int:
        """Bind one element at an offset; returns where it ends."""
        if isinstance(spec, GroupSpec):
            group = GroupNode(spec, parent, self.file, at)
            parent.add(group)
            self.group(group, limit)
            return group.end
        if isinstance(spec, RowsSpec):
            repeat = RowsNode(spec, parent, self.file, at, self.source, self.item)
            parent.add(repeat)
            self.repeat(repeat, limit)
            return repeat.end
        assert isinstance(spec, FieldSpec)
        node = self.field(spec, parent, at, limit)
        parent.add(node)
        return node.end

    def field(self, spec: FieldSpec, parent: GroupNode | RowsNode, at: int, limit: int) -> FieldNode:
        node = FieldNode(spec, parent, self.file, at, self.source)
        if spec.size is not None:
            assert isinstance(parent, GroupNode)
            node.end = at + self.whole(spec.size, parent, at, limit, spec)
        else:
            try:
                node.end = at + spec.storage.extent(self.source, at, limit)
            except CutOff as cut:
                left = max(limit - at, 0)
                if cut.needed == spec.storage.size:
                    what = f"{cut.needed} bytes are needed and {left} are left"
                else:
                    what = f"its length says {cut.needed} bytes and {left} are left"
                raise self.error(parent, spec, at, what) from cut
        if spec.constant is not None and node.raw != spec.constant:
            raise self.error(
                parent, spec, at, f"should be {spec.constant.hex(' ').upper()} and is {node.raw.hex(' ').upper()}"
            )
        return node

    def repeat(self, node: RowsNode, limit: int) -> None:
        spec = node.spec
        assert isinstance(node.parent, GroupNode)
        count: int | None = None
        if spec.count is not None:
            count = self.evaluate(spec.count, node.parent, node.start, spec)
        if spec.size is not None:
            limit = node.start + self.whole(spec.size, node.parent, node.start, limit, spec)
        least = spec.item.least_size
        room = limit - node.start
        if count is not None and (count < 0 or (count * least > room if least else count > self.budget.left)):
            each = f"{least} bytes" if spec.item.fixed_size is not None else f"at least {least} bytes"
            what = f"the count says {count} records of {each}, and {max(room, 0)} bytes are left"
            raise self.error(node.parent, spec, node.start, what)
        stride = spec.item.fixed_size
        if stride and spec.ended_by is None:
            if count is None and room % stride:
                what = f"its size ({room} bytes) is not a multiple of the record size ({stride})"
                raise self.error(node.parent, spec, node.start, what)
            node.count = count if count is not None else room // stride
            node.stride = stride
            node.end = node.start + node.count * stride
            return
        self.walk(node, count, limit)

    def walk(self, node: RowsNode, count: int | None, limit: int) -> None:
        """Find where each record of a repeat begins that cannot be worked out from a stride."""
        until = node.spec.ended_by
        node.offsets = array("Q")
        at = node.start
        node.end = at
        if self.source.size <= LARGEST_MEASURED and (measure := sizer(node.spec.item)) is not None:
            at = self.measured(node, measure, count, limit)
        while count is None or node.count < count:
            if until is not None and self.source.read(at, min(at + len(until), limit)) == until:
                at += len(until)
                break
            if at >= limit and until is None and count is None:
                break
            if at >= limit and until is not None:
                assert isinstance(node.parent, GroupNode)
                what = f"the marker {until.hex(' ').upper()} that ends it is missing"
                raise self.error(node.parent, node.spec, node.start, what)
            item = self.item(node, node.count, at, limit)
            if item.end == at and count is None:
                assert isinstance(node.parent, GroupNode)
                raise self.error(node.parent, node.spec, at, "a record takes no bytes, so they would never end")
            node.offsets.append(at)
            node.count += 1
            at = item.end
            node.end = at
        node.end = at

    def measured(self, node: RowsNode, measure: Sizer, count: int | None, limit: int) -> int:
        """Find as many records as can be measured without binding them; returns where the last of them ends.

        What stops it, a marker, a damaged record or the end, is for `walk` to look at.
        """
        assert node.offsets is not None
        data, until = self.data, node.spec.ended_by
        offsets, at, width = node.offsets, node.start, len(until or b"")
        append, spend = offsets.append, self.budget.spend
        while count is None or node.count < count:
            if at >= limit or (until is not None and data[at : at + width] == until):
                break
            end = measure(data, at, limit)
            if end < 0 or (end == at and count is None):
                break
            spend(MEASURED)
            append(at)
            node.count += 1
            at = node.end = end
        return at

    def item(self, repeat: RowsNode, index: int, at: int, limit: int | None = None) -> Node:
        """Bind one record. A record bound before is known to lie within the payload."""
        limit = self.source.size if limit is None else limit
        spec = repeat.spec.item
        if isinstance(spec, FieldSpec):
            self.budget.spend(NODE)
            field = self.field(spec, repeat, at, limit)
            field.index = index
            return field
        self.budget.spend(NODE)
        group = GroupNode(spec, repeat, self.file, at)
        group.index = index
        self.group(group, limit)
        return group

    def anchor(self, spec: ElementSpec, node: GroupNode, at: int) -> int:
        """Where the bytes begin behind or before which an element lies; 0 where it is not found by such bytes."""
        run, lies = (spec.behind, "behind") if spec.behind is not None else (spec.before, "before")
        if run is None:
            return 0
        found = self.runs.get(run)
        if found is None:
            found = self.runs[run] = list(islice(offsets_of(self.source, run), 2))
        if len(found) != 1:
            times = "nowhere" if not found else "more than once"
            raise self.error(node, spec, at, f"the bytes {run.hex(' ').upper()} it is {lies} are in the file {times}")
        return found[0]

    def beginning(self, spec: ElementSpec, node: GroupNode, end: int) -> int:
        """Where a value begins that ends here."""
        assert isinstance(spec, FieldSpec)
        before = bytes(self.source.read(max(end - LONGEST_BEFORE, 0), max(end, 0)))
        size = spec.storage.size_before(before)
        if size is None or not 0 < size <= len(before):
            raise self.error(node, spec, max(end, 0), "no such value ends here")
        return end - size

    # numbers

    def evaluate(self, expression: Expression, group: GroupNode, at: int, spec: ElementSpec) -> int:
        if expression.constant is not None:
            return expression.constant
        try:
            return expression.evaluate(lambda path: number_at(group, path, self.outer))
        except BindingError:
            raise
        except LedgerError as error:
            raise self.error(group, spec, at, str(error.what)) from error

    def whole(
        self, expression: Expression, group: GroupNode, at: int, limit: int, spec: ElementSpec | None = None
    ) -> int:
        """A size that must fit into what is left."""
        size = self.evaluate(expression, group, at, spec or group.spec)
        if not 0 <= size <= limit - at:
            what = f"its length says {size} bytes and {max(limit - at, 0)} are left"
            raise self.error(group if spec is not None else group.parent, spec or group.spec, at, what)
        return size

    def error(self, parent: Node | None, spec: ElementSpec, at: int, what: str) -> BindingError:
        if isinstance(parent, RowsNode):
            path = f"{parent.path}[{parent.count}]"
        else:
            holder = parent
            while isinstance(holder, GroupNode) and holder.spec.flat and holder.parent is not None:
                holder = holder.parent
            before = holder.path if holder is not None else ""
            path = f"{before}.{spec.name}" if before else spec.name
        return BindingError(path, at, what)
