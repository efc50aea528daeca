"""What follows from files that are carried: values of files that are shared with other saves, and the verdict on all.

The files as they will be are bound as a stranger would bind them.
"""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path
from typing import TypeAlias

from faithful_ledger.core.balance import due_by_name
from faithful_ledger.core.binding import FieldNode, settle
from faithful_ledger.core.carry.plan import Carry
from faithful_ledger.core.edits import Cause, Replacement
from faithful_ledger.core.errors import EntryError, LedgerError
from faithful_ledger.core.opening import save_of
from faithful_ledger.core.posting.outcome import shown_then
from faithful_ledger.core.save import Save
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage import Value, encoded
from faithful_ledger.core.template import Template

__all__ = ["Files", "Shared", "followed", "judge", "shared_after"]

Files: TypeAlias = dict[str, tuple[Path, Source]]  # by their names in the template
Shared: TypeAlias = dict[str, tuple[Path, Source, Source]]  # the same, as they are and as they will be


def shared_after(template: Template, own: Files, known: Files, roots: Mapping[str, Path]) -> Shared:
    """The shared files with the values that have to say what those of a save's own files say."""
    return followed(template, own, {name: (path, old, old) for name, (path, old) in known.items()}, roots)


def followed(template: Template, own: Files, shared: Shared, roots: Mapping[str, Path]) -> Shared:
    """The same for files that have changed already."""
    result = save_of(template, own | {name: (path, new) for name, (path, _, new) in shared.items()}, roots=roots)
    changes: dict[str, list[Replacement]] = {}

    def say(node: FieldNode, value: Value | None) -> None:
        if node.file in shared and value is not None and value != node.value:
            data, cause = encoded(node.spec.storage, value, node.raw), Cause("rule", node.path)
            changes.setdefault(node.file, []).append(Replacement(node.start, node.end, data, (cause,), node))

    for rule in template.rules:
        with suppress(LedgerError, ValueError):
            (left,), (right,) = result.fields(rule.left), result.fields(rule.right)
            for leading, node in ((left, right), (right, left)):
                if leading.file not in shared:
                    say(node, leading.value)
    for named in template.name_rules:
        with suppress(LedgerError, ValueError, KeyError):
            (node,) = result.fields(named.path)
            say(node, due_by_name(named, node, result.files[named.file or node.file].path))
    found = dict(shared)
    for name, items in changes.items():
        path, old, _ = shared[name]
        bound = result.files[name].bound
        if bound is not None and bound.problem is None:
            found[name] = (path, old, settle(bound, items, outer=result.root).patched)
    return found


def judge(carry: Carry, template: Template, own: Files, shared: Shared, roots: Mapping[str, Path]) -> Save:
    """Gather what does not hold in the result. Returns the save as it will be.

    Raises:
        EntryError: it would not be read at all.
    """
    result = save_of(template, own | {name: (path, new) for name, (path, _, new) in shared.items()}, roots=roots)
    if result.problem is not None:
        raise EntryError(f"{carry.about}: it would not be read: {result.problem.what}", "nothing was written")
    carry.findings += [finding for finding in result.findings if finding.level == "error"]
    carry.findings += result.of_another_version
    carry.broken += [state.name for state in result.broken_seals]
    carry.steps = template.steps
    carry.look_for += shown_then(template, result)
    return result
