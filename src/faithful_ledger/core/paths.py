"""Field paths: `group.field`, `crew[2].air`, `crew[name=Tamsin].air`, `hold[*].wear`."""

from __future__ import annotations

import re
from dataclasses import dataclass

from faithful_ledger.core.errors import AddressError

__all__ = ["Step", "format_path", "parse_path"]

STEP = re.compile(r"(?P<dot>\.)?(?P<name>[^.\[\]]+)|\[(?P<key>[^\[\]=]*?)(?:=(?P<value>(?:[^\]\\]|\\.)*))?\]")
IN_BRACKETS = re.compile(r"\d+|\*")


@dataclass(frozen=True, slots=True)
class Step:
    """One step of a path: a `name`; an `index`; every item (`every`); or the item whose `key` equals `value`."""

    name: str | None = None
    index: int | None = None
    every: bool = False
    key: str | None = None
    value: str | None = None


def parse_path(text: str) -> tuple[Step, ...]:
    """Raises AddressError, with the column, when `text` is no path."""
    steps: list[Step] = []
    at = 0
    while at < len(text):
        match = STEP.match(text, at)
        if match is None or (match["name"] is not None and bool(match["dot"]) != bool(steps)):
            raise _no_path(text, at)
        if match["name"] is not None:
            steps.append(Step(name=match["name"].strip()))
        elif match["value"] is not None and match["key"]:
            steps.append(Step(key=match["key"].strip(), value=re.sub(r"\\(.)", r"\1", match["value"])))
        elif match["value"] is None and IN_BRACKETS.fullmatch(match["key"]) and len(match["key"]) < 19:
            every = match["key"] == "*"
            steps.append(Step(every=True) if every else Step(index=int(match["key"])))
        else:
            raise _no_path(text, at)
        at = match.end()
    if not steps:
        raise _no_path(text, 0)
    return tuple(steps)


def _no_path(text: str, at: int) -> AddressError:
    return AddressError(
        f"“{text[:80]}” is no path of a field (stopped at character {at + 1})",
        "write it like purse.marks, crew[2].air, crew[name=Tamsin].air or hold[*].wear",
    )


def format_path(steps: tuple[Step, ...]) -> str:
    parts: list[str] = []
    for step in steps:
        if step.name is not None:
            parts.append(("." if parts else "") + step.name)
        elif step.every:
            parts.append("[*]")
        elif step.index is not None:
            parts.append(f"[{step.index}]")
        else:
            value = re.sub(r"([\]\\])", r"\\\1", step.value or "")
            parts.append(f"[{step.key}={value}]")
    return "".join(parts)
