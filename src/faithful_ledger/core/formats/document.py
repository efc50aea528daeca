"""What a document is: a payload in which addresses lead to spans. One class for each format; the binder knows no other
difference between them.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple, Protocol

from faithful_ledger.core.address import Address, Expression, Lookup
from faithful_ledger.core.edits import Replacement
from faithful_ledger.core.source import Source

__all__ = ["Document", "Items", "NotBalanced", "Place", "Span"]


class NotBalanced(Exception):
    """A string or a bracket of a text that does not end."""


class Span(NamedTuple):
    """Bytes [start, end) of a payload. In a text `kind` is what is there: object, array, string, number or word."""

    start: int
    end: int
    kind: str = ""


class Items(NamedTuple):
    """Where each item of a span begins and ends."""

    starts: Sequence[int]
    ends: Sequence[int]


class Place(NamedTuple):
    """What an address is looked up with: the span around, the offset behind the element before, and numbers of other
    fields by their names.
    """

    within: Span
    here: int
    number: Lookup

    def evaluate(self, expression: Expression | None, default: int = 0) -> int:
        if expression is None:
            return default
        return expression.constant if expression.constant is not None else expression.evaluate(self.number)


class Document(Protocol):
    """A payload of one format.

    In a text (`knows_ends`) an address leads to a whole value; in a binary payload only to where it begins, and its
    layout says where it ends.
    """

    name: str
    source: Source
    knows_ends: bool

    @property
    def whole(self) -> Span: ...

    def span(self, start: int, end: int) -> Span:
        """The span of what is in these bytes, with its kind."""
        ...

    def check(self) -> None:
        """Raises BindingError, with the offset, where the payload is not of this format."""
        ...

    def find(self, address: Address, place: Place) -> Span:
        """The span at an address, up to where it may reach at most. With the base `before` it begins at the end of
        the value.

        Raises:
            AddressError: it leads nowhere; the sentence says what is there instead.
        """
        ...

    def items(self, span: Span) -> Items | None:
        """The items of a span, or None where only a layout says where they are."""
        ...

    def spell(self, value: object, like: bytes) -> bytes:
        """A value of JSON's kinds as text, in the style of `like`.

        Raises:
            ValueRefused: this format cannot hold it.
        """
        ...

    def add(self, holder: Span, position: int, items: Sequence[bytes]) -> Replacement:
        """Put items in front of item number `position` of a span, with the spaces and delimiters of their siblings."""
        ...

    def remove(self, holder: Span, first: int, stop: int) -> Replacement:
        """Take the items [first, stop) out; the bytes are then as if they had never been added."""
        ...


Opener = Callable[[Source], Document]
