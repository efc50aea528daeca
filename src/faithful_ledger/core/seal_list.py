"""The seals of a save as people look at them: what each covers, what it needs first, and what would break it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

from faithful_ledger.core.address import parse_path
from faithful_ledger.core.binding import BoundFile, FieldNode, find
from faithful_ledger.core.binding.followers import Follower, SealState, dependents, follower, follower_of
from faithful_ledger.core.binding.spans import fields_between
from faithful_ledger.core.errors import AddressError, place
from faithful_ledger.core.save import Save

__all__ = ["SealReport", "seal_reports"]

MOST_FIELDS = 100_000


class SealReport(NamedTuple):
    """A checksum with its state. It covers the bytes [start, end) of the payload of `file`, in which so many `fields`
    have a meaning and so many `unknown` runs have none, unless it `is_text`; or only some values of these bytes.
    `after` are the checksums that are renewed before it.
    """

    state: SealState
    node: FieldNode
    file: str
    start: int
    end: int
    over: str
    own: str
    fields: int
    unknown: int
    after: tuple[SealState, ...]
    is_text: bool = False
    values: int = 0

    @property
    def covered_in_words(self) -> str:
        """What it covers."""
        if self.values:
            return self.over
        what = f"{self.over}: " if self.over else ""
        own = f"; {self.own}" if self.own else ""
        return f"{what}{self.end - self.start} bytes of {self.file}, {place(self.start)} to {place(self.end)}{own}"

    @property
    def broken_by_in_words(self) -> str:
        """A change in any of what breaks it."""
        if self.values:
            return f"these {self.values} values"
        if not self.fields and not self.unknown:
            return "these bytes" if self.is_text else "these bytes, which no field describes yet,"
        unknown = f" and {self.unknown} unknown run{'s' if self.unknown != 1 else ''}" if self.unknown else ""
        return f"{self.fields} field{'s' if self.fields != 1 else ''}{unknown}"

    @property
    def is_renewed(self) -> bool:
        return self.state.policy == "renew"


def seal_reports(save: Save) -> list[SealReport]:
    """Every checksum of the save, in the order in which they are renewed."""
    bound = save.bound
    states = {state.name: state for state in save.seals}
    seals = {each.node.path: each for each in _seals(bound) if each.node.path in states}
    needs = {
        path: [other for other in seals if other != path and _covers(seals[path], seals[other], bound)]
        for path in seals
    }
    reports = {}
    for path, each in seals.items():
        start, end = each.needs
        file = each.node.spec.of_file or each.node.file
        root = bound[file].root
        known = unknown = 0
        is_text = bound[file].spec.format != "binary"
        for number, field in enumerate(fields_between(root, start, end) if not is_text else ()):
            own_or_other = field is each.node or field.path in seals
            known += not own_or_other and not field.spec.unknown
            unknown += field.spec.unknown
            if number == MOST_FIELDS:
                break
        spec = each.node.spec.seal
        assert spec is not None
        over = each.node.spec.subject(spec.elements_in_words) if spec.span is None else ""
        over += spec.unpacked_in_words
        covers_itself = file == each.node.file and start < each.node.end and each.node.start < end
        after = tuple(states[other] for other in needs[path])
        reports[path] = SealReport(
            states[path],
            each.node,
            file,
            start,
            end,
            over,
            spec.own_in_words if covers_itself else "",
            known,
            unknown,
            after,
            is_text,
            len(each.values),
        )
    return [reports[path] for path in _in_order(needs)]


def _seals(bound: Mapping[str, BoundFile]) -> Iterator[Follower]:
    for file in bound.values():
        if file.problem is None:
            for node in dependents(file.root, measured=False):
                try:
                    yield follower(node, file.root)
                except AddressError:
                    continue
            for node in dependents(file.root, measured=False, elsewhere=True):
                other = bound.get(node.spec.of_file)
                try:
                    if other is not None:
                        yield follower_of(node, other.root, other.source.size)
                except AddressError:
                    continue


def _covers(outer: Follower, inner: Follower, bound: Mapping[str, BoundFile]) -> bool:
    """Whether one seal depends on the field of another one, also where that is packed in its bytes."""
    file, start, end = inner.node.file, inner.node.start, inner.node.end
    covered = outer.node.spec.of_file or outer.node.file
    while True:
        if file == covered:
            return any(low < end and start < high for low, high in outer.depends_on)
        spec = bound[file].spec
        if not spec.inside or spec.inside not in bound:
            return False
        around = bound[spec.inside]
        file, start, end = spec.inside, 0, around.source.size
        if spec.held_by:
            holders = find(around.root, parse_path(spec.held_by), spec.held_by)
            start, end = holders[0].start, holders[-1].end


def _in_order(needs: Mapping[str, list[str]]) -> list[str]:
    """Inner ones first; those in a circle come last, as they are."""
    done: list[str] = []
    left = dict(needs)
    while left:
        ready = [path for path, first in left.items() if not any(other in left for other in first)]
        ready = ready or list(left)
        done += ready
        for path in ready:
            del left[path]
    return done
