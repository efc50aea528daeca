"""All storages of numbers, by their names. A new kind of number is a module with `named`, listed here."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from functools import lru_cache
from typing import NamedTuple

from faithful_ledger.core.storage import bits, digits, leb128, numbers, packed, sized
from faithful_ledger.core.storage.base import Order
from faithful_ledger.core.storage.numbers import Float, WholeNumber

__all__ = ["NUMBERS", "SWITCHES", "Spelling", "number_storage", "spellings"]

MODULES = (numbers, packed, leb128, sized, digits, bits)
# The plainest first: of two that hold the same number in the same bytes, the first one names them.
NAMES = (
    *(f"{kind}{size}{order}" for size in (32, 16) for order in ("le", "be") for kind in "ui"),
    *("u8", "i8"),
    *(f"{kind}{size}{order}" for size in (64, 24) for order in ("le", "be") for kind in "ui"),
    *("f32le", "f32be", "f64le", "f64be"),
    *(f"bcd{size}{order}" for size in range(1, 9) for order in ("", "le") if size > 1 or not order),
    *(f"unpacked{size}{order}" for size in range(2, 9) for order in ("", "le")),
    *("uleb128", "sleb128", "zigzag", "vlq", "sized-high", "sized-low", "sized-front", "digits", "digits-utf16le"),
)


class Spelling(NamedTuple):
    stored_as: str
    data: bytes


@lru_cache(maxsize=512)
def number_storage(name: str, order: Order = "little") -> WholeNumber | Float | None:
    """The storage a name such as `u32`, `f64be`, `bcd3` or `uleb128` stands for; None where it is not a known name.

    Where a name says nothing about the order of bytes, `order` counts.
    """
    for module in MODULES:
        found: WholeNumber | Float | None = module.named(name, order)
        if found is not None:
            return found
    return None


def _made(names: tuple[str, ...]) -> dict[str, WholeNumber | Float]:
    return {name: storage for name in names if (storage := number_storage(name)) is not None}


# In these, a number nobody has described is looked for.
NUMBERS = _made(NAMES)


def number_at(content: bytes, at: int, storage: str) -> int | None:
    """The whole number at an offset; None where there is none."""
    raw = content[at : at + NUMBERS[storage].least_size] if at >= 0 else b""
    return int(NUMBERS[storage].decode(raw)) if len(raw) == NUMBERS[storage].least_size else None


SWITCHES = {f"bit{bit}": bits.BitRange(numbers.Integer(1, False, "little"), bit, 1) for bit in range(8)}


def spellings(number: Fraction, signed: bool | None = None) -> Iterator[Spelling]:
    """A number in each storage that can hold it.

    Two's complement and plain whole numbers are written alike as far as both hold a number: without `signed`, those
    without a sign stand for both unless it is below zero.
    """
    wanted = number < 0 if signed is None else signed
    for name, storage in NUMBERS.items():
        if storage.family == ("whole" if wanted else "signed"):
            continue
        data = storage.spell(number)
        if data is not None:
            yield Spelling(name, data)
