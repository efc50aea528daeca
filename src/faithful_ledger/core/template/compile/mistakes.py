"""What compiling works on and reports: keys, and mistakes with the way to the key they are about."""

from __future__ import annotations

from typing import Any, TypeAlias

from faithful_ledger.core.template.yaml_text import Where

__all__ = ["MOST_HINTS", "MOST_KNOWN", "Keys", "Mistakes", "Where"]

Keys: TypeAlias = dict[str, Any]
Mistakes: TypeAlias = list[tuple[Where, str]]

MOST_HINTS = 40
MOST_KNOWN = 2_000  # names that a mistyped one is compared with
