"""Bounds and rules: what the game accepts, checked over a whole save."""

from faithful_ledger.core.rules.audit import Finding, audit, double_keys, keyed_rows

__all__ = ["Finding", "audit", "double_keys", "keyed_rows"]
