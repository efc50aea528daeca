"""A binary payload: addresses are offsets, from the start, the end, a run of bytes or a table of offsets."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice

from faithful_ledger.core.address import Address, Step
from faithful_ledger.core.edits import Replacement
from faithful_ledger.core.errors import AddressError, ValueRefused
from faithful_ledger.core.formats.document import Items, Place, Span, TextLeaf
from faithful_ledger.core.source import Source, offsets_of
from faithful_ledger.core.storage import Storage

__all__ = ["BinaryDocument"]


class BinaryDocument:
    name = "binary"
    knows_ends = False
    row_kinds: tuple[str, ...] = ("array",)

    def __init__(self, source: Source) -> None:
        self.source = source
        self._runs: dict[bytes, list[int]] = {}

    @property
    def whole(self) -> Span:
        return Span(0, self.source.size)

    def span(self, start: int, end: int) -> Span:
        return Span(start, end)

    def check(self) -> None:
        return  # any bytes are a binary payload

    def has_values(self) -> bool:
        return False

    def find(self, address: Address, place: Place) -> Span:
        if address.base == "next":
            return Span(_aligned(place.here, address.align), place.within.end)
        start = place.evaluate(address.offset)
        if address.base == "end" or (address.base == "start" and start < 0 and address.offset is not None):
            start += self.source.size if address.base == "end" else 0
        elif address.run:
            start += self._only(address)
        elif address.table:
            start += place.number(f"{address.table}[{place.evaluate(address.entry)}]")
        start = _aligned(start, address.align)
        if not 0 <= start <= self.source.size:
            raise AddressError(f"it points to {start}, outside the {self.source.size} bytes")
        return Span(start, self.source.size)

    def _only(self, address: Address) -> int:
        """Where the run of an address begins, which must occur once."""
        run = address.run
        found = self._runs.get(run)
        if found is None:
            found = self._runs[run] = list(islice(offsets_of(self.source, run), 2))
        if len(found) != 1:
            times = "nowhere" if not found else "more than once"
            raise AddressError(f"the bytes {run.hex(' ').upper()} it is {address.base} are in the file {times}")
        return found[0]

    def items(self, span: Span) -> Items | None:
        return None

    def spell(self, value: object, like: bytes) -> bytes:
        raise ValueRefused("a binary payload has no spelling of its own", "describe the value in the template")

    def at(self, within: Span, steps: tuple[Step, ...]) -> Span:
        raise AddressError("a binary payload has no paths", "describe the value in the template")

    def leaves_at(self, offsets: Sequence[int]) -> Iterator[TextLeaf]:
        return iter(())

    def leaves(self) -> Iterator[TextLeaf]:
        return iter(())

    def value_storage(self, span: Span) -> Storage:
        raise AddressError("a binary payload has no paths", "describe the value in the template")

    @classmethod
    def storage(cls, name: str, path: str, encoding: str) -> Storage | None:
        return None

    def add(self, holder: Span, position: int, items: Sequence[bytes]) -> Replacement:
        raise ValueRefused("only the layout knows the items of a binary payload", "give the records anew")

    def remove(self, holder: Span, first: int, stop: int) -> Replacement:
        raise ValueRefused("only the layout knows the items of a binary payload", "give the records anew")


def _aligned(at: int, step: int) -> int:
    return at if step == 1 else -(-at // step) * step
