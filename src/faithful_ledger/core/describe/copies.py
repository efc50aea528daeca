"""A template laid over the save and all its kept copies: which of them fit, what each field says, what is explained,
and what is still unknown.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import islice
from typing import NamedTuple

from faithful_ledger.core.address import parse_path
from faithful_ledger.core.binding import BoundFile, FieldNode, GroupNode, Node, find
from faithful_ledger.core.binding.spans import fields_between
from faithful_ledger.core.describe.flow import is_run
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.rules.audit import field_findings
from faithful_ledger.core.source import Source

__all__ = [
    "MAKES_NO_SENSE",
    "CopyReport",
    "Overlap",
    "UnknownRun",
    "explained",
    "overlaps",
    "report",
    "unknown_runs",
    "value_at",
]

MAKES_NO_SENSE = "✕"
MOST_FIELDS = 100_000
CHUNK = 1 << 16


class CopyReport(NamedTuple):
    """What a template makes of one copy: the first thing that does not fit, or nothing; and how many of the bytes of
    all its files are explained.
    """

    name: str
    problem: str
    explained: int
    size: int

    @property
    def share(self) -> float:
        return self.explained / self.size if self.size else 0.0


class UnknownRun(NamedTuple):
    """Bytes [start, end) of a file that nothing describes; in so many of the copies something in them differs, from
    `first` to `last`.
    """

    start: int
    end: int
    differs_in: int
    first: int
    last: int


class Overlap(NamedTuple):
    """Two fields that have bytes in common."""

    one: FieldNode
    other: FieldNode


def report(name: str, bound: Mapping[str, BoundFile] | None) -> CopyReport:
    """What is said of one copy, bound; None where some of its files were not kept."""
    if bound is None:
        return CopyReport(name, "not all files of this save were kept", 0, 0)
    problem = next((str(file.problem) for file in bound.values() if file.problem is not None), "")
    missing = next((error.what for file in bound.values() for error in file.missing), "")
    return CopyReport(name, problem or missing, *explained(bound))


def explained(bound: Mapping[str, BoundFile]) -> tuple[int, int]:
    """How many bytes of files have a field with a meaning, and how many there are. What was unwrapped counts instead of
    the bytes that it is packed in.
    """
    known = size = 0
    for name, file in bound.items():
        inside = [other.spec for other in bound.values() if other.spec.inside == name and other.unwrapped is not None]
        described, left = file.explained, file.source.size
        for path in {spec.held_by for spec in inside}:
            holders = find(file.root, parse_path(path), path) if path else []
            left = left - sum(holder.size for holder in holders) if holders else described
        known, size = known + described, size + max(left, described)
    return known, size


def value_at(node: Node | None) -> str:
    """What a field says; ✕ where its bytes make no sense, – where it is not there."""
    if not isinstance(node, FieldNode):
        return "–"
    try:
        text = node.spec.storage.to_text(node.value)
    except LedgerError:
        return MAKES_NO_SENSE
    wrong = any(finding.level != "note" for finding in field_findings(node))
    return f"{MAKES_NO_SENSE} {text}" if wrong else text


def unknown_runs(bound: BoundFile, copies: Sequence[Source] = ()) -> Iterator[UnknownRun]:
    """The runs of a file that no field explains, with what differs in them in `copies` of the same size."""
    at = 0
    alike = [copy for copy in copies if copy.size == bound.source.size]
    for start, end in _described(bound.root):
        if start > at:
            yield _run(bound.source, at, start, alike)
        at = max(at, end)
    if at < bound.source.size:
        yield _run(bound.source, at, bound.source.size, alike)


def _described(root: GroupNode) -> list[tuple[int, int]]:
    spans = []
    for number, node in enumerate(fields_between(root, 0, root.end)):
        if number == MOST_FIELDS:
            break
        if not node.spec.unknown:
            spans.append((node.start, node.end))
    return sorted(spans)


def _run(source: Source, start: int, end: int, copies: Sequence[Source]) -> UnknownRun:
    import numpy as np

    differs, first, last = 0, end, start
    for copy in copies:
        for begin in range(start, end, CHUNK):
            stop = min(begin + CHUNK, end)
            here, there = (np.frombuffer(bytes(each.read(begin, stop)), np.uint8) for each in (source, copy))
            places = np.flatnonzero(here != there)
            if places.size:
                first, last = min(first, begin + int(places[0])), max(last, begin + int(places[-1]) + 1)
        differs += bytes(source.read(start, end)) != bytes(copy.read(start, end))
    return UnknownRun(start, end, differs, first if differs else start, last if differs else start)


def overlaps(root: GroupNode) -> Iterator[Overlap]:
    """Fields that have bytes in common with the one before them; parts of one word do not count, nor do unknown runs in
    rows and groups, in which single bytes may be described, nor what is found by bytes near it in a run that only leads
    from one element to the next.
    """
    fields = sorted(
        (node for node in islice(fields_between(root, 0, root.end), MOST_FIELDS) if not _is_unknown_within(node, root)),
        key=lambda node: (node.start, node.end),
    )
    last: FieldNode | None = None
    for node in fields:
        word = isinstance(node.parent, GroupNode) and node.parent.spec.word is not None
        if last is not None and node.start < last.end and not (word and node.parent is last.parent):
            within = _is_found_within(last, node) or _is_found_within(node, last)
            yield from () if within else (Overlap(last, node),)
        if last is None or node.end > last.end:
            last = node


def _is_unknown_within(node: FieldNode, root: GroupNode) -> bool:
    return node.spec.unknown and node.parent is not root


def _is_found_within(run: FieldNode, node: FieldNode) -> bool:
    return is_run(run) and node.spec.address.is_found and node.end <= run.end
