"""Seals: whatever a file says about its own wholeness."""

from faithful_ledger.core.seals.algorithms import ALGORITHMS, Algorithm, algorithm, own_bytes

__all__ = ["ALGORITHMS", "Algorithm", "algorithm", "own_bytes"]
