"""What every text is as a document, whatever its format: bytes of a bounded size, in which paths lead to values."""

from __future__ import annotations

from abc import ABC, abstractmethod
from functools import cached_property

from faithful_ledger.core.address import Address, Step
from faithful_ledger.core.errors import BindingError
from faithful_ledger.core.formats.document import BOM, Place, Span
from faithful_ledger.core.source import Source, first_bytes

__all__ = ["TextDocument"]

LARGEST_TEXT = 512 << 20


class TextDocument(ABC):
    what = "the text"  # for messages
    knows_ends = True

    def __init__(self, source: Source) -> None:
        self.source = source

    @cached_property
    def data(self) -> bytes:
        if self.source.size > LARGEST_TEXT:
            raise BindingError(self.what, 0, f"a text of more than {LARGEST_TEXT >> 20} MiB is not read")
        return first_bytes(self.source, self.source.size)

    @property
    def text_start(self) -> int:
        """Where the text begins, behind a byte order mark."""
        return len(BOM) if self.data.startswith(BOM) else 0

    def find(self, address: Address, place: Place) -> Span:
        assert address.path is not None
        return self.at(place.within, address.path.steps(place.said or place.number))

    @abstractmethod
    def at(self, within: Span, steps: tuple[Step, ...]) -> Span:
        """The value a path leads to from another one.

        Raises:
            AddressError: naming the step that has no counterpart, and what is there instead.
        """
