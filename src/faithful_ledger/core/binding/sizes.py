"""Where records of varying size end, without binding their fields.

A record whose elements have fixed sizes, or say their own size in their first bytes, is measured by a few steps over
the bytes. A record with expressions, constants or elements that come and go is bound whole instead (`sizer` gives
None).
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeAlias

from faithful_ledger.core.codecs import PrefixedText, VariableCodec
from faithful_ledger.core.template.model import ElementSpec, FieldSpec, GroupSpec

__all__ = ["Sizer", "sizer"]

# From the bytes, an offset and a limit to the offset behind the record, or -1 where it would pass the limit.
Sizer: TypeAlias = Callable[[bytes, int, int], int]
LONGEST_VARIABLE = 10


def sizer(spec: ElementSpec) -> Sizer | None:
    """A function that measures one record, or None where it has to be bound to know its size."""
    steps = _steps(spec)
    if steps is None:
        return None
    joined = _joined(steps)
    if len(joined) == 1:
        return joined[0]

    def measure(data: bytes, at: int, limit: int) -> int:
        for step in joined:
            at = step(data, at, limit)
            if at < 0:
                return -1
        return at

    return measure


def _steps(spec: ElementSpec) -> list[int | Sizer] | None:
    """Sizes in bytes, and functions where a size varies."""
    if spec.when is not None or spec.at is not None:
        return None
    if isinstance(spec, GroupSpec) and spec.size is None:
        steps: list[int | Sizer] = []
        for element in spec.layout:
            inner = _steps(element)
            if inner is None:
                return None
            steps += inner
        return steps
    if not isinstance(spec, FieldSpec) or spec.constant is not None:
        return None
    if spec.size is None and isinstance(spec.codec, PrefixedText):
        return [_prefixed(spec.codec)]
    if spec.size is None and isinstance(spec.codec, VariableCodec):
        return [_variable]
    size = spec.fixed_size
    return [size] if size is not None and size >= 0 else None


def _joined(steps: list[int | Sizer]) -> list[Sizer]:
    found: list[Sizer] = []
    fixed = 0
    for step in steps:
        if isinstance(step, int):
            fixed += step
            continue
        if fixed:
            found.append(_fixed(fixed))
            fixed = 0
        found.append(step)
    return [*found, _fixed(fixed)] if fixed or not found else found


def _fixed(size: int) -> Sizer:
    return lambda data, at, limit: at + size if at + size <= limit else -1


def _prefixed(codec: PrefixedText) -> Sizer:
    width, order, unit = codec.length.size, codec.length.order, codec.unit

    def measure(data: bytes, at: int, limit: int) -> int:
        begin = at + width
        if begin > limit:
            return -1
        end = begin + int.from_bytes(data[at:begin], order) * unit
        return end if end <= limit else -1

    return measure


def _variable(data: bytes, at: int, limit: int) -> int:
    for end in range(at, min(at + LONGEST_VARIABLE, limit)):
        if data[end] < 128:
            return end + 1
    return at + LONGEST_VARIABLE if at + LONGEST_VARIABLE <= limit else -1
