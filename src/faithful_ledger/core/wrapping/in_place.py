"""Texts in which some values are hidden where they are: the same text, in which they say what they mean."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.errors import AddressError, ValueRefused, place
from faithful_ledger.core.formats.document import Span
from faithful_ledger.core.source import MemorySource, Source
from faithful_ledger.core.storage import Storage, Value
from faithful_ledger.core.wrapping.growing import Counted

__all__ = ["InPlace", "Meant"]

QUOTES = (b'"', b"'")


class Meant(NamedTuple):
    """How what a value means is written in its place, as `raw` bytes of a `storage`; and how it is hidden again."""

    raw: bytes
    storage: Storage
    hide: Callable[[Value, Cause], Sequence[Replacement]]


class _Hidden(NamedTuple):
    """A value at [outer, outer_end), and what it means at [start, end) of the text inside."""

    outer: int
    outer_end: int
    start: int
    end: int
    meant: Meant

    def holds(self, item: Replacement, quoted: bool) -> bool:
        """Whether a replacement is within the value; what comes in at an end of a quoted one is not."""
        touches = item.start == item.end and item.start in (self.start, self.end)
        return self.start <= item.start and item.end <= self.end and not (touches and quoted)


@dataclass(slots=True)
class InPlace:
    """A text with what its hidden values mean in their place; `plain` are the others."""

    outer: Source
    data: bytes
    hidden: list[_Hidden]
    plain: list[Span]

    @classmethod
    def of(cls, outer: bytes, values: Iterable[tuple[Span, Meant | None]]) -> InPlace:
        """`values` are those of the text in their order, each with what it means where it is hidden.

        Raises:
            AddressError: none is.
        """
        hidden: list[_Hidden] = []
        plain: list[Span] = []
        parts: list[bytes] = []
        done = size = 0
        for span, meant in values:
            if meant is None:
                plain.append(span)
                continue
            parts += [outer[done : span.start], meant.raw]
            size += span.start - done
            hidden.append(_Hidden(span.start, span.end, size, size + len(meant.raw), meant))
            done, size = span.end, size + len(meant.raw)
        if not hidden:
            raise AddressError("no value of this text is hidden so", "see Profile for what the file holds")
        return cls(MemorySource(outer), b"".join([*parts, outer[done:]]), hidden, plain)

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        """Raises ValueRefused where a value would come in that is not hidden."""
        changed: list[Replacement] = []
        inside: dict[int, list[Replacement]] = {}
        for item in inner.replacements:
            number = self._value_with(item)
            if number is not None:
                inside.setdefault(number, []).append(item)
                continue
            low, high = self._outside(item.start), self._outside(item.end)
            if item.data and not any(each.start <= low and high <= each.end for each in self.plain):
                raise ValueRefused(
                    f"values of this text are hidden, and what comes in at {place(item.start)} would not be",
                    "nothing was written; change values that are there",
                )
            changed.append(Replacement(low, high, item.data, (cause,)))
        for number, items in inside.items():
            hidden = self.hidden[number]
            raw = hidden.meant.raw
            for item in sorted(items, key=lambda each: each.start, reverse=True):
                raw = raw[: item.start - hidden.start] + item.data + raw[item.end - hidden.start :]
            changed += hidden.meant.hide(hidden.meant.storage.decode(raw), cause)
        return sorted(changed, key=lambda each: each.start)

    def agrees(self, inner: Patched, after: InPlace) -> bool:
        """Whether the hidden values of the text that was written mean what those of `inner` do. What is not hidden may
        have changed in the text itself.
        """
        spans = ((inner.moved(each.start), inner.moved(each.end, behind=True)) for each in self.hidden)
        wanted = [bytes(inner.read(start, end)) for start, end in spans if start < end]
        return wanted == [each.meant.raw for each in after.hidden]

    def _value_with(self, item: Replacement) -> int | None:
        """The number of the hidden value that a replacement is within."""
        for number, each in enumerate(self.hidden):
            if each.start > item.end:
                return None
            if each.holds(item, each.meant.raw[:1] in QUOTES):
                return number
        return None

    def _outside(self, offset: int) -> int:
        """The offset in the text around of one between the hidden values."""
        gained = 0
        for each in self.hidden:
            if each.start >= offset:
                break
            gained = each.outer_end - each.end
        return offset + gained
