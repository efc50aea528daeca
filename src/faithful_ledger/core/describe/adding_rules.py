"""Rules put into a template, as those that keep fields equal."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from faithful_ledger.core.template.rewriting import YamlText

__all__ = ["add_rule", "keep_equal"]


def keep_equal(template: bytes, path: str, other: str) -> bytes:
    """A template with a rule that a field of it says what another one does."""
    text = YamlText(template)
    add_rule(text, {"equal": [path, other]})
    return bytes(text)


def add_rule(text: YamlText, rule: Mapping[str, Any]) -> None:
    """Put a rule behind the others of a template."""
    if text.has(("rules",)):
        text.insert(("rules",), len(text.value(("rules",)) or []), rule)
    else:
        text.set(("rules",), [rule])
