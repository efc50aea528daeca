"""Seals: whatever a file says about its own wholeness."""

from faithful_ledger.core.seals.algorithms import ALGORITHMS, Algorithm, algorithm

__all__ = ["ALGORITHMS", "Algorithm", "algorithm"]
