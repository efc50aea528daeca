"""Bounds and rules: what the game bears, checked over a whole save."""

from faithful_ledger.core.rules.audit import Finding, audit, double_keys, keyed_repeats

__all__ = ["Finding", "audit", "double_keys", "keyed_repeats"]
