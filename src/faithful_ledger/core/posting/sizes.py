"""What says to how many bytes a stream unpacks has to be described before that changes: a game would trust it."""

from __future__ import annotations

from collections.abc import Iterator

from faithful_ledger.core.binding.held import Held, HeldInRows
from faithful_ledger.core.binding.spans import field_at
from faithful_ledger.core.edits import Patched
from faithful_ledger.core.errors import StreamGrows, place
from faithful_ledger.core.profile.lengths import unpacked_sizes
from faithful_ledger.core.save import SaveFile
from faithful_ledger.core.wrapping import Step, Streams
from faithful_ledger.core.wrapping.steps import Enciphered, changed_parts

__all__ = ["refuse_stale_size"]


def refuse_stale_size(around: SaveFile, inside: SaveFile, patched: Patched) -> None:
    """Raises StreamGrows where a payload takes another size, and a number in front of its stream that says the old one
    would not follow.
    """
    bound = inside.bound
    unwrapped = bound.unwrapped if bound is not None else None
    if bound is None or unwrapped is None or around.bound is None:
        return
    held = [step.node.start for step in unwrapped.steps if isinstance(step, Held)]
    steps = unwrapped.steps[len(held) :]
    for number, step in enumerate(steps):
        before = sum(held) if not number else 0
        outer = around.source if not number else step.outer
        for start, end, old, new in _sizes(step, patched, last=step is steps[-1]):
            for at, name in unpacked_sizes(outer, end + before, old, start + before if start else 0):
                node = field_at(around.bound.root, at) if not number else None  # nothing further inside has a name
                if node is None or (node.spec.derived is None and node.spec.seal is None):
                    within = f" within {around.name}" if number else ""
                    raise StreamGrows(
                        f"{inside.name} would unpack to {new} bytes in place of {old}, and the {name} at "
                        f"{place(at)}{within} says the old number",
                        "nothing was written; find the seals, or describe it in the template (length_of: file, "
                        f"of_file: {bound.spec.name})",
                    )


def _sizes(step: Step, patched: Patched, *, last: bool) -> Iterator[tuple[int, int, int, int]]:
    """For each part of a layer that takes another size: where what is in front of it begins and ends, and the old and
    the new number of bytes it unpacks to. The parts of a layer that others are in are not looked at one by one.
    """
    if isinstance(step, Enciphered):
        yield 0, step.span[0], patched.old.size, patched.size
    elif isinstance(step, Streams) and len(step.streams) == 1:
        yield 0, step.streams[0].offset, patched.old.size, patched.size
    elif isinstance(step, Streams) and last:
        for number, was, now in changed_parts(step.starts, patched):
            if len(was) != len(now):
                behind = step.streams[number - 1].offset + step.streams[number - 1].size if number else 0
                yield behind, step.streams[number].offset, len(was), len(now)
    elif isinstance(step, HeldInRows) and last:
        spans = [(held.node.start, held.node.end) for held, *_ in step.routes if isinstance(held, Held)]
        for number, was, now in changed_parts(step.starts, patched, step.part_size):
            if len(was) != len(now):
                yield spans[number - 1][1] if number else 0, spans[number][0], len(was), len(now)
