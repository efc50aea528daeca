"""Numbers as games show them: `1,340`, `$1 340`, `1.2k`, `45%`, `87/120`, `1:02:30`, `2h 5m`.

What was typed for one quantity is read together: only all of it says whether a comma groups digits or is in front of
decimals, and what is a unit. Where that stays open there are several readings, the likeliest first.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import replace
from fractions import Fraction
from typing import TypeVar

from faithful_ledger.core.evidence.sightings import LONGEST, Sighting, parse_sighting

__all__ = ["OF_CLOCKS", "OF_PERCENT", "read_as", "readings"]

PARTS = re.compile(r"(?P<before>\D*?)(?P<body>[+\-−]?(?:(?<![^\W\d_])\.)?\d(?:.*\d)?)(?P<behind>\D*)")
SHARE = re.compile(r"(?P<part>.*\d)\s*(?:/|\bof\b)\s*\d.*")  # 87/120: of the two the first is the one that changes
NUMBER = r"(?P<sign>[+\-−]?)(?P<whole>\d{{1,3}}(?P<by>[{by}])(?:\d{{2,3}}(?P=by))*\d{{3}}|\d*)(?:{point}(?P<rest>\d+))?"
SPACES = " '’\u00a0\u202f"
POINT = re.compile(NUMBER.format(by=f",{SPACES}", point=r"\."))
COMMA = re.compile(NUMBER.format(by=f".{SPACES}", point=","))
CLOCK = re.compile(r"(?:(?:(?P<d>\d+)[.: ])?(?P<h>\d+):)?(?P<m>\d+):(?P<s>[0-5]\d)")
SPELLED = re.compile(
    r"(?=.*[dhs]|.*min)(?:(?P<d>\d+) ?d)?\s*(?:(?P<h>\d+) ?h)?\s*(?:(?P<m>\d+) ?m(?:in)?)?\s*(?:(?P<s>\d+) ?s)?"
)
SECONDS = {"d": 86400, "h": 3600, "m": 60, "s": 1}
POWERS = {"": 0, "k": 3, "m": 6, "b": 9, "t": 12}  # of ten, as games shorten large numbers
LONGEST_UNIT = 12
T = TypeVar("T")
OF_CLOCKS = tuple(map(Fraction, (60, 1000, 30, 50, 3600, 60_000)))  # frames and milliseconds; seconds of minutes
OF_PERCENT = (Fraction(255, 100), Fraction(128, 100), Fraction(256, 100))


def readings(texts: Sequence[str]) -> list[list[Sighting]]:
    """What people copied from the screen for one quantity, a text for each copy, in every way it may be meant.

    Raises:
        ValueRefused: one of the texts is empty.
    """
    alone = list(map(parse_sighting, texts))
    shown = {
        j: texts[j].strip()
        for j, sighting in enumerate(alone)
        if sighting.kind in ("number", "text") and not texts[j].strip().startswith('"')
    }
    found: list[list[Sighting]] = []
    for numbers in _readings(list(shown.values())):
        read = list(alone)
        for j, number in zip(shown, numbers, strict=True):
            read[j] = number
        if read not in found:
            found.append(read)
    kinds = {alone[j].kind for j in shown}
    if kinds == {"number"}:
        return [alone, *(read for read in found if read != alone)]
    if kinds == {"text"} and any(letter.isalpha() for letter in "".join(shown.values())):
        return [alone, *found]  # a name may end in a number, and a text is hardly ever found by chance
    return [*found, alone] if kinds == {"text"} or not found else found


def read_as(texts: Sequence[str], seen: Sequence[Sighting]) -> str:
    """A sentence about the first text that is not a number as it was typed, and was read as one; else nothing."""
    for text, sighting in zip(texts, seen, strict=True):
        if sighting.number is not None and sighting != parse_sighting(text):
            return f"“{text.strip()}” was read as {sighting}."
    return ""


def _readings(texts: Sequence[str]) -> Iterator[list[Sighting]]:
    """All of some texts as numbers of one notation, for each notation that reads them all."""
    for clock in (CLOCK, SPELLED):
        if times := _complete(_time(text, clock) for text in texts):
            smallest = min(SECONDS[unit] for time in times for unit in time)
            totals = (sum(SECONDS[unit] * count for unit, count in time.items()) for time in times)
            yield [Sighting("number", Fraction(total, smallest), scales=OF_CLOCKS) for total in totals]
    parts = _complete(PARTS.fullmatch(text) for text in texts)
    if not parts:
        return
    before, behind = ({part[name].strip() for part in parts} - {""} for name in ("before", "behind"))
    if len(before) > 1 or any(len(unit) > LONGEST_UNIT for unit in (*before, *behind)):
        return
    shortened = bool(behind) and all(unit.casefold() in POWERS for unit in behind)
    for powers in (POWERS, {}) if shortened and behind != {"m"} else ({}, POWERS) if shortened else ({},):
        if len(behind) > 1 and not powers:
            continue
        for notation in (POINT, COMMA):
            numbers = (
                _number(part["body"], notation, powers.get(part["behind"].strip().casefold(), 0)) for part in parts
            )
            if read := _complete(numbers):
                scales = OF_PERCENT if behind == {"%"} else ()
                yield [replace(number, scales=scales) for number in read]


def _complete(read: Iterator[T | None]) -> list[T]:
    """All of them, or none where one could not be read."""
    found = []
    for each in read:
        if each is None:
            return []
        found.append(each)
    return found


def _number(text: str, notation: re.Pattern[str], power: int) -> Sighting | None:
    share = SHARE.fullmatch(text)
    found = notation.fullmatch(share["part"] if share else text)
    if found is None or not (found["whole"] or found["rest"]) or len(text) > LONGEST:
        return None
    rest = found["rest"] or ""
    digits = re.sub(r"\D", "", found["whole"]) + rest
    number = Fraction(int(digits) * (-1 if found["sign"] in ("-", "−") else 1)) * Fraction(10) ** (power - len(rest))
    return Sighting("number", number, decimals=len(rest) - power)


def _time(text: str, clock: re.Pattern[str]) -> dict[str, int] | None:
    """The days, hours, minutes and seconds that are shown."""
    found = clock.fullmatch(text) if len(text) <= LONGEST else None
    return {unit: int(count) for unit, count in found.groupdict().items() if count} if found and found[0] else None
