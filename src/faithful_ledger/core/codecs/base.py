"""What a codec is: bytes to a value and back, and the same value as text a person reads and types."""

from __future__ import annotations

from typing import Protocol, TypeAlias

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.source import Source

__all__ = ["Codec", "CutOff", "FixedSize", "Value", "encoded"]

Value: TypeAlias = int | float | str | bool | tuple[str, ...] | None


def encoded(codec: Codec, value: Value, old: bytes) -> bytes:
    """The bytes of a value that gives way to `old`: the old bytes themselves where they say the same already.

    So a value that is not changed keeps its spelling, its padding and what stands behind its end.

    Raises:
        ValueRefused: the value does not fit.
    """
    try:
        before = codec.decode(old)
    except ValueRefused:
        before = None
    same = before == value and isinstance(before, bool) is isinstance(value, bool)
    if same or (isinstance(value, float) and isinstance(before, float) and value != value and before != before):
        return old
    return codec.encode(value, old)


class CutOff(Exception):
    """A value begins here but the bytes end before it does; `needed` bytes were wanted."""

    def __init__(self, needed: int) -> None:
        super().__init__(f"{needed} bytes needed")
        self.needed = needed


class FixedSize:
    """The extent of a value that always takes `size` bytes."""

    size: int

    def extent(self, source: Source, at: int, limit: int) -> int:
        if at + self.size > limit:
            raise CutOff(self.size)
        return self.size


class Codec(Protocol):
    """How one value lies in bytes.

    `name` is what the command line calls `stored_as`; `size` is the number of bytes, or None where it depends on the
    bytes themselves; `about` is the same in words.
    """

    @property
    def name(self) -> str: ...

    @property
    def size(self) -> int | None: ...

    @property
    def about(self) -> str: ...

    def extent(self, source: Source, at: int, limit: int) -> int:
        """How many bytes the value at offset `at` takes.

        Raises:
            CutOff: when it would pass `limit`.
        """
        ...

    def decode(self, raw: bytes) -> Value:
        """Raises ValueRefused when these bytes are no such value."""
        ...

    def encode(self, value: Value, old: bytes) -> bytes:
        """`old` are the bytes that give way, for codecs that keep the spelling they find.

        Raises:
            ValueRefused: when the value does not fit; the sentence says what would.
        """
        ...

    def to_text(self, value: Value) -> str: ...

    def from_text(self, text: str, old: Value) -> Value:
        """The value a person typed; `old` is the present one, for `+name` and `-name`.

        Raises:
            ValueRefused: when it is not such a value.
        """
        ...
