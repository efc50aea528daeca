"""Texts in which each string is hidden for itself, as `{"marks": "MTM0MA==", "name": "QWRh"}`: the same text, in which
the strings say what they hold.

A string that the layers do not lead into, or behind which no letters are, is no hidden one and stays as it is.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.errors import AddressError, LedgerError, TooMuch, ValueRefused, place
from faithful_ledger.core.formats import Document, recognised_text
from faithful_ledger.core.formats.document import Span, TextLeaf
from faithful_ledger.core.formats.nested import NestedText
from faithful_ledger.core.source import MemorySource, Source
from faithful_ledger.core.storage import Storage
from faithful_ledger.core.wrapping.growing import UNCOUNTED, Counted
from faithful_ledger.core.wrapping.steps import Step, Streams
from faithful_ledger.core.wrapping.together import Inner, wrap_together

__all__ = ["MOST_STRINGS", "Strings", "may_be_hidden", "says_letters"]

LETTERS_OF_SPELLING = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/_-=%\\")
MOST_STRINGS = 1 << 18
QUOTES = (b'"', b"'")
QUOTING = ("json", "relaxed-json")  # formats that tell texts from numbers


class _Hidden(NamedTuple):
    """A string at [outer, outer_end), what it says at [start, end) of the text inside, and the steps from one to the
    other.
    """

    outer: int
    outer_end: int
    start: int
    end: int
    storage: Storage
    steps: list[Step]

    def holds(self, item: Replacement, quoted: bool) -> bool:
        """Whether a replacement is within the string; what comes in at an end of a quoted one is not."""
        touches = item.start == item.end and item.start in (self.start, self.end)
        return self.start <= item.start and item.end <= self.end and not (touches and quoted)


@dataclass(slots=True)
class Strings:
    """A text with the content of its hidden strings in their place."""

    outer: Source
    data: bytes
    hidden: list[_Hidden]
    plain: list[Span]

    @classmethod
    def of(cls, outer: bytes, through: Callable[[bytes], list[Step]], most: int) -> Strings:
        """`through` undoes the layers of one string, which it does at `most` so often.

        Raises:
            AddressError: this is no text of a known format, or none of its strings is hidden so.
            TooMuch: more of them may be.
        """
        source = MemorySource(outer)
        document = recognised_text(source)
        hidden: list[_Hidden] = []
        plain: list[Span] = []
        parts: list[bytes] = []
        done, size = 0, 0
        for leaf in document.leaves() if document is not None else ():
            span = Span(leaf.start, leaf.end, "string")  # also where the letters look like a number
            assert document is not None
            opened = None
            if may_be_hidden(document, leaf):
                if not most:
                    raise TooMuch("more strings of this text may be hidden than are opened", "nothing was changed")
                most -= 1
                opened = _opened(document, source, span, through)
            if opened is None:
                plain.append(span)
                continue
            storage, steps, raw = opened
            parts += [outer[done : leaf.start], raw]
            size += leaf.start - done
            hidden.append(_Hidden(leaf.start, leaf.end, size, size + len(raw), storage, steps))
            done, size = leaf.end, size + len(raw)
        if not hidden:
            raise AddressError("no string of this text is hidden so", "see Profile for what the file holds")
        return cls(source, b"".join([*parts, outer[done:]]), hidden, plain)

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        """Raises ValueRefused where a string would come in or go together with others."""
        changed: list[Replacement] = []
        inside: dict[int, list[Replacement]] = {}
        for item in inner.replacements:
            number = self._string_with(item)
            if number is not None:
                inside.setdefault(number, []).append(item)
            else:
                low, high = self._outside(item.start), self._outside(item.end)
                if item.data and not any(each.start <= low and high <= each.end for each in self.plain):
                    raise ValueRefused(
                        f"each string of this text is hidden, and what comes in at {place(item.start)} would not be",
                        "nothing was written; change values that are there",
                    )
                changed.append(Replacement(low, high, item.data, (cause,)))
        for number, items in inside.items():
            changed += self._hidden_again(self.hidden[number], items, cause)
        return sorted(changed, key=lambda each: each.start)

    def agrees(self, inner: Patched, after: Strings) -> bool:
        """Whether the hidden strings of the text that was written say what those of `inner` do. What is not hidden may
        have changed in the text itself.
        """
        spans = ((inner.moved(each.start), inner.moved(each.end, behind=True)) for each in self.hidden)
        wanted = [bytes(inner.read(start, end)) for start, end in spans if start < end]
        return wanted == [after.data[each.start : each.end] for each in after.hidden]

    def _hidden_again(self, hidden: _Hidden, items: Sequence[Replacement], cause: Cause) -> list[Replacement]:
        raw = self.data[hidden.start : hidden.end]
        for item in sorted(items, key=lambda each: each.start, reverse=True):
            raw = raw[: item.start - hidden.start] + item.data + raw[item.end - hidden.start :]
        content = str(hidden.storage.decode(raw)).encode()
        before = hidden.steps[-1].data
        patched = Patched(MemorySource(before), [Replacement(0, len(before), content, (cause,))])
        return wrap_together([Inner(hidden.steps, patched, cause)], UNCOUNTED)

    def _string_with(self, item: Replacement) -> int | None:
        """The number of the hidden string that a replacement is within."""
        for number, each in enumerate(self.hidden):
            if each.start > item.end:
                return None
            if each.holds(item, self.data[each.start : each.start + 1] in QUOTES):
                return number
        return None

    def _outside(self, offset: int) -> int:
        """The offset in the text around of one between the hidden strings."""
        gained = 0
        for each in self.hidden:
            if each.start >= offset:
                break
            gained = each.outer_end - each.end
        return offset + gained


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


def _opened(
    document: Document, source: Source, span: Span, through: Callable[[bytes], list[Step]]
) -> tuple[Storage, list[Step], bytes] | None:
    """How a string is stored, the steps through it, and how what it holds would be written in its place."""
    try:
        storage = document.value_storage(span)
        string = NestedText(source, span, storage)
        steps: list[Step] = [string, *through(string.data)]
        content = steps[-1].data
        is_whole = not isinstance(steps[1], Streams) or [each.size for each in steps[1].streams] == [len(string.data)]
        if not is_whole or not content or not says_letters(content):
            return None
        return storage, steps, storage.encode(content.decode(), string.raw)
    except LedgerError:
        return None
