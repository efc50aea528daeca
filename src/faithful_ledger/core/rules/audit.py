"""Look at every field of a save and gather what is not as it should be. Nothing is changed; mending is another call.

Columns of fixed-size records are looked at as NumPy arrays, so a million records cost about as much as a thousand.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal, NamedTuple

from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, Node, RepeatNode
from faithful_ledger.core.codecs import ChoiceCodec, FixedText, FloatCodec, IntegerCodec, PackedCodec
from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.template.model import FieldSpec, GroupSpec

__all__ = ["Finding", "audit", "field_findings"]

MANY = 256
MOST_TOLD = 20


class Finding(NamedTuple):
    """Something about one field. `suggested` is a value that would mend it."""

    path: str
    level: Literal["error", "warning", "note"]
    message: str
    suggested: int | float | None = None


def audit(root: GroupNode) -> Iterator[Finding]:
    """All findings of one file, in the order of its bytes."""
    stack: list[Node] = [root]
    while stack:
        node = stack.pop()
        if isinstance(node, FieldNode):
            yield from field_findings(node)
        elif isinstance(node, GroupNode):
            stack += reversed(node.children)
        elif isinstance(node, RepeatNode):
            if node.stride is not None and node.count > MANY and isinstance(node.spec.item, GroupSpec):
                yield from _columns(node)
            else:
                stack += reversed(list(node.items()))


def field_findings(node: FieldNode) -> Iterator[Finding]:
    """What is wrong with one field's value."""
    if node.spec.unknown or node.spec.constant is not None:
        return
    try:
        value = node.value
    except ValueRefused as error:
        yield Finding(node.path, "error", str(error))
        return
    bounds = node.spec.bounds
    if bounds is not None and (broken := bounds.broken_by(value)):
        nearest = bounds.least if bounds.least is not None and _below(value, bounds.least) else bounds.most
        yield Finding(node.path, "warning", broken, nearest)
    if isinstance(node.spec.codec, ChoiceCodec) and isinstance(value, int):
        yield Finding(node.path, "warning", f"{value} has no name in its list")


def _below(value: object, least: int | float) -> bool:
    return isinstance(value, int | float) and value < least


def _columns(repeat: RepeatNode) -> Iterator[Finding]:
    """The same findings as `field_findings`, for many records at once. Of one kind at most 20 are told one by one."""
    import numpy

    assert isinstance(repeat.spec.item, GroupSpec)
    for name in repeat.records().dtype.names or ():
        spec = repeat.spec.item.named(name)
        if not isinstance(spec, FieldSpec) or spec.unknown:
            continue
        suspects = None
        if isinstance(spec.codec, IntegerCodec | FloatCodec) and spec.bounds is not None:
            column = repeat.column(name)
            low = column < spec.bounds.least if spec.bounds.least is not None else False
            high = column > spec.bounds.most if spec.bounds.most is not None else False
            suspects = numpy.flatnonzero(numpy.asarray(low | high))
        elif isinstance(spec.codec, ChoiceCodec):
            column = repeat.column(name)
            present = numpy.unique(column)
            nameless = [number for number in present.tolist() if number not in spec.codec.names]
            if nameless:
                suspects = numpy.flatnonzero(numpy.isin(column, nameless))
        elif isinstance(spec.codec, PackedCodec):
            suspects = numpy.arange(repeat.count)  # any byte may hold something that is no digit
        elif isinstance(spec.codec, FixedText):
            # Texts have no bulk check; most encodings of fixed texts know every byte, and the others are quick to try.
            suspects = numpy.arange(repeat.count) if not _reads_any_bytes(spec.codec) else None
        if suspects is not None:
            yield from _told(repeat, name, suspects.tolist())


def _told(repeat: RepeatNode, name: str, suspects: list[int]) -> Iterator[Finding]:
    told = 0
    for index in suspects:
        item = repeat.item(index)
        field = item.names.get(name) if isinstance(item, GroupNode) else None
        for finding in field_findings(field) if isinstance(field, FieldNode) else ():
            if told == MOST_TOLD:
                yield Finding(f"{repeat.path}[*].{name}", finding.level, "and more records like these")
                return
            told += 1
            yield finding


def _reads_any_bytes(codec: FixedText) -> bool:
    try:
        bytes(range(256)).decode(codec.encoding)
    except UnicodeError:
        return False
    return True
