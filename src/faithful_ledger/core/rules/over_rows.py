"""Rules over records: what a column adds up to, values that may not repeat, and values that have to be elsewhere."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress
from typing import TypeAlias

from faithful_ledger.core.binding import FieldNode, Node, RowsNode
from faithful_ledger.core.errors import AddressError, LedgerError
from faithful_ledger.core.rules.audit import Finding
from faithful_ledger.core.template.model import RowRule

__all__ = ["row_findings", "sum_of"]

Nodes: TypeAlias = Callable[[str], list[Node]]  # what a path leads to
MOST_REPORTED = 5


def row_findings(rules: tuple[RowRule, ...], nodes: Nodes) -> Iterator[Finding]:
    """What breaks the rules; one that cannot be checked in this save is a warning."""
    for rule in rules:
        try:
            broken = list(_broken(rule, nodes))
        except LedgerError as error:
            yield Finding(rule.column, "warning", f"the rule over {rule.column} is not checked: {error.what}")
            continue
        for path, text in broken[:MOST_REPORTED]:
            yield Finding(path, "error", f"{text}{f'; {rule.why}' if rule.why else ''}")
        if len(broken) > MOST_REPORTED:
            yield Finding(rule.column, "error", f"and {len(broken) - MOST_REPORTED} more like these")


def sum_of(rule: RowRule, nodes: Nodes) -> int:
    """What a column adds up to.

    Raises:
        LedgerError: it has values that are not whole numbers.
    """
    return sum(node.number for node in _fields(nodes, rule.column))


def _broken(rule: RowRule, nodes: Nodes) -> Iterator[tuple[str, str]]:
    """The paths of values that break a rule, and how."""
    if rule.kind == "sum":
        (total,) = _fields(nodes, rule.other)
        due = sum_of(rule, nodes)
        if total.number != due:
            yield total.path, f"it says {total.number}, and {rule.column} adds up to {due}"
    elif rule.kind == "unique":
        first: dict[object, str] = {}
        for node in _fields(nodes, rule.column):
            before = first.setdefault(_said(node), node.path)
            if before != node.path:
                yield node.path, f"it says {_said(node)} like {before}; no two may"
    else:
        known, words = _known(rule, nodes)
        for node in _fields(nodes, rule.column):
            if _said(node) not in known and str(_said(node)) not in rule.besides:
                yield node.path, f"it says {_said(node)}, which is {words}"


def _known(rule: RowRule, nodes: Nodes) -> tuple[set[object], str]:
    """The values that a reference may have: numbers of records, or what a column says; and what is said of others."""
    found = nodes(rule.other)
    if len(found) == 1 and isinstance(found[0], RowsNode):
        count, begin = found[0].count, rule.first
        span = f" ({begin} to {begin + count - 1})" if count else ", and there are none"
        return set(range(begin, begin + count)), f"not the number of a record of {rule.other}{span}"
    return {_said(node) for node in found if isinstance(node, FieldNode)}, f"not among {rule.other}"


def _fields(nodes: Nodes, path: str) -> list[FieldNode]:
    found = [node for node in nodes(path) if not _is_in_empty(node)]
    wrong = next((node for node in found if not isinstance(node, FieldNode)), None)
    if wrong is not None:
        raise AddressError(f"{wrong.path} is not a field with a value", "")
    return [node for node in found if isinstance(node, FieldNode)]


def _is_in_empty(node: Node) -> bool:
    """Whether a field is in a record that holds nothing."""
    record = node.record
    rows = record.parent if record is not None else None
    return record is not None and isinstance(rows, RowsNode) and rows.is_empty(record)


def _said(node: FieldNode) -> object:
    """The whole number behind a value, or else the value."""
    with suppress(LedgerError):
        return node.number
    return node.value
