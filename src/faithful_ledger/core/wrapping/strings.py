"""Texts in which each string is hidden for itself, as `{"marks": "MTM0MA==", "name": "QWRh"}`: the same text, in which
the strings say what they hold.

A string that the layers do not lead into, or behind which no letters are, is not hidden and stays as it is.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.errors import LedgerError, TooMuch
from faithful_ledger.core.formats import Document, recognised_text
from faithful_ledger.core.formats.document import Span, TextLeaf
from faithful_ledger.core.formats.nested import NestedText
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.storage import Value
from faithful_ledger.core.wrapping.growing import UNCOUNTED
from faithful_ledger.core.wrapping.in_place import InPlace, Meant
from faithful_ledger.core.wrapping.steps import Step, Streams
from faithful_ledger.core.wrapping.together import Inner, wrap_together

__all__ = ["MOST_STRINGS", "may_be_hidden", "says_letters", "with_strings"]

LETTERS_OF_SPELLING = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/_-=%\\")
MOST_STRINGS = 1 << 18
QUOTING = ("json", "relaxed-json")  # formats that tell texts from numbers


def with_strings(outer: bytes, through: Callable[[bytes], list[Step]], most: int) -> InPlace:
    """The text inside of a text. `through` undoes the layers of one string, which it does at `most` so often.

    Raises:
        AddressError: this is not a text of a known format, or none of its strings is hidden so.
        TooMuch: more of them may be.
    """
    document = recognised_text(MemorySource(outer))
    return InPlace.of(outer, _values(document, through, most) if document is not None else ())


def _values(
    document: Document, through: Callable[[bytes], list[Step]], most: int
) -> Iterator[tuple[Span, Meant | None]]:
    for leaf in document.leaves():
        span = Span(leaf.start, leaf.end, "string")  # also where the letters look like a number
        meant = None
        if may_be_hidden(document, leaf):
            if not most:
                raise TooMuch("more strings of this text may be hidden than are opened", "nothing was changed")
            most -= 1
            meant = _opened(document, span, through)
        yield span, meant


def may_be_hidden(document: Document, leaf: TextLeaf) -> bool:
    """Whether a value of a text has letters in which bytes may be spelled; a number of JSON is one."""
    if leaf.kind != "string" and document.name in QUOTING:
        return False
    return leaf.end - leaf.start >= 2 and LETTERS_OF_SPELLING.issuperset(leaf.raw.strip(b"\"'"))


def says_letters(data: bytes) -> bool:
    """Whether some bytes are a text that can be read."""
    try:
        return data.decode().isprintable()
    except UnicodeDecodeError:
        return False


def _opened(document: Document, span: Span, through: Callable[[bytes], list[Step]]) -> Meant | None:
    """What a string holds; None where the layers do not lead to letters."""
    try:
        storage = document.value_storage(span)
        string = NestedText(document.source, span, storage)
        steps: list[Step] = [string, *through(string.data)]
        content = steps[-1].data
        is_whole = not isinstance(steps[1], Streams) or [each.size for each in steps[1].streams] == [len(string.data)]
        if not is_whole or not content or not says_letters(content):
            return None
        raw = storage.encode(content.decode(), string.raw)
    except LedgerError:
        return None

    def hide(value: Value, cause: Cause) -> list[Replacement]:
        whole = Replacement(0, len(content), str(value).encode(), (cause,))
        return wrap_together([Inner(steps, Patched(MemorySource(content), [whole]), cause)], UNCOUNTED)

    return Meant(raw, storage, hide)
