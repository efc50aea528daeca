"""Where records of varying size end, without binding their fields.

A record whose elements have fixed sizes, or say their own size in their first bytes, is measured by a few steps over
the bytes. A record with expressions, constants or elements that come and go is bound whole instead (`sizer` gives
None).
"""

from __future__ import annotations

from faithful_ledger.core.address import NEXT
from faithful_ledger.core.storage import Sizer
from faithful_ledger.core.storage.base import fixed_sizer
from faithful_ledger.core.template.model import ElementSpec, FieldSpec, GroupSpec

__all__ = ["Sizer", "sizer"]


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
    if spec.when is not None or spec.address is not NEXT:
        return None
    if isinstance(spec, GroupSpec) and spec.word is not None:
        return [spec.word.size]
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
    size = spec.fixed_size
    if size is not None:
        return [size] if size >= 0 else None
    measure = spec.storage.sizer() if spec.size is None else None
    return None if measure is None else [measure]


def _joined(steps: list[int | Sizer]) -> list[Sizer]:
    found: list[Sizer] = []
    fixed = 0
    for step in steps:
        if isinstance(step, int):
            fixed += step
            continue
        if fixed:
            found.append(fixed_sizer(fixed))
            fixed = 0
        found.append(step)
    return [*found, fixed_sizer(fixed)] if fixed or not found else found
