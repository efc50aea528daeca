"""Records of varying size after a change: what stayed is not measured again.

Up to the record in which bytes were replaced every record is where it was. From there on they are measured until one
begins where an old one does, moved by as much as came in; from then on the old offsets are right again, moved.
"""

from __future__ import annotations

from array import array
from bisect import bisect_left
from typing import TYPE_CHECKING, Any, TypeAlias

from faithful_ledger.core.binding.nodes import RowsNode
from faithful_ledger.core.edits import Patched
from faithful_ledger.core.storage import Sizer

if TYPE_CHECKING:
    import numpy as np

    Array: TypeAlias = np.ndarray[Any, Any]

__all__ = ["moved_offsets"]

WINDOW = 1 << 16


def moved_offsets(
    old: RowsNode, start: int, patched: Patched, measure: Sizer, limit: int
) -> tuple[array[int], int] | None:
    """Where the records of `old` begin in its payload `patched`, and where the last of them ends; None where they have
    to be measured from the beginning. `start` is where the rows begin now.
    """
    import numpy as np

    if old.offsets is None or not old.count:
        return None
    last_end = old.end - len(old.spec.ended_by or b"")
    walk = _Walk(np.asarray(old.offsets, np.int64), last_end, patched, measure, limit)
    for number, item in enumerate(patched.replacements):
        inside = item.start >= old.start or item.end > old.start
        if inside and item.start <= last_end and not walk.pass_change(number):
            return None
    offsets, end = walk.rest()
    return (offsets, end) if end <= limit and (not offsets or offsets[0] == start) else None


class _Walk:
    def __init__(self, offsets: Array, last_end: int, patched: Patched, measure: Sizer, limit: int) -> None:
        self.offsets, self.last_end, self.patched = offsets, last_end, patched
        self.measure, self.limit = measure, limit
        self.parts: list[Any] = []
        self.next = 0  # the first old record that is not placed yet; as many as there are: the end of the last one
        self.at = -1  # where the walk is in the new payload, once it has begun
        self.base, self.data = 0, b""

    def _old_start(self, number: int) -> int:
        return int(self.offsets[number]) if number < self.offsets.size else self.last_end

    def pass_change(self, change: int) -> bool:
        """Place the records up to where old and new meet again behind a replaced span; False where they never do."""
        import numpy as np

        item = self.patched.replacements[change]
        record = max(int(np.searchsorted(self.offsets, item.start, "right")) - 1, 0)
        if item.start == self.last_end:
            record = self.offsets.size
        if record < self.next or (record == self.next and self.at > self.patched.starts[change] + len(item.data)):
            return item.end <= self._old_start(self.next)  # within what was measured already
        if record > self.next or self.at < 0:
            self._take(record)
            self.at = self._old_start(record) + self.patched.shifts[change]
        found: list[int] = []
        while (number := self._meets(change)) is None:
            behind = self._end_of(self.at)
            if behind <= self.at:
                return False
            found.append(self.at)
            self.at = behind
        self.parts.append(np.array(found, np.int64))
        self.next = number
        return True

    def _take(self, record: int) -> None:
        """The old records up to this one, which all moved by the same."""
        if record > self.next:
            first = int(self.offsets[self.next])
            shift = (self.at if self.at >= 0 else self.patched.moved(first, behind=True)) - first
            self.parts.append(self.offsets[self.next : record] + shift)
            self.next = record

    def _meets(self, change: int) -> int | None:
        """The number of the old record that begins where the walk is, behind a change and all that were passed."""
        import numpy as np

        starts, replacements = self.patched.starts, self.patched.replacements
        passed = max(change + 1, bisect_left(starts, self.at))
        if self.at < starts[passed - 1] + len(replacements[passed - 1].data):
            return None
        old = self.at - self.patched.shifts[passed]
        number = int(np.searchsorted(self.offsets, old))
        return number if self._old_start(number) == old and number <= self.offsets.size else None

    def _end_of(self, at: int) -> int:
        size = WINDOW
        while True:
            if not self.base <= at < self.base + len(self.data) or size > WINDOW:
                self.base = at
                self.data = bytes(self.patched.read(at, min(at + size, self.limit)))
            end = self.measure(self.data, at - self.base, min(self.limit - self.base, len(self.data)))
            if end >= 0:
                return self.base + end
            if self.base == at and at + len(self.data) >= self.limit:
                return -1
            size, self.data = size * 8, b""

    def rest(self) -> tuple[array[int], int]:
        """Where all records begin, and where the last of them ends."""
        begun = self.at if self.at >= 0 else None
        shift = begun - self._old_start(self.next) if begun is not None else None
        self._take(self.offsets.size)
        found = array("Q")
        for part in self.parts:
            found.frombytes(part.tobytes())
        return found, self.last_end + shift if shift is not None else self.patched.moved(self.last_end, behind=True)
