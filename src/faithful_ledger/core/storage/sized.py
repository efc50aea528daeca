"""Numbers of variable length that say first how many bytes they have: in the highest two bits of their first byte (the
variable-length integer of RFC 9000, section 16), in its lowest two bits, or by a first byte of 0xFD, 0xFE or 0xFF in
front of two, four or eight bytes. They are written with as few bytes as the value needs.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal, get_args

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage.base import CutOff, Order, Sizer, Value
from faithful_ledger.core.storage.numbers import VariableNumber

if TYPE_CHECKING:
    from faithful_ledger.core.storage.base import Array

__all__ = ["SizedNumber", "named"]

Kind = Literal["sized-high", "sized-low", "sized-front"]
KINDS = get_args(Kind)
ABOUT = {
    "sized-high": "its size in its highest two bits",
    "sized-low": "its size in its lowest two bits",
    "sized-front": "a byte in front says its size from 253 on",
}
FRONT = {0xFD: 3, 0xFE: 5, 0xFF: 9}
LONGEST = 9  # bytes
# The sizes in bytes of each kind, and how many bits of a number they have room for.
ROOM = {
    "sized-high": ((1, 6), (2, 14), (4, 30), (8, 62)),
    "sized-low": ((1, 6), (2, 14), (4, 30)),
    "sized-front": ((1, 8), (3, 16), (5, 32), (9, 64)),
}


def named(name: str, order: Order) -> SizedNumber | None:
    return SizedNumber(name) if name in KINDS else None  # type: ignore[arg-type]


class SizedNumber(VariableNumber):
    """A number of 1, 2, 4 or 8 bytes, the high ones first in `sized-high`; in `sized-front` one more says so."""

    def __init__(self, name: Kind) -> None:
        self.name: Kind = name
        self.least, self.most = 0, (1 << ROOM[name][-1][1]) - 1
        self.about = f"number of variable length, {ABOUT[name]}"
        self._sizes = bytes(map(self._size, range(256)))

    def _size(self, first: int) -> int:
        """The bytes of a number that begins with this one; 0 where none does."""
        if self.name == "sized-high":
            return 1 << (first >> 6)
        return (1, 2, 4, 0)[first & 3] if self.name == "sized-low" else FRONT.get(first, 1)

    def _needed(self, value: int) -> int:
        if self.name == "sized-front" and value < min(FRONT):
            return 1
        sizes = ROOM[self.name][self.name == "sized-front" :]
        return next(size for size, bits in sizes if value < 1 << bits)

    def size_in(self, content: bytes) -> int:
        return (self._sizes[content[0]] if content else 0) or 1

    def extent(self, source: Source, at: int, limit: int) -> int:
        if at >= limit:
            raise CutOff(1)
        size = self._sizes[source.read(at, at + 1)[0]] or 1  # what no number begins with is refused when it is read
        if at + size > limit:
            raise CutOff(size)
        return size

    def sizer(self) -> Sizer:
        sizes = self._sizes

        def measure(data: bytes, at: int, limit: int) -> int:
            end = at + (sizes[data[at]] or 1) if at < limit else -1
            return end if end <= limit else -1

        return measure

    def decode(self, raw: bytes) -> int:
        if not raw or len(raw) != self._sizes[raw[0]]:
            text = f"{raw.hex(' ').upper()} is not a number of variable length with {ABOUT[self.name]}"
            raise ValueRefused(text, "another kind may fit")
        if self.name == "sized-high":
            return int.from_bytes(raw) & (1 << 8 * len(raw) - 2) - 1
        if self.name == "sized-low":
            return int.from_bytes(raw, "little") >> 2
        return int.from_bytes(raw[1:] or raw, "little")

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        number = self._within(value)
        size = self._needed(number)
        if old and len(old) == self._sizes[old[0]] > self._needed(self.decode(old)):
            size = max(size, len(old))  # the game writes more bytes than it needs
        if self.name == "sized-high":
            return (number | (size.bit_length() - 1) << 8 * size - 2).to_bytes(size)
        if self.name == "sized-low":
            return (number << 2 | size.bit_length() - 1).to_bytes(size, "little")
        front = next((bytes([first]) for first, whole in FRONT.items() if whole == size), b"")
        return front + number.to_bytes(size - len(front), "little")

    def column(self, data: Array, at: Array) -> tuple[Array, Array]:
        import numpy as np

        value = np.zeros(at.size, np.uint64)
        if not data.size:
            return value, np.zeros(at.size, bool)
        first = np.where(at < data.size, data[np.minimum(at, data.size - 1)], 0)
        size = np.frombuffer(self._sizes, np.uint8)[first].astype(np.int64)
        whole = (size > 0) & (at + size <= data.size)
        begin = 1 if self.name == "sized-front" else 0
        for place in range(LONGEST):  # only what is longer is looked at again: seldom many
            going = np.flatnonzero(whole & (place < size) & ((place >= begin) | (size == 1)))
            byte = data[at[going] + place].astype(np.uint64)
            if self.name == "sized-high":
                byte &= np.uint64(63 if place == 0 else 255)
                value[going] = value[going] << np.uint64(8) | byte
            else:
                value[going] |= byte << np.uint64(8 * max(place - begin, 0))
        if self.name == "sized-low":
            value >>= np.uint64(2)
        # What has more bytes than it needs is never written.
        for (small, bits), (large, _) in zip(ROOM[self.name], ROOM[self.name][1:], strict=False):
            least = min(FRONT) if self.name == "sized-front" and small == 1 else 1 << bits
            whole &= (size != large) | (value >= np.uint64(least))
        return value, whole
