"""Quantities that a template describes already because they were pinned: what belongs together is often stored near."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from typing import NamedTuple

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.save import Save, SaveFile
from faithful_ledger.core.template.model import PINNED

__all__ = ["Pinned", "pinned_in"]

NEAR = ((16, 3.0), (256, 1.5))  # within so many bytes, worth so many bits


class Pinned(NamedTuple):
    """Bytes [start, end) of `file`, or of the payload behind `route` in it, in the newest snapshot."""

    name: str
    file: str
    route: tuple[str, ...]
    start: int
    end: int

    def distance(self, start: int, end: int) -> int:
        """How many bytes are between it and bytes [start, end); negative where these are in front of it."""
        return start - self.end if start >= self.end else end - self.start if end <= self.start else 0

    def bits(self, distance: int) -> float:
        """What it says for a place at a distance."""
        return next((bits for most, bits in NEAR if abs(distance) <= most), 0.0)


def pinned_in(save: Save, named: Callable[[SaveFile], str]) -> list[Pinned]:
    """What was pinned into the template of a save. `named` says what a file is called among those of a snapshot."""
    found = []
    sections = save.template.sections if save.template is not None else []
    for path in (path for section in sections if section.title == PINNED for path in section.fields):
        with suppress(LedgerError):  # it may be gone in this save
            for node in save.nodes(path):
                file = save.files.get(path.partition(".")[0], save.main)
                if isinstance(node, FieldNode) and file.bound is not None:
                    route = file.bound.spec.route if file.inside else ()
                    found.append(Pinned(node.spec.name, named(file), route, node.start, node.end))
    return found
