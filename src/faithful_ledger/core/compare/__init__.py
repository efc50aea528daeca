"""Comparing two snapshots: bytes that changed, moved, were inserted or removed, and fields that say something else."""

from faithful_ledger.core.compare.align import Alignment, Difference, Run, align
from faithful_ledger.core.compare.fields import FieldDifference, field_differences
from faithful_ledger.core.compare.noise import Noise

__all__ = ["Alignment", "Difference", "FieldDifference", "Noise", "Run", "align", "field_differences"]
