"""A place: where a quantity may be stored, and how."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from faithful_ledger.core.address import Address
from faithful_ledger.core.evidence.reading import STORAGES
from faithful_ledger.core.in_front.text_ends import TextEnd
from faithful_ledger.core.layers import LayerSpec
from faithful_ledger.core.search import TEXT_ENCODINGS
from faithful_ledger.core.storage import Leb128, VariableNumber

__all__ = ["Bits", "Guide", "Guides", "KeyedRecords", "Mask", "Place"]

NOWHERE = TextEnd()


class Mask(NamedTuple):
    """What a number is XORed with: the same `key` in every save, or, without one, what stands `beside` it, so many
    bytes behind it, or before it where that is below 0, or at a place of its own (`by`).
    """

    key: bytes = b""
    beside: int = 0
    by: Place | None = None

    @property
    def words(self) -> str:
        if self.key:
            return f"XORed with {self.key.hex(' ').upper()}"
        if self.by is not None:
            return f"XORed with what stands at 0x{self.by.offsets[-1]:X}"
        side = "behind" if self.beside > 0 else "before"
        return f"XORed with what stands {abs(self.beside)} bytes {side}"


class Bits(NamedTuple):
    """`width` bits of a whole number from bit `low` upwards; bit 0 is the least significant."""

    low: int
    width: int

    @property
    def words(self) -> str:
        return f"bits {self.low} to {self.low + self.width - 1} of it, the lowest is 0"


class Guide(NamedTuple):
    """What says where a place is, or how it is hidden: what its field is called, where it is, as an offset or as
    the path of a value of a text, and how it is stored, of bytes also how many.
    """

    name: str
    at: int | str
    stored_as: str
    note: str
    size: int = 0


class Guides(NamedTuple):
    """The fields by which a place is found, and how, in words; they are `around` its payload, or in it."""

    fields: tuple[Guide, ...]
    words: str
    around: bool = False


class KeyedRecords(NamedTuple):
    """Places for so `many` records of `size` bytes from the offset `start` on, or as many as there are `to_end` of the
    file. A number that is so far `within` one is in that with the bytes `key` at `key_at`, in an `order`; or the keys
    are in a list of their own from `keys` on.
    """

    start: int
    size: int
    many: int
    within: int
    key_at: int
    key: bytes
    order: Literal["little", "big"] = "little"
    keys: int | None = None
    to_end: bool = False

    @property
    def number(self) -> int:
        return int.from_bytes(self.key, self.order)

    @property
    def words(self) -> str:
        at = f"0x{self.start:X} to 0x{self.start + self.many * self.size:X}"
        if self.keys is not None:
            return f"beside the number {self.number} of a list from 0x{self.keys:X} on, in one of {self.many} at {at}"
        return f"in the record with the number {self.number}, of {self.many} records of {self.size} bytes at {at}"


@dataclass(slots=True)
class Place:
    """Stored = seen × scale + bias; with `rounding` what was seen is stored / scale, cut off or rounded.

    `offsets` are where it is in each snapshot, `values` what is stored there. `found_by` is the address of a place that
    moves, or of a value of a text; a place that moves and has none was found in some other `how`. With a `layer` the
    offsets are those of what was unwrapped; `layers` are None where their keys differ from snapshot to snapshot;
    `within` are always those of the first one. `file` is the file of a set it is in. It `strayed` if what surrounds it
    is elsewhere in some snapshot; `doubts` is the number of the sighting it does not fit. `end` says where a text,
    or a number in digits, ends; the buffer of such a number begins `lead` bytes before it. `format` is that of the
    payload. With a `mask` its bytes are hidden, and `values` are what they say without it; with `bits_in` it is only
    some bits of what is stored there, and `values` are those of these. With `guides` its address is worked out from
    other numbers; with `records` it is in one of several that change places. `letters` are those of a text in a
    game's own, by byte. `bits` say how likely it is, and `by_chance` how many places of its kind would fit in bytes
    that mean nothing; `beside` is what was seen next to it.
    """

    offsets: tuple[int, ...]
    stored_as: str
    fits: int
    of: int
    scale: float = 1
    bias: float = 0
    rounding: str | None = None
    found_by: Address | None = None
    how: str = ""
    layer: str | None = None
    route: tuple[str, ...] = ()
    layers: tuple[LayerSpec, ...] | None = ()
    within: tuple[LayerSpec, ...] = ()
    values: tuple[float | str, ...] = ()
    strayed: bool = False
    doubts: int | None = None
    file: str = ""
    end: TextEnd = NOWHERE
    lead: int = 0
    format: str = "binary"
    mask: Mask | None = None
    bits_in: Bits | None = None
    guides: Guides | None = None
    records: KeyedRecords | None = None
    letters: tuple[tuple[int, str], ...] = ()
    reasons: list[str] = field(default_factory=list)
    beside: list[str] = field(default_factory=list)
    bits: float = 0
    by_chance: float = 0

    @property
    def moves(self) -> bool:
        return len(set(self.offsets)) > 1

    @property
    def address(self) -> Address | None:
        """Where it is in every save, as a template writes it; None for a place that moves and nothing near it stays."""
        if self.found_by is not None or (self.moves and self.how):
            return self.found_by
        return Address.at(self.offsets[0])

    def offset_in(self, content: bytes) -> int | None:
        """Where it is in one of the snapshots; None where that is not one of them, or two of them may be it."""
        found = set()
        for at, value in zip(self.offsets, self.values, strict=True):
            if isinstance(value, str):
                raw = value.encode(self.stored_as, "replace") if self.stored_as in TEXT_ENCODINGS else b""
                holds = bool(raw) and content[at : at + len(raw)] == raw
            else:
                storage = STORAGES[self.stored_as]
                raw = content[at : at + storage.least_size]
                holds = len(raw) == storage.least_size and storage.decode(raw) == value
            found |= {at} if holds else set()
        return found.pop() if len(found) == 1 else None

    @property
    def path(self) -> str | None:
        """Its path, in a text."""
        found = self.found_by
        return found.path.text if found is not None and found.path is not None else None

    @property
    def anchor(self) -> str | None:
        """How a place that moves is found again, in words."""
        if self.found_by is None:
            return self.how or None
        return self.found_by.in_words() if self.found_by.base != "path" else None

    @property
    def end_is_known(self) -> bool:
        """Whether a template can say where the value begins from where it ends."""
        storage = STORAGES.get(self.stored_as)
        return bool(self.end.prefix) or isinstance(storage, Leb128)

    def size(self, number: int, content: bytes) -> int:
        """How many bytes its value takes in a snapshot; `content` is the bytes there, from where it begins."""
        value = self.values[min(number, len(self.values) - 1)] if self.values else 0
        storage = STORAGES.get(self.stored_as)
        if isinstance(value, str) and self.letters:
            return len(value)
        if isinstance(value, str):
            return len(value.encode(TEXT_ENCODINGS.get(self.stored_as, "utf-8"), "replace"))
        if isinstance(storage, VariableNumber):
            return storage.size_in(content)
        if storage is not None and storage.family == "digits":
            return len(f"{value:g}") * storage.least_size
        return storage.least_size if storage is not None else 1
