"""Which quantities of a save are pinned in its template."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.evidence.pinned import Pinned
from faithful_ledger.core.save import Save, SaveFile
from faithful_ledger.core.template.model import PINNED

__all__ = ["pinned_in"]


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
