"""Seals: whatever a file says about its own wholeness."""

from faithful_ledger.core.seals.algorithms import ALGORITHMS, LENGTH, Algorithm, algorithm, own_bytes

__all__ = ["ALGORITHMS", "LENGTH", "Algorithm", "algorithm", "own_bytes"]
