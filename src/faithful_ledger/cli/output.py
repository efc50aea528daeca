"""What commands print: one JSON document, or words in tables.

A save or a template may come from a stranger: control characters, and letters that turn the direction of the text,
never reach the terminal as they are. What the output's encoding does not have is written as an escape.
"""

from __future__ import annotations

import json
import math
import re
import sys
from collections.abc import Iterable
from functools import cache
from typing import Any

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.storage import Value

__all__ = [
    "field_json",
    "json_value",
    "plain",
    "print_json",
    "print_table",
    "safe",
    "say",
    "shown",
    "side_json",
    "stream_json",
    "warn",
]

LONGEST_RAW = 64
TURNING = "\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ufeff"
UNSAFE = re.compile(f"[\x00-\x1f\x7f-\x9f{TURNING}\ud800-\udfff]")
UNSAFE_IN_JSON = re.compile(f"[\x7f-\x9f{TURNING}\ud800-\udfff]")


def safe(text: str) -> str:
    """A text in one line, with what could steer a terminal as escapes."""
    return UNSAFE.sub(lambda match: _escape(ord(match[0])), text)


def _escape(code: int) -> str:
    return f"\\x{code:02x}" if code < 256 else f"\\u{code:04x}"


def say(text: str, *, at_once: bool = False) -> None:
    """One line on standard output."""
    print(safe(text), flush=at_once)


def warn(text: str) -> None:
    """One line on standard error."""
    print(safe(text), file=sys.stderr)


@cache
def _encoder(ensure_ascii: bool, indent: int | None) -> json.JSONEncoder:
    return json.JSONEncoder(ensure_ascii=ensure_ascii, indent=indent)


def _dumps(document: Any, indent: int | None = None) -> str:
    wide = (getattr(sys.stdout, "encoding", None) or "utf-8").lower().replace("-", "").startswith("utf")
    text = _encoder(not wide, indent).encode(document)
    return UNSAFE_IN_JSON.sub(lambda match: f"\\u{ord(match[0]):04x}", text)


def print_json(document: Any, *, lines: bool = False) -> None:
    """A document; with `lines` in one line, at once."""
    print(_dumps(document, None if lines else 1), flush=lines)


def stream_json(head: dict[str, Any], key: str, items: Iterable[dict[str, Any]]) -> None:
    """One JSON object whose last member is a long list, written as it comes."""
    begin = _dumps(head)[:-1]
    sys.stdout.write(f'{begin}{", " if head else ""}"{key}": [')
    for number, item in enumerate(items):
        sys.stdout.write((",\n" if number else "\n") + _dumps(item))
    sys.stdout.write("\n]}\n")


def field_json(node: FieldNode) -> dict[str, Any]:
    return {
        "path": node.path,
        "value": json_value(node),
        "offset": node.start,
        "size": node.size,
        "stored_as": node.spec.storage.name,
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
        return node.spec.storage.to_text(node.value)
    except ValueRefused:
        return "✕ cannot be read"


def print_table(title: str, head: tuple[str, ...], rows: Iterable[tuple[str, ...]]) -> None:
    from rich.console import Console
    from rich.markup import escape
    from rich.table import Table

    table = Table(title=escape(safe(title)), title_justify="left", box=None, pad_edge=False)
    for column in head:
        table.add_column(column, overflow="fold")
    for row in rows:
        table.add_row(*(escape(safe(cell)) for cell in row))
    Console(soft_wrap=not sys.stdout.isatty(), width=None if sys.stdout.isatty() else 160).print(table)
