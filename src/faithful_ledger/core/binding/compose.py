"""The bytes of a record from its values: for records that are added, or lists that are given anew.

What is not given is taken from the old record of the same number, or is a neutral value: 0, an empty text, the first
name of a choice, no switch. Records whose parts depend on each other cannot be made from values alone and are refused.
"""

from __future__ import annotations

from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.codecs import (
    ChoiceCodec,
    Codec,
    FloatCodec,
    IntegerCodec,
    SwitchesCodec,
    Value,
    WholeCodec,
    encoded,
)
from faithful_ledger.core.errors import AddressError, ValueRefused
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


def value_of_json(codec: Codec, value: object, old: Value) -> Value:
    """A value of a JSON document as a codec takes it.

    Raises:
        ValueRefused: it is none.
    """
    if isinstance(value, list):
        return tuple(map(str, value))
    if isinstance(value, str | int | float) and not isinstance(value, bool):
        return codec.from_text(str(value), old)
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
        given = {k: v for k, v in value.items() if k in flat} if inside else value.get(element.name)
        parts.append(_compose(element, given, child, path if inside else f"{path}.{element.name}"))
    return b"".join(parts)


def _field(spec: FieldSpec, value: object, old: Node | None, path: str) -> bytes:
    if spec.derived is not None or spec.seal is not None:
        raise ValueRefused(f"{path} is worked out from other fields", "change the records that are there one by one")
    if spec.constant is not None:
        return spec.constant
    before = old.raw if isinstance(old, FieldNode) else None
    if value is None:
        return before if before is not None else _neutral(spec, path)
    try:
        now = spec.codec.decode(before) if before is not None else None
        given = value_of_json(spec.codec, value, now)
        return encoded(spec.codec, given, before if before is not None else _neutral(spec, path))
    except ValueRefused as error:
        raise ValueRefused(f"{path}: {error.what}", error.remedy) from error


def _neutral(spec: FieldSpec, path: str) -> bytes:
    codec, size = spec.codec, spec.fixed_size
    if isinstance(codec, ChoiceCodec):
        return codec.number.encode(min(codec.names, default=0))
    if isinstance(codec, WholeCodec):
        return codec.encode(0)
    if isinstance(codec, IntegerCodec | FloatCodec | SwitchesCodec) or spec.unknown:
        if size is None:
            raise ValueRefused(f"{path} has no fixed size", "give it a value")
        return bytes(size)
    return codec.encode("", b"")
