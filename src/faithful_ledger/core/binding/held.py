"""What fields hold of a payload inside of them: the first step into it, and the way back."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from faithful_ledger.core.binding.nodes import FieldNode
from faithful_ledger.core.budget import unpacked_allowance
from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.errors import TooMuch, ValueRefused
from faithful_ledger.core.formats import Span
from faithful_ledger.core.formats.nested import NestedText
from faithful_ledger.core.source import MemorySource, Source
from faithful_ledger.core.storage import JsonText, SpelledText
from faithful_ledger.core.wrapping import UNCOUNTED, Counted, Inner, Step, changed_parts, wrap_together

__all__ = ["Held", "HeldInRows"]


@dataclass(slots=True)
class Held:
    """What one field holds."""

    node: FieldNode
    outer: Source
    data: bytes

    @classmethod
    def of(cls, node: FieldNode, outer: Source) -> Held:
        value = None if node.spec.unknown else node.value
        return cls(node, outer, value.encode("utf-8") if isinstance(value, str) else node.raw)

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        """Raises ValueRefused when it does not fit into the field."""
        storage = self.node.spec.storage
        if isinstance(storage, JsonText | SpelledText):  # only the letters that changed, the others keep their escapes
            span = Span(self.node.start, self.node.end, "string")
            return NestedText(self.outer, span, storage).wrap(inner, cause)
        data = bytes(inner.read(0, inner.size))
        if not self.node.spec.unknown:
            try:
                data = self.node.spec.storage.encode(data.decode("utf-8"), self.node.raw)
            except UnicodeDecodeError as error:
                raise ValueRefused(f"{self.node.path} holds text, and these bytes are not text ({error})") from error
        return [Replacement(self.node.start, self.node.end, data, (cause,))]


@dataclass(slots=True)
class HeldInRows:
    """What the same field of every record holds, each behind layers of its own, joined; `starts` are where each begins
    in `data`. Each has `part_size` bytes, but for the last; 0 where that is not known.
    """

    outer: Source
    routes: list[list[Step]]
    data: bytes
    starts: list[int]
    part_size: int = 0

    @classmethod
    def of(
        cls, nodes: Sequence[FieldNode], outer: Source, through: Callable[[bytes], list[Step]], part_size: int = 0
    ) -> HeldInRows:
        """`through` undoes the layers of one.

        Raises:
            LedgerError: one of them cannot be undone, or all unpack to more than a payload of this size is worth.
        """
        left = unpacked_allowance(outer.size)
        routes: list[list[Step]] = []
        data, starts = bytearray(), []
        for node in nodes:
            held = Held.of(node, outer)
            route: list[Step] = [held, *through(held.data)]
            starts.append(len(data))
            data += route[-1].data
            if len(data) > left:
                raise TooMuch(
                    f"{node.path} and those before it unpack to more than {left} bytes", "nothing was changed"
                )
            routes.append(route)
        return cls(outer, routes, bytes(data), starts, part_size)

    def wrap(self, inner: Patched, cause: Cause, counted: Counted) -> list[Replacement]:
        """Raises LedgerError when one of the parts cannot be wrapped, or they would be more or fewer."""
        changed: list[Replacement] = []
        for number, before, content in changed_parts(self.starts, inner, self.part_size):
            part = Patched(MemorySource(before), [Replacement(0, len(before), content, (cause,))])
            changed += wrap_together([Inner(self.routes[number], part, cause)], UNCOUNTED)
        return changed
