"""Payloads as they will be, put back through the steps that led to them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.layers.archives import finish_zip
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.wrapping.growing import COUNTED, UNCOUNTED, Counted
from faithful_ledger.core.wrapping.steps import (
    Archived,
    Linked,
    Step,
    Streams,
)

__all__ = ["Inner", "Unwrapped", "wrap_together"]


@dataclass(slots=True)
class Unwrapped:
    """A payload and the steps that led to it, the outermost first."""

    steps: list[Step]

    @property
    def source(self) -> MemorySource:
        return MemorySource(self.steps[-1].data)

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        """As `wrap_together`, of this payload alone."""
        return wrap_together([self.inner(inner, cause)], counted)

    def inner(self, patched: Patched, cause: Cause) -> Inner:
        """This payload as it will be, to be wrapped together with others."""
        return Inner(self.steps, patched, cause)


class Inner(NamedTuple):
    """A payload as it will be, with the steps that lead to it and the cause to give for what changes around it."""

    steps: Sequence[Step]
    patched: Patched
    cause: Cause


def wrap_together(inside: Sequence[Inner], counted: Counted) -> list[Replacement]:
    """What has to change in one outermost payload so that these payloads are inside of it; `counted` is about that.
    Several may be behind the same steps, as members of a packed archive are: these steps are put back once.

    Raises:
        LedgerError: one of them cannot be wrapped.
    """
    groups: dict[object, list[Inner]] = {}
    for each in inside:
        groups.setdefault(_identity(each.steps[0]), []).append(each)
    replaced: list[Replacement] = []
    for group in groups.values():
        step, cause = group[0].steps[0], group[0].cause
        deeper = [Inner(each.steps[1:], each.patched, each.cause) for each in group if len(each.steps) > 1]
        own = next((each.patched for each in group if len(each.steps) == 1), None)
        if own is None:
            lengths = COUNTED if isinstance(step, Linked) else UNCOUNTED  # each linked block has its own
            own = Patched(MemorySource(step.data), wrap_together(deeper, lengths))
        replaced += step.wrap(own, cause, counted)
    first = inside[0]
    archived = next((each.steps[0] for each in inside if isinstance(each.steps[0], Archived)), None)
    if archived is not None and archived.member.kind == "zip":
        replaced += finish_zip(archived.outer, replaced, first.cause)
    return replaced


def _identity(step: Step) -> object:
    """What two steps have in common that lead from the same payload to the same one."""
    if isinstance(step, Archived):
        return step.member
    if isinstance(step, Streams):
        return step.kind, tuple((stream.offset, stream.size) for stream in step.streams)
    return id(step)
