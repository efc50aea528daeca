"""Field paths: `group.field`, `crew[2].air`, `crew[name=Tamsin].air`, `hold[*].wear`.

A name that would not read as one step is put into quotation marks: `"player.gold"`, with `\\"` and `\\\\` in it.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from faithful_ledger.core.errors import AddressError

__all__ = ["TEXT", "Step", "format_name", "format_path", "name_in_text", "parse_path", "split_outside_quotes"]

QUOTED = r'"(?P<{0}>(?:[^"\\]|\\.)*+)"'
STEP = re.compile(
    r"(?P<dot>\.)?(?:" + QUOTED.format("quoted") + r'|(?P<name>[^.\[\]"]+))'
    r"|\[(?:" + QUOTED.format("quoted_key") + r'|(?P<key>[^\[\]="]*?))(?:=(?P<value>(?:[^\]\\]|\\.)*+))?\]',
    re.DOTALL,
)
TEXT = "(text)"  # behind the path of a string whose content a path goes on in
IN_BRACKETS = re.compile(r"\d+|\*")
PLAIN_NAME = re.compile(r'[^\s.\[\]"\\{}()=](?:[^.\[\]"\\{}()=]*[^\s.\[\]"\\{}()=])?')


@dataclass(frozen=True, slots=True)
class Step:
    """One step of a path: a `name`; an `index`; every item (`every`); or the item whose `key` equals `value`."""

    name: str | None = None
    index: int | None = None
    every: bool = False
    key: str | None = None
    value: str | None = None


def parse_path(text: str) -> tuple[Step, ...]:
    """Raises AddressError, with the column, when `text` is not a path."""
    steps: list[Step] = []
    at = 0
    while at < len(text):
        if steps and text.startswith(TEXT, at):  # of an item of a list; that of a name is a part of it
            steps.append(Step(name=TEXT))
            at += len(TEXT)
            continue
        match = STEP.match(text, at)
        named = match is not None and (match["name"] is not None or match["quoted"] is not None)
        if match is None or (named and bool(match["dot"]) != bool(steps)):
            raise _no_path(text, at)
        key = _unquoted(match["quoted_key"]) if match["quoted_key"] is not None else (match["key"] or "").strip()
        if named:
            quoted = match["quoted"]
            steps.append(Step(name=_unquoted(quoted) if quoted is not None else match["name"].strip()))
        elif match["value"] is not None and (key or match["quoted_key"] is not None):
            steps.append(Step(key=key, value=_unquoted(match["value"])))
        elif match["value"] is None and match["key"] is not None and IN_BRACKETS.fullmatch(key) and len(key) < 19:
            steps.append(Step(every=True) if key == "*" else Step(index=int(key)))
        else:
            raise _no_path(text, at)
        at = match.end()
    if not steps:
        raise _no_path(text, 0)
    return tuple(steps)


def name_in_text(path: str) -> str:
    """What the value at a path is called in its text: an attribute without `@`, the text of an element as that."""
    steps = [step for step in parse_path(path) if step.name != "#text"]
    last = steps[-1] if steps else Step()
    return (last.name or last.value or str(last.index)).removeprefix("@")


def _no_path(text: str, at: int) -> AddressError:
    return AddressError(
        f"“{text[:80]}” is not a path of a field (stopped at character {at + 1})",
        "write it like purse.marks, crew[2].air, crew[name=Tamsin].air or hold[*].wear",
    )


def _unquoted(text: str) -> str:
    return re.sub(r"\\(.)", r"\1", text, flags=re.DOTALL)


def format_name(name: str) -> str:
    """A name as a step of a path, in quotation marks where it would not be read as one."""
    return name if PLAIN_NAME.fullmatch(name) else '"' + re.sub(r'(["\\])', r"\\\1", name) + '"'


def format_path(steps: tuple[Step, ...]) -> str:
    parts: list[str] = []
    for step in steps:
        if step.name is not None:
            parts.append(("." if parts else "") + format_name(step.name))
        elif step.every:
            parts.append("[*]")
        elif step.index is not None:
            parts.append(f"[{step.index}]")
        else:
            value = re.sub(r"([\]\\])", r"\\\1", step.value or "")
            parts.append(f"[{format_name(step.key or '')}={value}]")
    return "".join(parts)


def split_outside_quotes(text: str, mark: str) -> list[str]:
    """The parts of a text between the marks that are not within quotation marks."""
    parts, last = [], 0
    for match in re.finditer(r'"(?:[^"\\]|\\.)*+"|' + re.escape(mark), text, re.DOTALL):
        if match[0] == mark:
            parts.append(text[last : match.start()])
            last = match.end()
    return [*parts, text[last:]]
