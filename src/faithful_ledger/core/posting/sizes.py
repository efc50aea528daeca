"""What says to how many bytes a stream unpacks has to be described before that changes: a game would trust it."""

from __future__ import annotations

from faithful_ledger.core.binding.held import Held
from faithful_ledger.core.binding.spans import field_at
from faithful_ledger.core.errors import StreamGrows, place
from faithful_ledger.core.profile.lengths import unpacked_sizes
from faithful_ledger.core.save import SaveFile
from faithful_ledger.core.wrapping import Step, Streams
from faithful_ledger.core.wrapping.steps import Enciphered

__all__ = ["refuse_stale_size"]


def refuse_stale_size(around: SaveFile, inside: SaveFile, size: int) -> None:
    """Raises StreamGrows where a payload takes another size, and a number in front of its stream that says the old one
    would not follow.
    """
    bound = inside.bound
    unwrapped = bound.unwrapped if bound is not None else None
    if bound is None or unwrapped is None or around.bound is None:
        return
    held = [step.node.start for step in unwrapped.steps if isinstance(step, Held)]
    for number, step in enumerate(unwrapped.steps[len(held) :]):
        start = _begin(step)
        outer = around.source if not number else step.outer
        start = start + sum(held) if start is not None and not number else start
        for at, name in unpacked_sizes(outer, start, inside.source.size) if start is not None else ():
            node = field_at(around.bound.root, at) if not number else None  # nothing further inside has a name
            if node is None or (node.spec.derived is None and node.spec.seal is None):
                within = f" within {around.name}" if number else ""
                raise StreamGrows(
                    f"{inside.name} would unpack to {size} bytes in place of {inside.source.size}, and the {name} at "
                    f"{place(at)}{within} says the old number",
                    "nothing was written; find the seals, or describe it in the template (length_of: file, of_file: "
                    f"{bound.spec.name})",
                )


def _begin(step: Step) -> int | None:
    """Where a layer begins in what is around it; None where that is not one place in bytes."""
    if isinstance(step, Enciphered):
        return step.span[0]
    if isinstance(step, Streams) and len(step.streams) == 1:
        return step.streams[0].offset
    return None
