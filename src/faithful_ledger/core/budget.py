"""How much work and memory a file is worth. One budget at every door through which a stranger's bytes come in.

A small file that asks for hours or gigabytes is damaged or hostile. What may be unpacked is a fixed amount for files of
3 KiB to 1 MiB, less for smaller ones, and as much more as larger ones are larger. Work is a second's, and more for each
byte, so that a tree of tags, a few bytes each, is read: what is honest does not meet a limit, and what is not stops
soon.
"""

from __future__ import annotations

import math

from faithful_ledger.core.errors import TooMuch

__all__ = ["Budget", "unpacked_allowance"]

SMALL = 1 << 20
STEPS = 700_000  # about a second of binding
STEPS_A_BYTE = 4
UNPACKED = 64 << 20
LEAST_UNPACKED = 16 << 20
UNPACKED_A_BYTE, SMALLEST_A_BYTE = 3, 1 << 14


def unpacked_allowance(size: int) -> int:
    """How many bytes everything packed in a file of this size may unpack to, together."""
    return min(LEAST_UNPACKED + SMALLEST_A_BYTE * size, UNPACKED) + UNPACKED_A_BYTE * max(size - SMALL, 0)


class Budget:
    """Steps of work; one takes about a microsecond."""

    def __init__(self, size: int) -> None:
        self.size = size
        self.left: float = STEPS + STEPS_A_BYTE * size

    @property
    def spent(self) -> int:
        """As long as there is a limit."""
        return int(STEPS + STEPS_A_BYTE * self.size - self.left)

    def lift(self) -> None:
        """No limit from now on: the file was found worth its work, and what follows is asked for by the user."""
        self.left = math.inf

    def spend(self, steps: int) -> None:
        """Raises TooMuch when the work is more than a file of this size is worth."""
        self.left -= steps
        if self.left < 0:
            raise TooMuch(
                f"its elements are more work than {self.size} bytes are worth",
                "nothing was changed; a count in the save or in the template is wrong",
            )
