"""Every way a number may be stored, read at many offsets at once.

`read(data, offsets)` gives the values as float64 and a mask of the offsets where such a value can begin at all. Whole
numbers of eight bytes are exact up to 2**53; no game shows larger ones.

LEB128 and its zigzag form are those of the DWARF and Protocol Buffers specifications; packed decimal holds two digits
a byte.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.scan import windows

__all__ = ["NUMBERS", "STORAGES", "Array", "Storage"]

Array: TypeAlias = np.ndarray[Any, Any]
Reader: TypeAlias = Callable[[Array, Array], tuple[Array, Array]]
LONGEST_DIGITS = 12


class Storage(NamedTuple):
    """`width` is the fewest bytes a value takes; `family` groups storages of one kind."""

    name: str
    width: int
    family: str
    read: Reader


def _taken(data: Array, offsets: Array, kind: np.dtype[Any]) -> tuple[Array, Array]:
    inside = offsets + kind.itemsize <= data.size
    values = windows(data, kind)
    if not values.size:
        return np.zeros(offsets.size), np.zeros(offsets.size, bool)
    return values[np.where(inside, offsets, 0)], inside


def _whole(size: int, signed: bool, big: bool) -> Reader:
    if size == 3:
        return _three_bytes(signed, big)
    kind = np.dtype(f"{'>' if big else '<'}{'i' if signed else 'u'}{size}")

    def read(data: Array, offsets: Array) -> tuple[Array, Array]:
        value, inside = _taken(data, offsets, kind)
        return value.astype(np.float64), inside

    return read


def _three_bytes(signed: bool, big: bool) -> Reader:
    def read(data: Array, offsets: Array) -> tuple[Array, Array]:
        inside = offsets + 3 <= data.size
        safe = np.where(inside, offsets, 0)
        lanes = [data[np.minimum(safe + place, data.size - 1)].astype(np.int32) for place in range(3)]
        value = lanes[0] << 16 | lanes[1] << 8 | lanes[2] if big else lanes[2] << 16 | lanes[1] << 8 | lanes[0]
        if signed:
            value = np.where(value >= 1 << 23, value - (1 << 24), value)
        return value.astype(np.float64), inside

    return read


def _fraction(size: int, big: bool) -> Reader:
    kind = np.dtype(f"{'>' if big else '<'}f{size}")

    def read(data: Array, offsets: Array) -> tuple[Array, Array]:
        raw, inside = _taken(data, offsets, kind)
        with np.errstate(invalid="ignore", over="ignore"):  # any byte pattern may come; a signalling NaN is one of them
            value = raw.astype(np.float64)
            sensible = np.isfinite(value) & ((value == 0) | ((np.abs(value) > 1e-9) & (np.abs(value) < 1e15)))
        return np.where(sensible, value, 0), inside & sensible

    return read


def _packed(size: int, little: bool) -> Reader:
    def read(data: Array, offsets: Array) -> tuple[Array, Array]:
        inside = offsets + size <= data.size
        safe = np.where(inside, offsets, 0)
        value = np.zeros(offsets.size, np.float64)
        for place in range(size):
            lane = size - 1 - place if little else place
            byte = data[np.minimum(safe + lane, data.size - 1)]
            high, low = byte >> 4, byte & 15
            inside = inside & (high < 10) & (low < 10)
            value = value * 100 + high * 10.0 + low
        return value, inside

    return read


def _leb128(kind: str) -> Reader:
    def read(data: Array, offsets: Array) -> tuple[Array, Array]:
        value = np.zeros(offsets.size, np.float64)
        going = np.ones(offsets.size, bool)
        last, before = np.zeros(offsets.size, np.uint8), np.zeros(offsets.size, np.uint8)
        length = np.zeros(offsets.size, np.int64)
        for place in range(7):
            at = offsets + place
            inside = at < data.size
            byte = data[np.minimum(at, data.size - 1)]
            now = going & inside
            value = np.where(now, value + (byte & 127) * float(1 << 7 * place), value)
            before, last = np.where(now, last, before), np.where(now, byte, last)
            length = np.where(now, place + 1, length)
            going = now & (byte >= 128)
        whole = ~going & (length > 0)
        # Longer spellings than needed (a last byte that adds nothing) are never written by a sensible program.
        short = last == 0
        if kind == "sleb128":
            short = (short & ((before & 64) == 0)) | ((last == 127) & ((before & 64) > 0))
        whole &= (length == 1) | ~short
        if kind == "sleb128":
            value = np.where((last & 64) > 0, value - np.exp2(7.0 * length), value)
        elif kind == "zigzag":
            value = np.where(value % 2 == 0, value / 2, -(value + 1) / 2)
        return value, whole

    return read


def _digits(step: int) -> Reader:
    """Decimal text that begins here: no digit stands directly before."""

    def read(data: Array, offsets: Array) -> tuple[Array, Array]:
        def at(place: Array) -> Array:
            inside = (place >= 0) & (place + step - 1 < data.size)
            byte = np.where(inside, data[np.clip(place, 0, data.size - 1)], 0)
            if step == 2:
                byte = np.where(data[np.clip(place + 1, 0, data.size - 1)] == 0, byte, 0)
            return byte

        before = at(offsets - step)
        minus = at(offsets) == 45
        place = np.where(minus, offsets + step, offsets)
        value = np.zeros(offsets.size, np.float64)
        going, count = np.ones(offsets.size, bool), np.zeros(offsets.size, np.int64)
        for _ in range(LONGEST_DIGITS):
            byte = at(place)
            going &= (byte >= 48) & (byte <= 57)
            value = np.where(going, value * 10 + (byte - 48.0), value)
            count += going
            place = np.where(going, place + step, place)
        after = at(place)
        alone = ~((before >= 48) & (before <= 57)) & ~((after >= 48) & (after <= 57)) & (before != 46)
        alone &= ~((before == 45) & ~minus)
        return np.where(minus, -value, value), (count > 0) & alone

    return read


def _switch(bit: int) -> Reader:
    def read(data: Array, offsets: Array) -> tuple[Array, Array]:
        inside = offsets < data.size
        return (data[np.where(inside, offsets, 0)] >> bit & 1).astype(np.float64), inside

    return read


def _make() -> dict[str, Storage]:
    found: list[Storage] = []
    for size in (4, 2, 1, 8, 3):
        for big in (False, True) if size > 1 else (False,):
            ending = "" if size == 1 else "be" if big else "le"
            found.append(Storage(f"u{size * 8}{ending}", size, "whole", _whole(size, False, big)))
            found.append(Storage(f"i{size * 8}{ending}", size, "signed", _whole(size, True, big)))
    for size in (4, 8):
        for big in (False, True):
            found.append(Storage(f"f{size * 8}{'be' if big else 'le'}", size, "fraction", _fraction(size, big)))
    for size in range(1, 9):
        found.append(Storage(f"bcd{size}", size, "packed", _packed(size, False)))
        if size > 1:
            found.append(Storage(f"bcd{size}le", size, "packed", _packed(size, True)))
    found += [Storage(kind, 1, "leb128", _leb128(kind)) for kind in ("uleb128", "sleb128", "zigzag")]
    found.append(Storage("digits", 1, "digits", _digits(1)))
    found.append(Storage("digits-utf16le", 2, "digits", _digits(2)))
    found += [Storage(f"bit{bit}", 1, "switch", _switch(bit)) for bit in range(8)]
    return {storage.name: storage for storage in found}


STORAGES = _make()
NUMBERS = [storage for storage in STORAGES.values() if storage.family != "switch"]
