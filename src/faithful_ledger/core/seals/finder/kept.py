"""What is worked out once and asked for again, within bounds: of large saves all of it would not fit into memory."""

from __future__ import annotations

from collections.abc import Callable
from typing import Generic, TypeVar

__all__ = ["NUMBER", "Kept"]

NUMBER = 8  # bytes of one in an array, at most

K = TypeVar("K")
V = TypeVar("V")


class Kept(Generic[K, V]):
    """Values by their keys, those that were asked for last: together `most` bytes, or a single larger one."""

    def __init__(self, most: int) -> None:
        self.most = most
        self._size = 0
        self._known: dict[K, tuple[V, int]] = {}  # in the order in which they were asked for

    def get(self, key: K, size: int, make: Callable[[], V]) -> V:
        """The value of a key, which is made with so many bytes where it is not known any more."""
        known = self.known(key)
        return known if known is not None else self.put(key, make(), size)

    def put(self, key: K, value: V, size: int) -> V:
        """The value of a key from now on."""
        if (known := self._known.pop(key, None)) is not None:
            self._size -= known[1]
        self._known[key] = value, size
        self._size += size
        while self._size > self.most and len(self._known) > 1:
            _, gone = self._known.pop(next(iter(self._known)))
            self._size -= gone
        return value

    def known(self, key: K) -> V | None:
        """The value of a key if it is still known."""
        found = self._known.get(key)
        return self.put(key, *found) if found is not None else None

    def clear(self) -> None:
        self._known.clear()
        self._size = 0
