"""The bounds of a value, where a choice beside it decides them by the limits of its catalogue."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from faithful_ledger.core.binding.nodes import FieldNode, GroupNode
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.storage import Choice, Value
from faithful_ledger.core.template.model import Bounds, Catalogue

__all__ = ["bounds_at", "limited", "stored_value"]


def stored_value(node: FieldNode) -> Value:
    return node.value


def bounds_at(node: FieldNode, value_of: Callable[[FieldNode], Value] = stored_value) -> Bounds | None:
    """The bounds of a field here; `value_of` says what the choice says that decides."""
    bounds = node.spec.bounds
    if bounds is None or not bounds.by:
        return bounds
    decides = node.parent.scope(bounds.by) if isinstance(node.parent, GroupNode) else None
    if not isinstance(decides, FieldNode) or decides.spec.catalogue is None:
        return bounds
    storage = decides.spec.storage
    try:
        said = value_of(decides)
    except LedgerError:
        return bounds
    code = storage.numbers.get(said) if isinstance(said, str) and isinstance(storage, Choice) else said
    return limited(bounds, decides.spec.catalogue, code) if isinstance(code, int) else bounds


def limited(bounds: Bounds, catalogue: Catalogue, code: int) -> Bounds:
    """Bounds with those of a code, the narrower of both."""
    least, most = catalogue.limits.get(code, (None, None))
    lows, highs = [x for x in (bounds.least, least) if x is not None], [x for x in (bounds.most, most) if x is not None]
    of_code = f"{catalogue.names[code]} allows {_span(least, most)}" if code in catalogue.limits else ""
    why = "; ".join(filter(None, (bounds.why, of_code)))
    return replace(bounds, least=max(lows, default=None), most=min(highs, default=None), why=why)


def _span(least: float | None, most: float | None) -> str:
    if least is None or most is None:
        return f"at least {least}" if most is None else f"at most {most}"
    return f"{least} to {most}"
