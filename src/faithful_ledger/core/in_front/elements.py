"""What is found in front of a place: a text, records, or bytes, each behind its length or number."""

from __future__ import annotations

from typing import NamedTuple, TypeAlias

from faithful_ledger.core.in_front.records import Part
from faithful_ledger.core.in_front.text_ends import TextEnd
from faithful_ledger.core.storage import NUMBERS

__all__ = ["CountedRows", "Element", "Header", "LeadingBytes", "LeadingText", "rows_between"]


class LeadingText(NamedTuple):
    """A text behind its length: where that begins in the first save, their bytes together, and how the text ends."""

    start: int
    size: int
    encoding: str
    end: TextEnd


class CountedRows(NamedTuple):
    """Records behind their number: where that begins in the first save, how many bytes both take, the storage of the
    number, and what a record is made of; of those that are told apart by a number in each (`key`), where that begins
    and ends in a record.
    """

    start: int
    size: int
    count_as: str
    record: tuple[Part, ...]
    key: tuple[int, int] | None = None


class LeadingBytes(NamedTuple):
    """Bytes behind their length, as a picture: where that begins in the first save, the bytes of both together, and the
    storage of the length.
    """

    start: int
    size: int
    size_as: str


Element: TypeAlias = "LeadingText | CountedRows | LeadingBytes"


class Header(NamedTuple):
    """What saves begin with, of another length in each: its elements, with the offsets of the first save, and where it
    ends in each.
    """

    elements: tuple[Element, ...]
    ends: tuple[int, ...]


def rows_between(count_as: str, record: tuple[Part, ...], begin: int, end: int) -> CountedRows:
    """Records that begin and end at offsets of the first save, with the number in front of them."""
    start = begin - NUMBERS[count_as].least_size
    return CountedRows(start, end - start, count_as, record)
