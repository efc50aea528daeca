"""Reaching a payload through named layers, and putting a changed one back through them.

A layer is all packed streams of one kind that a payload holds, joined in their order, or the scrambling over the whole
of it. A stream is found where it is in this save, a key is the one that the template gives or names. On the way back
only streams whose content changed are packed again; every other byte of the outer payload stays.

A stream within a larger payload is packed into the bytes it had, so that nothing around it moves. Where that cannot be
done it may take another size only if what counts it is known: a length that the template describes, or, at
the end of the payload, no number that looks like one. Else the posting is refused.
"""

from faithful_ledger.core.wrapping.growing import COUNTED, UNCOUNTED, Counted
from faithful_ledger.core.wrapping.route import unwrap
from faithful_ledger.core.wrapping.steps import Hidden, Step, Streams, changed_parts
from faithful_ledger.core.wrapping.together import Inner, Unwrapped, wrap_together

__all__ = [
    "COUNTED",
    "UNCOUNTED",
    "Counted",
    "Hidden",
    "Inner",
    "Step",
    "Streams",
    "Unwrapped",
    "changed_parts",
    "unwrap",
    "wrap_together",
]
