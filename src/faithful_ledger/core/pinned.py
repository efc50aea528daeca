"""Which quantities of a save are pinned in its template."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from functools import partial

from faithful_ledger.core.binding import BoundFile, FieldNode
from faithful_ledger.core.binding.spans import field_at
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.evidence.pinned import Described, Known, Pinned
from faithful_ledger.core.save import Save, SaveFile
from faithful_ledger.core.template.model import PINNED

__all__ = ["pinned_in"]


def pinned_in(save: Save, named: Callable[[SaveFile], str]) -> list[Known]:
    """What was pinned into the template of a save, and what that describes. `named` says what a file is called among
    those of a snapshot.
    """
    found: list[Known] = []
    sections = save.template.sections if save.template is not None else []
    for path in (path for section in sections if section.title == PINNED for path in section.fields):
        with suppress(LedgerError):  # it may be gone in this save
            for node in save.nodes(path):
                file = save.files.get(path.partition(".")[0], save.main)
                if isinstance(node, FieldNode) and file.bound is not None:
                    found.append(Pinned(node.spec.name, named(file), _route(file), node.start, node.end))
    for file in save.files.values():
        if file.bound is not None and file.bound.spec.format == "binary":
            found.append(Described(named(file), _route(file), partial(_described, file.bound)))
    return found


def _route(file: SaveFile) -> tuple[str, ...]:
    return file.bound.spec.route if file.inside and file.bound is not None else ()


def _described(bound: BoundFile, offset: int) -> tuple[str, int, int] | None:
    """The path and the span of what a template says of a byte."""
    node = field_at(bound.root, offset)
    return (node.path, node.start, node.end) if node is not None and not node.spec.unknown else None
