"""The bytes of records from their values: for records that are added, or lists that are given anew.

What is not given is taken from the old record of the same number. In a new record it is a neutral value: 0, an empty
text, the first name of a choice, no switch. A new record of a text is made like the one before it, so that it is
written in the same style and has the same members; those that no template describes keep what they say there. Lengths
and counts within a record are worked out here, everything else that depends on other parts when it is posted.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping
from typing import Any

from faithful_ledger.core.binding.binder import bind
from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.edits import Patched, Replacement
from faithful_ledger.core.errors import AddressError, ValueRefused
from faithful_ledger.core.formats import Span
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.storage import Storage, Value, encoded
from faithful_ledger.core.template.model import ElementSpec, FieldSpec, FileSpec, GroupSpec, RowsSpec

__all__ = ["compose_records", "new_record", "value_of_json"]


def compose_records(rows: RowsNode, values: list[object]) -> bytes:
    """The bytes of all rows with these records, an end marker included.

    Raises:
        ValueRefused: a value that does not fit, or a record that cannot be made.
        AddressError: a value for a field the record does not have.
    """
    if rows.document.knows_ends:
        return _rows_in_text(rows, values)
    parts = []
    for number, value in enumerate(values):
        old = rows.item(number) if number < rows.count else None
        parts.append(_compose(rows.spec.item, value, old, f"{rows.path}[{number}]"))
    return b"".join(parts) + (rows.spec.ended_by or b"") + _free_places(rows, len(values))


def _free_places(rows: RowsNode, count: int) -> bytes:
    """What is behind so many records where rows have places: those that were free keep their bytes."""
    if rows.spec.places is None:
        return b""
    taken = max(count, rows.count)
    made = _free_ones(rows.spec, count, rows.path)[: (taken - count) * (rows.stride or 0)]
    return made + bytes(rows.source.read(rows.start + taken * (rows.stride or 0), rows.end))


def new_record(rows: RowsNode) -> bytes:
    """The bytes of a record that says nothing yet; of a text, in the style of the last one.

    Raises:
        ValueRefused: one cannot be made.
    """
    path = f"{rows.path}[{rows.count}]"
    item = rows.spec.item
    absent: object = {} if isinstance(item, GroupSpec) else None
    if not rows.document.knows_ends:
        return _compose(item, absent, None, path)
    return _new_item(rows, absent, _last_item(rows), path)


def value_of_json(storage: Storage, value: object, old: Value) -> Value:
    """A value of a JSON document as a storage takes it.

    Raises:
        ValueRefused: it is none.
    """
    if isinstance(value, list):
        return tuple(map(str, value))
    if isinstance(value, str | int | float) and not isinstance(value, bool):
        return storage.from_text(str(value), old)
    return value  # type: ignore[return-value]


# records of binary files


def _compose(spec: ElementSpec, value: object, old: Node | None, path: str) -> bytes:
    if spec.when is not None or spec.address.base != "next":
        raise ValueRefused(f"{path} depends on other fields", "change the records that are there one by one")
    if isinstance(spec, FieldSpec):
        return _field(spec, value, old, path)
    if isinstance(spec, RowsSpec):
        return _inner_rows(spec, value, old, path)
    assert isinstance(spec, GroupSpec)
    value = _object(value, path, _names(spec))
    made = _joined(
        spec, [(e, _part(e, value, old, path)) for e in spec.layout], lambda name: _count(spec, value, old, name)
    )
    return made + _rest(spec, old, len(made), path)


def _rest(spec: GroupSpec, old: Node | None, made: int, path: str) -> bytes:
    """What is behind the elements of a group with a size of its own: the bytes of the old one; of a new one, zeros."""
    if spec.size is None:
        return b""
    rest = b""
    rows = old.record.parent if old is not None and old.record is not None else None
    if isinstance(old, GroupNode) and isinstance(rows, RowsNode):
        rest = bytes(rows.source.read(max((child.end for child in old.children), default=old.start), old.end))
    if (whole := spec.size.constant) is None:
        return rest
    left = whole - made
    if left < 0 or any(rest[left:]):
        raise ValueRefused(f"{path} has room for {whole} bytes, and takes {made + len(rest)}", "give shorter values")
    return rest[:left].ljust(left, b"\0")


def _count(spec: ElementSpec | None, value: object, old: Node | None, path: str) -> int | None:
    """How many records the rows at a path within a record will have; None where there are none of that name."""
    for name in path.split("."):
        spec = spec.named(name) if isinstance(spec, GroupSpec) else None
        value = value.get(name) if isinstance(value, dict) else None
        old = old.names.get(name) if isinstance(old, GroupNode) else None
    if not isinstance(spec, RowsSpec):
        return None
    return len(value) if isinstance(value, list) else old.count if isinstance(old, RowsNode) else 0


def _part(element: ElementSpec, value: Mapping[str, Any], old: Node | None, path: str) -> bytes:
    """The bytes of one part of a group, whose values are given."""
    child = old.names.get(element.name) if isinstance(old, GroupNode) else None
    if isinstance(element, GroupSpec) and element.flat:
        inside = {key: each for key, each in value.items() if element.named(key) is not None}
        return _compose(element, inside, child, path)
    absent: object = {} if isinstance(element, GroupSpec) else None
    return _compose(element, value.get(element.name, absent), child, f"{path}.{element.name}")


def _inner_rows(spec: RowsSpec, value: object, old: Node | None, path: str) -> bytes:
    if value is None and isinstance(old, RowsNode):
        return old.raw
    given = _list(value, path)
    items = [
        _compose(spec.item, each, old.item(n) if isinstance(old, RowsNode) and n < old.count else None, f"{path}[{n}]")
        for n, each in enumerate(given)
    ]
    return b"".join(items) + (spec.ended_by or b"") + _free_ones(spec, len(items), path)


def _free_ones(spec: RowsSpec, count: int, path: str) -> bytes:
    """The free places of rows within a record that are made anew."""
    if spec.places is None:
        return b""
    if count > spec.places:
        raise ValueRefused(f"{path} has {spec.places} places, and {count} records are given", "give fewer")
    return spec.free * ((spec.places - count) * (spec.item.fixed_size or 0) // len(spec.free))


def _names(spec: GroupSpec) -> list[str]:
    """What a record of these parts may be given, those of its flat groups included."""
    flat = [e for e in spec.layout if isinstance(e, GroupSpec) and e.flat]
    return [e.name for e in spec.layout if e not in flat] + [e.name for group in flat for e in group.layout]


def _object(value: object, path: str, known: Collection[str]) -> dict[str, Any]:
    """What is given for a group."""
    if not isinstance(value, dict):
        raise ValueRefused(f"{path} takes an object of JSON, not {type(value).__name__}", "see what read --json prints")
    if unknown := [key for key in value if key not in known]:
        raise AddressError(f"{path} has no {unknown[0]}", f"it has {', '.join(known)}")
    return value


def _list(value: object, path: str) -> list[object]:
    """What is given for rows; nothing means zero records."""
    if value is not None and not isinstance(value, list):
        raise ValueRefused(f"{path} takes a list of JSON, not {type(value).__name__}", "see what read --json prints")
    return value or []


def _joined(spec: GroupSpec, parts: list[tuple[ElementSpec, bytes]], count: Callable[[str], int | None]) -> bytes:
    """The parts of a group behind each other; those of a whole number share its bytes."""
    if spec.word is not None:
        masks = [element.storage.mask or b"" for element, _ in parts if isinstance(element, FieldSpec)]
        own = zip(parts, masks, strict=True)
        return spec.word.encode(sum(spec.word.decode(part) & spec.word.decode(mask) for (_, part), mask in own))
    sizes = {element.name: len(part) for element, part in parts}
    return b"".join(_measured(element, part, sizes, count) for element, part in parts)


def _measured(element: ElementSpec, part: bytes, sizes: dict[str, int], count: Callable[[str], int | None]) -> bytes:
    """A length or a count of another part of the same record says how long or how many that is."""
    derived = element.derived if isinstance(element, FieldSpec) else None
    if derived is None:
        return part
    number = sizes.get(derived.target) if derived.kind == "length" else None
    number = count(derived.target) if derived.kind == "count" else number
    assert isinstance(element, FieldSpec)
    return part if number is None else element.storage.encode(number + derived.plus, part)


def _field(spec: FieldSpec, value: object, old: Node | None, path: str) -> bytes:
    if (spec.derived is not None or spec.seal is not None) and value is not None:
        _refuse_dependent(spec, value, old, path)
        value = None
    if spec.constant is not None:
        return spec.constant
    before = old.raw if isinstance(old, FieldNode) else None
    if value is None:
        return before if before is not None else _neutral(spec, path)
    return _given(spec, value, before, path)


def _refuse_dependent(spec: FieldSpec, value: object, old: Node | None, path: str) -> None:
    """Refuse a value for what is worked out, unless it is what it says already."""
    if not isinstance(old, FieldNode) or str(value) != spec.storage.to_text(spec.storage.decode(old.raw)):
        raise ValueRefused(f"{path} is worked out from other fields", "leave it out")


def _given(spec: FieldSpec, value: object, before: bytes | None, path: str) -> bytes:
    try:
        now = spec.storage.decode(before) if before is not None else None
        given = value_of_json(spec.storage, value, now)
        return encoded(spec.storage, given, before if before is not None else _neutral(spec, path))
    except ValueRefused as error:
        raise ValueRefused(f"{path}: {error.what}", error.remedy) from error


def _neutral(spec: FieldSpec, path: str) -> bytes:
    try:
        return spec.storage.neutral(spec.fixed_size)
    except ValueRefused as error:
        raise ValueRefused(f"{path}: {error.what}", error.remedy) from error


def _neutral_like(spec: FieldSpec, raw: bytes, path: str) -> bytes:
    """The neutral value in the style of an old one."""
    return encoded(spec.storage, spec.storage.decode(_neutral(spec, path)), raw)


# records of texts


def _rows_in_text(rows: RowsNode, values: list[object]) -> bytes:
    document, holder = rows.document, Span(rows.start, rows.end, "array")
    changes: list[Replacement] = []
    for number, value in enumerate(values[: rows.count]):
        changes += _changed(rows.item(number), value, f"{rows.path}[{number}]", is_new=False)
    if len(values) < rows.count:
        changes.append(document.remove(holder, len(values), rows.count))
    elif len(values) > rows.count:
        like = _last_item(rows)
        added = values[rows.count :]
        items = [_new_item(rows, value, like, f"{rows.path}[{rows.count + n}]") for n, value in enumerate(added)]
        changes.append(document.add(holder, rows.count, items))
    patched = Patched(document.source, changes)
    return bytes(patched.read(rows.start, patched.size - (document.source.size - rows.end)))


def _last_item(rows: RowsNode) -> bytes:
    """The bytes of the last record; none where there is no record."""
    if not rows.count:
        return b""
    last = rows.item(rows.count - 1)
    return bytes(rows.source.read(last.start, last.end))


def _new_item(rows: RowsNode, value: object, like: bytes, path: str) -> bytes:
    """A record in the style of another one."""
    item, document = rows.spec.item, rows.document
    if isinstance(item, FieldSpec):
        return _given(item, value, like or None, path) if value is not None else _neutral_like(item, like, path)
    skeleton = like or document.spell(_skeleton(item), bytes(document.source.read(rows.start, rows.end)))
    bound = bind(FileSpec("", "", document.name, "little", item), MemorySource(skeleton))
    if bound.problem is not None:
        raise ValueRefused(f"{path}: {bound.problem.what}", "change the records that are there one by one")
    changes = list(_changed(bound.root, value, path, is_new=True))
    patched = Patched(bound.source, changes)
    return bytes(patched.read(0, patched.size))


def _skeleton(spec: GroupSpec) -> dict[str, Any]:
    """An object with the members a template describes, each with a value that says nothing."""
    made: dict[str, Any] = {}
    for element in spec.layout:
        steps = element.address.path.steps(lambda _: 0) if element.address.path is not None else ()
        if len(steps) == 1 and steps[0].name is not None and element.when is None:
            if isinstance(element, FieldSpec):
                made[steps[0].name] = element.storage.decode(_neutral(element, element.name))
            else:
                made[steps[0].name] = _skeleton(element) if isinstance(element, GroupSpec) else []
    return made


def _changed(node: Node, value: object, path: str, *, is_new: bool) -> Iterator[Replacement]:
    """What has to change so that an element says what is given; in a new record the rest is made neutral."""
    if isinstance(node, FieldNode):
        follows = node.spec.derived is not None or node.spec.seal is not None
        if value is not None and follows:
            _refuse_dependent(node.spec, value, None if is_new else node, path)
        elif value is not None:
            yield Replacement(node.start, node.end, _given(node.spec, value, node.raw, path))
        elif is_new and not follows and node.spec.constant is None:
            yield Replacement(node.start, node.end, _neutral_like(node.spec, node.raw, path))
    elif isinstance(node, RowsNode):
        if value is not None or is_new:
            yield Replacement(node.start, node.end, compose_records(node, _list(value, path)))
    elif isinstance(node, GroupNode):
        value = _object(value, path, node.names)
        for child in node.children:
            name = child.spec.name
            if isinstance(child, GroupNode) and child.spec.flat:
                inside = {key: each for key, each in value.items() if key in child.names}
                yield from _changed(child, inside, path, is_new=is_new)
            else:
                absent: object = {} if isinstance(child, GroupNode) else None
                yield from _changed(child, value.get(name, absent), f"{path}.{name}", is_new=is_new)
