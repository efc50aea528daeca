"""Numbers the game shows otherwise than it stores them: stored = shown × scale + bias."""

from __future__ import annotations

import re
from fractions import Fraction
from typing import TYPE_CHECKING, Literal, TypeAlias

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.storage.base import Value, Wrapping
from faithful_ledger.core.storage.json_values import JsonNumber
from faithful_ledger.core.storage.numbers import Float, WholeNumber, parse_float, parse_whole
from faithful_ledger.core.storage.spelled import SpelledNumber

if TYPE_CHECKING:
    from faithful_ledger.core.storage.base import Array

__all__ = ["Number", "Scaled", "parse_fraction"]

Number: TypeAlias = WholeNumber | Float | JsonNumber | SpelledNumber
EXACT = 1 << 53  # whole numbers up to here are exact as floats

FRACTION = re.compile(r"-?[0-9]{1,30}(\.[0-9]{1,30})?(e-?[0-9]{1,2})?(/[0-9]{1,30})?")


def parse_fraction(text: str) -> Fraction | None:
    """A scale or a bias as templates write it: `100`, `0.1` or `1/3`; None where it is not such a number."""
    if not FRACTION.fullmatch(text):
        return None
    number, _, below = text.partition("/")
    if below and not int(below):
        return None
    return Fraction(number) / int(below or 1)


class Scaled(Wrapping[Number]):
    """A number as the game shows it. With `rounding` the game shows only the whole part (`floor`) or the nearest whole
    number; what is entered then is stored as exactly that number.
    """

    def __init__(
        self, number: Number, scale: Fraction, bias: Fraction, rounding: Literal["floor", "nearest"] | None
    ) -> None:
        super().__init__(number)
        self.scale, self.bias, self.rounding = scale, bias, rounding
        self.about = f"{number.about}; stored = shown × {_short(scale)}" + (f" + {_short(bias)}" if bias else "")

    def column(self, data: Array, at: Array) -> tuple[Array, Array] | None:
        """As float64 where the scale makes fractions of whole numbers; None where float64 would not be exact."""
        import numpy as np

        stored = self.number.column(data, at)
        if stored is None or stored[0].dtype.kind == "f":
            return None
        numbers, inside = stored
        up, down = self.scale.denominator * self.bias.denominator, self.scale.numerator * self.bias.denominator
        shift = self.bias.numerator * self.scale.denominator
        largest = (
            max((abs(int(extreme)) for extreme in (numbers.min(), numbers.max())), default=0) if numbers.size else 0
        )
        if largest * up + abs(shift) >= EXACT or abs(down) >= EXACT:
            return None
        shown = (numbers.astype(np.int64) * up - shift) / down
        if self.rounding is None:
            return shown, inside
        above = numbers.astype(np.int64) * up - shift
        if self.rounding == "nearest":
            above, down = 2 * above + down, 2 * down
        return above // down, inside

    def decode(self, raw: bytes) -> int | float:
        stored = self.number.decode(raw)
        if isinstance(stored, float) and (stored != stored or abs(stored) == float("inf")):
            return stored
        shown = (Fraction(stored) - self.bias) / self.scale
        if self.rounding is not None:
            return shown.__floor__() if self.rounding == "floor" else (shown + Fraction(1, 2)).__floor__()
        return int(shown) if shown.denominator == 1 else float(shown)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise ValueRefused(f"{value!r} is not a number", "enter one")
        if value != value or abs(value) == float("inf"):
            return self.number.encode(value, old)
        exact = Fraction(repr(value) if isinstance(value, float) else value) * self.scale + self.bias
        if exact.denominator == 1:
            return self._stored(int(exact), value, old)
        if self._keeps_fractions:
            return self._stored(float(exact), value, old)
        nearest = round(exact)
        raw = self._stored(nearest, value, old)
        if self.decode(raw) != value:
            shown = _short((Fraction(nearest) - self.bias) / self.scale)
            raise ValueRefused(
                f"{value} would be stored as {_short(exact)}, which is not a whole number", f"{shown} would fit"
            )
        return raw

    def _stored(self, stored: int | float, value: Value, old: bytes) -> bytes:
        try:
            return self.number.encode(stored, old)
        except ValueRefused as error:
            raise ValueRefused(f"{value} is stored as {stored}: {error.what}", error.remedy) from error

    @property
    def _keeps_fractions(self) -> bool:
        return isinstance(self.number, Float | JsonNumber)

    def to_text(self, value: Value) -> str:
        return repr(value) if isinstance(value, float) else str(value)

    def from_text(self, text: str, old: Value = None) -> int | float:
        cleaned = text.strip().replace("−", "-")
        try:
            value: int | float = parse_whole(cleaned)
        except ValueRefused:
            value = parse_float(cleaned)
        self.encode(value)
        return value


def _short(number: Fraction) -> str:
    if number.denominator == 1:
        return str(number.numerator)
    below = number.denominator
    while below % 2 == 0:
        below //= 2
    while below % 5 == 0:
        below //= 5
    return repr(float(number)) if below == 1 else str(number)
