"""Numbers of variable length, seven bits a byte: LEB128 of the DWARF specification, plain and with a sign, the zigzag
form of the Protocol Buffers specification, and the variable-length quantity of Standard MIDI Files, whose highest bits
come first. They are written with as few bytes as the value needs.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal, get_args

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage.base import CutOff, Order, Sizer, Value
from faithful_ledger.core.storage.numbers import VariableNumber

if TYPE_CHECKING:
    from faithful_ledger.core.storage.base import Array

__all__ = ["Leb128", "named"]

LONGEST = 10  # bytes
Kind = Literal["uleb128", "sleb128", "zigzag", "vlq"]
KINDS = get_args(Kind)


def named(name: str, order: Order) -> Leb128 | None:
    return Leb128(name) if name in KINDS else None  # type: ignore[arg-type]


class Leb128(VariableNumber):
    """A number of variable length, seven bits a byte, of at most 64 bits; low ones first, but for `vlq`."""

    def __init__(self, name: Kind) -> None:
        self.name: Kind = name
        self.least, self.most = (0, (1 << 64) - 1) if name in ("uleb128", "vlq") else (-(1 << 63), (1 << 63) - 1)
        kind = {"uleb128": "", "sleb128": ", with a sign", "zigzag": ", zigzag", "vlq": ", highest bits first"}
        sign = kind[name]
        self.about = f"number of variable length{sign}"

    def extent(self, source: Source, at: int, limit: int) -> int:
        data = bytes(source.read(at, min(limit, at + LONGEST)))
        for place, byte in enumerate(data):
            if byte < 128:
                return place + 1
        if len(data) < LONGEST:
            raise CutOff(len(data) + 1)
        return LONGEST

    def size_in(self, content: bytes) -> int:
        return next((at + 1 for at, byte in enumerate(content) if byte < 128), 1)

    def sizer(self) -> Sizer:
        def measure(data: bytes, at: int, limit: int) -> int:
            if at < limit and data[at] < 128:
                return at + 1
            for end in range(at, min(at + LONGEST, limit)):
                if data[end] < 128:
                    return end + 1
            return at + LONGEST if at + LONGEST <= limit else -1

        return measure

    def size_before(self, data: bytes) -> int | None:
        """Only where what is in front of the value ends with a byte below 128."""
        if not data or data[-1] >= 128:
            return None
        size = 1
        while size < min(len(data), LONGEST) and data[-size - 1] >= 128:
            size += 1
        return size

    def decode(self, raw: bytes) -> int:
        low_first = raw[::-1] if self.name == "vlq" else raw
        value = sum((byte & 127) << 7 * place for place, byte in enumerate(low_first))
        if raw and self.name == "sleb128" and raw[-1] & 64:
            value -= 1 << 7 * len(raw)
        least, most = (0, (1 << 64) - 1) if self.name == "zigzag" else (self.least, self.most)
        if not raw or raw[-1] >= 128 or not least <= value <= most:
            raise ValueRefused(f"{raw.hex(' ').upper()} is not a number of variable length", "another kind may fit")
        if self.name == "zigzag":
            return value // 2 if value % 2 == 0 else -(value + 1) // 2
        return value

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        rest = self._within(value)
        if self.name == "zigzag":
            rest = rest * 2 if rest >= 0 else -rest * 2 - 1
        out = bytearray()
        while not (-64 <= rest <= 63 if self.name == "sleb128" else rest <= 127):
            out.append(rest & 127 | 128)
            rest >>= 7
        out.append(rest & 127)
        return bytes((*(byte | 128 for byte in out[:0:-1]), out[0] & 127)) if self.name == "vlq" else bytes(out)

    def column(self, data: Array, at: Array) -> tuple[Array, Array]:
        import numpy as np

        value = np.zeros(at.size, np.uint64)
        length = np.zeros(at.size, np.int64)
        last, before = np.zeros(at.size, np.uint8), np.zeros(at.size, np.uint8)
        going = np.arange(at.size)
        for place in range(LONGEST):  # only values that go on are looked at again: seldom many
            position = at[going] + place
            inside = position < data.size
            going, position = going[inside], position[inside]
            byte = data[position]
            if self.name == "vlq":
                value[going] = value[going] << np.uint64(7) | (byte & 127).astype(np.uint64)
            else:
                value[going] |= (byte & 127).astype(np.uint64) << np.uint64(7 * place)
            before[going], last[going] = last[going], byte
            ends = byte < 128
            length[going[ends]] = place + 1
            going = going[~ends]
            if not going.size:
                break
        if self.name == "vlq":  # whose first byte never adds nothing, and says one bit of ten bytes
            first = np.zeros(at.size, np.uint8)
            first[at < data.size] = data[at[at < data.size]]
            return value, (length > 0) & (first != 128) & ((length < LONGEST) | (first <= 129))
        # A last byte that adds nothing is never written; the tenth has room for one bit, or for the sign.
        signed = self.name == "sleb128"
        short = last == 0
        if signed:
            short = (short & ((before & 64) == 0)) | ((last == 127) & ((before & 64) > 0))
        whole = (length > 0) & ((length == 1) | ~short)
        whole &= (length < LONGEST) | ((last == 0) | (last == 127) if signed else last <= 1)
        if self.name == "uleb128":
            return value, whole
        if self.name == "zigzag":
            half = (value >> np.uint64(1)).astype(np.int64)
            return np.where(value & np.uint64(1), -half - 1, half), whole
        room = np.maximum(64 - 7 * length, 0).astype(np.uint64)
        return (value << room).astype(np.int64) >> room.astype(np.int64), whole
