"""Every sensible reading of the bytes at one place."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import NamedTuple

from faithful_ledger.core.source import Source
from faithful_ledger.core.storage.base import Order, Storage
from faithful_ledger.core.storage.numbers import Float, Integer

__all__ = ["Reading", "readings"]

LONGEST_TEXT = 20
ORDERS: tuple[Order, ...] = ("little", "big")


class Reading(NamedTuple):
    """One way to read, in words, and what it gives; with a storage, `size` bytes can be typed so."""

    name: str
    text: str
    storage: Storage | None = None
    size: int = 0

    def typed(self, text: str, old: bytes) -> bytes:
        """The bytes that read as this text.

        Raises:
            ValueRefused: none do.
        """
        assert self.storage is not None
        return self.storage.encode(self.storage.from_text(text.replace("−", "-"), None), old)


def readings(source: Source, start: int, end: int) -> list[Reading]:
    """Readings of the bytes from `start`; texts read the selected bytes, or a few more where only one is selected.

    A number is shown with its sign only where the sign makes a difference, and high byte first only where that does.
    """
    data = bytes(source.read(start, start + 8))
    found = [reading for size in (1, 2, 3, 4, 8) if size <= len(data) for reading in _whole(data[:size])]
    found += [reading for size in (4, 8) if size <= len(data) for reading in _fractions(data[:size])]
    if data:
        low, high = data[0] & 15, data[0] >> 4
        found.append(Reading("bits", f"{data[0] >> 4:04b} {data[0] & 15:04b}"))
        found += [Reading("packed digits", f"{high}{low}")] if low < 10 and high < 10 else []
        chosen = bytes(source.read(start, min(end, start + LONGEST_TEXT) if end - start > 1 else start + LONGEST_TEXT))
        found.append(Reading("text", _text(chosen, "utf-8")))
        found.append(Reading("text, wide", _text(chosen[: len(chosen) & ~1], "utf-16-le")))
    return found


def _whole(raw: bytes) -> Iterator[Reading]:
    for order in ORDERS[: 1 if len(set(raw)) == 1 else 2]:
        storages = [Integer(len(raw), sign, order) for sign in (False, True)]
        plain, signed = (storage.decode(raw) for storage in storages)
        name = "1 byte" if len(raw) == 1 else f"{len(raw)} bytes"
        name = name if order == "little" else f"{name}, high first"
        yield Reading(name, str(plain), storages[0], len(raw))
        if signed != plain:
            yield Reading(f"{name}, signed", str(signed).replace("-", "−"), storages[1], len(raw))


def _fractions(raw: bytes) -> Iterator[Reading]:
    for order in ORDERS:
        storage = Float(len(raw), order)
        value = storage.decode(raw)
        if math.isfinite(value) and 1e-6 < abs(value) < 1e12:
            words = "" if order == "little" else ", high first"
            yield Reading(f"fraction {len(raw)}{words}", f"{value:.7g}".replace("-", "−"), storage, len(raw))


def _text(raw: bytes, encoding: str) -> str:
    text = raw.decode(encoding, "replace")
    shown = "".join(letter if letter.isprintable() and letter.isascii() else "·" for letter in text)
    return shown.rstrip("·") or "–"
