"""Kept copies: objects by content, written once."""

from faithful_ledger.core.vault.objects import ObjectStore

__all__ = ["ObjectStore"]
