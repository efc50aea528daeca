"""What a document is: a payload in which addresses lead to spans. One class for each format; the binder knows no other
difference between them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from fractions import Fraction
from typing import NamedTuple, Protocol

from faithful_ledger.core.address import Address, Expression, Lookup, Said, Step
from faithful_ledger.core.edits import Replacement
from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.formats.quoting import Counted
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage import Quoting, Storage
from faithful_ledger.core.storage.spelled import exact_number, number_in_base64

__all__ = ["BEHIND_LENGTH", "BOM", "Document", "Items", "Leaf", "NotBalanced", "Place", "Span", "TextLeaf"]


BEHIND_LENGTH = " behind its length"


class NotBalanced(Exception):
    """A string or a bracket of a text that does not end."""


class Span(NamedTuple):
    """Bytes [start, end) of a payload. In a text `kind` is what is there: object, array, string, number or word."""

    start: int
    end: int
    kind: str = ""


class TextLeaf(Protocol):
    """A value of a text that has no parts, in the bytes [start, end) of it. What it says is worked out when it is asked
    for: of a large text most values are only passed by.
    """

    start: int
    end: int

    @property
    def path(self) -> str: ...

    @property
    def kind(self) -> str:
        """string, number or word."""
        ...

    @property
    def raw(self) -> bytes: ...

    @property
    def text(self) -> str:
        """What it says, without quotes and escapes."""
        ...

    @property
    def is_number(self) -> bool:
        """Whether it is a number, also one in quotes where the format tells texts from numbers."""
        ...

    @property
    def about(self) -> float:
        """A number as the nearest float."""
        ...

    @property
    def value(self) -> Fraction | str:
        """A number exactly, or a text."""
        ...

    @property
    def stored_as(self) -> str:
        """digits, true or false, null, or utf-8; with “ in a string” where it is in a text within a string."""
        ...


class Leaf:
    """A leaf of a document that is a tree."""

    __slots__ = ("_data", "_quoting", "end", "kind", "path", "start")

    def __init__(self, path: str, start: int, end: int, kind: str, quoting: Quoting, data: bytes) -> None:
        self.path, self.start, self.end, self.kind = path, start, end, kind
        self._quoting, self._data = quoting, data

    @property
    def raw(self) -> bytes:
        return self._data[self.start : self.end]

    @property
    def text(self) -> str:
        try:
            return self._quoting.decode(self.raw)
        except ValueRefused:
            return self.raw.decode("utf-8", "replace")

    @property
    def is_number(self) -> bool:
        return self.kind == "number" or exact_number(self.text) is not None

    @property
    def about(self) -> float:
        return float(exact_number(self.text) or 0)

    @property
    def value(self) -> Fraction | str:
        number = exact_number(self.text)
        return number if number is not None else self.text

    @property
    def stored_as(self) -> str:
        kind = {"number": "digits", "word": "true or false"}.get(self.kind, "utf-8")
        if kind == "utf-8" and number_in_base64(self.text):
            kind = "digits"
        return (
            kind + BEHIND_LENGTH
            if isinstance(self._quoting, Counted) and self._quoting.behind_count(self.raw)
            else kind
        )


class Items(NamedTuple):
    """Where each item of a span begins and ends."""

    starts: Sequence[int]
    ends: Sequence[int]


class Place(NamedTuple):
    """What an address is looked up with: the span around, the offset behind the element before, and what other fields
    say by their names: their `number`, or what is `said` in any of them.
    """

    within: Span
    here: int
    number: Lookup
    said: Said | None = None

    def evaluate(self, expression: Expression | None, default: int = 0) -> int:
        if expression is None:
            return default
        known = expression.constant
        return known if known is not None else expression.evaluate(self.number, self.said)


class Document(Protocol):
    """A payload of one format.

    In a text (`knows_ends`) an address leads to a whole value; in a binary payload only to where it begins, and its
    layout says where it ends.
    """

    name: str
    source: Source
    knows_ends: bool
    row_kinds: tuple[str, ...]  # the kinds of spans that have items

    def __init__(self, source: Source) -> None: ...

    @property
    def whole(self) -> Span: ...

    def span(self, start: int, end: int) -> Span:
        """The span of what is in these bytes, with its kind."""
        ...

    def check(self) -> None:
        """Raises BindingError, with the offset, where the payload is not of this format."""
        ...

    def has_values(self) -> bool:
        """Whether it is a text of this format with values in it, as far as a look tells; `check` is thorough.

        Raises:
            BindingError: it is not.
        """
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

    def at(self, within: Span, steps: tuple[Step, ...]) -> Span:
        """The value of a text that a path leads to from another one.

        Raises:
            AddressError: it leads nowhere; the sentence says what is there instead.
        """
        ...

    def leaves(self) -> Iterator[TextLeaf]:
        """Every value of a text that has no parts, with its path."""
        ...

    def leaves_at(self, offsets: Sequence[int]) -> Iterator[TextLeaf]:
        """The numbers and texts without parts that are at some offsets of a text, each with its path."""
        ...

    def value_storage(self, span: Span) -> Storage:
        """The storage of a value of a text that no template describes."""
        ...

    @classmethod
    def storage(cls, name: str, path: str, encoding: str) -> Storage | None:
        """The storage of a template's field with `as: name` at a path; None where it is not a kind of value."""
        ...


BOM = b"\xef\xbb\xbf"  # in front of texts in UTF-8

Opener = Callable[[Source], Document]
