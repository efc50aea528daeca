"""Binding: a template is laid over a document once, and each element gets its span.

The document finds addresses, the storages know where values end; the binder knows what elements are: fields, groups,
and rows of records. A count or a length that points outside is found before anything is made of it, so a damaged
number costs nothing. What was bound before the first mistake stays, for looking at; `BoundFile.problem` says what
stopped it.
"""

from __future__ import annotations

from array import array
from dataclasses import dataclass, field
from functools import cached_property
from threading import Lock
from typing import TYPE_CHECKING
from weakref import WeakKeyDictionary

from faithful_ledger.core.address import NEXT, Expression
from faithful_ledger.core.binding.lookup import Known, number_at, said_at
from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.binding.resume import moved_offsets
from faithful_ledger.core.binding.sizes import Sizer, sizer
from faithful_ledger.core.binding.spans import explained_bytes
from faithful_ledger.core.budget import Budget
from faithful_ledger.core.edits import Patched
from faithful_ledger.core.errors import AddressError, BindingError, LedgerError, TooMuch
from faithful_ledger.core.formats import DOCUMENTS, Document, Place, Span
from faithful_ledger.core.source import Source, first_bytes
from faithful_ledger.core.storage import CutOff
from faithful_ledger.core.template.model import ElementSpec, FieldSpec, FileSpec, GroupSpec, RowsSpec

if TYPE_CHECKING:
    from faithful_ledger.core.wrapping import Unwrapped

__all__ = ["BoundFile", "bind"]

DEEPEST = 40  # records in records
LEAST_KEPT, MOST_KEPT = 20_000, 1_000_000  # elements at hand of one file, and of all; each takes about 250 bytes
NODE, LOOKED_AT = 4, 1  # steps of work: an element that is bound, one of which only the condition is looked at
MEASURED = 1  # and a record of which only the end is looked for
TOGETHER = 1024  # records that are measured between two looks at the budget
LARGEST_MEASURED = 256 << 20
LARGEST_CHECKED = 1 << 20  # a text up to here is looked at wholly when it is opened; a larger one with its findings
NAMED = 8  # odd records of one list that are named
LONGEST_BEFORE = 1 << 10  # bytes of a value that is found by its end
KINDS = {
    "object": "an object",
    "array": "a list",
    "string": "a text",
    "number": "a number",
    "word": "true, false or null",
}


@dataclass(slots=True)
class BoundFile:
    """A file's elements at their spans; with a `problem` the tree is only what came before it.

    `unwrapped` is the way back for a payload that is inside another file. `missing` are elements that were skipped,
    because what they are found by is not there, or not only once.
    """

    spec: FileSpec
    document: Document
    root: GroupNode
    problem: LedgerError | None = None
    unwrapped: Unwrapped | None = None
    missing: list[BindingError] = field(default_factory=list)
    is_checked: bool = False
    steps: int = 0  # of work to bind it
    _explained: int | None = None

    @property
    def explained(self) -> int:
        """How many bytes have a field with a meaning; counted once."""
        if self._explained is None:
            self._explained = explained_bytes(self.root)
        return self._explained

    @property
    def source(self) -> Source:
        return self.document.source

    def check(self) -> None:
        """That the whole payload is of its format, also where nothing is bound; looked at once.

        Raises:
            BindingError: it is not.
        """
        if not self.is_checked:
            self.document.check()
            self.is_checked = True


def bind(
    spec: FileSpec,
    source: Source,
    outer: GroupNode | None = None,
    before: BoundFile | None = None,
    *,
    stays: bool = False,
) -> BoundFile:
    """Lay the template of one file over it. `outer` is the root of the save's first file, whose fields expressions may
    use. Where `source` is the payload of `before` with bytes replaced, what stayed is not measured again; with `stays`
    every record is where it was.
    """
    document = DOCUMENTS[spec.format](source)
    binder = _Binder(spec, document, outer, before, stays=stays)
    bound = BoundFile(spec, document, binder.root, missing=binder.missing)
    try:
        if source.size <= LARGEST_CHECKED:
            bound.check()
        if spec.root.layout or not document.knows_ends:
            whole = document.whole
            binder.root.start, binder.root.end = (whole.start, whole.end) if document.knows_ends else (0, 0)
            binder.group(binder.root, whole.end)
        if document.knows_ends and bound.missing and not binder.root.children:
            raise bound.missing[0]
    except TooMuch as error:
        bound.problem = BindingError(spec.name, 0, error.what, error.remedy)
    except LedgerError as error:
        bound.problem = error
    finally:
        binder.root.start, binder.root.end = 0, max(binder.root.end, source.size)
        bound.steps = binder.budget.spent
        binder.budget.lift()
        binder.is_done = True
        _hold(binder)
    return bound


_HOLDING: WeakKeyDictionary[_Binder, int] = WeakKeyDictionary()  # as long as their elements are in use
_LOCK = Lock()


def _hold(binder: _Binder) -> None:
    with _LOCK:
        _HOLDING[binder] = binder.kept


def _room() -> int:
    """How many elements of one file more may be kept at hand."""
    with _LOCK:
        return max(MOST_KEPT - sum(_HOLDING.values()), LEAST_KEPT)


class _Binder:
    def __init__(
        self, spec: FileSpec, document: Document, outer: GroupNode | None, before: BoundFile | None, *, stays: bool
    ) -> None:
        self.before, self.stays = before, stays
        self.file, self.document, self.outer = spec.name, document, outer
        self.source = document.source
        self.root = GroupNode(spec.root, None, spec.name, 0)
        self.missing: list[BindingError] = []
        self.budget = Budget(self.source.size)
        self.is_done = False
        self.depth = 0  # of records in records, while one is bound
        self.kept = 0  # elements that need not be bound again when they are looked at
        self.most_kept = _room()

    @cached_property
    def data(self) -> bytes:
        """All bytes, for what goes through them one by one."""
        return first_bytes(self.source, self.source.size)

    def group(self, node: GroupNode, limit: int) -> None:
        """Bind a group's content from `node.start`; sets `node.end`."""
        spec = node.spec
        if spec.size is not None:
            limit = node.start + self.whole(spec.size, node, node.start, limit)
        knows_ends = self.document.knows_ends
        at = node.start
        known, absent = Known(node, self.outer), 0
        firsts = known.firsts
        for element, size in zip(spec.layout, spec.plain_sizes, strict=True):
            if element.when is not None and not self.worked_out(element.when, known, at, element):
                absent += 1
                continue
            if firsts and (element.name in firsts or isinstance(element, GroupSpec)):
                known.forget()
            if size is not None and at + size <= limit and not knows_ends:
                field = FieldNode(element, node, self.file, at, self.source)  # type: ignore[arg-type]
                field.end = at = at + size
                node.end = max(node.end, at)
                node.add(field)
                continue
            if element.address is NEXT:
                end = self.element(element, node, at, limit)
                at = at if spec.word is not None else end
            else:
                end = self.addressed(element, node, at, limit)
                if element.address.base == "next":
                    at = end
            if not knows_ends:
                node.end = max(node.end, end)
        self.kept += len(spec.layout) - absent
        self.budget.spend(NODE * len(spec.layout) - (NODE - LOOKED_AT) * absent)
        if spec.size is not None:
            node.end = limit
        elif node.parent is None and not knows_ends:
            node.end = self.source.size

    def addressed(self, element: ElementSpec, node: GroupNode, here: int, limit: int) -> int:
        """Bind an element that says where it is; returns where it ends, or `here` if it is missing."""
        address = element.address

        def number(path: str) -> int:
            return number_at(node, path, self.outer)

        def said(path: str) -> int | str:
            return said_at(node, path, self.outer)

        # In a text an element is within the value around it; in a binary file only one that follows another is.
        if not self.document.knows_ends:
            span = Span(node.start, limit)
        else:
            span = self.document.span(node.start, node.end) if node.parent is not None else self.document.whole
        try:
            try:
                found = self.document.find(address, Place(span, here, number, said))
                if self.document.knows_ends and not isinstance(element, FieldSpec):
                    self.check_kind(element, found)
            except BindingError:
                raise
            except LedgerError as error:
                if self.document.knows_ends and isinstance(error, AddressError):
                    raise BindingError(self.path(node, element), node.start, error.what, error.remedy) from error
                raise self.error(node, element, here, error.what) from error
            start = self.beginning(element, node, found.start) if address.base == "before" else found.start
            end = self.element(element, node, start, found.end)
            return end if address.base == "next" else here
        except TooMuch:
            raise
        except BindingError as error:
            if not (address.is_found or self.document.knows_ends or self.is_missing(element)):
                raise
            if not self.is_done:  # what a record lacks is not missing from the file
                self.missing.append(error)
            return here

    def check_kind(self, element: ElementSpec, found: Span) -> None:
        document = self.document
        wanted = "array" if isinstance(element, RowsSpec) else "object"
        if found.kind not in (document.row_kinds if isinstance(element, RowsSpec) else (wanted,)):
            what = f"it is {KINDS[found.kind]}, not {KINDS[wanted]}"
            raise AddressError(what, "the template may mean another value")

    def is_missing(self, element: ElementSpec) -> bool:
        """Whether an element is placed by one that is missing itself."""
        names = element.address.names
        return any(error.path.rpartition(".")[2] == name.partition(".")[0] for error in self.missing for name in names)

    def element(self, spec: ElementSpec, parent: GroupNode, at: int, limit: int) -> int:
        """Bind one element at an offset; returns where it ends."""
        if isinstance(spec, GroupSpec):
            group = GroupNode(spec, parent, self.file, at)
            if self.document.knows_ends:
                group.end = limit
            parent.add(group)
            self.group(group, limit)
            return group.end
        if isinstance(spec, RowsSpec):
            rows = RowsNode(spec, parent, self.file, at, self.document, self.item)
            parent.add(rows)
            self.rows(rows, limit)
            return rows.end
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

    def rows(self, node: RowsNode, limit: int) -> None:
        """Find out how many records there are, and where each begins."""
        spec = node.spec
        assert isinstance(node.parent, GroupNode)
        if self.stays and self.before is not None:
            old = self.before.root.counterpart(node, by_number=True)
            if isinstance(old, RowsNode):
                node.take_over(old)
                return
        items = self.document.items(Span(node.start, limit, "array"))
        if items is not None:
            node.offsets, node.ends = items
            node.count, node.end = len(items.starts), limit
            self.note_odd(node)
            return
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
        if stride and spec.places is not None:
            if count is not None and count > spec.places:
                what = f"the count says {count} records, and there are {spec.places} places"
                raise self.error(node.parent, spec, node.start, what)
            if spec.places * stride > room:
                what = f"{spec.places} places of {stride} bytes are needed, and {max(room, 0)} bytes are left"
                raise self.error(node.parent, spec, node.start, what)
            node.count, node.stride = count or 0, stride
            node.end = node.start + spec.places * stride
            return
        if stride and spec.ended_by is None:
            if count is None and room % stride:
                what = f"its size ({room} bytes) is not a multiple of the record size ({stride})"
                raise self.error(node.parent, spec, node.start, what)
            node.count = count if count is not None else room // stride
            node.stride = stride
            node.end = node.start + node.count * stride
            return
        self.walk(node, count, limit)

    def note_odd(self, node: RowsNode) -> None:
        """Records of a text that are not objects, as far as they are named; they are bound without members."""
        if self.is_done or not isinstance(node.spec.item, GroupSpec) or node.offsets is None or node.ends is None:
            return
        self.budget.spend(node.count * MEASURED)
        named = 0
        for index in range(node.count):
            span = self.document.span(int(node.offsets[index]), int(node.ends[index]))
            if span.kind != "object":
                what = f"it is {KINDS[span.kind]}, not {KINDS['object']}"
                self.missing.append(BindingError(f"{node.path}[{index}]", span.start, what))
                named += 1
                if named == NAMED:
                    return

    def walk(self, node: RowsNode, count: int | None, limit: int) -> None:
        """Find where each record begins that cannot be worked out from a stride."""
        until = node.spec.ended_by
        offsets, kept, before = array("Q"), list[Node](), self.kept
        node.offsets = offsets
        at = node.start
        node.end = at
        if self.source.size <= LARGEST_MEASURED and (measure := sizer(node.spec.item)) is not None:
            if self.resumed(node, measure, count, limit):
                return
            at = self.measured(node, offsets, measure, count, limit)
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
            offsets.append(at)
            if len(kept) == node.count and before < self.most_kept:
                kept.append(item)
                before = self.kept
            else:  # there are too many, so it goes with all that is in it
                self.kept = before
            node.count += 1
            at = item.end
            node.end = at
        node.end = at
        node.keep(kept)

    def resumed(self, node: RowsNode, measure: Sizer, count: int | None, limit: int) -> bool:
        """Take over where the records of the same rows were before bytes were replaced; False where that is not enough
        to know where they are now.
        """
        old = self.before.root.counterpart(node) if self.before is not None else None
        if not isinstance(old, RowsNode) or not isinstance(self.source, Patched) or node.spec.ended_by is not None:
            return False
        found = moved_offsets(old, node.start, self.source, measure, limit)
        if found is None or (len(found[0]) != count if count is not None else found[1] != limit):
            return False
        node.offsets, node.end = found
        node.count = len(found[0])
        return True

    def measured(self, node: RowsNode, offsets: array[int], measure: Sizer, count: int | None, limit: int) -> int:
        """Find as many records as can be measured without binding them; returns where the last of them ends.

        What stops it, a marker, a damaged record or the end, is for `walk` to look at.
        """
        data, until = self.data, node.spec.ended_by
        at, width, append = node.start, len(until or b""), offsets.append
        left = count if count is not None else self.source.size + 1
        while left and at < limit:
            self.budget.spend(MEASURED * min(left, TOGETHER))
            for _ in range(min(left, TOGETHER)):
                if at >= limit or (until is not None and data[at : at + width] == until):
                    left = 0
                    break
                end = measure(data, at, limit)
                if end < 0 or (end == at and count is None):
                    left = 0
                    break
                append(at)
                at = end
                left -= 1
        node.count, node.end = len(offsets), at
        return at

    def item(self, rows: RowsNode, index: int, at: int, limit: int | None = None) -> Node:
        """Bind one record. A record bound before is known to be within the payload."""
        limit = self.source.size if limit is None else limit
        spec = rows.spec.item
        self.budget.spend(NODE)
        if isinstance(spec, FieldSpec):
            field = self.field(spec, rows, at, limit)
            field.index = index
            return field
        group = GroupNode(spec, rows, self.file, at)
        group.index = index
        if self.document.knows_ends:
            group.end = limit
            if self.document.span(at, limit).kind != "object":
                return group  # it has no members; what the rows are said so when they were bound
        if self.is_done and not self.depth:
            self.kept = 0
        self.depth += 1
        try:
            if self.depth > DEEPEST:
                raise self.error(rows.parent, rows.spec, at, f"its records are nested deeper than {DEEPEST} levels")
            self.group(group, limit)
        finally:
            self.depth -= 1
        return group

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
        return self.worked_out(expression, Known(group, self.outer), at, spec)

    def worked_out(self, expression: Expression, known: Known, at: int, spec: ElementSpec) -> int:
        """The result of an expression of an element, by what is known of the group that it is in."""
        try:
            return expression.evaluate(known.number, known.said)
        except BindingError:
            raise
        except LedgerError as error:
            raise self.error(known.group, spec, at, str(error.what)) from error

    def whole(
        self, expression: Expression, group: GroupNode, at: int, limit: int, spec: ElementSpec | None = None
    ) -> int:
        """A size that must fit into what is left."""
        size = self.evaluate(expression, group, at, spec or group.spec)
        if not 0 <= size <= limit - at:
            what = f"its length says {size} bytes and {max(limit - at, 0)} are left"
            raise self.error(group if spec is not None else group.parent, spec or group.spec, at, what)
        return size

    @staticmethod
    def path(parent: Node | None, spec: ElementSpec) -> str:
        holder = parent
        while isinstance(holder, GroupNode) and holder.spec.flat and holder.parent is not None:
            holder = holder.parent
        before = holder.path if holder is not None else ""
        return f"{before}.{spec.name}" if before else spec.name

    def error(self, parent: Node | None, spec: ElementSpec, at: int, what: str) -> BindingError:
        path = f"{parent.path}[{parent.count}]" if isinstance(parent, RowsNode) else self.path(parent, spec)
        return BindingError(path, at, what)
