"""What commands print: one JSON document, or words in tables."""

from __future__ import annotations

import json
import math
import sys
from collections.abc import Iterable
from typing import Any

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.codecs import Value
from faithful_ledger.core.errors import ValueRefused

__all__ = ["field_json", "json_value", "plain", "print_json", "print_table", "shown", "side_json", "stream_json"]

LONGEST_RAW = 64


def print_json(document: Any) -> None:
    print(json.dumps(document, ensure_ascii=False, indent=1))


def stream_json(head: dict[str, Any], key: str, items: Iterable[dict[str, Any]]) -> None:
    """One JSON object whose last member is a long list, written as it comes."""
    sys.stdout.write(json.dumps(head, ensure_ascii=False)[:-1] + f', "{key}": [')
    for number, item in enumerate(items):
        sys.stdout.write((",\n" if number else "\n") + json.dumps(item, ensure_ascii=False))
    sys.stdout.write("\n]}\n")


def field_json(node: FieldNode) -> dict[str, Any]:
    return {
        "path": node.path,
        "value": json_value(node),
        "offset": node.start,
        "size": node.size,
        "stored_as": node.spec.codec.name,
        "file": node.file,
    }


def json_value(node: FieldNode) -> Value | list[str]:
    if node.spec.unknown:
        return node.raw.hex(" ").upper() if node.size <= LONGEST_RAW else None
    try:
        value = node.value
    except ValueRefused:
        return None
    if isinstance(value, tuple):
        return list(value)
    return str(value) if isinstance(value, float) and not math.isfinite(value) else value


def side_json(node: FieldNode | None) -> Any:
    return json_value(node) if node is not None else None


def plain(value: Value) -> Any:
    return list(value) if isinstance(value, tuple) else value


def shown(node: FieldNode) -> str:
    try:
        return node.spec.codec.to_text(node.value)
    except ValueRefused:
        return "▲ cannot be read"


def print_table(title: str, head: tuple[str, ...], rows: Iterable[tuple[str, ...]]) -> None:
    from rich.console import Console
    from rich.markup import escape
    from rich.table import Table

    table = Table(title=title, title_justify="left", box=None, pad_edge=False)
    for column in head:
        table.add_column(column, overflow="fold")
    for row in rows:
        table.add_row(*map(escape, row))
    Console(soft_wrap=not sys.stdout.isatty(), width=None if sys.stdout.isatty() else 160).print(table)
