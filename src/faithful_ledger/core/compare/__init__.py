"""Comparing two snapshots: bytes that changed, moved, were inserted or removed, and fields that say something else."""

from faithful_ledger.core.compare.align import Alignment, Difference, Run, align
from faithful_ledger.core.compare.fields import FieldDifference, field_differences
from faithful_ledger.core.compare.large import compare_sources
from faithful_ledger.core.compare.noise import Noise
from faithful_ledger.core.compare.sets import ComparedFile, compare_sets

__all__ = [
    "Alignment",
    "ComparedFile",
    "Difference",
    "FieldDifference",
    "Noise",
    "Run",
    "align",
    "compare_sets",
    "compare_sources",
    "field_differences",
]
