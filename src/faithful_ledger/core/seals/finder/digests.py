"""Digests over many ranges of one content. Most of those end near its end, so that what is in front of that is taken
once for all that begin at the same place.
"""

from __future__ import annotations

from typing import Any, NamedTuple, TypeAlias

from faithful_ledger.core.seals.hashes import running_digest

__all__ = ["Digests"]

NEAR_END = 1 << 12  # bytes


class Span(NamedTuple):
    """Bytes of the content, from an offset to another one."""

    start: int
    end: int


Parts: TypeAlias = tuple[Span | bytes, ...]


class Digests:
    """Digests over ranges of a content, by their names in hashlib; with a key, the HMAC."""

    def __init__(self, content: bytes) -> None:
        self.content = memoryview(content)
        self.mark = max(len(content) - NEAR_END, 0)
        self._begun: dict[tuple[str, bytes, Parts], Any] = {}

    def over(self, name: str, key: bytes, start: int, end: int) -> bytes:
        """The digest over [start, end)."""
        return self._of(name, key, (Span(start, end),))

    def around(self, name: str, key: bytes, start: int, end: int, at: int, size: int, seen: bytes) -> bytes:
        """The same, in which so many bytes at an offset are seen as others."""
        return self._of(name, key, (Span(start, at), seen, Span(at + size, end)))

    def _of(self, name: str, key: bytes, parts: Parts) -> bytes:
        number = next((n for n, part in enumerate(parts) if isinstance(part, Span) and self._reaches(part)), None)
        if number is None:
            running = self._fed(running_digest(name, key), parts)
        else:
            reaching = parts[number]
            assert isinstance(reaching, Span)
            begun = name, key, (*parts[:number], reaching._replace(end=self.mark))
            if begun not in self._begun:
                self._begun[begun] = self._fed(running_digest(name, key), begun[2])
            left = (reaching._replace(start=self.mark), *parts[number + 1 :])
            running = self._fed(self._begun[begun].copy(), left)
        found: bytes = running.digest()
        return found

    def _reaches(self, span: Span) -> bool:
        return span.start < self.mark <= span.end

    def _fed(self, running: Any, parts: Parts) -> Any:
        for part in parts:
            running.update(self.content[part.start : part.end] if isinstance(part, Span) else part)
        return running
