"""Numbers at many offsets as evidence compares them: as float64, in every storage a number is looked for in.

Whole numbers of eight bytes are exact up to 2**53; no game shows larger ones.
"""

from __future__ import annotations

from fractions import Fraction
from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.storage import NUMBERS, SWITCHES, Float, WholeNumber

__all__ = ["FEW_SCALES", "SCALES", "STORAGES", "Array", "read_numbers", "words_at"]

Array: TypeAlias = np.ndarray[Any, Any]
STORAGES = NUMBERS | SWITCHES
SCALES = tuple(map(Fraction, ("1", "10", "100", "256", "65536", "1/10", "1/100")))
# Of storages that are written digit by digit, or in as many bytes as they need.
FEW_SCALES = {"packed": SCALES[:3], "variable": SCALES[:3], "digits": SCALES[:3], "unpacked": SCALES[:1]}
LEAST, MOST = 1e-9, 1e15  # fractions beyond these are other bytes that happen to read as one


def read_numbers(storage: WholeNumber | Float, data: Array, offsets: Array) -> tuple[Array, Array]:
    """The values as float64, and a mask of the offsets where a sensible one begins."""
    values, begins = storage.column(data, offsets) or (np.zeros(offsets.size), np.zeros(offsets.size, bool))
    if not isinstance(storage, Float):
        return values.astype(np.float64), begins
    with np.errstate(invalid="ignore", over="ignore"):  # any byte pattern may come; a signalling NaN is one of them
        numbers = values.astype(np.float64)
        sensible = np.isfinite(numbers) & ((numbers == 0) | ((np.abs(numbers) > LEAST) & (np.abs(numbers) < MOST)))
    return np.where(sensible, numbers, 0), begins & sensible


def words_at(storage: WholeNumber | Float, data: Array, offsets: Array) -> Array:
    """The bits of what stands at offsets, of storages that every byte pattern is a number of."""
    column = storage.column(data, offsets)
    assert column is not None
    words: Array = column[0].astype(np.uint64)
    return words
