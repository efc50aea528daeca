"""Look at every field of a save and gather what is not as it should be. Nothing is changed; mending is another call.

Columns of fixed-size records are looked at as NumPy arrays, so a million records cost about as much as a thousand. All
that is in a record is a column: its fields, those of its groups, and each value of rows in it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any, Literal, NamedTuple, TypeAlias

from faithful_ledger.core.binding.limits import bounds_at, limited
from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.binding.spans import nodes_between
from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.storage import (
    Choice,
    FixedText,
    Float,
    Integer,
    ListedText,
    RawBytes,
    Scaled,
    Storage,
    Switches,
)
from faithful_ledger.core.template.model import Bounds, ElementSpec, FieldSpec, GroupSpec, RowsSpec, elements_of

__all__ = ["Finding", "audit", "double_keys", "field_findings", "keyed_rows"]

MANY = 256
ANYTHING = (Integer, Float)  # any bytes are such a value
MOST_REPORTED = 20

Bytes: TypeAlias = Any  # a NumPy array of bytes, a row for each record


class Finding(NamedTuple):
    """Something about one field. `suggested` is a value that would mend it."""

    path: str
    level: Literal["error", "warning", "note"]
    message: str
    suggested: int | float | str | None = None


def audit(root: GroupNode) -> Iterator[Finding]:
    """All findings of one file, in the order of its bytes."""
    stack: list[Node | Iterator[Node]] = [root]
    while stack:
        node = stack.pop()
        if isinstance(node, FieldNode):
            yield from field_findings(node)
        elif isinstance(node, GroupNode):
            stack += reversed(node.children)
        elif isinstance(node, RowsNode):
            yield from double_keys(node)
            if node.stride and node.count > MANY and (columns := _columns_of(node.spec.item)) is not None:
                yield from _columns(node, columns)
            else:
                stack.append(node.items())
        elif not isinstance(node, Node) and (item := next(node, None)) is not None:
            stack += (node, item)


def field_findings(node: FieldNode) -> Iterator[Finding]:
    """What is wrong with one field's value."""
    spec = node.spec
    if spec.unknown or spec.constant is not None or (spec.bounds is None and type(spec.storage) in ANYTHING):
        return
    try:
        value = node.value
    except ValueRefused as error:
        yield Finding(node.path, "error", str(error))
        return
    for finding in _value_findings(node.spec, value, bounds_at(node)):
        yield finding._replace(path=node.path)


def _value_findings(spec: FieldSpec, value: object, bounds: Bounds | None) -> Iterator[Finding]:
    """Those of a value, whose field has a path that is not worked out for each."""
    if bounds is not None and (broken := bounds.broken_by(value)):
        nearest = bounds.least if bounds.least is not None and _below(value, bounds.least) else bounds.most
        yield Finding("", "warning", broken, nearest)
    if isinstance(spec.storage, ListedText) and isinstance(value, str) and (broken := spec.storage.broken_by(value)):
        yield Finding("", "error", broken, spec.storage.mended(value))
    if isinstance(spec.storage, Choice) and isinstance(value, int):
        yield Finding("", "warning", f"{value} has no name in its list")


def _below(value: object, least: int | float) -> bool:
    return isinstance(value, int | float) and value < least


def double_keys(rows_node: RowsNode) -> Iterator[Finding]:
    """Records that cannot be distinguished, because the field that should do so says the same in two of them."""
    key = rows_node.spec.key
    spec = rows_node.spec.item.named(key) if key is not None and isinstance(rows_node.spec.item, GroupSpec) else None
    if not isinstance(spec, FieldSpec) or rows_node.spec.key_may_repeat:
        return
    if rows_node.stride and rows_node.count > MANY and not _has_doubles(rows_node, spec):
        return
    first: dict[bytes, int] = {}
    reported = 0
    for index, item in enumerate(rows_node.items()):
        node = item.names.get(spec.name) if isinstance(item, GroupNode) else None
        if not isinstance(node, FieldNode) or rows_node.is_empty(item):
            continue
        before = first.setdefault(node.raw, index)
        if before != index:
            reported += 1
            if reported > MOST_REPORTED:
                yield Finding(f"{rows_node.path}[*].{spec.name}", "warning", "and more records like these")
                return
            shown = _shown(spec.storage, node.raw)
            text = f"{shown} is the {spec.title.lower()} of [{before}] as well, so it does not distinguish the two"
            yield Finding(node.path, "warning", text)


def keyed_rows(root: Node, spans: Sequence[tuple[int, int]] | None = None) -> Iterator[RowsNode]:
    """All rows whose records are distinguished by a field, or those with a byte in one of some spans."""
    if spans is not None:
        near = {id(node): node for start, end in spans for node in nodes_between(root, start, end)}
        yield from (node for node in near.values() if isinstance(node, RowsNode) and node.spec.key is not None)
        return
    holds_keys: dict[int, bool] = {}  # by the identity of specs
    stack: list[Node] = [root]
    while stack:
        node = stack.pop()
        if isinstance(node, GroupNode):
            stack += node.children
        elif isinstance(node, RowsNode):
            if node.spec.key is not None:
                yield node
            item = node.spec.item
            if id(item) not in holds_keys:
                holds_keys[id(item)] = _has_keys(item)
            if holds_keys[id(item)]:
                stack += node.items()


def _has_keys(spec: ElementSpec) -> bool:
    return any(isinstance(element, RowsSpec) and element.key is not None for element in elements_of(spec))


def _has_doubles(rows_node: RowsNode, spec: FieldSpec) -> bool:
    """Whether two of many records of one size have the same bytes in a field."""
    import numpy

    column = next((c for c in _columns_of(rows_node.spec.item) or () if c.spec is spec), None)
    if column is None or not column.size:
        return True
    rows = _rows(rows_node)[:, column.offset : column.offset + column.size]
    keys = numpy.ascontiguousarray(rows).view(f"V{column.size}").reshape(-1)
    return bool(numpy.unique(keys).size != rows_node.count)


def _shown(storage: Storage, raw: bytes) -> str:
    try:
        return storage.to_text(storage.decode(raw))
    except ValueRefused:
        return raw.hex(" ").upper()


# many records at once


class _Column(NamedTuple):
    """A field of every record: its path in a record, and where its bytes are in one."""

    path: str
    spec: FieldSpec
    offset: int
    size: int


def _columns(rows_node: RowsNode, columns: list[_Column]) -> Iterator[Finding]:
    """The same findings as `field_findings`, for many records. Of one kind at most 20 are reported one by one."""
    records = _rows(rows_node)
    reported: Counter[int] = Counter()  # by the identity of a field's spec
    for column in columns:
        if column.spec.unknown or column.spec.constant is not None or reported[id(column.spec)] > MOST_REPORTED:
            continue
        rows = records[:, column.offset : column.offset + column.size]
        decides = _deciding(column, columns)
        found = _column_findings(rows_node.path, column, column.spec, rows)
        if decides is not None:
            codes = records[:, decides.offset : decides.offset + decides.size]
            found = _limited_findings(rows_node.path, column, rows, decides.spec, codes)
        for _, finding in found:
            reported[id(column.spec)] += 1
            if reported[id(column.spec)] > MOST_REPORTED:
                name = column.spec.name if column.spec.name != "item" else column.path
                yield Finding(f"{rows_node.path}[*].{name}", finding.level, "and more records like these")
                break
            yield finding


def _rows(rows_node: RowsNode) -> Bytes:
    """The bytes of records of one size, a row for each."""
    import numpy

    assert rows_node.stride is not None
    data = rows_node.source.read(rows_node.start, rows_node.end)
    return numpy.frombuffer(data, numpy.uint8, rows_node.count * rows_node.stride).reshape(
        rows_node.count, rows_node.stride
    )


def _columns_of(spec: ElementSpec) -> list[_Column] | None:
    """Every field of a record of fixed size, however deep; None where one is not in the same place of every record."""
    every = list(_fields_of(spec, "", 0))
    found = [column for column in every if column is not None]
    return found if len(found) == len(every) else None


def _fields_of(spec: ElementSpec, path: str, at: int | None) -> Iterator[_Column | None]:
    size = spec.fixed_size
    if at is None or size is None:
        yield None
    elif isinstance(spec, FieldSpec):
        yield _Column(path, spec, at, size)
    elif isinstance(spec, GroupSpec):
        for element, begin in spec.placed(at):
            inside = isinstance(element, GroupSpec) and element.flat
            yield from _fields_of(element, path if inside else f"{path}.{element.name}", begin)
    elif isinstance(spec, RowsSpec):
        stride = spec.item.fixed_size or 0
        for index in range(size // stride if stride else 0):
            yield from _fields_of(spec.item, f"{path}[{index}]", at + index * stride)


def _column_findings(
    rows_node: str, column: _Column, spec: FieldSpec, rows: Bytes, records: Bytes | None = None
) -> Iterator[tuple[int, Finding]]:
    """Those of a field, each with the number of its record: `records` has these, where the rows are not all of them."""
    for index in _suspects(spec, rows).tolist():
        record = index if records is None else int(records[index])
        path = f"{rows_node}[{record}]{column.path}"
        try:
            value = spec.storage.decode(rows[index].tobytes())
        except ValueRefused as error:
            yield record, Finding(path, "error", str(error))
            continue
        for finding in _value_findings(spec, value, spec.bounds):
            yield record, finding._replace(path=path)


def _deciding(column: _Column, columns: list[_Column]) -> _Column | None:
    """The choice beside a field that decides its bounds."""
    by = column.spec.bounds.by if column.spec.bounds is not None else ""
    beside = f"{column.path.rpartition('.')[0]}.{by}"
    return next((each for each in columns if by and each.path == beside), None)


def _limited_findings(
    path: str, column: _Column, rows: Bytes, decides: FieldSpec, codes: Bytes
) -> Iterator[tuple[int, Finding]]:
    """Those of a field of which another one decides the bounds: for each code that occurs, as with fixed ones."""
    import numpy

    found = decides.storage.rows(codes)
    bounds, catalogue = column.spec.bounds, decides.catalogue
    assert bounds is not None and catalogue is not None
    numbers = found[0] if found is not None else numpy.array([decides.storage.whole(raw.tobytes()) for raw in codes])
    findings: list[tuple[int, Finding]] = []
    for code in numpy.unique(numbers).tolist():
        where = numpy.flatnonzero(numbers == code)
        spec = replace(column.spec, bounds=limited(bounds, catalogue, code))
        findings += _column_findings(path, column, spec, rows[where], where)
    yield from sorted(findings, key=lambda each: each[0])


def _suspects(spec: FieldSpec, rows: Bytes) -> Bytes:
    """The records in which a field may have a finding: all of these that have one, and few others."""
    import numpy

    storage = spec.storage
    if isinstance(storage, FixedText) and spec.bounds is None:
        if storage.reads_any_bytes:
            return numpy.arange(0)
        return numpy.flatnonzero((rows > 127).any(axis=1)) if storage.extends_ascii else numpy.arange(len(rows))
    count = len(rows)
    if isinstance(storage, Integer | Float | Switches | RawBytes) and spec.bounds is None:
        return numpy.arange(0)
    found = storage.rows(rows)
    if found is None:
        known = isinstance(storage, Scaled | Switches | RawBytes) and spec.bounds is None
        return numpy.arange(0) if known else numpy.arange(count)
    numbers, readable = found
    if isinstance(storage, Choice):
        nameless = [number for number in numpy.unique(numbers).tolist() if number not in storage.names]
        return numpy.flatnonzero(numpy.isin(numbers, nameless))
    suspect = ~readable if readable is not None else numpy.zeros(count, bool)
    if spec.bounds is not None:
        suspect = suspect | _outside(numbers, spec.bounds)
    return numpy.flatnonzero(suspect)


def _outside(numbers: Bytes, bounds: Bounds) -> Bytes:
    import numpy

    outside = numbers != numbers
    if bounds.least is not None:
        outside |= numpy.asarray(numbers < bounds.least)
    if bounds.most is not None:
        outside |= numpy.asarray(numbers > bounds.most)
    return outside
