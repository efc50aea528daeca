"""Seals: whatever a file says about its own wholeness."""

from faithful_ledger.core.seals.algorithms import ALGORITHMS

__all__ = ["ALGORITHMS"]
