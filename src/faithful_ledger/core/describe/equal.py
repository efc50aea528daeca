"""Rules that keep fields equal, put into a template."""

from __future__ import annotations

from faithful_ledger.core.template.rewriting import YamlText

__all__ = ["keep_equal"]


def keep_equal(template: bytes, path: str, other: str) -> bytes:
    """A template with a rule that a field of it says what another one does."""
    text = YamlText(template)
    rule = {"equal": [path, other]}
    if text.has(("rules",)):
        text.insert(("rules",), len(text.value(("rules",)) or []), rule)
    else:
        text.set(("rules",), [rule])
    return bytes(text)
