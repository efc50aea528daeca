"""Editions that keep each company in one file."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from brinewick.company import Company, SaveRefused

__all__ = ["SingleFile"]


class SingleFile:
    """A file for each slot in the folder of saves, and how it is read; slot 1 has the name alone."""

    def __init__(self, path: Path, parse: Callable[[bytes], Company]) -> None:
        self.path, self.parse = path, parse

    def slot_path(self, slot: int) -> Path:
        return self.path if slot == 1 else self.path.with_stem(f"{self.path.stem}-{slot}")

    def load(self, slot: int = 1) -> Company:
        """Raises SaveRefused when the save is not as the game left it."""
        try:
            data = self.slot_path(slot).read_bytes()
        except OSError as error:
            raise SaveRefused(f"there is no save in slot {slot}") from error
        company = self.parse(data)
        if company.slot not in (0, slot):  # 0: its edition does not write the slot down
            raise SaveRefused(f"{self.slot_path(slot).name} says it belongs in slot {company.slot}")
        return replace(company, slot=slot)

    def write(self, slot: int, data: bytes) -> None:
        self.path.parent.mkdir(parents=True, exist_ok=True)
        self.slot_path(slot).write_bytes(data)
