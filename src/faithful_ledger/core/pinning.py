"""Before a place goes into a template: a trial on a copy, so that what is pinned writes its own bytes and no others.

The template with the new field is laid over the save, other values are entered into the field, and the plan is worked
out as for a posting: layers are wrapped, unwrapped and compared, the result is bound again, and every byte that differs
has its cause. Nothing is written.
"""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.binding.spans import fields_between
from faithful_ledger.core.errors import EntryError, LedgerError, StreamGrows, ValueRefused
from faithful_ledger.core.evidence import Place
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.storage import Scaled, Switches
from faithful_ledger.core.template import parse_template
from faithful_ledger.core.template.names import has_no_name

__all__ = ["opened_with", "try_writing"]

MOST_TRIED = 4


def try_writing(save: Save, text: bytes, path: str, place: Place) -> None:
    """Enter other values into a field of a template on a copy of a save.

    Raises:
        EntryError: the field cannot be read, overlaps another one, or writing it would change more than its own bytes.
    """
    remedy = "the template was not changed; choose another place, or describe what is around it first"
    opened, node, shown = opened_with(save, text, path, remedy)
    tried = 0
    for value in _others(node, shown, place):
        try:
            opened.enter(path, value, anyway=True)
        except ValueRefused:
            continue
        if not len(opened.tape):
            continue
        tried += 1
        try:
            plan = make_plan(opened)
        except StreamGrows:  # a value that does not fit its layer is refused when it is posted, too: nothing is lost
            opened.tape.clear()
            continue
        except LedgerError as error:
            raise EntryError(f"writing {value} to {path} on a copy failed: {error.what}", remedy) from error
        if wrong := next((finding for finding in plan.findings if finding.level == "error"), None):
            raise EntryError(f"writing {value} to {path} on a copy failed: {wrong.message}", remedy)
        opened.tape.clear()
        if tried == MOST_TRIED:
            return
    if not tried:
        raise EntryError(f"no other value could be written to {path} on a copy", remedy)


def opened_with(save: Save, text: bytes, path: str, remedy: str) -> tuple[Save, FieldNode, str]:
    """A copy of a save with a template, and the field at a path there with what it says.

    Raises:
        EntryError: the field cannot be read, or another one has its bytes.
    """
    try:
        opened = open_save(save.path, parse_template(text, "the template"), save.roots)
        if opened.problem is not None:
            raise opened.problem
        (node,) = opened.fields(path)
        shown = node.spec.storage.to_text(node.value)
    except LedgerError as error:
        raise EntryError(f"{path} cannot be read in this save: {error.what}", remedy) from error
    _refuse_overlap(opened, node, remedy)
    return opened, node, shown


def _refuse_overlap(opened: Save, node: FieldNode, remedy: str) -> None:
    bound = opened.files[node.file].bound
    assert bound is not None
    for other in fields_between(bound.root, node.start, node.end) if bound.spec.format == "binary" else ():
        is_described = not other.spec.unknown and not has_no_name(other.spec.name)
        if is_described and not other.is_same(node) and _share_bits(node, other):
            raise EntryError(f"{node.path} overlaps {other.path}, which the template describes already", remedy)


def _share_bits(one: FieldNode, other: FieldNode) -> bool:
    """Whether two fields that have bytes in common have bits of these in common."""
    if one.spec.storage.mask is None and other.spec.storage.mask is None:
        return True
    first = min(one.start, other.start)
    own, others = (
        int.from_bytes(node.spec.storage.mask or b"\xff" * node.size, "little") << 8 * (node.start - first)
        for node in (one, other)
    )
    return bool(own & others)


def _others(node: FieldNode, shown: str, place: Place) -> Iterator[str]:
    """Values to try, as a person would type them: what was sighted, then values near the present one."""
    storage = node.spec.storage
    if isinstance(storage, Switches):
        names = list(storage.names.values())
        yield from (f"{'-' if name in shown else '+'}{name}" for name in names[:1])
        return
    for value in dict.fromkeys(place.values):
        if isinstance(value, str):
            yield value
        elif isinstance(storage, Scaled):
            exact = (_exact(value) - storage.bias) / storage.scale
            yield str(exact.numerator) if exact.denominator == 1 else repr(float(exact))
        else:
            yield str(int(value)) if float(value).is_integer() else repr(value)
    if isinstance(node.value, str):
        yield shown[::-1] if shown[::-1] != shown else f"{shown[:-1]}{'a' if shown[-1:] != 'a' else 'b'}"
    elif isinstance(node.value, int | float):
        yield str(node.value + 1)
        yield str(node.value - 1)


def _exact(value: float) -> Fraction:
    return Fraction(int(value)) if float(value).is_integer() else Fraction(repr(value))
