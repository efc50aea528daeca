"""What the game showed for a quantity at a snapshot."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from itertools import pairwise
from math import log2
from typing import Any, Literal

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.storage.numbers import parse_decimal

__all__ = ["RELATIONS", "ROUNDINGS", "Sighting", "are_switches", "is_shown_as", "parse_sighting", "says_much"]

Kind = Literal["number", "text", "more", "less", "same", "changed", "any"]
LEAST_DISTINCT, ENOUGH_CHANGE = 3, 20.0  # numbers, and bits of their changes, that say much
LONGEST = 30  # digits of a number; longer ones are texts
ON, OFF = ("yes", "on", "true"), ("no", "off", "false")
ROUNDINGS = ("nearest", "floor")
RELATIONS = ("more", "less", "same", "changed")


@dataclass(frozen=True, slots=True)
class Sighting:
    """A number, a text, or how the quantity stood to the snapshot before. `any` says nothing. `decimals` are the digits
    of a number behind the point, as it was shown; fewer than none of one that ends in `k`. `scales` are by how much
    more games store of what is shown so.
    """

    kind: Kind
    number: Fraction | None = None
    text: str = ""
    decimals: int = field(default=0, compare=False)
    scales: tuple[Fraction, ...] = field(default=(), compare=False)

    @property
    def unit(self) -> float:
        """The step between numbers that can be shown so: 100, 1, 0.1, …"""
        return 10.0**-self.decimals

    @property
    def switched(self) -> bool | None:
        """Whether a text says that something is on; None where it says neither."""
        word = self.text.casefold() if self.kind == "text" else ""
        return True if word in ON else False if word in OFF else None

    def __str__(self) -> str:
        if self.number is not None:
            return str(self.number) if self.number.denominator == 1 else str(float(self.number))
        return self.text if self.kind == "text" else self.kind


def is_shown_as(stored: Any, sighting: Sighting, scale: float, rounding: str, hair: float) -> Any:
    """Whether a game that rounds shows a stored number, or each of an array of them, as what was seen; `hair` is by how
    much of a step a fraction may be off.
    """
    behind = (stored / scale - float(sighting.number or 0)) / sighting.unit
    low, high = (-hair, 1.0) if rounding == "floor" else (-0.5 - hair, 0.5 + hair)
    return (behind >= low) & (behind < high)


def are_switches(seen: Sequence[Sighting]) -> bool:
    """Whether all that was seen is yes or no, and both were."""
    states = {sighting.switched for sighting in seen if sighting.kind != "any"}
    return states == {True, False}


def says_much(numbers: Sequence[Fraction | None]) -> bool:
    """Whether whole numbers differ so much that hardly others change as they do."""
    whole = [int(number) for number in numbers if number is not None and number.denominator == 1]
    changes = sum(log2(abs(after - before) + 1) for before, after in pairwise(whole))
    return len(whole) == len(numbers) and len(set(whole)) >= LEAST_DISTINCT and changes >= ENOUGH_CHANGE


def parse_sighting(text: str) -> Sighting:
    """A sighting as people type it: a number (1340, 12.5, -3), one of the words, or any other text.

    A text that looks like a number or a word is put into quotes.

    Raises:
        ValueRefused: it is empty.
    """
    cleaned = text.strip()
    if not cleaned:
        raise ValueRefused("a sighting is empty", "write a number, a text, more, less, same, changed or any")
    if len(cleaned) >= 2 and cleaned[0] == cleaned[-1] == '"':
        return Sighting("text", text=cleaned[1:-1])
    if cleaned.casefold() in (*RELATIONS, "any"):
        return Sighting(cleaned.casefold())  # type: ignore[arg-type]
    number = parse_decimal(cleaned) if len(cleaned) <= LONGEST else None
    if number is None:
        return Sighting("text", text=cleaned)
    _, _, behind = cleaned.replace(",", ".").rpartition(".") if number.denominator != 1 else ("", "", "")
    return Sighting("number", number, decimals=sum(letter.isdigit() for letter in behind))
