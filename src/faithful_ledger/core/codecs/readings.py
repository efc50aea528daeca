"""Every sensible reading of the bytes at one place."""

from __future__ import annotations

import math
from typing import NamedTuple

from faithful_ledger.core.codecs.numbers import FloatCodec, IntegerCodec, Order
from faithful_ledger.core.source import Source

__all__ = ["Reading", "readings"]

LONGEST_TEXT = 24


class Reading(NamedTuple):
    """One way to read: in words, with the value low byte first and, where it differs, high byte first."""

    name: str
    low_first: str
    high_first: str


def readings(source: Source, start: int, end: int) -> list[Reading]:
    """Readings of the bytes from `start`; texts read the selected bytes, or a few more where only one is selected."""
    data = bytes(source.read(start, start + 8))
    found = [_whole(data, size) for size in (1, 2, 3, 4, 8) if size <= len(data)]
    found += [_float(data, size) for size in (4, 8) if size <= len(data)]
    if data:
        low, high = data[0] & 15, data[0] >> 4
        found.append(Reading("bits", f"{data[0]:08b}", ""))
        found.append(Reading("packed digits", f"{high}{low}" if low < 10 and high < 10 else "–", ""))
        chosen = bytes(source.read(start, min(end, start + LONGEST_TEXT) if end - start > 1 else start + LONGEST_TEXT))
        found.append(Reading("text", _text(chosen, "utf-8"), ""))
        found.append(Reading("text, 2 bytes a letter", _text(chosen[: len(chosen) & ~1], "utf-16-le"), ""))
    return found


def _whole(data: bytes, size: int) -> Reading:
    low, high = _signed(data[:size], "little"), _signed(data[:size], "big")
    return Reading("1 byte" if size == 1 else f"{size} bytes", low, high if size > 1 and high != low else "")


def _signed(raw: bytes, order: Order) -> str:
    plain, signed = (IntegerCodec(len(raw), sign, order).decode(raw) for sign in (False, True))
    return str(plain) if plain == signed else f"{plain} or {signed}"


def _float(data: bytes, size: int) -> Reading:
    low, high = FloatCodec(size, "little").decode(data[:size]), FloatCodec(size, "big").decode(data[:size])
    return Reading(f"fraction, {size} bytes", _short(low), _short(high))


def _short(value: float) -> str:
    sensible = value == 0 or (math.isfinite(value) and 1e-9 < abs(value) < 1e15)
    return f"{value:.7g}" if sensible else "–"


def _text(raw: bytes, encoding: str) -> str:
    text = raw.decode(encoding, "replace")
    shown = "".join(letter if letter.isprintable() and letter != "\ufffd" else "·" for letter in text)
    return shown.rstrip("·") or "–"
