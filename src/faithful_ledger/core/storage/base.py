"""What a storage is: one way in which bytes hold a value, and the only place that knows it."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable
from fractions import Fraction
from typing import TYPE_CHECKING, Any, Generic, Literal, TypeAlias, TypeVar

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.source import Source

if TYPE_CHECKING:
    import numpy as np

    Array: TypeAlias = np.ndarray[Any, Any]

__all__ = ["CutOff", "FixedSize", "Order", "Sizer", "Storage", "Value", "Wrapping", "encoded", "fixed_sizer"]

Value: TypeAlias = int | float | str | bool | tuple[str, ...] | None
Order = Literal["little", "big"]
# From the bytes, an offset and a limit to the offset behind the value, or -1 where it would pass the limit.
Sizer: TypeAlias = Callable[[bytes, int, int], int]


class CutOff(Exception):
    """A value begins here but the bytes end before it does; `needed` bytes were wanted."""

    def __init__(self, needed: int) -> None:
        super().__init__(f"{needed} bytes needed")
        self.needed = needed


class Storage(ABC):
    """One way a value is stored. A storage knows no template and no save.

    `name` is what the command line calls `stored_as`; `about` is the same in words. `bits` is the size of every value,
    or None where it depends on the bytes. `family` groups storages of one kind: whole, signed, fraction, packed,
    unpacked, variable, digits, or nothing for what is not a number. `dtype` is what NumPy calls it, where it does.
    """

    name: str
    about: str
    bits: int | None = None
    family: str = ""
    dtype: str | None = None
    least_size: int = 1  # bytes

    @property
    def size(self) -> int | None:
        """Bytes a value takes, or None where it varies."""
        return None if self.bits is None else (self.bits + 7) // 8

    def extent(self, source: Source, at: int, limit: int) -> int:
        """How many bytes the value at offset `at` takes.

        Raises:
            CutOff: when it would pass `limit`.
        """
        size = self.size
        if size is None:
            return limit - at
        if at + size > limit:
            raise CutOff(size)
        return size

    @abstractmethod
    def decode(self, raw: bytes) -> Value:
        """Raises ValueRefused when these bytes are not such a value."""

    @abstractmethod
    def encode(self, value: Value, old: bytes = b"") -> bytes:
        """`old` are the bytes that are replaced, for storages that keep the style or the neighbours they find.

        Raises:
            ValueRefused: when the value does not fit; the sentence says what would.
        """

    def to_text(self, value: Value) -> str:
        return str(value)

    @abstractmethod
    def from_text(self, text: str, old: Value = None) -> Value:
        """The value a person typed; `old` is the present one, for `+name` and `-name`.

        Raises:
            ValueRefused: when it is not such a value.
        """

    def whole(self, raw: bytes) -> int | None:
        """The whole number behind a value, for counts, lengths and expressions; None where there is none.

        Raises:
            ValueRefused: as for `decode`.
        """
        return None

    @property
    def mask(self) -> bytes | None:
        """Which bits of its bytes are those of the value, where it shares the bytes with others; else None."""
        return None

    def neutral(self, size: int | None) -> bytes:
        """The bytes of a value that says nothing, for a new record; `size` is what the template says.

        Raises:
            ValueRefused: it has no fixed size.
        """
        known = self.size if size is None else size
        if known is None:
            raise ValueRefused(f"{self.about} has no fixed size", "give it a value")
        return bytes(known)

    def sizer(self) -> Sizer | None:
        """A fast function for where values of varying size end, or None where the bytes do not say it."""
        return None if self.size is None else fixed_sizer(self.size)

    def size_before(self, data: bytes) -> int | None:
        """How many bytes a value takes that ends where `data` ends; None where that cannot be known."""
        return self.size

    def column(self, data: Array, at: Array) -> tuple[Array, Array] | None:
        """The values at many offsets of an array of bytes, and a mask of the offsets where a value begins that a
        program would have written so; None where only `decode` can say.
        """
        return None

    def rows(self, table: Array) -> tuple[Array, Array | None] | None:
        """As `column`, for a table of bytes with a value in each row; without a mask all are values."""
        import numpy as np

        count, width = table.shape
        if self.dtype is not None:
            return np.ascontiguousarray(table).view(self.dtype).reshape(-1), None
        return self.column(np.ascontiguousarray(table).reshape(-1), np.arange(count) * width)

    def spell(self, number: Fraction) -> bytes | None:
        """The bytes of a number as a program writes it, for searching; None where it does not fit."""
        return None


def fixed_sizer(size: int) -> Sizer:
    """The sizer of what always takes `size` bytes."""
    return lambda data, at, limit: at + size if at + size <= limit else -1


class FixedSize(Storage):
    """A storage of which every value takes the same number of whole bytes."""

    bits: int

    @property
    def size(self) -> int:
        return self.bits // 8


Inner = TypeVar("Inner", bound=Storage)


class Wrapping(Storage, Generic[Inner]):
    """A reading of what another storage, the `number`, stores."""

    def __init__(self, number: Inner) -> None:
        self.number = number
        self.name, self.bits, self.least_size = number.name, number.bits, number.least_size

    @property
    def size(self) -> int | None:
        return self.number.size

    @property
    def mask(self) -> bytes | None:
        return self.number.mask

    def extent(self, source: Source, at: int, limit: int) -> int:
        return self.number.extent(source, at, limit)

    def sizer(self) -> Sizer | None:
        return self.number.sizer()

    def size_before(self, data: bytes) -> int | None:
        return self.number.size_before(data)

    def whole(self, raw: bytes) -> int | None:
        """The number that is stored."""
        return self.number.whole(raw)

    def neutral(self, size: int | None) -> bytes:
        return self.number.neutral(size)


def encoded(storage: Storage, value: Value, old: bytes) -> bytes:
    """The bytes of a value that replaces `old`: the old bytes themselves where they say the same already.

    So a value that is not changed keeps its spelling, its padding and what stands behind its end.

    Raises:
        ValueRefused: the value does not fit.
    """
    try:
        before = storage.decode(old)
    except ValueRefused:
        before = None
    same = before == value and isinstance(before, bool) is isinstance(value, bool)
    if same or (isinstance(value, float) and isinstance(before, float) and value != value and before != before):
        return old
    return storage.encode(value, old)
