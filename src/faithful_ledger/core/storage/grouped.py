"""Numbers in a text as people or programs write them there: with their thousands apart, 15,345 or 15 345, or with an
exponent, 1.5345e4.
"""

from __future__ import annotations

import re
from decimal import Decimal, InvalidOperation

__all__ = ["grouped_number", "with_exponent_like", "written_like"]

GROUPED = re.compile(r"-?[0-9]{1,3}(?:([,'’ \u00a0\u202f])[0-9]{3}(?:\1[0-9]{3})*)?")
PLAIN = re.compile(r"-?[0-9]{1,18}")
PLAIN_OR_FRACTION = re.compile(r"-?[0-9]{1,18}(?:\.[0-9]{1,18})?")
WITH_EXPONENT = re.compile(r"-?([0-9]{1,18})(?:\.([0-9]{1,18}))?([eE])([+-]?)([0-9]{1,2})")


def grouped_number(text: str) -> int | None:
    """The number that a text says with its thousands apart, also one that is too small for that; None for others."""
    plain = text.strip()
    if GROUPED.fullmatch(plain) is None:
        return None
    return int("".join(filter(str.isdigit, plain))) * (-1 if plain.startswith("-") else 1)


def written_like(text: str, old: object) -> str:
    """A text; if it is a plain number in place of one with its thousands apart, or with an exponent, in that style."""
    if not isinstance(old, str):
        return text
    if (found := WITH_EXPONENT.fullmatch(old.strip())) and PLAIN_OR_FRACTION.fullmatch(text):
        return with_exponent_like(Decimal(text), *found.groups(default=""))
    before = GROUPED.fullmatch(old.strip())
    if before is None or before[1] is None or PLAIN.fullmatch(text) is None:
        return text
    return f"{int(text):,}".replace(",", before[1])


def with_exponent_like(exact: Decimal, front: str, decimals: str, mark: str, sign: str, digits: str) -> str:
    """A number with as many digits in front of the point as an old one, at least its decimals, and its way of writing
    the exponent.
    """
    power = exact.adjusted() - (len(front) - 1) if exact else 0
    number = (exact.scaleb(-power) if exact else exact).normalize()
    try:
        padded = number.quantize(Decimal(1).scaleb(-len(decimals)))
    except InvalidOperation:
        padded = number
    shown = "-" if power < 0 else "+" if sign == "+" else ""
    return f"{padded if padded == number else number:f}{mark}{shown}{abs(power):0{len(digits)}d}"
