"""The bytes of a record from its values: for records that are added, or lists that are given anew.

What is not given is taken from the old record of the same number, or is a neutral value: 0, an empty text, the first
name of a choice, no switch. Records whose parts depend on each other cannot be made from values alone and are refused.
"""

from __future__ import annotations

from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.errors import AddressError, ValueRefused
from faithful_ledger.core.storage import Storage, Value, encoded
from faithful_ledger.core.template.model import ElementSpec, FieldSpec, GroupSpec

__all__ = ["compose_records", "value_of_json"]


def compose_records(repeat: RowsNode, values: list[object]) -> bytes:
    """The bytes of a whole repeat with these records, its end marker included.

    Raises:
        ValueRefused: a value that does not fit, or a record that cannot be made.
        AddressError: a value for a field the record does not have.
    """
    if repeat.stride is None and repeat.offsets is None:
        raise ValueRefused(f"{repeat.path} is a list in a text", "records can only be added or removed in binary files")
    parts = []
    for number, value in enumerate(values):
        old = repeat.item(number) if number < repeat.count else None
        parts.append(_compose(repeat.spec.item, value, old, f"{repeat.path}[{number}]"))
    return b"".join(parts) + (repeat.spec.ended_by or b"")


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


def _compose(spec: ElementSpec, value: object, old: Node | None, path: str) -> bytes:
    if spec.when is not None or spec.at is not None:
        raise ValueRefused(f"{path} depends on other fields", "change the records that are there one by one")
    if isinstance(spec, FieldSpec):
        return _field(spec, value, old, path)
    if not isinstance(spec, GroupSpec) or spec.size is not None:
        raise ValueRefused(f"{path} holds parts of its own size", "change the records that are there one by one")
    if not isinstance(value, dict):
        raise ValueRefused(f"{path} takes an object of JSON, not {type(value).__name__}", "see what read --json prints")
    known = [element.name for element in spec.layout if not (isinstance(element, GroupSpec) and element.flat)]
    flat = [e.name for g in spec.layout if isinstance(g, GroupSpec) and g.flat for e in g.layout]
    if unknown := [key for key in value if key not in known + flat]:
        raise AddressError(f"{path} has no {unknown[0]}", f"it has {', '.join(known + flat)}")
    parts = []
    for element in spec.layout:
        child = old.names.get(element.name) if isinstance(old, GroupNode) else None
        inside = isinstance(element, GroupSpec) and element.flat
        absent: object = {} if isinstance(element, GroupSpec) else None
        given = {k: v for k, v in value.items() if k in flat} if inside else value.get(element.name, absent)
        parts.append(_compose(element, given, child, path if inside else f"{path}.{element.name}"))
    if spec.word is not None:
        number = sum(
            spec.word.decode(part) & spec.word.decode(_mask(element))
            for part, element in zip(parts, spec.layout, strict=True)
        )
        return spec.word.encode(number)
    return b"".join(parts)


def _mask(spec: ElementSpec) -> bytes:
    """The bits of a field that shares a whole number with others."""
    return (spec.storage.mask or b"") if isinstance(spec, FieldSpec) else b""


def _field(spec: FieldSpec, value: object, old: Node | None, path: str) -> bytes:
    if spec.derived is not None or spec.seal is not None:
        raise ValueRefused(f"{path} is worked out from other fields", "change the records that are there one by one")
    if spec.constant is not None:
        return spec.constant
    before = old.raw if isinstance(old, FieldNode) else None
    if value is None:
        return before if before is not None else _neutral(spec, path)
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
