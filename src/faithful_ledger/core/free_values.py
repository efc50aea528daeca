"""Every value of the binary files of a save that a person may enter, and its path with records by their keys.

What the structure hangs on is not among them: the key of a record, which is in the path, and tags that conditions ask
for; they are changed where bytes are described.
"""

from __future__ import annotations

from collections.abc import Iterator

from faithful_ledger.core.address import Step, format_path
from faithful_ledger.core.binding import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.binding.spans import all_fields
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.save import Save
from faithful_ledger.core.template.model import GroupSpec, RowsSpec

__all__ = ["free_values", "keyed_path"]


def free_values(save: Save) -> Iterator[FieldNode]:
    """The values in the order of the files and of their bytes; records that hold nothing are left out."""
    asked: dict[int, set[str]] = {}  # by the layouts of groups
    for file in save.files.values():
        if file.bound is not None and file.problem is None and not file.bound.document.knows_ends:
            for node in all_fields(file.bound.root, _holds_something):
                if node.spec.is_free and not _is_asked(node, asked):
                    yield node


def _holds_something(group: GroupNode) -> bool:
    """Whether it is not a place in rows that is free."""
    rows = group.parent
    return not (isinstance(rows, RowsNode) and rows.is_empty(group))


def _is_asked(node: FieldNode, asked: dict[int, set[str]]) -> bool:
    """Whether the field is the key of its record, or a condition beside it or in a group there asks for it."""
    holder = node.parent
    while isinstance(holder, GroupNode):
        if id(holder.spec.layout) not in asked:
            asked[id(holder.spec.layout)] = _asked_for(holder.spec)
        if node.spec.name in asked[id(holder.spec.layout)]:
            return True
        if not holder.spec.flat or holder.index is not None:
            break
        holder = holder.parent
    while isinstance(holder, GroupNode) and holder.index is None:
        holder = holder.parent
    return isinstance(holder, GroupNode) and holder.key_field is node


def _asked_for(spec: GroupSpec) -> set[str]:
    """The names that conditions in a group ask for, also those within it, but not in records like the one it is in."""
    found: set[str] = set()
    stack = list(spec.layout)
    while stack:
        element = stack.pop()
        if element.when is not None:
            found |= {name.partition(".")[0] for name in element.when.names}
        if isinstance(element, GroupSpec):
            stack += element.layout
        elif isinstance(element, RowsSpec) and not element.holds_itself and isinstance(element.item, GroupSpec):
            stack += element.item.layout
    return found


def keyed_path(node: Node) -> str:
    """The path of an element, with each record by its key where it has one that no other record has."""
    steps: list[Step] = []
    part: Node = node
    while part.parent is not None:
        if part.index is not None:
            steps.append(_record_step(part))
        elif not (isinstance(part, GroupNode) and part.spec.flat):
            steps.append(Step(name=part.spec.name))
        part = part.parent
    if part.spec.name:
        steps.append(Step(name=part.spec.name))
    return format_path(tuple(reversed(steps)))


def _record_step(record: Node) -> Step:
    rows, key = record.parent, record.key_field if isinstance(record, GroupNode) else None
    if key is not None and isinstance(rows, RowsNode) and not rows.spec.key_may_repeat:
        try:
            return Step(key=key.spec.name, value=key.spec.storage.to_text(key.value))
        except LedgerError:
            pass
    return Step(index=record.index)
