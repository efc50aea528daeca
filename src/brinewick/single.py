"""Editions that keep a company in one file."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from brinewick.company import Company, SaveRefused

__all__ = ["SingleFile"]


class SingleFile:
    """A file in the folder of saves, and how it is read."""

    def __init__(self, path: Path, parse: Callable[[bytes], Company]) -> None:
        self.path, self.parse = path, parse

    def load(self, slot: int = 1) -> Company:
        """Raises SaveRefused when the save is not as the game left it."""
        try:
            return self.parse(self.path.read_bytes())
        except OSError as error:
            raise SaveRefused("there is no save") from error

    def write(self, data: bytes) -> None:
        self.path.parent.mkdir(parents=True, exist_ok=True)
        self.path.write_bytes(data)
