"""How long a search may take. It is asked between steps, and what was found until then is kept."""

from __future__ import annotations

import time

__all__ = ["NEVER", "Deadline"]


class Deadline:
    """Over once so many seconds have passed since it was made; None never is."""

    def __init__(self, seconds: float | None) -> None:
        self.seconds = seconds
        self._end = time.monotonic() + seconds if seconds is not None else None

    @property
    def over(self) -> bool:
        return self._end is not None and time.monotonic() >= self._end


NEVER = Deadline(None)
