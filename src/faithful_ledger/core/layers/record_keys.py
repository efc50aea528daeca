"""Records of which a part is hidden under a key of their own: a number of the record, two of its numbers XORed, or
what a generator gives that is seeded from one of its numbers.
"""

from __future__ import annotations

import struct
from typing import TYPE_CHECKING, Any, NamedTuple, TypeAlias

from faithful_ledger.core.layers.generators import KEY_SIZES, Generator

if TYPE_CHECKING:
    import numpy as np

    Array: TypeAlias = np.ndarray[Any, Any]

__all__ = ["RecordKeys", "under_record_keys"]

_HEAD = struct.Struct(">7IB")
WIDEST = 16


class RecordKeys(NamedTuple):
    """The first of `records` of `size` bytes is at `start`. In each of them the bytes [first, end) are hidden
    under the `key_size` bytes at `key_at`, XORed with those at `other_at` unless that is the same offset. With a
    `generator` its numbers are used instead; its seed is in the record as well, and where that is 0, as in an empty
    place, nothing is hidden.
    """

    start: int
    size: int
    records: int
    first: int
    end: int
    key_at: int
    other_at: int
    key_size: int
    generator: Generator | None = None

    @property
    def key(self) -> bytes:
        """As templates write it: each number in four bytes, the last in one, the highest byte first; then the key of
        the generator, if there is one.
        """
        return _HEAD.pack(*self[:8]) + (self.generator.key if self.generator is not None else b"")

    @classmethod
    def of(cls, key: bytes) -> RecordKeys:
        """Raises ValueError where a key has another size, or says what cannot be."""
        if len(key) - _HEAD.size not in (0, *KEY_SIZES):
            sizes = ", ".join(str(_HEAD.size + more) for more in (0, *KEY_SIZES))
            raise ValueError(f"the key of records under keys has {sizes} bytes, not {len(key)}")
        numbers, behind = _HEAD.unpack_from(key), key[_HEAD.size :]
        found = cls._make((*numbers, Generator.of(behind) if behind else None))
        if not found.first < found.end <= found.size or not found.records:
            raise ValueError("the hidden bytes are within a record, and there is at least one of them")
        spans = [(at, at + found.key_size) for at in (found.key_at, found.other_at)]
        if not 1 <= found.key_size <= WIDEST or any(end > found.size for _, end in spans):
            raise ValueError(f"the key has 1 to {WIDEST} bytes of the record")
        if found.generator is not None and found.generator.first != found.first:
            raise ValueError("the generator hides the bytes from the first hidden one on")
        if found.generator is None and any(at < found.end and found.first < end for at, end in spans):
            raise ValueError("the key is not within what it hides")
        return found

    @property
    def words(self) -> str:
        if self.generator is not None:
            seed = self.generator.seed_at, self.generator.seed_at + self.generator.seed_size
            by = f"the generator × {self.generator.multiplier} + {self.generator.increment}"
            by += f", seeded from its bytes {seed[0]} to {seed[1]}"
        elif self.other_at == self.key_at:
            by = f"its {self.key_size} bytes at {self.key_at}"
        else:
            by = f"its {self.key_size} bytes at {self.key_at} and those at {self.other_at}"
        several = self.records > 1
        records = f"{self.records} records of {self.size} bytes" if several else f"a record of {self.size} bytes"
        return f"{records} from offset {self.start} on, bytes {self.first} to {self.end} of each XORed with {by}"

    @property
    def reach(self) -> int:
        """How many bytes of a record matter."""
        return max(self.end, max(self.key_at, self.other_at) + self.key_size)

    def rows(self, data: Array) -> Array:
        """The bytes that matter of each record that is there, as rows of a view."""
        import numpy as np

        there = max(data.size - self.start - self.reach + self.size, 0) // self.size
        shape = min(there, self.records), self.reach
        return np.lib.stride_tricks.as_strided(data[self.start :], shape, (self.size, 1))

    def masks(self, records: Array) -> Array:
        """What hides each of some records."""
        import numpy as np

        width = self.end - self.first
        if self.generator is not None:
            masks = np.zeros((len(records), width), np.uint8)
            for record, mask in zip(records, masks, strict=True):
                head = record[: self.first].tobytes()
                if self.generator.seed(head):
                    mask[:] = self.generator.stream(head, width)
            return masks
        keys = records[:, self.key_at : self.key_at + self.key_size]
        if self.other_at != self.key_at:
            keys = keys ^ records[:, self.other_at : self.other_at + self.key_size]
        repeated: Array = np.tile(keys, (1, -(-width // self.key_size)))[:, :width]
        return repeated


def under_record_keys(data: Array, key: bytes) -> Array:
    """The same there and back."""
    known, changed = RecordKeys.of(key), data.copy()
    rows = known.rows(changed)  # a view, through which the copy changes
    rows[:, known.first : known.end] ^= known.masks(rows)
    return changed
