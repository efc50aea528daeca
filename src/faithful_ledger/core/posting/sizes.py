"""What says to how many bytes a stream unpacks has to be described before that changes: a game would trust it."""

from __future__ import annotations

from faithful_ledger.core.binding.held import Held
from faithful_ledger.core.binding.spans import field_at
from faithful_ledger.core.errors import StreamGrows, place
from faithful_ledger.core.profile.lengths import unpacked_sizes
from faithful_ledger.core.save import SaveFile
from faithful_ledger.core.wrapping import Streams

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
    streams = [step for step in unwrapped.steps if isinstance(step, Streams)]
    if not streams or len(held) + len(streams) < len(unwrapped.steps) or any(len(each.streams) > 1 for each in streams):
        return
    start = streams[0].streams[0].offset + sum(held)
    for at, name in unpacked_sizes(around.source, start, inside.source.size):
        node = field_at(around.bound.root, at)
        if node is None or (node.spec.derived is None and node.spec.seal is None):
            raise StreamGrows(
                f"{inside.name} would unpack to {size} bytes in place of {inside.source.size}, and the {name} at "
                f"{place(at)} says the old number",
                "nothing was written; find the seals, or describe it in the template (length_of: file, of_file: "
                f"{bound.spec.name})",
            )
